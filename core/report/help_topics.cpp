#include "core/report/help_topics.h"

#include "core/base/typed_text.h"
#include "core/checks/check.h"
#include "core/model/fit.h"

#include <algorithm>
#include <map>
#include <sstream>

namespace rapporto {
namespace {

std::vector<std::string> linesOf(const std::string& text) {
    std::vector<std::string> out;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);) {
        out.push_back(line);
    }
    return out;
}

/// Heading and what stands below it, down to the next heading of any depth.
struct Section {
    std::string title;
    std::string body;
};

std::vector<Section> sectionsOf(const std::string& markdown) {
    std::vector<Section> out;
    for (const std::string& line : linesOf(markdown)) {
        const std::size_t depth = line.find_first_not_of('#');
        if (depth != std::string::npos && depth > 0 && line[depth] == ' ') {
            out.push_back({line.substr(depth + 1), {}});
        } else if (!out.empty() &&
                   !line.starts_with("![")) {  // Pictures are too wide for a column.
            out.back().body += line + "\n";
        }
    }
    return out;
}

/// “`reset`” at the end of a heading of the readings, without what stands around it.
std::string idIn(const std::string& heading) {
    const std::size_t last = heading.rfind('`');
    const std::size_t first =
        last == std::string::npos || last == 0 ? std::string::npos : heading.rfind('`', last - 1);
    return first == std::string::npos ? std::string() : heading.substr(first + 1, last - first - 1);
}

/// How things read, by id.
std::map<std::string, std::string> readingsById(const std::string& readings) {
    std::map<std::string, std::string> out;
    for (const Section& section : sectionsOf(readings)) {
        if (const std::string id = idIn(section.title); !id.empty()) {
            out.emplace(id, section.body);
        }
    }
    return out;
}

/// Paragraphs “**Title.** …”, and those about checks, which begin “Counts: …”.
std::vector<Section> formulasOf(const std::string& methods) {
    std::vector<Section> out;
    bool ofChecks = false;
    for (const std::string& line : linesOf(methods)) {
        if (line.starts_with("## ")) {
            if (ofChecks) {
                break;
            }
            ofChecks = true;
        }
        if (ofChecks) {
            const std::size_t colon = line.find(": ");
            constexpr std::size_t kTitle = 60;  // Longer ones are sentences.
            if (colon < kTitle && line.front() != '|' && line.front() != '#') {
                out.push_back({line.substr(0, colon) + " (checks)", line.substr(colon + 2) + "\n"});
            }
            continue;
        }
        const std::size_t end = line.starts_with("**") ? line.find("**", 2) : std::string::npos;
        if (end != std::string::npos) {
            std::string title = line.substr(2, end - 2);
            title.erase(title.find_last_not_of(". ") + 1);
            out.push_back({title, line.substr(std::min(end + 3, line.size())) + "\n"});
        } else if (!out.empty()) {
            out.back().body += line + "\n";
        }
    }
    return out;
}

/// Cells of “| a | b |”, a bar behind a backslash being one of the text.
std::vector<std::string> cellsOf(const std::string& row) {
    std::vector<std::string> out;
    std::string cell;
    for (std::size_t i = 1; i < row.size(); ++i) {
        if (row[i] == '\\' && i + 1 < row.size() && row[i + 1] == '|') {
            cell += row[++i];
        } else if (row[i] == '|') {
            out.push_back(trimmed(cell));
            cell.clear();
        } else {
            cell += row[i];
        }
    }
    return out;
}

/// All that stands between backticks.
std::vector<std::string> idsIn(const std::string& cell) {
    std::vector<std::string> out;
    for (std::size_t from = cell.find('`'); from != std::string::npos;
         from = cell.find('`', from)) {
        const std::size_t to = cell.find('`', from + 1);
        if (to == std::string::npos) {
            break;
        }
        out.push_back(cell.substr(from + 1, to - from - 1));
        from = to + 1;
    }
    return out;
}

/// Rows “| `id`, `id` | … |” of the table of checks.
std::map<std::string, std::vector<std::string>> checkRows(const std::string& methods) {
    std::map<std::string, std::vector<std::string>> out;
    for (const std::string& line : linesOf(methods)) {
        if (line.starts_with("| `")) {
            const auto cells = cellsOf(line);
            for (const std::string& id : idsIn(cells.front())) {
                out.emplace(id, cells);
            }
        }
    }
    return out;
}

std::string lowered(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) {
        return static_cast<char>(c < 0x80 ? std::tolower(c) : c);
    });
    return text;
}

/// “Null: …” as a paragraph, nothing of nothing.
std::string paragraph(const std::string& name, const std::string& text) {
    return text.empty() ? std::string() : "**" + name + ":** " + text + "\n\n";
}

/// Paragraphs that have the id between backticks.
std::string formulasThatName(const std::string& id, const std::vector<Section>& formulas) {
    std::string out;
    for (const Section& formula : formulas) {
        if (formula.body.find("`" + id + "`") != std::string::npos) {
            out += paragraph(formula.title, formula.body);
        }
    }
    return out;
}

std::string howItReads(const std::map<std::string, std::string>& readings, const std::string& id) {
    const auto found = readings.find(id);
    if (found == readings.end()) {
        return {};
    }
    std::string lines;
    for (const std::string& line : linesOf(found->second)) {
        // Said above, in words of its own.
        if (!line.starts_with("- asks:") && !line.starts_with("- rule:")) {
            lines += line + "\n";
        }
    }
    return "**How it reads** (of made-up rows):\n\n" + lines + "\n";
}

/// What checks and ways to estimate are explained with.
struct Sources {
    std::map<std::string, std::string> readings;
    std::map<std::string, std::vector<std::string>> checks;
    std::vector<Section> formulas;
    std::vector<std::vector<std::string>> doubts;  ///< Kind, told when, check.
};

/// When a check of the data speaks, kind by kind.
std::string toldWhen(const std::string& id, const std::vector<std::vector<std::string>>& doubts) {
    std::string out;
    for (const std::vector<std::string>& cells : doubts) {
        const auto checks = cells.size() < 3 ? std::vector<std::string>() : idsIn(cells[2]);
        if (std::find(checks.begin(), checks.end(), id) != checks.end()) {
            std::string kind = idsIn(cells[0]).front();
            std::replace(kind.begin(), kind.end(), '-', ' ');
            out += "- *" + kind + "*: " + cells[1] + "\n";
        }
    }
    return out.empty() ? out : "**Told when:**\n\n" + out + "\n";
}

HelpTopic topicOf(const Check& check, const Sources& from) {
    HelpTopic topic{std::string("check:") + check.id, check.name, "Checks", {}};
    topic.markdown = "*" + std::string(check.group) + "*\n\n" +
                     paragraph("It asks whether", check.null) + paragraph("Verdict", check.rule);
    const auto row = from.checks.find(check.id);
    if (row != from.checks.end() && row->second.size() >= 3) {
        topic.markdown +=
            paragraph("Statistic", row->second[1]) + paragraph("Beside it", row->second[2]);
    } else {
        topic.markdown += formulasThatName(check.id, from.formulas);
    }
    topic.markdown += toldWhen(check.id, from.doubts) + paragraph("Source", check.source) +
                      howItReads(from.readings, check.id);
    return topic;
}

HelpTopic topicOf(const Estimator& estimator, const Sources& from) {
    const std::string id = estimator.method;
    HelpTopic topic{"method:" + id, estimator.shown, "Ways to estimate", {}};
    for (const Section& formula : from.formulas) {
        if (lowered(formula.title) == lowered(estimator.shown)) {
            topic.markdown += paragraph(formula.title, formula.body);
        }
    }
    topic.markdown += formulasThatName(id, from.formulas) + howItReads(from.readings, id);
    return topic;
}

}  // namespace

Help::Help(const HelpTexts& texts) {
    const std::vector<Section> guide = sectionsOf(texts.guide);
    for (std::size_t c = 1; c < guide.size(); ++c) {  // The first is the name of the whole.
        topics_.push_back({"guide:" + guide[c].title, guide[c].title, "Guide", guide[c].body});
    }
    Sources from{
        readingsById(texts.readings), checkRows(texts.methods), formulasOf(texts.methods), {}};
    for (const auto& [kind, cells] : checkRows(texts.doubts)) {
        from.doubts.push_back(cells);
    }
    for (const Check& check : allChecks()) {
        topics_.push_back(topicOf(check, from));
    }
    for (const Estimator& estimator : allEstimators()) {
        topics_.push_back(topicOf(estimator, from));
    }
    for (const Section& section : sectionsOf(texts.doubts)) {
        topics_.push_back({"data:" + section.title, section.title, "Data", section.body});
    }
    for (const Section& formula : from.formulas) {
        topics_.push_back({"formula:" + formula.title, formula.title, "Formulas", formula.body});
    }
}

const HelpTopic* Help::topic(const std::string& id) const {
    const auto found = std::find_if(topics_.begin(), topics_.end(),
                                    [&](const HelpTopic& topic) { return topic.id == id; });
    return found == topics_.end() ? nullptr : &*found;
}

std::vector<const HelpTopic*> Help::matching(const std::string& words) const {
    std::vector<std::string> wanted;
    std::istringstream in(lowered(words));
    for (std::string word; in >> word;) {
        wanted.push_back(word);
    }
    const auto holds = [&](const std::string& text) {
        const std::string all = lowered(text);
        return std::all_of(wanted.begin(), wanted.end(), [&](const std::string& word) {
            return all.find(word) != std::string::npos;
        });
    };
    std::vector<const HelpTopic*> out;
    std::vector<const HelpTopic*> within;
    if (wanted.empty()) {
        return out;
    }
    for (const HelpTopic& topic : topics_) {
        if (holds(topic.title)) {
            out.push_back(&topic);
        } else if (holds(topic.title + " " + topic.markdown)) {
            within.push_back(&topic);
        }
    }
    out.insert(out.end(), within.begin(), within.end());
    return out;
}

}  // namespace rapporto
