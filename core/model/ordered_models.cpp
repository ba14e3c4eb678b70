// Outcomes of ordered and of plain groups, and normal ones that are cut off.
#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"
#include "core/numerics/normal_below.h"

#include <boost/math/special_functions/erf.hpp>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double kNone = -std::numeric_limits<double>::infinity();

double upper(double x) { return 0.5 * boost::math::erfc(x / std::numbers::sqrt2); }

double density(double x) { return std::exp(-0.5 * x * x) / std::sqrt(2.0 * std::numbers::pi); }

/// P(a < Z ≤ b) with densities f and their slopes at both ends; ±∞ are ends, too.
struct Piece {
    double p = 0.0;
    double fa = 0.0, fb = 0.0;
    double sa = 0.0, sb = 0.0;  ///< f'(a), f'(b).
};

Piece pieceOf(double a, double b, bool probit) {
    Piece out;
    const bool low = std::isinf(a);
    const bool high = std::isinf(b);
    // From the nearer tail, so that no digits are lost.
    const bool right = !low && (high || a + b > 0.0);
    const auto tail = [probit](double x) { return probit ? upper(x) : 1.0 / (1.0 + std::exp(x)); };
    if (right) {
        out.p = tail(a) - (high ? 0.0 : tail(b));
    } else {
        out.p = (high ? 1.0 : tail(-b)) - (low ? 0.0 : tail(-a));
    }
    const auto fill = [&](double x, double& f, double& s) {
        if (probit) {
            f = density(x);
            s = -x * f;
        } else {
            const double e = std::exp(-std::abs(x));
            f = e / ((1.0 + e) * (1.0 + e));
            s = f * (x < 0.0 ? (1.0 - e) / (1.0 + e) : (e - 1.0) / (1.0 + e));
        }
    };
    if (!low) {
        fill(a, out.fa, out.sa);
    }
    if (!high) {
        fill(b, out.fb, out.sb);
    }
    return out;
}

class OrderedModel final : public RowModel {
  public:
    OrderedModel(const VectorXd& y, int levels, bool probit)
        : y_(y), levels_(levels), probit_(probit) {}

    [[nodiscard]] int extras() const override { return levels_ - 1; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const int level = static_cast<int>(y_(i));
        const auto D = static_cast<std::size_t>(levels_);
        std::fill_n(g, D, 0.0);
        if (H != nullptr) {
            std::fill_n(H, D * D, 0.0);
        }
        for (int c = 1; c < levels_ - 1; ++c) {
            if (!(at[1 + c] > at[c])) {
                return kNone;
            }
        }
        const bool first = level == 0;
        const bool last = level == levels_ - 1;
        const double a = first ? kNone : at[level] - at[0];
        const double b = last ? -kNone : at[level + 1] - at[0];
        const Piece t = pieceOf(a, b, probit_);
        if (!(t.p > 0.0)) {
            return kNone;
        }
        const auto ka = static_cast<std::size_t>(level);  // Places of the two cuts in `at`.
        const auto kb = static_cast<std::size_t>(level + 1);
        const double ga = -t.fa / t.p;
        const double gb = t.fb / t.p;
        g[0] = -(ga + gb);
        if (!first) {
            g[ka] = ga;
        }
        if (!last) {
            g[kb] = gb;
        }
        if (H == nullptr) {
            return std::log(t.p);
        }
        const double haa = -t.sa / t.p - ga * ga;
        const double hbb = t.sb / t.p - gb * gb;
        const double hab = -ga * gb;
        H[0] = haa + hbb + 2.0 * hab;
        if (!first) {
            H[ka * D + ka] = haa;
            H[ka] = H[ka * D] = -(haa + hab);
        }
        if (!last) {
            H[kb * D + kb] = hbb;
            H[kb] = H[kb * D] = -(hbb + hab);
        }
        if (!first && !last) {
            H[ka * D + kb] = H[kb * D + ka] = hab;
        }
        return std::log(t.p);
    }

  private:
    const VectorXd& y_;
    int levels_;
    bool probit_;
};

class GroupsModel final : public RowModel {
  public:
    GroupsModel(const VectorXd& y, int levels) : y_(y), levels_(levels) {}

    [[nodiscard]] int indices() const override { return levels_ - 1; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const auto D = static_cast<std::size_t>(levels_ - 1);
        const int level = static_cast<int>(y_(i));
        double most = 0.0;
        for (std::size_t j = 0; j < D; ++j) {
            most = std::max(most, at[j]);
        }
        double sum = std::exp(-most);
        for (std::size_t j = 0; j < D; ++j) {
            sum += std::exp(at[j] - most);
        }
        for (std::size_t j = 0; j < D; ++j) {
            const double p = std::exp(at[j] - most) / sum;
            g[j] = (level == static_cast<int>(j) + 1 ? 1.0 : 0.0) - p;
        }
        for (std::size_t a = 0; H != nullptr && a < D; ++a) {
            const double pa = std::exp(at[a] - most) / sum;
            for (std::size_t b = 0; b < D; ++b) {
                const double pb = std::exp(at[b] - most) / sum;
                H[a * D + b] = pa * pb - (a == b ? pa : 0.0);
            }
        }
        return (level == 0 ? 0.0 : at[level - 1]) - most - std::log(sum);
    }

  private:
    const VectorXd& y_;
    int levels_;
};

/// A normal outcome cut off at one or both ends; τ = ln σ.
class TobitModel final : public RowModel {
  public:
    TobitModel(const VectorXd& y, std::optional<double> low, std::optional<double> high)
        : y_(y), low_(low), high_(high) {}

    [[nodiscard]] int extras() const override { return 1; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const double sigma = std::exp(at[1]);
        const bool below = low_ && y_(i) <= *low_;
        const bool above = high_ && y_(i) >= *high_;
        const double z = ((below ? *low_ : above ? *high_ : y_(i)) - at[0]) / sigma;
        if (!below && !above) {
            g[0] = z / sigma;
            g[1] = z * z - 1.0;
            if (H != nullptr) {
                H[0] = -1.0 / (sigma * sigma);
                H[1] = H[2] = -2.0 * z / sigma;
                H[3] = -2.0 * z * z;
            }
            return -0.5 * z * z - at[1] - 0.5 * std::log(2.0 * std::numbers::pi);
        }
        // ln Φ(s z), s = +1 below and −1 above.
        const double s = below ? 1.0 : -1.0;
        const double x = s * z;
        const auto [value, ratio] = normalBelow(x);
        const double curve = -ratio * (x + ratio);
        g[0] = -s * ratio / sigma;
        g[1] = -ratio * x;
        if (H != nullptr) {
            H[0] = curve / (sigma * sigma);
            H[1] = H[2] = s / sigma * (curve * x + ratio);
            H[3] = curve * x * x + ratio * x;
        }
        return value;
    }

  private:
    const VectorXd& y_;
    std::optional<double> low_;
    std::optional<double> high_;
};

/// A normal outcome between two ends; τ = ln σ.
class IntervalModel final : public RowModel {
  public:
    IntervalModel(const VectorXd& lower, const VectorXd& upper) : lower_(lower), upper_(upper) {}

    [[nodiscard]] int extras() const override { return 1; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const double sigma = std::exp(at[1]);
        const double a = (lower_(i) - at[0]) / sigma;
        if (lower_(i) == upper_(i)) {
            g[0] = a / sigma;
            g[1] = a * a - 1.0;
            if (H != nullptr) {
                H[0] = -1.0 / (sigma * sigma);
                H[1] = H[2] = -2.0 * a / sigma;
                H[3] = -2.0 * a * a;
            }
            return -0.5 * a * a - at[1] - 0.5 * std::log(2.0 * std::numbers::pi);
        }
        const double b = (upper_(i) - at[0]) / sigma;
        const Ends ends = endsOf(a, b);
        // Σ over both ends of f, zf, z²f and z³f, the lower one taken off; f = φ(z)/P.
        double sum[4] = {};
        for (const auto& [z, f, sign] : {std::tuple(b, ends.high, 1.0), {a, ends.low, -1.0}}) {
            double power = std::isinf(z) ? 0.0 : sign * f;
            for (double& s : sum) {
                s += power;
                power *= std::isinf(z) ? 0.0 : z;
            }
        }
        g[0] = -sum[0] / sigma;
        g[1] = -sum[1];
        if (H != nullptr) {
            H[0] = -(sum[1] + sum[0] * sum[0]) / (sigma * sigma);
            H[1] = H[2] = (sum[0] - sum[2] - sum[0] * sum[1]) / sigma;
            H[3] = sum[1] - sum[3] - sum[1] * sum[1];
        }
        return ends.value;
    }

  private:
    /// ln P(a < Z ≤ b) and the densities at both ends over P.
    struct Ends {
        double value = 0.0;
        double low = 0.0;
        double high = 0.0;
    };

    static Ends endsOf(double a, double b) {
        if (std::isinf(a)) {
            const auto [value, ratio] = normalBelow(b);
            return {value, 0.0, ratio};
        }
        if (std::isinf(b)) {
            const auto [value, ratio] = normalBelow(-a);
            return {value, ratio, 0.0};
        }
        if (a + b > 0.0) {
            const Ends turned = endsOf(-b, -a);
            return {turned.value, turned.high, turned.low};
        }
        // P = Φ(b)(1 − Φ(a)/Φ(b)), in logarithms: both may be far out.
        const NormalBelow high = normalBelow(b);
        const NormalBelow low = normalBelow(a);
        const double share = -std::expm1(low.value - high.value);
        const double value = high.value + std::log(share);
        return {value, low.ratio * std::exp(low.value - value), high.ratio / share};
    }

    const VectorXd& lower_;
    const VectorXd& upper_;
};

/// The design without its constant, which the cuts stand for.
struct Slopes {
    IndexPart part;
    std::vector<Index> kept;
    std::vector<DroppedTerm> dropped;
};

Result<Slopes> slopesOf(const Design& design, const Job& job) {
    // The constant stays while redundant columns are looked for: a sum to one is one, too.
    MatrixXd X = design.X;
    std::vector<DesignColumn> columns = design.columns;
    if (!design.hasConstant) {
        X.resize(design.y.size(), design.X.cols() + 1);
        X.col(0).setOnes();
        X.rightCols(design.X.cols()) = design.X;
        columns.insert(columns.begin(), {"(constant)", "constant", -1, false});
    }
    auto found = independentColumns(X, columns, true, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    Slopes out;
    out.dropped = std::move(found->dropped);
    const Index shift = design.hasConstant ? 0 : 1;
    for (const Index j : found->kept) {
        if (j > 0) {
            out.kept.push_back(j - shift);
        }
    }
    if (out.kept.empty()) {
        return refuse(ErrorCode::NoTerms, "no term is left to explain the outcome with", "terms",
                      "Add a term after “with”.");
    }
    out.part = {MatrixXd(design.X(Eigen::all, out.kept)), VectorXd(), false};
    // Centred by hand: the cuts take the means up again.
    return out;
}

/// A level that no row has (a draw may miss one) has no cut.
tl::unexpected<Refusal> levelGone(const Design& design, Index level) {
    return refuse(ErrorCode::NoVariation,
                  "no row has the level ‘" + design.levelNames[static_cast<std::size_t>(level)] +
                      "’ of ‘" + design.outcome + "’",
                  "outcome", "Merge rare levels.", {design.outcome});
}

Result<Fit> fitOrdered(const Design& design, bool probit, const ErrorSpec& errors, double alpha,
                       const Job& job) {
    const auto levels = static_cast<int>(design.levelNames.size());
    if (levels < 3) {
        return refuse(ErrorCode::BadSetting,
                      "the outcome ‘" + design.outcome + "’ has " + std::to_string(levels) +
                          " levels in the rows used",
                      "outcome", "With two levels ask by logit or probit.", {design.outcome});
    }
    if (!design.effects.empty()) {
        return refuse(ErrorCode::NotBuilt, "effects held fixed are not built for ordered outcomes",
                      "held fixed", "Put the grouping among the terms, or use least squares.");
    }
    auto slopes = slopesOf(design, job);
    if (!slopes) {
        return tl::make_unexpected(slopes.error());
    }
    const VectorXd centre = slopes->part.X.colwise().mean().transpose();
    slopes->part.X.rowwise() -= centre.transpose();
    const VectorXd w = rowWeights(design);
    VectorXd shares = VectorXd::Zero(levels);
    for (Index i = 0; i < design.y.size(); ++i) {
        shares(static_cast<Index>(design.y(i))) += w(i);
    }
    shares /= w.sum();
    if (Index gone = 0; shares.minCoeff(&gone) <= 0.0) {
        return levelGone(design, gone);
    }
    const Index k = slopes->part.X.cols();
    VectorXd start = VectorXd::Zero(k + levels - 1);
    double below = 0.0;
    for (int c = 0; c + 1 < levels; ++c) {
        below += shares(c);
        start(k + c) = probit ? normalQuantile(below) : std::log(below / (1.0 - below));
    }
    const OrderedModel model(design.y, levels, probit);
    auto found =
        maximise(slopes->part, model, start, design.weights, job, errors.kind != "classical");
    if (!found) {
        Refusal refusal = found.error();
        if (refusal.code != ErrorCode::Stopped) {
            refusal.help =
                "Some term may tell a level for certain: merge levels, or take the term out.";
        }
        return tl::make_unexpected(refusal);
    }
    auto told = std::make_shared<LikelihoodFit>(probit ? families::kOrderedProbit
                                                       : families::kOrderedLogit);
    told->nullLogLikelihood = 0.0;
    for (int c = 0; c < levels; ++c) {
        told->nullLogLikelihood += w.sum() * shares(c) * std::log(shares(c));
    }
    // Back to the columns as they are: a cut moves up by the mean of the index.
    MatrixXd T = MatrixXd::Identity(found->theta.size(), found->theta.size());
    for (int c = 0; c + 1 < levels; ++c) {
        T.block(k + c, 0, 1, k) = centre.transpose();
    }
    const double shift = centre.dot(found->theta.head(k));
    found->theta = (T * found->theta).eval();
    found->factor = (T * found->factor).eval();
    found->index.array() += shift;
    // Scores turn the other way: s̃ = s T⁻¹.
    if (found->scores.rows() > 0) {
        const MatrixXd extras = found->scores.rightCols(levels - 1);
        found->scores.leftCols(k) -= (extras.rowwise().sum() * centre.transpose()).eval();
    }
    told->extras = found->theta.tail(levels - 1);
    told->deviance = -2.0 * found->logLikelihood;
    std::vector<ExtraName> further;
    for (int c = 1; c < levels; ++c) {
        further.push_back({"cut", "cut " + std::to_string(c)});
    }
    // What is left: the level’s number less its expectation.
    VectorXd fitted(design.y.size());
    for (Index i = 0; i < fitted.size(); ++i) {
        double mean = 0.0;
        for (int c = 0; c + 1 < levels; ++c) {
            mean += pieceOf(told->extras(c) - found->index(i, 0), -kNone, probit).p;
        }
        fitted(i) = mean;
    }
    LikelihoodInput input{
        design, *std::move(found), slopes->kept, slopes->dropped, std::move(further), {},
        {},     std::move(told),   fitted};
    return fitOfLikelihood(std::move(input), errors, alpha, job);
}

}  // namespace

Result<Fit> fitOrderedLogit(const Design& design, const EstimatorSettings& /*settings*/,
                            const ErrorSpec& errors, double alpha, const Job& job) {
    return fitOrdered(design, false, errors, alpha, job);
}

Result<Fit> fitOrderedProbit(const Design& design, const EstimatorSettings& /*settings*/,
                             const ErrorSpec& errors, double alpha, const Job& job) {
    return fitOrdered(design, true, errors, alpha, job);
}

Result<Fit> fitMultinomialLogit(const Design& design, const EstimatorSettings& /*settings*/,
                                const ErrorSpec& errors, double alpha, const Job& job) {
    const auto levels = static_cast<int>(design.levelNames.size());
    if (levels < 2 || levels > 30) {
        return refuse(ErrorCode::BadSetting,
                      "the outcome ‘" + design.outcome + "’ has " + std::to_string(levels) +
                          " levels in the rows used",
                      "outcome", "Two to thirty can be told apart: merge rare ones.",
                      {design.outcome});
    }
    if (!design.effects.empty()) {
        return refuse(ErrorCode::NotBuilt, "effects held fixed are not built for plain groups",
                      "held fixed", "Put the grouping among the terms.");
    }
    const auto columns = independentColumns(design.X, design.columns, design.hasConstant, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    const MatrixXd X = design.X(Eigen::all, columns->kept);
    const auto asked = static_cast<std::size_t>(X.cols()) * static_cast<std::size_t>(levels - 1);
    if (static_cast<double>(asked) > rowsStoodFor(design)) {
        // Levels would be told for certain, and the search for it takes minutes.
        return refuse(ErrorCode::TooFewRows,
                      fmt::format("{} cannot carry {}: {} for each of {} levels but one",
                                  plural(design.counts.used, "row", "rows"),
                                  plural(asked, "coefficient", "coefficients"), X.cols(), levels),
                      "sample", "Merge levels, take terms out or widen the sample.");
    }
    const VectorXd w = rowWeights(design);
    VectorXd shares = VectorXd::Zero(levels);
    for (Index i = 0; i < design.y.size(); ++i) {
        shares(static_cast<Index>(design.y(i))) += w(i);
    }
    shares /= w.sum();
    if (Index gone = 0; shares.minCoeff(&gone) <= 0.0) {
        return levelGone(design, gone);
    }
    std::vector<IndexPart> parts(static_cast<std::size_t>(levels - 1),
                                 IndexPart{X, VectorXd(), design.hasConstant});
    VectorXd start = VectorXd::Zero(X.cols() * (levels - 1));
    for (int j = 1; design.hasConstant && j < levels; ++j) {
        start(X.cols() * (j - 1)) = std::log(shares(j) / shares(0));
    }
    const GroupsModel model(design.y, levels);
    auto found = maximise(parts, model, start, design.weights, job, errors.kind != "classical");
    if (!found) {
        Refusal refusal = found.error();
        if (refusal.code != ErrorCode::Stopped) {
            refusal.help =
                "Some term may tell a level for certain: merge levels, or take the term out.";
        }
        return tl::make_unexpected(refusal);
    }
    auto told = std::make_shared<LikelihoodFit>(families::kMultinomialLogit);
    told->nullLogLikelihood = 0.0;
    for (int c = 0; c < levels; ++c) {
        told->nullLogLikelihood += w.sum() * shares(c) * std::log(shares(c));
    }
    told->deviance = -2.0 * found->logLikelihood;
    std::vector<ExtraName> further;
    for (int j = 2; j < levels; ++j) {
        for (const Index column : columns->kept) {
            further.push_back({"to " + design.levelNames[static_cast<std::size_t>(j)],
                               design.columns[static_cast<std::size_t>(column)].name});
        }
    }
    VectorXd fitted(design.y.size());
    for (Index i = 0; i < fitted.size(); ++i) {
        double sum = 1.0;
        double mean = 0.0;
        for (int j = 1; j < levels; ++j) {
            const double e = std::exp(found->index(i, j - 1));
            sum += e;
            mean += j * e;
        }
        fitted(i) = mean / sum;
    }
    LikelihoodInput input{
        design, *std::move(found), columns->kept, columns->dropped, std::move(further), {},
        {},     std::move(told),   fitted};
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (fit) {
        for (Coefficient& c : fit->coefficients) {
            c.equation = c.equation == "main" ? "to " + design.levelNames[1] : c.equation;
        }
    }
    return fit;
}

namespace {

/// What tobit and interval data have in common: one index, the logarithm of the spread.
Result<Fit> fitBehindEnds(const Design& design, const Family& family, const RowModel& model,
                          std::string note, const ErrorSpec& errors, double alpha, const Job& job) {
    if (!design.effects.empty()) {
        return refuse(ErrorCode::NotBuilt,
                      "effects held fixed are not built for outcomes that are cut off",
                      "held fixed", "Put the grouping among the terms, or use least squares.");
    }
    const auto columns = independentColumns(design.X, design.columns, design.hasConstant, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    const IndexPart part{MatrixXd(design.X(Eigen::all, columns->kept)), VectorXd(),
                         design.hasConstant};
    const auto least =
        solveLinear({part.X, design.y, design.weights, design.hasConstant}, false, job);
    if (!least) {
        return tl::make_unexpected(least.error());
    }
    const Index k = part.X.cols();
    VectorXd start(k + 1);
    start.head(k) = least->coefficients;
    start(k) =
        0.5 * std::log(std::max(
                  least->residuals.squaredNorm() / static_cast<double>(design.y.size()), 1e-300));
    auto found = maximise(part, model, start, design.weights, job, errors.kind != "classical");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    auto told = std::make_shared<LikelihoodFit>(family);
    told->density = true;
    told->extras = found->theta.tail(1);
    if (design.hasConstant) {
        VectorXd constant(2);
        constant(0) = design.y.mean();
        constant(1) = start(k);
        const auto plain = maximise({{MatrixXd::Ones(design.y.size(), 1), VectorXd(), true}}, model,
                                    constant, design.weights, job, false);
        told->nullLogLikelihood = plain ? plain->logLikelihood : LikelihoodFit::kNone;
    }
    const VectorXd fitted = found->index.col(0);
    LikelihoodInput input{
        design, *std::move(found), columns->kept, columns->dropped, {{"spread", "sigma"}}, {},
        {},     std::move(told),   fitted};
    input.shown = [k](Index j, double value) {
        return j < k ? std::pair(value, 1.0) : std::pair(std::exp(value), std::exp(value));
    };
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (fit) {
        fit->notes.push_back(std::move(note));
    }
    return fit;
}

}  // namespace

Result<Fit> fitTobit(const Design& design, const EstimatorSettings& settings,
                     const ErrorSpec& errors, double alpha, const Job& job) {
    if (!settings.low && !settings.high) {
        return refuse(ErrorCode::BadSetting, "no end is named where the outcome is cut off",
                      "method", "Name the lowest or the highest value that is seen.");
    }
    if (settings.low && settings.high && !(*settings.low < *settings.high)) {
        return refuse(ErrorCode::BadSetting, "the lower end is not below the upper one", "method",
                      "Correct the ends.");
    }
    std::size_t cut = 0;
    for (Index i = 0; i < design.y.size(); ++i) {
        cut += (settings.low && design.y(i) <= *settings.low) ||
                       (settings.high && design.y(i) >= *settings.high)
                   ? 1
                   : 0;
    }
    return fitBehindEnds(design, families::kTobit,
                         TobitModel(design.y, settings.low, settings.high),
                         plural(cut, "row lies", "rows lie") + " at an end.", errors, alpha, job);
}

Result<Fit> fitInterval(const Design& design, const EstimatorSettings& /*settings*/,
                        const ErrorSpec& errors, double alpha, const Job& job) {
    std::size_t exact = 0;
    std::size_t open = 0;
    for (Index i = 0; i < design.y.size(); ++i) {
        exact += design.lower(i) == design.upper(i) ? 1 : 0;
        open += std::isinf(design.lower(i)) || std::isinf(design.upper(i)) ? 1 : 0;
    }
    const auto n = static_cast<std::size_t>(design.y.size());
    return fitBehindEnds(design, families::kInterval, IntervalModel(design.lower, design.upper),
                         plural(n - exact - open, "row lies", "rows lie") + " between two ends, " +
                             plural(open, "has", "have") + " one end, " +
                             plural(exact, "is", "are") + " known exactly.",
                         errors, alpha, job);
}

std::unique_ptr<RowModel> orderedModel(const VectorXd& y, int levels) {
    return std::make_unique<OrderedModel>(y, levels, false);
}

std::unique_ptr<RowModel> groupsModel(const VectorXd& y, int levels) {
    return std::make_unique<GroupsModel>(y, levels);
}

}  // namespace rapporto
