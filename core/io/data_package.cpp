// Tabular data packages: an open standard for a CSV with types, titles, missing values and
// categories beside it.
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/json_shape.h"
#include "core/base/typed_text.h"
#include "core/io/mapped_file.h"
#include "core/io/table_file.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <filesystem>
#include <sstream>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

std::string textIn(const Json& object, const char* key) {
    return object.is_object() && object.contains(key) && object.at(key).is_string()
               ? object.at(key).get<std::string>()
               : std::string();
}

const Json& memberOf(const Json& object, const char* key) {
    static const Json kNone;
    return object.is_object() && object.contains(key) ? object.at(key) : kNone;
}

std::optional<Key> keyOf(const Json& json) {
    return json.is_number()   ? std::optional<Key>(json.get<double>())
           : json.is_string() ? std::optional<Key>(json.get<std::string>())
                              : std::nullopt;
}

Json jsonOf(const Key& key) {
    return std::holds_alternative<double>(key) ? Json(std::get<double>(key))
                                               : Json(std::get<std::string>(key));
}

/// A missing value is written as text; in a column of numbers “-9” means the number.
std::optional<Key> missingKey(const std::string& text, bool number) {
    if (text.empty()) {
        return std::nullopt;
    }
    if (!number) {
        return Key(text);
    }
    // A word among numbers has been made missing by the reader already.
    const auto value = numberIn(text);
    return value ? std::optional<Key>(*value) : std::nullopt;
}

void readField(const Json& field, const Json& packageMissing, const Column& column, Variable& v) {
    v.label = textIn(field, "title");
    v.note = textIn(field, "description");
    v.unit = textIn(field, "unit");
    const std::string type = textIn(field, "type");
    const bool number = !column.isText();
    if (number && type == "boolean") {
        v.measure = Measure::YesNo;
    } else if (number && type == "number" && v.measure == Measure::Count) {
        v.measure = Measure::Quantity;
    } else if (!number && type == "string" && v.measure == Measure::Text &&
               !memberOf(field, "categories").is_null()) {
        v.measure = Measure::Groups;
    }
    const std::string own = textIn(field, "measure");
    for (const Measure m : {Measure::Quantity, Measure::Count, Measure::YesNo, Measure::Groups,
                            Measure::OrderedGroups, Measure::Date, Measure::Text}) {
        v.measure = own == measureName(m) ? m : v.measure;
    }
    const Json& missing = memberOf(field, "missingValues").is_array()
                              ? memberOf(field, "missingValues")
                              : packageMissing;
    for (const Json& one : missing) {
        // Both plain texts and {value, label} are in the standard.
        const Json& value = one.is_object() ? memberOf(one, "value") : one;
        const auto key =
            value.is_string() ? missingKey(value.get<std::string>(), number) : keyOf(value);
        const bool occurs = key && (!number ||
                                    std::find(column.numbers().begin(), column.numbers().end(),
                                              std::get<double>(*key)) != column.numbers().end() ||
                                    memberOf(field, "missingValues").is_array());
        if (occurs) {
            v.missing.push_back(*key);
        }
    }
    const Json& categories = memberOf(field, "categories");
    if (categories.is_array()) {
        v.levels.clear();
        for (const Json& one : categories) {
            const auto key = keyOf(one.is_object() ? memberOf(one, "value") : one);
            if (key) {
                v.levels.push_back({*key, one.is_object() ? textIn(one, "label") : ""});
            }
        }
        const bool ordered = memberOf(field, "categoriesOrdered").is_boolean() &&
                             memberOf(field, "categoriesOrdered").get<bool>();
        if (own.empty() && v.measure != Measure::YesNo) {
            v.measure = ordered ? Measure::OrderedGroups : Measure::Groups;
        }
    }
    if (const auto base = keyOf(memberOf(field, "base"))) {
        v.base = {*base};
    }
}

/// The description with the resource that is meant.
struct Chosen {
    Json resource;
    std::vector<std::string> names;
    std::string file;  ///< Of its table.
};

Result<Chosen> chosenResource(const std::string& path, const ReaderOptions& options) {
    const auto description = MappedFile::open(path);
    if (!description) {
        return tl::make_unexpected(description.error());
    }
    if (auto plain = plainEnough(description->bytes()); !plain) {
        Refusal refusal = plain.error();
        refusal.where = path + ", " + refusal.where;
        return tl::make_unexpected(refusal);
    }
    const Json package = Json::parse(description->bytes(), nullptr, false);
    const Json& resources = memberOf(package, "resources");
    if (!resources.is_array() || resources.empty()) {
        return refuse(ErrorCode::Syntax, "this is no data package: it lists no resources", path);
    }
    Chosen out;
    const Json* chosen = nullptr;
    for (const Json& resource : resources) {
        out.names.push_back(textIn(resource, "name"));
        const bool wanted =
            options.table.empty() ? chosen == nullptr : textIn(resource, "name") == options.table;
        chosen = wanted ? &resource : chosen;
    }
    if (chosen == nullptr) {
        return refuse(ErrorCode::BadSetting, "there is no resource ‘" + options.table + "’", path,
                      "The resources are: " + joinedNames(out.names) + ".");
    }
    const std::filesystem::path file(textIn(*chosen, "path"));
    const bool inside =
        !file.empty() && file.is_relative() &&
        std::none_of(file.begin(), file.end(), [](const auto& part) { return part == ".."; });
    if (!inside) {
        return refuse(ErrorCode::BadSetting, "the resource’s path must lie beside the package",
                      path, "Keep the table in the package’s folder.");
    }
    out.resource = *chosen;
    out.file = (std::filesystem::path(path).parent_path() / file).string();
    return out;
}

}  // namespace

std::vector<std::string> filesOfDataPackage(const std::string& path, const ReaderOptions& options) {
    const auto chosen = chosenResource(path, options);
    return chosen ? std::vector<std::string>{path, chosen->file} : std::vector<std::string>{path};
}

Result<Import> readDataPackage(const std::string& path, const ReaderOptions& options,
                               const Job& job) {
    const auto found = chosenResource(path, options);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    const Json* chosen = &found->resource;
    ReaderOptions reader = options;
    const Json& dialect = memberOf(*chosen, "dialect");
    const auto one = [&](const char* key, std::optional<char>& into) {
        const std::string mark = textIn(dialect, key);
        into = into || mark.size() != 1 ? into : std::optional(mark.front());
    };
    one("delimiter", reader.delimiter);
    one("decimalChar", reader.decimal);
    if (memberOf(dialect, "header").is_boolean()) {
        reader.header = memberOf(dialect, "header").get<bool>();
    } else if (!reader.header) {
        reader.header = true;
    }
    const Json& described = memberOf(memberOf(*chosen, "schema"), "fields");
    for (const Json& field : described.is_array() ? described : Json::array()) {
        if (textIn(field, "type") == "string") {
            reader.asText.push_back(textIn(field, "name"));
        }
    }
    auto import = readCsvFile(found->file, reader, job);
    if (!import) {
        return import;
    }
    import->parts = found->names;
    import->used.asText.clear();
    import->used.table = textIn(*chosen, "name");
    const Json& schema = memberOf(*chosen, "schema");
    const Json& fields = memberOf(schema, "fields");
    for (const Json& field : fields.is_array() ? fields : Json::array()) {
        const int at = import->table.find(textIn(field, "name"));
        if (at < 0) {
            import->problems.push_back({0, "the package describes ‘" + textIn(field, "name") +
                                               "’, which is not in the table"});
            ++import->problemCount;
            continue;
        }
        const auto place = static_cast<std::size_t>(at);
        readField(field, memberOf(schema, "missingValues"), import->table.columns[place],
                  import->table.variables[place]);
    }
    return import;
}

Result<void> writeDataPackage(const Table& table, const std::string& path) {
    const std::filesystem::path where(path);
    std::string stem = where.filename().string();
    stem = stem.substr(0, stem.find(".datapackage"));
    if (stem.empty() || stem == "datapackage.json") {
        stem = "data";
    }
    const std::string csv = (where.parent_path() / (stem + ".csv")).string();
    if (auto done = writeCsv(table, csv); !done) {
        return done;
    }
    Json fields = Json::array();
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        const Variable& v = table.variables[j];
        Json field{{"name", v.name}};
        field["type"] = table.columns[j].isText()     ? "string"
                        : v.measure == Measure::Date  ? "date"
                        : v.measure == Measure::Count ? "integer"
                                                      : "number";
        const auto put = [&](const char* key, const std::string& text) {
            if (!text.empty()) {
                field[key] = text;
            }
        };
        put("title", v.label);
        put("description", v.note);
        put("unit", v.unit);
        field["measure"] = measureName(v.measure);
        if (!v.missing.empty()) {
            field["missingValues"] = Json::array({""});
            for (const Key& key : v.missing) {
                field["missingValues"].push_back(keyText(key));
            }
        }
        if (!v.levels.empty()) {
            field["categories"] = Json::array();
            for (const Level& level : v.levels) {
                field["categories"].push_back(
                    Json{{"value", jsonOf(level.value)}, {"label", level.label}});
            }
            field["categoriesOrdered"] = v.measure == Measure::OrderedGroups;
        }
        if (!v.base.empty()) {
            field["base"] = jsonOf(v.base.front());
        }
        fields.push_back(std::move(field));
    }
    const Json package = {
        {"profile", "tabular-data-package"},
        {"name", stem},
        {"resources", Json::array({Json{{"name", stem},
                                        {"path", stem + ".csv"},
                                        {"profile", "tabular-data-resource"},
                                        {"encoding", "utf-8"},
                                        {"dialect", Json{{"delimiter", ","}, {"header", true}}},
                                        {"schema", Json{{"missingValues", Json::array({""})},
                                                        {"fields", fields}}}}})}};
    if (const auto done = replaceFile(path, package.dump(2) + "\n"); !done) {
        return tl::make_unexpected(done.error());
    }
    return {};
}

}  // namespace rapporto
