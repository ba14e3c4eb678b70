// Weights brought to known totals: the equations by a second route (tests/reference/
// make_totals_reference.py), closed forms, properties, refusals, the study file, what is told.
#include "core/describe/calibration_facts.h"
#include "core/describe/survey_facts.h"
#include "core/picture/picture.h"
#include "core/study/kept.h"
#include "core/study/results.h"
#include "core/study/study.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <numeric>
#include <random>

using namespace rapporto;
using namespace rapporto::test;
using nlohmann::json;

namespace {

KnownTotal shares(const std::string& variable, std::vector<std::pair<std::string, double>> of) {
    KnownTotal out;
    out.variable = variable;
    out.shares = std::move(of);
    return out;
}

KnownTotal mean(const std::string& variable, double value) {
    KnownTotal out;
    out.variable = variable;
    out.mean = value;
    return out;
}

KnownTotal sharesIn(const json& reference, const char* key, const std::string& variable) {
    KnownTotal out;
    out.variable = variable;
    for (const auto& [level, share] : reference.at(key).items()) {
        out.shares.emplace_back(level, share.get<double>());
    }
    return out;
}

/// The survey of a case of the reference.
Survey surveyOf(const json& reference, const json& one) {
    Survey survey{"w", "h", "c", ""};
    survey.targets = {sharesIn(reference, "zones", "zone"), sharesIn(reference, "women", "sex")};
    if (one.at("age").get<bool>()) {
        survey.targets.push_back(mean("age", number(reference.at("age"))));
    }
    survey.calibration = one.at("calibration").get<std::string>();
    if (!one.at("bounds").is_null()) {
        survey.bounds = {one.at("bounds")[0].get<double>(), one.at("bounds")[1].get<double>()};
    }
    return survey;
}

Question bySurvey(const std::string& where = {}) {
    Question q = explain("y", {"x"});
    q.errors = ErrorSpec::bySurvey();
    q.where = where;
    return q;
}

Answer answered(const Table& table, const Survey& survey, const Question& question) {
    Study study;
    study.survey = survey;
    study.questions = {question};
    return answerQuestion(study, frameOf(table), question, Job());
}

/// Rows of a small village: three zones, two sexes.
Table smallTable() {
    return tableOf({{"y", {3, 5, 4, 8, 7, 9, 12, 11, 6, 2, 4, 10}},
                    {"x", {1, 2, 1, 3, 2, 3, 4, 4, 2, 1, 2, 3}},
                    {"w", {1, 2, 1, 1, 2, 2, 1, 3, 1, 2, 1, 1}},
                    {"zone", {1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3}},
                    {"sex", {0, 1, 0, 1, 0, 1, 0, 1, 0, 1, 0, 1}}});
}

Refusal refusalOf(const Table& table, std::vector<KnownTotal> targets,
                  std::optional<std::pair<double, double>> bounds = {},
                  const std::string& how = "raking") {
    Survey survey{"w", "", "", ""};
    survey.targets = std::move(targets);
    survey.bounds = bounds;
    survey.calibration = how;
    const auto rows = surveyRows(frameOf(table), survey);
    return rows ? Refusal{ErrorCode::NotBuilt, "none", "", "", {}} : rows.error();
}

}  // namespace

class TotalsTest : public QObject {
    Q_OBJECT

  private slots:

    void weightsAndErrorsAreThoseOfTheReference() {
        const json reference = readJson("tests/reference/totals_reference.json");
        const Table table = tableFrom(reference.at("data"));
        for (const json& one : reference.at("cases")) {
            const Survey survey = surveyOf(reference, one);
            const auto rows = surveyRows(frameOf(table), survey);
            QVERIFY2(rows, rows ? "" : rows.error().text().c_str());
            for (std::size_t i = 0; i < rows->weights.size(); ++i) {
                AGREE(one.at("calibration").get<std::string>(), rows->weights[i],
                      number(one.at("weights")[i]), 1e-10);
            }
            for (const auto& [name, where] : {std::pair{"all", ""}, {"part", "part = 1"}}) {
                const Answer a = answered(table, survey, bySurvey(where));
                QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
                const json& expected = one.at(name);
                for (std::size_t k = 0; k < 2; ++k) {
                    AGREE(name, a.fit->coefficients[k].estimate, number(expected.at("b")[k]),
                          1e-10);
                    AGREE(name, a.fit->coefficients[k].se, number(expected.at("se")[k]), 1e-9);
                }
                QCOMPARE(*a.fit->coefficients[0].df, number(expected.at("df")));
            }
        }
    }

    /// Totals of one grouping: each level is stretched by one factor, and the mean of the outcome
    /// is the known mix of the means of the levels (Holt & Smith 1979, JRSS A 142).
    void oneGroupingIsAClosedForm() {
        const Table table = smallTable();
        const std::vector<double> known = {0.5, 0.2, 0.3};
        for (const std::string how : {"raking", "linear"}) {
            Survey survey{"w", "", "", ""};
            survey.targets = {shares("zone", {{"1", 0.5}, {"2", 0.2}, {"3", 0.3}})};
            survey.calibration = how;
            const auto rows = surveyRows(frameOf(table), survey);
            QVERIFY(rows.has_value());
            const auto y = table.columns[0].numbers();
            const auto w = table.columns[2].numbers();
            std::vector<double> sums(3, 0.0);
            std::vector<double> totals(3, 0.0);
            for (std::size_t i = 0; i < w.size(); ++i) {
                sums[i / 4] += w[i];
                totals[i / 4] += w[i] * y[i];
            }
            const double all = sums[0] + sums[1] + sums[2];
            double expected = 0.0;
            for (std::size_t z = 0; z < 3; ++z) {
                expected += known[z] * totals[z] / sums[z];
            }
            for (std::size_t i = 0; i < w.size(); ++i) {
                AGREE(how, rows->weights[i], w[i] * known[i / 4] * all / sums[i / 4], 1e-12);
            }
            const auto found = meanUnder(*rows, y);
            AGREE(how, found->mean, expected, 1e-12);
            // What is left of a score is the distance to the mean of its own level.
            double squares = 0.0;
            for (std::size_t i = 0; i < w.size(); ++i) {
                const double e = rows->weights[i] / all * (y[i] - totals[i / 4] / sums[i / 4]);
                squares += e * e;
            }
            AGREE(how, found->se, std::sqrt(12.0 / 11.0 * squares), 1e-12);
        }
    }

    void aTotalThatIsKnownHasNoError() {
        Survey survey{"w", "", "", ""};
        survey.targets = {mean("x", 2.2)};
        const auto rows = surveyRows(frameOf(smallTable()), survey);
        const auto found = meanUnder(*rows, smallTable().columns[1].numbers());
        AGREE("mean", found->mean, 2.2, 1e-12);
        QVERIFY(found->se < 1e-12);
    }

    void whatTheSampleShowsMovesNothing() {
        const Table table = smallTable();
        Survey survey{"w", "", "", ""};
        // Weights 5, 8 and 5 of 18.
        survey.targets = {
            shares("zone", {{"1", 5.0 / 18.0}, {"2", 8.0 / 18.0}, {"3", 5.0 / 18.0}})};
        for (const bool bound : {false, true}) {
            survey.bounds = bound ? std::optional(std::pair{0.3, 3.0}) : std::nullopt;
            for (const std::string how : {"raking", "linear"}) {
                survey.calibration = how;
                const auto rows = surveyRows(frameOf(table), survey);
                for (std::size_t i = 0; i < 12; ++i) {
                    AGREE(how, rows->weights[i], table.columns[2].numbers()[i], 1e-13);
                }
            }
        }
    }

    void orderAndScaleDoNotMatter() {
        const json reference = readJson("tests/reference/totals_reference.json");
        const Table table = tableFrom(reference.at("data"));
        std::vector<std::size_t> order(table.rows());
        std::iota(order.begin(), order.end(), 0U);
        std::shuffle(order.begin(), order.end(), std::mt19937(5));
        std::vector<std::pair<std::string, std::vector<double>>> turned;
        for (const Column& column : table.columns) {
            std::vector<double> cells;
            for (const std::size_t i : order) {
                // Weights a thousand times as large, ages in another unit from another zero.
                const double v = column.numbers()[i];
                cells.push_back(column.name() == "w"     ? 1000.0 * v
                                : column.name() == "age" ? 32.0 + 1.8e6 * v
                                                         : v);
            }
            turned.emplace_back(column.name(), std::move(cells));
        }
        for (const json& one : reference.at("cases")) {
            Survey survey = surveyOf(reference, one);
            const auto rows = surveyRows(frameOf(table), survey);
            const auto se = answered(table, survey, bySurvey()).fit->coefficients[1].se;
            if (survey.targets.size() > 2) {
                survey.targets.back().mean = 32.0 + 1.8e6 * *survey.targets.back().mean;
            }
            std::swap(survey.targets[0], survey.targets[1]);
            const auto other = surveyRows(frameOf(tableOf(turned)), survey);
            QVERIFY2(other, other ? "" : other.error().text().c_str());
            for (std::size_t i = 0; i < order.size(); ++i) {
                AGREE("weight", other->weights[i], 1000.0 * rows->weights[order[i]], 1e-9);
            }
            AGREE("se", answered(tableOf(turned), survey, bySurvey()).fit->coefficients[1].se, se,
                  1e-9);
        }
    }

    void boundsHoldAndTotalsAreHit() {
        std::mt19937 random(8);
        std::uniform_real_distribution<double> even;
        std::size_t reached = 0;
        for (int draw = 0; draw < 40; ++draw) {
            std::vector<double> zone;
            std::vector<double> age;
            std::vector<double> w;
            for (int i = 0; i < 300; ++i) {
                zone.push_back(std::floor(3.0 * even(random)));
                age.push_back(20.0 + 60.0 * even(random));
                w.push_back(0.2 + even(random));
            }
            const double a = 0.15 + 0.3 * even(random);
            const double b = 0.15 + 0.3 * even(random);
            Survey survey{"w", "", "", ""};
            survey.targets = {shares("zone", {{"0", a}, {"1", b}, {"2", 1.0 - a - b}}),
                              mean("age", 45.0 + 10.0 * even(random))};
            survey.calibration = draw % 2 == 0 ? "raking" : "linear";
            survey.bounds = {0.4, 2.0};
            const auto rows =
                surveyRows(frameOf(tableOf({{"zone", zone}, {"age", age}, {"w", w}})), survey);
            if (!rows) {
                QVERIFY(rows.error().what.find("the nearest is") != std::string::npos);
                continue;
            }
            ++reached;
            const CalibrationFacts facts = calibrationFacts(*rows);
            QVERIFY(facts.lowest >= 0.4 - 1e-12 && facts.highest <= 2.0 + 1e-12);
            for (const auto& total : facts.totals) {
                AGREE(total.variable, total.reached, total.known, 1e-9);
            }
            AGREE("sum", std::accumulate(rows->weights.begin(), rows->weights.end(), 0.0),
                  std::accumulate(w.begin(), w.end(), 0.0), 1e-9);
        }
        QVERIFY(reached > 20);
    }

    void outOfReachNamesTheNearest() {
        // Zone 3 has 5 of 18 by weight: 1.5 times that is .41667 at most.
        const Refusal one =
            refusalOf(smallTable(), {shares("zone", {{"1", 0.2}, {"2", 0.2}, {"3", 0.6}})},
                      std::pair{0.5, 1.5});
        QCOMPARE(one.code, ErrorCode::BadSetting);
        QVERIFY2(one.what.find("the share 0.6 of ‘3’ in ‘zone’") != std::string::npos,
                 one.what.c_str());
        QVERIFY2(one.what.find("the nearest is 0.4167") != std::string::npos, one.what.c_str());
        QVERIFY(one.help.find("Widen the bounds") != std::string::npos);
        // No weights above zero have a mean above the highest value.
        const Refusal beyond = refusalOf(smallTable(), {mean("x", 4.5)});
        QVERIFY2(beyond.what.find("the mean 4.5 of ‘x’") != std::string::npos, beyond.what.c_str());
        // Two that each can be had, and not together.
        const Refusal both =
            refusalOf(smallTable(), {shares("sex", {{"0", 0.5}, {"1", 0.5}}), mean("sex", 0.6)});
        QVERIFY2(both.what.find("with the others") != std::string::npos, both.what.c_str());
        const Refusal negative = refusalOf(smallTable(), {mean("x", 3.9)}, {}, "linear");
        QVERIFY2(negative.what.find("negative") != std::string::npos, negative.what.c_str());
        QVERIFY(negative.help.find("raking") != std::string::npos);
    }

    void whatCannotBeMeantIsRefusedInWords() {
        const Table table = smallTable();
        const std::vector<std::tuple<KnownTotal, ErrorCode, std::string>> all = {
            {shares("nobody", {{"1", 1.0}}), ErrorCode::UnknownName, "there is no variable"},
            {shares("zone", {{"1", 0.5}, {"2", 0.2}, {"3", 0.2}}), ErrorCode::BadSetting,
             "sum to 0.9"},
            {shares("zone", {{"1", 50}, {"2", 20}, {"3", 30}}), ErrorCode::BadSetting,
             "sum to 100"},
            {shares("zone", {{"1", 0.7}, {"2", 0.3}}), ErrorCode::BadSetting,
             "its share is not known"},
            {shares("zone", {{"1", 0.4}, {"2", 0.2}, {"3", 0.3}, {"4", 0.1}}),
             ErrorCode::BadSetting, "no row has ‘4’"},
            {shares("zone", {{"1", 0.9}, {"2", 0.2}, {"3", -0.1}}), ErrorCode::BadSetting,
             "below zero"},
            {KnownTotal{"zone"}, ErrorCode::BadSetting, "either its shares or its mean"}};
        for (const auto& [target, code, words] : all) {
            const Refusal found = refusalOf(table, {target});
            QCOMPARE(found.code, code);
            QVERIFY2(found.what.find(words) != std::string::npos, found.what.c_str());
            QVERIFY(!found.help.empty());
        }
        const KnownTotal sound = shares("sex", {{"0", 0.5}, {"1", 0.5}});
        for (const auto& bounds :
             {std::pair{1.0, 3.0}, std::pair{-0.1, 3.0}, std::pair{0.3, 1.0}}) {
            QCOMPARE(refusalOf(table, {sound}, bounds).where, "bounds");
        }
    }

    void whatTheSampleShowsIsABeginning() {
        Survey survey{"w", "", "", ""};
        survey.targets = {mean("x", 2.2)};
        const Frame frame = frameOf(smallTable());
        const auto zone = drawnTotal(frame, survey, "zone", false);
        QVERIFY2(zone, zone ? "" : zone.error().text().c_str());
        // 5, 8 and 5 of 18, in millionths; the largest takes what rounding leaves.
        QCOMPARE(zone->shares[0].second, 0.277778);
        QCOMPARE(zone->shares[1].second, 0.444444);
        QCOMPARE(zone->shares[2].second, 0.277778);
        const auto x = drawnTotal(frame, survey, "x", true);
        AGREE("x", *x->mean, 44.0 / 18.0, 1e-5);
        survey.targets = {*zone, *x};
        QVERIFY(surveyRows(frame, survey).has_value());
        QCOMPARE(drawnTotal(frame, survey, "nobody", true).error().code, ErrorCode::UnknownName);
        std::vector<double> many(100);
        std::iota(many.begin(), many.end(), 0.0);
        const Frame wide = frameOf(tableOf({{"many", many}}));
        QVERIFY(drawnTotal(wide, Survey{}, "many", false).error().what.find("100 levels") !=
                std::string::npos);
        const std::vector<double> none(5, std::nan(""));
        QVERIFY(!drawnTotal(frameOf(tableOf({{"none", none}})), Survey{}, "none", true));
    }

    /// What is told of the design is of the weights in use.
    void factsAreOfTheWeightsInUse() {
        const Frame frame = frameOf(smallTable());
        Survey survey{"w", "", "", ""};
        const double drawn = surveyFacts(frame, survey)->weightEffect;
        survey.targets = {shares("zone", {{"1", 0.7}, {"2", 0.2}, {"3", 0.1}})};
        const auto rows = surveyRows(frame, survey);
        const SurveyFacts facts = *surveyFacts(frame, survey);
        AGREE("effect", facts.weightEffect, calibrationFacts(*rows).effectAfter, 1e-12);
        QVERIFY(facts.weightEffect > drawn);
        const auto found = meanUnder(*rows, smallTable().columns[0].numbers());
        AGREE("deff", *designEffect(frame, "y", survey), found->deff, 1e-12);
    }

    /// Thirds that are printed with three digits sum to .999.
    void roundedSharesAreTakenAsParts() {
        Survey survey{"w", "", "", ""};
        survey.targets = {shares("zone", {{"1", 0.333}, {"2", 0.333}, {"3", 0.333}})};
        const auto rows = surveyRows(frameOf(smallTable()), survey);
        QVERIFY(rows.has_value());
        for (const auto& total : calibrationFacts(*rows).totals) {
            AGREE(total.level, total.reached, 1.0 / 3.0, 1e-12);
        }
    }

    void levelsAreNamedByLabelOrValue() {
        Table table = smallTable();
        Variable& zone = table.variables[3];
        zone.measure = Measure::Groups;
        zone.levels = {{Key(1.0), "Ridge"}, {Key(2.0), "Plain"}, {Key(3.0), "Shore"}};
        Survey survey{"w", "", "", ""};
        survey.targets = {shares("zone", {{"Ridge", 0.5}, {"2", 0.2}, {"Shore", 0.3}})};
        const auto rows = surveyRows(frameOf(table), survey);
        QVERIFY2(rows, rows ? "" : rows.error().text().c_str());
        const CalibrationFacts facts = calibrationFacts(*rows);
        QCOMPARE(facts.totals[1].level, "Plain");
        AGREE("drawn", facts.totals[1].drawn, 8.0 / 18.0, 1e-12);
        AGREE("reached", facts.totals[1].reached, 0.2, 1e-12);
        QCOMPARE(facts.totals[0].rows, 4U);
    }

    void rowsThatLackATotalLeave() {
        Table table = smallTable();
        std::vector<double> sex(table.columns[4].numbers().begin(),
                                table.columns[4].numbers().end());
        sex[3] = std::nan("");
        table.columns[4] = Column::ofNumbers("sex", sex);
        Survey survey{"w", "", "", ""};
        survey.targets = {shares("sex", {{"0", 0.5}, {"1", 0.5}})};
        const Answer a = answered(table, survey, bySurvey());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.rows.used, 11U);
        QCOMPARE(a.rows.missingBy.size(), 1U);
        QCOMPARE(a.rows.missingBy[0].name, "sex");
        // Also where it is a term.
        Question both = bySurvey();
        both.terms.push_back(Term::expression("sex"));
        const Answer b = answered(table, survey, both);
        QCOMPARE(b.rows.missingBy.size(), 1U);
        QCOMPARE(b.rows.missingBy[0].alone, 1U);
    }

    /// Without a weight each row was drawn with one; a question’s own weights stay its own.
    void weightsOfWhom() {
        const Table table = smallTable();
        Survey survey;
        survey.targets = {shares("zone", {{"1", 0.5}, {"2", 0.2}, {"3", 0.3}})};
        QVERIFY(survey.isDeclared());
        const auto rows = surveyRows(frameOf(table), survey);
        AGREE("first", rows->weights[0], 0.5 * 12 / 4, 1e-12);
        const double effect = answered(table, survey, bySurvey()).fit->coefficients[1].estimate;
        Question plain = bySurvey();
        plain.errors = ErrorSpec{};
        QVERIFY(std::abs(effect - answered(table, survey, plain).fit->coefficients[1].estimate) >
                1e-6);
        // The design’s weight named in the question is the same weight.
        survey.weight = "w";
        Question named = bySurvey();
        named.weightKind = WeightKind::Sampling;
        named.weight = "w";
        const double brought = answered(table, survey, bySurvey()).fit->coefficients[1].estimate;
        AGREE("named", answered(table, survey, named).fit->coefficients[1].estimate, brought,
              1e-12);
        named.weight = "w * w";
        const Answer own = answered(table, survey, named);
        QVERIFY(own.design->survey->known == nullptr);
        QVERIFY(std::abs(own.fit->coefficients[1].estimate - brought) > 1e-6);
    }

    /// Each replicate is brought to the totals, too: a mean that is known has no spread.
    void replicatesAreCalibrated() {
        Table table = smallTable();
        Survey survey{"w", "", "", ""};
        for (int r = 0; r < 6; ++r) {
            std::vector<double> w(table.columns[2].numbers().begin(),
                                  table.columns[2].numbers().end());
            for (std::size_t i = 0; i < w.size(); ++i) {
                w[i] *= static_cast<int>(i % 6) == r ? 0.0 : 1.2;
            }
            const std::string name = "w" + std::to_string(r);
            table.columns.push_back(Column::ofNumbers(name, w));
            Variable variable;
            variable.name = name;
            table.variables.push_back(variable);
            survey.replicates.push_back(name);
        }
        survey.targets = {mean("x", 2.2)};
        Question constant = bySurvey();
        constant.outcome = "x";
        constant.terms.clear();
        const Answer known = answered(table, survey, constant);
        QVERIFY2(!known.refusal, known.refusal ? known.refusal->text().c_str() : "");
        AGREE("mean", known.fit->coefficients[0].estimate, 2.2, 1e-12);
        QVERIFY(known.fit->coefficients[0].se < 1e-10);
        const Answer other = answered(table, survey, bySurvey());
        QVERIFY(other.fit->coefficients[1].se > 1e-4);
        // A replicate that cannot hit them is named.
        survey.bounds = {0.9, 1.1};
        const Answer refused = answered(table, survey, bySurvey());
        QVERIFY(refused.refusal.has_value());
    }

    void theStudyFileKeepsThem() {
        const std::string text = R"({"format": "rapporto-study", "version": 1,
            "source": {"kind": "table", "file": "t.csv"}, "questions": [], "survey": {
            "weight": "w", "targets": [{"variable": "zone", "shares": {"Ridge": 0.2, "Plain": 0.8}},
                                        {"variable": "age", "mean": 47.1}],
            "calibration": "linear", "bounds": [0.3, 3]}})";
        const auto study = readStudyText(text);
        QVERIFY2(study, study ? "" : study.error().text().c_str());
        const Survey& survey = study->survey;
        QCOMPARE(survey.targets.size(), 2U);
        QCOMPARE(survey.targets[0].shares[1].first, "Plain");
        QCOMPARE(*survey.targets[1].mean, 47.1);
        QCOMPARE(survey.calibration, "linear");
        QCOMPARE(survey.bounds->second, 3.0);
        const auto again = readStudyText(studyText(*study));
        QVERIFY(again.has_value());
        QVERIFY(again->survey == survey);
        for (const char* bad : {R"({"variable": "zone"})", R"({"shares": {"1": 1}})",
                                R"({"variable": "zone", "shares": {"1": 1}, "mean": 2})",
                                R"({"variable": "zone", "shares": []})",
                                R"({"variable": "zone", "shares": {"1": "a"}})"}) {
            const auto refused = readStudyText(
                std::string(
                    R"({"format": "rapporto-study", "version": 1, "questions": [],"source": {"kind": "table", "file": "t.csv"}, "survey": {"targets": [)") +
                bad + "]}}");
            QVERIFY2(!refused, bad);
        }
        // A variable that is renamed takes its totals along.
        Study renamed = *study;
        renamed.derived.push_back({"zone", "x", ""});
        const auto done = apply(renamed, {RenameDerived{"zone", "district"}, "rename"});
        QVERIFY2(done, done ? "" : done.error().text().c_str());
        QCOMPARE(done->survey.targets[0].variable, "district");
    }

    void theyAreToldAndKept() {
        const json reference = readJson("tests/reference/totals_reference.json");
        const Table table = tableFrom(reference.at("data"));
        Study study;
        study.survey = surveyOf(reference, reference.at("cases")[2]);
        study.questions = {bySurvey()};
        const Answer a = answerQuestion(study, frameOf(table), study.questions[0], Job());
        QVERIFY(a.fit->errorNote.find("weights raked to zone, sex, age") != std::string::npos);
        const auto results = resultsJson(study, {a});
        const auto& told = results.at("answers")[0].at("calibration");
        QCOMPARE(told.at("method").get<std::string>(), "raking");
        QCOMPARE(told.at("targets").size(), 7U);
        AGREE("age", told.at("targets")[6].at("reached").get<double>(), 47.1, 1e-10);
        const SurveyRows& rows = *a.design->survey;
        const KeptColumn kept = keptWeights(rows, {"weight_calibrated"});
        QCOMPARE(kept.name, "weight_calibrated_2");
        QCOMPARE(*kept.values, rows.weights);
        const CalibrationFacts facts = calibrationFacts(rows);
        QCOMPARE(facts.ratios.size(), table.rows());
        AGREE("effect", facts.effectiveRows * facts.effectAfter, 144.0, 1e-12);
        const Exhibit picture = calibrationPicture(rows, facts);
        double drawn = 0.0;
        for (const auto& bar : picture.bars) {
            drawn += bar.y1;
        }
        QCOMPARE(drawn, 144.0);
        QCOMPARE(picture.lines.size(), 3U);
    }

    void aTableOfTotals() {
        Table table;
        const auto texts = [&](const std::string& name, const std::vector<std::string>& cells) {
            std::vector<std::int32_t> codes;
            std::vector<std::string> distinct;
            for (const auto& cell : cells) {
                codes.push_back(cell.empty() ? -1 : static_cast<std::int32_t>(distinct.size()));
                if (!cell.empty()) {
                    distinct.push_back(cell);
                }
            }
            table.columns.push_back(Column::ofTexts(name, codes, distinct));
            Variable variable;
            variable.name = name;
            table.variables.push_back(variable);
        };
        const auto numbers = [&](const std::string& name, const std::vector<double>& cells) {
            table.columns.push_back(Column::ofNumbers(name, cells));
            Variable variable;
            variable.name = name;
            table.variables.push_back(variable);
        };
        const double none = std::nan("");
        texts("Variable", {"zone", "zone", "zone", "age"});
        texts("level", {"Ridge", "Plain", "Shore", ""});
        numbers("COUNT", {1200, 600, 1200, none});
        numbers("mean", {none, none, none, 47.123456789});
        const auto found = knownTotalsOf(table);
        QVERIFY2(found, found ? "" : found.error().text().c_str());
        QCOMPARE(found->size(), 2U);
        QCOMPARE((*found)[0].shares[0], (std::pair<std::string, double>{"Ridge", 0.4}));
        QCOMPARE(*(*found)[1].mean, 47.123456789);
        table.columns[2] = Column::ofNumbers("COUNT", {1200, none, 1200, none});
        QVERIFY(knownTotalsOf(table).error().what.find("row 2") != std::string::npos);
        QVERIFY(!knownTotalsOf(smallTable()));
    }

    void picturesAndSummariesUseThem() {
        const Table table = smallTable();
        Survey survey{"w", "", "", ""};
        survey.targets = {shares("zone", {{"1", 0.5}, {"2", 0.2}, {"3", 0.3}})};
        QVERIFY(survey.isWeighted());
        QCOMPARE(survey.weightShown(), "w, calibrated");
        PictureSpec spec;
        spec.of = {"zone"};
        spec.weighted = true;
        const DrawnPicture picture = drawPicture(frameOf(table), spec, survey, 0.05);
        bool said = false;
        for (const auto& exhibit : picture.exhibits) {
            said = said || exhibit.subtitle.find("weighted by w, calibrated") != std::string::npos;
        }
        QVERIFY(said);
    }
};

QTEST_APPLESS_MAIN(TotalsTest)
#include "totals_test.moc"
