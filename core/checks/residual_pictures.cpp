#include "core/checks/residual_pictures.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/outcome_residuals.h"
#include "core/checks/row_sheet.h"
#include "core/describe/smooth.h"

#include <cmath>

namespace rapporto {

using Eigen::VectorXd;

namespace {

std::vector<double> listOf(const VectorXd& v) { return {v.begin(), v.end()}; }

Exhibit spreadAgainstLevel(const Design& design, const Fit& fit) {
    Exhibit e;
    e.title = "Spread against level";
    e.subtitle = "root of the size of studentised residuals along the fit · n = " +
                 countText(design.rows.size());
    e.xTitle = "fitted " + shownNames(design.outcome);
    e.yTitle = "√|studentised residual|";
    e.x = listOf(fit.fitted);
    e.y = listOf(studentisedResiduals(design, fit).cwiseAbs().cwiseSqrt());
    e.rows = design.rows;
    e.lines.push_back(localLine(e.x, e.y, 0.6, "smooth"));
    return e;
}

Exhibit alongOf(const Design& design, const Fit& fit, std::vector<double> x,
                const std::string& title, const std::string& axis) {
    Exhibit e;
    e.title = title;
    e.subtitle =
        "residual of " + shownNames(design.outcome) + " · n = " + countText(design.rows.size());
    e.xTitle = axis;
    e.yTitle = "residual";
    e.zeroLine = true;
    e.x = std::move(x);
    e.y = listOf(fit.residuals);
    e.rows = design.rows;
    e.lines.push_back(localLine(e.x, e.y, 0.6, "smooth"));
    return e;
}

}  // namespace

std::vector<Exhibit> residualPictures(const Design& design, const Fit& fit,
                                      const EstimatorSettings& settings, double alpha) {
    if (fit.likelihood) {
        return quantileResidualPictures(design, fit, settings, alpha);
    }
    const auto n = static_cast<double>(fit.residuals.size());
    const Exhibit histogram =
        residualHistogram(listOf(fit.residuals), std::sqrt(fit.residuals.squaredNorm() / n),
                          "What is left, and the normal curve",
                          "residuals of " + shownNames(design.outcome), "residual");
    std::vector<Exhibit> out;
    if (fit.robust || fit.quantile) {
        out = {alongOf(design, fit, listOf(fit.fitted), "Residuals along the fit",
                       "fitted " + shownNames(design.outcome)),
               histogram};
    } else {
        out = {spreadAgainstLevel(design, fit), halfNormal(design, fit, alpha), histogram};
    }
    for (const DesignTerm& term : design.terms) {
        if (term.groups || term.yesNo || term.isProduct || term.columns.size() != 1) {
            continue;
        }
        out.push_back(alongOf(design, fit, listOf(design.X.col(term.columns.front())),
                              "Residuals along " + term.name,
                              term.label + (term.unit.empty() ? "" : ", " + term.unit)));
    }
    return out;
}

std::vector<const CheckResult*> keyPictures(const std::vector<CheckResult>& checks) {
    std::vector<const CheckResult*> out;
    for (const auto& choices :
         {std::vector<const char*>{"ljung-box", "component-residual", "reset"},
          {"breusch-pagan", "white"},
          {"cooks-distance", "leverage"},
          {"shapiro-wilk", "jarque-bera"}}) {
        const CheckResult* found = nullptr;
        for (const char* id : choices) {
            for (std::size_t c = 0; c < checks.size() && found == nullptr; ++c) {
                const CheckResult& r = checks[c];
                found = r.id == id && r.verdict != Verdict::NotApplicable ? &r : nullptr;
            }
        }
        out.push_back(found);
    }
    return out;
}

}  // namespace rapporto
