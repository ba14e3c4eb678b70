#include "core/defend/worst_cases.h"

#include "core/base/format.h"
#include "core/defend/by_lot.h"
#include "core/defend/defence.h"
#include "core/expression/expression.h"
#include "core/model/effect_named.h"
#include "core/numerics/distributions.h"
#include "core/study/explain.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

constexpr const char* kFilled = "outcome, filled in";

struct Seen {
    std::vector<double> cells;  ///< Of every row; NaN where it is not seen.
    bool yesNo = false;
};

Result<Seen> seenOutcome(const Frame& frame, const Question& question) {
    const auto evaluated = frame.evaluateText(question.outcome);
    if (!evaluated) {
        return tl::make_unexpected(evaluated.error());
    }
    const Column& column = evaluated->column;
    if (column.isText()) {
        return refuse(ErrorCode::BadSetting,
                      "worst cases are those of a number, and the outcome is a grouping",
                      "worst cases", "Ask for an indicator of one group.", {question.outcome});
    }
    Seen out;
    out.cells.resize(frame.rows());
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        out.cells[i] = column.isMissing(i) ? std::nan("") : column.numbers()[i];
    }
    const Variable* known = frame.variable(question.outcome);
    out.yesNo = known != nullptr && known->measure == Measure::YesNo;
    return out;
}

/// The question with an outcome of its own in place of the variable’s.
Question asked(const Question& question) {
    Question out = question;
    out.outcome = quotedName(kFilled);
    out.allChecks = false;
    out.checks.clear();
    out.effects.clear();
    out.predict.clear();
    out.hypotheses.clear();
    dropDefence(out);
    out.missing = "rows";
    out.completeBy.clear();
    return out;
}

Result<Estimated> estimatedWith(const Study& study, const Frame& frame, const Question& question,
                                std::vector<double> cells, const Job& job) {
    RowCounts counts;
    return estimateQuestion(study, frame.with(Column::ofNumbers(kFilled, std::move(cells))),
                            question, counts, job.quiet());
}

/// What the other terms leave of the cause: the sign of each outcome’s part in the effect.
Result<VectorXd> partsOf(const Design& design, const Fit& fit, const Coefficient& effect,
                         const Job& job) {
    ColumnsView others(design.X.rows());
    for (const Index column : fit.solution.kept) {
        if (column != effect.column) {
            others.add(design.X.col(column).data());
        }
    }
    const VectorXd cause = design.X.col(effect.column);
    if (others.cols() == 0) {
        return cause;
    }
    const LinearProblem problem{others, cause, design.weights, design.hasConstant};
    auto left = solveLinear(problem, false, job);
    if (!left) {
        return tl::make_unexpected(left.error());
    }
    return std::move(left->residuals);
}

/// Mean of the lowest (or highest) share of some numbers, the last one in part, and the variance
/// of it that comes from the numbers and from where they are cut.
struct Trimmed {
    double mean = 0.0;
    double spread = 0.0;  ///< Variance of those that are kept.
    double cut = 0.0;     ///< Where they are cut.
};

Trimmed trimmedMean(std::vector<double> values, double kept, bool lowest) {
    std::sort(values.begin(), values.end());
    if (!lowest) {
        std::reverse(values.begin(), values.end());
    }
    const double size = kept * static_cast<double>(values.size());
    double left = size;
    double sum = 0.0;
    double squares = 0.0;
    Trimmed out;
    const double from = values.front();
    for (const double value : values) {
        const double part = std::min(left, 1.0);
        if (part <= 0.0) {
            break;
        }
        sum += part * (value - from);
        squares += part * (value - from) * (value - from);
        out.cut = value;
        left -= part;
    }
    out.mean = from + sum / size;
    out.spread = squares / size - (sum / size) * (sum / size);
    return out;
}

double meanOf(const std::vector<double>& of) {
    return std::accumulate(of.begin(), of.end(), 0.0) / static_cast<double>(of.size());
}

double varianceOf(const std::vector<double>& of) {
    const double mean = meanOf(of);
    double out = 0.0;
    for (const double x : of) {
        out += (x - mean) * (x - mean);
    }
    return out / static_cast<double>(of.size());
}

/// The effect on those who are seen either way, without the other terms.
///
/// Lee (2009), proposition 3: the variance of a trimmed mean is that of what is kept, of where it
/// is cut, and of the share that is cut; the other side adds its own.
Result<AlwaysSeen> alwaysSeen(const std::vector<double>& with, const std::vector<double>& without,
                              double rowsWith, double rowsWithout, double alpha) {
    AlwaysSeen out;
    const auto seenWith = static_cast<double>(with.size());
    const auto seenWithout = static_cast<double>(without.size());
    if (seenWith < 2.0 || seenWithout < 2.0) {
        return refuse(ErrorCode::TooFewRows, "one side of the cause is hardly seen", "worst cases");
    }
    out.seenWith = seenWith / rowsWith;
    out.seenWithout = seenWithout / rowsWithout;
    out.difference = out.seenWith - out.seenWithout;
    out.se = std::sqrt(out.seenWith * (1.0 - out.seenWith) / rowsWith +
                       out.seenWithout * (1.0 - out.seenWithout) / rowsWithout);
    out.p = out.se > 0.0 ? twoSidedP(out.difference / out.se, std::nullopt) : 1.0;
    const bool cutWith = out.seenWith >= out.seenWithout;
    const std::vector<double>& cut = cutWith ? with : without;
    const std::vector<double>& whole = cutWith ? without : with;
    const double often = cutWith ? out.seenWith : out.seenWithout;
    const double seldom = cutWith ? out.seenWithout : out.seenWith;
    const double rowsOften = cutWith ? rowsWith : rowsWithout;
    const double rowsSeldom = cutWith ? rowsWithout : rowsWith;
    out.trimmed = (often - seldom) / often;
    const double kept = 1.0 - out.trimmed;
    const double ofShare =
        kept * kept *
        ((1.0 - often) / (rowsOften * often) + (1.0 - seldom) / (rowsSeldom * seldom));
    const auto end = [&](bool lowest) {
        const Trimmed part = trimmedMean(cut, kept, lowest);
        const double away = part.cut - part.mean;
        const double size = static_cast<double>(cut.size()) * kept;
        const double variance = part.spread / size + away * away * out.trimmed / size +
                                away * away / (kept * kept) * ofShare +
                                varianceOf(whole) / static_cast<double>(whole.size());
        const double sign = cutWith ? 1.0 : -1.0;
        return WorstCaseEnd{sign * (part.mean - meanOf(whole)), std::sqrt(variance)};
    };
    out.lower = end(cutWith);
    out.upper = end(!cutWith);
    std::tie(out.low, out.high) = intervalBetween(out.lower, out.upper, alpha, std::nullopt);
    return out;
}

class Bounds {
  public:
    Bounds(const Study& study, const Frame& frame, const Question& question, const Job& job)
        : study_(study), frame_(frame), question_(question), job_(job) {}

    Result<WorstCases> run() {
        const WorstCaseRequest& request = *question_.worstCases;
        auto seen = seenOutcome(frame_, question_);
        if (!seen) {
            return tl::make_unexpected(seen.error());
        }
        seen_ = *std::move(seen);
        const Question own = asked(question_);
        const auto some = meanFilled();
        auto first =
            estimatedWith(study_, frame_, own, filled([&](std::size_t) { return some; }), job_);
        if (!first) {
            return tl::make_unexpected(first.error());
        }
        if (!canDrawLots(first->design, first->fit)) {
            return refuse(ErrorCode::BadSetting,
                          "worst cases are asked of one linear equation of rows as they are, and "
                          "this question is another",
                          "worst cases", "Ask it of a variant by least squares.");
        }
        const Coefficient* effect = effectNamed(first->fit, request.of);
        if (effect == nullptr) {
            return refuse(ErrorCode::UnknownName,
                          "‘" + request.of + "’ is no effect of this question", "worst cases",
                          "Name a term with one coefficient, or a level as zone=Ridge.");
        }
        out_.of = effect->term;
        if (const auto done = setEnds(first->design, request); !done) {
            return tl::make_unexpected(done.error());
        }
        const auto parts = partsOf(first->design, first->fit, *effect, job_);
        if (!parts) {
            return tl::make_unexpected(parts.error());
        }
        std::vector<double> sign(frame_.rows(), 0.0);
        for (std::size_t k = 0; k < first->design.rows.size(); ++k) {
            sign[first->design.rows[k]] = (*parts)(static_cast<Index>(k));
        }
        std::optional<double> df;
        for (const bool upper : {false, true}) {
            const auto fit =
                estimatedWith(study_, frame_, own, filled([&](std::size_t row) {
                                  return (sign[row] > 0.0) == upper ? out_.to : out_.from;
                              }),
                              job_);
            if (!fit) {
                return tl::make_unexpected(fit.error());
            }
            const Coefficient* end = effectNamed(fit->fit, request.of);
            if (end == nullptr) {
                return refuse(ErrorCode::UnknownName, "the effect is gone in the worst case",
                              "worst cases");
            }
            df = end->df;
            (upper ? out_.upper : out_.lower) = {end->estimate, end->se};
        }
        std::tie(out_.low, out_.high) = intervalBetween(out_.lower, out_.upper, study_.alpha, df);
        always(first->design, *effect);
        return std::move(out_);
    }

  private:
    [[nodiscard]] double meanFilled() const {
        double sum = 0.0;
        double count = 0.0;
        for (const double x : seen_.cells) {
            sum += std::isnan(x) ? 0.0 : x;
            count += std::isnan(x) ? 0.0 : 1.0;
        }
        return count > 0.0 ? sum / count : 0.0;
    }

    template <class Value>
    [[nodiscard]] std::vector<double> filled(Value value) const {
        std::vector<double> out = seen_.cells;
        for (std::size_t i = 0; i < out.size(); ++i) {
            out[i] = std::isnan(out[i]) ? value(i) : out[i];
        }
        return out;
    }

    Result<void> setEnds(const Design& design, const WorstCaseRequest& request) {
        double least = std::numeric_limits<double>::infinity();
        double most = -least;
        for (const std::size_t row : design.rows) {
            const double x = seen_.cells[row];
            if (std::isnan(x)) {
                ++out_.unseen;
            } else {
                least = std::min(least, x);
                most = std::max(most, x);
            }
        }
        out_.rows = design.rows.size();
        if (out_.unseen == 0) {
            return refuse(ErrorCode::BadSetting,
                          "every row that has the terms has the outcome, too: nothing is unseen",
                          "worst cases", "Take the request out.");
        }
        out_.from = request.low.value_or(least);
        out_.to = request.high.value_or(most);
        out_.asSeen = !seen_.yesNo && (!request.low || !request.high);
        if (out_.from > least || out_.to < most) {
            return refuse(ErrorCode::BadSetting,
                          "the outcome goes from " + shortNumber(least, 6) + " to " +
                              shortNumber(most, 6) + ", beyond the ends that are named",
                          "worst cases", "Name ends that hold every value that was seen.");
        }
        return {};
    }

    void always(const Design& design, const Coefficient& effect) {
        const DesignTerm& term = design.terms[static_cast<std::size_t>(effect.designTerm)];
        const Design& raw = design.swept && design.before ? *design.before : design;
        const VectorXd cause = raw.X.col(effect.column);
        if (term.groups || ((cause.array() != 0.0) && (cause.array() != 1.0)).any()) {
            out_.whyNotAlways = "the cause is no yes or no";
            return;
        }
        if (design.weights.size() > 0) {
            out_.whyNotAlways = "rows have weights";
            return;
        }
        std::vector<double> with;
        std::vector<double> without;
        double rowsWith = 0.0;
        for (std::size_t k = 0; k < design.rows.size(); ++k) {
            const bool has = cause(static_cast<Index>(k)) == 1.0;
            const double y = seen_.cells[design.rows[k]];
            rowsWith += has ? 1.0 : 0.0;
            if (!std::isnan(y)) {
                (has ? with : without).push_back(y);
            }
        }
        auto found = alwaysSeen(with, without, rowsWith,
                                static_cast<double>(design.rows.size()) - rowsWith, study_.alpha);
        if (found) {
            out_.always = *found;
        } else {
            out_.whyNotAlways = found.error().what;
        }
    }

    const Study& study_;
    const Frame& frame_;
    const Question& question_;
    const Job& job_;
    Seen seen_;
    WorstCases out_;
};

}  // namespace

std::pair<double, double> intervalBetween(const WorstCaseEnd& lower, const WorstCaseEnd& upper,
                                          double alpha, std::optional<double> df) {
    const double largest = std::max(lower.se, upper.se);
    const auto below = [&](double t) { return df ? tTail(-t, *df) : normalTail(-t); };
    // Between one-sided and two-sided: the wider the gap, the less the far end matters.
    double least = criticalValue(2.0 * alpha, df);
    double most = criticalValue(alpha, df);
    const double gap = largest > 0.0 ? (upper.estimate - lower.estimate) / largest : 0.0;
    for (int step = 0; step < 100 && most - least > 0.0; ++step) {
        const double middle = 0.5 * (least + most);
        (below(middle + gap) - below(-middle) < 1.0 - alpha ? least : most) = middle;
    }
    return {lower.estimate - most * lower.se, upper.estimate + most * upper.se};
}

Result<WorstCases> worstCases(const Study& study, const Frame& frame, const Question& question,
                              const Job& job) {
    return Bounds(study, frame, question, job).run();
}

}  // namespace rapporto
