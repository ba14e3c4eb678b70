// Writing the study file.
#include "core/base/format.h"
#include "core/io/table_file.h"
#include "core/study/desk_json.h"
#include "core/study/question_codec.h"
#include "core/study/report_json.h"
#include "core/study/study.h"
#include "core/study/unknown_keys.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <iterator>
#include <set>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

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
    if (v.readAs) {
        json["read_as"] = Json::array();
        for (const ReadAs& one : *v.readAs) {
            json["read_as"].push_back(Json{{"from", keyJson(one.from)}, {"to", keyJson(one.to)}});
        }
    }
    if (v.note) {
        json["note"] = *v.note;
    }
    return json;
}

Json variablesJson(const Study& study) {
    Json list = Json::array();
    for (const VariableEntry& v : study.variables) {
        list.push_back(variableJson(v));
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
    say("service", r.service);
    if (r.patience != ReaderOptions().patience) {
        json["patience"] = r.patience;
    }
    if (!r.missing.empty()) {
        json["missing"] = r.missing;
    }
    if (r.keepSpaces) {
        json["keep_spaces"] = true;
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
    Json json{{"kind", s.kind}};
    if (!isServed(s.reader)) {
        json["file"] = s.file;
    }
    json["reader"] = readerJson(s);
    if (s.reader.left) {
        json["rows"] = "left";
    }
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

/// Without members where nothing is filled in.
Json imputationJson(const ImputationSpec& spec) {
    const ImputationSpec usual;
    if (!spec.isDeclared()) {
        return Json::object();
    }
    Json json{{"variables", spec.variables}};
    if (!spec.with.empty()) {
        json["with"] = spec.with;
    }
    json["sets"] = spec.sets;
    if (spec.rounds != usual.rounds) {
        json["rounds"] = spec.rounds;
    }
    if (spec.donors != usual.donors) {
        json["donors"] = spec.donors;
    }
    if (spec.seed) {
        json["seed"] = *spec.seed;
    }
    if (!spec.by.empty()) {
        json["by"] = spec.by;
    }
    return json;
}

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
    for (const KnownTotal& target : survey.targets) {
        Json one = {{"variable", target.variable}};
        if (target.mean) {
            one["mean"] = *target.mean;
        }
        for (const auto& [level, share] : target.shares) {
            one["shares"][level] = share;
        }
        json["targets"].push_back(std::move(one));
    }
    if (survey.calibration != Survey{}.calibration) {
        json["calibration"] = survey.calibration;
    }
    if (survey.bounds) {
        json["bounds"] = {survey.bounds->first, survey.bounds->second};
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
    if (!study.sample.accepted.empty()) {
        json["accepted"] = Json::array();
        for (const AcceptedOddity& one : study.sample.accepted) {
            json["accepted"].push_back(Json{{"odd", one.odd}, {"reason", one.reason}});
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
    JsonWriter out(study.raw.get());
    out.put("format", "rapporto-study", nullptr);
    out.put("version", 1, nullptr);
    out.put("title", study.title, nullptr);
    out.put("alpha", study.alpha, nullptr);
    out.put("seed", study.seed, 1);
    out.put("source", tableJson(study.source), nullptr);
    Json shape = Json::array();
    for (const ShapeStep& step : study.shape) {
        shape.push_back(std::visit(StepJson{}, step));
    }
    out.put("shape", shape, Json::array());
    out.put("variables", variablesJson(study), Json::array());
    out.put("layout", layoutJson(study.layout), nullptr);
    out.put("survey", surveyJson(study.survey), surveyJson(Survey{}));
    out.put("imputation", imputationJson(study.imputation), imputationJson(ImputationSpec{}));
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
    out.put("desk", deskJson(study.desk), deskJson({}));
    Json report = Json::array();
    for (const ReportItem& item : study.report) {
        report.push_back(reportItemJson(item));
    }
    out.put("report", report, Json::array());
    out.put("report_style", reportStyleJson(study.reportStyle), Json::object());
    Json trail = Json::array();
    for (const TrailStep& step : study.trail) {
        trail.push_back(Json{{"at", step.at}, {"did", step.did}});
    }
    out.put("trail", trail, Json::array());
    Json json = out.finish();
    carryUnknown(json, study.raw.get(), study.unknownKeys);
    return json;
}

std::string studyText(const Study& study) { return prettyJson(studyJson(study)); }

std::string sourceText(const Source& source) { return tableJson(source).dump(); }

Result<Written> writeStudyFile(const Study& study, const std::string& path, Disk& disk) {
    return replaceFile(path, studyText(study), disk);
}

}  // namespace rapporto
