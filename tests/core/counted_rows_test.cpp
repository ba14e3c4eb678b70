// A row that counts for three is three rows: frequency weights give what the same rows give when
// they are written out, in every method, whatever is held fixed.
#include "core/model/quantile.h"
#include "tests/core/fixtures.h"
#include "tests/core/relations_data.h"
#include "tests/fuzz/question_maker.h"

#include <fmt/format.h>

#include <QTest>

using namespace rapporto;

namespace {

Table writtenOut(const Table& table, const std::string& weight) {
    Table out = table;
    std::vector<double> counts;
    for (const Column& column : table.columns) {
        if (column.name() == weight) {
            counts.assign(column.numbers().begin(), column.numbers().end());
        }
    }
    for (Column& column : out.columns) {
        std::vector<double> cells;
        for (std::size_t row = 0; row < counts.size(); ++row) {
            for (int copy = 0; copy < static_cast<int>(counts[row]); ++copy) {
                cells.push_back(column.numbers()[row]);
            }
        }
        column = Column::ofNumbers(column.name(), std::move(cells));
    }
    return out;
}

struct Both {
    Answer counted;
    Answer written;
};

Both asked(const Table& table, const std::vector<VariableEntry>& entries, Question q) {
    const auto answered = [&](const Table& rows) {
        Study study;
        study.questions = {q};
        return answerQuestion(study, Frame::make(rows, entries, {}, {}, {}), q, Job());
    };
    q.weightKind = WeightKind::Frequency;
    q.weight = "f";
    Answer counted = answered(table);
    q.weightKind = WeightKind::None;
    q.weight.clear();
    return {std::move(counted), answered(writtenOut(table, "f"))};
}

/// What differs, or nothing.
std::string apart(const Answer& a, const Answer& b) {
    if (a.refusal || b.refusal) {
        return a.refusal.has_value() == b.refusal.has_value()
                   ? ""
                   : "one is refused: " + (a.refusal ? a : b).refusal->text();
    }
    if (a.fit->n != b.fit->n || a.fit->dfResidual != b.fit->dfResidual) {
        return "rows or degrees of freedom";
    }
    for (std::size_t j = 0; j < b.fit->coefficients.size(); ++j) {
        const Coefficient& one = a.fit->coefficients.at(j);
        const Coefficient& other = b.fit->coefficients[j];
        const double size = std::max(std::abs(other.estimate), other.se);
        if (std::abs(one.estimate - other.estimate) > 1e-5 * size ||
            std::abs(one.se - other.se) > 1e-5 * size) {
            return fmt::format("{}: {} ({}) and {} ({})", one.term, one.estimate, one.se,
                               other.estimate, other.se);
        }
    }
    return {};
}

Table relationTable() { return test::tableOf(test::relationColumns(24, 6, 5)); }

}  // namespace

class CountedRowsTest : public QObject {
    Q_OBJECT

  private slots:

    void quantilesWithEffectsCountRows_data() {
        QTest::addColumn<double>("at");
        QTest::addColumn<QString>("errors");
        for (const double at : {0.25, 0.5, 0.8}) {
            for (const char* errors : {"classical", "robust", "clustered"}) {
                QTest::addRow("%g %s", at, errors) << at << QString(errors);
            }
        }
    }

    void quantilesWithEffectsCountRows() {
        QFETCH(double, at);
        QFETCH(QString, errors);
        Question q;
        q.id = "q";
        q.method = "quantile";
        q.outcome = "y";
        q.terms = {Term::expression("x"), Term::expression("z")};
        q.fixedEffects = {"u"};
        q.settings.at = {at};
        q.errors.kind = errors.toStdString();
        if (q.errors.kind == "clustered") {
            q.errors.by = {"c"};
        }
        const Both both = asked(relationTable(), {}, q);
        QVERIFY(both.counted.fit != nullptr);
        const std::string off = apart(both.counted, both.written);
        QVERIFY2(off.empty(), off.c_str());
        const auto goodness = [](const Answer& a) { return a.fit->quantile->points[0].goodness; };
        AGREE("goodness", goodness(both.counted), goodness(both.written), 1e-9);
    }

    // A village with one row that stands for two is no village of one row.
    void aRowThatStandsForTwoIsNotAlone() {
        const Table table = test::tableOf({{"y", {1.0, 2.5, 2.0, 4.0, 3.0, 5.5, 7.0, 6.5}},
                                           {"x", {0.0, 1.0, 1.5, 2.0, 1.0, 3.0, 4.0, 5.0}},
                                           {"g", {1.0, 1.0, 1.0, 2.0, 2.0, 2.0, 3.0, 4.0}},
                                           {"f", {1.0, 2.0, 1.0, 1.0, 1.0, 1.0, 2.0, 1.0}}});
        Question q;
        q.id = "q";
        q.outcome = "y";
        q.terms = {Term::expression("x")};
        q.fixedEffects = {"g"};
        const Both both = asked(table, {}, q);
        QVERIFY(both.counted.fit != nullptr);
        QCOMPARE(both.counted.rows.dropped, std::size_t(1));
        QCOMPARE(both.counted.fit->n, 9.0);
        const std::string off = apart(both.counted, both.written);
        QVERIFY2(off.empty(), off.c_str());
    }

    // What is no weight is said so, whatever else its rows would be left out for.
    void weightsThatAreNoneAreRefused_data() {
        QTest::addColumn<double>("weight");
        QTest::addColumn<QString>("says");
        QTest::newRow("negative") << -1.0 << "negative in some rows";
        QTest::newRow("not whole") << 0.5 << "is not whole";
    }

    void weightsThatAreNoneAreRefused() {
        QFETCH(double, weight);
        QFETCH(QString, says);
        Question q;
        q.id = "q";
        q.outcome = "y";
        q.terms = {Term::expression("x")};
        q.fixedEffects = {"g"};
        q.weightKind = WeightKind::Frequency;
        q.weight = "f";
        Study study;
        study.questions = {q};
        const Table table = test::tableOf({{"y", {1.0, 2.5, 2.0, 4.0, 3.0, 5.5}},
                                           {"x", {0.0, 1.0, 1.5, 2.0, 1.0, 3.0}},
                                           {"g", {1.0, 1.0, 1.0, 1.0, 1.0, 2.0}},
                                           {"f", {1.0, 2.0, 1.0, 1.0, 1.0, weight}}});
        const Answer answer = answerQuestion(study, test::frameOf(table), q, Job());
        QVERIFY(answer.refusal.has_value());
        QVERIFY2(QString::fromStdString(answer.refusal->text()).contains(says),
                 answer.refusal->text().c_str());
    }

    void fewRowsThatStandForManyCarryInstruments() {
        const Table table = test::tableOf({{"y", {1.0, 2.5, 2.0, 4.5, 3.0}},
                                           {"m", {0.0, 1.0, 1.5, 2.0, 1.0}},
                                           {"a", {1.0, 2.0, 2.0, 4.0, 2.0}},
                                           {"b", {0.0, 1.0, 0.0, 0.0, 1.0}},
                                           {"e", {1.0, 0.0, 3.0, 1.0, 1.0}},
                                           {"d", {2.0, 7.0, 1.0, 8.0, 2.0}},
                                           {"f", {3.0, 2.0, 4.0, 2.0, 3.0}}});
        Question q;
        q.id = "q";
        q.method = "two-stage";
        q.outcome = "y";
        q.endogenous = {Term::expression("m")};
        q.instruments = {Term::expression("a"), Term::expression("b"), Term::expression("e"),
                         Term::expression("d")};
        const Both both = asked(table, {}, q);
        const std::string off = apart(both.counted, both.written);
        QVERIFY2(off.empty(), off.c_str());
    }

    // Questions of all kinds about tables of all kinds, where one answer is the best.
    void countsAreRows() {
        static const std::set<std::string> kMethods = {
            "least-squares", "two-stage", "fuller", "logit",         "probit", "cloglog",
            "poisson",       "huber",     "within", "ordered-logit", "tobit",  "negative-binomial"};
        int answered = 0;
        for (std::uint64_t seed = 1; seed <= 4000; ++seed) {
            fuzz::QuestionMaker::Made made = fuzz::QuestionMaker(seed).make();
            Question& q = made.question;
            if (!kMethods.contains(q.method) || q.errors.kind == "bootstrap" ||
                q.errors.kind == "survey" || made.layout.kind != Layout::Kind::CrossSection) {
                continue;
            }
            q.allChecks = false;
            q.checks.clear();
            const Both both = asked(made.table, made.entries, q);
            if (!both.written.fit || both.written.fit->exact) {
                continue;
            }
            ++answered;
            const std::string off = apart(both.counted, both.written);
            QVERIFY2(off.empty(),
                     qPrintable(
                         QString("seed %1, %2: %3").arg(seed).arg(q.method.c_str(), off.c_str())));
        }
        QVERIFY2(answered > 40, std::to_string(answered).c_str());
    }
};

QTEST_APPLESS_MAIN(CountedRowsTest)
#include "counted_rows_test.moc"
