#include "core/describe/survey_mean.h"

#include "core/base/typed_text.h"
#include "core/data/grouping.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

Result<const Column*> part(const Frame& frame, const std::string& name) {
    const Column* column = name.empty() ? nullptr : frame.column(name);
    if (!name.empty() && column == nullptr) {
        return refuse(ErrorCode::UnknownName, "there is no variable ‘" + name + "’", "survey",
                      "Choose another in Data.", {name});
    }
    return column;
}

/// The share of each stratum’s clusters that was drawn; zeros where the population is not given.
Result<std::vector<double>> sharesTaken(const Frame& frame, const SurveyRows& rows,
                                        const std::string& population) {
    std::vector<double> taken(static_cast<std::size_t>(rows.strataCount), 0.0);
    if (population.empty()) {
        return taken;
    }
    const auto typed = numberIn(population);
    const Column* column = typed ? nullptr : frame.column(population);
    if (!typed && (column == nullptr || column->isText())) {
        return refuse(column == nullptr ? ErrorCode::UnknownName : ErrorCode::WrongType,
                      column == nullptr ? "there is no variable ‘" + population + "’"
                                        : "the population ‘" + population + "’ holds text",
                      "survey", "It is a number or a variable of numbers.", {population});
    }
    std::vector<double> clusters(taken.size(), 0.0);
    std::vector<double> inAll(taken.size(), typed.value_or(0.0));
    std::vector<bool> seen(static_cast<std::size_t>(rows.clusterCount), false);
    for (std::size_t i = 0; i < rows.strata.size(); ++i) {
        if (rows.strata[i] < 0) {
            continue;
        }
        const auto s = static_cast<std::size_t>(rows.strata[i]);
        const auto c = static_cast<std::size_t>(rows.clusters[i]);
        clusters[s] += seen[c] ? 0.0 : 1.0;
        seen[c] = true;
        if (column != nullptr && !column->isMissing(i)) {
            inAll[s] = column->numbers()[i];
        }
    }
    for (std::size_t s = 0; s < taken.size(); ++s) {
        if (clusters[s] > 0.0 && inAll[s] < clusters[s]) {
            return refuse(ErrorCode::BadSetting,
                          "a stratum has more clusters in the data than in the population",
                          "survey", "Correct the population, or leave it out.", {population});
        }
        taken[s] = clusters[s] > 0.0 ? clusters[s] / inAll[s] : 0.0;
    }
    return taken;
}

}  // namespace

Result<SurveyRows> surveyRows(const Frame& frame, const Survey& survey) {
    const auto weight = part(frame, survey.weight);
    const auto stratum = part(frame, survey.strata);
    const auto cluster = part(frame, survey.cluster);
    for (const auto* one : {&weight, &stratum, &cluster}) {
        if (!*one) {
            return tl::make_unexpected(one->error());
        }
    }
    if (*weight != nullptr && (*weight)->isText()) {
        return refuse(ErrorCode::WrongType, "the weight ‘" + survey.weight + "’ holds text",
                      "survey", "A weight is a number.", {survey.weight});
    }
    const std::size_t n = frame.rows();
    Grouping strata{std::vector<std::int32_t>(n, 0), 1};
    if (*stratum != nullptr) {
        strata = groupBy(**stratum, false);
    }
    Grouping clusters{std::vector<std::int32_t>(n), static_cast<std::int32_t>(n)};
    for (std::size_t i = 0; i < n; ++i) {
        clusters.of[i] = static_cast<std::int32_t>(i);
    }
    if (*cluster != nullptr) {
        // The same name in two strata is two clusters.
        clusters = splitBy(strata, groupBy(**cluster, false));
    }
    SurveyRows out;
    out.weights.assign(n, 0.0);
    out.strata.assign(n, -1);
    out.clusters.assign(n, -1);
    out.strataCount = strata.count;
    std::vector<std::int32_t> seen(static_cast<std::size_t>(clusters.count), -1);
    for (std::size_t i = 0; i < n; ++i) {
        const double w = *weight == nullptr ? 1.0 : (*weight)->numbers()[i];
        if (std::isnan(w) || strata.of[i] < 0 || clusters.of[i] < 0) {
            continue;
        }
        if (w < 0.0) {
            return refuse(
                ErrorCode::BadSetting,
                "the weight ‘" + survey.weight + "’ is negative in row " + std::to_string(i + 1),
                "survey", "A weight is zero or more.", {survey.weight});
        }
        std::int32_t& id = seen[static_cast<std::size_t>(clusters.of[i])];
        id = id < 0 ? out.clusterCount++ : id;
        out.weights[i] = w;
        out.strata[i] = strata.of[i];
        out.clusters[i] = id;
    }
    auto taken = sharesTaken(frame, out, survey.population);
    if (!taken) {
        return tl::make_unexpected(taken.error());
    }
    out.taken = *std::move(taken);
    return out;
}

std::optional<DesignMean> meanUnder(const SurveyRows& rows, std::span<const double> cells) {
    DesignMean out;
    double total = 0.0;
    double squares = 0.0;
    double sum = 0.0;
    const auto counts = [&](std::size_t i) { return rows.strata[i] >= 0 && !std::isnan(cells[i]); };
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (counts(i)) {
            total += rows.weights[i];
            squares += rows.weights[i] * rows.weights[i];
            sum += rows.weights[i] * cells[i];
            ++out.n;
        }
    }
    if (!(total > 0.0)) {
        return std::nullopt;
    }
    out.mean = sum / total;
    out.effective = total * total / squares;
    // Sums of the linearised values by cluster; a cluster without a value has the sum zero.
    std::vector<double> byCluster(static_cast<std::size_t>(rows.clusterCount), 0.0);
    std::vector<std::int32_t> stratumOf(byCluster.size(), -1);
    double spread = 0.0;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (rows.strata[i] < 0) {
            continue;
        }
        const auto c = static_cast<std::size_t>(rows.clusters[i]);
        stratumOf[c] = rows.strata[i];
        if (counts(i)) {
            const double d = cells[i] - out.mean;
            byCluster[c] += rows.weights[i] * d / total;
            spread += rows.weights[i] * d * d / total;
        }
    }
    const auto strata = static_cast<std::size_t>(rows.strataCount);
    std::vector<double> sums(strata, 0.0);
    std::vector<double> clusters(strata, 0.0);
    double clustersInAll = 0.0;
    for (std::size_t c = 0; c < byCluster.size(); ++c) {
        if (stratumOf[c] >= 0) {
            sums[static_cast<std::size_t>(stratumOf[c])] += byCluster[c];
            clusters[static_cast<std::size_t>(stratumOf[c])] += 1.0;
            clustersInAll += 1.0;
        }
    }
    double variance = 0.0;
    for (std::size_t c = 0; c < byCluster.size(); ++c) {
        if (stratumOf[c] < 0) {
            continue;
        }
        const auto s = static_cast<std::size_t>(stratumOf[c]);
        // A lonely cluster is centred at the grand mean, which is zero here.
        const bool lonely = clusters[s] < 2.0;
        const double d = byCluster[c] - (lonely ? 0.0 : sums[s] / clusters[s]);
        variance +=
            d * d * (lonely ? 1.0 : clusters[s] / (clusters[s] - 1.0)) * (1.0 - rows.taken[s]);
    }
    out.se = std::sqrt(variance);
    out.df = clustersInAll -
             static_cast<double>(std::count_if(clusters.begin(), clusters.end(),
                                               [](double count) { return count > 0.0; }));
    const auto n = static_cast<double>(out.n);
    const double simple = n > 1.0 ? spread / (n - 1.0) : 0.0;
    out.deff = simple > 0.0 ? variance / simple : std::nan("");
    return out;
}

ShareInterval wilsonInterval(double p, double n, double critical) {
    const double z2 = critical * critical;
    const double centre = (p + z2 / (2.0 * n)) / (1.0 + z2 / n);
    const double reach =
        critical / (1.0 + z2 / n) * std::sqrt(p * (1.0 - p) / n + z2 / (4.0 * n * n));
    return {std::max(centre - reach, 0.0), std::min(centre + reach, 1.0)};
}

}  // namespace rapporto
