// Correlations, tests of normality, comparisons of groups, against 50-digit and published values.
#include "core/base/parallel.h"
#include "core/describe/comparison.h"
#include "core/describe/correlation.h"
#include "core/describe/density.h"
#include "core/describe/normality.h"
#include "core/describe/normality_tests.h"
#include "core/report/correlate_wording.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "core/report/writers/writer.h"
#include "core/study/study.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <numeric>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/relation_reference.json");
    return kReference;
}

/// Column a, b, c, d or e of the reference.
RelatedColumn column(char name) {
    RelatedColumn out{std::string(1, name), {}};
    for (const auto& cell : reference()["columns"][static_cast<std::size_t>(name - 'a')]) {
        out.cells.push_back(cell.is_null() ? std::nan("") : cell.get<double>());
    }
    return out;
}

CorrelationTable table(const std::string& names, const std::string& held,
                       const CorrelationSettings& settings) {
    std::vector<RelatedColumn> columns;
    std::vector<RelatedColumn> holding;
    for (const char c : names) {
        columns.push_back(column(c));
    }
    for (const char c : held) {
        holding.push_back(column(c));
    }
    const auto out = correlate(columns, holding, {}, settings, Job());
    if (!out) {
        qFatal("%s", out.error().text().c_str());
    }
    return *out;
}

std::vector<double> numbers(const nlohmann::json& list) { return list.get<std::vector<double>>(); }

/// The fixture as a table with names a to e.
Table frameTable() {
    std::vector<std::pair<std::string, std::vector<double>>> columns;
    for (const char c : std::string("abcde")) {
        columns.emplace_back(std::string(1, c), column(c).cells);
    }
    return tableOf(columns);
}

}  // namespace

class RelationTest : public QObject {
    Q_OBJECT

  private slots:

    void pearsonAgreesInEveryDigit() {
        const CorrelationTable t = table("abe", "", {});
        for (const auto& [key, i, j] : {std::tuple{"ab", 1, 0}, std::tuple{"be", 2, 1}}) {
            const auto& r = reference()["pearson"][key];
            QVERIFY(near(t.r(i, j), number(r["r"]), 1e-14));
            QVERIFY(near(t.p(i, j), number(r["p"]), 1e-11));
            QVERIFY(near(t.low(i, j), number(r["low"]), 1e-12));
            QVERIFY(near(t.high(i, j), number(r["high"]), 1e-12));
            QCOMPARE(t.n(i, j), number(r["n"]));
            QCOMPARE(t.r(i, j), t.r(j, i));
        }
        QVERIFY(std::isnan(t.p(0, 0)));
        QCOMPARE(t.r(2, 2), 1.0);
    }

    void ranksWithTies() {
        CorrelationSettings settings;
        settings.kind = CorrelationKind::Spearman;
        const CorrelationTable s = table("abcd", "", settings);
        for (const auto& [key, i, j] : {std::tuple{"cd", 3, 2}, std::tuple{"ab", 1, 0}}) {
            QVERIFY(near(s.r(i, j), number(reference()["spearman"][key]["r"]), 1e-14));
            QVERIFY(near(s.p(i, j), number(reference()["spearman"][key]["p"]), 1e-11));
        }
        settings.kind = CorrelationKind::Kendall;
        const CorrelationTable k = table("abcd", "", settings);
        for (const auto& [key, i, j] : {std::tuple{"cd", 3, 2}, std::tuple{"ab", 1, 0}}) {
            const auto& r = reference()["kendall"][key];
            QVERIFY(near(k.r(i, j), number(r["tau"]), 1e-14));
            QVERIFY(near(k.statistic(i, j), number(r["z"]), 1e-13));
            QVERIFY(near(k.p(i, j), number(r["p"]), 1e-11));
            QCOMPARE(k.n(i, j), number(r["n"]));
        }
    }

    void partialAndSemiPartial() {
        for (const auto& [held, key, ranks] :
             {std::tuple{"b", "ad_b", false}, std::tuple{"be", "ad_be", false},
              std::tuple{"b", "ad_b", true}}) {
            CorrelationSettings settings;
            settings.kind = ranks ? CorrelationKind::Spearman : CorrelationKind::Pearson;
            const CorrelationTable t = table("ad", held, settings);
            const auto& r = reference()[ranks ? "partial_spearman" : "partial"][key];
            QVERIFY(near(t.r(0, 1), number(r["r"]), 1e-12));
            QVERIFY(near(t.semiPartial(0, 1), number(r["semi"]), 1e-12));
            QVERIFY(near(t.p(0, 1), number(r["p"]), 1e-10));
            QCOMPARE(t.n(0, 1), number(r["n"]));
        }
    }

    void changeOfUnitOrOrderChangesNothing() {
        CorrelationSettings settings;
        const CorrelationTable t = table("abde", "c", settings);
        std::vector<RelatedColumn> columns;
        for (const char c : std::string("edba")) {
            columns.push_back(column(c));
            for (double& cell : columns.back().cells) {
                cell = std::ldexp(cell, 20) + 7.0;
            }
            std::reverse(columns.back().cells.begin(), columns.back().cells.end());
        }
        RelatedColumn held = column('c');
        std::reverse(held.cells.begin(), held.cells.end());
        const auto turned = correlate(columns, {held}, {}, settings, Job());
        QVERIFY(turned.has_value());
        for (Eigen::Index i = 0; i < 4; ++i) {
            for (Eigen::Index j = 0; j < i; ++j) {
                QVERIFY(near(turned->r(3 - i, 3 - j), t.r(i, j), 1e-9));
            }
        }
    }

    void sidesListwiseAndManyPairs() {
        CorrelationSettings settings;
        const CorrelationTable two = table("abcde", "", settings);
        settings.sides = Sides::Greater;
        const CorrelationTable up = table("abcde", "", settings);
        settings.sides = Sides::Less;
        const CorrelationTable down = table("abcde", "", settings);
        settings.sides = Sides::Two;
        settings.listwise = true;
        const CorrelationTable list = table("abcde", "", settings);
        for (Eigen::Index i = 0; i < 5; ++i) {
            for (Eigen::Index j = 0; j < i; ++j) {
                QVERIFY(near(up.p(i, j) + down.p(i, j), 1.0, 1e-12));
                QVERIFY(near(2.0 * std::min(up.p(i, j), down.p(i, j)), two.p(i, j), 1e-12));
                QCOMPARE(up.high(i, j), 1.0);
                QCOMPARE(down.low(i, j), -1.0);
                QCOMPARE(list.n(i, j), list.n(0, 0));
                QVERIFY(two.n(i, j) >= list.n(i, j));
                QVERIFY(two.adjusted(i, j) >= two.p(i, j));
            }
        }
        QVERIFY((holm({0.01, std::nan(""), 0.04, 0.03})[0] == 0.03));
        QVERIFY(near(holm({0.01, std::nan(""), 0.04, 0.03})[2], 0.06, 1e-15));
    }

    void whatDoesNotVaryOrIsDeterminedHasNoCorrelation() {
        const RelatedColumn x{"x", {1, 2, 3, 4, 5, 7}};
        const RelatedColumn same{"same", {3, 3, 3, 3, 3, 3}};
        const RelatedColumn twice{"twice", {2, 4, 6, 8, 10, 14}};
        const RelatedColumn y{"y", {2, 1, 4, 3, 6, 6}};
        const auto flat = correlate({x, same}, {}, {}, {}, Job());
        QVERIFY(std::isnan(flat->r(0, 1)) && std::isnan(flat->p(0, 1)));
        const auto perfect = correlate({x, twice}, {}, {}, {}, Job());
        QVERIFY(near(perfect->r(0, 1), 1.0, 1e-15));
        const auto held = correlate({x, y}, {twice}, {}, {}, Job());
        QVERIFY(std::isnan(held->r(0, 1)));
        QVERIFY(!correlate({x}, {}, {}, {}, Job()));
        const auto few = correlate(
            {RelatedColumn{"a", {1, std::nan("")}}, RelatedColumn{"b", {std::nan(""), 2}}}, {}, {},
            {}, Job());
        QCOMPARE(few->n(0, 1), 0.0);
        QVERIFY(std::isnan(few->r(0, 1)));
    }

    void aSummaryRelatesAsItsRows() {
        CorrelationSettings settings;
        settings.listwise = true;
        const CorrelationTable rows = table("abe", "d", settings);
        MomentEntries entries;
        entries.n = rows.n(0, 0);
        entries.names = {"a", "b", "e", "d"};
        const CorrelationTable all = table("abed", "", settings);
        for (Eigen::Index i = 0; i < 4; ++i) {
            std::vector<double> row;
            for (Eigen::Index j = 0; j <= i; ++j) {
                row.push_back(all.r(i, j));
            }
            entries.correlation.push_back(row);
        }
        const auto summary = correlateSummary(*makeMoments(entries), {"a", "b", "e"}, {"d"}, {});
        QVERIFY2(summary.has_value(), summary ? "" : summary.error().text().c_str());
        // Rows that lack d but have the others make no difference listwise.
        QVERIFY(near(summary->r(1, 0), rows.r(1, 0), 1e-12));
        QVERIFY(near(summary->p(2, 0), rows.p(2, 0), 1e-9));
        settings.kind = CorrelationKind::Spearman;
        QVERIFY(!correlateSummary(*makeMoments(entries), {"a", "b"}, {}, settings));
    }

    void normalityAgreesWithItsPapers() {
        for (const auto& sample : reference()["samples"]) {
            const std::vector<double> v = numbers(sample["values"]);
            const AndersonDarling ad = andersonDarling(Deviates(v));
            QVERIFY(near(ad.a2, number(sample["anderson_darling"]["a2"]), 1e-12));
            QVERIFY(near(ad.p, number(sample["anderson_darling"]["p"]), 1e-10));
            const Lilliefors l = lilliefors(Deviates(v));
            QVERIFY(near(l.d, number(sample["lilliefors"]["d"]), 1e-13));
            QVERIFY(near(l.p, number(sample["lilliefors"]["p"]), 1e-9));
            const DAgostino d = dagostino(v);
            QVERIFY(near(d.k2, number(sample["dagostino"]["k2"]), 1e-11));
            QVERIFY(near(d.zSkewness, number(sample["dagostino"]["z_skewness"]), 1e-11));
            QVERIFY(near(d.zKurtosis, number(sample["dagostino"]["z_kurtosis"]), 1e-11));
            QVERIFY(near(d.p, number(sample["dagostino"]["p"]), 1e-10));
            const auto all = normalityTests(v);
            QCOMPARE(all.size(), std::size_t{5});
            QVERIFY(near(*all[0].statistic, number(sample["shapiro"]["w"]), 1e-6));
        }
    }

    void readingsOfNormalityAreTheRightWayRound() {
        const auto& samples = reference()["samples"];
        const auto said = [](const std::vector<double>& v) {
            const Moments m = moments(
                Eigen::Map<const Eigen::VectorXd>(v.data(), static_cast<Eigen::Index>(v.size())));
            return normalityReading(normalityTests(v), 0.05, v.size(), m.skewness,
                                    m.kurtosis - 3.0);
        };
        QVERIFY(said(numbers(samples[1]["values"])).find("**Not normal**") != std::string::npos);
        QVERIFY(said(numbers(samples[1]["values"])).find("tail to the right") != std::string::npos);
        QVERIFY(said({1, 2, 3}).starts_with("**No sign of departure from normal**"));
        QVERIFY(said({1, 1, 1}).find("nothing can be said") != std::string::npos);
        for (const std::string& text : {said(numbers(samples[0]["values"])), said({1, 2, 3})}) {
            QVERIFY(text.find("significant") == std::string::npos);
            QVERIFY(text.find("residuals") != std::string::npos);
        }
    }

    void densityFollowsItsBandwidth() {
        for (std::size_t k = 0; k < 2; ++k) {
            const std::vector<double> v = numbers(reference()["samples"][k]["values"]);
            const auto& r = reference()["density"][k];
            const double h = sheatherJones(v);
            QVERIFY2(near(h, number(r["bandwidth"]), 1e-8),
                     qPrintable(QString::number(h, 'g', 17)));
            const Density d = densityOf(v, h);
            QCOMPARE(d.x.size(), std::size_t{201});
            for (std::size_t j = 0; j < 5; ++j) {
                QVERIFY(near(d.x[50 * j], number(r["at"][j]), 1e-8));
                QVERIFY(std::abs(d.y[50 * j] - number(r["density"][j])) < 1e-8);
            }
            double area = 0.0;
            for (std::size_t j = 1; j < d.x.size(); ++j) {
                area += 0.5 * (d.y[j] + d.y[j - 1]) * (d.x[j] - d.x[j - 1]);
            }
            QVERIFY(near(area, 1.0, 0.01));
        }
        // Counted into bins, many values give what the same ones do pair by pair, nearly.
        std::vector<double> many;
        for (int i = 1; i <= 401; ++i) {
            many.push_back(std::sinh(4.0 * (i - 0.5) / 401.0 - 2.0));
        }
        const double binned = sheatherJones(many);
        many.pop_back();
        QVERIFY(near(binned, sheatherJones(many), 0.01));
        QCOMPARE(sheatherJones(std::vector<double>{2, 2, 2}), 0.0);
        QVERIFY(densityOf(std::vector<double>{2, 2}, 0.0).x.empty());
    }

    void pairsAtOnceAreWhatEachPairIs() {
        // Columns with holes, one far from zero, one that hardly varies where another is there.
        std::vector<std::vector<double>> v(5, std::vector<double>(3000));
        for (std::size_t i = 0; i < v[0].size(); ++i) {
            const auto t = static_cast<double>(i);
            v[0][i] = std::sin(t);
            v[1][i] = i % 7 == 0 ? std::nan("") : 1e9 + std::sin(t) + std::cos(3.0 * t);
            v[2][i] = i % 5 < 2 ? std::nan("") : std::fmod(t * 0.618, 1.0);
            v[3][i] = i < 2900 ? std::nan("") : 3.0 + 1e-7 * std::cos(t);
            v[4][i] = i < 2900 ? t : 1e6 + 1e-4 * std::sin(2.0 * t);
        }
        std::vector<bool> use(v[0].size());
        for (std::size_t i = 0; i < use.size(); ++i) {
            use[i] = i % 11 != 3;
        }
        std::vector<RelatedColumn> all;
        for (std::size_t j = 0; j < v.size(); ++j) {
            all.push_back({std::string(1, static_cast<char>('a' + j)), v[j]});
        }
        const auto table = correlate(all, {}, use, {}, Job());
        for (std::size_t a = 0; a < v.size(); ++a) {
            for (std::size_t b = 0; b < a; ++b) {
                // The plain way, in long double, over the rows with both.
                long double n = 0, ma = 0, mb = 0, sab = 0, saa = 0, sbb = 0;
                for (int turn = 0; turn < 2; ++turn) {
                    for (std::size_t i = 0; i < use.size(); ++i) {
                        if (!use[i] || std::isnan(v[a][i]) || std::isnan(v[b][i])) {
                            continue;
                        }
                        if (turn == 0) {
                            n += 1;
                            ma += v[a][i];
                            mb += v[b][i];
                        } else {
                            sab += (v[a][i] - ma) * (v[b][i] - mb);
                            saa += (v[a][i] - ma) * (v[a][i] - ma);
                            sbb += (v[b][i] - mb) * (v[b][i] - mb);
                        }
                    }
                    if (turn == 0) {
                        ma /= n;
                        mb /= n;
                    }
                }
                const auto i = static_cast<Eigen::Index>(a);
                const auto j = static_cast<Eigen::Index>(b);
                QCOMPARE(table->n(i, j), static_cast<double>(n));
                QVERIFY2(
                    std::abs(table->r(i, j) - static_cast<double>(sab / sqrtl(saa * sbb))) < 1e-8,
                    qPrintable(QString("%1 %2").arg(a).arg(b)));
            }
        }
        setThreads(1);
        const auto single = correlate(all, {}, use, {}, Job());
        setThreads(0);
        QVERIFY(single->r == table->r);
        // A column that does not vary has no correlation.
        all.push_back({"f", std::vector<double>(3000, 2.0)});
        QVERIFY(std::isnan(correlate(all, {}, use, {}, Job())->r(5, 0)));
    }

    void groupsAgreeWithTheirTests() {
        const auto& g = reference()["groups"];
        std::vector<std::vector<double>> three;
        for (const auto& values : g["values"]) {
            three.push_back(numbers(values));
        }
        const auto all = compareGroups({"1", "2", "3"}, three, 0.05);
        QVERIFY(all.has_value());
        QVERIFY(near(*all->pooled.statistic, number(g["anova"]["f"]), 1e-11));
        QVERIFY(near(*all->pooled.p, number(g["anova"]["p"]), 1e-10));
        QVERIFY(near(*all->spread.statistic, number(g["levene"]["f"]), 1e-11));
        QVERIFY(near(*all->spread.p, number(g["levene"]["p"]), 1e-10));
        QVERIFY(near(*all->ranks.statistic, number(g["kruskal"]["h"]), 1e-11));
        QVERIFY(near(*all->ranks.p, number(g["kruskal"]["p"]), 1e-10));
        const auto two = compareGroups({"1", "2"}, {three[0], three[1]}, 0.05);
        QVERIFY(near(std::abs(*two->means.statistic), std::abs(number(g["welch"]["t"])), 1e-11));
        QVERIFY(near(*two->means.p, number(g["welch"]["p"]), 1e-10));
        QVERIFY(near(*two->ranks.p, number(g["ranksum"]["p"]), 1e-10));
        QVERIFY((two->differenceLow < 0.0) == (*two->means.p > 0.05 || two->meanDifference < 0.0));
        QVERIFY(!compareGroups({"1", "2"}, {three[0], {1.0}}, 0.05));
    }

    void crossTablesAgreeAndLeaveEmptyLevelsOut() {
        const auto& g = reference()["groups"];
        Eigen::MatrixXd counts = Eigen::MatrixXd::Zero(4, 2);
        for (Eigen::Index i = 0; i < 3; ++i) {
            for (Eigen::Index j = 0; j < 2; ++j) {
                counts(i, j) = g["table"][static_cast<std::size_t>(i)][static_cast<std::size_t>(j)];
            }
        }
        const auto t = crossTable({"x", "y", "z", "never"}, {"few", "many"}, counts);
        QVERIFY(t.has_value());
        QCOMPARE(t->rows.size(), std::size_t{3});
        QVERIFY(near(t->chi2, number(g["chi2"]["value"]), 1e-12));
        QCOMPARE(t->df, number(g["chi2"]["df"]));
        QVERIFY(near(t->p, number(g["chi2"]["p"]), 1e-11));
        QVERIFY(near(t->cramersV, number(g["chi2"]["v"]), 1e-12));
        QVERIFY(!crossTable({"x"}, {"a", "b"}, Eigen::MatrixXd::Ones(1, 2)));
    }

    void aQuestionRelatesAndIsWritten() {
        Question q;
        q.id = "q2";
        q.kind = "correlate";
        q.variables = {"a", "b", "d"};
        q.holding = {"e"};
        q.coefficient = "spearman";
        q.sides = "greater";
        q.listwise = true;
        Study study;
        study.source.file = "x.csv";
        study.questions = {q};
        const auto again = readStudyText(studyText(study));
        QVERIFY2(again.has_value(), again ? "" : again.error().text().c_str());
        QVERIFY(!again->questions[0].unbuilt);
        QCOMPARE(again->questions[0].variables, q.variables);
        QCOMPARE(again->questions[0].sides, q.sides);
        QVERIFY(again->questions[0].listwise);
        QCOMPARE(studyText(*again), studyText(study));
        const Answer answer = answerQuestion(study, frameOf(frameTable()), q, Job());
        QVERIFY2(!answer.refusal, answer.refusal ? answer.refusal->text().c_str() : "");
        QCOMPARE(static_cast<double>(answer.rows.used), answer.correlations->n(0, 1));
        QCOMPARE(answer.rows.used + answer.rows.missing, std::size_t{40});
        const auto json = resultsJson(study, {answer});
        QCOMPARE(json["answers"][0]["matrix"]["variables"].size(), std::size_t{3});
        QCOMPARE(json["answers"][0]["matrix"]["r"][1][0].get<double>(),
                 answer.correlations->r(1, 0));
        QVERIFY(json["answers"][0]["matrix"]["p"][0][0].is_null());
        QVERIFY(!pairReading(answer, 1, 0).empty());
        QVERIFY(correlationsAsText(*answer.correlations).starts_with("r\ta\tb\td\n"));
        const auto page = writeMarkdown(reportPages(study, {{"q2", &answer}}), "t");
        QVERIFY(page && page->bytes.find("| a | 1") != std::string::npos);
    }

    void aPartialTauClaimsNothingOfPairs() {
        Question q;
        q.kind = "correlate";
        q.variables = {"a", "b", "d"};
        q.holding = {"e"};
        q.coefficient = "kendall";
        const Answer answer = answerQuestion(Study(), frameOf(frameTable()), q, Job());
        QVERIFY(answer.correlations && std::isnan(answer.correlations->p(0, 1)));
        QVERIFY(answerReading(answer).starts_with("Strongest"));
        QVERIFY2(answerReading(answer).find("no relation") == std::string::npos,
                 answerReading(answer).c_str());
        QVERIFY(pairReading(answer, 1, 0)[1].find("its law is not known") != std::string::npos);
    }

    void whatCannotBeRelatedIsRefusedByName() {
        Table t = frameTable();
        t.variables[2].measure = Measure::Groups;
        Question q;
        q.kind = "correlate";
        q.variables = {"a", "c"};
        const auto why = [&](const Question& question) {
            const Answer answer =
                answerQuestion(Study(), Frame::make(t, {}, {}, {}, {}), question, Job());
            return answer.refusal ? answer.refusal->text() : std::string("answered");
        };
        QVERIFY(why(q).find("‘c’ has no order") != std::string::npos);
        q.variables = {"a", "b", "a"};
        QVERIFY(why(q).find("named twice") != std::string::npos);
        q.variables = {"a", "b"};
        q.holding = {"b"};
        QVERIFY(why(q).find("what is held") != std::string::npos);
        q.holding = {};
        q.variables = {"a"};
        QVERIFY(why(q).find("two variables") != std::string::npos);
        q.variables = {"a", "bb"};
        QVERIFY(why(q).find("bb") != std::string::npos);
        q.variables = {"a", "ln(b)"};
        q.where = "c > 2";
        QCOMPARE(why(q), std::string("answered"));
    }
};

QTEST_APPLESS_MAIN(RelationTest)
#include "relation_test.moc"
