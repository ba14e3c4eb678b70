// Does the panel choice hold? Effects of units, echoes within them, what they share at a moment.
#include "core/model/panel.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/common.h"
#include "core/model/instruments.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

std::string noPanel(const CheckInput& in) {
    if (in.design.layout != Layout::Kind::Panel || rawOf(in).units.empty()) {
        return "No row is a unit at a moment, so no unit can be compared with itself. Say in Data "
               "what a row is if it is one.";
    }
    if (rawOf(in).weights.size() > 0) {
        return "It is not built for weights.";
    }
    return {};
}

/// The raw design with the unit’s effects alone.
Result<Design> withinUnits(const CheckInput& in) {
    Design design = rawOf(in);
    design.effects = {{in.frame.layout().unit, design.units, design.unitCount}};
    return sweptDesign(std::move(design), in.job);
}

ErrorSpec byUnit(const CheckInput& in) {
    return {"clustered", "HC1", {quotedName(in.frame.layout().unit)}};
}

/// The design with errors to be clustered by the unit.
Design clusteredByUnit(Design design) {
    design.clusters = {design.units};
    design.clusterCounts = {design.unitCount};
    return design;
}

bool clustersByUnit(const CheckInput& in) {
    const ErrorSpec& errors = in.question.errors;
    const std::string& unit = in.frame.layout().unit;
    return errors.kind == "panel-autocorrelation" ||
           (errors.kind == "clustered" &&
            std::any_of(errors.by.begin(), errors.by.end(),
                        [&](const std::string& by) { return plainName(by) == unit; }));
}

/// Units’ levels are allowed for without being held fixed: as chance, by means, by changes.
bool isOfUnitsAnyway(const CheckInput& in) {
    const OfUnits compared = ofUnits(in.question.method);
    return compared == OfUnits::AtRandom || compared == OfUnits::Means ||
           compared == OfUnits::Changes;
}

void offerWithin(const CheckInput& in, CheckResult& result) {
    if (ofUnits(in.question.method) == OfUnits::Within) {
        return;
    }
    Question variant = variantBase(in, "within units");
    variant.method = "within";
    result.remedies.push_back({"Compare each unit with itself",
                               "its effect held fixed; what never changes drops out",
                               std::move(variant)});
}

void offerRandom(const CheckInput& in, CheckResult& result) {
    if (ofUnits(in.question.method) == OfUnits::AtRandom || !in.question.fixedEffects.empty()) {
        return;
    }
    Question variant = variantBase(in, "random effects");
    variant.method = "random";
    result.remedies.push_back({"Take the units’ effects as random",
                               "keeps what never changes; they must be unrelated to the terms",
                               std::move(variant)});
}

void offerByUnit(const CheckInput& in, CheckResult& result) {
    if (clustersByUnit(in)) {
        return;
    }
    Question variant = variantBase(in, "errors by " + in.frame.layout().unit);
    variant.errors = byUnit(in);
    result.remedies.push_back({"Cluster by " + in.frame.layout().unit,
                               "the same estimates; errors of a unit may go together",
                               std::move(variant)});
}

Exhibit effectsExhibit(const CheckInput& in, const VectorXd& e, const Design& raw) {
    // Units by the mean of what is left, each with its rows.
    VectorXd sums = VectorXd::Zero(raw.unitCount);
    VectorXd sizes = VectorXd::Zero(raw.unitCount);
    for (Index i = 0; i < e.size(); ++i) {
        sums(raw.units[static_cast<std::size_t>(i)]) += e(i);
        sizes(raw.units[static_cast<std::size_t>(i)]) += 1.0;
    }
    const VectorXd means = sums.cwiseQuotient(sizes);
    std::vector<Index> order(static_cast<std::size_t>(means.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return means(a) < means(b); });
    std::vector<double> place(order.size());
    for (std::size_t i = 0; i < order.size(); ++i) {
        place[static_cast<std::size_t>(order[i])] = static_cast<double>(i) + 1.0;
    }
    Exhibit x;
    x.subtitle = "what one constant for all leaves of " + in.design.outcome +
                 ", units ordered by their mean · n = " + countText(raw.rows.size());
    x.xTitle = "units by rank";
    x.yTitle = "residual";
    x.zeroLine = true;
    for (Index i = 0; i < e.size(); ++i) {
        x.x.push_back(place[static_cast<std::size_t>(raw.units[static_cast<std::size_t>(i)])]);
        x.y.push_back(e(i));
        x.rows.push_back(raw.rows[static_cast<std::size_t>(i)]);
    }
    Exhibit::Line line{"mean of the unit", {}, {}};
    line.series = 1;
    for (std::size_t i = 0; i < order.size(); ++i) {
        line.x.push_back(static_cast<double>(i) + 1.0);
        line.y.push_back(means(order[i]));
    }
    x.lines.push_back(std::move(line));
    return x;
}

/// Residuals of least squares on the rows as they are.
Result<LinearSolution> pooled(const CheckInput& in) {
    const Design& raw = rawOf(in);
    return solveLinear({raw.X, raw.y, raw.weights, raw.hasConstant}, false, in.job);
}

}  // namespace

// Wooldridge (2010), Econometric Analysis of Cross Section and Panel Data, section 10.5.
CheckResult checkFixedEffectsF(const CheckInput& in) {
    if (const std::string reason = noPanel(in); !reason.empty() && !in.design.swept) {
        return notApplicable(reason);
    }
    const Design& raw = rawOf(in);
    if (raw.weights.size() > 0) {
        return notApplicable("It is not built for weights.");
    }
    const auto all = pooled(in);
    std::optional<Design> own;
    if (!in.design.swept) {
        auto made = withinUnits(in);
        if (!made) {
            return notApplicable(made.error().text());
        }
        own = *std::move(made);
    }
    const Design& swept = own ? *own : in.design;
    const auto inner =
        solveLinear({swept.X, swept.y, swept.weights, swept.hasConstant}, false, in.job);
    if (!all || !inner) {
        return notApplicable("The work was stopped.");
    }
    const double n = static_cast<double>(raw.y.size());
    const double k = static_cast<double>(inner->kept.size());
    // Terms that do not vary within units are part of what the effects say.
    const double df1 = swept.effectsRank + k - static_cast<double>(all->kept.size());
    const double df2 = n - k - swept.effectsRank;
    if (df1 < 1.0 || df2 < 1.0 || !(inner->residualSquares > 0.0)) {
        return notApplicable("There are too few rows for an effect of each unit.");
    }
    const double f = std::max(all->residualSquares - inner->residualSquares, 0.0) / df1 /
                     (inner->residualSquares / df2);
    CheckResult result;
    result.statistic = f;
    result.statisticName = "F of the effects";
    result.df = {df1, df2};
    result.distribution = "F";
    result.p = fTail(f, df1, df2);
    const bool held = in.design.swept;
    const OfUnits compared = ofUnits(in.question.method);
    const bool random = compared == OfUnits::AtRandom;
    const bool found = *result.p < in.alpha;
    const bool allowed = held || random || compared == OfUnits::Changes;
    result.verdict = !found || allowed ? Verdict::Fine : Verdict::Fails;
    result.headline = pClause(*result.p);
    const std::string who = held ? "What is held fixed" : "The units";
    result.reading =
        found ? who + (held ? " differs" : " differ") + " in level beyond the terms (" +
                    pClause(*result.p) + "). " +
                    (random ? "This question draws each its own; whether they go with the terms "
                              "is what Hausman’s test asks."
                     : allowed
                         ? "This question lets each have its own."
                         : "Where these levels go with the terms, estimates that ignore them are "
                           "off.")
              : who + (held ? " shows" : " show") +
                    " no levels of its own beyond what the terms say (" + pClause(*result.p) + ").";
    if (raw.units.empty()) {
        result.exhibit = residualExhibit(in);
    } else {
        result.exhibit = effectsExhibit(in, all->residuals, raw);
    }
    result.exhibit.title =
        found ? "The units lie at levels of their own" : "One constant does for all units";
    if (result.verdict != Verdict::Fine) {
        offerWithin(in, result);
        offerRandom(in, result);
    }
    return result;
}

// Breusch & Pagan (1980), Review of Economic Studies 47; Honda (1985), Review of Economic Studies
// 52; unbalanced by Baltagi & Li (1990).
CheckResult checkBreuschPaganLm(const CheckInput& in) {
    if (const std::string reason = noPanel(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const Design& raw = rawOf(in);
    const auto all = pooled(in);
    if (!all || !(all->residualSquares > 0.0)) {
        return notApplicable("Least squares leaves nothing.");
    }
    VectorXd sums = VectorXd::Zero(raw.unitCount);
    VectorXd sizes = VectorXd::Zero(raw.unitCount);
    for (Index i = 0; i < raw.y.size(); ++i) {
        sums(raw.units[static_cast<std::size_t>(i)]) += all->residuals(i);
        sizes(raw.units[static_cast<std::size_t>(i)]) += 1.0;
    }
    const double n = static_cast<double>(raw.y.size());
    const double pairs = sizes.squaredNorm() - n;
    if (!(pairs > 0.0)) {
        return notApplicable("No unit has two rows.");
    }
    const double a = sums.squaredNorm() / all->residualSquares - 1.0;
    const double lm = n * n / 2.0 * a * a / pairs;
    const double honda = std::sqrt(n * n / (2.0 * pairs)) * a;
    CheckResult result;
    result.statistic = lm;
    result.statisticName = "Breusch–Pagan LM";
    result.df = {1.0};
    result.distribution = "chi2";
    result.p = chiSquareTail(lm, 1.0);
    result.details = {{"Honda z", honda}, {"Honda p", normalTail(honda)}};
    const bool found = *result.p < in.alpha && a > 0.0;
    const bool allowed = in.design.swept || isOfUnitsAnyway(in) || clustersByUnit(in);
    result.verdict = !found || allowed ? Verdict::Fine : Verdict::Fails;
    result.headline = pClause(*result.p);
    result.reading =
        found ? "What the terms leave goes together within units (" + pClause(*result.p) +
                    "; one-sided by Honda " + pClause(normalTail(honda)) + "). " +
                    (allowed ? "This question allows for it."
                             : "Rows of one unit are not so many separate pieces of evidence.")
              : "There is no sign that units differ beyond the terms (" + pClause(*result.p) + ").";
    result.exhibit = effectsExhibit(in, all->residuals, raw);
    result.exhibit.title =
        found ? "Rows of a unit go together" : "Rows of a unit go their own ways";
    if (result.verdict != Verdict::Fine) {
        offerRandom(in, result);
        offerWithin(in, result);
        offerByUnit(in, result);
    }
    return result;
}

// Hausman (1978), Econometrica 46; Mundlak (1978), Econometrica 46, with errors clustered by unit.
namespace {

/// d' (A − B)⁻ d over the directions in which A − B is positive, and how many they are.
struct Contrast {
    double value = 0.0;
    double df = 0.0;
    bool negative = false;  ///< It is negative in some direction.
};

Contrast contrastOf(const VectorXd& d, const MatrixXd& A, const MatrixXd& B) {
    // Units of the terms out of the way, then the generalised inverse.
    const VectorXd unit = A.diagonal().cwiseSqrt().cwiseInverse();
    const MatrixXd V = unit.asDiagonal() * (A - B) * unit.asDiagonal();
    const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(V);
    const double largest = solver.eigenvalues().cwiseAbs().maxCoeff();
    const VectorXd turned = solver.eigenvectors().transpose() * unit.cwiseProduct(d);
    Contrast out;
    for (Index j = 0; j < d.size(); ++j) {
        const double value = solver.eigenvalues()(j);
        out.negative = out.negative || value < -1e-10 * largest;
        if (value > 1e-10 * largest) {
            out.value += turned(j) * turned(j) / value;
            out.df += 1.0;
        }
    }
    return out;
}

/// Laws that hold for many units only: of five, `./dev simulate` finds one true panel in six
/// rejected at 5 %.
std::string fewUnits(int units) {
    return units >= 15 ? std::string()
                       : " With only " + plural(static_cast<std::size_t>(units), "unit", "units") +
                             " its p is rough, and too small rather than too large.";
}

}  // namespace

CheckResult checkHausman(const CheckInput& in) {
    if (const std::string reason = noPanel(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const Design& raw = rawOf(in);
    if (!raw.effects.empty() &&
        !(raw.effects.size() == 1 && ofUnits(in.question.method) == OfUnits::Within &&
          in.question.fixedEffects.empty())) {
        return notApplicable(
            "It compares units’ effects held fixed with random ones; here more is "
            "held fixed.");
    }
    auto swept = withinUnits(in);
    if (!swept) {
        return notApplicable(swept.error().text());
    }
    Design plain = raw;
    plain.effects.clear();
    const auto fixed = fitLeastSquares(*swept, ErrorSpec{}, in.alpha, in.job);
    const auto random = fitRandom(plain, {}, ErrorSpec{}, in.alpha, in.job);
    if (!fixed || !random) {
        return notApplicable((fixed ? random.error() : fixed.error()).text());
    }
    std::vector<Index> a;
    std::vector<Index> b;
    std::vector<std::string> names;
    for (std::size_t i = 0; i < fixed->coefficients.size(); ++i) {
        for (std::size_t j = 0; j < random->coefficients.size(); ++j) {
            const Coefficient& c = fixed->coefficients[i];
            if (c.designTerm >= 0 && c.column == random->coefficients[j].column) {
                a.push_back(static_cast<Index>(i));
                b.push_back(static_cast<Index>(j));
                names.push_back(c.term);
            }
        }
    }
    if (a.empty()) {
        return notApplicable("No term varies within units.");
    }
    const auto q = static_cast<Index>(a.size());
    VectorXd d(q);
    for (Index j = 0; j < q; ++j) {
        d(j) =
            fixed->coefficients[static_cast<std::size_t>(a[static_cast<std::size_t>(j)])].estimate -
            random->coefficients[static_cast<std::size_t>(b[static_cast<std::size_t>(j)])].estimate;
    }
    // Both covariances with the spread of the efficient estimator, so that their difference cannot
    // be negative; with each estimator’s own it can, and rejects too often.
    const double spreads = random->statistics.sigma / fixed->statistics.sigma;
    if (!std::isfinite(spreads) || !(spreads > 0.0)) {
        return notApplicable("One of the two fits leaves nothing to judge by.");
    }
    const Contrast common =
        contrastOf(d, fixed->covariance(a, a) * (spreads * spreads), random->covariance(b, b));
    const Contrast apart = contrastOf(d, fixed->covariance(a, a), random->covariance(b, b));
    const double h = common.value;
    const double df = common.df;
    const bool negative = common.negative;
    // Mundlak: the units’ means beside the terms, random effects with errors by unit.
    std::optional<FTest> mundlak;
    {
        Design wide = clusteredByUnit(plain);
        MatrixXd means(raw.y.size(), q);
        VectorXd sizes = VectorXd::Zero(raw.unitCount);
        MatrixXd sums = MatrixXd::Zero(raw.unitCount, q);
        for (Index i = 0; i < raw.y.size(); ++i) {
            const auto u = raw.units[static_cast<std::size_t>(i)];
            sizes(u) += 1.0;
            for (Index j = 0; j < q; ++j) {
                const Index column =
                    fixed->coefficients[static_cast<std::size_t>(a[static_cast<std::size_t>(j)])]
                        .column;
                sums(u, j) += raw.X(i, column);
            }
        }
        for (Index i = 0; i < raw.y.size(); ++i) {
            const auto u = raw.units[static_cast<std::size_t>(i)];
            means.row(i) = sums.row(u) / sizes(u);
        }
        const Index first = wide.X.cols();
        wide.X.conservativeResize(Eigen::NoChange, first + q);
        wide.X.rightCols(q) = means;
        for (Index j = 0; j < q; ++j) {
            wide.columns.push_back(
                {"mean of " + names[static_cast<std::size_t>(j)], "", -1, false});
        }
        if (const auto fit = fitRandom(wide, {}, byUnit(in), in.alpha, in.job)) {
            std::vector<Index> at;
            for (std::size_t j = 0; j < fit->coefficients.size(); ++j) {
                if (fit->coefficients[j].column >= first) {
                    at.push_back(static_cast<Index>(j));
                }
            }
            VectorXd own(static_cast<Index>(at.size()));
            for (std::size_t j = 0; j < at.size(); ++j) {
                own(static_cast<Index>(j)) =
                    fit->coefficients[static_cast<std::size_t>(at[j])].estimate;
            }
            const double count = static_cast<double>(at.size());
            if (const auto f = at.empty() ? std::nullopt : waldF(own, fit->covariance(at, at))) {
                mundlak = FTest{*f * count, count, 0.0, chiSquareTail(*f * count, count)};
            }
        }
    }
    CheckResult result;
    // Without one direction of positive variance the contrast is no number at all.
    result.statistic = df > 0.0 ? std::optional(h) : std::nullopt;
    result.statisticName = "Hausman chi-square";
    result.df = {df};
    result.distribution = "chi2";
    result.p = df > 0.0 ? std::optional(chiSquareTail(h, df)) : std::nullopt;
    if (mundlak) {
        result.details = {{"Mundlak chi2, clustered by unit", mundlak->value},
                          {"Mundlak df", mundlak->df1},
                          {"Mundlak p", mundlak->p}};
    }
    result.details.emplace_back("not positive", negative ? 1.0 : 0.0);
    result.details.emplace_back("chi2, own spreads", apart.value);
    result.details.emplace_back("df, own spreads", apart.df);
    result.details.emplace_back("p, own spreads", chiSquareTail(apart.value, apart.df));
    result.details.emplace_back("not positive, own spreads", apart.negative ? 1.0 : 0.0);
    for (Index j = 0; j < q; ++j) {
        result.details.emplace_back("difference " + names[static_cast<std::size_t>(j)], d(j));
    }
    // Where the plain contrast has no proper variance, or errors are uneven, Mundlak’s form
    // decides.
    const double deciding =
        mundlak && (negative || !result.p || in.question.errors.kind != "classical")
            ? mundlak->p
            : result.p.value_or(1.0);
    const bool found = deciding < in.alpha;
    const bool held = in.design.swept || ofUnits(in.question.method) == OfUnits::Changes;
    result.verdict = !found || held ? Verdict::Fine : Verdict::Fails;
    result.headline = result.p  ? pClause(*result.p)
                      : mundlak ? pClause(mundlak->p)
                                : std::string("no number");
    result.reading =
        found ? "Within units the terms say another thing than random effects do (" +
                    pClause(deciding) + "): the units’ effects go with the terms. " +
                    (held ? "This question compares units with themselves, as it should."
                          : "Random effects and least squares mix the two up.")
              : "Within units the terms say the same as random effects do, but for chance (" +
                    pClause(deciding) + "). Random effects are tighter then.";
    if (negative) {
        result.reading +=
            " The difference of the two covariances is not positive; its generalised "
            "inverse stands in, and Mundlak’s form" +
            (mundlak ? " (" + pClause(mundlak->p) + ")" : std::string()) + " is the one to trust.";
    } else if (mundlak && in.question.errors.kind != "classical") {
        result.reading +=
            " By Mundlak’s form, with errors clustered by unit: " + pClause(mundlak->p) + ".";
    }
    result.reading += fewUnits(raw.unitCount);
    Exhibit& e = result.exhibit;
    e.title = found ? "Within units the terms say another thing" : "Both say the same";
    e.subtitle = "effects within units (ink) and with random effects (ochre), in standard errors";
    e.yTitle = "effect, in standard errors within units";
    e.zeroLine = true;
    for (std::size_t j = 0; j < names.size(); ++j) {
        e.xNames.push_back(names[j]);
        const Coefficient& one = fixed->coefficients[static_cast<std::size_t>(a[j])];
        const Coefficient& other = random->coefficients[static_cast<std::size_t>(b[j])];
        const double at = static_cast<double>(j) + 1.0;
        e.intervals.push_back(
            {at - 0.12, one.low / one.se, one.estimate / one.se, one.high / one.se, 0});
        e.intervals.push_back(
            {at + 0.12, other.low / one.se, other.estimate / one.se, other.high / one.se, 1});
    }
    if (result.verdict != Verdict::Fine) {
        offerWithin(in, result);
    } else if (!found && ofUnits(in.question.method) == OfUnits::Within) {
        offerRandom(in, result);
    }
    return result;
}

// Wooldridge (2010), section 10.6.3: changes of unrelated errors correlate at −1/2.
namespace {

/// What is held fixed beside the units.
struct HeldBesides {
    bool moments = false;  ///< Groups that are moments, or coarser ones of them.
    bool more = false;     ///< Anything that is neither of units nor of moments.
};

HeldBesides heldBesides(const Design& raw) {
    HeldBesides out;
    for (const SweptGrouping& effects : raw.effects) {
        std::vector<std::int32_t> unitGroup(static_cast<std::size_t>(raw.unitCount), -1);
        std::map<std::int64_t, std::int32_t> momentGroup;
        bool ofUnits = true;
        bool ofMoments = !raw.unitMoments.empty();
        for (std::size_t i = 0; i < raw.units.size(); ++i) {
            std::int32_t& own = unitGroup[static_cast<std::size_t>(raw.units[i])];
            ofUnits = ofUnits && (own < 0 || own == effects.of[i]);
            own = effects.of[i];
            if (ofMoments) {
                ofMoments = momentGroup.emplace(raw.unitMoments[i], effects.of[i]).first->second ==
                            effects.of[i];
            }
        }
        out.moments = out.moments || (ofMoments && !ofUnits);
        out.more = out.more || (!ofMoments && !ofUnits) || effects.slopes.cols() > 0;
    }
    return out;
}

}  // namespace

CheckResult checkPanelSerial(const CheckInput& in) {
    if (const std::string reason = noPanel(in); !reason.empty()) {
        return notApplicable(reason);
    }
    Design raw = rawOf(in);
    const HeldBesides held = heldBesides(raw);
    if (held.more) {
        return notApplicable(
            "It looks at changes within units, and here more is held fixed than units and "
            "moments.");
    }
    raw.effects.clear();
    const auto changes = differencedDesign(raw);
    if (!changes) {
        return notApplicable(changes.error().text());
    }
    // Without a constant: the changes of one would be nothing.
    Design plain = *changes;
    if (held.moments) {
        // What all units share at a moment is held fixed in the levels, so it is in the changes.
        std::map<std::int64_t, std::int32_t> ids;
        std::vector<std::int32_t> of;
        for (const std::int64_t moment : plain.unitMoments) {
            of.push_back(ids.emplace(moment, static_cast<std::int32_t>(ids.size())).first->second);
        }
        const auto count = static_cast<std::int32_t>(ids.size());
        plain.effects = {{"moment", std::move(of), count}};
        auto swept = sweptDesign(std::move(plain), in.job);
        if (!swept) {
            return notApplicable(swept.error().text());
        }
        plain = *std::move(swept);
        for (Index j = 0; j < plain.X.cols(); ++j) {
            plain.X.col(j).array() -= plain.hasConstant && j > 0 ? plain.X.col(j).mean() : 0.0;
        }
        plain.y.array() -= plain.hasConstant ? plain.y.mean() : 0.0;
    }
    if (plain.hasConstant) {
        plain.X = MatrixXd(plain.X.rightCols(plain.X.cols() - 1));
        plain.hasConstant = false;
    }
    VectorXd e = plain.y;
    if (plain.X.cols() > 0) {
        const auto solution = solveLinear({plain.X, plain.y, {}, false}, false, in.job);
        if (!solution) {
            return notApplicable("The work was stopped.");
        }
        e = solution->residuals;
    }
    Design lagged = sameRows(*changes);
    lagged.hasConstant = false;
    std::map<std::pair<std::int32_t, std::int64_t>, Index> at;
    for (std::size_t i = 0; i < changes->units.size(); ++i) {
        at[{changes->units[i], changes->unitMoments[i]}] = static_cast<Index>(i);
    }
    std::vector<Index> later;
    std::vector<Index> earlier;
    for (std::size_t i = 0; i < changes->units.size(); ++i) {
        const auto found = at.find({changes->units[i], changes->unitMoments[i] - 1});
        if (found != at.end()) {
            later.push_back(static_cast<Index>(i));
            earlier.push_back(found->second);
        }
    }
    if (later.size() < 3) {
        return notApplicable("No unit has three moments in a row, often enough.");
    }
    Design pairs = *changes;
    pairs.X = e;
    pairs.y = e;
    pairs.Z.resize(e.size(), 0);
    pairs = withRows(pairs, later);
    pairs.hasConstant = false;
    pairs.X = MatrixXd(e(earlier));
    pairs.columns = {{"change before", "", -1, false}};
    pairs.terms.clear();
    pairs = clusteredByUnit(std::move(pairs));
    const auto fit = fitLeastSquares(pairs, byUnit(in), in.alpha, in.job);
    if (!fit || fit->coefficients.empty() || !(fit->coefficients[0].se > 0.0)) {
        return notApplicable("There are too few units for a test.");
    }
    const Coefficient& c = fit->coefficients[0];
    const double t = (c.estimate + 0.5) / c.se;
    CheckResult result;
    result.statistic = t * t;
    result.statisticName = "F that changes correlate at −½";
    result.df = {1.0, c.df.value_or(0.0)};
    result.distribution = "F";
    result.p = twoSidedP(t, c.df);
    result.details = {{"correlation of changes", c.estimate},
                      {"pairs", static_cast<double>(later.size())}};
    const bool found = *result.p < in.alpha;
    result.verdict = !found || clustersByUnit(in) ? Verdict::Fine : Verdict::Fails;
    result.headline = pClause(*result.p);
    result.reading =
        found ? "Errors of a unit carry over from one moment to the next (" + pClause(*result.p) +
                    "; changes correlate at " + fixedNumber(c.estimate, 2) +
                    " where unrelated errors give −0.50). " +
                    (clustersByUnit(in) ? "Errors by unit allow for it."
                                        : "Standard errors that do not allow for it are too small.")
              : "There is no sign that errors of a unit carry over (" + pClause(*result.p) + ").";
    result.reading += fewUnits(raw.unitCount);
    Exhibit& x = result.exhibit;
    x.title = found ? "Errors of a unit echo" : "Errors of a unit do not echo";
    x.subtitle = "change left against the change left before it, within units · n = " +
                 countText(later.size());
    x.xTitle = "change before";
    x.yTitle = "change";
    x.zeroLine = true;
    for (std::size_t i = 0; i < later.size(); ++i) {
        x.x.push_back(e(earlier[i]));
        x.y.push_back(e(later[i]));
        x.rows.push_back(changes->rows[static_cast<std::size_t>(later[i])]);
    }
    const double low = *std::min_element(x.x.begin(), x.x.end());
    const double high = *std::max_element(x.x.begin(), x.x.end());
    x.lines.push_back({"found", {low, high}, {c.estimate * low, c.estimate * high}});
    x.lines.push_back({"unrelated", {low, high}, {-0.5 * low, -0.5 * high}, true});
    if (result.verdict != Verdict::Fine) {
        offerByUnit(in, result);
    }
    return result;
}

// Pesaran (2004), IZA discussion paper 1240.
namespace {

/// +1 or −1 for each unit, by its place among the units’ values, not by where its rows stand.
std::vector<double> unitSigns(const CheckInput& in, const Design& made) {
    const Column* column = in.frame.column(in.frame.layout().unit);
    std::vector<std::size_t> firstRow(static_cast<std::size_t>(made.unitCount), 0);
    for (std::size_t i = made.units.size(); i > 0; --i) {
        firstRow[static_cast<std::size_t>(made.units[i - 1])] = made.rows[i - 1];
    }
    std::vector<std::size_t> order(firstRow.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        const std::size_t x = firstRow[a];
        const std::size_t y = firstRow[b];
        if (column == nullptr) {
            return x < y;
        }
        const auto text = [&](std::size_t row) {
            return column->texts()[static_cast<std::size_t>(column->codes()[row])];
        };
        return column->isText() ? text(x) < text(y) : column->numbers()[x] < column->numbers()[y];
    });
    std::vector<double> out(order.size());
    RandomStream random(2022, 0);
    for (const std::size_t unit : order) {
        out[unit] = (random.next() & 1U) != 0 ? 1.0 : -1.0;
    }
    return out;
}

}  // namespace

CheckResult checkCrossSectionDependence(const CheckInput& in) {
    if (const std::string reason = noPanel(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const Design& made = in.design;
    if (made.unitMoments.empty() ||
        made.units.size() != static_cast<std::size_t>(in.fit.residuals.size())) {
        return notApplicable("There are no moments at which units could be compared.");
    }
    std::map<std::int64_t, Index> moments;
    for (const std::int64_t m : made.unitMoments) {
        moments.emplace(m, 0);
    }
    Index next = 0;
    for (auto& [moment, id] : moments) {
        id = next++;
    }
    const Index T = next;
    if (made.unitCount > 2000 || T < 3) {
        return notApplicable(
            T < 3 ? "It needs three moments at least."
                  : "It compares all pairs of units, and there are more than 2\u202f000.");
    }
    MatrixXd E = MatrixXd::Constant(T, made.unitCount, std::nan(""));
    for (Index i = 0; i < in.fit.residuals.size(); ++i) {
        const auto row = static_cast<std::size_t>(i);
        E(moments[made.unitMoments[row]], made.units[row]) = in.fit.residuals(i);
    }
    // Residuals of a unit that is fitted exactly are rounding, and correlate like it.
    const double typical = in.fit.residuals.squaredNorm() /
                           static_cast<double>(std::max<Index>(in.fit.residuals.size(), 1));
    // Once moments are held fixed residuals sum to nothing at each, and Pesaran’s sum has another
    // law: units weighted by signs that know nothing of the data bring the normal one back.
    const bool signs = heldBesides(rawOf(in)).moments;
    const std::vector<double> sign = signs ? unitSigns(in, made) : std::vector<double>();
    double sum = 0.0;
    double size = 0.0;
    double pairs = 0.0;
    double plain = 0.0;
    for (Index a = 0; a < made.unitCount; ++a) {
        for (Index b = 0; b < a; ++b) {
            double n = 0.0;
            double ma = 0.0;
            double mb = 0.0;
            for (Index t = 0; t < T; ++t) {
                if (!std::isnan(E(t, a)) && !std::isnan(E(t, b))) {
                    n += 1.0;
                    ma += E(t, a);
                    mb += E(t, b);
                }
            }
            if (n < 3.0) {
                continue;
            }
            ma /= n;
            mb /= n;
            double ab = 0.0;
            double aa = 0.0;
            double bb = 0.0;
            for (Index t = 0; t < T; ++t) {
                if (!std::isnan(E(t, a)) && !std::isnan(E(t, b))) {
                    ab += (E(t, a) - ma) * (E(t, b) - mb);
                    aa += (E(t, a) - ma) * (E(t, a) - ma);
                    bb += (E(t, b) - mb) * (E(t, b) - mb);
                }
            }
            if (std::min(aa, bb) > 1e-18 * n * typical) {
                const double r = ab / std::sqrt(aa * bb);
                plain += std::sqrt(n) * r;
                sum +=
                    std::sqrt(n) * r *
                    (signs ? sign[static_cast<std::size_t>(a)] * sign[static_cast<std::size_t>(b)]
                           : 1.0);
                size += std::abs(r);
                pairs += 1.0;
            }
        }
    }
    if (pairs < 1.0) {
        return notApplicable("No two units share three moments.");
    }
    const double z = sum / std::sqrt(pairs);
    CheckResult result;
    result.statistic = z;
    result.statisticName = signs ? "weighted CD" : "Pesaran CD";
    result.distribution = "normal";
    result.p = twoSidedP(z, std::nullopt);
    result.details = {{"mean absolute correlation", size / pairs}, {"pairs of units", pairs}};
    const bool moments2 = in.question.errors.kind == "panel-autocorrelation";
    // A mean correlation by its sign: what all share, not the noise of short series.
    const double mean = plain / pairs / std::sqrt(static_cast<double>(T));
    result.details.emplace_back("mean correlation", mean);
    result.verdict = moments2 ? Verdict::Fine
                     : signs  ? (*result.p < in.alpha ? Verdict::Weigh : Verdict::Fine)
                              : judge(*result.p, in.alpha, std::abs(mean), 0.1, 0.3);
    if (signs) {
        result.details.emplace_back("CD without signs", plain / std::sqrt(pairs));
    }
    result.headline = pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "Units share nothing at a moment beyond the terms that could be told from chance (" +
                  pClause(*result.p) + ")."
            : "Units share something at a moment that the terms do not say (" + pClause(*result.p) +
                  ", mean correlation " + fixedNumber(mean, 2) + "). " +
                  (moments2 ? "This question’s errors allow for it."
                            : "Hold the moment fixed, or let errors be shared at a moment.");
    if (signs) {
        result.reading +=
            " Moments are held fixed, so that units carry signs of their own here (Juodis & Reese "
            "2022): Pesaran’s law does not hold then.";
    }
    Exhibit& x = result.exhibit;
    x.title = result.verdict == Verdict::Fine ? "Units go their own ways at a moment"
                                              : "Units move together at a moment";
    x.subtitle =
        "what is left of " + made.outcome + " by moment · n = " + countText(made.rows.size());
    x.xTitle = in.frame.layout().time;
    x.yTitle = "residual";
    x.zeroLine = true;
    Exhibit::Line line{"mean", {}, {}};
    line.series = 1;
    std::map<std::int64_t, std::pair<double, double>> means;
    for (Index i = 0; i < in.fit.residuals.size(); ++i) {
        const auto row = static_cast<std::size_t>(i);
        x.x.push_back(static_cast<double>(made.unitMoments[row]));
        x.y.push_back(in.fit.residuals(i));
        x.rows.push_back(made.rows[row]);
        auto& [total, count] = means[made.unitMoments[row]];
        total += in.fit.residuals(i);
        count += 1.0;
    }
    for (const auto& [moment, one] : means) {
        line.x.push_back(static_cast<double>(moment));
        line.y.push_back(one.first / one.second);
    }
    x.lines.push_back(std::move(line));
    if (result.verdict != Verdict::Fine) {
        const std::string time = quotedName(in.frame.layout().time);
        const auto& held = in.question.fixedEffects;
        if (std::find(held.begin(), held.end(), time) == held.end() && !isOfUnitsAnyway(in)) {
            Question variant = variantBase(in, "moments held fixed");
            variant.fixedEffects.push_back(time);
            result.remedies.push_back({"Hold the moment fixed",
                                       "what all units share at a moment drops out",
                                       std::move(variant)});
        }
        Question variant = variantBase(in, "errors shared at a moment");
        variant.errors = ErrorSpec{"panel-autocorrelation", "HC1", {}};
        result.remedies.push_back({"Errors shared at a moment",
                                   "the same estimates with errors by Driscoll & Kraay",
                                   std::move(variant)});
    }
    return result;
}

}  // namespace rapporto
