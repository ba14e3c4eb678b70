#pragma once

#include "core/expression/expression.h"

#include <functional>

namespace rapporto {

using NodePtr = std::shared_ptr<const Node>;

/// `node` with parts replaced: where `other` gives a node for a part, it stands in its place and is
/// not looked into again.
[[nodiscard]] NodePtr replaced(const NodePtr& node,
                               const std::function<NodePtr(const Node&)>& other);

[[nodiscard]] NodePtr numberNode(double value);
[[nodiscard]] NodePtr nameNode(const std::string& name);
[[nodiscard]] NodePtr callNode(const std::string& function, std::vector<NodePtr> arguments);
[[nodiscard]] NodePtr binaryNode(const std::string& mark, NodePtr left, NodePtr right);

/// d node / d name by the rules of differentiation: sums, products, quotients, powers, logarithms,
/// exponentials, absolute values, and whatever a case, least or greatest chooses, branch by branch.
///
/// @return the derivative (null for a null), or WrongType naming the function that jumps.
[[nodiscard]] Result<NodePtr> derivative(const NodePtr& node, const std::string& name);

/// The name occurs in the tree.
[[nodiscard]] bool mentions(const Node& node, const std::string& name);

}  // namespace rapporto
