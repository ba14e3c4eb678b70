#include "core/study/desk_json.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <array>
#include <set>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

constexpr std::array kKeys = {"kind", "of", "title", "log", "show", "span", "robust", "weighted"};

/// A list of texts under a key; nothing when one of them is no text.
std::optional<std::vector<std::string>> textsOf(const Json& object, const char* key) {
    std::vector<std::string> out;
    if (!object.contains(key) || object.at(key).is_null()) {
        return out;
    }
    if (!object.at(key).is_array()) {
        return std::nullopt;
    }
    for (const Json& one : object.at(key)) {
        if (!one.is_string()) {
            return std::nullopt;
        }
        out.push_back(one.get<std::string>());
    }
    return out;
}

bool has(const std::vector<std::string>& list, const char* name) {
    return std::find(list.begin(), list.end(), name) != list.end();
}

/// The kind of JSON that each key wants, in words; empty: it has it.
std::string wrongIn(const Json& picture) {
    if (!picture.is_object()) {
        return "a picture is an object {…}";
    }
    for (const char* key : {"kind", "title"}) {
        if (picture.contains(key) && !picture.at(key).is_string()) {
            return fmt::format("‘{}’ is a text", key);
        }
    }
    for (const char* key : {"of", "log", "show"}) {
        if (!textsOf(picture, key)) {
            return fmt::format("‘{}’ is a list of texts", key);
        }
    }
    for (const char* key : {"robust", "weighted"}) {
        if (picture.contains(key) && !picture.at(key).is_boolean()) {
            return fmt::format("‘{}’ is true or false", key);
        }
    }
    if (picture.contains("span") &&
        (!picture.at("span").is_number() || !(picture.at("span").get<double>() > 0.0) ||
         !(picture.at("span").get<double>() <= 1.0))) {
        return "‘span’ is a number above 0 and at most 1";
    }
    return {};
}

PictureSpec readPicture(const Json& json) {
    PictureSpec spec;
    spec.kind = json.value("kind", "");
    spec.title = json.value("title", "");
    spec.of = *textsOf(json, "of");
    const auto log = *textsOf(json, "log");
    spec.logX = has(log, "x");
    spec.logY = has(log, "y");
    spec.span = json.value("span", spec.span);
    spec.robust = json.value("robust", spec.robust);
    spec.weighted = json.value("weighted", spec.weighted);
    if (json.contains("show")) {
        const auto show = *textsOf(json, "show");
        spec.line = has(show, "line");
        spec.smooth = has(show, "smooth");
        spec.square = has(show, "square");
        spec.bands = has(show, "bands");
    }
    spec.raw = std::make_shared<const Json>(json);
    return spec;
}

Json pictureJson(const PictureSpec& spec) {
    const PictureSpec plain;
    Json out = Json::object();
    if (!spec.kind.empty()) {
        out["kind"] = spec.kind;
    }
    out["of"] = spec.of;
    if (!spec.title.empty()) {
        out["title"] = spec.title;
    }
    if (spec.logX || spec.logY) {
        out["log"] = Json::array();
        for (const auto& [on, name] : {std::pair{spec.logX, "x"}, std::pair{spec.logY, "y"}}) {
            if (on) {
                out["log"].push_back(name);
            }
        }
    }
    if (spec.line != plain.line || spec.smooth != plain.smooth || spec.square != plain.square ||
        spec.bands != plain.bands) {
        out["show"] = Json::array();
        for (const auto& [on, name] :
             {std::pair{spec.line, "line"}, std::pair{spec.smooth, "smooth"},
              std::pair{spec.square, "square"}, std::pair{spec.bands, "bands"}}) {
            if (on) {
                out["show"].push_back(name);
            }
        }
    }
    if (spec.span != plain.span) {
        out["span"] = spec.span;
    }
    if (spec.robust != plain.robust) {
        out["robust"] = spec.robust;
    }
    if (spec.weighted != plain.weighted) {
        out["weighted"] = spec.weighted;
    }
    if (spec.raw) {
        for (const auto& [key, value] : spec.raw->items()) {
            if (std::find(kKeys.begin(), kKeys.end(), key) == kKeys.end()) {
                out[key] = value;
            }
        }
    }
    return out;
}

}  // namespace

Result<Desk> readDesk(const Json& json) {
    Desk desk;
    if (!json.is_object() || (json.contains("pictures") && !json.at("pictures").is_array())) {
        return refuse(ErrorCode::BadSetting, "the desk is {\"pictures\": […]}", "desk");
    }
    if (!json.contains("pictures")) {
        return desk;
    }
    for (const Json& one : json.at("pictures")) {
        if (const std::string wrong = wrongIn(one); !wrong.empty()) {
            return refuse(ErrorCode::BadSetting, wrong,
                          fmt::format("desk, picture {}", desk.pictures.size() + 1));
        }
        desk.pictures.push_back(readPicture(one));
    }
    return desk;
}

Json deskJson(const Desk& desk) {
    Json pictures = Json::array();
    for (const PictureSpec& spec : desk.pictures) {
        pictures.push_back(pictureJson(spec));
    }
    return Json{{"pictures", pictures}};
}

}  // namespace rapporto
