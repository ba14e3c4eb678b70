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

/// What the first variant, in the order of the study, that does not have the doubt says of it.
std::string answeredBy(const Study& study, const std::vector<const Answer*>& answers,
                       const std::string& id, const std::string& group) {
    for (const Question* member : study.family(id)) {
        for (const Answer* a : answers) {
            if (member->id == id || a->question.id != member->id || !a->fit) {
                continue;
            }
            for (const GroupVerdict& v : verdictsByGroup(a->checks, a->alpha)) {
                if (v.group == group && !isDoubt(v.worst) && v.worst != Verdict::NotApplicable) {
                    return (v.worst == Verdict::AllowedFor ? "errors allow for it in ‘"
                                                           : "fine in ‘") +
                           titleOf(a->question) + "’";
                }
            }
        }
    }
    return {};
}

/// Every check that gives the group its verdict has a decision.
bool areDecided(const Question& question, const std::vector<std::string>& checks) {
    return std::all_of(checks.begin(), checks.end(),
                       [&](const std::string& id) { return isDecided(question, id); });
}

AssumptionRow rowFor(const Study& study, const std::vector<const Answer*>& answers, const Answer& a,
                     const GroupVerdict& verdict) {
    AssumptionRow row;
    row.question = a.question.id;
    row.title = titleOf(a.question);
    row.group = verdict.group;
    row.worst = verdict.worst;
    row.awaited = verdict.awaited;
    row.checks = verdict.ids;
    if (verdict.worst == Verdict::Fine || verdict.worst == Verdict::NotApplicable) {
        row.state = verdict.worst == Verdict::Fine ? AssumptionRow::State::Fine
                                                   : AssumptionRow::State::Unasked;
        row.evidence = verdict.worst == Verdict::Fine ? joinedNames(verdict.names) : "";
        return row;
    }
    for (const CheckResult& c : a.checks) {
        if (std::find(verdict.ids.begin(), verdict.ids.end(), c.id) != verdict.ids.end()) {
            row.evidence += (row.evidence.empty() ? "" : "; ") +
                            std::string(findCheck(c.id)->name) +
                            (c.headline.empty() ? "" : ": " + c.headline);
        }
    }
    std::vector<std::string> reasons;
    for (const std::string& id : row.checks) {
        const Decision* d = decisionOn(a.question, id);
        const std::string words = d == nullptr ? "" : d->what + ": " + d->reason;
        if (d != nullptr && std::find(reasons.begin(), reasons.end(), words) == reasons.end()) {
            reasons.push_back(words);
        }
    }
    for (const std::string& reason : reasons) {
        row.done += (row.done.empty() ? "" : "; ") + reason;
    }
    const auto say = [&](AssumptionRow::State state, const std::string& what) {
        row.state = state;
        row.done += what.empty() ? "" : (row.done.empty() ? "" : "; ") + what;
    };
    if (areDecided(a.question, row.checks)) {
        row.state = AssumptionRow::State::Decided;
    } else if (verdict.worst == Verdict::AllowedFor) {
        say(AssumptionRow::State::Answered,
            "errors " + a.question.errors.shown() + " allow for it");
    } else if (verdict.worst == Verdict::Noted) {
        say(AssumptionRow::State::Noted, "what is asked hardly depends on it");
    } else {
        const std::string variant = answeredBy(study, answers, a.question.id, verdict.group);
        variant.empty() ? say(AssumptionRow::State::Open, "")
                        : say(AssumptionRow::State::Answered, variant);
    }
    return row;
}

}  // namespace

bool isDecided(const Question& question, const std::string& check) {
    return decisionOn(question, check) != nullptr;
}

std::vector<AssumptionRow> assumptionLedger(const Study& study,
                                            const std::vector<const Answer*>& answers) {
    std::vector<AssumptionRow> out;
    for (const Question& q : study.questions) {
        for (const Answer* a : answers) {
            if (a == nullptr || a->question.id != q.id || !a->fit) {
                continue;
            }
            for (const GroupVerdict& verdict : verdictsByGroup(a->checks, a->alpha)) {
                out.push_back(rowFor(study, answers, *a, verdict));
            }
        }
    }
    return out;
}

std::vector<GroupVerdict> openDoubts(const Answer& answer) {
    std::vector<GroupVerdict> out = verdictsByGroup(answer.checks, answer.alpha);
    std::erase_if(out, [&](const GroupVerdict& one) {
        return !isDoubt(one.worst) || one.awaited || areDecided(answer.question, one.ids);
    });
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
