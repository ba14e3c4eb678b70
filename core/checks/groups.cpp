#include "core/checks/groups.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/common.h"
#include "core/checks/groups_picture.h"
#include "core/describe/normality.h"
#include "core/model/level_search.h"
#include "core/model/multilevel.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// −2 ln of the likelihood with other random effects.
Result<double> devianceWith(const CheckInput& in, std::vector<DesignLevel> levels) {
    if (in.fit.levels->family != nullptr) {
        Design other = in.design;
        other.levels = std::move(levels);
        // By the same approximation: quadrature in one grouping is none in several.
        EstimatorSettings settings = in.question.settings;
        settings.points = in.fit.levels->points;
        const auto fit = fitLevelOutcome(other, settings, in.alpha, in.job.quiet(), false);
        return fit ? Result<double>(fit->levels->deviance) : tl::make_unexpected(fit.error());
    }
    Design other;
    other.X = in.design.X;
    other.y = in.design.y;
    other.weights = in.design.weights;
    other.hasConstant = in.design.hasConstant;
    other.levels = std::move(levels);
    auto solution =
        solveLinear({other.X, other.y, other.weights, other.hasConstant}, false, in.job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    LevelSearch search(other, in.fit.levels->restricted);
    if (auto found = search.run(*solution, in.job); !found) {
        return tl::make_unexpected(found.error());
    }
    return search.value() + search.constant();
}

/// One random part against a fit without it.
struct PartTest {
    std::string name;  ///< “village”, “village × hives”.
    std::size_t level = 0;
    std::optional<std::size_t> slope;  ///< Among the level’s slopes; absent: the level as a whole.
    double rise = 0.0;                 ///< Of −2 ln L without it.
    double lesser = 0.0;               ///< The law is half a chi-square of so many degrees …
    double p = 1.0;                    ///< … and half one of one more.
};

/// Half and half of two chi-squares: a variance cannot go below nothing.
/// Source: Self & Liang (1987), JASA 82; Stram & Lee (1994), Biometrics 50.
double halfAndHalf(double rise, double lesser) {
    const double below = lesser > 0.0 ? chiSquareTail(rise, lesser) : (rise > 0.0 ? 0.0 : 1.0);
    return 0.5 * below + 0.5 * chiSquareTail(rise, lesser + 1.0);
}

Result<std::vector<PartTest>> partTests(const CheckInput& in) {
    const LevelsFit& fit = *in.fit.levels;
    std::vector<PartTest> out;
    for (std::size_t l = 0; l < fit.levels.size(); ++l) {
        const DesignLevel& level = in.design.levels[l];
        const auto slopes = static_cast<std::size_t>(level.slopes.cols());
        for (std::size_t s = 0; s < std::max<std::size_t>(slopes, 1); ++s) {
            PartTest one;
            one.level = l;
            std::vector<DesignLevel> levels = in.design.levels;
            if (slopes > 0) {
                one.slope = s;
                one.name = level.name + " × " + level.slopeNames[s];
                one.lesser = level.full ? static_cast<double>(slopes) : 0.0;
                DesignLevel& cut = levels[l];
                std::vector<Index> kept;
                cut.slopeNames.clear();
                for (std::size_t other = 0; other < slopes; ++other) {
                    if (other != s) {
                        kept.push_back(static_cast<Index>(other));
                        cut.slopeNames.push_back(level.slopeNames[other]);
                    }
                }
                cut.slopes = MatrixXd(level.slopes(Eigen::all, kept));
            } else {
                one.name = level.name;
                levels.erase(levels.begin() + static_cast<std::ptrdiff_t>(l));
            }
            const auto without = levels.empty() ? Result<double>(fit.devianceWithout)
                                                : devianceWith(in, std::move(levels));
            if (!without) {
                return tl::make_unexpected(without.error());
            }
            // What is at its boundary already rises by rounding alone.
            const double rise = *without - fit.deviance;
            one.rise = rise > 1e-9 * std::max(1.0, std::abs(fit.deviance)) ? rise : 0.0;
            one.p = halfAndHalf(one.rise, one.lesser);
            out.push_back(std::move(one));
        }
    }
    return out;
}

/// A level’s grouping as the question names it.
std::string specOf(const CheckInput& in, const DesignLevel& level) {
    for (const LevelSpec& spec : in.question.settings.levels) {
        if (canonicalText(spec.by) == level.name) {
            return spec.by;
        }
    }
    return level.name;
}

/// The same question without random effects: by the method of its outcome.
void makePlain(const CheckInput& in, Question& variant, bool held = false) {
    const Family* family = in.fit.levels->family;
    const bool yesNo = family != nullptr && family->outcome == Family::Outcome::YesNo;
    variant.method = family == nullptr ? kLeastSquares
                     : yesNo && held   ? "conditional-logit"
                                       : in.question.settings.outcomeLaw;
    variant.settings = {};
}

void offerWithoutPart(const CheckInput& in, const PartTest& part, CheckResult& result) {
    Question variant = variantBase(in, "without " + part.name + " at random");
    auto& levels = variant.settings.levels;
    const std::string by = specOf(in, in.design.levels[part.level]);
    const auto spec = std::find_if(levels.begin(), levels.end(),
                                   [&](const LevelSpec& one) { return one.by == by; });
    if (spec == levels.end()) {
        return;
    }
    if (part.slope) {
        const std::string& name = in.design.levels[part.level].slopeNames[*part.slope];
        std::erase_if(spec->slopes,
                      [&](const std::string& one) { return canonicalText(one) == name; });
    } else {
        levels.erase(spec);
    }
    if (levels.empty()) {
        makePlain(in, variant);
    }
    result.remedies.push_back({"Take the random part of " + part.name + " out",
                               "the groups share no more than chance would give them",
                               std::move(variant)});
}

/// Few groups as levels of a term: they need no law.
void offerAsTerm(const CheckInput& in, const DesignLevel& level, CheckResult& result) {
    const std::string by = specOf(in, level);
    Question variant = variantBase(in, level.name + " among the terms");
    auto& levels = variant.settings.levels;
    std::erase_if(levels, [&](const LevelSpec& one) { return one.by == by; });
    if (levels.empty()) {
        makePlain(in, variant);
    }
    const bool there =
        std::any_of(variant.terms.begin(), variant.terms.end(),
                    [&](const Term& term) { return plainName(term.shown()) == plainName(by); });
    if (!there) {
        variant.terms.push_back(Term::expression(by));
    }
    result.remedies.push_back({"Put " + level.name + " among the terms",
                               "an effect for each of its few groups, without a law of them",
                               std::move(variant)});
}

/// Columns that vary within the innermost groups and between them, as their means in the groups.
MatrixXd meansOf(const CheckInput& in, std::vector<std::string>& names) {
    const DesignLevel& level = in.design.levels.front();
    std::vector<VectorXd> means;
    for (const Coefficient& c : in.fit.coefficients) {
        if (c.designTerm < 0) {
            continue;
        }
        const VectorXd x = in.design.X.col(c.column);
        VectorXd sums = VectorXd::Zero(level.count);
        VectorXd counts = VectorXd::Zero(level.count);
        for (Index i = 0; i < x.size(); ++i) {
            const std::int32_t g = level.of[static_cast<std::size_t>(i)];
            sums(g) += x(i);
            counts(g) += 1.0;
        }
        const VectorXd mean = sums.cwiseQuotient(counts);
        VectorXd spread(x.size());
        for (Index i = 0; i < x.size(); ++i) {
            spread(i) = mean(level.of[static_cast<std::size_t>(i)]);
        }
        const double whole = (x.array() - x.mean()).square().sum();
        const double within = (x - spread).squaredNorm();
        if (within > 1e-10 * whole && whole - within > 1e-10 * whole) {
            means.push_back(std::move(spread));
            names.push_back(c.term);
        }
    }
    MatrixXd out(in.design.X.rows(), static_cast<Index>(means.size()));
    for (std::size_t k = 0; k < means.size(); ++k) {
        out.col(static_cast<Index>(k)) = means[k];
    }
    return out;
}

/// The means of the groups among the terms, where each term is a variable of its own.
void offerMeans(const CheckInput& in, CheckResult& result) {
    Question variant = variantBase(in, "with the groups’ means");
    const std::string by = specOf(in, in.design.levels.front());
    std::size_t added = 0;
    for (const DesignTerm& term : in.design.terms) {
        if (!term.groups && !term.isProduct) {
            variant.terms.push_back(Term::expression("avg(" + writtenTerm(in, term.name) +
                                                     ") over (partition by " + by + ")"));
            ++added;
        }
    }
    if (added > 0) {
        result.remedies.push_back({"Put the groups’ means among the terms",
                                   "effects within and between groups stand apart (Mundlak 1978)",
                                   std::move(variant)});
    }
}

}  // namespace

void offerOtherViews(const CheckInput& in, CheckResult& result) {
    const DesignLevel& inner = in.design.levels.front();
    const DesignLevel& outer = in.design.levels.back();
    Question fixed = variantBase(in, "holding " + inner.name + " fixed");
    makePlain(in, fixed, true);
    fixed.fixedEffects = {specOf(in, inner)};
    fixed.errors = hasTrait(fixed.method, trait::kHoldsUnitElse)
                       ? ErrorSpec{}
                       : ErrorSpec::clusteredBy(specOf(in, outer));
    result.remedies.push_back({"Hold " + inner.name + " fixed",
                               "each group with itself: what groups differ in cannot mislead, and "
                               "what never changes within them drops out",
                               std::move(fixed)});
    Question clustered = variantBase(in, "clustered by " + outer.name);
    makePlain(in, clustered);
    clustered.errors = ErrorSpec::clusteredBy(specOf(in, outer));
    result.remedies.push_back({"Errors clustered by " + outer.name,
                               "no law for the groups’ effects: one mix of within and between, "
                               "with errors that allow for the groups",
                               std::move(clustered)});
}

CheckResult checkRandomPart(const CheckInput& in) {
    const auto tests = partTests(in);
    if (!tests) {
        return notApplicable("A fit without a random part was not found: " + tests.error().what +
                             ".");
    }
    const auto worst =
        std::max_element(tests->begin(), tests->end(),
                         [](const PartTest& a, const PartTest& b) { return a.p < b.p; });
    CheckResult result;
    result.statistic = worst->rise;
    result.statisticName = "2 Δ ln L";
    result.distribution = "chi2";
    result.df = {worst->lesser, worst->lesser + 1.0};
    result.p = worst->p;
    result.headline = pClause(worst->p);
    const bool needed = worst->p < in.alpha;
    result.verdict = needed ? Verdict::Fine : Verdict::Weigh;
    for (const PartTest& one : *tests) {
        result.details.emplace_back("2 Δ ln L " + one.name, one.rise);
        result.details.emplace_back("p " + one.name, one.p);
    }
    const std::string law = "half and half of chi-squares with " + shortNumber(worst->lesser) +
                            " and " + shortNumber(worst->lesser + 1.0) +
                            " degrees of freedom, since a variance ends at nothing";
    result.reading =
        needed ? "Without the random part of " + worst->name +
                     " the likelihood falls by more than "
                     "chance would let it (" +
                     pClause(worst->p) + ", " + law + "): the groups do differ."
               : "Without the random part of " + worst->name + " the likelihood is hardly lower (" +
                     pClause(worst->p) + ", " + law +
                     "). Keep it where the rows were drawn by these groups: errors that forget "
                     "them can be far too small. Where it was only tried, the plainer model says "
                     "the same.";
    result.exhibit = groupsExhibit(in.design, *in.fit.levels, worst->level,
                                   worst->slope ? *worst->slope + 1 : 0, in.alpha);
    if (!needed) {
        offerWithoutPart(in, *worst, result);
    }
    offerOtherViews(in, result);
    return result;
}

Result<Fit> fitWithMore(const CheckInput& in, const MatrixXd& columns,
                        const std::vector<std::string>& named) {
    Design wide = in.design;
    const Index k = wide.X.cols();
    wide.X.conservativeResize(Eigen::NoChange, k + columns.cols());
    wide.X.rightCols(columns.cols()) = columns;
    for (std::size_t j = 0; j < named.size(); ++j) {
        DesignTerm term;
        term.name = term.label = named[j];
        term.columns = {k + static_cast<Index>(j)};
        wide.columns.push_back({term.name, term.name, static_cast<int>(wide.terms.size()), false});
        wide.terms.push_back(std::move(term));
    }
    return in.fit.levels->family == nullptr
               ? fitMultilevel(wide, in.question.settings, ErrorSpec{}, in.alpha, in.job.quiet())
               : fitLevelOutcome(wide, in.question.settings, in.alpha, in.job.quiet(), false);
}

std::optional<MoreTest> testOfMore(const CheckInput& in, const Fit& fit, bool joint) {
    MoreTest out;
    double df = std::numeric_limits<double>::infinity();
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        if (fit.coefficients[j].column >= in.design.X.cols()) {
            out.of.push_back(static_cast<Index>(j));
            df = std::min(df, fit.coefficients[j].df.value_or(df));
        }
    }
    const auto q = static_cast<double>(out.of.size());
    VectorXd b(static_cast<Index>(out.of.size()));
    MatrixXd each = MatrixXd::Zero(fit.covariance.rows(), b.size());
    for (Index j = 0; j < b.size(); ++j) {
        const Index at = out.of[static_cast<std::size_t>(j)];
        b(j) = fit.coefficients[static_cast<std::size_t>(at)].estimate;
        each(at, j) = 1.0;
    }
    const auto f = out.of.empty() ? std::nullopt : waldF(b, fit.covariance(out.of, out.of));
    if (!f) {
        return std::nullopt;
    }
    const ContrastLaw law = joint ? lawOf(fit, each) : ContrastLaw{df, 1.0};
    out.chiSquare = !std::isfinite(law.df);
    out.statistic = out.chiSquare ? *f * q : *f * law.scale;
    out.df = out.chiSquare ? std::vector<double>{q} : std::vector<double>{q, law.df};
    out.p = out.chiSquare ? chiSquareTail(out.statistic, q) : fTail(out.statistic, q, law.df);
    return out;
}

CheckResult resultOf(const MoreTest& test) {
    CheckResult out;
    out.statistic = test.statistic;
    out.statisticName = test.chiSquare ? "χ²" : "F";
    out.distribution = test.chiSquare ? "chi2" : "F";
    out.df = test.df;
    out.p = test.p;
    out.headline = pClause(test.p);
    return out;
}

CheckResult checkWithinBetween(const CheckInput& in) {
    std::vector<std::string> names;
    const MatrixXd means = meansOf(in, names);
    if (names.empty()) {
        return notApplicable(
            "No term varies both within and between groups, so its effects cannot differ.");
    }
    std::vector<std::string> named;
    for (const std::string& name : names) {
        named.push_back("mean of " + name);
    }
    const auto fit = fitWithMore(in, means, named);
    if (!fit) {
        return notApplicable("The groups’ means could not be told apart: " + fit.error().what +
                             ".");
    }
    const auto test = testOfMore(in, *fit, false);
    if (!test) {
        return notApplicable("The groups’ means are told by the other terms.");
    }
    CheckResult result = resultOf(*test);
    for (const Index j : test->of) {
        const Coefficient& c = fit->coefficients[static_cast<std::size_t>(j)];
        result.details.emplace_back(c.term, c.estimate);
        result.details.emplace_back("se " + c.term, c.se);
    }
    const bool differ = *result.p < in.alpha;
    result.verdict = differ ? Verdict::Fails : Verdict::Fine;
    result.reading =
        differ ? "Groups with more of a term differ in the outcome by something else than its "
                 "effect within them (" +
                     pClause(*result.p) +
                     "): what the groups bring along goes with the terms, and effects as told here "
                     "mix the two. Hold the groups fixed, or put their means among the terms."
               : "There is no sign that effects between groups are others than within them (" +
                     pClause(*result.p) + "): groups’ effects look unrelated to the terms.";
    result.exhibit = groupsExhibit(in.design, *in.fit.levels, 0, 0, in.alpha);
    if (differ) {
        offerMeans(in, result);
        offerOtherViews(in, result);
    }
    return result;
}

CheckResult checkFewGroups(const CheckInput& in) {
    constexpr std::size_t kEnough = 30;
    constexpr std::size_t kTooFew = 6;
    const LevelsFit& fit = *in.fit.levels;
    const auto least = std::min_element(
        fit.levels.begin(), fit.levels.end(),
        [](const auto& a, const auto& b) { return a.labels.size() < b.labels.size(); });
    const std::size_t groups = least->labels.size();
    CheckResult result;
    result.headline = plural(groups, "group", "groups");
    result.details = {{"groups of " + least->by, static_cast<double>(groups)}};
    const bool adjusted = fit.law == "kenward-roger";
    result.verdict = groups >= kEnough  ? Verdict::Fine
                     : groups < kTooFew ? Verdict::Fails
                     : adjusted         ? Verdict::Noted
                                        : Verdict::Weigh;
    const std::string of = plural(groups, "group", "groups") + " of " + least->by;
    result.reading =
        result.verdict == Verdict::Fine ? of + " tell well enough how groups scatter."
        : result.verdict == Verdict::Fails
            ? "There are only " + of +
                  ": their spread is all but unknown. Hold them fixed: as terms they need no law."
            : "There are " + of +
                  ": their spread is loosely known, and what varies between groups alone stands on "
                  "so many independent cases (Maas & Hox 2005). " +
                  (adjusted ? "Errors and degrees of freedom allow for it."
                            : "Adjust errors and degrees of freedom for it.");
    result.exhibit = groupsExhibit(
        in.design, fit, static_cast<std::size_t>(least - fit.levels.begin()), 0, in.alpha);
    if (result.verdict == Verdict::Weigh && fit.restricted) {
        Question variant = variantBase(in, "adjusted for few groups");
        variant.settings.lawOfEffects = "kenward-roger";
        result.remedies.push_back({"Adjust for few groups",
                                   "errors and degrees of freedom by Kenward & Roger",
                                   std::move(variant)});
    }
    if (result.verdict == Verdict::Fails) {
        offerAsTerm(in, in.design.levels[static_cast<std::size_t>(least - fit.levels.begin())],
                    result);
    }
    return result;
}

CheckResult checkGroupsNormal(const CheckInput& in) {
    const LevelsFit& fit = *in.fit.levels;
    CheckResult result;
    double worst = 2.0;
    std::size_t at = 0;
    for (std::size_t l = 0; l < fit.levels.size(); ++l) {
        const LevelsFit::Level& level = fit.levels[l];
        if (level.variances.front().atBoundary) {
            continue;
        }
        // Effects drawn to the mean by unequal parts are brought to one spread first.
        std::vector<double> values;
        const double variance = level.variances.front().variance;
        for (Index g = 0; g < level.effects.rows(); ++g) {
            const double kept = variance - level.errors(g, 0) * level.errors(g, 0);
            if (kept > 1e-6 * variance) {
                values.push_back(level.effects(g, 0) / std::sqrt(kept));
            }
        }
        constexpr std::size_t kFewest = 8;
        constexpr std::size_t kMost = 5000;
        if (values.size() < kFewest || values.size() > kMost) {
            continue;
        }
        const ShapiroWilk test = shapiroWilk(
            Eigen::Map<const VectorXd>(values.data(), static_cast<Index>(values.size())));
        if (test.p < worst) {
            worst = test.p;
            at = l;
            result.statistic = test.w;
        }
    }
    if (worst > 1.0) {
        return notApplicable("No grouping has enough groups with an effect to look at their law.");
    }
    result.statisticName = "W";
    result.distribution = "W";
    result.p = worst;
    result.headline = pClause(worst);
    const bool departs = worst < in.alpha;
    result.verdict = departs ? Verdict::Noted : Verdict::Fine;
    const std::string& by = fit.levels[at].by;
    result.reading =
        departs ? "The effects of the groups of " + by + " do not look normal (" + pClause(worst) +
                      "). Effects of terms hardly depend on it; effects told of single groups do, "
                      "at the ends most: look at the picture for groups of their own kind."
                : "Nothing speaks against a normal law of the effects of " + by + " (" +
                      pClause(worst) + ").";
    result.exhibit = groupsExhibit(in.design, fit, at, 0, in.alpha);
    if (departs) {
        offerOtherViews(in, result);
    }
    return result;
}

}  // namespace rapporto
