#include "core/model/rows_left.h"

#include "core/model/feasible_ar.h"
#include "core/model/multilevel.h"
#include "core/model/panel.h"

#include <cmath>
#include <unordered_map>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Where the rows of a design stand among those before its shares were taken out.
std::vector<Index> placesBefore(const Design& design) {
    std::unordered_map<std::size_t, Index> at;
    at.reserve(design.before->rows.size());
    for (std::size_t i = 0; i < design.before->rows.size(); ++i) {
        at.emplace(design.before->rows[i], static_cast<Index>(i));
    }
    std::vector<Index> out;
    out.reserve(design.rows.size());
    for (const std::size_t row : design.rows) {
        out.push_back(at.at(row));
    }
    return out;
}

bool hasOthers(const Design& design, const Fit& fit) {
    return fit.ofShares && design.before != nullptr;
}

}  // namespace

MatrixXd columnsOfRows(const Design& design, const Fit& fit) {
    return hasOthers(design, fit) ? MatrixXd(design.before->X(placesBefore(design), Eigen::all))
                                  : design.X;
}

VectorXd outcomeOfRows(const Design& design, const Fit& fit) {
    return hasOthers(design, fit) ? VectorXd(design.before->y(placesBefore(design))) : design.y;
}

VectorXd fittedOfRows(const Design& design, const Fit& fit) {
    if (!hasOthers(design, fit)) {
        return fit.fitted;
    }
    const MatrixXd X = columnsOfRows(design, fit);
    VectorXd out = VectorXd::Zero(X.rows());
    for (const Coefficient& c : fit.coefficients) {
        out += c.estimate * X.col(c.column);
    }
    return out;
}

VectorXd leftOfRows(const Design& design, const Fit& fit) {
    return hasOthers(design, fit) ? VectorXd(outcomeOfRows(design, fit) - fittedOfRows(design, fit))
                                  : fit.residuals;
}

double varianceOfRow(const Fit& fit) {
    const double own = fit.statistics.sigma * fit.statistics.sigma;
    if (fit.panel && fit.panel->sigmaUnit && fit.panel->sigmaRest) {
        return std::pow(*fit.panel->sigmaUnit, 2) + std::pow(*fit.panel->sigmaRest, 2);
    }
    if (fit.levels) {
        return fit.levels->rowVariance;
    }
    return fit.echo ? own / (1.0 - fit.echo->rho * fit.echo->rho) : own;
}

void standardiseByRows(Fit& fit, const Design& raw) {
    const double outcome = centredSquares(raw.y, raw.weights);
    for (Coefficient& c : fit.coefficients) {
        if (c.designTerm >= 0 && outcome > 0.0) {
            c.standardised =
                c.estimate * std::sqrt(centredSquares(raw.X.col(c.column), raw.weights) / outcome);
        }
    }
}

}  // namespace rapporto
