#pragma once

#include "core/study/answer.h"

#include <nlohmann/json.hpp>

#include <QByteArray>
#include <QString>

#include <algorithm>
#include <cmath>
#include <fstream>
#include <string>
#include <vector>

namespace rapporto::test {

/// |x − reference| ≤ tolerance · |reference|; against zero, absolute.
inline bool near(double x, double reference, double tolerance) {
    return std::abs(x - reference) <= tolerance * (reference == 0.0 ? 1.0 : std::abs(reference));
}

inline nlohmann::json readJson(const std::string& path) {
    std::ifstream in(std::string(RAPPORTO_SOURCE_DIR) + "/" + path);
    return nlohmann::json::parse(in);
}

/// A number that the reference file keeps as text with all its digits.
inline double number(const nlohmann::json& json) {
    return json.is_string() ? std::stod(json.get<std::string>()) : json.get<double>();
}

/// A table of number columns.
inline Table tableOf(const std::vector<std::pair<std::string, std::vector<double>>>& columns) {
    Table table;
    for (const auto& [name, cells] : columns) {
        table.columns.push_back(Column::ofNumbers(name, cells));
        Variable variable;
        variable.name = name;
        table.variables.push_back(variable);
    }
    return table;
}

/// A table of the columns of a reference file; null is missing.
inline Table tableFrom(const nlohmann::json& data) {
    std::vector<std::pair<std::string, std::vector<double>>> columns;
    for (const auto& [name, cells] : data.items()) {
        std::vector<double> column;
        for (const auto& cell : cells) {
            column.push_back(cell.is_null() ? std::nan("") : cell.get<double>());
        }
        columns.emplace_back(name, std::move(column));
    }
    return tableOf(columns);
}

/// What AGREE says when two numbers do not agree.
inline QByteArray told(const std::string& what, double found, double expected) {
    return QString("%1: %2 for %3")
        .arg(what.c_str())
        .arg(found, 0, 'g', 17)
        .arg(expected, 0, 'g', 17)
        .toUtf8();
}

/// Two numbers, by name, in a test function: relative to the larger of `least` and what is
/// expected.
#define AGREE_FROM(least, what, found, expected, tolerance)                              \
    do {                                                                                 \
        const double f_ = (found);                                                       \
        const double e_ = (expected);                                                    \
        QVERIFY2(std::abs(f_ - e_) <= (tolerance)*std::max<double>(least, std::abs(e_)), \
                 ::rapporto::test::told(what, f_, e_).constData());                      \
    } while (false)

#define AGREE(what, found, expected, tolerance) AGREE_FROM(1e-3, what, found, expected, tolerance)

/// The first coefficient of that name, of any equation; null without one.
inline const Coefficient* coefficient(const Answer& a, const std::string& term) {
    for (const Coefficient& c : a.fit->coefficients) {
        if (c.term == term) {
            return &c;
        }
    }
    return nullptr;
}

inline const CheckResult& check(const Answer& a, const std::string& id) {
    for (const CheckResult& c : a.checks) {
        if (c.id == id) {
            return c;
        }
    }
    static const CheckResult kNone;
    return kNone;
}

/// A number of a check by its name; NaN without one.
inline double detail(const CheckResult& c, const std::string& name) {
    for (const auto& [key, value] : c.details) {
        if (key == name) {
            return value;
        }
    }
    return std::nan("");
}

/// How many checks there are of a question with one equation.
inline std::size_t checksOfOneEquation() {
    const auto& all = allChecks();
    return static_cast<std::size_t>(std::count_if(
        all.begin(), all.end(), [](const Check& one) { return one.of != fits::kTrace; }));
}

inline Frame frameOf(const Table& table) { return Frame::make(table, {}, {}, {}, {}); }

inline Question explain(const std::string& outcome, const std::vector<std::string>& terms) {
    Question question;
    question.id = "q1";
    question.outcome = outcome;
    for (const auto& term : terms) {
        question.terms.push_back(Term::expression(term));
    }
    return question;
}

inline Answer answer(const Table& table, const Question& question, const Layout& layout = {},
                     const std::vector<VariableEntry>& entries = {}) {
    Study study;
    study.questions = {question};
    const Frame frame = Frame::make(table, entries, {}, {}, layout);
    return answerQuestion(study, frame, question, Job());
}

/// The reference data of tests/reference/make_reference.py.
inline Table referenceTable(const nlohmann::json& reference) {
    std::vector<std::pair<std::string, std::vector<double>>> columns;
    for (const auto& [name, cells] : reference.at("data").items()) {
        columns.emplace_back(name, cells.get<std::vector<double>>());
    }
    std::vector<double> row(columns.front().second.size());
    for (std::size_t i = 0; i < row.size(); ++i) {
        row[i] = static_cast<double>(i);
    }
    columns.emplace_back("moment", row);
    return tableOf(columns);
}

inline std::vector<VariableEntry> referenceEntries() {
    VariableEntry g;
    g.name = "g";
    g.measure = Measure::Groups;
    return {g};
}

}  // namespace rapporto::test
