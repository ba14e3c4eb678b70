#include "tests/core/fixtures.h"

namespace rapporto::test {

nlohmann::json readJson(const std::string& path) {
    std::ifstream in(std::string(RAPPORTO_SOURCE_DIR) + "/" + path);
    return nlohmann::json::parse(in);
}

double number(const nlohmann::json& json) {
    return json.is_string() ? std::stod(json.get<std::string>()) : json.get<double>();
}

Table tableOf(const std::vector<std::pair<std::string, std::vector<double>>>& columns) {
    Table table;
    for (const auto& [name, cells] : columns) {
        table.columns.push_back(Column::ofNumbers(name, cells));
        Variable variable;
        variable.name = name;
        table.variables.push_back(variable);
    }
    return table;
}

Table tableFrom(const nlohmann::json& data) {
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

QByteArray told(const std::string& what, double found, double expected) {
    return QString("%1: %2 for %3")
        .arg(what.c_str())
        .arg(found, 0, 'g', 17)
        .arg(expected, 0, 'g', 17)
        .toUtf8();
}

const Coefficient* coefficient(const Answer& a, const std::string& term) {
    for (const Coefficient& c : a.fit->coefficients) {
        if (c.term == term) {
            return &c;
        }
    }
    return nullptr;
}

const CheckResult& check(const Answer& a, const std::string& id) {
    for (const CheckResult& c : a.checks) {
        if (c.id == id) {
            return c;
        }
    }
    static const CheckResult kNone;
    return kNone;
}

double detail(const CheckResult& c, const std::string& name) {
    for (const auto& [key, value] : c.details) {
        if (key == name) {
            return value;
        }
    }
    return std::nan("");
}

std::size_t checksOfOneEquation() {
    const auto& all = allChecks();
    return static_cast<std::size_t>(std::count_if(
        all.begin(), all.end(), [](const Check& one) { return one.of != fits::kTrace; }));
}

Question explain(const std::string& outcome, const std::vector<std::string>& terms) {
    Question question;
    question.id = "q1";
    question.outcome = outcome;
    for (const auto& term : terms) {
        question.terms.push_back(Term::expression(term));
    }
    return question;
}

Answer answer(const Table& table, const Question& question, const Layout& layout,
              const std::vector<VariableEntry>& entries) {
    Study study;
    study.questions = {question};
    const Frame frame = Frame::make(table, entries, {}, {}, layout);
    return answerQuestion(study, frame, question, Job());
}

Table referenceTable(const nlohmann::json& reference) {
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

std::vector<VariableEntry> referenceEntries() {
    VariableEntry g;
    g.name = "g";
    g.measure = Measure::Groups;
    return {g};
}

}  // namespace rapporto::test
