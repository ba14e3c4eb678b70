#include "core/describe/scale.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Numbers = std::vector<double>;

double meanOf(const Numbers& v) {
    return std::accumulate(v.begin(), v.end(), 0.0) / static_cast<double>(v.size());
}

double covariance(const Numbers& a, const Numbers& b) {
    const double ma = meanOf(a);
    const double mb = meanOf(b);
    double sum = 0.0;
    for (std::size_t i = 0; i < a.size(); ++i) {
        sum += (a[i] - ma) * (b[i] - mb);
    }
    return sum / static_cast<double>(a.size() - 1);
}

Numbers sumOf(const std::vector<Numbers>& items, std::size_t without) {
    Numbers total(items.front().size(), 0.0);
    for (std::size_t k = 0; k < items.size(); ++k) {
        for (std::size_t i = 0; k != without && i < total.size(); ++i) {
            total[i] += items[k][i];
        }
    }
    return total;
}

double alphaOf(const std::vector<Numbers>& items, std::size_t without) {
    double parts = 0.0;
    double k = 0.0;
    for (std::size_t j = 0; j < items.size(); ++j) {
        parts += j == without ? 0.0 : covariance(items[j], items[j]);
        k += j == without ? 0.0 : 1.0;
    }
    const Numbers total = sumOf(items, without);
    return k / (k - 1.0) * (1.0 - parts / covariance(total, total));
}

}  // namespace

Result<ScaleFacts> scaleOf(const Frame& frame, const std::vector<std::string>& names) {
    if (names.size() < 2) {
        return refuse(ErrorCode::TooFewRows, "a scale needs two items or more", "",
                      "Choose further items.");
    }
    for (const std::string& name : names) {
        const Column* column = frame.column(name);
        if (column == nullptr || column->isText()) {
            return refuse(ErrorCode::WrongType, "‘" + name + "’ is no number", "scale",
                          "Items are answered in numbers.", {name});
        }
    }
    std::vector<Numbers> items(names.size());
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        const bool complete = frame.states()[i] == RowState::In &&
                              std::none_of(names.begin(), names.end(), [&](const auto& n) {
                                  return frame.column(n)->isMissing(i);
                              });
        for (std::size_t k = 0; complete && k < names.size(); ++k) {
            items[k].push_back(frame.column(names[k])->numbers()[i]);
        }
    }
    ScaleFacts out;
    out.n = items.front().size();
    if (out.n < 3) {
        return refuse(ErrorCode::TooFewRows, "fewer than three rows answer every item", "scale");
    }
    for (std::size_t k = 0; k < names.size(); ++k) {
        if (covariance(items[k], items[k]) <= 0.0) {
            return refuse(ErrorCode::NoVariation, "‘" + names[k] + "’ never varies", "scale",
                          "Leave it out.", {names[k]});
        }
    }
    constexpr auto kAll = static_cast<std::size_t>(-1);
    out.alpha = alphaOf(items, kAll);
    for (std::size_t k = 0; k < names.size(); ++k) {
        const Numbers rest = sumOf(items, k);
        const double own = covariance(items[k], items[k]);
        const double others = covariance(rest, rest);
        const double r = others > 0.0 ? covariance(items[k], rest) / std::sqrt(own * others) : 0.0;
        out.items.push_back({names[k], meanOf(items[k]), std::sqrt(own), r,
                             names.size() > 2 ? alphaOf(items, k) : 0.0});
        if (r < 0.0) {
            out.againstTheRest.push_back(names[k]);
        }
    }
    return out;
}

std::string scaleExpression(const std::vector<std::string>& items) {
    std::string sum;
    for (const std::string& item : items) {
        sum += (sum.empty() ? "" : " + ") + quotedName(item);
    }
    return "(" + sum + ") / " + std::to_string(items.size());
}

}  // namespace rapporto
