// Writing the study file.
#include "core/base/format.h"
#include "core/io/table_file.h"
#include "core/model/outcome_models.h"
#include "core/study/desk_json.h"
#include "core/study/study.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <iterator>
#include <set>

namespace rapporto {
namespace {

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

/// Members in the given order: those that were read or differ from their default; unknown ones
/// last.
class Writer {
  public:
    explicit Writer(const Json* raw) : raw_(raw != nullptr && raw->is_object() ? raw : nullptr) {}

    void put(const char* key, Json value, const Json& otherwise) {
        known_.emplace_back(key);
        if (value != otherwise) {
            out_[key] = std::move(value);
        } else if (raw_ != nullptr && raw_->contains(key)) {
            // It was written although it says the default: as it stood where it means that still.
            const Json& old = raw_->at(key);
            out_[key] = old.is_null() || old.empty() ? old : std::move(value);
        }
    }

    Json finish() {
        if (raw_ != nullptr) {
            for (const auto& [key, value] : raw_->items()) {
                if (std::find(known_.begin(), known_.end(), key) == known_.end()) {
                    out_[key] = value;
                }
            }
        }
        return std::move(out_);
    }

  private:
    const Json* raw_;
    std::vector<std::string> known_;
    Json out_ = Json::object();
};

/// A nested object with the unknown members of what was read.
Json withUnknown(Json value, const Json* raw, const char* key) {
    if (raw != nullptr && raw->is_object() && raw->contains(key) && raw->at(key).is_object() &&
        value.is_object()) {
        for (const auto& [name, member] : raw->at(key).items()) {
            if (!value.contains(name)) {
                value[name] = member;
            }
        }
    }
    return value;
}

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

Json estimatorJson(const Question& q) {
    Json json{{"method", q.method}};
    if (q.method == "bent-line") {
        json["variable"] = q.settings.variable;
        json["bends"] = q.settings.bends;
        if (!q.settings.start.empty()) {
            json["start"] = q.settings.start;
        }
        if (q.settings.fixed) {
            json["fixed"] = true;
        }
    } else if (q.method == "fuller") {
        json["a"] = q.settings.a;
    } else if (q.method == "gmm") {
        json["steps"] = q.settings.steps;
    } else if (q.method == "difference-gmm" || q.method == "system-gmm") {
        json["steps"] = q.settings.steps;
        json["depth"] = q.settings.depth;
        json["collapsed"] = q.settings.collapsed;
    } else if (q.method == "quantile") {
        json["at"] = q.settings.at.empty() ? std::vector<double>{0.5} : q.settings.at;
    } else if (q.method == "huber" || q.method == "bisquare" || q.method == "mm") {
        if (q.settings.tuning) {
            json[q.method == "huber" ? "k"
                 : q.method == "mm"  ? "efficiency"
                                     : "c"] = *q.settings.tuning;
        }
    } else if (q.method == "negative-binomial") {
        json["form"] = q.settings.form;
    } else if (q.method == "zero-inflated" || q.method == "hurdle" || q.method == "truncated") {
        json["count"] = q.settings.count;
        if (q.settings.form != 2) {
            json["form"] = q.settings.form;
        }
        if (!q.settings.zeroTerms.empty()) {
            json["zero_terms"] = q.settings.zeroTerms;
        }
    } else if (q.method == "logit") {
        if (q.settings.penalised) {
            json["penalised"] = true;
        }
    } else if (isSelection(q.method)) {
        json["seen_terms"] = q.settings.zeroTerms;
    } else if (q.method == "interval") {
        json["upper"] = q.settings.variable;
    } else if (q.method == "tobit") {
        if (q.settings.low) {
            json["low"] = *q.settings.low;
        }
        if (q.settings.high) {
            json["high"] = *q.settings.high;
        }
    } else if (q.method == "event-study") {
        json["variable"] = q.settings.variable;
        json["before"] = q.settings.before;
        json["after"] = q.settings.after;
        json["weighting"] = q.settings.weighting;
        if (q.settings.weighting == "group-time") {
            json["against"] = q.settings.against;
        }
    }
    return withUnknown(std::move(json), q.raw.get(), "estimator");
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

Json questionJson(const Question& q) {
    // What could not be understood is kept to the letter; only its place among the others is ours.
    if (q.unbuilt && q.raw) {
        Json kept = *q.raw;
        kept["title"] = q.title;
        kept["lead"] = q.lead;
        return kept;
    }
    Writer out(q.raw.get());
    Json terms = Json::array();
    Json muted = Json::array();
    for (const Term& term : q.terms) {
        (term.muted ? muted : terms).push_back(termJson(term));
    }
    out.put("id", q.id, nullptr);
    out.put("kind", q.kind, nullptr);
    out.put("title", q.title, "");
    out.put("lead", q.lead, false);
    out.put("variant_of", q.variantOf, "");
    // What an explained outcome always says, a relation does not have.
    const bool relates = q.kind == "relate";
    out.put("outcome", q.outcome, relates ? Json("") : Json());
    out.put("terms", terms, relates ? Json::array() : Json());
    out.put("muted", muted, Json::array());
    out.put("intercept", q.intercept, true);
    const auto listed = [](const std::vector<Term>& list) {
        Json json = Json::array();
        for (const Term& term : list) {
            json.push_back(termJson(term));
        }
        return json;
    };
    out.put("fixed_effects", q.fixedEffects, Json::array());
    out.put("own_slopes", q.ownSlopes, Json::array());
    out.put("endogenous", listed(q.endogenous), Json::array());
    out.put("instruments", listed(q.instruments), Json::array());
    out.put("estimator", estimatorJson(q), Json{{"method", "least-squares"}});
    out.put("errors", errorsJson(q.errors), Json{{"kind", "classical"}});
    out.put("weights",
            q.weightKind == WeightKind::None
                ? Json()
                : Json{{"kind", weightName(q.weightKind)}, {"variable", q.weight}},
            Json());
    out.put("offset", q.offset, "");
    out.put("exposure", q.exposure, "");
    out.put("variables", q.variables, Json::array());
    out.put("holding", q.holding, Json::array());
    out.put("coefficient", q.coefficient, "pearson");
    out.put("sides", q.sides, "two");
    out.put("missing", q.listwise ? "listwise" : "pairwise", "pairwise");
    out.put("where", q.where, "");
    out.put("without", q.without, Json::array());
    out.put("checks", checksJson(q), "all");
    out.put("effects", effectsJson(q), Json::array());
    out.put("predict", predictJson(q), Json::array());
    out.put("hypotheses", q.hypotheses, Json::array());
    out.put("decisions", decisionsJson(q), Json::array());
    out.put("chosen", chosenJson(q), Json());
    return out.finish();
}

Json variableJson(const VariableEntry& v) {
    Json json{{"name", v.name}};
    if (v.label) {
        json["label"] = *v.label;
    }
    if (v.unit) {
        json["unit"] = *v.unit;
    }
    if (v.measure) {
        json["measure"] = measureName(*v.measure);
    }
    if (v.missing) {
        json["missing"] = Json::array();
        for (const Key& key : *v.missing) {
            json["missing"].push_back(keyJson(key));
        }
    }
    if (v.missingRanges) {
        json["missing_ranges"] = Json::array();
        for (const KeyRange& range : *v.missingRanges) {
            json["missing_ranges"].push_back(Json::array({range.low, range.high}));
        }
    }
    if (v.levels) {
        json["levels"] = Json::array();
        for (const Level& level : *v.levels) {
            json["levels"].push_back(Json{{"value", keyJson(level.value)}, {"label", level.label}});
        }
    }
    if (v.base) {
        json["base"] = keyJson(*v.base);
    }
    if (v.note) {
        json["note"] = *v.note;
    }
    return json;
}

Json variablesJson(const Study& study) {
    Json list = Json::array();
    for (const VariableEntry& v : study.variables) {
        Json json = variableJson(v);
        // A later version's words about the same variable stay with it.
        if (study.raw && study.raw->contains("variables") &&
            study.raw->at("variables").is_array()) {
            for (const Json& old : study.raw->at("variables")) {
                if (old.is_object() && old.value("name", "") == v.name) {
                    for (const auto& [key, value] : old.items()) {
                        static const std::set<std::string> kKnown = {
                            "label",   "unit",           "measure", "note",
                            "missing", "missing_ranges", "levels",  "base"};
                        if (!json.contains(key) && !kKnown.contains(key)) {
                            json[key] = value;
                        }
                    }
                }
            }
        }
        list.push_back(std::move(json));
    }
    return list;
}

Json readerJson(const Source& source) {
    const ReaderOptions& r = source.reader;
    Json json{{"type", formatOf(source.file, r.type)->type}};
    const auto say = [&](const char* key, const std::string& words) {
        if (!words.empty()) {
            json[key] = words;
        }
    };
    const auto put = [&](const char* key, const std::optional<char>& c) {
        if (c) {
            json[key] = std::string(1, *c);
        }
    };
    put("delimiter", r.delimiter);
    put("decimal", r.decimal);
    put("thousands", r.thousands);
    if (r.header) {
        json["header"] = *r.header;
    }
    if (r.encoding) {
        json["encoding"] = *r.encoding;
    }
    if (r.quote != '"') {
        json["quote"] = std::string(1, r.quote);
    }
    if (r.skip > 0) {
        json["skip"] = r.skip;
    }
    say("sheet", r.sheet);
    say("block", r.block);
    say("table", r.table);
    say("query", r.query);
    if (r.patience != ReaderOptions().patience) {
        json["patience"] = r.patience;
    }
    for (const LineRepair& repair : r.repairs) {
        json["repairs"].push_back(Json{{"line", repair.line}, {"text", repair.text}});
    }
    return json;
}

Json rowsJson(const Eigen::MatrixXd& matrix) {
    Json rows = Json::array();
    for (Eigen::Index i = 0; i < matrix.rows(); ++i) {
        Json row = Json::array();
        for (Eigen::Index j = 0; j <= i; ++j) {
            row.push_back(matrix(i, j));
        }
        rows.push_back(std::move(row));
    }
    return rows;
}

Json momentsJson(const SummaryMatrix& m) {
    const auto list = [](const Eigen::VectorXd& v) {
        return Json(std::vector<double>(v.begin(), v.end()));
    };
    Json json{{"kind", "summary"}, {"n", m.n}, {"variables", m.names}};
    if (m.n == std::floor(m.n) && m.n < 9e15) {
        json["n"] = static_cast<std::int64_t>(m.n);
    }
    if (m.hasMeans) {
        json["mean"] = list(m.mean);
    }
    if (m.hasScale) {
        json["sd"] = list(m.sd);
    }
    json["correlation"] = rowsJson(m.correlation);
    return json;
}

/// Without what an inline summary does not have.
Json tableJson(const Source& s) {
    if (s.moments) {
        return momentsJson(*s.moments);
    }
    Json json{{"kind", s.kind}, {"file", s.file}, {"reader", readerJson(s)}};
    if (!s.sha256.empty()) {
        json["sha256"] = s.sha256;
    }
    if (!s.seen.empty()) {
        Json columns = Json::array();
        for (const SeenColumn& column : s.seen) {
            columns.push_back(Json{{"name", column.name},
                                   {"cells", column.text ? "text" : "number"},
                                   {"checksum", column.checksum}});
        }
        json["seen"] = Json{{"rows", s.seenRows}, {"columns", columns}};
    }
    return json;
}

Json sourceJson(const Study& study) {
    Json json = withUnknown(tableJson(study.source), study.raw.get(), "source");
    if (study.source.moments) {
        // Covariances were read as correlations and standard deviations: said once, not twice.
        json.erase("covariance");
    }
    return json;
}

Json keptJson(const std::vector<KeptColumn>& all) {
    Json kept = Json::array();
    for (const KeptColumn& c : all) {
        Json one{{"name", c.name}, {"label", c.label}, {"unit", c.unit}};
        one["what"] = c.what;
        one["question"] = c.question;
        if (!c.grouping.empty()) {
            one["grouping"] = c.grouping;
        }
        // One text: a list would take a line a row.
        fmt::memory_buffer values;
        for (const double v : *c.values) {
            fmt::format_to(std::back_inserter(values), "{}{}", values.size() > 0 ? " " : "",
                           std::isnan(v) ? std::string(".") : fmt::format("{}", v));
        }
        one["values"] = fmt::to_string(values);
        kept.push_back(std::move(one));
    }
    return kept;
}

Json derivedJson(const std::vector<Derived>& all) {
    Json derived = Json::array();
    for (const Derived& d : all) {
        Json one{{"name", d.name}, {"expression", d.expression}};
        if (!d.label.empty()) {
            one["label"] = d.label;
        }
        derived.push_back(std::move(one));
    }
    return derived;
}

/// A later version's words about a step stay with it while it stands where it was read.
void carryIntoStep(const Study& study, std::size_t place, Json& step) {
    static const std::set<std::string> kKnown = {"kind",    "file",   "reader",    "sha256",
                                                 "seen",    "mark",   "by",        "take",
                                                 "columns", "moment", "variables", "unit"};
    if (!study.raw || !study.raw->contains("shape") || !study.raw->at("shape").is_array() ||
        place >= study.raw->at("shape").size()) {
        return;
    }
    const Json& old = study.raw->at("shape")[place];
    const std::string name = step.items().begin().key();
    if (old.is_object() && old.contains(name) && old.at(name).is_object()) {
        for (const auto& [key, value] : old.at(name).items()) {
            if (!kKnown.contains(key) && !step.at(name).contains(key)) {
                step.at(name)[key] = value;
            }
        }
    }
}

struct StepJson {
    Json operator()(const AppendStep& step) const {
        Json json = other(step.other);
        if (!step.mark.empty()) {
            json["mark"] = step.mark;
        }
        return Json{{"append", json}};
    }

    Json operator()(const JoinStep& step) const {
        Json json = other(step.other);
        json["by"] = Json::array();
        for (const KeyPair& pair : step.by) {
            json["by"].push_back(pair.here == pair.there
                                     ? Json(pair.here)
                                     : Json{{"here", pair.here}, {"there", pair.there}});
        }
        if (!step.take.empty()) {
            json["take"] = step.take;
        }
        return Json{{"join", json}};
    }

    Json operator()(const CollapseStep& step) const {
        return Json{{"collapse", Json{{"by", step.by}, {"columns", derivedJson(step.columns)}}}};
    }

    Json operator()(const LongStep& step) const {
        Json variables = Json::array();
        for (const LongVariable& variable : step.variables) {
            Json columns = Json::array();
            for (const ColumnAt& one : variable.columns) {
                columns.push_back(Json{{"column", one.column}, {"at", keyJson(one.at)}});
            }
            variables.push_back(Json{{"name", variable.name}, {"columns", columns}});
        }
        return Json{{"to_long", Json{{"moment", step.moment}, {"variables", variables}}}};
    }

    Json operator()(const WideStep& step) const {
        return Json{
            {"to_wide",
             Json{{"unit", step.unit}, {"moment", step.moment}, {"variables", step.variables}}}};
    }

    static Json other(const Source& source) {
        Json json = tableJson(source);
        json.erase("kind");
        return json;
    }
};

Json surveyJson(const Survey& survey) {
    Json json = Json::object();
    const auto put = [&](const char* key, const std::string& name) {
        json[key] = name.empty() ? Json(nullptr) : Json(name);
    };
    put("weight", survey.weight);
    put("strata", survey.strata);
    put("cluster", survey.cluster);
    put("population", survey.population);
    if (survey.lonely != Survey{}.lonely) {
        json["lonely"] = survey.lonely;
    }
    if (!survey.replicates.empty()) {
        json["replicates"] = survey.replicates;
        json["replicate_kind"] = survey.replicateKind;
        if (survey.fay != 0.0) {
            json["fay"] = survey.fay;
        }
        if (survey.scale) {
            json["replicate_scale"] = *survey.scale;
        }
    }
    if (const auto number = Expression::parse(survey.population);
        number && number->root().kind == Node::Kind::Number) {
        json["population"] = number->root().number;
    }
    return json;
}

Json layoutJson(const Layout& layout) {
    if (layout.kind == Layout::Kind::CrossSection) {
        return Json{{"kind", "cross-section"}};
    }
    Json json = {{"kind", layout.kind == Layout::Kind::Panel ? "panel" : "series"}};
    if (layout.kind == Layout::Kind::Panel) {
        json["unit"] = layout.unit;
    }
    json["time"] = layout.time;
    if (!layout.frequency.empty()) {
        json["frequency"] = layout.frequency;
    }
    return json;
}

Json sampleJson(const Study& study) {
    Json json = Json::object();
    if (!study.sample.where.empty()) {
        json["where"] = study.sample.where;
    }
    if (!study.sample.setAside.empty()) {
        json["set_aside"] = Json::array();
        for (const SetAside& s : study.sample.setAside) {
            json["set_aside"].push_back(Json{{"row", s.row}, {"reason", s.reason}});
        }
    }
    return json;
}

void render(const Json& json, int indent, std::string& out) {
    const std::string pad(static_cast<std::size_t>(indent) + 2, ' ');
    const std::string flat = json.dump();
    const bool objects =
        json.is_array() &&
        std::any_of(json.begin(), json.end(), [](const Json& j) { return j.is_structured(); });
    if (!json.is_structured() || json.empty() ||
        (indent > 0 && flat.size() + pad.size() <= 140 && !objects)) {
        // The flat form with a space after separators outside of texts.
        bool quoted = false;
        for (std::size_t i = 0; i < flat.size(); ++i) {
            out += flat[i];
            if (quoted && flat[i] == '\\') {
                out += flat[++i];  // An escaped character never ends a text.
                continue;
            }
            if (flat[i] == '"') {
                quoted = !quoted;
            }
            if (!quoted && (flat[i] == ',' || flat[i] == ':')) {
                out += ' ';
            }
        }
        return;
    }
    const bool object = json.is_object();
    out += object ? "{\n" : "[\n";
    std::size_t left = json.size();
    for (const auto& [key, value] : json.items()) {
        out += pad;
        if (object) {
            out += Json(key).dump() + ": ";
        }
        render(value, indent + 2, out);
        out += --left > 0 ? ",\n" : "\n";
    }
    out += std::string(static_cast<std::size_t>(indent), ' ') + (object ? "}" : "]");
}

}  // namespace

std::string prettyJson(const nlohmann::ordered_json& json) {
    std::string out;
    render(json, 0, out);
    return out + "\n";
}

nlohmann::ordered_json studyJson(const Study& study) {
    Writer out(study.raw.get());
    out.put("format", "rapporto-study", nullptr);
    out.put("version", 1, nullptr);
    out.put("title", study.title, nullptr);
    out.put("alpha", study.alpha, nullptr);
    out.put("seed", study.seed, 1);
    out.put("source", sourceJson(study), nullptr);
    Json shape = Json::array();
    for (std::size_t k = 0; k < study.shape.size(); ++k) {
        shape.push_back(std::visit(StepJson{}, study.shape[k]));
        carryIntoStep(study, k, shape.back());
    }
    out.put("shape", shape, Json::array());
    out.put("variables", variablesJson(study), Json::array());
    out.put("layout", layoutJson(study.layout), nullptr);
    out.put("survey", withUnknown(surveyJson(study.survey), study.raw.get(), "survey"),
            surveyJson(Survey{}));
    Json sets = Json::array();
    for (const TermSet& s : study.sets) {
        sets.push_back(Json{{"name", s.name}, {"members", s.members}});
    }
    out.put("sets", sets, Json::array());
    out.put("derived", derivedJson(study.derived), Json::array());
    out.put("kept", keptJson(study.kept), Json::array());
    out.put("sample", sampleJson(study), Json::object());
    Json questions = Json::array();
    for (const Question& q : study.questions) {
        questions.push_back(questionJson(q));
    }
    out.put("questions", questions, nullptr);
    out.put("desk", withUnknown(deskJson(study.desk), study.raw.get(), "desk"), deskJson({}));
    Json report = Json::array();
    for (const ReportItem& item : study.report) {
        report.push_back(Json{{"item", item.item}, {"questions", item.questions}});
    }
    out.put("report", report, Json::array());
    Json trail = Json::array();
    for (const TrailStep& step : study.trail) {
        trail.push_back(Json{{"at", step.at}, {"did", step.did}});
    }
    out.put("trail", trail, Json::array());
    return out.finish();
}

std::string studyText(const Study& study) { return prettyJson(studyJson(study)); }

std::string sourceText(const Source& source) { return tableJson(source).dump(); }

std::string questionText(const Question& question) { return questionJson(question).dump(); }

Result<Written> writeStudyFile(const Study& study, const std::string& path, Disk& disk) {
    return replaceFile(path, studyText(study), disk);
}

}  // namespace rapporto
