#include "core/model/response.h"

#include "core/base/format.h"
#include "core/model/group_prediction.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"

#include <boost/math/special_functions/erf.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// A mean of one index: exp, or a probability.
class MeanOfIndex final : public Response {
  public:
    using Curve = Family::Curve;

    MeanOfIndex(Curve curve, int extras) : curve_(curve), extras_(extras) {}

    [[nodiscard]] int extras() const override { return extras_; }

    double at(std::size_t /*outcome*/, const double* place, double* g, double* H) const override {
        const auto D = static_cast<std::size_t>(1 + extras_);
        std::fill_n(g, D, 0.0);
        std::fill_n(H, D * D, 0.0);
        const double eta = place[0];
        double value = eta;
        switch (curve_) {
            case Curve::Exp:
                value = g[0] = H[0] = std::exp(eta);
                break;
            case Curve::Logit: {
                const double e = std::exp(-std::abs(eta));
                value = 1.0 / (1.0 + std::exp(-eta));
                g[0] = e / ((1.0 + e) * (1.0 + e));
                H[0] = g[0] * (1.0 - 2.0 * value);
                break;
            }
            case Curve::Probit:
                value = 0.5 * boost::math::erfc(-eta / std::numbers::sqrt2);
                g[0] = std::exp(-0.5 * eta * eta) / std::sqrt(2.0 * std::numbers::pi);
                H[0] = -eta * g[0];
                break;
            case Curve::Cloglog: {
                const double mu = std::exp(eta);
                value = -std::expm1(-mu);
                g[0] = mu * std::exp(-mu);
                H[0] = g[0] * (1.0 - mu);
                break;
            }
            case Curve::Line:
                g[0] = 1.0;
                break;
        }
        return value;
    }

  private:
    Curve curve_;
    int extras_;
};

/// (1 − π)μ of two kinds of zeros; πμ/(1 − f(0)) behind a hurdle; μ/(1 − f(0)) without zeros.
class TwoPartMean final : public Response {
  public:
    TwoPartMean(CountLaw law, Family::Zeros zeros) : law_(law), zeros_(zeros) {}

    [[nodiscard]] int indices() const override { return zeros_ == Family::Zeros::Absent ? 1 : 2; }

    [[nodiscard]] int extras() const override { return law_ == CountLaw::Poisson ? 0 : 1; }

    double at(std::size_t /*outcome*/, const double* place, double* g, double* H) const override {
        const int M = indices();
        const auto D = static_cast<std::size_t>(M + extras());
        std::fill_n(g, D, 0.0);
        std::fill_n(H, D * D, 0.0);
        const double mean = std::exp(place[0]);
        if (zeros_ == Family::Zeros::TwoKinds) {
            const double pi = 1.0 / (1.0 + std::exp(-place[1]));
            const double slope = pi * (1.0 - pi);
            g[0] = (1.0 - pi) * mean;
            g[1] = -slope * mean;
            H[0] = g[0];
            H[1] = H[D] = g[1];
            H[D + 1] = -slope * (1.0 - 2.0 * pi) * mean;
            return g[0];
        }
        // ln of the mean above zero: η − ln(1 − f(0)).
        const double alpha = extras() > 0 ? place[M] : 0.0;
        const CountTerms zero =
            countTerms(law_, 0.0, 0.0, place[0], extras() > 0 ? std::log(alpha) : 0.0);
        const double odds = 1.0 / std::expm1(-zero.value);
        const double square = odds + odds * odds;
        // By α itself: d/dα = (d/dτ)/α.
        const double zg[2] = {zero.g[0], extras() > 0 ? zero.g[1] / alpha : 0.0};
        const double zh[3] = {zero.h[0], extras() > 0 ? zero.h[1] / alpha : 0.0,
                              extras() > 0 ? (zero.h[2] - zero.g[1]) / (alpha * alpha) : 0.0};
        const double a[2] = {1.0 + odds * zg[0], odds * zg[1]};
        const double b[3] = {odds * zh[0] + square * zg[0] * zg[0],
                             odds * zh[1] + square * zg[0] * zg[1],
                             odds * zh[2] + square * zg[1] * zg[1]};
        const double above = mean / -std::expm1(zero.value);
        const double pi = M == 2 ? 1.0 / (1.0 + std::exp(-place[1])) : 1.0;
        const double value = pi * above;
        const std::size_t at[2] = {0, static_cast<std::size_t>(M)};
        const auto own = static_cast<std::size_t>(1 + extras());
        for (std::size_t r = 0; r < own; ++r) {
            g[at[r]] = value * a[r];
            for (std::size_t c = 0; c < own; ++c) {
                H[at[r] * D + at[c]] = value * (a[r] * a[c] + b[r + c]);
            }
        }
        if (M == 2) {
            const double slope = pi * (1.0 - pi);
            g[1] = slope * above;
            H[D + 1] = slope * (1.0 - 2.0 * pi) * above;
            for (std::size_t r = 0; r < own; ++r) {
                H[at[r] * D + 1] = H[D + at[r]] = slope * above * a[r];
            }
        }
        return value;
    }

  private:
    CountLaw law_;
    Family::Zeros zeros_;
};

class OrderedShares final : public Response {
  public:
    OrderedShares(std::vector<std::string> names, bool probit)
        : names_(std::move(names)), probit_(probit) {}

    [[nodiscard]] std::vector<std::string> outcomes() const override { return names_; }

    [[nodiscard]] int extras() const override { return static_cast<int>(names_.size()) - 1; }

    double at(std::size_t outcome, const double* place, double* g, double* H) const override {
        const std::size_t D = names_.size();
        std::fill_n(g, D, 0.0);
        std::fill_n(H, D * D, 0.0);
        double value = 0.0;
        // F(cut above − η) less F(cut below − η).
        for (const double sign : {1.0, -1.0}) {
            const std::size_t cut = sign > 0.0 ? outcome + 1 : outcome;
            if (cut == 0 || cut == D) {
                value += cut == D ? sign : 0.0;
                continue;
            }
            const double x = place[cut] - place[0];
            double p = 0.0;
            double f = 0.0;
            double s = 0.0;
            if (probit_) {
                p = 0.5 * boost::math::erfc(-x / std::numbers::sqrt2);
                f = std::exp(-0.5 * x * x) / std::sqrt(2.0 * std::numbers::pi);
                s = -x * f;
            } else {
                const double e = std::exp(-std::abs(x));
                p = 1.0 / (1.0 + std::exp(-x));
                f = e / ((1.0 + e) * (1.0 + e));
                s = f * (1.0 - 2.0 * p);
            }
            value += sign * p;
            g[0] -= sign * f;
            g[cut] += sign * f;
            H[0] += sign * s;
            H[cut * D + cut] += sign * s;
            H[cut] -= sign * s;
            H[cut * D] -= sign * s;
        }
        return value;
    }

  private:
    std::vector<std::string> names_;
    bool probit_;
};

class GroupShares final : public Response {
  public:
    explicit GroupShares(std::vector<std::string> names) : names_(std::move(names)) {}

    [[nodiscard]] std::vector<std::string> outcomes() const override { return names_; }

    [[nodiscard]] int indices() const override { return static_cast<int>(names_.size()) - 1; }

    double at(std::size_t outcome, const double* place, double* g, double* H) const override {
        const auto D = names_.size() - 1;
        std::vector<double> p(D + 1);
        double most = 0.0;
        for (std::size_t j = 0; j < D; ++j) {
            most = std::max(most, place[j]);
        }
        double sum = std::exp(-most);
        p[0] = std::exp(-most);
        for (std::size_t j = 0; j < D; ++j) {
            p[j + 1] = std::exp(place[j] - most);
            sum += p[j + 1];
        }
        for (double& one : p) {
            one /= sum;
        }
        const double own = p[outcome];
        const auto is = [outcome](std::size_t j) { return outcome == j + 1 ? 1.0 : 0.0; };
        for (std::size_t a = 0; a < D; ++a) {
            g[a] = own * (is(a) - p[a + 1]);
            for (std::size_t b = 0; b < D; ++b) {
                H[a * D + b] = own * ((is(a) - p[a + 1]) * (is(b) - p[b + 1]) -
                                      p[a + 1] * ((a == b ? 1.0 : 0.0) - p[b + 1]));
            }
        }
        return own;
    }

  private:
    std::vector<std::string> names_;
};

/// Where the coefficients of an index and of what all rows share stand in the fit.
struct Layout {
    std::vector<std::vector<Index>> columns;  ///< Of each index: columns of its matrix.
    std::vector<Index> starts;                ///< Of each index among the coefficients.
    Index extrasAt = 0;
};

Layout layoutOf(const Design& design, const Fit& fit, const Response& response) {
    Layout out;
    const auto kept = fit.solution.kept;
    Index at = 0;
    for (int m = 0; m < response.indices(); ++m) {
        out.starts.push_back(at);
        const bool zero = m == 1 && fit.likelihood->family->outcome == Family::Outcome::Count;
        if (!zero) {
            out.columns.push_back(kept);
        } else {
            const auto& columns = design.zeroX.cols() > 0 ? design.zeroColumns : design.columns;
            std::vector<Index> own;
            for (const Coefficient& c : fit.coefficients) {
                // A term that is named twice has one coefficient, that of its first column.
                const auto column =
                    std::find_if(columns.begin(), columns.end(),
                                 [&](const DesignColumn& one) { return one.name == c.term; });
                if (c.equation == "zero" && column != columns.end()) {
                    own.push_back(column - columns.begin());
                }
            }
            out.columns.push_back(std::move(own));
        }
        at += static_cast<Index>(out.columns.back().size());
    }
    out.extrasAt = at;
    return out;
}

VectorXd estimates(const Fit& fit) {
    VectorXd b(static_cast<Index>(fit.coefficients.size()));
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        b(static_cast<Index>(j)) = fit.coefficients[j].estimate;
    }
    return b;
}

/// Rows at which a response is looked at: the kept columns of each index.
using IndexRows = std::vector<MatrixXd>;

class Engine {
  public:
    Engine(const Design& design, const Fit& fit)
        : design_(design),
          fit_(fit),
          response_(responseOf(design, fit)),
          layout_(layoutOf(design, fit, *response_)),
          b_(estimates(fit)),
          D_(static_cast<std::size_t>(response_->indices() + response_->extras())),
          place_(D_),
          g_(D_),
          H_(D_ * D_) {}

    [[nodiscard]] const Response& response() const { return *response_; }

    [[nodiscard]] int indices() const { return response_->indices(); }

    [[nodiscard]] IndexRows keptOf(const std::vector<MatrixXd>& X) const {
        IndexRows out;
        for (std::size_t m = 0; m < layout_.columns.size(); ++m) {
            out.emplace_back(X[m](Eigen::all, layout_.columns[m]));
        }
        return out;
    }

    /// Σ w R(X) with its gradient by the coefficients.
    void addValue(std::size_t outcome, const IndexRows& X, const VectorXd& offset,
                  const VectorXd& weights, double sign, double& value, VectorXd& gradient) {
        double total = weights.size() > 0 ? weights.sum() : static_cast<double>(X[0].rows());
        for (Index i = 0; i < X[0].rows(); ++i) {
            const double w = sign * (weights.size() > 0 ? weights(i) : 1.0) / total;
            fillPlace(X, offset, i);
            value += w * response_->at(outcome, place_.data(), g_.data(), H_.data());
            for (std::size_t m = 0; m < layout_.columns.size(); ++m) {
                gradient.segment(layout_.starts[m], X[m].cols()) +=
                    w * g_[m] * X[m].row(i).transpose();
            }
            addExtras(w, 1.0, gradient);
        }
    }

    /// Σ w dR/dx along D, with its gradient by the coefficients; times `by` (n) where given, and
    /// divided by R with `relative`.
    void addSlope(std::size_t outcome, const IndexRows& X, const IndexRows& D,
                  const VectorXd& offset, const VectorXd& weights, const VectorXd* by,
                  bool relative, double& value, VectorXd& gradient) {
        const double total = weights.size() > 0 ? weights.sum() : static_cast<double>(X[0].rows());
        const auto M = layout_.columns.size();
        std::vector<double> along(M);
        for (Index i = 0; i < X[0].rows(); ++i) {
            double w = (weights.size() > 0 ? weights(i) : 1.0) / total;
            w *= by != nullptr ? (*by)(i) : 1.0;
            fillPlace(X, offset, i);
            const double own = response_->at(outcome, place_.data(), g_.data(), H_.data());
            double slope = 0.0;
            for (std::size_t m = 0; m < M; ++m) {
                along[m] = D[m].row(i).dot(b_.segment(layout_.starts[m], D[m].cols()));
                slope += g_[m] * along[m];
            }
            const double scale = relative ? w / own : w;
            value += scale * slope;
            for (std::size_t m = 0; m < M; ++m) {
                double second = 0.0;
                for (std::size_t l = 0; l < M; ++l) {
                    second += H_[m * D_ + l] * along[l];
                }
                second -= relative ? slope * g_[m] / own : 0.0;
                gradient.segment(layout_.starts[m], X[m].cols()) +=
                    scale * (second * X[m].row(i) + g_[m] * D[m].row(i)).transpose();
            }
            for (std::size_t s = M; s < D_; ++s) {
                double second = 0.0;
                for (std::size_t l = 0; l < M; ++l) {
                    second += H_[s * D_ + l] * along[l];
                }
                second -= relative ? slope * g_[s] / own : 0.0;
                gradient(layout_.extrasAt + static_cast<Index>(s - M)) += scale * second;
            }
        }
    }

    [[nodiscard]] VectorXd zero() const { return VectorXd::Zero(b_.size()); }

    [[nodiscard]] Estimate estimate(double value, const VectorXd& gradient, double alpha) const {
        return estimateOf(value, gradient.dot(fit_.covariance * gradient),
                          fit_.coefficients.front().df, alpha);
    }

    [[nodiscard]] const Layout& layout() const { return layout_; }

  private:
    void fillPlace(const IndexRows& X, const VectorXd& offset, Index i) {
        for (std::size_t m = 0; m < layout_.columns.size(); ++m) {
            place_[m] = X[m].row(i).dot(b_.segment(layout_.starts[m], X[m].cols()));
        }
        place_[0] += offset.size() > 0 ? offset(i) : 0.0;
        for (std::size_t s = layout_.columns.size(); s < D_; ++s) {
            place_[s] = b_(layout_.extrasAt + static_cast<Index>(s - layout_.columns.size()));
        }
    }

    void addExtras(double w, double scale, VectorXd& gradient) const {
        for (std::size_t s = layout_.columns.size(); s < D_; ++s) {
            gradient(layout_.extrasAt + static_cast<Index>(s - layout_.columns.size())) +=
                w * scale * g_[s];
        }
    }

    const Design& design_;
    const Fit& fit_;
    std::shared_ptr<const Response> response_;
    Layout layout_;
    VectorXd b_;
    std::size_t D_;
    std::vector<double> place_;
    std::vector<double> g_;
    std::vector<double> H_;
};

/// The matrices of all indices, from what the first and (of two parts) the second map say.
class Rows {
  public:
    Rows(const Design& design, const Fit& fit, const ScenarioMap& map, int indices)
        : design_(design),
          map_(map),
          indices_(indices),
          two_(fit.likelihood->family->outcome == Family::Outcome::Count) {}

    [[nodiscard]] const ScenarioMap& mapOf(int m) const {
        return m == 1 && two_ && map_.zero() ? *map_.zero() : map_;
    }

    [[nodiscard]] const MatrixXd& usedX(int m) const {
        return m == 1 && two_ && design_.zeroX.cols() > 0 ? design_.zeroX : design_.X;
    }

    [[nodiscard]] std::vector<MatrixXd> used() const {
        std::vector<MatrixXd> out;
        for (int m = 0; m < indices_; ++m) {
            out.push_back(usedX(m));
        }
        return out;
    }

    [[nodiscard]] Result<std::vector<MatrixXd>> usedWith(const std::string& name,
                                                         const Key& value) const {
        return each([&](int m) -> Result<MatrixXd> {
            return mapOf(m).knows(name) ? mapOf(m).usedWith(name, value)
                                        : Result<MatrixXd>(usedX(m));
        });
    }

    [[nodiscard]] Result<std::vector<MatrixXd>> at(const ScenarioValues& values) const {
        return each([&](int m) { return mapOf(m).at({onlyKnown(m, values)}); });
    }

    [[nodiscard]] Result<std::vector<MatrixXd>> slopes(const std::string& name) const {
        return each([&](int m) -> Result<MatrixXd> {
            return mapOf(m).knows(name)
                       ? mapOf(m).slopes(name)
                       : Result<MatrixXd>(MatrixXd::Zero(usedX(m).rows(), usedX(m).cols()));
        });
    }

    [[nodiscard]] Result<std::vector<MatrixXd>> slopesAt(const std::string& name,
                                                         const ScenarioValues& values) const {
        return each([&](int m) -> Result<MatrixXd> {
            return mapOf(m).knows(name) ? mapOf(m).slopesAt(name, {onlyKnown(m, values)})
                                        : Result<MatrixXd>(MatrixXd::Zero(1, usedX(m).cols()));
        });
    }

    [[nodiscard]] const ScenarioVariable* find(const std::string& name) const {
        const ScenarioVariable* found = map_.find(name);
        return found == nullptr && map_.zero() ? map_.zero()->find(name) : found;
    }

  private:
    [[nodiscard]] ScenarioValues onlyKnown(int m, const ScenarioValues& values) const {
        ScenarioValues out;
        for (const auto& [name, value] : values) {
            // A name that neither part knows is left for the map to refuse.
            if (mapOf(m).knows(name) ||
                !(map_.zero() && (map_.zero()->knows(name) || map_.knows(name)))) {
                out.emplace(name, value);
            }
        }
        return out;
    }

    template <class Make>
    [[nodiscard]] Result<std::vector<MatrixXd>> each(const Make& make) const {
        std::vector<MatrixXd> out;
        for (int m = 0; m < indices_; ++m) {
            auto one = make(m);
            if (!one) {
                return tl::make_unexpected(one.error());
            }
            out.push_back(*std::move(one));
        }
        return out;
    }

    const Design& design_;
    const ScenarioMap& map_;
    int indices_;
    bool two_;
};

/// Where `share` of the law lies below.
double countQuantile(CountLaw law, double mean, double dispersion, double share) {
    double sum = 0.0;
    double y = 0.0;
    for (; y < 1e6; y += 1.0) {
        sum += countProbability(law, y, mean, dispersion);
        if (sum >= share) {
            break;
        }
    }
    return y;
}

}  // namespace

std::shared_ptr<const Response> responseOf(const Design& design, const Fit& fit) {
    if (!fit.likelihood) {
        return nullptr;
    }
    const LikelihoodFit& told = *fit.likelihood;
    const Family& family = *told.family;
    const bool extra =
        !fit.coefficients.empty() && fit.coefficients.back().equation == "dispersion";
    // Which law the dispersion belongs to is told by the question’s form; the mean of the plain
    // laws does not hang on it.
    if (family.zeros != Family::Zeros::Counted) {
        const CountLaw law = !extra              ? CountLaw::Poisson
                             : told.linearSpread ? CountLaw::Linear
                                                 : CountLaw::Quadratic;
        return std::make_shared<const TwoPartMean>(law, family.zeros);
    }
    if (family.outcome == Family::Outcome::Ordered) {
        return std::make_shared<const OrderedShares>(design.levelNames,
                                                     family.curve == Family::Curve::Probit);
    }
    if (family.outcome == Family::Outcome::Groups) {
        return std::make_shared<const GroupShares>(design.levelNames);
    }
    // The mean does not hang on what stands in further equations.
    const bool further = extra || family.outcome == Family::Outcome::CutOff || family.joined;
    const auto beside = std::count_if(fit.coefficients.begin(), fit.coefficients.end(),
                                      [](const Coefficient& c) { return c.equation != "main"; });
    return std::make_shared<const MeanOfIndex>(family.curve,
                                               further ? static_cast<int>(beside) : 0);
}

namespace {

tl::unexpected<Refusal> heldLevels(const Fit& fit) {
    return refuse(
        ErrorCode::BadSetting, "with effects held fixed the mean hangs on each group’s own level",
        "effects",
        fit.likelihood != nullptr && fit.likelihood->family->outcome == Family::Outcome::Count
            ? "Read the rate ratios: they hold in every group."
            : "Read the odds ratios: they hold in every group.");
}

}  // namespace

Result<std::vector<MarginalEffect>> outcomeEffects(const Design& design, const Fit& fit,
                                                   const ScenarioMap& map,
                                                   const EffectRequest& request, double alpha,
                                                   const VectorXd& asked) {
    if (!design.effects.empty()) {
        return heldLevels(fit);
    }
    Engine engine(design, fit);
    const Rows rows(design, fit, map, engine.indices());
    const ScenarioVariable* variable = rows.find(request.of);
    if (variable == nullptr) {
        const auto unknown = map.slopes(request.of);
        if (!unknown) {
            return tl::make_unexpected(unknown.error());
        }
    }
    const bool average = request.as == EffectRequest::As::Average;
    const ScenarioValues values =
        request.as == EffectRequest::As::At ? request.at : ScenarioValues{};
    const auto names = engine.response().outcomes();
    const VectorXd none;
    const VectorXd& offset = average ? design.offset : none;
    const VectorXd& weights = average ? asked : none;
    std::vector<MarginalEffect> out;
    if (variable != nullptr && (variable->groups || variable->yesNo())) {
        const auto levels = variable->baseAndOthers();
        if (request.elasticity) {
            return refuse(ErrorCode::WrongType,
                          "‘" + request.of + "’ has no percent of itself, so no elasticity",
                          "effects", "Ask for its plain effect.", {request.of});
        }
        std::vector<IndexRows> at;
        for (const auto& [value, label] : levels) {
            ScenarioValues here = values;
            here[request.of] = value;
            const auto X = average ? rows.usedWith(request.of, value) : rows.at(here);
            if (!X) {
                return tl::make_unexpected(X.error());
            }
            at.push_back(engine.keptOf(*X));
        }
        for (std::size_t o = 0; o < names.size(); ++o) {
            for (std::size_t l = 1; l < levels.size(); ++l) {
                double value = 0.0;
                VectorXd gradient = engine.zero();
                engine.addValue(o, at[l], offset, weights, 1.0, value, gradient);
                engine.addValue(o, at[0], offset, weights, -1.0, value, gradient);
                out.push_back({request, levels[l].second, names[o],
                               engine.estimate(value, gradient, alpha), gradient});
            }
        }
        return out;
    }
    const auto D = average ? rows.slopes(request.of) : rows.slopesAt(request.of, values);
    if (!D) {
        return tl::make_unexpected(D.error());
    }
    const auto X = average ? Result<std::vector<MatrixXd>>(rows.used()) : rows.at(values);
    if (!X) {
        return tl::make_unexpected(X.error());
    }
    std::optional<VectorXd> by;
    if (request.elasticity) {
        const auto named = values.find(request.of);
        if (average) {
            by = map.knows(request.of) ? map.used(request.of) : map.zero()->used(request.of);
        } else {
            by = VectorXd::Constant(1, named != values.end() ? std::get<double>(named->second)
                                       : variable != nullptr ? variable->mean
                                                             : 0.0);
        }
    }
    const IndexRows Xk = engine.keptOf(*X);
    const IndexRows Dk = engine.keptOf(*D);
    for (std::size_t o = 0; o < names.size(); ++o) {
        double value = 0.0;
        VectorXd gradient = engine.zero();
        engine.addSlope(o, Xk, Dk, offset, weights, by ? &*by : nullptr, request.elasticity, value,
                        gradient);
        out.push_back({request, "", names[o], engine.estimate(value, gradient, alpha), gradient});
    }
    return out;
}

namespace {

/// Which groups of random effects the requests are in.
Result<ScenarioGroups> groupsOf(const Design& design, const Fit& fit, const ScenarioMap& map,
                                const std::vector<PredictRequest>& requests) {
    std::vector<ScenarioValues> scenarios;
    for (const PredictRequest& request : requests) {
        scenarios.push_back(request.at);
    }
    const auto X = map.at(scenarios);
    return X ? ScenarioGroups::make(design, fit, map, requests, *X)
             : Result<ScenarioGroups>(tl::make_unexpected(X.error()));
}

}  // namespace

Result<std::vector<Prediction>> predictOutcome(const Design& design, const Fit& fit,
                                               const ScenarioMap& map,
                                               const std::vector<PredictRequest>& requests,
                                               double alpha) {
    if (!design.effects.empty()) {
        return heldLevels(fit);
    }
    Engine engine(design, fit);
    const Rows rows(design, fit, map, engine.indices());
    const auto names = engine.response().outcomes();
    const LikelihoodFit& told = *fit.likelihood;
    // The law of a plain fit by one index: its interval goes through the curve.
    const bool single = engine.indices() == 1 && names.size() == 1;
    std::optional<ScenarioGroups> groups;
    if (fit.levels) {
        auto found = groupsOf(design, fit, map, requests);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        groups.emplace(*std::move(found));
    }
    std::vector<Prediction> out;
    VectorXd firstGradient;
    double firstValue = 0.0;
    const VectorXd none;
    for (const PredictRequest& request : requests) {
        const auto X = rows.at(request.at);
        if (!X) {
            return tl::make_unexpected(X.error());
        }
        const IndexRows Xk = engine.keptOf(*X);
        Prediction p;
        p.label = request.label;
        p.at = request.at;
        p.rowLow = p.rowHigh = std::numeric_limits<double>::quiet_NaN();
        for (const auto& [name, value] : request.at) {
            const ScenarioVariable* v = rows.find(name);
            if (v != nullptr && !v->groups && v->ranged && std::holds_alternative<double>(value) &&
                (std::get<double>(value) < v->low || std::get<double>(value) > v->high)) {
                p.warnings.push_back(name + " = " + shortNumber(std::get<double>(value)) +
                                     " lies outside the rows used (" + shortNumber(v->low) +
                                     " to " + shortNumber(v->high) + ")");
            }
        }
        if (design.offset.size() > 0) {
            p.warnings.emplace_back("for an exposure of one (an offset of zero)");
        }
        VectorXd gradient;
        double value = 0.0;
        for (std::size_t o = 0; o < names.size(); ++o) {
            value = 0.0;
            gradient = engine.zero();
            engine.addValue(o, Xk, none, none, 1.0, value, gradient);
            Estimate one = engine.estimate(value, gradient, alpha);
            one.statistic.reset();
            one.p.reset();
            if (names.size() > 1) {
                one.low = std::clamp(one.low, 0.0, 1.0);
                one.high = std::clamp(one.high, 0.0, 1.0);
                p.shares.emplace_back(names[o], one);
            }
            p.mean = one;
        }
        const std::size_t s = out.size();
        if (groups) {
            addGroups(*groups, s, alpha, p);
        }
        if (single) {
            const VectorXd row = Xk[0].row(0);
            const auto k = row.size();
            const double eta = groups ? groups->value(s) : row.dot(fit.solution.coefficients);
            const double se = std::sqrt(
                groups ? groups->variance(s)
                       : std::max(row.dot(fit.covariance.topLeftCorner(k, k) * row), 0.0));
            const double reach = criticalValue(alpha, fit.coefficients.front().df) * se;
            const auto D = static_cast<std::size_t>(1 + engine.response().extras());
            std::vector<double> g(D);
            std::vector<double> H(D * D);
            std::vector<double> place(D, fit.coefficients.back().estimate);
            place[0] = eta - reach;
            const double a = engine.response().at(0, place.data(), g.data(), H.data());
            place[0] = eta + reach;
            const double b = engine.response().at(0, place.data(), g.data(), H.data());
            p.mean.low = std::min(a, b);
            p.mean.high = std::max(a, b);
            const bool plain = told.family->isPlainCount();
            if (plain && groups && groups->varianceOfNew(s) > 0.0) {
                const double spread = groups->varianceOfNew(s);
                p.rowLow = countOverGroups(eta, spread, alpha / 2.0);
                p.rowHigh = countOverGroups(eta, spread, 1.0 - alpha / 2.0);
            } else if (plain && p.mean.value < 1e5) {
                const double dispersion = told.dispersion.value_or(0.0);
                const CountLaw law = dispersion <= 0.0   ? CountLaw::Poisson
                                     : told.linearSpread ? CountLaw::Linear
                                                         : CountLaw::Quadratic;
                p.rowLow = countQuantile(law, p.mean.value, dispersion, alpha / 2.0);
                p.rowHigh = countQuantile(law, p.mean.value, dispersion, 1.0 - alpha / 2.0);
            }
        }
        if (out.empty()) {
            firstGradient = gradient;
            firstValue = value;
        } else if (groups) {
            p.difference = differenceInGroups(*groups, s, alpha);
        } else {
            p.difference = engine.estimate(value - firstValue, gradient - firstGradient, alpha);
        }
        out.push_back(std::move(p));
    }
    return out;
}

std::vector<std::string> outcomesOf(const Design& design, const Fit& fit) {
    const auto response = responseOf(design, fit);
    return response == nullptr || !design.effects.empty() ? std::vector<std::string>()
                                                          : response->outcomes();
}

std::vector<Coefficient> columnEffects(const Design& design, const Fit& fit, double alpha,
                                       std::size_t outcome) {
    std::vector<Coefficient> out;
    const auto response = responseOf(design, fit);
    if (response == nullptr || outcome >= response->outcomes().size() || !design.effects.empty()) {
        return out;
    }
    Engine engine(design, fit);
    std::vector<MatrixXd> X;
    for (int m = 0; m < engine.indices(); ++m) {
        const bool zero = m == 1 && fit.likelihood->family->outcome == Family::Outcome::Count &&
                          design.zeroX.cols() > 0;
        X.push_back(zero ? design.zeroX : design.X);
    }
    const IndexRows kept = engine.keptOf(X);
    const auto& columns = engine.layout().columns;
    for (std::size_t j = 0; j < columns[0].size(); ++j) {
        Coefficient c = fit.coefficients[j];
        if (c.designTerm < 0) {
            continue;
        }
        const DesignColumn& info = design.columns[static_cast<std::size_t>(c.column)];
        double value = 0.0;
        VectorXd gradient = engine.zero();
        // The same column in the part for zeros moves along.
        std::vector<Index> places = {static_cast<Index>(j)};
        for (std::size_t m = 1; m < kept.size(); ++m) {
            Index at = -1;
            const auto& names = design.zeroX.cols() > 0 ? design.zeroColumns : design.columns;
            for (std::size_t l = 0; l < columns[m].size(); ++l) {
                if (names[static_cast<std::size_t>(columns[m][l])].name == info.name) {
                    at = static_cast<Index>(l);
                }
            }
            places.push_back(at);
        }
        if (info.indicator) {
            for (const double level : {1.0, 0.0}) {
                IndexRows at = kept;
                for (std::size_t m = 0; m < at.size(); ++m) {
                    if (places[m] >= 0) {
                        at[m].col(places[m]).setConstant(level);
                        // The other levels of the same groups are off.
                        const bool groups =
                            design.terms[static_cast<std::size_t>(c.designTerm)].groups;
                        const bool same = m == 0 || design.zeroX.cols() == 0;
                        for (Index l = 0; groups && same && l < at[m].cols(); ++l) {
                            const auto column = columns[m][static_cast<std::size_t>(l)];
                            const auto& other = design.columns[static_cast<std::size_t>(column)];
                            if (l != places[m] && other.term == c.designTerm) {
                                at[m].col(l).setZero();
                            }
                        }
                    }
                }
                engine.addValue(outcome, at, design.offset, design.weights,
                                level > 0.0 ? 1.0 : -1.0, value, gradient);
            }
        } else {
            IndexRows along;
            for (std::size_t m = 0; m < kept.size(); ++m) {
                along.push_back(MatrixXd::Zero(kept[m].rows(), kept[m].cols()));
                if (places[m] >= 0) {
                    along[m].col(places[m]).setOnes();
                }
            }
            engine.addSlope(outcome, kept, along, design.offset, design.weights, nullptr, false,
                            value, gradient);
        }
        const Estimate e = engine.estimate(value, gradient, alpha);
        c.estimate = e.value;
        c.se = e.se;
        c.statistic = e.statistic;
        c.p = e.p;
        c.low = e.low;
        c.high = e.high;
        c.standardised.reset();
        out.push_back(std::move(c));
    }
    return out;
}

}  // namespace rapporto
