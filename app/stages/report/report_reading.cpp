// What the reading column says of the report: the chosen item’s settings, the whole report’s, and
// ways to take it away.
#include "app/shell/theme.h"
#include "app/stages/report/report_stage.h"
#include "core/base/format.h"
#include "core/report/named_figures.h"
#include "core/report/report_items.h"
#include "core/report/results_table.h"
#include "core/report/writers/writer.h"

#include <QListWidget>

#include <algorithm>

namespace rapporto::app {
namespace {

/// A choice among ids, shown in words.
struct Choice {
    std::string id;
    QString words;
};

QString wordsFor(const std::vector<Choice>& choices, const std::string& id) {
    for (const Choice& choice : choices) {
        if (id == choice.id) {
            return choice.words;
        }
    }
    return text(id);
}

std::string idFor(const std::vector<Choice>& choices, const QString& words) {
    for (const Choice& choice : choices) {
        if (words == choice.words) {
            return choice.id;
        }
    }
    return utf8(words);
}

SheetField chooser(const QString& name, const std::vector<Choice>& choices, const std::string& now,
                   const std::function<void(const std::string&)>& set) {
    SheetField field;
    field.name = name;
    field.value = wordsFor(choices, now);
    for (const Choice& choice : choices) {
        field.choices << choice.words;
    }
    field.set = [choices, set](const QString& words) { set(idFor(choices, words)); };
    return field;
}

SheetField line(const QString& name, const std::string& now, const QString& placeholder,
                const std::function<void(const std::string&)>& set) {
    SheetField field;
    field.name = name;
    field.value = text(now);
    field.placeholder = placeholder;
    field.set = [set](const QString& words) { set(utf8(words)); };
    return field;
}

std::vector<std::string> listOf(const std::string& words) {
    std::vector<std::string> out;
    for (const QString& one : text(words).split(',', Qt::SkipEmptyParts)) {
        if (!one.trimmed().isEmpty()) {
            out.push_back(utf8(one.trimmed()));
        }
    }
    return out;
}

/// “Controls: age, slope_pct; Land: orchard_ha”.
std::string foldText(const std::vector<TableLook::Fold>& folds) {
    std::string out;
    for (const TableLook::Fold& fold : folds) {
        out += (out.empty() ? "" : "; ") + fold.label + ": " + joinedNames(fold.terms);
    }
    return out;
}

std::vector<TableLook::Fold> foldsOf(const std::string& words) {
    std::vector<TableLook::Fold> out;
    for (const QString& one : text(words).split(';', Qt::SkipEmptyParts)) {
        const QString label = one.section(':', 0, 0).trimmed();
        const auto terms = listOf(utf8(one.section(':', 1)));
        if (!label.isEmpty() && !terms.empty()) {
            out.push_back({utf8(label), terms});
        }
    }
    return out;
}

}  // namespace

void ReportStage::addLookFields(ReadingContent& content, int item) const {
    auto* self = const_cast<ReportStage*>(this);
    const TableLook look = reportItems(session_.study())[static_cast<std::size_t>(item)].table;
    const auto change = [self, item](const std::function<void(TableLook&)>& how) {
        self->changeItem(
            item, [&](ReportItem& one) { how(one.table); }, tr("set the table"));
    };
    content.fields.push_back(chooser(tr("beneath"),
                                     {{"error", tr("standard errors")},
                                      {"interval", tr("intervals")},
                                      {"t", tr("t")},
                                      {"p", tr("p")},
                                      {"nothing", tr("nothing")}},
                                     look.below, [change](const std::string& id) {
                                         change([&](TableLook& l) { l.below = id; });
                                     }));
    content.fields.push_back(chooser(tr("beside"),
                                     {{"", tr("nothing")},
                                      {"percent", tr("percent, of logs")},
                                      {"ratio", tr("ratios, of logs")}},
                                     look.beside, [change](const std::string& id) {
                                         change([&](TableLook& l) { l.beside = id; });
                                     }));
    content.fields.push_back(chooser(
        tr("stars"), {{"off", tr("off")}, {"on", tr(".05 .01 .001")}, {"wide", tr(".1 .05 .01")}},
        look.stars.empty()          ? "off"
        : look.stars.front() > 0.06 ? "wide"
                                    : "on",
        [change](const std::string& id) {
            change([&](TableLook& l) {
                l.stars = id == "on"     ? std::vector{0.05, 0.01, 0.001}
                          : id == "wide" ? std::vector{0.1, 0.05, 0.01}
                                         : std::vector<double>();
            });
        }));
    content.fields.push_back(chooser(
        tr("decimals"), {{"-", tr("by the error")}, {"1", "1"}, {"2", "2"}, {"3", "3"}, {"4", "4"}},
        look.digits ? std::to_string(*look.digits) : "-", [change](const std::string& id) {
            change([&](TableLook& l) {
                l.digits = id == "-" ? std::nullopt : std::optional(std::atoi(id.c_str()));
            });
        }));
    content.fields.push_back(
        chooser(tr("terms"), {{"labels", tr("by label")}, {"names", tr("by name")}},
                look.names ? "names" : "labels", [change](const std::string& id) {
                    change([&](TableLook& l) { l.names = id == "names"; });
                }));
    content.fields.push_back(chooser(
        tr("base of groups"),
        {{"label", tr("in the heading")}, {"row", tr("a row")}, {"nothing", tr("not told")}},
        look.base,
        [change](const std::string& id) { change([&](TableLook& l) { l.base = id; }); }));
    content.fields.push_back(chooser(
        tr("columns"), {{"titles", tr("by title")}, {"numbers", tr("numbered")}}, look.columns,
        [change](const std::string& id) { change([&](TableLook& l) { l.columns = id; }); }));
    content.fields.push_back(line(tr("fold"), foldText(look.folds), tr("Controls: age, slope_pct"),
                                  [change](const std::string& words) {
                                      change([&](TableLook& l) { l.folds = foldsOf(words); });
                                  }));
    content.fields.push_back(line(tr("first terms"), joinedNames(look.order), tr("as they come"),
                                  [change](const std::string& words) {
                                      change([&](TableLook& l) { l.order = listOf(words); });
                                  }));
    std::string ids;
    for (const FootStatistic& one : footStatistics()) {
        ids += (ids.empty() ? "" : ", ") + std::string(one.id);
    }
    SheetField foot = line(tr("in the foot"), joinedNames(look.foot), "rows, r_squared, sigma",
                           [change](const std::string& words) {
                               change([&](TableLook& l) { l.foot = listOf(words); });
                           });
    foot.placeholder = text(ids);
    content.fields.push_back(std::move(foot));
}

void ReportStage::addItemFields(ReadingContent& content, int item) const {
    auto* self = const_cast<ReportStage*>(this);
    const ReportItem one = reportItems(session_.study())[static_cast<std::size_t>(item)];
    const ReportItemKind* kind = findReportItem(one.item);
    if (kind == nullptr) {
        return;
    }
    const auto change = [self, item](const std::function<void(ReportItem&)>& how,
                                     const QString& did) { self->changeItem(item, how, did); };
    if ((kind->reads & item_reads::kQuestions) != 0) {
        for (const Question& q : session_.study().questions) {
            const bool in =
                std::find(one.questions.begin(), one.questions.end(), q.id) != one.questions.end();
            content.fields.push_back(chooser(text(q.title.empty() ? q.id : q.title),
                                             {{"in", tr("shown")}, {"out", tr("left out")}},
                                             in ? "in" : "out",
                                             [change, id = q.id](const std::string& to) {
                                                 change(
                                                     [&](ReportItem& i) {
                                                         std::erase(i.questions, id);
                                                         if (to == "in") {
                                                             i.questions.push_back(id);
                                                         }
                                                     },
                                                     tr("choose what an item shows"));
                                             }));
        }
    }
    if ((kind->reads & item_reads::kVariables) != 0) {
        content.fields.push_back(line(tr("variables"), joinedNames(one.variables), tr("those used"),
                                      [change](const std::string& words) {
                                          change(
                                              [&](ReportItem& i) { i.variables = listOf(words); },
                                              tr("choose what an item shows"));
                                      }));
    }
    if ((kind->reads & item_reads::kBy) != 0) {
        content.fields.push_back(
            line(tr("by groups of"), one.by, tr("not grouped"), [change](const std::string& words) {
                change([&](ReportItem& i) { i.by = words; }, tr("choose what an item shows"));
            }));
    }
    if ((kind->reads & item_reads::kShows) != 0) {
        std::vector<Choice> choices;
        const Question* lead = session_.study().lead();
        const std::string of = !one.questions.empty() ? one.questions.front()
                               : lead != nullptr      ? lead->id
                                                      : std::string();
        if (const auto answer = session_.answer(of)) {
            for (const auto& [id, words] : figuresOf(*answer)) {
                choices.push_back({id, text(words)});
            }
        }
        const std::string shown = one.shows.empty() ? "shape" : one.shows;
        if (std::none_of(choices.begin(), choices.end(),
                         [&](const Choice& c) { return c.id == shown; })) {
            choices.push_back({shown, text(shown)});
        }
        content.fields.push_back(
            chooser(tr("shows"), choices, shown, [change](const std::string& id) {
                change([&](ReportItem& i) { i.shows = id; }, tr("choose what an item shows"));
            }));
    }
    if ((kind->reads & item_reads::kLook) != 0) {
        addLookFields(content, item);
    }
    if (one.item != "text") {
        content.fields.push_back(
            chooser(tr("numbers"), {{"live", tr("follow the question")}, {"frozen", tr("frozen")}},
                    one.frozen ? "frozen" : "live",
                    [self, item](const std::string& id) { self->freeze(item, id == "frozen"); }));
    }
}

void ReportStage::addStyleFields(ReadingContent& content) const {
    auto* self = const_cast<ReportStage*>(this);
    const ReportStyle& style = session_.study().reportStyle;
    const auto change = [self](const std::function<void(ReportStyle&)>& how) {
        self->changeStyle(how, tr("dress the report"));
    };
    content.fields.push_back(line(
        tr("title"), style.title, text(session_.study().title),
        [change](const std::string& words) { change([&](ReportStyle& s) { s.title = words; }); }));
    content.fields.push_back(
        line(tr("below it"), style.subtitle, tr("nothing"), [change](const std::string& words) {
            change([&](ReportStyle& s) { s.subtitle = words; });
        }));
    content.fields.push_back(line(
        tr("by"), style.byline, tr("names, a date"),
        [change](const std::string& words) { change([&](ReportStyle& s) { s.byline = words; }); }));
    content.fields.push_back(chooser(tr("decimal mark"), {{".", "1.5"}, {",", "1,5"}},
                                     style.decimal, [change](const std::string& id) {
                                         change([&](ReportStyle& s) {
                                             s.decimal = id;
                                             s.thousands = s.thousands == id ? " " : s.thousands;
                                         });
                                     }));
    std::vector<Choice> marks = {{" ", tr("1 000, narrow")}, {"", "1000"}, {"'", "1'000"}};
    if (style.decimal == ".") {
        marks.push_back({",", "1,000"});
    } else {
        marks.push_back({".", "1.000"});
    }
    content.fields.push_back(chooser(
        tr("thousands"), marks, style.thousands,
        [change](const std::string& id) { change([&](ReportStyle& s) { s.thousands = id; }); }));
    content.fields.push_back(chooser(tr("words of tables"),
                                     {{"en", tr("English")},
                                      {"de", tr("German")},
                                      {"fr", tr("French")},
                                      {"es", tr("Spanish")},
                                      {"it", tr("Italian")}},
                                     style.language, [change](const std::string& id) {
                                         change([&](ReportStyle& s) { s.language = id; });
                                     }));
}

ReadingContent ReportStage::reading() const {
    ReadingContent content;
    auto* self = const_cast<ReportStage*>(this);
    const auto items = reportItems(session_.study());
    const int item = items_->currentRow();
    if (item >= 0 && item < static_cast<int>(items.size())) {
        const ReportItem& one = items[static_cast<std::size_t>(item)];
        const ReportItemKind* kind = findReportItem(one.item);
        content.title = text(kind == nullptr ? one.item : std::string(kind->words));
        content.paragraphs << (one.frozen
                                   ? tr("Frozen on %1: its numbers stay as they were.")
                                         .arg(text(one.frozen->at).left(10))
                                   : tr("It follows its question. Double-click a caption or a "
                                        "note on the page to write your own."));
        addItemFields(content, item);
        content.actionsTitle = tr("The report");
        content.actions.push_back({tr("Title, marks, language"), tr("what holds for all items"),
                                   [self] { self->chooseItem(-1); }});
    } else {
        content.title = tr("report");
        content.paragraphs << tr(
            "Every item follows its question: change one and the page "
            "changes. Choose an item to set it.");
        addStyleFields(content);
        content.actionsTitle = tr("Take it away");
    }
    for (const ReportWriter& writer : allReportWriters()) {
        content.actions.push_back(
            {tr("Save as %1").arg(text(writer.name)), text(writer.words),
             [self, ending = text(writer.ending)] { self->exportAs(ending); }});
    }
    content.actions.push_back({tr("Replication folder"),
                               tr("study, data, results, report, checksums, and the command that "
                                  "computes them again"),
                               [self] { self->replicateAs(true); }});
    content.actions.push_back({tr("Replication folder without data"),
                               tr("checksums and the codebook stand for them"),
                               [self] { self->replicateAs(false); }});
    content.actions.push_back(
        {tr("Copy the tables"), tr("for a sheet or a letter"), [self] { self->copyTables(); }});
    return content;
}

}  // namespace rapporto::app
