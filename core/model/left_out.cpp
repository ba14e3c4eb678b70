#include "core/model/left_out.h"

#include "core/base/format.h"
#include "core/expression/expression.h"
#include "core/model/likelihood.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

std::string spelled(const std::string& text) {
    const auto parsed = Expression::parse(text);
    return parsed ? parsed->canonical() : text;
}

double valueFor(double f) { return 0.5 * (std::sqrt(f * f * f * f + 4.0 * f * f) - f * f); }

/// The rows of a linear equation, weighted, with the columns that it kept.
class Equation {
  public:
    Equation(const Design& design, const Fit& fit)
        : kept_(fit.solution.kept.begin(), fit.solution.kept.end()) {
        x_ = design.X(Eigen::all, kept_);
        y_ = design.y;
        if (design.weights.size() > 0) {
            const VectorXd root = design.weights.cwiseSqrt();
            x_ = root.asDiagonal() * x_;
            y_ = root.cwiseProduct(y_);
        }
    }

    /// Where a column of X stands among those kept; −1: it was left out.
    [[nodiscard]] Index placeOf(Index column) const {
        const auto found = std::find(kept_.begin(), kept_.end(), column);
        return found == kept_.end() ? -1 : static_cast<Index>(found - kept_.begin());
    }

    [[nodiscard]] Index columns() const { return x_.cols(); }

    [[nodiscard]] const VectorXd& outcome() const { return y_; }

    [[nodiscard]] VectorXd column(Index place) const { return x_.col(place); }

    /// What these columns leave of a vector.
    [[nodiscard]] VectorXd left(const VectorXd& of, const std::vector<Index>& columns) const {
        if (columns.empty()) {
            return of;
        }
        const MatrixXd x = x_(Eigen::all, columns);
        return of - x * x.householderQr().solve(of);
    }

    [[nodiscard]] double leftSquares(const VectorXd& of, const std::vector<Index>& columns) const {
        return left(of, columns).squaredNorm();
    }

  private:
    std::vector<Index> kept_;
    MatrixXd x_;
    VectorXd y_;
};

class Finder {
  public:
    Finder(const Design& design, const Fit& fit, const LeftOutRequest& request,
           const std::vector<TermSet>& sets, double alpha)
        : design_(design), fit_(fit), request_(request), sets_(sets), alpha_(alpha) {}

    Result<LeftOut> run() {
        const Coefficient* effect = effectAsked();
        if (effect == nullptr) {
            return refuse(ErrorCode::UnknownName,
                          "‘" + request_.of + "’ is no effect of this question", "left_out",
                          "Name a term with one coefficient, or a level as zone=Ridge.");
        }
        out_.of = effect->term;
        out_.estimate = effect->estimate;
        out_.se = effect->se;
        out_.df = effect->df;
        if (fit_.likelihood != nullptr) {
            return ofLikelihood(*effect);
        }
        if (fit_.quantile != nullptr || fit_.robust != nullptr || fit_.instrumented != nullptr ||
            fit_.dynamic != nullptr || fit_.bent) {
            return refuse(ErrorCode::BadSetting,
                          "what may be left out is asked of one linear equation, and this method "
                          "is another",
                          "left_out", "Ask it of a variant by least squares.");
        }
        const Equation equation(design_, fit_);
        place_ = equation.placeOf(effect->column);
        if (place_ < 0 || fit_.exact || !(effect->se > 0.0)) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + request_.of + "’ has no error to be set against", "left_out");
        }
        return ofEquation(equation, *effect);
    }

  private:
    [[nodiscard]] const Coefficient* effectAsked() const {
        const std::string wanted = spelled(request_.of);
        for (const Coefficient& c : fit_.coefficients) {
            if (c.designTerm >= 0 && (c.term == wanted || c.term == request_.of)) {
                return &c;
            }
        }
        return nullptr;
    }

    Result<LeftOut> ofLikelihood(const Coefficient& effect) {
        if (fit_.likelihood->outcome != "count") {
            return refuse(ErrorCode::BadSetting,
                          "of this method there is neither a share of variance nor a rate to ask "
                          "by",
                          "left_out", "Ask it of a variant by least squares or of a count.");
        }
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
        for (Index c = 0; c < equation.columns(); ++c) {
            all_.push_back(c);
            if (c != place_) {
                others_.push_back(c);
            }
        }
        const VectorXd term = equation.column(place_);
        const VectorXd own = equation.left(term, others_);
        termSquares_ = own.squaredNorm();
        squares_ = equation.leftSquares(equation.outcome(), all_);
        df_ = fit_.dfResidual;
        const double b = effect.estimate;
        out_.partialR2 = b * b * termSquares_ / (squares_ + b * b * termSquares_);
        const double f = std::abs(b) * std::sqrt(termSquares_ / squares_);
        out_.robustness = valueFor(f);
        law_ = effect.df && *effect.df == df_ ? std::optional(df_ - 1.0) : effect.df;
        if (df_ > 1.0) {
            const double classical = std::sqrt(squares_ / df_ / termSquares_);
            const double reach =
                f - criticalValue(alpha_, law_) * (effect.se / classical) / std::sqrt(df_ - 1.0);
            out_.robustnessAlpha = reach > 0.0 ? valueFor(reach) : 0.0;
        }
        for (const Term& benchmark : request_.benchmarks) {
            if (auto done = bound(equation, effect, benchmark); !done) {
                return tl::make_unexpected(done.error());
            }
        }
        stability(equation, effect);
        return std::move(out_);
    }

    /// The columns behind a benchmark, as places.
    Result<std::vector<Index>> columnsOf(const Equation& equation, const Term& benchmark) const {
        std::vector<std::string> names;
        if (benchmark.kind == Term::Kind::Set) {
            for (const TermSet& set : sets_) {
                if (set.name == benchmark.parts.front()) {
                    for (const std::string& member : set.members) {
                        names.push_back(spelled(member));
                    }
                }
            }
        } else {
            names.push_back(benchmark.kind == Term::Kind::Expression
                                ? spelled(benchmark.parts.front())
                                : benchmark.shown());
        }
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

    Result<void> bound(const Equation& equation, const Coefficient& effect, const Term& benchmark) {
        const auto columns = columnsOf(equation, benchmark);
        if (!columns) {
            return tl::make_unexpected(columns.error());
        }
        const auto without = [&](const std::vector<Index>& from) {
            std::vector<Index> rest;
            for (const Index c : from) {
                if (std::find(columns->begin(), columns->end(), c) == columns->end()) {
                    rest.push_back(c);
                }
            }
            return rest;
        };
        const double ofTerm =
            1.0 - termSquares_ / equation.leftSquares(equation.column(place_), without(others_));
        const double ofOutcome =
            1.0 - squares_ / equation.leftSquares(equation.outcome(), without(all_));
        for (const double multiple : request_.multiples) {
            out_.bounds.push_back(boundOf(effect, benchmark.shown(), multiple, ofTerm, ofOutcome));
        }
        return {};
    }

    [[nodiscard]] LeftOutBound boundOf(const Coefficient& effect, const std::string& name, double k,
                                       double ofTerm, double ofOutcome) const {
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
        const double shift = std::sqrt(squares_ / termSquares_) *
                             std::sqrt(out.withOutcome * out.withTerm / (1.0 - out.withTerm));
        out.estimate = std::copysign(1.0, effect.estimate) * (std::abs(effect.estimate) - shift);
        out.se = effect.se *
                 std::sqrt((1.0 - out.withOutcome) / (1.0 - out.withTerm) * df_ / (df_ - 1.0));
        const double reach = criticalValue(alpha_, law_) * *out.se;
        out.low = *out.estimate - reach;
        out.high = *out.estimate + reach;
        return out;
    }

    /// Against the question without its other terms.
    void stability(const Equation& equation, const Coefficient& effect) {
        std::vector<Index> constant;
        bool others = false;
        for (const Index c : others_) {
            const auto column =
                static_cast<std::size_t>(fit_.solution.kept[static_cast<std::size_t>(c)]);
            const bool isConstant = design_.columns[column].term < 0;
            others = others || !isConstant;
            if (isConstant) {
                constant.push_back(c);
            }
        }
        if (!others) {
            return;
        }
        const VectorXd y = equation.left(equation.outcome(), constant);
        const VectorXd d = equation.left(equation.column(place_), constant);
        const double spreadY = y.squaredNorm();
        const double spreadD = d.squaredNorm();
        const double first = d.dot(y) / spreadD;
        const double r2First = first * first * spreadD / spreadY;
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
    std::vector<Index> all_;
    std::vector<Index> others_;
    double termSquares_ = 0.0;
    double squares_ = 0.0;
    double df_ = 0.0;
    std::optional<double> law_;
};

}  // namespace

Result<LeftOut> leftOut(const Design& design, const Fit& fit, const LeftOutRequest& request,
                        const std::vector<TermSet>& sets, double alpha) {
    return Finder(design, fit, request, sets, alpha).run();
}

}  // namespace rapporto
