// Does the count model fit? Spread, zeros, the whole distribution.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

CountLaw lawOf(const CheckInput& in) {
    const LikelihoodFit& told = *in.fit.likelihood;
    return told.dispersion.value_or(0.0) <= 0.0 ? CountLaw::Poisson
           : told.linearSpread                  ? CountLaw::Linear
                                                : CountLaw::Quadratic;
}

double weightOf(const CheckInput& in, Index i) {
    return in.design.weights.size() > 0 ? in.design.weights(i) : 1.0;
}

/// P(Y = y) of row i as the fit has it.
double probabilityAt(const CheckInput& in, Index i, double y) {
    const LikelihoodFit& told = *in.fit.likelihood;
    const CountLaw law = lawOf(in);
    const double mean = std::exp(told.index(i, 0));
    const double alpha = told.dispersion.value_or(0.0);
    const double plain = countProbability(law, y, mean, alpha);
    if (told.family->zeros == Family::Zeros::Absent) {
        return y == 0.0 ? 0.0 : plain / (1.0 - countProbability(law, 0.0, mean, alpha));
    }
    if (told.index.cols() < 2) {
        return plain;
    }
    const double pi = 1.0 / (1.0 + std::exp(-told.index(i, 1)));
    if (told.family->zeros == Family::Zeros::Hurdle) {
        return y == 0.0 ? 1.0 - pi : pi * plain / (1.0 - countProbability(law, 0.0, mean, alpha));
    }
    return (y == 0.0 ? pi : 0.0) + (1.0 - pi) * plain;
}

bool allowsSpread(const CheckInput& in) { return in.question.errors.allowUnevenSpread(); }

void offerNegativeBinomial(const CheckInput& in, CheckResult& result) {
    if (!in.fit.likelihood->family->isPoisson() || !in.question.fixedEffects.empty() ||
        (in.design.y.array() != in.design.y.array().floor()).any()) {
        return;
    }
    Question variant = variantBase(in, "negative binomial");
    variant.method = "negative-binomial";
    variant.settings = EstimatorSettings{};
    result.remedies.push_back({"Let the spread exceed the mean",
                               "negative binomial: variance μ + αμ²", std::move(variant)});
}

void offerTwoParts(const CheckInput& in, CheckResult& result) {
    if (!in.fit.likelihood->family->isPlainCount() || !in.question.fixedEffects.empty()) {
        return;
    }
    const bool spread = in.fit.likelihood->family->ownSpread;
    for (const auto& [method, label, why] :
         {std::tuple("zero-inflated", "Let zeros be of two kinds",
                     "some rows never have any; the rest count as before"),
          std::tuple("hurdle", "Put a hurdle before the count",
                     "whether there is any, and how many, are asked apart")}) {
        Question variant = variantBase(in, method);
        variant.method = method;
        variant.settings = EstimatorSettings{};
        variant.settings.count = spread ? "negative-binomial" : "poisson";
        variant.settings.form = in.question.settings.form;
        result.remedies.push_back({label, why, std::move(variant)});
    }
}

/// Of counts in two parts: the other law of the count.
void offerSpread(const CheckInput& in, CheckResult& result) {
    const bool plain = in.question.settings.count == "poisson";
    Question variant = variantBase(in, plain ? "negative binomial part" : "linear spread");
    if (plain) {
        variant.settings.count = "negative-binomial";
    } else {
        variant.settings.form = in.question.settings.form == 1 ? 2 : 1;
    }
    result.remedies.push_back(
        {plain ? "Let the spread exceed the mean" : "Let the spread grow another way",
         plain ? "a negative binomial count in place of Poisson"
               : "in proportion to the mean, or to its square",
         std::move(variant)});
}

/// Numbers of rows by count, as seen and as the fit expects them.
struct Frequencies {
    std::vector<double> seen;
    std::vector<double> expected;
};

Frequencies frequenciesOf(const CheckInput& in, std::size_t most) {
    Frequencies out;
    const auto largest =
        std::min<std::size_t>(most, static_cast<std::size_t>(in.design.y.maxCoeff()));
    out.seen.assign(largest + 1, 0.0);
    out.expected.assign(largest + 1, 0.0);
    for (Index i = 0; i < in.design.y.size(); ++i) {
        const double w = weightOf(in, i);
        const double y = in.design.y(i);
        if (y <= static_cast<double>(largest)) {
            out.seen[static_cast<std::size_t>(y)] += w;
        }
        for (std::size_t k = 0; k <= largest; ++k) {
            out.expected[k] += w * probabilityAt(in, i, static_cast<double>(k));
        }
    }
    return out;
}

Exhibit rootogramExhibit(const CheckInput& in, const Frequencies& f) {
    Exhibit e;
    e.title = "How often each count is seen and expected";
    e.subtitle = "bars hang from the expected root; short of zero: rarer than expected";
    e.xTitle = in.design.outcome;
    e.yTitle = "√ number of rows";
    e.zeroLine = true;
    Exhibit::Line line{"expected", {}, {}};
    line.series = 1;
    for (std::size_t k = 0; k < f.seen.size(); ++k) {
        const double top = std::sqrt(f.expected[k]);
        const auto at = static_cast<double>(k);
        Exhibit::Bar bar{at - 0.4, at + 0.4, top - std::sqrt(f.seen[k]), top};
        bar.says = shortNumber(at) + ": seen " + shortNumber(f.seen[k], 4) + ", expected " +
                   shortNumber(f.expected[k], 4);
        for (Index i = 0; i < in.design.y.size(); ++i) {
            if (in.design.y(i) == at) {
                bar.rows.push_back(
                    static_cast<std::uint32_t>(in.design.rows[static_cast<std::size_t>(i)]));
            }
        }
        e.bars.push_back(std::move(bar));
        line.x.push_back(at);
        line.y.push_back(top);
    }
    e.lines.push_back(std::move(line));
    return e;
}

}  // namespace

// Cameron & Trivedi (1990), J. Econometrics 46: ((y − μ)² − y)/μ on μ; the boundary likelihood
// ratio by Chernoff (1954), Annals of Mathematical Statistics 25.
CheckResult checkOverdispersion(const CheckInput& in) {
    const LikelihoodFit& told = *in.fit.likelihood;
    if (!in.fit.likelihood->family->isPlainCount()) {
        return notApplicable("It asks whether a plain count spreads more than its mean.");
    }
    CheckResult result;
    result.exhibit = residualExhibit(in);
    const double mean = in.fit.fitted.mean();
    if (told.family->ownSpread) {
        EstimatorSettings none;
        const auto poisson = fitPoisson(in.design, none, ErrorSpec{}, in.alpha, in.job);
        if (!poisson) {
            return notApplicable(poisson.error().text());
        }
        const double lr =
            std::max(2.0 * (told.logLikelihood - poisson->likelihood->logLikelihood), 0.0);
        result.statistic = lr;
        result.statisticName = "likelihood ratio against Poisson";
        result.df = {1.0};
        result.distribution = "chi2";
        // Half of the law stands at zero.
        result.p = told.atBoundary ? 1.0 : 0.5 * chiSquareTail(lr, 1.0);
        result.details = {{"alpha", told.dispersion.value_or(0.0)}};
        result.verdict = Verdict::Fine;
        result.headline = pClause(*result.p);
        result.reading = *result.p < in.alpha
                             ? "The outcome spreads more than a Poisson count (" +
                                   pClause(*result.p) + "); this law lets it, with α " +
                                   shortNumber(told.dispersion.value_or(0.0), 3) + "."
                             : "The outcome hardly spreads more than a Poisson count (" +
                                   pClause(*result.p) + "): Poisson would do.";
        result.exhibit.title = "What is left against the expected count";
        return result;
    }
    double xy = 0.0;
    double xx = 0.0;
    const Index n = in.design.y.size();
    VectorXd z(n);
    for (Index i = 0; i < n; ++i) {
        const double mu = in.fit.fitted(i);
        const double d = in.design.y(i) - mu;
        z(i) = (d * d - in.design.y(i)) / mu;
        xy += weightOf(in, i) * z(i) * mu;
        xx += weightOf(in, i) * mu * mu;
    }
    const double a = xy / xx;
    double rss = 0.0;
    for (Index i = 0; i < n; ++i) {
        const double r = z(i) - a * in.fit.fitted(i);
        rss += weightOf(in, i) * r * r;
    }
    const double left = static_cast<double>(n) - 1.0;
    const double t = a / std::sqrt(rss / left / xx);
    result.statistic = t;
    result.statisticName = "t of the extra spread";
    result.df = {left};
    result.distribution = "t";
    result.p = tTail(t, left);
    result.details = {{"alpha", a}, {"p the other way", tTail(-t, left)}};
    // The other form of the question: against a negative binomial, whose dispersion cannot be below
    // zero, so that half of the law stands there.
    constexpr Index kMostRows = 100000;
    if (n <= kMostRows && in.design.effects.empty()) {
        const auto wider =
            fitNegativeBinomial(in.design, EstimatorSettings{}, ErrorSpec{}, in.alpha, in.job);
        if (wider && wider->likelihood) {
            const double lr =
                wider->likelihood->atBoundary
                    ? 0.0
                    : std::max(2.0 * (wider->likelihood->logLikelihood - told.logLikelihood), 0.0);
            result.details.emplace_back("boundary likelihood ratio", lr);
            result.details.emplace_back("boundary p",
                                        lr > 0.0 ? 0.5 * chiSquareTail(lr, 1.0) : 1.0);
        }
    }
    // How many times its mean the variance is, at the mean.
    const double size = a * mean;
    const bool found = *result.p < in.alpha && size >= 0.05;
    result.verdict = !found || allowsSpread(in) ? Verdict::Fine
                     : size >= 0.5              ? Verdict::Fails
                                                : Verdict::Weigh;
    result.headline = pClause(*result.p);
    const bool under = tTail(-t, left) < in.alpha;
    result.reading =
        found
            ? "The outcome spreads more than its mean tells: at the mean its variance is about " +
                  shortNumber(1.0 + size, 2) + " times a Poisson count’s (" + pClause(*result.p) +
                  "). " +
                  (allowsSpread(in) ? "The errors here allow for it; the effects stand as they are."
                                    : "The effects stand, but classical errors are too small.")
        : under ? "The outcome spreads less than a Poisson count: errors are too large rather than "
                  "too small."
                : "There is no sign that the outcome spreads more than a Poisson count (" +
                      pClause(*result.p) + ").";
    result.exhibit.title = found ? "The count spreads more than its mean" : "The spread fits";
    if (result.verdict != Verdict::Fine) {
        offerNegativeBinomial(in, result);
        offerRobust(in, result);
    }
    return result;
}

// McCullagh & Nelder (1989), Generalized Linear Models, section 6.2.
CheckResult checkPearsonDispersion(const CheckInput& in) {
    const LikelihoodFit& told = *in.fit.likelihood;
    if (!in.fit.likelihood->family->isPlainCount()) {
        return notApplicable("It is made for plain counts.");
    }
    const double left = in.fit.dfResidual;
    const double d = told.pearson / left;
    CheckResult result;
    result.statistic = d;
    result.statisticName = "Pearson’s χ² over its degrees of freedom";
    result.df = {left};
    result.details = {{"Pearson", told.pearson},
                      {"deviance", told.deviance},
                      {"deviance over df", told.deviance / left}};
    const bool poisson = told.family->isPoisson();
    const double off = std::max(d, 1.0 / std::max(d, 1e-12));
    result.verdict = off < 1.25 || (poisson && allowsSpread(in)) ? Verdict::Fine
                     : off < 2.0                                 ? Verdict::Weigh
                                                                 : Verdict::Fails;
    result.headline = shortNumber(d, 3) + " where 1 is due";
    result.reading = "What is left is " + shortNumber(d, 3) +
                     " times as large, squared, as this law tells. " +
                     (off < 1.25                    ? std::string("That is as it should be.")
                      : poisson && allowsSpread(in) ? std::string("The errors here allow for it.")
                      : poisson ? std::string("Classical errors are off by its root.")
                                : std::string("The law itself does not fit: look at "
                                              "the rootogram."));
    result.exhibit = residualExhibit(in);
    result.exhibit.title = "What is left against the expected count";
    if (result.verdict != Verdict::Fine) {
        offerNegativeBinomial(in, result);
        offerRobust(in, result);
        offerTwoParts(in, result);
    }
    return result;
}

// Score test of van den Broek (1995), Biometrics 51; for other laws the conditional moment test of
// Newey (1985), Econometrica 53, by the outer product of the scores.
CheckResult checkZeroExcess(const CheckInput& in) {
    if (!in.fit.likelihood->family->isPlainCount()) {
        return notApplicable("Zeros have a part of their own here.");
    }
    if (!in.question.fixedEffects.empty()) {
        return notApplicable("It is not made for effects that are swept out.");
    }
    const LikelihoodFit& told = *in.fit.likelihood;
    const Index n = in.design.y.size();
    VectorXd none(n);
    double seen = 0.0;
    double expected = 0.0;
    double total = 0.0;
    double score = 0.0;
    double variance = 0.0;
    for (Index i = 0; i < n; ++i) {
        const double w = weightOf(in, i);
        const double p = std::max(probabilityAt(in, i, 0.0), 1e-300);
        const double zero = in.design.y(i) == 0.0 ? 1.0 : 0.0;
        none(i) = zero - p;
        seen += w * zero;
        expected += w * p;
        total += w;
        score += w * (zero / p - 1.0);
        variance += w * (1.0 / p - 1.0 - in.design.y(i));
    }
    CheckResult result;
    result.details = {{"zeros seen", seen}, {"zeros expected", expected}};
    // The moment beside the scores: n less what they leave of ones.
    const CountLaw law = lawOf(in);
    const MatrixXd X = in.design.X(Eigen::all, in.fit.solution.kept);
    const Index k = X.cols();
    MatrixXd M(n, k + (law == CountLaw::Poisson ? 1 : 2));
    for (Index i = 0; i < n; ++i) {
        const double alpha = told.dispersion.value_or(0.0);
        const CountTerms t = countTerms(law, in.design.y(i), 0.0, told.index(i, 0),
                                        alpha > 0.0 ? std::log(alpha) : 0.0);
        M.row(i).head(k) = t.g[0] * X.row(i);
        M(i, k) = none(i);
        if (law != CountLaw::Poisson) {
            M(i, k + 1) = t.g[1];
        }
    }
    const auto moment = solveLinear({M, VectorXd::Ones(n), VectorXd(), false}, false, in.job);
    if (!moment) {
        return notApplicable("The work was stopped.");
    }
    const double chi = static_cast<double>(n) - moment->residualSquares;
    if (expected < 1e-6 && seen == 0.0) {
        return notApplicable("The counts are so large that no zero is seen or expected.");
    }
    if (law == CountLaw::Poisson && variance > 0.0 && std::isfinite(score * score / variance)) {
        result.statistic = score * score / variance;
        result.statisticName = "score of an excess of zeros";
        result.details.emplace_back("conditional moment", chi);
    } else {
        result.statistic = chi;
        result.statisticName = "conditional moment of the zeros";
    }
    result.df = {1.0};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, 1.0);
    const double size = std::abs(seen - expected) / total;
    result.verdict = judge(*result.p, in.alpha, size, 0.01, 0.05);
    result.headline = pClause(*result.p);
    result.reading = "There are " + shortNumber(seen, 4) + " zeros where the law expects " +
                     shortNumber(expected, 4) + " (" + pClause(*result.p) + "). " +
                     (result.verdict == Verdict::Fine ? "That is no more than chance."
                      : seen > expected ? "Some rows may have none for a reason of their own."
                                        : "Zeros are rarer than this law can make them.");
    result.exhibit = rootogramExhibit(in, frequenciesOf(in, 60));
    if (result.verdict != Verdict::Fine) {
        if (law == CountLaw::Poisson) {
            offerNegativeBinomial(in, result);
        }
        offerTwoParts(in, result);
    }
    return result;
}

// Vuong (1989), Econometrica 57; Wilson (2015), Economics Letters 127, on what it is not.
CheckResult checkVuong(const CheckInput& in) {
    const LikelihoodFit& told = *in.fit.likelihood;
    if (!told.family->hasZeroPart()) {
        return notApplicable("It compares a count with a part for zeros with the plain count.");
    }
    EstimatorSettings settings = in.question.settings;
    const bool spread = settings.count == "negative-binomial";
    const auto plain = spread
                           ? fitNegativeBinomial(in.design, settings, ErrorSpec{}, in.alpha, in.job)
                           : fitPoisson(in.design, settings, ErrorSpec{}, in.alpha, in.job);
    if (!plain) {
        return notApplicable(plain.error().text());
    }
    const CheckInput other{in.frame, in.question, in.design, *plain, in.options, in.alpha, in.job};
    const Index n = in.design.y.size();
    if (plain->fitted.size() != n) {
        return notApplicable("The plain count leaves rows out.");
    }
    VectorXd m(n);
    for (Index i = 0; i < n; ++i) {
        m(i) = std::log(std::max(probabilityAt(in, i, in.design.y(i)), 1e-300)) -
               std::log(std::max(probabilityAt(other, i, in.design.y(i)), 1e-300));
    }
    const double size = static_cast<double>(n);
    const double sd = std::sqrt((m.array() - m.mean()).square().sum() / size);
    if (!(sd > 0.0)) {
        return notApplicable("Both laws say the same of every row.");
    }
    const double z = std::sqrt(size) * m.mean() / sd;
    const double more = told.parameters - plain->likelihood->parameters;
    CheckResult result;
    result.statistic = z;
    result.statisticName = "Vuong’s z";
    result.distribution = "normal";
    result.p = normalTail(z);
    result.details = {
        {"z, AIC’s charge", (m.sum() - more) / (sd * std::sqrt(size))},
        {"z, BIC’s charge", (m.sum() - 0.5 * more * std::log(size)) / (sd * std::sqrt(size))},
        {"AIC gained", 2.0 * (m.sum() - more)}};
    const bool better = m.sum() > more;
    result.verdict = better && *result.p < in.alpha ? Verdict::Fine : Verdict::Weigh;
    result.headline = "z " + shortNumber(z, 3);
    result.reading = fmt::format(
        "The part for zeros gains {} than it costs (z {}, {}; AIC {} by {}). The z has no exact "
        "law "
        "here, as the plain count is a limit of this one: read it beside AIC and the rootogram.",
        better ? "more" : "less", shortNumber(z, 3), pClause(*result.p), better ? "falls" : "rises",
        shortNumber(2.0 * std::abs(m.sum() - more), 3));
    result.exhibit = rootogramExhibit(in, frequenciesOf(in, 60));
    if (result.verdict != Verdict::Fine) {
        Question variant = variantBase(in, spread ? "negative binomial" : "Poisson");
        variant.method = spread ? "negative-binomial" : "poisson";
        variant.settings = EstimatorSettings{};
        variant.settings.form = in.question.settings.form;
        result.remedies.push_back(
            {"Do without the part for zeros", "the plain count", std::move(variant)});
    }
    return result;
}

// Kleiber & Zeileis (2016), The American Statistician 70.
CheckResult checkRootogram(const CheckInput& in) {
    if (in.design.y.maxCoeff() > 1e5 || !in.question.fixedEffects.empty()) {
        return notApplicable(in.design.y.maxCoeff() > 1e5
                                 ? "Counts this large are not looked at one by one."
                                 : "It is not made for effects that are swept out.");
    }
    const Frequencies f = frequenciesOf(in, 60);
    double most = 0.0;
    std::size_t at = 0;
    std::size_t off = 0;
    for (std::size_t k = 0; k < f.seen.size(); ++k) {
        const double d = std::abs(std::sqrt(f.seen[k]) - std::sqrt(f.expected[k]));
        off += d > 1.0 ? 1 : 0;
        if (d > most) {
            most = d;
            at = k;
        }
    }
    CheckResult result;
    result.statistic = most;
    result.statisticName = "largest gap of the roots";
    result.details = {{"at", static_cast<double>(at)},
                      {"gaps above one", static_cast<double>(off)}};
    result.verdict = most < 1.0 || (most < 1.5 && off <= f.seen.size() / 20) ? Verdict::Fine
                     : most < 2.5                                            ? Verdict::Weigh
                                                                             : Verdict::Fails;
    result.headline = "largest gap " + shortNumber(most, 2);
    result.reading = "Chance moves a root frequency by about a half. The largest gap is " +
                     shortNumber(most, 2) + ", at " + std::to_string(at) + " (seen " +
                     shortNumber(f.seen[at], 4) + ", expected " + shortNumber(f.expected[at], 4) +
                     "). " +
                     (result.verdict == Verdict::Fine ? "The law fits the counts."
                                                      : "The law does not fit the counts.");
    result.exhibit = rootogramExhibit(in, f);
    if (result.verdict != Verdict::Fine) {
        offerNegativeBinomial(in, result);
        offerTwoParts(in, result);
        if (result.remedies.empty()) {
            offerSpread(in, result);
        }
    }
    return result;
}

}  // namespace rapporto
