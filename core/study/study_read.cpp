// Reading the study file.
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/json_shape.h"
#include "core/checks/check.h"
#include "core/io/table_file.h"
#include "core/model/fit.h"
#include "core/model/method_uses.h"
#include "core/model/outcome_models.h"
#include "core/study/desk_json.h"
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

constexpr std::size_t kMostEntries = 100000000;  // Kept values, rows set aside.
constexpr std::size_t kMostTerms = 5000;         // Of a question, and of a set.
constexpr std::size_t kMostParts = 20;           // Of a product.
constexpr std::size_t kMostRequests = 500;       // Checks, quantiles, hypotheses, effects.
constexpr double kMostCount = 9e15;              // Whole numbers that numbers hold.

/// Reads members of one object; the first fault is kept, everything after it is ignored.
class Reader {
  public:
    Reader(const Json& object, std::string where) : object_(object), where_(std::move(where)) {
        if (!object.is_object()) {
            fault("an object {…} is expected here");
        }
    }

    [[nodiscard]] const std::optional<Refusal>& refusal() const { return refusal_; }

    [[nodiscard]] bool has(const char* key) const {
        return object_.is_object() && object_.contains(key) && !object_.at(key).is_null();
    }

    const Json& at(const char* key) {
        known_.emplace_back(key);
        static const Json kNull;
        return has(key) ? object_.at(key) : kNull;
    }

    std::string text(const char* key, std::string otherwise = {}) {
        const Json& value = at(key);
        if (value.is_null()) {
            return otherwise;
        }
        if (!value.is_string()) {
            fault(fmt::format("‘{}’ is a text", key));
            return otherwise;
        }
        return value.get<std::string>();
    }

    bool flag(const char* key, bool otherwise) {
        const Json& value = at(key);
        if (!value.is_null() && !value.is_boolean()) {
            fault(fmt::format("‘{}’ is true or false", key));
        }
        return value.is_boolean() ? value.get<bool>() : otherwise;
    }

    /// A whole number from `least` to `most`; a number between or beyond is a fault, not bent.
    double whole(const char* key, double otherwise, double least, double most) {
        const double value = number(key, otherwise);
        if (!(value >= least && value <= most) || value != std::floor(value)) {
            fault(fmt::format("‘{}’ is a whole number from {:.0f} to {:.0f}", key, least, most));
            return otherwise;
        }
        return value;
    }

    double number(const char* key, double otherwise) {
        const Json& value = at(key);
        if (!value.is_null() && !value.is_number()) {
            fault(fmt::format("‘{}’ is a number", key));
        }
        return value.is_number() ? value.get<double>() : otherwise;
    }

    /// A text or a list of texts.
    std::vector<std::string> texts(const char* key, std::size_t most = kMostEntries) {
        const Json& value = at(key);
        std::vector<std::string> out;
        if (!fits(value, key, most)) {
            return out;
        }
        if (value.is_string()) {
            out.push_back(value.get<std::string>());
        } else if (value.is_array()) {
            for (const Json& one : value) {
                if (one.is_string()) {
                    out.push_back(one.get<std::string>());
                } else {
                    fault(fmt::format("‘{}’ is a list of texts", key));
                }
            }
        } else if (!value.is_null()) {
            fault(fmt::format("‘{}’ is a list of texts", key));
        }
        return out;
    }

    /// The entries of a list; none when the key is absent.
    std::vector<const Json*> list(const char* key, std::size_t most = kMostEntries) {
        const Json& value = at(key);
        std::vector<const Json*> out;
        if (!fits(value, key, most)) {
            return out;
        }
        if (value.is_array()) {
            for (const Json& one : value) {
                out.push_back(&one);
            }
        } else if (!value.is_null()) {
            fault(fmt::format("‘{}’ is a list", key));
        }
        return out;
    }

    /// A list longer than anything one means by it would take the day before it is refused.
    bool fits(const Json& value, const char* key, std::size_t most) {
        if (value.is_array() && value.size() > most) {
            fault(fmt::format("‘{}’ has {} entries; it takes {} at most", key, value.size(), most));
            return false;
        }
        return true;
    }

    void fault(const std::string& what, const std::string& help = {}) {
        if (!refusal_) {
            refusal_ = Refusal{ErrorCode::BadSetting, what, where_, help, {}};
        }
    }

    void adopt(const Refusal& refusal) {
        if (!refusal_) {
            refusal_ = refusal;
        }
    }

    /// Takes over what a part of this object has to say: its fault, and keys that nobody read.
    void close(const Reader& part) {
        if (part.refusal_) {
            adopt(*part.refusal_);
        }
        for (const auto& key : part.unknown()) {
            nested_.push_back(part.where_ + "." + key);
        }
        nested_.insert(nested_.end(), part.nested_.begin(), part.nested_.end());
    }

    /// Keys that nobody read, of this object and of its parts (“errors.typ”).
    [[nodiscard]] std::vector<std::string> allUnknown() const {
        std::vector<std::string> out = unknown();
        out.insert(out.end(), nested_.begin(), nested_.end());
        return out;
    }

    [[nodiscard]] std::vector<std::string> unknown() const {
        std::vector<std::string> out;
        if (object_.is_object()) {
            for (const auto& [key, value] : object_.items()) {
                if (std::find(known_.begin(), known_.end(), key) == known_.end()) {
                    out.push_back(key);
                }
            }
        }
        return out;
    }

  private:
    const Json& object_;
    std::string where_;
    std::vector<std::string> known_;
    std::vector<std::string> nested_;
    std::optional<Refusal> refusal_;
};

std::optional<Measure> measureNamed(const std::string& name) {
    for (const Measure m : {Measure::Quantity, Measure::Count, Measure::YesNo, Measure::Groups,
                            Measure::OrderedGroups, Measure::Date, Measure::Text}) {
        if (measureName(m) == name) {
            return m;
        }
    }
    return std::nullopt;
}

std::optional<Key> keyOf(const Json& value) {
    if (value.is_number()) {
        return Key(value.get<double>());
    }
    return value.is_string() ? std::optional(Key(value.get<std::string>())) : std::nullopt;
}

VariableEntry readVariable(const Json& json, Reader& outer) {
    Reader in(json, "variables");
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
            Reader level(*one, "levels of " + entry.name);
            const auto key = keyOf(level.at("value"));
            const std::string label = level.text("label");
            key ? entry.levels->push_back({*key, label}) : level.fault("a level needs its ‘value’");
            in.close(level);
        }
    }
    entry.base = keyOf(in.at("base"));
    outer.close(in);
    return entry;
}

std::optional<char> readerChar(Reader& in, const char* key) {
    const std::string text = in.text(key);
    if (text.size() > 1) {
        in.fault(fmt::format("‘{}’ is one character", key));
    }
    return text.empty() ? std::nullopt : std::optional(text.front());
}

ReaderOptions readReader(const Json& json, const std::string& file, Reader& outer) {
    ReaderOptions options;
    Reader reader(json, "source.reader");
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
    options.skip = static_cast<std::size_t>(reader.whole("skip", 0.0, 0.0, kMostCount));
    options.patience = reader.number("patience", options.patience);
    if (!(options.patience >= 0.0)) {
        reader.fault("‘patience’ is a number of seconds, 0 for without end");
    }
    options.sheet = reader.text("sheet");
    options.block = reader.text("block");
    options.table = reader.text("table");
    options.query = reader.text("query");
    for (const Json* one : reader.list("repairs")) {
        Reader repair(*one, "source.reader.repairs");
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
std::vector<double> numbersIn(const std::vector<const Json*>& list, Reader& in, const char* key) {
    std::vector<double> out;
    for (const Json* one : list) {
        if (!one->is_number() && !one->is_null()) {
            in.fault(fmt::format("‘{}’ is a list of numbers", key));
        }
        out.push_back(one->is_number() ? one->get<double>() : std::nan(""));
    }
    return out;
}

std::vector<std::vector<double>> matrixIn(Reader& in, const char* key) {
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

void readSummary(Reader& in, Source& source) {
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

Source readSource(const Json& json, Reader& outer, const char* where = "source") {
    Source source;
    Reader in(json, where);
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
    if (in.has("seen")) {
        Reader seen(in.at("seen"), "source.seen");
        source.seenRows = static_cast<std::size_t>(std::clamp(seen.number("rows", 0.0), 0.0, 1e15));
        for (const Json* one : seen.list("columns")) {
            Reader column(*one, "source.seen");
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
std::shared_ptr<const std::vector<double>> readValues(const std::string& text, Reader& in) {
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

KeptColumn readKept(const Json& json, Reader& outer) {
    Reader in(json, "kept");
    KeptColumn out{in.text("name"),     in.text("label"),    in.text("unit"), in.text("what"),
                   in.text("question"), in.text("grouping"), nullptr};
    out.values = readValues(in.text("values"), in);
    if (out.name.empty()) {
        in.fault("a kept column needs ‘name’");
    }
    outer.close(in);
    return out;
}

Derived readDerived(const Json& json, const char* where, Reader& outer) {
    Reader d(json, where);
    Derived derived{d.text("name"), d.text("expression"), d.text("label")};
    if (derived.name.empty() || derived.expression.empty()) {
        d.fault("a derived variable needs ‘name’ and ‘expression’");
    }
    outer.close(d);
    return derived;
}

std::vector<LongVariable> readLongVariables(Reader& in) {
    std::vector<LongVariable> variables;
    for (const Json* one : in.list("variables")) {
        Reader variable(*one, "shape.to_long");
        LongVariable found{variable.text("name"), {}};
        for (const Json* column : variable.list("columns")) {
            Reader place(*column, "shape.to_long");
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

JoinStep readJoin(const Json& json, Reader& in) {
    JoinStep step{readSource(json, in, "shape.join"), {}, in.texts("take")};
    for (const Json* one : in.list("by")) {
        if (one->is_string()) {
            step.by.push_back({one->get<std::string>(), one->get<std::string>()});
            continue;
        }
        Reader pair(*one, "shape.join");
        step.by.push_back({pair.text("here"), pair.text("there")});
        in.close(pair);
    }
    return step;
}

std::optional<ShapeStep> readShapeStep(const Json& json, Reader& outer) {
    Reader step(json, "shape");
    std::optional<ShapeStep> out;
    const auto within = [&](const char* key, auto read) {
        if (!out && step.has(key)) {
            const Json& inner = step.at(key);
            Reader in(inner, std::string("shape.") + key);
            out = read(inner, in);
            step.close(in);
        }
    };
    within("append", [](const Json& inner, Reader& in) -> ShapeStep {
        return AppendStep{readSource(inner, in, "shape.append"), in.text("mark")};
    });
    within("join", [](const Json& inner, Reader& in) -> ShapeStep { return readJoin(inner, in); });
    within("collapse", [](const Json&, Reader& in) -> ShapeStep {
        CollapseStep collapse{in.texts("by"), {}};
        for (const Json* one : in.list("columns")) {
            collapse.columns.push_back(readDerived(*one, "shape.collapse", in));
        }
        return collapse;
    });
    within("to_long", [](const Json&, Reader& in) -> ShapeStep {
        return LongStep{in.text("moment"), readLongVariables(in)};
    });
    within("to_wide", [](const Json&, Reader& in) -> ShapeStep {
        return WideStep{in.text("unit"), in.text("moment"), in.texts("variables")};
    });
    if (!out) {
        step.fault("a step of the shape is not known",
                   "Steps are append, join, collapse, to_long and to_wide.");
    }
    outer.close(step);
    return out;
}

Layout readLayout(const Json& json, Reader& outer) {
    Layout layout;
    Reader in(json, "layout");
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

Survey readSurvey(const Json& json, Reader& outer) {
    Survey survey;
    Reader in(json, "survey");
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
    outer.close(in);
    return survey;
}

bool isBuiltCheck(const std::string& id) { return findCheck(id) != nullptr; }

void notBuilt(Reader& in, const std::string& what) {
    in.adopt(Refusal{ErrorCode::NotBuilt,
                     what + " not built yet",
                     "",
                     "Take it out to have the rest answered.",
                     {}});
}

/// What a check does not use is refused, by the registry of checks.
void refuseIdleOptions(const CheckRequest& request, Reader& options) {
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

void readChecks(const Json& value, Question& q, Reader& in) {
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
    if (!in.fits(value, "checks", kMostRequests)) {
        return;
    }
    for (const Json& one : value) {
        CheckRequest request;
        if (one.is_string()) {
            request.id = one.get<std::string>();
        } else {
            Reader options(one, "checks");
            request.id = options.text("id");
            if (options.has("lags")) {
                request.lags = static_cast<int>(options.whole("lags", 1.0, 1.0, 10000.0));
            }
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

void readTerms(Reader& in, std::vector<Term>& into, const char* key, bool muted) {
    for (const Json* one : in.list(key, kMostTerms)) {
        Term term;
        term.muted = muted;
        if (one->is_string()) {
            term.parts = {one->get<std::string>()};
        } else {
            Reader object(*one, "terms");
            if (object.has("product")) {
                term.kind = Term::Kind::Product;
                term.parts = object.texts("product", kMostParts);
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

void readBootstrap(Reader& in, ErrorSpec& errors) {
    const double draws = in.number("draws", errors.draws);
    if (draws != std::floor(draws) || draws < 20 || draws > 1e7) {
        in.fault("‘draws’ is a whole number from 20 to ten million");
    } else {
        errors.draws = static_cast<int>(draws);
    }
    if (in.has("seed")) {
        errors.seed = static_cast<std::uint64_t>(in.whole("seed", 1.0, 0.0, kMostCount));
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
void refuseIdleErrorKeys(const std::string& kind, const Json& json, Reader& errors) {
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

void readErrors(const Json& json, Question& q, Reader& in) {
    if (json.is_null()) {
        return;
    }
    Reader errors(json, "errors");
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

void readBentLine(Reader& in, EstimatorSettings& settings) {
    settings.variable = in.text("variable");
    settings.bends = static_cast<int>(in.number("bends", 1.0));
    settings.fixed = in.flag("fixed", false);
    for (const Json* one : in.list("start")) {
        one->is_number() ? settings.start.push_back(one->get<double>())
                         : in.fault("‘start’ lists numbers");
    }
    if (settings.variable.empty()) {
        in.fault("a bent line names the ‘variable’ it bends in");
    } else if (settings.bends < 1 || settings.bends > 5) {
        in.fault("‘bends’ is a whole number from 1 to 5");
    } else if (!settings.start.empty() &&
               settings.start.size() != static_cast<std::size_t>(settings.bends)) {
        in.fault("‘start’ has one place for each of the ‘bends’");
    } else if (settings.fixed && settings.start.empty()) {
        in.fault("bends that are fixed need their places in ‘start’");
    }
}

void readOutcomeModel(Reader& in, Question& q) {
    EstimatorSettings& settings = q.settings;
    if (q.method == "logit") {
        settings.penalised = in.flag("penalised", false);
        return;
    }
    if (isSelection(q.method)) {
        settings.zeroTerms = in.texts("seen_terms");
        return;
    }
    if (q.method == "interval") {
        settings.variable = in.text("upper");
        return;
    }
    if (q.method == "tobit") {
        for (const auto& [key, into] :
             {std::pair("low", &settings.low), std::pair("high", &settings.high)}) {
            if (in.has(key)) {
                *into = in.number(key, 0.0);
            }
        }
        return;
    }
    const double form = in.number("form", 2.0);
    settings.form = form == 1.0 ? 1 : 2;
    if (form != 1.0 && form != 2.0) {
        in.fault("‘form’ is 1 (variance μ + αμ) or 2 (μ + αμ²)");
    }
    if (q.method == "negative-binomial") {
        return;
    }
    settings.count = in.text("count", settings.count);
    if (settings.count != "poisson" && settings.count != "negative-binomial") {
        in.fault("‘count’ is \"poisson\" or \"negative-binomial\"");
    }
    if (q.method != "truncated") {
        settings.zeroTerms = in.texts("zero_terms");
    }
}

void readEventStudy(Reader& in, EstimatorSettings& settings) {
    settings.variable = in.text("variable");
    settings.weighting = in.text("weighting", settings.weighting);
    settings.against = in.text("against", settings.against);
    const auto places = [&](const char* key, int least, int otherwise) {
        const double value = in.number(key, otherwise);
        if (!(value >= least && value <= 100.0 && value == std::floor(value))) {
            in.fault(fmt::format("‘{}’ is a whole number from {}", key, least));
            return otherwise;
        }
        return static_cast<int>(value);
    };
    settings.before = places("before", 1, settings.before);
    settings.after = places("after", 0, settings.after);
    if (settings.variable.empty()) {
        in.fault("an event study names the ‘variable’ that is switched on");
    }
    if (settings.weighting != "pooled" && settings.weighting != "cohorts" &&
        settings.weighting != "group-time") {
        in.fault("‘weighting’ is \"pooled\", \"cohorts\" or \"group-time\"");
    }
    if (settings.against != "not-yet" && settings.against != "never") {
        in.fault("‘against’ is \"not-yet\" or \"never\"");
    }
}

void readEstimator(const Json& json, Question& q, Reader& in) {
    if (json.is_null()) {
        return;
    }
    Reader estimator(json, "estimator");
    q.method = estimator.text("method", "least-squares");
    if (findEstimator(q.method) == nullptr) {
        estimator.fault("there is no method ‘" + q.method + "’");
    } else if (q.method == "bent-line") {
        readBentLine(estimator, q.settings);
    } else if (q.method == "fuller") {
        q.settings.a = estimator.number("a", q.settings.a);
        if (!(q.settings.a >= 0.0) || q.settings.a > 1000.0) {
            estimator.fault("‘a’ of Fuller’s estimator is a number from 0", "Usual are 1 and 4.");
        }
    } else if (q.method == "difference-gmm" || q.method == "system-gmm") {
        q.settings.steps = estimator.text("steps", q.settings.steps);
        if (q.settings.steps != "one" && q.settings.steps != "two") {
            estimator.fault("‘steps’ is \"one\" or \"two\"");
        }
        const double depth = estimator.number("depth", 0.0);
        if (!(depth >= 0.0 && depth <= 1000.0 && depth == std::floor(depth))) {
            estimator.fault("‘depth’ is a whole number: how many earlier moments serve",
                            "0 takes all there are.");
        } else {
            q.settings.depth = static_cast<int>(depth);
        }
        q.settings.collapsed = estimator.flag("collapsed", false);
    } else if (q.method == "negative-binomial" || q.method == "zero-inflated" ||
               q.method == "hurdle" || q.method == "truncated" || q.method == "logit" ||
               q.method == "tobit" || q.method == "interval" || isSelection(q.method)) {
        readOutcomeModel(estimator, q);
    } else if (q.method == "quantile") {
        for (const Json* one : estimator.list("at", kMostRequests)) {
            if (one->is_number() && *one > 0.0 && *one < 1.0) {
                q.settings.at.push_back(one->get<double>());
            } else {
                estimator.fault("‘at’ lists numbers between 0 and 1");
            }
        }
        if (estimator.has("at") && q.settings.at.empty()) {
            estimator.fault("‘at’ names no quantile", "Name one or several, as [0.1, 0.5, 0.9].");
        }
    } else if (q.method == "huber" || q.method == "bisquare" || q.method == "mm") {
        const char* key = q.method == "huber" ? "k" : q.method == "mm" ? "efficiency" : "c";
        if (estimator.has(key)) {
            q.settings.tuning = estimator.number(key, 0.0);
        }
    } else if (q.method == "event-study") {
        readEventStudy(estimator, q.settings);
    } else if (q.method == "gmm") {
        q.settings.steps = estimator.text("steps", q.settings.steps);
        if (q.settings.steps != "two" && q.settings.steps != "iterated" &&
            q.settings.steps != "continuous") {
            estimator.fault("‘steps’ is \"two\", \"iterated\" or \"continuous\"");
        }
    }
    for (const auto& key : estimator.unknown()) {
        const std::string others = methodsWithSetting(key);
        if (!others.empty() && findEstimator(q.method) != nullptr) {
            estimator.fault("the method ‘" + q.method + "’ has no setting ‘" + key + "’",
                            "It belongs to " + others + ".");
        }
    }
    in.close(estimator);
}

void readWeights(const Json& json, Question& q, Reader& in) {
    if (json.is_null()) {
        return;
    }
    Reader weights(json, "weights");
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

void readRelation(Reader& in, Question& q) {
    q.variables = in.texts("variables");
    q.holding = in.texts("holding");
    q.coefficient = in.text("coefficient", "pearson");
    q.sides = in.text("sides", "two");
    const std::string missing = in.text("missing", "pairwise");
    q.listwise = missing == "listwise";
    if (q.coefficient != "pearson" && q.coefficient != "spearman" && q.coefficient != "kendall") {
        in.fault("there is no coefficient ‘" + q.coefficient + "’",
                 "Coefficients are pearson, spearman and kendall.");
    }
    if (q.sides != "two" && q.sides != "greater" && q.sides != "less") {
        in.fault("‘sides’ is \"two\", \"greater\" or \"less\"");
    }
    if (missing != "pairwise" && missing != "listwise") {
        in.fault("‘missing’ is \"pairwise\" or \"listwise\"");
    }
}

ScenarioValues readValues(const Json& json, Reader& in) {
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

void readRequests(Reader& in, Question& q) {
    for (const Json* one : in.list("effects")) {
        Reader effect(*one, "effects");
        EffectRequest request;
        request.of = effect.text("of");
        const Json& as = effect.at("as");
        if (as.is_object()) {
            Reader at(as, "effects");
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
        Reader prediction(*one, "predict");
        PredictRequest request;
        request.label = prediction.text("label");
        if (prediction.has("at")) {
            request.at = readValues(prediction.at("at"), prediction);
        }
        in.close(prediction);
        q.predict.push_back(std::move(request));
    }
    q.hypotheses = in.texts("hypotheses");
    for (const Json* one : in.list("decisions")) {
        Reader decision(*one, "decisions");
        Decision d{decision.text("check"), decision.text("decision"), decision.text("reason")};
        if (d.what != "kept" && d.what != "remedied" && d.what != "accepted") {
            decision.fault("‘decision’ is \"kept\", \"remedied\" or \"accepted\"");
        }
        in.close(decision);
        q.decisions.push_back(std::move(d));
    }
    if (const Json& json = in.at("chosen"); !json.is_null()) {
        Reader chosen(json, "chosen");
        q.chosen = TermChoice{chosen.text("by"), chosen.texts("among"), chosen.text("of")};
        in.close(chosen);
    }
}

/// What only the other kind of question uses is refused, and so is what is documented to come.
void refuseIdleKeys(const std::string& kind, Reader& in) {
    static const std::vector<const char*> kExplain = {
        "outcome",    "terms",   "muted",  "endogenous", "instruments", "fixed_effects",
        "own_slopes", "weights", "offset", "exposure",   "estimator",   "errors",
        "effects",    "predict", "chosen", "hypotheses"};
    static const std::vector<const char*> kRelate = {"variables", "holding", "coefficient",
                                                     "sides"};
    static const std::vector<const char*> kTrace = {"paths", "resampling", "draws", "interval"};
    static const std::vector<const char*> kToCome = {"left_out", "complete_by"};
    const auto refuseAll = [&](const std::vector<const char*>& keys, const std::string& of) {
        for (const char* key : keys) {
            if (in.has(key)) {
                in.fault(std::string("‘") + key + "’ belongs to questions that " + of,
                         "This one does not use it: take it out.");
            }
        }
    };
    if (kind == "relate") {
        refuseAll(kExplain, "explain an outcome");
    } else if (kind == "explain") {
        refuseAll(kRelate, "relate variables");
        refuseAll(kTrace, "trace a cause");
        if (in.has("missing")) {
            notBuilt(in, "ways with missing answers (‘missing’) are");
        }
        for (const char* key : kToCome) {
            if (in.has(key)) {
                notBuilt(in, std::string("‘") + key + "’ is");
            }
        }
    }
}

Question readQuestion(const Json& json, std::size_t number) {
    Question q;
    q.raw = std::make_shared<const Json>(json);
    Reader in(json, "");
    q.id = in.text("id", fmt::format("q{}", number));
    q.kind = in.text("kind", "explain");
    q.title = in.text("title");
    q.lead = in.flag("lead", false);
    q.variantOf = in.text("variant_of");
    q.outcome = in.text("outcome");
    readTerms(in, q.terms, "terms", false);
    readTerms(in, q.terms, "muted", true);
    readTerms(in, q.endogenous, "endogenous", false);
    readTerms(in, q.instruments, "instruments", false);
    q.fixedEffects = in.texts("fixed_effects");
    q.ownSlopes = in.texts("own_slopes");
    if (!q.instruments.empty() && q.endogenous.empty()) {
        in.fault("‘instruments’ are named, and no term is said to be moved by them",
                 "Name the term in ‘endogenous’.");
    }
    q.intercept = in.flag("intercept", true);
    q.where = in.text("where");
    for (const Json* row : in.list("without")) {
        row->is_number_unsigned() ? q.without.push_back(row->get<std::size_t>())
                                  : in.fault("‘without’ lists rows from 1");
    }
    readErrors(in.at("errors"), q, in);
    readWeights(in.at("weights"), q, in);
    readEstimator(in.at("estimator"), q, in);
    readChecks(in.at("checks"), q, in);
    readRequests(in, q);
    refuseIdleKeys(q.kind, in);
    if (q.kind == "relate") {
        readRelation(in, q);
    }
    if (q.kind == "trace") {
        notBuilt(in, "questions of kind ‘" + q.kind + "’ are");
    } else if (q.kind != "explain" && q.kind != "relate") {
        in.fault("there are no questions of kind ‘" + q.kind + "’");
    }
    q.offset = in.text("offset");
    q.exposure = in.text("exposure");
    q.unbuilt = in.refusal();
    q.unknownKeys = q.kind != "trace" ? in.allUnknown() : std::vector<std::string>();
    return q;
}

Study readStudy(Reader& in) {
    Study study;
    study.title = in.text("title", study.title);
    study.alpha = in.number("alpha", study.alpha);
    if (!(study.alpha > 0.0 && study.alpha < 1.0)) {
        in.fault("‘alpha’ lies between 0 and 1");
    }
    study.seed = static_cast<std::uint64_t>(in.whole("seed", 1.0, 0.0, kMostCount));
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
    for (const Json* one : in.list("sets")) {
        Reader set(*one, "sets");
        study.sets.push_back({set.text("name"), set.texts("members", kMostTerms)});
        in.close(set);
    }
    for (const Json* one : in.list("derived")) {
        study.derived.push_back(readDerived(*one, "derived", in));
    }
    for (const Json* one : in.list("kept")) {
        study.kept.push_back(readKept(*one, in));
    }
    if (in.has("sample")) {
        Reader sample(in.at("sample"), "sample");
        study.sample.where = sample.text("where");
        for (const Json* one : sample.list("set_aside")) {
            Reader s(*one, "sample.set_aside");
            const double row = s.number("row", 0.0);
            if (row < 1.0) {
                s.fault("a row set aside has its number, from 1");
            }
            study.sample.setAside.push_back(
                {static_cast<std::size_t>(std::clamp(row, 0.0, 1e15)), s.text("reason")});
            sample.close(s);
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
    }
    for (const Json* one : in.list("report")) {
        Reader item(*one, "report");
        study.report.push_back({item.text("item"), item.texts("questions")});
    }
    for (const Json* one : in.list("trail")) {
        Reader step(*one, "trail");
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
    }
    if (!json.is_object() || !json.contains("format") || json.at("format") != "rapporto-study") {
        return bad("", "this is not a study: its ‘format’ is not \"rapporto-study\"");
    }
    if (!json.contains("version") || json.at("version") != 1) {
        return bad("", "this study is of another version than 1",
                   "Open it with the version that wrote it.");
    }
    try {
        Reader in(json, "study");
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
