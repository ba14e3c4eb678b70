#pragma once

#include "core/base/result.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// Longest lists that a study may hold, so that none takes the day before it is refused.
namespace most {
inline constexpr std::size_t kEntries = 100000000;  ///< Kept values, rows set aside.
inline constexpr std::size_t kTerms = 5000;         ///< Of a question, and of a set.
inline constexpr std::size_t kParts = 20;           ///< Of a product.
inline constexpr std::size_t kRequests = 500;       ///< Checks, quantiles, hypotheses, effects.
inline constexpr double kCount = 9e15;              ///< Whole numbers that numbers hold.
}  // namespace most

/// Reads members of one object; the first fault is kept, everything after it is ignored.
class JsonReader {
  public:
    JsonReader(const nlohmann::ordered_json& object, std::string where)
        : object_(object), where_(std::move(where)) {
        if (!object.is_object()) {
            fault("an object {…} is expected here");
        }
    }

    [[nodiscard]] const std::optional<Refusal>& refusal() const { return refusal_; }

    /// All of it, whatever was read.
    [[nodiscard]] const nlohmann::ordered_json& object() const { return object_; }

    [[nodiscard]] bool has(const char* key) const {
        return object_.is_object() && object_.contains(key) && !object_.at(key).is_null();
    }

    const nlohmann::ordered_json& at(const char* key) {
        known_.emplace_back(key);
        static const nlohmann::ordered_json kNull;
        return has(key) ? object_.at(key) : kNull;
    }

    std::string text(const char* key, std::string otherwise = {}) {
        const nlohmann::ordered_json& value = at(key);
        if (value.is_null()) {
            return otherwise;
        }
        if (!value.is_string()) {
            fault(fmt::format("‘{}’ is a text", key));
            return otherwise;
        }
        return value.get<std::string>();
    }

    bool flag(const char* key, bool otherwise) {
        const nlohmann::ordered_json& value = at(key);
        if (!value.is_null() && !value.is_boolean()) {
            fault(fmt::format("‘{}’ is true or false", key));
        }
        return value.is_boolean() ? value.get<bool>() : otherwise;
    }

    /// A whole number from `least` to `most`; a number between or beyond is a fault, not bent.
    double whole(const char* key, double otherwise, double least, double largest) {
        const double value = number(key, otherwise);
        if (!(value >= least && value <= largest) || value != std::floor(value)) {
            fault(fmt::format("‘{}’ is a whole number from {:.0f} to {:.0f}", key, least, largest));
            return otherwise;
        }
        return value;
    }

    double number(const char* key, double otherwise) {
        const nlohmann::ordered_json& value = at(key);
        if (!value.is_null() && !value.is_number()) {
            fault(fmt::format("‘{}’ is a number", key));
        }
        return value.is_number() ? value.get<double>() : otherwise;
    }

    /// A text or a list of texts.
    std::vector<std::string> texts(const char* key, std::size_t limit = most::kEntries) {
        const nlohmann::ordered_json& value = at(key);
        std::vector<std::string> out;
        if (!fits(value, key, limit)) {
            return out;
        }
        if (value.is_string()) {
            out.push_back(value.get<std::string>());
        } else if (value.is_array()) {
            for (const nlohmann::ordered_json& one : value) {
                if (one.is_string()) {
                    out.push_back(one.get<std::string>());
                } else {
                    fault(fmt::format("‘{}’ is a list of texts", key));
                }
            }
        } else if (!value.is_null()) {
            fault(fmt::format("‘{}’ is a list of texts", key));
        }
        return out;
    }

    /// The entries of a list; none when the key is absent.
    std::vector<const nlohmann::ordered_json*> list(const char* key,
                                                    std::size_t limit = most::kEntries) {
        const nlohmann::ordered_json& value = at(key);
        std::vector<const nlohmann::ordered_json*> out;
        if (!fits(value, key, limit)) {
            return out;
        }
        if (value.is_array()) {
            for (const nlohmann::ordered_json& one : value) {
                out.push_back(&one);
            }
        } else if (!value.is_null()) {
            fault(fmt::format("‘{}’ is a list", key));
        }
        return out;
    }

    /// A list longer than anything one means by it would take the day before it is refused.
    bool fits(const nlohmann::ordered_json& value, const char* key, std::size_t limit) {
        if (value.is_array() && value.size() > limit) {
            fault(
                fmt::format("‘{}’ has {} entries; it takes {} at most", key, value.size(), limit));
            return false;
        }
        return true;
    }

    void fault(const std::string& what, const std::string& help = {}) {
        if (!refusal_) {
            refusal_ = Refusal{ErrorCode::BadSetting, what, where_, help, {}};
        }
    }

    void adopt(const Refusal& refusal) {
        if (!refusal_) {
            refusal_ = refusal;
        }
    }

    /// Takes over what a part of this object has to say: its fault, and keys that nobody read.
    void close(const JsonReader& part) {
        if (part.refusal_) {
            adopt(*part.refusal_);
        }
        for (const auto& key : part.unknown()) {
            nested_.push_back(part.where_ + "." + key);
        }
        nested_.insert(nested_.end(), part.nested_.begin(), part.nested_.end());
    }

    /// Keys that nobody read, of this object and of its parts (“errors.typ”).
    [[nodiscard]] std::vector<std::string> allUnknown() const {
        std::vector<std::string> out = unknown();
        out.insert(out.end(), nested_.begin(), nested_.end());
        return out;
    }

    [[nodiscard]] std::vector<std::string> unknown() const {
        std::vector<std::string> out;
        if (object_.is_object()) {
            for (const auto& [key, value] : object_.items()) {
                if (std::find(known_.begin(), known_.end(), key) == known_.end()) {
                    out.push_back(key);
                }
            }
        }
        return out;
    }

  private:
    const nlohmann::ordered_json& object_;
    std::string where_;
    std::vector<std::string> known_;
    std::vector<std::string> nested_;
    std::optional<Refusal> refusal_;
};

}  // namespace rapporto
