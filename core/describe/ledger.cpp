#include "core/describe/ledger.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

std::vector<std::string> ruleParts(const std::string& rule) {
    std::vector<std::string> parts;
    const auto parsed = Expression::parse(rule);
    if (!parsed) {
        return {rule};
    }
    const auto collect = [&](const auto& self, const Node& node) -> void {
        if (node.kind == Node::Kind::Binary && node.text == "and") {
            self(self, *node.children[0]);
            self(self, *node.children[1]);
        } else {
            parts.push_back(Expression::of(node).canonical());
        }
    };
    collect(collect, parsed->root());
    return parts;
}

std::string joinedRule(const std::string& rule, const std::string& condition) {
    const auto inside = [](const std::string& one) {
        const auto parsed = Expression::parse(one);
        const bool either =
            parsed && parsed->root().kind == Node::Kind::Binary && parsed->root().text == "or";
        return either ? "(" + one + ")" : one;
    };
    return rule.empty()        ? condition
           : condition.empty() ? rule
                               : inside(rule) + " and " + inside(condition);
}

std::string ruleWithout(const std::string& rule, std::size_t part) {
    const auto parts = ruleParts(rule);
    std::string left;
    for (std::size_t k = 0; k < parts.size(); ++k) {
        left = k == part ? left : joinedRule(left, parts[k]);
    }
    return left;
}

Result<std::vector<RuleStep>> ruleSteps(const Frame& frame, const std::string& rule) {
    std::vector<RuleStep> steps;
    std::vector<bool> in(frame.rows(), true);
    std::size_t left = frame.rows();
    for (const std::string& part : ruleParts(rule)) {
        const auto value = frame.evaluateText(part);
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        if (value->column.isText()) {
            return refuse(ErrorCode::WrongType, "the rule is a text, not a condition",
                          "‘" + part + "’");
        }
        RuleStep step{part, 0, 0, 0};
        for (std::size_t i = 0; i < in.size(); ++i) {
            const double holds = value->column.numbers()[i];
            if (in[i] && (std::isnan(holds) || holds == 0.0)) {
                in[i] = false;
                ++step.removed;
                step.unknown += std::isnan(holds) ? 1U : 0U;
            }
        }
        left -= step.removed;
        step.left = left;
        steps.push_back(std::move(step));
    }
    return steps;
}

Result<std::vector<std::size_t>> rowsWhere(const Frame& frame, const std::string& condition) {
    const auto value = frame.evaluateText(condition);
    if (!value) {
        return tl::make_unexpected(value.error());
    }
    if (value->column.isText()) {
        return refuse(ErrorCode::WrongType, "this is a text, not a condition",
                      "‘" + condition + "’", "Compare it with something: zone = 'Ridge'.");
    }
    std::vector<std::size_t> out;
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (const double holds = value->column.numbers()[i]; !std::isnan(holds) && holds != 0.0) {
            out.push_back(i);
        }
    }
    return out;
}

}  // namespace rapporto
