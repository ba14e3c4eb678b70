#include "core/describe/normality.h"
#include "core/describe/summary.h"
#include "core/report/lens.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <functional>
#include <numeric>

using namespace rapporto;
using namespace rapporto::test;

class DescribeTest : public QObject {
    Q_OBJECT

    static Table twoColumns() {
        return tableOf({{"x", {1, 2, 3, 4, 100}}, {"y", {2, 4, 6, 8, std::nan("")}}});
    }

  private slots:

    void summaryUsesItsNamedDefinitions() {
        const std::vector<double> cells = {4, 1, std::nan(""), 3, 2};
        const Summary s = summarise(cells);
        QCOMPARE(s.n, std::size_t{4});
        QCOMPARE(s.missing, std::size_t{1});
        QCOMPARE(s.mean, 2.5);
        QVERIFY(near(s.sd, std::sqrt(5.0 / 3.0), 1e-15));
        QCOMPARE(s.lowerQuartile, 1.75);
        QCOMPARE(s.median, 2.5);
        QCOMPARE(s.upperQuartile, 3.25);
        QVERIFY(near(s.skewness, 0.0, 1e-15));
        const std::vector<double> leaning = {0, 0, 0, 1};
        // m₂ = 3/16, m₃ = 3/32: skewness 2/√3.
        QVERIFY(near(summarise(leaning).skewness, 2.0 / std::sqrt(3.0), 1e-14));
    }

    void summaryOfNothingIsEmpty() {
        const std::vector<double> none = {std::nan(""), std::nan("")};
        QCOMPARE(summarise(none).n, std::size_t{0});
        QVERIFY(histogram(none).counts.empty());
    }

    void histogramCountsEveryValueOnce_data() {
        QTest::addColumn<int>("bins");
        for (const int bins : {0, 1, 2, 7, 40}) {
            QTest::newRow(qPrintable(QString::number(bins))) << bins;
        }
    }

    void histogramCountsEveryValueOnce() {
        QFETCH(int, bins);
        std::vector<double> cells;
        for (int i = 0; i < 500; ++i) {
            cells.push_back(std::pow(std::sin(i * 1.7), 3) * 50.0);
        }
        const Histogram h = histogram(cells, static_cast<std::size_t>(bins));
        QCOMPARE(std::accumulate(h.counts.begin(), h.counts.end(), std::size_t{0}), cells.size());
        for (std::size_t b = 0; b < h.counts.size(); ++b) {
            const double from = h.from + h.width * static_cast<double>(b);
            const auto inside = std::count_if(cells.begin(), cells.end(), [&](double x) {
                const bool last = b + 1 == h.counts.size();
                return x >= from && (x < from + h.width || last);
            });
            // A value on an edge may round to either side of it, never out of both.
            QVERIFY(std::abs(static_cast<double>(inside) - static_cast<double>(h.counts[b])) <=
                    1.0);
        }
    }

    void wholeNumbersGetABinEach() {
        const std::vector<double> cells = {0, 0, 1, 3, 3, 3};
        const Histogram h = histogram(cells);
        QCOMPARE(h.counts, (std::vector<std::size_t>{2, 1, 0, 3}));
        QCOMPARE(h.from, -0.5);
    }

    void oneValueMakesOneBin() {
        const std::vector<double> cells = {2.5, 2.5};
        QCOMPARE(histogram(cells).counts, std::vector<std::size_t>{2});
    }

    void levelsComeInTheirOrder() {
        Column text = Column::ofTexts("g", {2, 0, 1, -1, 0}, {"b", "c", "a"});
        Variable v;
        v.name = "g";
        v.measure = Measure::Groups;
        auto levels = levelsOf(text, v);
        QCOMPARE(levels.size(), std::size_t{3});
        QCOMPARE(levels[0].label, std::string("a"));
        QCOMPARE(levels[1].count, std::size_t{2});
        v.levels = {{Key(std::string("c")), "Third"}};
        levels = levelsOf(text, v);
        QCOMPARE(levels[0].label, std::string("Third"));
        QCOMPARE(levels[1].label, std::string("a"));
        const Column numbers = Column::ofNumbers("n", {10, 2, 10, std::nan("")});
        Variable n;
        n.name = "n";
        QCOMPARE(levelsOf(numbers, n)[0].value, std::string("2"));
    }

    void lensIsAsTallAsItsP() {
        Coefficient c;
        c.estimate = 1.0;
        c.se = 0.5;
        c.df = 10.0;
        const auto outline = lensOutline(c, 100);
        QCOMPARE(outline.size(), std::size_t{101});
        QVERIFY(near(outline[50].value, 1.0, 1e-12));
        QVERIFY(near(outline[50].p, 1.0, 1e-12));
        QVERIFY(near(outline.front().p, 0.001, 1e-9));
        for (std::size_t i = 1; i <= 50; ++i) {
            QVERIFY(outline[i].p > outline[i - 1].p);
            QVERIFY(near(outline[50 - i].p, outline[50 + i].p, 1e-9));
        }
        c.se = 0.0;
        QVERIFY(lensOutline(c).empty());
    }

    void momentsOfAKnownSample() {
        Eigen::VectorXd x(4);
        x << 0, 0, 0, 1;
        QVERIFY(near(moments(x).skewness, 2.0 / std::sqrt(3.0), 1e-14));
        QVERIFY(near(moments(x).kurtosis, 7.0 / 3.0, 1e-14));
    }

    void shapiroWilkOfAPerfectNormalSampleIsNearOne() {
        Eigen::VectorXd x(200);
        for (Eigen::Index i = 0; i < x.size(); ++i) {
            x(i) = std::tan(0.9 * (static_cast<double>(i) - 99.5) / 100.0);  // Heavy-tailed.
        }
        QVERIFY(shapiroWilk(x).p < 0.01);
        QVERIFY(near(shapiroWilk(x).w, shapiroWilk(3.0 * x.array() + 7.0).w, 1e-12));
    }

    void variablesAreReadInWords() {
        Table t = tableOf(
            {{"x", {1, 2, 3, 4, 100}},
             {"none", {std::nan(""), std::nan(""), std::nan(""), std::nan(""), std::nan("")}},
             {"yn", {0, 1, 1, 1, 0}}});
        t.variables[2].measure = Measure::YesNo;
        const Frame frame = Frame::make(t, {}, {{"l", "ln(x - 1)", ""}}, {}, {});
        QVERIFY(variableReading(frame, "x").front().find("middle one is at **3**") !=
                std::string::npos);
        QVERIFY(variableReading(frame, "none").front().find("every row") != std::string::npos);
        QVERIFY(variableReading(frame, "yn").front().find("60.0 %") != std::string::npos);
        QVERIFY(variableReading(frame, "l").back().find("no value") != std::string::npos);
        QVERIFY(!variableReading(frame, "absent").empty());
    }

    void differencesBetweenVariantsAreSaid() {
        const Table t = tableOf({{"y", {1, 3, 2, 5, 4, 6, 9, 7}},
                                 {"x", {1, 2, 3, 4, 5, 6, 7, 8}},
                                 {"z", {2, 1, 4, 3, 6, 5, 8, 9}}});
        const Answer a = answer(t, explain("y", {"x"}));
        Question robust = explain("y", {"x"});
        robust.errors = {"robust", "HC3", {}};
        const auto same = differenceReading(a, answer(t, robust));
        QVERIFY(same[0].find("Errors are robust (HC3) instead of classical") != std::string::npos);
        QVERIFY(same[1].find("the estimate stays") != std::string::npos);
        const auto more = differenceReading(a, answer(t, explain("y", {"x", "z"})));
        QVERIFY(more[0].find("It adds z") != std::string::npos);
        const auto other = differenceReading(a, answer(t, explain("ln(y)", {"x"})));
        QVERIFY(other.back().find("outcomes differ") != std::string::npos);
    }

    /// Whatever a question asks otherwise is said, and never as “X instead of X”.
    void everyPartOfAQuestionIsHeldAgainstTheOther() {
        const Table t = tableOf({{"y", {1, 3, 2, 5, 4, 6, 8, 7}}, {"x", {1, 2, 3, 4, 5, 6, 7, 8}}});
        const Answer a = answer(t, explain("y", {"x"}));
        QCOMPARE(differenceReading(a, a).front(), std::string("The two questions are the same."));
        const std::vector<std::pair<const char*, std::function<void(Question&)>>> changes = {
            {"It holds g fixed", [](Question& q) { q.fixedEffects = {"g"}; }},
            {"slopes of their own in x", [](Question& q) { q.ownSlopes = {"x"}; }},
            {"It is per e", [](Question& q) { q.exposure = "e"; }},
            {"Its offset is ln(e)", [](Question& q) { q.offset = "ln(e)"; }},
            {"is by a Poisson count", [](Question& q) { q.method = "poisson"; }},
            {"Zeros are told by z", [](Question& q) { q.settings.zeroTerms = {"z"}; }},
            {"settings of least squares differ", [](Question& q) { q.settings.points = 3; }},
            {"robust (HC1)", [](Question& q) { q.errors.kind = "robust"; }},
            {"with other settings", [](Question& q) { q.errors.draws = 7; }},
            {"The rows differ", [](Question& q) { q.without = {2}; }},
            {"The weights differ", [](Question& q) { q.weight = "w"; }},
            {"filled in", [](Question& q) { q.missing = "imputed"; }},
            {"no constant", [](Question& q) { q.intercept = false; }},
            {"Z is moved by i",
             [](Question& q) {
                 q.endogenous = {Term::expression("z")};
                 q.instruments = {Term::expression("i")};
             }},
        };
        for (const auto& [said, change] : changes) {
            Answer b = a;
            change(b.question);
            const std::string first = differenceReading(a, b).front();
            const std::string wanted = said;
            QVERIFY2(first.find(wanted) != std::string::npos, (wanted + ": " + first).c_str());
            const auto at = first.find(" instead of ");
            if (at != std::string::npos) {
                const std::string after = first.substr(at + 12, first.size() - at - 13);
                QVERIFY2(!first.substr(0, at).ends_with(after), first.c_str());
            }
            // And back again it is no nothing, either.
            QVERIFY(differenceReading(b, a).front() != "The two questions are the same.");
        }
        Answer counted = a;
        counted.question.ownSlopes = {"x"};
        counted.question.exposure = "e";
        counted.question.offset = "o";
        const std::string methods = explainMethods(counted);
        for (const char* said : {"slopes of its own in x", "counted per e", " o enters"}) {
            QVERIFY2(methods.find(said) != std::string::npos, methods.c_str());
        }
        Answer refused = a;
        refused.fit.reset();
        refused.refusal = Refusal{ErrorCode::NoTerms, "nothing"};
        QVERIFY(differenceReading(a, refused).front().find("is refused") != std::string::npos);
        QVERIFY(differenceReading(refused, a).front().find("is refused") != std::string::npos);
    }

    void equationCarriesSigns() {
        const Table t = tableOf({{"y", {5, 4, 2, 1, -1}}, {"x", {1, 2, 3, 4, 5}}});
        const std::string text = equationText(answer(t, explain("y", {"x"})));
        QVERIFY2(text.find("− 1.50") != std::string::npos, text.c_str());
        QVERIFY(text.ends_with(" + e"));
    }

    void sentenceNamesEverySlot() {
        Question q = explain("ln(y)", {"x", "power(x, 2)"});
        q.errors = {"clustered", "HC1", {"v", "t"}};
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
        q.where = "x > 1";
        q.without = {3};
        q.intercept = false;
        QCOMPARE(
            QString::fromStdString(questionSentence(q)),
            QString(
                "Explain ln(y) with x, power(x, 2) by least squares · errors clustered by v and t "
                "· weighted by w (sampling) · among x > 1 · without 1 row · no constant"));
    }
};

QTEST_APPLESS_MAIN(DescribeTest)
#include "describe_test.moc"
