// Reading the study file.
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/json_shape.h"
#include "core/impute/sets.h"
#include "core/io/table_file.h"
#include "core/study/desk_json.h"
#include "core/study/json_reader.h"
#include "core/study/question_codec.h"
#include "core/study/report_json.h"
#include "core/study/study.h"

#include <fast_float/fast_float.h>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

tl::unexpected<Refusal> bad(const std::string& where, const std::string& what,
                            const std::string& help = {}) {
    return refuse(ErrorCode::BadSetting, what, where, help);
}

std::optional<Measure> measureNamed(const std::string& name) {
    for (const Measure m : {Measure::Quantity, Measure::Count, Measure::YesNo, Measure::Groups,
                            Measure::OrderedGroups, Measure::Date, Measure::Text}) {
        if (measureName(m) == name) {
            return m;
        }
    }
    return std::nullopt;
}

VariableEntry readVariable(const Json& json, JsonReader& outer) {
    JsonReader in(json, "variables");
    VariableEntry entry;
    entry.name = in.text("name");
    if (entry.name.empty()) {
        in.fault("a variable needs its ‘name’");
    }
    const auto optionalText = [&](const char* key) {
        const std::string value = in.text(key);
        return in.has(key) ? std::optional(value) : std::nullopt;
    };
    entry.label = optionalText("label");
    entry.unit = optionalText("unit");
    entry.note = optionalText("note");
    if (const std::string name = in.text("measure"); !name.empty()) {
        entry.measure = measureNamed(name);
        if (!entry.measure) {
            in.fault(
                "‘" + name + "’ is no measure",
                "Measures are quantity, count, yes-no, groups, ordered-groups, date and text.");
        }
    }
    const auto missing = in.list("missing");
    if (in.has("missing")) {
        entry.missing.emplace();
        for (const Json* one : missing) {
            const auto key = keyOf(*one);
            key ? entry.missing->push_back(*key) : in.fault("a missing code is a number or a text");
        }
    }
    const auto ranges = in.list("missing_ranges");
    if (in.has("missing_ranges")) {
        entry.missingRanges.emplace();
        for (const Json* one : ranges) {
            const bool fits = one->is_array() && one->size() == 2 && one->at(0).is_number() &&
                              one->at(1).is_number();
            fits ? entry.missingRanges->push_back(
                       {one->at(0).get<double>(), one->at(1).get<double>()})
                 : in.fault("a missing range is a pair of numbers");
        }
    }
    const auto levels = in.list("levels");
    if (in.has("levels")) {
        entry.levels.emplace();
        for (const Json* one : levels) {
            JsonReader level(*one, "levels of " + entry.name);
            const auto key = keyOf(level.at("value"));
            const std::string label = level.text("label");
            key ? entry.levels->push_back({*key, label}) : level.fault("a level needs its ‘value’");
            in.close(level);
        }
    }
    entry.base = keyOf(in.at("base"));
    const auto readAs = in.list("read_as");
    if (in.has("read_as")) {
        entry.readAs.emplace();
        for (const Json* one : readAs) {
            JsonReader pair(*one, "read_as of " + entry.name);
            const auto from = keyOf(pair.at("from"));
            const auto to = keyOf(pair.at("to"));
            from&& to ? entry.readAs->push_back({*from, *to})
                      : pair.fault("a value read as another needs ‘from’ and ‘to’");
            in.close(pair);
        }
    }
    outer.close(in);
    return entry;
}

std::optional<char> readerChar(JsonReader& in, const char* key) {
    const std::string text = in.text(key);
    if (text.size() > 1) {
        in.fault(fmt::format("‘{}’ is one character", key));
    }
    return text.empty() ? std::nullopt : std::optional(text.front());
}

/// Whether rows stay where they are.
bool readsLeft(JsonReader& in) {
    const std::string rows = in.text("rows", "fetched");
    if (rows != "fetched" && rows != "left") {
        in.fault("‘rows’ is \"fetched\" or \"left\"");
    }
    return rows == "left";
}

ReaderOptions readReader(const Json& json, const std::string& file, JsonReader& outer) {
    ReaderOptions options;
    JsonReader reader(json, "source.reader");
    options.type = reader.text("type");
    if (formatOf(file, options.type) == nullptr) {
        reader.fault("a reader of type ‘" + options.type + "’ is not known",
                     "Types are " + tableTypes() + ".");
    }
    options.delimiter = readerChar(reader, "delimiter");
    options.decimal = readerChar(reader, "decimal");
    options.thousands = readerChar(reader, "thousands");
    options.quote = readerChar(reader, "quote").value_or('"');
    if (reader.has("header")) {
        options.header = reader.flag("header", true);
    }
    if (const std::string encoding = reader.text("encoding"); !encoding.empty()) {
        options.encoding = encoding;
    }
    options.skip = static_cast<std::size_t>(reader.whole("skip", 0.0, 0.0, most::kCount));
    options.patience = reader.number("patience", options.patience);
    if (!(options.patience >= 0.0)) {
        reader.fault("‘patience’ is a number of seconds, 0 for without end");
    }
    options.sheet = reader.text("sheet");
    options.block = reader.text("block");
    options.table = reader.text("table");
    options.query = reader.text("query");
    options.service = reader.text("service");
    options.left = readsLeft(reader);
    options.missing = reader.texts("missing");
    options.keepSpaces = reader.flag("keep_spaces", false);
    for (const Json* one : reader.list("repairs")) {
        JsonReader repair(*one, "source.reader.repairs");
        const double line = repair.number("line", 0.0);
        if (!(line >= 1.0 && line < 1e15)) {
            repair.fault("a repair names its ‘line’, from 1");
        }
        options.repairs.push_back(
            {static_cast<std::size_t>(std::clamp(line, 1.0, 1e15)), repair.text("text")});
        reader.close(repair);
    }
    outer.close(reader);
    return options;
}

/// A list of numbers; null stands for a number that was not given.
std::vector<double> numbersIn(const std::vector<const Json*>& list, JsonReader& in,
                              const char* key) {
    std::vector<double> out;
    for (const Json* one : list) {
        if (!one->is_number() && !one->is_null()) {
            in.fault(fmt::format("‘{}’ is a list of numbers", key));
        }
        out.push_back(one->is_number() ? one->get<double>() : std::nan(""));
    }
    return out;
}

std::vector<std::vector<double>> matrixIn(JsonReader& in, const char* key) {
    std::vector<std::vector<double>> out;
    for (const Json* row : in.list(key)) {
        if (!row->is_array()) {
            in.fault(fmt::format("‘{}’ is a list of rows", key));
            return out;
        }
        std::vector<const Json*> cells;
        for (const Json& cell : *row) {
            cells.push_back(&cell);
        }
        out.push_back(numbersIn(cells, in, key));
    }
    return out;
}

void readSummary(JsonReader& in, Source& source) {
    if (!source.file.empty()) {
        return;
    }
    MomentEntries entries;
    entries.n = in.number("n", 0.0);
    entries.names = in.texts("variables");
    entries.mean = numbersIn(in.list("mean"), in, "mean");
    entries.sd = numbersIn(in.list("sd"), in, "sd");
    entries.correlation = matrixIn(in, "correlation");
    entries.covariance = matrixIn(in, "covariance");
    if (!in.refusal()) {
        auto moments = makeMoments(entries);
        moments ? void(source.moments = *std::move(moments)) : in.adopt(moments.error());
    }
}

Source readSource(const Json& json, JsonReader& outer, const char* where = "source") {
    Source source;
    JsonReader in(json, where);
    source.kind = in.text("kind", "table");
    source.file = in.text("file");
    source.sha256 = in.text("sha256");
    if (source.kind != "table" && source.kind != "summary") {
        in.fault("a source of kind ‘" + source.kind + "’ is not known",
                 "Kinds are table and summary.");
    } else if (source.kind == "summary") {
        readSummary(in, source);
    }
    if (in.has("reader")) {
        source.reader = readReader(in.at("reader"), source.file, in);
    }
    if (in.has("query") && source.reader.query.empty()) {
        source.reader.query = in.text("query");
    }
    source.reader.left = readsLeft(in) || source.reader.left;
    if (source.reader.left && source.kind == "summary") {
        in.fault("a summary has no rows that could be left", "Take ‘rows’ out.");
    }
    if (in.has("seen")) {
        JsonReader seen(in.at("seen"), "source.seen");
        source.seenRows = static_cast<std::size_t>(std::clamp(seen.number("rows", 0.0), 0.0, 1e15));
        for (const Json* one : seen.list("columns")) {
            JsonReader column(*one, "source.seen");
            source.seen.push_back(
                {column.text("name"), column.text("cells") == "text", column.text("checksum")});
            seen.close(column);
        }
        in.close(seen);
    }
    outer.close(in);
    return source;
}

/// Numbers with spaces between; a full stop is a missing one.
std::shared_ptr<const std::vector<double>> readValues(const std::string& text, JsonReader& in) {
    auto out = std::make_shared<std::vector<double>>();
    const char* at = text.data();
    const char* end = at + text.size();
    while (at != end) {
        if (*at == ' ') {
            ++at;
            continue;
        }
        const char* stop = std::find(at, end, ' ');
        double value = std::numeric_limits<double>::quiet_NaN();
        if (stop - at != 1 || *at != '.') {
            const auto read = fast_float::from_chars(at, stop, value);
            if (read.ec != std::errc() || read.ptr != stop) {
                in.fault("‘values’ holds ‘" + std::string(at, stop) + "’, which is no number");
                return out;
            }
        }
        out->push_back(value);
        at = stop;
    }
    return out;
}

KeptColumn readKept(const Json& json, JsonReader& outer) {
    JsonReader in(json, "kept");
    KeptColumn out{in.text("name"),     in.text("label"),    in.text("unit"), in.text("what"),
                   in.text("question"), in.text("grouping"), nullptr};
    out.values = readValues(in.text("values"), in);
    if (out.name.empty()) {
        in.fault("a kept column needs ‘name’");
    }
    outer.close(in);
    return out;
}

Derived readDerived(const Json& json, const char* where, JsonReader& outer) {
    JsonReader d(json, where);
    Derived derived{d.text("name"), d.text("expression"), d.text("label")};
    if (derived.name.empty() || derived.expression.empty()) {
        d.fault("a derived variable needs ‘name’ and ‘expression’");
    }
    outer.close(d);
    return derived;
}

std::vector<LongVariable> readLongVariables(JsonReader& in) {
    std::vector<LongVariable> variables;
    for (const Json* one : in.list("variables")) {
        JsonReader variable(*one, "shape.to_long");
        LongVariable found{variable.text("name"), {}};
        for (const Json* column : variable.list("columns")) {
            JsonReader place(*column, "shape.to_long");
            const auto at = keyOf(place.at("at"));
            const std::string name = place.text("column");
            at ? found.columns.push_back({name, *at})
               : place.fault("a column names the moment it was measured ‘at’");
            variable.close(place);
        }
        in.close(variable);
        variables.push_back(std::move(found));
    }
    return variables;
}

JoinStep readJoin(const Json& json, JsonReader& in) {
    JoinStep step{readSource(json, in, "shape.join"), {}, in.texts("take")};
    for (const Json* one : in.list("by")) {
        if (one->is_string()) {
            step.by.push_back({one->get<std::string>(), one->get<std::string>()});
            continue;
        }
        JsonReader pair(*one, "shape.join");
        step.by.push_back({pair.text("here"), pair.text("there")});
        in.close(pair);
    }
    return step;
}

std::optional<ShapeStep> readShapeStep(const Json& json, JsonReader& outer) {
    JsonReader step(json, "shape");
    std::optional<ShapeStep> out;
    const auto within = [&](const char* key, auto read) {
        if (!out && step.has(key)) {
            const Json& inner = step.at(key);
            JsonReader in(inner, std::string("shape.") + key);
            out = read(inner, in);
            step.close(in);
        }
    };
    within("append", [](const Json& inner, JsonReader& in) -> ShapeStep {
        return AppendStep{readSource(inner, in, "shape.append"), in.text("mark")};
    });
    within("join",
           [](const Json& inner, JsonReader& in) -> ShapeStep { return readJoin(inner, in); });
    within("collapse", [](const Json&, JsonReader& in) -> ShapeStep {
        CollapseStep collapse{in.texts("by"), {}};
        for (const Json* one : in.list("columns")) {
            collapse.columns.push_back(readDerived(*one, "shape.collapse", in));
        }
        return collapse;
    });
    within("to_long", [](const Json&, JsonReader& in) -> ShapeStep {
        return LongStep{in.text("moment"), readLongVariables(in)};
    });
    within("to_wide", [](const Json&, JsonReader& in) -> ShapeStep {
        return WideStep{in.text("unit"), in.text("moment"), in.texts("variables")};
    });
    if (!out) {
        step.fault("a step of the shape is not known",
                   "Steps are append, join, collapse, to_long and to_wide.");
    }
    outer.close(step);
    return out;
}

Layout readLayout(const Json& json, JsonReader& outer) {
    Layout layout;
    JsonReader in(json, "layout");
    const std::string kind = in.text("kind", "cross-section");
    layout.unit = in.text("unit");
    layout.time = in.text("time");
    layout.frequency = in.text("frequency");
    if (!layout.frequency.empty() && !isFrequency(layout.frequency)) {
        in.fault("‘" + layout.frequency + "’ is no frequency",
                 "Frequencies are year, half, quarter, month, week, day, number and order.");
    }
    if (kind == "series") {
        layout.kind = Layout::Kind::Series;
    } else if (kind == "panel") {
        layout.kind = Layout::Kind::Panel;
    } else if (kind != "cross-section") {
        in.fault("‘" + kind + "’ is no layout", "Layouts are cross-section, series and panel.");
    }
    outer.close(in);
    return layout;
}

/// Known totals: the shares of levels, or a mean.
KnownTotal readTarget(const Json& json, JsonReader& outer) {
    KnownTotal target;
    JsonReader in(json, "survey.targets");
    target.variable = in.text("variable");
    const Json& shares = in.at("shares");
    if (target.variable.empty()) {
        in.fault("a target names its ‘variable’");
    }
    if (in.has("mean")) {
        target.mean = in.number("mean", 0.0);
    }
    if (in.has("mean") == in.has("shares")) {
        in.fault("a target has either ‘shares’ or a ‘mean’",
                 "As {\"variable\": \"zone\", \"shares\": {\"Ridge\": 0.2, \"Plain\": 0.8}}.");
    } else if (!shares.is_null() && (!shares.is_object() || shares.empty())) {
        in.fault("‘shares’ is an object: {\"Ridge\": 0.2, \"Plain\": 0.8}");
    } else if (!shares.is_null()) {
        for (const auto& [level, share] : shares.items()) {
            if (!share.is_number()) {
                in.fault("the share of ‘" + level + "’ is a number");
                break;
            }
            target.shares.emplace_back(level, share.get<double>());
        }
    }
    outer.close(in);
    return target;
}

Survey readSurvey(const Json& json, JsonReader& outer) {
    Survey survey;
    JsonReader in(json, "survey");
    survey.weight = in.text("weight");
    survey.strata = in.text("strata");
    survey.cluster = in.text("cluster");
    const Json& population = in.at("population");
    if (population.is_number()) {
        survey.population = exactNumber(population.get<double>());
    } else {
        survey.population = in.text("population");
    }
    survey.lonely = in.text("lonely", survey.lonely);
    if (survey.lonely != "centred" && survey.lonely != "skipped" && survey.lonely != "refused") {
        in.fault("‘lonely’ is \"centred\", \"skipped\" or \"refused\"");
    }
    survey.replicates = in.texts("replicates");
    survey.replicateKind = in.text("replicate_kind", survey.replicateKind);
    if (survey.replicateKind != "jackknife" && survey.replicateKind != "balanced" &&
        survey.replicateKind != "bootstrap") {
        in.fault("‘replicate_kind’ is \"jackknife\", \"balanced\" or \"bootstrap\"");
    }
    survey.fay = in.number("fay", survey.fay);
    if (!(survey.fay >= 0.0 && survey.fay < 1.0)) {
        in.fault("‘fay’ is a number from 0 to under 1");
    }
    if (in.has("replicate_scale")) {
        survey.scale = in.number("replicate_scale", 1.0);
        if (!(*survey.scale > 0.0)) {
            in.fault("‘replicate_scale’ is a number above 0");
        }
    }
    for (const Json* one : in.list("targets", most::kTerms)) {
        survey.targets.push_back(readTarget(*one, in));
    }
    survey.calibration = in.text("calibration", survey.calibration);
    if (survey.calibration != "raking" && survey.calibration != "linear") {
        in.fault("‘calibration’ is \"raking\" or \"linear\"");
    }
    if (in.has("bounds")) {
        const Json& bounds = in.at("bounds");
        if (bounds.is_array() && bounds.size() == 2 && bounds[0].is_number() &&
            bounds[1].is_number()) {
            survey.bounds = {bounds[0].get<double>(), bounds[1].get<double>()};
        } else {
            in.fault("‘bounds’ are two numbers: [0.3, 3]");
        }
    }
    outer.close(in);
    return survey;
}

/// What is filled in, by what, and how often.
ImputationSpec readImputation(const Json& json, JsonReader& outer) {
    ImputationSpec spec;
    JsonReader in(json, "imputation");
    spec.variables = in.texts("variables");
    spec.with = in.texts("with");
    std::set<std::string> known;
    for (const std::string& name : spec.variables) {
        if (!known.insert(name).second) {
            in.fault("‘" + name + "’ stands twice among ‘variables’", "Name it once.");
        }
    }
    if (spec.variables.empty()) {
        in.fault("‘variables’ names what is filled in",
                 "As {\"variables\": [\"income\"], \"with\": [\"age\", \"zone\"]}.");
    }
    spec.sets = static_cast<int>(in.whole("sets", spec.sets, 2, 1000));
    spec.rounds = static_cast<int>(in.whole("rounds", spec.rounds, 1, 1000));
    spec.donors = static_cast<int>(in.whole("donors", spec.donors, 1, 100));
    if (in.has("seed")) {
        spec.seed = static_cast<std::uint64_t>(in.whole("seed", 1.0, 0.0, most::kCount));
    }
    const Json& by = in.at("by");
    if (!by.is_null() && !by.is_object()) {
        in.fault("‘by’ is an object: {\"income\": \"normal\"}");
    }
    const auto& ways = imputationWays();
    for (auto at = by.begin(); by.is_object() && at != by.end(); ++at) {
        const bool isWay = at->is_string() && std::find(ways.begin(), ways.end(),
                                                        at->get<std::string>()) != ways.end();
        if (!isWay) {
            in.fault("the way of ‘" + at.key() + "’ is one of " + joinedNames(ways));
        } else if (!known.contains(at.key())) {
            in.fault("‘by’ speaks of ‘" + at.key() + "’, which is not among ‘variables’",
                     "Name it there, too.");
        } else {
            spec.by[at.key()] = at->get<std::string>();
        }
    }
    outer.close(in);
    return spec;
}

Study readStudy(JsonReader& in) {
    Study study;
    study.title = in.text("title", study.title);
    study.alpha = in.number("alpha", study.alpha);
    if (!(study.alpha > 0.0 && study.alpha < 1.0)) {
        in.fault("‘alpha’ lies between 0 and 1");
    }
    study.seed = static_cast<std::uint64_t>(in.whole("seed", 1.0, 0.0, most::kCount));
    if (in.has("source")) {
        study.source = readSource(in.at("source"), in);
    } else {
        in.fault("the study has no ‘source’");
    }
    for (const Json* one : in.list("shape")) {
        if (auto step = readShapeStep(*one, in)) {
            study.shape.push_back(*std::move(step));
        }
    }
    for (const Json* one : in.list("variables")) {
        study.variables.push_back(readVariable(*one, in));
    }
    if (in.has("layout")) {
        study.layout = readLayout(in.at("layout"), in);
    }
    if (in.has("survey")) {
        study.survey = readSurvey(in.at("survey"), in);
    }
    if (in.has("imputation")) {
        study.imputation = readImputation(in.at("imputation"), in);
    }
    for (const Json* one : in.list("sets")) {
        JsonReader set(*one, "sets");
        study.sets.push_back({set.text("name"), set.texts("members", most::kTerms)});
        in.close(set);
    }
    for (const Json* one : in.list("derived")) {
        study.derived.push_back(readDerived(*one, "derived", in));
    }
    for (const Json* one : in.list("kept")) {
        study.kept.push_back(readKept(*one, in));
    }
    if (in.has("sample")) {
        JsonReader sample(in.at("sample"), "sample");
        study.sample.where = sample.text("where");
        for (const Json* one : sample.list("set_aside")) {
            JsonReader s(*one, "sample.set_aside");
            const double row = s.number("row", 0.0);
            if (row < 1.0) {
                s.fault("a row set aside has its number, from 1");
            }
            study.sample.setAside.push_back(
                {static_cast<std::size_t>(std::clamp(row, 0.0, 1e15)), s.text("reason")});
            sample.close(s);
        }
        for (const Json* one : sample.list("accepted")) {
            JsonReader a(*one, "sample.accepted");
            study.sample.accepted.push_back({a.text("odd"), a.text("reason")});
            sample.close(a);
        }
        in.close(sample);
    }
    for (const Json* one : in.list("questions")) {
        Question question = readQuestion(*one, study.questions.size() + 1);
        if (study.find(question.id) != nullptr && !question.unbuilt) {
            question.unbuilt = Refusal{ErrorCode::BadSetting,
                                       "there is another question ‘" + question.id + "’ before it",
                                       "question " + question.id,
                                       "Give each an id of its own.",
                                       {}};
        }
        study.questions.push_back(std::move(question));
    }
    if (in.has("desk")) {
        if (auto desk = readDesk(in.at("desk"))) {
            study.desk = *std::move(desk);
        } else {
            in.adopt(desk.error());
        }
        JsonReader desk(in.at("desk"), "desk");
        (void)desk.at("pictures");
        in.close(desk);
    }
    for (const Json* one : in.list("report")) {
        JsonReader item(*one, "report");
        study.report.push_back(readReportItem(item));
        in.close(item);
    }
    if (in.has("report_style")) {
        JsonReader style(in.at("report_style"), "report_style");
        study.reportStyle = readReportStyle(style);
        in.close(style);
    }
    for (const Json* one : in.list("trail")) {
        JsonReader step(*one, "trail");
        study.trail.push_back({step.text("at"), step.text("did")});
    }
    return study;
}

}  // namespace

Result<Study> readStudyText(const std::string& text) {
    if (auto plain = plainEnough(text); !plain) {
        return tl::make_unexpected(plain.error());
    }
    Json json;
    try {
        json = Json::parse(text);
    } catch (const Json::parse_error& error) {
        const auto line =
            1 + std::count(
                    text.begin(),
                    text.begin() + static_cast<std::ptrdiff_t>(std::min(error.byte, text.size())),
                    '\n');
        return refuse(ErrorCode::Syntax, "this is not well-formed JSON",
                      fmt::format("line {}", line),
                      "A comma, a quotation mark or a bracket may be missing just before.");
    } catch (const Json::exception&) {
        return refuse(ErrorCode::Syntax, "a number is larger than any that can be held", "study",
                      "Look for an exponent of more than 308, as in 1e999.");
    }
    if (!json.is_object() || !json.contains("format") || json.at("format") != "rapporto-study") {
        return bad("", "this is not a study: its ‘format’ is not \"rapporto-study\"");
    }
    if (!json.contains("version") || json.at("version") != 1) {
        return bad("", "this study is of another version than 1",
                   "Open it with the version that wrote it.");
    }
    try {
        JsonReader in(json, "study");
        (void)in.at("format");
        (void)in.at("version");
        Study study = readStudy(in);
        if (in.refusal()) {
            return tl::make_unexpected(*in.refusal());
        }
        study.unknownKeys = in.allUnknown();
        study.raw = std::make_shared<const Json>(json);
        return study;
    } catch (const Json::exception& error) {
        return bad("", std::string("a value has another kind than its place needs (") +
                           error.what() + ")");
    }
}

Result<Study> readStudyFile(const std::string& path) {
    const auto text = readWhole(path);
    if (!text) {
        return tl::make_unexpected(text.error());
    }
    if (text->empty()) {
        return refuse(ErrorCode::Syntax, "the file is empty: no study was written into it", path,
                      "Look whether a file beside it, or a copy of yours, has it.");
    }
    auto study = readStudyText(*text);
    if (!study) {
        Refusal refusal = study.error();
        refusal.where = path + (refusal.where.empty() ? "" : ", " + refusal.where);
        return tl::make_unexpected(refusal);
    }
    return study;
}

}  // namespace rapporto
