#pragma once

#include "core/study/answer.h"

#include <nlohmann/json.hpp>

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
