#include "core/expression/derivative.h"

#include <algorithm>

namespace rapporto {
namespace {

NodePtr made(Node::Kind kind, std::string text, std::vector<NodePtr> children) {
    auto node = std::make_shared<Node>();
    node->kind = kind;
    node->text = std::move(text);
    node->children = std::move(children);
    return node;
}

bool isNumber(const NodePtr& node, double value) {
    return node->kind == Node::Kind::Number && node->number == value;
}

// Sums and products that leave out what changes nothing: derivatives stay short.
NodePtr plus(NodePtr a, NodePtr b) {
    return isNumber(a, 0.0) ? b : isNumber(b, 0.0) ? a : binaryNode("+", a, b);
}

NodePtr minus(NodePtr a, NodePtr b) { return isNumber(b, 0.0) ? a : binaryNode("-", a, b); }

NodePtr times(NodePtr a, NodePtr b) {
    if (isNumber(a, 0.0) || isNumber(b, 0.0)) {
        return numberNode(0.0);
    }
    return isNumber(a, 1.0) ? b : isNumber(b, 1.0) ? a : binaryNode("*", a, b);
}

NodePtr over(NodePtr a, NodePtr b) {
    return isNumber(a, 0.0) ? a : isNumber(b, 1.0) ? a : binaryNode("/", a, b);
}

class Differentiator {
  public:
    explicit Differentiator(const std::string& name) : name_(name) {}

    Result<NodePtr> operator()(const NodePtr& node) const {
        if (node->kind == Node::Kind::Name && node->text == name_) {
            return numberNode(1.0);
        }
        if (!mentions(*node, name_)) {
            return numberNode(0.0);
        }
        switch (node->kind) {
            case Node::Kind::Unary:
                return node->text == "not" ? jump(*node) : negative(node);
            case Node::Kind::Binary:
                return binary(node);
            case Node::Kind::Call:
                return call(node);
            case Node::Kind::Case:
                return cases(node);
            default:
                return jump(*node);
        }
    }

  private:
    [[nodiscard]] tl::unexpected<Refusal> jump(const Node& node) const {
        const std::string text = Expression::of(node).canonical();
        return refuse(ErrorCode::WrongType, "‘" + text + "’ jumps: it has no slope in " + name_, "",
                      "Compare two values of " + name_ + " under Predict instead.", {name_});
    }

    Result<NodePtr> negative(const NodePtr& node) const {
        auto inner = (*this)(node->children[0]);
        return inner ? made(Node::Kind::Unary, "-", {*inner}) : inner;
    }

    Result<NodePtr> binary(const NodePtr& node) const {
        const std::string& op = node->text;
        if (op != "+" && op != "-" && op != "*" && op != "/") {
            return jump(*node);
        }
        const NodePtr& f = node->children[0];
        const NodePtr& g = node->children[1];
        const auto df = (*this)(f);
        const auto dg = (*this)(g);
        if (!df || !dg) {
            return df ? dg : df;
        }
        if (op == "+") {
            return plus(*df, *dg);
        }
        if (op == "-") {
            return minus(*df, *dg);
        }
        if (op == "*") {
            return plus(times(*df, g), times(f, *dg));
        }
        return minus(over(*df, g), over(times(f, *dg), times(g, g)));
    }

    Result<NodePtr> power(const NodePtr& node) const {
        const NodePtr& f = node->children[0];
        const NodePtr& p = node->children[1];
        const auto df = (*this)(f);
        if (!df) {
            return df;
        }
        if (p->kind == Node::Kind::Number) {
            NodePtr outer =
                p->number == 2.0 ? f : callNode("power", {f, numberNode(p->number - 1.0)});
            return times(times(p, outer), *df);
        }
        const auto dp = (*this)(p);
        if (!dp) {
            return dp;
        }
        // f^p (p' ln f + p f'/f)
        return times(node, plus(times(*dp, callNode("ln", {f})), over(times(p, *df), f)));
    }

    Result<NodePtr> call(const NodePtr& node) const {
        const std::string& function = node->text;
        if (function == "power") {
            return power(node);
        }
        if (function == "least" || function == "greatest") {
            return chosen(node, function == "least" ? "<=" : ">=");
        }
        if (function == "coalesce") {
            return jump(*node);
        }
        const NodePtr& f = node->children[0];
        const auto df = (*this)(f);
        if (!df) {
            return df;
        }
        if (function == "ln") {
            return over(*df, f);
        }
        if (function == "log10") {
            return over(*df, times(f, callNode("ln", {numberNode(10.0)})));
        }
        if (function == "exp") {
            return times(node, *df);
        }
        if (function == "sqrt") {
            return over(*df, times(numberNode(2.0), node));
        }
        if (function == "abs") {
            return times(callNode("sign", {f}), *df);
        }
        if (function == "reverse") {
            return made(Node::Kind::Unary, "-", {*df});
        }
        return jump(*node);
    }

    /// The derivative of whichever argument is chosen.
    Result<NodePtr> chosen(const NodePtr& node, const char* better) const {
        std::vector<NodePtr> children;
        for (const NodePtr& one : node->children) {
            auto slope = (*this)(one);
            if (!slope) {
                return slope;
            }
            children.push_back(binaryNode(better, one, node));
            children.push_back(*slope);
        }
        children.push_back(numberNode(0.0));
        return made(Node::Kind::Case, "", std::move(children));
    }

    Result<NodePtr> cases(const NodePtr& node) const {
        std::vector<NodePtr> children = node->children;
        // When, then, when, then, …, otherwise.
        for (std::size_t i = 1; i <= children.size(); i += 2) {
            NodePtr& branch = i == children.size() ? children.back() : children[i];
            if (branch->kind == Node::Kind::Null) {
                continue;
            }
            auto slope = (*this)(branch);
            if (!slope) {
                return slope;
            }
            branch = *slope;
        }
        return made(Node::Kind::Case, "", std::move(children));
    }

    const std::string& name_;
};

}  // namespace

NodePtr numberNode(double value) {
    auto node = std::make_shared<Node>();
    node->kind = Node::Kind::Number;
    node->number = value;
    return node;
}

NodePtr nameNode(const std::string& name) { return made(Node::Kind::Name, name, {}); }

NodePtr callNode(const std::string& function, std::vector<NodePtr> arguments) {
    return made(Node::Kind::Call, function, std::move(arguments));
}

NodePtr binaryNode(const std::string& mark, NodePtr left, NodePtr right) {
    return made(Node::Kind::Binary, mark, {std::move(left), std::move(right)});
}

bool mentions(const Node& node, const std::string& name) {
    return (node.kind == Node::Kind::Name && node.text == name) ||
           std::any_of(node.children.begin(), node.children.end(),
                       [&](const NodePtr& child) { return mentions(*child, name); });
}

NodePtr replaced(const NodePtr& node, const std::function<NodePtr(const Node&)>& other) {
    if (NodePtr instead = other(*node)) {
        return instead;
    }
    auto copy = std::make_shared<Node>(*node);
    bool changed = false;
    for (NodePtr& child : copy->children) {
        NodePtr next = replaced(child, other);
        changed = changed || next != child;
        child = std::move(next);
    }
    return changed ? NodePtr(std::move(copy)) : node;
}

Result<NodePtr> derivative(const NodePtr& node, const std::string& name) {
    return Differentiator(name)(node);
}

}  // namespace rapporto
