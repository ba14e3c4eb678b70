#pragma once

#include "core/expression/expression.h"
#include "core/report/request_wording.h"
#include "core/study/study.h"
#include "tests/fuzz/question_maker.h"

namespace rapporto::fuzz {

/// A name as spreadsheets have them, with what expressions have to quote.
inline std::string otherName(const std::string& name) {
    return name == "x" ? "men’s x, in % (net)" : name + " (in kg) – " + name;
}

/// The same question about the same cells, every variable named so.
inline QuestionMaker::Made withOtherNames(const QuestionMaker::Made& made) {
    Study study;
    study.variables = made.entries;
    study.layout = made.layout;
    study.survey = made.survey;
    study.questions = {made.question};
    QuestionMaker::Made out = made;
    for (std::size_t c = 0; c < made.table.columns.size(); ++c) {
        const std::string& name = made.table.columns[c].name();
        out.table.columns[c] = made.table.columns[c].renamed(otherName(name));
        out.table.variables[c].name = otherName(name);
        // What renames a derived variable visits every place that may name one.
        study.derived = {{name, "0", ""}};
        study = *apply(study, {RenameDerived{name, otherName(name)}, "rename"});
    }
    out.entries = study.variables;
    out.layout = study.layout;
    out.survey = study.survey;
    out.question = study.questions.front();
    return out;
}

inline bool agree(double a, double b) {
    return (std::isnan(a) && std::isnan(b)) || a == b ||
           std::abs(a - b) <= 1e-9 * std::max(std::abs(a), std::abs(b));
}

inline std::vector<std::string> warningsOf(const Answer& a) {
    return a.design ? a.design->warnings : std::vector<std::string>();
}

/// Words that show a name as expressions quote it; empty: none does.
inline std::string quotesNames(const Answer& a, const QuestionMaker::Made& made) {
    std::vector<std::string> words = warningsOf(a);
    words.push_back(a.refusal ? std::string() : answerReading(a));
    words.push_back(methodsReading(a));
    // A place within what was typed is told as it was typed.
    if (a.refusal && a.refusal->where.find(", position ") == std::string::npos) {
        words.push_back(a.refusal->what);
        words.push_back(a.refusal->help);
    }
    if (a.fit) {
        words.insert(words.end(), a.fit->notes.begin(), a.fit->notes.end());
        for (std::size_t c = 0; c < a.fit->coefficients.size(); ++c) {
            for (const std::string& one : effectReading(a, c)) {
                words.push_back(one);
            }
        }
    }
    for (std::size_t p = 0; a.fit && a.predictions && p < a.predictions->size(); ++p) {
        for (const std::string& one : predictionReading(a, p)) {
            words.push_back(one);
        }
    }
    for (const CheckResult& check : a.checks) {
        words.push_back(check.headline);
        words.push_back(check.id + ": " + check.reading);
        words.push_back(check.id + ": " + check.exhibit.title + check.exhibit.subtitle +
                        check.exhibit.xTitle + check.exhibit.yTitle);
        for (const Remedy& remedy : check.remedies) {
            words.push_back(check.id + ": " + remedy.label);
            words.push_back(check.id + ": " + remedy.why);
        }
    }
    for (const std::string& one : words) {
        for (const Column& column : made.table.columns) {
            if (one.find(quotedName(column.name())) != std::string::npos) {
                return one;
            }
        }
    }
    return {};
}

/// Something that a check proposes and nobody could ask; empty: all of it can be asked.
inline std::string badRemedy(const Answer& a, const Frame& frame) {
    for (const CheckResult& check : a.checks) {
        for (const Remedy& remedy : check.remedies) {
            for (const Term& term : remedy.variant.terms) {
                for (const std::string& part : term.parts) {
                    const auto value = frame.evaluateText(part);
                    if (term.kind != Term::Kind::Set && !value &&
                        (value.error().code == ErrorCode::Syntax ||
                         value.error().code == ErrorCode::UnknownName)) {
                        return check.id + ", " + remedy.label + ": " + value.error().text();
                    }
                }
            }
        }
    }
    return {};
}

/// What other names change in an answer beside the names; empty: nothing.
inline std::string namesMatter(const Answer& a, const Answer& b) {
    if (a.refusal.has_value() != b.refusal.has_value()) {
        return "refused under one name alone: " +
               (a.refusal ? a.refusal->text() : b.refusal->text());
    }
    const std::vector<std::string> before = warningsOf(a);
    const std::vector<std::string> after = warningsOf(b);
    if (before.size() != after.size()) {
        return "a warning under one name alone: " +
               (before.size() > after.size() ? before : after).back();
    }
    if (a.refusal) {
        return a.refusal->code == b.refusal->code
                   ? ""
                   : "refused for another reason: " + a.refusal->text() + " / " + b.refusal->text();
    }
    if (a.fit->coefficients.size() != b.fit->coefficients.size()) {
        return "other coefficients";
    }
    for (std::size_t j = 0; j < a.fit->coefficients.size(); ++j) {
        const Coefficient& one = a.fit->coefficients[j];
        const Coefficient& other = b.fit->coefficients[j];
        if (!agree(one.estimate, other.estimate) || !agree(one.se, other.se)) {
            return "the effect of " + one.term;
        }
    }
    if (a.fit->notes.size() != b.fit->notes.size()) {
        return "a note under one name alone: " +
               (a.fit->notes.size() > b.fit->notes.size() ? a.fit->notes : b.fit->notes).back();
    }
    if (a.checks.size() != b.checks.size()) {
        return "other checks";
    }
    for (std::size_t k = 0; k < a.checks.size(); ++k) {
        const CheckResult& one = a.checks[k];
        const CheckResult& other = b.checks[k];
        if (one.verdict != other.verdict ||
            !agree(one.statistic.value_or(0.0), other.statistic.value_or(0.0)) ||
            !agree(one.p.value_or(0.0), other.p.value_or(0.0)) ||
            one.remedies.size() != other.remedies.size()) {
            return "the check " + one.id + ": " + one.reading + " / " + other.reading;
        }
    }
    const auto count = [](const auto& all) {
        return std::count_if(all.begin(), all.end(), [](const auto& one) { return bool(one); });
    };
    if (count(a.hypotheses) != count(b.hypotheses) || count(a.effects) != count(b.effects)) {
        return "what was asked beside";
    }
    return {};
}

}  // namespace rapporto::fuzz
