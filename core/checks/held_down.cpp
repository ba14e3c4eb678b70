// Which rows a robust fit holds down, and what least squares says beside it.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/model/robust.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

CheckResult checkHeldDown(const CheckInput& in) {
    const RobustFit& told = *in.fit.robust;
    CheckResult result;
    result.statistic = static_cast<double>(told.halved);
    result.statisticName = "rows under a half";
    result.details = {{"rows under a tenth", static_cast<double>(told.out)}, {"scale", told.scale}};
    std::vector<std::size_t> out;
    Exhibit e;
    e.title = told.halved == 0 ? "Every row counts nearly in full" : "How much each row counts";
    e.subtitle = "weight of each row against what is left of it · rings: under a tenth · n = " +
                 countText(in.design.rows.size());
    e.xTitle = in.design.outcomeUnit.empty() ? "residual" : "residual in " + in.design.outcomeUnit;
    e.yTitle = "weight";
    std::vector<std::pair<double, std::size_t>> least;
    for (Eigen::Index i = 0; i < told.weights.size(); ++i) {
        const std::size_t row = in.design.rows[static_cast<std::size_t>(i)];
        e.x.push_back(in.fit.residuals(i));
        e.y.push_back(told.weights(i));
        e.rows.push_back(row);
        if (told.weights(i) < 0.1) {
            least.emplace_back(-std::abs(in.fit.residuals(i)), row);
        }
    }
    std::sort(least.begin(), least.end());
    for (const auto& [size, row] : least) {
        out.push_back(row);
    }
    e.marked = out;
    double most = 0.0;
    std::string whose;
    std::string plain;
    for (const Coefficient& c : in.fit.coefficients) {
        for (const Coefficient& own : told.leastSquares) {
            if (own.term != c.term || c.designTerm < 0 || c.se <= 0.0) {
                continue;
            }
            const double moved = std::abs(own.estimate - c.estimate) / c.se;
            if (moved > most) {
                most = moved;
                whose = c.term;
                const int digits = decimalsFor(c.se);
                plain = fixedNumber(own.estimate, digits) + " by least squares, " +
                        fixedNumber(c.estimate, digits) + " here";
            }
        }
    }
    result.details.emplace_back("largest move, in errors", most);
    const double share = static_cast<double>(told.out) / static_cast<double>(in.design.rows.size());
    result.verdict = share < 0.02 && most < 2.0 ? Verdict::Fine : Verdict::Weigh;
    result.headline = plural(told.halved, "row", "rows") + " under a half";
    result.reading =
        plural(told.halved, "row counts", "rows count") + " for less than a half, " +
        std::to_string(told.out) + " for less than a tenth" +
        (out.empty() ? std::string() : ": " + namesOf(in, out)) + ". " +
        (whose.empty()
             ? std::string()
             : "Against least squares the effect of " + whose + " moves most: " + plain + ".") +
        (result.verdict == Verdict::Fine
             ? " The odd rows decide little."
             : " Look at these rows: a slip of the pen is to be mended, another kind of case is a "
               "finding.");
    result.exhibit = std::move(e);
    if (!out.empty()) {
        offerWithout(in, out, result);
    }
    if (result.verdict != Verdict::Fine) {
        Question variant = variantBase(in, "least squares");
        variant.method = kLeastSquares;
        variant.settings = EstimatorSettings{};
        result.remedies.push_back(
            {"See least squares beside it", "every row counts alike", std::move(variant)});
    }
    return result;
}

}  // namespace rapporto
