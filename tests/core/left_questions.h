#pragma once

#include "core/left/left_rows.h"
#include "core/model/likelihood.h"
#include "core/report/results_table.h"
#include "tests/core/server_survey.h"

#include <fmt/format.h>

#include <algorithm>

namespace rapporto::tests {

using test::explain;

inline void compareCorrelations(const Answer& a, const Answer& b) {
    QVERIFY(a.correlations && b.correlations);
    QVERIFY(a.asked && !a.asked->empty());
    QCOMPARE(a.correlations->variables, b.correlations->variables);
    QCOMPARE(a.correlations->holding, b.correlations->holding);
    for (Eigen::Index i = 0; i < a.correlations->r.rows(); ++i) {
        for (Eigen::Index j = 0; j < a.correlations->r.cols(); ++j) {
            const auto both = [&](const char* what, Eigen::MatrixXd CorrelationTable::*of,
                                  double tolerance) {
                const Eigen::MatrixXd& x = (*a.correlations).*of;
                QCOMPARE(x.size(), ((*b.correlations).*of).size());
                if (x.size() > 0) {
                    same(fmt::format("{} {} {}", what, i, j), x(i, j),
                         ((*b.correlations).*of)(i, j), tolerance);
                }
            };
            both("r", &CorrelationTable::r, 1e-8);
            both("plain", &CorrelationTable::plain, 1e-8);
            both("semi-partial", &CorrelationTable::semiPartial, 1e-8);
            both("p", &CorrelationTable::p, 1e-7);
            both("adjusted", &CorrelationTable::adjusted, 1e-7);
            both("n", &CorrelationTable::n, 0.0);
            both("low", &CorrelationTable::low, 1e-7);
            both("high", &CorrelationTable::high, 1e-7);
        }
    }
    QCOMPARE(a.rows.used, b.rows.used);
    QCOMPARE(a.rows.inSample, b.rows.inSample);
    QCOMPARE(a.rows.missing, b.rows.missing);
    QCOMPARE(a.rows.missingBy.size(), b.rows.missingBy.size());
    for (std::size_t i = 0; i < a.rows.missingBy.size(); ++i) {
        QCOMPARE(a.rows.missingBy[i].name, b.rows.missingBy[i].name);
        QCOMPARE(a.rows.missingBy[i].rows, b.rows.missingBy[i].rows);
        QCOMPARE(a.rows.missingBy[i].alone, b.rows.missingBy[i].alone);
    }
}

inline void compareFits(const Answer& left, const Answer& fetched) {
    const std::string id = left.question.id;
    QCOMPARE(left.rows.used, fetched.rows.used);
    QCOMPARE(left.rows.inSample, fetched.rows.inSample);
    QCOMPARE(left.rows.missing, fetched.rows.missing);
    QCOMPARE(left.rows.dropped, fetched.rows.dropped);
    QCOMPARE(left.rows.missingBy.size(), fetched.rows.missingBy.size());
    QCOMPARE(left.fit->coefficients.size(), fetched.fit->coefficients.size());
    for (std::size_t i = 0; i < left.fit->coefficients.size(); ++i) {
        const Coefficient& a = left.fit->coefficients[i];
        const Coefficient& b = fetched.fit->coefficients[i];
        QCOMPARE(a.term, b.term);
        QCOMPARE(a.label, b.label);
        const std::string what = id + " " + a.term;
        // A coefficient near zero hangs on its error.
        const double size = std::max(std::abs(b.estimate), b.se);
        QVERIFY2(std::abs(a.estimate - b.estimate) <= 1e-9 * size,
                 told(what, a.estimate, b.estimate));
        same(what + " se", a.se, b.se);
        same(what + " df", a.df, b.df);
        same(what + " p", a.p, b.p, 1e-7);
        same(what + " low", a.low, b.low, 1e-7);
        same(what + " standardised", a.standardised, b.standardised, 1e-8);
    }
    const FitStatistics& s = left.fit->statistics;
    const FitStatistics& t = fetched.fit->statistics;
    same(id + " R²", s.rSquared, t.rSquared);
    same(id + " adjusted R²", s.adjustedRSquared, t.adjustedRSquared);
    same(id + " sigma", s.sigma, t.sigma);
    same(id + " ln L", s.logLikelihood, t.logLikelihood);
    same(id + " AIC", s.aic, t.aic);
    same(id + " within", s.within, t.within);
    QCOMPARE(s.f.has_value(), t.f.has_value());
    if (s.f) {
        same(id + " F", s.f->value, t.f->value, 1e-8);
        same(id + " F df", s.f->df2, t.f->df2);
    }
    QCOMPARE(left.fit->likelihood != nullptr, fetched.fit->likelihood != nullptr);
    if (left.fit->likelihood) {
        const LikelihoodFit& x = *left.fit->likelihood;
        const LikelihoodFit& y = *fetched.fit->likelihood;
        same(id + " null ln L", x.nullLogLikelihood, y.nullLogLikelihood);
        same(id + " deviance", x.deviance, y.deviance);
        same(id + " Pearson", x.pearson, y.pearson);
    }
    QCOMPARE(left.fit->errorNote, fetched.fit->errorNote);
    QCOMPARE(left.fit->dropped.size(), fetched.fit->dropped.size());
}

/// A question asked of rows that are left and of the same rows at hand.
struct BothWays {
    Answer left;
    Answer fetched;
};

/// Opens a study with these questions, its rows “left” or “fetched”.
using Opening = std::function<Result<Read>(const std::string&, const std::vector<nlohmann::json>&)>;

inline BothWays askedBothWays(const Opening& open, const nlohmann::json& question) {
    const auto fetched = open("fetched", {question});
    const auto left = open("left", {question});
    const auto failed = [](const Refusal& why) {
        Answer none;
        none.refusal = why;
        return none;
    };
    const auto answered = [](const Read& of) {
        return answerQuestion(of.study, of.frame, of.study.questions[0], Job());
    };
    return {left ? answered(*left) : failed(left.error()),
            fetched ? answered(*fetched) : failed(fetched.error())};
}

/// Questions of sums.
inline void addFitsBySums() {
    QTest::addColumn<QString>("question");
    const auto ask = [](const char* name, const char* question) {
        QTest::newRow(name) << QString(question);
    };
    ask("classical", R"j({"terms": ["member", "hives", "zone", "age"]})j");
    ask("robust HC0",
        R"j({"terms": ["member", "hives"], "errors": {"kind": "robust", "type": "HC0"}})j");
    ask("robust HC1", R"j({"terms": ["member", "hives", "zone"], "errors": {"kind": "robust"}})j");
    ask("clustered",
        R"j({"terms": ["member", "hives"], "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("clustered two ways",
        R"j({"terms": ["member", "hives"], "errors": {"kind": "clustered", "by": ["village", "soil"]}})j");
    ask("sampling weights",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "robust"}})j");
    ask("precision weights",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "precision", "variable": "weight"}})j");
    ask("frequency weights, robust",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "frequency", "variable": "copies"},
            "errors": {"kind": "robust"}})j");
    ask("weights and clusters",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("products and squares",
        R"j({"terms": ["hives", "power(hives, 2)", "zone", {"product": ["zone", "hives"]}, "irrigated",
            {"product": ["irrigated", "zone"]}], "errors": {"kind": "robust"}})j");
    ask("groups by an expression", R"j({"terms": ["band", "old", "soil", "village"]})j");
    ask("a rule of its own", R"j({"terms": ["member"], "where": "zone <> 'Ridge' and age > 30"})j");
    ask("far from zero", R"j({"terms": ["far", "hives"], "errors": {"kind": "robust"}})j");
    ask("no constant", R"j({"terms": ["hives", "age"], "intercept": false,
            "errors": {"kind": "robust"}})j");
    ask("no constant, clustered", R"j({"terms": ["hives", "age"], "intercept": false,
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("told by others", R"j({"terms": ["hives", "2 * hives + 1", "member"]})j");
    ask("a mean", R"j({"terms": []})j");
    ask("held fixed", R"j({"terms": ["member", "hives"], "fixed_effects": ["village"]})j");
    ask("held fixed, clustered by it",
        R"j({"terms": ["member", "hives"], "fixed_effects": ["village"],
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("held fixed, clustered across",
        R"j({"terms": ["member", "hives"], "fixed_effects": ["village"],
            "errors": {"kind": "clustered", "by": ["soil"]}})j");
    ask("held fixed, rows counted",
        R"j({"terms": ["member", "hives"], "fixed_effects": ["age"],
            "weights": {"kind": "frequency", "variable": "copies"}})j");
    ask("held fixed, weighted, robust",
        R"j({"terms": ["member", "hives"], "fixed_effects": ["village"],
            "weights": {"kind": "sampling", "variable": "weight"}, "errors": {"kind": "robust"}})j");
    ask("two stages",
        R"j({"estimator": {"method": "two-stage"}, "endogenous": ["member"], "instruments": ["distance"],
            "terms": ["hives", "zone"]})j");
    ask("two stages, robust",
        R"j({"estimator": {"method": "two-stage"}, "endogenous": ["member"],
            "instruments": ["distance", "trained"], "terms": ["hives", "zone"],
            "errors": {"kind": "robust"}})j");
    ask("two stages, clustered, weighted",
        R"j({"estimator": {"method": "two-stage"}, "endogenous": ["member"],
            "instruments": ["distance", "trained"], "terms": ["hives"],
            "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("logit", R"j({"outcome": "member", "estimator": {"method": "logit"},
            "terms": ["hives", "zone", "distance", "far"]})j");
    ask("logit, robust", R"j({"outcome": "member", "estimator": {"method": "logit"},
            "terms": ["hives", "distance"], "errors": {"kind": "robust"}})j");
    ask("logit, clustered, weighted", R"j({"outcome": "member", "estimator": {"method": "logit"},
            "terms": ["hives", "distance"], "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("probit", R"j({"outcome": "member", "estimator": {"method": "probit"},
            "terms": ["hives", "zone", "distance", "far"]})j");
    ask("probit, robust, no constant", R"j({"outcome": "member", "estimator": {"method": "probit"},
            "terms": ["hives", "distance"], "intercept": false, "errors": {"kind": "robust"}})j");
    ask("Poisson", R"j({"outcome": "copies", "estimator": {"method": "poisson"},
            "terms": ["hives", "zone", "distance"]})j");
    ask("Poisson, clustered", R"j({"outcome": "age", "estimator": {"method": "poisson"},
            "terms": ["hives", "distance", "2 * hives"], "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("Poisson, frequency weights", R"j({"outcome": "age", "estimator": {"method": "poisson"},
            "terms": ["hives"], "weights": {"kind": "frequency", "variable": "copies"},
            "errors": {"kind": "robust"}})j");
    ask("dates and conditions",
        R"j({"terms": ["seen", "case when seen >= '2024-03' and zone in ('Ridge', 'Lower') then 1 else 0 end"]})j");
}

inline void fitBothWays(const Opening& open) {
    QFETCH(QString, question);
    auto json = nlohmann::json::parse(question.toStdString());
    json["id"] = "q1";
    json["outcome"] = json.value("outcome", "ln_income");
    json["checks"] = "none";
    const auto [a, b] = askedBothWays(open, json);
    QVERIFY2(!b.refusal, b.refusal ? b.refusal->text().c_str() : "");
    QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
    compareFits(a, b);
    QVERIFY(a.asked && !a.asked->empty());
    QVERIFY(a.fromMoments);
    const auto results = nlohmann::json::parse(resultsJson(Study(), {a}).dump());
    QCOMPARE(results["answers"][0]["statements"].size(), a.asked->size());
}

inline void predictBothWays(const Opening& open) {
    const auto question = nlohmann::json::parse(
        R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "hives", "power(hives, 2)", "zone"],
            "errors": {"kind": "robust"}, "checks": "none",
            "predict": [{"at": {"member": 1, "hives": 3, "zone": "Ridge"}}, {"at": {"member": 0}}],
            "hypotheses": ["member = 0.1", "hives = 0 and member = 0"]})j");
    const auto [a, b] = askedBothWays(open, question);
    QVERIFY(a.predictions && b.predictions);
    QCOMPARE(a.predictions->size(), std::size_t{2});
    for (std::size_t i = 0; i < 2; ++i) {
        const Prediction& x = (*a.predictions)[i];
        const Prediction& y = (*b.predictions)[i];
        same("mean", x.mean.value, y.mean.value);
        same("se", x.mean.se, y.mean.se);
        same("row", x.rowHigh, y.rowHigh);
        QVERIFY(x.original && y.original);
        same("carried back", x.original->mean, y.original->mean);
    }
    QCOMPARE(a.hypotheses.size(), std::size_t{2});
    for (std::size_t i = 0; i < 2; ++i) {
        QVERIFY(a.hypotheses[i] && b.hypotheses[i]);
        same("p", a.hypotheses[i]->p, b.hypotheses[i]->p, 1e-7);
    }
    QCOMPARE(a.turningPoints.size(), b.turningPoints.size());
}

/// Checks of sums.
inline void addChecksBySums() {
    QTest::addColumn<QString>("asked");
    QTest::newRow("of the terms")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "hives", "age", "soil"],
                "checks": ["reset", "breusch-pagan", "white", "jarque-bera", "vif", "condition",
                           "chow", "intraclass", "cooks-distance"]})j";
    // What the rows are cut by may be missing in some: they stay in the fit.
    QTest::newRow("parts that are named")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "hives", "age"],
                "checks": [{"id": "chow", "by": "zone"}, {"id": "intraclass", "by": "zone"}]})j";
    QTest::newRow("clusters of the errors")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "zone", "hives"],
                "errors": {"kind": "clustered", "by": ["village"]},
                "checks": ["chow", "intraclass"]})j";
    QTest::newRow("terms that do not vary in a part")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["zone", "hives", "irrigated"],
                "checks": [{"id": "chow", "by": "irrigated"}, {"id": "chow", "by": "zone"},
                           {"id": "intraclass", "by": "id"}]})j";
    QTest::newRow("doubts that robust errors allow for")
        << R"j({"id": "q1", "outcome": "income", "terms": ["member", "hives"],
                "errors": {"kind": "robust"}, "checks": ["white", "jarque-bera"]})j";
    QTest::newRow("a doubt that clustered errors allow for")
        << R"j({"id": "q1", "outcome": "village + hives", "terms": ["member"],
                "errors": {"kind": "clustered", "by": ["village"]}, "checks": ["intraclass"]})j";
    QTest::newRow("a derived grouping")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["hives", "age"],
                "checks": [{"id": "chow", "by": "band"}, {"id": "intraclass", "by": "old"}]})j";
}

inline void checkBothWays(const Opening& open) {
    QFETCH(QString, asked);
    const auto question = nlohmann::json::parse(asked.toStdString());
    const auto [a, b] = askedBothWays(open, question);
    QVERIFY2(!a.refusal && !b.refusal, a.refusal ? a.refusal->text().c_str() : "");
    QCOMPARE(a.rows.used, b.rows.used);
    QCOMPARE(a.checks.size(), b.checks.size());
    for (std::size_t i = 0; i < a.checks.size(); ++i) {
        const CheckResult& x = a.checks[i];
        const CheckResult& y = b.checks[i];
        QCOMPARE(x.id, y.id);
        if (x.id == "cooks-distance") {
            QCOMPARE(x.verdict, Verdict::NotApplicable);
            QVERIFY(x.reading.find("stay where they lie") != std::string::npos);
            continue;
        }
        same(x.id, x.statistic, y.statistic, 1e-8);
        same(x.id + " p", x.p, y.p, 1e-7);
        QCOMPARE(x.df.size(), y.df.size());
        for (std::size_t d = 0; d < x.df.size(); ++d) {
            same(x.id + " df", x.df[d], y.df[d]);
        }
        for (const auto& [name, value] : x.details) {
            const auto at = std::find_if(y.details.begin(), y.details.end(),
                                         [&](const auto& one) { return one.first == name; });
            QVERIFY2(at != y.details.end(), name.c_str());
            same(x.id + " " + name, value, at->second, 1e-7);
        }
        QVERIFY(!x.reading.empty());
        // Some verdicts over rows look at more than sums; none is a doubt here alone.
        QCOMPARE(x.verdict == Verdict::AllowedFor, y.verdict == Verdict::AllowedFor);
        if (x.id == "jarque-bera" || x.id == "chow" || x.id == "intraclass") {
            QCOMPARE(x.verdict, y.verdict);
            QCOMPARE(QString::fromStdString(x.reading), QString::fromStdString(y.reading));
            // Setting rows aside and drawing them again takes rows.
            QVERIFY(x.id == "jarque-bera" ? x.remedies.size() <= y.remedies.size()
                                          : x.remedies.size() == y.remedies.size());
            QCOMPARE(x.remedies.empty(), y.remedies.empty());
        }
    }
}

/// Correlations of sums.
inline void addCorrelationsBySums() {
    QTest::addColumn<QString>("question");
    const auto ask = [](const char* name, const char* question) {
        QTest::newRow(name) << QString(question);
    };
    ask("rows that have everything",
        R"j({"variables": ["ln_income", "hives", "far"], "holding": ["age"], "missing": "listwise"})j");
    ask("each pair by itself",
        R"j({"variables": ["ln_income", "hives", "age", "far", "trained"]})j");
    ask("each pair with what is held",
        R"j({"variables": ["ln_income", "hives", "far"], "holding": ["age", "distance"]})j");
    ask("one-sided under a rule",
        R"j({"variables": ["income", "hives", "distance"], "sides": "greater", "where": "age > 30"})j");
    // Rows of a pair may lie far from where the column lies, and a column may not vary in them.
    ask("few rows far away",
        R"j({"variables": ["hives", "case when age > 65 then 1e6 + hives else distance end",
                           "case when age > 65 then ln_income end"]})j");
    ask("names in quotes", R"j({"variables": ["\"hives\"", "age"], "holding": ["\"distance\""]})j");
    ask("one value", R"j({"variables": ["hives", "age", "0 * age + 0.1"]})j");
    ask("one value in the rows of a pair",
        R"j({"variables": ["hives", "case when age > 40 then 0.3 else hives end", "case when age > 40 then age end"]})j");
    ask("a pair without a row",
        R"j({"variables": ["hives", "case when age > 40 then age end", "case when age <= 40 then age end"]})j");
}

inline void correlateBothWays(const Opening& open) {
    QFETCH(QString, question);
    auto json = nlohmann::json::parse(question.toStdString());
    json["id"] = "q1";
    json["kind"] = "correlate";
    const auto [a, b] = askedBothWays(open, json);
    QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
    compareCorrelations(a, b);
}

/// Values that SQL has, too.
inline void addExpressionsOfSql() {
    QTest::addColumn<QString>("expression");
    for (const char* one : {"ln(hives - 4)",
                            "log10(hives)",
                            "exp(hives * 200)",
                            "exp(-hives * 400)",
                            "sqrt(hives - 5)",
                            "power(hives - 5, 3)",
                            "power(hives - 5, 0.5)",
                            "power(0, -1)",
                            "abs(hives - 4)",
                            "floor(-hives)",
                            "ceiling(hives)",
                            "round(hives * 2 - 10.5)",
                            "round(age / 2.0)",
                            "round(hives, 2)",
                            "round(-0.5)",
                            "mod(age, 7)",
                            "mod(-age, 7)",
                            "sign(hives - 4)",
                            "least(hives, distance)",
                            "greatest(hives, distance, age)",
                            "coalesce(hives, -1)",
                            "nullif(member, 1)",
                            "hives / (member - 1)",
                            "-hives",
                            "case when hives > 4 then 1 when hives <= 4 then 2 end",
                            "case when hives > 4 or distance > 5 then hives end",
                            "hives is null",
                            "hives is not null and distance > 3",
                            "not (hives > 4)",
                            "hives > 4 and distance > 5",
                            "hives between 3 and distance",
                            "hives not between 3 and 4",
                            "age in (30, 31, null)",
                            "age not in (30, 31)",
                            "zone = 'Ridge'",
                            "zone <> 'O''Hara''s \\ hollow'",
                            "zone >= 'Lower'",
                            "zone in ('Ridge', 'Lower')",
                            "zone is null",
                            "old",
                            "not old",
                            "irrigated",
                            "seen > '2024-04'",
                            "seen = '2024-03-05'",
                            "soil = 'loam'",
                            "case when zone = 'Ridge' then null else age end",
                            "hives - age - distance + 2",
                            "hives - (age - (distance - 1))",
                            "hives / distance / age * 2",
                            "hives / (distance / age)",
                            "-(hives - 1) * -2",
                            "hives > 4 or distance > 5 and age > 30",
                            "(hives > 4 or distance > 5) and not age > 30",
                            "hives > 4 and distance > 5 and age > 30 and member = 1",
                            "mod(round(hives), 3) - sign(mod(-age, 4))",
                            "age * 1.5 + member"}) {
        QTest::newRow(one) << QString(one);
    }
}

inline void evaluateBothWays(const Opening& open) {
    QFETCH(QString, expression);
    const auto fetched = open("fetched", {});
    const auto left = open("left", {});
    QVERIFY(fetched && left);
    const auto here = fetched->frame.evaluateText(expression.toStdString());
    QVERIFY2(here.has_value(), here ? "" : here.error().text().c_str());
    Study study = left->study;
    study.sample.where.clear();
    LeftRows rows(study, left->frame, Job());
    QVERIFY(rows.begin("").has_value());
    const auto id = rows.add("id");
    const auto place = rows.add(expression.toStdString());
    QVERIFY2(place.has_value(), place ? "" : place.error().text().c_str());
    // Sums by the place of the row tell every cell: of those that are there.
    const std::string alias = rows.part(*place).alias;
    auto there = rows.ask("select " + rows.part(*id).alias + ", " + alias + " from " + rows.used());
    QVERIFY2(there.has_value(), there ? "" : there.error().text().c_str());
    std::sort(there->rows.begin(), there->rows.end(), [](const auto& x, const auto& y) {
        return std::strtod(x[0]->c_str(), nullptr) < std::strtod(y[0]->c_str(), nullptr);
    });
    std::size_t next = 0;
    for (std::size_t i = 0; i < fetched->frame.rows(); ++i) {
        const double x = here->column.numbers()[i];
        if (std::isnan(x)) {
            continue;
        }
        QVERIFY(next < there->rows.size());
        QCOMPARE(std::strtod(there->rows[next][0]->c_str(), nullptr), static_cast<double>(i + 1));
        const double y = std::strtod(there->rows[next][1]->c_str(), nullptr);
        QVERIFY2(near(y, x, 1e-14), told(expression.toStdString(), y, x));
        ++next;
    }
    QCOMPARE(next, there->rows.size());
}

}  // namespace rapporto::tests
