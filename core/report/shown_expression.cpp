#include "core/base/shown_names.h"
#include "core/report/results_table.h"

namespace rapporto {
namespace {

/// The label of a variable, its name where it has none.
std::string labelled(const std::string& name, const std::map<std::string, std::string>& labels) {
    const auto found = labels.find(name);
    return found == labels.end() ? shownNames(name) : found->second;
}

std::string trimmed(const std::string& text) {
    const std::size_t from = text.find_first_not_of(' ');
    return from == std::string::npos ? std::string()
                                     : text.substr(from, text.find_last_not_of(' ') - from + 1);
}

}  // namespace

std::string shownExpression(const std::string& text,
                            const std::map<std::string, std::string>& labels) {
    if (const std::size_t cross = text.find(" × "); cross != std::string::npos) {
        return shownExpression(text.substr(0, cross), labels) + " × " +
               shownExpression(text.substr(cross + std::string(" × ").size()), labels);
    }
    const auto inside = [&](const std::string& head) {
        return text.starts_with(head + "(") && text.ends_with(")")
                   ? text.substr(head.size() + 1, text.size() - head.size() - 2)
                   : std::string();
    };
    if (const std::string of = bareName(inside("ln")); !of.empty()) {
        return "ln " + labelled(of, labels);
    }
    if (const std::string of = bareName(inside("sqrt")); !of.empty()) {
        return "√" + labelled(of, labels);
    }
    if (const std::string of = inside("power"); !of.empty()) {
        const std::size_t comma = of.rfind(',');
        const std::string base = bareName(trimmed(of.substr(0, comma)));
        const std::string power = comma == std::string::npos ? "" : trimmed(of.substr(comma + 1));
        if (!base.empty() && (power == "2" || power == "3")) {
            return labelled(base, labels) + (power == "2" ? "²" : "³");
        }
    }
    if (const std::size_t equals = text.find('='); equals != std::string::npos) {
        return labelled(text.substr(0, equals), labels) + ": " + text.substr(equals + 1);
    }
    return labelled(text, labels);
}

}  // namespace rapporto
