// Tables brought into another shape, sources that change, and summaries in place of rows.
#include "core/data/shape.h"

#include "core/base/format.h"
#include "core/report/codebook.h"
#include "core/report/writers/writer.h"
#include "core/study/shape_text.h"
#include "core/study/workbench.h"
#include "tests/core/fixtures.h"

#include <QFile>
#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;
using namespace rapporto::test;

namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

void addTexts(Table& table, const std::string& name, const std::vector<std::string>& cells) {
    std::vector<std::int32_t> codes;
    std::vector<std::string> texts;
    for (const std::string& cell : cells) {
        auto at = std::find(texts.begin(), texts.end(), cell);
        if (cell.empty()) {
            codes.push_back(-1);
            continue;
        }
        if (at == texts.end()) {
            texts.push_back(cell);
            at = texts.end() - 1;
        }
        codes.push_back(static_cast<std::int32_t>(at - texts.begin()));
    }
    table.columns.push_back(Column::ofTexts(name, codes, texts));
    Variable v;
    v.name = name;
    v.measure = Measure::Groups;
    table.variables.push_back(v);
}

/// “1 2 _ 4”: the cells of a column in one line.
std::string cells(const Table& table, const std::string& name) {
    const int at = table.find(name);
    if (at < 0) {
        return "no such column";
    }
    const Column& column = table.columns[static_cast<std::size_t>(at)];
    std::string out;
    for (std::size_t i = 0; i < column.size(); ++i) {
        out += (i > 0 ? " " : "") +
               (column.isMissing(i) ? "_"
                : column.isText()   ? column.texts()[static_cast<std::size_t>(column.codes()[i])]
                                    : exactNumber(column.numbers()[i]));
    }
    return out;
}

std::string namesOf(const Table& table) {
    std::vector<std::string> names;
    for (const Column& column : table.columns) {
        names.push_back(column.name());
    }
    return joinedNames(names);
}

template <class T>
std::string why(const Result<T>& result) {
    return result ? "" : result.error().text();
}

Table growers() {
    Table table = tableOf({{"grower", {1, 2, 3, 4}}, {"yield", {10, 20, -9, 40}}});
    addTexts(table, "village", {"Orl", "Brask", "Orl", ""});
    return table;
}

Table villages() {
    Table table = tableOf({{"altitude", {310, 450, 620}}});
    addTexts(table, "village", {"Brask", "Orl", "Sule"});
    return table;
}

std::string summaryFile() {
    return "statistic,variable,a,b,y\n"
           "n,,40,40,40\n"
           "mean,,2,-1,10\n"
           "sd,,1.5,2,4\n"
           "correlation,a,1,,\n"
           "correlation,b,0.25,1,\n"
           "correlation,y,0.6,-0.3,1\n";
}

}  // namespace

class ShapeTest : public QObject {
    Q_OBJECT

  private slots:

    void rowsOfAnotherTableGoBelow() {
        Table below = tableOf({{"yield", {50}}, {"hives", {7}}});
        addTexts(below, "village", {"Sule"});
        const auto out = appendRows(growers(), below, "wave", {"first", "second"});
        QVERIFY2(out.has_value(), why(out).c_str());
        QCOMPARE(namesOf(out->table), std::string("grower, yield, village, hives, wave"));
        QCOMPARE(cells(out->table, "grower"), std::string("1 2 3 4 _"));
        QCOMPARE(cells(out->table, "yield"), std::string("10 20 -9 40 50"));
        QCOMPARE(cells(out->table, "village"), std::string("Orl Brask Orl _ Sule"));
        QCOMPARE(cells(out->table, "hives"), std::string("_ _ _ _ 7"));
        QCOMPARE(cells(out->table, "wave"), std::string("first first first first second"));
        QCOMPARE(out->facts[0], std::string("4 rows and 1 row make 5 rows"));
        QCOMPARE(out->facts[1], std::string("only above: grower"));
    }

    void textsUnderNumbersAreRefusedWithExamples() {
        Table below;
        addTexts(below, "yield", {"about 40", "n/a"});
        const auto out = appendRows(growers(), below, "", {});
        QVERIFY(!out);
        QVERIFY2(out.error().text().find("“about 40”, “n/a”") != std::string::npos,
                 why(out).c_str());
        // A column without any cell goes with everything.
        Table empty = tableOf({{"village", {kNone}}, {"yield", {1}}});
        const auto fine = appendRows(growers(), empty, "", {});
        QVERIFY2(fine.has_value(), why(fine).c_str());
        QCOMPARE(cells(fine->table, "village"), std::string("Orl Brask Orl _ _"));
    }

    void aJoinLooksUpAndReports() {
        const auto out = joinColumns(growers(), villages(), {{"village", "village"}}, {});
        QVERIFY2(out.has_value(), why(out).c_str());
        QCOMPARE(namesOf(out->table), std::string("grower, yield, village, altitude"));
        QCOMPARE(cells(out->table, "altitude"), std::string("450 310 450 _"));
        QCOMPARE(out->facts[0], std::string("3 rows found their match"));
        QCOMPARE(out->facts[1], std::string("1 row without a key"));
        QCOMPARE(out->facts[2], std::string("1 row of the second table matches no row here"));
        Table lost = growers();
        addTexts(lost, "place", {"Nowhere", "Orl", "Nowhere", "Sule"});
        const auto unmatched = joinColumns(lost, villages(), {{"place", "village"}}, {"altitude"});
        QVERIFY(unmatched->facts[1].find("2 rows did not (Nowhere)") != std::string::npos);
    }

    void repeatedKeysInTheSecondTableAreRefused() {
        Table twice = villages();
        const auto again = appendRows(twice, villages(), "", {});
        const auto out = joinColumns(growers(), again->table, {{"village", "village"}}, {});
        QVERIFY(!out);
        QVERIFY2(out.error().text().find("3 rows in the second table repeat") != std::string::npos,
                 why(out).c_str());
        QVERIFY(out.error().help.find("collapse") != std::string::npos);
        // One row here, several there: the other way round it is a join.
        const auto turned = joinColumns(villages(), growers(), {{"village", "village"}}, {});
        QVERIFY(!turned);
        QVERIFY(turned.error().help.find("start from the second table") != std::string::npos);
    }

    void keysOfSeveralColumnsAndTakenNames() {
        const Table here = tableOf({{"u", {1, 1, 2}}, {"t", {1, 2, 1}}, {"x", {5, 6, 7}}});
        const Table there = tableOf({{"unit", {1, 2, 1}}, {"t", {2, 1, 1}}, {"x", {60, 70, 50}}});
        const auto out = joinColumns(here, there, {{"u", "unit"}, {"t", "t"}}, {});
        QVERIFY2(out.has_value(), why(out).c_str());
        QCOMPARE(cells(out->table, "x_2"), std::string("50 60 70"));
        QCOMPARE(out->facts.back(), std::string("names that were taken: x as x_2"));
        const auto wrong = joinColumns(here, villages(), {{"u", "village"}}, {});
        QVERIFY(!wrong);
        QVERIFY(joinColumns(here, there, {{"u", "unti"}}, {}).error().help.find("‘unit’") !=
                std::string::npos);
    }

    void groupsCollapseWithoutTheMissingCode() {
        VariableEntry entry;
        entry.name = "yield";
        entry.missing = std::vector<Key>{Key(-9.0)};
        const Frame frame = Frame::make(growers(), {entry}, {}, {}, {});
        const auto out = collapseRows(frame, {"village"},
                                      {{"n", "count(yield)", ""},
                                       {"yield", "avg(yield)", ""},
                                       {"span", "max(yield) - min(yield)", ""},
                                       {"share", "avg(yield) / avg(yield) over ()", ""}});
        QVERIFY2(out.has_value(), why(out).c_str());
        QCOMPARE(cells(out->table, "village"), std::string("Brask Orl"));
        QCOMPARE(cells(out->table, "n"), std::string("1 1"));
        QCOMPARE(cells(out->table, "yield"), std::string("20 10"));
        QCOMPARE(cells(out->table, "span"), std::string("0 0"));
        QVERIFY(out->facts[1].find("1 row without village left out") != std::string::npos);
        const auto varies = collapseRows(frame, {"village"}, {{"y", "grower", ""}});
        QVERIFY(!varies);
        QVERIFY2(
            varies.error().text().find("varies within village (rows 1 and 3)") != std::string::npos,
            why(varies).c_str());
    }

    void longAndWideUndoEachOther() {
        const Table wide = tableOf({{"grower", {7, 3}},
                                    {"yield_2019", {1, 4}},
                                    {"yield_2020", {2, kNone}},
                                    {"area", {30, 40}},
                                    {"yield_2021", {3, 6}}});
        const auto guess = longVariablesIn(wide);
        QCOMPARE(longVariablesText(guess),
                 std::string("yield = yield_2019 at 2019, yield_2020 at 2020, yield_2021 at 2021"));
        const auto longer = lengthen(wide, "year", guess);
        QVERIFY2(longer.has_value(), why(longer).c_str());
        QCOMPARE(cells(longer->table, "grower"), std::string("7 7 7 3 3 3"));
        QCOMPARE(cells(longer->table, "year"), std::string("2019 2020 2021 2019 2020 2021"));
        QCOMPARE(cells(longer->table, "yield"), std::string("1 2 3 4 _ 6"));
        const Frame frame = frameOf(longer->table);
        QCOMPARE(joinedNames(varyingWithin(frame, "grower")), std::string("year, yield"));
        const auto back = widen(frame, "grower", "year", {"yield"});
        QVERIFY2(back.has_value(), why(back).c_str());
        // Units come ascending.
        QCOMPARE(cells(back->table, "grower"), std::string("3 7"));
        QCOMPARE(cells(back->table, "yield_2020"), std::string("_ 2"));
        QCOMPARE(cells(back->table, "area"), std::string("40 30"));
        QVERIFY(widen(frame, "grower", "year", {}).error().text().find("‘yield’ varies within") !=
                std::string::npos);
        const auto twice =
            widen(frameOf(tableOf({{"u", {1, 1}}, {"t", {5, 5}}, {"y", {1, 2}}})), "u", "t", {"y"});
        QVERIFY2(twice.error().text().find("rows 1 and 2 are both u 1 at 5") != std::string::npos,
                 why(twice).c_str());
    }

    void aLongVariableMayLackAMoment() {
        const Table wide = tableOf({{"a1", {1}}, {"a2", {2}}, {"b2", {20}}});
        const auto out =
            lengthen(wide, "wave", {{"a", {{"a1", 1.0}, {"a2", 2.0}}}, {"b", {{"b2", 2.0}}}});
        QCOMPARE(cells(out->table, "b"), std::string("_ 20"));
        QCOMPARE(out->facts[1], std::string("no column for b at 1"));
    }

    void typedStepsReadBack() {
        const auto keys = readKeys("village, zone = \"zone, id\"");
        QVERIFY2(keys.has_value(), why(keys).c_str());
        QCOMPARE((*keys)[1].there, std::string("zone, id"));
        QCOMPARE(keysText(*keys), std::string("village, zone = \"zone, id\""));
        QVERIFY(!readKeys("a = b = c"));
        const auto columns = readColumns("m = avg(x)\n\nshare = sum(case when a = 1 then 1 end)");
        QVERIFY2(columns.has_value(), why(columns).c_str());
        QCOMPARE(columns->size(), std::size_t{2});
        QCOMPARE((*columns)[1].expression, std::string("sum(case when a = 1 then 1 end)"));
        const auto wrong = readColumns("m = avg(x)\nn = avg(");
        QVERIFY(!wrong && wrong.error().where.starts_with("line 2"));
        const auto moments = readLongVariables("y = y_a at spring, y_b at autumn");
        QCOMPARE(keyText((*moments)[0].columns[1].at), std::string("autumn"));
        QVERIFY(!readLongVariables("y = y_a"));
        QCOMPARE(keysText(likelyKeys(growers(), villages())), std::string("village"));
    }

    void stepsAreKeptInTheStudyAndRedoneWhenASourceChanges() {
        Study study;
        study.source.file = "growers.csv";
        JoinStep join;
        join.other.file = "villages.csv";
        join.other.reader.type = "csv";
        join.by = {{"village", "village"}};
        study.shape = {join, CollapseStep{{"altitude"}, {{"n", "count(grower)", ""}}}};
        const auto again = readStudyText(studyText(study));
        QVERIFY2(again.has_value(), why(again).c_str());
        QVERIFY(again->shape == study.shape);
        QCOMPARE(studyText(*again), studyText(study));
        // A later version's word about a step is kept.
        std::string later = studyText(study);
        later.replace(later.find("\"by\""), 4, "\"fuzzy\": 0.9, \"by\"");
        QVERIFY(studyText(*readStudyText(later)).find("\"fuzzy\": 0.9") != std::string::npos);

        Sources sources{std::make_shared<const Table>(growers()), nullptr, {}, nullptr, {}};
        Workbench bench([] {});
        bench.open(study, sources);
        bench.wait();
        QVERIFY(bench.frame()->refusal());  // The second table is not at hand.
        sources.others[sourceText(join.other)] = std::make_shared<const Table>(villages());
        bench.replaceSources(sources);
        bench.wait();
        QVERIFY(!bench.frame()->refusal());
        QCOMPARE(cells(bench.frame()->table(), "n"), std::string("1 2"));
        QCOMPARE(bench.shaping()->facts.size(), std::size_t{2});
        // Another source: the same steps over it.
        Table more = growers();
        addTexts(more, "village_2", {"a", "b", "c", "d"});
        sources.table =
            std::make_shared<const Table>(appendRows(growers(), growers(), "", {})->table);
        bench.replaceSources(sources);
        bench.wait();
        QCOMPARE(cells(bench.frame()->table(), "n"), std::string("2 4"));
    }

    void aStepThatNumbersRowsAnewWaitsForRowsSetAside() {
        Study study;
        study.sample.setAside = {{3, "odd"}};
        const auto refused = apply(study, {SetShape{{CollapseStep{{"village"}, {}}}}, "collapse"});
        QVERIFY(!refused);
        QVERIFY(apply(study, {SetShape{{AppendStep{}}}, "append"}).has_value());
    }

    void whatUsesAColumnIncludesTheShape() {
        Study study;
        study.shape = {CollapseStep{{"village"}, {{"y", "avg(yield)", ""}}}};
        QCOMPARE(usesOf(study, "yield").front(), std::string("one row for each village"));
    }

    void aChangedSourceIsToldColumnByColumn() {
        Study study;
        noteSeen(growers(), study.source);
        QCOMPARE(changesOf(study, study.source, growers()).columns.size(), std::size_t{0});
        study.derived = {{"l", "ln(yield)", ""}};
        Table now = tableOf({{"grower", {1, 2, 3, 5}}, {"hives", {1, 2, 3, 4}}});
        addTexts(now, "yield", {"10", "20", "?", "40"});
        const SourceChanges changes = changesOf(study, study.source, now);
        QVERIFY(changes.noted);
        std::string told;
        for (const ColumnChange& change : changes.columns) {
            told += change.name + " " + std::to_string(static_cast<int>(change.kind)) + " " +
                    joinedNames(change.uses) + "; ";
        }
        // What is used comes first, what is new last.
        QCOMPARE(told, std::string("yield 2 the derived variable l; village 0 ; grower 3 ; "
                                   "hives 1 ; "));
        const auto again = readStudyText(studyText(study));
        QVERIFY(again->source.seen == study.source.seen);
        // Without notes, names that the study needs are looked for.
        Study bare;
        bare.derived = study.derived;
        const SourceChanges known = changesOf(bare, bare.source, villages());
        QVERIFY(!known.noted);
        QCOMPARE(known.columns.size(), std::size_t{1});
        QCOMPARE(known.columns.front().name, std::string("yield"));
    }

    void aReviewReadsAndComparesEveryFile() {
        QTemporaryDir place;
        const auto write = [&](const char* name, const char* text) {
            QFile file(place.filePath(name));
            QVERIFY(file.open(QIODevice::WriteOnly));
            file.write(text);
        };
        write("a.csv", "x,v\n1,p\n2,q\n");
        write("b.csv", "v,z\np,5\nq,6\n");
        const std::string folder = place.path().toStdString();
        Study study;
        study.source.file = "a.csv";
        JoinStep join;
        join.other.file = "b.csv";
        join.by = {{"v", "v"}};
        study.shape = {join};
        const SourceReview first = reviewSources(study, study, folder, Job());
        QVERIFY(!first.refusal);
        const Study noted = first.proposed;
        QVERIFY(readSources(noted, folder, false, Job()).has_value());
        write("b.csv", "v,z\np,5\nq,7\n");
        const auto refused = readSources(noted, folder, false, Job());
        QVERIFY(!refused && refused.error().code == ErrorCode::Changed);
        const SourceReview review = reviewSources(noted, noted, folder, Job());
        QCOMPARE(review.files.size(), std::size_t{2});
        QVERIFY(!review.files[0].changed && review.files[1].changed);
        QCOMPARE(review.files[1].changes.columns.front().name, std::string("z"));
        QVERIFY(review.files[1].changes.columns.front().kind == ColumnChange::Kind::OtherCells);
        const Frame frame = makeFrame(review.proposed, review.sources);
        QCOMPARE(cells(frame.table(), "z"), std::string("5 7"));
        QVERIFY(QFile::remove(place.filePath("a.csv")));
        QVERIFY(reviewSources(noted, noted, folder, Job()).refusal.has_value());
    }

    void aSummaryAnswersAsItsRowsWould() {
        const auto import = readCsvText(summaryFile(), {}, Job());
        const auto moments = momentsOfTable(import->table);
        QVERIFY2(moments.has_value(), why(moments).c_str());
        // Rows with exactly these moments, 40 of them: blocks of the pseudo rows of a smaller n.
        const Table few = rowsWithMoments(*moments);
        QCOMPARE(few.rows(), std::size_t{4});
        std::vector<std::pair<std::string, std::vector<double>>> columns;
        for (const Column& column : few.columns) {
            std::vector<double> repeated;
            for (int k = 0; k < 10; ++k) {
                repeated.insert(repeated.end(), column.numbers().begin(), column.numbers().end());
            }
            columns.emplace_back(column.name(), repeated);
        }
        const Answer rows = answer(tableOf(columns), explain("y", {"a", "b"}));
        Study study;
        study.source.kind = "summary";
        study.source.moments = *moments;
        study.questions = {explain("y", {"a", "b"})};
        const Frame frame = makeFrame(study, Sources{nullptr, nullptr, {}, nullptr, {}});
        const Answer summary = answerQuestion(study, frame, study.questions[0], Job());
        QVERIFY2(!summary.refusal, summary.refusal ? summary.refusal->text().c_str() : "");
        QCOMPARE(summary.rows.used, std::size_t{40});
        // Closed form: b = S⁻¹s, with r_ab = 1/4.
        const double det = 1.0 - 0.0625;
        const double a = (0.6 - 0.25 * -0.3) / det * 4.0 / 1.5;
        const double b = (-0.3 - 0.25 * 0.6) / det * 4.0 / 2.0;
        QVERIFY(near(summary.fit->coefficients[1].estimate, a, 1e-13));
        QVERIFY(near(summary.fit->coefficients[2].estimate, b, 1e-13));
        QVERIFY(near(summary.fit->coefficients[0].estimate, 10.0 - 2.0 * a + b, 1e-12));
        const double r2 = (a * 0.6 * 1.5 + b * -0.3 * 2.0) / 4.0;
        QVERIFY(near(*summary.fit->statistics.rSquared, r2, 1e-13));
        const double s2 = 16.0 * 39.0 * (1.0 - r2) / 37.0;
        QVERIFY(near(summary.fit->coefficients[1].se, std::sqrt(s2 / (39.0 * 2.25 * det)), 1e-13));
        for (std::size_t k = 0; k < 3; ++k) {
            QVERIFY(near(summary.fit->coefficients[k].estimate, rows.fit->coefficients[k].estimate,
                         1e-12));
        }
        // The blocks' own n − 1 differs, so that their errors agree by the ratio of sums.
        for (const CheckResult& check : summary.checks) {
            QCOMPARE(check.verdict == Verdict::NotApplicable,
                     check.id != "vif" && check.id != "condition");
        }
    }

    void theDemosSummaryTellsItsPaths() {
        Study study;
        study.source.kind = "summary";
        study.source.file = "coop_summary.csv";
        const auto sources = readSources(study, RAPPORTO_SOURCE_DIR "/demo", false, Job());
        QVERIFY2(sources.has_value(), why(sources).c_str());
        const Frame frame = makeFrame(study, *sources);
        const auto truth = readJson("demo/truth.json")["coop_summary"];
        for (const auto& equation : truth["paths"]) {
            std::vector<std::string> from;
            for (const auto& [name, value] : equation["from"].items()) {
                from.push_back(name);
            }
            const Answer a = answerQuestion(
                study, frame, explain(equation["to"].get<std::string>(), from), Job());
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            QCOMPARE(a.rows.used, std::size_t{412});
            for (std::size_t k = 0; k < from.size(); ++k) {
                // Three printed digits of each correlation.
                QVERIFY(std::abs(*a.fit->coefficients[k + 1].standardised -
                                 equation["from"][from[k]].get<double>()) < 0.002);
            }
        }
    }

    void aSummaryRefusesWhatNeedsRows() {
        Study study;
        study.source.kind = "summary";
        study.source.moments = *momentsOfTable(readCsvText(summaryFile(), {}, Job())->table);
        const Frame frame = makeFrame(study, Sources{nullptr, nullptr, {}, nullptr, {}});
        Question robust = explain("y", {"a"});
        robust.errors.kind = "robust";
        Question logged = explain("ln(y)", {"a"});
        Question squared = explain("y", {"power(a, 2)"});
        for (const Question& q : {robust, logged, squared}) {
            const Answer refused = answerQuestion(study, frame, q, Job());
            QVERIFY(refused.refusal.has_value());
            QVERIFY(refused.refusal->text().find("needs rows") != std::string::npos ||
                    refused.refusal->text().find("need") != std::string::npos);
        }
        const auto again = readStudyText(studyText(study));
        QVERIFY2(again.has_value(), why(again).c_str());
        QVERIFY(near(again->source.moments->correlation(2, 0), 0.6, 0.0));
    }

    void slipsInASummaryAreNamed_data() {
        QTest::addColumn<QString>("from");
        QTest::addColumn<QString>("to");
        QTest::addColumn<QString>("says");
        QTest::newRow("n") << "n,,40,40,40\n"
                           << ""
                           << "number of rows";
        QTest::newRow("n twice") << "n,,40,40,40"
                                 << "n,,40,38,40"
                                 << "different numbers";
        QTest::newRow("above one") << "0.6,-0.3"
                                   << "1.6,-0.3"
                                   << "‘y’ with ‘a’ is 1.6";
        QTest::newRow("impossible") << "0.6,-0.3"
                                    << "0.95,-0.9"
                                    << "no data can have";
        QTest::newRow("hole") << "b,0.25"
                              << "b,"
                              << "‘b’ with ‘a’ is not given";
        QTest::newRow("sd") << "1.5,2,4"
                            << "1.5,0,4"
                            << "‘b’ is not above zero";
        QTest::newRow("halves") << "a,1,,"
                                << "a,1,0.3,"
                                << "below the diagonal";
        QTest::newRow("word") << "mean"
                              << "middle"
                              << "‘middle’ is no statistic";
        QTest::newRow("diagonal") << "y,0.6,-0.3,1"
                                  << "y,0.6,-0.3,2"
                                  << "with itself";
    }

    void slipsInASummaryAreNamed() {
        QFETCH(QString, from);
        QFETCH(QString, to);
        QFETCH(QString, says);
        QString text = QString::fromStdString(summaryFile());
        QVERIFY(text.contains(from));
        text.replace(text.indexOf(from), from.size(), to);
        const auto moments = momentsOfTable(readCsvText(text.toStdString(), {}, Job())->table);
        QVERIFY(!moments);
        QVERIFY2(QString::fromStdString(moments.error().text()).contains(says),
                 moments.error().text().c_str());
    }

    void covariancesSayTheSameAsCorrelations() {
        const auto by = momentsOfTable(readCsvText(summaryFile(), {}, Job())->table);
        MomentEntries entries;
        entries.n = 40;
        entries.names = {"a", "b", "y"};
        entries.mean = {2, -1, 10};
        entries.covariance = {{2.25}, {0.25 * 3, 4}, {0.6 * 6, -0.3 * 8, 16}};
        const auto other = makeMoments(entries);
        QVERIFY2(other.has_value(), why(other).c_str());
        QVERIFY((other->correlation - by->correlation).cwiseAbs().maxCoeff() < 1e-15);
        QVERIFY((other->sd - by->sd).cwiseAbs().maxCoeff() < 1e-15);
    }

    void aCodebookNamesEveryVariable() {
        VariableEntry entry;
        entry.name = "yield";
        entry.missing = std::vector<Key>{Key(-9.0)};
        entry.label = "Yield <dry>";
        entry.unit = "kg";
        const Frame frame = Frame::make(growers(), {entry}, {{"l", "ln(yield)", ""}}, {}, {});
        const auto entries = codebookEntries(frame);
        QCOMPARE(entries.size(), std::size_t{4});
        QVERIFY(entries[1].values.starts_with("3 values from 10 to 40; median 20"));
        QCOMPARE(entries[1].missing, std::string("1 missing; codes -9"));
        QCOMPARE(entries[2].levels.size(), std::size_t{2});
        QCOMPARE(entries[2].levels[1].count, std::size_t{2});
        const ReportPages pages = codebookPages("Growers", frame);
        QCOMPARE(pages.title, std::string("Codebook: Growers"));
        QCOMPARE(pages.subtitle, std::string("4 rows, 4 variables"));
        const auto count = [&](ReportBlock::Kind kind) {
            return std::count_if(pages.blocks.begin(), pages.blocks.end(),
                                 [&](const ReportBlock& b) { return b.kind == kind; });
        };
        QCOMPARE(count(ReportBlock::Kind::Heading), std::ptrdiff_t{4});
        QCOMPARE(count(ReportBlock::Kind::Table), std::ptrdiff_t{1});
        const auto levels =
            std::find_if(pages.blocks.begin(), pages.blocks.end(),
                         [](const ReportBlock& b) { return b.kind == ReportBlock::Kind::Table; });
        QCOMPARE(levels->cells[2][1].value, std::optional(2.0));
        for (const ReportWriter& writer : allReportWriters()) {
            const auto written = writer.write(pages, "book");
            QVERIFY2(written.has_value() && !written->bytes.empty(), writer.name);
        }
        const auto html = writeHtml(pages, "book");
        QVERIFY(html->bytes.find("Yield &lt;dry&gt;") != std::string::npos);
        QVERIFY(html->bytes.find("<svg") != std::string::npos);
        QVERIFY(html->bytes.find("ln(yield)") != std::string::npos);
        // A formula keeps its own marks whatever the page's are.
        const Frame half = Frame::make(growers(), {entry}, {{"l", "yield * 1.5", ""}}, {}, {});
        const auto comma = writeMarkdown(codebookPages("", half, {",", ".", "de"}), "book");
        QVERIFY(comma->bytes.find("1.5") != std::string::npos);
    }

    void aReportIsSavedAsItsEndingSays() {
        const Frame frame = Frame::make(growers(), {}, {}, {}, {});
        const ReportPages pages = codebookPages("Growers", frame);
        std::vector<std::string> put;
        const auto keep = [&](const std::string& path, const std::string& bytes) -> Result<void> {
            put.push_back(path + " " + (bytes.empty() ? "empty" : "whole"));
            return {};
        };
        QVERIFY(saveReport(pages, "out/book.HTML", keep).has_value());
        QCOMPARE(put, std::vector<std::string>{"out/book.HTML whole"});
        put.clear();
        QVERIFY(saveReport(pages, "out/book.md", keep).has_value());
        QVERIFY(put.size() > 1 && put.back() == "out/book.md whole" &&
                put.front().starts_with("out/book"));
        const auto unknown = saveReport(pages, "book.rtf", keep);
        QVERIFY(!unknown && unknown.error().text().find(".docx") != std::string::npos);
        // What stands beside is written first, and what refuses it ends the saving.
        int asked = 0;
        const auto refuses = [&](const std::string&, const std::string&) -> Result<void> {
            ++asked;
            return refuse(ErrorCode::File, "no", "here", "Elsewhere.");
        };
        QVERIFY(!saveReport(pages, "book.md", refuses));
        QCOMPARE(asked, 1);
    }
};

QTEST_APPLESS_MAIN(ShapeTest)
#include "shape_test.moc"
