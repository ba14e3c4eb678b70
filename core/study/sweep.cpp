#include "core/study/sweep.h"

#include "core/base/parallel.h"
#include "core/model/instruments.h"

#include <algorithm>
#include <atomic>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;

constexpr std::size_t kMostSpecifications = 20000;

/// Limits a question to the rows of a sample, on top of its own rule.
void narrow(Question& question, const SweepSample& sample) {
    question.where = question.where.empty() || sample.where.empty()
                         ? question.where + sample.where
                         : "(" + question.where + ") and (" + sample.where + ")";
    question.without.insert(question.without.end(), sample.without.begin(), sample.without.end());
}

/// Columns of each term of a question in a design: sets of terms hold several.
std::vector<std::vector<Index>> columnsByTerm(const Design& design, const Question& question,
                                              const std::vector<TermSet>& sets) {
    std::vector<std::vector<Index>> out(question.terms.size());
    // Those that instruments may move come first in a design.
    std::size_t at = static_cast<std::size_t>(
        std::count_if(design.terms.begin(), design.terms.end(),
                      [](const DesignTerm& term) { return term.endogenous; }));
    for (std::size_t t = 0; t < question.terms.size(); ++t) {
        const Term& term = question.terms[t];
        if (term.muted) {
            continue;
        }
        std::size_t members = 1;
        if (term.kind == Term::Kind::Set) {
            for (const TermSet& set : sets) {
                members = set.name == term.parts.front() ? set.members.size() : members;
            }
        }
        for (std::size_t m = 0; m < members && at < design.terms.size(); ++m, ++at) {
            out[t].insert(out[t].end(), design.terms[at].columns.begin(),
                          design.terms[at].columns.end());
        }
    }
    return out;
}

/// The design with some of its columns; terms keep their places.
Design withColumnsOnly(const Design& design, const std::vector<Index>& columns) {
    Design out = sameRows(design);
    out.X = design.X(Eigen::all, columns);
    out.y = design.y;
    out.outcome = design.outcome;
    out.swept = design.swept;
    out.before = design.before;
    out.seasonLags = design.seasonLags;
    out.terms.resize(design.terms.size());
    for (const Index c : columns) {
        out.columns.push_back(design.columns[static_cast<std::size_t>(c)]);
    }
    return out;
}

class Sweeper {
  public:
    Sweeper(const Study& study, const Frame& frame, const SweepSpec& spec)
        : study_(study), frame_(frame), spec_(spec) {}

    Result<Sweep> run(const Job& job) {
        const std::size_t masks = std::size_t{1} << spec_.vary.size();
        const std::size_t all = masks * spec_.errors.size() * spec_.samples.size();
        if (spec_.vary.size() > 16 || all > kMostSpecifications) {
            return refuse(
                ErrorCode::BadSetting, "there are " + std::to_string(all) + " specifications",
                "sweep", "Let fewer terms come and go, or fewer errors and samples: up to 20,000.");
        }
        if (!canSweep(spec_.question)) {
            return refuse(
                ErrorCode::NotBuilt,
                "a sweep is by least squares on the rows as they are, and this question is not",
                "sweep", "Ask it by least squares, or set variants side by side.");
        }
        if (all == 0) {
            return refuse(ErrorCode::BadSetting, "there is no error kind or no sample to try",
                          "sweep");
        }
        if (auto done = makeDesigns(job); !done) {
            return tl::make_unexpected(done.error());
        }
        std::vector<std::optional<SweepResult>> found(all);
        std::atomic<std::size_t> done{0};
        inParallel(all, [&](std::size_t i) {
            if (!job.stopped()) {
                const std::size_t design = i / masks;
                found[i] = one(static_cast<std::uint32_t>(i % masks), design, job);
                job.report(static_cast<double>(++done) / static_cast<double>(all));
            }
        });
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the sweep was stopped");
        }
        Sweep out;
        out.spec = spec_;
        for (const auto& result : found) {
            result ? out.results.push_back(*result) : static_cast<void>(++out.failed);
        }
        if (out.results.empty()) {
            return refuse(ErrorCode::BadSetting, "no specification has an answer", "sweep");
        }
        summarise(out);
        return out;
    }

  private:
    Result<void> makeDesigns(const Job& job) {
        for (const SweepSample& sample : spec_.samples) {
            for (const ErrorSpec& errors : spec_.errors) {
                Question q = spec_.question;
                q.errors = errors;
                narrow(q, sample);
                auto design = makeDesign(frame_, q, study_.sets, job);
                if (!design) {
                    return tl::make_unexpected(design.error());
                }
                designs_.push_back(*std::move(design));
            }
        }
        columns_ = columnsByTerm(designs_.front(), spec_.question, study_.sets);
        bool there = false;
        for (const std::size_t t : spec_.vary) {
            for (const Index c : columns_[t]) {
                if (designs_.front().columns[static_cast<std::size_t>(c)].name == spec_.of) {
                    return refuse(ErrorCode::BadSetting,
                                  "‘" + spec_.of + "’ cannot come and go: it is what is followed",
                                  "sweep");
                }
            }
        }
        for (const DesignColumn& column : designs_.front().columns) {
            there = there || column.name == spec_.of;
        }
        return there ? Result<void>()
                     : refuse(ErrorCode::BadSetting, "no effect is called ‘" + spec_.of + "’",
                              "sweep", "Choose one of the question’s terms.");
    }

    [[nodiscard]] std::optional<SweepResult> one(std::uint32_t mask, std::size_t design,
                                                 const Job& job) const {
        const Design& whole = designs_[design];
        std::vector<bool> in(static_cast<std::size_t>(whole.X.cols()), true);
        for (std::size_t v = 0; v < spec_.vary.size(); ++v) {
            if ((mask >> v & 1U) == 0) {
                for (const Index c : columns_[spec_.vary[v]]) {
                    in[static_cast<std::size_t>(c)] = false;
                }
            }
        }
        std::vector<Index> columns;
        for (std::size_t c = 0; c < in.size(); ++c) {
            if (in[c]) {
                columns.push_back(static_cast<Index>(c));
            }
        }
        ErrorSpec errors = spec_.errors[design % spec_.errors.size()];
        errors.seed = errors.seed ? errors.seed : std::optional(study_.seed);
        const Design part = withColumnsOnly(whole, columns);
        const auto fit = fitLeastSquares(part, errors, study_.alpha, job.quiet());
        if (!fit) {
            return std::nullopt;
        }
        for (const Coefficient& c : fit->coefficients) {
            if (c.term == spec_.of && c.p) {
                return SweepResult{mask,
                                   design % spec_.errors.size(),
                                   design / spec_.errors.size(),
                                   c.estimate,
                                   c.se,
                                   c.low,
                                   c.high,
                                   *c.p,
                                   fit->statistics.rSquared.value_or(0.0),
                                   part.rows.size()};
            }
        }
        return std::nullopt;
    }

    void summarise(Sweep& out) const {
        std::stable_sort(out.results.begin(), out.results.end(),
                         [](const auto& a, const auto& b) { return a.estimate < b.estimate; });
        const std::size_t n = out.results.size();
        out.median = n % 2 == 1
                         ? out.results[n / 2].estimate
                         : 0.5 * (out.results[n / 2 - 1].estimate + out.results[n / 2].estimate);
        const auto share = [&](const auto& test) {
            return static_cast<double>(
                       std::count_if(out.results.begin(), out.results.end(), test)) /
                   static_cast<double>(n);
        };
        out.shareClear = share([&](const SweepResult& r) { return r.p < study_.alpha; });
        out.sharePositive = share([](const SweepResult& r) { return r.estimate > 0.0; });
        using Kind = Sweep::Choice::Kind;
        for (std::size_t v = 0; v < spec_.vary.size(); ++v) {
            out.choices.push_back(
                {spec_.question.terms[spec_.vary[v]].shown(), Kind::Term, v, 0, 1});
        }
        for (std::size_t e = 0; e < spec_.errors.size() && spec_.errors.size() > 1; ++e) {
            out.choices.push_back({spec_.errors[e].shown(), Kind::Errors, e, 0, 1});
        }
        for (std::size_t s = 0; s < spec_.samples.size() && spec_.samples.size() > 1; ++s) {
            out.choices.push_back({spec_.samples[s].name, Kind::Sample, s, 0, 1});
        }
        for (Sweep::Choice& choice : out.choices) {
            double sum[2] = {0.0, 0.0};
            double errors[2] = {0.0, 0.0};
            double count[2] = {0.0, 0.0};
            for (const SweepResult& r : out.results) {
                const int made = out.made(r, choice) ? 1 : 0;
                sum[made] += r.estimate;
                errors[made] += r.se;
                count[made] += 1.0;
            }
            if (count[0] > 0.0 && count[1] > 0.0) {
                choice.moves = sum[1] / count[1] - sum[0] / count[0];
                choice.widens = errors[1] / count[1] / (errors[0] / count[0]);
            }
        }
    }

    const Study& study_;
    const Frame& frame_;
    const SweepSpec& spec_;
    std::vector<Design> designs_;  ///< By sample, then errors.
    std::vector<std::vector<Index>> columns_;
};

}  // namespace

bool Sweep::made(const SweepResult& result, const Choice& choice) const {
    switch (choice.kind) {
        case Choice::Kind::Term:
            return (result.included >> choice.index & 1U) != 0;
        case Choice::Kind::Errors:
            return result.errors == choice.index;
        case Choice::Kind::Sample:
            return result.sample == choice.index;
    }
    return false;
}

Question Sweep::variant(const SweepResult& result) const {
    Question out = spec.question;
    out.id.clear();
    out.lead = false;
    out.variantOf = spec.question.variantOf.empty() ? spec.question.id : spec.question.variantOf;
    out.errors = spec.errors[result.errors];
    const SweepSample& sample = spec.samples[result.sample];
    narrow(out, sample);
    std::string left;
    for (std::size_t v = 0; v < spec.vary.size(); ++v) {
        if ((result.included >> v & 1U) == 0) {
            out.terms[spec.vary[v]].muted = true;
            left += (left.empty() ? "without " : ", ") + spec.question.terms[spec.vary[v]].shown();
        }
    }
    out.title = (left.empty() ? "with all terms" : left) +
                (spec.samples.size() > 1 && result.sample > 0 ? ", " + sample.name : "");
    return out;
}

bool canSweep(const Question& question) {
    if (question.missing == "imputed") {
        return false;  // Its rows are those of many tables.
    }
    return hasTrait(question.method, trait::kOwnColumns);
}

std::vector<std::size_t> freeTerms(const Question& question, const Design& design, const Fit& fit,
                                   const std::string& of) {
    std::vector<std::size_t> out;
    for (std::size_t t = 0; t < question.terms.size(); ++t) {
        const Term& term = question.terms[t];
        const std::string name = term.shown();
        const bool own =
            name == of ||
            std::any_of(
                fit.coefficients.begin(), fit.coefficients.end(), [&](const Coefficient& c) {
                    return c.term == of && c.designTerm >= 0 &&
                           design.terms[static_cast<std::size_t>(c.designTerm)].name == name;
                });
        if (!term.muted && !own) {
            out.push_back(t);
        }
    }
    return out;
}

SweepSpec sweepOf(const Question& question, const Design& design, const Fit& fit,
                  const SweepChoices& choices) {
    constexpr std::size_t kMostUnasked = 8;
    constexpr double kStandsOut = 3.0;  // Standard deviations of what the whole question leaves.
    SweepSpec spec;
    spec.question = question;
    spec.of = choices.of;
    if (spec.of.empty()) {
        const auto first = std::find_if(fit.coefficients.begin(), fit.coefficients.end(),
                                        [](const Coefficient& c) { return c.designTerm >= 0; });
        spec.of = first == fit.coefficients.end() ? std::string() : first->term;
    }
    for (const std::size_t t : freeTerms(question, design, fit, spec.of)) {
        const bool named =
            choices.vary && std::find(choices.vary->begin(), choices.vary->end(),
                                      question.terms[t].shown()) != choices.vary->end();
        if (choices.vary ? named : spec.vary.size() < kMostUnasked) {
            spec.vary.push_back(t);
        }
    }
    const ErrorSpec classical;
    const ErrorSpec robust{"robust", "HC3", {}};
    const auto wants = [&](const char* which) {
        return std::find(choices.errors.begin(), choices.errors.end(), which) !=
               choices.errors.end();
    };
    if (wants("classical")) {
        spec.errors.push_back(classical);
    }
    if (wants("robust")) {
        spec.errors.push_back(robust);
    }
    if (spec.errors.empty() || (wants("own") && question.errors.kind == "clustered")) {
        spec.errors.push_back(question.errors);
    }
    SweepSample without{"without rows that stand out", "", {}};
    for (Eigen::Index i = 0; i < fit.residuals.size(); ++i) {
        if (std::abs(fit.residuals(i)) > kStandsOut * fit.statistics.sigma) {
            without.without.push_back(design.rows[static_cast<std::size_t>(i)] + 1);
        }
    }
    if (choices.outliers && !without.without.empty()) {
        spec.samples.push_back(std::move(without));
    }
    return spec;
}

Result<Sweep> sweep(const Study& study, const Frame& frame, const SweepSpec& spec, const Job& job) {
    for (const std::size_t t : spec.vary) {
        if (t >= spec.question.terms.size()) {
            return refuse(ErrorCode::BadSetting, "a term that is to come and go is not there",
                          "sweep");
        }
    }
    return Sweeper(study, frame, spec).run(job);
}

namespace {

/// A variant to stand beside a question; what is asked beside the fit stays with the original.
Question beside(const Question& question) {
    Question one = question;
    one.id.clear();
    one.lead = false;
    one.variantOf = question.variantOf.empty() ? question.id : question.variantOf;
    one.predict.clear();
    one.effects.clear();
    one.hypotheses.clear();
    one.decisions.clear();
    return one;
}

}  // namespace

std::vector<Question> progressiveInstruments(const Question& question) {
    std::vector<Question> out;
    for (std::size_t n = std::max<std::size_t>(question.endogenous.size(), 1);
         n < question.instruments.size(); ++n) {
        Question one = beside(question);
        one.instruments.resize(n);
        one.title = out.empty()
                        ? "moved by " + question.instruments[0].shown() + (n > 1 ? " …" : "")
                        : "and " + question.instruments[n - 1].shown();
        out.push_back(std::move(one));
    }
    return out;
}

std::vector<Question> causesSideBySide(const Question& question) {
    std::vector<Question> out;
    for (const auto& [method, title] :
         {std::pair(kLeastSquares, "least squares"), std::pair("two-stage", "two stages"),
          std::pair("liml", "limited information"), std::pair("gmm", "moments")}) {
        if (question.method != method) {
            Question one = beside(question);
            one.method = method;
            one.settings = {};
            one.title = title;
            out.push_back(std::move(one));
        }
    }
    return out;
}

std::vector<Question> progressiveSeries(const Question& question) {
    std::vector<Question> out;
    std::vector<std::size_t> active;
    for (std::size_t t = 0; t < question.terms.size(); ++t) {
        if (!question.terms[t].muted) {
            active.push_back(t);
        }
    }
    for (std::size_t n = 1; n < active.size(); ++n) {
        Question one = beside(question);
        one.title = n == 1 ? question.terms[active[0]].shown() + " alone"
                           : "and " + question.terms[active[n - 1]].shown();
        for (std::size_t later = n; later < active.size(); ++later) {
            one.terms[active[later]].muted = true;
        }
        out.push_back(std::move(one));
    }
    return out;
}

}  // namespace rapporto
