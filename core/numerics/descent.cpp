#include "core/numerics/descent.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

Descent descend(const SmoothFunction& function, const VectorXd& from, const MatrixXd& inverse,
                double gain, const Job& job) {
    constexpr int kMostSteps = 300;
    Descent out;
    const SlopedValue start = function(from);
    out.at = from;
    out.value = start.value;
    out.slope = start.slope;
    const bool known = inverse.rows() == from.size();
    out.inverse = known ? inverse
                        : MatrixXd(MatrixXd::Identity(from.size(), from.size()) /
                                   std::max(out.slope.norm(), 1.0));
    if (!std::isfinite(out.value) || from.size() == 0) {
        out.settled = from.size() == 0 && std::isfinite(out.value);
        return out;
    }
    bool first = !known;
    bool restarted = false;
    for (int step = 0; step < kMostSteps && !job.stopped(); ++step) {
        VectorXd move = -(out.inverse * out.slope);
        double fall = out.slope.dot(move);
        if (!(fall < 0.0)) {
            out.inverse.setIdentity();
            move = -out.slope;
            fall = -out.slope.squaredNorm();
        }
        if (-fall <= std::max(gain, 1e-14 * std::abs(out.value))) {
            out.settled = true;
            return out;
        }
        SlopedValue next;
        double part = 1.0;
        VectorXd to;
        bool lower = false;
        for (; part > 1e-12 && !lower; part *= 0.4) {
            to = out.at + part * move;
            next = function(to);
            lower = std::isfinite(next.value) && next.value <= out.value + 1e-4 * part * fall;
        }
        if (!lower) {
            // Steps along a worn-out curvature find nothing: once more along the slope itself.
            if (restarted) {
                out.settled = -fall <= std::max(100.0 * gain, 1e-9 * std::abs(out.value));
                return out;
            }
            restarted = true;
            out.inverse =
                MatrixXd::Identity(from.size(), from.size()) / std::max(out.slope.norm(), 1.0);
            first = true;
            continue;
        }
        restarted = false;
        const VectorXd s = to - out.at;
        const VectorXd g = next.slope - out.slope;
        const double sg = s.dot(g);
        if (sg > 1e-14 * s.norm() * g.norm()) {
            if (first) {
                out.inverse = MatrixXd::Identity(from.size(), from.size()) * (sg / g.squaredNorm());
                first = false;
            }
            const MatrixXd turn =
                MatrixXd::Identity(from.size(), from.size()) - s * g.transpose() / sg;
            out.inverse = turn * out.inverse * turn.transpose() + s * s.transpose() / sg;
        }
        out.at = to;
        out.value = next.value;
        out.slope = next.slope;
    }
    return out;
}

MatrixXd curvature(const SmoothFunction& function, const VectorXd& at, double step) {
    MatrixXd out(at.size(), at.size());
    for (Index j = 0; j < at.size(); ++j) {
        VectorXd to = at;
        to(j) += step;
        const VectorXd up = function(to).slope;
        to(j) = at(j) - step;
        out.col(j) = (up - function(to).slope) / (2.0 * step);
    }
    return 0.5 * (out + out.transpose());
}

MatrixXd inverseWhereCurved(const MatrixXd& symmetric) {
    const Eigen::SelfAdjointEigenSolver<MatrixXd> parts(symmetric);
    const double least = 1e-9 * std::max(parts.eigenvalues().cwiseAbs().maxCoeff(), 1e-300);
    const VectorXd turned =
        parts.eigenvalues().unaryExpr([&](double v) { return v > least ? 1.0 / v : 0.0; });
    return parts.eigenvectors() * turned.asDiagonal() * parts.eigenvectors().transpose();
}

Descent polished(const SmoothFunction& function, const Descent& near) {
    constexpr int kMostSteps = 8;
    constexpr double kStep = 1e-4;
    Descent out = near;
    for (int step = 0; step < kMostSteps && out.at.size() > 0; ++step) {
        out.inverse = inverseWhereCurved(curvature(function, out.at, kStep));
        const VectorXd to = out.at - out.inverse * out.slope;
        const SlopedValue next = function(to);
        if (!(next.slope.norm() < 0.5 * out.slope.norm())) {
            break;
        }
        out.at = to;
        out.value = next.value;
        out.slope = next.slope;
    }
    return out;
}

}  // namespace rapporto
