#include "core/left/left_errors.h"

#include "core/model/cluster_sums.h"

#include <fmt/format.h>

#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;

/// Σ a b' over pairs of columns of `from`, times `weight`.
Result<MatrixXd> products(LeftRows& rows, const std::vector<std::string>& columns,
                          const std::string& weight, const std::string& from, bool apart) {
    std::vector<std::string> sums;
    std::string list = weight + " as m";
    for (std::size_t i = 0; i < columns.size(); ++i) {
        list += fmt::format(", {} as b{}", columns[i], i);
        for (std::size_t j = 0; j <= i; ++j) {
            sums.push_back(fmt::format("sum(m * b{} * b{})", i, j));
        }
    }
    const std::string once = workedOut(list, from, "basis");
    const auto found = apart ? rows.sumsOfRows(sums, once) : rows.sums(sums, once);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    const auto p = static_cast<Index>(columns.size());
    MatrixXd out(p, p);
    std::size_t at = 0;
    for (Index i = 0; i < p; ++i) {
        for (Index j = 0; j <= i; ++j) {
            out(i, j) = out(j, i) = (*found)[at++];
        }
    }
    return out;
}

/// Meat by rows and by groups of rows.
class Meat {
  public:
    Meat(LeftRows& rows, const LeftScores& scores, const LeftBasis& basis)
        : rows_(rows), scores_(scores), basis_(basis) {}

    /// Σ e² b b', times the weights as their kind has them.
    [[nodiscard]] Result<MatrixXd> byRow() {
        const std::string weight = scores_.weights == WeightKind::None        ? ""
                                   : scores_.weights == WeightKind::Frequency ? "w * "
                                                                              : "w * w * ";
        return products(rows_, basis_.columns, weight + basis_.square, basis_.plainFrom,
                        !scores_.held);
    }

    /// How many groups there are, and the products of their sums of scores.
    [[nodiscard]] Result<std::pair<double, MatrixXd>> byGroup(const std::string& group) {
        std::vector<std::string> sums;
        for (const std::string& column : basis_.columns) {
            sums.push_back("sum(" + (isWeighted() ? std::string("w * ") : std::string()) + "e * " +
                           column + ")");
        }
        if (isApart()) {
            // Each server tells its share of every group; they are put together here.
            const auto own = rows_.sumsByGroup(group, sums, basis_.from);
            if (!own) {
                return tl::make_unexpected(own.error());
            }
            return std::pair(static_cast<double>(own->groups.size()),
                             MatrixXd(own->sums.transpose() * own->sums));
        }
        std::string scores = "(select count(*) as members";
        std::vector<std::string> names;
        for (std::size_t b = 0; b < sums.size(); ++b) {
            names.push_back(fmt::format("s{}", b));
            scores += ", " + sums[b] + " as " + names.back();
        }
        scores += " from " + basis_.from + " group by " + group + ") scores";
        const auto meat = products(rows_, names, "1", scores, false);
        const auto count = rows_.sums({"count(*)"}, scores);
        if (!meat || !count) {
            return tl::make_unexpected(meat ? count.error() : meat.error());
        }
        return std::pair(count->front(), *meat);
    }

    [[nodiscard]] Result<LeftClusters> clusters(const std::string& by) {
        const auto count = countOf(by);
        if (!count) {
            return tl::make_unexpected(count.error());
        }
        LeftClusters out;
        out.count = static_cast<std::int32_t>(*count);
        if (scores_.held) {
            const auto apart = rows_.sums({"count(*)"}, "(select g from " + scores_.rows +
                                                            " group by g having min(" + by +
                                                            ") <> max(" + by + ")) parted");
            if (!apart) {
                return tl::make_unexpected(apart.error());
            }
            out.heldWithin = apart->front() == 0.0;
        }
        return out;
    }

  private:
    [[nodiscard]] bool isWeighted() const { return scores_.weights != WeightKind::None; }

    /// Servers add up their own rows.
    [[nodiscard]] bool isApart() const { return rows_.isSpread() && !scores_.held; }

    [[nodiscard]] Result<double> countOf(const std::string& by) {
        if (isApart()) {
            const auto all = rows_.distinct(by, scores_.rows, LeftRows::kAll);
            return all ? Result<double>(static_cast<double>(all->size()))
                       : tl::make_unexpected(all.error());
        }
        const auto found = rows_.sums({"count(*)"}, "(select " + by + " from " + scores_.rows +
                                                        " group by " + by + ") clusters");
        return found ? Result<double>(found->front()) : tl::make_unexpected(found.error());
    }

    LeftRows& rows_;
    const LeftScores& scores_;
    const LeftBasis& basis_;
};

Result<LeftCovariance> robust(Meat& rows, const ErrorSpec& errors, const LeftScores& scores,
                              const Fit& fit, const LeftBasis& basis) {
    const auto meat = rows.byRow();
    if (!meat) {
        return tl::make_unexpected(meat.error());
    }
    const bool counted = scores.weights == WeightKind::Frequency;
    const double factor = (errors.type == "HC1" ? fit.n / fit.dfResidual : 1.0) *
                          (counted ? 1.0 : scores.scale * scores.scale);
    const MatrixXd turned = basis.toKept.transpose() * *meat * basis.toKept;
    return LeftCovariance{Covariance{factor * basis.between(turned), fit.dfResidual, ""}, {}};
}

Result<LeftCovariance> clustered(Meat& rows, const ErrorSpec& errors, const LeftScores& scores,
                                 const Fit& fit, const LeftBasis& basis) {
    LeftCovariance out;
    std::vector<std::int32_t> counts;
    std::vector<std::string> groups;
    double nestedIn = 0.0;
    for (std::size_t d = 0; d < scores.clusterings; ++d) {
        groups.push_back(fmt::format("c{}", d));
        const auto found = rows.clusters(groups.back());
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        counts.push_back(found->count);
        if (scores.held) {
            nestedIn = found->heldWithin ? *scores.held - 1.0 : nestedIn;
            out.clusters.push_back(*found);
        }
    }
    if (auto enough = enoughClusters(counts, errors.by); !enough) {
        return tl::make_unexpected(enough.error());
    }
    if (groups.size() > 1) {
        groups.push_back(groups[0] + ", " + groups[1]);
    }
    std::vector<MatrixXd> parts;
    for (const std::string& group : groups) {
        const auto found = rows.byGroup(group);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        const auto& [g, meat] = *found;
        const double left = fit.dfResidual + nestedIn;
        const MatrixXd turned =
            scores.scale * scores.scale * (basis.toKept.transpose() * meat * basis.toKept);
        parts.push_back(g / (g - 1.0) * (fit.n - 1.0) / left * basis.between(turned));
    }
    out.covariance = clusteredTogether(parts, counts);
    return out;
}

}  // namespace

MatrixXd sandwichOf(const Fit& fit, const MatrixXd& meat) {
    const MatrixXd& C = fit.solution.centredFactor;
    const MatrixXd core = C.transpose() * meat * C;
    return fit.solution.factor * core * fit.solution.factor.transpose();
}

Result<LeftCovariance> leftCovariance(LeftRows& rows, const ErrorSpec& errors,
                                      const LeftScores& scores, const Fit& fit,
                                      const LeftBasis& basis) {
    Meat meat(rows, scores, basis);
    return errors.kind == "robust" ? robust(meat, errors, scores, fit, basis)
                                   : clustered(meat, errors, scores, fit, basis);
}

}  // namespace rapporto
