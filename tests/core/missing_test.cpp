// Missing answers: Rubin’s rules and complete rows by a second route (tests/reference/
// make_missing_reference.py), sets redone from their own tables, laws of the draws, properties,
// refusals, the study file, what is told.
#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/defend/defence.h"
#include "core/impute/patterns.h"
#include "core/impute/pictures.h"
#include "core/impute/pooling.h"
#include "core/impute/ways.h"
#include "core/model/forecast.h"
#include "core/model/instruments.h"
#include "core/report/missing_wording.h"
#include "core/report/results_table.h"
#include "core/report/wording.h"
#include "core/study/known_sets.h"
#include "core/study/missing_answer.h"
#include "core/study/missing_proposal.h"
#include "core/study/missing_shift.h"
#include "core/study/results.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <numeric>
#include <random>
#include <thread>

using namespace rapporto;
using namespace rapporto::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

const json& reference() {
    static const json kReference = readJson("tests/reference/missing_reference.json");
    return kReference;
}

std::vector<double> numbers(const json& list) {
    std::vector<double> out;
    for (const json& one : list) {
        out.push_back(one.get<double>());
    }
    return out;
}

MatrixXd matrixIn(const json& rows) {
    MatrixXd out(static_cast<Index>(rows.size()), static_cast<Index>(rows[0].size()));
    for (Index i = 0; i < out.rows(); ++i) {
        for (Index j = 0; j < out.cols(); ++j) {
            out(i, j) =
                rows[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)].get<double>();
        }
    }
    return out;
}

std::optional<double> numberOrNone(const json& value) {
    return value.is_null() ? std::nullopt : std::optional(value.get<double>());
}

/// A table with gaps of every kind that hang on what is seen: quantities, a yes–no, plain and
/// ordered groups.
Study gappy(std::size_t n, unsigned seed, Table& table) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal;
    std::uniform_real_distribution<double> uniform;
    const double none = std::nan("");
    std::map<std::string, std::vector<double>> c;
    std::vector<std::int32_t> zone;
    for (std::size_t i = 0; i < n; ++i) {
        const double z = normal(random);
        const double x = 0.7 * z + normal(random);
        const double yes = uniform(random) < 1.0 / (1.0 + std::exp(-x)) ? 1.0 : 0.0;
        const double grade = std::floor(std::clamp(2.5 + x + normal(random), 1.0, 4.0));
        const auto place = static_cast<std::int32_t>(uniform(random) < 0.5 ? 0 : z > 0.0 ? 1 : 2);
        const double y = 1.0 + 0.5 * x - 0.4 * z + 0.8 * yes + 0.3 * grade + normal(random);
        const double gone = 1.0 / (1.0 + std::exp(1.4 - z));
        c["z"].push_back(z);
        c["count"].push_back(std::floor(20.0 * uniform(random)));
        c["x"].push_back(uniform(random) < gone ? none : x);
        c["yes"].push_back(uniform(random) < 0.5 * gone ? none : yes);
        c["grade"].push_back(uniform(random) < 0.4 * gone ? none : grade);
        c["y"].push_back(uniform(random) < 0.1 ? none : y);
        zone.push_back(uniform(random) < 0.3 * gone ? -1 : place);
    }
    table = tableOf({{"y", c["y"]},
                     {"x", c["x"]},
                     {"z", c["z"]},
                     {"yes", c["yes"]},
                     {"grade", c["grade"]},
                     {"count", c["count"]}});
    table.variables[3].measure = Measure::YesNo;
    table.variables[4].measure = Measure::OrderedGroups;
    table.variables[5].measure = Measure::Count;
    table.columns.push_back(Column::ofTexts("zone", zone, {"Ridge", "River flat", "Plain"}));
    Variable variable;
    variable.name = "zone";
    variable.measure = Measure::Groups;
    table.variables.push_back(variable);
    Study study;
    study.imputation.variables = {"x", "yes", "grade", "y", "zone"};
    study.imputation.with = {"z"};
    study.imputation.sets = 5;
    study.imputation.rounds = 4;
    study.derived = {{"square", "power(x, 2)", ""}, {"half", "y / 2", ""}};
    return study;
}

Frame frameOfStudy(const Study& study, const Table& table) {
    return Frame::make(table, study.variables, study.derived, study.sample, study.layout);
}

Question filled(const std::string& outcome, const std::vector<std::string>& terms) {
    Question q = explain(outcome, terms);
    q.missing = "imputed";
    return q;
}

Refusal refusalOf(const Study& study, const Table& table) {
    const auto sets = setsOf(study, frameOfStudy(study, table), Job());
    return sets ? Refusal{ErrorCode::NotBuilt, "none", "", "", {}} : sets.error();
}

/// Least squares of a set by the normal equations alone: estimates and variances.
std::pair<VectorXd, VectorXd> byHand(const Frame& frame, const std::vector<std::string>& names) {
    std::vector<std::size_t> rows;
    const VectorXd ones = VectorXd::Ones(static_cast<Index>(frame.rows()));
    MatrixXd X(ones.size(), static_cast<Index>(names.size()));
    X.col(0) = ones;
    VectorXd y(ones.size());
    for (Index i = 0; i < ones.size(); ++i) {
        const auto row = static_cast<std::size_t>(i);
        y(i) = frame.column(names[0])->numbers()[row];
        for (std::size_t k = 1; k < names.size(); ++k) {
            X(i, static_cast<Index>(k)) = frame.column(names[k])->numbers()[row];
        }
    }
    const MatrixXd inverse = (X.transpose() * X).inverse();
    const VectorXd b = inverse * (X.transpose() * y);
    const double s2 = (y - X * b).squaredNorm() / static_cast<double>(X.rows() - X.cols());
    return {b, s2 * inverse.diagonal()};
}

}  // namespace

class MissingTest : public QObject {
    Q_OBJECT

  private slots:

    void rulesAreThoseOfTheReference() {
        for (const json& one : reference().at("rules")) {
            const PooledNumber found =
                pooled(numbers(one.at("values")), numbers(one.at("variances")),
                       numberOrNone(one.at("complete")));
            const json& expected = one.at("pooled");
            AGREE("value", found.value, number(expected.at("value")), 1e-14);
            AGREE("within", found.within, number(expected.at("within")), 1e-14);
            AGREE("between", found.between, number(expected.at("between")), 1e-13);
            AGREE("variance", found.variance, number(expected.at("variance")), 1e-13);
            AGREE("fraction", found.fractionMissing, number(expected.at("fraction")), 1e-12);
            QCOMPARE(found.df.has_value(), !expected.at("df").is_null());
            if (found.df) {
                AGREE("df", *found.df, number(expected.at("df")), 1e-12);
            }
        }
        for (const json& one : reference().at("joints")) {
            const std::vector<double> d = numbers(one.at("d"));
            const auto found =
                pooledF(Eigen::Map<const VectorXd>(d.data(), static_cast<Index>(d.size())),
                        matrixIn(one.at("within")), matrixIn(one.at("between")),
                        one.at("sets").get<std::size_t>(), numberOrNone(one.at("complete")));
            QVERIFY(found.has_value());
            AGREE("F", found->value, number(one.at("f")), 1e-12);
            AGREE("df2", found->df2, number(one.at("df2")), 1e-11);
            AGREE("p", found->p, number(one.at("p")), 1e-10);
        }
    }

    void completeRowsAreThoseOfTheReference() {
        const json& expected = reference().at("weighted");
        Table table = tableFrom(reference().at("data"));
        table.variables[static_cast<std::size_t>(table.find("g"))].measure = Measure::Groups;
        Question q = explain("y", {"x", "z"});
        q.missing = "weighted";
        q.completeBy = {Term::expression("z"), Term::expression("g")};
        for (const char* name : {"plain", "sampling"}) {
            if (std::string(name) == "sampling") {
                q.weightKind = WeightKind::Sampling;
                q.weight = "w";
            }
            const Answer a = answer(table, q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            QCOMPARE(a.rows.used, expected.at(name).at("rows").get<std::size_t>());
            for (std::size_t k = 0; k < 3; ++k) {
                AGREE(name, a.fit->coefficients[k].estimate, number(expected.at(name).at("b")[k]),
                      1e-10);
                AGREE(name, a.fit->coefficients[k].se, number(expected.at(name).at("se")[k]), 1e-9);
            }
            for (std::size_t k = 0; k < 4; ++k) {
                AGREE("chance", a.fit->complete->coefficients[k].estimate,
                      number(expected.at("chance")[k]), 1e-10);
                AGREE("chance", a.fit->complete->coefficients[k].se,
                      number(expected.at("chance_se")[k]), 1e-8);
            }
        }
        // Errors are said as they are taken; those of the question’s own stay.
        QCOMPARE(answer(table, q).question.errors.shown(), std::string("robust (HC1)"));
        q.errors = ErrorSpec::clusteredBy("g");
        QCOMPARE(answer(table, q).question.errors.shown(), std::string("clustered by g"));
        q.weightKind = WeightKind::Frequency;
        QVERIFY(answer(table, q).refusal->text().find("sampling weights, and no others") !=
                std::string::npos);
        q.weightKind = WeightKind::None;
        q.outcome = "z";
        q.terms = {Term::expression("w")};
        q.completeBy = {Term::expression("g")};
        QVERIFY(answer(table, q).refusal->text().find("every row is complete") !=
                std::string::npos);
    }

    /// A level that is always complete: its chance is near one by the penalised logit, said so.
    void whoeverIsAlwaysCompleteStandsForHimself() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> g;
        for (int i = 0; i < 60; ++i) {
            g.push_back(i % 3);
            x.push_back(std::sin(i));
            y.push_back(g.back() > 0.0 && i % 4 == 1 ? std::nan("") : x.back() + std::cos(3.0 * i));
        }
        Table table = tableOf({{"y", y}, {"x", x}, {"g", g}});
        table.variables[2].measure = Measure::Groups;
        Question q = explain("y", {"x"});
        q.missing = "weighted";
        q.completeBy = {Term::expression("g")};
        const Answer a = answer(table, q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.rows.used, std::size_t{50});
        QVERIFY(a.fit->complete->penalised);
        QVERIFY(a.fit->complete->highestChance > 0.95 && a.fit->complete->highestChance < 1.0);
        QVERIFY(std::abs(a.fit->complete->lowestChance - 0.75) < 0.02);
        QVERIFY(explainReading(a).find("tells for certain") != std::string::npos);
    }

    /// Everything pooled is redone here from the tables of the sets.
    void pooledIsRedoneFromTheSets() {
        Table table;
        const Study study = gappy(300, 7, table);
        const Frame frame = frameOfStudy(study, table);
        const Question q = filled("y", {"x", "z", "square"});
        const Answer a = answerQuestion(study, frame, q, Job());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const auto sets = setsOf(study, frame, Job());
        QVERIFY(sets.has_value());
        std::vector<std::vector<double>> values(4);
        std::vector<std::vector<double>> variances(4);
        for (std::size_t s = 0; s < 5; ++s) {
            const Frame one = frameOfSet(study, frame, **sets, s);
            const auto [b, v] = byHand(one, {"y", "x", "z", "square"});
            for (std::size_t k = 0; k < 4; ++k) {
                values[k].push_back(b(static_cast<Index>(k)));
                variances[k].push_back(v(static_cast<Index>(k)));
            }
        }
        QCOMPARE(a.rows.used, std::size_t{300});
        for (std::size_t k = 0; k < 4; ++k) {
            const PooledNumber expected = pooled(values[k], variances[k], 296.0);
            const Coefficient& c = a.fit->coefficients[k];
            AGREE("estimate", c.estimate, expected.value, 1e-9);
            AGREE("se", c.se, std::sqrt(expected.variance), 1e-9);
            AGREE("df", *c.df, *expected.df, 1e-8);
            AGREE("covariance", a.fit->covariance(static_cast<Index>(k), static_cast<Index>(k)),
                  expected.variance, 1e-9);
            AGREE("fraction", a.fit->pooled->terms[k].fractionMissing, expected.fractionMissing,
                  1e-8);
        }
        QVERIFY(!a.fit->statistics.aic.has_value());
        QVERIFY(a.fit->statistics.rSquared.has_value());
        // The results file tells it.
        const auto told = resultsJson(study, {a}).at("answers")[0].at("imputation");
        QVERIFY(told.at("sets") == 5);
        QVERIFY(told.at("terms")[1].at("term") == "x");
        AGREE("within", told.at("terms")[1].at("within").get<double>(),
              std::accumulate(variances[1].begin(), variances[1].end(), 0.0) / 5.0, 1e-9);
        // How each variable was filled in stands in it, and in the paragraph on methods.
        QCOMPARE(told.at("variables").size(), (*sets)->variables.size());
        QVERIFY(told.at("rounds") == (*sets)->spec.rounds);
        const std::string methods = missingMethods(a);
        for (std::size_t v = 0; v < (*sets)->variables.size(); ++v) {
            const ImputedVariable& one = (*sets)->variables[v];
            const auto& entry = told.at("variables")[v];
            QVERIFY(entry.at("name") == one.name && entry.at("way") == one.way);
            QVERIFY(entry.at("filled") == one.rows.size());
            QCOMPARE(entry.at("settled").is_null(), !one.settled.has_value());
            QVERIFY2(methods.find(one.label + " by " + wayText(one.way)) != std::string::npos,
                     methods.c_str());
        }
        // Paths that lie apart are said where the answer is read.
        Answer apart = a;
        Fit fit = *a.fit;
        auto pooled = std::make_shared<PooledFit>(*fit.pooled);
        for (PooledFit::Filled& one : pooled->filled) {
            one.settled = 1.0;
        }
        pooled->filled.front().settled = 1.3;
        fit.pooled = pooled;
        apart.fit = std::make_shared<const Fit>(fit);
        const std::string warning =
            "The paths of " + joinedNames({pooled->filled.front().label}) + " still lie apart";
        QVERIFY2(missingReading(apart).find(warning) != std::string::npos,
                 missingReading(apart).c_str());
        pooled->filled.front().settled = 1.05;
        QVERIFY(missingReading(apart).find("still lie apart") == std::string::npos);
    }

    void requestsArePooledToo() {
        Table table;
        Study study = gappy(250, 3, table);
        const Frame frame = frameOfStudy(study, table);
        Question q = filled("y", {"x", "square", "zone"});
        q.hypotheses = {"x = 0.5", "zone = 0", "x > 0"};
        q.effects = {{"x"}};
        q.predict = {{{{"x", Key(0.0)}}}, {{{"x", Key(1.0)}}}};
        const Answer a = answerQuestion(study, frame, q, Job());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QVERIFY(a.predictions.has_value());
        QCOMPARE(a.predictions->size(), std::size_t{2});
        // x enters by its square too: at x = 0 its part is none, and at 1 both coefficients.
        const double apart = (*a.predictions)[1].mean.value - (*a.predictions)[0].mean.value;
        AGREE("step", apart, coefficient(a, "x")->estimate + coefficient(a, "square")->estimate,
              1e-9);
        AGREE("difference", (*a.predictions)[1].difference->value, apart, 1e-9);
        QVERIFY((*a.predictions)[0].rowHigh - (*a.predictions)[0].rowLow >
                (*a.predictions)[0].mean.high - (*a.predictions)[0].mean.low);
        QVERIFY(a.effects[0].has_value());
        QVERIFY(a.hypotheses[0].has_value() && a.hypotheses[1].has_value());
        const Coefficient& x = *coefficient(a, "x");
        AGREE("against a value", a.hypotheses[0]->statistic, (x.estimate - 0.5) / x.se, 1e-9);
        AGREE("df", *a.hypotheses[0]->df2, *x.df, 1e-8);
        AGREE("one-sided", a.hypotheses[2]->p, x.estimate > 0.0 ? *x.p / 2.0 : 1.0 - *x.p / 2.0,
              1e-9);
        QCOMPARE(a.hypotheses[1]->df1, 2.0);
        QVERIFY(a.hypotheses[1]->p > 0.0 && a.hypotheses[1]->p < 1.0);
        q.leftOut = LeftOutRequest{"x", {}, {1.0}};
        const Answer asked = answerQuestion(study, frame, q, Job());
        QVERIFY(!*asked.leftOut);
        QVERIFY(asked.leftOut->error().text().find("not of several sets") != std::string::npos);
        // What defends an effect is asked of rows, but for sizes, which hang on the pooled error.
        q.byLot = LotRequest{"x"};
        q.worstCases = WorstCaseRequest{"x"};
        q.planned = {{"x", 0.2}};
        q.forecast = ForecastRequest{};
        q.checks = {CheckRequest{"by-lot"}};
        const Answer defended = answerQuestion(study, frame, q, Job());
        QVERIFY(!*defended.defence->byLot && !*defended.defence->worstCases);
        QVERIFY(!*defended.forecast);
        const Planned& size = *defended.defence->planned.front();
        AGREE("rows", size.rows, std::ceil(size.rows), 1e-15);
        QVERIFY(size.here > 0.0 && size.here < 1.0);
        QCOMPARE(check(defended, "by-lot").verdict, Verdict::NotApplicable);
        QVERIFY(check(defended, "by-lot").reading.find("not of several sets") != std::string::npos);
    }

    void checksAreMadeOnEverySet() {
        Table table;
        const Study study = gappy(200, 9, table);
        const Frame frame = frameOfStudy(study, table);
        const Question q = filled("y", {"x", "z"});
        std::vector<std::size_t> seen;
        Making making{Job()};
        making.show = [&](const Answer& part) { seen.push_back(awaitedChecks(part)); };
        const Answer a = answerQuestion(study, frame, q, making);
        QVERIFY(!a.refusal);
        QCOMPARE(seen.size(), std::size_t{1});  // Estimates first, every check awaited.
        QCOMPARE(seen.front(), a.checks.size());
        const auto reset = std::find_if(a.checks.begin(), a.checks.end(),
                                        [](const CheckResult& c) { return c.id == "reset"; });
        QVERIFY(reset != a.checks.end());
        std::vector<double> ps;
        const auto sets = setsOf(study, frame, Job());
        for (std::size_t s = 0; s < 5; ++s) {
            Question rows = explain("y", {"x", "z"});
            rows.allChecks = false;
            rows.checks = {{"reset"}};
            const Answer one =
                answerQuestion(study, frameOfSet(study, frame, **sets, s), rows, Job());
            ps.push_back(*one.checks.front().p);
        }
        std::sort(ps.begin(), ps.end());
        AGREE("the middle one", *reset->p, ps[2], 1e-12);
        const auto detail = [&](const std::string& name) {
            const auto at = std::find_if(reset->details.begin(), reset->details.end(),
                                         [&](const auto& d) { return d.first == name; });
            return at == reset->details.end() ? std::nan("") : at->second;
        };
        QCOMPARE(detail("p lowest"), ps.front());
        QCOMPARE(detail("p highest"), ps.back());
        QCOMPARE(detail("sets"), 5.0);
        QVERIFY(reset->reading.find("the middle one: p runs from") != std::string::npos);
        for (const CheckResult& check : a.checks) {
            for (const Remedy& remedy : check.remedies) {
                QCOMPARE(remedy.variant.missing, std::string("imputed"));
            }
        }
    }

    void setsKeepWhatWasSeen() {
        Table table;
        const Study study = gappy(240, 21, table);
        const Frame frame = frameOfStudy(study, table);
        const auto sets = setsOf(study, frame, Job());
        QVERIFY(sets.has_value());
        QCOMPARE((*sets)->variables.size(), std::size_t{5});
        for (std::size_t s = 0; s < (*sets)->count(); ++s) {
            const Frame one = frameOfSet(study, frame, **sets, s);
            for (const std::string name : {"x", "yes", "grade", "y"}) {
                const auto before = frame.column(name)->numbers();
                const auto after = one.column(name)->numbers();
                std::set<double> known;
                for (std::size_t i = 0; i < before.size(); ++i) {
                    known.insert(before[i]);
                    QVERIFY(!std::isnan(after[i]));
                    QVERIFY(std::isnan(before[i]) || before[i] == after[i]);
                }
                // Matching takes answers that were given; levels stay levels.
                for (const double value : after) {
                    QVERIFY(known.contains(value));
                }
            }
            QCOMPARE(one.column("zone")->countMissing(), std::size_t{0});
            for (std::size_t i = 0; i < one.rows(); ++i) {
                const double x = one.column("x")->numbers()[i];
                QCOMPARE(one.column("square")->numbers()[i], x * x);
            }
        }
        // Sets differ from each other.
        QVERIFY((*sets)->find("x")->values.col(0) != (*sets)->find("x")->values.col(1));
        QVERIFY((*sets)->find("count") == nullptr);
    }

    void setsHangOnSeedAloneNotOnThreads() {
        Table table;
        Study study = gappy(150, 4, table);
        const Frame frame = frameOfStudy(study, table);
        setThreads(1);
        const auto alone = setsOf(study, frame, Job());
        setThreads(0);
        const auto together = setsOf(study, frame, Job());
        study.imputation.seed = 8;
        const auto other = setsOf(study, frame, Job());
        for (const ImputedVariable& one : (*alone)->variables) {
            QVERIFY(one.values == (*together)->find(one.name)->values);
            QVERIFY(one.values != (*other)->find(one.name)->values);
        }
        // The first sets are the same however many are asked for.
        study.imputation.seed.reset();
        study.imputation.sets = 3;
        const auto fewer = setsOf(study, frame, Job());
        QVERIFY((*fewer)->find("x")->values == (*alone)->find("x")->values.leftCols(3));
    }

    /// Units of what is foretold and of what foretells change nothing.
    void unitsChangeNothing() {
        Table table;
        Study study = gappy(160, 5, table);
        study.imputation.by["x"] = "normal";
        const auto plain = setsOf(study, frameOfStudy(study, table), Job());
        Table scaled = table;
        std::vector<double> cells(table.columns[1].numbers().begin(),
                                  table.columns[1].numbers().end());
        for (double& cell : cells) {
            cell = 1000.0 * cell + 50000.0;
        }
        scaled.columns[1] = Column::ofNumbers("x", cells);
        const auto other = setsOf(study, frameOfStudy(study, scaled), Job());
        const MatrixXd& a = (*plain)->find("x")->values;
        const MatrixXd& b = (*other)->find("x")->values;
        QVERIFY(((b.array() - 50000.0) / 1000.0 - a.array()).abs().maxCoeff() < 1e-6);
        QVERIFY((*plain)->find("zone")->values == (*other)->find("zone")->values);
    }

    void onlyRowsOfTheSampleAreFilled() {
        Table table;
        Study study = gappy(200, 6, table);
        study.sample.where = "z > 0";
        study.sample.setAside = {{1, "odd"}};
        const Frame frame = frameOfStudy(study, table);
        const auto sets = setsOf(study, frame, Job());
        QVERIFY(sets.has_value());
        for (const ImputedVariable& one : (*sets)->variables) {
            for (const std::size_t row : one.rows) {
                QVERIFY(frame.states()[row] == RowState::In);
            }
        }
        const Frame filledOne = frameOfSet(study, frame, **sets, 0);
        QVERIFY(filledOne.states() == frame.states());
        QVERIFY(filledOne.column("x")->countMissing() > 0);
    }

    /// A value that is told to be read as another is not read so twice.
    void whatIsReadAsAnotherIsReadOnce() {
        Table table = tableOf({{"g", {1, 2, 2, 1, std::nan(""), 1, 2, 2, 1, 2, 1, 2}},
                               {"x", {1, 2, 3, 2, 1, 3, 2, 4, 3, 1, 2, 3}}});
        table.variables[0].measure = Measure::Groups;
        Study study;
        VariableEntry entry;
        entry.name = "g";
        entry.readAs = std::vector<ReadAs>{{Key(1.0), Key(2.0)}, {Key(2.0), Key(3.0)}};
        study.variables = {entry};
        const Frame frame = frameOfStudy(study, table);
        const Frame again = frame.filled({}, study.variables, study.derived);
        const auto before = frame.column("g")->numbers();
        const auto after = again.column("g")->numbers();
        for (std::size_t i = 0; i < before.size(); ++i) {
            QVERIFY(before[i] == after[i] || (std::isnan(before[i]) && std::isnan(after[i])));
        }
    }

    /// A quantity foretold by nothing but a constant: draws have the law of a new answer.
    void normalDrawsHaveTheirLaw() {
        MatrixXd seen = MatrixXd::Ones(40, 1);
        VectorXd y(40);
        for (Index i = 0; i < 40; ++i) {
            y(i) = 3.0 + 2.0 * std::sin(static_cast<double>(i));
        }
        const MatrixXd notSeen = MatrixXd::Ones(1, 1);
        const double mean = y.mean();
        const double s2 = (y.array() - mean).square().sum() / 39.0;
        double sum = 0.0;
        double squares = 0.0;
        constexpr int kDraws = 40000;
        for (int d = 0; d < kDraws; ++d) {
            RandomStream random(3, static_cast<std::uint64_t>(d));
            const auto drawn = drawNumbers({seen, y, notSeen}, 0, nullptr, random);
            QVERIFY(drawn.has_value());
            sum += (*drawn)(0);
            squares += ((*drawn)(0) - mean) * ((*drawn)(0) - mean);
        }
        // A t of 39 degrees: variance s²(1 + 1/n)·39/37.
        const double expected = s2 * (1.0 + 1.0 / 40.0) * 39.0 / 37.0;
        QVERIFY(std::abs(sum / kDraws - mean) < 4.0 * std::sqrt(expected / kDraws));
        QVERIFY(std::abs(squares / kDraws / expected - 1.0) < 0.03);
    }

    void levelsAreDrawnByTheirChances() {
        constexpr Index kRows = 4000;
        MatrixXd X(kRows, 2);
        X.col(0).setOnes();
        VectorXd y(kRows);
        std::mt19937 random(12);
        std::normal_distribution<double> normal;
        std::uniform_real_distribution<double> uniform;
        for (Index i = 0; i < kRows; ++i) {
            X(i, 1) = normal(random);
            const double two = std::exp(0.8 * X(i, 1));
            const double three = std::exp(0.5 - 0.6 * X(i, 1));
            const double u = uniform(random) * (1.0 + two + three);
            y(i) = u < 1.0 ? 0.0 : u < 1.0 + two ? 1.0 : 2.0;
        }
        MatrixXd at(20000, 2);
        at.col(0).setOnes();
        at.col(1).setConstant(0.5);
        const double two = std::exp(0.4);
        const double three = std::exp(0.2);
        LevelState start;
        RandomStream stream(5, 1);
        const auto plain = drawLevels({X, y, at}, 3, false, start, stream, Job());
        QVERIFY(plain.has_value());
        for (const auto& [level, chance] : {std::pair{0.0, 1.0}, {1.0, two}, {2.0, three}}) {
            const double share = (plain->array() == level).cast<double>().mean();
            QVERIFY2(std::abs(share - chance / (1.0 + two + three)) < 0.04,
                     qPrintable(QString::number(share)));
        }
        // Ordered: P(y ≤ j) = Λ(c_j − x).
        for (Index i = 0; i < kRows; ++i) {
            const double latent = X(i, 1) + std::log(1.0 / uniform(random) - 1.0);
            y(i) = latent < -1.0 ? 0.0 : latent < 1.0 ? 1.0 : 2.0;
        }
        LevelState fresh;
        const auto ordered = drawLevels({X, y, at}, 3, true, fresh, stream, Job());
        QVERIFY(ordered.has_value());
        const double low = 1.0 / (1.0 + std::exp(1.5));
        const double middle = 1.0 / (1.0 + std::exp(-0.5)) - low;
        QVERIFY(std::abs((ordered->array() == 0.0).cast<double>().mean() - low) < 0.03);
        QVERIFY(std::abs((ordered->array() == 1.0).cast<double>().mean() - middle) < 0.04);
        // A level that a column tells for certain has estimates all the same.
        for (Index i = 0; i < kRows; ++i) {
            y(i) = X(i, 1) > 0.0 ? 1.0 : 0.0;
        }
        LevelState certain;
        const auto told = drawLevels({X, y, at}, 2, false, certain, stream, Job());
        QVERIFY2(told.has_value(), told ? "" : told.error().text().c_str());
        QVERIFY((told->array() == 1.0).cast<double>().mean() > 0.9);
    }

    /// Rows that are foretold alike share their donors, each as likely.
    void donorsAreTheNearest() {
        MatrixXd seen(6, 2);
        seen.col(0).setOnes();
        seen.col(1) << 0, 1, 2, 3, 4, 5;
        VectorXd y(6);
        y << 0, 10, 20, 30, 40, 50;
        MatrixXd notSeen(1, 2);
        notSeen << 1, 4.9;
        std::map<double, int> drawn;
        for (std::uint64_t d = 0; d < 600; ++d) {
            RandomStream random(1, d);
            const auto one = drawNumbers({seen, y, notSeen}, 2, nullptr, random);
            ++drawn[(*one)(0)];
        }
        QCOMPARE(drawn.size(), std::size_t{2});
        QVERIFY(drawn.contains(40.0) && drawn.contains(50.0));
        QVERIFY(std::abs(drawn[40.0] - 300) < 70);
    }

    /// Groups share what is theirs: a village without an answer is filled about its own level.
    void groupsKeepTheirLevels() {
        std::mt19937 random(2);
        std::normal_distribution<double> normal;
        std::vector<double> y;
        std::vector<double> g;
        std::vector<double> truth;
        for (int village = 0; village < 40; ++village) {
            const double level = 3.0 * normal(random);
            for (int i = 0; i < 15; ++i) {
                g.push_back(village);
                truth.push_back(level + normal(random));
                y.push_back(i < 5 ? std::nan("") : truth.back());
            }
        }
        std::vector<double> x(y.size());
        std::generate(x.begin(), x.end(), [&] { return normal(random); });
        Table table = tableOf({{"y", y}, {"x", x}, {"village", g}});
        table.variables[2].measure = Measure::Groups;
        Study study;
        study.imputation.variables = {"y"};
        study.imputation.with = {"x"};
        study.imputation.by = {{"y", "normal"}};
        study.imputation.sets = 10;
        const auto distance = [&](const Study& of) {
            const auto sets = setsOf(of, frameOfStudy(of, table), Job());
            const ImputedVariable& one = (*sets)->variables.front();
            double sum = 0.0;
            for (std::size_t i = 0; i < one.rows.size(); ++i) {
                const double mean = one.values.row(static_cast<Index>(i)).mean();
                sum += (mean - truth[one.rows[i]]) * (mean - truth[one.rows[i]]);
            }
            return sum / static_cast<double>(one.rows.size());
        };
        const double without = distance(study);
        study.survey.cluster = "village";
        const double with = distance(study);
        // By the village’s level what is left is the rows’ own spread, near 1; else near 10.
        QVERIFY2(with < 1.6 && without > 6.0, qPrintable(QString("%1 %2").arg(with).arg(without)));
        const auto sets = setsOf(study, frameOfStudy(study, table), Job());
        QCOMPARE((*sets)->groups, std::string("village"));
    }

    /// Under answers that are missing at random the pooled estimate is right where the complete
    /// rows are wrong, and so are the weighted ones: the demo of why.
    void theBiasOfCompleteRowsGoes() {
        constexpr int kSamples = 40;
        double rows = 0.0;
        double imputed = 0.0;
        double weighted = 0.0;
        for (int s = 0; s < kSamples; ++s) {
            std::mt19937 random(static_cast<unsigned>(100 + s));
            std::normal_distribution<double> normal;
            std::uniform_real_distribution<double> uniform;
            std::vector<double> y;
            std::vector<double> x;
            for (int i = 0; i < 400; ++i) {
                const double z = normal(random);
                x.push_back(z);
                const double value = z + normal(random);
                y.push_back(uniform(random) < 1.0 / (1.0 + std::exp(-1.5 * z)) ? std::nan("")
                                                                               : value);
            }
            const Table table = tableOf({{"y", y}, {"x", x}});
            Study study;
            study.imputation.variables = {"y"};
            study.imputation.with = {"x"};
            study.imputation.sets = 5;
            Question q = explain("y", {});
            q.allChecks = false;
            const Frame frame = frameOfStudy(study, table);
            rows += answerQuestion(study, frame, q, Job()).fit->coefficients[0].estimate;
            q.missing = "imputed";
            imputed += answerQuestion(study, frame, q, Job()).fit->coefficients[0].estimate;
            q.missing = "weighted";
            q.completeBy = {Term::expression("x")};
            weighted += answerQuestion(study, frame, q, Job()).fit->coefficients[0].estimate;
        }
        // The truth is zero.
        QVERIFY2(rows / kSamples < -0.4, qPrintable(QString::number(rows / kSamples)));
        QVERIFY2(std::abs(imputed / kSamples) < 0.06,
                 qPrintable(QString::number(imputed / kSamples)));
        QVERIFY2(std::abs(weighted / kSamples) < 0.1,
                 qPrintable(QString::number(weighted / kSamples)));
    }

    void everyMethodIsPooled() {
        Table table;
        Study study = gappy(260, 14, table);
        study.imputation.sets = 3;
        const Frame frame = frameOfStudy(study, table);
        const auto ask = [&](const std::string& method, const std::string& outcome,
                             const std::vector<std::string>& terms) {
            Question q = filled(outcome, terms);
            q.method = method;
            q.allChecks = false;
            q.settings.at = {0.25, 0.75};
            const Answer a = answerQuestion(study, frame, q, Job());
            const std::string why = a.refusal ? a.refusal->text() : std::string();
            return std::pair{a, why};
        };
        for (const auto& [method, outcome] : {std::pair{"logit", "yes"},
                                              {"probit", "yes"},
                                              {"poisson", "count"},
                                              {"negative-binomial", "count"},
                                              {"ordered-logit", "grade"},
                                              {"quantile", "y"},
                                              {"huber", "y"},
                                              {"multinomial-logit", "zone"}}) {
            const auto [a, why] = ask(method, outcome, {"x", "z"});
            QVERIFY2(!a.refusal, (std::string(method) + ": " + why).c_str());
            QVERIFY(a.fit->pooled != nullptr);
            QCOMPARE(a.fit->pooled->terms.size(), a.fit->coefficients.size());
            for (const Coefficient& c : a.fit->coefficients) {
                QVERIFY2(std::isfinite(c.estimate) && c.se > 0.0, method);
            }
            QVERIFY(!explainReading(a).empty());
            QVERIFY(!explainMethods(a).empty());
        }
        Question q = filled("y", {"x"});
        q.endogenous = {Term::expression("square")};
        q.instruments = {Term::expression("z"), Term::expression("count")};
        q.method = "two-stage";
        const Answer a = answerQuestion(study, frame, q, Job());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.fit->instrumented->firstStages.size(), std::size_t{1});
    }

    void whatCannotBeIsRefused() {
        Table table;
        const Study good = gappy(120, 2, table);
        const auto with = [&](auto change) {
            Study study = good;
            change(study.imputation);
            return refusalOf(study, table).text();
        };
        const auto says = [](const std::string& text, const char* part) {
            return text.find(part) != std::string::npos;
        };
        QVERIFY(says(with([](auto& s) { s.variables = {"incme"}; }), "no variable ‘incme’"));
        QVERIFY(says(with([](auto& s) { s.variables = {"xx"}; }), "Did you mean ‘x’"));
        QVERIFY(says(with([](auto& s) { s.variables = {"square"}; }), "is worked out from others"));
        QVERIFY(says(with([](auto& s) { s.with = {"nothing"}; }), "of what foretells"));
        QVERIFY(says(with([](auto& s) { s.with = {"ln("}; }), "of what foretells"));
        QVERIFY(says(with([](auto& s) {
                         s.variables = {"x"};
                         s.with = {"y"};
                     }),
                     "is itself missing in"));
        QVERIFY(says(with([](auto& s) { s.by = {{"zone", "normal"}}; }), "is a text"));
        QVERIFY(says(with([](auto& s) { s.by = {{"zone", "logit"}}; }), "logit is for two"));
        QVERIFY(says(with([](auto& s) { s.variables.clear(); }), "nothing is declared"));
        // Fewer answers than columns that foretell.
        Table small = tableOf({{"y", {1, 2, 3, std::nan("")}},
                               {"a", {1, 2, 4, 3}},
                               {"b", {2, 1, 3, 3}},
                               {"c", {0, 1, 0, 2}}});
        Study few;
        few.imputation.variables = {"y"};
        few.imputation.with = {"a", "b", "c"};
        QVERIFY(says(refusalOf(few, small).text(), "3 answers, and 3 columns foretell it"));
        Table empty = tableOf({{"y", {std::nan(""), std::nan("")}}, {"a", {1, 2}}});
        few.imputation.with = {"a"};
        QVERIFY(says(refusalOf(few, empty).text(), "no answer at all"));
        Table constant = tableOf({{"y", {1, 1, 1, 1, std::nan("")}}, {"a", {1, 2, 3, 4, 5}}});
        constant.variables[0].measure = Measure::YesNo;
        QVERIFY(says(refusalOf(few, constant).text(), "is the same"));
        // A question that wants sets where none are declared.
        const Answer a = answer(table, filled("y", {"x"}));
        QVERIFY(a.refusal && says(a.refusal->text(), "nothing is declared to be"));
        // Nothing to fill in: the answer is that of the rows.
        Study whole;
        whole.imputation.variables = {"a"};
        const Frame frame = frameOfStudy(whole, small);
        Question q = filled("a", {"b"});
        q.allChecks = false;
        const Answer same = answerQuestion(whole, frame, q, Job());
        QVERIFY2(!same.refusal, same.refusal ? same.refusal->text().c_str() : "");
        QCOMPARE(*same.fit->coefficients[0].df, 2.0);
        QCOMPARE(same.fit->pooled->terms[0].between, 0.0);
    }

    void aStopStops() {
        Table table;
        Study study = gappy(3000, 2, table);
        study.imputation.sets = 1000;
        study.imputation.rounds = 1000;
        const Frame frame = frameOfStudy(study, table);
        Job job;
        std::jthread stopper([job] {
            std::this_thread::sleep_for(std::chrono::milliseconds(50));
            job.stop();
        });
        const auto sets = setsOf(study, frame, job);
        QVERIFY(!sets);
        QVERIFY(sets.error().code == ErrorCode::Stopped);
        QVERIFY(job.done() > 0.0 && job.done() < 1.0);
    }

    void setsAreMadeOnceForAll() {
        KnownSets known;
        std::atomic<int> made = 0;
        const auto make = [&]() -> Result<KnownSets::Sets> {
            ++made;
            std::this_thread::sleep_for(std::chrono::milliseconds(30));
            return std::make_shared<const ImputedSets>();
        };
        {
            std::vector<std::jthread> askers;
            for (int k = 0; k < 4; ++k) {
                askers.emplace_back([&] { QVERIFY(known.get(1, make, Job()).has_value()); });
            }
        }
        QCOMPARE(made.load(), 1);
        QVERIFY(known.find(1) != nullptr);
        QVERIFY(known.find(2) == nullptr);
        // Who was stopped leaves nothing behind.
        const auto stopped = [&]() -> Result<KnownSets::Sets> { return stoppedWork(); };
        QVERIFY(!known.get(2, stopped, Job()));
        QVERIFY(known.get(2, make, Job()).has_value());
        QCOMPARE(made.load(), 2);
        Job over;
        over.stop();
        QVERIFY(!known.get(3, make, over));
        QCOMPARE(made.load(), 2);
    }

    void patternsAndWhoLacksWhat() {
        const double none = std::nan("");
        const Table table = tableOf({{"a", {1, none, 3, none, 5, 6, 7, 8}},
                                     {"b", {1, none, none, 4, 5, 6, 7, 8}},
                                     {"c", {1, 9, 2, 8, 1, 2, 1, 2}}});
        const MissingPatterns p = missingPatterns(frameOf(table));
        QCOMPARE(p.rows, std::size_t{8});
        QCOMPARE(p.complete, std::size_t{5});
        QCOMPARE(p.variables.size(), std::size_t{2});
        QCOMPARE(p.patterns.size(), std::size_t{4});
        QCOMPARE(p.patterns.front().rows.size(), std::size_t{5});
        std::size_t rows = 0;
        for (const auto& pattern : p.patterns) {
            rows += pattern.rows.size();
        }
        QCOMPARE(rows, std::size_t{8});
        QCOMPARE(patternsPicture(p).bars.size(), std::size_t{8});
        const auto contrasts = missingContrasts(frameOf(table), "a");
        QVERIFY(!contrasts.empty());
        QCOMPARE(contrasts.front().name, std::string("c"));
        QCOMPARE(contrasts.front().lacking, 8.5);
        QCOMPARE(contrasts.front().seen, 1.5);
        // Two looks (b, too, is there in rows that have a): p counts twice.
        AGREE("looks", contrasts.front().adjusted,
              std::min(1.0, contrasts.front().p * static_cast<double>(contrasts.size())), 1e-14);
        Table levels = table;
        levels.columns[2] = Column::ofNumbers("c", {1, 2, 1, 1, 1, 2, 1, 1});
        levels.variables[2].measure = Measure::Groups;
        const auto shares = missingContrasts(frameOf(levels), "a");
        const auto c = std::find_if(shares.begin(), shares.end(),
                                    [](const MissingContrast& one) { return one.name == "c"; });
        QVERIFY(c != shares.end());
        QCOMPARE(c->level, std::string("1"));
        QCOMPARE(c->lacking, 0.5);
        AGREE("seen", c->seen, 5.0 / 6.0, 1e-14);
        // Welch by hand: variances 1/2 of two rows, 1/6 of six.
        AGREE("apart", c->apart, (0.5 - 5.0 / 6.0) / std::sqrt(0.5 * (0.5 + 1.0 / 6.0)), 1e-12);
        QVERIFY(missingContrasts(frameOf(table), "nothing").empty());
        const MissingPatterns whole = missingPatterns(frameOf(table), {"c"});
        QVERIFY(whole.variables.empty());
        QCOMPARE(whole.complete, std::size_t{8});
    }

    void picturesAndWords() {
        Table table;
        const Study study = gappy(220, 31, table);
        const Frame frame = frameOfStudy(study, table);
        const auto sets = setsOf(study, frame, Job());
        const ImputedVariable& x = *(*sets)->find("x");
        const Exhibit paths = pathsPicture(x);
        QCOMPARE(paths.lines.size(), std::size_t{6});
        QCOMPARE(paths.lines.front().x.size(), std::size_t{4});
        const Exhibit beside = filledPicture(x, frame);
        QCOMPARE(beside.lines.size(), std::size_t{6});
        const Exhibit levels = filledPicture(*(*sets)->find("zone"), frame);
        QCOMPARE(levels.bars.size(), std::size_t{3});
        double shares = 0.0;
        for (const auto& bar : levels.bars) {
            shares += bar.y1;
        }
        AGREE("shares", shares, 1.0, 1e-12);
        QVERIFY(x.settled.has_value());
        const auto words = setsReading(**sets, frame);
        QVERIFY(words.front().find("5 variables") != std::string::npos);
        QVERIFY(words.back().find("cannot be tested") != std::string::npos);
        // Paths that lie apart for good have not settled.
        MatrixXd apart(10, 3);
        for (Index r = 0; r < 10; ++r) {
            apart.row(r) << 0.01 * static_cast<double>(r % 2), 5.0, 10.0;
        }
        QVERIFY(*settledOf(apart) > 2.0);
        QVERIFY(!settledOf(MatrixXd::Zero(3, 4)).has_value());

        const Question q = filled("y", {"x", "count"});
        const Answer a = answerQuestion(study, frame, q, Job());
        QVERIFY(explainSentence(q).find("missing answers filled in") != std::string::npos);
        const std::string reading = explainReading(a);
        QVERIFY2(reading.find("Pooled over **5 sets**") != std::string::npos, reading.c_str());
        // count stands in the question and foretells nothing.
        const std::string methods = explainMethods(a);
        QVERIFY2(
            methods.find("count stands in the question and foretells nothing") != std::string::npos,
            methods.c_str());
        QVERIFY(methods.find("Barnard & Rubin (1999)") != std::string::npos);
        Question weighted = explain("y", {"x"});
        weighted.missing = "weighted";
        weighted.completeBy = {Term::expression("z")};
        const Answer w = answerQuestion(study, frame, weighted, Job());
        QVERIFY2(!w.refusal, w.refusal ? w.refusal->text().c_str() : "");
        QVERIFY(explainReading(w).find("complete rows stand for all") != std::string::npos);
        const auto difference = differenceReading(w, a);
        QVERIFY(difference.front().find("filled in") != std::string::npos);
        QVERIFY(resultsJson(study, {w}).at("answers")[0].contains("complete_rows"));
    }

    /// A shift of an outcome’s filled answers moves a mean by the share of them.
    void thoseWhoDidNotAnswerMayDiffer() {
        Table table;
        const Study study = gappy(200, 17, table);
        const Frame frame = frameOfStudy(study, table);
        const auto sets = setsOf(study, frame, Job());
        const Question q = filled("y", {"z"});
        const auto shift = missingShift(study, frame, q, **sets, "y", "(constant)", Job());
        QVERIFY2(shift.has_value(), shift ? "" : shift.error().text().c_str());
        QCOMPARE(shift->points.size(), std::size_t{9});
        const Answer a = answerQuestion(study, frame, q, Job());
        AGREE("as filled in", shift->points[4].estimate, a.fit->coefficients[0].estimate, 1e-12);
        AGREE("low", shift->points[4].low, a.fit->coefficients[0].low, 1e-12);
        // Least squares is linear in the outcome: equal steps move it equally.
        const double step = shift->points[5].estimate - shift->points[4].estimate;
        AGREE("linear", shift->points[8].estimate - shift->points[7].estimate, step, 1e-8);
        const double share = static_cast<double>((*sets)->find("y")->rows.size()) / 200.0;
        QVERIFY(step > 0.5 * share * shift->spread / 4.0 &&
                step < 2.0 * share * shift->spread / 4.0);
        const Exhibit picture = shiftPicture(*shift, 0.05);
        QCOMPARE(picture.bands.size(), std::size_t{1});
        QVERIFY(shiftReading(*shift).find("effect of (constant)") != std::string::npos);
        const auto says = [&](const std::string& variable, const std::string& term,
                              const char* part) {
            const auto found = missingShift(study, frame, q, **sets, variable, term, Job());
            return !found && found.error().text().find(part) != std::string::npos;
        };
        QVERIFY(says("count", "z", "nothing was filled in"));
        QVERIFY(says("zone", "z", "cannot be shifted"));
        QVERIFY(says("y", "nothing", "no effect of"));
        // What the question does not use moves nothing, and is said to.
        const auto idle =
            missingShift(study, frame, filled("z", {"count"}), **sets, "y", "count", Job());
        QVERIFY(shiftReading(*idle).find("does not hang on") != std::string::npos);
        // Where an end of the interval crosses zero is between the points on its sides.
        MissingShift made = *shift;
        made.points = {{-1.0, 0.0, -1.0, 1.0}, {0.0, 2.0, 1.0, 3.0}, {1.0, 4.0, 3.0, 5.0}};
        made.turns = -0.5;
        QVERIFY(shiftReading(made).find("no longer apart from zero") != std::string::npos);
    }

    void whatIsProposed() {
        Table table;
        Study study = gappy(200, 8, table);
        study.imputation = {};
        study.questions = {explain("half", {"square", "z", "zone"})};
        const Frame frame = frameOfStudy(study, table);
        const ImputationSpec spec = proposedImputation(study, frame);
        QVERIFY((spec.variables == std::vector<std::string>{"y", "x", "zone"}));
        QVERIFY((spec.with == std::vector<std::string>{"z"}));
        Question q = study.questions.front();
        auto ways = waysWithMissing(study, frame, q);
        QCOMPARE(ways.size(), std::size_t{1});  // Nothing is declared yet.
        QCOMPARE(ways.front().question.missing, std::string("weighted"));
        QCOMPARE(ways.front().question.completeBy.size(), std::size_t{1});
        study.imputation = spec;
        ways = waysWithMissing(study, frame, q);
        QCOMPARE(ways.size(), std::size_t{2});
        ways = waysWithMissing(study, frame, ways.front().question);
        QCOMPARE(ways.front().question.missing, std::string("rows"));
    }

    void theStudyFileKeepsIt() {
        const std::string text = R"x({"format": "rapporto-study", "version": 1, "title": "t",
            "source": {"kind": "table", "file": "t.csv"},
            "imputation": {"variables": ["income", "zone"], "with": ["age", "ln(revenue)"],
                           "sets": 12, "rounds": 7, "donors": 3, "seed": 9,
                           "by": {"income": "normal"}, "later": 1},
            "questions": [{"id": "q1", "outcome": "income", "terms": ["age"], "missing": "imputed"},
                          {"id": "q2", "outcome": "income", "terms": ["age"], "missing": "weighted",
                           "complete_by": ["age", "zone"]}]})x";
        const auto study = readStudyText(text);
        QVERIFY2(study.has_value(), study ? "" : study.error().text().c_str());
        const ImputationSpec& spec = study->imputation;
        QCOMPARE(spec.sets, 12);
        QCOMPARE(spec.rounds, 7);
        QCOMPARE(spec.donors, 3);
        QVERIFY(spec.seed == std::optional<std::uint64_t>(9));
        QCOMPARE(spec.by.at("income"), std::string("normal"));
        QCOMPARE(study->questions[1].completeBy.size(), std::size_t{2});
        const auto again = readStudyText(studyText(*study));
        QVERIFY(again->imputation == spec);
        QVERIFY(studyText(*study).find("\"later\": 1") != std::string::npos);
        QCOMPARE(again->questions[0].missing, std::string("imputed"));
        QVERIFY(again->questions[1].completeBy == study->questions[1].completeBy);
        const auto says = [](const std::string& body, const char* part) {
            const auto read = readStudyText(
                R"({"format": "rapporto-study", "version": 1, "source": {"kind": "table", "file": "t.csv"}, )" +
                body + "}");
            const std::string found = !read ? read.error().text()
                                      : !read->questions.empty() && read->questions[0].unbuilt
                                          ? read->questions[0].unbuilt->text()
                                          : std::string();
            return found.find(part) != std::string::npos;
        };
        QVERIFY(says(R"("imputation": {"with": ["a"]})", "names what is filled in"));
        QVERIFY(says(R"("imputation": {"variables": ["a", "a"]})", "stands twice"));
        QVERIFY(says(R"("imputation": {"variables": ["a"], "sets": 1})", "sets"));
        QVERIFY(says(R"("imputation": {"variables": ["a"], "by": {"b": "normal"}})",
                     "not among ‘variables’"));
        QVERIFY(says(R"("imputation": {"variables": ["a"], "by": {"a": "guess"}})", "is one of"));
        const auto asked = [&](const char* keys, const char* part) {
            return says(
                std::string(R"("questions": [{"id": "q", "outcome": "y", "terms": ["x"], )") +
                    keys + "}]",
                part);
        };
        QVERIFY(asked(R"("missing": "guessed")", "\"rows\", \"imputed\" or \"weighted\""));
        QVERIFY(asked(R"("missing": "weighted")", "Name it in ‘complete_by’"));
        QVERIFY(asked(R"("complete_by": ["z"])", "nothing is weighted by that"));
    }

    void editsFollow() {
        Study study;
        study.derived = {{"rich", "income > 5", ""}};
        study.imputation.variables = {"income"};
        study.imputation.with = {"rich * age"};
        study.questions = {explain("income", {"age"})};
        study.questions[0].missing = "weighted";
        study.questions[0].completeBy = {Term::expression("rich")};
        const auto renamed = apply(study, {RenameDerived{"rich", "wealthy"}, "rename"});
        QVERIFY(renamed.has_value());
        QCOMPARE(renamed->imputation.with.front(), std::string("wealthy * age"));
        QCOMPARE(renamed->questions[0].completeBy.front().parts.front(), std::string("wealthy"));
        const auto uses = usesOf(study, "income");
        QVERIFY(std::find(uses.begin(), uses.end(), "what is filled in") != uses.end());
        QVERIFY(namesUsed(study).contains("income"));
        ImputationSpec broken;
        broken.variables = {"income"};
        broken.with = {"ln("};
        QVERIFY(!apply(study, {SetImputation{broken}, "fill in"}).has_value());
        const auto none = apply(study, {SetImputation{}, "no longer"});
        QVERIFY(!none->imputation.isDeclared());
    }
};

QTEST_APPLESS_MAIN(MissingTest)
#include "missing_test.moc"
