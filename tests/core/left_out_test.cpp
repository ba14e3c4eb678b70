// What may be left out: against refits with the very column that is imagined, closed forms, and the
// cubic of the stability root.
#include "core/model/left_out.h"

#include "core/base/format.h"
#include "core/report/left_out_picture.h"
#include "core/report/left_out_wording.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <random>

using namespace rapporto;
using namespace rapporto::test;

namespace {

constexpr std::size_t kRows = 400;

/// y on d, z1, z2 and a grouping g; d depends on z1 and z2.
Table table(double unit = 1.0) {
    std::mt19937 random(11);
    std::normal_distribution<double> normal;
    std::vector<double> y(kRows), d(kRows), z1(kRows), z2(kRows), g(kRows), w(kRows), u(kRows);
    for (std::size_t i = 0; i < kRows; ++i) {
        z1[i] = normal(random);
        z2[i] = normal(random);
        g[i] = static_cast<double>(i % 4);
        d[i] = 0.5 * z1[i] - 0.3 * z2[i] + 0.2 * g[i] + normal(random);
        y[i] = unit * (1.0 + 0.4 * d[i] + 0.6 * z1[i] + 0.2 * z2[i] - 0.1 * g[i] + normal(random));
        w[i] = 0.5 + static_cast<double>(i % 3);
        u[i] = static_cast<double>(i % 40);
    }
    Table t = tableOf({{"y", y}, {"d", d}, {"z1", z1}, {"z2", z2}, {"g", g}, {"w", w}, {"u", u}});
    t.variables[4].measure = Measure::Groups;
    t.variables[6].measure = Measure::Groups;
    return t;
}

Question asked(const std::vector<std::string>& benchmarks) {
    Question q = explain("y", {"d", "z1", "z2", "g"});
    q.allChecks = false;
    LeftOutRequest request;
    request.of = "d";
    for (const std::string& one : benchmarks) {
        request.benchmarks.push_back(Term::expression(one));
    }
    q.leftOut = request;
    return q;
}

const LeftOut& found(const Answer& a) { return **a.leftOut; }

/// A column that the terms say nothing of, whose shares of what they leave of d and of y are these:
/// what is imagined, made. Orthogonal to all columns of the question but d.
Answer withMade(double ofTerm, double ofOutcome, std::optional<double>* estimate) {
    const Table t = table();
    const Answer plain = answer(t, asked({"z1"}));
    const Design& design = *plain.design;
    const Eigen::Index place = coefficient(plain, "d")->column;
    Eigen::MatrixXd others(design.X.rows(), design.X.cols() - 1);
    for (Eigen::Index c = 0, k = 0; c < design.X.cols(); ++c) {
        if (c != place) {
            others.col(k++) = design.X.col(c);
        }
    }
    const auto left = [](const Eigen::VectorXd& v, const Eigen::MatrixXd& x) -> Eigen::VectorXd {
        return v - x * x.householderQr().solve(v);
    };
    const Eigen::VectorXd d = left(design.X.col(place), others).normalized();
    const Eigen::VectorXd e = left(left(design.y, design.X), others).normalized();
    // Its part along d has the share of d; of the rest, the share along e is the outcome's.
    std::mt19937 random(5);
    std::normal_distribution<double> normal;
    Eigen::VectorXd noise(design.X.rows());
    for (double& x : noise) {
        x = normal(random);
    }
    noise = left(noise, design.X);
    noise = (noise - e * e.dot(noise)).normalized();
    const Eigen::VectorXd made =
        std::sqrt(ofTerm) * d +
        std::sqrt(1.0 - ofTerm) * (std::sqrt(ofOutcome) * e + std::sqrt(1.0 - ofOutcome) * noise);
    Table more = t;
    std::vector<double> cells(kRows);
    for (std::size_t i = 0; i < kRows; ++i) {
        cells[i] = made(static_cast<Eigen::Index>(i));
    }
    more.columns.push_back(Column::ofNumbers("made", cells));
    Variable variable;
    variable.name = "made";
    more.variables.push_back(variable);
    Question q = explain("y", {"d", "z1", "z2", "g", "made"});
    q.allChecks = false;
    const Answer refit = answer(more, q);
    *estimate = coefficient(refit, "d")->estimate;
    return refit;
}

}  // namespace

class LeftOutTest : public QObject {
    Q_OBJECT

  private slots:

    void valuesFollowFromTAlone() {
        const Answer a = answer(table(), asked({}));
        const Coefficient& c = *coefficient(a, "d");
        const double t = *c.statistic;
        const double df = a.fit->dfResidual;
        QVERIFY(near(*found(a).partialR2, t * t / (t * t + df), 1e-12));
        const double f = std::abs(t) / std::sqrt(df);
        QVERIFY(near(*found(a).robustness, 0.5 * (std::sqrt(std::pow(f, 4) + 4.0 * f * f) - f * f),
                     1e-12));
        // R²Y = R²D = RV takes it to zero.
        std::optional<double> left;
        withMade(*found(a).robustness, *found(a).robustness, &left);
        QVERIFY2(std::abs(*left) < 1e-9, QByteArray::number(*left));
    }

    void aBoundIsTheRefitWithWhatIsImagined() {
        const Answer a = answer(table(), asked({"z1", "z2", "g"}));
        QCOMPARE(found(a).bounds.size(), std::size_t{9});
        std::size_t made = 0;
        for (const LeftOutBound& b : found(a).bounds) {
            if (!b.estimate) {
                continue;
            }
            std::optional<double> refit;
            const Answer again = withMade(b.withTerm, b.withOutcome, &refit);
            QVERIFY2(near(*refit, *b.estimate, 1e-9), b.benchmark.c_str());
            QVERIFY2(near(coefficient(again, "d")->se, *b.se, 1e-9), b.benchmark.c_str());
            QVERIFY2(near(coefficient(again, "d")->low, *b.low, 1e-9), b.benchmark.c_str());
            ++made;
        }
        QVERIFY(made >= 4);
    }

    void aBenchmarkBoundsItselfAsStrong() {
        // One that is as strong as z1 on what is left: its own shares, worked out apart.
        const Answer a = answer(table(), asked({"z1"}));
        const auto share = [](const Answer& one, const std::string& term) {
            const Coefficient& c = *coefficient(one, term);
            return *c.statistic * *c.statistic /
                   (*c.statistic * *c.statistic + one.fit->dfResidual);
        };
        Question ofD = explain("d", {"z1", "z2", "g"});
        ofD.allChecks = false;
        const double withD = share(answer(table(), ofD), "z1");
        const double withY = share(a, "z1");
        const LeftOutBound& b = found(a).bounds[0];
        QVERIFY(near(b.withTerm, withD / (1.0 - withD), 1e-11));
        const double shared = withD * withD / ((1.0 - withD) * (1.0 - withD));
        QVERIFY(near(b.withOutcome,
                     std::pow((1.0 + std::sqrt(shared)) / std::sqrt(1.0 - shared), 2) * withY /
                         (1.0 - withY),
                     1e-11));
    }

    void linesOfThePictureAreWhatTheySay() {
        for (const double unit : {1.0, -1.0}) {
            const Answer a = answer(table(unit), asked({"z1", "z2"}));
            const LeftOut& of = found(a);
            QVERIFY(leftOutToDraw(a) == &of);
            // A bound is the effect beside a cause of its strength.
            for (const LeftOutBound& bound : of.bounds) {
                if (!bound.estimate) {
                    continue;  // It would have to explain all that is left.
                }
                const LeftBy left = leftBy(of, bound.withTerm, bound.withOutcome, a.alpha);
                QCOMPARE(std::optional(left.estimate), bound.estimate);
                QCOMPARE(std::optional(left.low), bound.low);
            }
            QVERIFY(std::abs(leftBy(of, *of.robustness, *of.robustness, a.alpha).estimate) < 1e-12);
            const LeftBy end = leftBy(of, *of.robustnessAlpha, *of.robustnessAlpha, a.alpha);
            QVERIFY(std::abs(unit > 0.0 ? end.low : end.high) < 1e-10);
            const Exhibit e = leftOutExhibit(of, a.alpha);
            const Strength most = leftOutReach(of);
            int equal = 0;
            for (const Exhibit::Line& line : e.lines) {
                for (std::size_t i = 0; i < line.x.size(); ++i) {
                    QVERIFY(line.x[i] <= most.withTerm && line.y[i] <= most.withOutcome &&
                            line.y[i] >= 0.0);
                    if (line.name.empty() || line.series >= 0) {
                        continue;
                    }
                    const LeftBy left = leftBy(of, line.x[i], line.y[i], a.alpha);
                    if (line.name == "no effect") {
                        QVERIFY(std::abs(left.estimate) < 1e-10);
                    } else if (line.dashed) {
                        QVERIFY(std::abs(unit > 0.0 ? left.low : left.high) < 1e-8);
                    } else {
                        // The name of a line is its estimate.
                        QString name = QString::fromStdString(line.name);
                        name.replace(QChar(0x2212), '-');
                        QVERIFY(std::abs(left.estimate - name.toDouble()) < 1e-10);
                        ++equal;
                    }
                }
            }
            QVERIFY(equal > 50);
            // Both benchmarks with once, twice and three times, and what is chosen.
            QCOMPARE(e.x.size(), static_cast<std::size_t>(std::count_if(
                                     of.bounds.begin(), of.bounds.end(), [](const LeftOutBound& b) {
                                         return b.estimate.has_value();
                                     })));
            const Exhibit chosen = leftOutExhibit(of, a.alpha, Strength{0.1, 0.05});
            QCOMPARE(chosen.lines.size(), e.lines.size() + 2);
            const std::string words = strengthReading(of, {0.1, 0.05}, a.alpha);
            const LeftBy left = leftBy(of, 0.1, 0.05, a.alpha);
            QVERIFY(words.find("10 %") != std::string::npos &&
                    words.find("5 %") != std::string::npos);
            QVERIFY(words.find(fixedNumber(left.estimate, decimalsFor(of.se), true)) !=
                    std::string::npos);
            QVERIFY(strengthReading(of, {0.9, 0.9}, a.alpha).find("the sign turns") !=
                    std::string::npos);
        }
        Answer none = answer(table(), explain("y", {"d"}));
        QVERIFY(leftOutToDraw(none) == nullptr);
    }

    void unitsAndSignsChangeNothing() {
        const Answer a = answer(table(), asked({"z1", "g"}));
        const Answer b = answer(table(-0.001), asked({"z1", "g"}));
        QVERIFY(near(*found(a).robustness, *found(b).robustness, 1e-10));
        QVERIFY(near(*found(a).robustnessAlpha, *found(b).robustnessAlpha, 1e-10));
        QVERIFY(near(found(a).stability->delta.value(), found(b).stability->delta.value(), 1e-9));
        for (std::size_t k = 0; k < found(a).bounds.size(); ++k) {
            QVERIFY(
                near(-0.001 * *found(a).bounds[k].estimate, *found(b).bounds[k].estimate, 1e-9));
        }
    }

    void ownErrorsCarryTheIntervals() {
        Question q = asked({"z2"});
        q.errors.kind = "clustered";
        q.errors.by = {"u"};
        const Answer a = answer(table(), q);
        const Answer plain = answer(table(), asked({"z2"}));
        const LeftOutBound& own = found(a).bounds[0];
        const LeftOutBound& classical = found(plain).bounds[0];
        QVERIFY(near(*own.estimate, *classical.estimate, 1e-12));
        QVERIFY(near(*own.se / *classical.se, coefficient(a, "d")->se / coefficient(plain, "d")->se,
                     1e-12));
        QCOMPARE(found(a).df, std::optional<double>(39.0));
        // What takes the end of the interval to zero, put back into the bound's own formula.
        const double rv = *found(a).robustnessAlpha;
        const double df = a.fit->dfResidual;
        const double t = *coefficient(plain, "d")->statistic;
        const double shift = coefficient(plain, "d")->se * std::sqrt(df) * rv / std::sqrt(1.0 - rv);
        const double se = coefficient(a, "d")->se * std::sqrt(df / (df - 1.0));
        const double critical = (*own.high - *own.low) / 2.0 / *own.se;
        QVERIFY(near(std::abs(t) * coefficient(plain, "d")->se - shift, critical * se, 1e-9));
    }

    void weightsAndWhatIsHeldFixed() {
        Question q = asked({"z1"});
        q.weightKind = WeightKind::Precision;
        q.weight = "w";
        const Answer a = answer(table(), q);
        const double t = *coefficient(a, "d")->statistic;
        QVERIFY(near(*found(a).partialR2, t * t / (t * t + a.fit->dfResidual), 1e-11));
        Question held = asked({"z1"});
        held.terms.pop_back();
        held.fixedEffects = {"g"};
        const Answer b = answer(table(), held);
        const Answer c = answer(table(), asked({"z1"}));
        QVERIFY(near(*found(b).robustness, *found(c).robustness, 1e-9));
        QVERIFY(near(*found(b).bounds[0].estimate, *found(c).bounds[0].estimate, 1e-9));
    }

    void aSummaryIsEnough() {
        // The same numbers from means and covariances alone.
        Question q = asked({"z1"});
        q.terms.pop_back();
        const Answer rows = answer(table(), q);
        SummaryMatrix moments;
        moments.names = {"y", "d", "z1", "z2"};
        moments.n = static_cast<double>(kRows);
        moments.hasMeans = moments.hasScale = true;
        const Table t = table();
        Eigen::MatrixXd x(static_cast<Eigen::Index>(kRows), 4);
        for (std::size_t c = 0; c < 4; ++c) {
            for (std::size_t i = 0; i < kRows; ++i) {
                x(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(c)) =
                    t.columns[c].numbers()[i];
            }
        }
        moments.mean = x.colwise().mean();
        x.rowwise() -= moments.mean.transpose().eval();
        const Eigen::MatrixXd covariance = x.transpose() * x / (moments.n - 1.0);
        moments.sd = covariance.diagonal().cwiseSqrt();
        moments.correlation = moments.sd.cwiseInverse().asDiagonal() * covariance *
                              moments.sd.cwiseInverse().asDiagonal();
        const Frame frame = Frame::ofMoments(std::make_shared<const SummaryMatrix>(moments), {});
        const Answer summary = answerQuestion(Study{}, frame, q, Job());
        QVERIFY2(!summary.refusal, summary.refusal ? summary.refusal->text().c_str() : "");
        QVERIFY(near(*found(summary).robustness, *found(rows).robustness, 1e-8));
        QVERIFY(near(*found(summary).robustnessAlpha, *found(rows).robustnessAlpha, 1e-8));
        QVERIFY(near(*found(summary).bounds[1].low, *found(rows).bounds[1].low, 1e-8));
        QVERIFY(near(*found(summary).stability->delta, *found(rows).stability->delta, 1e-7));
    }

    void whatIsUsuallyAskedIsEverythingElse() {
        Question q = asked({});
        q.terms.push_back({Term::Kind::Set, {"own"}, false});
        q.terms[1].muted = true;
        const std::vector<TermSet> sets = {{"own", {"d"}}};
        const Answer a = answer(table(), asked({}));
        const Coefficient& d = *coefficient(a, "d");
        QVERIFY(canAskLeftOut(*a.fit, d) && !canAskLeftOut(*a.fit, a.fit->coefficients[0]));
        const LeftOutRequest usual = usualLeftOut(q, *a.design, d, sets);
        QCOMPARE(usual.of, std::string("d"));
        // Not the term itself, nor a set that holds it, nor what is muted.
        QCOMPARE(usual.benchmarks.size(), std::size_t{2});
        QCOMPARE(usual.benchmarks[0].shown(), std::string("z2"));
        QCOMPARE(usual.benchmarks[1].shown(), std::string("g"));
    }

    void theStabilityRootSolvesItsEquation() {
        const Answer a = answer(table(), asked({}));
        const Stability& s = *found(a).stability;
        Question alone = explain("y", {"d"});
        alone.allChecks = false;
        const Answer first = answer(table(), alone);
        const double r2 = *a.fit->statistics.rSquared;
        const double r2First = *first.fit->statistics.rSquared;
        QVERIFY(near(s.r2Max, std::min(1.0, 1.3 * r2), 1e-12));
        const double moved = coefficient(first, "d")->estimate - coefficient(a, "d")->estimate;
        Eigen::VectorXd d = a.design->X.col(coefficient(a, "d")->column);
        d.array() -= d.mean();
        const double spreadD = d.squaredNorm();
        const double tau = std::pow(a.fit->statistics.sigma / coefficient(a, "d")->se, 2);
        const double spreadY = a.fit->statistics.tss;
        const auto equation = [&](double delta, double bias) {
            return delta * (s.r2Max - r2) * spreadY * moved * spreadD +
                   bias * (delta * (s.r2Max - r2) * spreadY * (spreadD - tau) -
                           (r2 - r2First) * spreadY * tau - spreadD * tau * moved * moved) +
                   bias * bias * tau * moved * spreadD * (delta - 2.0) +
                   bias * bias * bias * (delta - 1.0) * (tau * spreadD - tau * tau);
        };
        const double scale = spreadY * spreadD * spreadD;
        const double b = coefficient(a, "d")->estimate;
        QVERIFY(std::abs(equation(*s.delta, b)) < 1e-9 * scale);
        QVERIFY(std::abs(equation(1.0, b - *s.atOne)) < 1e-9 * scale);
        QVERIFY((b - *s.atOne) * moved >= 0.0);
    }

    void ofACountTheRatioSpeaks() {
        Table t = table();
        std::vector<double> n(kRows);
        for (std::size_t i = 0; i < kRows; ++i) {
            n[i] = std::floor(std::exp(0.5 + 0.3 * t.columns[1].numbers()[i]) + 0.5);
        }
        t.columns.push_back(Column::ofNumbers("n", n));
        Variable variable;
        variable.name = "n";
        variable.measure = Measure::Count;
        t.variables.push_back(variable);
        Question q = asked({"z1"});
        q.outcome = "n";
        q.method = "poisson";
        const Answer a = answer(t, q);
        QVERIFY(found(a).eValue && !found(a).robustness && found(a).bounds.empty());
        const double ratio = std::exp(std::abs(coefficient(a, "d")->estimate));
        QVERIFY(near(found(a).eValue->estimate, ratio + std::sqrt(ratio * (ratio - 1.0)), 1e-12));
        QVERIFY(found(a).eValue->interval > 1.0 &&
                found(a).eValue->interval < found(a).eValue->estimate);
        QVERIFY(leftOutReading(a)[0].find("ratio") != std::string::npos);
    }

    void whatCannotBeAskedIsRefusedAlone_data() {
        QTest::addColumn<QString>("of");
        QTest::addColumn<QString>("benchmark");
        QTest::addColumn<QString>("method");
        QTest::addColumn<QString>("says");
        QTest::newRow("no term") << "nobody"
                                 << "z1"
                                 << "least-squares"
                                 << "no effect";
        QTest::newRow("no benchmark") << "d"
                                      << "nobody"
                                      << "least-squares"
                                      << "no term";
        QTest::newRow("itself") << "d"
                                << "d"
                                << "least-squares"
                                << "holds the effect";
        QTest::newRow("quantiles") << "d"
                                   << "z1"
                                   << "quantile"
                                   << "one linear equation";
        QTest::newRow("robust") << "d"
                                << "z1"
                                << "huber"
                                << "one linear equation";
    }

    void whatCannotBeAskedIsRefusedAlone() {
        QFETCH(QString, of);
        QFETCH(QString, benchmark);
        QFETCH(QString, method);
        QFETCH(QString, says);
        Question q = asked({benchmark.toStdString()});
        q.leftOut->of = of.toStdString();
        q.method = method.toStdString();
        if (method == "quantile") {
            q.settings.at = {0.5};
        }
        const Answer a = answer(table(), q);
        QVERIFY(a.fit != nullptr);  // The rest is answered.
        QVERIFY(a.leftOut && !*a.leftOut);
        QVERIFY2(a.leftOut->error().text().find(says.toStdString()) != std::string::npos,
                 a.leftOut->error().text().c_str());
        const auto json = resultsJson(Study{}, {a})["answers"][0]["left_out"];
        QVERIFY(json.contains("message"));
    }

    void whatIsAskedGoesThroughTheStudyFile() {
        Study study;
        study.source.file = "a.csv";
        Question q = asked({"z1"});
        q.id = "q1";
        q.leftOut->benchmarks.push_back({Term::Kind::Set, {"controls"}, false});
        q.leftOut->multiples = {1.0, 5.0};
        q.leftOut->r2MaxFactor = 2.0;
        study.questions = {q};
        const auto again = readStudyText(studyText(study));
        QVERIFY2(again, again ? "" : again.error().text().c_str());
        QVERIFY(again->questions[0].leftOut == q.leftOut);
        QVERIFY(!again->questions[0].unbuilt);
    }

    void anIntervalThatHoldsZeroNeedsNothing() {
        Question q = asked({});
        q.leftOut->of = "z2";
        q.where = "u < 2";
        const Answer a = answer(table(), q);
        QVERIFY(coefficient(a, "z2")->low < 0.0 && coefficient(a, "z2")->high > 0.0);
        QCOMPARE(found(a).robustnessAlpha, std::optional(0.0));
        QVERIFY(leftOutReading(a)[0].find("holds zero as it is") != std::string::npos);
    }

    /// By instruments the stages are ordinary regressions: what is told of them is what is told
    /// where they are asked by themselves, in the question’s errors.
    void byInstrumentsTheStagesAreAsked() {
        for (const char* kind : {"classical", "robust", "clustered"}) {
            Question q = explain("y", {"z2", "g"});
            q.allChecks = false;
            q.endogenous = {Term::expression("d")};
            q.instruments = {Term::expression("z1"), Term::expression("power(z1, 2)")};
            q.method = "two-stage";
            q.errors.kind = kind;
            if (q.errors.kind == "clustered") {
                q.errors.by = {"u"};
            }
            q.leftOut = LeftOutRequest{"d", {}, {1.0}};
            const Answer a = answer(table(), q);
            QVERIFY2(a.fit && *a.leftOut, a.refusal ? a.refusal->text().c_str() : "no answer");
            const LeftOut& of = found(a);
            QCOMPARE(of.stages.size(), std::size_t{4});
            QVERIFY(!of.robustness && leftOutToDraw(a) == nullptr);
            for (std::size_t k = 0; k < 4; ++k) {
                Question plain = explain(k < 2 ? "y" : "d", {"z2", "g", "z1", "power(z1, 2)"});
                plain.allChecks = false;
                plain.errors = q.errors;
                plain.leftOut = LeftOutRequest{k % 2 == 0 ? "z1" : "power(z1, 2)", {}, {1.0}};
                const Answer stage = answer(table(), plain);
                const LeftOut& own = found(stage);
                AGREE("estimate", of.stages[k].estimate, own.estimate, 1e-9);
                AGREE("share", of.stages[k].partialR2, *own.partialR2, 1e-9);
                AGREE("robustness", of.stages[k].robustness, *own.robustness, 1e-9);
                AGREE("end", of.stages[k].robustnessAlpha, *own.robustnessAlpha, 1e-8);
            }
            QVERIFY(leftOutReading(a)[0].find("exactly where the reduced form is") !=
                    std::string::npos);
            QCOMPARE(resultsJson(Study{}, {a})["answers"][0]["left_out"]["stages"].size(),
                     std::size_t{4});
        }
        Question other = explain("y", {"z2"});
        other.allChecks = false;
        other.endogenous = {Term::expression("d")};
        other.instruments = {Term::expression("z1")};
        other.method = "two-stage";
        other.leftOut = LeftOutRequest{"z2", {}, {1.0}};
        QVERIFY(
            answer(table(), other).leftOut->error().text().find("not moved by the instruments") !=
            std::string::npos);
    }

    /// The small picture: at every share the number that is told where that share is asked for.
    void theStabilityPictureIsTheNumberAtEveryShare() {
        const Answer a = answer(table(), asked({"z1"}));
        const Exhibit e = stabilityExhibit(a);
        QVERIFY(!e.lines.empty());
        QCOMPARE(e.y.front(), *found(a).stability->delta);
        const double own = a.fit->statistics.rSquared.value();
        std::size_t compared = 0;
        for (const Exhibit::Line& line : e.lines) {
            for (std::size_t k = 5; line.name.empty() && k < line.x.size(); k += 17) {
                Question q = asked({"z1"});
                q.leftOut->r2MaxFactor = line.x[k] / own;
                const LeftOut there = found(answer(table(), q));
                AGREE("share", there.stability->r2Max, line.x[k], 1e-12);
                AGREE("times", *there.stability->delta, line.y[k], 1e-8);
                ++compared;
            }
        }
        QVERIFY(compared >= 4);
        // Without other terms there is nothing to be stable against.
        Question alone = explain("y", {"d"});
        alone.allChecks = false;
        alone.leftOut = LeftOutRequest{"d", {}, {1.0}};
        QVERIFY(stabilityExhibit(answer(table(), alone)).lines.empty());
    }

    /// Selection on what is left out as on what is in, from the rows themselves.
    void selectionIsWhatTheRowsSay() {
        Table t = table();
        std::vector<double> yes(kRows);
        for (std::size_t i = 0; i < kRows; ++i) {
            yes[i] = t.columns[1].numbers()[i] > 0.2 ? 1.0 : 0.0;
        }
        t.columns[1] = Column::ofNumbers("d", yes);
        const Answer a = answer(t, asked({"z1"}));
        QVERIFY(found(a).yesNo && found(a).selection.has_value());
        // Without the effect: the others’ part of the outcome, and what is left.
        Question without = explain("y", {"z1", "z2", "g"});
        without.allChecks = false;
        const Answer null = answer(t, without);
        const Eigen::VectorXd& index = null.fit->fitted;
        double with = 0.0;
        double rows = 0.0;
        for (std::size_t i = 0; i < kRows; ++i) {
            with += yes[i] * index(static_cast<Eigen::Index>(i));
            rows += yes[i];
        }
        const double others = (index.sum() - with) / (static_cast<double>(kRows) - rows);
        const double gap = with / rows - others;
        const double spread = (index.array() - index.mean()).square().sum();
        const double share = rows / static_cast<double>(kRows);
        const double ofCause = static_cast<double>(kRows) * share * (1.0 - share);
        Question cause = explain("d", {"z1", "z2", "g"});
        cause.allChecks = false;
        const double left = answer(t, cause).fit->statistics.rss;
        const double bias = ofCause / left * gap / spread * null.fit->statistics.rss;
        AGREE("bias", found(a).selection->bias, bias, 1e-9);
        AGREE("ratio", found(a).selection->ratio, coefficient(a, "d")->estimate / bias, 1e-9);
        QVERIFY(leftOutReading(a).back().find("sorted rows into d") != std::string::npos);
        // Of a quantity it is not told.
        QVERIFY(!found(answer(table(), asked({"z1"}))).yesNo);
    }

    void itIsSaidInWordsInResultsAndReport() {
        const Answer a = answer(table(), asked({"z1", "g"}));
        const auto json = resultsJson(Study{}, {a})["answers"][0]["left_out"];
        QCOMPARE(json["bounds"].size(), std::size_t{6});
        QCOMPARE(json["robustness_value"].get<double>(), *found(a).robustness);
        QVERIFY(json["e_value"].is_null() && json["stability"]["delta"].is_number());
        std::string all;
        for (std::size_t k = 0; k < a.fit->coefficients.size(); ++k) {
            const bool own = a.fit->coefficients[k].term == "d";
            std::string words;
            for (const std::string& one : effectReading(a, k)) {
                words += one;
            }
            QCOMPARE(words.find("a cause left out") != std::string::npos, own);
        }
        Study study;
        study.questions = {a.question};
        study.report = {ReportItem("left-out", {"q1"})};
        const auto blocks = buildReport(study, {{"q1", &a}});
        QVERIFY(std::any_of(blocks.begin(), blocks.end(), [](const ReportBlock& block) {
            return block.kind == ReportBlock::Kind::Table && block.cells.size() == 7;
        }));
    }
};

QTEST_APPLESS_MAIN(LeftOutTest)
#include "left_out_test.moc"
