#include "core/picture/line_fit.h"

#include "core/picture/desk_rows.h"

#include <Eigen/Dense>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

Eigen::Vector3d powersAt(const Curve& curve, double x) {
    const double z = (x - curve.centre) / curve.scale;
    return {1.0, z, z * z};
}

}  // namespace

double Curve::at(double x) const {
    const Eigen::Vector3d p = powersAt(*this, x);
    double sum = 0.0;
    for (std::size_t k = 0; k < coefficients.size(); ++k) {
        sum += coefficients[k] * p(static_cast<Eigen::Index>(k));
    }
    return sum;
}

double Curve::se(double x) const {
    const Eigen::Vector3d p = powersAt(*this, x);
    double sum = 0.0;
    for (std::size_t a = 0; a < covariance.size(); ++a) {
        for (std::size_t b = 0; b < covariance.size(); ++b) {
            sum += p(static_cast<Eigen::Index>(a)) * covariance[a][b] *
                   p(static_cast<Eigen::Index>(b));
        }
    }
    return std::sqrt(std::max(sum, 0.0));
}

std::optional<Curve> fitCurve(std::span<const double> x, std::span<const double> y,
                              std::span<const std::size_t> rows, int degree,
                              const SurveyRows* design) {
    const Eigen::Index k = degree + 1;
    const auto weight = [&](std::size_t i) {
        return design == nullptr ? 1.0 : design->weights[rows[i]];
    };
    Curve out;
    double total = 0.0;
    double counted = 0.0;
    double low = INFINITY;
    double high = -INFINITY;
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (const double w = weight(i); w > 0.0) {
            total += w;
            counted += 1.0;
            out.centre += w * x[i];
            low = std::min(low, x[i]);
            high = std::max(high, x[i]);
        }
    }
    if (counted <= static_cast<double>(k) || !(high > low)) {
        return std::nullopt;
    }
    out.centre /= total;
    out.scale = std::max(high - out.centre, out.centre - low);
    // Of a line the third power is carried along and left out.
    Eigen::Matrix3d cross = Eigen::Matrix3d::Zero();
    Eigen::Vector3d moment = Eigen::Vector3d::Zero();
    for (std::size_t i = 0; i < x.size(); ++i) {
        const Eigen::Vector3d p = powersAt(out, x[i]);
        cross += weight(i) * p * p.transpose();
        moment += weight(i) * y[i] * p;
    }
    const Eigen::LDLT<Eigen::MatrixXd> solver(cross.topLeftCorner(k, k));
    const Eigen::VectorXd d = solver.vectorD();
    if (solver.info() != Eigen::Success || d.minCoeff() < 1e-12 * d.maxCoeff()) {
        return std::nullopt;  // A parabola through two different x.
    }
    Eigen::Vector3d b = Eigen::Vector3d::Zero();
    b.head(k) = solver.solve(moment.head(k));
    // One refinement on residuals: y may be large beside its spread.
    Eigen::Vector3d rest = Eigen::Vector3d::Zero();
    for (std::size_t i = 0; i < x.size(); ++i) {
        const Eigen::Vector3d p = powersAt(out, x[i]);
        rest += weight(i) * (y[i] - p.dot(b)) * p;
    }
    b.head(k) += solver.solve(rest.head(k));
    double rss = 0.0;
    Eigen::MatrixXd scores = Eigen::MatrixXd::Zero(
        design == nullptr ? 0 : static_cast<Eigen::Index>(design->strata.size()), k);
    for (std::size_t i = 0; i < x.size(); ++i) {
        const Eigen::Vector3d p = powersAt(out, x[i]);
        const double e = y[i] - p.dot(b);
        rss += weight(i) * e * e;
        if (design != nullptr) {
            scores.row(static_cast<Eigen::Index>(rows[i])) = weight(i) * e * p.head(k).transpose();
        }
    }
    const Eigen::MatrixXd inverse = solver.solve(Eigen::MatrixXd::Identity(k, k));
    Eigen::MatrixXd covariance;
    out.sigma = std::sqrt(rss / total * counted / (counted - static_cast<double>(k)));
    if (design == nullptr) {
        out.df = counted - static_cast<double>(k);
        covariance = out.sigma * out.sigma * inverse;
    } else {
        const DesignCovariance meat = designCovariance(*design, scores);
        out.df = meat.df;
        covariance = inverse * meat.matrix * inverse;
    }
    out.coefficients.assign(b.data(), b.data() + k);
    for (Eigen::Index a = 0; a < k; ++a) {
        const Eigen::VectorXd row = covariance.row(a);
        out.covariance.emplace_back(row.data(), row.data() + k);
    }
    return out;
}

std::optional<double> slopeWithout(const DrawnPicture& scatter, const Frame& frame,
                                   const Survey& survey, const RowSet& rows) {
    if (scatter.spec.kind != "scatter" || scatter.spec.of.size() != 2 || scatter.exhibits.empty()) {
        return std::nullopt;
    }
    const Exhibit& e = scatter.exhibits.front();
    std::vector<double> x;
    std::vector<double> y;
    std::vector<std::size_t> kept;
    for (std::size_t i = 0; i < e.x.size(); ++i) {
        if (!rows.contains(e.rows[i])) {
            x.push_back(e.x[i]);
            y.push_back(e.y[i]);
            kept.push_back(e.rows[i]);
        }
    }
    const bool weighted = !deskWeights({frame, scatter.spec, survey}).empty();
    const auto design = weighted ? surveyRows(frame, survey) : Result<SurveyRows>(SurveyRows{});
    if (!design) {
        return std::nullopt;
    }
    const auto curve = fitCurve(x, y, kept, 1, weighted ? &*design : nullptr);
    return curve ? std::optional(curve->slope()) : std::nullopt;
}

}  // namespace rapporto
