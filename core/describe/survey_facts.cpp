#include "core/describe/survey_facts.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

/// The rows in the sample that have every part, with their weight, stratum and cluster.
struct Drawn {
    std::vector<std::size_t> rows;
    std::vector<double> weights;
    std::vector<std::int32_t> strata;
    std::vector<std::int32_t> clusters;
    std::int32_t strataCount = 1;
    std::int32_t clusterCount = 0;
    std::size_t without = 0;
};

Result<const Column*> part(const Frame& frame, const std::string& name) {
    const Column* column = name.empty() ? nullptr : frame.column(name);
    if (!name.empty() && column == nullptr) {
        return refuse(ErrorCode::UnknownName, "there is no variable ‘" + name + "’", "survey",
                      "Choose another in Data.", {name});
    }
    return column;
}

Result<Drawn> drawn(const Frame& frame, const std::string& weightName,
                    const std::string& strataName, const std::string& clusterName) {
    const auto weight = part(frame, weightName);
    const auto stratum = part(frame, strataName);
    const auto cluster = part(frame, clusterName);
    for (const auto* one : {&weight, &stratum, &cluster}) {
        if (!*one) {
            return tl::make_unexpected(one->error());
        }
    }
    if (*weight != nullptr && (*weight)->isText()) {
        return refuse(ErrorCode::WrongType, "the weight ‘" + weightName + "’ holds text", "survey",
                      "A weight is a number.", {weightName});
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
    Drawn out;
    std::vector<std::int32_t> seen(static_cast<std::size_t>(clusters.count), -1);
    for (std::size_t i = 0; i < n; ++i) {
        if (frame.states()[i] != RowState::In) {
            continue;
        }
        const double w = *weight == nullptr ? 1.0 : (*weight)->numbers()[i];
        if (std::isnan(w) || strata.of[i] < 0 || clusters.of[i] < 0) {
            ++out.without;
            continue;
        }
        if (w < 0.0) {
            return refuse(
                ErrorCode::BadSetting,
                "the weight ‘" + weightName + "’ is negative in row " + std::to_string(i + 1),
                "survey", "A weight is zero or more.", {weightName});
        }
        std::int32_t& id = seen[static_cast<std::size_t>(clusters.of[i])];
        id = id < 0 ? out.clusterCount++ : id;
        out.rows.push_back(i);
        out.weights.push_back(w);
        out.strata.push_back(strata.of[i]);
        out.clusters.push_back(id);
    }
    out.strataCount = strata.count;
    return out;
}

}  // namespace

Result<SurveyFacts> surveyFacts(const Frame& frame, const std::string& weight,
                                const std::string& strata, const std::string& cluster) {
    const auto rows = drawn(frame, weight, strata, cluster);
    if (!rows) {
        return tl::make_unexpected(rows.error());
    }
    SurveyFacts out;
    out.n = rows->rows.size();
    out.without = rows->without;
    if (out.n == 0) {
        return out;
    }
    out.clusters = static_cast<std::size_t>(rows->clusterCount);
    std::vector<std::size_t> sizes(out.clusters, 0);
    std::vector<std::set<std::int32_t>> inStratum(static_cast<std::size_t>(rows->strataCount));
    std::vector<std::size_t> exampleRow(inStratum.size(), 0);
    double sum = 0.0;
    double squares = 0.0;
    out.lowestWeight = rows->weights.front();
    out.highestWeight = rows->weights.front();
    for (std::size_t i = 0; i < out.n; ++i) {
        ++sizes[static_cast<std::size_t>(rows->clusters[i])];
        inStratum[static_cast<std::size_t>(rows->strata[i])].insert(rows->clusters[i]);
        exampleRow[static_cast<std::size_t>(rows->strata[i])] = rows->rows[i];
        sum += rows->weights[i];
        squares += rows->weights[i] * rows->weights[i];
        out.lowestWeight = std::min(out.lowestWeight, rows->weights[i]);
        out.highestWeight = std::max(out.highestWeight, rows->weights[i]);
    }
    out.strata = static_cast<std::size_t>(std::count_if(
        inStratum.begin(), inStratum.end(), [](const auto& one) { return !one.empty(); }));
    out.smallest = *std::min_element(sizes.begin(), sizes.end());
    out.largest = *std::max_element(sizes.begin(), sizes.end());
    for (std::size_t s = 0; s < inStratum.size() && !strata.empty(); ++s) {
        if (inStratum[s].size() == 1) {
            out.lonely.push_back(
                cellText(*frame.column(strata), *frame.variable(strata), exampleRow[s]));
        }
    }
    const auto n = static_cast<double>(out.n);
    out.weightEffect = sum > 0.0 ? n * squares / (sum * sum) : 1.0;
    out.weightVariation = std::sqrt(std::max(out.weightEffect - 1.0, 0.0));
    out.effectiveRows = n / out.weightEffect;
    return out;
}

std::optional<double> designEffect(const Frame& frame, const std::string& variable,
                                   const std::string& weight, const std::string& strata,
                                   const std::string& cluster) {
    const auto rows = drawn(frame, weight, strata, cluster);
    const Column* of = frame.column(variable);
    if (!rows || of == nullptr || of->isText()) {
        return std::nullopt;
    }
    double total = 0.0;
    double mean = 0.0;
    std::size_t n = 0;
    for (std::size_t i = 0; i < rows->rows.size(); ++i) {
        const double x = of->numbers()[rows->rows[i]];
        if (!std::isnan(x)) {
            total += rows->weights[i];
            mean += rows->weights[i] * x;
            ++n;
        }
    }
    if (n < 2 || total <= 0.0) {
        return std::nullopt;
    }
    mean /= total;
    std::vector<double> byCluster(static_cast<std::size_t>(rows->clusterCount), 0.0);
    std::vector<std::int32_t> stratumOf(byCluster.size(), -1);  // −1: no row of it has a value.
    double spread = 0.0;
    for (std::size_t i = 0; i < rows->rows.size(); ++i) {
        const double x = of->numbers()[rows->rows[i]];
        const auto c = static_cast<std::size_t>(rows->clusters[i]);
        if (!std::isnan(x)) {
            stratumOf[c] = rows->strata[i];
            byCluster[c] += rows->weights[i] * (x - mean) / total;
            spread += rows->weights[i] * (x - mean) * (x - mean);
        }
    }
    std::vector<double> sums(static_cast<std::size_t>(rows->strataCount), 0.0);
    std::vector<double> counts(sums.size(), 0.0);
    for (std::size_t c = 0; c < byCluster.size(); ++c) {
        if (stratumOf[c] < 0) {
            continue;
        }
        sums[static_cast<std::size_t>(stratumOf[c])] += byCluster[c];
        counts[static_cast<std::size_t>(stratumOf[c])] += 1.0;
    }
    double variance = 0.0;
    for (std::size_t c = 0; c < byCluster.size(); ++c) {
        if (stratumOf[c] < 0) {
            continue;
        }
        const auto s = static_cast<std::size_t>(stratumOf[c]);
        // A lonely cluster is centred at the grand mean, which is zero here.
        const bool lonely = counts[s] < 2.0;
        const double d = byCluster[c] - (lonely ? 0.0 : sums[s] / counts[s]);
        variance += d * d * (lonely ? 1.0 : counts[s] / (counts[s] - 1.0));
    }
    const auto rowsUsed = static_cast<double>(n);
    const double simple = spread / total * rowsUsed / (rowsUsed - 1.0) / rowsUsed;
    return simple > 0.0 ? std::optional(variance / simple) : std::nullopt;
}

}  // namespace rapporto
