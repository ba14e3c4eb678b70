#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace rapporto {

/// One entry of “with …”: an expression, a product of expressions, or a named set.
struct Term {
    enum class Kind : std::uint8_t { Expression, Product, Set };

    Kind kind = Kind::Expression;
    std::vector<std::string> parts;  ///< One text; of a product two or more.
    bool muted = false;              ///< Kept in the sentence, left out of the model.

    /// As people see it: “hives × irrigated”, “{controls}”.
    [[nodiscard]] std::string shown() const;

    [[nodiscard]] static Term expression(std::string text) {
        return {Kind::Expression, {std::move(text)}, false};
    }

    friend bool operator==(const Term&, const Term&) = default;
};

}  // namespace rapporto
