// What the sentence proposes, and where it keeps silent.
#include "core/study/ways_to_ask.h"

#include "tests/core/fixtures.h"

#include <QTest>

using namespace rapporto;
using namespace rapporto::test;

namespace {

/// 240 rows: an outcome of each measure, a text of 24 places, a grouping of 3, a unit and a year.
Table table() {
    std::vector<double> y(240), x(240), no(240), count(240), rank(240), kind(240), unit(240),
        year(240);
    for (std::size_t i = 0; i < 240; ++i) {
        const auto v = static_cast<double>(i);
        x[i] = std::sin(v);
        y[i] = x[i] + std::cos(3.0 * v);
        no[i] = i % 3 == 0 ? 1.0 : 0.0;
        count[i] = static_cast<double>(i % 7);
        rank[i] = static_cast<double>(i % 4);
        kind[i] = static_cast<double>(i % 3);
        unit[i] = static_cast<double>(i / 6);
        year[i] = 2010.0 + static_cast<double>(i % 6);
    }
    Table t = tableOf({{"y", y},
                       {"x", x},
                       {"no", no},
                       {"count", count},
                       {"rank", rank},
                       {"kind", kind},
                       {"unit", unit},
                       {"year", year}});
    t.variables[2].measure = Measure::YesNo;
    t.variables[3].measure = Measure::Count;
    t.variables[4].measure = Measure::OrderedGroups;
    t.variables[5].measure = Measure::Groups;
    std::vector<std::string> places;
    for (int i = 0; i < 24; ++i) {
        places.push_back("place " + std::to_string(i));
    }
    std::vector<std::int32_t> codes;
    for (int i = 0; i < 240; ++i) {
        codes.push_back(i % 24);
    }
    t.columns.push_back(Column::ofTexts("village", codes, places));
    Variable village;
    village.name = "village";
    village.measure = Measure::Groups;
    t.variables.push_back(village);
    return t;
}

std::vector<std::string> labels(const Study& study, const Question& question) {
    std::vector<std::string> out;
    const Table t = table();
    for (const WayToAsk& one : waysToAsk(study, frameOf(t), question)) {
        out.push_back(one.label);
        if (one.why.empty() || one.why.back() != '.') {
            out.emplace_back("no reason");
        }
    }
    return out;
}

}  // namespace

class WaysToAskTest : public QObject {
    Q_OBJECT

  private slots:

    void theMeasureOfTheOutcomeProposesTheMethod_data() {
        QTest::addColumn<QString>("outcome");
        QTest::addColumn<QString>("label");
        QTest::addColumn<QString>("method");
        QTest::newRow("yes or no") << "no"
                                   << "by logit"
                                   << "logit";
        QTest::newRow("count") << "count"
                               << "by a Poisson count"
                               << "poisson";
        QTest::newRow("ordered") << "rank"
                                 << "by ordered logit"
                                 << "ordered-logit";
        QTest::newRow("groups") << "kind"
                                << "by a logit of several groups"
                                << "multinomial-logit";
    }

    void theMeasureOfTheOutcomeProposesTheMethod() {
        QFETCH(QString, outcome);
        QFETCH(QString, label);
        QFETCH(QString, method);
        const Table t = table();
        const Question q = explain(outcome.toStdString(), {"x"});
        const auto all = waysToAsk(Study{}, frameOf(t), q);
        QVERIFY(!all.empty());
        QCOMPARE(all[0].label, label.toStdString());
        QCOMPARE(all[0].question.method, method.toStdString());
        // It can be asked as it stands, and then it is proposed no more.
        Question taken = all[0].question;
        taken.allChecks = false;
        QVERIFY(!answer(t, taken).refusal);
        for (const WayToAsk& one : waysToAsk(Study{}, frameOf(t), taken)) {
            QVERIFY(one.label != label.toStdString());
        }
    }

    void aQuantityByLeastSquaresIsLeftAlone() {
        const Question q = explain("y", {"x"});
        QCOMPARE(labels({}, q), std::vector<std::string>{"errors clustered by village"});
        // An expression has no measure of its own.
        QCOMPARE(labels({}, explain("ln(count + 1)", {"x"})),
                 std::vector<std::string>{"errors clustered by village"});
    }

    void errorsFollowWhatIsDeclared() {
        Study study;
        Question q = explain("y", {"x"});
        study.survey.cluster = "village";
        QCOMPARE(labels(study, q)[0], std::string("errors by the survey design"));
        study.survey = {};
        study.layout.kind = Layout::Kind::Series;
        study.layout.time = "year";
        QCOMPARE(labels(study, q)[0], std::string("errors that allow for an echo"));
        study.layout.kind = Layout::Kind::Panel;
        study.layout.unit = "unit";
        const std::vector<std::string> panel = {"errors clustered by unit", "holding unit fixed",
                                                "holding unit and year fixed"};
        QCOMPARE(labels(study, q), panel);
        // What was chosen is not talked over.
        q.errors.kind = "clustered";
        q.errors.by = {"village"};
        q.fixedEffects = {"unit"};
        QVERIFY(labels(study, q).empty());
    }

    void randomEffectsHaveErrorsOfTheirOwn() {
        Question q = explain("y", {"x"});
        QVERIFY(!labels(Study{}, q).empty());
        q.method = "multilevel";
        q.settings.levels = {{"village"}};
        QVERIFY(labels(Study{}, q).empty());
        Study survey;
        survey.survey.cluster = "village";
        QVERIFY(labels(survey, q).empty());
    }

    void groupsThatAreTermsOrTooFewAreNoClusters() {
        QVERIFY(labels({}, explain("y", {"village"})).empty());
        const Table t = tableOf({{"y", {1, 2, 3, 5}}, {"x", {1, 2, 3, 4}}});
        QVERIFY(waysToAsk({}, frameOf(t), explain("y", {"x"})).empty());
        Question other = explain("y", {"x"});
        other.kind = "correlate";
        QVERIFY(labels({}, other).empty());
        QVERIFY(labels({}, explain("", {"x"})).empty());
        QVERIFY(labels({}, explain("gone", {"x"})).size() == 1);  // It has no measure.
    }
};

QTEST_APPLESS_MAIN(WaysToAskTest)
#include "ways_to_ask_test.moc"
