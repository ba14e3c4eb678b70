// Random effects of groups of a yes–no outcome and of counts: a second route by dense matrices and
// fine grids (tests/reference/make_level_outcomes_reference.py), slopes, properties, words,
// refusals.
#include "core/base/parallel.h"
#include "core/model/level_likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/report/cause_reading.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"
#include "core/study/results.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <random>

using namespace rapporto;
using namespace rapporto::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

const json& reference() {
    static const json kReference = readJson("tests/reference/level_outcomes_reference.json");
    return kReference;
}

Question levelled(const std::string& outcome, std::vector<LevelSpec> levels, int points = 9) {
    Question q = explain("y", {"x", "z"});
    q.method = "multilevel";
    q.settings.levels = std::move(levels);
    q.settings.outcomeLaw = outcome;
    q.settings.points = points;
    q.allChecks = false;
    return q;
}

Question questionOf(const json& one) {
    LevelSpec spec{"g"};
    if (one.at("slopes").get<bool>()) {
        spec.slopes = {"x"};
    }
    spec.covariance = one.at("full").get<bool>() ? "full" : "diagonal";
    std::vector<LevelSpec> levels = {spec};
    if (one.at("nested").get<bool>()) {
        levels.push_back({"h"});
    }
    return levelled(one.at("outcome").get<std::string>(), levels, one.at("points").get<int>());
}

/// Groups of rows with levels of their own.
Table grouped(bool logit, int groups, int size, double spread, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal;
    std::uniform_real_distribution<double> uniform;
    std::map<std::string, std::vector<double>> c;
    for (int g = 0; g < groups; ++g) {
        const double level = spread * normal(random);
        for (int i = 0; i < size; ++i) {
            const double x = normal(random);
            const double z = uniform(random);
            const double eta = 0.2 + 0.5 * x - 0.4 * z + level;
            std::poisson_distribution<int> count(std::exp(eta));
            c["y"].push_back(logit ? (uniform(random) < 1.0 / (1.0 + std::exp(-eta)) ? 1.0 : 0.0)
                                   : count(random));
            c["x"].push_back(x);
            c["z"].push_back(z);
            c["g"].push_back(g);
            c["h"].push_back(g % 4);
        }
    }
    return tableOf({{"y", c["y"]}, {"x", c["x"]}, {"z", c["z"]}, {"g", c["g"]}, {"h", c["h"]}});
}

LevelLikelihood::Data dataOf(const Table& table, bool logit, int points, bool slopes, bool nested,
                             std::vector<std::vector<std::int32_t>>& ids) {
    LevelLikelihood::Data data;
    const auto n = static_cast<Index>(table.rows());
    data.X = MatrixXd::Ones(n, 2);
    data.y.resize(n);
    ids.assign(2, std::vector<std::int32_t>(static_cast<std::size_t>(n)));
    for (Index i = 0; i < n; ++i) {
        const auto row = static_cast<std::size_t>(i);
        data.y(i) = table.columns[0].numbers()[row];
        data.X(i, 1) = table.columns[1].numbers()[row];
        ids[0][row] = static_cast<std::int32_t>(table.columns[3].numbers()[row]);
        ids[1][row] = static_cast<std::int32_t>(table.columns[4].numbers()[row]);
    }
    MatrixXd columns = MatrixXd::Ones(n, slopes ? 2 : 1);
    if (slopes) {
        columns.col(1) = data.X.col(1);
    }
    data.groupings.push_back(
        {ids[0], 1 + *std::max_element(ids[0].begin(), ids[0].end()), columns});
    if (nested) {
        data.groupings.push_back({ids[1], 4, MatrixXd::Ones(n, 1)});
    }
    data.logit = logit;
    data.points = points;
    return data;
}

}  // namespace

class LevelOutcomesTest : public QObject {
    Q_OBJECT

  private slots:

    void everyNumberIsThatOfTheReference() {
        for (const json& one : reference().at("cases")) {
            const Table table =
                tableFrom(reference().at("data")[one.at("data").get<std::size_t>()]);
            const Question q = questionOf(one);
            const std::string name =
                q.settings.outcomeLaw + " " + std::to_string(q.settings.points);
            const Answer a = answer(table, q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            AGREE(name + " likelihood", *a.fit->statistics.logLikelihood,
                  number(one.at("log_likelihood")), 1e-9);
            for (std::size_t k = 0; k < 3; ++k) {
                AGREE_FROM(0.1, name + " b", a.fit->coefficients[k].estimate,
                           number(one.at("b")[k]), 2e-6);
                AGREE(name + " se", a.fit->coefficients[k].se, number(one.at("se")[k]), 1e-5);
                QVERIFY(!a.fit->coefficients[k].df.has_value());
            }
            for (std::size_t l = 0; l < a.fit->levels->levels.size(); ++l) {
                const json& G = one.at("covariances")[l];
                const MatrixXd& found = a.fit->levels->levels[l].covariance;
                for (Index i = 0; i < found.rows(); ++i) {
                    for (Index j = 0; j < found.rows(); ++j) {
                        AGREE_FROM(
                            0.1, name + " G", found(i, j),
                            number(G[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)]),
                            5e-6);
                    }
                }
            }
        }
    }

    /// Slopes against differences of the value, at places that are no maximum.
    void slopesAreExact() {
        for (const bool logit : {true, false}) {
            const Table table = grouped(logit, 10, 7, 0.7, 3);
            for (const auto& [points, slopes, nested] : {std::tuple{1, false, false},
                                                         {5, false, false},
                                                         {4, true, false},
                                                         {1, true, true}}) {
                std::vector<std::vector<std::int32_t>> ids;
                const LevelLikelihood likelihood(dataOf(table, logit, points, slopes, nested, ids));
                VectorXd b(2);
                b << 0.1, 0.4;
                MatrixXd inner = MatrixXd::Constant(1, 1, 0.6);
                if (slopes) {
                    inner.resize(2, 2);
                    inner << 0.7, -0.1, 0.2, 0.4;
                }
                std::vector<MatrixXd> factors = {inner};
                if (nested) {
                    factors.push_back(MatrixXd::Constant(1, 1, 0.4));
                }
                const auto at = likelihood.look(b, factors, true);
                constexpr double kStep = 1e-5;
                for (Index j = 0; j < 2; ++j) {
                    VectorXd up = b;
                    VectorXd down = b;
                    up(j) += kStep;
                    down(j) -= kStep;
                    AGREE_FROM(1.0, "by a coefficient", at.slope(j),
                               (likelihood.look(up, factors, false).deviance -
                                likelihood.look(down, factors, false).deviance) /
                                   (2.0 * kStep),
                               1e-6);
                }
                for (std::size_t l = 0; l < factors.size(); ++l) {
                    for (Index i = 0; i < factors[l].size(); ++i) {
                        auto up = factors;
                        auto down = factors;
                        up[l](i) += kStep;
                        down[l](i) -= kStep;
                        AGREE_FROM(1.0, "by a factor", at.slopes[l](i),
                                   (likelihood.look(b, up, false).deviance -
                                    likelihood.look(b, down, false).deviance) /
                                       (2.0 * kStep),
                                   1e-6);
                    }
                }
            }
        }
    }

    void quadratureIntegratesPolynomialsExactly() {
        for (const int points : {1, 2, 9, 40, 99}) {
            const HermiteRule rule = hermiteRule(points);
            // ∫ x^2m exp(−x²) = √π (2m − 1)!!/2^m, to degree 2n − 1.
            double moment = std::sqrt(std::numbers::pi);
            for (int m = 0; 2 * m < 2 * points && m < 12; ++m) {
                AGREE("moment", (rule.at.array().pow(2 * m) * rule.weights.array()).sum(), moment,
                      1e-12);
                moment *= (2.0 * m + 1.0) / 2.0;
            }
        }
        // The far weights have their digits: the recurrence of Golub & Welsch loses them.
        AGREE_FROM(0.0, "far weight", hermiteRule(20).weights(0), 2.22939364553e-13, 1e-9);
    }

    /// Without a spread the likelihood is the plain one’s.
    void withoutSpreadItIsThePlainFit() {
        const Table table = grouped(true, 12, 8, 0.0, 5);
        std::vector<std::vector<std::int32_t>> ids;
        const LevelLikelihood likelihood(dataOf(table, true, 9, false, false, ids));
        VectorXd b(2);
        b << 0.2, 0.3;
        double plain = 0.0;
        for (std::size_t i = 0; i < table.rows(); ++i) {
            const double eta = 0.2 + 0.3 * table.columns[1].numbers()[i];
            plain += table.columns[0].numbers()[i] * eta - std::log1p(std::exp(eta));
        }
        AGREE("deviance", likelihood.look(b, {MatrixXd::Zero(1, 1)}, false).deviance, -2.0 * plain,
              1e-12);
        // No group differs by more than chance: the spread is at nothing, and the effects are those
        // of the plain logit.
        const Table even = grouped(true, 30, 30, 0.0, 11);
        const Answer a = answer(even, levelled("logit", {{"g"}}));
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        Question q = explain("y", {"x", "z"});
        q.method = "logit";
        q.allChecks = false;
        const Answer logit = answer(even, q);
        if (a.fit->levels->levels[0].variances[0].atBoundary) {
            for (std::size_t k = 0; k < 3; ++k) {
                AGREE("plain", a.fit->coefficients[k].estimate, logit.fit->coefficients[k].estimate,
                      1e-6);
            }
            QCOMPARE(*a.fit->levels->levels[0].variances[0].low, 0.0);
        }
        QVERIFY(a.fit->levels->deviance <= a.fit->levels->devianceWithout + 1e-7);
    }

    void orderAndThreadsChangeNothing() {
        const Table table = grouped(false, 16, 6, 0.6, 8);
        const Answer a = answer(table, levelled("poisson", {{"g"}}));
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        setThreads(1);
        const Answer alone = answer(table, levelled("poisson", {{"g"}}));
        setThreads(0);
        QCOMPARE(alone.fit->coefficients[1].estimate, a.fit->coefficients[1].estimate);
        std::vector<std::pair<std::string, std::vector<double>>> turned;
        for (const Column& column : table.columns) {
            turned.emplace_back(column.name(), std::vector<double>(column.numbers().rbegin(),
                                                                   column.numbers().rend()));
        }
        const Answer other = answer(tableOf(turned), levelled("poisson", {{"g"}}));
        for (std::size_t k = 0; k < 3; ++k) {
            AGREE("order", other.fit->coefficients[k].estimate, a.fit->coefficients[k].estimate,
                  1e-7);
        }
        // A unit of its term scales the effect and nothing else.
        Table scaled = table;
        std::vector<double> x(table.columns[1].numbers().begin(), table.columns[1].numbers().end());
        for (double& cell : x) {
            cell = 1000.0 * cell + 5e4;
        }
        scaled.columns[1] = Column::ofNumbers("x", x);
        const Answer units = answer(scaled, levelled("poisson", {{"g", {"x"}}}));
        const Answer plain = answer(table, levelled("poisson", {{"g", {"x"}}}));
        QVERIFY2(!units.refusal, units.refusal ? units.refusal->text().c_str() : "");
        AGREE("likelihood", *units.fit->statistics.logLikelihood,
              *plain.fit->statistics.logLikelihood, 1e-9);
        AGREE_FROM(0.1, "effect", 1000.0 * units.fit->coefficients[1].estimate,
                   plain.fit->coefficients[1].estimate, 1e-5);
    }

    /// The ends of a spread’s interval are where the profile has risen by the chi-square.
    void intervalsAreOfTheProfile() {
        const Table table = grouped(true, 30, 12, 1.0, 21);
        const Answer a = answer(table, levelled("logit", {{"g"}}, 7));
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const auto& v = a.fit->levels->levels[0].variances[0];
        QVERIFY(v.low && v.high);
        QVERIFY(*v.low < v.variance && v.variance < *v.high);
        std::vector<std::vector<std::int32_t>> ids;
        LevelLikelihood::Data data = dataOf(table, true, 7, false, false, ids);
        data.X.conservativeResize(Eigen::NoChange, 3);
        for (Index i = 0; i < data.X.rows(); ++i) {
            data.X(i, 2) = table.columns[2].numbers()[static_cast<std::size_t>(i)];
        }
        const LevelLikelihood likelihood(std::move(data));
        for (const double end : {*v.low, *v.high}) {
            const MatrixXd factor = MatrixXd::Constant(1, 1, std::sqrt(end));
            VectorXd b(3);
            for (Index k = 0; k < 3; ++k) {
                b(k) = a.fit->coefficients[static_cast<std::size_t>(k)].estimate;
            }
            // Newton on the exact slope, its curvature by differences.
            for (int step = 0; step < 8; ++step) {
                MatrixXd curve(3, 3);
                for (Index j = 0; j < 3; ++j) {
                    VectorXd up = b;
                    VectorXd down = b;
                    up(j) += 1e-4;
                    down(j) -= 1e-4;
                    curve.col(j) = (likelihood.look(up, {factor}, true).slope -
                                    likelihood.look(down, {factor}, true).slope) /
                                   2e-4;
                }
                b -= curve.ldlt().solve(likelihood.look(b, {factor}, true).slope);
            }
            AGREE("rise", likelihood.look(b, {factor}, false).deviance - a.fit->levels->deviance,
                  3.841458820694124, 1e-5);
        }
    }

    void groupsAreReadAndChecked() {
        const Table table = grouped(true, 24, 15, 1.0, 4);
        Question q = levelled("logit", {{"g"}});
        q.allChecks = true;
        q.effects = {{"x"}};
        q.predict = {{{{"x", Key(1.0)}}}};
        const Answer a = answer(table, q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const LevelsFit& fit = *a.fit->levels;
        const double variance = fit.levels[0].variances[0].variance;
        AGREE("share", fit.levels[0].share,
              variance / (variance + std::numbers::pi * std::numbers::pi / 3.0), 1e-12);
        QCOMPARE(fit.levels[0].effects.rows(), Index{24});
        QVERIFY((fit.levels[0].errors.array() > 0.0).all());
        QVERIFY(a.effects[0].has_value());
        QVERIFY(a.predictions.has_value());
        const double mean = (*a.predictions)[0].mean.value;
        QVERIFY(mean > 0.0 && mean < 1.0);
        const auto check = [&](const std::string& id) {
            return *std::find_if(a.checks.begin(), a.checks.end(),
                                 [&](const CheckResult& c) { return c.id == id; });
        };
        const CheckResult part = check("random-part");
        AGREE("rise", *part.statistic, fit.devianceWithout - fit.deviance, 1e-9);
        QVERIFY(part.verdict == Verdict::Fine);
        const auto hold = std::find_if(part.remedies.begin(), part.remedies.end(),
                                       [](const Remedy& r) { return r.label == "Hold g fixed"; });
        QVERIFY(hold != part.remedies.end());
        QCOMPARE(hold->variant.method, std::string("conditional-logit"));
        QVERIFY(check("within-between").verdict != Verdict::NotApplicable);
        QVERIFY(check("few-groups").verdict == Verdict::Weigh);
        QVERIFY(check("reset").verdict == Verdict::NotApplicable);
        const std::string reading = explainReading(a);
        QVERIFY2(reading.find("of log odds") != std::string::npos, reading.c_str());
        QVERIFY(reading.find("those within a group") != std::string::npos);
        QVERIFY(explainMethods(a).find("Pinheiro & Bates 1995") != std::string::npos);
        QVERIFY(methodText(q).find("on log odds") != std::string::npos);
        Study study;
        const auto told = resultsJson(study, {a}).at("answers")[0];
        QVERIFY(told.at("fit").at("restricted") == false);
        QVERIFY(told.at("fit").at("points") == 9);
        AGREE("without", told.at("fit").at("log_likelihood_without").get<double>(),
              -0.5 * fit.devianceWithout, 1e-12);
        QVERIFY((*a.predictions)[0].warnings.back().find("group at the middle") !=
                std::string::npos);
        QVERIFY(reading.find("–") == std::string::npos);  // Every number it tells exists.
        QVERIFY(told.at("levels")[0].at("groups") == 24);
        // Of counts no share of a variance is told.
        const Table counts = grouped(false, 20, 8, 0.7, 6);
        const Answer c = answer(counts, levelled("poisson", {{"g"}, {"h"}}));
        QVERIFY2(!c.refusal, c.refusal ? c.refusal->text().c_str() : "");
        QCOMPARE(c.fit->levels->points, 1);
        QVERIFY(std::isnan(c.fit->levels->levels[0].share));
        QVERIFY(explainReading(c).find("Laplace’s approximation") != std::string::npos);
        QVERIFY(resultsJson(study, {c}).at("answers")[0].at("share_between").at("g").is_null());
    }

    void whatCannotBeIsRefused() {
        Table table = grouped(false, 8, 5, 0.5, 7);
        const auto says = [&](const Question& q, const char* part) {
            const Answer a = answer(table, q);
            return a.refusal && a.refusal->text().find(part) != std::string::npos;
        };
        QVERIFY(says(levelled("logit", {{"g"}}), "y"));  // Counts are no yes or no.
        Question weighted = levelled("poisson", {{"g"}});
        weighted.weightKind = WeightKind::Precision;
        weighted.weight = "z";
        QVERIFY(says(weighted, "take no weights"));
        QVERIFY(says(levelled("poisson", {{"g", {"x", "z"}}}, 50), "too many"));
        Question robust = levelled("poisson", {{"g"}});
        robust.errors.kind = "robust";
        QVERIFY(says(robust, "those of the model itself"));
    }
};

QTEST_APPLESS_MAIN(LevelOutcomesTest)
#include "level_outcomes_test.moc"
