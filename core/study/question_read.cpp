// Reading the questions of a study file.
#include "core/base/format.h"
#include "core/checks/check.h"
#include "core/model/fit.h"
#include "core/study/estimator_codec.h"
#include "core/study/json_reader.h"
#include "core/study/question_codec.h"
#include "core/study/question_kind.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

bool isBuiltCheck(const std::string& id) { return findCheck(id) != nullptr; }

}  // namespace

std::optional<Key> keyOf(const Json& value) {
    if (value.is_number()) {
        return Key(value.get<double>());
    }
    return value.is_string() ? std::optional(Key(value.get<std::string>())) : std::nullopt;
}

void readTerms(JsonReader& in, std::vector<Term>& into, const char* key, bool muted) {
    for (const Json* one : in.list(key, most::kTerms)) {
        Term term;
        term.muted = muted;
        if (one->is_string()) {
            term.parts = {one->get<std::string>()};
        } else {
            JsonReader object(*one, "terms");
            if (object.has("product")) {
                term.kind = Term::Kind::Product;
                term.parts = object.texts("product", most::kParts);
                if (term.parts.size() < 2) {
                    object.fault("a product needs two parts or more");
                }
            } else if (object.has("set")) {
                term.kind = Term::Kind::Set;
                term.parts = {object.text("set")};
            } else {
                object.fault("a term is an expression, a product or a set");
            }
            in.close(object);
            if (object.refusal()) {
                continue;
            }
        }
        into.push_back(std::move(term));
    }
}

namespace {

/// What a check does not use is refused, by the registry of checks.
void refuseIdleOptions(const CheckRequest& request, JsonReader& options) {
    if (findCheck(request.id) == nullptr) {
        return;  // That is refused by its id.
    }
    std::map<std::string, std::vector<std::string>> users;
    for (const Check& check : allChecks()) {
        for (const char* key : check.options) {
            users[key].emplace_back(check.id);
        }
    }
    for (const auto& [key, checks] : users) {
        if (options.has(key.c_str()) &&
            std::find(checks.begin(), checks.end(), request.id) == checks.end()) {
            options.fault("the check ‘" + request.id + "’ has no option ‘" + key + "’",
                          "‘" + key + "’ belongs to " + joinedNames(checks) + ".");
        }
    }
}

/// A number of lags, or the criterion that chooses it where the check knows some.
void readLags(JsonReader& options, CheckRequest& request) {
    const Check* check = findCheck(request.id);
    const auto takes = [&](const std::string& key) {
        return check != nullptr &&
               std::find(check->options.begin(), check->options.end(), key) != check->options.end();
    };
    request.with = options.text("with");
    if (!request.with.empty() && request.with != "none" && request.with != "constant" &&
        request.with != "trend") {
        options.fault("‘with’ is \"none\", \"constant\" or \"trend\"");
    }
    if (!options.has("lags")) {
        return;
    }
    // Of a series that may wander no lag is a choice, too.
    const bool ofSeries = takes("with");
    const Json& lags = options.at("lags");
    if (ofSeries && lags.is_string()) {
        request.lagsBy = lags.get<std::string>();
        if (request.lagsBy != "aic" && request.lagsBy != "bic") {
            options.fault("‘lags’ is a whole number from 0, \"aic\" or \"bic\"");
        }
        return;
    }
    const double least = ofSeries ? 0.0 : 1.0;
    request.lags = static_cast<int>(options.whole("lags", least, least, 10000.0));
}

}  // namespace

void readChecks(const Json& value, Question& q, JsonReader& in) {
    if (value.is_null()) {
        return;
    }
    if (value.is_string()) {
        q.allChecks = value == "all";
        if (value != "all" && value != "none") {
            in.fault("‘checks’ is \"all\", \"none\" or a list");
        }
        return;
    }
    q.allChecks = false;
    if (!value.is_array()) {
        in.fault("‘checks’ is \"all\", \"none\" or a list");
        return;
    }
    if (!in.fits(value, "checks", most::kRequests)) {
        return;
    }
    for (const Json& one : value) {
        CheckRequest request;
        if (one.is_string()) {
            request.id = one.get<std::string>();
        } else {
            JsonReader options(one, "checks");
            request.id = options.text("id");
            readLags(options, request);
            if (options.has("cross")) {
                request.cross = options.flag("cross", true);
            }
            request.by = options.text("by");
            request.at = options.text("at");
            if (options.has("drop")) {
                request.drop = options.number("drop", 0.2);
                if (!(*request.drop >= 0.0) || !(*request.drop < 0.8)) {
                    options.fault("‘drop’ is a share from 0 to under 0.8");
                }
            }
            if (options.has("at_row")) {
                const double row = options.number("at_row", 0.0);
                if (row < 1.0) {
                    options.fault("‘at_row’ is the number of a row, from 1");
                }
                request.atRow = static_cast<std::size_t>(std::clamp(row, 1.0, 1e15));
            }
            for (const Json* power : options.list("powers")) {
                power->is_number_integer() && power->get<int>() >= 2 && power->get<int>() <= 8
                    ? request.powers.push_back(power->get<int>())
                    : options.fault("‘powers’ are whole numbers from 2 to 8");
            }
            refuseIdleOptions(request, options);
            for (const auto& key : options.unknown()) {
                if (isBuiltCheck(request.id)) {
                    options.fault("the check ‘" + request.id + "’ has no option ‘" + key + "’");
                }
            }
            in.close(options);
        }
        if (!isBuiltCheck(request.id)) {
            in.fault("there is no check ‘" + request.id + "’");
        }
        q.checks.push_back(std::move(request));
    }
}

namespace {

void readBootstrap(JsonReader& in, ErrorSpec& errors) {
    const double draws = in.number("draws", errors.draws);
    if (draws != std::floor(draws) || draws < 20 || draws > 1e7) {
        in.fault("‘draws’ is a whole number from 20 to ten million");
    } else {
        errors.draws = static_cast<int>(draws);
    }
    if (in.has("seed")) {
        errors.seed = static_cast<std::uint64_t>(in.whole("seed", 1.0, 0.0, most::kCount));
    }
    errors.scheme = in.text("scheme", errors.scheme);
    errors.interval = in.text("interval", errors.interval);
    const bool clusters = errors.scheme == "clusters" || errors.scheme == "wild-clusters";
    if (!clusters && errors.scheme != "rows" && errors.scheme != "wild") {
        in.fault("there is no scheme ‘" + errors.scheme + "’",
                 "Schemes are rows, clusters, wild and wild-clusters.");
    } else if (clusters && errors.by.size() != 1) {
        in.fault("a bootstrap of clusters names one variable in ‘by’");
    } else if (errors.interval != "percentile" && errors.interval != "bias-corrected" &&
               errors.interval != "bca") {
        in.fault("there is no interval ‘" + errors.interval + "’",
                 "Intervals are percentile, bias-corrected and bca.");
    }
}

/// A key of errors that another kind uses is refused; one that none does is noted.
void refuseIdleErrorKeys(const std::string& kind, const Json& json, JsonReader& errors) {
    struct Use {
        const char* key;
        std::vector<std::string> kinds;
    };

    static const std::vector<Use> kUses = {
        {"type", {"robust"}},
        {"by", {"clustered", "bootstrap"}},
        {"lags", {"autocorrelation", "panel-autocorrelation"}},
        {"kernel", {"autocorrelation"}},
        {"draws", {"bootstrap"}},
        {"seed", {"bootstrap"}},
        {"scheme", {"bootstrap"}},
        {"interval", {"bootstrap"}},
    };
    for (const Use& use : kUses) {
        if (errors.has(use.key) &&
            std::find(use.kinds.begin(), use.kinds.end(), kind) == use.kinds.end()) {
            errors.fault(
                "errors of kind ‘" + kind + "’ have no ‘" + use.key + "’",
                std::string("‘") + use.key + "’ belongs to " + joinedNames(use.kinds) + ".");
        }
        if (json.is_object() && json.contains(use.key)) {
            errors.at(use.key);
        }
    }
}

}  // namespace

void readErrors(const Json& json, Question& q, JsonReader& in) {
    if (json.is_null()) {
        return;
    }
    JsonReader errors(json, "errors");
    q.errors.kind = errors.text("kind", "classical");
    q.errors.type = errors.text("type", "HC1");
    q.errors.by = errors.texts("by");
    refuseIdleErrorKeys(q.errors.kind, json, errors);
    if (q.errors.kind == "autocorrelation") {
        const Json& lags = errors.at("lags");
        q.errors.automaticLags = lags == "automatic";
        if (lags.is_number_integer() && lags >= 0 && lags < 100000) {
            q.errors.lags = lags.get<int>();
        } else if (!lags.is_null() && !q.errors.automaticLags) {
            errors.fault("‘lags’ is a whole number from 0, or \"automatic\"");
        }
        if (const std::string kernel = errors.text("kernel", "bartlett"); kernel != "bartlett") {
            errors.fault("there is no kernel ‘" + kernel + "’", "The kernel is bartlett.");
        }
    } else if (q.errors.kind == "panel-autocorrelation") {
        const Json& lags = errors.at("lags");
        if (lags.is_number_integer() && lags >= 0 && lags < 100000) {
            q.errors.lags = lags.get<int>();
        } else if (!lags.is_null()) {
            errors.fault("‘lags’ is a whole number from 0");
        }
    } else if (q.errors.kind == "bootstrap") {
        readBootstrap(errors, q.errors);
    } else if (q.errors.kind != "classical" && q.errors.kind != "robust" &&
               q.errors.kind != "clustered" && q.errors.kind != "survey" &&
               q.errors.kind != "density" && q.errors.kind != "kernel") {
        errors.fault("there are no errors of kind ‘" + q.errors.kind + "’");
    } else if (q.errors.kind == "robust" &&
               (q.errors.type.size() != 3 || !q.errors.type.starts_with("HC") ||
                q.errors.type[2] < '0' || q.errors.type[2] > '4')) {
        errors.fault("there are no robust errors of type ‘" + q.errors.type + "’",
                     "Types are HC0, HC1, HC2, HC3 and HC4.");
    } else if (q.errors.kind == "clustered" && (q.errors.by.empty() || q.errors.by.size() > 2)) {
        errors.fault("clustered errors name one or two variables in ‘by’");
    }
    if (q.errors.kind == "bootstrap" && errors.has("by") &&
        (q.errors.scheme == "rows" || q.errors.scheme == "wild")) {
        errors.fault("draws by the scheme ‘" + q.errors.scheme + "’ have no ‘by’",
                     "Clusters are drawn by clusters or wild-clusters.");
    }
    in.close(errors);
}

void readWeights(const Json& json, Question& q, JsonReader& in) {
    if (json.is_null()) {
        return;
    }
    JsonReader weights(json, "weights");
    const std::string kind = weights.text("kind");
    q.weight = weights.text("variable");
    q.weightKind = kind == "sampling"    ? WeightKind::Sampling
                   : kind == "frequency" ? WeightKind::Frequency
                   : kind == "precision" ? WeightKind::Precision
                                         : WeightKind::None;
    if (kind.empty()) {
        weights.fault("weights say of what kind they are",
                      "Kinds are sampling, frequency and precision.");
    } else if (q.weightKind == WeightKind::None) {
        weights.fault("there are no weights of kind ‘" + kind + "’",
                      "Kinds are sampling, frequency and precision.");
    } else if (q.weight.empty()) {
        weights.fault("weights name their ‘variable’");
    }
    in.close(weights);
}

namespace {

ScenarioValues readValues(const Json& json, JsonReader& in) {
    ScenarioValues out;
    if (!json.is_object()) {
        in.fault("‘at’ names variables with their values, as in {\"hives\": 12}");
        return out;
    }
    for (const auto& [name, value] : json.items()) {
        const auto key =
            value.is_boolean() ? std::optional(Key(value.get<bool>() ? 1.0 : 0.0)) : keyOf(value);
        key ? static_cast<void>(out.emplace(name, *key))
            : in.fault("the value of ‘" + name + "’ is a number or a text");
    }
    return out;
}

void readRequests(JsonReader& in, Question& q) {
    for (const Json* one : in.list("effects")) {
        JsonReader effect(*one, "effects");
        EffectRequest request;
        request.of = effect.text("of");
        const Json& as = effect.at("as");
        if (as.is_object()) {
            JsonReader at(as, "effects");
            request.as = EffectRequest::As::At;
            request.at = readValues(at.at("at"), effect);
        } else if (as == "at-means") {
            request.as = EffectRequest::As::AtMeans;
        } else if (!as.is_null() && as != "average") {
            effect.fault("‘as’ is \"average\", \"at-means\" or {\"at\": {…}}");
        }
        const std::string scale = effect.text("scale", "units");
        request.elasticity = scale == "elasticity";
        request.over = effect.text("over");
        if (request.of.empty()) {
            effect.fault("an effect names its variable in ‘of’");
        } else if (scale != "units" && scale != "elasticity") {
            effect.fault("‘scale’ is \"units\" or \"elasticity\"");
        }
        in.close(effect);
        q.effects.push_back(std::move(request));
    }
    for (const Json* one : in.list("predict")) {
        JsonReader prediction(*one, "predict");
        PredictRequest request;
        request.label = prediction.text("label");
        if (prediction.has("at")) {
            request.at = readValues(prediction.at("at"), prediction);
        }
        in.close(prediction);
        q.predict.push_back(std::move(request));
    }
    q.hypotheses = in.texts("hypotheses");
    if (const Json& json = in.at("chosen"); !json.is_null()) {
        JsonReader chosen(json, "chosen");
        q.chosen = TermChoice{chosen.text("by"), chosen.texts("among"), chosen.text("of")};
        in.close(chosen);
    }
}

void readDecisions(JsonReader& in, Question& q) {
    for (const Json* one : in.list("decisions")) {
        JsonReader decision(*one, "decisions");
        Decision d{decision.text("check"), decision.text("decision"), decision.text("reason")};
        if (d.what != "kept" && d.what != "remedied" && d.what != "accepted") {
            decision.fault("‘decision’ is \"kept\", \"remedied\" or \"accepted\"");
        }
        in.close(decision);
        q.decisions.push_back(std::move(d));
    }
}

/// ‘left_out’: of which effect, by which benchmarks.
void readLeftOut(JsonReader& in, Question& q) {
    if (!in.has("left_out")) {
        return;
    }
    JsonReader asked(in.at("left_out"), "left_out");
    LeftOutRequest request;
    request.of = asked.text("of");
    if (request.of.empty()) {
        asked.fault("‘of’ names the effect that is asked for");
    }
    readTerms(asked, request.benchmarks, "benchmarks", false);
    if (asked.has("multiples")) {
        request.multiples.clear();
        for (const Json* one : asked.list("multiples", most::kRequests)) {
            if (one->is_number() && one->get<double>() > 0.0 && one->get<double>() < 1e6) {
                request.multiples.push_back(one->get<double>());
            } else {
                asked.fault("‘multiples’ are numbers above 0");
            }
        }
    }
    request.r2MaxFactor = asked.number("r2_max_factor", request.r2MaxFactor);
    if (!(request.r2MaxFactor >= 1.0 && request.r2MaxFactor <= 100.0)) {
        asked.fault("‘r2_max_factor’ is a number from 1 to 100");
    }
    in.close(asked);
    q.leftOut = std::move(request);
}

/// The effect that a request speaks of.
std::string readOf(JsonReader& in) {
    std::string of = in.text("of");
    if (of.empty()) {
        in.fault("‘of’ names the effect that is asked for");
    }
    return of;
}

/// ‘by_lot’, ‘worst_cases’, ‘planned’: what is asked of one effect that has to be defended.
void readDefence(JsonReader& in, Question& q) {
    if (in.has("by_lot")) {
        JsonReader asked(in.at("by_lot"), "by_lot");
        LotRequest request;
        request.of = readOf(asked);
        request.within = asked.texts("within");
        request.by = asked.text("by");
        request.draws = static_cast<int>(asked.whole("draws", request.draws, 99.0, 1e6));
        if (asked.has("seed")) {
            request.seed = static_cast<std::uint64_t>(asked.whole("seed", 1.0, 0.0, most::kCount));
        }
        in.close(asked);
        q.byLot = std::move(request);
    }
    if (in.has("worst_cases")) {
        JsonReader asked(in.at("worst_cases"), "worst_cases");
        WorstCaseRequest request;
        request.of = readOf(asked);
        for (const auto& [key, end] :
             {std::pair{"low", &request.low}, std::pair{"high", &request.high}}) {
            if (asked.has(key)) {
                *end = asked.number(key, 0.0);
            }
        }
        if (request.low && request.high && !(*request.low < *request.high)) {
            asked.fault("‘low’ lies under ‘high’");
        }
        in.close(asked);
        q.worstCases = std::move(request);
    }
    for (const Json* one : in.list("planned")) {
        JsonReader asked(*one, "planned");
        PlannedRequest request;
        request.of = readOf(asked);
        request.effect = asked.number("effect", 0.0);
        request.power = asked.number("power", request.power);
        if (!std::isfinite(request.effect) || request.effect == 0.0) {
            asked.fault("‘effect’ is a number other than 0");
        }
        if (!(request.power > 0.05 && request.power < 0.9999)) {
            asked.fault("‘power’ is a number between 0.05 and 0.9999");
        }
        in.close(asked);
        q.planned.push_back(std::move(request));
    }
}

/// ‘forecast’: how many moments, and how variables go on.
void readForecast(JsonReader& in, Question& q) {
    if (!in.has("forecast")) {
        return;
    }
    JsonReader asked(in.at("forecast"), "forecast");
    ForecastRequest request;
    request.moments = static_cast<int>(asked.whole("moments", request.moments, 1.0, 500.0));
    if (asked.has("terms")) {
        const Json& terms = asked.at("terms");
        if (!terms.is_object()) {
            asked.fault("‘terms’ is an object: how each variable goes on, by its name");
        } else {
            for (const auto& [name, way] : terms.items()) {
                GoesOn goes;
                if (way.is_string() && (way == "last" || way == "mean" || way == "season")) {
                    goes.way = way.get<std::string>();
                } else if (way.is_array() && !way.empty() &&
                           std::all_of(way.begin(), way.end(), [](const Json& x) {
                               return x.is_number() || x.is_string();
                           })) {
                    goes.way = "values";
                    for (const Json& value : way) {
                        goes.values.push_back(value.is_number() ? Key(value.get<double>())
                                                                : Key(value.get<std::string>()));
                    }
                } else {
                    asked.fault("how ‘" + name +
                                "’ goes on is \"last\", \"mean\", \"season\" or a list of values");
                }
                request.terms.emplace(name, std::move(goes));
            }
        }
    }
    in.close(asked);
    q.forecast = std::move(request);
}

/// What becomes of rows that lack an answer.
void readMissing(JsonReader& in, Question& q) {
    q.missing = in.text("missing", q.missing);
    if (q.missing != "rows" && q.missing != "imputed" && q.missing != "weighted") {
        in.fault("‘missing’ is \"rows\", \"imputed\" or \"weighted\"");
    }
    readTerms(in, q.completeBy, "complete_by", false);
    if (q.missing != "weighted" && !q.completeBy.empty()) {
        in.fault("‘complete_by’ foretells which rows are complete, and nothing is weighted by that",
                 "Set ‘missing’ to \"weighted\", or take it out.");
    }
    if (q.missing == "weighted" && q.completeBy.empty()) {
        in.fault(
            "‘missing’ is \"weighted\", and nothing is said to foretell which rows are "
            "complete",
            "Name it in ‘complete_by’.");
    }
}

/// What only questions of other kinds use is refused, with what those do.
void refuseIdleKeys(const QuestionKind& kind, JsonReader& in) {
    const auto uses = [](const QuestionKind& one, const std::string& key) {
        return std::find(one.keys.begin(), one.keys.end(), key) != one.keys.end();
    };
    for (const QuestionKind& other : questionKinds()) {
        for (const char* key : other.keys) {
            if (in.has(key) && !uses(kind, key)) {
                in.fault(std::string("‘") + key + "’ belongs to questions that " + other.does,
                         "This one does not use it: take it out.");
            }
        }
    }
}

}  // namespace

void readExplain(JsonReader& in, Question& q) {
    q.outcome = in.text("outcome");
    readTerms(in, q.terms, "terms", false);
    readTerms(in, q.terms, "muted", true);
    readLeftOut(in, q);
    readDefence(in, q);
    readForecast(in, q);
    readTerms(in, q.endogenous, "endogenous", false);
    readTerms(in, q.instruments, "instruments", false);
    q.fixedEffects = in.texts("fixed_effects");
    q.ownSlopes = in.texts("own_slopes");
    if (!q.instruments.empty() && q.endogenous.empty()) {
        in.fault("‘instruments’ are named, and no term is said to be moved by them",
                 "Name the term in ‘endogenous’.");
    }
    q.intercept = in.flag("intercept", true);
    readErrors(in.at("errors"), q, in);
    readWeights(in.at("weights"), q, in);
    readEstimator(in.at("estimator"), q, in);
    readRequests(in, q);
    q.offset = in.text("offset");
    q.exposure = in.text("exposure");
    readMissing(in, q);
}

Question readQuestion(const Json& json, std::size_t number) {
    Question q;
    q.raw = std::make_shared<const Json>(json);
    JsonReader in(json, "");
    q.id = in.text("id", fmt::format("q{}", number));
    q.kind = in.text("kind", "explain");
    if (q.kind == "relate") {
        q.kind = "correlate";  // As it was called at first.
    }
    q.title = in.text("title");
    q.lead = in.flag("lead", false);
    q.variantOf = in.text("variant_of");
    q.where = in.text("where");
    for (const Json* row : in.list("without")) {
        row->is_number_unsigned() ? q.without.push_back(row->get<std::size_t>())
                                  : in.fault("‘without’ lists rows from 1");
    }
    const QuestionKind* kind = findKind(q.kind);
    if (kind == nullptr) {
        in.fault("there are no questions of kind ‘" + q.kind + "’",
                 "A question is of kind " + kindNames() + ".");
    } else {
        kind->read(in, q);
    }
    readChecks(in.at("checks"), q, in);
    readDecisions(in, q);
    if (kind != nullptr) {
        refuseIdleKeys(*kind, in);
    }
    q.unbuilt = in.refusal();
    q.unknownKeys = in.allUnknown();
    return q;
}

}  // namespace rapporto
