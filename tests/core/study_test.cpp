#include "core/base/format.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "core/report/writers/writer.h"
#include "core/study/workbench.h"
#include "tests/core/fixtures.h"

#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;
using namespace rapporto::test;

class StudyTest : public QObject {
    Q_OBJECT

    static Study read(const std::string& text) {
        auto study = readStudyText(text);
        if (!study) {
            qFatal("%s", study.error().text().c_str());
        }
        return *std::move(study);
    }

    static std::string minimal(const std::string& questions, const std::string& more = "") {
        return R"({"format":"rapporto-study","version":1,"title":"t","alpha":0.05,"source":{"kind":"table","file":"t.csv"},)" +
               more + "\"questions\":[" + questions + "]}";
    }

    static std::shared_ptr<const Table> table() {
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 50; ++i) {
            x.push_back((i * 7) % 23);
            y.push_back(2.0 * x.back() + (i * 11) % 13);
        }
        return std::make_shared<const Table>(tableOf({{"x", x}, {"y", y}}));
    }

  private slots:

    void demoRoundTrips() {
        std::ifstream in(RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto");
        const std::string text((std::istreambuf_iterator<char>(in)),
                               std::istreambuf_iterator<char>());
        const Study study = read(text);
        const std::string once = studyText(study);
        QCOMPARE(QString::fromStdString(studyText(read(once))), QString::fromStdString(once));
        QVERIFY(nlohmann::json::parse(once) == nlohmann::json::parse(text));
        QVERIFY(once.ends_with("}\n"));
        QVERIFY(once.starts_with(
            "{\n  \"format\": \"rapporto-study\",\n  \"version\": 1,\n  \"title\""));
    }

    void keepsUnknownKeysEverywhere() {
        const std::string text = minimal(
            R"({"id":"q1","kind":"explain","outcome":"y","terms":["x"],"mood":"glad","estimator":{"method":"least-squares","later":1}})",
            R"("colour":"red","variables":[{"name":"x","label":"X","hue":3}],)");
        const Study study = read(text);
        const std::vector<std::string> ofStudy = {"colour", "variables.hue"};
        const std::vector<std::string> ofQuestion = {"mood", "estimator.later"};
        QCOMPARE(study.unknownKeys, ofStudy);
        QCOMPARE(study.questions[0].unknownKeys, ofQuestion);
        const auto json = nlohmann::json::parse(studyText(study));
        QVERIFY(json["colour"] == "red");
        QVERIFY(json["variables"][0]["hue"] == 3);
        QVERIFY(json["questions"][0]["mood"] == "glad");
        QVERIFY(json["questions"][0]["estimator"]["later"] == 1);
    }

    void keepsUnknownKeysWithinThingsWithinThings() {
        const std::string text = minimal(
            R"({"id":"q1","kind":"explain","outcome":"y","terms":["x"],
                "errors":{"kind":"robust","later":2},"predict":[{"at":{"x":1},"later":3}]})",
            R"("survey":{"weight":"x","targets":[{"variable":"y","mean":3,"note":"census"},
                                                  {"variable":"x","mean":1}],"later":4},
               "desk":{"pictures":[{"of":["x"],"hue":5}],"later":6},
               "sets":[{"name":"all","members":["x"],"later":7}],
               "layout":{"kind":"cross-section","later":8},
               "imputation":{"variables":["x"],"with":["y"],"later":9},
               "report":[{"item":"text","text":"a","later":10}],)");
        Study study = read(text);
        const auto check = [](const Study& of) {
            const auto json = nlohmann::json::parse(studyText(of));
            QVERIFY(json["questions"][0]["errors"]["later"] == 2);
            QVERIFY(json["questions"][0]["predict"][0]["later"] == 3);
            QVERIFY(json["survey"]["later"] == 4);
            QVERIFY(json["survey"]["targets"].back()["variable"] == "x");
            QVERIFY(!json["survey"]["targets"].back().contains("note"));
            QVERIFY(json["desk"]["later"] == 6);
            QVERIFY(json["desk"]["pictures"][0]["hue"] == 5);
            QVERIFY(json["sets"][0]["later"] == 7);
            QVERIFY(json["layout"]["later"] == 8);
            QVERIFY(json["imputation"]["later"] == 9);
            QVERIFY(json["report"][0]["later"] == 10);
        };
        check(study);
        QVERIFY(nlohmann::json::parse(studyText(study))["survey"]["targets"][0]["note"] ==
                "census");
        // What goes takes its own along, and nobody else's.
        study.survey.targets.erase(study.survey.targets.begin());
        check(study);
        QVERIFY(studyText(study).find("census") == std::string::npos);
    }

    /// What a person takes out does not come back with the next reading.
    void whatIsTakenOutStaysOut() {
        const std::string text = minimal(
            R"({"id":"q1","kind":"explain","outcome":"y","terms":["x"],
                "estimator":{"method":"logit","penalised":true}},
               {"id":"q2","kind":"explain","outcome":"y","terms":["x"],
                "estimator":{"method":"tobit","low":0,"high":9}},
               {"id":"q3","kind":"explain","outcome":"y","terms":["x"],
                "estimator":{"method":"quantile","at":[0.1,0.9]}},
               {"id":"q4","kind":"explain","outcome":"y","terms":["x"],
                "errors":{"kind":"clustered","by":["x"]}})",
            R"("survey":{"weight":"x","strata":"y","cluster":"x","lonely":"skipped"},
               "imputation":{"variables":["x","y"],"seed":7,"by":{"x":"normal"}},
               "variables":[{"name":"x","label":"X","unit":"kg","read_as":[{"from":9,"to":8}],
                             "missing":[-9],"note":"n"}],)");
        Study study = read(text);
        study.survey.strata.clear();
        study.survey.lonely = Survey{}.lonely;
        study.imputation.by.clear();
        study.variables[0].readAs.reset();
        study.variables[0].missing.reset();
        study.variables[0].unit.reset();
        study.variables[0].note.reset();
        study.questions[0].settings.penalised = false;
        study.questions[1].settings.low.reset();
        study.questions[2].method = "least-squares";
        study.questions[2].settings = EstimatorSettings{};
        study.questions[3].errors = ErrorSpec{};
        const Study again = read(studyText(study));
        QCOMPARE(again.survey, study.survey);
        QVERIFY(again.imputation == study.imputation);
        QVERIFY(again.variables == study.variables);
        for (std::size_t k = 0; k < study.questions.size(); ++k) {
            Question one = again.questions[k];
            one.raw = study.questions[k].raw;  // What was read is another text.
            const std::string told = questionText(one) + " / " + questionText(study.questions[k]);
            QVERIFY2(one.sameAs(study.questions[k]), told.c_str());
        }
        // Rows that are fetched now do not stay with the database.
        Study left = read(
            R"({"format":"rapporto-study","version":1,"source":{"kind":"table","rows":"left",
                "reader":{"type":"postgresql","table":"growers","later":1}},"questions":[]})");
        left.source.reader.left = false;
        left.source.reader.table.clear();
        left.source.reader.query = "select 1";
        const Study fetched = read(studyText(left));
        QVERIFY(fetched.source == left.source);
        QVERIFY(nlohmann::json::parse(studyText(left))["source"]["reader"]["later"] == 1);
    }

    void keepsWhatItCannotComputeToTheLetter() {
        const std::string question =
            R"({"id":"q1","kind":"explain","outcome":"y","terms":["x"],"estimator":{"method":"least-squares","weights_of_tomorrow":[0.1,0.5]},"fixed_effects":["x"]})";
        const Study study = read(minimal(question));
        QVERIFY(!study.questions[0].unbuilt.has_value());
        QVERIFY(nlohmann::json::parse(studyText(study))["questions"][0]["estimator"] ==
                nlohmann::json::parse(question)["estimator"]);
    }

    void refusesQuestionsWithUnknownValues_data() {
        QTest::addColumn<QString>("question");
        QTest::addColumn<int>("code");
        const auto row = [](const char* name, const char* question, ErrorCode code) {
            QTest::newRow(name) << question << static_cast<int>(code);
        };
        row("method", R"({"id":"q1","outcome":"y","terms":["x"],"estimator":{"method":"magic"}})",
            ErrorCode::BadSetting);
        row("errors", R"({"id":"q1","outcome":"y","terms":["x"],"errors":{"kind":"odd"}})",
            ErrorCode::BadSetting);
        row("type",
            R"({"id":"q1","outcome":"y","terms":["x"],"errors":{"kind":"robust","type":"HC9"}})",
            ErrorCode::BadSetting);
        row("draws",
            R"({"id":"q1","outcome":"y","terms":["x"],"errors":{"kind":"bootstrap","draws":3}})",
            ErrorCode::BadSetting);
        row("clusters without a name",
            R"({"id":"q1","outcome":"y","terms":["x"],"errors":{"kind":"bootstrap","scheme":"clusters"}})",
            ErrorCode::BadSetting);
        row("check", R"({"id":"q1","outcome":"y","terms":["x"],"checks":["resets"]})",
            ErrorCode::BadSetting);
        row("quantile", R"({"id":"q1","outcome":"y","estimator":{"method":"quantile","at":[1.5]}})",
            ErrorCode::BadSetting);
        row("event", R"({"id":"q1","outcome":"y","estimator":{"method":"event-study"}})",
            ErrorCode::BadSetting);
        row("depth", R"({"id":"q1","outcome":"y","estimator":{"method":"system-gmm","depth":-1}})",
            ErrorCode::BadSetting);
        row("form",
            R"({"id":"q1","outcome":"y","estimator":{"method":"negative-binomial","form":3}})",
            ErrorCode::BadSetting);
        row("missing answers", R"({"id":"q1","outcome":"y","terms":["x"],"missing":"guessed"})",
            ErrorCode::BadSetting);
        row("coefficient",
            R"({"id":"q1","kind":"correlate","variables":["x","y"],"coefficient":"rho"})",
            ErrorCode::BadSetting);
        row("sides", R"({"id":"q1","kind":"correlate","variables":["x","y"],"sides":"left"})",
            ErrorCode::BadSetting);
        row("predict", R"({"id":"q1","outcome":"y","terms":["x"],"predict":[{"at":{"x":[1]}}]})",
            ErrorCode::BadSetting);
        row("instruments", R"({"id":"q1","outcome":"y","terms":["x"],"instruments":["z"]})",
            ErrorCode::BadSetting);
        row("Fuller",
            R"({"id":"q1","outcome":"y","endogenous":["x"],"instruments":["z"],"estimator":{"method":"fuller","a":-1}})",
            ErrorCode::BadSetting);
        row("steps",
            R"({"id":"q1","outcome":"y","endogenous":["x"],"instruments":["z"],"estimator":{"method":"gmm","steps":"nine"}})",
            ErrorCode::BadSetting);
        row("lags of a panel",
            R"({"id":"q1","outcome":"y","terms":["x"],"errors":{"kind":"panel-autocorrelation","lags":-2}})",
            ErrorCode::BadSetting);
        row("kind", R"({"id":"q1","kind":"guess"})", ErrorCode::BadSetting);
        row("weights",
            R"({"id":"q1","outcome":"y","terms":["x"],"weights":{"kind":"heavy","variable":"x"}})",
            ErrorCode::BadSetting);
        row("terms", R"({"id":"q1","outcome":"y","terms":[3]})", ErrorCode::BadSetting);
    }

    void refusesQuestionsWithUnknownValues() {
        QFETCH(QString, question);
        QFETCH(int, code);
        const Study study = read(minimal(question.toStdString()));
        QVERIFY(study.questions[0].unbuilt.has_value());
        QCOMPARE(static_cast<int>(study.questions[0].unbuilt->code), code);
    }

    void refusesFilesThatAreNoStudies() {
        QCOMPARE(readStudyText("{\n\"a\": \n}").error().where, std::string("line 3"));
        QCOMPARE(readStudyText("[]").error().code, ErrorCode::BadSetting);
        QCOMPARE(readStudyText(R"({"format":"rapporto-study","version":2})").error().code,
                 ErrorCode::BadSetting);
        QVERIFY(!readStudyText(
            R"({"format":"rapporto-study","version":1,"source":{"kind":"table"},"alpha":2})"));
        QVERIFY(!readStudyText(
            R"({"format":"rapporto-study","version":1,"source":{"kind":"table"},"title":3})"));
        QCOMPARE(readStudyFile("/no/such.rapporto").error().code, ErrorCode::File);
    }

    void writesWholeOrNotAtAll() {
        QTemporaryDir place;
        const Study study = read(minimal(""));
        const std::string path = place.filePath("s.rapporto").toStdString();
        QVERIFY(writeStudyFile(study, path).has_value());
        QVERIFY(readStudyFile(path).has_value());
        QVERIFY(!writeStudyFile(study, "/no/such/place/s.rapporto"));
        QCOMPARE(QDir(place.path()).entryList(QDir::Files).size(), 1);
    }

    void editsMakeNewStudiesAndLeaveATrail() {
        const Study study = read(minimal(""));
        const auto one = apply(study, {PutQuestion{explain("y", {"x"})}, "ask"});
        QVERIFY(one.has_value());
        QCOMPARE(study.questions.size(), std::size_t{0});
        QCOMPARE(one->questions.size(), std::size_t{1});
        QCOMPARE(one->trail.back().did, std::string("ask"));
        QVERIFY(!apply(study, {SetRule{"x >"}, "rule"}));
        QVERIFY(!apply(study, {SetAlpha{1.5}, "alpha"}));
        QVERIFY(!apply(study, {RemoveQuestion{"q9"}, "gone"}));
        const auto aside = apply(*one, {SetRowsAside{{3, 1}, "odd"}, "aside"});
        QCOMPARE(aside->sample.setAside[0].row, std::size_t{1});
        QCOMPARE(apply(*aside, {TakeRowsBack{{1}}, "back"})->sample.setAside.size(),
                 std::size_t{1});
    }

    void removingAnOriginalLeavesItsVariantsAFamily() {
        Study study = read(minimal(""));
        for (const auto& [id, of] : std::vector<std::pair<std::string, std::string>>{
                 {"q1", ""}, {"q2", "q1"}, {"q3", "q1"}}) {
            Question q = explain("y", {"x"});
            q.id = id;
            q.variantOf = of;
            study = *apply(study, {PutQuestion{q}, "add"});
        }
        QCOMPARE(study.family("q3").size(), std::size_t{3});
        study = *apply(study, {RemoveQuestion{"q1"}, "remove"});
        QCOMPARE(study.family("q3").size(), std::size_t{2});
        QVERIFY(study.find("q2")->variantOf.empty());
    }

    void workbenchRecomputesOnlyWhatChanged() {
        std::atomic<int> calls = 0;
        Workbench bench([&] { ++calls; });
        Study study = read(minimal(
            R"j({"id":"q1","outcome":"y","terms":["x"]},{"id":"q2","outcome":"y","terms":["x","power(x, 2)"]})j"));
        bench.open(study, Sources{table(), nullptr, {}, nullptr, {}});
        bench.wait();
        const auto first = bench.answer("q1");
        const auto second = bench.answer("q2");
        QVERIFY(first && first->fit && second && second->fit);
        Question changed = study.questions[1];
        changed.errors.kind = "robust";
        QVERIFY(bench.apply({PutQuestion{changed}, "robust"}).has_value());
        bench.wait();
        // The first question's answer, residuals and all, is the very same object.
        QCOMPARE(bench.answer("q1"), first);
        QVERIFY(bench.answer("q2") != second);
        QCOMPARE(bench.undoLabel(), std::string("robust"));
        bench.undo();
        QVERIFY(bench.isFresh("q2"));  // From the cache, at once.
        QCOMPARE(bench.answer("q2"), second);
        bench.redo();
        QCOMPARE(bench.answer("q2")->question.errors.kind, std::string("robust"));
        QVERIFY(calls > 0);
    }

    void aSurveyDesignMakesAnswersAnew() {
        Workbench bench([] {});
        bench.open(
            read(minimal(R"({"id":"q1","outcome":"y","terms":["x"],"errors":{"kind":"survey"}})")),
            Sources{table(), nullptr, {}, nullptr, {}});
        bench.wait();
        QVERIFY(bench.answer("q1")->refusal.has_value());  // None is declared.
        Survey survey;
        survey.cluster = "x";
        QVERIFY(bench.apply({SetSurvey{survey}, "design"}).has_value());
        bench.wait();
        QVERIFY(bench.isFresh("q1"));
        const auto clustered = bench.answer("q1");
        QVERIFY(clustered->fit != nullptr);
        survey.cluster.clear();
        survey.weight = "x";
        QVERIFY(bench.apply({SetSurvey{survey}, "design"}).has_value());
        bench.wait();
        const auto weighted = bench.answer("q1");
        QVERIFY(weighted != clustered);
        bench.undo();
        QVERIFY(bench.isFresh("q1"));
        QCOMPARE(bench.answer("q1"), clustered);
    }

    void aFrequencyThatIsNoneIsRefusedByItsPlace() {
        const std::string text = minimal(R"({"id":"q1","outcome":"y","terms":["x"]})");
        Study study = read(text);
        study.layout = {Layout::Kind::Series, "", "x", "month"};
        const std::string written = studyText(study);
        QVERIFY(readStudyText(written).has_value());
        std::string wrong = written;
        wrong.replace(wrong.find("\"month\""), 7, "\"fortnight\"");
        const auto refused = readStudyText(wrong);
        QVERIFY(!refused.has_value());
        QVERIFY(refused.error().text().find("fortnight") != std::string::npos);
    }

    void workbenchFollowsTheSample() {
        Workbench bench([] {});
        bench.open(read(minimal(R"({"id":"q1","outcome":"y","terms":["x"]})")),
                   Sources{table(), nullptr, {}, nullptr, {}});
        bench.wait();
        QCOMPARE(bench.answer("q1")->rows.used, std::size_t{50});
        QVERIFY(bench.apply({SetRowsAside{{1, 2, 3}, ""}, "aside"}).has_value());
        QVERIFY(bench.answer("q1") != nullptr);  // The earlier one stands until then.
        bench.wait();
        QCOMPARE(bench.answer("q1")->rows.used, std::size_t{47});
        QVERIFY(!bench.apply({SetRule{"((("}, "bad"}).has_value());
        QCOMPARE(bench.undoLabel(), std::string("aside"));
    }

    void aRuleThatCannotBeReadRefusesInWords() {
        Workbench bench([] {});
        bench.open(read(minimal(R"({"id":"q1","outcome":"y","terms":["x"]})")),
                   Sources{table(), nullptr, {}, nullptr, {}});
        QVERIFY(bench.apply({SetRule{"nothing > 1"}, "rule"}).has_value());
        bench.wait();
        QVERIFY(bench.answer("q1")->refusal.has_value());
        QVERIFY(bench.answer("q1")->refusal->where.find("sample rule") != std::string::npos);
    }

    void reportHasItsPartsInEveryForm() {
        Study study = read(minimal(
            R"({"id":"q1","title":"one","outcome":"y","terms":["x"],"lead":true},{"id":"q2","title":"two & three","variant_of":"q1","outcome":"y","terms":["x","nothing"]})"));
        const Frame frame = frameOf(*table());
        std::map<std::string, Answer> answers;
        AnswersById byId;
        for (const Question& q : study.questions) {
            byId[q.id] = &(answers[q.id] = answerQuestion(study, frame, q, Job()));
        }
        const ReportPages pages = reportPages(study, byId, &frame);
        const std::string html = writeHtml(pages, "r")->bytes;
        QVERIFY(html.find("<table>") != std::string::npos);
        QVERIFY(html.find("<svg") != std::string::npos);
        QVERIFY(html.find("two &amp; three") != std::string::npos);  // The refused one says why.
        QVERIFY(html.find("nothing") != std::string::npos);
        const std::string slope =
            fixedNumber(answers.at("q1").fit->coefficients[1].estimate,
                        decimalsFor(answers.at("q1").fit->coefficients[1].se), true);
        for (const char* ending : {".html", ".md", ".csv", ".tex"}) {
            const auto page = findReportWriter(ending)->write(pages, "r");
            QVERIFY2(page && page->bytes.find(slope) != std::string::npos, ending);
        }
    }

    void numbersAreDressedForReading_data() {
        QTest::addColumn<QString>("got");
        QTest::addColumn<QString>("expected");
        const auto row = [](const std::string& got, const char* expected) {
            QTest::newRow(expected) << QString::fromStdString(got) << expected;
        };
        row(fixedNumber(-0.0374, 3, true), "−.037");
        row(fixedNumber(1234567.5, 1), "1 234 567.5");
        row(fixedNumber(-0.0001, 2), "0.00");
        row(fixedNumber(12, 0), "12");
        row(shortNumber(0.00001234, 3), "0.0000123");
        row(shortNumber(1.5e12, 3), "1.5×10¹²");
        row(shortNumber(100, 4), "100");
        row(pText(0.0321), ".032");
        row(pText(0.00001), "< .001");
        row(pClause(0.5), "p = .500");
        row(countText(1180), "1 180");
        row(exactNumber(0.1), "0.1");
        row(exactNumber(-9), "-9");
    }

    void numbersAreDressedForReading() {
        QFETCH(QString, got);
        QFETCH(QString, expected);
        QCOMPARE(got.replace(QChar(0x202F), ' '), expected);
    }

    void findsTheTruthOfTheDemo() {
        const auto truth = readJson("demo/truth.json")["ln_revenue"];
        const Study study = *readStudyFile(RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto");
        const auto sources = readSources(study, RAPPORTO_SOURCE_DIR "/demo", false, Job());
        QVERIFY2(sources.has_value(), sources ? "" : sources.error().text().c_str());
        const Frame frame = makeFrame(study, *sources);
        const Answer a = answerQuestion(study, frame, *study.find("q3"), Job());
        QVERIFY(a.fit != nullptr);
        for (const Coefficient& c : a.fit->coefficients) {
            const std::map<std::string, double> expected = {
                {"hives", truth["hives"]},
                {"power(hives, 2)", truth["hives_squared"]},
                {"ln(orchard_ha)", truth["ln_orchard_ha"]},
                {"schooling_years", truth["schooling_years"]}};
            if (const auto found = expected.find(c.term); found != expected.end()) {
                QVERIFY2(std::abs(c.estimate - found->second) < 3.0 * c.se, c.term.c_str());
            }
            if (c.term == "member") {
                // Growers who hope for more join: least squares overstates membership.
                QVERIFY(c.estimate > truth["member"].get<double>());
            }
        }
    }

    /// Found by the fuzzer: a number beyond all that can be held is no lack of a comma.
    void numbersBeyondAllAreRefusedInWords() {
        for (const char* text : {"[666668126e999", R"({"format":"rapporto-study","alpha":1e999})",
                                 R"({"format":"rapporto-study","version":-1e400})"}) {
            const auto study = readStudyText(text);
            QVERIFY2(!study, text);
            QCOMPARE(study.error().code, ErrorCode::Syntax);
            QVERIFY2(study.error().text().find("1e999") != std::string::npos,
                     study.error().text().c_str());
        }
    }
};

QTEST_APPLESS_MAIN(StudyTest)
#include "study_test.moc"
