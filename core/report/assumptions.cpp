#include "core/report/assumptions.h"

#include "core/base/format.h"

#include <algorithm>

namespace rapporto {
namespace {

const Decision* decisionOn(const Question& question, const std::string& check) {
    for (const Decision& d : question.decisions) {
        if (d.check == check) {
            return &d;
        }
    }
    return nullptr;
}

std::string titleOf(const Question& q) { return q.title.empty() ? q.id : q.title; }

/// The question’s own errors do not need the assumption.
bool allowedFor(const ErrorSpec& errors, const std::string& group) {
    const bool together =
        errors.kind == "clustered" || errors.kind == "autocorrelation" ||
        (errors.kind == "bootstrap" && errors.scheme.find("clusters") != std::string::npos);
    if (group == findCheck("breusch-pagan")->group) {
        return errors.kind != "classical";
    }
    return group == findCheck("intraclass")->group && together;
}

/// The first variant, in the order of the study, that does not have the doubt.
std::string answeredBy(const Study& study, const std::vector<const Answer*>& answers,
                       const std::string& id, const std::string& group) {
    for (const Question* member : study.family(id)) {
        for (const Answer* a : answers) {
            if (member->id == id || a->question.id != member->id || !a->fit) {
                continue;
            }
            for (const GroupVerdict& v : verdictsByGroup(a->checks)) {
                if (v.group == group && v.worst == Verdict::Fine) {
                    return titleOf(a->question);
                }
            }
        }
    }
    return {};
}

AssumptionRow rowFor(const Study& study, const std::vector<const Answer*>& answers, const Answer& a,
                     const GroupVerdict& verdict) {
    AssumptionRow row;
    row.question = a.question.id;
    row.title = titleOf(a.question);
    row.group = verdict.group;
    row.worst = verdict.worst;
    for (const CheckResult& c : a.checks) {
        const Check* check = findCheck(c.id);
        if (check == nullptr || check->group != verdict.group || c.verdict != verdict.worst) {
            continue;
        }
        row.checks.push_back(c.id);
        if (verdict.worst == Verdict::Fails || verdict.worst == Verdict::Weigh) {
            row.evidence += (row.evidence.empty() ? "" : "; ") + std::string(check->name) +
                            (c.headline.empty() ? "" : ": " + c.headline);
        }
    }
    if (verdict.worst == Verdict::Fine || verdict.worst == Verdict::NotApplicable) {
        row.state = verdict.worst == Verdict::Fine ? AssumptionRow::State::Fine
                                                   : AssumptionRow::State::Unasked;
        row.evidence = verdict.worst == Verdict::Fine ? joinedNames(verdict.names) : "";
        return row;
    }
    std::vector<std::string> reasons;
    bool all = true;
    for (const std::string& id : row.checks) {
        const Decision* d = decisionOn(a.question, id);
        all = all && d != nullptr;
        const std::string words = d == nullptr ? "" : d->what + ": " + d->reason;
        if (d != nullptr && std::find(reasons.begin(), reasons.end(), words) == reasons.end()) {
            reasons.push_back(words);
        }
    }
    for (const std::string& reason : reasons) {
        row.done += (row.done.empty() ? "" : "; ") + reason;
    }
    if (all) {
        row.state = AssumptionRow::State::Decided;
        return row;
    }
    if (allowedFor(a.question.errors, verdict.group)) {
        row.state = AssumptionRow::State::Answered;
        row.done += (row.done.empty() ? "" : "; ") +
                    ("errors " + a.question.errors.shown() + " allow for it");
        return row;
    }
    const std::string variant = answeredBy(study, answers, a.question.id, verdict.group);
    row.state = variant.empty() ? AssumptionRow::State::Open : AssumptionRow::State::Answered;
    if (!variant.empty()) {
        row.done += (row.done.empty() ? "" : "; ") + ("fine in ‘" + variant + "’");
    }
    return row;
}

}  // namespace

std::vector<AssumptionRow> assumptionLedger(const Study& study,
                                            const std::vector<const Answer*>& answers) {
    std::vector<AssumptionRow> out;
    for (const Question& q : study.questions) {
        for (const Answer* a : answers) {
            if (a == nullptr || a->question.id != q.id || !a->fit) {
                continue;
            }
            for (const GroupVerdict& verdict : verdictsByGroup(a->checks)) {
                out.push_back(rowFor(study, answers, *a, verdict));
            }
        }
    }
    return out;
}

std::size_t openDoubts(const std::vector<AssumptionRow>& rows) {
    return static_cast<std::size_t>(std::count_if(rows.begin(), rows.end(), [](const auto& row) {
        return row.state == AssumptionRow::State::Open;
    }));
}

Question withDecision(Question question, const std::vector<std::string>& checks,
                      const std::string& what, const std::string& reason) {
    std::erase_if(question.decisions, [&](const Decision& d) {
        return std::find(checks.begin(), checks.end(), d.check) != checks.end();
    });
    if (!reason.empty()) {
        for (const std::string& id : checks) {
            question.decisions.push_back({id, what, reason});
        }
    }
    return question;
}

}  // namespace rapporto
