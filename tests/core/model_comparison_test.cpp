// Models of one outcome set against each other, as numbers: in the results, in the report, and
// against closed forms.
#include "core/study/model_comparison.h"

#include "core/model/likelihood.h"
#include "core/numerics/distributions.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <functional>
#include <random>
#include <tuple>

using namespace rapporto;
using namespace rapporto::test;
using nlohmann::json;

namespace {

using Kind = ModelComparison::Kind;

/// A quantity, a yes–no, a count and an overdispersed count of two terms; z says nothing of them.
const Table& made() {
    static const Table kTable = [] {
        std::mt19937 random(19);
        std::normal_distribution<double> normal;
        std::map<std::string, std::vector<double>> c;
        for (int i = 0; i < 400; ++i) {
            const double x = normal(random);
            const double z = normal(random);
            const double m = 0.5 * x + normal(random);
            c["x"].push_back(x);
            c["z"].push_back(z);
            c["v"].push_back(1.0 + i % 2);
            c["w"].push_back(1.0 + i % 3);
            c["m"].push_back(m);
            c["y"].push_back(1.0 + 0.4 * x + 0.3 * m + normal(random));
            c["b"].push_back(0.2 + 0.8 * x + 0.5 * m + 1.6 * normal(random) > 0.0 ? 1.0 : 0.0);
            const double mean = std::exp(0.3 + 0.3 * x);
            c["c"].push_back(std::poisson_distribution<int>(
                mean * std::gamma_distribution<double>(1.5, 1.0 / 1.5)(random))(random));
        }
        return tableOf({{"x", c["x"]},
                        {"z", c["z"]},
                        {"v", c["v"]},
                        {"w", c["w"]},
                        {"m", c["m"]},
                        {"y", c["y"]},
                        {"b", c["b"]},
                        {"c", c["c"]}});
    }();
    return kTable;
}

Answer asked(const std::string& id, const std::string& outcome,
             const std::vector<std::string>& terms, const std::string& method = "least-squares",
             const std::string& variantOf = "") {
    Question q = explain(outcome, terms);
    q.id = id;
    q.title = id;
    q.method = method;
    q.variantOf = variantOf;
    q.lead = false;
    q.allChecks = false;
    Answer a = answer(made(), q);
    if (a.refusal) {
        qWarning("%s", a.refusal->text().c_str());
    }
    return a;
}

std::string written(const std::vector<Answer>& answers, const std::vector<std::string>& questions) {
    Study study;
    AnswersById all;
    for (const Answer& a : answers) {
        study.questions.push_back(a.question);
        all[a.question.id] = &a;
    }
    study.report = {ReportItem("comparison", questions)};
    std::string out;
    for (const ReportBlock& block : buildReport(study, all, nullptr, Job())) {
        out += block.text + "\n";
        for (const CellRow& row : block.cells) {
            for (const Cell& cell : row) {
                out += cell.text + "|";
            }
            out += "\n";
        }
    }
    return out;
}

}  // namespace

class ModelComparisonTest : public QObject {
    Q_OBJECT

  private slots:

    void whatALikelihoodGains() {
        const Answer small = asked("small", "b", {"x"}, "logit");
        const Answer large = asked("large", "b", {"x", "m", "z"}, "logit", "small");
        const auto test = comparedModels(small, large, Job());
        QVERIFY(test && test->kind == Kind::LikelihoodRatio && test->grows);
        const double gain =
            2.0 * (large.fit->likelihood->logLikelihood - small.fit->likelihood->logLikelihood);
        AGREE("gain", test->statistic, gain, 1e-12);
        QCOMPARE(test->df1, 2.0);
        QVERIFY(!test->df2 && !test->half);
        AGREE("p", test->p, chiSquareTail(gain, 2.0), 1e-12);
        // Rao’s statistic is another look at the same: alike in large samples, never the same.
        QVERIFY(test->score.has_value());
        AGREE_FROM(1.0, "score", *test->score, gain, 0.2);
        QVERIFY(*test->score != gain);
        AGREE("score p", *test->scoreP, chiSquareTail(*test->score, 2.0), 1e-12);
        // The other way round it is left out, with the same number.
        const auto back = comparedModels(large, small, Job());
        QVERIFY(back && !back->grows);
        QCOMPARE(back->statistic, test->statistic);
    }

    void aSpreadThatCannotBeBelowNothing() {
        const Answer plain = asked("plain", "c", {"x"}, "poisson");
        const Answer wide = asked("wide", "c", {"x"}, "negative-binomial", "plain");
        const auto test = comparedModels(plain, wide, Job());
        QVERIFY(test && test->half && !test->score);
        AGREE("p", test->p, 0.5 * chiSquareTail(test->statistic, 1.0), 1e-12);
        QVERIFY(test->p < 0.01);
    }

    void leastSquaresThatHoldEachOther() {
        const Answer small = asked("small", "y", {"x"});
        const Answer large = asked("large", "y", {"x", "m"}, "least-squares", "small");
        const auto test = comparedModels(small, large, Job());
        QVERIFY(test && test->kind == Kind::Nested && test->grows);
        // One term more: its t, squared.
        const Coefficient& m = *coefficient(large, "m");
        AGREE("F", test->statistic, *m.statistic * *m.statistic, 1e-9);
        AGREE("p", test->p, *m.p, 1e-9);
        QCOMPARE(test->df2.value_or(0.0), 397.0);
        const json results = json::parse(resultsJson(Study{}, {small, large}).dump());
        const json& against = results.at("answers")[1].at("against");
        QVERIFY(!results.at("answers")[0].contains("against"));
        QCOMPARE(against.at("question").get<std::string>(), std::string("small"));
        QCOMPARE(against.at("kind").get<std::string>(), std::string("nested"));
        QCOMPARE(against.at("holds_it").get<bool>(), true);
        QCOMPARE(against.at("df").get<std::vector<double>>(), (std::vector<double>{1.0, 397.0}));
        AGREE("told", against.at("statistic").get<double>(), test->statistic, 1e-12);
    }

    void modelsOfWhichNoneHoldsTheOther() {
        const Answer one = asked("one", "y", {"x"});
        const Answer other = asked("other", "y", {"m"}, "least-squares", "one");
        const auto test = comparedModels(one, other, Job());
        QVERIFY(test && test->kind == Kind::NonNested);
        QVERIFY(test->first.p < 0.01 && test->second.p < 0.01);
        const json results = json::parse(resultsJson(Study{}, {one, other}).dump());
        const json& against = results.at("answers")[1].at("against");
        AGREE("J", against.at("against_it").at("t").get<double>(), test->first.t, 1e-12);
        AGREE("Cox", against.at("against_this").at("cox").get<double>(), test->second.n, 1e-12);
        QVERIFY(!against.contains("statistic"));
    }

    void termsThatAreDrawnTogether() {
        Question q = explain("y", {"x", "m", "z"});
        q.allChecks = false;
        q.errors.kind = "bootstrap";
        q.errors.scheme = "rows";
        q.errors.draws = 199;
        const Answer a = answer(made(), q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const json told = json::parse(resultsJson(Study{}, {a}).dump());
        const json& coefficients = told.at("answers")[0].at("coefficients");
        QVERIFY(coefficients[0].at("p_together").is_null());  // A constant is no finding.
        for (std::size_t c = 1; c < 4; ++c) {
            const double p = coefficients[c].at("p_together").get<double>();
            AGREE("together", p, a.fit->resampling->together(static_cast<Eigen::Index>(c)), 1e-12);
            QVERIFY(p > 0.0 && p <= 1.0);
        }
        // What is clear stays so; what is not is judged beside it.
        QVERIFY(coefficients[1].at("p_together").get<double>() < 0.05);
        QVERIFY(coefficients[3].at("p_together").get<double>() >
                coefficients[1].at("p_together").get<double>());
        const Answer plain = asked("plain", "y", {"x"});
        const json other = json::parse(resultsJson(Study{}, {plain}).dump());
        QVERIFY(!other.at("answers")[0].at("coefficients")[0].contains("p_together"));
    }

    void whoIsSetAgainstWhom() {
        std::vector<Answer> all = {asked("a", "y", {"x"}),
                                   asked("b", "y", {"x", "m"}, "least-squares", "a"),
                                   asked("c", "y", {"m"}), asked("d", "b", {"z"}, "logit", "a")};
        all[0].question.lead = true;
        using Others = std::vector<const Answer*>;
        QVERIFY(comparedWith(all[0], all).empty());
        QCOMPARE(comparedWith(all[1], all), Others{&all[0]});
        QCOMPARE(comparedWith(all[2], all), Others{&all[0]});
        // First what it is a variant of, then the lead.
        all[3].question.variantOf = "b";
        QCOMPARE(comparedWith(all[3], all), (Others{&all[1], &all[0]}));
        all[3].question.variantOf = "gone";
        QCOMPARE(comparedWith(all[3], all), Others{&all[0]});
        // A refused one has nothing to compare.
        all[0].fit.reset();
        QVERIFY(comparedWith(all[1], all).empty());
    }

    /// A variant of another outcome is set against the lead of its own.
    void theFirstThatCanBeComparedCounts() {
        std::vector<Answer> all = {asked("other", "c", {"x"}, "poisson"), asked("lead", "y", {"x"}),
                                   asked("more", "y", {"x", "m"}, "least-squares", "other")};
        all[1].question.lead = true;
        const json results = json::parse(resultsJson(Study{}, all).dump());
        QCOMPARE(results.at("answers")[2].at("against").at("question").get<std::string>(),
                 std::string("lead"));
    }

    /// More terms alone make no larger model: everything else has to be the same.
    void whatDiffersInMoreThanTermsIsNotNested() {
        using Change = std::function<void(Question&)>;
        const auto askedWith = [](const std::string& outcome, const std::vector<std::string>& terms,
                                  const std::string& method, const Change& change) {
            Question q = explain(outcome, terms);
            q.method = method;
            q.lead = false;
            q.allChecks = false;
            change(q);
            Answer a = answer(made(), q);
            if (a.refusal) {
                qWarning("%s", a.refusal->text().c_str());
            }
            return a;
        };
        const Change nothing = [](Question&) {};
        const std::vector<std::tuple<const char*, const char*, Change, Change>> pairs = {
            {"c", "poisson", nothing, [](Question& q) { q.exposure = "exp(z)"; }},
            {"c", "poisson", nothing, [](Question& q) { q.offset = "z"; }},
            {"c", "poisson", [](Question& q) { q.fixedEffects = {"w"}; },
             [](Question& q) { q.fixedEffects = {"v"}; }},
            {"b", "logit", nothing, [](Question& q) { q.settings.penalised = true; }},
            {"b", "logit",
             [](Question& q) {
                 q.weightKind = WeightKind::Frequency;
                 q.weight = "v";
             },
             [](Question& q) {
                 q.weightKind = WeightKind::Frequency;
                 q.weight = "w";
             }},
            {"c", "negative-binomial", [](Question& q) { q.settings.form = 1; }, nothing},
            {"c", "poisson", nothing,
             [](Question& q) {
                 q.method = "hurdle";
                 q.settings.count = "negative-binomial";
             }},
            {"y", "least-squares",
             [](Question& q) {
                 q.weightKind = WeightKind::Precision;
                 q.weight = "v";
             },
             [](Question& q) {
                 q.weightKind = WeightKind::Precision;
                 q.weight = "w";
             }},
        };
        for (const auto& [outcome, method, first, second] : pairs) {
            const Answer small = askedWith(outcome, {"x"}, method, first);
            const Answer large = askedWith(outcome, {"x", "m"}, method, second);
            QVERIFY(small.fit && large.fit);
            QVERIFY2(!comparedModels(small, large, Job()), method);
            QVERIFY2(!comparedModels(large, small, Job()), method);
            // Told the same, they have their test.
            const Answer alike = askedWith(outcome, {"x", "m"}, method, first);
            QVERIFY2(comparedModels(small, alike, Job()).has_value(), method);
        }
        // Zeros apart in both: what one has more is a spread, which cannot be below nothing.
        const Change spread = [](Question& q) { q.settings.count = "negative-binomial"; };
        const Answer even = askedWith("c", {"x"}, "hurdle", nothing);
        const auto test = comparedModels(even, askedWith("c", {"x"}, "hurdle", spread), Job());
        QVERIFY(test && test->half);
    }

    void whereThereIsNoSuchTest() {
        const Answer y = asked("y", "y", {"x"});
        QVERIFY(!comparedModels(y, asked("b", "b", {"x"}, "logit"), Job()));
        QVERIFY(!comparedModels(y, y, Job()));
        QVERIFY(!comparedModels(asked("l", "b", {"x"}, "logit"),
                                asked("p", "b", {"x", "m"}, "probit"), Job()));
        Question fewer = explain("b", {"x", "m"});
        fewer.method = "logit";
        fewer.where = "z > 0";
        QVERIFY(!comparedModels(asked("l", "b", {"x"}, "logit"), answer(made(), fewer), Job()));
    }

    void theReportSetsThemSideBySide() {
        const std::vector<Answer> all = {asked("plain", "b", {"x"}, "logit"),
                                         asked("more", "b", {"x", "m"}, "logit", "plain"),
                                         asked("else", "y", {"m"})};
        // One alone: against what it is a variant of, or its variants against it.
        for (const char* id : {"plain", "more"}) {
            const std::string text = written(all, {id});
            QVERIFY2(text.find("more|likelihood ratio|") != std::string::npos, text.c_str());
            QVERIFY2(text.find("more|scores|") != std::string::npos, text.c_str());
            QVERIFY2(text.find("against plain") != std::string::npos, text.c_str());
            QVERIFY2(text.find("It adds m") != std::string::npos, text.c_str());
        }
        QVERIFY(written(all, {"else"}).find("nothing to compare with") != std::string::npos);
        const std::string named = written(all, {"more", "plain"});
        QVERIFY2(named.find("It leaves out m") != std::string::npos, named.c_str());
    }
};

QTEST_GUILESS_MAIN(ModelComparisonTest)
#include "model_comparison_test.moc"
