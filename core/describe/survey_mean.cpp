#include "core/describe/survey_mean.h"

#include "core/base/format.h"
#include "core/base/typed_text.h"
#include "core/data/grouping.h"
#include "core/describe/calibration.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <utility>

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

/// Names the strata with one cluster, or refuses them where that is asked.
Result<void> nameLonely(SurveyRows& rows, const Survey& survey, const Column* stratum) {
    rows.lonely = survey.lonely;
    std::vector<std::int32_t> first(static_cast<std::size_t>(rows.strataCount), -1);
    std::vector<bool> several(first.size(), false);
    std::vector<std::size_t> rowOf(first.size(), 0);
    for (std::size_t i = 0; i < rows.strata.size(); ++i) {
        if (rows.strata[i] < 0) {
            continue;
        }
        const auto s = static_cast<std::size_t>(rows.strata[i]);
        several[s] = several[s] || (first[s] >= 0 && first[s] != rows.clusters[i]);
        rowOf[s] = first[s] < 0 ? i : rowOf[s];
        first[s] = rows.clusters[i];
    }
    for (std::size_t s = 0; s < first.size(); ++s) {
        if (first[s] >= 0 && !several[s] && rows.strataCount > 1) {
            rows.lonelyNames.push_back(
                stratum->isText()
                    ? stratum->texts()[static_cast<std::size_t>(stratum->codes()[rowOf[s]])]
                    : exactNumber(stratum->numbers()[rowOf[s]]));
        }
    }
    if (survey.lonely == "refused" && !rows.lonelyNames.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "only one cluster was drawn in " + joinedNames(rows.lonelyNames), "survey",
                      "Merge it with a stratum like it, or choose what is to be done with lonely "
                      "clusters in Data.",
                      rows.lonelyNames);
    }
    return {};
}

Result<void> takeReplicates(SurveyRows& rows, const Frame& frame, const Survey& survey) {
    for (const std::string& name : survey.replicates) {
        const auto column = part(frame, name);
        if (!column) {
            return tl::make_unexpected(column.error());
        }
        if ((*column)->isText()) {
            return refuse(ErrorCode::WrongType, "the replicate weight ‘" + name + "’ holds text",
                          "survey", "A weight is a number.", {name});
        }
        std::vector<double> weights((*column)->numbers().begin(), (*column)->numbers().end());
        for (double& w : weights) {
            if (w < 0.0) {
                return refuse(ErrorCode::BadSetting,
                              "the replicate weight ‘" + name + "’ is negative in some rows",
                              "survey", "A weight is zero or more.", {name});
            }
            w = std::isnan(w) ? 0.0 : w;
        }
        rows.replicates.push_back(std::move(weights));
        rows.replicateNames.push_back(name);
    }
    const auto R = static_cast<double>(rows.replicates.size());
    if (R == 1.0) {
        return refuse(ErrorCode::BadSetting, "one replicate weight shows no spread", "survey",
                      "Name all of them.");
    }
    if (R > 1.0) {
        const double kept = 1.0 - survey.fay;
        rows.replicateScale = survey.scale                          ? *survey.scale
                              : survey.replicateKind == "jackknife" ? (R - 1.0) / R
                              : survey.replicateKind == "balanced"  ? 1.0 / (R * kept * kept)
                                                                    : 1.0 / R;
    }
    return {};
}

/// Brings the weights, and each replicate of them, to the totals that are known.
Result<void> calibrateAll(SurveyRows& rows, const Survey& survey) {
    if (!rows.known) {
        return {};
    }
    auto weights = calibrated(*rows.known, rows.weights, survey);
    if (!weights) {
        return tl::make_unexpected(weights.error());
    }
    for (std::size_t r = 0; r < rows.replicates.size(); ++r) {
        std::vector<double>& replicate = rows.replicates[r];
        for (std::size_t i = 0; i < replicate.size(); ++i) {
            replicate[i] = rows.strata[i] < 0 ? 0.0 : replicate[i];
        }
        auto made = calibrated(*rows.known, replicate, survey);
        if (!made) {
            Refusal refusal = made.error();
            refusal.what =
                "under the replicate weight ‘" + rows.replicateNames[r] + "’ " + refusal.what;
            return tl::make_unexpected(std::move(refusal));
        }
        replicate = *std::move(made);
    }
    rows.drawnWeights = std::exchange(rows.weights, *std::move(weights));
    rows.calibration = survey.calibration;
    rows.bounds = survey.bounds;
    return {};
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
    if (!survey.targets.empty()) {
        auto known = KnownColumns::make(frame, survey.targets);
        if (!known) {
            return tl::make_unexpected(known.error());
        }
        out.known = std::make_shared<const KnownColumns>(*std::move(known));
    }
    out.weights.assign(n, 0.0);
    out.strata.assign(n, -1);
    out.clusters.assign(n, -1);
    out.strataCount = strata.count;
    std::vector<std::int32_t> seen(static_cast<std::size_t>(clusters.count), -1);
    for (std::size_t i = 0; i < n; ++i) {
        const double w = *weight == nullptr ? 1.0 : (*weight)->numbers()[i];
        if (std::isnan(w) || strata.of[i] < 0 || clusters.of[i] < 0 ||
            (out.known && out.known->lacks(i))) {
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
    if (auto done = nameLonely(out, survey, *stratum); !done) {
        return tl::make_unexpected(done.error());
    }
    if (auto done = takeReplicates(out, frame, survey); !done) {
        return tl::make_unexpected(done.error());
    }
    if (auto done = calibrateAll(out, survey); !done) {
        return tl::make_unexpected(done.error());
    }
    return out;
}

DesignCovariance designCovariance(const SurveyRows& rows, const Eigen::MatrixXd& weighted) {
    const Eigen::MatrixXd scores =
        rows.known ? rows.known->residuals(rows.weights, weighted) : weighted;
    const Eigen::Index k = scores.cols();
    const auto count = static_cast<std::size_t>(rows.clusterCount);
    // A cluster without a score has the sum zero and counts as a cluster.
    Eigen::MatrixXd byCluster = Eigen::MatrixXd::Zero(k, rows.clusterCount);
    std::vector<std::int32_t> stratumOf(count, -1);
    for (std::size_t i = 0; i < rows.strata.size(); ++i) {
        if (rows.strata[i] >= 0) {
            stratumOf[static_cast<std::size_t>(rows.clusters[i])] = rows.strata[i];
            byCluster.col(rows.clusters[i]) += scores.row(static_cast<Eigen::Index>(i)).transpose();
        }
    }
    const auto strata = static_cast<std::size_t>(rows.strataCount);
    Eigen::MatrixXd sums = Eigen::MatrixXd::Zero(k, rows.strataCount);
    std::vector<double> clusters(strata, 0.0);
    DesignCovariance out;
    for (std::size_t c = 0; c < count; ++c) {
        if (stratumOf[c] >= 0) {
            sums.col(stratumOf[c]) += byCluster.col(static_cast<Eigen::Index>(c));
            clusters[static_cast<std::size_t>(stratumOf[c])] += 1.0;
            out.df += 1.0;
        }
    }
    out.df -= static_cast<double>(
        std::count_if(clusters.begin(), clusters.end(), [](double one) { return one > 0.0; }));
    out.matrix = Eigen::MatrixXd::Zero(k, k);
    for (std::size_t c = 0; c < count; ++c) {
        if (stratumOf[c] < 0) {
            continue;
        }
        const auto s = static_cast<std::size_t>(stratumOf[c]);
        const bool lonely = clusters[s] < 2.0;
        if (lonely && rows.lonely == "skipped") {
            continue;
        }
        Eigen::VectorXd d = byCluster.col(static_cast<Eigen::Index>(c));
        if (!lonely) {
            d -= sums.col(stratumOf[c]) / clusters[s];
        }
        out.matrix += d * d.transpose() * (lonely ? 1.0 : clusters[s] / (clusters[s] - 1.0)) *
                      (1.0 - rows.taken[s]);
    }
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
    double spread = 0.0;
    Eigen::VectorXd scores = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(cells.size()));
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (counts(i)) {
            const double d = cells[i] - out.mean;
            scores(static_cast<Eigen::Index>(i)) = rows.weights[i] * d / total;
            spread += rows.weights[i] * d * d / total;
        }
    }
    const DesignCovariance covariance = designCovariance(rows, scores);
    const double variance = covariance.matrix(0, 0);
    out.se = std::sqrt(variance);
    out.df = covariance.df;
    const auto n = static_cast<double>(out.n);
    const double simple = n > 1.0 ? spread / (n - 1.0) : 0.0;
    out.deff = simple > 0.0 ? variance / simple : std::nan("");
    return out;
}

std::optional<DesignContrast> contrastUnder(const SurveyRows& rows, std::span<const double> cells,
                                            std::span<const std::int32_t> groups,
                                            std::int32_t count) {
    const auto k = static_cast<Eigen::Index>(count);
    Eigen::VectorXd totals = Eigen::VectorXd::Zero(k);
    Eigen::VectorXd means = Eigen::VectorXd::Zero(k);
    const auto counts = [&](std::size_t i) {
        return groups[i] >= 0 && rows.strata[i] >= 0 && !std::isnan(cells[i]);
    };
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (counts(i)) {
            totals(groups[i]) += rows.weights[i];
            means(groups[i]) += rows.weights[i] * cells[i];
        }
    }
    if (k < 2 || !(totals.minCoeff() > 0.0)) {
        return std::nullopt;
    }
    means = means.cwiseQuotient(totals);
    Eigen::MatrixXd scores = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(cells.size()), k);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (counts(i)) {
            scores(static_cast<Eigen::Index>(i), groups[i]) =
                rows.weights[i] * (cells[i] - means(groups[i])) / totals(groups[i]);
        }
    }
    const DesignCovariance covariance = designCovariance(rows, scores);
    Eigen::MatrixXd against = Eigen::MatrixXd::Zero(k - 1, k);
    against.col(0).setConstant(-1.0);
    against.rightCols(k - 1).setIdentity();
    const Eigen::MatrixXd spread = against * covariance.matrix * against.transpose();
    const Eigen::LDLT<Eigen::MatrixXd> solver(spread);
    const Eigen::VectorXd apart = against * means;
    if (covariance.df < 1.0 || !solver.isPositive() || !(solver.vectorD().minCoeff() > 0.0)) {
        return std::nullopt;
    }
    DesignContrast out;
    out.means.assign(means.begin(), means.end());
    out.difference = apart(0);
    out.df1 = static_cast<double>(k - 1);
    out.df2 = covariance.df;
    out.f = apart.dot(solver.solve(apart)) / out.df1;
    out.p = fTail(out.f, out.df1, out.df2);
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
