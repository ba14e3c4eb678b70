// The report: tables in journal form, items, writers read back by parsers of their formats.
#include "core/report/report.h"

#include "core/base/format.h"
#include "core/base/markup.h"
#include "core/describe/comparison.h"
#include "core/describe/survey_mean.h"
#include "core/report/fixed_words.h"
#include "core/report/frozen.h"
#include "core/report/press/press.h"
#include "core/report/press/told_pdf.h"
#include "core/report/references.h"
#include "core/report/report_fields.h"
#include "core/report/report_items.h"
#include "core/report/results_table.h"
#include "core/report/wording.h"
#include "core/report/writers/latex_text.h"
#include "core/report/writers/writer.h"
#include "core/study/sources.h"
#include "tests/core/hard_study.h"

#include <QFile>
#include <QRegularExpression>
#include <QTest>

#include <map>
#include <random>
#include <set>

using namespace rapporto;
using namespace rapporto::test;

namespace {

bool has(const std::string& text, const std::string& part) {
    return text.find(part) != std::string::npos;
}

}  // namespace

class ReportTest : public QObject {
    Q_OBJECT

  private slots:

    void aTableIsOfEstimatesWithTheirErrorsBeneath() {
        const Hard small(3, 2);
        const ReportBlock table = resultsTable(small.study, {&small.answers[0], &small.answers[1]});
        QCOMPARE(table.columns(), std::size_t{3});
        const Coefficient& x0 = *coefficient(small.answers[0], "x0");
        const auto row =
            std::find_if(table.cells.begin(), table.cells.end(),
                         [](const auto& cells) { return cells.front().text.starts_with("x0 "); });
        QVERIFY(row != table.cells.end());
        QCOMPARE((*row)[1].value, std::optional(x0.estimate));
        QCOMPARE((*(row + 1))[1].value, std::optional(x0.se));
        QVERIFY((*(row + 1))[1].text.starts_with("(") && (*(row + 1))[0].text.empty());
        // x2 stands in the first column alone.
        const auto third =
            std::find_if(table.cells.begin(), table.cells.end(),
                         [](const auto& cells) { return cells.front().text.starts_with("x2 "); });
        QVERIFY((*third)[1].value && !(*third)[2].value);
        // The grouping has a heading that names its base, and its levels below.
        const auto group = std::find_if(
            table.cells.begin(), table.cells.end(),
            [](const auto& cells) { return has(cells.front().text, "against nought"); });
        QVERIFY(group != table.cells.end());
        QCOMPARE(group->front().span, 3);
        QCOMPARE((*(group + 1))[0].text, "\u2003" + std::string(kHard));
        QCOMPARE((*(group + 1))[1].value,
                 std::optional(coefficient(small.answers[0], std::string("g=") + kHard)->estimate));
    }

    void aLookChangesWhatIsSaid() {
        const Hard small(3, 2);
        std::vector<ResultsPanel> panels(1);
        panels[0].columns = {{&small.answers[0], "one"}, {&small.answers[1], "two"}};
        TableLook look;
        look.below = "interval";
        look.stars = {0.05, 0.01, 0.001};
        look.digits = 1;
        look.names = true;
        look.base = "row";
        look.columns = "numbers";
        look.folds = {{"Controls", {"x1", "x2"}}};
        look.order = {"g"};
        look.headings = {{"x0", "What is asked"}};
        look.foot = {"rows", "aic"};
        const ReportBlock table = resultsTable(small.study, panels, look);
        QCOMPARE(table.cells[0][1].text, std::string("(1)"));
        std::vector<std::string> heads;
        for (const CellRow& row : table.cells) {
            heads.push_back(row.front().text);
        }
        const auto at = [&](const std::string& words) {
            return std::find(heads.begin(), heads.end(), words) - heads.begin();
        };
        const auto all = static_cast<std::ptrdiff_t>(heads.size());
        QVERIFY(at("g") < at("x0") && at("x0") < all);
        QVERIFY(at("What is asked") + 1 == at("x0"));
        QVERIFY(at("\u2003nought (base)") == at("g") + 1);
        QVERIFY(at("x1") == all);
        QCOMPARE(table.cells[static_cast<std::size_t>(at("Controls"))][1].text, std::string("yes"));
        QVERIFY(at("AIC") < all && at("R²") == all);
        const CellRow& x0 = table.cells[static_cast<std::size_t>(at("x0"))];
        const Coefficient& c = *coefficient(small.answers[0], "x0");
        const std::size_t stars = *c.p < 0.001 ? 3 : *c.p < 0.01 ? 2 : *c.p < 0.05 ? 1 : 0;
        QVERIFY(x0[1].text.ends_with(std::string(stars, '*')));
        QCOMPARE(std::count(x0[1].text.begin(), x0[1].text.end(), '*'),
                 static_cast<std::ptrdiff_t>(stars));
        QVERIFY(table.cells[static_cast<std::size_t>(at("x0")) + 1][1].text.starts_with("["));
        // By the name of a set, whose members may change.
        Study named = small.study;
        named.sets = {{"controls", {"x1", "x2"}}};
        TableLook bySet = look;
        bySet.folds = {{"Controls", {"{controls}"}}};
        const ReportBlock same = resultsTable(named, panels, bySet);
        QCOMPARE(same.cells.size(), table.cells.size());
        for (std::size_t r = 0; r < table.cells.size(); ++r) {
            QCOMPARE(same.cells[r].front().text, table.cells[r].front().text);
        }
        named.sets[0].members = {"x1"};
        QCOMPARE(resultsTable(named, panels, bySet).cells.size(), table.cells.size() + 2);
        const std::string note = resultsNote(panels, look, 0.05);
        QVERIFY(has(note, "95 % intervals in brackets") && has(note, "* p < .05, ** p < .01"));
        QVERIFY(!has(resultsNote(panels, TableLook{}, 0.05), "*"));
    }

    void panelsStandBelowEachOther() {
        const Hard small(3, 3);
        std::vector<ResultsPanel> panels = {
            {"A. all", {{&small.answers[0], "a"}, {&small.answers[1], "b"}}},
            {"B. less", {{&small.answers[2], "c"}, {}}}};
        const ReportBlock table = resultsTable(small.study, panels, {});
        std::size_t rowsOfRows = 0;
        std::size_t titles = 0;
        for (const CellRow& row : table.cells) {
            rowsOfRows += row.front().text == "Rows" ? 1 : 0;
            titles += row.front().text == "A. all" || row.front().text == "B. less" ? 1 : 0;
        }
        QCOMPARE(rowsOfRows, std::size_t{2});
        QCOMPARE(titles, std::size_t{2});
    }

    void starsAreNoMarks() {
        const auto runs = textRuns("* p < .05, ** p < .01, *** p < .001; **bold** and ** not");
        QCOMPARE(runs.size(), std::size_t{3});
        QVERIFY(runs[1].bold && runs[1].text == "bold");
        QCOMPARE(withoutMarks("200*** (**a**)"), std::string("200*** (a)"));
        QCOMPARE(htmlText("**a** <b> ** c"), std::string("<b>a</b> &lt;b&gt; ** c"));
    }

    void columnsThatAgreeAreToldTogether() {
        Hard small(3, 3);
        small.answers[2].question.errors.kind = "robust";
        small.answers[2].question.errors.type = "HC3";
        std::vector<ResultsPanel> panels(1);
        for (const Answer& a : small.answers) {
            panels[0].columns.push_back({&a, ""});
        }
        const std::string note = resultsNote(panels, {}, 0.05);
        QVERIFY2(has(note, "(1), (2) ") && has(note, "(3) robust (HC3)"), note.c_str());
    }

    void numbersTakeTheReportsDress_data() {
        QTest::addColumn<QString>("text");
        QTest::addColumn<QString>("dressed");
        const auto row = [](const char* text, const char* dressed) {
            QTest::newRow(text) << text << dressed;
        };
        row(".214", "0,214");
        row("−.214 (.047)", "−0,214 (0,047)");
        row("p = .032, F 3.21 on 2 rows", "p = 0,032, F 3,21 on 2 rows");
        row("1\u202F234.5", "1.234,5");
        row("1\u202F234\u202F567 rows", "1.234.567 rows");
        row("on 12.03.2020, version 1.2.3", "on 12.03.2020, version 1.2.3");
        row("x1.5y stays, HC3, q2, v1.0", "x1.5y stays, HC3, q2, v1.0");
        row("ends with 5. Then", "ends with 5. Then");
        row("[.1, .2] 95 %", "[0,1, 0,2] 95 %");
        row("×1.24", "×1,24");
        row("χ² 5.5", "χ² 5,5");
        row("über3.5", "über3.5");
        row("13:07 and 2026-05-04", "13:07 and 2026-05-04");
    }

    void numbersTakeTheReportsDress() {
        QFETCH(QString, text);
        QFETCH(QString, dressed);
        QCOMPARE(QString::fromStdString(rapporto::dressed(text.toStdString(), {",", ".", "de"})),
                 dressed);
        QCOMPARE(QString::fromStdString(rapporto::dressed(text.toStdString(), {})), text);
    }

    void wordsOfTablesFollowTheLanguage() {
        Hard small(3, 1);
        small.study.reportStyle.language = "de";
        small.study.reportStyle.decimal = ",";
        const ReportPages pages = small.pages();
        const std::string page = writeMarkdown(pages, "r")->bytes;
        QVERIFY(has(page, "**Tabelle 1.**") && has(page, "| Konstante |") &&
                has(page, "Standardfehler in Klammern"));
        QVERIFY(has(writeHtml(pages, "r")->bytes, "<html lang=\"de\">"));
        const Coefficient& c = *coefficient(small.answers[0], "x0");
        QVERIFY(has(page, rapporto::dressed(fixedNumber(c.estimate, decimalsFor(c.se), true),
                                            {",", "\u202F", "de"})));
    }

    void headsOfTablesFollowTheLanguage_data() {
        QTest::addColumn<QString>("language");
        for (const std::string& one : reportLanguages()) {
            if (one != "en") {
                QTest::newRow(one.c_str()) << QString::fromStdString(one);
            }
        }
    }

    /// No head of any item's table stays English, nor an end of an interval.
    void headsOfTablesFollowTheLanguage() {
        QFETCH(QString, language);
        Hard small(3, 2);
        Question& q = small.study.questions[0];
        q.predict = {{{{"x0", 1.0}}, "high"}};
        q.hypotheses = {"x0 = 0", "x0 = x1"};
        q.effects = {{"x0"}};
        q.leftOut = LeftOutRequest{"x0", {Term::expression("x1")}, {1.0}};
        small.answers[0] = answerQuestion(small.study, *small.frame, q, Job());
        // What is the same in some language, or is the study's own.
        const std::set<std::string> same = {"",         "n",        "p",     "df",
                                            "p (Holm)", "(1) one",  "base",  "variable",
                                            "test",     "question", "total", "direct"};
        std::set<std::string> tables;
        for (const ReportItemKind& kind : allReportItems()) {
            ReportItem item(kind.id, {"q1"});
            item.variables = {"x0", "y"};
            small.study.report = {item};
            const auto tablesIn = [&](const std::string& of) {
                small.study.reportStyle.language = of;
                auto blocks = buildReport(small.study, small.byId, &*small.frame);
                std::erase_if(blocks, [](const ReportBlock& block) {
                    return block.kind != ReportBlock::Kind::Table || block.cells.empty();
                });
                return blocks;
            };
            const auto english = tablesIn("en");
            const auto other = tablesIn(language.toStdString());
            QCOMPARE(other.size(), english.size());
            for (std::size_t t = 0; t < other.size(); ++t) {
                tables.insert(kind.id);
                const CellRow& head = other[t].cells.front();
                for (std::size_t c = 0; c < head.size(); ++c) {
                    QVERIFY2(head[c].text != english[t].cells.front()[c].text ||
                                 same.contains(head[c].text) || head[c].text.starts_with("(") ||
                                 head[c].text.starts_with("column "),  // Of a question.
                             (std::string(kind.id) + ": " + head[c].text).c_str());
                }
                for (const CellRow& row : other[t].cells) {
                    for (const Cell& cell : row) {
                        QVERIFY2(std::string(kind.id) == "codebook" ||
                                     cell.text.find(" to ") == std::string::npos,
                                 (std::string(kind.id) + ": " + cell.text).c_str());
                    }
                }
            }
        }
        for (const char* one : {"predictions", "hypotheses", "effects", "left-out", "assumptions",
                                "codebook", "descriptives", "table"}) {
            QVERIFY2(tables.contains(one), one);
        }
        for (const char* word : {"what was done", "t or F", "as strong as", "turns at", "to",
                                 "Are the data what they seem?", "through all ways"}) {
            QVERIFY2(fixedWord(word, language.toStdString()) != word, word);
        }
    }

    void everyItemStandsInAReport() {
        Hard small(3, 2);
        Question& q = small.study.questions[0];
        q.predict = {{{{"x0", 1.0}}, "high"}};
        q.hypotheses = {"x0 = 0"};
        q.effects = {{"x0"}};
        small.answers[0] = answerQuestion(small.study, *small.frame, q, Job());
        std::set<std::string> empty;
        for (const ReportItemKind& kind : allReportItems()) {
            ReportItem item(kind.id, {"q1"});
            item.text = "# Head\nwords {rows in q1}\n\n- point";
            item.variables = {"x0", "y"};
            item.shows = "breusch-pagan";
            small.study.report = {item};
            small.study.trail = {{"2026-11-30T10:00:00", "did"}};
            const auto blocks = buildReport(small.study, small.byId, &*small.frame);
            QVERIFY2(!blocks.empty() || std::string(kind.id) == "turning-points", kind.id);
            for (const ReportBlock& block : blocks) {
                QCOMPARE(block.item, 0);
                QVERIFY2(block.text.find("not known to this version") == std::string::npos,
                         kind.id);
            }
            for (const ReportWriter& writer : allReportWriters()) {
                QVERIFY2(writer.write(small.pages(), "r"), kind.id);
            }
        }
        small.study.report = {ReportItem("nothing-of-the-kind")};
        QVERIFY(has(buildReport(small.study, small.byId)[0].text, "not known to this version"));
    }

    void descriptivesAgreeWithTheColumns() {
        Hard small(3, 1);
        ReportItem item("descriptives");
        item.variables = {"x0", "g"};
        small.study.report = {item};
        const auto blocks = buildReport(small.study, small.byId, &*small.frame);
        const auto table = std::find_if(blocks.begin(), blocks.end(), [](const ReportBlock& b) {
            return b.kind == ReportBlock::Kind::Table;
        });
        QVERIFY(table != blocks.end());
        const auto& x = small.table.columns[0].numbers();
        double mean = 0.0;
        for (const double v : x) {
            mean += v / static_cast<double>(x.size());
        }
        QVERIFY(near(*table->cells[1][3].value, mean, 1e-12));
        QCOMPARE(*table->cells[1][1].value, 200.0);
        QCOMPARE(table->cells[3][0].text, std::string("\u2003nought"));
        QVERIFY(near(*table->cells[3][3].value, 67.0 / 200.0, 1e-12));
        // By groups, with the test of all.
        small.study.report[0].by = "g";
        const auto grouped = buildReport(small.study, small.byId, &*small.frame);
        QVERIFY(std::any_of(grouped.begin(), grouped.end(), [](const ReportBlock& b) {
            return b.kind == ReportBlock::Kind::Table && b.heads == 2 && b.columns() == 8;
        }));
        // Without a table at hand it says so.
        QVERIFY(has(buildReport(small.study, small.byId)[0].text, "No rows are at hand"));
    }

    void groupsAreHeldAgainstEachOtherAsTheyAreShown() {
        // Two groups: means, sd, their difference and Welch’s p, each from the module that has it.
        Hard small(3, 1);
        ReportItem item("descriptives");
        item.variables = {"x0"};
        item.by = "half";
        small.study.report = {item};
        Table table = small.table;
        std::vector<double> half(200);
        std::vector<double> weight(200);
        for (std::size_t i = 0; i < 200; ++i) {
            half[i] = static_cast<double>(i % 2);
            weight[i] = 1.0 + static_cast<double>(i % 5);
        }
        for (const auto& [name, cells] : {std::pair{"half", half}, std::pair{"w", weight}}) {
            table.columns.push_back(Column::ofNumbers(name, cells));
            Variable variable;
            variable.name = name;
            variable.measure = std::string(name) == "half" ? Measure::YesNo : Measure::Quantity;
            table.variables.push_back(variable);
        }
        const Frame frame = Frame::make(table, {}, {}, {}, {});
        const auto rowOf = [&] {
            for (const ReportBlock& b : buildReport(small.study, small.byId, &frame)) {
                if (b.kind == ReportBlock::Kind::Table) {
                    return b.cells.back();
                }
            }
            return CellRow();
        };
        const auto compared = compareBy(frame, "x0", "half", 0.05);
        CellRow row = rowOf();
        QCOMPARE(row.size(), std::size_t{7});
        QVERIFY(near(*row[1].value, compared->groups[0].summary.mean, 1e-12));
        QVERIFY(near(*row[4].value, compared->groups[1].summary.sd, 1e-12));
        QVERIFY(near(*row[5].value, compared->meanDifference, 1e-12));
        QVERIFY(near(*row[6].value, *compared->means.p, 1e-12));
        // Weighted: the difference is that of the means that stand there, p by the design.
        small.study.survey.weight = "w";
        row = rowOf();
        QVERIFY(near(*row[5].value, *row[3].value - *row[1].value, 1e-12));
        QVERIFY(std::abs(*row[5].value - compared->meanDifference) > 1e-6);
        const auto design = surveyRows(frame, small.study.survey);
        std::vector<std::int32_t> groups(200);
        for (std::size_t i = 0; i < 200; ++i) {
            groups[i] = static_cast<std::int32_t>(i % 2);
        }
        const auto contrast = contrastUnder(*design, table.columns[0].numbers(), groups, 2);
        QVERIFY(near(*row[6].value, contrast->p, 1e-12));
        QVERIFY(near(*row[1].value, contrast->means[0], 1e-12));
    }

    void aContrastUnderADesignIsItsClosedForm() {
        // Every row its own cluster, one weight: n/(n − 1)·(Σ(x − m₀)²/n₀² + Σ(x − m₁)²/n₁²).
        std::vector<double> x;
        std::vector<std::int32_t> groups;
        for (int i = 0; i < 30; ++i) {
            x.push_back(std::sin(static_cast<double>(i)) + (i % 3 == 0 ? 0.5 : 0.0));
            groups.push_back(i % 3 == 0 ? 1 : 0);
        }
        Table t = tableOf({{"x", x}, {"w", std::vector<double>(30, 2.5)}});
        Survey survey;
        survey.weight = "w";
        const auto rows = surveyRows(frameOf(t), survey);
        const auto found = contrastUnder(*rows, x, groups, 2);
        double mean[2] = {0.0, 0.0};
        for (std::size_t i = 0; i < 30; ++i) {
            mean[groups[i]] += x[i] / (groups[i] == 1 ? 10.0 : 20.0);
        }
        double variance = 0.0;
        for (std::size_t i = 0; i < 30; ++i) {
            const double n = groups[i] == 1 ? 10.0 : 20.0;
            variance += 30.0 / 29.0 * std::pow((x[i] - mean[groups[i]]) / n, 2);
        }
        const double d = mean[1] - mean[0];
        QVERIFY(near(found->difference, d, 1e-12));
        QVERIFY(near(found->f, d * d / variance, 1e-10));
        QCOMPARE(found->df2, 29.0);
        // A group without a row says nothing.
        QVERIFY(!contrastUnder(*rows, x, groups, 3));
    }

    void aFieldFollowsItsNumber() {
        Hard small(3, 1);
        const Coefficient& c = *coefficient(small.answers[0], "x1");
        const std::string shown = fixedNumber(c.estimate, decimalsFor(c.se), true);
        QCOMPARE(fieldValue("effect of x1 in q1", small.byId, 0.05), std::optional(shown));
        QCOMPARE(fieldValue("rows in q1", small.byId, 0.05), std::optional<std::string>("200"));
        QVERIFY(!fieldValue("effect of nobody in q1", small.byId, 0.05));
        // Of an outcome that is no logarithm there is no percent; of one that is, it is exp.
        QVERIFY(!fieldValue("percent of x1 in q1", small.byId, 0.05));
        QVERIFY(!isOfLogs(small.answers[0]));
        Table logs = small.table;
        std::vector<double> positive(200);
        for (std::size_t i = 0; i < 200; ++i) {
            positive[i] = std::exp(0.3 * logs.columns[0].numbers()[i] +
                                   0.1 * std::sin(static_cast<double>(i)));
        }
        logs.columns.push_back(Column::ofNumbers("p", positive));
        Variable variable;
        variable.name = "p";
        logs.variables.push_back(variable);
        const Answer log = answer(logs, explain("ln(p)", {"x0"}));
        const AnswersById ofLog = {{"q1", &log}};
        QVERIFY(isOfLogs(log));
        QCOMPARE(fieldValue("ratio of x0 in q1", ofLog, 0.05),
                 std::optional(shortNumber(std::exp(coefficient(log, "x0")->estimate), 3)));
        QVERIFY(!fieldValue("effect of x1 in q7", small.byId, 0.05));
        QVERIFY(!fieldValue("nonsense", small.byId, 0.05));
        QCOMPARE(withFields("an {effect of x1 in q1}; {oh} {", small.byId, 0.05, {}),
                 "an " + shown + "; [{oh}?] {");
        for (const ReportField& field : reportFields(small.byId, 0.05)) {
            QCOMPARE(withFields(field.field, small.byId, 0.05, {}), field.value);
        }
    }

    void aFrozenItemStays() {
        Hard small(3, 1);
        small.study.report = {ReportItem("table", {"q1"}), ReportItem("equation", {"q1"}),
                              ReportItem("lenses", {"q1"})};
        for (ReportItem& item : small.study.report) {
            Study alone = small.study;
            alone.report = {item};
            item.frozen = {"2026-11-30T10:00:00",
                           frozenBlocks(buildReport(alone, small.byId, &*small.frame))};
        }
        const auto before = buildReport(small.study, small.byId, &*small.frame);
        QVERIFY(!has(before.back().text, "moved on"));
        // Through the study file and back.
        small.study.source.file = "a.csv";
        const auto again = readStudyText(studyText(small.study));
        QVERIFY2(again, again ? "" : again.error().text().c_str());
        QCOMPARE(again->report.size(), std::size_t{3});
        QVERIFY(again->report == small.study.report);
        // Another answer: the numbers stay, and it says that they are old.
        Question other = small.study.questions[0];
        other.terms.erase(other.terms.begin());
        small.answers[0] = answerQuestion(small.study, *small.frame, other, Job());
        const auto after = buildReport(small.study, small.byId, &*small.frame);
        QCOMPARE(after.size(), before.size());
        for (std::size_t b = 0; b < after.size(); ++b) {
            QVERIFY(after[b].cells.size() == before[b].cells.size());
            QVERIFY(has(after[b].text, "moved on") == has(before[b].text, "As of 2026-11-30"));
        }
        // Frozen nonsense says so and takes nothing else along.
        small.study.report[0].frozen->blocks = "{\"no\": [";
        QVERIFY(has(buildReport(small.study, small.byId)[0].text, "cannot be read"));
    }

    void settingsGoThroughTheStudyFile() {
        Study study;
        study.source.file = "a.csv";
        ReportItem item("table", {"q1", "q2"});
        item.caption = "mine";
        item.note = "my note";
        TableLook& look = item.table;
        look.below = "p";
        look.beside = "ratio";
        look.stars = {0.1, 0.05};
        look.digits = 2;
        look.names = true;
        look.base = "row";
        look.columns = "numbers";
        look.heads = {"a", "b"};
        look.order = {"x"};
        look.foot = {"aic"};
        look.folds = {{"C", {"z", "w"}}};
        look.headings = {{"x", "head"}};
        look.panels = {{"A", {"q1"}}, {"B", {"q2"}}};
        ReportItem picture("picture");
        picture.picture = PictureSpec{};
        picture.picture->of = {"y", "x"};
        picture.picture->logX = true;
        ReportItem words("text");
        words.text = "a\n\nb {rows in q1}";
        ReportItem table("descriptives");
        table.variables = {"x"};
        table.by = "g";
        study.report = {item, picture, words, table};
        study.reportStyle = {"T", "S", "B", ",", ".", "fr"};
        const auto again = readStudyText(studyText(study));
        QVERIFY2(again, again ? "" : again.error().text().c_str());
        QVERIFY(again->report == study.report);
        QVERIFY(again->reportStyle == study.reportStyle);
    }

    void wrongSettingsAreRefusedInWords_data() {
        QTest::addColumn<QString>("part");
        QTest::addColumn<QString>("says");
        QTest::newRow("below") << R"("report":[{"item":"table","look":{"below":"x"}}])"
                               << "‘below’";
        QTest::newRow("stars") << R"("report":[{"item":"table","look":{"stars":[2]}}])"
                               << "‘stars’";
        QTest::newRow("digits") << R"("report":[{"item":"table","look":{"digits":99}}])"
                                << "‘digits’";
        QTest::newRow("fold") << R"("report":[{"item":"table","look":{"fold":[1]}}])"
                              << "object";
        QTest::newRow("picture") << R"("report":[{"item":"picture","picture":{"of":3}}])"
                                 << "‘of’";
        QTest::newRow("marks") << R"("report_style":{"decimal":",","thousands":","})"
                               << "same mark";
        QTest::newRow("language") << R"("report_style":{"language":"xx"})"
                                  << "‘language’";
        QTest::newRow("frozen") << R"("report":[{"item":"table","frozen":7}])"
                                << "object";
    }

    void wrongSettingsAreRefusedInWords() {
        QFETCH(QString, part);
        QFETCH(QString, says);
        const auto study = readStudyText(
            R"({"format":"rapporto-study","version":1,"title":"t","source":{"kind":"table","file":"a.csv"},)" +
            part.toStdString() + "}");
        QVERIFY(!study);
        QVERIFY2(has(study.error().text(), says.toStdString()), study.error().text().c_str());
    }

    void referencesAreThoseThatAreNamed() {
        const auto works = referencesIn(
            "robust (HC3; White 1980, MacKinnon & White 1985), by Breusch & Pagan (1979)");
        QCOMPARE(works.size(), std::size_t{3});
        QCOMPARE(works[0]->cite, "Breusch & Pagan 1979");
        QVERIFY(has(works[0]->text(), "(1979). A simple test"));
        QVERIFY(referencesIn("nothing, Whitehouse 1980, Off-White 19801").empty());
        std::set<std::string> keys;
        for (const Reference& one : allReferences()) {
            QVERIFY2(keys.insert(one.key()).second, one.cite);
            QVERIFY2(has(one.cite, std::to_string(one.year)), one.cite);
            QCOMPARE(referencesIn(std::string("see ") + one.cite + ".").size(), std::size_t{1});
        }
        QVERIFY(has(bibtexOf(works), "@article{breuschpagan1979,"));
        QVERIFY(has(bibtexOf(works), "author = {Breusch, T. S. and Pagan, A. R.}"));
        // Every source that a check names is there in full.
        for (const Check& check : allChecks()) {
            const std::string source = check.source;
            if (has(source, "19") || has(source, "20")) {
                QVERIFY2(!referencesIn(source).empty(), (check.id + (": " + source)).c_str());
            }
        }
    }

    void latexTakesAnyText() {
        QCOMPARE(latexText("a_b & 50% #1 {x} \\y $z ^~"),
                 std::string("a\\_b \\& 50\\% \\#1 \\{x\\} \\textbackslash{}y \\$z "
                             "\\textasciicircum{}\\textasciitilde{}"));
        QCOMPARE(latexText("−.2 × λ²"),
                 std::string("$-$.2 $\\times$ $\\lambda$\\textsuperscript{2}"));
        QCOMPARE(latexText("ü漢"), std::string("ü\\letter{6F22}"));
        QCOMPARE(latexText("\xff\xc3("), std::string("\\letter{FFFD}\\letter{FFFD}("));
    }

    void htmlIsWellFormed() {
        const std::string page = writeHtml(hard().pages(), "r")->bytes;
        const std::size_t body = page.find("<main>");
        pugi::xml_document document;
        const auto parsed =
            document.load_string(page.substr(body, page.find("</main>") + 7 - body).c_str(),
                                 pugi::parse_default | pugi::parse_ws_pcdata);
        QVERIFY2(parsed, parsed.description());
        QCOMPARE(textOf(document.child("main").child("h1")), std::string(kHard));
        QVERIFY(count(document, "table") >= 2 && count(document, "svg") == 1);
        QVERIFY(!has(page, "<script") && !has(page, "<i>&amp;"));
        QVERIFY(has(page, "@font-face") && page.size() < 2000000);
        // Nine columns of numbers and their heads.
        const auto table = document.child("main").find_node(
            [](const pugi::xml_node& node) { return std::string(node.name()) == "table"; });
        QCOMPARE(count(table.child("thead"), "th"), std::size_t{10});
    }

    void docxIsWellFormedAndHoldsTheNumbers() {
        const auto files = unpacked(writeDocx(hard().pages(), "r")->bytes);
        for (const char* name :
             {"[Content_Types].xml", "_rels/.rels", "word/document.xml", "word/styles.xml",
              "word/numbering.xml", "word/_rels/document.xml.rels", "docProps/core.xml"}) {
            pugi::xml_document part;
            QVERIFY2(files.contains(name), name);
            QVERIFY2(part.load_string(files.at(name).c_str()), name);
        }
        pugi::xml_document document;
        document.load_string(files.at("word/document.xml").c_str(),
                             pugi::parse_default | pugi::parse_ws_pcdata);
        const pugi::xml_node body = document.child("w:document").child("w:body");
        QCOMPARE(textOf(body.child("w:p")), std::string(kHard));
        // Every row fills the grid of its table.
        std::size_t tables = 0;
        for (const pugi::xml_node table : body.children("w:tbl")) {
            ++tables;
            const std::size_t grid = count(table.child("w:tblGrid"), "w:gridCol");
            for (const pugi::xml_node row : table.children("w:tr")) {
                std::size_t cells = 0;
                for (const pugi::xml_node cell : row.children("w:tc")) {
                    const int span =
                        cell.child("w:tcPr").child("w:gridSpan").attribute("w:val").as_int(1);
                    cells += static_cast<std::size_t>(span);
                    QVERIFY(cell.child("w:p"));
                }
                QCOMPARE(cells, grid);
            }
        }
        QVERIFY(tables >= 2);
        // What is referred to is there.
        pugi::xml_document links;
        links.load_string(files.at("word/_rels/document.xml.rels").c_str());
        for (const pugi::xml_node link : links.child("Relationships").children()) {
            QVERIFY(files.contains(std::string("word/") + link.attribute("Target").value()));
        }
        QVERIFY(files.at("word/media/figure1.png").starts_with("\x89PNG"));
        QVERIFY(count(body, "m:oMath") > 5);  // Sixty terms take several lines.
        // A wide table lies on a page of its own.
        QVERIFY(has(files.at("word/document.xml"), "w:orient=\"landscape\""));
    }

    void odtIsWellFormedAndHoldsTheNumbers() {
        const std::string bytes = writeOdt(hard().pages(), "r")->bytes;
        // The type stands first and unpacked, where readers look for it.
        QCOMPARE(bytes.substr(30, 47),
                 std::string("mimetypeapplication/vnd.oasis.opendocument.text"));
        const auto files = unpacked(bytes);
        pugi::xml_document manifest;
        QVERIFY(manifest.load_string(files.at("META-INF/manifest.xml").c_str()));
        for (const pugi::xml_node entry : manifest.child("manifest:manifest").children()) {
            const std::string name = entry.attribute("manifest:full-path").value();
            QVERIFY2(name.ends_with("/") || files.contains(name), name.c_str());
        }
        pugi::xml_document content;
        QVERIFY(content.load_string(files.at("content.xml").c_str(),
                                    pugi::parse_default | pugi::parse_ws_pcdata));
        pugi::xml_document styles;
        QVERIFY(styles.load_string(files.at("styles.xml").c_str()));
        const pugi::xml_node text =
            content.child("office:document-content").child("office:body").child("office:text");
        QVERIFY(count(text, "text:h") >= 2);
        std::size_t tables = 0;
        for (const pugi::xml_node table : text.children("table:table")) {
            ++tables;
            const std::size_t columns = count(table, "table:table-column");
            const auto check = [&](const pugi::xml_node& row) {
                return count(row, "table:table-cell") + count(row, "table:covered-table-cell") ==
                       columns;
            };
            for (const pugi::xml_node row : table.children("table:table-row")) {
                QVERIFY(check(row));
            }
            for (const pugi::xml_node row :
                 table.child("table:table-header-rows").children("table:table-row")) {
                QVERIFY(check(row));
            }
        }
        QVERIFY(tables >= 2);
        pugi::xml_document math;
        QVERIFY(math.load_string(files.at("Equation1/content.xml").c_str()));
        // Sixty terms take several lines.
        QVERIFY(count(math, "munder") > 3 && files.contains("Equation7/content.xml"));
    }

    void xlsxHoldsNumbersAsNumbers() {
        const auto files = unpacked(writeXlsxTables(hard().pages(), "r")->bytes);
        pugi::xml_document sheet;
        QVERIFY(sheet.load_string(files.at("xl/worksheets/sheet1.xml").c_str()));
        const double estimate = coefficient(hard().answers[0], "x0")->estimate;
        std::vector<double> numbers;
        for (const pugi::xml_node row : sheet.child("worksheet").child("sheetData").children()) {
            for (const pugi::xml_node cell : row.children("c")) {
                if (std::string(cell.attribute("t").value()).empty() && cell.child("v")) {
                    numbers.push_back(cell.child("v").text().as_double());
                }
            }
        }
        QVERIFY(std::any_of(numbers.begin(), numbers.end(),
                            [&](double x) { return near(x, estimate, 1e-14); }));
        QVERIFY(files.contains("xl/worksheets/sheet2.xml"));
        // The same report gives the same bytes.
        QCOMPARE(writeXlsxTables(hard().pages(), "r")->bytes,
                 writeXlsxTables(hard().pages(), "r")->bytes);
    }

    void latexHasItsFiguresBeside() {
        const auto written = writeLatex(hard().pages(), "paper");
        QVERIFY(written);
        QCOMPARE(written->beside.size(), std::size_t{2});
        QCOMPARE(written->beside[1].name, std::string("paper.bib"));
        QVERIFY(has(written->beside[1].bytes, "@article{breuschpagan1979,"));
        QCOMPARE(written->beside[0].name, std::string("paper-figure-1.pdf"));
        QVERIFY(written->beside[0].bytes.starts_with("%PDF-"));
        QVERIFY(has(written->bytes, "\\begin{landscape}") && has(written->bytes, "\\underset"));
        // Braces close, environments too.
        int depth = 0;
        const std::string& tex = written->bytes;
        for (std::size_t i = 0; i < tex.size(); ++i) {
            const bool escaped = i > 0 && tex[i - 1] == '\\';
            depth += tex[i] == '{' && !escaped ? 1 : tex[i] == '}' && !escaped ? -1 : 0;
            QVERIFY(depth >= 0);
        }
        QCOMPARE(depth, 0);
    }

    void markdownHasItsFiguresBeside() {
        const auto written = writeMarkdown(hard().pages(), "r");
        QCOMPARE(written->beside[0].name, std::string("r-figure-1.svg"));
        pugi::xml_document svg;
        QVERIFY(svg.load_string(written->beside[0].bytes.c_str()));
        for (const QString& line : QString::fromStdString(written->bytes).split('\n')) {
            if (line.startsWith('|')) {
                // Nine columns: as many bars in every row of the widest table.
                QVERIFY2(line.count(QRegularExpression(R"((?<!\\)\|)")) >= 3, qPrintable(line));
            }
        }
    }

    void nothingOnAPageReachesOverItsEdge() {
        const auto press = Press::make(hard().pages());
        QVERIFY(press);
        QVERIFY((*press)->pages() >= 4);
        for (const Press::Place& place : (*press)->places()) {
            const Press::Sheet sheet = (*press)->sheet(place.page);
            QVERIFY(place.x >= 60.0 && place.y >= 60.0);
            QVERIFY2(place.x + place.width <= sheet.width - 60.0,
                     QByteArray::number(static_cast<int>(place.block)));
            QVERIFY2(place.y + place.height <= sheet.height - 60.0,
                     QByteArray::number(static_cast<int>(place.block)));
        }
        // Forty columns go on part by part, the first one repeated.
        ReportPages wide;
        ReportBlock table;
        table.kind = ReportBlock::Kind::Table;
        for (int r = 0; r < 5; ++r) {
            CellRow row = {"name of row " + std::to_string(r)};
            for (int c = 0; c < 40; ++c) {
                row.emplace_back("12 345.67", 12345.67);
            }
            table.cells.push_back(std::move(row));
        }
        wide.blocks = {table};
        const auto parts = Press::make(wide);
        QVERIFY(parts);
        std::size_t firsts = 0;
        for (const Press::Place& place : (*parts)->places()) {
            QVERIFY(place.x + place.width <= (*parts)->sheet(place.page).width - 60.0);
            firsts += place.x < 63.0 && place.height > 5.0 ? 1 : 0;
        }
        QVERIFY(firsts >= 10);
    }

    void thePdfIsTaggedAndHasItsFacesInside() {
        const auto press = Press::make(hard().pages());
        const auto pdf = (*press)->pdf();
        QVERIFY(pdf && pdf->starts_with("%PDF-"));
        for (const char* part : {"/StructTreeRoot", "/FontFile", "/Table", "/TR", "/TH", "/TD",
                                 "/H1", "/Figure", "/Caption"}) {
            QVERIFY2(has(*pdf, part), part);
        }
        // The same report gives the same bytes.
        QCOMPARE(*(*press)->pdf(), *pdf);
    }

    void thePdfTellsItsFiguresAndItsLanguage() {
        ReportPages pages;
        pages.title = "Möwen & <more>";
        pages.language = "de";
        for (const char* words : {"Ertrag nach **Zone**", "", "𝛽 over time"}) {
            ReportBlock figure;
            figure.kind = ReportBlock::Kind::Figure;
            figure.text = words;
            figure.figure.width = 200.0;
            figure.figure.height = 100.0;
            pages.blocks.push_back(figure);
        }
        const auto pdf = (*Press::make(pages))->pdf();
        QVERIFY(pdf.has_value());
        QVERIFY(has(*pdf, "/MarkInfo << /Marked true >>"));
        QVERIFY(has(*pdf, "/Lang <FEFF00640065>"));
        // “Ertrag”, and a letter beyond the first plane.
        QVERIFY(has(*pdf, "/Alt <FEFF004500720074007200610067"));
        QVERIFY(has(*pdf, "/Alt <FEFFD835DEFD0020"));
        std::size_t told = 0;
        for (std::size_t at = pdf->find("/Alt "); at != std::string::npos;
             at = pdf->find("/Alt ", at + 1)) {
            ++told;
        }
        QCOMPARE(told, std::size_t{2});
        // Every entry of the later table stands where it says.
        const std::size_t table = std::stoul(pdf->substr(pdf->rfind("startxref\n") + 10));
        QCOMPARE(pdf->substr(table, 5), std::string("xref\n"));
        std::istringstream lines(pdf->substr(table + 5));
        std::size_t entries = 0;
        for (std::string line; std::getline(lines, line) && line != "trailer"; ++entries) {
            const std::string object = line.substr(0, line.find(' '));
            std::getline(lines, line);
            QCOMPARE(line.size(), std::size_t{19});
            QCOMPARE(pdf->substr(std::stoul(line), object.size() + 7), object + " 0 obj\n");
        }
        QCOMPARE(entries, std::size_t{3});
    }

    void whatIsNoSuchPdfStaysAsItIs() {
        for (const std::string text : {"", "%PDF-1.5\nstartxref\n", "startxref\n7\n%%EOF",
                                       "%PDF\nxref\n0 9999999\ntrailer\n<<>>\nstartxref\n5\n%%EOF",
                                       "xref\n0 2\n0000000000 65535 f \n0000099999 00000 n \n"
                                       "trailer\n<< >>\nstartxref\n0\n%%EOF"}) {
            QCOMPARE(toldPdf(text, {{"a"}, "en"}), text);
        }
        // Counted otherwise, figures have no words rather than wrong ones.
        const auto pdf = *(*Press::make(hard().pages()))->pdf();
        const std::string first = pdf.substr(0, pdf.find("%%EOF") + 6);
        QVERIFY(has(toldPdf(first, {{"a", "b", "c", "d", "e", "f", "g", "h"}, "fr"}), "/Lang"));
        QVERIFY(!has(toldPdf(first, {{"a", "b", "c", "d", "e", "f", "g", "h"}, "fr"}), "/Alt"));
    }

    void aPageIsPaintedAsItIsSet() {
        const auto press = *Press::make(hard().pages());
        std::vector<unsigned char> pixels(596 * 842 * 4);
        press->paint(0, 1.0, pixels.data(), 596, 842, 596 * 4);
        const auto dark = [&](int x, int y) {
            return pixels[static_cast<std::size_t>((y * 596 + x) * 4)] < 128;
        };
        std::size_t ink = 0;
        std::size_t margin = 0;
        for (int y = 0; y < 842; ++y) {
            for (int x = 0; x < 596; ++x) {
                ink += dark(x, y) ? 1 : 0;
                margin += dark(x, y) && (x < 58 || x > 538) ? 1 : 0;
            }
        }
        QVERIFY(ink > 1500);
        QCOMPARE(margin, std::size_t{0});
    }

    void whatIsHigherOrLongerThanAPageGoesOn() {
        ReportPages long_;
        ReportBlock table;
        table.kind = ReportBlock::Kind::Table;
        std::string words;
        for (int k = 0; k < 4000; ++k) {
            words += "word ";
        }
        table.cells = {{"name", "words"}, {"one", Cell(words)}, {"two", "short"}};
        ReportBlock narrow;
        narrow.kind = ReportBlock::Kind::Table;
        for (int r = 0; r < 2; ++r) {
            CellRow row;
            for (int c = 0; c < 60; ++c) {
                row.emplace_back("a sentence that is longer than forty letters, in each of them");
            }
            narrow.cells.push_back(std::move(row));
        }
        ReportBlock equation;
        equation.kind = ReportBlock::Kind::Equation;
        equation.equation = {{MathPiece::Kind::Name, std::string(400, 'n'), ""},
                             {MathPiece::Kind::Sign, "=", ""},
                             {MathPiece::Kind::Number, "1.5", "(.2)"}};
        long_.blocks = {table, narrow, equation};
        const auto press = Press::make(long_);
        QVERIFY(press && (*press)->pages() >= 4);
        std::set<std::size_t> pagesOfRow;
        for (const Press::Place& place : (*press)->places()) {
            const Press::Sheet sheet = (*press)->sheet(place.page);
            QVERIFY(place.x >= 60.0 && place.x + place.width <= sheet.width - 60.0);
            QVERIFY(place.y >= 60.0 && place.y + place.height <= sheet.height - 60.0);
            if (place.block == 0) {
                pagesOfRow.insert(place.page);
            }
        }
        QVERIFY(pagesOfRow.size() >= 2);
    }

    void aFrozenItemFromAStrangerHarmsNothing() {
        for (
            const char* blocks :
            {R"([{"kind":4,"text":"","cells":[[{"text":"a","span":99999999}],[]],"heads":0,"rules":[7]}])",
             R"([{"kind":4,"text":"","cells":[],"heads":9,"rules":[]}])",
             R"([{"kind":5,"text":"","figure":{"width":1e300,"height":-5,"shapes":[{"kind":9,"points":[1e300],"closed":true,"curved":true,"stroke":"\u0022><script>","width":1e99,"fill":"","opacity":7,"dashed":false,"size":1e99,"words":"","anchor":5,"bold":false}]}}])",
             R"([{"kind":99,"text":"x"}])"}) {
            Study study;
            ReportItem item("text");
            item.frozen = {"2026-11-30T10:00:00", blocks};
            study.report = {item};
            const ReportPages pages = reportPages(study, {});
            for (const ReportWriter& writer : allReportWriters()) {
                const auto written = writer.write(pages, "r");
                QVERIFY2(written, blocks);
                QVERIFY(!has(written->bytes, "<script"));
            }
            pugi::xml_document document;
            const std::string page = writeHtml(pages, "r")->bytes;
            const std::size_t body = page.find("<main>");
            QVERIFY2(
                document.load_string(page.substr(body, page.find("</main>") + 7 - body).c_str()),
                blocks);
        }
    }

    void keysOfLaterVersionsAreKept() {
        const std::string text =
            R"({"format":"rapporto-study","version":1,"title":"t","source":{"kind":"table","file":"a.csv"},"report":[{"item":"table","questions":[],"sparkle":{"a":[1,2]}}]})";
        const auto study = readStudyText(text);
        QVERIFY(study && !study->unknownKeys.empty());
        QVERIFY(has(studyText(*study), "sparkle"));
        QVERIFY(readStudyText(studyText(*study))->report == study->report);
    }

    void intervalsDoNotRunTogetherBesideDecimalCommas() {
        Hard small(3, 1);
        ReportItem item("table", {"q1"});
        item.table.below = "interval";
        item.table.beside = "ratio";
        small.study.report = {item};
        small.study.reportStyle.decimal = ",";
        const ReportPages pages = small.pages();
        bool seen = false;
        for (const ReportBlock& block : pages.blocks) {
            for (const CellRow& row : block.cells) {
                for (const Cell& cell : row) {
                    seen = seen || cell.text.starts_with("[");
                    QVERIFY(!cell.text.starts_with("[") || has(cell.text, "; "));
                }
            }
        }
        QVERIFY(seen);
        // What stands beside an estimate is explained.
        QVERIFY(has(writeMarkdown(pages, "r")->bytes, "the factor that it stands for"));
    }

    void aColumnThatIsNotThereSaysNothing() {
        Hard small(3, 2);
        Question held = small.study.questions[0];
        held.terms.pop_back();
        held.fixedEffects = {"g"};
        const Answer a = answerQuestion(small.study, *small.frame, held, Job());
        TableLook look;
        look.folds = {{"Controls", {"x1"}}};
        look.headings = {{"x0", "Asked"}};
        const ReportBlock table = resultsTable(
            small.study, {{"A", {{&a, "one"}, {}}}, {"B", {{&a, "one"}, {&a, "two"}}}}, look);
        std::vector<std::string> heldRow;
        std::size_t asked = 0;
        for (const CellRow& row : table.cells) {
            asked += row.front().text == "Asked" ? 1 : 0;
            if (row.front().text.ends_with("held fixed") || row.front().text == "Controls") {
                heldRow.push_back(row[1].text + "," + row[2].text);
            }
        }
        const std::vector<std::string> expected = {"yes,", "yes,", "yes,yes", "yes,yes"};
        QVERIFY(heldRow == expected);
        QCOMPARE(asked, std::size_t{2});  // Each panel has its headings.
    }

    void sourcesOfEveryKindOfQuestionAreListed() {
        Study study;
        Question q;
        q.id = "q1";
        q.kind = "correlate";
        q.coefficient = "spearman";
        q.variables = {"x0", "x1"};
        study.questions = {q};
        const Hard small(3, 1);
        const Answer a = answerQuestion(study, *small.frame, q, Job());
        QVERIFY(!a.refusal);
        study.report = {ReportItem("sample", {"q1"})};
        QVERIFY(has(buildReport(study, {{"q1", &a}})[0].text, "200 are used"));
        study.report = {ReportItem("references", {"q1"})};
        const auto blocks = buildReport(study, {{"q1", &a}});
        const auto named = referencesIn(methodsReading(a) + answerReading(a));
        QCOMPARE(blocks.size(), named.empty() ? 0 : named.size() + 1);
    }

    void sheetsAreNamedInTheLanguageOfTheReport() {
        Hard small(3, 1);
        small.study.reportStyle.language = "de";
        const auto files = unpacked(writeXlsxTables(small.pages(), "r")->bytes);
        QVERIFY(has(files.at("xl/workbook.xml"), "name=\"Tabelle 1\""));
    }

    void anEmptyReportIsAPage() {
        ReportPages none;
        none.title = "nothing";
        for (const ReportWriter& writer : allReportWriters()) {
            const auto written = writer.write(none, "r");
            QVERIFY2(written && (!written->bytes.empty() || std::string(writer.ending) == ".csv"),
                     writer.ending);
        }
    }
};

QTEST_APPLESS_MAIN(ReportTest)
#include "report_test.moc"
