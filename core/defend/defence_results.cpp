#include "core/defend/defence_results.h"

#include "core/defend/defence.h"
#include "core/model/forecast.h"
#include "core/study/results.h"

#include <nlohmann/json.hpp>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

Json byLotJson(const Result<ByLot>& found) {
    if (!found) {
        return Json{{"message", found.error().text()}};
    }
    Json out{{"of", found->of},
             {"drawn", found->drawn},
             {"exact", found->exact},
             {"draws", found->draws},
             {"statistic", numberJson(found->statistic)},
             {"p", numberJson(found->p)},
             {"law_p", numberJson(found->lawP)}};
    if (!found->joint) {
        out["estimate"] = numberJson(found->estimate);
        out["low"] = numberJson(found->low);
        out["high"] = numberJson(found->high);
    }
    return out;
}

Json endJson(const WorstCaseEnd& end) {
    return Json{{"estimate", numberJson(end.estimate)}, {"se", numberJson(end.se)}};
}

Json worstCasesJson(const Result<WorstCases>& found) {
    if (!found) {
        return Json{{"message", found.error().text()}};
    }
    Json out{{"of", found->of},
             {"rows", found->rows},
             {"unseen", found->unseen},
             {"outcome_from", numberJson(found->from)},
             {"outcome_to", numberJson(found->to)},
             {"lower", endJson(found->lower)},
             {"upper", endJson(found->upper)},
             {"low", numberJson(found->low)},
             {"high", numberJson(found->high)},
             {"always_seen", Json()}};
    if (!found->whyNotAlways.empty()) {
        out["message"] = "of those seen either way nothing is told: " + found->whyNotAlways;
    }
    if (found->always) {
        const AlwaysSeen& a = *found->always;
        out["always_seen"] = Json{{"seen_with", numberJson(a.seenWith)},
                                  {"seen_without", numberJson(a.seenWithout)},
                                  {"difference", numberJson(a.difference)},
                                  {"se", numberJson(a.se)},
                                  {"p", numberJson(a.p)},
                                  {"trimmed", numberJson(a.trimmed)},
                                  {"lower", endJson(a.lower)},
                                  {"upper", endJson(a.upper)},
                                  {"low", numberJson(a.low)},
                                  {"high", numberJson(a.high)}};
    }
    return out;
}

Json plannedJson(const Result<Planned>& found) {
    if (!found) {
        return Json{{"message", found.error().text()}};
    }
    return Json{{"of", found->of},
                {"effect", numberJson(found->effect)},
                {"power", numberJson(found->power)},
                {"rows", wholeJson(found->rows)},
                {"clusters", found->clusters ? wholeJson(*found->clusters) : Json()},
                {"power_here", numberJson(found->here)}};
}

void putEstimate(Json& into, const Estimate& e) {
    into["estimate"] = numberJson(e.value);
    into["se"] = numberJson(e.se);
    into["low"] = numberJson(e.low);
    into["high"] = numberJson(e.high);
}

Json pointJson(const ForecastPoint& point) {
    Json out{{"moment", point.moment}};
    putEstimate(out, point.mean);
    out["row_low"] = numberJson(point.rowLow);
    out["row_high"] = numberJson(point.rowHigh);
    if (point.original) {
        const Retransformed& r = *point.original;
        out["original"] =
            Json{{"mean", numberJson(r.mean)},      {"low", numberJson(r.low)},
                 {"high", numberJson(r.high)},      {"middle", numberJson(r.middle)},
                 {"row_low", numberJson(r.rowLow)}, {"row_high", numberJson(r.rowHigh)}};
    }
    if (point.level) {
        Json level;
        putEstimate(level, *point.level);
        level["row_low"] = numberJson(point.levelRowLow);
        level["row_high"] = numberJson(point.levelRowHigh);
        out["level"] = std::move(level);
    }
    return out;
}

}  // namespace

void putDefence(Json& one, const Answer& answer) {
    if (!answer.defence) {
        return;
    }
    const Defence& defence = *answer.defence;
    if (defence.byLot) {
        one["by_lot"] = byLotJson(*defence.byLot);
    }
    if (defence.worstCases) {
        one["worst_cases"] = worstCasesJson(*defence.worstCases);
    }
    for (const Result<Planned>& planned : defence.planned) {
        one["planned"].push_back(plannedJson(planned));
    }
}

void putForecast(Json& one, const Answer& answer) {
    if (!answer.forecast) {
        return;
    }
    const Result<Forecast>& found = *answer.forecast;
    if (!found) {
        one["forecast"] = Json{{"message", found.error().text()}};
        return;
    }
    Json points = Json::array();
    for (const ForecastPoint& point : found->points) {
        points.push_back(pointJson(point));
    }
    one["forecast"] = Json{{"points", std::move(points)}};
    if (!found->levelOf.empty()) {
        one["forecast"]["level_of"] = found->levelOf;
    }
    for (const auto& [name, way] : found->goesOn) {
        one["forecast"]["terms"][name] = way;
    }
}

}  // namespace rapporto
