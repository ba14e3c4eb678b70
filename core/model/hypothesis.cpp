#include "core/model/hypothesis.h"

#include "core/base/format.h"
#include "core/expression/expression.h"
#include "core/model/multilevel.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Σ c_j b_j + constant.
struct Form {
    VectorXd c;
    double constant = 0.0;

    [[nodiscard]] bool isNumber() const { return c.isZero(0.0); }
};

class Restrictions {
  public:
    Restrictions(const Design& design, const Fit& fit) : design_(design), fit_(fit) {
        for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
            names_.push_back(fit.coefficients[j].term);
        }
    }

    std::vector<Form> rows;
    std::string relation = "=";

    Result<void> add(const Node& node) {
        if (node.kind == Node::Kind::Binary && node.text == "and") {
            auto left = add(*node.children[0]);
            return left ? add(*node.children[1]) : left;
        }
        if (node.kind != Node::Kind::Binary || !isRelation(node.text)) {
            return refuse(ErrorCode::Syntax,
                          "‘" + Expression::of(node).canonical() + "’ states nothing", "hypothesis",
                          "Write an equation, as in hives = 0, or a claim, as in hives > 0.");
        }
        const bool upward = node.text.starts_with(">");
        relations_.push_back(node.text == "=" ? "=" : upward ? ">" : "<");
        // A whole grouping: every level of it.
        if (const auto levels = grouping(*node.children[0]); !levels.empty()) {
            auto value = form(*node.children[1]);
            if (!value) {
                return tl::make_unexpected(value.error());
            }
            if (!value->isNumber() || node.text != "=") {
                return refuse(ErrorCode::BadSetting,
                              "a grouping as a whole can only be set equal to a number",
                              "hypothesis", "Name its levels one by one.");
            }
            for (const Index j : levels) {
                Form row{VectorXd::Zero(size()), -value->constant};
                row.c(j) = 1.0;
                rows.push_back(std::move(row));
            }
            return {};
        }
        auto left = form(*node.children[0]);
        auto right = form(*node.children[1]);
        if (!left || !right) {
            return tl::make_unexpected(left ? right.error() : left.error());
        }
        Form row{left->c - right->c, left->constant - right->constant};
        if (row.isNumber()) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + Expression::of(node).canonical() + "’ names no effect",
                          "hypothesis", "Name a term of the question.");
        }
        rows.push_back(std::move(row));
        return {};
    }

    /// The outcome’s equations, where it has several.
    [[nodiscard]] std::vector<std::string> several() const {
        std::vector<std::string> out;
        for (const Coefficient& c : fit_.coefficients) {
            const bool one = c.equation.starts_with("to ") || c.equation.starts_with("quantile ");
            if (one && std::find(out.begin(), out.end(), c.equation) == out.end()) {
                out.push_back(c.equation);
            }
        }
        return out;
    }

    /// The equations that the statement speaks of; rows are added for those beyond the first.
    Result<void> spread() {
        const auto all = several();
        if (!named_.empty() || all.size() < 2) {
            return {};
        }
        if (relations_.front() != "=") {
            return refuse(ErrorCode::BadSetting,
                          "the claim does not say which of the equations " + joinedNames(all) +
                              " it speaks of",
                          "hypothesis",
                          "Name it before the term, in double quotes: \"" + all.front() + ": " +
                              names_.back() + "\".");
        }
        const std::size_t own = rows.size();
        for (std::size_t e = 1; e < all.size(); ++e) {
            for (std::size_t r = 0; r < own; ++r) {
                Form row{VectorXd::Zero(size()), rows[r].constant};
                for (Index j = 0; j < size(); ++j) {
                    if (rows[r].c(j) == 0.0) {
                        continue;
                    }
                    const auto there = inEquation(names_[static_cast<std::size_t>(j)], all[e]);
                    if (!there) {
                        return refuse(ErrorCode::BadSetting,
                                      "‘" + names_[static_cast<std::size_t>(j)] +
                                          "’ has no coefficient in the equation " + all[e],
                                      "hypothesis", "Name the equation it is meant in.");
                    }
                    row.c(*there) = rows[r].c(j);
                }
                rows.push_back(std::move(row));
            }
        }
        return {};
    }

    /// The equations that rows speak of, of a fit with several.
    [[nodiscard]] std::vector<std::string> equations(const MatrixXd& R) const {
        std::set<std::string> there;
        std::vector<std::string> out;
        for (Index j = 0; j < size(); ++j) {
            const std::string& equation = fit_.coefficients[static_cast<std::size_t>(j)].equation;
            there.insert(equation);
            if (!R.col(j).isZero(0.0) && std::find(out.begin(), out.end(), equation) == out.end()) {
                out.push_back(equation);
            }
        }
        for (const char* aside : {"dispersion", "cut", "spread", "correlation"}) {
            there.erase(aside);
        }
        return there.size() > 1 ? out : std::vector<std::string>();
    }

    Result<void> settle() {
        relation = relations_.front();
        if (rows.size() > 1 && std::any_of(relations_.begin(), relations_.end(),
                                           [](const auto& r) { return r != "="; })) {
            return refuse(ErrorCode::BadSetting, "a one-sided claim stands alone", "hypothesis",
                          "Test each claim by itself; their p-values are adjusted together.");
        }
        return {};
    }

  private:
    static bool isRelation(const std::string& text) {
        return text == "=" || text == ">" || text == "<" || text == ">=" || text == "<=";
    }

    /// Statements are read in the first of the outcome’s equations.
    [[nodiscard]] const std::string& firstEquation() const {
        return fit_.coefficients.front().equation;
    }

    [[nodiscard]] std::optional<Index> inEquation(const std::string& term,
                                                  const std::string& equation) const {
        for (std::size_t j = 0; j < names_.size(); ++j) {
            if (names_[j] == term && fit_.coefficients[j].equation == equation) {
                return static_cast<Index>(j);
            }
        }
        return std::nullopt;
    }

    [[nodiscard]] Index size() const { return static_cast<Index>(names_.size()); }

    /// Coefficients of a grouping that is named as a whole.
    [[nodiscard]] std::vector<Index> grouping(const Node& node) const {
        std::vector<Index> out;
        const std::string text =
            node.kind == Node::Kind::Name ? node.text : Expression::of(node).canonical();
        for (std::size_t j = 0; j < names_.size(); ++j) {
            const int t = fit_.coefficients[j].designTerm;
            if (t >= 0 && design_.terms[static_cast<std::size_t>(t)].groups &&
                design_.terms[static_cast<std::size_t>(t)].name == text &&
                fit_.coefficients[j].equation == firstEquation()) {
                out.push_back(static_cast<Index>(j));
            }
        }
        return out;
    }

    /// The coefficient that a part of the statement names, or nothing.
    [[nodiscard]] std::optional<Index> coefficient(const Node& node) const {
        std::vector<std::string> spellings = {Expression::of(node).canonical()};
        if (node.kind == Node::Kind::Name) {
            spellings = {node.text};
            const bool own = std::find(names_.begin(), names_.end(), "constant") != names_.end();
            for (std::size_t j = 0; node.text == "constant" && !own && j < names_.size(); ++j) {
                if (fit_.coefficients[j].designTerm < 0 && names_[j] == "(constant)") {
                    return static_cast<Index>(j);
                }
            }
            // “EQUATION: TERM” means that equation alone.
            for (std::size_t j = 0; j < names_.size(); ++j) {
                if (fit_.coefficients[j].equation + ": " + names_[j] == node.text) {
                    named_.insert(fit_.coefficients[j].equation);
                    return static_cast<Index>(j);
                }
            }
        }
        if (node.kind == Node::Kind::Binary && node.text == "=" &&
            node.children[1]->kind == Node::Kind::Text) {
            spellings.push_back(part(*node.children[0]) + "=" + node.children[1]->text);
        }
        if (node.kind == Node::Kind::Binary && node.text == "*") {
            spellings.push_back(part(*node.children[0]) + " × " + part(*node.children[1]));
            spellings.push_back(part(*node.children[1]) + " × " + part(*node.children[0]));
        }
        // A variable may be called like the constant: terms go first.
        for (const bool terms : {true, false}) {
            for (const std::string& spelling : spellings) {
                for (std::size_t j = 0; j < names_.size(); ++j) {
                    if (names_[j] == spelling && (fit_.coefficients[j].designTerm >= 0 || !terms)) {
                        return static_cast<Index>(j);
                    }
                }
            }
        }
        return std::nullopt;
    }

    [[nodiscard]] static std::string part(const Node& node) {
        if (node.kind == Node::Kind::Binary && node.text == "*") {
            return part(*node.children[0]) + " × " + part(*node.children[1]);
        }
        return node.kind == Node::Kind::Name ? node.text : Expression::of(node).canonical();
    }

    Result<Form> form(const Node& node) const {
        if (const auto j = coefficient(node)) {
            Form one{VectorXd::Zero(size()), 0.0};
            one.c(*j) = 1.0;
            return one;
        }
        if (node.kind == Node::Kind::Number) {
            return Form{VectorXd::Zero(size()), node.number};
        }
        if (node.kind == Node::Kind::Unary && node.text == "-") {
            auto inner = form(*node.children[0]);
            return inner ? Result<Form>(Form{-inner->c, -inner->constant}) : inner;
        }
        if (node.kind == Node::Kind::Binary &&
            (node.text == "+" || node.text == "-" || node.text == "*" || node.text == "/")) {
            auto a = form(*node.children[0]);
            auto b = form(*node.children[1]);
            if (!a || !b) {
                return a ? b : a;
            }
            return combined(node, *a, *b);
        }
        std::vector<std::string> known = names_;
        for (const DesignTerm& term : design_.terms) {
            if (term.groups) {
                known.push_back(term.name);
            }
        }
        const std::string text = part(node);
        const auto near = nearestName(text, known);
        return refuse(ErrorCode::UnknownName, "no effect is called ‘" + text + "’", "hypothesis",
                      near ? "Did you mean ‘" + *near + "’?"
                           : "Effects are named like their terms: " + joinedNames(names_) + ".",
                      {text});
    }

    static Result<Form> combined(const Node& node, const Form& a, const Form& b) {
        if (node.text == "+") {
            return Form{a.c + b.c, a.constant + b.constant};
        }
        if (node.text == "-") {
            return Form{a.c - b.c, a.constant - b.constant};
        }
        if (node.text == "*" && (a.isNumber() || b.isNumber())) {
            const double by = a.isNumber() ? a.constant : b.constant;
            const Form& of = a.isNumber() ? b : a;
            return Form{by * of.c, by * of.constant};
        }
        if (node.text == "/" && b.isNumber() && b.constant != 0.0) {
            return Form{a.c / b.constant, a.constant / b.constant};
        }
        return refuse(
            ErrorCode::BadSetting,
            "‘" + Expression::of(node).canonical() + "’ is not a sum of effects times numbers",
            "hypothesis", "Multiply effects by numbers and add them up.");
    }

    const Design& design_;
    const Fit& fit_;
    std::vector<std::string> names_;
    std::vector<std::string> relations_;
    mutable std::set<std::string> named_;
};

}  // namespace

Result<HypothesisTest> testHypothesis(const Design& design, const Fit& fit, const std::string& text,
                                      double alpha) {
    const auto parsed = Expression::parse(text);
    if (!parsed) {
        return tl::make_unexpected(parsed.error());
    }
    Restrictions all(design, fit);
    if (auto done = all.add(parsed->root()); !done) {
        return tl::make_unexpected(done.error());
    }
    if (auto done = all.settle(); !done) {
        return tl::make_unexpected(done.error());
    }
    if (auto done = all.spread(); !done) {
        return tl::make_unexpected(done.error());
    }
    HypothesisTest out;
    out.text = text;
    out.relation = all.relation;
    const auto q = static_cast<Index>(all.rows.size());
    const auto k = static_cast<Index>(fit.coefficients.size());
    out.R.resize(q, k);
    out.r.resize(q);
    VectorXd b(k);
    for (Index j = 0; j < k; ++j) {
        b(j) = fit.coefficients[static_cast<std::size_t>(j)].estimate;
    }
    for (Index i = 0; i < q; ++i) {
        out.R.row(i) = all.rows[static_cast<std::size_t>(i)].c.transpose();
        out.r(i) = -all.rows[static_cast<std::size_t>(i)].constant;
    }
    out.equations = all.equations(out.R);
    out.df1 = static_cast<double>(q);
    for (Index j = 0; fit.levelHasNoError && j < k; ++j) {
        if (fit.coefficients[static_cast<std::size_t>(j)].designTerm < 0 &&
            !out.R.col(j).isZero(0.0)) {
            return refuse(ErrorCode::BadSetting,
                          "the level has no error of its own where errors are clustered by what is "
                          "held fixed",
                          "hypothesis", "State something of the terms alone.");
        }
    }
    const ContrastLaw law = lawOf(fit, out.R.transpose());
    out.df2 = std::isfinite(law.df) ? std::optional(law.df) : std::nullopt;
    const MatrixXd V = out.R * fit.covariance * out.R.transpose();
    const VectorXd d = out.R * b - out.r;
    if (q == 1) {
        const double se = std::sqrt(std::max(V(0, 0), 0.0));
        out.estimate = d(0);
        out.se = se;
        if (!(se > 0.0)) {
            return refuse(ErrorCode::BadSetting, "the standard error of ‘" + text + "’ is zero",
                          "hypothesis");
        }
        out.statistic = d(0) / se;
        const double two = twoSidedP(out.statistic, out.df2);
        const bool agrees = (out.relation == ">") == (out.statistic > 0.0);
        out.p = out.relation == "=" ? two : agrees ? two / 2.0 : 1.0 - two / 2.0;
        const double reach = criticalValue(alpha, out.df2) * se;
        out.low = d(0) + out.r(0) - reach;
        out.high = d(0) + out.r(0) + reach;
        return out;
    }
    const auto f = waldF(d, V);
    if (!f) {
        return refuse(ErrorCode::BadSetting,
                      "the restrictions repeat or contradict each other, or there are more than "
                      "the errors can carry",
                      "hypothesis", "Take out the ones that follow from the others.");
    }
    out.statistic = *f * law.scale;
    out.p = fTail(out.statistic, out.df1, out.df2);
    return out;
}

std::string verdictOn(const HypothesisTest& test, double alpha) {
    return !(test.p < alpha) ? "open" : test.relation == "=" ? "against" : "for";
}

std::vector<double> falseDiscoveryAdjusted(const std::vector<double>& p) {
    std::vector<std::size_t> order(p.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(), [&](auto a, auto b) { return p[a] > p[b]; });
    std::vector<double> out(p.size());
    double least = 1.0;
    for (std::size_t i = 0; i < order.size(); ++i) {
        const double rank = static_cast<double>(order.size() - i);
        least = std::min(least, p[order[i]] * static_cast<double>(p.size()) / rank);
        out[order[i]] = least;
    }
    return out;
}

}  // namespace rapporto
