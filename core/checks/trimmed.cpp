// Least trimmed squares beside least squares: which rows stand apart from the half that agree best.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/model/robust.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double kBound = 2.5;  // Of a row's distance, in spreads of the half.
constexpr std::size_t kMostRows = 5000;
constexpr double kMostStep = 1e7;  // Products of one step from a half to a better one.
constexpr double kWork = 1.5e8;    // Products that all starts may take together.
constexpr std::size_t kBest = 10;  // Starts that are followed to their end.

struct Half {
    VectorXd b;
    double squares = std::numeric_limits<double>::infinity();  ///< Of the h smallest residuals.
};

/// Least squares of some rows; false where they do not carry the columns.
bool solveRows(const MatrixXd& X, const VectorXd& y, const std::vector<Index>& rows, VectorXd& b) {
    const MatrixXd part = X(rows, Eigen::all);
    const Eigen::ColPivHouseholderQR<MatrixXd> qr(part);
    if (qr.rank() < X.cols()) {
        return false;
    }
    VectorXd solved = qr.solve(VectorXd(y(rows)));
    if (!solved.allFinite()) {
        return false;
    }
    b = std::move(solved);
    return true;
}

/// The rows to take halves of, and room for a step from one half to the next.
class Halves {
  public:
    Halves(const MatrixXd& X, const VectorXd& y, std::size_t h)
        : X_(X),
          y_(y),
          across_(X),
          h_(h),
          part_(static_cast<Index>(h), X.cols()),
          outcome_(static_cast<Index>(h)) {}

    /// Least squares of the h rows that lie nearest; the sum of squares never grows.
    /// @param digits  all that can be had; without, half as many: enough to tell rows apart.
    bool step(Half& at, bool digits) {
        choose(at.b);
        return digits ? solveRows(X_, y_, rows_, at.b) : solveByProducts(at.b);
    }

    /// Sets the sum of the h smallest squares.
    void measure(Half& at) {
        sizes_ = (y_ - X_ * at.b).cwiseAbs2();
        const auto h = static_cast<Index>(h_);
        std::nth_element(sizes_.data(), sizes_.data() + h - 1, sizes_.data() + sizes_.size());
        at.squares = sizes_.head(h).sum();
    }

  private:
    /// In the order of the rows; of two that lie as far the first.
    void choose(const VectorXd& b) {
        const VectorXd r = (y_ - X_ * b).cwiseAbs();
        const auto h = static_cast<Index>(h_);
        sizes_ = r;
        std::nth_element(sizes_.data(), sizes_.data() + h - 1, sizes_.data() + sizes_.size());
        const double bound = sizes_(h - 1);
        auto ties = static_cast<Index>(h) - (r.array() < bound).count();
        rows_.clear();
        for (Index i = 0; i < r.size(); ++i) {
            if (r(i) < bound || (r(i) == bound && ties-- > 0)) {
                rows_.push_back(i);
            }
        }
    }

    bool solveByProducts(VectorXd& b) {
        for (Index i = 0; i < part_.rows(); ++i) {
            const Index row = rows_[static_cast<std::size_t>(i)];
            part_.row(i) = across_.row(row);
            outcome_(i) = y_(row);
        }
        const MatrixXd products = part_.transpose() * part_;
        const Eigen::LLT<MatrixXd> root(products);
        // The columns are orthonormal over all rows: what is left of one over some is a share.
        constexpr double kLeastShare = 1e-5;
        if (root.info() != Eigen::Success || root.matrixLLT().diagonal().minCoeff() < kLeastShare) {
            return solveRows(X_, y_, rows_, b);
        }
        b = root.solve(VectorXd(part_.transpose() * outcome_));
        return true;
    }

    using Across = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;

    const MatrixXd& X_;
    const VectorXd& y_;
    Across across_;  ///< X, a row in one stretch of memory.
    std::size_t h_;
    Across part_;
    VectorXd outcome_;
    VectorXd sizes_;
    std::vector<Index> rows_;
};

/// From drawn starts of as many rows as columns, two steps each, the best to their end.
/// Source: Rousseeuw & Van Driessen (2006), Data Mining and Knowledge Discovery 12.
std::optional<Half> trimmed(const MatrixXd& X, const VectorXd& y, std::size_t h, const Job& job) {
    const auto n = static_cast<std::uint64_t>(X.rows());
    const auto k = static_cast<double>(X.cols());
    const auto starts = static_cast<std::size_t>(
        std::clamp(kWork / (3.0 * static_cast<double>(n) * (k + k * k)), 30.0, 500.0));
    Halves halves(X, y, h);
    std::vector<Half> found;
    for (std::size_t s = 0; s < starts; ++s) {
        if (job.stopped()) {
            return std::nullopt;
        }
        RandomStream random(20061, s);
        std::vector<Index> rows;
        Half at;
        // Indicators want more rows than there are columns now and then.
        const auto most = static_cast<std::size_t>(X.cols()) + 60;
        while (rows.size() < most && at.b.size() == 0) {
            const auto row = static_cast<Index>(random.below(n));
            if (std::find(rows.begin(), rows.end(), row) == rows.end()) {
                rows.push_back(row);
            }
            if (rows.size() >= static_cast<std::size_t>(X.cols())) {
                VectorXd b;
                if (solveRows(X, y, rows, b)) {
                    at.b = b;
                }
            }
            if (rows.size() == n) {
                break;
            }
        }
        if (at.b.size() > 0 && halves.step(at, false) && halves.step(at, false)) {
            halves.measure(at);
            found.push_back(std::move(at));
        }
    }
    if (found.empty()) {
        return std::nullopt;
    }
    std::stable_sort(found.begin(), found.end(),
                     [](const Half& a, const Half& b) { return a.squares < b.squares; });
    found.resize(std::min(found.size(), kBest));
    for (Half& one : found) {
        for (int again = 0; again < 100; ++again) {
            const double before = one.squares;
            if (!halves.step(one, true)) {
                break;
            }
            halves.measure(one);
            if (one.squares >= before * (1.0 - 1e-12)) {
                break;
            }
        }
    }
    return *std::min_element(found.begin(), found.end(),
                             [](const Half& a, const Half& b) { return a.squares < b.squares; });
}

}  // namespace

// Rousseeuw (1984), Journal of the American Statistical Association 79.
CheckResult checkTrimmed(const CheckInput& in) {
    if (in.design.weights.size() > 0) {
        return notApplicable("It is not built for weights.");
    }
    const auto n = static_cast<std::size_t>(in.design.y.size());
    if (n > kMostRows) {
        return notApplicable("With more than " + countText(kMostRows) +
                             " rows it takes too long to stand beside every answer: an MM-estimate "
                             "says the same.");
    }
    const auto k = in.fit.solution.kept.size();
    if (static_cast<double>(n) * static_cast<double>(k * k) > kMostStep) {
        return notApplicable("With " + countText(k) + " coefficients on " + countText(n) +
                             " rows it takes too long to stand beside every answer: an "
                             "MM-estimate says the same.");
    }
    if (n < 4 * k || k == 0) {
        return notApplicable("There are fewer than four rows for each coefficient.");
    }
    // What least squares leaves on orthonormal columns, b = b₀ + F c: neither unit nor place of a
    // term decides anything, nor does the order of the rows.
    const std::vector<Index> order =
        rowsInOrder(in.design.X(Eigen::all, in.fit.solution.kept), in.design.y);
    const MatrixXd X = orthonormalColumns(in.design.X, in.fit.solution)(order, Eigen::all);
    const VectorXd y = in.fit.residuals(order);
    const std::size_t h = (n + k + 1) / 2;
    const auto half = trimmed(X, y, h, in.job);
    if (!half) {
        return notApplicable("No half of the rows carries the terms.");
    }
    const double share = static_cast<double>(h) / static_cast<double>(n);
    const double q = normalQuantile(0.5 * (1.0 + share));
    const double density = std::exp(-0.5 * q * q) / std::sqrt(2.0 * std::numbers::pi);
    // The spread that the smaller half of normal errors stands for.
    const double scale =
        std::sqrt(half->squares / static_cast<double>(h) / (1.0 - 2.0 * q * density / share));
    if (!(scale > 1e-12 * in.design.y.cwiseAbs().maxCoeff())) {
        return notApplicable("Half of the rows lie on the line exactly.");
    }
    const VectorXd ordered = (y - X * half->b) / scale;
    VectorXd r(ordered.size());
    for (std::size_t i = 0; i < order.size(); ++i) {
        r(order[i]) = ordered(static_cast<Index>(i));
    }
    std::vector<Index> inside;  // In the order of X.
    std::vector<std::pair<double, std::size_t>> apart;
    for (Index i = 0; i < ordered.size(); ++i) {
        if (std::abs(ordered(i)) <= kBound) {
            inside.push_back(i);
        }
    }
    for (Index i = 0; i < r.size(); ++i) {
        if (std::abs(r(i)) > kBound) {
            apart.emplace_back(-std::abs(r(i)), in.design.rows[static_cast<std::size_t>(i)]);
        }
    }
    std::sort(apart.begin(), apart.end());
    std::vector<std::size_t> rows;
    for (const auto& [size, row] : apart) {
        rows.push_back(row);
    }
    VectorXd b = half->b;
    solveRows(X, y, inside, b);
    const VectorXd moved = in.fit.solution.factor * b;
    double most = 0.0;
    std::string said;
    for (std::size_t j = 0; j < in.fit.coefficients.size() && j < k; ++j) {
        const Coefficient& c = in.fit.coefficients[j];
        const double other = c.estimate + moved(static_cast<Index>(j));
        if (c.designTerm >= 0 && c.se > 0.0 && std::abs(other - c.estimate) / c.se > most) {
            most = std::abs(other - c.estimate) / c.se;
            const int digits = decimalsFor(c.se);
            said = "the effect of **" + c.term + "** would be **" + fixedNumber(other, digits) +
                   "** in place of " + fixedNumber(c.estimate, digits);
        }
    }
    CheckResult result;
    result.statistic = static_cast<double>(apart.size());
    result.statisticName = "rows apart";
    result.details = {{"rows of the half", static_cast<double>(h)},
                      {"spread of the half", scale},
                      {"largest move, in errors", most}};
    // One normal row in eighty lies so far out by chance.
    const double expected = 2.0 * normalTail(kBound) * static_cast<double>(n);
    const bool many =
        static_cast<double>(apart.size()) > expected + 3.0 * std::sqrt(expected) + 1.0;
    result.verdict = most >= 2.0           ? Verdict::Fails
                     : most >= 1.0 || many ? Verdict::Weigh
                                           : Verdict::Fine;
    result.headline = plural(apart.size(), "row", "rows") + " apart";
    result.reading =
        "Told by the half of the rows that agree best, " +
        plural(apart.size(), "row lies", "rows lie") + " more than two and a half spreads off" +
        (rows.empty() ? std::string() : ": " + namesOf(in, rows)) + " (chance alone would put " +
        fixedNumber(expected, expected < 10.0 ? 1 : 0) + " there). " +
        (said.empty()
             ? std::string()
             : "Without them " + said + ", " + fixedNumber(most, 1) + " standard errors away.") +
        (result.verdict == Verdict::Fine ? " They decide little."
                                         : " Rows that lean on each other hide from least squares, "
                                           "and show here.");
    Exhibit e;
    e.title = result.verdict == Verdict::Fine ? "The rows speak with one voice"
                                              : "Some rows stand apart from the half that agrees";
    e.subtitle = "distances in spreads · rings: more than 2.5 off · n = " + countText(n);
    e.xTitle = "by least squares";
    e.yTitle = "by the half that agrees best";
    const double sigma = in.fit.statistics.sigma;
    for (Index i = 0; i < r.size(); ++i) {
        e.x.push_back(in.fit.residuals(i) / sigma);
        e.y.push_back(r(i));
        e.rows.push_back(in.design.rows[static_cast<std::size_t>(i)]);
    }
    const auto [left, right] = std::minmax_element(e.x.begin(), e.x.end());
    for (const double at : {-kBound, kBound}) {
        Exhibit::Line line{"", {*left, *right}, {at, at}};
        line.dashed = true;
        e.lines.push_back(std::move(line));
    }
    e.marked = rows;
    result.exhibit = std::move(e);
    if (result.verdict != Verdict::Fine) {
        Question variant = variantBase(in, "an MM-estimate");
        variant.method = "mm";
        variant.settings = EstimatorSettings{};
        result.remedies.push_back({"Hold odd rows down",
                                   "an MM-estimate: half of the rows may be odd",
                                   std::move(variant)});
        if (!rows.empty()) {
            offerWithout(in, rows, result);
        }
    }
    return result;
}

}  // namespace rapporto
