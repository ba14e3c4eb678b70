#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/model/fit.h"
#include "core/numerics/distributions.h"

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

/// Up to so many rows the places are found to the kink; beyond, the kinks are too small to matter.
constexpr Index kPolished = 20000;

/// (x − at)₊
VectorXd hinge(const VectorXd& x, double at) { return (x.array() - at).max(0.0); }

/// Least squares on what X leaves of the hinges; rows carry √w.
class Profile {
  public:
    Profile(const Design& design, const VectorXd& x) : x_(x) {
        root_ = design.weights.size() > 0 ? VectorXd(design.weights.cwiseSqrt())
                                          : VectorXd::Ones(x.size());
        const MatrixXd X = root_.asDiagonal() * design.X;
        const Eigen::ColPivHouseholderQR<MatrixXd> qr(X);
        Q_ = MatrixXd(qr.householderQ() * MatrixXd::Identity(X.rows(), qr.rank()));
        y_ = away(root_.cwiseProduct(design.y));
        total_ = y_.squaredNorm();
    }

    /// What X leaves of a column.
    [[nodiscard]] VectorXd away(const VectorXd& column) const {
        // Twice, so that nothing of X is left by rounding.
        VectorXd out = column - Q_ * (Q_.transpose() * column);
        out -= Q_ * (Q_.transpose() * out);
        return out;
    }

    [[nodiscard]] VectorXd hingeAway(double at) const {
        return away(root_.cwiseProduct(hinge(x_, at)));
    }

    [[nodiscard]] double total() const { return total_; }

    [[nodiscard]] const VectorXd& y() const { return y_; }

    struct At {
        double rss = std::numeric_limits<double>::infinity();
        VectorXd slopes;  ///< Changes of slope.
    };

    /// The fit with these bends.
    [[nodiscard]] At at(const std::vector<double>& bends) const {
        MatrixXd H(y_.size(), static_cast<Index>(bends.size()));
        for (std::size_t j = 0; j < bends.size(); ++j) {
            H.col(static_cast<Index>(j)) = hingeAway(bends[j]);
        }
        const Eigen::ColPivHouseholderQR<MatrixXd> qr(H);
        if (qr.rank() < H.cols()) {
            return {};
        }
        At out;
        out.slopes = qr.solve(y_);
        out.rss = (y_ - H * out.slopes).squaredNorm();
        return out;
    }

    /// Gauss–Newton on the places (Muggeo 2003) with halved steps; `held` stays where it is.
    void refine(std::vector<double>& bends, double low, double high, double gap,
                int held = -1) const {
        At here = at(bends);
        const auto m = static_cast<Index>(bends.size());
        for (int step = 0; step < 60; ++step) {
            std::vector<Index> free;
            for (Index j = 0; j < m; ++j) {
                if (j != held) {
                    free.push_back(j);
                }
            }
            const auto f = static_cast<Index>(free.size());
            if (f == 0 || !std::isfinite(here.rss)) {
                return;
            }
            MatrixXd J(y_.size(), m + f);
            for (Index j = 0; j < m; ++j) {
                J.col(j) = hingeAway(bends[static_cast<std::size_t>(j)]);
            }
            for (Index i = 0; i < f; ++i) {
                const double b = bends[static_cast<std::size_t>(free[static_cast<std::size_t>(i)])];
                const VectorXd past = (x_.array() > b).cast<double>();
                J.col(m + i) = away(-here.slopes(free[static_cast<std::size_t>(i)]) *
                                    root_.cwiseProduct(past));
            }
            const VectorXd move = J.colPivHouseholderQr().solve(y_).tail(f);
            double scale = 1.0;
            bool better = false;
            double moved = 0.0;
            for (int half = 0; half < 12 && !better; ++half, scale *= 0.5) {
                std::vector<double> next = bends;
                moved = 0.0;
                for (Index i = 0; i < f; ++i) {
                    double& b = next[static_cast<std::size_t>(free[static_cast<std::size_t>(i)])];
                    b += scale * move(i);
                    moved = std::max(moved, std::abs(scale * move(i)));
                }
                bool inOrder = next.front() > low && next.back() < high;
                for (std::size_t j = 1; j < next.size(); ++j) {
                    inOrder = inOrder && next[j] - next[j - 1] >= gap;
                }
                if (!inOrder) {
                    continue;
                }
                At there = at(next);
                if (there.rss <= here.rss) {
                    better = true;
                    bends = std::move(next);
                    here = std::move(there);
                }
            }
            if (!better || moved < 1e-12 * (high - low)) {
                return;
            }
        }
    }

    /// The profile has kinks at the data, and its least value may be one: each place in turn is
    /// looked for between its neighbours among the data, and at them.
    void polish(std::vector<double>& bends, const std::vector<double>& distinct, double low,
                double high, double gap, std::optional<std::size_t> held = {}) const {
        double rss = at(bends).rss;
        for (int cycle = 0; cycle < 40; ++cycle) {
            const double before = rss;
            for (std::size_t j = 0; j < bends.size(); ++j) {
                if (held == j) {
                    continue;
                }
                const auto here = std::lower_bound(distinct.begin(), distinct.end(), bends[j]);
                const auto first = here - std::min<std::ptrdiff_t>(here - distinct.begin(), 2);
                const auto last = here + std::min<std::ptrdiff_t>(distinct.end() - here - 1, 2);
                std::vector<double> ends(first, last + 1);
                for (std::size_t i = 0; i < ends.size(); ++i) {
                    tryAt(bends, j, ends[i], rss, low, high, gap);
                    if (i > 0) {
                        searchBetween(bends, j, ends[i - 1], ends[i], rss, low, high, gap);
                    }
                }
                if (held) {
                    continue;
                }
                std::vector<double> others = bends;
                refine(others, low, high, gap, static_cast<int>(j));
                if (const double there = at(others).rss; there < rss) {
                    rss = there;
                    bends = std::move(others);
                }
            }
            if (before - rss <= 1e-14 * before) {
                return;
            }
        }
    }

  private:
    void tryAt(std::vector<double>& bends, std::size_t j, double place, double& rss, double low,
               double high, double gap) const {
        std::vector<double> next = bends;
        next[j] = place;
        const bool apart = (j == 0 || next[j] - next[j - 1] >= gap) &&
                           (j + 1 == next.size() || next[j + 1] - next[j] >= gap);
        if (place <= low || place >= high || !apart) {
            return;
        }
        if (const double there = at(next).rss; there < rss) {
            rss = there;
            bends = std::move(next);
        }
    }

    /// Golden section.
    void searchBetween(std::vector<double>& bends, std::size_t j, double a, double b, double& rss,
                       double low, double high, double gap) const {
        const double part = (std::sqrt(5.0) - 1.0) / 2.0;
        const auto value = [&](double place) {
            std::vector<double> next = bends;
            next[j] = place;
            return at(next).rss;
        };
        double c = b - part * (b - a);
        double d = a + part * (b - a);
        double fc = value(c);
        double fd = value(d);
        for (int i = 0; i < 36; ++i) {
            if (fc < fd) {
                b = d;
                d = c;
                fd = fc;
                c = b - part * (b - a);
                fc = value(c);
            } else {
                a = c;
                c = d;
                fc = fd;
                d = a + part * (b - a);
                fd = value(d);
            }
        }
        tryAt(bends, j, 0.5 * (a + b), rss, low, high, gap);
    }

    const VectorXd& x_;
    VectorXd root_;
    MatrixXd Q_;
    VectorXd y_;
    double total_ = 0.0;
};

/// Places between the data where bends are looked for, and what the hinges there have in common.
class Grid {
  public:
    /// @param keep  the columns stay at hand, for `move`.
    Grid(const Profile& profile, std::vector<double> places, bool keep = false)
        : places_(std::move(places)) {
        H_.resize(profile.y().size(), static_cast<Index>(places_.size()));
        for (std::size_t c = 0; c < places_.size(); ++c) {
            H_.col(static_cast<Index>(c)) = profile.hingeAway(places_[c]);
        }
        G_ = H_.transpose() * H_;
        g_ = H_.transpose() * profile.y();
        total_ = profile.total();
        if (!keep) {
            H_.resize(0, 0);
        }
    }

    /// Puts bend i at the best of the places between its neighbours, the others held.
    void move(const Profile& profile, std::vector<double>& bends, std::size_t i) const {
        const auto m = static_cast<Index>(bends.size());
        MatrixXd B(H_.rows(), m - 1);
        for (Index j = 0, c = 0; j < m; ++j) {
            if (j != static_cast<Index>(i)) {
                B.col(c++) = profile.hingeAway(bends[static_cast<std::size_t>(j)]);
            }
        }
        MatrixXd A(m, m);
        A.topLeftCorner(m - 1, m - 1) = B.transpose() * B;
        VectorXd b(m);
        b.head(m - 1) = B.transpose() * profile.y();
        const MatrixXd cross = B.transpose() * H_;
        double most = -1.0;
        double best = bends[i];
        for (Index c = 0; c < cross.cols(); ++c) {
            const double at = places_[static_cast<std::size_t>(c)];
            if ((i > 0 && at <= bends[i - 1]) || (i + 1 < bends.size() && at >= bends[i + 1])) {
                continue;
            }
            A.row(m - 1).head(m - 1) = cross.col(c).transpose();
            A.col(m - 1).head(m - 1) = cross.col(c);
            A(m - 1, m - 1) = G_(c, c);
            b(m - 1) = g_(c);
            const double explained = b.dot(A.ldlt().solve(b));
            if (std::isfinite(explained) && explained > most && explained <= total_) {
                most = explained;
                best = at;
            }
        }
        bends[i] = best;
    }

    [[nodiscard]] const std::vector<double>& places() const { return places_; }

    [[nodiscard]] const MatrixXd& products() const { return G_; }

    [[nodiscard]] const VectorXd& withOutcome() const { return g_; }

    /// The best combinations of `count` places, best first, no two alike in all but a neighbour.
    [[nodiscard]] std::vector<std::vector<double>> best(int count, const Job& job) const {
        chosen_.clear();
        found_.clear();
        walk(0, count, job);
        std::sort(found_.begin(), found_.end(),
                  [](const auto& a, const auto& b) { return a.first < b.first; });
        std::vector<std::vector<double>> out;
        std::vector<std::vector<Index>> taken;
        for (const auto& one : found_) {
            const std::vector<Index>& set = one.second;
            const bool near = std::any_of(taken.begin(), taken.end(), [&](const auto& other) {
                for (std::size_t j = 0; j < set.size(); ++j) {
                    if (std::abs(set[j] - other[j]) > 2) {
                        return false;
                    }
                }
                return true;
            });
            if (!near) {
                taken.push_back(set);
                out.emplace_back();
                for (const Index c : set) {
                    out.back().push_back(places_[static_cast<std::size_t>(c)]);
                }
            }
            if (out.size() == 5) {
                break;
            }
        }
        return out;
    }

  private:
    void walk(Index from, int left, const Job& job) const {
        if (left == 0) {
            consider();
            return;
        }
        for (Index c = from; c < static_cast<Index>(places_.size()) && !job.stopped(); ++c) {
            chosen_.push_back(c);
            // One place between two bends, so that each piece has data of its own.
            walk(c + 2, left - 1, job);
            chosen_.pop_back();
        }
    }

    void consider() const {
        const auto m = static_cast<Index>(chosen_.size());
        Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, 0, 6, 6> A(m, m);
        Eigen::Matrix<double, Eigen::Dynamic, 1, 0, 6, 1> b(m);
        for (Index i = 0; i < m; ++i) {
            b(i) = g_(chosen_[static_cast<std::size_t>(i)]);
            for (Index j = 0; j < m; ++j) {
                A(i, j) =
                    G_(chosen_[static_cast<std::size_t>(i)], chosen_[static_cast<std::size_t>(j)]);
            }
        }
        const double rss = total_ - b.dot(A.ldlt().solve(b));
        if (!std::isfinite(rss)) {
            return;
        }
        if (found_.size() < 400 || rss < found_.front().first) {
            found_.emplace_back(rss, chosen_);
            std::push_heap(found_.begin(), found_.end());
            if (found_.size() > 400) {
                std::pop_heap(found_.begin(), found_.end());
                found_.pop_back();
            }
        }
    }

    std::vector<double> places_;
    MatrixXd H_;
    MatrixXd G_;
    VectorXd g_;
    double total_ = 0.0;
    mutable std::vector<Index> chosen_;
    mutable std::vector<std::pair<double, std::vector<Index>>> found_;  ///< A heap, worst first.
};

class BentLineFitter {
  public:
    BentLineFitter(const Design& design, const EstimatorSettings& settings, const ErrorSpec& errors,
                   double alpha)
        : design_(design), settings_(settings), errors_(errors), alpha_(alpha) {}

    Result<Fit> run(const Job& job) {
        if (auto found = findVariable(); !found) {
            return tl::make_unexpected(found.error());
        }
        const Profile profile(design_, x_);
        if (auto done = placeBends(profile, job); !done) {
            return tl::make_unexpected(done.error());
        }
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                          "Change anything to start it again.");
        }
        const Profile::At at = profile.at(bends_);
        if (!std::isfinite(at.rss)) {
            return refuse(ErrorCode::BadSetting, "two bends leave no rows between them",
                          "estimator", "Move them apart or ask for fewer.");
        }
        if (errors_.kind == "bootstrap") {
            return refuse(ErrorCode::BadSetting,
                          "drawing anew would have to look for the bends in each draw", "errors",
                          "Use classical, robust or clustered errors; bends have profile "
                          "intervals.");
        }
        auto wide = std::make_shared<Design>(widened(at.slopes));
        auto fit = fitLinearised(*wide, coefficients(*wide, job), errors_, alpha_, job);
        if (!fit) {
            return fit;
        }
        tell(*fit, profile, at.rss);
        fit->linearised = std::move(wide);
        return fit;
    }

  private:
    Result<void> findVariable() {
        for (const DesignTerm& term : design_.terms) {
            if (term.name != variable_ || term.groups || term.isProduct) {
                continue;
            }
            x_ = design_.X.col(term.columns.front());
            termOf_ = static_cast<int>(&term - design_.terms.data());
            distinct_.assign(x_.data(), x_.data() + x_.size());
            std::sort(distinct_.begin(), distinct_.end());
            distinct_.erase(std::unique(distinct_.begin(), distinct_.end()), distinct_.end());
            const auto needed = static_cast<std::size_t>(2 * settings_.bends + 4);
            if (distinct_.size() < needed) {
                return refuse(
                    ErrorCode::TooFewRows,
                    fmt::format("‘{}’ has {} distinct values, and {} needs at least {}", variable_,
                                distinct_.size(),
                                plural(static_cast<std::size_t>(settings_.bends), "bend", "bends"),
                                needed),
                    "estimator", "Ask for fewer bends, or treat the variable as groups.",
                    {variable_});
            }
            return {};
        }
        return refuse(
            ErrorCode::BadSetting,
            "a line can bend in a quantity among the terms, and ‘" + variable_ + "’ is none",
            "estimator", "Add it after “with”, or bend in another term.", {variable_});
    }

    /// Places that leave two distinct values on each side, at most `most` of them.
    [[nodiscard]] std::vector<double> candidates(std::size_t most) const {
        std::vector<double> inner(distinct_.begin() + 1, distinct_.end() - 1);
        if (inner.size() <= most) {
            return inner;
        }
        // Even in the rows, as the quantiles of x are.
        std::vector<double> sorted(x_.data(), x_.data() + x_.size());
        std::sort(sorted.begin(), sorted.end());
        std::vector<double> out;
        for (std::size_t c = 0; c < most; ++c) {
            const double share = (static_cast<double>(c) + 1.0) / (static_cast<double>(most) + 1.0);
            const double at =
                sorted[static_cast<std::size_t>(share * static_cast<double>(sorted.size() - 1))];
            if (at > distinct_.front() && at < distinct_.back() &&
                (out.empty() || at > out.back())) {
                out.push_back(at);
            }
        }
        return out;
    }

    [[nodiscard]] static std::size_t placesFor(int bends) {
        return bends <= 2 ? 200 : bends == 3 ? 80 : bends == 4 ? 50 : bends == 5 ? 36 : 28;
    }

    [[nodiscard]] double parameters(int bends) const {
        return static_cast<double>(design_.X.cols()) + 2.0 * bends + 1.0;
    }

    /// −2ℓ + p ln n up to what all choices share.
    [[nodiscard]] double bicOf(double rss, int bends) const {
        const double n = rowsStoodFor(design_);
        return n * (std::log(2.0 * std::numbers::pi) + std::log(rss / n) + 1.0) +
               parameters(bends) * std::log(n);
    }

    Result<void> placeBends(const Profile& profile, const Job& job) {
        low_ = distinct_[1] - 0.5 * (distinct_[1] - distinct_[0]);
        high_ = distinct_[distinct_.size() - 2] +
                0.5 * (distinct_.back() - distinct_[distinct_.size() - 2]);
        gap_ = 1e-9 * (distinct_.back() - distinct_.front());
        bent_.variable = variable_;
        bent_.fixed = settings_.fixed;
        existence(profile);
        bent_.choices.push_back({0, {}, profile.total(), bicOf(profile.total(), 0)});
        if (settings_.fixed) {
            return takeStart();
        }
        const int most = std::min(settings_.bends + 1, 6);
        for (int m = 1; m <= most && !job.stopped(); ++m) {
            if (rowsStoodFor(design_) <= parameters(m) ||
                distinct_.size() < static_cast<std::size_t>(2 * m + 4)) {
                break;
            }
            const Grid grid(profile, candidates(placesFor(m)));
            std::vector<std::vector<double>> starts = grid.best(m, job);
            if (m == settings_.bends && !settings_.start.empty()) {
                std::vector<double> own = settings_.start;
                std::sort(own.begin(), own.end());
                starts.push_back(std::move(own));
            }
            std::vector<double> best;
            double least = std::numeric_limits<double>::infinity();
            for (std::vector<double>& start : starts) {
                profile.refine(start, low_, high_, gap_);
                const double rss = profile.at(start).rss;
                if (rss < least) {
                    least = rss;
                    best = start;
                }
            }
            if (!std::isfinite(least)) {
                break;
            }
            if (x_.size() <= kPolished) {
                profile.polish(best, distinct_, low_, high_, gap_);
                least = profile.at(best).rss;
            }
            bent_.choices.push_back({m, best, least, bicOf(least, m)});
            if (m == settings_.bends) {
                bends_ = best;
            }
        }
        if (bends_.empty() && !job.stopped()) {
            return refuse(ErrorCode::TooFewRows, "the rows do not carry so many bends", "estimator",
                          "Ask for fewer.");
        }
        return {};
    }

    Result<void> takeStart() {
        bends_ = settings_.start;
        std::sort(bends_.begin(), bends_.end());
        for (const double at : bends_) {
            if (at <= distinct_.front() || at >= distinct_.back()) {
                return refuse(ErrorCode::BadSetting,
                              "a bend at " + shortNumber(at) + " lies outside the rows used (" +
                                  shortNumber(distinct_.front()) + " to " +
                                  shortNumber(distinct_.back()) + ")",
                              "estimator", "Move it inside.");
            }
        }
        return {};
    }

    /// Davies (1987): the largest of the normal statistics of one bend over all places, and the
    /// bound on its p from how much the statistic wanders.
    void existence(const Profile& profile) {
        const Grid grid(profile, candidates(200));
        const double n = rowsStoodFor(design_);
        const double variance = profile.total() / (n - static_cast<double>(design_.X.cols()));
        double wander = 0.0;
        double last = 0.0;
        for (Index c = 0; c < grid.withOutcome().size(); ++c) {
            const double s = grid.withOutcome()(c) / std::sqrt(variance * grid.products()(c, c));
            bent_.largest = std::max(bent_.largest, std::abs(s));
            wander += c > 0 ? std::abs(s - last) : 0.0;
            last = s;
        }
        const double M = bent_.largest;
        bent_.existence =
            std::min(1.0, 2.0 * (normalTail(M) + wander * std::exp(-0.5 * M * M) /
                                                     std::sqrt(8.0 * std::numbers::pi)));
    }

    /// The design with a column for each change of slope and each place.
    [[nodiscard]] Design widened(const VectorXd& slopes) const {
        Design wide = design_;
        const auto m = static_cast<Index>(bends_.size());
        const Index k = design_.X.cols();
        wide.X.conservativeResize(Eigen::NoChange, k + (settings_.fixed ? m : 2 * m));
        const DesignTerm& own = design_.terms[static_cast<std::size_t>(termOf_)];
        const std::string text = own.factors.front().text;
        const auto add = [&](Index column, const std::string& name, const std::string& label,
                             const std::string& expression) {
            DesignTerm term;
            term.name = name;
            term.label = label;
            term.columns = {column};
            term.names = own.names;
            term.factors = {{expression, false, {}, 0}};
            wide.columns.push_back({name, label, static_cast<int>(wide.terms.size()), false});
            wide.terms.push_back(std::move(term));
        };
        for (Index j = 0; j < m; ++j) {
            const double at = bends_[static_cast<std::size_t>(j)];
            wide.X.col(k + j) = hinge(x_, at);
            add(k + j, fmt::format("{} past bend {}", own.name, j + 1),
                fmt::format("change of slope at {}", shortNumber(at)),
                fmt::format("greatest({} - ({}), 0)", text, exactNumber(at)));
        }
        for (Index j = 0; j < m && !settings_.fixed; ++j) {
            const double at = bends_[static_cast<std::size_t>(j)];
            wide.X.col(k + m + j) = -slopes(j) * (x_.array() > at).cast<double>();
            add(k + m + j, fmt::format("bend {}", j + 1), fmt::format("place of bend {}", j + 1),
                fmt::format("case when {} > {} then {} else 0 end", text, exactNumber(at),
                            exactNumber(-slopes(j))));
        }
        return wide;
    }

    /// Of the pieces, the places held; zero for the places themselves.
    [[nodiscard]] VectorXd coefficients(const Design& wide, const Job& job) const {
        const auto m = static_cast<Index>(bends_.size());
        const MatrixXd pieces = wide.X.leftCols(design_.X.cols() + m);
        VectorXd out = VectorXd::Zero(wide.X.cols());
        const LinearProblem problem{pieces, wide.y, wide.weights, wide.hasConstant};
        if (const auto solved = solveLinear(problem, false, job)) {
            out(solved->kept) = solved->coefficients;
        }
        return out;
    }

    void tell(Fit& fit, const Profile& profile, double rss) {
        const auto m = static_cast<Index>(bends_.size());
        const Index k = design_.X.cols();
        const auto position = [&](Index column) -> std::optional<Index> {
            for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
                if (fit.coefficients[c].column == column) {
                    return static_cast<Index>(c);
                }
            }
            return std::nullopt;
        };
        const auto df = fit.coefficients.front().df;
        const double reach = criticalValue(alpha_, df);
        double slope = 0.0;
        if (const auto own =
                position(design_.terms[static_cast<std::size_t>(termOf_)].columns.front())) {
            slope = fit.coefficients[static_cast<std::size_t>(*own)].estimate;
        }
        for (Index j = 0; j < m; ++j) {
            Bend bend;
            bend.at = bends_[static_cast<std::size_t>(j)];
            bend.low = bend.high = bend.at;
            bend.slopeBefore = slope;
            if (const auto change = position(k + j)) {
                slope += fit.coefficients[static_cast<std::size_t>(*change)].estimate;
            }
            bend.slopeAfter = slope;
            if (const auto place = settings_.fixed ? std::nullopt : position(k + m + j)) {
                Coefficient& c = fit.coefficients[static_cast<std::size_t>(*place)];
                bend.se = c.se;
                c.equation = "bend";
                c.estimate = bend.at;
                c.low = bend.low = bend.at - reach * c.se;
                c.high = bend.high = bend.at + reach * c.se;
                // Zero is no hypothesis about a place.
                c.statistic.reset();
                c.p.reset();
                c.standardised.reset();
                if (errors_.kind == "classical") {
                    bend.low = profileEnd(profile, static_cast<int>(j), rss, fit.dfResidual, -1.0);
                    bend.high = profileEnd(profile, static_cast<int>(j), rss, fit.dfResidual, 1.0);
                    bend.profile = true;
                }
            }
            bent_.bends.push_back(bend);
        }
        overall(fit, k + m);
        fit.bent = bent_;
    }

    /// F and the split of variance speak of slopes, not of places.
    void overall(Fit& fit, Index firstPlace) const {
        std::vector<Index> slopes;
        for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
            const Coefficient& b = fit.coefficients[c];
            if (b.designTerm >= 0 && b.column < firstPlace) {
                slopes.push_back(static_cast<Index>(c));
            }
        }
        const auto f = waldF(fit.solution.coefficients(slopes), fit.covariance(slopes, slopes));
        const auto df = fit.coefficients.front().df;
        fit.statistics.f.reset();
        if (f && df && *df > 0.0) {
            const auto q = static_cast<double>(slopes.size());
            fit.statistics.f = FTest{*f, q, *df, fTail(*f, q, *df)};
        }
        std::erase_if(fit.varianceSplit,
                      [](const VarianceSource& v) { return v.source.starts_with("bend "); });
    }

    /// Where the other bends, placed anew, leave so much more that F(1, df) rejects the place.
    [[nodiscard]] double profileEnd(const Profile& profile, int j, double rss, double df,
                                    double direction) const {
        const double t = criticalValue(alpha_, df);
        const double limit = rss * (1.0 + t * t / df);
        const bool small = x_.size() <= kPolished / 10 && bends_.size() > 1;
        const Grid grid(profile, small ? candidates(200) : std::vector<double>(), true);
        const auto excess = [&](double at) {
            std::vector<double> bends = bends_;
            bends[static_cast<std::size_t>(j)] = at;
            for (std::size_t i = 1; i < bends.size(); ++i) {
                if (bends[i] - bends[i - 1] < gap_) {
                    return std::numeric_limits<double>::infinity();
                }
            }
            if (small) {
                // The best place of another bend can be far from where it stood.
                for (std::size_t i = 0; i < bends.size(); ++i) {
                    if (i != static_cast<std::size_t>(j)) {
                        grid.move(profile, bends, i);
                    }
                }
            }
            profile.refine(bends, low_, high_, gap_, j);
            if (small) {
                profile.polish(bends, distinct_, low_, high_, gap_, static_cast<std::size_t>(j));
            }
            return profile.at(bends).rss - limit;
        };
        const double from = bends_[static_cast<std::size_t>(j)];
        const double end = direction < 0.0 ? low_ : high_;
        // Outward in even steps: the profile has kinks at the data.
        double inside = from;
        constexpr int kSteps = 30;
        for (int s = 1; s <= kSteps; ++s) {
            const double at = from + (end - from) * s / kSteps;
            if (excess(at) > 0.0) {
                double outside = at;
                for (int i = 0; i < 40; ++i) {
                    const double middle = 0.5 * (inside + outside);
                    (excess(middle) > 0.0 ? outside : inside) = middle;
                }
                return inside;
            }
            inside = at;
        }
        return end;
    }

    const Design& design_;
    const EstimatorSettings& settings_;
    std::string variable_ = plainName(settings_.variable);  ///< That the line bends in.
    const ErrorSpec& errors_;
    double alpha_;
    VectorXd x_;
    int termOf_ = -1;
    std::vector<double> distinct_;
    double low_ = 0.0;
    double high_ = 0.0;
    double gap_ = 0.0;
    std::vector<double> bends_;
    BentLine bent_;
};

}  // namespace

Result<Fit> fitBentLine(const Design& design, const EstimatorSettings& settings,
                        const ErrorSpec& errors, double alpha, const Job& job) {
    return BentLineFitter(design, settings, errors, alpha).run(job);
}

}  // namespace rapporto
