#include "core/base/format.h"
#include "core/checks/check.h"
#include "core/describe/correlation.h"

#include <boost/math/distributions/non_central_chi_squared.hpp>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

namespace law = boost::math;

using Results = std::vector<const CheckResult*>;

/// The statistic as a chi-square of df[0], where it is one or an F of many rows.
std::optional<double> asChiSquare(const CheckResult& r) {
    const bool fits = (r.distribution == "chi2" || r.distribution == "F") && !r.df.empty() &&
                      !findCheck(r.id)->has(traits::kRatio);
    if (!fits || !r.statistic) {
        return std::nullopt;
    }
    return r.distribution == "F" ? *r.statistic * r.df[0] : *r.statistic;
}

/// How often `silent` would see, in its own number of directions, a departure as large as the one
/// that `loud` finds; absent where that is not known.
std::optional<double> powerOf(const CheckResult& silent, const CheckResult& loud, double alpha) {
    const auto found = asChiSquare(loud);
    if (!found || !asChiSquare(silent) || silent.df[0] <= loud.df[0]) {
        return std::nullopt;
    }
    const double away = *found - loud.df[0];
    if (away <= 0.0) {
        return std::nullopt;
    }
    const double bound =
        law::quantile(law::complement(law::chi_squared_distribution<double>(silent.df[0]), alpha));
    const law::non_central_chi_squared_distribution<double> under(silent.df[0], away);
    return law::cdf(law::complement(under, bound));
}

std::string nameOf(const CheckResult& r) { return findCheck(r.id)->name; }

std::string looksAt(const CheckResult& r) { return findCheck(r.id)->looksAt; }

bool speaks(const CheckResult& r) { return findCheck(r.id)->has(traits::kSpeaks); }

/// Its tests share a null: one of all checks speaks for them.
bool isShared(const std::string& group) {
    const auto& all = allChecks();
    return std::any_of(all.begin(), all.end(), [&](const Check& one) {
        return one.has(traits::kSpeaks) && group == one.group;
    });
}

/// Which doubts of a shared null stand: the speaker’s own, the others’ after Holm.
std::vector<bool> standing(const Results& tests, double alpha) {
    std::vector<double> p;
    for (const CheckResult* r : tests) {
        p.push_back(r->p.value_or(0.0));
    }
    const std::vector<double> adjusted = holm(p);
    std::vector<bool> out(tests.size(), true);
    for (std::size_t k = 0; k < tests.size(); ++k) {
        out[k] = speaks(*tests[k]) || !tests[k]->p || adjusted[k] < alpha;
    }
    return out;
}

int rank(Verdict verdict) {
    return verdict == Verdict::NotApplicable ? -1 : static_cast<int>(verdict);
}

/// The headline of one check behind its name.
std::string lineOf(const CheckResult& r) {
    return r.headline.empty() ? nameOf(r) : nameOf(r) + " " + r.headline;
}

/// Which of the tests of a shared null to believe.
std::string whomToBelieve(const Results& tests, const Results& decisive, double alpha,
                          std::vector<std::pair<std::string, double>>& silent) {
    const CheckResult& loud = *decisive.front();
    std::string out = fmt::format("**{}** speaks for this question: {}.", nameOf(loud),
                                  loud.headline.empty() ? "see its reading" : loud.headline);
    if (!looksAt(loud).empty()) {
        out += fmt::format(" It looks at {}.", looksAt(loud));
    }
    for (const CheckResult* r : tests) {
        if (r->verdict != Verdict::Fine) {
            continue;
        }
        const auto power = r->p && *r->p >= alpha ? powerOf(*r, loud, alpha) : std::nullopt;
        if (power) {
            silent.emplace_back(r->id, *power);
            out += fmt::format(
                " {} sees nothing, in {} directions instead of {}: a departure as large as that "
                "one it would see in {} samples of 100, so its silence {}.",
                nameOf(*r), shortNumber(r->df[0], 3), shortNumber(loud.df[0], 3),
                std::lround(100.0 * *power), *power < 0.8 ? "says little" : "is worth a look");
        } else if (!looksAt(*r).empty()) {
            out += fmt::format(" {} sees nothing; it looks at {}.", nameOf(*r), looksAt(*r));
        }
    }
    return out;
}

void speakOfSharedNull(GroupVerdict& own, const Results& tests, double alpha) {
    const std::vector<bool> stands = standing(tests, alpha);
    Results decisive;
    std::size_t fallen = 0;
    for (std::size_t k = 0; k < tests.size(); ++k) {
        const Verdict verdict = stands[k] ? tests[k]->verdict : Verdict::Fine;
        fallen += stands[k] || rank(tests[k]->verdict) <= 0 ? 0 : 1;
        if (rank(verdict) > rank(own.worst)) {
            own.worst = verdict;
            decisive.clear();
        }
        if (verdict == own.worst && stands[k]) {
            decisive.push_back(tests[k]);
        }
    }
    std::stable_sort(decisive.begin(), decisive.end(),
                     [](const auto* a, const auto* b) { return speaks(*a) && !speaks(*b); });
    if (own.worst == Verdict::Fine && fallen > 0) {
        // Said, since a mark under the question tells it; weighed, since chance gives as much.
        own.worst = Verdict::Noted;
        const std::string level = fixedNumber(alpha, alpha < 0.01 ? 3 : 2, true);
        own.line = fmt::format("{} of {} below {}, as chance gives", fallen, tests.size(), level);
        own.reading = fmt::format(
            "{} of {} tests of one null {} below {}, and by Holm’s correction for their number "
            "none does: so many looks at nothing give as much.",
            fallen, tests.size(), fallen == 1 ? "lies" : "lie", level);
        for (std::size_t k = 0; k < tests.size(); ++k) {
            if (!stands[k] && rank(tests[k]->verdict) > 0) {
                own.ids.push_back(tests[k]->id);
                own.names.push_back(nameOf(*tests[k]));
            }
        }
        return;
    }
    for (const CheckResult* r : decisive) {
        own.ids.push_back(r->id);
        own.names.push_back(nameOf(*r));
    }
    if (own.worst != Verdict::Fine) {
        own.reading = whomToBelieve(tests, decisive, alpha, own.power);
    }
}

GroupVerdict verdictOf(const std::string& group, const Results& tests, double alpha) {
    GroupVerdict own;
    own.group = group;
    Results applicable;
    std::size_t there = 0;
    for (const CheckResult* r : tests) {
        own.awaited = own.awaited || r->awaited;
        there += r->awaited ? 0 : 1;
        if (r->verdict != Verdict::NotApplicable) {
            applicable.push_back(r);
        }
    }
    const bool shared = isShared(group);
    if (applicable.empty()) {
        for (const CheckResult* r : tests) {
            own.ids.push_back(r->id);
            own.names.push_back(nameOf(*r));
        }
    } else if (shared) {
        speakOfSharedNull(own, applicable, alpha);
    } else {
        for (const CheckResult* r : applicable) {
            own.worst = rank(r->verdict) > rank(own.worst) ? r->verdict : own.worst;
        }
        for (const CheckResult* r : applicable) {
            if (r->verdict == own.worst) {
                own.ids.push_back(r->id);
                own.names.push_back(nameOf(*r));
                own.reading += own.worst == Verdict::Fine
                                   ? std::string()
                                   : fmt::format("{}**{}**: {}.", own.reading.empty() ? "" : " ",
                                                 nameOf(*r), r->headline);
            }
        }
    }
    if (own.ids.size() < 2 && !shared) {
        own.reading.clear();  // The check says it itself.
    }
    if (own.awaited) {
        own.line = fmt::format("{} of {}", there, tests.size());
    } else if (applicable.empty()) {
        own.line = "does not apply";
    } else if (own.worst == Verdict::Fine) {
        own.line = applicable.size() == 1 ? applicable.front()->headline
                                          : fmt::format("nothing in {} looks", applicable.size());
        own.reading = applicable.size() == 1
                          ? std::string()
                          : fmt::format("{} see nothing against it.", joinedNames(own.names));
    } else if (own.line.empty()) {
        for (const CheckResult* r : applicable) {
            own.line = r->id == own.ids.front() ? lineOf(*r) : own.line;
        }
        if (own.ids.size() > 1) {
            own.line += fmt::format(", and {} more", own.ids.size() - 1);
        }
    }
    return own;
}

}  // namespace

std::vector<GroupVerdict> verdictsByGroup(const std::vector<const CheckResult*>& checks,
                                          double alpha) {
    std::vector<std::pair<std::string, Results>> groups;
    for (const CheckResult* result : checks) {
        const Check* check = findCheck(result->id);
        if (check == nullptr) {
            continue;
        }
        auto at = std::find_if(groups.begin(), groups.end(),
                               [&](const auto& one) { return one.first == check->group; });
        if (at == groups.end()) {
            at = groups.insert(groups.end(), {check->group, {}});
        }
        at->second.push_back(result);
    }
    std::vector<GroupVerdict> out;
    for (const auto& [group, tests] : groups) {
        out.push_back(verdictOf(group, tests, alpha));
    }
    return out;
}

std::vector<GroupVerdict> verdictsByGroup(const std::vector<CheckResult>& checks, double alpha) {
    Results all;
    for (const CheckResult& result : checks) {
        all.push_back(&result);
    }
    return verdictsByGroup(all, alpha);
}

}  // namespace rapporto
