#include "core/paths/trace.h"

#include "core/base/format.h"
#include "core/model/reweighted.h"
#include "core/numerics/distributions.h"
#include "core/paths/draws.h"
#include "core/paths/trace_kind.h"
#include "core/study/answer.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

/// What the spec leaves to the source, filled in; or why it cannot be had from a summary.
Result<TraceSpec> settled(const TraceSpec& spec, std::uint64_t seed, bool fromMoments) {
    TraceSpec out = spec;
    out.seed = out.seed ? out.seed : std::optional(seed);
    if (out.resampling.empty()) {
        out.resampling = fromMoments ? "parametric" : "rows";
    }
    if (out.interval == "delta") {
        return out;
    }
    const auto needs = [](const std::string& what, const std::string& help) {
        return refuse(ErrorCode::BadSetting, what + " need rows, and the source is a summary", "",
                      help);
    };
    if (fromMoments && out.resampling != "parametric") {
        return needs("draws of " + out.resampling, "Draw from the law of the summary: parametric.");
    }
    if (fromMoments && out.interval == "bca") {
        return needs("BCa intervals", "Choose bias-corrected ones.");
    }
    return out;
}

class Tracer {
  public:
    Tracer(const Study& study, const Frame& frame, const Question& question, const Job& job)
        : study_(study), frame_(frame), question_(question), job_(job), alpha_(study.alpha) {}

    Result<Trace> run(RowCounts& counts) {
        auto spec = settled(question_.trace, study_.seed, frame_.moments() != nullptr);
        if (!spec) {
            return tl::make_unexpected(spec.error());
        }
        Question asked = question_;
        asked.trace = *spec;
        auto system = makeSystem(study_, frame_, asked, counts, job_);
        if (!system) {
            return tl::make_unexpected(system.error());
        }
        spec_ = withoutMuted(*spec, study_.sets);
        auto plan = EffectPlan::make(*system, spec_);
        if (!plan) {
            return tl::make_unexpected(plan.error());
        }
        auto covariance = jointCovariance(*system, question_.errors, alpha_, job_.quiet());
        if (!covariance) {
            return tl::make_unexpected(covariance.error());
        }
        out_.covariance = *std::move(covariance);
        out_.warnings = system->warnings;
        fillCoefficients(*system);
        fillNodes(*system);
        if (auto done = fillEffects(*system, *plan); !done) {
            return tl::make_unexpected(done.error());
        }
        fillRows();
        fillVerdicts();
        fillSensitivity(*system);
        out_.fit = systemFit(*system, frame_.moments());
        out_.absent = absentPaths(*system, job_);
        if (plan->cutShort()) {
            out_.warnings.emplace_back(
                "There are more ways than are listed: their sum is told, not each of them.");
        }
        out_.equations = std::move(system->equations);
        if (job_.stopped()) {
            return stoppedWork();
        }
        return std::move(out_);
    }

  private:
    void fillCoefficients(const PathSystem& system) {
        for (std::size_t e = 0; e < system.equations.size(); ++e) {
            for (Coefficient c : system.equations[e].fit->coefficients) {
                c.equation = "to " + system.equations[e].to;
                out_.coefficients.push_back(std::move(c));
            }
        }
    }

    void fillNodes(const PathSystem& system) {
        out_.nodes = system.nodes;
        const auto count = static_cast<Index>(system.nodes.size());
        out_.together = MatrixXd::Identity(count, count);
        for (Index a = 0; a < count; ++a) {
            const auto& x = system.values[static_cast<std::size_t>(a)];
            const TraceNode& own = system.nodes[static_cast<std::size_t>(a)];
            for (Index b = 0; b < a; ++b) {
                const auto& y = system.values[static_cast<std::size_t>(b)];
                const TraceNode& other = system.nodes[static_cast<std::size_t>(b)];
                const VectorXd product = (x.array() - own.mean) * (y.array() - other.mean);
                const double sum =
                    system.weights.size() > 0 ? product.dot(system.weights) : product.sum();
                out_.together(a, b) = out_.together(b, a) =
                    sum / (system.n - 1.0) / (own.sd * other.sd);
            }
        }
    }

    Result<void> fillEffects(const PathSystem& system, const EffectPlan& plan) {
        out_.effects = plan.effects();
        out_.shares = plan.shares();
        out_.interval = spec_.interval;
        const RowFacts rows = rowFacts(system);
        const VectorXd value = plan.at(system.theta, rows);
        const bool delta = spec_.interval == "delta";
        Law law;
        if (delta) {
            const VectorXd own = out_.covariance.diagonal().cwiseMax(0.0).cwiseSqrt();
            law = byDelta(value, plan.slopes(system.theta, rows, own));
        } else {
            auto drawn = drawEffects(system, plan, spec_, out_.covariance, frame_.moments(), job_);
            if (!drawn) {
                return tl::make_unexpected(drawn.error());
            }
            out_.resampling = spec_.resampling;
            out_.asked = drawn->asked;
            out_.failed = drawn->failed;
            law = byDraws(value, *drawn);
        }
        const VectorXd rounding =
            frame_.moments() != nullptr ? roundings(system, plan) : VectorXd();
        for (std::size_t k = 0; k < out_.effects.size(); ++k) {
            TraceEffect& effect = out_.effects[k];
            const auto i = static_cast<Index>(k);
            effect.estimate = value(i);
            effect.se = law.se(i);
            effect.low = law.low(i);
            effect.high = law.high(i);
            if (std::isfinite(law.p(i))) {
                effect.p = law.p(i);
            }
            if (!effect.change) {
                effect.standardised =
                    effect.estimate *
                    system.nodes[static_cast<std::size_t>(system.node(effect.from))].sd /
                    system.nodes[static_cast<std::size_t>(system.node(effect.to))].sd;
            }
            if (rounding.size() > 0) {
                effect.rounding = rounding(i);
            }
        }
        for (std::size_t k = 0; k < out_.shares.size(); ++k) {
            const auto i = static_cast<Index>(out_.effects.size() + k);
            TraceShare& share = out_.shares[k];
            share.low = share.high = kNone;
            if (!plan.opposes(k, value) && std::isfinite(value(i))) {
                share.share = value(i);
                share.low = law.low(i);
                share.high = law.high(i);
            }
        }
        fillArrows(system, plan, value, law);
        return {};
    }

    struct Law {
        VectorXd se;
        VectorXd low;
        VectorXd high;
        VectorXd p;
    };

    /// By the same intervals as the effects, so that picture and rows agree.
    void fillArrows(const PathSystem& system, const EffectPlan& plan, const VectorXd& value,
                    const Law& law) {
        out_.arrows = plan.arrows();
        for (std::size_t a = 0; a < out_.arrows.size(); ++a) {
            TraceArrow& arrow = out_.arrows[a];
            const auto i = static_cast<Index>(out_.effects.size() + out_.shares.size() + a);
            arrow.estimate = value(i);
            arrow.se = law.se(i);
            arrow.low = law.low(i);
            arrow.high = law.high(i);
            if (std::isfinite(law.p(i))) {
                arrow.p = law.p(i);
            }
            arrow.standardised = arrow.estimate *
                                 system.nodes[static_cast<std::size_t>(arrow.from)].sd /
                                 system.nodes[static_cast<std::size_t>(arrow.to)].sd;
        }
    }

    /// Each effect as tables and lenses have it.
    void fillRows() {
        for (const TraceEffect& effect : out_.effects) {
            Coefficient row;
            row.term = effect.from + " → " + effect.to;
            row.label = effectName(effect);
            row.equation = row.label + (effect.at.empty() ? "" : ", " + settingText(effect.at));
            row.estimate = effect.estimate;
            row.se = effect.se;
            row.low = effect.low;
            row.high = effect.high;
            row.p = effect.p;
            row.standardised = effect.standardised;
            row.column = -1;
            out_.effectRows.push_back(std::move(row));
        }
    }

    [[nodiscard]] Law byDelta(const VectorXd& value, const MatrixXd& slopes) const {
        Law law;
        law.se = (slopes * out_.covariance)
                     .cwiseProduct(slopes)
                     .rowwise()
                     .sum()
                     .cwiseMax(0.0)
                     .cwiseSqrt();
        const double reach = criticalValue(alpha_, std::nullopt);
        law.low = value - reach * law.se;
        law.high = value + reach * law.se;
        law.p = VectorXd::Constant(value.size(), kNone);
        for (Index i = 0; i < value.size(); ++i) {
            if (law.se(i) > 0.0) {
                law.p(i) = twoSidedP(value(i) / law.se(i), std::nullopt);
            }
        }
        return law;
    }

    [[nodiscard]] Law byDraws(const VectorXd& value, const TraceDraws& drawn) const {
        ErrorSpec how;
        how.interval = spec_.interval;
        const Resampling found = intervalsOf(value, drawn.values, drawn.influence, how, alpha_);
        Law law{VectorXd::Zero(value.size()), found.low, found.high, found.p};
        for (Index i = 0; i < value.size(); ++i) {
            double count = 0.0;
            double mean = 0.0;
            double squares = 0.0;
            for (const double x : drawn.values.row(i)) {
                if (std::isfinite(x)) {
                    count += 1.0;
                    const double off = x - mean;
                    mean += off / count;
                    squares += off * (x - mean);
                }
            }
            law.se(i) = count > 1.0 ? std::sqrt(squares / (count - 1.0)) : kNone;
        }
        return law;
    }

    /// How far half a unit in the last place printed, of every correlation and deviation at its
    /// worst together, moves each effect: to first order.
    [[nodiscard]] VectorXd roundings(const PathSystem& system, const EffectPlan& plan) const {
        const SummaryMatrix& m = *frame_.moments();
        const auto effects = static_cast<Index>(plan.effects().size());
        const VectorXd value = plan.at(system.theta, rowFacts(system)).head(effects);
        std::vector<Index> used;
        for (const TraceNode& node : system.nodes) {
            const auto at = std::find(m.names.begin(), m.names.end(), node.name);
            if (at == m.names.end()) {
                return {};
            }
            used.push_back(at - m.names.begin());
        }
        VectorXd sum = VectorXd::Zero(effects);
        const auto moved = [&](const MatrixXd& R, const VectorXd& sd) -> VectorXd {
            return plan.at(solvedFrom(system, used, R, sd), {}).head(effects);
        };
        int places = 0;
        for (const Index a : used) {
            for (const Index b : used) {
                places = b < a ? std::max(places, decimalPlaces(m.correlation(a, b))) : places;
            }
        }
        const double half = 0.5 * std::pow(10.0, -places);
        for (std::size_t a = 0; a < used.size(); ++a) {
            for (std::size_t b = 0; b < a; ++b) {
                MatrixXd R = m.correlation;
                R(used[a], used[b]) += half;
                R(used[b], used[a]) += half;
                sum += (moved(R, m.sd) - value).cwiseAbs();
            }
            if (m.hasScale) {
                VectorXd sd = m.sd;
                sd(used[a]) += 0.5 * std::pow(10.0, -decimalPlaces(m.sd(used[a])));
                sum += (moved(m.correlation, sd) - value).cwiseAbs();
            }
        }
        return sum;
    }

    /// Digits behind the point of a number as it was printed; 15 at most.
    static int decimalPlaces(double x) {
        const std::string text = exactNumber(x);
        const std::size_t point = text.find('.');
        if (point == std::string::npos || text.find('e') != std::string::npos) {
            return 0;
        }
        return static_cast<int>(std::min<std::size_t>(text.size() - point - 1, 15));
    }

    /// θ of the system under other correlations and deviations of its nodes.
    static VectorXd solvedFrom(const PathSystem& system, const std::vector<Index>& used,
                               const MatrixXd& R, const VectorXd& sd) {
        VectorXd theta = system.theta;
        for (std::size_t e = 0; e < system.equations.size(); ++e) {
            const auto to = used[static_cast<std::size_t>(system.node(system.equations[e].to))];
            std::vector<Index> from;
            std::vector<Index> parameters;
            for (Index j = system.first[e]; j < system.first[e + 1]; ++j) {
                const auto& factors = system.columns[static_cast<std::size_t>(j)].factors;
                if (!factors.empty()) {
                    from.push_back(used[static_cast<std::size_t>(factors[0])]);
                    parameters.push_back(j);
                }
            }
            const VectorXd b = Eigen::LDLT<MatrixXd>(R(from, from)).solve(VectorXd(R(from, to)));
            for (std::size_t k = 0; k < from.size(); ++k) {
                theta(parameters[k]) = b(static_cast<Index>(k)) * sd(to) / sd(from[k]);
            }
        }
        return theta;
    }

    [[nodiscard]] const TraceEffect* find(const TraceEffect& like, const std::string& kind) const {
        for (const TraceEffect& effect : out_.effects) {
            if (effect.from == like.from && effect.to == like.to && effect.at == like.at &&
                effect.kind == kind && effect.through.empty()) {
                return &effect;
            }
        }
        return nullptr;
    }

    void fillVerdicts() {
        for (const TraceEffect& effect : out_.effects) {
            const bool natural = effect.kind == "natural-indirect";
            if (!natural && effect.kind != "indirect") {
                continue;
            }
            const TraceEffect* direct = find(effect, natural ? "natural-direct" : "direct");
            const auto clear = [](const TraceEffect* one) {
                return one != nullptr && (one->low > 0.0 || one->high < 0.0);
            };
            TraceVerdict verdict;
            verdict.from = effect.from;
            verdict.to = effect.to;
            verdict.at = effect.at;
            if (!effect.through.empty()) {
                std::string names;
                for (const std::string& name : effect.through) {
                    names += (names.empty() ? "" : ", ") + name;
                }
                verdict.through = names;
            }
            const bool through = clear(&effect);
            const bool beside = clear(direct);
            verdict.verdict = through && beside ? (effect.estimate * direct->estimate > 0.0
                                                       ? "both, same sign"
                                                       : "both, opposite signs")
                              : through         ? "indirect only"
                              : beside          ? "direct only"
                                                : "none";
            out_.verdicts.push_back(std::move(verdict));
        }
    }

    /// One mediator between, linear, the same causes in both equations: the correlation of the two
    /// errors at which nothing passes is that of what is left of both without the mediator.
    void fillSensitivity(const PathSystem& system) {
        for (const TraceEffect& effect : out_.effects) {
            if (effect.kind != "indirect" || effect.through.size() != 1 || !effect.at.empty() ||
                find(effect, "indirect") == nullptr) {
                continue;
            }
            const auto ways = std::count_if(
                out_.effects.begin(), out_.effects.end(), [&](const TraceEffect& one) {
                    return one.from == effect.from && one.to == effect.to && one.at.empty() &&
                           one.kind == "indirect" && !one.through.empty();
                });
            if (ways == 1) {
                addSensitivity(system, effect);
            }
        }
    }

    void addSensitivity(const PathSystem& system, const TraceEffect& effect) {
        const int between = system.node(effect.through.front());
        const int to = system.node(effect.to);
        const auto equationOf = [&](int node) {
            return static_cast<std::size_t>(system.nodes[static_cast<std::size_t>(node)].equation);
        };
        const std::size_t first = equationOf(between);
        const std::size_t second = equationOf(to);
        if (!system.equations[first].isLinear() || !system.equations[second].isLinear()) {
            return;
        }
        // Columns by their factors, without the mediator’s own.
        const auto columnsOf = [&](std::size_t e) {
            std::set<std::vector<int>> all;
            for (Index j = system.first[e]; j < system.first[e + 1]; ++j) {
                all.insert(system.columns[static_cast<std::size_t>(j)].factors);
            }
            return all;
        };
        auto own = columnsOf(second);
        if (own.erase({between}) != 1 || own != columnsOf(first)) {
            return;
        }
        const Design& design = *system.equations[first].design;
        const VectorXd& y = system.values[static_cast<std::size_t>(to)];
        const auto whole =
            solveLinear({design.X, y, design.weights, design.hasConstant}, false, job_.quiet());
        if (!whole) {
            return;
        }
        const VectorXd& e1 = whole->residuals;
        const VectorXd& e2 = system.equations[first].fit->residuals;
        const auto product = [&](const VectorXd& a, const VectorXd& b) {
            const VectorXd ab = a.cwiseProduct(b);
            return system.weights.size() > 0 ? ab.dot(system.weights) : ab.sum();
        };
        TraceSensitivity found;
        found.from = effect.from;
        found.to = effect.to;
        found.through = effect.through.front();
        found.rhoZero = product(e1, e2) / std::sqrt(product(e1, e1) * product(e2, e2));
        found.spread = std::sqrt(product(e1, e1) / product(e2, e2));
        for (const TraceArrow& arrow : out_.arrows) {
            if (arrow.to == between && arrow.from == system.node(effect.from)) {
                found.first = arrow.estimate;
            }
        }
        if (std::isfinite(found.rhoZero)) {
            out_.sensitivity.push_back(std::move(found));
        }
    }

    const Study& study_;
    const Frame& frame_;
    const Question& question_;
    const Job& job_;
    double alpha_;
    TraceSpec spec_;
    Trace out_;
};

}  // namespace

double TraceSensitivity::indirectAt(double rho) const {
    return first * spread *
           (rhoZero - rho * std::sqrt((1.0 - rhoZero * rhoZero) / (1.0 - rho * rho)));
}

Result<Trace> traceCauses(const Study& study, const Frame& frame, const Question& question,
                          RowCounts& counts, const Job& job) {
    return Tracer(study, frame, question, job).run(counts);
}

}  // namespace rapporto
