// What can be done about a doubt: edits of the question, each tried beside the original.
#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/common.h"
#include "core/expression/expression.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

using Eigen::Index;
using Eigen::VectorXd;

Question variantBase(const CheckInput& in, const std::string& title) {
    Question variant = in.question;
    variant.id.clear();
    variant.variantOf = in.question.variantOf.empty() ? in.question.id : in.question.variantOf;
    variant.lead = false;
    variant.title = title;
    return variant;
}

void offerRobust(const CheckInput& in, CheckResult& result) {
    // Clustered errors and those in time allow for an uneven spread, and for more.
    if (in.question.errors.kind != "classical") {
        return;
    }
    Question variant = variantBase(in, "robust errors");
    variant.errors = ErrorSpec{"robust", "HC3", {}};
    result.remedies.push_back(
        {"Robust errors (HC3)",
         "the same estimates with standard errors that allow an uneven spread", variant});
}

void offerAutocorrelation(const CheckInput& in, CheckResult& result) {
    if (in.question.errors.kind == "autocorrelation" || in.design.moments.empty()) {
        return;
    }
    Question variant = variantBase(in, "allowing for autocorrelation");
    variant.errors = ErrorSpec{"autocorrelation", "HC1", {}};
    result.remedies.push_back({"Allow for autocorrelation",
                               "the same estimates with standard errors by Newey & West", variant});
}

void offerCluster(const CheckInput& in, CheckResult& result) {
    if (in.question.errors.kind == "clustered") {
        return;
    }
    for (const Variable& variable : in.frame.table().variables) {
        const Column& column = *in.frame.column(variable.name);
        if (!isGrouping(variable.measure)) {
            continue;
        }
        const std::size_t levels = levelsOf(column, variable, in.design.rows).size();
        if (levels >= 20 && levels * 4 <= in.design.rows.size()) {
            Question variant = variantBase(in, "clustered by " + variable.name);
            variant.errors = ErrorSpec{"clustered", "HC1", {variable.name}};
            result.remedies.push_back(
                {"Cluster by " + variable.shown(),
                 "rows of one " + variable.shown() + " may share their surprises", variant});
            return;
        }
    }
}

void offerLogOutcome(const CheckInput& in, CheckResult& result) {
    if (!in.design.outcomeLogOf.empty() || in.design.y.minCoeff() < 0.0 || in.design.outcomeYesNo) {
        return;
    }
    Question variant = variantBase(in, "log outcome");
    variant.outcome = "ln(" + in.question.outcome + ")";
    const auto zeros = (in.design.y.array() == 0.0).count();
    result.remedies.push_back(
        {"Log the outcome",
         zeros == 0 ? "effects become percentages; a spread that grows with the level evens out"
                    : "effects become percentages; " + plural(static_cast<std::size_t>(zeros),
                                                              "row with zero drops out",
                                                              "rows with zero drop out"),
         variant});
}

std::string writtenTerm(const CheckInput& in, const std::string& name) {
    return in.frame.variable(name) != nullptr ? quotedName(plainName(name)) : name;
}

void offerSquare(const CheckInput& in, const std::string& term, CheckResult& result) {
    Question variant = variantBase(in, "with " + term + " squared");
    const Term square = Term::expression("power(" + writtenTerm(in, term) + ", 2)");
    const auto at = std::find_if(variant.terms.begin(), variant.terms.end(), [&](const Term& t) {
        return t.kind == Term::Kind::Expression && plainName(t.parts.front()) == plainName(term);
    });
    variant.terms.insert(at == variant.terms.end() ? at : at + 1, square);
    result.remedies.push_back({"Add the square of " + term, "lets the effect bend", variant});
}

void offerWithout(const CheckInput& in, const std::vector<std::size_t>& rows, CheckResult& result) {
    if (rows.empty() || rows.size() * 20 > in.design.rows.size() + 20) {
        return;
    }
    Question variant = variantBase(in, "without " + plural(rows.size(), "row", "rows"));
    for (const std::size_t row : rows) {
        variant.without.push_back(row + 1);
    }
    std::sort(variant.without.begin(), variant.without.end());
    variant.without.erase(std::unique(variant.without.begin(), variant.without.end()),
                          variant.without.end());
    std::string names;
    for (std::size_t i = 0; i < std::min<std::size_t>(rows.size(), 4); ++i) {
        names += (i > 0 ? ", " : "") + rowName(in.frame, rows[i]);
    }
    result.remedies.push_back({"See it without " + plural(rows.size(), "row", "rows"),
                               names + (rows.size() > 4 ? " …" : "") + ": how much do they decide?",
                               variant});
}

void offerSquareOfCurved(const CheckInput& in, CheckResult& result) {
    // Which term's square goes most with what is left.
    const DesignTerm* found = nullptr;
    double most = 0.0;
    const VectorXd e = in.fit.residuals.array() - in.fit.residuals.mean();
    for (const DesignTerm& term : in.design.terms) {
        if (term.groups || term.isProduct || term.yesNo || term.columns.size() != 1 ||
            term.name.starts_with("power(")) {
            continue;
        }
        const VectorXd x = in.design.X.col(term.columns[0]);
        VectorXd square = (x.array() - x.mean()).square();
        square.array() -= square.mean();
        const double size = square.norm() > 0.0 ? std::abs(square.dot(e)) / square.norm() : 0.0;
        const bool there =
            std::any_of(in.design.terms.begin(), in.design.terms.end(), [&](const DesignTerm& t) {
                return t.name == "power(" + writtenTerm(in, term.name) + ", 2)";
            });
        if (!there && size > most) {
            most = size;
            found = &term;
        }
    }
    if (found != nullptr) {
        offerSquare(in, found->name, result);
    }
}

void offerDrawing(const CheckInput& in, CheckResult& result) {
    if (in.question.errors.kind == "bootstrap" || in.design.weightKind == WeightKind::Frequency ||
        in.fit.bent) {
        return;
    }
    Question variant = variantBase(in, "errors by drawing");
    const bool clusters =
        in.question.errors.kind == "clustered" && in.question.errors.by.size() == 1;
    variant.errors.kind = "bootstrap";
    variant.errors.scheme = clusters ? "clusters" : "rows";
    variant.errors.interval = "bca";
    result.remedies.push_back(
        {"Intervals by drawing " + std::string(clusters ? "clusters" : "rows"),
         "the same estimates with intervals that ask for no normal law", variant});
}

void offerEchoTakenOut(const CheckInput& in, CheckResult& result) {
    if (in.design.moments.empty() || !in.question.byLeastSquares() ||
        in.design.weights.size() > 0 || in.design.swept) {
        return;
    }
    Question variant = variantBase(in, "with the echo taken out");
    variant.method = "feasible-ar";
    variant.settings = {};
    variant.errors = ErrorSpec{};
    result.remedies.push_back({"Take the echo out",
                               "rows less a share of the moment before: sharper estimates where "
                               "the terms do not hang on earlier errors",
                               variant});
}

void offerLaggedOutcome(const CheckInput& in, CheckResult& result) {
    if (in.design.layout != Layout::Kind::Series) {
        return;
    }
    const std::string lag = "lag(" + in.question.outcome + ")";
    for (const Term& term : in.question.terms) {
        if (!term.muted && term.shown() == lag) {
            return;
        }
    }
    Question variant = variantBase(in, "with the outcome a moment before");
    variant.terms.push_back(Term::expression(lag));
    result.remedies.push_back(
        {"Add the outcome a moment before",
         "what carries over then stands in the model; effects become those of one moment",
         variant});
}

void offerForEcho(const CheckInput& in, CheckResult& result) {
    offerAutocorrelation(in, result);
    offerEchoTakenOut(in, result);
    offerLaggedOutcome(in, result);
}

void offerWithoutTerm(const CheckInput& in, const std::string& name, CheckResult& result) {
    Question variant = variantBase(in, "without " + name);
    std::erase_if(variant.terms, [&](const Term& term) {
        return term.kind == Term::Kind::Expression &&
               plainName(canonicalText(term.parts.front())) == plainName(name);
    });
    if (variant.terms.size() < in.question.terms.size() && !variant.terms.empty()) {
        result.remedies.push_back({"Drop " + name,
                                   "see what the others say without it; the question then changes",
                                   variant});
    }
}

void offerProduct(const CheckInput& in, const DesignTerm& a, const DesignTerm& b,
                  CheckResult& result) {
    if (a.factors.size() != 1 || b.factors.size() != 1) {
        return;
    }
    Question variant = variantBase(in, "with " + a.name + " × " + b.name);
    variant.terms.push_back({Term::Kind::Product, {a.factors[0].text, b.factors[0].text}, false});
    result.remedies.push_back(
        {"Add " + a.name + " × " + b.name, "lets the effect of one hang on the other", variant});
}

namespace {

/// No column of the terms is one number in each group.
bool everyColumnVariesWithin(const CheckInput& in, const CheckGroups& groups) {
    const Eigen::MatrixXd& X = rawOf(in).X;
    for (Index j = in.design.hasConstant ? 1 : 0; j < X.cols(); ++j) {
        std::vector<double> first(groups.labels.size(), std::nan(""));
        bool varies = false;
        for (Index i = 0; i < X.rows() && !varies; ++i) {
            const int group = groups.of[static_cast<std::size_t>(i)];
            if (group < 0) {
                continue;
            }
            double& own = first[static_cast<std::size_t>(group)];
            own = std::isnan(own) ? X(i, j) : own;
            varies = own != X(i, j);
        }
        if (!varies) {
            return false;
        }
    }
    return true;
}

}  // namespace

void offerHeldFixed(const CheckInput& in, CheckResult& result) {
    constexpr std::size_t kFewestGroups = 5;
    constexpr std::size_t kFewestRows = 3;  // In each, on average.
    if (in.question.method != Question().method || !in.question.endogenous.empty()) {
        return;
    }
    std::string finest;
    std::size_t most = 0;
    for (const Variable& variable : in.frame.table().variables) {
        const bool grouping = isGrouping(variable.measure) || variable.measure == Measure::Text;
        const bool used =
            std::any_of(in.design.terms.begin(), in.design.terms.end(),
                        [&](const DesignTerm& term) { return term.names.contains(variable.name); });
        const bool held =
            std::find(in.question.fixedEffects.begin(), in.question.fixedEffects.end(),
                      quotedName(variable.name)) != in.question.fixedEffects.end();
        const auto groups = grouping && !used && !held ? groupsFor(in, variable.name)
                                                       : tl::expected<CheckGroups, std::string>();
        if (!groups || groups->labels.size() < kFewestGroups || groups->labels.size() <= most ||
            groups->labels.size() * kFewestRows > in.design.rows.size() ||
            !everyColumnVariesWithin(in, *groups)) {
            continue;
        }
        finest = variable.name;
        most = groups->labels.size();
    }
    if (finest.empty()) {
        return;
    }
    Question variant = variantBase(in, "holding " + finest + " fixed");
    variant.fixedEffects.push_back(quotedName(finest));
    result.remedies.push_back(
        {"Hold " + finest + " fixed",
         "what rows of one " + finest + " share, seen or not, is compared away", variant});
}

void offerWeighted(const CheckInput& in, CheckResult& result) {
    if (in.question.missing != "rows") {
        return;
    }
    Question variant = variantBase(in, "weighted for outcomes not seen");
    variant.missing = "weighted";
    for (const Term& term : in.question.terms) {
        if (!term.muted) {
            variant.completeBy.push_back(term);
        }
    }
    variant.worstCases.reset();
    variant.byLot.reset();
    result.remedies.push_back({"Weigh the rows that are seen",
                               "by their chance to be seen, as the terms foretell it: right where "
                               "nothing else decides who is",
                               variant});
}

void offerEffectsBy(const CheckInput& in, const std::string& groups, CheckResult& result) {
    Question variant = variantBase(in, "effects by " + groups);
    bool stands = false;
    std::size_t added = 0;
    for (const DesignTerm& term : in.design.terms) {
        stands = stands || plainName(term.name) == groups;
        if (!term.isProduct && term.factors.size() == 1 && !term.names.contains(groups)) {
            variant.terms.push_back(
                {Term::Kind::Product, {term.factors[0].text, quotedName(groups)}, false});
            ++added;
        }
    }
    if (added == 0 || added > 12) {
        return;
    }
    if (!stands) {
        variant.terms.push_back(Term::expression(quotedName(groups)));
    }
    result.remedies.push_back({"Let the effects differ by " + groups,
                               "each effect in each group, and which of them differ", variant});
}

std::string momentText(const CheckInput& in, Index row) {
    const std::string& time = in.frame.layout().time;
    return cellText(*in.frame.column(time), *in.frame.variable(time),
                    in.design.rows[static_cast<std::size_t>(row)]);
}

/// Two remedies: the rows before a moment alone, and those from it on.
void offerParts(const CheckInput& in, Index row, CheckResult& result) {
    const std::string& time = in.frame.layout().time;
    const std::string moment = momentText(in, row);
    const double value = in.design.time[static_cast<std::size_t>(row)];
    const bool date = in.frame.variable(time)->measure == Measure::Date;
    for (const bool after : {false, true}) {
        Question variant = variantBase(in, (after ? "from " : "before ") + moment);
        const std::string rule = quotedName(time) + (after ? " >= " : " < ") +
                                 (date ? "'" + dateText(value) + "'" : exactNumber(value));
        variant.where = variant.where.empty() ? rule : "(" + variant.where + ") and " + rule;
        result.remedies.push_back({after ? "Fit the rows from " + moment + " alone"
                                         : "Fit the rows before " + moment + " alone",
                                   "two models side by side show which effect moved",
                                   std::move(variant)});
    }
}

}  // namespace rapporto
