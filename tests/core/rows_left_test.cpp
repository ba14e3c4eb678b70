// Rows as they are, where a fit is of rows less a share of others: what is left of them, kept,
// drawn, foretold and standardised; by definition, on series and panels.
#include "core/model/rows_left.h"

#include "core/checks/row_sheet.h"
#include "core/model/feasible_ar.h"
#include "core/model/panel.h"
#include "core/numerics/distributions.h"
#include "core/report/effect_picture.h"
#include "core/report/results_table.h"
#include "core/study/kept.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <cmath>
#include <map>
#include <random>

using namespace rapporto;
using namespace rapporto::test;

namespace {

constexpr int kUnits = 12;
constexpr int kMoments = 15;

/// Units over moments: an echo of .6 and levels of the units.
Table panelTable() {
    std::mt19937 random(31);
    std::normal_distribution<double> normal;
    std::map<std::string, std::vector<double>> columns;
    for (int u = 0; u < kUnits; ++u) {
        const double level = normal(random);
        double echo = normal(random);
        for (int t = 0; t < kMoments; ++t) {
            echo = 0.6 * echo + 0.4 * normal(random);
            const double x = 3.0 + normal(random);
            columns["u"].push_back(u);
            columns["t"].push_back(t);
            columns["x"].push_back(x);
            columns["y"].push_back(2.0 + 0.5 * x + 0.5 * level + echo);
            columns["e"].push_back(std::exp(2.0 + 0.5 * x + 0.5 * level + echo));
        }
    }
    return tableOf({{"y", columns["y"]},
                    {"x", columns["x"]},
                    {"e", columns["e"]},
                    {"u", columns["u"]},
                    {"t", columns["t"]}});
}

Layout panel() { return {Layout::Kind::Panel, "u", "t", ""}; }

Question asked(const std::string& method, const std::string& outcome = "y") {
    Question q = explain(outcome, {"x"});
    q.method = method;
    return q;
}

/// The outcome less a + b·x, row by row of the answer.
std::vector<double> leftByHand(const Answer& a, const Table& table, std::size_t outcome,
                               bool logged = false) {
    std::vector<double> out;
    for (const std::size_t row : a.design->rows) {
        const double y = table.columns[outcome].numbers()[row];
        out.push_back((logged ? std::log(y) : y) - a.fit->coefficients[0].estimate -
                      a.fit->coefficients[1].estimate * table.columns[1].numbers()[row]);
    }
    return out;
}

double meanOf(const std::vector<double>& values) {
    double sum = 0.0;
    for (const double v : values) {
        sum += v;
    }
    return sum / static_cast<double>(values.size());
}

double squaresOf(const std::vector<double>& values) {
    const double mean = meanOf(values);
    double sum = 0.0;
    for (const double v : values) {
        sum += (v - mean) * (v - mean);
    }
    return sum;
}

}  // namespace

class RowsLeftTest : public QObject {
    Q_OBJECT

  private slots:

    void methods_data() {
        QTest::addColumn<QString>("method");
        QTest::addColumn<QString>("first");
        QTest::newRow("echo") << "feasible-ar"
                              << "kept";
        QTest::newRow("echo, first dropped") << "feasible-ar"
                                             << "dropped";
        QTest::newRow("random") << "random"
                                << "kept";
    }

    void methods() {
        QFETCH(QString, method);
        QFETCH(QString, first);
        const Table table = panelTable();
        Question q = asked(method.toStdString());
        q.settings.firstRow = first.toStdString();
        const Answer a = answer(table, q, panel());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QVERIFY(a.fit->ofShares);
        const auto byHand = leftByHand(a, table, 0);
        QCOMPARE(byHand.size(),
                 static_cast<std::size_t>(kUnits * kMoments - (first == "dropped" ? kUnits : 0)));
        const Eigen::VectorXd left = leftOfRows(*a.design, *a.fit);
        const Eigen::VectorXd fitted = fittedOfRows(*a.design, *a.fit);
        const Eigen::VectorXd outcome = outcomeOfRows(*a.design, *a.fit);
        double apart = 0.0;
        for (std::size_t i = 0; i < byHand.size(); ++i) {
            const auto at = static_cast<Eigen::Index>(i);
            QVERIFY(near(left(at), byHand[i], 1e-10));
            QCOMPARE(outcome(at), table.columns[0].numbers()[a.design->rows[i]]);
            QVERIFY(near(fitted(at) + left(at), outcome(at), 1e-12));
            apart = std::max(apart, std::abs(left(at) - a.fit->residuals(at)));
        }
        QVERIFY(apart > 0.05);  // The fit's own rows are others.
        // The sheet and what is kept are of the rows as they are.
        const RowSheet sheet = rowSheet(*a.design, *a.fit);
        QVERIFY((sheet.left - left).cwiseAbs().maxCoeff() < 1e-15);
        QVERIFY((sheet.observed - outcome).cwiseAbs().maxCoeff() < 1e-15);
        const auto kept = keptColumn(a, {"left", "", "what is left"}, table.rows(), {}, Job());
        QVERIFY(kept.has_value());
        for (std::size_t i = 0; i < byHand.size(); ++i) {
            QVERIFY(near((*kept->values)[a.design->rows[i]], byHand[i], 1e-10));
        }
        // A picture's rows stand where the curve and what is left of them put them.
        const auto shape = shapeExhibit(a, "x");
        QVERIFY(shape.has_value());
        QCOMPARE(shape->y.size(), byHand.size());
        for (std::size_t i = 0; i < byHand.size(); ++i) {
            QVERIFY(near(shape->y[i], outcome(static_cast<Eigen::Index>(i)), 1e-8));
        }
        // Standardised by the spread of these rows.
        const auto numbers = [&](std::size_t column) {
            const auto all = table.columns[column].numbers();
            return std::vector<double>(all.begin(), all.end());
        };
        QVERIFY(near(*a.fit->coefficients[1].standardised,
                     a.fit->coefficients[1].estimate *
                         std::sqrt(squaresOf(numbers(1)) / squaresOf(numbers(0))),
                     1e-10));
    }

    void otherFitsAreTheirOwnRows() {
        const Table table = panelTable();
        for (const char* method : {"least-squares", "within", "first-difference", "between"}) {
            const Answer a = answer(table, asked(method), panel());
            QVERIFY2(!a.refusal, method);
            QVERIFY(!a.fit->ofShares);
            QVERIFY(leftOfRows(*a.design, *a.fit) == a.fit->residuals);
            QVERIFY(fittedOfRows(*a.design, *a.fit) == a.fit->fitted);
            QVERIFY(columnsOfRows(*a.design, *a.fit) == a.design->X);
            QCOMPARE(varianceOfRow(*a.fit), a.fit->statistics.sigma * a.fit->statistics.sigma);
        }
    }

    void aSingleRowScattersByAllItShares() {
        const Table table = panelTable();
        for (const char* method : {"feasible-ar", "random"}) {
            Question q = asked(method);
            q.predict = {{{{"x", 3.0}}, "three"}};
            const Answer a = answer(table, q, panel());
            QVERIFY(a.predictions && !a.predictions->empty());
            const Prediction& p = a.predictions->front();
            const double sigma = a.fit->statistics.sigma;
            const double variance =
                a.fit->echo
                    ? sigma * sigma / (1.0 - std::pow(a.fit->echo->rho, 2))
                    : std::pow(*a.fit->panel->sigmaUnit, 2) + std::pow(*a.fit->panel->sigmaRest, 2);
            QVERIFY(
                near(p.rowHigh - p.mean.value,
                     criticalValue(0.05, p.mean.df) * std::sqrt(p.mean.se * p.mean.se + variance),
                     1e-10));
            // Nineteen rows of twenty lie about as far from their mean: not far fewer.
            const auto left = leftByHand(a, table, 0);
            const double reach = p.rowHigh - p.mean.value;
            const auto inside = std::count_if(left.begin(), left.end(),
                                              [&](double e) { return std::abs(e) < reach; });
            QVERIFY2(static_cast<double>(inside) > 0.9 * static_cast<double>(left.size()), method);
        }
    }

    void logarithmsAreCarriedBackByTheRows() {
        const Table table = panelTable();
        for (const char* method : {"feasible-ar", "random"}) {
            Question q = asked(method, "ln(e)");
            q.predict = {{{{"x", 3.0}}, "three"}};
            const Answer a = answer(table, q, panel());
            const Prediction& p = a.predictions->front();
            double sum = 0.0;
            const auto left = leftByHand(a, table, 2, true);
            for (const double e : left) {
                sum += std::exp(e);
            }
            QVERIFY(p.original.has_value());
            QVERIFY(near(p.original->factor, sum / static_cast<double>(left.size()), 1e-10));
            QVERIFY(near(p.original->mean, p.original->factor * std::exp(p.mean.value), 1e-12));
        }
    }

    void elasticitiesAreOfTheRows() {
        const Table table = panelTable();
        for (const char* method : {"feasible-ar", "random"}) {
            Question q = asked(method);
            EffectRequest request;
            request.of = "x";
            request.elasticity = true;
            q.effects = {request};
            const Answer a = answer(table, q, panel());
            QVERIFY(!a.refusal && !a.effects.empty() && a.effects.front().has_value());
            double sum = 0.0;
            const double b = a.fit->coefficients[1].estimate;
            for (const std::size_t row : a.design->rows) {
                const double x = table.columns[1].numbers()[row];
                sum += b * x / (a.fit->coefficients[0].estimate + b * x);
            }
            QVERIFY(near(a.effects.front()->front().effect.value,
                         sum / static_cast<double>(a.design->rows.size()), 1e-9));
        }
    }

    void aTableTellsTheMethodAndTheShare() {
        const Table table = panelTable();
        Study study;
        Question least = asked("least-squares");
        least.id = "q1";
        Question echo = asked("feasible-ar");
        echo.id = "q2";
        const Answer a = answer(table, least, panel());
        const Answer b = answer(table, echo, panel());
        TableLook look;
        look.foot = {"rows", "rho"};
        const std::vector<ResultsPanel> panels = {{"", {{&a, "one", 0}, {&b, "two", 1}}}};
        const ReportBlock block = resultsTable(study, panels, look);
        const CellRow& last = block.cells.back();
        QCOMPARE(last[0].text, std::string("ρ"));
        QVERIFY(!last[1].value.has_value());
        QCOMPARE(last[2].value, std::optional(b.fit->echo->rho));
        const std::string note = resultsNote(panels, look, 0.05, "en");
        QVERIFY2(note.find("(2) by least squares with an echo taken out, classical") !=
                     std::string::npos,
                 note.c_str());
        QVERIFY(note.find("(1) classical") != std::string::npos);
    }

    void drawsAreRefusedWhereRowsHaveTheirPlaces() {
        const Table table = panelTable();
        for (const Estimator& estimator : allEstimators()) {
            if ((estimator.takes & takes::kRowsInOrder) == 0) {
                continue;
            }
            Question q = asked(estimator.method);
            if (q.method != "feasible-ar") {
                q.terms = {Term::expression("lag(y)"), Term::expression("x")};
            }
            q.errors.kind = "bootstrap";
            q.errors.draws = 20;
            const Answer a = answer(table, q, panel());
            QVERIFY2(a.refusal.has_value(), estimator.method);
            QVERIFY2(a.refusal->text().find("no solution") == std::string::npos,
                     a.refusal->text().c_str());
        }
    }
};

QTEST_APPLESS_MAIN(RowsLeftTest)
#include "rows_left_test.moc"
