#include "core/study/compare_results.h"

#include "core/base/format.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

/// What an entry of a list is of; empty: it has nothing to be known by.
std::string nameOf(const Json& entry) {
    if (!entry.is_object()) {
        return {};
    }
    std::string name;
    for (const char* key : {"question", "term", "endogenous", "id", "source", "of", "from", "to",
                            "kind", "group", "level", "equation"}) {
        if (entry.contains(key) && entry.at(key).is_string()) {
            const std::string value = entry.at(key).get<std::string>();
            if (!(std::string(key) == "equation" && value == "main")) {
                name += (name.empty() ? "" : ", ") + value;
            }
        }
    }
    return name;
}

std::string shown(const Json& value) {
    if (value.is_number()) {
        return exactNumber(value.get<double>());
    }
    std::string text = value.is_string() ? "“" + value.get<std::string>() + "”" : value.dump();
    constexpr std::size_t kLong = 160;
    if (text.size() > kLong) {
        std::size_t end = kLong;
        while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0U) == 0x80U) {
            --end;
        }
        text = text.substr(0, end) + "…";
    }
    return text;
}

class Comparer {
  public:
    Comparer(double relative, std::size_t most) : relative_(relative), most_(most) {}

    void walk(const Json& a, const Json& b, const std::string& where) {
        if (a.is_number() && b.is_number()) {
            if (!agree(a.get<double>(), b.get<double>())) {
                add(where, a, b);
            }
        } else if (a.is_object() && b.is_object()) {
            objects(a, b, where);
        } else if (a.is_array() && b.is_array()) {
            arrays(a, b, where);
        } else if (a != b) {
            add(where, a, b);
        }
    }

    std::vector<ResultDifference> found;
    std::size_t left = 0;

  private:
    [[nodiscard]] bool agree(double a, double b) const {
        const double larger = std::max(std::abs(a), std::abs(b));
        return std::abs(a - b) <= relative_ * larger || larger < 1e-300;
    }

    void add(const std::string& where, const Json& a, const Json& b) {
        if (found.size() < most_) {
            found.push_back({where, shown(a), shown(b)});
        } else {
            ++left;
        }
    }

    static std::string below(const std::string& where, const std::string& part) {
        return where.empty() ? part : where + " · " + part;
    }

    void objects(const Json& a, const Json& b, const std::string& where) {
        static const Json kNothing;
        for (const auto& [key, value] : a.items()) {
            walk(value, b.contains(key) ? b.at(key) : kNothing, below(where, key));
        }
        for (const auto& [key, value] : b.items()) {
            if (!a.contains(key)) {
                walk(kNothing, value, below(where, key));
            }
        }
    }

    void arrays(const Json& a, const Json& b, const std::string& where) {
        static const Json kNothing;
        std::set<std::size_t> taken;
        for (std::size_t i = 0; i < a.size(); ++i) {
            const std::string name = nameOf(a[i]);
            std::size_t at = i;
            if (!name.empty()) {
                at = 0;
                while (at < b.size() && (taken.contains(at) || nameOf(b[at]) != name)) {
                    ++at;
                }
            }
            if (at < b.size()) {
                taken.insert(at);
            }
            // Answers are known by their question, the rest by its list.
            const bool top = where == "answers";
            walk(a[i], at < b.size() ? b[at] : kNothing,
                 top && !name.empty() ? name
                                      : below(where, name.empty() ? std::to_string(i + 1) : name));
        }
        for (std::size_t i = 0; i < b.size(); ++i) {
            if (!taken.contains(i)) {
                const std::string name = nameOf(b[i]);
                walk(kNothing, b[i], below(where, name.empty() ? std::to_string(i + 1) : name));
            }
        }
    }

    double relative_;
    std::size_t most_;
};

}  // namespace

std::vector<ResultDifference> differencesBetween(const Json& before, const Json& now,
                                                 double relative, std::size_t most,
                                                 std::size_t* left) {
    Comparer comparer(relative, most);
    comparer.walk(before, now, "");
    if (left != nullptr) {
        *left = comparer.left;
    }
    return std::move(comparer.found);
}

}  // namespace rapporto
