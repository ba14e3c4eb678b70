#include "core/left/left_likelihood.h"

#include <fmt/format.h>

#include <cmath>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kMostSteps = 40;
/// What the likelihood could still gain, as a share of its size, when a step is the last.
constexpr double kEnough = 1e-17;
/// An index of columns of size one this far out tells some rows for certain.
constexpr double kRanAway = 200.0;
constexpr std::size_t kMostCounts = 200000;

/// ((c₀·x + c₁)·x + …)
std::string horner(const std::vector<double>& c, const std::string& x) {
    std::string out = sqlNumber(c.front());
    for (std::size_t i = 1; i < c.size(); ++i) {
        out = "(" + out + " * " + x + " + " + sqlNumber(c[i]) + ")";
    }
    return out;
}

/// The normal tail beyond |eta| where “far” is |eta|/√2, by rational approximations.
std::string tailSql() {
    // Highest power first, after the three regions of Cody’s table.
    const std::vector<double> a = {1.85777706184603153e-1, 3.16112374387056560e0,
                                   1.13864154151050156e2, 3.77485237685302021e2,
                                   3.20937758913846947e3};
    const std::vector<double> b = {1.0, 2.36012909523441209e1, 2.44024637934444173e2,
                                   1.28261652607737228e3, 2.84423683343917062e3};
    const std::vector<double> c = {
        2.15311535474403846e-8, 5.64188496988670089e-1, 8.88314979438837594e0,
        6.61191906371416295e1,  2.98635138197400131e2,  8.81952221241769090e2,
        1.71204761263407058e3,  2.05107837782607147e3,  1.23033935479799725e3};
    const std::vector<double> d = {1.0,
                                   1.57449261107098347e1,
                                   1.17693950891312499e2,
                                   5.37181101862009858e2,
                                   1.62138957456669019e3,
                                   3.29079923573345963e3,
                                   4.36261909014324716e3,
                                   3.43936767414372164e3,
                                   1.23033935480374942e3};
    const std::vector<double> p = {1.63153871373020978e-2, 3.05326634961232344e-1,
                                   3.60344899949804439e-1, 1.25781726111229246e-1,
                                   1.60837851487422766e-2, 6.58749161529837803e-4};
    const std::vector<double> q = {1.0,
                                   2.56852019228982242e0,
                                   1.87295284992346725e0,
                                   5.27905102951428412e-1,
                                   6.05183413124413191e-2,
                                   2.33520497626869185e-3};
    const std::string square = "(far * far)";
    const std::string inverse = "(1 / (far * far))";
    const std::string root = sqlNumber(1.0 / std::sqrt(std::numbers::pi));
    return "(0.5 * case when far <= 0.46875 then 1 - far * " + horner(a, square) + " / " +
           horner(b, square) + " when far <= 4 then exp(-far * far) * " + horner(c, "far") + " / " +
           horner(d, "far") + " else exp(-far * far) * (" + root + " - " + inverse + " * " +
           horner(p, inverse) + " / " + horner(q, inverse) + ") / far end)";
}

/// What one row adds. `mean` and `score` read “eta” and, for probit, “tail”; the others read the
/// mean as “mu” and the score as “e”, too.
struct RowLaw {
    std::string mean;
    std::string score;
    std::string likelihood;
    std::string curvature;  ///< Negative second derivative.
};

RowLaw lawOf(const LeftIndex& index) {
    const std::string& y = index.outcome;
    // Beyond these ends exp() has no value in the engine.
    const std::string within =
        "(case when eta > 700 then 700 when eta < -700 then -700 else eta end)";
    if (index.family->isPoisson()) {
        const std::string mean = "exp(" + within + ")";
        return {mean, y + " - " + mean, y + " * eta - mu", "mu"};
    }
    if (index.family->curve == Family::Curve::Logit) {
        const std::string mean = "1 / (1 + exp(-" + within + "))";
        return {mean, y + " - " + mean,
                y + " * eta - (case when eta > 0 then eta else 0 end) - ln(1 + exp(-(case when "
                    "abs(eta) < 700 then abs(eta) else 700 end)))",
                "mu * (1 - mu)"};
    }
    // φ over the chance of what was seen, with its sign.
    const std::string chance =
        "(case when (eta < 0) = (" + y + " = 1) then tail else 1 - tail end)";
    const std::string density =
        sqlNumber(1.0 / std::sqrt(2.0 * std::numbers::pi)) +
        " * exp((case when eta * eta < 1400 then eta * eta else 1400 end) / -2)";
    return {"case when eta < 0 then tail else 1 - tail end",
            "(2 * " + y + " - 1) * " + density + " / " + chance, "ln(" + chance + ")",
            "e * (e + eta)"};
}

class Newton {
  public:
    Newton(LeftRows& rows, const LeftIndex& index)
        : rows_(rows),
          index_(index),
          law_(lawOf(index)),
          k_(static_cast<Index>(index.columns.size())) {}

    Result<LeftMaximum> run() {
        VectorXd theta = VectorXd::Zero(k_);
        if (index_.columns.front() == "1") {
            theta(0) = start();
        }
        auto now = at(theta);
        if (!now) {
            return tl::make_unexpected(now.error());
        }
        bool last = false;
        for (int step = 0; step < kMostSteps; ++step) {
            const Eigen::LDLT<MatrixXd> solver(now->hessian);
            const bool flat =
                solver.info() != Eigen::Success ||
                solver.vectorD().minCoeff() <= 1e-13 * std::abs(solver.vectorD().maxCoeff());
            if (flat) {
                return runaway();
            }
            VectorXd move = solver.solve(now->gradient);
            const double gain = now->gradient.dot(move);
            if (last || k_ == 0) {
                return told(theta, *now, solver.solve(MatrixXd::Identity(k_, k_)), step, gain);
            }
            last = gain <= kEnough * std::abs(now->likelihood);
            auto next = at(theta + move);
            for (int half = 0;
                 next && half < 30 && !last &&
                 !(next->likelihood >= now->likelihood - 1e-12 * std::abs(now->likelihood));
                 ++half) {
                move *= 0.5;
                next = at(theta + move);
            }
            if (!next) {
                return tl::make_unexpected(next.error());
            }
            theta += move;
            now = std::move(next);
            if (theta.tail(k_ - (k_ > 0 ? 1 : 0)).cwiseAbs().sum() > kRanAway) {
                return runaway();
            }
        }
        return runaway();
    }

  private:
    struct Place {
        double likelihood = 0.0;
        VectorXd gradient;
        MatrixXd hessian;
    };

    static tl::unexpected<Refusal> runaway() {
        return refuse(
            ErrorCode::NotConverged, "the likelihood has no highest point here", "the terms",
            "A term may tell the outcome for certain: take terms out one by one, or fetch "
            "the rows to see which.");
    }

    [[nodiscard]] double start() const {
        if (index_.family->isPoisson()) {
            return std::log(std::max(index_.mean, 1e-8));
        }
        const double share = std::clamp(index_.mean, 1e-8, 1.0 - 1e-8);
        const double logit = std::log(share / (1.0 - share));
        return index_.family->curve == Family::Curve::Logit ? logit : logit / 1.7;
    }

    [[nodiscard]] std::string indexSql(const VectorXd& theta) const {
        std::string out;
        for (Index j = 0; j < k_; ++j) {
            out += (j == 0 ? "" : " + ") + sqlNumber(theta(j)) + " * " +
                   index_.columns[static_cast<std::size_t>(j)];
        }
        return "(" + out + ")";
    }

    /// The rows with their index, and what it tells of each.
    [[nodiscard]] std::string stepped(const VectorXd& theta) const {
        std::string from = workedOut("*, " + indexSql(theta) + " as eta", index_.from, "indexed");
        if (index_.family->curve == Family::Curve::Probit) {
            const std::string far = "*, (case when abs(eta) < 36 then abs(eta) else 36 end) / " +
                                    sqlNumber(std::numbers::sqrt2) + " as far";
            from = workedOut("*, " + tailSql() + " as tail", workedOut(far, from, "reached"),
                             "tailed");
        }
        from = workedOut("*, " + law_.mean + " as mu, " + law_.score + " as e", from, "scored");
        return workedOut("*, " + law_.likelihood + " as l, " + law_.curvature + " as h", from,
                         "stepped");
    }

    [[nodiscard]] std::string sum(const std::string& x) const {
        return index_.weight == "1" ? "sum(" + x + ")" : "sum(" + index_.weight + " * " + x + ")";
    }

    Result<Place> at(const VectorXd& theta) {
        std::vector<std::string> sums = {sum("l")};
        for (const std::string& column : index_.columns) {
            sums.push_back(sum("e * " + column));
        }
        for (std::size_t i = 0; i < index_.columns.size(); ++i) {
            for (std::size_t j = 0; j <= i; ++j) {
                sums.push_back(sum("h * " + index_.columns[i] + " * " + index_.columns[j]));
            }
        }
        const auto found = rows_.sumsOfRows(sums, stepped(theta));
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        Place out;
        out.likelihood = (*found)[0];
        out.gradient.resize(k_);
        out.hessian.resize(k_, k_);
        std::size_t next = 1;
        for (Index j = 0; j < k_; ++j) {
            out.gradient(j) = (*found)[next++];
        }
        for (Index i = 0; i < k_; ++i) {
            for (Index j = 0; j <= i; ++j) {
                out.hessian(i, j) = out.hessian(j, i) = (*found)[next++];
            }
        }
        return out;
    }

    Result<LeftMaximum> told(const VectorXd& theta, const Place& place, MatrixXd inverse, int steps,
                             double gain) {
        LeftMaximum out;
        out.theta = theta;
        out.inverse = std::move(inverse);
        out.iterations = steps;
        out.gradient = gain;
        out.logLikelihood = place.likelihood;
        out.from = stepped(theta);
        const std::string& y = index_.outcome;
        const bool counts = index_.family->isPoisson();
        const std::string left = "(" + y + " - mu)";
        const std::string variance = counts ? "mu" : "(mu * (1 - mu))";
        std::vector<std::string> sums = {sum(left + " * " + left + " / (case when " + variance +
                                             " > 1e-300 then " + variance + " else 1e-300 end)")};
        if (counts) {
            sums.push_back(sum("(case when " + y + " > 0 then " + y + " * (ln(" + y +
                               ") - eta) else 0 end - " + left + ")"));
        }
        const auto found = rows_.sumsOfRows(sums, out.from);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        out.pearson = (*found)[0];
        const double m = index_.mean;
        if (!counts) {
            out.deviance = -2.0 * out.logLikelihood;
            out.nullLogLikelihood = index_.total * ((m > 0.0 ? m * std::log(m) : 0.0) +
                                                    (m < 1.0 ? (1.0 - m) * std::log1p(-m) : 0.0));
            return out;
        }
        out.deviance = 2.0 * (*found)[1];
        auto constants = factorials();
        if (!constants) {
            return tl::make_unexpected(constants.error());
        }
        out.logLikelihood -= *constants;
        out.nullLogLikelihood = index_.total * (m > 0.0 ? m * std::log(m) - m : 0.0) - *constants;
        return out;
    }

    /// Σ w ln y!, by the counts that occur.
    Result<double> factorials() {
        const auto found = rows_.ask(
            "select " + index_.outcome + ", " +
            (index_.weight == "1" ? std::string("count(*)") : "sum(" + index_.weight + ")") +
            " from " + index_.from + " group by " + index_.outcome +
            fmt::format(" limit {}", kMostCounts + 1));
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        if (found->rows.size() > kMostCounts) {
            return refuse(ErrorCode::TooLarge, "the outcome has too many different values",
                          "outcome", "Choose another outcome, or " + rows_.words().fetch + ".");
        }
        double out = 0.0;
        for (const auto& row : found->rows) {
            out += std::strtod(row[1]->c_str(), nullptr) *
                   std::lgamma(std::strtod(row[0]->c_str(), nullptr) + 1.0);
        }
        return out;
    }

    LeftRows& rows_;
    const LeftIndex& index_;
    RowLaw law_;
    Index k_;
};

}  // namespace

Result<LeftMaximum> maximiseLeft(LeftRows& rows, const LeftIndex& index) {
    return Newton(rows, index).run();
}

}  // namespace rapporto
