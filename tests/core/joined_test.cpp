// Two equations joined by a correlation and outcomes between two ends, against likelihoods and
// stacked moments written out from definitions; columns that fits leave behind.
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/numerics/normal_below.h"
#include "core/numerics/sweep_effects.h"
#include "core/report/wording.h"
#include "core/study/kept.h"
#include "core/study/sources.h"
#include "tests/core/fixtures.h"

#include <QTest>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/joined_reference.json");
    return kReference;
}

Question questionOf(const std::string& method, bool weighted, const std::string& errors) {
    Question q = explain("y", {"x"});
    q.method = method;
    q.allChecks = false;
    if (isSelection(method)) {
        q.settings.zeroTerms = {"z", "v"};
    } else if (method == "interval") {
        q.outcome = "lo";
        q.settings.variable = "hi";
    } else {
        q.outcome = method == "poisson-control" ? "k" : "o";
        q.endogenous = {Term::expression("m")};
        q.instruments = {Term::expression("z"), Term::expression("v")};
    }
    if (errors != "classical") {
        q.errors =
            errors == "HC1" ? ErrorSpec{"robust", "HC1", {}} : ErrorSpec{"clustered", "HC1", {"c"}};
    }
    if (weighted) {
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
    }
    return q;
}

/// The reference holds ln σ and the inverse tanh of ρ where a fit shows σ and ρ.
double shown(const Coefficient& c, double value) {
    return c.term == "sigma" ? std::exp(value) : c.term == "rho" ? std::tanh(value) : value;
}

Table selectionTable(std::size_t n, double missing) {
    std::vector<double> y;
    std::vector<double> x;
    std::vector<double> z;
    for (std::size_t i = 0; i < n; ++i) {
        const double t = static_cast<double>(i);
        x.push_back(std::sin(t * 1.7));
        z.push_back(std::cos(t * 0.9));
        const bool lacks = std::fmod(t * 0.37, 1.0) < missing;
        y.push_back(lacks ? std::nan("") : x.back() + std::sin(t * 12.3));
    }
    return tableOf({{"y", y}, {"x", x}, {"z", z}});
}

}  // namespace

class JoinedTest : public QObject {
    Q_OBJECT

  private slots:

    void agrees_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference().items()) {
            for (const auto& [name, expected] : one["cases"].items()) {
                QTest::newRow((kind + " " + name).c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }

    void agrees() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& one = reference()[kind.toStdString()];
        const auto& expected = one["cases"][name.toStdString()];
        const Table table = tableFrom(one["data"]);
        const bool weighted = name.endsWith(" weighted");
        const std::string method = name.split(' ').front().toStdString();
        for (const std::string errors : {"classical", "HC1", "clustered"}) {
            if (!expected.contains(errors)) {
                continue;
            }
            const Answer a = answer(table, questionOf(method, weighted, errors));
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const auto& b = expected["b"];
            QCOMPARE(a.fit->coefficients.size(), b.size());
            for (std::size_t j = 0; j < b.size(); ++j) {
                const Coefficient& c = a.fit->coefficients[j];
                AGREE_FROM(1e-2, c.equation + " " + c.term, c.estimate,
                           shown(c, b[j].get<double>()), 1e-7);
                AGREE_FROM(1e-2, c.equation + " " + c.term + " " + errors, c.se,
                           expected[errors][j].get<double>(), 1e-6);
            }
            if (expected.contains("ll") && !weighted) {
                AGREE("ll", *a.fit->statistics.logLikelihood, expected["ll"].get<double>(), 1e-9);
            }
            if (expected.contains("apart")) {
                AGREE("apart", *a.fit->likelihood->apartLogLikelihood,
                      expected["apart"].get<double>(), 1e-9);
            }
        }
    }

    /// Classical errors of a count in two steps are those of both stages together.
    void aControlHasNoClassicalErrors() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        const Answer plain = answer(table, questionOf("poisson-control", false, "classical"));
        const Answer robust = answer(table, questionOf("poisson-control", false, "HC1"));
        QVERIFY(!plain.refusal && !robust.refusal);
        QCOMPARE(plain.fit->coefficients[1].se, robust.fit->coefficients[1].se);
        QVERIFY(plain.fit->errorNote.find("both stages") != std::string::npos);
        QCOMPARE(QString::fromStdString(plain.fit->coefficients.back().term), QString("left of m"));
        QVERIFY(!plain.fit->statistics.aic);
    }

    /// Derivatives of every row against differences of the likelihood: through the score at the
    /// end.
    void scoresVanish() {
        for (const char* method : {"heckman", "probit-instruments", "interval"}) {
            const Answer a = answer(tableFrom(reference()["fails"]["data"]),
                                    questionOf(method, false, "classical"));
            QVERIFY2(!a.refusal, method);
            QVERIFY2(a.fit->likelihood->gradient < 1e-12, method);
        }
    }

    void rowsWithoutOutcomeAreKept() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        const Answer a = answer(table, questionOf("heckman", false, "classical"));
        std::size_t seen = 0;
        for (const auto& y : reference()["clean"]["data"]["y"]) {
            seen += y.is_null() ? 0 : 1;
        }
        QCOMPARE(a.rows.used, table.rows());
        QCOMPARE(a.design->rows.size(), seen);
        QCOMPARE(static_cast<std::size_t>(a.fit->residuals.size()), seen);
        QCOMPARE(a.fit->likelihood->unseen, table.rows() - seen);
        for (std::size_t i = 0; i < seen; ++i) {
            const auto row = static_cast<Eigen::Index>(i);
            AGREE("residual", a.fit->residuals(row) + a.fit->fitted(row),
                  table.columns[static_cast<std::size_t>(table.find("y"))]
                      .numbers()[a.design->rows[i]],
                  1e-12);
        }
        // Without terms of its own what is seen hangs on the terms of the outcome, in all rows.
        Question same = questionOf("heckman", false, "classical");
        same.settings.zeroTerms.clear();
        const Answer b = answer(table, same);
        QVERIFY(b.rows.used < table.rows());
        const auto& notes = b.refusal ? std::vector<std::string>{b.refusal->text()} : b.fit->notes;
        QVERIFY(std::any_of(notes.begin(), notes.end(), [](const std::string& note) {
            return note.find("curve alone") != std::string::npos ||
                   note.find("runs to one") != std::string::npos;
        }));
    }

    void refusesInWords() {
        Question q = questionOf("heckman", false, "classical");
        q.settings.zeroTerms = {"z"};
        const auto told = [&](double missing, std::size_t n) {
            const Answer a = answer(selectionTable(n, missing), q);
            return a.refusal ? QString::fromStdString(a.refusal->text()) : QString();
        };
        QVERIFY(told(0.0, 60).contains("nothing is left out"));
        QVERIFY2(told(1.1, 60).contains("y"), told(1.1, 60).toUtf8());
        QVERIFY2(told(0.97, 60).contains("too few"), told(0.97, 60).toUtf8());
        // A term that tells who is seen.
        Table table = selectionTable(80, 0.5);
        std::vector<double> tells;
        for (const double y : table.columns[0].numbers()) {
            tells.push_back(std::isnan(y) ? 0.0 : 1.0);
        }
        table.columns.push_back(Column::ofNumbers("tells", tells));
        Variable variable;
        variable.name = "tells";
        table.variables.push_back(variable);
        q.settings.zeroTerms = {"tells"};
        const Answer certain = answer(table, q);
        QVERIFY(certain.refusal);
        QVERIFY(certain.refusal->text().find("‘tells’ tells for certain") != std::string::npos);
        // Ends that are crossed, and no upper ends at all.
        Question ends = questionOf("interval", false, "classical");
        ends.settings.variable.clear();
        QVERIFY(answer(tableFrom(reference()["clean"]["data"]), ends)
                    .refusal->text()
                    .find("no variable holds the upper ends") != std::string::npos);
        ends.outcome = "hi";
        ends.settings.variable = "lo";
        QVERIFY(answer(tableFrom(reference()["clean"]["data"]), ends)
                    .refusal->text()
                    .find("is above the upper end") != std::string::npos);
        // Two columns that are moved.
        Question two = questionOf("probit-instruments", false, "classical");
        two.terms.clear();
        two.endogenous.push_back(Term::expression("x"));
        QVERIFY(answer(tableFrom(reference()["clean"]["data"]), two)
                    .refusal->text()
                    .find("takes one column") != std::string::npos);
    }

    /// With both ends equal everywhere an interval is the normal likelihood of least squares.
    void nestedOnes() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        Question exact = explain("z", {"v"});
        exact.method = "interval";
        exact.settings.variable = "z";
        exact.allChecks = false;
        Question least = explain("z", {"v"});
        least.allChecks = false;
        const Answer a = answer(table, exact);
        const Answer b = answer(table, least);
        AGREE("slope", a.fit->coefficients[1].estimate, b.fit->coefficients[1].estimate, 1e-9);
        AGREE("ll", *a.fit->statistics.logLikelihood, *b.fit->statistics.logLikelihood, 1e-9);
        // Open below at zero it is a tobit from there.
        std::vector<double> low;
        std::vector<double> high;
        std::vector<double> cut;
        for (const double z : table.columns[static_cast<std::size_t>(table.find("z"))].numbers()) {
            cut.push_back(std::max(z, 0.0));
            low.push_back(z > 0.0 ? z : std::nan(""));
            high.push_back(std::max(z, 0.0));
        }
        Table ends = table;
        for (const auto& [name, cells] :
             {std::pair("low", low), std::pair("high", high), std::pair("cut", cut)}) {
            ends.columns.push_back(Column::ofNumbers(name, cells));
            Variable variable;
            variable.name = name;
            ends.variables.push_back(variable);
        }
        Question open = exact;
        open.outcome = "low";
        open.settings.variable = "high";
        Question tobit = least;
        tobit.outcome = "cut";
        tobit.method = "tobit";
        tobit.settings.low = 0.0;
        const Answer c = answer(ends, open);
        const Answer d = answer(ends, tobit);
        QVERIFY2(!c.refusal && !d.refusal, c.refusal ? c.refusal->text().c_str() : "");
        for (std::size_t j = 0; j < 3; ++j) {
            AGREE("tobit", c.fit->coefficients[j].estimate, d.fit->coefficients[j].estimate, 1e-9);
            AGREE("tobit se", c.fit->coefficients[j].se, d.fit->coefficients[j].se, 1e-9);
        }
    }

    /// ln Φ and the ratio against a continued fraction (Laplace) from both sides of the change.
    void tailsHaveTheirDigits() {
        for (const double x : {-1000.0, -60.0, -30.001, -29.999, -12.0, -8.0}) {
            double fraction = 0.0;
            for (int k = 400; k > 0; --k) {
                fraction = k / (-x + fraction);
            }
            // Φ(x) = φ(x)/(−x + 1/(−x + 2/(−x + …))).
            const double ratio = -x + fraction;
            const NormalBelow tail = normalBelow(x);
            AGREE("ratio", tail.ratio, ratio, 1e-12);
            AGREE("ln", tail.value,
                  -0.5 * x * x - 0.5 * std::log(2.0 * std::acos(-1.0)) - std::log(ratio), 1e-13);
        }
        QVERIFY(normalBelow(9.0).value < 0.0 && normalBelow(9.0).value > -1e-18);
    }

    void effectsOnTheOutcome() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        Question q = questionOf("probit-instruments", false, "classical");
        q.effects = {{"m"}};
        const Answer a = answer(table, q);
        QVERIFY2(!a.refusal && a.effects.size() == 1 && a.effects[0],
                 a.refusal ? a.refusal->text().c_str() : "");
        // The slope of Φ(xb) by hand.
        double sum = 0.0;
        for (Eigen::Index i = 0; i < a.design->X.rows(); ++i) {
            double index = 0.0;
            for (std::size_t j = 0; j < 3; ++j) {
                index +=
                    a.fit->coefficients[j].estimate * a.design->X(i, a.fit->coefficients[j].column);
            }
            sum += std::exp(-0.5 * index * index) / std::sqrt(2.0 * std::acos(-1.0));
        }
        const double slope = coefficient(a, "m")->estimate;
        AGREE("effect", (*a.effects[0])[0].effect.value,
              slope * sum / static_cast<double>(a.design->X.rows()), 1e-10);
        QVERIFY((*a.effects[0])[0].effect.se > 0.0);
        // Of a selection and of ends the effect is the coefficient.
        for (const char* method : {"heckman", "heckman-two-step", "interval"}) {
            Question line = questionOf(method, false, "classical");
            line.effects = {{"x"}};
            const Answer b = answer(table, line);
            QVERIFY2(!b.refusal && b.effects.size() == 1 && b.effects[0], method);
            AGREE(method, (*b.effects[0])[0].effect.value, coefficient(b, "x")->estimate, 1e-12);
            AGREE(method, (*b.effects[0])[0].effect.se, coefficient(b, "x")->se, 1e-9);
        }
        // Of a count in two steps: slope times mean, the control among the terms.
        Question count = questionOf("poisson-control", false, "HC1");
        count.effects = {{"m"}};
        const Answer c = answer(table, count);
        QVERIFY2(!c.refusal && c.effects[0], c.refusal ? c.refusal->text().c_str() : "");
        AGREE("count", (*c.effects[0])[0].effect.value,
              coefficient(c, "m")->estimate * c.fit->fitted.mean(), 1e-10);
    }

    void studiesKeepTheirSettings() {
        for (const char* method :
             {"heckman", "heckman-two-step", "interval", "probit-instruments", "poisson-control"}) {
            Study study;
            study.questions = {questionOf(method, false, "classical")};
            const auto read = readStudyText(studyText(study));
            QVERIFY2(read, read ? "" : read.error().text().c_str());
            QCOMPARE(read->questions[0].settings, study.questions[0].settings);
            QCOMPARE(read->questions[0].method, study.questions[0].method);
            QVERIFY(findEstimator(method) != nullptr);
        }
    }

    /// Effects of one grouping are the groups’ means of what the terms leave; of two, those that
    /// regressing on indicators gives.
    void effectsHeldFixedAreThoseOfIndicators() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> g;
        std::vector<double> t;
        std::vector<double> w;
        for (int i = 0; i < 240; ++i) {
            g.push_back(i % 7);
            t.push_back((i / 7) % 5);
            x.push_back(std::sin(1.3 * i) + 0.2 * g.back());
            y.push_back(std::floor(8.0 + x.back() + std::cos(3.1 * i) + g.back() - 0.5 * t.back()));
            w.push_back(1.0 + i % 3);
        }
        const Table table = tableOf({{"y", y}, {"x", x}, {"g", g}, {"t", t}, {"w", w}});
        VariableEntry groups;
        groups.name = "g";
        groups.measure = Measure::Groups;
        VariableEntry moments = groups;
        moments.name = "t";
        for (const char* method : {"least-squares", "poisson"}) {
            Question held = explain("y", {"x"});
            held.method = method;
            held.fixedEffects = {"g", "t"};
            held.weightKind = WeightKind::Precision;
            held.weight = "w";
            held.allChecks = false;
            Question shown = held;
            shown.fixedEffects.clear();
            shown.terms.push_back(Term::expression("g"));
            shown.terms.push_back(Term::expression("t"));
            const Answer a = answer(table, held, {}, {groups, moments});
            const Answer b = answer(table, shown, {}, {groups, moments});
            QVERIFY2(!a.refusal && !b.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const auto effects = effectsHeldFixed(*a.fit, *a.design, Job());
            QVERIFY2(effects, effects ? "" : effects.error().text().c_str());
            QCOMPARE(effects->size(), std::size_t{2});
            for (const auto& [d, name, of] : {std::tuple(0, "g", &g), std::tuple(1, "t", &t)}) {
                const auto& rows = (*effects)[static_cast<std::size_t>(d)];
                const auto first = std::find(of->begin(), of->end(), 0.0) - of->begin();
                for (std::size_t i = 0; i < of->size(); ++i) {
                    const double level = (*of)[i];
                    const std::string term = std::string(name) + "=" + std::to_string(int(level));
                    const double expected = level == 0.0 ? 0.0 : coefficient(b, term)->estimate;
                    QVERIFY2(std::abs(rows(static_cast<Eigen::Index>(i)) - rows(first) - expected) <
                                 1e-8,
                             term.c_str());
                }
            }
            const auto kept =
                keptColumn(a, {"effect", "g", "effects of g"}, table.rows(), {}, Job());
            QVERIFY(kept);
            QCOMPARE(QString::fromStdString(kept->name), QString("effect_g_q1"));
            QCOMPARE((*kept->values)[0], (*effects)[0](0));
        }
        Question none = explain("y", {"x"});
        none.allChecks = false;
        const Answer plain = answer(table, none);
        QVERIFY(!effectsHeldFixed(*plain.fit, *plain.design, Job()));
    }

    void keptColumnsStayWithTheStudy() {
        std::vector<double> y = {1.0, 2.5, 2.0, std::nan(""), 4.75, 6.0, 5.5, 8.0};
        std::vector<double> x = {0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0};
        const Table table = tableOf({{"y", y}, {"x", x}});
        Study study;
        study.questions = {explain("y", {"x"})};
        Sources sources;
        sources.table = std::make_shared<const Table>(table);
        const Frame before = makeFrame(study, sources);
        const Answer a = answerQuestion(study, before, study.questions[0], Job());
        const auto all = keepables(a);
        QCOMPARE(all.size(), std::size_t{2});
        const auto left = keptColumn(a, all[1], 8, {"left_q1"}, Job());
        QVERIFY(left);
        QCOMPARE(QString::fromStdString(left->name), QString("left_q1_2"));
        const auto changed = apply(study, {PutKept{*left}, "keep"});
        QVERIFY(changed);
        const auto read = readStudyText(studyText(*changed));
        QVERIFY2(read, read ? "" : read.error().text().c_str());
        const Frame after = makeFrame(*read, sources);
        const Column* column = after.column("left_q1_2");
        QVERIFY(column != nullptr);
        for (std::size_t i = 0; i < 8; ++i) {
            const double value = column->numbers()[i];
            QVERIFY(i == 3 ? std::isnan(value) : value == (*left->values)[i]);
        }
        // The question moves on; what was kept does not.
        Question other = study.questions[0];
        other.terms.clear();
        QVERIFY(apply(*read, {PutQuestion{other}, "without x"}));
        QCOMPARE((*read->kept[0].values)[0], (*left->values)[0]);
        // Another table: the column is there, empty, and says why.
        sources.table = std::make_shared<const Table>(tableOf({{"y", {1.0}}, {"x", {2.0}}}));
        const Frame shorter = makeFrame(*read, sources);
        QVERIFY(std::isnan(shorter.column("left_q1_2")->numbers()[0]));
        QVERIFY(shorter.variable("left_q1_2")->note.find("8 rows") != std::string::npos);
        QVERIFY(apply(*read, {RemoveKept{"left_q1_2"}, "take out"})->kept.empty());
        QVERIFY(!readStudyText(R"({"format":"rapporto-study","version":1,
            "kept":[{"name":"a","values":"1 2 x"}]})"));
    }
};

QTEST_GUILESS_MAIN(JoinedTest)
#include "joined_test.moc"
