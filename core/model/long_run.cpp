#include "core/model/long_run.h"

#include "core/expression/expression.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

/// What stands inside of a call, “x” of lag(x, 2); empty where the text is no such call.
std::string insideOf(const std::string& text, const char* function) {
    const auto parsed = Expression::parse(text);
    if (!parsed || parsed->root().kind != Node::Kind::Call || parsed->root().text != function ||
        parsed->root().children.empty()) {
        return {};
    }
    return Expression::of(*parsed->root().children.front()).canonical();
}

/// Coefficients of one quantity: their places.
struct Quantity {
    std::string name;
    std::vector<Index> places;
    std::set<std::string> variables;  ///< That it is made of.
};

/// The quantities of a fit in levels, and where the outcome’s own past stands.
struct Sorted {
    std::vector<Quantity> quantities;
    std::vector<Index> past;
    std::set<std::string> inProducts;  ///< Variables whose step moves a product, too.
    bool inChanges = false;
};

/// The step of a quantity moves no other term: no product, and no other form of its variables.
bool standsAlone(const Quantity& quantity, const Sorted& all) {
    const auto shares = [&](const std::set<std::string>& others) {
        return std::any_of(quantity.variables.begin(), quantity.variables.end(),
                           [&](const std::string& name) { return others.contains(name); });
    };
    return !shares(all.inProducts) &&
           std::none_of(all.quantities.begin(), all.quantities.end(), [&](const Quantity& other) {
               return &other != &quantity && shares(other.variables);
           });
}

Sorted sorted(const Design& design, const Fit& fit) {
    Sorted out;
    const std::string changed = insideOf(design.outcome, "change");
    out.inChanges = !changed.empty();
    const std::string level = out.inChanges ? changed : design.outcome;
    for (std::size_t k = 0; k < fit.coefficients.size(); ++k) {
        const Coefficient& c = fit.coefficients[k];
        if (c.designTerm < 0) {
            continue;
        }
        const DesignTerm& term = design.terms[static_cast<std::size_t>(c.designTerm)];
        if (term.isProduct) {
            out.inProducts.insert(term.names.begin(), term.names.end());
        }
        if (term.groups || term.isProduct || !insideOf(c.term, "change").empty()) {
            continue;  // A change that stays is no step that stays.
        }
        const std::string name = withoutLag(c.term);
        if (name == level) {
            out.past.push_back(static_cast<Index>(k));
            continue;
        }
        if (!insideOf(name, "change").empty()) {
            continue;
        }
        const auto known = std::find_if(out.quantities.begin(), out.quantities.end(),
                                        [&](const Quantity& one) { return one.name == name; });
        if (known == out.quantities.end()) {
            out.quantities.push_back({name, {static_cast<Index>(k)}, term.names});
        } else {
            known->places.push_back(static_cast<Index>(k));
        }
    }
    return out;
}

LongRunEffect effectOf(const Quantity& quantity, const Fit& fit, const std::vector<Index>& past,
                       double left, double alpha) {
    const auto size = static_cast<Index>(fit.coefficients.size());
    double sum = 0.0;
    VectorXd slope = VectorXd::Zero(size);
    for (const Index place : quantity.places) {
        sum += fit.coefficients[static_cast<std::size_t>(place)].estimate;
        slope(place) = 1.0 / left;
    }
    for (const Index place : past) {
        slope(place) = sum / (left * left);
    }
    LongRunEffect out;
    out.of = quantity.name;
    out.estimate = sum / left;
    out.se = std::sqrt(std::max(slope.dot(fit.covariance * slope), 0.0));
    out.df = fit.coefficients[static_cast<std::size_t>(quantity.places.front())].df;
    if (out.se > 0.0) {
        out.statistic = out.estimate / out.se;
        out.p = twoSidedP(*out.statistic, out.df);
    }
    const double reach = criticalValue(alpha, out.df) * out.se;
    out.low = out.estimate - reach;
    out.high = out.estimate + reach;
    return out;
}

}  // namespace

std::string withoutLag(const std::string& term) {
    const std::string inside = insideOf(term, "lag");
    return inside.empty() ? term : inside;
}

std::vector<LongRunEffect> longRunEffects(const Design& design, const Fit& fit, double alpha) {
    const auto size = static_cast<Index>(fit.coefficients.size());
    if (fit.likelihood || fit.quantile || fit.bent || fit.event || fit.exact ||
        fit.covariance.rows() != size) {
        return {};
    }
    const Sorted all = sorted(design, fit);
    double sum = 0.0;
    VectorXd ones = VectorXd::Zero(size);
    for (const Index place : all.past) {
        sum += fit.coefficients[static_cast<std::size_t>(place)].estimate;
        ones(place) = 1.0;
    }
    const double left = all.inChanges ? -sum : 1.0 - sum;
    if (all.past.empty() || !(left > 0.0)) {
        return {};
    }
    const bool loose = left < 3.0 * std::sqrt(std::max(ones.dot(fit.covariance * ones), 0.0));
    std::vector<LongRunEffect> out;
    for (const Quantity& quantity : all.quantities) {
        if (!standsAlone(quantity, all)) {
            continue;
        }
        out.push_back(effectOf(quantity, fit, all.past, left, alpha));
        out.back().loose = loose;
    }
    return out;
}

}  // namespace rapporto
