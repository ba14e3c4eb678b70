// Choosing terms, shapes that are tried, rows of a fit: against numbers made another way.
#include "core/checks/row_sheet.h"
#include "core/model/term_choice.h"
#include "core/report/report.h"
#include "core/report/term_choice_picture.h"
#include "core/report/wording.h"
#include "core/study/shape_trials.h"
#include "core/study/study.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <limits>
#include <numeric>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/terms_reference.json");
    return kReference;
}

Table table() {
    std::vector<std::pair<std::string, std::vector<double>>> columns;
    for (const auto& [name, cells] : reference()["data"].items()) {
        columns.emplace_back(name, cells.get<std::vector<double>>());
    }
    Table t = tableOf(columns);
    t.variables[static_cast<std::size_t>(t.find("g"))].measure = Measure::Groups;
    return t;
}

Question all() {
    Question q = explain("y", {"a", "b", "c", "d", "e", "f", "g"});
    q.allChecks = false;
    return q;
}

Question weighted() {
    Question q = all();
    q.weightKind = WeightKind::Precision;
    q.weight = "w";
    return q;
}

Question clustered() {
    Question q = all();
    q.errors = ErrorSpec{"clustered", "HC1", {"u"}};
    return q;
}

Design designOf(const Question& question) {
    return *makeDesign(frameOf(table()), question, {}, Job());
}

std::vector<std::string> namesOf(const Design& design, const std::vector<std::size_t>& terms) {
    std::vector<std::string> out;
    for (const std::size_t t : terms) {
        out.push_back(design.terms[t].name);
    }
    return out;
}

std::vector<bool> held(const Design& design, const std::vector<std::string>& names = {}) {
    std::vector<bool> out;
    for (const DesignTerm& term : design.terms) {
        out.push_back(std::find(names.begin(), names.end(), term.name) != names.end());
    }
    return out;
}

bool agrees(const Design& design, const TermSubset& s, const nlohmann::json& r) {
    return namesOf(design, s.terms) == r["terms"].get<std::vector<std::string>>() &&
           near(s.coefficients, r["k"], 1e-12) && near(s.rss, r["rss"], 1e-10) &&
           near(*s.aic, r["aic"], 1e-10) && near(*s.aicc, r["aicc"], 1e-10) &&
           near(*s.bic, r["bic"], 1e-10) && near(*s.mallowsCp, r["cp"], 1e-8) &&
           near(s.adjustedRSquared, r["adjusted"], 1e-9) && near(*s.leaveOneOut, r["loo"], 1e-10);
}

}  // namespace

class TermsTest : public QObject {
    Q_OBJECT

  private slots:

    void bestSubsetsAreThoseOfFittingThemAll_data() {
        QTest::addColumn<QString>("key");
        QTest::newRow("plain") << "subsets";
        QTest::newRow("weights") << "weighted subsets";
    }

    void bestSubsetsAreThoseOfFittingThemAll() {
        QFETCH(QString, key);
        const auto& r = reference()[key.toStdString()];
        const Design design = designOf(key == "subsets" ? all() : weighted());
        const auto found = searchSubsets(design, held(design), 5, Job());
        QVERIFY(found.has_value());
        QCOMPARE(found->possible, r["possible"].get<double>());
        QVERIFY(static_cast<double>(found->tried) <= found->possible);
        for (const auto& size : r["sizes"]) {
            const auto best = std::find_if(
                found->subsets.begin(), found->subsets.end(),
                [&](const auto& s) { return s.coefficients == size["k"].template get<double>(); });
            QVERIFY(best != found->subsets.end());
            QVERIFY2(agrees(design, *best, size), size.dump().c_str());
        }
        for (const auto& [name, by] : {std::pair{"best aic", Criterion::Aic},
                                       {"best bic", Criterion::Bic},
                                       {"best aicc", Criterion::Aicc},
                                       {"best cp", Criterion::MallowsCp},
                                       {"best adjusted", Criterion::AdjustedRSquared},
                                       {"best loo", Criterion::LeaveOneOut}}) {
            QVERIFY2(agrees(design, *found->best(by), r[name]), name);
        }
    }

    void aHeldTermIsInEverySubset() {
        const Design design = designOf(all());
        const auto found = searchSubsets(design, held(design, {"b"}), 3, Job());
        QVERIFY(found.has_value());
        QCOMPARE(found->possible, 64.0);
        for (const TermSubset& s : found->subsets) {
            QVERIFY(std::binary_search(s.terms.begin(), s.terms.end(), std::size_t{1}));
        }
    }

    void aProductOrPowerStaysOnlyWithItsParts() {
        Question q = explain("y", {"f", "power(f, 2)", "a", "b"});
        q.terms.push_back({Term::Kind::Product, {"a", "b"}, false});
        q.allChecks = false;
        const Design design = designOf(q);
        const auto parts = termParts(design);
        QCOMPARE(parts[1], (std::vector<std::size_t>{0}));
        QCOMPARE(parts[4], (std::vector<std::size_t>{2, 3}));
        const auto found = searchSubsets(design, held(design), 100, Job());
        QVERIFY(found.has_value());
        // {}, f, ff², each with {}, a, b, ab, ab and their product: 3 × 5.
        QCOMPARE(found->subsets.size(), std::size_t{15});
        for (const TermSubset& s : found->subsets) {
            const std::set<std::size_t> in(s.terms.begin(), s.terms.end());
            QVERIFY(!in.contains(1) || in.contains(0));
            QVERIFY(!in.contains(4) || (in.contains(2) && in.contains(3)));
        }
    }

    void subsetsDoNotHangOnUnitsOrOrder() {
        Table t = table();
        Table scaled = t;
        for (auto& column : scaled.columns) {
            if (column.name() == "a" || column.name() == "f") {
                std::vector<double> cells(column.numbers().begin(), column.numbers().end());
                for (double& cell : cells) {
                    cell = cell * 1000.0 + 7.0;
                }
                column = Column::ofNumbers(column.name(), cells);
            }
        }
        const Question turned = [&] {
            Question q = all();
            std::reverse(q.terms.begin(), q.terms.end());
            return q;
        }();
        const Design one = *makeDesign(frameOf(t), all(), {}, Job());
        const Design other = *makeDesign(frameOf(scaled), turned, {}, Job());
        const auto a = searchSubsets(one, held(one), 1, Job());
        const auto b = searchSubsets(other, held(other), 1, Job());
        QVERIFY(a && b);
        QCOMPARE(a->subsets.size(), b->subsets.size());
        for (std::size_t i = 0; i < a->subsets.size(); ++i) {
            QVERIFY(near(a->subsets[i].rss, b->subsets[i].rss, 1e-9));
            const auto left = namesOf(one, a->subsets[i].terms);
            const auto right = namesOf(other, b->subsets[i].terms);
            QCOMPARE(std::set(left.begin(), left.end()), std::set(right.begin(), right.end()));
        }
    }

    void lassoPath_data() {
        QTest::addColumn<QString>("key");
        QTest::newRow("rows") << "lasso";
        QTest::newRow("clusters kept together, one term held") << "clustered lasso";
    }

    void lassoPath() {
        QFETCH(QString, key);
        const auto& r = reference()[key.toStdString()];
        const bool byCluster = key != "lasso";
        const Design design = designOf(byCluster ? clustered() : all());
        const auto keep =
            held(design, byCluster ? std::vector<std::string>{"b"} : std::vector<std::string>{});
        const auto path = rapporto::lassoPath(design, keep, 5, Job());
        QVERIFY(path.has_value());
        QCOMPARE(path->partsOfClusters, byCluster);
        QCOMPARE(path->lambda.size(), std::size_t{100});
        for (std::size_t l = 0; l < 100; ++l) {
            QVERIFY(near(path->lambda[l], r["lambda"][l], 1e-10));
            QVERIFY2(near(path->error[l], r["error"][l], 1e-8), qPrintable(QString::number(l)));
            QVERIFY(near(path->errorSe[l], r["se"][l], 1e-6));
        }
        for (std::size_t s = 0; s < r["coefficients"].size(); ++s) {
            Eigen::Index free = 0;
            for (std::size_t j = 0; j < r["free"].size(); ++j) {
                if (r["free"][j].get<bool>()) {
                    const double mine =
                        path->coefficients(free++, static_cast<Eigen::Index>(9 * s));
                    QVERIFY(std::abs(mine - r["coefficients"][s][j].get<double>()) < 1e-9);
                }
            }
            QCOMPARE(free, path->coefficients.rows());
        }
        QCOMPARE(path->best, r["best"].get<std::size_t>());
        QCOMPARE(path->oneSe, r["one"].get<std::size_t>());
        const auto terms = path->termsAt(design, keep, 0);
        QCOMPARE(terms.size(), byCluster ? std::size_t{1} : std::size_t{0});
    }

    void doubleSelection_data() {
        QTest::addColumn<bool>("byCluster");
        QTest::newRow("rows") << false;
        QTest::newRow("clusters") << true;
    }

    void doubleSelection() {
        QFETCH(bool, byCluster);
        const auto& r = reference()[byCluster ? "clustered double" : "double"];
        const Design design = designOf(byCluster ? clustered() : all());
        const auto found = rapporto::doubleSelection(design, 3, Job());
        QVERIFY(found.has_value());
        QCOMPARE(namesOf(design, found->forOutcome), r["outcome"].get<std::vector<std::string>>());
        QCOMPARE(namesOf(design, found->forTerm), r["term"].get<std::vector<std::string>>());
        QVERIFY(std::binary_search(found->together.begin(), found->together.end(), std::size_t{3}));
    }

    void termsThatSayTheSameAreTakenOutOneByOne() {
        Table t = table();
        std::vector<double> near;
        const auto a = t.columns[static_cast<std::size_t>(t.find("a"))].numbers();
        const auto e = t.columns[static_cast<std::size_t>(t.find("e"))].numbers();
        for (std::size_t i = 0; i < a.size(); ++i) {
            near.push_back(2.0 * a[i] + 0.02 * e[i]);
        }
        t.columns.push_back(Column::ofNumbers("twin", near));
        Variable v;
        v.name = "twin";
        t.variables.push_back(v);
        Question q = explain("y", {"a", "b", "twin", "f", "power(f, 2)"});
        q.allChecks = false;
        const auto found = answer(t, q);
        QVERIFY(found.fit != nullptr);
        const auto steps = overlapSteps(*found.design, *found.fit);
        QCOMPARE(steps.size(), std::size_t{1});
        QVERIFY(steps[0].term == 0 || steps[0].term == 2);
        // The inflation is that of the check: 1/(1 − R²) of the term on the others.
        const CheckRequest options{"vif"};
        const CheckResult vif =
            checkVif({frameOf(t), q, *found.design, *found.fit, options, 0.05, Job()});
        const std::string name = "vif " + found.design->terms[steps[0].term].name;
        const auto of = std::find_if(vif.details.begin(), vif.details.end(),
                                     [&](const auto& d) { return d.first == name; });
        QVERIFY(of != vif.details.end());
        QVERIFY(test::near(steps[0].inflation, of->second, 1e-6));
        QVERIFY(steps[0].left < 10.0);
    }

    void refusalsSayWhatHelps() {
        const Design design = designOf(all());
        const auto none = searchSubsets(design, std::vector<bool>(7, true), 3, Job());
        QVERIFY(!none);
        QVERIFY(none.error().help.find("Let go") != std::string::npos);
        Job stopped;
        stopped.stop();
        const auto gone = rapporto::lassoPath(design, held(design), 1, stopped);
        QVERIFY(!gone);
        QCOMPARE(gone.error().code, ErrorCode::Stopped);
        QVERIFY(!rapporto::doubleSelection(designOf(explain("y", {"a"})), 0, Job()));
    }

    void aChosenQuestionSaysSoEverywhereAndRoundTrips() {
        const Design design = designOf(all());
        const auto among = openedTerms(all(), {});
        const Question chosen =
            withTerms(all(), {}, {0, 2}, TermChoice{"bic", among, ""}, "by BIC");
        QCOMPARE(chosen.terms.size(), std::size_t{2});
        QCOMPARE(chosen.variantOf, std::string("q1"));
        QVERIFY(chosen.choseTerms());
        Question whole = all();
        whole.chosen = TermChoice{"bic", among, ""};
        QVERIFY(!whole.choseTerms());
        Question named = chosen;
        named.id = "q2";
        const Answer found = answer(table(), named);
        QVERIFY(answerReading(found).find("chosen among 7") != std::string::npos);
        QVERIFY(methodsReading(found).find("by BIC") != std::string::npos);
        Study study;
        study.questions = {all(), named};
        const auto read = readStudyText(studyText(study));
        QVERIFY(read.has_value());
        QVERIFY(read->questions[1].chosen == named.chosen);
        const TermChoice kept{"double-selection", among, "d"};
        named.chosen = kept;
        QVERIFY(choiceWarning(named).find("interval of d holds") != std::string::npos);
    }

    void shapesAreMeasuredOnTheOutcomeItself() {
        const auto& r = reference()["shapes"];
        Question q = explain("ln(p)", {"f", "a"});
        q.allChecks = false;
        const Frame frame = frameOf(table());
        QCOMPARE(outcomeVariable(frame, q), std::string("p"));
        const auto outcome = shapeTrials(frame, q, {}, "p", "f", Job());
        QVERIFY(outcome.has_value());
        QVERIFY(outcome->outcome);
        const auto check = [&](const ShapeTrials& trials, const std::string& label,
                               const char* key) {
            const auto at = std::find_if(trials.trials.begin(), trials.trials.end(),
                                         [&](const ShapeTrial& t) { return t.label == label; });
            if (at == trials.trials.end() || !at->none.empty()) {
                return false;
            }
            return near(*at->aic, r[key]["aic"], 1e-9) && near(at->error, r[key]["error"], 1e-9) &&
                   near(at->coefficients, r[key]["k"], 1e-12) && at->curve.x.size() > 100;
        };
        QVERIFY(check(*outcome, "ln p", "outcome ln"));
        QVERIFY(check(*outcome, "p as it is", "outcome one"));
        QVERIFY(check(*outcome, "√p", "outcome root"));
        const auto present = std::find_if(outcome->trials.begin(), outcome->trials.end(),
                                          [](const ShapeTrial& t) { return t.present; });
        QCOMPARE(present->label, std::string("ln p"));
        const auto term = shapeTrials(frame, q, {}, "f", "f", Job());
        QVERIFY(term.has_value());
        QVERIFY(check(*term, "ln f", "term ln"));
        QVERIFY(check(*term, "f with its square", "term square"));
        QVERIFY(check(*term, "spline of 3 knots", "term spline"));
        // A trial is a question that can be asked.
        for (const ShapeTrial& trial : term->trials) {
            if (trial.none.empty()) {
                QVERIFY2(answer(table(), trial.question).fit != nullptr, trial.label.c_str());
            }
        }
    }

    void aShapeThatCannotBeTriedSaysWhy() {
        Question q = explain("y", {"a", "f"});
        q.allChecks = false;
        const Frame frame = frameOf(table());
        const auto trials = shapeTrials(frame, q, {}, "a", "a", Job());
        QVERIFY(trials.has_value());
        const auto log = std::find_if(trials->trials.begin(), trials->trials.end(),
                                      [](const ShapeTrial& t) { return t.label == "ln a"; });
        QVERIFY(log->none.find("no value") != std::string::npos);
        QVERIFY(trials->best() != nullptr);
        QVERIFY(trials->best()->none.empty());
        QVERIFY(!shapeTrials(frame, q, {}, "c", "c", Job()));
        QVERIFY(!shapeTrials(frame, q, {}, "nowhere", "a", Job()));
        const Exhibit e = trials->exhibit(0);
        QVERIFY(!e.lines.empty());
        QCOMPARE(e.rows.size(), std::size_t{120});
    }

    void estimatesWithoutEachRowAreThoseOfRefitting() {
        Question q = explain("y", {"a", "c"});
        q.weightKind = WeightKind::Precision;
        q.weight = "w";
        q.allChecks = false;
        const Answer found = answer(table(), q);
        const Eigen::VectorXd without = estimatesWithout(*found.design, *found.fit, 1);
        const auto& r = reference()["without"];
        Eigen::Index worst = 0;
        double most = 0.0;
        for (Eigen::Index i = 0; i < without.size(); ++i) {
            QVERIFY(near(without(i), r[static_cast<std::size_t>(i)], 1e-10));
            const double change = std::abs(without(i) - found.fit->coefficients[1].estimate);
            worst = change > most ? i : worst;
            most = std::max(most, change);
        }
        const auto drops = dropOne(*found.design, *found.fit);
        QCOMPARE(drops.size(), std::size_t{2});
        QCOMPARE(drops[0].row, static_cast<std::size_t>(worst));
        QVERIFY(near(drops[0].estimate, without(worst), 1e-14));
        const RowSheet sheet = rowSheet(*found.design, *found.fit);
        for (Eigen::Index i = 0; i < without.size(); ++i) {
            QVERIFY(std::abs(sheet.observed(i) - sheet.predicted(i) - sheet.left(i)) < 1e-12);
        }
    }

    void theSlopeOfAnAddedVariablePictureIsTheEstimate() {
        const Answer found = answer(table(), all());
        for (std::size_t j = 1; j < found.fit->coefficients.size(); ++j) {
            const auto e = addedVariable(*found.design, *found.fit, j, Job());
            QVERIFY(e.has_value());
            double xy = 0.0;
            double xx = 0.0;
            for (std::size_t i = 0; i < e->x.size(); ++i) {
                xy += e->x[i] * e->y[i];
                xx += e->x[i] * e->x[i];
            }
            QVERIFY(near(xy / xx, found.fit->coefficients[j].estimate, 1e-9));
        }
    }

    void theEnvelopeHoldsWhatItSays() {
        const Answer found = answer(table(), all());
        const OrderBand band = simulatedBand(*found.design, *found.fit, 0.05, true);
        QCOMPARE(band.low.size(), std::size_t{120});
        for (std::size_t i = 0; i < band.low.size(); ++i) {
            QVERIFY(band.low[i] < band.high[i]);
            QVERIFY(i == 0 || (band.low[i] >= band.low[i - 1] && band.high[i] >= band.high[i - 1]));
        }
        const Exhibit e = halfNormal(*found.design, *found.fit, 0.05);
        QCOMPARE(e.x.size(), std::size_t{120});
        QVERIFY(std::is_sorted(e.y.begin(), e.y.end()));
        std::size_t inside = 0;
        for (std::size_t i = 0; i < e.y.size(); ++i) {
            inside += e.y[i] >= e.bands[0].low[i] && e.y[i] <= e.bands[0].high[i] ? 1U : 0U;
        }
        // The errors of these data are normal.
        QVERIFY(inside >= 108);
    }

    void effectsHeldTogetherByDraws() {
        Question q = explain("y", {"a", "b", "c", "d", "e"});
        q.allChecks = false;
        q.errors.kind = "bootstrap";
        q.errors.draws = 999;
        q.errors.seed = 77;
        const Answer found = answer(table(), q);
        QVERIFY(found.fit && found.fit->resampling);
        const auto& r = reference()["romano wolf"];
        const Eigen::VectorXd& p = found.fit->resampling->together;
        QVERIFY(std::isnan(p(0)));
        for (std::size_t j = 0; j < r.size(); ++j) {
            QVERIFY(near(p(static_cast<Eigen::Index>(j) + 1), r[j], 1e-9));
        }
    }
};

QTEST_APPLESS_MAIN(TermsTest)
#include "terms_test.moc"
