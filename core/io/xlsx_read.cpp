// Office Open XML spreadsheets in, by liborcus: cells with their kinds; dates by the number format
// of the cell.
#include "core/io/sheet_cells.h"
#include "core/io/table_file.h"

#include <ixion/address.hpp>
#include <ixion/cell.hpp>
#include <ixion/formula_result.hpp>
#include <ixion/model_context.hpp>
#include <orcus/orcus_xlsx.hpp>
#include <orcus/spreadsheet/document.hpp>
#include <orcus/spreadsheet/factory.hpp>
#include <orcus/spreadsheet/sheet.hpp>
#include <orcus/spreadsheet/styles.hpp>

#include <chrono>
#include <cmath>
#include <filesystem>

namespace rapporto {
namespace {

namespace sheets = orcus::spreadsheet;

/// A format that shows a year, a month in words, or a day: “yyyy-mm-dd”, not “0.00%”, “[h]:mm”.
bool isDateFormat(std::string_view code) {
    bool quoted = false;
    bool bracketed = false;
    bool year = false;
    bool day = false;
    for (std::size_t i = 0; i < code.size(); ++i) {
        const char c = code[i];
        if (c == '\\' || c == '_') {
            ++i;
        } else if (c == '"') {
            quoted = !quoted;
        } else if (!quoted && (c == '[' || c == ']')) {
            bracketed = c == '[';
        } else if (!quoted && !bracketed) {
            year = year || c == 'y' || c == 'Y';
            day = day || c == 'd' || c == 'D';
        }
    }
    return year || day;
}

/// Built-in number formats 14 to 17 and 22 show dates (ECMA-376, part 1, section 18.8.30).
bool isDateId(std::size_t id) { return (id >= 14 && id <= 17) || id == 22; }

class Book {
  public:
    explicit Book(const sheets::document& document)
        : document_(document), model_(document.get_model_context()) {
        const auto origin = document.get_origin_date();
        using namespace std::chrono;
        const year_month_day first{year{origin.year}, month{static_cast<unsigned>(origin.month)},
                                   std::chrono::day{static_cast<unsigned>(origin.day)}};
        origin_ = first.ok() && origin.year > 1000
                      ? static_cast<double>(sys_days{first}.time_since_epoch().count())
                      : -25569.0;  // 1899-12-30
    }

    [[nodiscard]] SheetCell cell(sheets::sheet_t sheet, sheets::row_t row,
                                 sheets::col_t column) const {
        const ixion::abs_address_t at(sheet, row, column);
        SheetCell out;
        switch (model_.get_celltype(at)) {
            case ixion::celltype_t::numeric:
                number(sheet, row, column, model_.get_numeric_value(at), out);
                break;
            case ixion::celltype_t::boolean:
                out.kind = SheetCell::Kind::Truth;
                out.number = model_.get_boolean_value(at) ? 1.0 : 0.0;
                break;
            case ixion::celltype_t::string:
                out.kind = SheetCell::Kind::Text;
                out.text = std::string(model_.get_string_value(at));
                break;
            case ixion::celltype_t::formula:
                formula(sheet, row, column, out);
                break;
            default:
                break;
        }
        return out;
    }

  private:
    void number(sheets::sheet_t sheet, sheets::row_t row, sheets::col_t column, double value,
                SheetCell& out) const {
        out.kind = SheetCell::Kind::Number;
        out.number = value;
        if (shownAsDate(sheet, row, column)) {
            out.kind = SheetCell::Kind::Date;
            out.number = std::floor(value) + origin_;
        }
    }

    void formula(sheets::sheet_t sheet, sheets::row_t row, sheets::col_t column,
                 SheetCell& out) const {
        const ixion::abs_address_t at(sheet, row, column);
        try {
            const ixion::formula_result result = model_.get_formula_result(at);
            switch (result.get_type()) {
                case ixion::formula_result::result_type::value:
                    number(sheet, row, column, result.get_value(), out);
                    break;
                case ixion::formula_result::result_type::string:
                    out.kind = SheetCell::Kind::Text;
                    out.text = result.get_string();
                    break;
                default:
                    out.kind = SheetCell::Kind::Error;
            }
        } catch (const std::exception&) {
            out.kind = SheetCell::Kind::Error;  // Saved without its result.
        }
    }

    [[nodiscard]] bool shownAsDate(sheets::sheet_t sheet, sheets::row_t row,
                                   sheets::col_t column) const {
        const sheets::sheet* page = document_.get_sheet(sheet);
        const sheets::cell_format_t* format =
            document_.get_styles().get_cell_format(page->get_cell_format(row, column));
        if (format == nullptr) {
            return false;
        }
        if (isDateId(format->number_format)) {
            return true;
        }
        // Office Open XML names formats by number, the other by their place.
        const sheets::styles& styles = document_.get_styles();
        bool named = false;
        for (std::size_t k = 0; k < styles.get_number_format_count(); ++k) {
            const sheets::number_format_t* number = styles.get_number_format(k);
            named = named || number->identifier > 0;
            if (number->identifier > 0 && number->identifier == format->number_format) {
                return isDateFormat(number->format_string);
            }
        }
        const sheets::number_format_t* number = styles.get_number_format(format->number_format);
        return !named && number != nullptr && isDateFormat(number->format_string);
    }

    const sheets::document& document_;
    const ixion::model_context& model_;
    double origin_ = 0.0;
};

/// The sheets of a document that hold cells.
std::vector<Sheet> sheetsOf(const sheets::document& document, const Book& book) {
    std::vector<Sheet> out;
    for (std::size_t s = 0; s < document.get_sheet_count(); ++s) {
        const auto at = static_cast<sheets::sheet_t>(s);
        const ixion::abs_range_t range = document.get_model_context().get_data_range(at);
        if (range.valid()) {
            out.push_back({std::string(document.get_sheet_name(at)), range.first.row,
                           range.first.column, range.last.row, range.last.column,
                           [&book, at](long row, long column) {
                               return book.cell(at, static_cast<sheets::row_t>(row),
                                                static_cast<sheets::col_t>(column));
                           }});
        }
    }
    return out;
}

}  // namespace

Result<Import> readXlsx(const std::string& path, const ReaderOptions& options, const Job& job) {
    if (!std::filesystem::is_regular_file(path)) {
        return refuse(ErrorCode::File, "the file cannot be opened", path,
                      "Check that it is there and may be read.");
    }
    try {
        // As many rows as the format allows.
        sheets::document document{sheets::range_size_t{1048576, 16384}};
        sheets::import_factory factory(document);
        orcus::orcus_xlsx filter(&factory);
        filter.read_file(path);
        factory.finalize();
        const Book book(document);
        return tableOfSheets(sheetsOf(document, book), path, options, job);
    } catch (const std::exception& fault) {
        // The library throws on broken archives and markup: what a person can cause.
        return refuse(ErrorCode::Syntax,
                      std::string("this spreadsheet cannot be read: ") + fault.what(), path,
                      "Open it where it was made and save it again.");
    }
}

}  // namespace rapporto
