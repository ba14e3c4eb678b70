// Pictures of rows that stay with a database are those of the same rows at hand: every bar, box,
// mean and number is compared.
#include "core/left/left_picture.h"

#include "core/report/report.h"
#include "tests/core/left_pictures.h"

#include <fmt/format.h>

#include <random>

using namespace rapporto;
using namespace rapporto::tests;

class LeftPictureTest : public QObject {
    Q_OBJECT

    std::unique_ptr<TestServer> server_;

  private slots:

    void initTestCase() {
        server_ = std::make_unique<TestServer>();
        if (!server_->why().isEmpty()) {
            QSKIP(qPrintable("no server: " + server_->why()));
        }
        QVERIFY(server_->sql(surveySql(1500)));
    }

    void cleanupTestCase() { server_.reset(); }

    void drawsLeftAsFetched_data() { addPicturesBySums(); }

    void drawsLeftAsFetched() { drawBothWays(&openedWith); }

    /// On a logarithmic axis the mean is that of the logarithms, and is called so.
    void namesTheMeanOfLogarithms() {
        const auto left = opened(studyOf("left"));
        QVERIFY(left.has_value());
        PictureSpec spec = specOf("distribution", {"income"});
        const auto plain = leftPicture(left->study, left->frame, spec, Job());
        spec.logX = true;
        const auto logs = leftPicture(left->study, left->frame, spec, Job());
        QVERIFY(plain && logs);
        QCOMPARE(plain->numbers.front().name, std::string("mean"));
        QCOMPARE(logs->numbers.front().name, std::string("geometric mean"));
        QVERIFY(plain->numbers.front().value != logs->numbers.front().value);
    }

    /// A picture is asked for once, and anew where what it hangs on is another.
    void isAskedForOnce() {
        auto left = opened(studyOf("left"));
        QVERIFY(left.has_value());
        const PictureSpec spec = specOf("shares", {"zone"});
        const auto first = leftPicture(left->study, left->frame, spec, Job());
        QVERIFY(first.has_value());
        Job stopped;
        stopped.stop();  // Nothing can be asked any more.
        PictureSpec named = spec;
        named.title = "Where they live";
        const auto again = leftPicture(left->study, left->frame, named, stopped);
        QVERIFY(again.has_value());
        QCOMPARE(again->exhibits[0].title, named.title);
        compareBars(again->exhibits[0], first->exhibits[0]);
        const auto plain = leftPicture(left->study, left->frame, spec, stopped);
        QCOMPARE(plain->exhibits[0].title, first->exhibits[0].title);
        left->study.sample.where = "age > 40";
        QVERIFY(!leftPicture(left->study, left->frame, spec, stopped).has_value());
        const auto other = leftPicture(left->study, left->frame, spec, Job());
        QVERIFY(other.has_value());
        QVERIFY(other->exhibits[0].subtitle != first->exhibits[0].subtitle);
        left->study.alpha = 0.5;
        QVERIFY(!leftPicture(left->study, left->frame, spec, stopped).has_value());
    }

    /// Values crowd, are few, lie 300 powers of ten apart or at the ends of what a double can hold.
    void findsQuantilesByCounting_data() {
        QTest::addColumn<QString>("values");
        QTest::addColumn<bool>("hasSquares");
        QTest::newRow("one value") << "3.25" << true;
        QTest::newRow("one value many times") << "case when id > 0 then 0.1 end" << true;
        QTest::newRow("two values") << "case when id % 3 = 0 then -1 else 1 end" << true;
        QTest::newRow("far apart")
            << "case when id % 7 = 0 then 1e300 * id else id / 3.0 end" << false;
        QTest::newRow("tiny and large") << "power(10.0, (id % 600) - 300)" << false;
        QTest::newRow("ends of the doubles")
            << "case id % 4 when 0 then 1.7e308 when 1 then -1.7e308 when 2 then 4.9e-324 "
               "else id end"
            << false;
        QTest::newRow("missing in places") << "case when id % 2 = 0 then id * 0.7 end" << true;
        QTest::newRow("neighbours") << "1 + (id % 5) * 2.220446049250313e-16" << true;
    }

    void findsQuantilesByCounting() {
        QFETCH(QString, values);
        QVERIFY(server_->sql("drop table if exists odd; create table odd as select id, cast(" +
                             values +
                             " as float8) as v, id % 3 as g from generate_series(1, 5000) as id;"));
        auto json = studyOf("left");
        for (const char* key : {"variables", "derived", "sample"}) {
            json.erase(key);
        }
        json["source"]["reader"]["table"] = "odd";
        const auto left = opened(json);
        QVERIFY2(left.has_value(), left ? "" : left.error().text().c_str());
        json["source"]["rows"] = "fetched";
        const auto fetched = opened(json);
        QVERIFY(fetched.has_value());
        LeftRows rows(left->study, left->frame, Job());
        QVERIFY(rows.begin({}).has_value());
        const auto v = rows.add("v");
        const auto g = rows.add("g");
        QVERIFY(v && g);
        LeftPart groups = rows.part(*g);
        const auto levels = leftLevels(rows, groups, 10);
        QVERIFY(levels.has_value());
        QCOMPARE(levels->found.size(), std::size_t{3});
        const LeftCut cut = LeftCut::by(groups, *levels, rows.asked());
        const auto found = leftSummaries(rows, cut, rows.part(*v).alias, false);
        std::vector<double> shares;
        for (int k = 0; k <= 20; ++k) {
            shares.push_back(k / 20.0);
        }
        const auto cells = fetched->frame.column("v")->numbers();
        const auto places = fetched->frame.column("g")->numbers();
        std::vector<std::vector<double>> own(3);
        std::vector<Summary> ends(3);
        for (std::size_t k = 0; k < 3; ++k) {
            for (std::size_t i = 0; i < cells.size(); ++i) {
                if (places[i] == levels->found[k].code && !std::isnan(cells[i])) {
                    own[k].push_back(cells[i]);
                }
            }
            std::sort(own[k].begin(), own[k].end());
            ends[k].n = own[k].size();
            ends[k].low = own[k].front();
            ends[k].high = own[k].back();
        }
        // Where the engine refused the squares its transaction is over, and another is begun.
        LeftRows anew(left->study, left->frame, Job());
        QVERIFY(anew.begin({}).has_value());
        QVERIFY(anew.add("v") && anew.add("g"));
        const auto quantiles = leftQuantiles(found ? rows : anew, cut, rows.part(*v).alias,
                                             found ? *found : ends, shares);
        QVERIFY2(quantiles.has_value(), quantiles ? "" : quantiles.error().text().c_str());
        for (std::size_t k = 0; k < 3; ++k) {
            for (std::size_t p = 0; p < shares.size(); ++p) {
                QCOMPARE((*quantiles)[k][p], sortedQuantile(own[k], shares[p]));
            }
            if (!found) {
                continue;
            }
            const Summary s = summarise(own[k]);
            QCOMPARE((*found)[k].n, s.n);
            QCOMPARE((*found)[k].low, s.low);
            QCOMPARE((*found)[k].high, s.high);
            same("mean", (*found)[k].mean, s.mean, 1e-12);
            same("sd", (*found)[k].sd, s.sd, 1e-9);
        }
        // Squares of the largest numbers are none: the engine says so, and it is handed on.
        QFETCH(bool, hasSquares);
        QCOMPARE(found.has_value(), hasSquares);
        QVERIFY(rows.statements().size() < 40);
    }

    void asksEveryServerForItsOwnCounts() {
        const auto far = growersSpread(*server_);
        QCOMPARE(far.size(), std::size_t{3});
        auto json = studyOf("left");
        // Comments on columns stay with the table that has them.
        json["variables"].push_back({{"name", "income"}, {"label", "Income"}});
        const auto whole = opened(json);
        json["source"]["reader"]["table"] = "growers_spread";
        const auto spread = opened(json);
        QVERIFY(whole && spread);
        const auto plain = ServerConnection::open("warehouse", 0.0, Job());
        QVERIFY(plain.has_value());
        for (const PictureSpec& spec :
             {specOf("distribution", {"income"}), specOf("boxes", {"income", "village"}),
              specOf("shares", {"village"}), specOf("binned", {"ln_income", "hives"}),
              specOf("cross", {"member", "village"}), specOf("table", {"hives", "age"})}) {
            const auto a = leftPicture(spread->study, spread->frame, spec, Job());
            QVERIFY2(a.has_value(), a ? "" : a.error().text().c_str());
            const auto b = leftPicture(whole->study, whole->frame, spec, Job());
            QVERIFY(b.has_value());
            compare(*a, *b);
            for (const std::string& statement : a->asked) {
                const auto plan =
                    plain->ask("explain (verbose, costs off) " + statement, {}, Job());
                QVERIFY(plan.has_value());
                std::string text;
                for (const auto& row : plan->rows) {
                    text += row.front().value_or("") + "\n";
                }
                QVERIFY2(text.find("Relations: Aggregate on") != std::string::npos,
                         (statement + "\n" + text).c_str());
            }
        }
    }

    void saysWhatNeedsRows() {
        const auto left = opened(studyOf("left"));
        QVERIFY(left.has_value());
        // Kinds that take rows are not offered, and where one is asked for another is drawn.
        for (const PictureKind* kind : fittingPictures(left->frame, {{"income", "hives"}})) {
            QVERIFY2(kind->bySums, kind->id);
        }
        const auto other =
            leftPicture(left->study, left->frame, specOf("scatter", {"income", "hives"}), Job());
        QVERIFY(other.has_value());
        QCOMPARE(other->spec.kind, std::string("binned"));
        const auto none = leftPicture(left->study, left->frame, specOf("", {}), Job());
        QVERIFY(none && none->nothing.find("Put a variable") == 0);
        const auto stopped = [&] {
            Job job;
            job.stop();
            return leftPicture(left->study, left->frame, specOf("shares", {"zone"}), job);
        }();
        QVERIFY(!stopped && stopped.error().code == ErrorCode::Stopped);
        const auto many =
            leftPicture(left->study, left->frame, specOf("boxes", {"income", "seen"}), Job());
        QVERIFY(many.has_value());  // A date is no grouping: the kind that fits is drawn.
        // Every kind that says it can be drawn by sums can.
        for (const PictureKind& kind : allPictureKinds()) {
            if (!kind.bySums) {
                continue;
            }
            for (const std::vector<std::string>& of :
                 std::vector<std::vector<std::string>>{{"income"},
                                                       {"zone"},
                                                       {"income", "zone"},
                                                       {"soil", "zone"},
                                                       {"income", "hives"},
                                                       {"income", "hives", "age"}}) {
                if (kind.fits(left->frame, of)) {
                    const auto made =
                        leftPicture(left->study, left->frame, specOf(kind.id, of), Job());
                    QVERIFY2(made.has_value(), kind.id);
                    QCOMPARE(made->spec.kind, std::string(kind.id));
                    QVERIFY2(made->nothing.empty(), kind.id);
                }
            }
        }
    }

    /// Rows that stand in for others are never shown: not of a database, not of a summary.
    void reportsNoRowThatStandsIn() {
        auto json = studyOf("left");
        json["report"] = nlohmann::json::parse(
            R"j([{"item": "picture", "variables": ["income"]}, {"item": "picture", "variables": ["zone"]}])j");
        const auto left = opened(json);
        QVERIFY(left.has_value());
        json["source"]["rows"] = "fetched";
        const auto fetched = opened(json);
        QVERIFY(fetched.has_value());
        const auto notesOf = [](const Read& read) {
            std::vector<std::string> out;
            for (const ReportBlock& block : buildReport(read.study, {}, &read.frame)) {
                if (block.kind == ReportBlock::Kind::Note) {
                    out.push_back(block.text);
                }
            }
            return out;
        };
        const auto told = notesOf(*left);
        QCOMPARE(told, notesOf(*fetched));
        QCOMPARE(told.size(), std::size_t{2});
        QVERIFY2(told[0].find("n = 1") == 0 && told[0].find("skewness") != std::string::npos,
                 told[0].c_str());
        const auto summary = opened(nlohmann::json::parse(
            R"j({"format": "rapporto-study", "version": 1,
                 "source": {"kind": "summary", "n": 50, "variables": ["y", "x"], "mean": [1, 2],
                            "sd": [1, 2], "correlation": [[1], [0.5, 1]]},
                 "report": [{"item": "picture", "variables": ["y", "x"]}]})j"));
        QVERIFY(summary.has_value());
        // Of a summary what it tells is drawn: its correlations, its means and spreads.
        QCOMPARE(notesOf(*summary).size(), std::size_t{1});
        QVERIFY(notesOf(*summary)[0].find("as the summary has them") != std::string::npos);
        const DrawnPicture pair =
            drawPicture(summary->frame, specOf("scatter", {"y", "x"}), {}, 0.05);
        QCOMPARE(pair.spec.kind, std::string("mosaic"));
        QCOMPARE(pair.exhibits.at(0).bars.at(0).label, std::string(".50"));
        QVERIFY(pair.exhibits.at(0).x.empty());
        QVERIFY(pair.words.back().find("points") == std::string::npos);
        const DrawnPicture one = drawPicture(summary->frame, specOf("", {"x"}), {}, 0.05);
        QCOMPARE(one.spec.kind, std::string("table"));
        QCOMPARE(one.table->cells.at(1), (std::vector<std::string>{"x", "50", "2", "2"}));
    }
};

QTEST_GUILESS_MAIN(LeftPictureTest)
#include "left_picture_test.moc"
