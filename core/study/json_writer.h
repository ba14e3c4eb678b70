#pragma once

#include <nlohmann/json.hpp>

#include <algorithm>
#include <string>
#include <vector>

namespace rapporto {

/// Members in the given order: those that were read or differ from their default; unknown ones
/// last.
class JsonWriter {
  public:
    explicit JsonWriter(const nlohmann::ordered_json* raw)
        : raw_(raw != nullptr && raw->is_object() ? raw : nullptr) {}

    void put(const char* key, nlohmann::ordered_json value,
             const nlohmann::ordered_json& otherwise) {
        known_.emplace_back(key);
        if (value != otherwise) {
            out_[key] = std::move(value);
        } else if (raw_ != nullptr && raw_->contains(key)) {
            // It was written although it says the default: as it stood where it means that still.
            const nlohmann::ordered_json& old = raw_->at(key);
            out_[key] = old.is_null() || old.empty() ? old : std::move(value);
        }
    }

    nlohmann::ordered_json finish() {
        if (raw_ != nullptr) {
            for (const auto& [key, value] : raw_->items()) {
                if (std::find(known_.begin(), known_.end(), key) == known_.end()) {
                    out_[key] = value;
                }
            }
        }
        return std::move(out_);
    }

  private:
    const nlohmann::ordered_json* raw_;
    std::vector<std::string> known_;
    nlohmann::ordered_json out_ = nlohmann::ordered_json::object();
};

}  // namespace rapporto
