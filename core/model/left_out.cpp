#include "core/model/left_out.h"

#include "core/expression/expression.h"
#include "core/model/effect_named.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

RAPPORTO_COMPILED_HERE(LeftOut);

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

double valueFor(double f) { return 0.5 * (std::sqrt(f * f * f * f + 4.0 * f * f) - f * f); }

/// A solved linear equation: how its sums of squares change as columns leave, from b and
/// A = (X'WX)⁻¹ alone. Places count the columns that were kept.
class Equation {
  public:
    explicit Equation(const LinearSolution& solution)
        : kept_(solution.kept),
          b_(solution.coefficients),
          a_(solution.factor * solution.factor.transpose()),
          squares_(solution.residualSquares) {}

    /// Where a column of X stands; −1: it was left out.
    [[nodiscard]] Index placeOf(Index column) const {
        const auto found = std::find(kept_.begin(), kept_.end(), column);
        return found == kept_.end() ? -1 : static_cast<Index>(found - kept_.begin());
    }

    [[nodiscard]] const std::vector<Index>& kept() const { return kept_; }

    [[nodiscard]] double squares() const { return squares_; }

    /// Σwe² of the outcome without these columns: Σwe² + b'A⁻¹b over them.
    [[nodiscard]] double squaresWithout(const std::vector<Index>& out) const {
        if (out.empty()) {
            return squares_;
        }
        const VectorXd b = b_(out);
        return squares_ + b.dot(block(out).ldlt().solve(b));
    }

    /// Σw(what is left of a column by all others but these)²: 1 over its place in A once they are
    /// out.
    [[nodiscard]] double leftOf(Index place, const std::vector<Index>& out = {}) const {
        return 1.0 / (a_(place, place) - shared(place, out).first);
    }

    /// The coefficient of a column without these.
    [[nodiscard]] double effectWithout(Index place, const std::vector<Index>& out) const {
        return b_(place) - shared(place, out).second;
    }

  private:
    [[nodiscard]] MatrixXd block(const std::vector<Index>& of) const { return a_(of, of); }

    /// a'A⁻¹a and a'A⁻¹b over the columns that leave, a what they share with one that stays.
    [[nodiscard]] std::pair<double, double> shared(Index place,
                                                   const std::vector<Index>& out) const {
        if (out.empty()) {
            return {0.0, 0.0};
        }
        const VectorXd beside = a_(out, place);
        const VectorXd solved = block(out).ldlt().solve(beside);
        const VectorXd b = b_(out);
        return {solved.dot(beside), solved.dot(b)};
    }

    const std::vector<Index>& kept_;
    const VectorXd& b_;
    MatrixXd a_;
    double squares_;
};

bool isLinearEquation(const Fit& fit) {
    return fit.likelihood == nullptr && fit.quantile == nullptr && fit.robust == nullptr &&
           fit.instrumented == nullptr && fit.dynamic == nullptr && fit.levels == nullptr &&
           !fit.bent;
}

bool isCount(const Fit& fit) {
    return fit.likelihood != nullptr && fit.likelihood->family->outcome == Family::Outcome::Count;
}

/// The terms of the question that a benchmark, or a term, stands for.
std::vector<std::string> namesOf(const Term& term, const std::vector<TermSet>& sets) {
    std::vector<std::string> names;
    if (term.kind == Term::Kind::Set) {
        for (const TermSet& set : sets) {
            if (set.name == term.parts.front()) {
                for (const std::string& member : set.members) {
                    names.push_back(canonicalText(member));
                }
            }
        }
    } else {
        names.push_back(term.kind == Term::Kind::Expression ? canonicalText(term.parts.front())
                                                            : term.shown());
    }
    return names;
}

class Finder {
  public:
    Finder(const Design& design, const Fit& fit, const LeftOutRequest& request,
           const std::vector<TermSet>& sets, double alpha)
        : design_(design), fit_(fit), request_(request), sets_(sets), alpha_(alpha) {}

    Result<LeftOut> run() {
        const Coefficient* effect = effectNamed(fit_, request_.of);
        if (effect == nullptr) {
            return refuse(ErrorCode::UnknownName,
                          "‘" + request_.of + "’ is no effect of this question", "left_out",
                          "Name a term with one coefficient, or a level as zone=Ridge.");
        }
        out_.of = effect->term;
        out_.estimate = effect->estimate;
        out_.se = effect->se;
        out_.df = effect->df;
        if (isCount(fit_)) {
            return ofCount(*effect);
        }
        if (fit_.instrumented && !fit_.likelihood) {
            return ofStages(*effect);
        }
        if (!isLinearEquation(fit_)) {
            return refuse(ErrorCode::BadSetting,
                          "what may be left out is asked of one linear equation or of a count, and "
                          "this method is neither",
                          "left_out", "Ask it of a variant by least squares.");
        }
        const Equation equation(fit_.solution);
        place_ = equation.placeOf(effect->column);
        if (place_ < 0 || fit_.exact || !(effect->se > 0.0)) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + request_.of + "’ has no error to be set against", "left_out");
        }
        return ofEquation(equation, *effect);
    }

  private:
    Result<LeftOut> ofCount(const Coefficient& effect) {
        const auto value = [](double ratio) {
            const double r = ratio < 1.0 ? 1.0 / ratio : ratio;
            return r + std::sqrt(r * (r - 1.0));
        };
        const bool open = effect.low <= 0.0 && effect.high >= 0.0;
        const double nearer = effect.estimate > 0.0 ? effect.low : effect.high;
        out_.eValue =
            EValue{value(std::exp(effect.estimate)), open ? 1.0 : value(std::exp(nearer))};
        return std::move(out_);
    }

    Result<LeftOut> ofEquation(const Equation& equation, const Coefficient& effect) {
        termSquares_ = equation.leftOf(place_);
        squares_ = equation.squares();
        const double b = effect.estimate;
        out_.partialR2 = b * b * termSquares_ / (squares_ + b * b * termSquares_);
        const double f = std::abs(b) * std::sqrt(termSquares_ / squares_);
        out_.robustness = valueFor(f);
        out_.unit = std::sqrt(squares_ / termSquares_);
        out_.dfResidual = fit_.dfResidual;
        const double df = out_.dfResidual;
        out_.law = effect.df && *effect.df == df ? std::optional(df - 1.0) : effect.df;
        if (df > 1.0) {
            const double classical = out_.unit / std::sqrt(df);
            const double reach =
                f - criticalValue(alpha_, out_.law) * (effect.se / classical) / std::sqrt(df - 1.0);
            out_.robustnessAlpha = reach > 0.0 ? valueFor(reach) : 0.0;
        }
        for (const Term& benchmark : request_.benchmarks) {
            if (auto done = bound(equation, benchmark); !done) {
                return tl::make_unexpected(done.error());
            }
        }
        stability(equation, effect);
        selection(equation, effect);
        return std::move(out_);
    }

    /// By instruments: of every instrument’s coefficient in the reduced form and the first stage.
    Result<LeftOut> ofStages(const Coefficient& effect) {
        const auto& firsts = fit_.instrumented->firstStages;
        const auto first = std::find_if(firsts.begin(), firsts.end(), [&](const FirstStage& one) {
            return one.endogenous == effect.term;
        });
        if (first == firsts.end()) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + effect.term + "’ is not moved by the instruments", "left_out",
                          "Ask it of the term that they move.");
        }
        const auto parts = instrumentParts(design_, Job());
        if (!parts) {
            return tl::make_unexpected(parts.error());
        }
        const VectorXd cause = design_.X.col(effect.column);
        for (const bool reduced : {true, false}) {
            const LinearProblem problem{parts->W, reduced ? design_.y : cause, design_.weights,
                                        design_.hasConstant};
            const auto solved = solveLinear(problem, false, Job());
            if (!solved) {
                return tl::make_unexpected(solved.error());
            }
            const FirstStage& told = reduced ? fit_.instrumented->reducedForm : *first;
            addStages(*parts, Equation(*solved), told, reduced ? design_.outcome : effect.term);
        }
        return std::move(out_);
    }

    /// A stage, of each instrument that is outside of the equation.
    void addStages(const InstrumentParts& parts, const Equation& equation, const FirstStage& told,
                   const std::string& outcome) {
        const double df =
            fit_.n - static_cast<double>(equation.kept().size()) - design_.effectsRank;
        for (const Coefficient& c : told.coefficients) {
            const auto at = std::find_if(parts.columns.begin(), parts.columns.end(),
                                         [&](const DesignColumn& w) { return w.name == c.term; });
            const bool outside =
                std::any_of(design_.instrumentColumns.begin(), design_.instrumentColumns.end(),
                            [&](const DesignColumn& z) { return z.name == c.term; });
            if (!outside || at == parts.columns.end() || !(df > 1.0) || !(c.se > 0.0)) {
                continue;
            }
            const Index place = equation.placeOf(at - parts.columns.begin());
            if (place < 0) {
                continue;
            }
            const double b2 = c.estimate * c.estimate * equation.leftOf(place);
            const double f = std::sqrt(b2 / equation.squares());
            const double classical = std::sqrt(equation.squares() / (df * equation.leftOf(place)));
            const auto law = c.df && *c.df == df ? std::optional(df - 1.0) : c.df;
            const double reach =
                f - criticalValue(alpha_, law) * (c.se / classical) / std::sqrt(df - 1.0);
            out_.stages.push_back({outcome, c.term, c.estimate, b2 / (equation.squares() + b2),
                                   valueFor(f), reach > 0.0 ? valueFor(reach) : 0.0});
        }
    }

    /// The columns behind a benchmark, as places.
    Result<std::vector<Index>> columnsOf(const Equation& equation, const Term& benchmark) const {
        const std::vector<std::string> names = namesOf(benchmark, sets_);
        std::vector<Index> out;
        for (const DesignTerm& term : design_.terms) {
            if (std::find(names.begin(), names.end(), term.name) == names.end()) {
                continue;
            }
            for (const Index column : term.columns) {
                const Index place = equation.placeOf(column);
                if (place == place_) {
                    return refuse(ErrorCode::BadSetting,
                                  "the benchmark ‘" + benchmark.shown() +
                                      "’ holds the effect that is asked for",
                                  "left_out", "Name another term.");
                }
                if (place >= 0) {
                    out.push_back(place);
                }
            }
        }
        if (out.empty()) {
            return refuse(ErrorCode::UnknownName,
                          "the benchmark ‘" + benchmark.shown() + "’ is no term of this question",
                          "left_out", "Name one of its terms, or a set among them.");
        }
        return out;
    }

    Result<void> bound(const Equation& equation, const Term& benchmark) {
        const auto columns = columnsOf(equation, benchmark);
        if (!columns) {
            return tl::make_unexpected(columns.error());
        }
        const double ofTerm = 1.0 - termSquares_ / equation.leftOf(place_, *columns);
        const double ofOutcome = 1.0 - squares_ / equation.squaresWithout(*columns);
        for (const double multiple : request_.multiples) {
            out_.bounds.push_back(boundOf(benchmark.shown(), multiple, ofTerm, ofOutcome));
        }
        return {};
    }

    [[nodiscard]] LeftOutBound boundOf(const std::string& name, double k, double ofTerm,
                                       double ofOutcome) const {
        LeftOutBound out;
        out.benchmark = name;
        out.multiple = k;
        out.withTerm = k * ofTerm / (1.0 - ofTerm);
        const double rest = 1.0 - k * ofTerm;
        const double shared = rest > 0.0 ? k * ofTerm * ofTerm / (rest * (1.0 - ofTerm)) : 1.0;
        if (out.withTerm >= 1.0 || shared >= 1.0) {
            out.why = "it would have to explain all that is left of " + out_.of;
            return out;
        }
        const double strength = (std::sqrt(k) + std::sqrt(shared)) / std::sqrt(1.0 - shared);
        out.withOutcome = strength * strength * ofOutcome / (1.0 - ofOutcome);
        if (out.withOutcome >= 1.0) {
            out.why = "it would have to explain all that is left of the outcome";
            return out;
        }
        const LeftBy left = leftBy(out_, out.withTerm, out.withOutcome, alpha_);
        out.estimate = left.estimate;
        out.se = left.se;
        out.low = left.low;
        out.high = left.high;
        return out;
    }

    /// Against the question without its other terms.
    void stability(const Equation& equation, const Coefficient& effect) {
        std::vector<Index> others;
        for (std::size_t k = 0; k < equation.kept().size(); ++k) {
            const auto column = static_cast<std::size_t>(equation.kept()[k]);
            if (design_.columns[column].term >= 0 && static_cast<Index>(k) != place_) {
                others.push_back(static_cast<Index>(k));
            }
        }
        if (others.empty()) {
            return;
        }
        std::vector<Index> all = others;
        all.push_back(place_);
        const double spreadY = equation.squaresWithout(all);
        const double spreadD = equation.leftOf(place_, others);
        const double first = equation.effectWithout(place_, others);
        const double r2First = 1.0 - equation.squaresWithout(others) / spreadY;
        const double r2 = 1.0 - squares_ / spreadY;
        Stability out;
        out.r2Max = std::min(1.0, request_.r2MaxFactor * r2);
        const double b = effect.estimate;
        const double moved = first - b;
        const double room = (out.r2Max - r2) * spreadY;
        const double gained = (r2 - r2First) * spreadY;
        const double tau = termSquares_;
        // Shares of δ and of the rest in her equation for a bias of b: no effect at all.
        const double above = b * gained * tau + b * spreadD * tau * moved * moved +
                             2.0 * b * b * tau * moved * spreadD +
                             b * b * b * (tau * spreadD - tau * tau);
        const double below = room * moved * spreadD + b * room * (spreadD - tau) +
                             b * b * tau * moved * spreadD +
                             b * b * b * (tau * spreadD - tau * tau);
        if (below != 0.0 && std::isfinite(above / below)) {
            out.delta = above / below;
        }
        out.atOne = atOne(b, moved, room, gained, spreadD);
        out_.stability = out;
    }

    /// Of a yes–no cause: what is left of the outcome goes with the cause as the other terms’ part
    /// of it does, each in its own variance, the effect being zero. From sums of squares: with
    /// s the slope without other terms, s·ΣD² − b·Σ(what is left of D)² is the covariance of the
    /// cause and that part.
    void selection(const Equation& equation, const Coefficient& effect) {
        const auto column = design_.X.col(effect.column).array();
        if (design_.swept || !design_.hasConstant || ((column != 0.0) && (column != 1.0)).any()) {
            return;
        }
        std::vector<Index> others;
        for (std::size_t k = 0; k < equation.kept().size(); ++k) {
            const auto at = static_cast<std::size_t>(equation.kept()[k]);
            if (design_.columns[at].term >= 0 && static_cast<Index>(k) != place_) {
                others.push_back(static_cast<Index>(k));
            }
        }
        out_.yesNo = !others.empty();
        if (others.empty()) {
            return;
        }
        std::vector<Index> all = others;
        all.push_back(place_);
        const double left = equation.squaresWithout({place_});
        const double told = equation.squaresWithout(all) - left;
        const double along =
            equation.effectWithout(place_, others) * equation.leftOf(place_, others) -
            effect.estimate * termSquares_;
        const double bias = along / termSquares_ * left / told;
        if (std::isfinite(bias) && bias * effect.estimate > 0.0) {
            out_.selection = Selection{bias, effect.estimate / bias};
        }
    }

    /// δ = 1: a quadratic in the bias, of whose roots one has the sign of the movement.
    [[nodiscard]] std::optional<double> atOne(double b, double moved, double room, double gained,
                                              double spreadD) const {
        const double tau = termSquares_;
        const double square = -tau * moved * spreadD;
        const double line = room * (spreadD - tau) - gained * tau - spreadD * tau * moved * moved;
        const double fixed = room * moved * spreadD;
        if (square == 0.0) {
            return line == 0.0 ? std::nullopt : std::optional(b + fixed / line);
        }
        const double inside = line * line - 4.0 * square * fixed;
        if (inside < 0.0) {
            return std::nullopt;
        }
        // The larger sum first: no difference of nearly equal numbers.
        const double sum = -0.5 * (line + std::copysign(std::sqrt(inside), line));
        for (const double root : {sum / square, sum == 0.0 ? 0.0 : fixed / sum}) {
            if (std::isfinite(root) && root * moved >= 0.0) {
                return b - root;
            }
        }
        return std::nullopt;
    }

    const Design& design_;
    const Fit& fit_;
    const LeftOutRequest& request_;
    const std::vector<TermSet>& sets_;
    double alpha_;
    LeftOut out_;
    Index place_ = -1;
    double termSquares_ = 0.0;
    double squares_ = 0.0;
};

}  // namespace

LeftBy leftBy(const LeftOut& found, double withTerm, double withOutcome, double alpha) {
    const double shift = found.unit * std::sqrt(withOutcome * withTerm / (1.0 - withTerm));
    LeftBy out;
    out.estimate = std::copysign(1.0, found.estimate) * (std::abs(found.estimate) - shift);
    out.se = found.se * std::sqrt((1.0 - withOutcome) / (1.0 - withTerm) * found.dfResidual /
                                  (found.dfResidual - 1.0));
    const double reach = criticalValue(alpha, found.law) * out.se;
    out.low = out.estimate - reach;
    out.high = out.estimate + reach;
    return out;
}

bool canAskLeftOut(const Fit& fit, const Coefficient& effect) {
    if (fit.instrumented && !fit.likelihood) {
        const auto& stages = fit.instrumented->firstStages;
        return std::any_of(stages.begin(), stages.end(), [&](const FirstStage& stage) {
            return stage.endogenous == effect.term;
        });
    }
    return effect.designTerm >= 0 && (isCount(fit) || (isLinearEquation(fit) && !fit.exact));
}

LeftOutRequest usualLeftOut(const Question& question, const Design& design,
                            const Coefficient& effect, const std::vector<TermSet>& sets) {
    LeftOutRequest request;
    request.of = effect.term;
    request.multiples = {1.0, 2.0};
    const std::string& own = design.terms[static_cast<std::size_t>(effect.designTerm)].name;
    for (const Term& term : question.terms) {
        const auto names = namesOf(term, sets);
        if (!term.muted && std::find(names.begin(), names.end(), own) == names.end()) {
            request.benchmarks.push_back(term);
        }
    }
    return request;
}

Result<LeftOut> leftOut(const Design& design, const Fit& fit, const LeftOutRequest& request,
                        const std::vector<TermSet>& sets, double alpha) {
    return Finder(design, fit, request, sets, alpha).run();
}

}  // namespace rapporto
