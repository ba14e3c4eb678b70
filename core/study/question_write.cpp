// Writing the questions of a study file.
#include "core/base/format.h"
#include "core/study/estimator_codec.h"
#include "core/study/question_codec.h"
#include "core/study/question_kind.h"
#include "core/study/unknown_keys.h"

#include <cmath>

namespace rapporto {

using Json = nlohmann::ordered_json;

Json keyJson(const Key& key) {
    if (const double* x = std::get_if<double>(&key)) {
        return *x == std::floor(*x) && std::abs(*x) < 9e15 ? Json(static_cast<std::int64_t>(*x))
                                                           : Json(*x);
    }
    return std::get<std::string>(key);
}

Json termJson(const Term& term) {
    if (term.kind == Term::Kind::Product) {
        return Json{{"product", term.parts}};
    }
    return term.kind == Term::Kind::Set ? Json{{"set", term.parts.front()}}
                                        : Json(term.parts.front());
}

Json termsJson(const std::vector<Term>& terms) {
    Json json = Json::array();
    for (const Term& term : terms) {
        json.push_back(termJson(term));
    }
    return json;
}

namespace {

Json checksJson(const Question& q) {
    if (q.allChecks) {
        return "all";
    }
    if (q.checks.empty()) {
        return "none";
    }
    Json list = Json::array();
    for (const CheckRequest& c : q.checks) {
        Json one{{"id", c.id}};
        if (c.lags) {
            one["lags"] = *c.lags;
        } else if (!c.lagsBy.empty()) {
            one["lags"] = c.lagsBy;
        }
        if (!c.with.empty()) {
            one["with"] = c.with;
        }
        if (c.cross) {
            one["cross"] = *c.cross;
        }
        if (!c.powers.empty()) {
            one["powers"] = c.powers;
        }
        if (!c.by.empty()) {
            one["by"] = c.by;
        }
        if (!c.at.empty()) {
            one["at"] = c.at;
        }
        if (c.drop) {
            one["drop"] = *c.drop;
        }
        if (c.atRow) {
            one["at_row"] = *c.atRow;
        }
        list.push_back(one.size() == 1 ? Json(c.id) : one);
    }
    return list;
}

Json errorsJson(const ErrorSpec& errors) {
    Json json{{"kind", errors.kind}};
    if (errors.kind == "robust") {
        json["type"] = errors.type;
    }
    if (!errors.by.empty()) {
        json["by"] = errors.by;
    }
    if (errors.kind == "bootstrap") {
        json["draws"] = errors.draws;
        json["scheme"] = errors.scheme;
        json["interval"] = errors.interval;
        if (errors.seed) {
            json["seed"] = *errors.seed;
        }
    }
    if (errors.automaticLags) {
        json["lags"] = "automatic";
    } else if (errors.lags) {
        json["lags"] = *errors.lags;
    }
    return json;
}

Json valuesJson(const ScenarioValues& values) {
    Json json = Json::object();
    for (const auto& [name, value] : values) {
        json[name] = keyJson(value);
    }
    return json;
}

Json effectsJson(const Question& q) {
    Json list = Json::array();
    for (const EffectRequest& request : q.effects) {
        Json one{{"of", request.of}};
        one["as"] = request.as == EffectRequest::As::Average ? Json("average")
                    : request.as == EffectRequest::As::AtMeans
                        ? Json("at-means")
                        : Json{{"at", valuesJson(request.at)}};
        if (request.elasticity) {
            one["scale"] = "elasticity";
        }
        if (!request.over.empty()) {
            one["over"] = request.over;
        }
        list.push_back(std::move(one));
    }
    return list;
}

Json predictJson(const Question& q) {
    Json list = Json::array();
    for (const PredictRequest& request : q.predict) {
        Json one{{"at", valuesJson(request.at)}};
        if (!request.label.empty()) {
            one["label"] = request.label;
        }
        list.push_back(std::move(one));
    }
    return list;
}

Json decisionsJson(const Question& q) {
    Json list = Json::array();
    for (const Decision& d : q.decisions) {
        list.push_back(Json{{"check", d.check}, {"decision", d.what}, {"reason", d.reason}});
    }
    return list;
}

Json chosenJson(const Question& q) {
    if (!q.chosen) {
        return {};
    }
    Json json{{"by", q.chosen->by}, {"among", q.chosen->among}};
    if (!q.chosen->of.empty()) {
        json["of"] = q.chosen->of;
    }
    return json;
}

Json leftOutJson(const Question& q) {
    if (!q.leftOut) {
        return {};
    }
    const LeftOutRequest usual;
    Json json{{"of", q.leftOut->of}, {"benchmarks", termsJson(q.leftOut->benchmarks)}};
    if (q.leftOut->multiples != usual.multiples) {
        json["multiples"] = q.leftOut->multiples;
    }
    if (q.leftOut->r2MaxFactor != usual.r2MaxFactor) {
        json["r2_max_factor"] = q.leftOut->r2MaxFactor;
    }
    return json;
}

Json byLotJson(const Question& q) {
    if (!q.byLot) {
        return {};
    }
    Json json{{"of", q.byLot->of}};
    if (!q.byLot->within.empty()) {
        json["within"] = q.byLot->within;
    }
    if (!q.byLot->by.empty()) {
        json["by"] = q.byLot->by;
    }
    if (q.byLot->draws != LotRequest{}.draws) {
        json["draws"] = q.byLot->draws;
    }
    if (q.byLot->seed) {
        json["seed"] = *q.byLot->seed;
    }
    return json;
}

Json worstCasesJson(const Question& q) {
    if (!q.worstCases) {
        return {};
    }
    Json json{{"of", q.worstCases->of}};
    if (q.worstCases->low) {
        json["low"] = *q.worstCases->low;
    }
    if (q.worstCases->high) {
        json["high"] = *q.worstCases->high;
    }
    return json;
}

Json plannedJson(const Question& q) {
    Json list = Json::array();
    for (const PlannedRequest& one : q.planned) {
        list.push_back(Json{{"of", one.of}, {"effect", one.effect}});
        if (one.power != PlannedRequest{}.power) {
            list.back()["power"] = one.power;
        }
    }
    return list;
}

Json forecastJson(const Question& q) {
    if (!q.forecast) {
        return {};
    }
    Json json{{"moments", q.forecast->moments}};
    for (const auto& [name, goes] : q.forecast->terms) {
        if (goes.way != "values") {
            json["terms"][name] = goes.way;
            continue;
        }
        json["terms"][name] = Json::array();
        for (const Key& key : goes.values) {
            json["terms"][name].push_back(keyJson(key));
        }
    }
    return json;
}

}  // namespace

void writeErrors(JsonWriter& out, const Question& q) {
    out.put("errors", errorsJson(q.errors), Json{{"kind", "classical"}});
}

void writeWeights(JsonWriter& out, const Question& q) {
    out.put("weights",
            q.weightKind == WeightKind::None
                ? Json()
                : Json{{"kind", weightName(q.weightKind)}, {"variable", q.weight}},
            Json());
}

void writeRows(JsonWriter& out, const Question& q) {
    out.put("where", q.where, "");
    out.put("without", q.without, Json::array());
}

void writeChecks(JsonWriter& out, const Question& q) { out.put("checks", checksJson(q), "all"); }

void writeExplain(JsonWriter& out, const Question& q) {
    std::vector<Term> terms;
    std::vector<Term> muted;
    for (const Term& term : q.terms) {
        (term.muted ? muted : terms).push_back(term);
    }
    out.put("outcome", q.outcome, Json());
    out.put("terms", termsJson(terms), Json());
    out.put("muted", termsJson(muted), Json::array());
    out.put("intercept", q.intercept, true);
    out.put("fixed_effects", q.fixedEffects, Json::array());
    out.put("own_slopes", q.ownSlopes, Json::array());
    out.put("endogenous", termsJson(q.endogenous), Json::array());
    out.put("instruments", termsJson(q.instruments), Json::array());
    out.put("estimator", estimatorJson(q), Json{{"method", kLeastSquares}});
    writeErrors(out, q);
    writeWeights(out, q);
    out.put("offset", q.offset, "");
    out.put("exposure", q.exposure, "");
    writeRows(out, q);
    writeChecks(out, q);
    out.put("effects", effectsJson(q), Json::array());
    out.put("predict", predictJson(q), Json::array());
    out.put("hypotheses", q.hypotheses, Json::array());
    out.put("missing", q.missing, "rows");
    out.put("complete_by", termsJson(q.completeBy), Json::array());
    out.put("left_out", leftOutJson(q), Json());
    out.put("by_lot", byLotJson(q), Json());
    out.put("worst_cases", worstCasesJson(q), Json());
    out.put("planned", plannedJson(q), Json::array());
    out.put("forecast", forecastJson(q), Json());
    out.put("chosen", chosenJson(q), Json());
}

Json questionJson(const Question& q) {
    const QuestionKind* kind = findKind(q.kind);
    // What could not be understood is kept to the letter; only its place among the others is ours.
    if ((q.unbuilt && q.raw) || kind == nullptr) {
        Json kept = q.raw ? *q.raw : Json::object();
        if (!q.title.empty() || kept.contains("title")) {
            kept["title"] = q.title;
        }
        if (q.lead || kept.contains("lead")) {
            kept["lead"] = q.lead;
        }
        return kept;
    }
    JsonWriter out(q.raw.get());
    out.put("id", q.id, nullptr);
    out.put("kind", q.kind, nullptr);
    out.put("title", q.title, "");
    out.put("lead", q.lead, false);
    out.put("variant_of", q.variantOf, "");
    kind->write(out, q);
    out.put("decisions", decisionsJson(q), Json::array());
    Json json = out.finish();
    carryUnknown(json, q.raw.get(), q.unknownKeys);
    return json;
}

std::string questionText(const Question& question) { return questionJson(question).dump(); }

}  // namespace rapporto
