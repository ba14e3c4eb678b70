#include "core/paths/natural.h"

#include "core/base/parallel.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

using Curve = Family::Curve;

/// The curve of an equation’s mean.
Curve curveOf(const TraceEquation& equation) {
    const Family* family = familyOf(equation.question.method);
    return family == nullptr ? Curve::Line : family->curve;
}

/// The mean of an outcome at an index.
double meanAt(Curve curve, double index) {
    switch (curve) {
        case Curve::Logit:
            return index >= 0.0 ? 1.0 / (1.0 + std::exp(-index))
                                : std::exp(index) / (1.0 + std::exp(index));
        case Curve::Probit:
            return 0.5 * std::erfc(-index / std::numbers::sqrt2);
        case Curve::Exp:
            return std::exp(index);
        default:
            return index;
    }
}

/// Points of the trapezoid rule under the standard normal density: its error falls as
/// exp(−2πd/h) with the step h and the distance d of the nearest pole, so that few points give
/// every digit. Source: Trefethen & Weideman (2014), SIAM Review 56.
struct NormalPoints {
    explicit NormalPoints(double step) {
        constexpr double kReach = 8.7;
        double total = 0.0;
        for (int i = -static_cast<int>(kReach / step); i <= static_cast<int>(kReach / step); ++i) {
            const double z = i * step;
            points.push_back({z, std::exp(-0.5 * z * z)});
            total += points.back()[1];
        }
        for (auto& point : points) {
            point[1] /= total;
        }
    }

    std::vector<std::array<double, 2>> points;
};

/// A step that leaves an error under 1e-12 where the nearest pole of the logistic function lies at
/// π/slope.
double stepFor(double slope) {
    constexpr double kPi = std::numbers::pi;
    return std::clamp(2.0 * kPi * kPi / (28.0 * std::max(std::abs(slope), 1e-9)), 0.02, 0.5);
}

/// E g(index) for an index normal about `mean`.
double meanUnder(Curve curve, double mean, double variance) {
    if (curve == Curve::Probit) {
        return meanAt(curve, mean / std::sqrt(1.0 + variance));
    }
    if (curve == Curve::Exp) {
        return std::exp(mean + 0.5 * variance);
    }
    if (curve != Curve::Logit || !(variance > 0.0)) {
        return meanAt(curve, mean);
    }
    const double sd = std::sqrt(variance);
    const double step = stepFor(sd);
    double sum = 0.0;
    double total = 0.0;
    // The same points as NormalPoints, without keeping them.
    const int reach = static_cast<int>(8.7 / step);
    for (int i = -reach; i <= reach; ++i) {
        const double z = i * step;
        const double w = std::exp(-0.5 * z * z);
        sum += w * meanAt(curve, mean + sd * z);
        total += w;
    }
    return sum / total;
}

}  // namespace

RowFacts rowFacts(const PathSystem& system) {
    RowFacts out;
    out.weights = system.weights;
    out.variances = VectorXd::Zero(static_cast<Index>(system.equations.size()));
    for (std::size_t e = 0; e < system.equations.size(); ++e) {
        const TraceEquation& equation = system.equations[e];
        if (equation.isLinear()) {
            const VectorXd squares = equation.fit->residuals.cwiseAbs2();
            const double sum =
                system.weights.size() > 0 ? squares.dot(system.weights) : squares.sum();
            out.variances(static_cast<Index>(e)) = sum / equation.fit->dfResidual;
        }
    }
    return out;
}

NaturalEffect::Part NaturalEffect::partOf(std::size_t equation, const std::vector<int>& set) const {
    Part part;
    part.equation = equation;
    const Design& design = *system_->equations[equation].design;
    std::vector<Index> columns;
    for (Index j = system_->first[equation]; j < system_->first[equation + 1]; ++j) {
        const ColumnFactors& column = system_->columns[static_cast<std::size_t>(j)];
        Moving moving;
        moving.parameter = j;
        moving.rest = VectorXd::Ones(design.X.rows());
        for (const int factor : column.factors) {
            const auto place = std::find(set.begin(), set.end(), factor);
            if (place != set.end()) {
                moving.sets.push_back(static_cast<int>(place - set.begin()));
            } else {
                moving.rest.array() *= system_->values[static_cast<std::size_t>(factor)].array();
            }
        }
        if (moving.sets.empty()) {
            part.still.push_back(j);
            columns.push_back(column.column);
        } else {
            part.moving.push_back(std::move(moving));
        }
    }
    part.stillX = design.X(Eigen::all, columns);
    return part;
}

Result<NaturalEffect> NaturalEffect::make(const PathSystem& system, int from, int to,
                                          std::pair<double, double> change,
                                          std::vector<std::pair<int, double>> at) {
    NaturalEffect out(system);
    out.change_ = change;
    const auto count = system.nodes.size();
    // What the cause reaches, and what reaches the outcome.
    std::vector<bool> below(count, false);
    below[static_cast<std::size_t>(from)] = true;
    std::vector<bool> above(count, false);
    above[static_cast<std::size_t>(to)] = true;
    for (const std::size_t e : system.order) {
        const auto node = static_cast<std::size_t>(system.node(system.equations[e].to));
        for (const int parent : system.parents(static_cast<int>(node))) {
            below[node] = below[node] || below[static_cast<std::size_t>(parent)];
        }
    }
    for (auto e = system.order.rbegin(); e != system.order.rend(); ++e) {
        const auto node = static_cast<std::size_t>(system.node(system.equations[*e].to));
        if (above[node]) {
            for (const int parent : system.parents(static_cast<int>(node))) {
                above[static_cast<std::size_t>(parent)] = true;
            }
        }
    }
    std::vector<int> set = {from};
    std::vector<std::size_t> between;
    for (const std::size_t e : system.order) {
        const int node = system.node(system.equations[e].to);
        const bool held =
            std::any_of(at.begin(), at.end(), [&](const auto& one) { return one.first == node; });
        if (node != to && node != from && !held && below[static_cast<std::size_t>(node)] &&
            above[static_cast<std::size_t>(node)]) {
            set.push_back(node);
            between.push_back(e);
        }
    }
    const int grouping = system.siblings[static_cast<std::size_t>(from)];
    for (std::size_t v = 0; grouping >= 0 && v < count; ++v) {
        if (system.siblings[v] == grouping && static_cast<int>(v) != from) {
            at.emplace_back(static_cast<int>(v), 0.0);
        }
    }
    for (const auto& [node, value] : at) {
        out.fixed_.emplace_back(static_cast<int>(set.size()), value);
        set.push_back(node);
    }
    out.places_ = set.size();
    int continuous = 0;
    out.indexIsNormal_ = true;
    const auto sumOfBetween = [&](const Part& part) {
        return std::all_of(part.moving.begin(), part.moving.end(), [&](const Moving& m) {
            return std::count_if(m.sets.begin(), m.sets.end(), [&](int place) {
                       return place >= 1 && place <= static_cast<int>(between.size());
                   }) <= 1;
        });
    };
    for (std::size_t k = 0; k < between.size(); ++k) {
        Part part = out.partOf(between[k], set);
        part.place = k + 1;
        const bool linear = system.equations[between[k]].isLinear();
        continuous += linear ? 1 : 0;
        out.indexIsNormal_ = out.indexIsNormal_ && linear && sumOfBetween(part);
        out.between_.push_back(std::move(part));
    }
    const int last = system.nodes[static_cast<std::size_t>(to)].equation;
    out.outcome_ = out.partOf(static_cast<std::size_t>(last), set);
    out.indexIsNormal_ = out.indexIsNormal_ && sumOfBetween(out.outcome_);
    if (!out.indexIsNormal_ && continuous > 2) {
        return refuse(ErrorCode::BadSetting,
                      "more than two measured variables stand between ‘" +
                          system.nodes[static_cast<std::size_t>(from)].name + "’ and ‘" +
                          system.nodes[static_cast<std::size_t>(to)].name +
                          "’ beside others that are no measurements",
                      "effects", "Mute some of them, or ask for other pairs.");
    }
    return out;
}

Eigen::Vector3d NaturalEffect::at(const VectorXd& theta, const RowFacts& rows) const {
    const auto stillOf = [&](const Part& part) {
        return VectorXd(part.stillX * theta(part.still));
    };
    std::vector<VectorXd> still;
    for (const Part& part : between_) {
        still.push_back(stillOf(part));
    }
    still.push_back(stillOf(outcome_));
    const Curve curve = curveOf(system_->equations[outcome_.equation]);
    const auto indexOf = [&](const Part& part, const VectorXd& base, Index i,
                             const std::vector<double>& set) {
        double index = base(i);
        for (const Moving& m : part.moving) {
            double value = theta(m.parameter) * m.rest(i);
            for (const int place : m.sets) {
                value *= set[static_cast<std::size_t>(place)];
            }
            index += value;
        }
        return index;
    };
    // The derivative of an index by what stands at `place`.
    const auto slopeOf = [&](const Part& part, Index i, const std::vector<double>& set,
                             std::size_t by) {
        double slope = 0.0;
        for (const Moving& m : part.moving) {
            if (std::find(m.sets.begin(), m.sets.end(), static_cast<int>(by)) == m.sets.end()) {
                continue;
            }
            double value = theta(m.parameter) * m.rest(i);
            for (const int place : m.sets) {
                value *= place == static_cast<int>(by) ? 1.0 : set[static_cast<std::size_t>(place)];
            }
            slope += value;
        }
        return slope;
    };
    static const NormalPoints kPoints(0.25);
    // E[Y(x, M(x'))] of row i; `set` has room for every place.
    const auto expected = [&](Index i, double x, double between, std::vector<double>& set) {
        for (const auto& [place, value] : fixed_) {
            set[static_cast<std::size_t>(place)] = value;
        }
        if (indexIsNormal_) {
            set[cause_] = between;
            for (std::size_t k = 0; k < between_.size(); ++k) {
                set[between_[k].place] = indexOf(between_[k], still[k], i, set);
            }
            // What each error adds to the index, from the last back.
            std::vector<double> reach(between_.size(), 0.0);
            double variance = 0.0;
            for (std::size_t k = between_.size(); k-- > 0;) {
                set[cause_] = x;
                reach[k] = slopeOf(outcome_, i, set, between_[k].place);
                set[cause_] = between;
                for (std::size_t l = k + 1; l < between_.size(); ++l) {
                    reach[k] += slopeOf(between_[l], i, set, between_[k].place) * reach[l];
                }
                variance +=
                    reach[k] * reach[k] * rows.variances(static_cast<Index>(between_[k].equation));
            }
            set[cause_] = x;
            return meanUnder(curve, indexOf(outcome_, still.back(), i, set), variance);
        }
        const std::function<double(std::size_t)> from = [&](std::size_t k) -> double {
            if (k == between_.size()) {
                set[cause_] = x;
                return meanAt(curve, indexOf(outcome_, still.back(), i, set));
            }
            const Part& part = between_[k];
            const Curve law = curveOf(system_->equations[part.equation]);
            set[cause_] = between;
            const double index = indexOf(part, still[k], i, set);
            double sum = 0.0;
            if (law == Curve::Line) {
                const double sd = std::sqrt(rows.variances(static_cast<Index>(part.equation)));
                for (const auto& [z, w] : kPoints.points) {
                    set[part.place] = index + sd * z;
                    sum += w * from(k + 1);
                }
                return sum;
            }
            const double mean = meanAt(law, index);
            if (law != Curve::Exp) {
                set[part.place] = 0.0;
                sum = (1.0 - mean) * from(k + 1);
                set[part.place] = 1.0;
                return sum + mean * from(k + 1);
            }
            const double reach = 12.0 * std::sqrt(mean) + 30.0;
            double count = std::max(0.0, std::floor(mean - reach));
            double chance = mean > 0.0
                                ? std::exp(count * std::log(mean) - mean - std::lgamma(count + 1.0))
                                : 1.0;
            for (; count <= mean + reach; count += 1.0) {
                set[part.place] = count;
                sum += chance * from(k + 1);
                chance *= mean / (count + 1.0);
            }
            return sum;
        };
        return from(0);
    };
    const Index n = still.back().size();
    Eigen::Vector3d sums = Eigen::Vector3d::Zero();
    double total = 0.0;
    std::vector<double> set(places_, 0.0);
    const auto& [a, b] = change_;
    for (Index i = 0; i < n; ++i) {
        const double w = rows.weights.size() > 0 ? rows.weights(i) : 1.0;
        if (w <= 0.0) {
            continue;
        }
        const double none = expected(i, a, a, set);
        const double direct = expected(i, b, a, set);
        const double all = between_.empty() ? direct : expected(i, b, b, set);
        sums += w * Eigen::Vector3d(direct - none, all - direct, all - none);
        total += w;
    }
    return sums / total;
}

}  // namespace rapporto
