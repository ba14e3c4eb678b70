#include "core/study/report_json.h"

#include "core/study/desk_json.h"

#include <algorithm>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

/// A text that is one of those named; a fault else.
std::string oneOf(JsonReader& in, const char* key, std::string otherwise,
                  const std::vector<std::string>& allowed) {
    const std::string value = in.text(key, otherwise);
    if (std::find(allowed.begin(), allowed.end(), value) == allowed.end()) {
        std::string names;
        for (const std::string& one : allowed) {
            names += (names.empty() ? "" : ", ") + (one.empty() ? "nothing" : "‘" + one + "’");
        }
        in.fault(fmt::format("‘{}’ is one of {}", key, names));
        return otherwise;
    }
    return value;
}

TableLook readLook(JsonReader& in) {
    TableLook look;
    look.below = oneOf(in, "below", look.below, {"error", "interval", "t", "p", "nothing"});
    look.beside = oneOf(in, "beside", look.beside, {"", "percent", "ratio"});
    look.base = oneOf(in, "base", look.base, {"label", "row", "nothing"});
    look.columns = oneOf(in, "columns", look.columns, {"titles", "numbers"});
    look.names = in.flag("names", look.names);
    for (const Json* level : in.list("stars", 3)) {
        if (level->is_number() && level->get<double>() > 0.0 && level->get<double>() < 1.0) {
            look.stars.push_back(level->get<double>());
        } else {
            in.fault("‘stars’ are levels of p between 0 and 1");
        }
    }
    // One star is the easiest level.
    std::sort(look.stars.begin(), look.stars.end(), std::greater<>());
    if (in.has("digits")) {
        look.digits = static_cast<int>(in.whole("digits", 3.0, 0.0, 12.0));
    }
    look.heads = in.texts("heads", most::kTerms);
    look.order = in.texts("order", most::kTerms);
    look.foot = in.texts("foot", most::kTerms);
    for (const Json* one : in.list("fold", most::kTerms)) {
        JsonReader fold(*one, "fold");
        look.folds.push_back({fold.text("label"), fold.texts("terms", most::kTerms)});
        in.close(fold);
    }
    for (const Json* one : in.list("headings", most::kTerms)) {
        JsonReader heading(*one, "headings");
        look.headings.push_back({heading.text("before"), heading.text("text")});
        in.close(heading);
    }
    for (const Json* one : in.list("panels", most::kTerms)) {
        JsonReader panel(*one, "panels");
        look.panels.push_back({panel.text("title"), panel.texts("questions", most::kTerms)});
        in.close(panel);
    }
    return look;
}

/// Puts what differs from a default.
template <class T>
void putUnless(Json& out, const char* key, const T& value, const T& usual) {
    if (!(value == usual)) {
        out[key] = value;
    }
}

void putLook(Json& out, const TableLook& look) {
    const TableLook usual;
    putUnless(out, "below", look.below, usual.below);
    putUnless(out, "beside", look.beside, usual.beside);
    putUnless(out, "base", look.base, usual.base);
    putUnless(out, "columns", look.columns, usual.columns);
    putUnless(out, "names", look.names, usual.names);
    putUnless(out, "stars", look.stars, usual.stars);
    if (look.digits) {
        out["digits"] = *look.digits;
    }
    putUnless(out, "heads", look.heads, usual.heads);
    putUnless(out, "order", look.order, usual.order);
    putUnless(out, "foot", look.foot, usual.foot);
    for (const TableLook::Fold& fold : look.folds) {
        out["fold"].push_back({{"label", fold.label}, {"terms", fold.terms}});
    }
    for (const TableLook::Heading& heading : look.headings) {
        out["headings"].push_back({{"before", heading.before}, {"text", heading.text}});
    }
    for (const TableLook::Panel& panel : look.panels) {
        out["panels"].push_back({{"title", panel.title}, {"questions", panel.questions}});
    }
}

SweepChoices readSweep(JsonReader& in) {
    SweepChoices sweep;
    sweep.of = in.text("of");
    if (in.has("vary")) {
        sweep.vary = in.texts("vary", most::kTerms);
    }
    if (in.has("errors")) {
        const SweepChoices usual;
        sweep.errors = in.texts("errors", most::kTerms);
        for (const std::string& one : sweep.errors) {
            if (std::find(usual.errors.begin(), usual.errors.end(), one) == usual.errors.end()) {
                in.fault("‘errors’ of a sweep are classical, robust, own");
            }
        }
    }
    sweep.outliers = in.flag("outliers", sweep.outliers);
    return sweep;
}

Json sweepJson(const SweepChoices& sweep) {
    const SweepChoices usual;
    Json out = Json::object();
    putUnless(out, "of", sweep.of, usual.of);
    if (sweep.vary) {
        out["vary"] = *sweep.vary;
    }
    putUnless(out, "errors", sweep.errors, usual.errors);
    putUnless(out, "outliers", sweep.outliers, usual.outliers);
    return out;
}

}  // namespace

ReportItem readReportItem(JsonReader& in) {
    ReportItem item(in.text("item"), in.texts("questions", most::kTerms));
    item.caption = in.text("caption");
    item.note = in.text("note");
    item.text = in.text("text");
    item.variables = in.texts("variables", most::kTerms);
    item.by = in.text("by");
    item.shows = in.text("shows");
    if (in.has("look")) {
        JsonReader look(in.at("look"), "look");
        item.table = readLook(look);
        in.close(look);
    }
    if (in.has("picture")) {
        const auto desk = readDesk(Json{{"pictures", Json::array({in.at("picture")})}});
        if (!desk) {
            in.adopt(desk.error());
        } else if (!desk->pictures.empty()) {
            item.picture = desk->pictures.front();
        }
    }
    if (in.has("sweep")) {
        JsonReader sweep(in.at("sweep"), "sweep");
        item.sweep = readSweep(sweep);
        in.close(sweep);
    }
    if (in.has("frozen")) {
        JsonReader frozen(in.at("frozen"), "frozen");
        item.frozen = FrozenItem{frozen.text("at"), frozen.at("blocks").dump()};
        in.close(frozen);
    }
    for (const std::string& key : in.unknown()) {
        item.further.emplace_back(key, in.object().at(key).dump());
    }
    return item;
}

Json reportItemJson(const ReportItem& item) {
    const ReportItem usual;
    Json out = {{"item", item.item}, {"questions", item.questions}};
    putUnless(out, "caption", item.caption, usual.caption);
    putUnless(out, "note", item.note, usual.note);
    putUnless(out, "text", item.text, usual.text);
    putUnless(out, "variables", item.variables, usual.variables);
    putUnless(out, "by", item.by, usual.by);
    putUnless(out, "shows", item.shows, usual.shows);
    Json look = Json::object();
    putLook(look, item.table);
    if (!look.empty()) {
        out["look"] = std::move(look);
    }
    if (item.picture) {
        out["picture"] = deskJson({{*item.picture}}).at("pictures").at(0);
    }
    if (item.sweep) {
        out["sweep"] = sweepJson(*item.sweep);
    }
    for (const auto& [key, value] : item.further) {
        out[key] = Json::parse(value);
    }
    if (item.frozen) {
        // What cannot be read stays as it came.
        const Json blocks = Json::parse(item.frozen->blocks, nullptr, false);
        out["frozen"] = {{"at", item.frozen->at},
                         {"blocks", blocks.is_discarded() ? Json(item.frozen->blocks) : blocks}};
    }
    return out;
}

ReportStyle readReportStyle(JsonReader& in) {
    ReportStyle style;
    style.title = in.text("title");
    style.subtitle = in.text("subtitle");
    style.byline = in.text("byline");
    style.decimal = oneOf(in, "decimal", style.decimal, {".", ","});
    style.thousands = oneOf(in, "thousands", style.thousands, {" ", ",", ".", "'", ""});
    style.language = oneOf(in, "language", style.language, {"en", "de", "fr", "es", "it"});
    if (style.decimal == style.thousands) {
        in.fault("‘decimal’ and ‘thousands’ cannot be the same mark");
    }
    return style;
}

Json reportStyleJson(const ReportStyle& style) {
    const ReportStyle usual;
    Json out = Json::object();
    putUnless(out, "title", style.title, usual.title);
    putUnless(out, "subtitle", style.subtitle, usual.subtitle);
    putUnless(out, "byline", style.byline, usual.byline);
    putUnless(out, "decimal", style.decimal, usual.decimal);
    putUnless(out, "thousands", style.thousands, usual.thousands);
    putUnless(out, "language", style.language, usual.language);
    return out;
}

}  // namespace rapporto
