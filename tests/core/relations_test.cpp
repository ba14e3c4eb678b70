// Relations that every method, kind of errors and check has to hold whatever the numbers are: the
// order of rows and terms, units, places, names and threads change nothing but what they must;
// weights mean one thing. A method joins by its line in the registry.
#include "core/base/parallel.h"
#include "tests/core/relations_data.h"

#include <QTest>

#include <numeric>

using namespace rapporto;
using namespace rapporto::test;

namespace {

std::vector<double>& cells(Columns& columns, const std::string& name) {
    for (auto& [own, values] : columns) {
        if (own == name) {
            return values;
        }
    }
    throw std::runtime_error("no column " + name);
}

Answer ask(const Columns& columns, const Question& question,
           const std::vector<VariableEntry>& entries = relationEntries()) {
    return answer(tableOf(columns), question, relationLayout(), entries);
}

const Columns& rows() {
    static const Columns kRows = relationColumns(40, 6, 17);
    return kRows;
}

/// How the numbers of one answer have to follow from the other’s.
struct Relation {
    std::map<std::string, double> slopes = {};  ///< Factor of a term’s coefficient; else 1.
    double all = 1.0;                           ///< Factor of every coefficient beside that.
    bool constants = true;                      ///< Constants and cuts are compared, too.
    bool checks = true;
    std::string aside = {};  ///< A check that has reason to differ.
    double tolerance = 1e-6;
};

/// What does not hold, or nothing.
std::string difference(const Answer& a, const Answer& b, const Relation& relation) {
    const auto far = [&](double x, double y, double least) {
        return !(std::isnan(x) && std::isnan(y)) &&
               !(std::abs(x - y) <=
                 relation.tolerance * std::max({std::abs(x), std::abs(y), least}));
    };
    const auto told = [](double x, double y) {
        return QString(": %1 and %2").arg(x, 0, 'g', 12).arg(y, 0, 'g', 12).toStdString();
    };
    if (a.refusal.has_value() != b.refusal.has_value()) {
        return "one is refused: " + (a.refusal ? a.refusal->text() : b.refusal->text());
    }
    if (a.refusal) {
        return {};
    }
    if (a.fit->coefficients.size() != b.fit->coefficients.size()) {
        return "they have different numbers of coefficients";
    }
    for (const Coefficient& c : a.fit->coefficients) {
        const Coefficient* other = nullptr;
        for (const Coefficient& one : b.fit->coefficients) {
            other = one.term == c.term && one.equation == c.equation ? &one : other;
        }
        if (other == nullptr) {
            return "there is no " + c.term;
        }
        const bool level = c.term == "(constant)" || c.equation == "cut";
        if (level && !relation.constants) {
            continue;
        }
        const auto own = relation.slopes.find(c.term);
        const bool scaled = c.equation != "correlation" && c.equation != "dispersion" &&
                            c.equation != "seen" && c.equation != "zero" &&
                            c.term != "inverse Mills ratio";
        const double by = (own == relation.slopes.end() ? 1.0 : own->second) *
                          (scaled || c.term == "inverse Mills ratio" ? relation.all : 1.0);
        const std::string name = c.equation + " " + c.term;
        // An estimate is as exact as its error, not as its own size.
        if (far(c.estimate * by, other->estimate, c.se * by)) {
            return name + told(c.estimate * by, other->estimate);
        }
        if (far(c.se * by, other->se, 0.0)) {
            return "se of " + name + told(c.se * by, other->se);
        }
        if (c.p.has_value() != other->p.has_value() || (c.p && far(*c.p, *other->p, 1e-6))) {
            return "p of " + name + told(c.p.value_or(-1.0), other->p.value_or(-1.0));
        }
    }
    for (std::size_t k = 0; relation.checks && k < a.checks.size(); ++k) {
        const CheckResult& c = a.checks[k];
        const CheckResult& o = b.checks[k];
        // What looks odd about cells is about the cells, not about what is made of them.
        if (c.id == relation.aside || findCheck(c.id)->of == fits::kAll) {
            continue;
        }
        if (c.verdict != o.verdict) {
            return "verdict of " + c.id + ": " + verdictName(c.verdict) + " and " +
                   verdictName(o.verdict) + ": " + c.reading + " / " + o.reading;
        }
        if (c.p.has_value() != o.p.has_value() || (c.p && far(*c.p, *o.p, 1e-4))) {
            return "p of " + c.id + told(c.p.value_or(-1.0), o.p.value_or(-1.0));
        }
    }
    return {};
}

std::vector<ErrorSpec> errorsOf(const std::string& method) {
    std::vector<ErrorSpec> out = {{}, {"robust", "HC1", {}}, {"clustered", "HC1", {"c"}}};
    if ((findEstimator(method)->takes & takes::kLeverageTypes) != 0) {
        out.push_back({"robust", "HC3", {}});
    }
    return out;
}

}  // namespace

#define HOLDS(what, a, b, relation)                                        \
    do {                                                                   \
        const std::string off_ = difference(a, b, relation);               \
        QVERIFY2(off_.empty(), (std::string(what) + ": " + off_).c_str()); \
    } while (false)

class RelationsTest : public QObject {
    Q_OBJECT

    static void methods() {
        QTest::addColumn<QString>("method");
        for (const Estimator& estimator : allEstimators()) {
            QTest::newRow(estimator.method) << estimator.method;
        }
    }

  private slots:

    void everyMethodIsAnswered_data() { methods(); }

    void everyMethodIsAnswered() {
        QFETCH(QString, method);
        for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
            Question q = relationQuestion(method.toStdString());
            q.errors = errors;
            const Answer a = ask(rows(), q);
            const bool none =
                errors.kind != "classical" && a.refusal &&
                (a.refusal->where == "errors" || a.refusal->code == ErrorCode::NotUsed);
            QVERIFY2(!a.refusal || none, a.refusal ? a.refusal->text().c_str() : "");
            QVERIFY(a.faults.empty());
        }
    }

    void theOrderOfRowsDoesNotMatter_data() { methods(); }

    void theOrderOfRowsDoesNotMatter() {
        QFETCH(QString, method);
        Columns other = rows();
        std::vector<std::size_t> order(other.front().second.size());
        std::iota(order.begin(), order.end(), std::size_t{0});
        RandomStream random(5, 0);
        for (std::size_t i = order.size() - 1; i > 0; --i) {
            std::swap(order[i], order[random.below(i + 1)]);
        }
        for (auto& [name, values] : other) {
            const std::vector<double> before = values;
            for (std::size_t i = 0; i < order.size(); ++i) {
                values[i] = before[order[i]];
            }
        }
        for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
            Question q = relationQuestion(method.toStdString());
            q.errors = errors;
            HOLDS(errors.shown(), ask(rows(), q), ask(other, q), Relation{});
        }
    }

    void theUnitOfATermChangesItsEffectAlone_data() { methods(); }

    void theUnitOfATermChangesItsEffectAlone() {
        QFETCH(QString, method);
        const bool least = method == "least-squares";
        for (const int power :
             least ? std::vector<int>{200, -200, 60} : std::vector<int>{60, -60}) {
            Columns other = rows();
            for (double& x : cells(other, "x")) {
                x = std::ldexp(x, power);
            }
            for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
                Question q = relationQuestion(method.toStdString());
                q.errors = errors;
                Relation relation;
                relation.slopes["x"] = std::ldexp(1.0, -power);
                // A bend stands at a value of x.
                relation.slopes["bend 1"] = 1.0;
                relation.checks = method != "bent-line";
                if (method == "bent-line") {
                    continue;
                }
                HOLDS(errors.shown() + " 2^" + std::to_string(power), ask(rows(), q), ask(other, q),
                      relation);
            }
        }
    }

    void theUnitOfTheOutcomeScalesEverything_data() { methods(); }

    void theUnitOfTheOutcomeScalesEverything() {
        QFETCH(QString, method);
        if (!isMeasured(method.toStdString())) {
            QSKIP("its outcome has no unit");
        }
        for (const int power :
             method == "least-squares" ? std::vector<int>{150, -150} : std::vector<int>{50, -50}) {
            Columns other = rows();
            for (const char* name : {"y", "ye", "yl", "yd", "lo", "hi", "cut", "seen"}) {
                for (double& y : cells(other, name)) {
                    y = std::ldexp(y, power);
                }
            }
            for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
                Question q = relationQuestion(method.toStdString());
                q.errors = errors;
                Question scaled = q;
                if (scaled.settings.low) {
                    scaled.settings.low = std::ldexp(*scaled.settings.low, power);
                }
                Relation relation;
                relation.all = std::ldexp(1.0, power);
                relation.slopes["lag(yl)"] = 1.0 / relation.all;
                relation.slopes["bend 1"] = 1.0 / relation.all;
                if (method == "bent-line") {
                    continue;
                }
                HOLDS(errors.shown() + " 2^" + std::to_string(power), ask(rows(), q),
                      ask(other, scaled), relation);
            }
        }
    }

    void thePlaceOfATermChangesConstantsAlone_data() { methods(); }

    void thePlaceOfATermChangesConstantsAlone() {
        QFETCH(QString, method);
        Columns other = rows();
        for (double& x : cells(other, "x")) {
            x += 1e6;
        }
        for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
            Question q = relationQuestion(method.toStdString());
            q.errors = errors;
            Relation relation;
            relation.constants = false;
            relation.tolerance = 1e-6;
            // Far from zero a column goes with the constant: that is what it measures.
            relation.aside = "condition";
            if (method == "bent-line") {
                continue;
            }
            HOLDS(errors.shown(), ask(rows(), q), ask(other, q), relation);
        }
    }

    void thePlaceOfTheOutcomeChangesConstantsAlone_data() { methods(); }

    void thePlaceOfTheOutcomeChangesConstantsAlone() {
        QFETCH(QString, method);
        const std::string name = method.toStdString();
        if (!isMeasured(name) || name == "difference-gmm" || name == "system-gmm") {
            QSKIP("its outcome has a place of its own");
        }
        Columns other = rows();
        for (const char* column : {"y", "ye", "yd", "lo", "hi", "cut", "seen"}) {
            for (double& y : cells(other, column)) {
                y += 1000.0;
            }
        }
        for (const ErrorSpec& errors : errorsOf(name)) {
            Question q = relationQuestion(name);
            q.errors = errors;
            Question moved = q;
            if (moved.settings.low) {
                *moved.settings.low += 1000.0;
            }
            Relation relation;
            relation.constants = false;
            HOLDS(errors.shown(), ask(rows(), q), ask(other, moved), relation);
        }
    }

    void theOrderOfTermsDoesNotMatter_data() { methods(); }

    void theOrderOfTermsDoesNotMatter() {
        QFETCH(QString, method);
        Question q = relationQuestion(method.toStdString());
        q.terms.push_back(Term::expression("g"));
        Question turned = q;
        std::reverse(turned.terms.begin(), turned.terms.end());
        std::reverse(turned.instruments.begin(), turned.instruments.end());
        Relation relation;
        // Rows are ordered by the first quantity among the terms.
        relation.aside = "goldfeld-quandt";
        HOLDS("terms turned round", ask(rows(), q), ask(rows(), turned), relation);
    }

    void namesOfLevelsDoNotMatter_data() { methods(); }

    void namesOfLevelsDoNotMatter() {
        QFETCH(QString, method);
        Question q = relationQuestion(method.toStdString());
        q.terms.push_back(Term::expression("g"));
        Columns other = rows();
        for (double& g : cells(other, "g")) {
            g = g * 10.0 + 7.0;
        }
        std::vector<VariableEntry> entries = relationEntries();
        entries[0].levels =
            std::vector<Level>{{Key(17.0), "1"}, {Key(27.0), "2"}, {Key(37.0), "3"}};
        HOLDS("levels renamed", ask(rows(), q), ask(other, q, entries), Relation{});
    }

    void frequencyWeightsAreRows_data() { methods(); }

    void frequencyWeightsAreRows() {
        QFETCH(QString, method);
        Columns expanded;
        const std::vector<double> f = [] {
            Columns own = rows();
            return cells(own, "f");
        }();
        for (const auto& [name, values] : rows()) {
            std::vector<double> out;
            for (std::size_t i = 0; i < values.size(); ++i) {
                out.insert(out.end(), static_cast<std::size_t>(f[i]), values[i]);
            }
            expanded.emplace_back(name, std::move(out));
        }
        for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
            Question q = relationQuestion(method.toStdString());
            q.errors = errors;
            Question weighted = q;
            weighted.weightKind = WeightKind::Frequency;
            weighted.weight = "f";
            const Answer counted = ask(rows(), weighted);
            const Answer written = ask(expanded, q);
            if (counted.refusal || written.refusal) {
                continue;  // Two rows of a unit at one moment are no panel.
            }
            HOLDS(errors.shown(), counted, written, Relation{});
        }
    }

    void weightsOfOneAreNone_data() { methods(); }

    void weightsOfOneAreNone() {
        QFETCH(QString, method);
        Columns ones = rows();
        std::fill(cells(ones, "w").begin(), cells(ones, "w").end(), 1.0);
        for (const WeightKind kind :
             {WeightKind::Sampling, WeightKind::Frequency, WeightKind::Precision}) {
            for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
                Question q = relationQuestion(method.toStdString());
                q.errors = errors;
                Question weighted = q;
                weighted.weightKind = kind;
                weighted.weight = "w";
                const Answer a = ask(ones, weighted);
                if (a.refusal) {
                    continue;
                }
                Relation relation;
                relation.checks = false;  // Some checks are not made for weights at all.
                HOLDS(weightName(kind) + " " + errors.shown(), ask(ones, q), a, relation);
            }
        }
    }

    void theScaleOfWeightsDoesNotMatter_data() { methods(); }

    void theScaleOfWeightsDoesNotMatter() {
        QFETCH(QString, method);
        Columns other = rows();
        for (double& w : cells(other, "w")) {
            w *= 7.0;
        }
        for (const WeightKind kind : {WeightKind::Sampling, WeightKind::Precision}) {
            for (const ErrorSpec& errors : errorsOf(method.toStdString())) {
                Question q = relationQuestion(method.toStdString());
                q.errors = errors;
                q.weightKind = kind;
                q.weight = "w";
                const Answer a = ask(rows(), q);
                if (a.refusal) {
                    continue;
                }
                HOLDS(weightName(kind) + " " + errors.shown(), a, ask(other, q), Relation{});
            }
        }
    }

    void threadsDoNotMatter_data() { methods(); }

    void threadsDoNotMatter() {
        QFETCH(QString, method);
        static const Columns kMany = relationColumns(1500, 8, 23);
        Question q = relationQuestion(method.toStdString());
        q.allChecks = false;
        setThreads(1);
        const Answer one = ask(kMany, q);
        setThreads(2);
        const Answer two = ask(kMany, q);
        setThreads(0);
        QVERIFY2(!one.refusal, one.refusal ? one.refusal->text().c_str() : "");
        for (std::size_t j = 0; j < one.fit->coefficients.size(); ++j) {
            QCOMPARE(one.fit->coefficients[j].estimate, two.fit->coefficients[j].estimate);
            const double a = one.fit->coefficients[j].se;
            const double b = two.fit->coefficients[j].se;
            QVERIFY(a == b || (std::isnan(a) && std::isnan(b)));
        }
    }
};

QTEST_APPLESS_MAIN(RelationsTest)
#include "relations_test.moc"
