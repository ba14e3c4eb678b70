#include "core/study/model_comparison.h"

#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Every coefficient of the smaller fit stands in the larger one.
bool holdsAll(const Fit& large, const Fit& small) {
    return std::all_of(
        small.coefficients.begin(), small.coefficients.end(), [&](const Coefficient& c) {
            return std::any_of(large.coefficients.begin(), large.coefficients.end(),
                               [&](const Coefficient& other) {
                                   return other.term == c.term && other.equation == c.equation;
                               });
        });
}

bool same(const Eigen::VectorXd& a, const Eigen::VectorXd& b) {
    return a.size() == b.size() && (a.array() == b.array()).all();
}

/// The two differ in their terms alone, and perhaps in a spread that one of them has: what is added
/// to the index, what rows count for, what is held fixed and what each method is told are the same.
bool standAlike(const Answer& from, const Answer& to) {
    const Design& a = *from.design;
    const Design& b = *to.design;
    EstimatorSettings settings = from.question.settings;
    settings.zeroTerms = to.question.settings.zeroTerms;
    settings.count = to.question.settings.count;
    if (!from.fit->likelihood->dispersion || !to.fit->likelihood->dispersion) {
        settings.form = to.question.settings.form;
    }
    return settings == to.question.settings && weightedAlike(a, b) && same(a.offset, b.offset) &&
           same(a.lower, b.lower) && same(a.upper, b.upper) &&
           from.question.ownSlopes == to.question.ownSlopes &&
           std::equal(a.effects.begin(), a.effects.end(), b.effects.begin(), b.effects.end(),
                      [](const SweptGrouping& one, const SweptGrouping& other) {
                          return one.name == other.name;
                      });
}

/// The larger has an equation that the smaller lacks: what it is without it is no value of its
/// coefficients.
bool hasFurtherEquation(const Fit& large, const Fit& small) {
    return std::any_of(
        large.coefficients.begin(), large.coefficients.end(), [&](const Coefficient& c) {
            return c.equation != "dispersion" &&
                   std::none_of(
                       small.coefficients.begin(), small.coefficients.end(),
                       [&](const Coefficient& other) { return other.equation == c.equation; });
        });
}

std::optional<ModelComparison> byLikelihood(const Answer& from, const Answer& to) {
    const auto& a = from.fit->likelihood;
    const auto& b = to.fit->likelihood;
    if (!a || !b || from.design->outcome != to.design->outcome ||
        from.design->rows != to.design->rows || from.design->weightKind == WeightKind::Sampling ||
        to.design->weightKind == WeightKind::Sampling || a->parameters == b->parameters ||
        !standAlike(from, to)) {
        return std::nullopt;
    }
    ModelComparison out;
    out.kind = ModelComparison::Kind::LikelihoodRatio;
    out.grows = b->parameters > a->parameters;
    const Answer& small = out.grows ? from : to;
    const Answer& large = out.grows ? to : from;
    const LikelihoodFit& less = *small.fit->likelihood;
    const LikelihoodFit& more = *large.fit->likelihood;
    const Family* family = less.family;
    // Counts without a spread of their own, and with one.
    const bool spread = less.family->outcome == Family::Outcome::Count &&
                        more.family->outcome == Family::Outcome::Count && !less.dispersion &&
                        more.dispersion;
    if ((family != more.family && !spread) || !holdsAll(*large.fit, *small.fit) ||
        hasFurtherEquation(*large.fit, *small.fit)) {
        return std::nullopt;
    }
    out.df1 = std::abs(b->parameters - a->parameters);
    out.statistic = std::max(2.0 * (more.logLikelihood - less.logLikelihood), 0.0);
    if (!std::isfinite(out.statistic)) {
        return std::nullopt;
    }
    // A dispersion cannot be below zero: half of the law stands there.
    out.half = spread && out.df1 == 1.0;
    out.p =
        out.half ? 0.5 * chiSquareTail(out.statistic, 1.0) : chiSquareTail(out.statistic, out.df1);
    const auto model = spread ? nullptr : plainModel(family, large.design->y);
    if (model != nullptr && less.index.cols() == 1 && large.design->effects.empty() &&
        !large.question.settings.penalised) {
        out.score = scoreStatistic(
            *model, Eigen::MatrixXd(large.design->X(Eigen::all, large.fit->solution.kept)),
            less.index.col(0), large.design->weights);
        out.scoreP = out.score ? std::optional(chiSquareTail(*out.score, out.df1)) : std::nullopt;
    }
    return out;
}

}  // namespace

std::optional<ModelComparison> comparedModels(const Answer& from, const Answer& to,
                                              const Job& job) {
    constexpr Eigen::Index kMostCells = 400000;
    if (!from.fit || !to.fit || !from.design || !to.design) {
        return std::nullopt;
    }
    // Several sets together have no likelihood, and no rows that both stand on.
    if (from.fit->pooled || to.fit->pooled) {
        return std::nullopt;
    }
    if (from.fit->likelihood || to.fit->likelihood) {
        return byLikelihood(from, to);
    }
    const auto plain = [](const Answer& a) {
        return a.question.byLeastSquares() && a.question.fixedEffects.empty();
    };
    if (!plain(from) || !plain(to) || from.fromMoments || to.fromMoments ||
        from.rows.used != to.rows.used ||
        from.design->X.size() + to.design->X.size() > kMostCells) {
        return std::nullopt;
    }
    const auto test =
        testModels(*from.design, *from.fit, *to.design, *to.fit, to.question.errors, job);
    if (!test || test->kind == ModelTest::Kind::Alike) {
        return std::nullopt;
    }
    ModelComparison out;
    if (test->kind == ModelTest::Kind::NonNested) {
        out.kind = ModelComparison::Kind::NonNested;
        out.first = test->first;
        out.second = test->second;
        return out;
    }
    out.grows = test->firstIsSmaller;
    out.statistic = test->f.value;
    out.df1 = test->f.df1;
    out.df2 = test->f.df2;
    out.p = test->f.p;
    return out;
}

std::vector<const Answer*> comparedWith(const Answer& answer, const std::vector<Answer>& all) {
    std::vector<const Answer*> out;
    const auto add = [&](const auto& is) {
        for (const Answer& one : all) {
            if (one.fit && one.question.id != answer.question.id && is(one.question) &&
                std::find(out.begin(), out.end(), &one) == out.end()) {
                out.push_back(&one);
            }
        }
    };
    add([&](const Question& q) { return q.id == answer.question.variantOf; });
    if (!answer.question.lead) {
        add([](const Question& q) { return q.lead; });
    }
    return out;
}

}  // namespace rapporto
