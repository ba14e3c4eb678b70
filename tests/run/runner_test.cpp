#include "tests/core/fixtures.h"

#include <QDir>
#include <QFile>
#include <QProcess>
#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;

class RunnerTest : public QObject {
    Q_OBJECT

    struct Outcome {
        int exit;
        QString errors;
        QString output;
    };

    static Outcome run(const QStringList& arguments) {
        QProcess process;
        process.start(RAPPORTO_RUNNER, arguments);
        process.waitForFinished(60000);
        return {process.exitCode(), QString::fromUtf8(process.readAllStandardError()),
                QString::fromUtf8(process.readAllStandardOutput())};
    }

    static void write(const QString& path, const QByteArray& text) {
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(text);
    }

    static QByteArray study(const QByteArray& questions,
                            const QByteArray& source = R"({"kind":"table","file":"t.csv"})") {
        return R"({"format":"rapporto-study","version":1,"title":"t","source":)" + source +
               R"(,"questions":[)" + questions + "]}";
    }

    QTemporaryDir place_;

  private slots:

    void init() { write(place_.filePath("t.csv"), "y,x\n1,1\n3,2\n2,3\n5,4\n4,5\n7,6\n"); }

    void answersTheDemoWithReport() {
        const QString results = place_.filePath("r.json");
        const QString report = place_.filePath("r.html");
        const Outcome o = run(
            {RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto", "--out", results, "--report", report});
        QCOMPARE(o.exit, 0);
        std::ifstream in(results.toStdString());
        const auto json = nlohmann::json::parse(in);
        QVERIFY(json["format"] == "rapporto-results");
        QVERIFY(json["answers"].size() == std::size_t{6});
        for (const auto& a : json["answers"]) {
            QVERIFY(a["status"] == "answered");
            QVERIFY(a["rows"]["source"] == 1180);
            QVERIFY(a["rows"]["in_sample"].get<int>() == a["rows"]["used"].get<int>() +
                                                             a["rows"]["missing"].get<int>() +
                                                             a["rows"]["dropped"].get<int>());
            if (a.contains("matrix")) {
                const auto p = a["matrix"]["variables"].size();
                QVERIFY(a["matrix"]["r"].size() == p && a["matrix"]["n"][0].size() == p);
                QVERIFY(a["matrix"]["r"][0][1] == a["matrix"]["r"][1][0]);
                QVERIFY(a["matrix"]["low"][1][0] < a["matrix"]["high"][1][0]);
                continue;
            }
            QVERIFY(a["covariance"].size() == a["coefficients"].size());
            QVERIFY(test::near(std::sqrt(a["covariance"][1][1].get<double>()),
                               a["coefficients"][1]["se"], 1e-14));
            QVERIFY(a.contains("trace") || a["checks"].size() == test::checksOfOneEquation());
        }
        QVERIFY(QFile(report).size() > 3000);
    }

    void reportsAreOfEveryKindWithWhatStandsBeside() {
        write(place_.filePath("s.rapporto"),
              study(R"({"id":"q1","outcome":"y","terms":["x"],"lead":true})"));
        const std::map<QString, QByteArray> begins = {{"html", "<!DOCTYPE html>"},
                                                      {"pdf", "%PDF-"},
                                                      {"docx", "PK"},
                                                      {"odt", "PK"},
                                                      {"xlsx", "PK"},
                                                      {"tex", "\\docu"},
                                                      {"md", "# t"},
                                                      {"csv", ","}};
        for (const auto& [ending, start] : begins) {
            const QString report = place_.filePath("every." + ending);
            const Outcome o = run({place_.filePath("s.rapporto"), "--report", report});
            QVERIFY2(o.exit == 0, qPrintable(ending + ": " + o.errors));
            QFile file(report);
            QVERIFY(file.open(QIODevice::ReadOnly));
            QVERIFY2(file.readAll().startsWith(start), qPrintable(ending));
        }
        QVERIFY(QFile::exists(place_.filePath("every-figure-1.pdf")));
        QVERIFY(QFile::exists(place_.filePath("every-figure-1.svg")));
        const Outcome none = run({place_.filePath("s.rapporto"), "--report", "r.xyz"});
        QCOMPARE(none.exit, 2);
        QVERIFY(none.errors.contains(".docx"));
    }

    void aCodebookIsWrittenWithoutAnyQuestion() {
        // Its only question has no answer: the codebook asks for none.
        write(place_.filePath("s.rapporto"), study(R"({"id":"q1","outcome":"none"})"));
        const QString book = place_.filePath("book.md");
        const Outcome o = run({place_.filePath("s.rapporto"), "--codebook", book});
        QVERIFY2(o.exit == 0, qPrintable(o.errors));
        QVERIFY(o.output.isEmpty());
        QFile file(book);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray text = file.readAll();
        QVERIFY(text.startsWith("# Codebook: t") && text.contains("6 values from 1 to 7"));
        QVERIFY(QFile::exists(place_.filePath("book-figure-1.svg")));
        // Beside results both are there, and the question is refused.
        const Outcome both = run({place_.filePath("s.rapporto"), "--codebook",
                                  place_.filePath("book.pdf"), "--out", place_.filePath("r.json")});
        QCOMPARE(both.exit, 3);
        QVERIFY(QFile::exists(place_.filePath("book.pdf")));
        const Outcome same =
            run({place_.filePath("s.rapporto"), "--codebook", book, "--report", book});
        QCOMPARE(same.exit, 2);
        QVERIFY(same.errors.contains("one file"));
        const Outcome unknown = run({place_.filePath("s.rapporto"), "--codebook", "book.xyz"});
        QCOMPARE(unknown.exit, 2);
        QVERIFY(unknown.errors.contains(".docx"));
    }

    void whatStandsBesideIsWrittenOverNoSource() {
        // The study reads what the figure would be called.
        write(place_.filePath("r-figure-1.svg"), "y,x\n1,1\n3,2\n2,3\n5,4\n4,5\n7,6\n");
        write(place_.filePath("s.rapporto"),
              study(R"({"id":"q1","outcome":"y","terms":["x"],"lead":true})",
                    R"({"kind":"table","file":"r-figure-1.svg","reader":{"type":"csv"}})"));
        const Outcome o = run({place_.filePath("s.rapporto"), "--report", place_.filePath("r.md")});
        QCOMPARE(o.exit, 2);
        QVERIFY(o.errors.contains("made of"));
        QFile source(place_.filePath("r-figure-1.svg"));
        QVERIFY(source.open(QIODevice::ReadOnly) && source.readAll().startsWith("y,x"));
    }

    void aReplicationFolderIsVerified() {
        const QString folder = place_.filePath("again");
        const Outcome made =
            run({RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto", "--replication", folder});
        QVERIFY2(made.exit == 0, qPrintable(made.errors));
        for (const char* name :
             {"study.rapporto", "results.json", "report.pdf", "report.html", "codebook.html",
              "README.md", "replication.json", "figures/figure-1.svg", "data/growers.csv"}) {
            QVERIFY2(QFile::exists(folder + "/" + name), name);
        }
        const Outcome good = run({"--verify", folder});
        QVERIFY2(good.exit == 0, qPrintable(good.output + good.errors));
        QVERIFY(good.output.contains("all agree"));
        // Nothing is written over a folder that holds something.
        QCOMPARE(run({RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto", "--replication", folder}).exit,
                 2);
        // One digit of one cell.
        QFile data(folder + "/data/growers.csv");
        QVERIFY(data.open(QIODevice::ReadOnly));
        QList<QByteArray> lines = data.readAll().split('\n');
        data.close();
        const int column = static_cast<int>(lines[0].split(',').indexOf("revenue_fl"));
        QVERIFY(column >= 0);
        QList<QByteArray> cells = lines[41].split(',');
        cells[column] = cells[column] + "1";
        lines[41] = cells.join(',');
        write(data.fileName(), lines.join('\n'));
        const Outcome changed = run({"--verify", folder});
        QCOMPARE(changed.exit, 4);
        QVERIFY2(changed.output.contains("data/growers.csv is not as it was written"),
                 qPrintable(changed.output));
        QVERIFY2(changed.output.contains("data: row 41, column revenue_fl"),
                 qPrintable(changed.output));
        QVERIFY(changed.output.contains("q1 · coefficients"));
        QCOMPARE(run({"--verify", place_.path()}).exit, 2);
    }

    /// A folder of one question of several is of that one, also where rows stay on the disk.
    void aFolderOfSomeQuestionsIsVerified() {
        write(place_.filePath("some.csv"), "y,x\n1,1\n3,2\n2,3\n5,4\n4,5\n7,6\n");
        for (const char* rows : {"fetched", "left"}) {
            write(
                place_.filePath("some.rapporto"),
                study(R"({"id":"q1","outcome":"y","terms":["x"]},
                           {"id":"q2","outcome":"x","terms":["y"]})",
                      QByteArray(R"({"kind":"table","file":"some.csv","rows":")") + rows + "\"}"));
            const QString folder = place_.filePath(QString("some-") + rows);
            const Outcome made = run({place_.filePath("some.rapporto"), "--question", "q2",
                                      "--replication", folder, "--out", place_.filePath("o.json")});
            QVERIFY2(made.exit == 0, qPrintable(made.errors));
            const Outcome good = run({"--verify", folder});
            QVERIFY2(good.exit == 0, qPrintable(good.output + good.errors));
            QVERIFY(good.output.contains("all agree"));
        }
    }

    void aFolderThatCannotBeWholeIsNone() {
        // Its place is below a file.
        const Outcome o = run({RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto", "--replication",
                               place_.filePath("t.csv/again")});
        QCOMPARE(o.exit, 2);
        QVERIFY2(o.errors.contains("not whole"), qPrintable(o.errors));
        for (const QString& left : QDir(place_.path()).entryList(QDir::AllEntries | QDir::Hidden)) {
            QVERIFY2(!left.contains(".part"), qPrintable(left));
        }
        // A slash behind its name changes nothing.
        const Outcome made = run({RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto", "--replication",
                                  place_.filePath("slashed") + "/"});
        QVERIFY2(made.exit == 0, qPrintable(made.errors));
        QVERIFY(QFile::exists(place_.filePath("slashed/results.json")));
    }

    void dataThatMayNotLeaveStayBehind() {
        write(place_.filePath("s.rapporto"),
              study(R"({"id":"q1","outcome":"y","terms":["x"],"lead":true})"));
        const QString folder = place_.filePath("without");
        QCOMPARE(
            run({place_.filePath("s.rapporto"), "--replication", folder, "--without-data"}).exit,
            0);
        QVERIFY(!QFile::exists(folder + "/data"));
        QFile words(folder + "/README.md");
        QVERIFY(words.open(QIODevice::ReadOnly) && words.readAll().contains("data/t.csv"));
        QCOMPARE(run({"--verify", folder}).exit, 2);
        QDir().mkpath(folder + "/data");
        QVERIFY(QFile::copy(place_.filePath("t.csv"), folder + "/data/t.csv"));
        const Outcome put = run({"--verify", folder});
        QVERIFY2(put.exit == 0, qPrintable(put.output + put.errors));
    }

    void saysWhatMovedSinceAnotherRun() {
        write(place_.filePath("s.rapporto"), study(R"({"id":"q1","outcome":"y","terms":["x"]})"));
        const QString before = place_.filePath("before.json");
        QCOMPARE(run({place_.filePath("s.rapporto"), "--out", before}).exit, 0);
        const Outcome same = run({place_.filePath("s.rapporto"), "--against", before});
        QCOMPARE(same.exit, 0);
        QVERIFY(same.output.contains("nothing moved"));
        write(place_.filePath("t.csv"), "y,x\n1,1\n3,2\n2,3\n5,4\n4,5\n9,6\n");
        const Outcome moved = run({place_.filePath("s.rapporto"), "--against", before});
        QCOMPARE(moved.exit, 4);
        QVERIFY2(moved.output.contains("q1 · coefficients · x · estimate: 1.02857"),
                 qPrintable(moved.output));
        QCOMPARE(run({place_.filePath("s.rapporto"), "--against", place_.filePath("t.csv")}).exit,
                 2);
        // A wide enough tolerance sees nothing in the numbers, but words differ.
        QVERIFY(run({place_.filePath("s.rapporto"), "--against", before, "--tolerance", "0.99"})
                    .output.contains("reading"));
    }

    void oneThreadAndTwoGiveTheSameBytes() {
        QByteArray texts[2];
        for (const int threads : {1, 2}) {
            const QString out = place_.filePath(QString("t%1.json").arg(threads));
            QCOMPARE(run({RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto", "--out", out, "--threads",
                          QString::number(threads)})
                         .exit,
                     0);
            QFile file(out);
            QVERIFY(file.open(QIODevice::ReadOnly));
            texts[threads - 1] = file.readAll();
        }
        QCOMPARE(texts[0], texts[1]);
    }

    void refusedQuestionsExitThreeAndOthersAreAnswered() {
        write(
            place_.filePath("s.rapporto"),
            study(
                R"({"id":"a","outcome":"y","terms":["x"]},{"id":"b","outcome":"y","terms":["x"],"missing":"imputed"})"));
        const Outcome o = run({place_.filePath("s.rapporto"), "--out", place_.filePath("r.json")});
        QCOMPARE(o.exit, 3);
        QVERIFY(o.errors.contains("nothing is declared to be"));
        std::ifstream in(place_.filePath("r.json").toStdString());
        const auto json = nlohmann::json::parse(in);
        QVERIFY(json["answers"][0]["status"] == "answered");
        QVERIFY(json["answers"][1]["status"] == "refused");
        QVERIFY(json["answers"][1]["message"].is_string());
        QCOMPARE(run({place_.filePath("s.rapporto"), "--question", "a", "--out",
                      place_.filePath("r.json")})
                     .exit,
                 0);
    }

    void circularDefinitionsRefuseOnlyThoseWhoNeedThem() {
        QByteArray text = study(
            R"({"id":"a","outcome":"y","terms":["x"]},{"id":"b","outcome":"y","terms":["u"]})");
        text.replace(
            R"("questions")",
            R"("derived":[{"name":"u","expression":"v + 1"},{"name":"v","expression":"u + 1"}],"questions")");
        write(place_.filePath("c.rapporto"), text);
        const Outcome o = run({place_.filePath("c.rapporto"), "--out", place_.filePath("r.json")});
        QCOMPARE(o.exit, 3);
        QVERIFY(o.errors.contains("circle"));
        QVERIFY(!o.errors.contains("refused: a"));
    }

    void unusableCallsExitTwoWithOneLine_data() {
        QTest::addColumn<QByteArray>("text");
        QTest::addColumn<QStringList>("more");
        QTest::newRow("no json") << QByteArray("{") << QStringList();
        QTest::newRow("no source file")
            << study("", R"({"kind":"table","file":"gone.csv"})") << QStringList();
        QTest::newRow("no rows") << study("", R"({"kind":"table","file":"empty.csv"})")
                                 << QStringList();
        QTest::newRow("changed source")
            << study("", R"({"kind":"table","file":"t.csv","sha256":"00"})") << QStringList();
        QTest::newRow("no such question") << study("") << QStringList{"--question", "zz"};
        QTest::newRow("unknown report") << study("") << QStringList{"--report", "r.xyz"};
        QTest::newRow("unknown option") << study("") << QStringList{"--fast"};
    }

    void unusableCallsExitTwoWithOneLine() {
        QFETCH(QByteArray, text);
        QFETCH(QStringList, more);
        write(place_.filePath("empty.csv"), "");
        write(place_.filePath("u.rapporto"), text);
        const Outcome o = run(QStringList{place_.filePath("u.rapporto")} + more);
        QCOMPARE(o.exit, 2);
        QCOMPARE(o.errors.count('\n'), 1);
    }

    void acceptsAChangedSourceWhenTold() {
        write(place_.filePath("h.rapporto"),
              study("", R"({"kind":"table","file":"t.csv","sha256":"00"})"));
        QCOMPARE(run({place_.filePath("h.rapporto"), "--accept-changed", "--out",
                      place_.filePath("r.json")})
                     .exit,
                 0);
    }

    void unknownKeysAreNamed() {
        QByteArray text = study(R"({"id":"a","outcome":"y","terms":["x"]})");
        text.replace(R"("title")", R"("colour":"red","title")");
        write(place_.filePath("k.rapporto"), text);
        const Outcome o = run({place_.filePath("k.rapporto"), "--out", place_.filePath("r.json")});
        QCOMPARE(o.exit, 0);
        QVERIFY(o.errors.contains("colour"));
    }

    // ---- what is written where

    void writesOverNothingTheStudyIsMadeOf() {
        const QString path = place_.filePath("w.rapporto");
        const QByteArray text =
            study(R"({"id":"q1","kind":"explain","outcome":"y","terms":["x"]})");
        write(path, text);
        const auto whole = [&](const QString& file) {
            QFile in(file);
            return in.open(QIODevice::ReadOnly) ? in.readAll() : QByteArray();
        };
        const QByteArray rows = whole(place_.filePath("t.csv"));
        for (const QStringList& call :
             {QStringList{"--out", path},
              {"--report", place_.filePath("t.csv")},
              {"--out", place_.filePath("./t.csv")},
              {"--out", place_.filePath("o.md"), "--report", place_.filePath("o.md")}}) {
            const Outcome o = run(QStringList{path} + call);
            QCOMPARE(o.exit, 2);
            QCOMPARE(o.errors.count('\n'), 1);
        }
        QCOMPARE(whole(path), text);
        QCOMPARE(whole(place_.filePath("t.csv")), rows);
        QVERIFY(!QFile::exists(place_.filePath("o.md")));
    }

    void tellsWhenItsOutputIsLost() {
        const QString path = place_.filePath("w.rapporto");
        write(path, study(R"({"id":"q1","kind":"explain","outcome":"y","terms":["x"]})"));
        const auto shell = [&](const QString& tail) {
            QProcess process;
            process.start("/bin/sh", {"-c", QString(RAPPORTO_RUNNER " '%1' %2").arg(path, tail)});
            process.waitForFinished(60000);
            return std::pair(process.exitCode(), QString::fromUtf8(process.readAllStandardError()));
        };
        const auto full = shell("> /dev/full");
        QCOMPARE(full.first, 2);
        QVERIFY2(full.second.contains("the disk is full"), qPrintable(full.second));
        QCOMPARE(shell(">&-").first, 2);
        QVERIFY(shell("| true; exit 0").second.size() < 300);
        QCOMPARE(shell("--out /dev/full").first, 2);
        QCOMPARE(shell("--out /dev/stdout > '" + place_.filePath("piped") + "'").first, 0);
        QVERIFY(QFileInfo(place_.filePath("piped")).size() > 100);
        QCOMPARE(shell("--out '" + place_.filePath("no/such/place") + "'").first, 2);
        for (const char* threads : {"-1", "1000000000", "99999999999999999999999999"}) {
            const auto o = shell(QString("--threads ") + threads);
            QCOMPARE(o.first, 2);
            QVERIFY2(!o.second.contains("memory"), qPrintable(o.second));
        }
    }

    void readsOutsideTheFolderWhenTold() {
        QDir(place_.path()).mkpath("inner");
        const QString path = place_.filePath("inner/s.rapporto");
        write(path, study(R"({"id":"q1","kind":"explain","outcome":"y","terms":["x"]})",
                          R"({"kind":"table","file":"../t.csv"})"));
        const Outcome o = run({path});
        QCOMPARE(o.exit, 2);
        QVERIFY2(o.errors.contains("outside its folder: ../t.csv"), qPrintable(o.errors));
        QCOMPARE(run({path, "--anywhere"}).exit, 0);
    }

    void repeatsNoEndlessText() {
        const QString path = place_.filePath("w.rapporto");
        write(path, study("{\"id\":\"q1\",\"kind\":\"explain\",\"outcome\":\"y\",\"terms\":[\"" +
                          QByteArray(1000000, 'x') + "\"]}"));
        const Outcome o = run({path});
        QCOMPARE(o.exit, 3);
        QVERIFY(o.errors.size() < 5000);
    }

    /// The pooling of a question is redone from the sets that are written: to the last digits.
    void writesEverySetThatItPools() {
        std::string rows = "y,x,z\n";
        for (int i = 0; i < 60; ++i) {
            const double z = std::sin(1.7 * i);
            const double x = std::cos(2.3 * i) + 0.4 * z;
            rows += (i % 7 == 3 ? std::string() : std::to_string(1.0 + x - z + std::sin(5.1 * i))) +
                    "," + (i % 5 == 1 ? std::string() : std::to_string(x)) + "," +
                    std::to_string(z) + "\n";
        }
        write(place_.filePath("gaps.csv"), QByteArray::fromStdString(rows));
        const QString path = place_.filePath("imputed.rapporto");
        write(path, R"({"format": "rapporto-study", "version": 1, "title": "t",
            "source": {"kind": "table", "file": "gaps.csv"},
            "imputation": {"variables": ["y", "x"], "with": ["z"], "sets": 4, "rounds": 3},
            "questions": [{"id": "q", "outcome": "y", "terms": ["x", "z"], "missing": "imputed"}]})");
        const QString folder = place_.filePath("sets");
        const QString results = place_.filePath("imputed.json");
        const Outcome o = run({path, "--imputed", folder, "--out", results});
        QVERIFY2(o.exit == 0, qPrintable(o.errors));
        std::vector<Eigen::VectorXd> b;
        Eigen::VectorXd within = Eigen::VectorXd::Zero(3);
        for (int set = 1; set <= 4; ++set) {
            QFile file(folder + QString("/set-%1.csv").arg(set, 2, 10, QChar('0')));
            QVERIFY(file.open(QIODevice::ReadOnly));
            const QList<QByteArray> lines = file.readAll().trimmed().split('\n');
            QCOMPARE(lines.size(), 61);
            QCOMPARE(lines.front(), QByteArray("y,x,z"));
            Eigen::MatrixXd X = Eigen::MatrixXd::Ones(60, 3);
            Eigen::VectorXd y(60);
            for (int i = 0; i < 60; ++i) {
                const QList<QByteArray> cells = lines[i + 1].split(',');
                y(i) = cells[0].toDouble();
                X(i, 1) = cells[1].toDouble();
                X(i, 2) = cells[2].toDouble();
            }
            const Eigen::MatrixXd inverse = (X.transpose() * X).inverse();
            b.push_back(inverse * (X.transpose() * y));
            within += (y - X * b.back()).squaredNorm() / 57.0 * inverse.diagonal() / 4.0;
        }
        std::ifstream in(results.toStdString());
        const auto json = nlohmann::json::parse(in);
        const auto& answer = json["answers"][0];
        for (Eigen::Index k = 0; k < 3; ++k) {
            const double mean = (b[0](k) + b[1](k) + b[2](k) + b[3](k)) / 4.0;
            double between = 0.0;
            for (const auto& one : b) {
                between += (one(k) - mean) * (one(k) - mean) / 3.0;
            }
            const auto& c = answer["coefficients"][static_cast<std::size_t>(k)];
            AGREE("estimate", c["estimate"].get<double>(), mean, 1e-9);
            AGREE("se", c["se"].get<double>(), std::sqrt(within(k) + 1.25 * between), 1e-9);
            const auto& told = answer["imputation"]["terms"][static_cast<std::size_t>(k)];
            AGREE("between", told["between"].get<double>(), between, 1e-9);
            AGREE("within", told["within"].get<double>(), within(k), 1e-9);
        }
        QFile cells(folder + "/filled.csv");
        QVERIFY(cells.open(QIODevice::ReadOnly));
        QVERIFY(cells.readAll().startsWith("variable,row\ny,4\n"));
        // Nothing to write where nothing is declared; and never over the source.
        write(place_.filePath("plain.rapporto"),
              study(R"({"id":"q","outcome":"y","terms":["x"]})"));
        const Outcome none = run({place_.filePath("plain.rapporto"), "--imputed", folder});
        QCOMPARE(none.exit, 2);
        QVERIFY2(none.errors.contains("nothing is declared"), qPrintable(none.errors));
    }
};

QTEST_APPLESS_MAIN(RunnerTest)
#include "runner_test.moc"
