#pragma once

#include "core/model/fit.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "tests/core/fixtures.h"

#include <map>

namespace rapporto::test {

/// Columns of made-up rows by name.
using Columns = std::vector<std::pair<std::string, std::vector<double>>>;

/// `units` units at `moments` moments: quantities x and z, groups g, counts f that serve as
/// weights, an outcome of every kind that depends on them, an endogenous m with its instruments.
inline Columns relationColumns(int units, int moments, std::uint64_t seed) {
    RandomStream random(seed, 0);
    const auto normal = [&] { return normalQuantile(random.uniform() + 0x1.0p-54); };
    std::map<std::string, std::vector<double>> all;
    for (int u = 0; u < units; ++u) {
        const double own = 0.5 * normal();
        const int change = u % 4 == 0 ? 1000 : moments / 2 + u % 2;
        double before = normal();
        for (int t = 0; t < moments; ++t) {
            const double x = normal() + 0.3 * own;
            const double z = normal();
            const double i1 = normal();
            const double i2 = normal();
            const double hidden = normal();
            const double e = normal();
            const double m = 0.8 * i1 + 0.5 * i2 + 0.6 * hidden + 0.6 * normal();
            const double on = t >= change ? 1.0 : 0.0;
            const double index = 0.5 + 0.6 * x - 0.4 * z;
            const double y = 1.0 + index + own + 0.8 * e;
            before = 0.4 * before + 0.5 * x + own + normal();
            const auto put = [&](const char* name, double value) { all[name].push_back(value); };
            put("u", u);
            put("t", t);
            put("x", x);
            put("z", z);
            put("i1", i1);
            put("i2", i2);
            put("m", m);
            put("d", on);
            put("g", static_cast<double>(random.below(3)) + 1.0);
            put("c", u / 2);
            put("f", static_cast<double>(random.below(3)) + 1.0);
            put("w", 0.5 + random.uniform());
            put("y", y);
            put("ye", 1.0 + 0.7 * m + 0.3 * x + 0.5 * hidden + 0.5 * e);
            put("yl", before);
            put("yd", y + 0.7 * on);
            put("k", std::floor(std::exp(0.3 * index + 0.3 * e) + random.uniform()));
            // A third of the rows can have none.
            put("kz", random.below(3) == 0
                          ? 0.0
                          : std::floor(std::exp(0.8 + 0.3 * index + 0.2 * e) + random.uniform()));
            put("b", index + e > 0.4 ? 1.0 : 0.0);
            put("bm", 0.8 * m + 0.3 * x + 0.5 * hidden + 0.7 * e > 0.0 ? 1.0 : 0.0);
            put("o", index + e > 1.4 ? 2.0 : index + e > 0.2 ? 1.0 : 0.0);
            put("share", 1.0 / (1.0 + std::exp(-index - e)));
            put("lo", std::floor(y));
            put("hi", std::floor(y) + 1.0 + (u + t) % 2);
            put("cut", std::max(y, 0.5));
            put("seen", z + 0.5 * x + 0.7 * e + normal() > -0.6 ? y : std::nan(""));
        }
    }
    return {all.begin(), all.end()};
}

/// A question that a method can answer on these columns, with every check.
inline Question relationQuestion(const std::string& method) {
    static const std::map<std::string, std::string> kOutcomes = {{"poisson", "k"},
                                                                 {"negative-binomial", "k"},
                                                                 {"zero-inflated", "kz"},
                                                                 {"hurdle", "kz"},
                                                                 {"truncated", "k"},
                                                                 {"logit", "b"},
                                                                 {"probit", "b"},
                                                                 {"cloglog", "b"},
                                                                 {"conditional-logit", "b"},
                                                                 {"fractional-logit", "share"},
                                                                 {"ordered-logit", "o"},
                                                                 {"ordered-probit", "o"},
                                                                 {"multinomial-logit", "o"},
                                                                 {"tobit", "cut"},
                                                                 {"interval", "lo"},
                                                                 {"heckman", "seen"},
                                                                 {"heckman-two-step", "seen"},
                                                                 {"poisson-control", "k"},
                                                                 {"probit-instruments", "bm"},
                                                                 {"event-study", "yd"},
                                                                 {"difference-gmm", "yl"},
                                                                 {"system-gmm", "yl"},
                                                                 {"two-stage", "ye"},
                                                                 {"liml", "ye"},
                                                                 {"fuller", "ye"},
                                                                 {"gmm", "ye"}};
    const auto outcome = kOutcomes.find(method);
    Question q = explain(outcome == kOutcomes.end() ? "y" : outcome->second, {"x", "z"});
    q.method = method;
    const bool dynamic = method == "difference-gmm" || method == "system-gmm";
    const Estimator* estimator = findEstimator(method);
    if ((estimator->takes & takes::kInstruments) != 0 && !dynamic && method != "least-squares") {
        q.endogenous = {Term::expression("m")};
        q.instruments = {Term::expression("i1"), Term::expression("i2")};
        q.terms = {Term::expression("x")};
    }
    if (dynamic) {
        q.terms = {Term::expression("lag(yl)"), Term::expression("x")};
    }
    if (method == "bent-line") {
        q.settings.variable = "x";
        q.settings.bends = 1;
    }
    if (method == "interval") {
        q.settings.variable = "hi";
    }
    if (method == "tobit") {
        q.settings.low = 0.5;
    }
    if (hasTrait(method, trait::kUnseen)) {
        q.terms = {Term::expression("x")};
        q.settings.zeroTerms = {"x", "z"};
    }
    if (method == "event-study") {
        q.settings.variable = "d";
        q.settings.before = 2;
        q.settings.after = 2;
        q.terms = {Term::expression("x")};
    }
    if (method == "multilevel") {
        q.settings.levels = {{"u"}};
    }
    if (method == "truncated") {
        q.outcome = "k + 1";
    }
    if (method == "conditional-logit") {
        q.fixedEffects = {"u"};
    }
    return q;
}

/// True of methods whose outcome is a measured quantity with a unit.
inline bool isMeasured(const std::string& method) {
    static const std::vector<std::string> kNot = {"poisson",
                                                  "negative-binomial",
                                                  "zero-inflated",
                                                  "hurdle",
                                                  "truncated",
                                                  "logit",
                                                  "probit",
                                                  "cloglog",
                                                  "conditional-logit",
                                                  "fractional-logit",
                                                  "ordered-logit",
                                                  "ordered-probit",
                                                  "multinomial-logit",
                                                  "poisson-control",
                                                  "probit-instruments"};
    return std::find(kNot.begin(), kNot.end(), method) == kNot.end();
}

inline Layout relationLayout() {
    Layout layout;
    layout.kind = Layout::Kind::Panel;
    layout.unit = "u";
    layout.time = "t";
    return layout;
}

inline std::vector<VariableEntry> relationEntries() {
    std::vector<VariableEntry> out(2);
    out[0].name = "g";
    out[0].measure = Measure::Groups;
    out[1].name = "u";
    out[1].measure = Measure::Groups;
    return out;
}

}  // namespace rapporto::test
