// What is told of single groups of random effects: predictions, effects and statements with their
// own degrees of freedom. Henderson’s equations as a second route (tests/reference/
// make_group_predictions_reference.py), closed forms, properties, words, refusals.
#include "core/model/group_prediction.h"

#include "core/model/term_test.h"
#include "core/report/request_wording.h"
#include "core/study/results.h"
#include "tests/core/levels_reference.h"

#include <boost/math/special_functions/gamma.hpp>

#include <QTest>

#include <random>

using namespace rapporto;
using namespace rapporto::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

Question levelled(const std::vector<LevelSpec>& levels, const std::string& outcome = "normal") {
    Question q = explain("y", {"x", "z"});
    q.method = "multilevel";
    q.settings.levels = levels;
    q.settings.outcomeLaw = outcome;
    q.allChecks = false;
    return q;
}

PredictRequest requestAt(const json& at) {
    PredictRequest out;
    for (const auto& [name, value] : at.items()) {
        out.at[name] = value.get<double>();
    }
    return out;
}

/// Groups of a yes–no outcome or a count with constants and slopes of their own.
Table outcomes(bool logit, int groups, int size, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal;
    std::uniform_real_distribution<double> uniform;
    std::map<std::string, std::vector<double>> c;
    for (int g = 0; g < groups; ++g) {
        const double level = 0.7 * normal(random);
        const double slope = 0.5 + 0.6 * normal(random);
        for (int i = 0; i < size; ++i) {
            const double x = normal(random);
            const double z = normal(random) + 0.1 * level;
            const double index = 0.3 + slope * x - 0.3 * z + level;
            c["g"].push_back(g);
            c["x"].push_back(x);
            c["z"].push_back(z);
            if (logit) {
                c["y"].push_back(uniform(random) < 1.0 / (1.0 + std::exp(-index)) ? 1.0 : 0.0);
            } else {
                c["y"].push_back(std::poisson_distribution<int>(std::exp(index))(random));
            }
        }
    }
    return tableOf({{"y", c["y"]}, {"x", c["x"]}, {"z", c["z"]}, {"g", c["g"]}});
}

/// ∫ of(u) over a normal law, by the trapezium rule far out: exact to rounding for what is smooth.
double overNormal(double variance, const std::function<double(double)>& of) {
    constexpr double kEnd = 12.0;
    constexpr int kSteps = 4800;
    double sum = 0.0;
    for (int i = -kSteps; i <= kSteps; ++i) {
        const double t = kEnd * i / kSteps;
        sum += std::exp(-0.5 * t * t) * of(std::sqrt(variance) * t);
    }
    return sum * kEnd / kSteps / std::sqrt(2.0 * std::numbers::pi);
}

Answer answered(const Table& table, const Question& q) {
    Answer a = answer(table, q);
    if (a.refusal) {
        qWarning("%s", a.refusal->text().c_str());
    } else if (!a.predictions) {
        qWarning("%s", a.predictions.error().text().c_str());
    }
    return a;
}

std::string refusedAt(const Table& table, Question q, const ScenarioValues& at) {
    q.predict = {{at}};
    const Answer a = answer(table, q);
    return a.predictions ? std::string("none") : a.predictions.error().text();
}

}  // namespace

class GroupPredictionTest : public QObject {
    Q_OBJECT

  private slots:

    void everyNumberIsThatOfHendersonsEquations() {
        const json& levels = levelsReference();
        for (const json& one : readJson("tests/reference/group_predictions_reference.json")) {
            const json& of = levels.at("cases")[one.at("case").get<std::size_t>()];
            const Table table = tableFrom(levels.at("data").at(of.at("data").get<std::string>()));
            Question q = questionOfLevels(of);
            q.allChecks = false;
            for (const json& p : one.at("predictions")) {
                q.predict.push_back(requestAt(p.at("at")));
            }
            q.hypotheses = {"x = z", "x = 0"};
            EffectRequest effect{"x", EffectRequest::As::At, {{"g", 3.0}}};
            if (of.at("data") != "slope") {
                effect.at = {};
            }
            q.effects = {effect};
            const Answer a = answered(table, q);
            QVERIFY(!a.refusal && a.predictions);
            const std::string name = of.at("data").get<std::string>() + " " +
                                     q.settings.likelihood + " " + q.settings.levels[0].covariance;
            const auto agree = [&](const std::string& what, const Estimate& found,
                                   const json& expected) {
                AGREE(what, found.value, expected.at("value").get<double>(), 1e-7);
                AGREE(what + " se", found.se, expected.at("se").get<double>(), 1e-6);
                AGREE(what + " df", found.df.value_or(0.0), expected.at("df").get<double>(), 2e-4);
            };
            for (std::size_t s = 0; s < q.predict.size(); ++s) {
                const json& expected = one.at("predictions")[s];
                const Prediction& p = (*a.predictions)[s];
                const std::string which = name + " " + std::to_string(s);
                agree(which, p.mean, expected);
                const double reach = (p.rowHigh - p.rowLow) / (p.mean.high - p.mean.low);
                AGREE(which + " row", (reach * reach - 1.0) * p.mean.se * p.mean.se,
                      expected.at("row_variance").get<double>(), 1e-6);
                if (s > 0) {
                    agree(which + " difference", *p.difference, expected.at("difference"));
                }
            }
            const HypothesisTest& test = *a.hypotheses[0];
            AGREE(name + " statement", *test.estimate, one.at("x less z").at("value").get<double>(),
                  1e-7);
            AGREE(name + " its df", *test.df2, one.at("x less z").at("df").get<double>(), 2e-4);
            AGREE(name + " the coefficient’s own", a.hypotheses[1]->p, *coefficient(a, "x")->p,
                  1e-12);
            agree(name + " effect", a.effects[0]->front().effect, one.at("effect of x"));
        }
    }

    void severalStatementsShareTheirLaw() {
        const json& levels = levelsReference();
        const json& of = levels.at("cases")[0];
        Question q = questionOfLevels(of);
        q.hypotheses = {"x = 0 and z = 0"};
        for (const char* law : {"satterthwaite", "kenward-roger"}) {
            q.settings.lawOfEffects = law;
            const Answer a = answered(tableFrom(levels.at("data").at("one")), q);
            AGREE(law, a.hypotheses[0]->statistic, a.fit->statistics.f->value, 1e-9);
            AGREE(law, *a.hypotheses[0]->df2, a.fit->statistics.f->df2, 1e-9);
            AGREE(law, a.hypotheses[0]->p, a.fit->statistics.f->p, 1e-9);
        }
    }

    /// A grouping among the terms has the law of its levels together, not that of its last one.
    void aGroupingsLevelsShareTheirLaw() {
        const json& levels = levelsReference();
        std::vector<std::pair<std::string, std::vector<double>>> columns;
        std::vector<double> thirds;
        for (const Column& column : tableFrom(levels.at("data").at("one")).columns) {
            columns.emplace_back(column.name(), std::vector<double>(column.numbers().begin(),
                                                                    column.numbers().end()));
            for (const double x :
                 column.name() == "x" ? columns.back().second : std::vector<double>()) {
                thirds.push_back(x < 2.5 ? 1.0 : x < 3.5 ? 2.0 : 3.0);
            }
        }
        columns.emplace_back("third", thirds);
        const Table table = tableOf(columns);
        VariableEntry entry;
        entry.name = "third";
        entry.measure = Measure::Groups;
        Question q = levelled({{"g"}});
        q.terms = {Term::expression("third"), Term::expression("z")};
        for (const char* law : {"satterthwaite", "kenward-roger"}) {
            q.settings.lawOfEffects = law;
            const Answer a = answer(table, q, {}, {entry});
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const auto test = testTerm(*a.fit, 0);
            QVERIFY(test.has_value() && test->df1 == 2.0);
            MatrixXd each = MatrixXd::Zero(4, 2);
            for (std::size_t c = 0, k = 0; c < a.fit->coefficients.size(); ++c) {
                if (a.fit->coefficients[c].designTerm == 0) {
                    each(static_cast<Index>(c), static_cast<Index>(k++)) = 1.0;
                }
            }
            AGREE(law, test->df2.value_or(0.0), a.fit->levels->lawOf(each).df, 1e-12);
            QVERIFY(std::abs(*test->df2 - *a.fit->coefficients[1].df) > 1e-6);
        }
    }

    void aGroupOfManyRowsIsWhatItsRowsSay() {
        // Its own mean, were it held fixed: the law of all has little to add to so many rows.
        std::mt19937 random(5);
        std::normal_distribution<double> normal;
        std::map<std::string, std::vector<double>> c;
        double sum = 0.0;
        for (int g = 0; g < 12; ++g) {
            const int size = g == 4 ? 20000 : 10;
            const double level = normal(random);
            for (int i = 0; i < size; ++i) {
                c["x"].push_back(0.0 + (i % 2));
                c["g"].push_back(g);
                c["y"].push_back(level + 0.5 * c["x"].back() + normal(random));
                sum += g == 4 && i % 2 == 0 ? c["y"].back() / (size / 2) : 0.0;
            }
        }
        Question q = levelled({{"g"}});
        q.terms = {Term::expression("x")};
        q.predict = {{{{"x", 0.0}, {"g", 4.0}}}};
        const Answer a = answered(tableOf({{"y", c["y"]}, {"x", c["x"]}, {"g", c["g"]}}), q);
        const Prediction& p = a.predictions->front();
        AGREE_FROM(1.0, "mean", p.mean.value, sum, 0.005);
        AGREE("error", p.mean.se, a.fit->statistics.sigma / std::sqrt(10000.0), 0.01);
        QCOMPARE(p.groups.size(), std::size_t{1});
        QCOMPARE(p.groups[0].rows, std::size_t{20000});
    }

    void unitsAndOrderDoNotMatter() {
        const json& levels = levelsReference();
        Question q = levelled({{"g", {"x"}}});
        q.predict = {{{{"x", 4.0}, {"g", 3.0}}}, {{{"x", 1.0}, {"g", 7.0}}}};
        const Table table = tableFrom(levels.at("data").at("slope"));
        const Answer a = answered(table, q);
        std::vector<std::pair<std::string, std::vector<double>>> turned;
        for (const Column& column : table.columns) {
            std::vector<double> cells(column.numbers().rbegin(), column.numbers().rend());
            for (double& cell : cells) {
                cell = column.name() == "x" ? 1000.0 * cell + 5e5 : cell;
            }
            turned.emplace_back(column.name(), std::move(cells));
        }
        q.predict[0].at["x"] = 504000.0;
        q.predict[1].at["x"] = 501000.0;
        const Answer b = answered(tableOf(turned), q);
        for (std::size_t s = 0; s < 2; ++s) {
            const Estimate& one = (*a.predictions)[s].mean;
            const Estimate& other = (*b.predictions)[s].mean;
            AGREE("value", other.value, one.value, 1e-6);
            AGREE("se", other.se, one.se, 1e-6);
            AGREE("df", *other.df, *one.df, 1e-4);
        }
    }

    void aLoggedOutcomeCountsTheSpreadOfNewGroups() {
        const json& levels = levelsReference();
        Question q = levelled({{"g"}});
        q.outcome = "ln(exp(y / 4))";
        q.predict = {{{{"x", 3.0}}}, {{{"x", 3.0}, {"g", 3.0}}}};
        const Answer a = answered(tableFrom(levels.at("data").at("one")), q);
        QVERIFY(a.predictions && a.predictions->front().original);
        const Retransformed& all = *(*a.predictions)[0].original;
        const Retransformed& own = *(*a.predictions)[1].original;
        const double variance = a.fit->levels->levels[0].variances[0].variance;
        AGREE("factor", all.factor / own.factor, std::exp(0.5 * variance), 1e-12);
        const VectorXd e = a.fit->residuals;
        AGREE("smearing", own.factor, e.array().exp().mean(), 1e-12);
    }

    void outcomesInAKnownGroupAreThoseAtItsMode() {
        for (const bool logit : {true, false}) {
            const Table table = outcomes(logit, 25, 14, logit ? 41 : 42);
            Question q = levelled({{"g", {"x"}}}, logit ? "logit" : "poisson");
            q.predict = {{{{"x", 0.8}, {"z", -0.2}, {"g", 6.0}}}, {{{"x", 0.8}, {"z", -0.2}}}};
            const Answer a = answered(table, q);
            QVERIFY(!a.refusal && a.predictions);
            const Fit& fit = *a.fit;
            // u at its mode moves with b by −(Z'WZ + G⁻¹)⁻¹Z'WX.
            const DesignLevel& level = a.design->levels[0];
            const Index k = a.design->X.cols();
            MatrixXd inner = fit.levels->levels[0].covariance.inverse();
            MatrixXd across = MatrixXd::Zero(2, k);
            std::int32_t group = -1;
            for (Index i = 0; i < a.design->X.rows(); ++i) {
                if (table.columns[3].numbers()[static_cast<std::size_t>(i)] != 6.0) {
                    continue;
                }
                group = level.of[static_cast<std::size_t>(i)];
                const double mu = fit.fitted(i);
                const double w = logit ? mu * (1.0 - mu) : mu;
                const Eigen::Vector2d z(1.0, level.slopes(i, 0));
                inner += w * z * z.transpose();
                across += w * z * a.design->X.row(i);
            }
            const Eigen::Vector2d z(1.0, 0.8);
            VectorXd row(3);
            row << 1.0, 0.8, -0.2;
            const VectorXd along = row - (z.transpose() * inner.inverse() * across).transpose();
            const double variance = z.dot(inner.inverse() * z) + along.dot(fit.covariance * along);
            const double index = row.dot(fit.solution.coefficients) +
                                 fit.levels->levels[0].effects.row(group).dot(z);
            const Prediction& p = a.predictions->front();
            const auto mean = [&](double at) {
                return logit ? 1.0 / (1.0 + std::exp(-at)) : std::exp(at);
            };
            AGREE("mean", p.mean.value, mean(index), 1e-9);
            AGREE("low", p.mean.low, mean(index - 1.959963984540054 * std::sqrt(variance)), 1e-7);
            AGREE("high", p.mean.high, mean(index + 1.959963984540054 * std::sqrt(variance)), 1e-7);
            const double slope = logit ? mean(index) * (1.0 - mean(index)) : mean(index);
            AGREE("se", p.mean.se, slope * std::sqrt(variance), 1e-7);
            QVERIFY(!p.overGroups);
            QVERIFY(p.warnings.empty());

            // Of a new group the middle is told, and the mean over all there may be.
            const Prediction& fresh = (*a.predictions)[1];
            const double middle = row.dot(fit.solution.coefficients);
            const double spread = z.dot(fit.levels->levels[0].covariance * z);
            AGREE("middle", fresh.mean.value, mean(middle), 1e-12);
            AGREE("over groups", fresh.overGroups->value,
                  overNormal(spread, [&](double u) { return mean(middle + u); }), 1e-8);
            QVERIFY(!fresh.warnings.empty());
            if (logit) {
                continue;
            }
            AGREE("closed form", fresh.overGroups->value, std::exp(middle + 0.5 * spread), 1e-10);
            // Rows of all groups: 95 % lie between the ends told.
            const auto below = [&](double count) {
                return overNormal(spread, [&](double u) {
                    return boost::math::gamma_q(count + 1.0, std::exp(middle + u));
                });
            };
            QVERIFY(below(fresh.rowLow) >= 0.025);
            QVERIFY(fresh.rowLow == 0.0 || below(fresh.rowLow - 1.0) < 0.025);
            QVERIFY(below(fresh.rowHigh) >= 0.975);
            QVERIFY(below(fresh.rowHigh - 1.0) < 0.975);
        }
    }

    void groupsAreFoundByTheirNames() {
        const json& levels = levelsReference();
        const Table table = tableFrom(levels.at("data").at("nested"));
        const Question q = levelled({{"g"}, {"k"}});
        const ScenarioValues both = {{"g", 1.0}, {"k", 2.0}};
        Question one = q;
        one.predict = {{both}};
        const Answer a = answered(table, one);
        QVERIFY(a.predictions.has_value());
        // By the label that says where it lies, the outer one follows.
        const auto& groups = a.predictions->front().groups;
        QCOMPARE(groups.size(), std::size_t{2});
        QCOMPARE(groups[0].by, std::string("g"));
        QCOMPARE(groups[1].group, std::string("2"));
        Question other = q;
        other.predict = {{{{"g", groups[0].group}}}};
        const Answer b = answered(table, other);
        QVERIFY(b.predictions.has_value());
        QCOMPARE(b.predictions->front().mean.value, a.predictions->front().mean.value);
        QCOMPARE(b.predictions->front().groups.size(), std::size_t{2});

        QVERIFY(refusedAt(table, q, {{"g", 1.0}}).find("Name k, too") != std::string::npos);
        QVERIFY(refusedAt(table, q, {{"g", 77.0}}).find("no group ‘77’") != std::string::npos);
        QVERIFY(refusedAt(table, q, {{"g", groups[0].group}, {"k", 1.0}}).find("lies in 2") !=
                std::string::npos);
        QVERIFY(refusedAt(table, q, {{"gg", 1.0}}).find("do not hang on ‘gg’") !=
                std::string::npos);
    }

    void effectsInAGroupOfAnotherOutcomeAreRefused() {
        const Table table = outcomes(true, 20, 10, 4);
        Question q = levelled({{"g"}}, "logit");
        q.effects = {{"x", EffectRequest::As::At, {{"g", 3.0}}}};
        const Answer a = answer(table, q);
        QVERIFY(!a.effects[0]);
        QVERIFY(a.effects[0].error().text().find("compare two predictions") != std::string::npos);
        // A value of a term is one, whatever else its variable is.
        Question both = levelled({{"g"}}, "logit");
        both.terms.push_back(Term::expression("g"));
        both.effects = {{"x", EffectRequest::As::At, {{"g", 3.0}}}};
        const Answer b = answer(table, both);
        QVERIFY(!b.refusal);
        QVERIFY(b.effects[0].has_value());
    }

    void resultsAndWordsTellOfIt() {
        const Table table = outcomes(false, 20, 10, 6);
        Question q = levelled({{"g"}}, "poisson");
        q.id = "q1";
        q.predict = {{{{"x", 0.5}, {"g", 3.0}}}, {{{"x", 0.5}}}};
        const Answer a = answered(table, q);
        QVERIFY(a.predictions.has_value());
        const json told = json::parse(resultsJson(Study{}, {a}).dump());
        const json& predictions = told.at("answers")[0].at("predictions");
        QCOMPARE(predictions[0].at("groups")[0].at("by").get<std::string>(), std::string("g"));
        QCOMPARE(predictions[0].at("groups")[0].at("rows").get<int>(), 10);
        QVERIFY(!predictions[0].contains("over_groups"));
        AGREE("over groups", predictions[1].at("over_groups").at("estimate").get<double>(),
              (*a.predictions)[1].overGroups->value, 1e-12);
        std::string words;
        for (const std::size_t i : {0U, 1U}) {
            for (const std::string& p : predictionReading(a, i)) {
                words += p + "\n";
            }
        }
        QVERIFY2(words.find("10 rows tell of it") != std::string::npos, words.c_str());
        QVERIFY2(words.find("Over all groups together the mean is **") != std::string::npos,
                 words.c_str());
    }
};

QTEST_GUILESS_MAIN(GroupPredictionTest)
#include "group_prediction_test.moc"
