// Random effects of groups: dense matrices as a second route (tests/reference/
// make_levels_reference.py), closed forms, properties, the truth of the demo, refusals, words.
#include "core/checks/groups_picture.h"
#include "core/model/multilevel.h"
#include "core/numerics/nested_effects.h"
#include "core/report/cause_reading.h"
#include "core/report/request_wording.h"
#include "core/report/results_table.h"
#include "core/report/wording.h"
#include "core/study/kept.h"
#include "core/study/results.h"
#include "core/study/sources.h"
#include "tests/core/levels_reference.h"

#include <QTest>

#include <numeric>
#include <random>

using namespace rapporto;
using namespace rapporto::test;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

Question levelled(const std::string& outcome, const std::vector<std::string>& terms,
                  std::vector<LevelSpec> levels) {
    Question q = explain(outcome, terms);
    q.method = "multilevel";
    q.settings.levels = std::move(levels);
    return q;
}

/// n groups of `size` rows: a constant of spread u, rows of spread one.
Table balanced(int groups, int size, double u, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal;
    std::map<std::string, std::vector<double>> columns;
    for (int g = 0; g < groups; ++g) {
        const double level = u * normal(random);
        for (int i = 0; i < size; ++i) {
            const double x = normal(random);
            columns["g"].push_back(g);
            columns["x"].push_back(x);
            columns["y"].push_back(1.0 + 0.5 * x + level + normal(random));
        }
    }
    return tableOf({{"y", columns["y"]}, {"x", columns["x"]}, {"g", columns["g"]}});
}

double sumOf(const VectorXd& x) { return x.sum(); }

}  // namespace

class LevelsTest : public QObject {
    Q_OBJECT

  private slots:

    void everyNumberIsThatOfDenseMatrices() {
        for (const json& one : levelsReference().at("cases")) {
            const Table table =
                tableFrom(levelsReference().at("data").at(one.at("data").get<std::string>()));
            const Question q = questionOfLevels(one);
            const std::string name =
                one.at("data").get<std::string>() + " " + q.settings.likelihood;
            const Answer a = answer(table, q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const LevelsFit& fit = *a.fit->levels;
            AGREE(name + " sigma", a.fit->statistics.sigma, number(one.at("sigma")), 1e-8);
            AGREE(name + " likelihood", *a.fit->statistics.logLikelihood,
                  number(one.at("log_likelihood")), 1e-10);
            for (std::size_t k = 0; k < 3; ++k) {
                AGREE(name + " b", a.fit->coefficients[k].estimate, number(one.at("b")[k]), 1e-8);
                AGREE(name + " se", a.fit->coefficients[k].se, number(one.at("se")[k]), 1e-7);
                if (one.contains("satterthwaite")) {
                    AGREE(name + " df", *a.fit->coefficients[k].df,
                          number(one.at("satterthwaite")[k]), 2e-5);
                }
            }
            if (one.contains("f")) {
                AGREE(name + " F", a.fit->statistics.f->value, number(one.at("f")[0]), 1e-6);
                AGREE(name + " F df", a.fit->statistics.f->df2, number(one.at("f")[1]), 2e-5);
            }
            for (std::size_t l = 0; l < fit.levels.size(); ++l) {
                const json& G = one.at("covariances")[l];
                for (Eigen::Index i = 0; i < fit.levels[l].covariance.rows(); ++i) {
                    for (Eigen::Index j = 0; j < fit.levels[l].covariance.rows(); ++j) {
                        AGREE(name + " G", fit.levels[l].covariance(i, j),
                              number(G[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)]),
                              1e-6);
                    }
                }
                AGREE(name + " share", fit.levels[l].share, number(one.at("shares")[l]), 1e-6);
                const json& effects = one.at("effects")[l];
                for (std::size_t g = 0; g < effects.size(); ++g) {
                    for (std::size_t c = 0; c < effects[g].size(); ++c) {
                        const auto row = static_cast<Eigen::Index>(g);
                        const auto column = static_cast<Eigen::Index>(c);
                        AGREE_FROM(0.1, name + " effect", fit.levels[l].effects(row, column),
                                   number(effects[g][c]), 1e-6);
                        AGREE_FROM(0.1, name + " error", fit.levels[l].errors(row, column),
                                   number(one.at("errors")[l][g][c]), 1e-6);
                    }
                }
            }
            QCOMPARE(fit.levels[0].variances[0].atBoundary, one.at("boundary").get<bool>());
        }
    }

    void intervalsAreThoseOfTheProfile() {
        for (const json& one : levelsReference().at("cases")) {
            if (!one.contains("profiles")) {
                continue;
            }
            const Answer a = answer(
                tableFrom(levelsReference().at("data").at(one.at("data").get<std::string>())),
                questionOfLevels(one));
            std::size_t at = 0;
            for (const LevelsFit::Level& level : a.fit->levels->levels) {
                for (const LevelsFit::Variance& v : level.variances) {
                    const json& ends = one.at("profiles")[at++];
                    // The script searches ln sd: an end at nothing it does not find.
                    if (ends[0].is_null()) {
                        QVERIFY(*v.low < 1e-4 * std::max(v.variance, 1e-3));
                    } else {
                        AGREE("low", std::sqrt(*v.low), std::exp(number(ends[0])), 1e-5);
                    }
                    AGREE("high", std::sqrt(*v.high), std::exp(number(ends[1])), 1e-5);
                }
                for (const LevelsFit::Correlation& r : level.correlations) {
                    const json& ends = one.at("profiles")[at++];
                    AGREE("low r", *r.low, ends[0].is_null() ? -1.0 : std::tanh(number(ends[0])),
                          1e-5);
                    AGREE("high r", *r.high, ends[1].is_null() ? 1.0 : std::tanh(number(ends[1])),
                          1e-5);
                }
            }
        }
    }

    void kenwardAndRogerAreTheirPrintedFormulas() {
        std::size_t looked = 0;
        for (const json& one : levelsReference().at("cases")) {
            if (!one.contains("kenward_roger") || one.at("boundary").get<bool>()) {
                continue;
            }
            Question q = questionOfLevels(one);
            q.settings.lawOfEffects = "kenward-roger";
            const Answer a = answer(
                tableFrom(levelsReference().at("data").at(one.at("data").get<std::string>())), q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const json& expected = one.at("kenward_roger");
            for (std::size_t k = 0; k < 3; ++k) {
                AGREE("se", a.fit->coefficients[k].se, number(expected.at("se")[k]), 1e-6);
                AGREE("df", *a.fit->coefficients[k].df, number(expected.at("df")[k]), 1e-6);
            }
            AGREE("F", a.fit->statistics.f->value, number(expected.at("f")[0]), 1e-6);
            AGREE("F df", a.fit->statistics.f->df2, number(expected.at("f")[1]), 1e-6);
            ++looked;
        }
        QVERIFY(looked >= 4);
    }

    /// Balanced groups and no terms: the variances are those of the analysis of variance, the
    /// constant has groups − 1 degrees of freedom (Searle, Casella & McCulloch 1992).
    void balancedGroupsAreAClosedForm() {
        const int groups = 12;
        const int size = 5;
        const Table table = balanced(groups, size, 0.9, 4);
        const auto y = table.columns[0].numbers();
        double mean = 0.0;
        std::vector<double> means(groups, 0.0);
        for (std::size_t i = 0; i < y.size(); ++i) {
            mean += y[i] / static_cast<double>(y.size());
            means[i / size] += y[i] / size;
        }
        double between = 0.0;
        double within = 0.0;
        for (std::size_t i = 0; i < y.size(); ++i) {
            between += (means[i / size] - mean) * (means[i / size] - mean);
            within += (y[i] - means[i / size]) * (y[i] - means[i / size]);
        }
        const double msb = between / (groups - 1);
        const double msw = within / (groups * (size - 1));
        const Answer a = answer(table, levelled("y", {}, {{"g"}}));
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const LevelsFit::Level& level = a.fit->levels->levels[0];
        AGREE("within", a.fit->statistics.sigma * a.fit->statistics.sigma, msw, 1e-9);
        AGREE("between", level.variances[0].variance, (msb - msw) / size, 1e-8);
        AGREE("se", a.fit->coefficients[0].se, std::sqrt(msb / (groups * size)), 1e-9);
        AGREE("df", *a.fit->coefficients[0].df, groups - 1.0, 1e-6);
        // A group keeps size·τ²/(size·τ² + σ²) of its own departure.
        const double kept = 1.0 - msw / msb;
        AGREE("kept", level.smallest, kept, 1e-8);
        for (int g = 0; g < groups; ++g) {
            AGREE_FROM(0.1, "effect", level.effects(g, 0),
                       kept * (means[static_cast<std::size_t>(g)] - mean), 1e-8);
        }
        // Without the groups: −2 ln of the restricted likelihood of a mean.
        const double n = groups * size;
        const double s2 = (between + within) / (n - 1.0);
        AGREE("without", a.fit->levels->devianceWithout,
              (n - 1.0) * (std::log(2.0 * M_PI * s2) + 1.0) + std::log(n), 1e-10);
    }

    void slopesOfTheLikelihoodAreItsDifferences() {
        std::mt19937 random(17);
        std::normal_distribution<double> normal;
        const int n = 120;
        std::vector<std::int32_t> inner(n);
        std::vector<std::int32_t> middle(n);
        std::vector<std::int32_t> outer(n);
        MatrixXd X(n, 3);
        MatrixXd Z(n, 2);
        VectorXd y(n);
        VectorXd w(n);
        for (int i = 0; i < n; ++i) {
            inner[static_cast<std::size_t>(i)] = i / 4;
            middle[static_cast<std::size_t>(i)] = i / 12;
            outer[static_cast<std::size_t>(i)] = i / 40;
            X.row(i) << 1.0, normal(random), normal(random);
            Z.row(i) << 1.0, X(i, 1);
            y(i) = normal(random) + 0.3 * (i / 12);
            w(i) = 0.5 + std::abs(normal(random));
        }
        // i / 12 and i / 40 do not nest: the middle ones are cut at the outer’s ends.
        for (int i = 0; i < n; ++i) {
            middle[static_cast<std::size_t>(i)] = (i / 40) * 4 + (i % 40) / 12;
        }
        const Eigen::HouseholderQR<MatrixXd> qr(w.cwiseSqrt().asDiagonal() * X);
        const MatrixXd Q = w.cwiseSqrt().cwiseInverse().asDiagonal() *
                           (qr.householderQ() * MatrixXd::Identity(n, 3));
        for (auto& id : inner) {
            id = std::min(id, std::int32_t{29});
        }
        for (int i = 0; i < n; ++i) {
            inner[static_cast<std::size_t>(i)] =
                middle[static_cast<std::size_t>(i)] * 6 + (i % 12) / 2;
        }
        const NestedEffects model(Q, y,
                                  {{inner, 12 * 6, Z},
                                   {middle, 12, MatrixXd::Ones(n, 1)},
                                   {outer, 3, MatrixXd::Ones(n, 1)}},
                                  w);
        std::vector<MatrixXd> factors = {MatrixXd::Zero(2, 2), MatrixXd::Constant(1, 1, 0.7),
                                         MatrixXd::Constant(1, 1, 0.4)};
        factors[0] << 0.6, 0.1, -0.2, 0.5;
        for (const bool restricted : {true, false}) {
            for (const double variance : {0.0, 1.3}) {
                const NestedEffects::Aim aim{restricted, variance};
                const auto here = model.look(factors, aim, true);
                for (std::size_t l = 0; l < factors.size(); ++l) {
                    for (Eigen::Index k = 0; k < factors[l].size(); ++k) {
                        constexpr double kStep = 1e-5;
                        auto up = factors;
                        auto down = factors;
                        up[l].data()[k] += kStep;
                        down[l].data()[k] -= kStep;
                        const double moved = (model.value(model.look(up, aim, false), aim) -
                                              model.value(model.look(down, aim, false), aim)) /
                                             (2.0 * kStep);
                        AGREE_FROM(1.0, "slope", here.slopes[l].data()[k], moved, 1e-7);
                    }
                }
                // The value itself, from dense matrices.
                MatrixXd V = MatrixXd(w.cwiseInverse().asDiagonal());
                for (int i = 0; i < n; ++i) {
                    for (int j = 0; j < n; ++j) {
                        const auto a = static_cast<std::size_t>(i);
                        const auto b = static_cast<std::size_t>(j);
                        if (inner[a] == inner[b]) {
                            V(i, j) += (Z.row(i) * factors[0]).dot(Z.row(j) * factors[0]);
                        }
                        V(i, j) += middle[a] == middle[b] ? 0.49 : 0.0;
                        V(i, j) += outer[a] == outer[b] ? 0.16 : 0.0;
                    }
                }
                const Eigen::LLT<MatrixXd> triangle(V);
                const MatrixXd P = Q.transpose() * triangle.solve(Q);
                const VectorXd e = y - Q * P.ldlt().solve(Q.transpose() * triangle.solve(y));
                AGREE("squares", here.squares, e.dot(triangle.solve(e)), 1e-10);
                AGREE("ln|V|", here.logDet - w.array().log().sum(),
                      2.0 * triangle.matrixLLT().diagonal().array().log().sum(), 1e-10);
                AGREE("ln|P|", here.logPrecision, std::log(P.determinant()), 1e-9);
            }
        }
    }

    void orderUnitsAndNamesDoNotMatter() {
        const Table table = tableFrom(levelsReference().at("data").at("slope"));
        const Question q = levelled("y", {"x", "z"}, {{"g", {"x"}}});
        const Answer plain = answer(table, q);
        std::vector<std::size_t> order(table.rows());
        std::iota(order.begin(), order.end(), 0U);
        std::shuffle(order.begin(), order.end(), std::mt19937(2));
        std::vector<std::pair<std::string, std::vector<double>>> turned;
        for (const Column& column : table.columns) {
            std::vector<double> cells;
            for (const std::size_t i : order) {
                const double v = column.numbers()[i];
                cells.push_back(column.name() == "y"   ? 1000.0 * v
                                : column.name() == "x" ? 5.0 + 0.01 * v
                                : column.name() == "g" ? 700.0 - 3.0 * v
                                                       : v);
            }
            turned.emplace_back(column.name(), std::move(cells));
        }
        const Answer other = answer(tableOf(turned), q);
        QVERIFY2(!other.refusal, other.refusal ? other.refusal->text().c_str() : "");
        AGREE("sigma", other.fit->statistics.sigma, 1000.0 * plain.fit->statistics.sigma, 1e-8);
        AGREE("x", other.fit->coefficients[1].estimate, 1e5 * plain.fit->coefficients[1].estimate,
              1e-7);
        AGREE("df", *other.fit->coefficients[1].df, *plain.fit->coefficients[1].df, 1e-5);
        AGREE("slope", other.fit->levels->levels[0].variances[1].variance,
              1e10 * plain.fit->levels->levels[0].variances[1].variance, 1e-6);
        AGREE("share", other.fit->levels->levels[0].share, plain.fit->levels->levels[0].share,
              1e-6);
        AGREE("high", *other.fit->levels->levels[0].variances[1].high,
              1e10 * *plain.fit->levels->levels[0].variances[1].high, 1e-5);
        // Levels named the other way round are the same levels.
        const Table nested = tableFrom(levelsReference().at("data").at("nested"));
        const std::size_t n = nested.rows();
        std::vector<double> pair(n);
        for (std::size_t i = 0; i < n; ++i) {
            pair[i] =
                100.0 * nested.columns[static_cast<std::size_t>(nested.find("k"))].numbers()[i] +
                nested.columns[static_cast<std::size_t>(nested.find("g"))].numbers()[i];
        }
        Table named = nested;
        named.columns.push_back(Column::ofNumbers("village", pair));
        Variable variable;
        variable.name = "village";
        named.variables.push_back(variable);
        const Answer inward = answer(named, levelled("y", {"x"}, {{"village"}, {"k"}}));
        const Answer outward = answer(named, levelled("y", {"x"}, {{"k"}, {"village"}}));
        const Answer byPair = answer(named, levelled("y", {"x"}, {{"g"}, {"k"}}));
        for (const Answer* one : {&outward, &byPair}) {
            QVERIFY(!one->refusal);
            AGREE("likelihood", *one->fit->statistics.logLikelihood,
                  *inward.fit->statistics.logLikelihood, 1e-12);
            QCOMPARE(one->fit->levels->levels[0].labels.size(),
                     inward.fit->levels->levels[0].labels.size());
        }
        QCOMPARE(outward.fit->levels->levels[0].by, std::string("village"));
    }

    /// A correlation whose interval ends on this side of one, on both sides.
    void anIntervalOfACorrelationHolds() {
        std::mt19937 random(40);
        std::normal_distribution<double> normal;
        std::map<std::string, std::vector<double>> columns;
        for (int g = 0; g < 80; ++g) {
            const double a = normal(random);
            const double b = 0.5 * a + 0.8 * normal(random);
            for (int i = 0; i < 12; ++i) {
                const double x = normal(random);
                columns["g"].push_back(g);
                columns["x"].push_back(x);
                columns["y"].push_back(a + (1.0 + b) * x + 0.7 * normal(random));
            }
        }
        const Table table =
            tableOf({{"y", columns["y"]}, {"x", columns["x"]}, {"g", columns["g"]}});
        const Answer a = answer(table, levelled("y", {"x"}, {{"g", {"x"}}}));
        const LevelsFit::Correlation& r = a.fit->levels->levels[0].correlations[0];
        QVERIFY(*r.low > 0.1 && *r.low < *r.value && *r.value < *r.high && *r.high < 0.9);
        // Fisher’s z of 80 pairs, a little wider for what is not seen of them.
        const double reach = std::atanh(*r.high) - std::atanh(*r.value);
        QVERIFY(reach > 1.96 / std::sqrt(77.0) && reach < 1.4 * 1.96 / std::sqrt(77.0));
        // Apart they have none.
        Question apart = levelled("y", {"x"}, {{"g", {"x"}, "diagonal"}});
        const Answer b = answer(table, apart);
        QVERIFY(b.fit->levels->levels[0].correlations.empty());
        QVERIFY(*b.fit->statistics.logLikelihood < *a.fit->statistics.logLikelihood);
    }

    void theDemosVillagesAreFound() {
        const auto truth = readJson("demo/truth.json").at("ln_revenue");
        const std::string demo = std::string(RAPPORTO_SOURCE_DIR) + "/demo";
        auto study = readStudyFile(demo + "/calvessa.rapporto");
        QVERIFY(study.has_value());
        Question q = levelled("ln(revenue_fl)",
                              {"member", "hives", "irrigated", "ln(orchard_ha)", "schooling_years",
                               "slope_pct", "zone"},
                              {{"village"}});
        q.id = "levels";
        study->questions = {q};
        const auto sources = readSources(*study, demo, true, Job());
        QVERIFY(sources.has_value());
        const Frame frame = makeFrame(*study, *sources);
        const Answer a = answerQuestion(*study, frame, q, Job());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const LevelsFit::Variance& v = a.fit->levels->levels[0].variances[0];
        const double sd = truth.at("sd_village").get<double>();
        QVERIFY2(std::sqrt(*v.low) < sd && sd < std::sqrt(*v.high),
                 std::to_string(std::sqrt(v.variance)).c_str());
        QCOMPARE(a.fit->levels->levels[0].labels.size(), std::size_t{48});
    }

    void whatCannotBeIsRefusedInWords() {
        const Table table = balanced(8, 4, 0.5, 9);
        const auto refusal = [&](Question q) {
            const Answer a = answer(table, q);
            return a.refusal ? a.refusal->text() : std::string("none");
        };
        const Question sound = levelled("y", {"x"}, {{"g"}});
        QCOMPARE(refusal(sound), std::string("none"));
        Question q = sound;
        q.settings.levels.clear();
        QVERIFY(refusal(q).find("no grouping says") != std::string::npos);
        q = sound;
        q.errors = ErrorSpec{"robust", "HC1", {}};
        QVERIFY(refusal(q).find("those of the model itself") != std::string::npos);
        q = sound;
        q.errors.kind = "bootstrap";
        QVERIFY(refusal(q).find("those of the model itself") != std::string::npos);
        q = sound;
        q.weightKind = WeightKind::Sampling;
        q.weight = "1 + 0 * x";
        QVERIFY(refusal(q).find("one weight a row does not tell") != std::string::npos);
        q = sound;
        q.fixedEffects = {"g"};
        QVERIFY(refusal(q).find("either held fixed or taken as random") != std::string::npos);
        q = sound;
        q.settings.levels = {{"x"}};
        QVERIFY(refusal(q).find("every row is a group") != std::string::npos);
        q.settings.levels = {{"0 * x"}};
        QVERIFY(refusal(q).find("one group") != std::string::npos);
        q.settings.levels = {{"g"}, {"g + 1"}};
        QVERIFY2(refusal(q).find("cannot be told apart") != std::string::npos, refusal(q).c_str());
        q.settings.levels = {{"g", {"0 * x"}}};
        QVERIFY(refusal(q).find("does not vary") != std::string::npos);
        q = sound;
        q.settings.likelihood = "full";
        q.settings.lawOfEffects = "kenward-roger";
        QVERIFY(refusal(q).find("restricted likelihood") != std::string::npos);
        Question exact = levelled("2 * x", {"x"}, {{"g"}});
        QVERIFY(refusal(exact).find("tell the outcome exactly") != std::string::npos);
    }

    void checksOfGroupsSpeak() {
        // Groups that differ, and bring their terms along: Mundlak’s test has something to say.
        std::mt19937 random(77);
        std::normal_distribution<double> normal;
        std::map<std::string, std::vector<double>> columns;
        for (int g = 0; g < 40; ++g) {
            const double level = normal(random);
            for (int i = 0; i < 6; ++i) {
                const double x = normal(random) + 0.9 * level;
                columns["g"].push_back(g);
                columns["x"].push_back(x);
                columns["y"].push_back(0.5 * x + level + normal(random));
            }
        }
        const Table table =
            tableOf({{"y", columns["y"]}, {"x", columns["x"]}, {"g", columns["g"]}});
        Question q = levelled("y", {"x"}, {{"g"}});
        q.allChecks = true;
        const Answer a = answer(table, q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const CheckResult& part = check(a, "random-part");
        QCOMPARE(part.verdict, Verdict::Fine);
        // Half and half of nothing and one degree.
        AGREE("p", *part.p,
              0.5 * std::erfc(std::sqrt(
                        0.5 *
                        std::max(a.fit->levels->devianceWithout - a.fit->levels->deviance, 0.0))),
              1e-6);
        const CheckResult& mundlak = check(a, "within-between");
        QCOMPARE(mundlak.verdict, Verdict::Fails);
        QVERIFY(mundlak.remedies.size() == 3);
        for (const Remedy& remedy : mundlak.remedies) {
            const Answer tried = answer(table, remedy.variant);
            QVERIFY2(!tried.refusal, tried.refusal ? tried.refusal->text().c_str() : "");
        }
        // With the means among the terms the effect within is that of groups held fixed.
        const Answer means = answer(table, mundlak.remedies[0].variant);
        const Answer fixed = answer(table, mundlak.remedies[1].variant);
        AGREE("within", coefficient(means, "x")->estimate, coefficient(fixed, "x")->estimate, 1e-8);
        QCOMPARE(check(means, "within-between").verdict, Verdict::NotApplicable);
        QCOMPARE(check(a, "few-groups").verdict, Verdict::Fine);
        QVERIFY(check(a, "groups-normal").p.has_value());
        QCOMPARE(check(a, "breusch-pagan").verdict, Verdict::NotApplicable);
        QVERIFY(check(a, "breusch-pagan").reading.find("groups stand") != std::string::npos);
        // Groups that are names alone.
        const Answer none = answer(tableFrom(levelsReference().at("data").at("none")),
                                   levelled("y", {"x"}, {{"g"}}));
        QCOMPARE(check(none, "random-part").verdict, Verdict::Weigh);
        QCOMPARE(*check(none, "random-part").p, 1.0);
        QCOMPARE(check(none, "few-groups").verdict, Verdict::Weigh);
        QCOMPARE(check(none, "few-groups").remedies[0].variant.settings.lawOfEffects,
                 std::string("kenward-roger"));
        QCOMPARE(check(none, "random-part").remedies[0].variant.method,
                 std::string("least-squares"));
    }

    void whatIsMissingIsToldOnce() {
        Table table = tableFrom(levelsReference().at("data").at("slope"));
        const auto at = static_cast<std::size_t>(table.find("x"));
        std::vector<double> x(table.columns[at].numbers().begin(),
                              table.columns[at].numbers().end());
        x[3] = x[8] = std::nan("");
        table.columns[at] = Column::ofNumbers("x", x);
        const Answer a = answer(table, levelled("y", {"x", "z"}, {{"g", {"x"}}}));
        QCOMPARE(a.rows.missing, std::size_t{2});
        QCOMPARE(a.rows.missingBy.size(), std::size_t{1});
        QCOMPARE(a.rows.missingBy[0].alone, std::size_t{2});
    }

    void wordsPicturesAndKeptEffects() {
        const Table table = tableFrom(levelsReference().at("data").at("slope"));
        const Question q = levelled("y", {"x", "z"}, {{"g", {"x"}}});
        const Answer a = answer(table, q);
        QCOMPARE(methodText(q), std::string("random effects of g (slope in x)"));
        const std::string reading = levelsReading(*a.fit->levels, 0.05);
        QVERIFY2(
            reading.find("% of the variance lies between the 26 groups of g") != std::string::npos,
            reading.c_str());
        QVERIFY(reading.find("The effect of x differs among them") != std::string::npos);
        const auto results = json::parse(resultsJson(Study{}, {a}).dump());
        const json& one = results.at("answers")[0];
        QCOMPARE(one.at("levels")[0].at("groups").get<int>(), 26);
        QCOMPARE(one.at("levels")[0].at("variances").size(), std::size_t{2});
        QCOMPARE(one.at("fit").at("restricted").get<bool>(), true);
        AGREE("share", one.at("share_between").at("g").get<double>(),
              a.fit->levels->levels[0].share, 1e-12);
        TableLook look;
        look.foot = {"groups", "share_between"};
        const ReportBlock table_ = resultsTable(Study{}, {{"", {{&a, "one", 0}}}}, look);
        QCOMPARE(table_.cells[table_.cells.size() - 2][1].text, std::string("26"));
        QCOMPARE(*table_.cells.back()[1].value, a.fit->levels->levels[0].share);
        const Exhibit picture = groupsExhibit(*a.design, *a.fit->levels, 0, 1, 0.05);
        QCOMPARE(picture.bars.size(), std::size_t{26});
        QCOMPARE(picture.xNames.size(), std::size_t{26});
        std::size_t rows = 0;
        double before = -1e300;
        for (std::size_t g = 0; g < picture.bars.size(); ++g) {
            rows += picture.bars[g].rows.size();
            QVERIFY(picture.lines[g].y[0] >= before);
            before = picture.lines[g].y[0];
        }
        QCOMPARE(rows, table.rows());
        // What is kept adds up: fitted values are terms, groups’ levels and slopes’ departures.
        const auto kept = keepables(a);
        QCOMPARE(kept.size(), std::size_t{4});
        std::vector<KeptColumn> columns;
        for (const Keepable& what : kept) {
            auto column = keptColumn(a, what, table.rows(), {}, Job());
            QVERIFY2(column, column ? "" : column.error().text().c_str());
            columns.push_back(*std::move(column));
        }
        for (std::size_t i = 0; i < table.rows(); ++i) {
            const double x = table.columns[static_cast<std::size_t>(table.find("x"))].numbers()[i];
            double sum = (*columns[2].values)[i] + x * (*columns[3].values)[i];
            for (const Coefficient& c : a.fit->coefficients) {
                sum += c.estimate * a.design->X(static_cast<Eigen::Index>(i), c.column);
            }
            AGREE_FROM(1.0, "fitted", (*columns[0].values)[i], sum, 1e-9);
        }
        AGREE_FROM(1.0, "effects sum", sumOf(a.fit->levels->levels[0].effects.col(0)) / 26.0, 0.0,
                   0.5);
    }

    void theStudyFileKeepsThem() {
        const std::string text =
            R"({"format": "rapporto-study", "version": 1, "source": {"kind": "table", "file": "t.csv"},
            "questions": [{"id": "q1", "kind": "explain", "outcome": "y", "terms": ["x"],
            "estimator": {"method": "multilevel", "likelihood": "full", "df": "normal", "levels":
            [{"by": "village", "slopes": ["hives"], "covariance": "diagonal"}, {"by": "zone"}]}}]})";
        const auto study = readStudyText(text);
        QVERIFY2(study, study ? "" : study.error().text().c_str());
        const Question& q = study->questions[0];
        QVERIFY2(!q.unbuilt, q.unbuilt ? q.unbuilt->text().c_str() : "");
        QCOMPARE(q.settings.levels.size(), std::size_t{2});
        QCOMPARE(q.settings.levels[0].covariance, std::string("diagonal"));
        QCOMPARE(q.settings.likelihood, std::string("full"));
        QVERIFY(readStudyText(studyText(*study))->questions[0].settings == q.settings);
        Study renamed = *study;
        renamed.derived.push_back({"hives", "trees", ""});
        const auto done = apply(renamed, {RenameDerived{"hives", "colonies"}, "rename"});
        QVERIFY(done.has_value());
        QCOMPARE(done->questions[0].settings.levels[0].slopes[0], std::string("colonies"));
        for (const char* bad : {R"("levels": [])", R"("levels": [{"slopes": ["x"]}])",
                                R"("levels": [{"by": "g"}], "likelihood": "some")",
                                R"("levels": [{"by": "g"}], "df": "none")",
                                R"("levels": [{"by": "g"}], "outcome": "gamma")",
                                R"("levels": [{"by": "g"}], "points": 0)",
                                R"("levels": [{"by": "g", "covariance": "free"}])"}) {
            const auto read = readStudyText(
                std::string(
                    R"({"format": "rapporto-study", "version": 1, "source": {"kind": "table",
                "file": "t.csv"}, "questions": [{"id": "q1", "kind": "explain", "outcome": "y",
                "terms": ["x"], "estimator": {"method": "multilevel", )") +
                bad + "}}]}");
            QVERIFY2(!read || read->questions[0].unbuilt, bad);
        }
    }
};

QTEST_APPLESS_MAIN(LevelsTest)
#include "levels_test.moc"
