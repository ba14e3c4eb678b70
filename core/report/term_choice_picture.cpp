#include "core/report/term_choice_picture.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

using Eigen::Index;

std::string shownOf(Criterion by) {
    for (const CriterionName& one : allCriteria()) {
        if (one.criterion == by) {
            return one.shown;
        }
    }
    return {};
}

/// As it is read: adjusted R² the right way up.
double shownValue(const TermSubset& subset, Criterion by) {
    return by == Criterion::AdjustedRSquared ? subset.adjustedRSquared : subset.value(by);
}

std::string penaltyText(double lambda) { return "penalty " + shortNumber(lambda, 3); }

}  // namespace

std::string termsText(const Design& design, const std::vector<std::size_t>& terms) {
    std::string out;
    for (std::size_t i = 0; i < terms.size(); ++i) {
        out += (i == 0 ? "" : i + 1 == terms.size() ? " and " : ", ") + design.terms[terms[i]].name;
    }
    return out.empty() ? "no term" : out;
}

Exhibit criteriaExhibit(const SubsetSearch& search, Criterion by) {
    Exhibit e;
    const std::string name = shownOf(by);
    e.title = name + " by size";
    e.subtitle = "the best of each number of coefficients as a line; " + countText(search.tried) +
                 " of " + shortNumber(search.possible, 6) +
                 " subsets were looked at, the others cannot be better";
    e.xTitle = "coefficients";
    e.yTitle = name;
    std::map<double, double> best;
    for (const TermSubset& subset : search.subsets) {
        const double value = subset.value(by);
        if (!std::isfinite(value)) {
            continue;
        }
        e.x.push_back(subset.coefficients);
        e.y.push_back(shownValue(subset, by));
        const auto at = best.find(subset.coefficients);
        best[subset.coefficients] = at == best.end() ? value : std::min(at->second, value);
    }
    Exhibit::Line line;
    for (const auto& [k, value] : best) {
        line.x.push_back(k);
        line.y.push_back(by == Criterion::AdjustedRSquared ? -value : value);
    }
    e.lines.push_back(std::move(line));
    if (const TermSubset* top = search.best(by); top != nullptr && !e.y.empty()) {
        const auto ends = std::minmax_element(e.y.begin(), e.y.end());
        e.lines.push_back({.name = "best",
                           .x = {top->coefficients, top->coefficients},
                           .y = {*ends.first, *ends.second},
                           .dashed = true});
    }
    return e;
}

Exhibit lassoErrorExhibit(const LassoPath& path) {
    Exhibit e;
    e.title = "What each penalty errs in rows it has not seen";
    e.subtitle = "mean square over " + std::to_string(path.parts) + " parts" +
                 (path.partsOfClusters ? ", clusters kept together" : "") +
                 ", with one standard error";
    e.xTitle = "penalty, falling to the right in powers of ten";
    e.yTitle = "mean squared error";
    Exhibit::Line line;
    Exhibit::Band band{.name = ""};
    for (std::size_t l = 0; l < path.lambda.size(); ++l) {
        const double x = -std::log10(path.lambda[l]);
        line.x.push_back(x);
        line.y.push_back(path.error[l]);
        band.x.push_back(x);
        band.low.push_back(path.error[l] - path.errorSe[l]);
        band.high.push_back(path.error[l] + path.errorSe[l]);
    }
    const double low = *std::min_element(band.low.begin(), band.low.end());
    const double high = *std::max_element(band.high.begin(), band.high.end());
    for (const auto& [name, at] : {std::pair{"least", path.best}, {"one error off", path.oneSe}}) {
        e.lines.push_back(
            {.name = name, .x = {line.x[at], line.x[at]}, .y = {low, high}, .dashed = true});
    }
    // A few places on the axis, each with its penalty.
    for (std::size_t l = 0; l < path.lambda.size(); l += 33) {
        e.xTicks.push_back({-std::log10(path.lambda[l]), shortNumber(path.lambda[l], 2)});
    }
    e.bands.push_back(std::move(band));
    e.lines.push_back(std::move(line));
    return e;
}

Exhibit lassoPathExhibit(const Design& design, const LassoPath& path) {
    Exhibit e;
    e.title = "Coefficients along the penalty";
    e.subtitle = "in the outcome’s units for one standard deviation of the column";
    e.xTitle = "penalty, falling to the right";
    e.yTitle = "coefficient × standard deviation";
    e.zeroLine = true;
    const auto last = static_cast<Index>(path.lambda.size()) - 1;
    std::vector<std::pair<double, Index>> order;
    std::vector<double> unit;
    for (std::size_t j = 0; j < path.columns.size(); ++j) {
        const auto x = design.X.col(path.columns[j]).array();
        unit.push_back(std::sqrt((x - x.mean()).square().mean()));
        order.emplace_back(-std::abs(path.coefficients(static_cast<Index>(j), last)) * unit[j],
                           static_cast<Index>(j));
    }
    std::sort(order.begin(), order.end());
    for (std::size_t i = 0; i < order.size(); ++i) {
        const Index j = order[i].second;
        Exhibit::Line line;
        const auto column = static_cast<std::size_t>(path.columns[static_cast<std::size_t>(j)]);
        line.name = i < 8 ? design.columns[column].name : "";
        line.series = i < 6 ? static_cast<int>(i) : -1;
        line.faint = i >= 8;
        for (std::size_t l = 0; l < path.lambda.size(); ++l) {
            line.x.push_back(-std::log10(path.lambda[l]));
            line.y.push_back(path.coefficients(j, static_cast<Index>(l)) *
                             unit[static_cast<std::size_t>(j)]);
        }
        e.lines.push_back(std::move(line));
    }
    for (std::size_t l = 0; l < path.lambda.size(); l += 33) {
        e.xTicks.push_back({-std::log10(path.lambda[l]), shortNumber(path.lambda[l], 2)});
    }
    double low = 0.0;
    double high = 0.0;
    for (const auto& line : e.lines) {
        for (const double y : line.y) {
            low = std::min(low, y);
            high = std::max(high, y);
        }
    }
    const double at = -std::log10(path.lambda[path.best]);
    e.lines.push_back({.name = "least error", .x = {at, at}, .y = {low, high}, .dashed = true});
    return e;
}

Exhibit selectionExhibit(const Design& design, const DoubleSelection& selection) {
    const std::string& of = design.terms[selection.of].name;
    Exhibit e;
    e.title = "Controls that foretell the outcome or " + of;
    e.subtitle =
        "sizes of simple correlations, a column of X each · n = " + countText(design.rows.size());
    e.xTitle = "with " + of;
    e.yTitle = "with " + shownNames(design.outcome);
    const auto correlation = [](const Eigen::VectorXd& a, const Eigen::VectorXd& b) {
        const Eigen::VectorXd x = a.array() - a.mean();
        const Eigen::VectorXd y = b.array() - b.mean();
        const double size = x.norm() * y.norm();
        return size > 0.0 ? std::abs(x.dot(y)) / size : 0.0;
    };
    const auto column = std::find_if(
        design.columns.begin(), design.columns.end(),
        [&](const DesignColumn& c) { return c.term == static_cast<int>(selection.of); });
    const auto focal = design.X.col(column - design.columns.begin());
    e.seriesNames = {"kept", "left out"};
    for (std::size_t c = 0; c < design.columns.size(); ++c) {
        const int term = design.columns[c].term;
        if (term < 0 || static_cast<std::size_t>(term) == selection.of) {
            continue;
        }
        const auto x = design.X.col(static_cast<Index>(c));
        const double there = correlation(x, focal);
        const double here = correlation(x, design.y);
        const bool kept = std::binary_search(selection.together.begin(), selection.together.end(),
                                             static_cast<std::size_t>(term));
        e.x.push_back(there);
        e.y.push_back(here);
        e.series.push_back(kept ? 0 : 1);
        e.lines.push_back({.name = design.columns[c].name, .x = {there}, .y = {here}});
    }
    e.fromZero = true;
    return e;
}

std::string subsetReading(const Design& design, const SubsetSearch& search, Criterion by) {
    const TermSubset* top = search.best(by);
    if (top == nullptr) {
        return "~" + shownOf(by) +
               " needs a likelihood, which sampling weights and a perfect fit do not have.";
    }
    const bool all = top->terms.size() == design.terms.size();
    std::string out = "By " + shownOf(by) + " the best of " + shortNumber(search.possible, 6) +
                      " choices is **" + termsText(design, top->terms) + "**" +
                      (all ? ": all that there are." : ".");
    // Others hardly worse: within two units of a likelihood criterion.
    const bool likelihood = by == Criterion::Aic || by == Criterion::Aicc || by == Criterion::Bic;
    std::size_t near = 0;
    for (const TermSubset& one : search.subsets) {
        near += likelihood && &one != top && one.value(by) - top->value(by) < 2.0 ? 1U : 0U;
    }
    if (near > 0) {
        out += " " + plural(near, "other is", "others are") +
               " within 2 of it, which is hardly a difference.";
    }
    return out;
}

std::string lassoReading(const Design& design, const LassoPath& path,
                         const std::vector<bool>& held) {
    const auto best = path.termsAt(design, held, path.best);
    const auto sparse = path.termsAt(design, held, path.oneSe);
    return "The rows left out are foretold best at " + penaltyText(path.lambda[path.best]) +
           ", with **" + termsText(design, best) +
           "**. A penalty that is one standard error "
           "worse and sparser, " +
           penaltyText(path.lambda[path.oneSe]) + ", leaves **" + termsText(design, sparse) + "**.";
}

std::string selectionReading(const Design& design, const DoubleSelection& s) {
    return "The outcome is foretold by **" + termsText(design, s.forOutcome) + "**, " +
           design.terms[s.of].name + " by **" + termsText(design, s.forTerm) +
           "**. A control that does either is kept, so that what moves both is not lost; the "
           "interval of " +
           design.terms[s.of].name + " then holds as it says.";
}

std::string overlapReading(const Design& design, const std::vector<OverlapStep>& steps) {
    if (steps.empty()) {
        return "No term says nearly the same as the others: no variance is inflated tenfold.";
    }
    std::string out;
    for (const OverlapStep& step : steps) {
        out += (out.empty() ? "" : " ") + std::string("Without **") + design.terms[step.term].name +
               "** (its variance inflated " + shortNumber(step.inflation, 3) +
               " times) the largest inflation left is " + shortNumber(step.left, 3) + ".";
    }
    return out +
           " The outcome was not looked at for this, so p-values keep their meaning; but "
           "the question changes: the terms that stay take over what the others said.";
}

std::string choiceWarning(const Question& question) {
    if (!question.choseTerms()) {
        return {};
    }
    const TermChoice& chosen = *question.chosen;
    const std::string among = countText(chosen.among.size());
    if (chosen.by == "double-selection") {
        return "The controls were chosen among " + among +
               " terms by double selection (Belloni, Chernozhukov & Hansen 2014): the interval "
               "of " +
               chosen.of + " holds; those of the controls do not.";
    }
    std::string by = chosen.by == "lasso" || chosen.by == "lasso-sparse" ? "the lasso" : chosen.by;
    for (const CriterionName& one : allCriteria()) {
        by = chosen.by == one.id ? one.shown : by;
    }
    return "These terms were chosen among " + among + " on the same rows, by " + by +
           ": p-values and intervals do not know of the choice and look better than they are.";
}

}  // namespace rapporto
