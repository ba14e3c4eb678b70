// What helps to get data ready: scales, survey designs, rules in their order, previews, ladders,
// edits that follow a name. References: tests/reference/make_data_reference.py.
#include "core/base/typed_text.h"
#include "core/describe/codes.h"
#include "core/describe/ladder.h"
#include "core/describe/ledger.h"
#include "core/describe/preview.h"
#include "core/describe/recode.h"
#include "core/describe/scale.h"
#include "core/describe/survey_facts.h"
#include "core/model/term_test.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <clocale>

using namespace rapporto;
using namespace rapporto::test;

namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

Table growers() { return readCsvFile(RAPPORTO_SOURCE_DIR "/demo/growers.csv", {}, Job())->table; }

VariableEntry missingNine(const std::string& name) {
    VariableEntry entry;
    entry.name = name;
    entry.missing = std::vector<Key>{Key(-9.0)};
    return entry;
}

Study apples() {
    Study study;
    study.derived = {{"ln_y", "ln(y)", ""}, {"twice", "ln_y * 2", ""}};
    study.sample.where = "ln_y > 0";
    study.sets = {{"controls", {"ln_y", "x"}}};
    Question q = explain("ln_y", {"x", "power(ln_y, 2)"});
    q.errors = {"clustered", "HC1", {"village"}};
    q.where = "twice > 1";
    study.questions = {q};
    return study;
}

}  // namespace

class PrepareTest : public QObject {
    Q_OBJECT

  private slots:

    void scaleAgreesWithExactArithmetic() {
        std::vector<VariableEntry> entries;
        for (int k = 1; k <= 4; ++k) {
            entries.push_back(missingNine("outlook_" + std::to_string(k)));
        }
        const Frame frame =
            Frame::make(growers(), entries, {{"turned", "reverse(outlook_3, 1, 7)", ""}}, {}, {});
        const auto reference = readJson("tests/reference/data_reference.json")["scale"];
        const auto facts = scaleOf(frame, {"outlook_1", "outlook_2", "turned", "outlook_4"});
        QVERIFY(facts.has_value());
        QCOMPARE(facts->n, reference["n"].get<std::size_t>());
        QVERIFY(near(facts->alpha, number(reference["alpha"]), 1e-12));
        for (std::size_t k = 0; k < 4; ++k) {
            QVERIFY(
                near(facts->items[k].withRest, number(reference["items"][k]["with_rest"]), 1e-12));
            QVERIFY(near(facts->items[k].alphaWithout,
                         number(reference["items"][k]["alpha_without"]), 1e-12));
        }
        QVERIFY(facts->againstTheRest.empty());
        // As asked, the third runs against the others.
        const auto raw = scaleOf(frame, {"outlook_1", "outlook_2", "outlook_3", "outlook_4"});
        QVERIFY(raw->againstTheRest == std::vector<std::string>{"outlook_3"});
        QVERIFY(raw->alpha < facts->alpha);
        QVERIFY(!scaleOf(frame, {"outlook_1"}));
        QCOMPARE(scaleOf(frame, {"outlook_1", "zone"}).error().code, ErrorCode::WrongType);
        QCOMPARE(scaleExpression({"a", "b c"}), std::string("(a + \"b c\") / 2"));
    }

    void surveyFactsAgreeWithExactArithmetic() {
        const Frame frame = frameOf(growers());
        const auto reference = readJson("tests/reference/data_reference.json")["design"];
        const auto facts = surveyFacts(frame, {"weight", "zone", "village", ""});
        QVERIFY(facts.has_value());
        QCOMPARE(facts->n, reference["rows"].get<std::size_t>());
        QCOMPARE(facts->strata, reference["strata"].get<std::size_t>());
        QCOMPARE(facts->clusters, reference["clusters"].get<std::size_t>());
        QVERIFY(near(facts->weightEffect, number(reference["weight_effect"]), 1e-12));
        QVERIFY(near(*designEffect(frame, "hives", {"weight", "zone", "village", ""}),
                     number(reference["mean_effect"]), 1e-10));
        // Equal chances: no effect; one row a cluster and no strata: none either.
        QCOMPARE(surveyFacts(frame, {"", "zone", "village", ""})->weightEffect, 1.0);
        QVERIFY(near(*designEffect(frame, "hives", {"", "", "", ""}), 1.0, 1e-12));
        QCOMPARE(surveyFacts(frame, {"wight", "", "", ""}).error().code, ErrorCode::UnknownName);
        QCOMPARE(surveyFacts(frame, {"zone", "", "", ""}).error().code, ErrorCode::WrongType);
    }

    void aLonelyClusterIsNamed() {
        Table table =
            tableOf({{"s", {1, 1, 1, 2, 2}}, {"c", {1, 1, 2, 7, 7}}, {"w", {1, 2, 1, 1, 1}}});
        const auto facts = surveyFacts(frameOf(table), {"w", "s", "c", ""});
        QVERIFY(facts->lonely == std::vector<std::string>{"2"});
        QCOMPARE(facts->clusters, std::size_t{3});
        QCOMPARE(facts->largest, std::size_t{2});
        table.columns[2] = Column::ofNumbers("w", {1, -2, 1, 1, 1});
        QCOMPARE(surveyFacts(frameOf(table), {"w", "s", "c", ""}).error().code,
                 ErrorCode::BadSetting);
    }

    void rulesTakeRowsOutInOrder() {
        const Frame frame =
            frameOf(tableOf({{"x", {1, 2, 3, 4, kNone}}, {"y", {5, kNone, 1, 9, 2}}}));
        const auto steps = ruleSteps(frame, "x > 1 and (y > 1 or x = 3) and x < 9");
        QVERIFY(steps.has_value());
        QCOMPARE(steps->size(), std::size_t{3});
        QCOMPARE((*steps)[0].condition, std::string("x > 1"));
        QCOMPARE((*steps)[0].removed, std::size_t{2});
        QCOMPARE((*steps)[0].unknown, std::size_t{1});
        QCOMPARE((*steps)[1].condition, std::string("y > 1 or x = 3"));
        QCOMPARE((*steps)[1].removed, std::size_t{1});
        QCOMPARE((*steps)[2].removed, std::size_t{0});
        QCOMPARE((*steps)[2].left, std::size_t{2});
        QVERIFY(!ruleSteps(frame, "x > 1 and nothing > 2"));
    }

    void rulesAreJoinedAndCut() {
        QCOMPARE(joinedRule("", "a > 1"), std::string("a > 1"));
        QCOMPARE(joinedRule("a > 1 or b", "c or d"), std::string("(a > 1 or b) and (c or d)"));
        QCOMPARE(ruleWithout("a > 1 and (b or c) and d", 0), std::string("(b or c) and d"));
        QCOMPARE(ruleWithout("a > 1", 0), std::string());
    }

    void previewsSayWhatWouldBeLost() {
        const Frame frame =
            Frame::make(tableOf({{"x", {0, 1, -1, kNone, 20, 3, 3, 3, 3, 3, 3, 0}}}), {},
                        {{"ln_x", "ln(x)", ""}}, {}, {});
        const DerivedPreview preview = previewOf(frame, "ln(x)");
        QVERIFY(!preview.refusal);
        QCOMPARE(preview.missing, std::size_t{4});
        QCOMPARE(preview.freshMissing, std::size_t{3});
        QCOMPARE(preview.first.size(), std::size_t{10});
        QCOMPARE(preview.first[1].value, std::string("0"));
        QVERIFY(preview.cautions.front().find("ln of zero or less") != std::string::npos);
        QCOMPARE(preview.sourceName, std::string("x"));
        std::size_t counted = 0;
        for (const std::size_t c : preview.after.counts) {
            counted += c;
        }
        QCOMPARE(counted, preview.present);
        const DerivedPreview twice = previewOf(frame, "ln(ln_x)");
        QVERIFY(twice.cautions.front().find("a second one") != std::string::npos);
        QVERIFY(previewOf(frame, "ln(z)").refusal.has_value());
        const DerivedPreview banded = previewOf(frame, "bands(x, 1, 10)");
        QVERIFY((banded.levels == std::vector<std::string>{"< 1", "[1, 10)", "≥ 10"}));
        QVERIFY((banded.levelCounts == std::vector<std::size_t>{3, 7, 1}));
    }

    void proposalsFitTheMeasure() {
        const Frame frame = frameOf(growers());
        const auto names = [&](const std::string& variable) {
            std::string all;
            for (const Proposal& p : proposalsFor(frame, variable)) {
                all += p.label + ";";
                const auto value = frame.evaluateText(p.expression);
                if (!value) {
                    return p.expression + ": " + value.error().text();
                }
            }
            return all;
        };
        QVERIFY(names("revenue_fl").find("ln x;") == 0);
        QVERIFY(names("soil").find("is clay;") != std::string::npos);
        QVERIFY(names("hives").find("one moment earlier") == std::string::npos);
        QVERIFY(names("grower").empty());
    }

    void theLadderMarksTheLightestTouch() {
        const Frame frame = frameOf(growers());
        const ShapeLadder ladder = shapeLadder(frame, "revenue_fl");
        QCOMPARE(ladder.rungs.size(), std::size_t{8});
        QCOMPARE(ladder.rungs[static_cast<std::size_t>(ladder.best)].label, std::string("ln x"));
        // Powers in order: skewness ascends along the ladder.
        for (std::size_t r = 1; r < ladder.rungs.size(); ++r) {
            QVERIFY(ladder.rungs[r].skewness > ladder.rungs[r - 1].skewness);
        }
        const auto logs = frame.evaluateText(ladder.rungs[3].expression);
        QVERIFY(near(summarise(logs->column.numbers()).skewness, ladder.rungs[3].skewness, 1e-9));
        QVERIFY(!shapeLadder(frame, "scab_outbreaks").rungs[3].defined);  // Zeros have no log.
        QVERIFY(shapeLadder(frame, "zone").rungs.empty());
    }

    void noAnswerThatStillCounts() {
        const Table table = growers();
        const auto names = countingNoAnswer(frameOf(table));
        QVERIFY(std::find(names.begin(), names.end(), "outlook_1") != names.end());
        const Frame declared = Frame::make(table, {missingNine("outlook_1")}, {}, {}, {});
        const auto rest = countingNoAnswer(declared);
        QCOMPARE(rest.size() + 1, names.size());
    }

    void rangesOfCodesAreMissing() {
        VariableEntry entry;
        entry.name = "x";
        entry.missingRanges = std::vector<KeyRange>{{-99.0, -90.0}, {7.0, 8.0}};
        const Frame frame =
            Frame::make(tableOf({{"x", {-99, -95, -89, 7, 7.5, 8, 9}}}), {entry}, {}, {}, {});
        QCOMPARE(frame.column("x")->countMissing(), std::size_t{5});
    }

    void aNewNameIsFollowedEverywhere() {
        const auto renamed = apply(apples(), {RenameDerived{"ln_y", "log y"}, "rename"});
        QVERIFY(renamed.has_value());
        QCOMPARE(renamed->derived[0].name, std::string("log y"));
        QCOMPARE(renamed->derived[1].expression, std::string("\"log y\" * 2"));
        QCOMPARE(renamed->sample.where, std::string("\"log y\" > 0"));
        QCOMPARE(renamed->sets[0].members[0], std::string("\"log y\""));
        QCOMPARE(renamed->questions[0].outcome, std::string("\"log y\""));
        QCOMPARE(renamed->questions[0].terms[1].parts[0], std::string("power(\"log y\", 2)"));
        QVERIFY(!apply(apples(), {RenameDerived{"ln_y", "twice"}, "rename"}));
        QVERIFY(!apply(apples(), {RenameDerived{"nothing", "else"}, "rename"}));
    }

    void aNewNameIsFollowedIntoEveryRequest() {
        Study study = apples();
        Question& q = study.questions[0];
        q.ownSlopes = {"ln_y"};
        q.offset = "ln_y";
        q.exposure = "exp(ln_y)";
        q.settings.variable = "ln_y";
        q.settings.zeroTerms = {"ln_y", "power(ln_y, 2)"};
        q.effects = {{"ln_y", EffectRequest::As::At, {{"ln_y", 1.0}, {"age", 2.0}}, false, "ln_y"}};
        q.predict = {{}, {}};
        q.predict[1].at = {{"ln_y", 3.0}};
        q.hypotheses = {"ln_y = 0 and age > 1", "\"to cart: ln_y\" = 0", "\"ln_y=Ridge\" = 0"};
        q.checks = {{"groupwise"}};
        q.checks[0].by = "ln_y";
        study.survey.replicates = {"r1", "ln_y"};
        QCOMPARE(usesOf(study, "ln_y").size(), usesOf(apples(), "ln_y").size() + 1);
        // Statements name terms, equations and the constant: no column is missed for them.
        q.hypotheses.push_back("constant = 0");
        const auto named = namesUsed(study);
        QVERIFY(!named.contains("constant") && !named.contains("to cart: ln_y"));
        QVERIFY(named.contains("age") && named.contains("r1") && !named.contains("ln_y"));
        Study stated;
        stated.questions = {explain("y", {"x"})};
        stated.questions[0].hypotheses = {"\"to cart: x × z=Ridge\" = 0"};
        QVERIFY(usesOf(stated, "z") == std::vector<std::string>{"the question q1"});
        QVERIFY(usesOf(stated, "Ridge").empty());
        QVERIFY(usesOf(stated, "cart").empty());
        const auto renamed = apply(study, {RenameDerived{"ln_y", "log_y"}, "rename"});
        QVERIFY(renamed.has_value());
        QVERIFY(usesOf(*renamed, "ln_y").empty());
        QCOMPARE(usesOf(*renamed, "log_y").size(), usesOf(study, "ln_y").size());
        const Question& now = renamed->questions[0];
        QCOMPARE(now.exposure, std::string("exp(log_y)"));
        QCOMPARE(now.effects[0].of, std::string("log_y"));
        QCOMPARE(now.effects[0].over, std::string("log_y"));
        QVERIFY(now.effects[0].at == (ScenarioValues{{"log_y", 1.0}, {"age", 2.0}}));
        QVERIFY(now.predict[1].at == (ScenarioValues{{"log_y", 3.0}}));
        QCOMPARE(now.hypotheses[0], std::string("log_y = 0 and age > 1"));
        QCOMPARE(now.hypotheses[1], std::string("\"to cart: log_y\" = 0"));
        QCOMPARE(now.hypotheses[2], std::string("\"log_y=Ridge\" = 0"));
        QCOMPARE(now.checks[0].by, std::string("log_y"));
        QCOMPARE(renamed->survey.replicates[1], std::string("log_y"));
        // Spaces need quotes in an expression, and none in a plain name.
        const auto spaced = apply(study, {RenameDerived{"ln_y", "log y"}, "rename"});
        QCOMPARE(spaced->questions[0].effects[0].of, std::string("log y"));
        QCOMPARE(spaced->questions[0].settings.zeroTerms[0], std::string("\"log y\""));
    }

    void aLagMayStandBeforeTheMomentItNeeds() {
        const Table table = tableOf({{"u", {1, 1, 1}}, {"year", {1, 2, 3}}, {"y", {4, 5, 6}}});
        Layout layout{Layout::Kind::Panel, "u", "moment", ""};
        const Frame frame = Frame::make(
            table, {}, {{"before", "lag(y)", ""}, {"moment", "year + 0", ""}}, {}, layout);
        QVERIFY(frame.broken().empty());
        QCOMPARE(frame.column("before")->numbers()[1], 4.0);
        QVERIFY(frame.timeOrder().has_value());
        // A moment that is itself a lag goes in a circle, and says so.
        layout.time = "before";
        const Frame circle = Frame::make(table, {}, {{"before", "lag(y)", ""}}, {}, layout);
        QCOMPARE(circle.broken().at("before").code, ErrorCode::Circular);
    }

    void usesAreNamedBeforeSomethingGoes() {
        const auto uses = usesOf(apples(), "ln_y");
        QCOMPARE(uses.size(), std::size_t{4});
        QCOMPARE(uses.front(), std::string("the derived variable twice"));
        QVERIFY(usesOf(apples(), "village") == std::vector<std::string>{"the question q1"});
        QVERIFY(usesOf(apples(), "y") == std::vector<std::string>{"the derived variable ln_y"});
        QVERIFY(usesOf(apples(), "nothing").empty());
    }

    void surveyAndSetsAreSavedAndRead() {
        Study study = apples();
        study = *apply(study, {SetSurvey{{"w", "zone", "village", "48"}}, "design"});
        study = *apply(study, {PutSet{{"more", {"x", "z"}}}, "set"});
        Layout layout{Layout::Kind::Panel, "unit", "day", "order"};
        study = *apply(study, {SetLayout{layout}, "layout"});
        study.source.file = "a.csv";
        const auto back = readStudyText(studyText(study));
        QVERIFY2(back.has_value(), back ? "" : back.error().text().c_str());
        QVERIFY(back->survey == study.survey);
        QVERIFY(back->sets == study.sets);
        QVERIFY(back->layout == layout);
        study = *apply(study, {PutSet{{"more", {}}}, "drop the set"});
        QCOMPARE(study.sets.size(), std::size_t{1});
    }

    void lostRowsAreCountedByVariable() {
        const Answer a = answer(tableOf({{"y", {1, 2, kNone, 4, 5, 7}},
                                         {"x", {1, kNone, kNone, 2, 9, 3}},
                                         {"z", {3, 1, 2, 2, 1, kNone}}}),
                                explain("y", {"x", "z"}));
        QCOMPARE(a.rows.missing, std::size_t{3});
        QCOMPARE(a.rows.missingBy.size(), std::size_t{3});
        QCOMPARE(a.rows.missingBy[0].name, std::string("x"));
        QCOMPARE(a.rows.missingBy[0].rows, std::size_t{2});
        QCOMPARE(a.rows.missingBy[0].alone, std::size_t{1});
        QCOMPARE(a.rows.missingBy[1].alone, std::size_t{0});  // y lacks only where x does.
    }

    void levelsTogetherAreAnAnalysisOfVariance() {
        // With groups alone and classical errors the joint test is the overall F.
        const Table table =
            tableOf({{"y", {1, 2, 4, 3, 8, 9, 7, 6, 5}}, {"g", {1, 1, 1, 2, 2, 2, 3, 3, 3}}});
        VariableEntry groups;
        groups.name = "g";
        groups.measure = Measure::Groups;
        const Answer a = answer(table, explain("y", {"g"}), {}, {groups});
        const auto together = testTerm(*a.fit, 0);
        QVERIFY(together.has_value());
        QVERIFY(near(together->f, a.fit->statistics.f->value, 1e-12));
        QVERIFY(near(together->p, a.fit->statistics.f->p, 1e-12));
        QVERIFY(!testTerm(*a.fit, 5));
    }

    void aTableOfOldAndNewValuesBecomesAnExpression() {
        const Frame frame = frameOf(tableOf({{"x", {1, 2, 3, 4, 5, -1, kNone, 2.5, 60, 70}}}));
        const auto out = recodingOf(frame, "x",
                                    {{"1, 2", "10"},
                                     {"2 to 4", "20"},
                                     {"< 0", "missing"},
                                     {"", ""},
                                     {"missing", "0"},
                                     {"else", "same"}});
        QVERIFY2(out.has_value(), out ? "" : out.error().text().c_str());
        QVERIFY((out->rows == std::vector<std::size_t>{2, 3, 1, 0, 1, 3}));
        QCOMPARE(out->untouched, std::size_t{0});
        QCOMPARE(out->notes.size(), std::size_t{1});  // 2 stands in both of the first lines.
        const auto value = frame.evaluateText(out->expression);
        QVERIFY2(value.has_value(), value ? "" : value.error().text().c_str());
        const double expected[] = {10, 10, 20, 20, 5, kNone, 0, 20, 60, 70};
        for (std::size_t i = 0; i < 10; ++i) {
            QVERIFY(value->column.numbers()[i] == expected[i] ||
                    (std::isnan(value->column.numbers()[i]) && std::isnan(expected[i])));
        }
    }

    void aRecodingThatCannotBeReadSaysWhichLine_data() {
        QTest::addColumn<QString>("from");
        QTest::addColumn<QString>("becomes");
        QTest::addColumn<QString>("says");
        QTest::newRow("no number") << "many"
                                   << "1"
                                   << "‘many’ is no number";
        QTest::newRow("range") << "5 to 3"
                               << "1"
                               << "ends before it starts";
        QTest::newRow("sign") << "<"
                              << "1"
                              << "has no number after its sign";
        QTest::newRow("nothing") << "3"
                                 << ""
                                 << "nothing to become";
        QTest::newRow("mixed") << "3"
                               << "high"
                               << "numbers and words";
    }

    void aRecodingThatCannotBeReadSaysWhichLine() {
        QFETCH(QString, from);
        QFETCH(QString, becomes);
        QFETCH(QString, says);
        const Frame frame = frameOf(tableOf({{"x", {1, 2, 3}}}));
        const auto out =
            recodingOf(frame, "x", {{"1", "5"}, {from.toStdString(), becomes.toStdString()}});
        QVERIFY(!out);
        const QString told = QString::fromStdString(out.error().text());
        QVERIFY2(told.contains(says), qPrintable(told));
        QVERIFY(says.startsWith("numbers and") || told.contains("line 2"));
    }

    void typedNumbersDoNotHangOnTheLocale() {
        // Where a comma is the decimal mark of the machine, a file's point still is one.
        const std::string before = std::setlocale(LC_ALL, nullptr);
        for (const char* locale : {"C", "de_DE.UTF-8", "fr_FR.UTF-8"}) {
            std::setlocale(LC_ALL, locale);  // Stays as it is where the machine has no such locale.
            QCOMPARE(numberIn(" 2.5 ").value_or(0.0), 2.5);
            QCOMPARE(numberIn("−1e3").value_or(0.0), -1000.0);
            QCOMPARE(numberIn("+7").value_or(0.0), 7.0);
            for (const char* none : {"", "2,5", "2.5 kg", "nan", "inf", "1e999", "-", "+-1"}) {
                QVERIFY2(!numberIn(none), none);
            }
        }
        std::setlocale(LC_ALL, before.c_str());
    }

    void whatNoLineNamesBecomesMissingAndIsCounted() {
        const Frame frame = frameOf(tableOf({{"x", {1, 2, 3, kNone}}}));
        const auto out = recodingOf(frame, "x", {{"1", "low"}, {"9", "none"}});
        QVERIFY(out.has_value());
        QCOMPARE(out->untouched, std::size_t{2});
        QCOMPARE(out->notes.size(), std::size_t{2});
        const auto words = recodeProposal(frame, "x");
        QCOMPARE(words.size(), std::size_t{3});
    }

    void randomNumbersHangOnTheSeedAndTheRowAlone() {
        std::vector<double> rows(4000, 0.0);
        const Frame frame = frameOf(tableOf({{"x", rows}}));
        const auto a = frame.evaluateText("uniform(7)");
        const auto b = frame.evaluateText("uniform(8)");
        QVERIFY2(a.has_value(), a ? "" : a.error().text().c_str());
        QCOMPARE(frame.evaluateText("uniform(7)")->column.numbers()[17], a->column.numbers()[17]);
        double mean = 0.0;
        double cross = 0.0;
        double next = 0.0;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const double u = a->column.numbers()[i];
            QVERIFY(u >= 0.0 && u < 1.0);
            mean += u / 4000.0;
            cross += (u - 0.5) * (b->column.numbers()[i] - 0.5) / 4000.0;
            next += i > 0 ? (u - 0.5) * (a->column.numbers()[i - 1] - 0.5) / 4000.0 : 0.0;
        }
        // Four standard errors of each.
        QVERIFY(std::abs(mean - 0.5) < 4.0 * 0.2887 / std::sqrt(4000.0));
        QVERIFY(std::abs(cross) < 4.0 / 12.0 / std::sqrt(4000.0));
        QVERIFY(std::abs(next) < 4.0 / 12.0 / std::sqrt(4000.0));
        // A longer table keeps the numbers of the rows it had.
        const Frame longer = frameOf(tableOf({{"x", std::vector<double>(5000, 0.0)}}));
        QCOMPARE(longer.evaluateText("uniform(7)")->column.numbers()[3999],
                 a->column.numbers()[3999]);
    }
};

QTEST_APPLESS_MAIN(PrepareTest)
#include "prepare_test.moc"
