#include "core/report/codebook.h"

#include "core/base/format.h"
#include "core/describe/summary.h"
#include "core/report/report.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr double kWidth = 132.0;
constexpr double kHeight = 44.0;

std::string bars(const std::vector<double>& heights, const std::string& what) {
    if (heights.empty()) {
        return {};
    }
    const double most = *std::max_element(heights.begin(), heights.end());
    if (!(most > 0.0)) {
        return {};
    }
    const double step = kWidth / static_cast<double>(heights.size());
    std::string out = fmt::format(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}\" height=\"{1}\" viewBox=\"0 0 {0} "
        "{1}\" role=\"img\" aria-label=\"{2}\">",
        kWidth, kHeight, htmlText(what));
    for (std::size_t k = 0; k < heights.size(); ++k) {
        const double height = (kHeight - 2.0) * heights[k] / most;
        out += fmt::format(
            "<rect x=\"{:.2f}\" y=\"{:.2f}\" width=\"{:.2f}\" height=\"{:.2f}\" fill=\"#9FABBF\"/>",
            step * static_cast<double>(k) + 0.5, kHeight - 1.0 - height, std::max(step - 1.0, 0.5),
            height);
    }
    return out + fmt::format(
                     "<line x1=\"0\" y1=\"{0}\" x2=\"{1}\" y2=\"{0}\" stroke=\"#6B6F7B\"/>"
                     "</svg>",
                     kHeight - 0.5, kWidth);
}

std::string missingWords(const Variable& v, std::size_t missing) {
    std::vector<std::string> codes;
    for (const Key& key : v.missing) {
        codes.push_back(keyText(key));
    }
    for (const KeyRange& range : v.missingRanges) {
        codes.push_back(exactNumber(range.low) + " to " + exactNumber(range.high));
    }
    std::string out = missing > 0 ? countText(missing) + " missing" : "";
    if (!codes.empty()) {
        out += (out.empty() ? "none missing; codes " : "; codes ") + joinedNames(codes);
    }
    return out;
}

void describeLevels(const Column& column, const Variable& v, CodebookEntry& entry) {
    constexpr std::size_t kMost = 20;
    const auto levels = levelsOf(column, v);
    std::size_t present = 0;
    for (const FoundLevel& level : levels) {
        present += level.count;
    }
    std::vector<double> heights;
    for (std::size_t k = 0; k < levels.size(); ++k) {
        const FoundLevel& level = levels[k];
        if (k >= kMost) {
            ++entry.moreLevels;
            continue;
        }
        heights.push_back(static_cast<double>(level.count));
        const bool base = v.base.empty() ? k == 0 : keyText(v.base.front()) == level.value;
        entry.levels.push_back({level.value, level.label == level.value ? "" : level.label,
                                level.count,
                                static_cast<double>(level.count) /
                                    static_cast<double>(std::max<std::size_t>(present, 1)),
                                base});
    }
    entry.values =
        plural(levels.size(), "level", "levels") + " in " + plural(present, "row", "rows");
    entry.svg = bars(heights, "bars of the levels of " + v.name);
}

void describeNumbers(const Column& column, const Variable& v, CodebookEntry& entry) {
    const Summary s = summarise(column.numbers());
    if (s.n == 0) {
        entry.values = "no values";
        return;
    }
    if (v.measure == Measure::Date) {
        entry.values = fmt::format("{} from {} to {}", plural(s.n, "date", "dates"),
                                   dateText(s.low), dateText(s.high));
    } else if (v.measure == Measure::YesNo) {
        entry.values = fmt::format("{}, {} % of them 1", plural(s.n, "value", "values"),
                                   fixedNumber(100.0 * s.mean, 1));
    } else {
        entry.values = fmt::format("{} from {} to {}; median {}, mean {}, standard deviation {}",
                                   plural(s.n, "value", "values"), shortNumber(s.low, 5),
                                   shortNumber(s.high, 5), shortNumber(s.median, 5),
                                   shortNumber(s.mean, 5), shortNumber(s.sd, 4));
    }
    std::vector<double> heights;
    for (const std::size_t count :
         histogram(column.numbers(), v.measure == Measure::YesNo ? 2 : 0).counts) {
        heights.push_back(static_cast<double>(count));
    }
    entry.svg = bars(heights, "histogram of " + v.name);
}

std::string levelTable(const CodebookEntry& entry) {
    std::string out = "<table class=\"levels\" cellpadding=\"2\" cellspacing=\"4\">";
    for (const auto& level : entry.levels) {
        out += fmt::format(
            "<tr><td>{}</td><td>{}{}</td><td align=\"right\">{}</td><td "
            "align=\"right\">{} %</td></tr>",
            htmlText(level.value), htmlText(level.label), level.base ? " <i>(base)</i>" : "",
            countText(level.count), fixedNumber(100.0 * level.share, 1));
    }
    if (entry.moreLevels > 0) {
        out += fmt::format("<tr><td colspan=\"4\">… and {} more</td></tr>",
                           countText(entry.moreLevels));
    }
    return out + "</table>";
}

constexpr const char* kStyle =
    "body{background:#fff;color:#232733;font:14px/1.4 Lato,sans-serif;margin:2rem auto;"
    "max-width:52rem}h1{font:normal 1.7rem STIX,'STIX Two Text',serif;margin:0 0 .3rem}"
    "p{margin:.15rem 0}.soft{color:#6B6F7B}.entry{width:100%;border-top:1px solid #D9D2C3;"
    "margin-top:.6rem;page-break-inside:avoid}.entry td{vertical-align:top;padding:.35rem .4rem "
    ".2rem 0}.levels td{padding:0 .9rem 0 0;border:0;font-size:.93em}code{font-size:.95em}";

}  // namespace

std::vector<CodebookEntry> codebookEntries(const Frame& frame) {
    std::vector<CodebookEntry> entries;
    for (std::size_t j = 0; j < frame.table().columns.size(); ++j) {
        const Column& column = frame.table().columns[j];
        const Variable& v = frame.table().variables[j];
        CodebookEntry entry;
        entry.name = v.name;
        entry.label = v.label;
        entry.measure = measureName(v.measure);
        entry.unit = v.unit;
        entry.expression = v.expression;
        entry.note = v.note;
        if (frame.moments() != nullptr) {
            const auto at = static_cast<Eigen::Index>(j);
            entry.values = fmt::format("known by its moments: mean {}, standard deviation {}",
                                       shortNumber(frame.moments()->mean(at), 5),
                                       shortNumber(frame.moments()->sd(at), 5));
        } else {
            entry.missing = missingWords(v, column.countMissing());
            if (column.isText() && v.measure == Measure::Text) {
                entry.values = plural(column.size() - column.countMissing(), "text", "texts");
            } else if (isGrouping(v.measure) || column.isText()) {
                describeLevels(column, v, entry);
            } else {
                describeNumbers(column, v, entry);
            }
        }
        entries.push_back(std::move(entry));
    }
    return entries;
}

std::string codebookHtml(const std::string& title, const Frame& frame,
                         const std::vector<CodebookEntry>& entries, bool inlineFigures) {
    std::string out = fmt::format(
        "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{0}</title>"
        "<style>{1}</style></head>\n<body>\n<h1>Codebook: {0}</h1>\n<p class=\"soft\">{2}, "
        "{3}</p>\n",
        htmlText(title), kStyle,
        plural(frame.moments() == nullptr ? frame.rows()
                                          : static_cast<std::size_t>(frame.moments()->n),
               "row", "rows"),
        plural(entries.size(), "variable", "variables"));
    for (std::size_t k = 0; k < entries.size(); ++k) {
        const CodebookEntry& e = entries[k];
        // Where styles are not understood a rule of its own parts the entries.
        out += inlineFigures ? "" : "<hr>";
        out += "<table class=\"entry\" width=\"100%\"><tr><td>";
        out += "<p><b>" + htmlText(e.name) + "</b>";
        if (!e.label.empty()) {
            out += " &nbsp; " + htmlText(e.label);
        }
        out += "</p><p class=\"soft\">" + htmlText(e.measure) +
               (e.unit.empty() ? "" : ", in " + htmlText(e.unit)) + "; " + htmlText(e.values) +
               (e.missing.empty() ? "" : "; " + htmlText(e.missing)) + "</p>";
        if (!e.expression.empty()) {
            out += "<p>derived: <code>" + htmlText(e.expression) + "</code></p>";
        }
        if (!e.note.empty()) {
            out += "<p>" + htmlText(e.note) + "</p>";
        }
        if (!e.levels.empty()) {
            out += levelTable(e);
        }
        out += "</td><td width=\"150\" align=\"right\">";
        if (!e.svg.empty()) {
            out += inlineFigures ? e.svg
                                 : fmt::format(
                                       "<img src=\"codebook:{}\" width=\"132\" "
                                       "height=\"44\">",
                                       k);
        }
        out += "</td></tr></table>\n";
    }
    return out + "</body></html>\n";
}

}  // namespace rapporto
