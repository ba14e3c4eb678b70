// DDI Codebook 2.5: an open standard for what is known about a table, as XML beside its CSV.
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/typed_text.h"
#include "core/io/mapped_file.h"
#include "core/io/table_file.h"

#include <pugixml.hpp>

#include <algorithm>
#include <cmath>
#include <filesystem>

namespace rapporto {
namespace {

using pugi::xml_node;

/// The child of that name whatever the prefix of its namespace.
bool isNamed(const xml_node& node, std::string_view name) {
    const std::string_view full = node.name();
    return full == name || (full.size() > name.size() && full.ends_with(name) &&
                            full[full.size() - name.size() - 1] == ':');
}

std::vector<xml_node> childrenOf(const xml_node& node, std::string_view name) {
    std::vector<xml_node> out;
    for (const xml_node& child : node.children()) {
        if (isNamed(child, name)) {
            out.push_back(child);
        }
    }
    return out;
}

xml_node childOf(const xml_node& node, std::string_view name) {
    for (const xml_node& child : node.children()) {
        if (isNamed(child, name)) {
            return child;
        }
    }
    return {};
}

/// All text below a node, runs of white space made one.
std::string textOf(const xml_node& node) {
    std::string raw;

    struct Walker : pugi::xml_tree_walker {
        std::string& into;

        explicit Walker(std::string& text) : into(text) {}

        bool for_each(xml_node& part) override {
            if (part.type() == pugi::node_pcdata || part.type() == pugi::node_cdata) {
                into += part.value();
                into += ' ';
            }
            return true;
        }
    } walker(raw);

    xml_node start = node;
    start.traverse(walker);
    std::string out;
    for (const char c : raw) {
        const bool space = c == ' ' || c == '\n' || c == '\t' || c == '\r';
        if (!space) {
            out += c;
        } else if (!out.empty() && out.back() != ' ') {
            out += ' ';
        }
    }
    return out.substr(0, out.find_last_not_of(' ') + 1);
}

/// A code as the column holds it: a number in a column of numbers, else a text. Nothing for a word
/// among numbers, which the reader has made missing already.
std::optional<Key> keyOf(const std::string& text, bool number) {
    if (text.empty()) {
        return std::nullopt;
    }
    if (!number) {
        return Key(text);
    }
    const auto value = numberIn(text);
    return value ? std::optional<Key>(*value) : std::nullopt;
}

void readMissing(const xml_node& var, bool number, Variable& v) {
    const auto add = [&](const std::string& text) {
        const auto key = keyOf(text, number);
        if (key && std::find(v.missing.begin(), v.missing.end(), *key) == v.missing.end()) {
            v.missing.push_back(*key);
        }
    };
    for (const xml_node& range : childrenOf(var, "invalrng")) {
        for (const xml_node& item : childrenOf(range, "item")) {
            add(item.attribute("VALUE").as_string());
        }
        for (const xml_node& part : childrenOf(range, "range")) {
            const auto low = numberIn(part.attribute("min").as_string());
            const auto high = numberIn(part.attribute("max").as_string());
            if (number && (low || high)) {
                constexpr double kFar = 1e300;
                v.missingRanges.push_back({low.value_or(-kFar), high.value_or(kFar)});
            }
        }
    }
    for (const xml_node& category : childrenOf(var, "catgry")) {
        const std::string missing = category.attribute("missing").as_string();
        if (missing == "Y" || missing == "y" || missing == "true") {
            add(textOf(childOf(category, "catValu")));
        }
    }
}

void readLevels(const xml_node& var, bool number, Variable& v) {
    std::vector<Level> levels;
    for (const xml_node& category : childrenOf(var, "catgry")) {
        const auto key = keyOf(textOf(childOf(category, "catValu")), number);
        const std::string missing = category.attribute("missing").as_string();
        if (key && missing != "Y" && missing != "y" && missing != "true") {
            levels.push_back({*key, textOf(childOf(category, "labl"))});
        }
    }
    if (levels.empty()) {
        return;
    }
    v.levels = levels;
    const std::string nature = var.attribute("nature").as_string();
    const bool continuous = std::string_view(var.attribute("intrvl").as_string()) == "contin";
    const bool twoSides =
        number && levels.size() == 2 && levels[0].value == Key(0.0) && levels[1].value == Key(1.0);
    v.measure = nature == "ordinal" ? Measure::OrderedGroups
                : twoSides          ? Measure::YesNo
                : continuous        ? v.measure  // Labels of end points only.
                                    : Measure::Groups;
}

void readMeasure(const xml_node& var, bool number, Variable& v) {
    const std::string nature = var.attribute("nature").as_string();
    const std::string interval = var.attribute("intrvl").as_string();
    if (nature == "ordinal") {
        v.measure = Measure::OrderedGroups;
    } else if (nature == "nominal" && v.measure != Measure::YesNo) {
        v.measure = Measure::Groups;
    } else if (number && interval == "contin" &&
               (v.measure == Measure::Count || v.measure == Measure::Groups)) {
        v.measure = Measure::Quantity;
    }
    // What the standard has no place for stands in notes of ours.
    for (const xml_node& note : childrenOf(var, "notes")) {
        const std::string type = note.attribute("type").as_string();
        if (type == "measure") {
            for (const Measure m :
                 {Measure::Quantity, Measure::Count, Measure::YesNo, Measure::Groups,
                  Measure::OrderedGroups, Measure::Date, Measure::Text}) {
                v.measure = textOf(note) == measureName(m) ? m : v.measure;
            }
        } else if (type == "base") {
            if (const auto base = keyOf(textOf(note), number)) {
                v.base = {*base};
            }
        }
    }
}

void readVariable(const xml_node& var, const Column& column, Variable& v) {
    const bool number = !column.isText();
    v.label = textOf(childOf(var, "labl"));
    v.unit = var.attribute("measUnit").as_string();
    std::vector<std::string> notes;
    for (const xml_node& question : childrenOf(var, "qstn")) {
        const xml_node literal = childOf(question, "qstnLit");
        const std::string asked = textOf(literal ? literal : question);
        if (!asked.empty()) {
            notes.push_back(asked);
        }
    }
    for (const xml_node& text : childrenOf(var, "txt")) {
        notes.push_back(textOf(text));
    }
    v.note.clear();
    for (const std::string& note : notes) {
        v.note += (v.note.empty() ? "" : " ") + note;
    }
    readMissing(var, number, v);
    readLevels(var, number, v);
    readMeasure(var, number, v);
}

struct Description {
    pugi::xml_document document;
    xml_node book;
    std::string table;  ///< Path of the CSV.
    std::vector<std::string> files;
};

Result<std::shared_ptr<Description>> describe(const std::string& path,
                                              const ReaderOptions& options) {
    const auto file = MappedFile::open(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    auto out = std::make_shared<Description>();
    const auto parsed = out->document.load_buffer(file->bytes().data(), file->bytes().size());
    if (!parsed) {
        const auto upTo = file->bytes().substr(
            0, static_cast<std::size_t>(std::max<std::ptrdiff_t>(parsed.offset, 0)));
        return refuse(
            ErrorCode::Syntax, std::string("this is not well-formed XML: ") + parsed.description(),
            path + ", line " + std::to_string(1 + std::count(upTo.begin(), upTo.end(), '\n')));
    }
    out->book = out->document.document_element();
    if (!isNamed(out->book, "codeBook")) {
        return refuse(ErrorCode::Syntax, "this XML is no codebook", path,
                      "A DDI Codebook starts with ‘codeBook’.");
    }
    for (const xml_node& described : childrenOf(out->book, "fileDscr")) {
        out->files.push_back(textOf(childOf(childOf(described, "fileTxt"), "fileName")));
    }
    std::erase(out->files, "");
    const std::filesystem::path place(path);
    // A table named in the description, else the CSV of the same name.
    std::vector<std::string> candidates = out->files;
    if (!options.table.empty()) {
        candidates = {options.table};
    }
    candidates.push_back(place.stem().string() + ".csv");
    for (const std::string& name : candidates) {
        const std::filesystem::path relative(name);
        const bool inside =
            relative.is_relative() && std::none_of(relative.begin(), relative.end(),
                                                   [](const auto& part) { return part == ".."; });
        std::error_code ignored;
        for (std::filesystem::path at :
             {place.parent_path() / relative, place.parent_path() / (name + ".csv")}) {
            if (inside && std::filesystem::is_regular_file(at, ignored) &&
                formatOf(at.string(), {})->type == std::string("csv")) {
                out->table = at.string();
                return out;
            }
        }
    }
    return refuse(ErrorCode::File, "the table of this codebook is not beside it", path,
                  "Put its CSV into the same folder as " + candidates.back() + ".");
}

/// Attributes and texts of one variable.
void writeVariable(xml_node var, const Variable& v, const Column& column) {
    var.append_attribute("name") = v.name.c_str();
    var.append_attribute("intrvl") = v.measure == Measure::Quantity ? "contin" : "discrete";
    if (v.measure == Measure::Groups || v.measure == Measure::OrderedGroups) {
        var.append_attribute("nature") = v.measure == Measure::Groups ? "nominal" : "ordinal";
    }
    if (!v.unit.empty()) {
        var.append_attribute("measUnit") = v.unit.c_str();
    }
    const auto child = [&](xml_node into, const char* name, const std::string& text) {
        xml_node node = into.append_child(name);
        node.text().set(text.c_str());
        return node;
    };
    if (!v.label.empty()) {
        child(var, "labl", v.label);
    }
    const auto isMissing = [&](const Key& key) {
        return std::find(v.missing.begin(), v.missing.end(), key) != v.missing.end();
    };
    if (!v.missing.empty() || !v.missingRanges.empty()) {
        xml_node range = var.append_child("invalrng");
        for (const Key& key : v.missing) {
            range.append_child("item").append_attribute("VALUE") = keyText(key).c_str();
        }
        for (const KeyRange& r : v.missingRanges) {
            xml_node one = range.append_child("range");
            one.append_attribute("min") = exactNumber(r.low).c_str();
            one.append_attribute("max") = exactNumber(r.high).c_str();
        }
    }
    if (!v.note.empty()) {
        child(var, "txt", v.note);
    }
    for (const Level& level : v.levels) {
        xml_node category = var.append_child("catgry");
        if (isMissing(level.value)) {
            category.append_attribute("missing") = "Y";
        }
        child(category, "catValu", keyText(level.value));
        if (!level.label.empty()) {
            child(category, "labl", level.label);
        }
    }
    xml_node format = var.append_child("varFormat");
    format.append_attribute("type") = column.isText() ? "character" : "numeric";
    child(var, "notes", measureName(v.measure)).append_attribute("type") = "measure";
    if (!v.base.empty()) {
        child(var, "notes", keyText(v.base.front())).append_attribute("type") = "base";
    }
}

}  // namespace

std::vector<std::string> filesOfDdi(const std::string& path, const ReaderOptions& options) {
    const auto description = describe(path, options);
    return description ? std::vector<std::string>{path, (*description)->table}
                       : std::vector<std::string>{path};
}

Result<Import> readDdi(const std::string& path, const ReaderOptions& options, const Job& job) {
    const auto description = describe(path, options);
    if (!description) {
        return tl::make_unexpected(description.error());
    }
    const Description& ddi = **description;
    std::vector<xml_node> variables;
    for (const xml_node& data : childrenOf(ddi.book, "dataDscr")) {
        const auto more = childrenOf(data, "var");
        variables.insert(variables.end(), more.begin(), more.end());
    }
    ReaderOptions reader = options;
    for (const xml_node& var : variables) {
        if (std::string_view(childOf(var, "varFormat").attribute("type").as_string()) ==
            "character") {
            reader.asText.emplace_back(var.attribute("name").as_string());
        }
    }
    auto import = readCsvFile(ddi.table, reader, job);
    if (!import) {
        return import;
    }
    import->parts = ddi.files;
    import->used.asText.clear();
    for (const xml_node& var : variables) {
        const std::string name = var.attribute("name").as_string();
        const int at = import->table.find(name);
        if (at < 0) {
            import->problems.push_back(
                {0, "the codebook describes ‘" + name + "’, which is not in the table"});
            ++import->problemCount;
            continue;
        }
        const auto place = static_cast<std::size_t>(at);
        readVariable(var, import->table.columns[place], import->table.variables[place]);
    }
    return import;
}

Result<void> writeDdi(const Table& table, const std::string& path) {
    const std::filesystem::path where(path);
    const std::string csv = (where.parent_path() / where.stem()).string() + ".csv";
    if (auto done = writeCsv(table, csv); !done) {
        return done;
    }
    pugi::xml_document document;
    xml_node book = document.append_child("codeBook");
    book.append_attribute("xmlns") = "ddi:codebook:2_5";
    book.append_attribute("version") = "2.5";
    const std::string title = where.stem().string();
    book.append_child("stdyDscr")
        .append_child("citation")
        .append_child("titlStmt")
        .append_child("titl")
        .text()
        .set(title.c_str());
    xml_node file = book.append_child("fileDscr").append_child("fileTxt");
    file.append_child("fileName").text().set((title + ".csv").c_str());
    xml_node counts = file.append_child("dimensns");
    counts.append_child("caseQnty").text().set(static_cast<unsigned long long>(table.rows()));
    counts.append_child("varQnty").text().set(
        static_cast<unsigned long long>(table.columns.size()));
    xml_node data = book.append_child("dataDscr");
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        writeVariable(data.append_child("var"), table.variables[j], table.columns[j]);
    }
    std::ostringstream text;
    document.save(text, "  ");
    if (const auto done = replaceFile(path, text.str()); !done) {
        return tl::make_unexpected(done.error());
    }
    return {};
}

}  // namespace rapporto
