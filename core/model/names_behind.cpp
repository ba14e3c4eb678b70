#include "core/model/names_behind.h"

namespace rapporto {
namespace {

void gather(const Frame& frame, const std::string& expression, std::set<std::string>& out) {
    const auto parsed = Expression::parse(expression);
    if (!parsed) {
        return;
    }
    for (const std::string& name : parsed->names()) {
        if (!out.insert(name).second) {
            continue;
        }
        const Variable* variable = frame.variable(name);
        if (variable != nullptr && !variable->expression.empty()) {
            gather(frame, variable->expression, out);
        }
    }
}

}  // namespace

std::set<std::string> namesBehind(const Frame& frame, const std::string& expression) {
    std::set<std::string> out;
    gather(frame, expression, out);
    return out;
}

}  // namespace rapporto
