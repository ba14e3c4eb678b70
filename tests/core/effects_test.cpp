// Predictions, effects, hypotheses, bends and resampling against numbers made another way.
#include "core/model/model_tests.h"
#include "core/model/smallest_seen.h"
#include "core/report/assumptions.h"
#include "core/report/effect_picture.h"
#include "core/report/report.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"
#include "core/report/writers/writer.h"
#include "core/study/study.h"
#include "core/study/sweep.h"
#include "tests/core/fixtures.h"

#include <tbb/global_control.h>

#include <QTest>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/effects_reference.json");
    return kReference;
}

Table table() {
    std::vector<std::pair<std::string, std::vector<double>>> columns;
    for (const auto& [name, cells] : reference()["data"].items()) {
        columns.emplace_back(name, cells.get<std::vector<double>>());
    }
    Table t = tableOf(columns);
    t.variables[static_cast<std::size_t>(t.find("g"))].measure = Measure::Groups;
    t.variables[static_cast<std::size_t>(t.find("m"))].measure = Measure::YesNo;
    return t;
}

Question levels() {
    Question q = explain("y", {"x", "power(x, 2)", "z", "g", "m"});
    q.terms.push_back({Term::Kind::Product, {"x", "m"}, false});
    q.errors.kind = "robust";
    q.errors.type = "HC3";
    q.checks = {};
    q.allChecks = false;
    return q;
}

Question plain(const std::string& outcome, const std::vector<std::string>& terms) {
    Question q = explain(outcome, terms);
    q.allChecks = false;
    return q;
}

bool agrees(const Estimate& e, const nlohmann::json& r, double tolerance = 1e-10) {
    return near(e.value, r["estimate"], tolerance) && near(e.se, r["se"], tolerance) &&
           (!r.contains("p") || near(*e.p, r["p"], 1e-8)) &&
           (!r.contains("low") || (near(e.low, r["low"], 1e-8) && near(e.high, r["high"], 1e-8)));
}

Table bentTable() {
    const auto& d = reference()["bent data"];
    return tableOf({{"x", d["x"].get<std::vector<double>>()},
                    {"z", d["z"].get<std::vector<double>>()},
                    {"y", d["y"].get<std::vector<double>>()}});
}

Question bent(int bends) {
    Question q = plain("y", {"x", "z"});
    q.method = "bent-line";
    q.settings.variable = "x";
    q.settings.bends = bends;
    return q;
}

}  // namespace

class EffectsTest : public QObject {
    Q_OBJECT

  private slots:

    void predictionsHaveBothIntervals() {
        Question q = levels();
        q.predict = {{{{"x", 3.0}, {"z", 1.5}, {"g", 2.0}, {"m", 1.0}}, "first"},
                     {{{"x", 6.5}}, ""}};
        const Answer a = answer(table(), q);
        QVERIFY(!a.refusal && a.predictions);
        const auto& r = reference()["levels"];
        for (std::size_t i = 0; i < 2; ++i) {
            const Prediction& p = (*a.predictions)[i];
            QVERIFY(agrees(p.mean, r["predictions"][i]));
            QVERIFY(near(p.rowLow, r["predictions"][i]["row_low"], 1e-9));
            QVERIFY(near(p.rowHigh, r["predictions"][i]["row_high"], 1e-9));
            QVERIFY(p.warnings.empty() && !p.original);
        }
        QVERIFY(!(*a.predictions)[0].difference);
        QVERIFY(agrees(*(*a.predictions)[1].difference, r["difference"]));
    }

    void effectsFollowPowersProductsAndLogs() {
        Question q = levels();
        using As = EffectRequest::As;
        q.effects = {
            {"x"}, {"x", As::AtMeans},          {"x", As::At, {{"x", 2.0}, {"m", 1.0}}}, {"m"},
            {"g"}, {"x", As::Average, {}, true}};
        const Answer a = answer(table(), q);
        QVERIFY(!a.refusal);
        const auto& r = reference()["levels"];
        const char* names[] = {"x average", "x at means", "x at 2, 1", "m average"};
        for (std::size_t i = 0; i < 4; ++i) {
            QVERIFY(a.effects[i].has_value());
            QVERIFY2(agrees(a.effects[i]->front().effect, r[names[i]]), names[i]);
        }
        QCOMPARE(a.effects[4]->size(), std::size_t{2});
        QCOMPARE(a.effects[4]->back().level, std::string("3"));
        QVERIFY(agrees(a.effects[4]->back().effect, r["g 3 average"]));
        QVERIFY(agrees(a.effects[5]->front().effect, r["x elasticity"]));
    }

    void logsAreCarriedBackBySmearing() {
        Question q = plain("ln(y)", {"ln(x)", "z", "m"});
        q.errors.kind = "robust";
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
        q.predict = {{{{"x", 4.0}, {"m", 1.0}}}};
        q.effects = {{"x"}, {"x", EffectRequest::As::Average, {}, true}};
        const Answer a = answer(table(), q);
        QVERIFY(!a.refusal && a.predictions);
        const auto& r = reference()["logs"];
        const Prediction& p = a.predictions->front();
        QVERIFY(agrees(p.mean, {{"estimate", r["estimate"]}, {"se", r["se"]}}));
        QVERIFY(near(p.original->mean, r["mean"], 1e-10));
        QVERIFY(near(p.original->middle, r["middle"], 1e-10));
        QVERIFY(near(p.original->low, r["low"], 1e-9) && near(p.original->high, r["high"], 1e-9));
        QVERIFY(near(p.original->rowLow, r["row_low"], 1e-9));
        QVERIFY(near(p.original->rowHigh, r["row_high"], 1e-9));
        QVERIFY(near(p.original->factor, r["factor"], 1e-12));
        QVERIFY(agrees(a.effects[0]->front().effect, r["x average"]));
        QVERIFY(agrees(a.effects[1]->front().effect, r["x elasticity"]));
    }

    void derivedVariablesAreFollowedToTheirSource() {
        // The same question with the transformations as derived variables, centred and in bands.
        const Table t = table();
        const std::vector<Derived> derived = {{"lx", "ln(x)", ""},
                                              {"lx2", "power(lx, 2)", ""},
                                              {"zc", "centre(z)", ""},
                                              {"old", "bands(z, 0, 1)", ""}};
        Study study;
        const Frame frame = Frame::make(t, {}, derived, {}, {});
        Question named = plain("y", {"lx", "lx2", "zc", "old"});
        Question written = plain("y", {"ln(x)", "power(ln(x), 2)", "z"});
        named.predict = {{{{"x", 4.0}, {"z", 0.5}}}};
        named.effects = {{"x"}, {"z"}};
        const Answer a = answerQuestion(study, frame, named, Job());
        QVERIFY(!a.refusal && a.predictions);
        QVERIFY(near(a.effects[1]->front().effect.value, a.fit->coefficients[3].estimate, 1e-12));
        const double b1 = a.fit->coefficients[1].estimate;
        const double b2 = a.fit->coefficients[2].estimate;
        double mean = 0.0;
        const auto cells = t.columns[static_cast<std::size_t>(t.find("x"))].numbers();
        for (const double x : cells) {
            mean += (b1 + 2.0 * b2 * std::log(x)) / x / static_cast<double>(cells.size());
        }
        QVERIFY(near(a.effects[0]->front().effect.value, mean, 1e-11));
        // A value outside the data and one of a level are told apart.
        Question far = named;
        far.predict = {{{{"x", 40.0}}}};
        const Answer b = answerQuestion(study, frame, far, Job());
        QCOMPARE(b.predictions->front().warnings.size(), std::size_t{1});
        Question level = named;
        level.predict = {{{{"old", std::string("[0, 1)")}}}, {{{"old", std::string("≥ 1")}}}};
        const Answer c = answerQuestion(study, frame, level, Job());
        QVERIFY(c.predictions.has_value());
        const double gap = c.fit->coefficients[5].estimate - c.fit->coefficients[4].estimate;
        QVERIFY(near((*c.predictions)[1].difference->value, gap, 1e-10));
    }

    void whatCannotBeAnsweredSaysWhy() {
        Question q = levels();
        q.predict = {{{{"nonsense", 3.0}}}};
        Answer a = answer(table(), q);
        QVERIFY(!a.refusal && !a.predictions);
        QCOMPARE(a.predictions.error().code, ErrorCode::UnknownName);
        q.predict = {{{{"g", std::string("9")}}}};
        a = answer(table(), q);
        QCOMPARE(a.predictions.error().code, ErrorCode::WrongType);
        // What is in the data but not in the question changes nothing, and that is said.
        q.predict = {{{{"w", 1.0}}}};
        a = answer(table(), q);
        QCOMPARE(a.predictions->front().warnings.size(), std::size_t{1});
        q = plain("y", {"floor(x)", "z"});
        q.effects = {{"x"}, {"w"}};
        a = answer(table(), q);
        QCOMPARE(a.effects[0].error().code, ErrorCode::WrongType);
        QCOMPARE(a.effects[1].error().code, ErrorCode::UnknownName);
        q = plain("y", {"ln(x)"});
        q.predict = {{{{"x", 0.0}}}};
        QCOMPARE(answer(table(), q).predictions.error().code, ErrorCode::BadSetting);
    }

    void hypothesesAreWrittenInTheTerms() {
        Question q = levels();
        q.hypotheses = {"g = 0",
                        "z = 2 * (g = '2')",
                        "z > 0.4",
                        "z = 0.4 and x * m = 0.3",
                        "z < 0.4",
                        "zz = 0",
                        "x * z = 0",
                        "z > 0 and m > 0",
                        "z = 0 and 2 * z = 0",
                        "\"g=2\" + 1 = 1"};
        const Answer a = answer(table(), q);
        const auto& r = reference()["hypotheses"];
        QVERIFY(near(a.hypotheses[0]->statistic, r["g = 0"]["f"], 1e-10));
        QVERIFY(near(a.hypotheses[0]->p, r["g = 0"]["p"], 1e-9));
        QCOMPARE(a.hypotheses[0]->df1, 2.0);
        QVERIFY(near(*a.hypotheses[1]->estimate, r["z = 2 * g2"]["estimate"], 1e-10));
        QVERIFY(near(a.hypotheses[1]->p, r["z = 2 * g2"]["p"], 1e-9));
        QVERIFY(near(a.hypotheses[2]->p, r["z > 0.4"]["p"], 1e-9));
        QVERIFY(near(a.hypotheses[3]->statistic, r["z = 0.4 and x * m = 0.3"]["f"], 1e-9));
        QVERIFY(near(a.hypotheses[2]->p + a.hypotheses[4]->p, 1.0, 1e-12));
        QVERIFY(a.hypotheses[2]->adjusted >= a.hypotheses[2]->p);
        QCOMPARE(a.hypotheses[5].error().code, ErrorCode::UnknownName);
        QCOMPARE(a.hypotheses[6].error().code, ErrorCode::BadSetting);
        QCOMPARE(a.hypotheses[7].error().code, ErrorCode::BadSetting);
        QCOMPARE(a.hypotheses[8].error().code, ErrorCode::BadSetting);
        QCOMPARE(*a.hypotheses[9]->estimate, a.fit->coefficients[4].estimate);
        QCOMPARE(falseDiscoveryAdjusted({0.01, 0.04, 0.03, 0.5}),
                 (std::vector<double>{0.04, 0.04 * 4 / 3, 0.04 * 4 / 3, 0.5}));
    }

    void aSquareTurns() {
        const Answer a = answer(table(), plain("y", {"x", "power(x, 2)"}));
        QCOMPARE(a.turningPoints.size(), std::size_t{1});
        const TurningPoint& t = a.turningPoints.front();
        const auto& r = reference()["turning"];
        QVERIFY(near(t.at, r["at"], 1e-10) && near(t.se, r["se"], 1e-9));
        QVERIFY(near(*t.low, r["low"], 1e-9) && near(*t.high, r["high"], 1e-9));
        QVERIFY(!t.outside);
        QVERIFY(t.peak);
        // A product with it moves the turn from row to row.
        QVERIFY(answer(table(), levels()).turningPoints.empty());
    }

    void drawsAgreeWithRefitting_data() {
        QTest::addColumn<QString>("scheme");
        for (const char* scheme : {"rows", "clusters", "wild"}) {
            QTest::newRow(scheme) << scheme;
        }
    }

    void drawsAgreeWithRefitting() {
        QFETCH(QString, scheme);
        const auto& all = reference()["draws"];
        const auto& r = all[scheme.toStdString()];
        for (const char* interval : {"percentile", "bca"}) {
            Question q = plain("y", {"x", "z"});
            q.errors.kind = "bootstrap";
            q.errors.scheme = scheme.toStdString();
            q.errors.interval = interval;
            q.errors.draws = all["B"];
            q.errors.seed = all["seed"].get<std::uint64_t>();
            if (scheme == "clusters") {
                q.errors.by = {"c"};
            }
            const Answer a = answer(table(), q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            QCOMPARE(a.fit->resampling->failed, 0);
            for (Eigen::Index i = 0; i < 3; ++i) {
                for (Eigen::Index j = 0; j < 3; ++j) {
                    QVERIFY(near(
                        a.fit->covariance(i, j),
                        r["covariance"][static_cast<std::size_t>(i)][static_cast<std::size_t>(j)],
                        1e-8));
                }
                const Coefficient& c = a.fit->coefficients[static_cast<std::size_t>(i)];
                QVERIFY(near(c.low, r[interval][static_cast<std::size_t>(i)][0], 1e-8));
                QVERIFY(near(c.high, r[interval][static_cast<std::size_t>(i)][1], 1e-8));
                // The interval leaves zero out exactly where p says so.
                QCOMPARE(c.low > 0.0 || c.high < 0.0, *c.p < 0.05);
            }
        }
    }

    void wildDrawsByClustersImposeTheHypothesis() {
        const auto& all = reference()["draws"];
        for (const char* kind : {"many", "few"}) {
            Question q = plain("y", {"x", "z"});
            q.errors.kind = "bootstrap";
            q.errors.scheme = "wild-clusters";
            q.errors.by = {std::string(kind) == "many" ? "c" : "few"};
            q.errors.draws = all["B"];
            q.errors.seed = all["seed"].get<std::uint64_t>();
            const Answer a = answer(table(), q);
            QVERIFY(!a.refusal);
            const auto& r = all["wild-clusters"][kind];
            for (std::size_t j = 0; j < 3; ++j) {
                QCOMPARE(*a.fit->coefficients[j].p, r["p"][j].get<double>());
            }
            // Values inside the interval are those whose p is over 5 %.
            const Coefficient& z = a.fit->coefficients[2];
            for (const auto& one : r["p at"]) {
                const double at = one[0];
                QCOMPARE(at > z.low && at<z.high, one[1].get<double>()> 0.05);
            }
        }
    }

    void drawsDoNotHangOnThreads() {
        Question q = plain("y", {"x", "z"});
        q.errors.kind = "bootstrap";
        q.errors.draws = 500;
        const Answer many = answer(table(), q);
        const tbb::global_control one(tbb::global_control::max_allowed_parallelism, 1);
        const Answer single = answer(table(), q);
        QVERIFY(many.fit->covariance == single.fit->covariance);
        QCOMPARE(many.fit->coefficients[1].low, single.fit->coefficients[1].low);
        // Another seed, other draws.
        q.errors.seed = 99;
        QVERIFY(answer(table(), q).fit->covariance != single.fit->covariance);
        // A bootstrap of clusters without clusters, and of frequency rows.
        q.errors.scheme = "clusters";
        QCOMPARE(answer(table(), q).refusal->code, ErrorCode::BadSetting);
    }

    void bendsAreFoundAndBounded() {
        const auto& r = reference()["bends"];
        Question q = bent(2);
        q.predict = {{{{"x", 5.0}, {"z", 0.5}}}};
        q.effects = {{"x", EffectRequest::As::At, {{"x", 9.0}}}};
        const Answer a = answer(bentTable(), q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const BentLine& bent = *a.fit->bent;
        QVERIFY(near(a.fit->statistics.rss, r["rss"], 1e-9));
        QCOMPARE(a.fit->dfResidual, 83.0);
        for (std::size_t j = 0; j < 2; ++j) {
            QVERIFY(near(bent.bends[j].at, r["at"][j], 1e-6));
            QVERIFY(near(bent.bends[j].se, r["se"][j], 1e-5));
            QVERIFY(near(bent.bends[j].low, r["ends"][j][0], 1e-5));
            QVERIFY(near(bent.bends[j].high, r["ends"][j][1], 1e-5));
            QVERIFY(bent.bends[j].profile);
            QCOMPARE(a.fit->coefficients[5 + j].equation, std::string("bend"));
            QVERIFY(!a.fit->coefficients[5 + j].p);
        }
        for (std::size_t j = 0; j < 5; ++j) {
            QVERIFY(near(a.fit->coefficients[j].estimate, r["b"][j], 1e-5));
            QVERIFY(near(a.fit->coefficients[j].se, r["se b"][j], 1e-5));
        }
        QVERIFY(near(bent.largest, r["davies"]["largest"], 1e-9));
        QVERIFY(near(bent.existence, r["davies"]["p"], 1e-8));
        QCOMPARE(bent.choices.size(), std::size_t{4});
        QVERIFY(bent.choices[2].bic < bent.choices[1].bic &&
                bent.choices[2].bic < bent.choices[3].bic);
        for (std::size_t m = 1; m < 4; ++m) {
            QVERIFY(bent.choices[m].rss <= bent.choices[m - 1].rss);
        }
        // Slopes and predictions follow the pieces.
        const auto& b = r["b"];
        const double middle = b[1].get<double>() + b[3].get<double>();
        QVERIFY(near(bent.bends[0].slopeAfter, middle, 1e-5));
        QVERIFY(near(a.effects[0]->front().effect.value, bent.bends[1].slopeAfter, 1e-9));
        const double at5 = b[0].get<double>() + 5.0 * b[1].get<double>() +
                           0.5 * b[2].get<double>() +
                           (5.0 - r["at"][0].get<double>()) * b[3].get<double>();
        QVERIFY(near(a.predictions->front().mean.value, at5, 1e-6));
    }

    void bendsStayWhereTheyAreHeld() {
        Question q = bent(2);
        q.settings.start = {7.0, 3.0};
        q.settings.fixed = true;
        const Answer a = answer(bentTable(), q);
        QVERIFY(!a.refusal);
        QCOMPARE(a.fit->bent->bends[0].at, 3.0);
        QCOMPARE(a.fit->bent->bends[1].at, 7.0);
        QCOMPARE(a.fit->dfResidual, 85.0);
        // The same as least squares on the hinges.
        const Answer plainFit =
            answer(bentTable(), plain("y", {"x", "z", "greatest(x - 3, 0)", "greatest(x - 7, 0)"}));
        for (std::size_t j = 0; j < 5; ++j) {
            QVERIFY(near(a.fit->coefficients[j].estimate, plainFit.fit->coefficients[j].estimate,
                         1e-10));
            QVERIFY(near(a.fit->coefficients[j].se, plainFit.fit->coefficients[j].se, 1e-10));
        }
        q.settings.start = {3.0, 70.0};
        QCOMPARE(answer(bentTable(), q).refusal->code, ErrorCode::BadSetting);
        q = bent(1);
        q.settings.variable = "w";
        QCOMPARE(answer(bentTable(), q).refusal->code, ErrorCode::BadSetting);
        q = bent(3);
        const Answer few = answer(tableOf({{"x", {1, 2, 3, 1, 2, 3, 1, 2, 3, 4, 4, 4}},
                                           {"z", {1, 4, 2, 5, 3, 7, 1, 2, 8, 3, 2, 1}},
                                           {"y", {1, 2, 3, 4, 3, 2, 1, 4, 3, 3, 2, 5}}}),
                                  q);
        QCOMPARE(few.refusal->code, ErrorCode::TooFewRows);
    }

    void bendsMoveWithTheUnits() {
        // Scale x by 1000 and y by −3, turn the rows around: the same bends in other units.
        const Table t = bentTable();
        std::vector<std::vector<double>> c;
        for (const Column& column : t.columns) {
            c.emplace_back(column.numbers().rbegin(), column.numbers().rend());
        }
        for (std::size_t i = 0; i < c[0].size(); ++i) {
            c[0][i] *= 1000.0;
            c[2][i] *= -3.0;
        }
        const Answer a = answer(t, bent(2));
        const Answer b = answer(tableOf({{"x", c[0]}, {"z", c[1]}, {"y", c[2]}}), bent(2));
        for (std::size_t j = 0; j < 2; ++j) {
            QVERIFY(near(b.fit->bent->bends[j].at, 1000.0 * a.fit->bent->bends[j].at, 1e-7));
            QVERIFY(near(b.fit->bent->bends[j].slopeAfter,
                         -0.003 * a.fit->bent->bends[j].slopeAfter, 1e-6));
        }
        QVERIFY(near(b.fit->bent->existence, a.fit->bent->existence, 1e-8));
    }

    void modelsAreTestedAgainstEachOther() {
        const Table t = table();
        const Answer big = answer(t, plain("y", {"x", "z", "m"}));
        const Answer small = answer(t, plain("y", {"x", "z"}));
        const Answer rival = answer(t, plain("y", {"power(z, 2)", "m"}));
        const auto test = [](const Answer& a, const Answer& b) {
            return testModels(*a.design, *a.fit, *b.design, *b.fit, a.question.errors, Job());
        };
        const auto& r = reference()["models"];
        for (const auto& nested : {test(small, big), test(big, small)}) {
            QVERIFY(nested && nested->kind == ModelTest::Kind::Nested);
            QVERIFY(near(nested->f.value, r["f"], 1e-9) && near(nested->f.p, r["p"], 1e-8));
        }
        QVERIFY(test(small, big)->firstIsSmaller && !test(big, small)->firstIsSmaller);
        const auto apart = test(small, rival);
        QVERIFY(apart && apart->kind == ModelTest::Kind::NonNested);
        for (const auto& [side, key] : {std::pair{apart->first, "small against rival"},
                                        {apart->second, "rival against small"}}) {
            QVERIFY(near(side.t, r[key]["t"], 1e-8) && near(side.p, r[key]["p"], 1e-7));
            QVERIFY(near(side.n, r[key]["cox"], 1e-8) && near(side.pCox, r[key]["cox p"], 1e-7));
        }
        QVERIFY(test(small, small)->kind == ModelTest::Kind::Alike);
        QVERIFY(!test(small, answer(t, plain("ln(y)", {"x"}))));
        Question fewer = plain("y", {"x", "m"});
        fewer.without = {1};
        QVERIFY(!test(small, answer(t, fewer)));
        // And it is said beside the difference.
        bool said = false;
        for (const std::string& p : differenceReading(small, big)) {
            said = said || p.find("F(1, 68)") != std::string::npos;
        }
        QVERIFY(said);
    }

    void everyDoubtIsOpenDecidedOrAnswered() {
        Study study;
        Question first = explain("y", {"x"});
        first.title = "first";
        Question second = explain("y", {"x", "power(x, 2)"});
        second.id = "q2";
        second.title = "second";
        second.variantOf = "q1";
        second.errors.kind = "robust";
        study.questions = {first, second};
        const auto made = [](const Question& q,
                             std::vector<std::pair<const char*, Verdict>> verdicts) {
            Answer a;
            a.question = q;
            a.fit = std::make_shared<const Fit>();
            for (const auto& [id, verdict] : verdicts) {
                CheckResult c;
                c.id = id;
                c.verdict = verdict;
                c.headline = "p = .01";
                a.checks.push_back(c);
            }
            return a;
        };
        Answer a = made(first, {{"reset", Verdict::Fails},
                                {"rainbow", Verdict::Fails},
                                {"white", Verdict::Fails},
                                {"jarque-bera", Verdict::Weigh},
                                {"durbin-watson", Verdict::NotApplicable}});
        const Answer b = made(second, {{"reset", Verdict::Fine},
                                       {"rainbow", Verdict::Fine},
                                       {"white", Verdict::AllowedFor},
                                       {"jarque-bera", Verdict::Weigh}});
        using State = AssumptionRow::State;
        auto rows = assumptionLedger(study, {&a, &b});
        QCOMPARE(rows.size(), std::size_t{7});
        QVERIFY(rows[0].state == State::Answered);
        QVERIFY(rows[0].done.find("second") != std::string::npos);
        QVERIFY(rows[0].evidence.find("p = .01") != std::string::npos);
        // An uneven spread and classical errors: the variant’s allow for it.
        QVERIFY(rows[1].state == State::Answered);
        QVERIFY(rows[1].done.find("allow") != std::string::npos);
        QVERIFY(rows[2].state == State::Open && rows[3].state == State::Unasked);
        QVERIFY(rows[4].state == State::Fine);
        QVERIFY(rows[5].state == State::Answered);  // Robust errors allow for it.
        QCOMPARE(openDoubts(rows), std::size_t{2});
        // A reason closes a doubt; without one it opens again.
        study.questions[0] = withDecision(study.questions[0], {"jarque-bera"}, "kept", "many rows");
        a.question = study.questions[0];
        rows = assumptionLedger(study, {&a, &b});
        QVERIFY(rows[2].state == State::Decided);
        QCOMPARE(rows[2].done, std::string("kept: many rows"));
        QCOMPARE(withDecision(a.question, {"jarque-bera"}, "kept", "").decisions.size(),
                 std::size_t{0});
        // One reason for two checks that fail together is not enough for both.
        study.questions[0] = withDecision(study.questions[0], {"rainbow"}, "accepted", "far out");
        a.question = study.questions[0];
        QVERIFY(assumptionLedger(study, {&a})[0].state == State::Open);
        // The ledger goes through the study file and into the report.
        study.source.file = "a.csv";
        const auto again = readStudyText(studyText(study));
        QVERIFY(again && again->questions[0].decisions == study.questions[0].decisions);
        study.report = {{"assumptions", {}}};
        const std::string page =
            writeHtml(reportPages(study, {{"q1", &a}, {"q2", &b}}), "t")->bytes;
        QVERIFY(page.find("kept: many rows") != std::string::npos);
        QVERIFY(page.find("open") != std::string::npos);
    }

    void theSmallestEffectThatWouldBeFound() {
        // By the normal law: 1.959964 + .841621 errors.
        Coefficient c;
        c.se = 2.0;
        QVERIFY(near(*smallestSeen(c, 0.05), 2.0 * 2.8015852, 1e-7));
        // t with 10 degrees of freedom: 2.2281389 + .8790578.
        c.df = 10.0;
        QVERIFY(near(*smallestSeen(c, 0.05), 2.0 * 3.1071967, 1e-7));
        c.se = 0.0;
        QVERIFY(!smallestSeen(c, 0.05));
        c.se = std::numeric_limits<double>::quiet_NaN();
        QVERIFY(!smallestSeen(c, 0.05));
        // In every coefficient of the results, and in the words of an effect that is not clear.
        Question q = levels();
        const Answer a = answer(table(), q);
        const auto json = resultsJson(Study{}, {a})["answers"][0]["coefficients"];
        bool told = false;
        for (std::size_t k = 0; k < a.fit->coefficients.size(); ++k) {
            const Coefficient& one = a.fit->coefficients[k];
            QVERIFY(
                near(json[k]["smallest_seen"].get<double>(), *smallestSeen(one, a.alpha), 1e-14));
            std::string all;
            for (const std::string& words : effectReading(a, k)) {
                all += words;
            }
            const bool unclear = one.designTerm >= 0 && one.p && *one.p >= a.alpha;
            QCOMPARE(all.find("four samples of five") != std::string::npos, unclear);
            told = told || unclear;
        }
        QVERIFY(told);
    }

    void readingsNameWhatTheySpeakOf() {
        Question q = levels();
        q.predict = {{{{"x", 90.0}, {"m", 1.0}}}, {{{"g", 2.0}}}};
        q.hypotheses = {"z = 0.4", "z > 5", "g = 0"};
        const Answer a = answer(table(), q);
        const auto first = predictionReading(a, 0);
        QVERIFY(first[0].find("m yes") != std::string::npos);
        QVERIFY(std::any_of(first.begin(), first.end(),
                            [](const auto& p) { return p.find("outside") != std::string::npos; }));
        QVERIFY(predictionReading(a, 1)[1].find("Against the first") != std::string::npos);
        QVERIFY(hypothesisReading(a, 1).find("not shown") != std::string::npos);
        QVERIFY(hypothesisReading(a, 2).size() > 40);
        const Answer turn = answer(table(), plain("y", {"x", "power(x, 2)"}));
        QVERIFY(turningReading(turn, turn.turningPoints[0]).find("5.8") != std::string::npos);
        const Answer bends = answer(bentTable(), bent(2));
        QCOMPARE(bendReading(bends).size(), std::size_t{5});
        QCOMPARE(methodText(bends.question), std::string("a line with 2 bends in x"));
        QVERIFY(methodsReading(bends).find("bends") != std::string::npos);
        QVERIFY(bendReading(a).empty());
    }

    void aSweepIsEveryCombinationFittedAlone() {
        const Table t = table();
        const Frame frame = frameOf(t);
        Study study;
        study.sets = {{"pair", {"z", "power(z, 2)"}}};
        Question q = plain("y", {"x", "g", "m"});
        q.id = "q1";
        q.terms.push_back({Term::Kind::Set, {"pair"}, false});
        study.questions = {q};
        SweepSpec spec{q, "x", {1, 2, 3}, {ErrorSpec{}, ErrorSpec{"robust", "HC3", {}}}, {}};
        spec.samples = {
            {"all rows", "", {}}, {"without the first", "", {1}}, {"few z", "z < 2", {}}};
        const auto swept = sweep(study, frame, spec, Job());
        QVERIFY2(swept.has_value(), swept ? "" : swept.error().text().c_str());
        QCOMPARE(swept->results.size(), std::size_t{8 * 2 * 3});
        QCOMPARE(swept->failed, std::size_t{0});
        QVERIFY(
            std::is_sorted(swept->results.begin(), swept->results.end(),
                           [](const auto& a, const auto& b) { return a.estimate < b.estimate; }));
        std::size_t clear = 0;
        for (const SweepResult& r : swept->results) {
            const Answer alone = answerQuestion(study, frame, swept->variant(r), Job());
            QVERIFY(!alone.refusal);
            const Coefficient& x = alone.fit->coefficients[1];
            QCOMPARE(x.term, std::string("x"));
            QVERIFY(near(r.estimate, x.estimate, 1e-10) && near(r.se, x.se, 1e-10));
            QVERIFY(near(r.p, *x.p, 1e-8));
            QCOMPARE(r.rows, alone.rows.used);
            clear += r.p < 0.05 ? 1U : 0U;
        }
        QCOMPARE(swept->shareClear, static_cast<double>(clear) / 48.0);
        QCOMPARE(swept->median, 0.5 * (swept->results[23].estimate + swept->results[24].estimate));
        QCOMPARE(swept->choices.size(), std::size_t{3 + 2 + 3});
        // Errors move no estimate; a term's mark is where it is in.
        QVERIFY(std::abs(swept->choices[3].moves) < 1e-12);
        QVERIFY(swept->choices[3].widens != 1.0);
        double with = 0.0;
        double without = 0.0;
        for (const SweepResult& r : swept->results) {
            (swept->made(r, swept->choices[1]) ? with : without) += r.estimate / 24.0;
        }
        QVERIFY(near(swept->choices[1].moves, with - without, 1e-10));
        // What cannot be swept says why.
        spec.of = "m";
        QCOMPARE(sweep(study, frame, spec, Job()).error().code, ErrorCode::BadSetting);
        spec.of = "hives";
        QCOMPARE(sweep(study, frame, spec, Job()).error().code, ErrorCode::BadSetting);
        spec.of = "x";
        const Job stopped;
        stopped.stop();
        QCOMPARE(sweep(study, frame, spec, stopped).error().code, ErrorCode::Stopped);
        spec.errors.clear();
        QCOMPARE(sweep(study, frame, spec, Job()).error().code, ErrorCode::BadSetting);
        spec.errors.assign(10000, ErrorSpec{});
        QCOMPARE(sweep(study, frame, spec, Job()).error().code, ErrorCode::BadSetting);
    }

    void termsComeInOneByOne() {
        Question q = levels();
        q.id = "q1";
        q.terms[1].muted = true;
        const auto series = progressiveSeries(q);
        QCOMPARE(series.size(), std::size_t{4});
        QCOMPARE(series[0].title, std::string("x alone"));
        QCOMPARE(series[3].title, std::string("and m"));
        Study study;
        study.questions = {q};
        study.source.file = "a.csv";
        const auto put = apply(study, {PutQuestions{series}, "series"});
        QVERIFY(put && put->questions.size() == 5 && put->trail.size() == 1);
        QCOMPARE(put->family("q1").size(), std::size_t{5});
        std::size_t terms = 0;
        for (const Question& one : put->questions) {
            if (one.id != "q1") {
                const Answer a = answer(table(), one);
                QVERIFY(!a.refusal && a.fit->coefficients.size() > terms);
                terms = a.fit->coefficients.size();
            }
        }
        QVERIFY(progressiveSeries(plain("y", {"x"})).empty());
    }

    void curvesRunThroughTheirRows() {
        const Answer a = answer(table(), levels());
        const auto e = shapeExhibit(a, "x");
        QVERIFY(e && e->x.size() == 72 && e->bands.size() == 1);
        // A row lies off the curve by its residual; the curve at a row’s own x by predicting.
        const auto place = a.scenarios->at({{{"x", e->x[10]}}});
        double on = 0.0;
        for (Eigen::Index c = 0; c < place->cols(); ++c) {
            on += (*place)(0, c) * a.fit->coefficients[static_cast<std::size_t>(c)].estimate;
        }
        QVERIFY(std::abs(e->y[10] - a.fit->residuals(10) - on) < 1e-3);
        QCOMPARE(shapeExhibit(a, "g")->intervals.size(), std::size_t{3});
        QCOMPARE(shapeExhibit(a, "m")->xNames, (std::vector<std::string>{"no", "yes"}));
        QVERIFY(!shapeExhibit(a, "w"));
        // A bend put elsewhere leaves more.
        const Answer b = answer(bentTable(), bent(2));
        const auto preview = bentPreview(b, {3.5, 8.0});
        QVERIFY(preview && preview->rss > b.fit->statistics.rss);
        const auto same = bentPreview(b, {b.fit->bent->bends[0].at, b.fit->bent->bends[1].at});
        QVERIFY(near(same->rss, b.fit->statistics.rss, 1e-9));
        QVERIFY(!bentPreview(a, {3.0}));
    }

    void requestsAreReadAndWritten() {
        const std::string text = R"({"format": "rapporto-study", "version": 1,
            "source": {"kind": "table", "file": "a.csv"}, "questions": [
            {"id": "q1", "kind": "explain", "outcome": "y", "terms": ["x"],
             "estimator": {"method": "bent-line", "variable": "x", "bends": 2, "start": [1, 2.5], "fixed": true},
             "errors": {"kind": "bootstrap", "draws": 500, "seed": 3, "scheme": "clusters", "by": "c",
                        "interval": "bca"},
             "effects": [{"of": "x", "as": "average"}, {"of": "x", "as": {"at": {"x": 2}}, "scale": "elasticity"}],
             "predict": [{"at": {"x": 2, "g": "Ridge"}, "label": "two"}],
             "hypotheses": ["x = 1"],
             "decisions": [{"check": "reset", "decision": "accepted", "reason": "small"}]}]})";
        const auto study = readStudyText(text);
        QVERIFY(study.has_value());
        const Question& q = study->questions[0];
        QVERIFY2(!q.unbuilt, q.unbuilt ? q.unbuilt->text().c_str() : "");
        QVERIFY(q.unknownKeys.empty());
        QCOMPARE(q.settings.start, (std::vector<double>{1.0, 2.5}));
        QCOMPARE(q.errors.draws, 500);
        QCOMPARE(std::get<std::string>(q.predict[0].at.at("g")), std::string("Ridge"));
        QVERIFY(q.effects[1].elasticity && q.effects[1].as == EffectRequest::As::At);
        QCOMPARE(q.decisions[0].reason, std::string("small"));
        const auto again = readStudyText(studyText(*study));
        Question other = again->questions[0];
        other.raw = q.raw;
        QVERIFY(other.sameAs(q));
        for (const auto& [from, to] : std::vector<std::pair<std::string, std::string>>{
                 {"\"bends\": 2", "\"bends\": 9"},
                 {"\"scheme\": \"clusters\"", "\"scheme\": \"circus\""},
                 {"\"decision\": \"accepted\"", "\"decision\": \"waved\""},
                 {"\"as\": \"average\"", "\"as\": \"mediocre\""}}) {
            std::string bad = text;
            bad.replace(bad.find(from), from.size(), to);
            QVERIFY2(readStudyText(bad)->questions[0].unbuilt.has_value(), to.c_str());
        }
    }
};

QTEST_APPLESS_MAIN(EffectsTest)
#include "effects_test.moc"
