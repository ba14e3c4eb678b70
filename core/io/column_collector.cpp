#include "core/io/column_collector.h"

#include "core/base/format.h"
#include "core/io/csv_guess.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <unordered_map>
#include <unordered_set>

namespace rapporto {

void ColumnCollector::addMissing(std::size_t count) {
    kinds_.insert(kinds_.end(), count, Kind::Missing);
    values_.insert(values_.end(), count, std::nan(""));
    counts_[0] += count;
}

void ColumnCollector::addNumber(double value) {
    if (!std::isfinite(value)) {
        addMissing();
        return;
    }
    kinds_.push_back(Kind::Number);
    values_.push_back(value);
    ++counts_[1];
}

void ColumnCollector::addText(std::string_view text) {
    if (text.empty()) {
        addMissing();
        return;
    }
    kinds_.push_back(Kind::Text);
    values_.push_back(texts_.add(text));
    ++counts_[2];
}

void ColumnCollector::addDate(double days) {
    kinds_.push_back(Kind::Date);
    values_.push_back(days);
    ++counts_[3];
}

void ColumnCollector::addTruth(bool value) {
    kinds_.push_back(Kind::Truth);
    values_.push_back(value ? 1.0 : 0.0);
    ++counts_[4];
}

std::string ColumnCollector::shown(std::size_t row) const {
    switch (kinds_[row]) {
        case Kind::Number:
            return exactNumber(values_[row]);
        case Kind::Date:
            return dateText(values_[row]);
        case Kind::Truth:
            return values_[row] == 1.0 ? "true" : "false";
        case Kind::Text:
            return texts_.texts()[static_cast<std::size_t>(values_[row])];
        case Kind::Missing:
            break;
    }
    return {};
}

void ColumnCollector::finish(std::string name, const ReaderOptions& options, Import& import) {
    const std::size_t filled = kinds_.size() - counts_[0];
    const auto all = [&](Kind kind) {
        return filled > 0 && counts_[static_cast<std::size_t>(kind)] == filled;
    };
    ReaderOptions settled = options;
    settled.decimal = options.decimal.value_or('.');
    Settled out{Column::ofNumbers(name, std::vector<double>()), {}, {}};
    if (all(Kind::Number) || all(Kind::Date) || all(Kind::Truth) || filled == 0) {
        out = settleColumn(Column::ofNumbers(std::move(name), std::move(values_)), settled);
        if (all(Kind::Date)) {
            out.variable.measure = Measure::Date;
            out.evidence = {"every cell is a date", "", {}};
        } else if (all(Kind::Truth)) {
            out.variable.measure = Measure::YesNo;
        }
    } else {
        TextIndex index;
        std::vector<std::int32_t> codes(kinds_.size(), -1);
        for (std::size_t i = 0; i < codes.size(); ++i) {
            codes[i] = kinds_[i] == Kind::Missing ? -1 : index.add(shown(i));
        }
        out =
            settleColumn(Column::ofTexts(std::move(name), std::move(codes), index.take()), settled);
        const std::size_t odd = filled - counts_[2];
        if (counts_[2] > 0 && odd > 0 && out.column.isText()) {
            out.evidence.suggestion =
                fmt::format("{} beside {}: all are read as texts",
                            plural(odd, "cell is no text", "cells are no texts"),
                            plural(counts_[2], "text", "texts"));
        }
    }
    import.table.columns.push_back(std::move(out.column));
    import.table.variables.push_back(std::move(out.variable));
    import.evidence.push_back(std::move(out.evidence));
    *this = {};
}

std::vector<std::string> repairedNames(const std::vector<std::string>& found, std::size_t line,
                                       Import& import) {
    std::vector<std::string> names;
    std::unordered_set<std::string> taken;
    std::unordered_map<std::string, int> next;
    const auto note = [&](std::string what) {
        ++import.problemCount;
        if (import.problems.size() < kMaxProblems) {
            import.problems.push_back({line, std::move(what)});
        }
    };
    for (std::size_t j = 0; j < found.size(); ++j) {
        const auto from = found[j].find_first_not_of(" \t\r\n");
        std::string name =
            from == std::string::npos
                ? std::string()
                : found[j].substr(from, found[j].find_last_not_of(" \t\r\n") - from + 1);
        if (name.empty()) {
            name = fmt::format("column_{}", j + 1);
            note("header of column " + std::to_string(j + 1) + " is empty: named " + name);
        }
        std::string unique = name;
        // Where the last one of that name left off: a hundred thousand of one name are named in one
        // pass.
        for (int& i = next.try_emplace(name, 1).first->second; !taken.insert(unique).second;) {
            unique = fmt::format("{}_{}", name, ++i);
        }
        if (unique != name) {
            note("header ‘" + name + "’ is repeated: the one of column " + std::to_string(j + 1) +
                 " is named " + unique);
        }
        names.push_back(unique);
    }
    return names;
}

}  // namespace rapporto
