#pragma once

#include "core/model/fit.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "core/report/wording.h"
#include "core/study/answer.h"

#include <cmath>
#include <string>
#include <vector>

namespace rapporto::fuzz {

/// A small table and a question about it, both from one number: ties, gaps, constants, copies,
/// far places and units, few rows; every method, kind of errors, weight and request, fit or not.
class QuestionMaker {
  public:
    explicit QuestionMaker(std::uint64_t seed) : random_(seed, 7) {}

    struct Made {
        Table table;
        std::vector<VariableEntry> entries;
        Layout layout;
        Survey survey;
        Question question;
        double alpha = 0.05;
    };

    Made make() {
        Made out;
        rows_ = chance(0.15) ? 2 + below(6) : 8 + below(70);
        const std::size_t moments = 1 + below(6);
        for (const char* name : {"y", "x", "z", "m", "i1", "i2"}) {
            add(out, name, quantity());
        }
        add(out, "k",
            each([&](std::size_t) { return std::floor(std::exp(0.7 * normal() + 0.4)); }));
        add(out, "b", each([&](std::size_t i) {
                return out.table.columns[1].numbers()[i] + normal() > 0.0 ? 1.0 : 0.0;
            }));
        add(out, "g", each([&](std::size_t) { return static_cast<double>(below(groups())); }));
        add(out, "h", each([&](std::size_t i) { return out.table.columns[0].numbers()[i] + 1.0; }));
        add(out, "u", each([&](std::size_t i) { return static_cast<double>(i / moments); }));
        add(out, "t", each([&](std::size_t i) { return static_cast<double>(i % moments); }));
        add(out, "c", each([&](std::size_t i) { return static_cast<double>(i / (2 * moments)); }));
        add(out, "w",
            each([&](std::size_t) { return chance(0.05) ? 0.0 : random_.uniform() + 0.1; }));
        add(out, "f", each([&](std::size_t) { return static_cast<double>(below(4)); }));
        add(out, "d",
            each([&](std::size_t i) { return i % moments >= 2 + (i / moments) % 3 ? 1.0 : 0.0; }));
        VariableEntry groupsEntry;
        groupsEntry.name = "g";
        groupsEntry.measure = Measure::Groups;
        out.entries = {groupsEntry};
        if (chance(0.6)) {
            out.layout.kind = chance(0.75) ? Layout::Kind::Panel : Layout::Kind::Series;
            out.layout.unit = out.layout.kind == Layout::Kind::Panel ? "u" : "";
            out.layout.time = "t";
        }
        if (chance(0.3)) {
            out.survey.weight = chance(0.7) ? "w" : "";
            out.survey.cluster = chance(0.7) ? "c" : "";
            out.survey.strata = chance(0.5) ? "g" : "";
        }
        out.alpha = chance(0.8) ? 0.05 : 0.01 + 0.4 * random_.uniform();
        ask(out.question);
        return out;
    }

  private:
    [[nodiscard]] double normal() { return normalQuantile(random_.uniform() + 0x1.0p-54); }

    [[nodiscard]] std::size_t below(std::size_t n) { return random_.below(n); }

    [[nodiscard]] bool chance(double p) { return random_.uniform() < p; }

    [[nodiscard]] std::size_t groups() { return 1 + below(4); }

    template <class Make>
    std::vector<double> each(const Make& make) {
        std::vector<double> out;
        for (std::size_t i = 0; i < rows_; ++i) {
            out.push_back(make(i));
        }
        return out;
    }

    std::vector<double> quantity() {
        const std::size_t kind = below(12);
        std::vector<double> out = each([&](std::size_t i) {
            return kind == 0   ? 3.0
                   : kind == 1 ? std::floor(2.0 * normal())
                   : kind == 2 ? static_cast<double>(i)
                               : normal();
        });
        if (kind == 3 && !made_.empty()) {
            out = made_[below(made_.size())];
        }
        if (kind == 4 && !made_.empty()) {
            for (std::size_t i = 0; i < rows_; ++i) {
                out[i] = 2.0 * made_.front()[i] + 1.0;
            }
        }
        const double unit = chance(0.1) ? std::ldexp(1.0, chance(0.5) ? 40 : -40) : 1.0;
        const double place = chance(0.1) ? 1e6 : 0.0;
        const double gaps = chance(0.25) ? 0.15 : 0.0;
        for (double& x : out) {
            x = chance(gaps) ? std::nan("") : x * unit + place;
        }
        made_.push_back(out);
        return out;
    }

    static void add(Made& out, const std::string& name, const std::vector<double>& cells) {
        out.table.columns.push_back(Column::ofNumbers(name, cells));
        Variable variable;
        variable.name = name;
        out.table.variables.push_back(variable);
    }

    template <class T>
    const T& one(const std::vector<T>& of) {
        return of[below(of.size())];
    }

    Term term() {
        static const std::vector<std::string> kTexts = {
            "x",           "z",         "m",      "g",      "k", "t", "x * x",
            "power(z, 2)", "ln(k + 1)", "lag(y)", "lag(x)", "d", "b"};
        if (chance(0.1)) {
            return {Term::Kind::Product, {one(kTexts), one(kTexts)}, false};
        }
        return Term::expression(one(kTexts));
    }

    void ask(Question& q) {
        q.id = "q";
        q.method = one(allEstimators()).method;
        const bool instruments = (findEstimator(q.method)->takes & takes::kInstruments) != 0;
        q.outcome = one(std::vector<std::string>{"y", "y", "y", "k", "b", "g", "d", "ln(k + 1)"});
        for (std::size_t i = below(4); i > 0; --i) {
            q.terms.push_back(term());
        }
        q.intercept = chance(0.9);
        if (chance(instruments ? 0.8 : 0.03)) {
            q.endogenous = {Term::expression("m")};
            q.instruments = {Term::expression("i1")};
            if (chance(0.6)) {
                q.instruments.push_back(Term::expression("i2"));
            }
        }
        if (chance(0.2)) {
            q.fixedEffects = {one(std::vector<std::string>{"u", "t", "g", "c"})};
            if (chance(0.3)) {
                q.fixedEffects.push_back("t");
            }
        }
        if (chance(0.05)) {
            q.ownSlopes = {"t"};
        }
        weigh(q);
        settings(q);
        errors(q);
        q.allChecks = chance(0.7);
        requests(q);
        if (chance(0.1)) {
            q.where = one(std::vector<std::string>{"x > 0", "z is not null", "g = 1", "x > 100"});
        }
    }

    void weigh(Question& q) {
        if (chance(0.3)) {
            const std::size_t kind = below(3);
            q.weightKind = kind == 0   ? WeightKind::Sampling
                           : kind == 1 ? WeightKind::Frequency
                                       : WeightKind::Precision;
            q.weight = q.weightKind == WeightKind::Frequency ? "f" : "w";
        }
        if (chance(0.1)) {
            q.exposure = chance(0.5) ? "k + 1" : "x";
        }
        if (chance(0.05)) {
            q.offset = "z";
        }
    }

    void settings(Question& q) {
        EstimatorSettings& s = q.settings;
        s.variable = q.method == "bent-line" ? "x" : q.method == "interval" ? "h" : "d";
        s.bends = 1 + static_cast<int>(below(2));
        s.steps = q.method == "gmm" && chance(0.5) ? "iterated" : "two";
        s.collapsed = chance(0.5);
        s.before = 1 + static_cast<int>(below(3));
        s.after = static_cast<int>(below(3));
        s.weighting = one(std::vector<std::string>{"pooled", "cohorts", "group-time"});
        s.form = 1 + static_cast<int>(below(2));
        s.count = chance(0.5) ? "poisson" : "negative-binomial";
        s.penalised = q.method == "logit" && chance(0.4);
        if (q.method == "tobit") {
            s.low = chance(0.7) ? std::optional(-0.5) : std::nullopt;
            s.high = chance(0.4) ? std::optional(1.5) : std::nullopt;
        }
        if (chance(0.5)) {
            s.zeroTerms = {"x"};
        }
        if (q.method == "quantile" && chance(0.7)) {
            s.at = {one(std::vector<double>{0.1, 0.5, 0.75, 0.99}), 0.5};
            if (chance(0.5)) {
                s.at.pop_back();
            }
        }
    }

    void errors(Question& q) {
        const std::size_t kind = below(10);
        if (kind < 3) {
            return;
        }
        if (kind < 5) {
            q.errors = {
                "robust", one(std::vector<std::string>{"HC0", "HC1", "HC2", "HC3", "HC4"}), {}};
        } else if (kind < 7) {
            q.errors = {"clustered", "HC1", {"c"}};
            if (chance(0.3)) {
                q.errors.by.emplace_back("g");
            }
        } else if (kind == 7) {
            q.errors.kind = "survey";
        } else if (kind == 8) {
            q.errors.kind = chance(0.5) ? "autocorrelation" : "panel-autocorrelation";
            q.errors.lags = chance(0.5) ? std::optional(1) : std::nullopt;
        } else {
            q.errors.kind = "bootstrap";
            q.errors.draws = 25;
            q.errors.scheme =
                one(std::vector<std::string>{"rows", "clusters", "wild", "wild-clusters"});
            q.errors.interval =
                one(std::vector<std::string>{"percentile", "bias-corrected", "bca"});
            if (q.errors.scheme.find("clusters") != std::string::npos) {
                q.errors.by = {"c"};
            }
        }
    }

    void requests(Question& q) {
        if (chance(0.4)) {
            EffectRequest effect;
            effect.of = one(std::vector<std::string>{"x", "z", "g", "k"});
            effect.as = chance(0.5) ? EffectRequest::As::Average : EffectRequest::As::AtMeans;
            effect.elasticity = chance(0.2);
            effect.over = chance(0.2) ? "g" : "";
            q.effects.push_back(effect);
        }
        if (chance(0.4)) {
            q.predict.push_back({{{"x", Key(0.5)}}, ""});
            q.predict.push_back({{}, ""});
        }
        if (chance(0.4)) {
            q.hypotheses = {one(std::vector<std::string>{"x = 0", "x = z", "x > 0", "g = 0",
                                                         "constant = 0", "2 * x + z = 1"})};
        }
    }

    RandomStream random_;
    std::size_t rows_ = 0;
    std::vector<std::vector<double>> made_;
};

/// What an answer must not be, or nothing.
inline std::string broken(const Answer& a) {
    if (!a.faults.empty()) {
        return a.faults.front();
    }
    if (a.refusal) {
        return a.fit                     ? "refused and answered"
               : a.refusal->what.empty() ? "refused without a word"
                                         : "";
    }
    const auto share = [](const std::optional<double>& p) {
        return !p || (*p >= 0.0 && *p <= 1.0);
    };
    for (const Coefficient& c : a.fit->coefficients) {
        if (!std::isfinite(c.estimate) || std::isinf(c.se) || c.se < 0.0) {
            return "the estimate of " + c.term + " is no number";
        }
        if (!share(c.p)) {
            return "the p of " + c.term + " is no chance";
        }
        if (c.low > c.high || (c.low == c.high && c.se > 0.0 && !a.fit->resampling)) {
            return "the interval of " + c.term + " is none";
        }
    }
    for (const CheckResult& c : a.checks) {
        if (c.verdict == Verdict::NotApplicable ? c.p.has_value() : !share(c.p)) {
            return "the p of " + c.id;
        }
        if (c.statistic && !std::isfinite(*c.statistic) && c.verdict != Verdict::NotApplicable) {
            return "the statistic of " + c.id + " is no number";
        }
        if (c.reading.empty()) {
            return c.id + " says nothing";
        }
    }
    for (const auto& h : a.hypotheses) {
        if (h && !share(h->p)) {
            return "the p of the statement " + h->text;
        }
    }
    if (a.fit->statistics.f && !share(a.fit->statistics.f->p)) {
        return "the p of all terms together";
    }
    if (a.fit->statistics.rSquared && *a.fit->statistics.rSquared > 1.0 + 1e-9) {
        return "R² is above one";
    }
    if (a.rows.inSample != a.rows.used + a.rows.missing + a.rows.dropped) {
        return "the rows do not add up";
    }
    return answerReading(a).empty() ? "no reading" : "";
}

}  // namespace rapporto::fuzz
