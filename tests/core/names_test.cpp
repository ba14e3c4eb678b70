// Names as spreadsheets have them: whatever a variable is called, the answer is the same, and no
// words show the quotes that expressions want.
#include "core/base/shown_names.h"
#include "core/io/csv.h"
#include "core/model/shown_question.h"
#include "core/paths/trace.h"
#include "core/report/report.h"
#include "core/report/results_table.h"
#include "tests/core/fixtures.h"
#include "tests/fuzz/other_names.h"

#include <QTest>

using namespace rapporto;
using namespace rapporto::fuzz;

namespace {

Answer answered(const QuestionMaker::Made& made) {
    Study study;
    study.alpha = made.alpha;
    study.survey = made.survey;
    study.questions = {made.question};
    const Frame frame = Frame::make(made.table, made.entries, {}, {}, made.layout);
    return answerQuestion(study, frame, made.question, Job());
}

/// Forty rows: pay in €, training by yes and no, size, a region.
Study payStudy() {
    Study study;
    Question q;
    q.id = "q1";
    q.outcome = "ln(\"Pay in €\")";
    q.terms = {Term::expression("\"Trained?\""), Term::expression("ln(\"Staff (heads)\")"),
               Term::expression("\"Region, 2020\"")};
    q.predict = {{{{"Staff (heads)", Key(9.0)}}, ""}};
    study.questions = {q};
    return study;
}

Table payTable() {
    std::string text = "Pay in €;Trained?;Staff (heads);Region, 2020\n";
    for (int i = 0; i < 40; ++i) {
        text += std::to_string(10 + (i * 7) % 23) + ";" + (i % 3 == 0 ? "ja" : "nein") + ";" +
                std::to_string(2 + (i * 5) % 17) + ";" + (i % 4 < 2 ? "north" : "south") + "\n";
    }
    ReaderOptions options;
    options.delimiter = ';';
    return readCsvText(text, options, Job())->table;
}

}  // namespace

class NamesTest : public QObject {
    Q_OBJECT

  private slots:

    void namesAreShownWithoutTheirQuotes_data() {
        QTest::addColumn<std::string>("written");
        QTest::addColumn<std::string>("shown");
        QTest::newRow("plain") << std::string("ln(hives)") << std::string("ln(hives)");
        QTest::newRow("quoted") << std::string("ln(\"Pay in €\") + 1")
                                << std::string("ln(Pay in €) + 1");
        QTest::newRow("quote within")
            << std::string("\"5\"\" pipes\" * 2") << std::string("5\" pipes * 2");
        QTest::newRow("texts stay")
            << std::string("\"Land use\" = 'a \"b\" c'") << std::string("Land use = 'a \"b\" c'");
        QTest::newRow("never closed")
            << std::string("12\" and more") << std::string("12\" and more");
        QTest::newRow("empty") << std::string() << std::string();
    }

    void namesAreShownWithoutTheirQuotes() {
        QFETCH(std::string, written);
        QFETCH(std::string, shown);
        QCOMPARE(shownNames(written), shown);
    }

    void aTextThatIsANameGivesIt() {
        QCOMPARE(bareName("hives"), std::string("hives"));
        QCOMPARE(bareName("\"Pay in €\""), std::string("Pay in €"));
        QCOMPARE(bareName("\"5\"\" pipes\""), std::string("5\" pipes"));
        QCOMPARE(bareName("\"a\" + \"b\""), std::string());
        QCOMPARE(bareName("ln(hives)"), std::string());
        QCOMPARE(plainName("ln(hives)"), std::string("ln(hives)"));
        QCOMPARE(plainName("\"Pay in €\""), std::string("Pay in €"));
    }

    // What somebody wrote in quotes keeps them.
    void wordsKeepOtherQuotes() {
        QCOMPARE(shownNamesOf("He said \"no\" of \"Pay in €\".", {"ln(\"Pay in €\")"}),
                 std::string("He said \"no\" of Pay in €."));
        QCOMPARE(shownNamesOf("\"Pay in €\" and \"Pay in €\"", {"\"Pay in €\" * 2"}),
                 std::string("Pay in € and Pay in €"));
        QCOMPARE(shownNamesOf("nothing", {"12\" never closed"}), std::string("nothing"));
    }

    void quotedTextsOfAQuestion() {
        QCOMPARE(quotedTexts(payStudy().questions.front()).size(), std::size_t(4));
        QVERIFY(quotedTexts(Question()).empty());
    }

    void aVariableIsFoundByItsNameQuotedOrNot() {
        const Frame frame = test::frameOf(payTable());
        QVERIFY(frame.variable("Pay in €") != nullptr);
        QCOMPARE(frame.variable("\"Pay in €\""), frame.variable("Pay in €"));
        QCOMPARE(frame.column("\"Staff (heads)\""), frame.column("Staff (heads)"));
        QVERIFY(frame.variable("\"pay in €\"") == nullptr);
        QVERIFY(frame.variable("\"") == nullptr);
        const auto bare = frame.evaluateText("Staff (heads)");
        QVERIFY(bare.has_value());
        QCOMPARE(bare->column.numbers()[3], frame.column("Staff (heads)")->numbers()[3]);
        // Where a text can be something else it is that.
        const Frame minus = test::frameOf(
            test::tableOf({{"a", {3.0, 5.0}}, {"b", {1.0, 1.0}}, {"a - b", {7.0, 7.0}}}));
        QCOMPARE(minus.evaluateText("a - b")->column.numbers()[0], 2.0);
        QCOMPARE(minus.evaluateText("\"a - b\"")->column.numbers()[0], 7.0);
    }

    void yesAndNoAreReadInSeveralLanguages_data() {
        QTest::addColumn<std::string>("no");
        QTest::addColumn<std::string>("yes");
        QTest::newRow("de") << std::string("nein") << std::string("ja");
        QTest::newRow("De") << std::string("Nein") << std::string("Ja");
        QTest::newRow("fr") << std::string("non") << std::string("oui");
        QTest::newRow("es") << std::string("no") << std::string("sí");
        QTest::newRow("it") << std::string("no") << std::string("sì");
        QTest::newRow("pt") << std::string("não") << std::string("sim");
    }

    void yesAndNoAreReadInSeveralLanguages() {
        QFETCH(std::string, no);
        QFETCH(std::string, yes);
        const auto read =
            readCsvText("v,w\n" + yes + ",1\n" + no + ",2\n" + yes + ",3\n", {}, Job());
        QVERIFY(read.has_value());
        const Variable& v = read->table.variables[0];
        QVERIFY(v.measure == Measure::YesNo);
        QCOMPARE(read->table.columns[0].numbers()[0], 1.0);
        QCOMPARE(read->table.columns[0].numbers()[1], 0.0);
        QCOMPARE(v.levels.size(), std::size_t(2));
        QCOMPARE(v.levels[1].label, yes);
    }

    // “ja” and “nein” stand as they were written where a statement names them.
    void aYesIsStillItsWord() {
        const Frame frame = test::frameOf(payTable());
        const auto said = frame.evaluateText("\"Trained?\" = 'ja'");
        QVERIFY(said.has_value());
        QCOMPARE(said->column.numbers()[0], 1.0);
        QCOMPARE(said->column.numbers()[1], 0.0);
    }

    void noWordsOfAReportShowQuotes() {
        Study study = payStudy();
        const Frame frame = test::frameOf(payTable());
        const Answer answer = answerQuestion(study, frame, study.questions.front(), Job());
        QVERIFY(answer.fit != nullptr);
        QCOMPARE(answer.fit->coefficients[1].term, std::string("Trained?"));
        QCOMPARE(answer.fit->coefficients[2].label, std::string("ln(Staff (heads))"));
        QCOMPARE(answer.fit->coefficients[2].term, std::string("ln(\"Staff (heads)\")"));
        QVERIFY2(equationText(answer).find('"') == std::string::npos, equationText(answer).c_str());
        QVERIFY(answer.predictions.has_value());
        const std::string foretold = predictionReading(answer, 0).front();
        QVERIFY2(foretold.find("mean of Pay in € is") != std::string::npos, foretold.c_str());
        const ReportBlock table = resultsTable(study, {&answer});
        for (const CellRow& row : table.cells) {
            for (const Cell& cell : row) {
                QVERIFY2(cell.text.find('"') == std::string::npos, cell.text.c_str());
            }
        }
        QCOMPARE(shownExpression("ln(\"Pay in €\")", {}), std::string("ln Pay in €"));
        QCOMPARE(shownExpression("ln(\"Pay in €\")", {{"Pay in €", "Pay"}}), std::string("ln Pay"));
        QCOMPARE(shownExpression("power(\"Staff (heads)\", 2)", {}), std::string("Staff (heads)²"));
    }

    // Effects of a trace are asked for by names with and without quotes, and say the same.
    void aTraceIsAskedByAnyName() {
        Table table = payTable();
        const auto asked = [&](const std::string& from) {
            Study study;
            Question q;
            q.id = "t";
            q.kind = "trace";
            const auto path = [](const std::string& to, std::vector<Term> causes) {
                PathSpec out;
                out.to = to;
                out.from = std::move(causes);
                return out;
            };
            const Term pay = Term::expression("\"Pay in €\"");
            const Term trained = Term::expression("\"Trained?\"");
            q.trace.paths = {path("\"Pay in €\"", {trained}),
                             path("\"Staff (heads)\"", {pay, trained})};
            TracedPair pair;
            pair.from = from;
            pair.to = "\"Staff (heads)\"";
            q.trace.effects = {pair};
            q.trace.interval = "delta";
            study.questions = {q};
            return answerQuestion(study, test::frameOf(table), q, Job());
        };
        const Answer bare = asked("Trained?");
        const Answer quoted = asked("\"Trained?\"");
        QVERIFY2(bare.trace != nullptr, bare.refusal ? bare.refusal->text().c_str() : "no trace");
        QCOMPARE(bare.trace->effects.size(), quoted.trace->effects.size());
        QCOMPARE(bare.trace->effects[0].estimate, quoted.trace->effects[0].estimate);
        QVERIFY2(answerReading(bare).find('"') == std::string::npos, answerReading(bare).c_str());
        const Answer none = asked("Hired?");
        QVERIFY(none.refusal.has_value());
        QVERIFY2(none.refusal->help.find('"') == std::string::npos, none.refusal->help.c_str());
    }

    // Questions of every kind, each asked twice: by short names, and by names with spaces, commas,
    // brackets, an apostrophe.
    void namesChangeNothing() {
        int answeredOnes = 0;
        for (std::uint64_t seed = 1; seed <= 2000; ++seed) {
            const QuestionMaker::Made made = QuestionMaker(seed).make();
            const QuestionMaker::Made named = withOtherNames(made);
            const Answer a = answered(made);
            const Answer b = answered(named);
            const std::string off = namesMatter(a, b);
            QVERIFY2(off.empty(), qPrintable(QString("seed %1: %2").arg(seed).arg(off.c_str())));
            const std::string quoted = quotesNames(b, named);
            QVERIFY2(quoted.empty(),
                     qPrintable(QString("seed %1: %2").arg(seed).arg(quoted.c_str())));
            const std::string remedy =
                badRemedy(b, Frame::make(named.table, named.entries, {}, {}, named.layout));
            QVERIFY2(remedy.empty(),
                     qPrintable(QString("seed %1: %2").arg(seed).arg(remedy.c_str())));
            answeredOnes += a.fit ? 1 : 0;
        }
        QVERIFY2(answeredOnes > 150, std::to_string(answeredOnes).c_str());
    }
};

QTEST_APPLESS_MAIN(NamesTest)
#include "names_test.moc"
