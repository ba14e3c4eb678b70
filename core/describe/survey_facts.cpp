#include "core/describe/survey_facts.h"

#include "core/describe/survey_mean.h"

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

/// The design as clusters drawn with replacement; lonely ones are told, not refused.
Survey withReplacement(Survey survey) {
    survey.population.clear();
    survey.lonely = Survey{}.lonely;
    survey.replicates.clear();
    return survey;
}

Result<Drawn> drawn(const Frame& frame, const Survey& survey) {
    const auto design = surveyRows(frame, withReplacement(survey));
    if (!design) {
        return tl::make_unexpected(design.error());
    }
    Drawn out;
    out.strataCount = design->strataCount;
    std::vector<std::int32_t> seen(static_cast<std::size_t>(design->clusterCount), -1);
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (frame.states()[i] != RowState::In) {
            continue;
        }
        if (design->strata[i] < 0) {
            ++out.without;
            continue;
        }
        std::int32_t& id = seen[static_cast<std::size_t>(design->clusters[i])];
        id = id < 0 ? out.clusterCount++ : id;
        out.rows.push_back(i);
        out.weights.push_back(design->weights[i]);
        out.strata.push_back(design->strata[i]);
        out.clusters.push_back(id);
    }
    return out;
}

}  // namespace

Result<SurveyFacts> surveyFacts(const Frame& frame, const Survey& survey) {
    const auto rows = drawn(frame, survey);
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
    for (std::size_t s = 0; s < inStratum.size() && !survey.strata.empty(); ++s) {
        if (inStratum[s].size() == 1) {
            out.lonely.push_back(cellText(*frame.column(survey.strata),
                                          *frame.variable(survey.strata), exampleRow[s]));
        }
    }
    const auto n = static_cast<double>(out.n);
    out.weightEffect = sum > 0.0 ? n * squares / (sum * sum) : 1.0;
    out.weightVariation = std::sqrt(std::max(out.weightEffect - 1.0, 0.0));
    out.effectiveRows = n / out.weightEffect;
    return out;
}

std::optional<double> designEffect(const Frame& frame, const std::string& variable,
                                   const Survey& survey) {
    auto rows = surveyRows(frame, withReplacement(survey));
    const Column* of = frame.column(variable);
    if (!rows || of == nullptr || of->isText()) {
        return std::nullopt;
    }
    std::vector<double> cells(of->numbers().begin(), of->numbers().end());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        cells[i] = frame.states()[i] == RowState::In ? cells[i] : std::nan("");
        // A sample of as many rows is what it is compared with: the others are no part of it.
        rows->strata[i] = std::isnan(cells[i]) ? -1 : rows->strata[i];
    }
    const auto mean = meanUnder(*rows, cells);
    return mean && mean->n > 1 && !std::isnan(mean->deff) ? std::optional(mean->deff)
                                                          : std::nullopt;
}

}  // namespace rapporto
