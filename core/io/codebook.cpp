#include "core/base/format.h"
#include "core/base/typed_text.h"
#include "core/io/table_file.h"

#include <algorithm>
#include <map>

namespace rapporto {
namespace {

const std::vector<std::string> kHead = {"name",    "label",  "unit", "measure",
                                        "missing", "levels", "base", "note"};

/// “1 = Ridge | 2 = River flat”; a mark of the grammar inside a text is doubled.
std::string escaped(const std::string& text) {
    std::string out;
    for (const char c : text) {
        out += c;
        if (c == '|' || c == '=') {
            out += c;
        }
    }
    return out;
}

/// Cuts at single marks, making doubled ones single.
std::vector<std::string> cut(const std::string& text, char mark, bool undouble) {
    std::vector<std::string> parts(1);
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == mark && i + 1 < text.size() && text[i + 1] == mark) {
            parts.back() += undouble ? std::string(1, mark) : std::string(2, mark);
            ++i;
        } else if (text[i] == mark) {
            parts.emplace_back();
        } else {
            parts.back() += text[i];
        }
    }
    for (std::string& part : parts) {
        const auto from = part.find_first_not_of(' ');
        part = from == std::string::npos ? ""
                                         : part.substr(from, part.find_last_not_of(' ') - from + 1);
    }
    return parts;
}

Key keyIn(const std::string& text, bool number) {
    // A text code in a column of numbers stays a text.
    if (const auto value = number ? numberIn(text) : std::nullopt) {
        return *value;
    }
    return text;
}

}  // namespace

std::vector<std::vector<std::string>> codebookRows(const Table& table) {
    std::vector<std::vector<std::string>> rows = {kHead};
    for (const Variable& v : table.variables) {
        std::string missing;
        for (const Key& key : v.missing) {
            missing += (missing.empty() ? "" : " | ") + escaped(keyText(key));
        }
        std::string levels;
        for (const Level& level : v.levels) {
            levels += (levels.empty() ? "" : " | ") + escaped(keyText(level.value)) +
                      (level.label.empty() ? "" : " = " + escaped(level.label));
        }
        rows.push_back({v.name, v.label, v.unit, measureName(v.measure), missing, levels,
                        v.base.empty() ? "" : keyText(v.base.front()), v.note});
    }
    return rows;
}

void applyCodebook(const std::vector<std::vector<std::string>>& rows, Table& table) {
    if (rows.empty()) {
        return;
    }
    std::map<std::string, std::size_t> place;
    for (std::size_t c = 0; c < rows.front().size(); ++c) {
        place[rows.front()[c]] = c;
    }
    for (std::size_t r = 1; r < rows.size(); ++r) {
        const auto cell = [&](const char* name) {
            const auto at = place.find(name);
            return at == place.end() || at->second >= rows[r].size() ? std::string()
                                                                     : rows[r][at->second];
        };
        const int at = table.find(cell("name"));
        if (at < 0) {
            continue;
        }
        Variable& v = table.variables[static_cast<std::size_t>(at)];
        const bool number = !table.columns[static_cast<std::size_t>(at)].isText();
        v.label = cell("label");
        v.unit = cell("unit");
        v.note = cell("note");
        for (const Measure m : {Measure::Quantity, Measure::Count, Measure::YesNo, Measure::Groups,
                                Measure::OrderedGroups, Measure::Date, Measure::Text}) {
            v.measure = cell("measure") == measureName(m) ? m : v.measure;
        }
        if (!cell("missing").empty()) {
            v.missing.clear();
            for (const std::string& part : cut(cell("missing"), '|', true)) {
                v.missing.push_back(keyIn(part, number));
            }
        }
        if (!cell("levels").empty()) {
            v.levels.clear();
            for (const std::string& part : cut(cell("levels"), '|', true)) {
                const auto pair = cut(part, '=', true);
                v.levels.push_back({keyIn(pair[0], number), pair.size() > 1 ? pair[1] : ""});
            }
        }
        if (!cell("base").empty()) {
            v.base = {keyIn(cell("base"), number)};
        }
    }
}

}  // namespace rapporto
