#pragma once

#include "core/base/compiled_once.h"
#include "core/picture/picture.h"
#include "core/study/sweep_choices.h"

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// How a table of results is set. What is not said is as here.
struct TableLook {
    RAPPORTO_COMPILED_ONCE(TableLook);

    /// Terms that are told by “yes” in one row.
    struct Fold {
        std::string label;
        std::vector<std::string> terms;

        friend bool operator==(const Fold&, const Fold&) = default;
    };

    /// A line above a term.
    struct Heading {
        std::string before;
        std::string text;

        friend bool operator==(const Heading&, const Heading&) = default;
    };

    /// Questions that stand below the others in the same columns.
    struct Panel {
        std::string title;
        std::vector<std::string> questions;

        friend bool operator==(const Panel&, const Panel&) = default;
    };

    std::string below = "error";     ///< error, interval, t, p or nothing.
    std::string beside;              ///< percent or ratio, beside the estimate; empty: nothing.
    std::vector<double> stars;       ///< Levels of p, at most three; empty: none.
    std::optional<int> digits;       ///< Decimals of all estimates; absent: by their errors.
    bool names = false;              ///< Names of variables in place of labels.
    std::string base = "label";      ///< Of a grouping: label (in its heading), row or nothing.
    std::string columns = "titles";  ///< titles or numbers.
    std::vector<std::string> heads;  ///< Of the columns, in place of titles; empty ones are made.
    std::vector<std::string> order;  ///< Terms that come first, in this order.
    std::vector<std::string> foot;   ///< Statistics below; empty: rows, r_squared, sigma.
    std::vector<Fold> folds;
    std::vector<Heading> headings;
    std::vector<Panel> panels;

    friend bool operator==(const TableLook&, const TableLook&) = default;
};

/// An item as it stood when it was frozen.
struct FrozenItem {
    std::string at;      ///< ISO 8601, local.
    std::string blocks;  ///< As core/report/frozen.h writes them.

    friend bool operator==(const FrozenItem&, const FrozenItem&) = default;
};

/// One piece of the report. Which members an item reads, its line in report_items.cpp says.
struct ReportItem {
    RAPPORTO_COMPILED_ONCE(ReportItem);

    std::string item;                    ///< An id of allReportItems.
    std::vector<std::string> questions;  ///< Ids; empty: the lead.
    std::string caption;                 ///< In place of the one made from what it shows.
    std::string note;                    ///< In place of the one below a table or a figure.
    std::string text;                    ///< Of free text.
    std::vector<std::string> variables;
    std::string by;     ///< A grouping.
    std::string shows;  ///< Of a figure: what it is of.
    TableLook table;
    std::optional<PictureSpec> picture;
    std::optional<SweepChoices> sweep;
    std::optional<FrozenItem> frozen;
    /// Keys of later versions with their values as text: kept, and not used.
    std::vector<std::pair<std::string, std::string>> further;

    ReportItem(std::string kind, std::vector<std::string> of = {})
        : item(std::move(kind)), questions(std::move(of)) {}

    friend bool operator==(const ReportItem&, const ReportItem&) = default;
};

/// What holds for the whole report.
struct ReportStyle {
    std::string title;  ///< Empty: that of the study.
    std::string subtitle;
    std::string byline;
    std::string decimal = ".";    ///< "." or ",".
    std::string thousands = " ";  ///< " " (a narrow one), ",", ".", "'" or empty.
    std::string language = "en";  ///< Of fixed words: en, de, fr, es, it.

    friend bool operator==(const ReportStyle&, const ReportStyle&) = default;
};

}  // namespace rapporto
