#include "core/report/codebook.h"

#include "core/base/format.h"
#include "core/describe/summary.h"
#include "core/report/left_wording.h"
#include "core/report/report.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

constexpr double kWidth = 180.0;  // Points, of the small pictures.
constexpr double kHeight = 48.0;

/// Bars beside each other, the highest as high as the room.
Drawing bars(const std::vector<double>& heights) {
    Drawing out;
    const double most = heights.empty() ? 0.0 : *std::max_element(heights.begin(), heights.end());
    if (!(most > 0.0)) {
        return out;
    }
    out.width = kWidth;
    out.height = kHeight;
    const double step = kWidth / static_cast<double>(heights.size());
    for (std::size_t k = 0; k < heights.size(); ++k) {
        const double height = (kHeight - 2.0) * heights[k] / most;
        out.box({step * static_cast<double>(k) + 0.5, kHeight - 1.0 - height},
                std::max(step - 1.0, 0.5), height, {.fill = "#9FABBF"});
    }
    out.line({0.0, kHeight - 0.5}, {kWidth, kHeight - 0.5}, {.stroke = "#6B6F7B"});
    return out;
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
    entry.shape = bars(heights);
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
    entry.shape = bars(heights);
}

ReportBlock levelTable(const CodebookEntry& entry) {
    ReportBlock block;
    block.kind = Kind::Table;
    block.cells.push_back({"value", "rows", "%"});
    block.rules = {0};
    for (const auto& level : entry.levels) {
        block.cells.push_back({level.value + (level.label.empty() ? "" : " · " + level.label) +
                                   (level.base ? " (base)" : ""),
                               Cell(countText(level.count), static_cast<double>(level.count)),
                               Cell(fixedNumber(100.0 * level.share, 1), 100.0 * level.share)});
    }
    if (entry.moreLevels > 0) {
        block.cells.push_back({Cell::over(3, "… and " + countText(entry.moreLevels) + " more")});
    }
    return block;
}

void putEntry(ReportSheet& sheet, const CodebookEntry& entry) {
    sheet.put(Kind::Heading, entry.name, "text");
    std::string told = entry.label.empty() ? "" : capitalised(entry.label) + ". ";
    told += capitalised(entry.measure);
    told += entry.unit.empty() ? "" : ", in " + entry.unit;
    told += entry.values.empty() ? "" : "; " + entry.values;
    told += entry.missing.empty() ? "" : "; " + entry.missing;
    sheet.put(Kind::Paragraph, told + ".");
    if (!entry.expression.empty()) {
        sheet.put(Kind::Paragraph, "Derived: " + entry.expression, "text");
    }
    if (!entry.note.empty()) {
        sheet.put(Kind::Note, entry.note, "text");
    }
    if (!entry.levels.empty()) {
        sheet.add(levelTable(entry));
    }
    if (!entry.shape.empty()) {
        sheet.addFigure(
            entry.shape,
            (entry.levels.empty() ? "Histogram of " : "Bars of the levels of ") + entry.name);
    }
}

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
        if (frame.left() != nullptr) {
            entry.values = leftVariableWords(*frame.left(), v);
        } else if (frame.moments() != nullptr) {
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

ReportPages codebookPages(const std::string& title, const Frame& frame,
                          const ReportDress& dressed) {
    const auto entries = codebookEntries(frame);
    ReportPages pages;
    pages.title = title.empty() ? "Codebook" : "Codebook: " + title;
    pages.subtitle =
        plural(frame.moments() == nullptr ? frame.rows()
                                          : static_cast<std::size_t>(frame.moments()->n),
               "row", "rows") +
        ", " + plural(entries.size(), "variable", "variables");
    pages.language = dressed.language;
    ReportSheet sheet(dressed.language);
    for (const CodebookEntry& entry : entries) {
        putEntry(sheet, entry);
    }
    pages.blocks = std::move(sheet.blocks());
    dress(pages.blocks, dressed);
    return pages;
}

}  // namespace rapporto
