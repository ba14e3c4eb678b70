#include "core/defend/lots.h"

#include "core/base/format.h"
#include "core/data/grouping.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;

/// Arrangements of so many labels; as a number, however large.
double arrangements(const std::vector<std::pair<int, int>>& counts) {
    double out = 1.0;
    double placed = 0.0;
    for (const auto& [label, count] : counts) {
        for (int k = 1; k <= count; ++k) {
            placed += 1.0;
            out = out * placed / k;
        }
    }
    return std::round(out);
}

}  // namespace

Result<std::vector<std::int32_t>> Lots::groupsOf(const Frame& frame, const Design& design,
                                                 const std::string& name) const {
    const auto evaluated = frame.evaluateText(name);
    if (!evaluated) {
        return tl::make_unexpected(evaluated.error());
    }
    const Grouping all = groupBy(evaluated->column, false);
    std::vector<std::int32_t> place(static_cast<std::size_t>(all.count), -1);
    std::vector<std::int32_t> out;
    std::int32_t next = 0;
    std::size_t missing = 0;
    for (const std::size_t row : design.rows) {
        const std::int32_t group = all.of[row];
        if (group < 0) {
            ++missing;
            continue;
        }
        std::int32_t& at = place[static_cast<std::size_t>(group)];
        at = at < 0 ? next++ : at;
        out.push_back(at);
    }
    if (missing > 0) {
        return refuse(ErrorCode::BadSetting,
                      "‘" + name + "’ has no value in " + plural(missing, "row", "rows") + " used",
                      "by lot", "Leave those rows out, or choose another variable.", {name});
    }
    return out;
}

Result<void> Lots::setUnits(const Frame& frame, const Design& design, const LotRequest& request) {
    if (request.by.empty()) {
        unit_.resize(design.rows.size());
        std::iota(unit_.begin(), unit_.end(), 0);
        shown_ = plural(unit_.size(), "row", "rows");
    } else {
        auto groups = groupsOf(frame, design, request.by);
        if (!groups) {
            return tl::make_unexpected(groups.error());
        }
        unit_ = *std::move(groups);
        const auto count =
            static_cast<std::size_t>(1 + *std::max_element(unit_.begin(), unit_.end()));
        shown_ = plural(count, "group", "groups") + " of " + request.by;
    }
    stratum_.assign(static_cast<std::size_t>(1 + *std::max_element(unit_.begin(), unit_.end())), 0);
    return {};
}

Result<std::vector<int>> Lots::constantLabels(const Design& design, const MatrixXd& values,
                                              bool groups) {
    std::vector<int> labels(stratum_.size(), -1);
    columns_ = values.cols();
    std::vector<double> distinct;
    if (groups) {
        values_ = MatrixXd::Zero(columns_ + 1, columns_);
        values_.bottomRows(columns_).setIdentity();
    } else {
        distinct.assign(values.data(), values.data() + values.size());
        std::sort(distinct.begin(), distinct.end());
        distinct.erase(std::unique(distinct.begin(), distinct.end()), distinct.end());
        values_ =
            Eigen::Map<const Eigen::VectorXd>(distinct.data(), static_cast<Index>(distinct.size()));
    }
    std::vector<std::size_t> counts(static_cast<std::size_t>(values_.rows()), 0);
    for (Index i = 0; i < values.rows(); ++i) {
        int label = 0;
        if (groups) {
            for (Index c = 0; c < columns_; ++c) {
                label = values(i, c) != 0.0 ? static_cast<int>(c) + 1 : label;
            }
        } else {
            label =
                static_cast<int>(std::lower_bound(distinct.begin(), distinct.end(), values(i, 0)) -
                                 distinct.begin());
        }
        int& own = labels[static_cast<std::size_t>(unitOf(i))];
        if (own >= 0 && own != label) {
            return refuse(ErrorCode::BadSetting, "the cause differs within one group", "by lot");
        }
        own = label;
        ++counts[static_cast<std::size_t>(label)];
    }
    if (!groups && (design.hasConstant || design.swept)) {
        // A constant changes no lot: the value that most rows have is the cheapest, the mean loses
        // the fewest digits.
        const auto most = std::max_element(counts.begin(), counts.end()) - counts.begin();
        values_.array() -=
            distinct.size() <= 2 ? distinct[static_cast<std::size_t>(most)] : values.mean();
    }
    return labels;
}

Result<std::vector<int>> Lots::pathLabels(const Design& design, const MatrixXd& values) {
    // Where a unit has no row at a moment; no cause is so large.
    constexpr double kAbsent = std::numeric_limits<double>::max();
    std::map<std::int64_t, Index> places;
    for (const std::int64_t moment : design.unitMoments) {
        places.emplace(moment, 0);
    }
    Index next = 0;
    for (auto& [moment, place] : places) {
        place = next++;
    }
    std::vector<std::vector<double>> paths(stratum_.size(),
                                           std::vector<double>(places.size(), kAbsent));
    moments_.resize(unit_.size());
    for (Index i = 0; i < values.rows(); ++i) {
        const auto row = static_cast<std::size_t>(i);
        moments_[row] = places.at(design.unitMoments[row]);
        paths[static_cast<std::size_t>(unitOf(i))][static_cast<std::size_t>(moments_[row])] =
            values(i, 0);
    }
    std::map<std::vector<double>, int> known;
    std::vector<int> labels;
    for (const auto& path : paths) {
        labels.push_back(known.emplace(path, static_cast<int>(known.size())).first->second);
    }
    values_.resize(static_cast<Index>(known.size()), next);
    for (const auto& [path, label] : known) {
        values_.row(label) = Eigen::Map<const Eigen::RowVectorXd>(path.data(), next);
    }
    return labels;
}

Result<void> Lots::setStrata(const Frame& frame, const Design& design, const LotRequest& request,
                             const std::vector<int>& labels) {
    Grouping strata{std::vector<std::int32_t>(design.rows.size(), 0), 1};
    for (const std::string& name : request.within) {
        auto groups = groupsOf(frame, design, name);
        if (!groups) {
            return tl::make_unexpected(groups.error());
        }
        Grouping other{*std::move(groups), 0};
        other.count = 1 + *std::max_element(other.of.begin(), other.of.end());
        strata = splitBy(strata, other);
    }
    std::vector<std::int32_t> of(stratum_.size(), -1);
    for (std::size_t i = 0; i < unit_.size(); ++i) {
        std::int32_t& own = of[static_cast<std::size_t>(unit_[i])];
        if (own >= 0 && own != strata.of[i]) {
            return refuse(ErrorCode::BadSetting,
                          "a group of ‘" + request.by + "’ lies in several groups of ‘" +
                              request.within.front() + "’",
                          "by lot", "Lots are drawn within groups that hold those drawn whole.",
                          request.within);
        }
        own = strata.of[i];
    }
    strata_.resize(static_cast<std::size_t>(strata.count));
    for (std::size_t u = 0; u < of.size(); ++u) {
        stratum_[u] = static_cast<std::size_t>(of[u]);
        strata_[stratum_[u]].units.push_back(static_cast<std::int32_t>(u));
    }
    std::size_t drawn = 0;
    for (Stratum& stratum : strata_) {
        std::map<int, int> counts;
        for (const std::int32_t unit : stratum.units) {
            ++counts[labels[static_cast<std::size_t>(unit)]];
        }
        stratum.counts.assign(counts.begin(), counts.end());
        stratum.usual =
            std::max_element(stratum.counts.begin(), stratum.counts.end(),
                             [](const auto& a, const auto& b) { return a.second < b.second; })
                ->first;
        for (const auto& [label, count] : stratum.counts) {
            if (label != stratum.usual) {
                runs_.push_back({label, stratum.usual, drawn, static_cast<std::size_t>(count)});
                stratum.others += static_cast<std::size_t>(count);
                drawn += static_cast<std::size_t>(count);
            }
        }
        order_.insert(order_.end(), stratum.units.begin(), stratum.units.end());
        stratum.different = arrangements(stratum.counts);
        different_ *= stratum.different;
    }
    return {};
}

Result<Lots> Lots::make(const Frame& frame, const Design& design, const MatrixXd& values,
                        bool groups, const LotRequest& request) {
    Lots out;
    if (auto done = out.setUnits(frame, design, request); !done) {
        return tl::make_unexpected(done.error());
    }
    auto labels = out.constantLabels(design, values, groups);
    if (!labels) {
        if (groups || request.by.empty() ||
            canonicalText(request.by) != quotedName(frame.layout().unit) ||
            design.unitMoments.empty()) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + request.of + "’ differs within groups of ‘" + request.by +
                              "’, which draw one lot each",
                          "by lot",
                          "Draw among rows within those groups, or among units of a panel.",
                          {request.by});
        }
        labels = out.pathLabels(design, values);
    }
    if (auto done = out.setStrata(frame, design, request, *labels); !done) {
        return tl::make_unexpected(done.error());
    }
    if (out.paths()) {
        // A course can go to a unit only where that has the same moments.
        for (const Stratum& stratum : out.strata_) {
            const auto absent = [&](int label) {
                return (out.values_.row(label).array() == std::numeric_limits<double>::max())
                    .eval();
            };
            for (const auto& [label, count] : stratum.counts) {
                if ((absent(label) != absent(stratum.usual)).any()) {
                    return refuse(ErrorCode::BadSetting,
                                  "units have different moments, so that their courses cannot be "
                                  "exchanged",
                                  "by lot",
                                  "Use the moments that all have, or draw within units that have "
                                  "the same.",
                                  {request.by});
                }
            }
        }
        out.shown_ += ", each with its whole course";
    }
    if (out.different_ <= 1.0) {
        return refuse(ErrorCode::NoVariation, "every lot is the same: nothing is drawn", "by lot",
                      request.within.empty() ? "Choose a cause that varies."
                                             : "The cause does not vary within those groups: "
                                               "choose wider ones.",
                      {request.of});
    }
    return out;
}

void Lots::draw(RandomStream stream, Lot& out) const {
    out.runs = runs_;
    out.order = order_;
    out.units.clear();
    std::size_t from = 0;
    for (const Stratum& stratum : strata_) {
        const std::size_t size = stratum.units.size();
        std::int32_t* units = out.order.data() + from;
        for (std::size_t k = 0; k < stratum.others; ++k) {
            std::swap(units[k], units[k + stream.below(size - k)]);
        }
        out.units.insert(out.units.end(), units, units + stratum.others);
        from += size;
    }
}

void Lots::list(std::int64_t number, Lot& out) const {
    out.units.clear();
    out.runs.clear();
    for (const Stratum& stratum : strata_) {
        auto total = static_cast<std::int64_t>(stratum.different);
        std::int64_t rank = number % total;
        number /= total;
        auto counts = stratum.counts;
        auto left = static_cast<std::int64_t>(stratum.units.size());
        std::vector<std::pair<int, std::int32_t>> drawn;
        for (const std::int32_t unit : stratum.units) {
            for (auto& [label, count] : counts) {
                const std::int64_t here = total * count / left;
                if (rank < here) {
                    total = here;
                    --count;
                    if (label != stratum.usual) {
                        drawn.emplace_back(label, unit);
                    }
                    break;
                }
                rank -= here;
            }
            --left;
        }
        std::sort(drawn.begin(), drawn.end());
        const std::size_t own = out.runs.size();
        for (const auto& [label, unit] : drawn) {
            if (out.runs.size() == own || out.runs.back().label != label) {
                out.runs.push_back({label, stratum.usual, out.units.size(), 0});
            }
            out.units.push_back(unit);
            ++out.runs.back().count;
        }
    }
}

std::vector<int> Lots::labelsOf(const Lot& lot) const {
    std::vector<int> out;
    for (std::int32_t unit = 0; unit < units(); ++unit) {
        out.push_back(usual(unit));
    }
    for (const Run& run : lot.runs) {
        for (std::size_t k = run.from; k < run.from + run.count; ++k) {
            out[static_cast<std::size_t>(lot.units[k])] = run.label;
        }
    }
    return out;
}

}  // namespace rapporto
