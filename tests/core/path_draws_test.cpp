// Intervals of traced effects, draw by draw, and errors of every kind in several equations.
#include "core/model/fit.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "core/paths/trace.h"
#include "core/paths/trace_edits.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <numeric>

using namespace rapporto;
using namespace rapporto::test;

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr int kRows = 90;
constexpr int kVillages = 9;

double normal(RandomStream& random) { return normalQuantile(random.uniform() + 0x1.0p-54); }

/// x moves m, both move y; villages share something; weights of two kinds; moments and units.
struct Rows {
    VectorXd x, m, y, village, w, times, moment, unit;

    Rows() {
        RandomStream random(20261130, 5);
        for (VectorXd* column : {&x, &m, &y, &village, &w, &times, &moment, &unit}) {
            column->resize(kRows);
        }
        VectorXd shared(kVillages);
        for (double& one : shared) {
            one = normal(random);
        }
        for (Index i = 0; i < kRows; ++i) {
            village(i) = static_cast<double>(i % kVillages);
            x(i) = normal(random) + 0.3 * shared(i % kVillages);
            m(i) = 0.5 * x(i) + 0.4 * shared(i % kVillages) + normal(random);
            y(i) = 1.0 + 0.4 * m(i) + 0.2 * x(i) + normal(random);
            w(i) = 0.5 + random.uniform();
            times(i) = 1.0 + static_cast<double>(random.below(3));
            moment(i) = static_cast<double>(i);
            unit(i) = static_cast<double>(i % 15);
        }
    }

    [[nodiscard]] Table table() const {
        const auto cells = [](const VectorXd& v) {
            return std::vector<double>(v.begin(), v.end());
        };
        return tableOf({{"x", cells(x)},
                        {"m", cells(m)},
                        {"y", cells(y)},
                        {"village", cells(village)},
                        {"w", cells(w)},
                        {"times", cells(times)},
                        {"moment", cells(moment)},
                        {"unit", cells(unit)}});
    }
};

Question traceOf(const std::string& interval) {
    Question q;
    q.id = "q1";
    q.kind = "trace";
    q.allChecks = false;
    PathSpec first;
    first.to = "m";
    first.from = {Term::expression("x")};
    PathSpec second;
    second.to = "y";
    second.from = {Term::expression("m"), Term::expression("x")};
    q.trace.paths = {first, second};
    q.trace.effects = {tracedPair("x", "y")};
    q.trace.interval = interval;
    q.trace.draws = 60;
    q.trace.seed = 11;
    return q;
}

const TraceEffect& through(const Answer& a) {
    for (const TraceEffect& e : a.trace->effects) {
        if (e.kind == "indirect" && !e.through.empty()) {
            return e;
        }
    }
    qFatal("no way");
}

const TraceEffect& direct(const Answer& a) {
    for (const TraceEffect& e : a.trace->effects) {
        if (e.kind == "direct") {
            return e;
        }
    }
    qFatal("no direct effect");
}

Answer traced(const Table& table, const Question& q, const Layout& layout = {}) {
    Answer a = answer(table, q, layout);
    if (a.refusal) {
        qFatal("%s", a.refusal->text().c_str());
    }
    return a;
}

/// The indirect effect of weighted rows, by the normal equations.
double indirectOf(const Rows& rows, const VectorXd& weights) {
    MatrixXd X(kRows, 3);
    X << VectorXd::Ones(kRows), rows.x, rows.m;
    const auto solved = [&](Index columns, const VectorXd& y) {
        const MatrixXd Z = X.leftCols(columns);
        return VectorXd((Z.transpose() * weights.asDiagonal() * Z)
                            .ldlt()
                            .solve(Z.transpose() * weights.cwiseProduct(y)));
    };
    return solved(2, rows.m)(1) * solved(3, rows.y)(2);
}

/// How often each row is drawn.
VectorXd countsOf(std::uint64_t seed, int draw) {
    RandomStream random(seed, static_cast<std::uint64_t>(draw));
    VectorXd counts = VectorXd::Zero(kRows);
    for (int i = 0; i < kRows; ++i) {
        counts(static_cast<Index>(random.below(kRows))) += 1.0;
    }
    return counts;
}

/// The (B + 1)p-th smallest, between two where that is no whole number.
double quantileOf(std::vector<double> values, double p) {
    std::sort(values.begin(), values.end());
    const auto n = static_cast<double>(values.size());
    const double place = std::clamp(p * (n + 1.0), 1.0, n);
    const auto below = static_cast<std::size_t>(place) - 1;
    const double part = place - std::floor(place);
    return part == 0.0 ? values[below] : values[below] + part * (values[below + 1] - values[below]);
}

double lower(double z) { return normalTail(-z); }

}  // namespace

class PathDrawsTest : public QObject {
    Q_OBJECT

    Rows rows_;

    [[nodiscard]] std::vector<double> byHand(const std::function<VectorXd(int)>& weights) const {
        std::vector<double> out;
        for (int d = 0; d < 60; ++d) {
            out.push_back(indirectOf(rows_, weights(d)));
        }
        return out;
    }

    /// Ends and p by the formulas of Efron (1987), with z₀ and a given.
    static void compare(const TraceEffect& found, const std::vector<double>& draws, double z0,
                        double a) {
        for (const auto& [end, z] : {std::pair(found.low, normalQuantile(0.025)),
                                     std::pair(found.high, normalQuantile(0.975))}) {
            const double share = lower(z0 + (z0 + z) / (1.0 - a * (z0 + z)));
            AGREE("end", end, quantileOf(draws, share), 1e-9);
        }
        const auto below = static_cast<double>(
            std::count_if(draws.begin(), draws.end(), [](double v) { return v < 0.0; }));
        const double share = std::clamp(below / 60.0, 0.5 / 60.0, 1.0 - 0.5 / 60.0);
        const double u = normalQuantile(share) - z0;
        const double z = u / (1.0 + a * u) - z0;
        AGREE("p", *found.p, std::clamp(2.0 * std::min(lower(z), lower(-z)), 1.0 / 61.0, 1.0),
              1e-9);
    }

    [[nodiscard]] static double shift(const std::vector<double>& draws, double estimate) {
        const auto below = static_cast<double>(
            std::count_if(draws.begin(), draws.end(), [&](double v) { return v < estimate; }));
        return normalQuantile(std::clamp(below / 60.0, 0.5 / 60.0, 1.0 - 0.5 / 60.0));
    }

    /// Acceleration from leaving each unit out.
    [[nodiscard]] static double acceleration(const VectorXd& without) {
        const VectorXd u = (without.mean() - without.array()).matrix();
        return u.array().cube().sum() / (6.0 * std::pow(u.squaredNorm(), 1.5));
    }

    [[nodiscard]] static std::vector<ErrorSpec> errorKinds() {
        ErrorSpec clustered;
        clustered.kind = "clustered";
        clustered.by = {"village"};
        ErrorSpec two = clustered;
        two.by = {"village", "unit"};
        ErrorSpec hc;
        hc.kind = "robust";
        std::vector<ErrorSpec> out = {ErrorSpec{}, clustered, two};
        for (const char* type : {"HC0", "HC1", "HC2", "HC3", "HC4"}) {
            hc.type = type;
            out.push_back(hc);
        }
        return out;
    }

  private slots:

    void percentileEndsAreThoseOfTheDraws() {
        const Answer a = traced(rows_.table(), traceOf("percentile"));
        compare(through(a), byHand([](int d) { return countsOf(11, d); }), 0.0, 0.0);
        QCOMPARE(a.trace->asked, 60);
    }

    void biasIsCorrectedByWhereTheEstimateLies() {
        const auto draws = byHand([](int d) { return countsOf(11, d); });
        const Answer a = traced(rows_.table(), traceOf("bias-corrected"));
        compare(through(a), draws, shift(draws, through(a).estimate), 0.0);
    }

    void skewIsCorrectedByLeavingRowsOut() {
        const auto draws = byHand([](int d) { return countsOf(11, d); });
        VectorXd without(kRows);
        for (Index i = 0; i < kRows; ++i) {
            VectorXd weights = VectorXd::Ones(kRows);
            weights(i) = 0.0;
            without(i) = indirectOf(rows_, weights);
        }
        const Answer a = traced(rows_.table(), traceOf("bca"));
        compare(through(a), draws, shift(draws, through(a).estimate), acceleration(without));
    }

    void clustersAreDrawnWhole() {
        Question q = traceOf("bca");
        q.trace.resampling = "clusters";
        q.trace.by = {"village"};
        const auto weights = [&](int d) {
            RandomStream random(11, static_cast<std::uint64_t>(d));
            VectorXd drawn = VectorXd::Zero(kVillages);
            for (int g = 0; g < kVillages; ++g) {
                drawn(static_cast<Index>(random.below(kVillages))) += 1.0;
            }
            VectorXd out(kRows);
            for (Index i = 0; i < kRows; ++i) {
                out(i) = drawn(static_cast<Index>(rows_.village(i)));
            }
            return out;
        };
        const auto draws = byHand(weights);
        VectorXd without(kVillages);
        for (Index g = 0; g < kVillages; ++g) {
            VectorXd kept(kRows);
            for (Index i = 0; i < kRows; ++i) {
                kept(i) = rows_.village(i) == static_cast<double>(g) ? 0.0 : 1.0;
            }
            without(g) = indirectOf(rows_, kept);
        }
        const Answer a = traced(rows_.table(), q);
        compare(through(a), draws, shift(draws, through(a).estimate), acceleration(without));
        QCOMPARE(a.trace->resampling, std::string("clusters"));
    }

    void samplingWeightsGoWithTheirRows() {
        Question q = traceOf("percentile");
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
        const Answer a = traced(rows_.table(), q);
        AGREE("estimate", through(a).estimate, indirectOf(rows_, rows_.w), 1e-10);
        compare(through(a),
                byHand([&](int d) { return VectorXd(countsOf(11, d).cwiseProduct(rows_.w)); }), 0.0,
                0.0);
    }

    /// A row that stands for three is three rows, in estimates, errors, draws and acceleration.
    void frequenciesAreRowsWrittenOut_data() {
        QTest::addColumn<QString>("interval");
        for (const char* interval : {"delta", "percentile", "bca"}) {
            QTest::newRow(interval) << interval;
        }
    }

    void frequenciesAreRowsWrittenOut() {
        QFETCH(QString, interval);
        Question q = traceOf(interval.toStdString());
        const Table written = [&] {
            std::vector<std::pair<std::string, std::vector<double>>> columns = {
                {"x", {}}, {"m", {}}, {"y", {}}};
            for (Index i = 0; i < kRows; ++i) {
                for (int k = 0; k < static_cast<int>(rows_.times(i)); ++k) {
                    columns[0].second.push_back(rows_.x(i));
                    columns[1].second.push_back(rows_.m(i));
                    columns[2].second.push_back(rows_.y(i));
                }
            }
            return tableOf(columns);
        }();
        const Answer expanded = traced(written, q);
        q.weightKind = WeightKind::Frequency;
        q.weight = "times";
        const Answer counted = traced(rows_.table(), q);
        for (std::size_t k = 0; k < expanded.trace->effects.size(); ++k) {
            const TraceEffect& one = counted.trace->effects[k];
            const TraceEffect& other = expanded.trace->effects[k];
            AGREE("estimate", one.estimate, other.estimate, 1e-9);
            AGREE("se", one.se, other.se, 1e-9);
            AGREE("low", one.low, other.low, 1e-9);
            AGREE("high", one.high, other.high, 1e-9);
            AGREE("standardised", *one.standardised, *other.standardised, 1e-9);
        }
    }

    void parametricDrawsHaveTheLawOfTheCoefficients() {
        Question q = traceOf("percentile");
        q.trace.resampling = "parametric";
        q.trace.draws = 20000;
        const Answer drawn = traced(rows_.table(), q);
        q.trace.interval = "delta";
        const Answer told = traced(rows_.table(), q);
        // A direct effect is one coefficient: its draws are normal about it.
        const double se = direct(told).se;
        QVERIFY(std::abs(direct(drawn).se / se - 1.0) < 0.03);
        QVERIFY(std::abs(direct(drawn).low - direct(told).low) < 0.05 * se);
        QVERIFY(std::abs(direct(drawn).high - direct(told).high) < 0.05 * se);
        // An indirect one is skewed: longer away from zero.
        const TraceEffect& way = through(drawn);
        QVERIFY(way.high - way.estimate > way.estimate - way.low);
    }

    void everyKindOfErrorsIsItsEquationsOwn() {
        for (const ErrorSpec& errors : errorKinds()) {
            Question q = traceOf("delta");
            q.errors = errors;
            const Answer a = traced(rows_.table(), q);
            std::size_t place = 0;
            for (const PathSpec& path : q.trace.paths) {
                Question own = explain(path.to, {});
                own.terms = path.from;
                own.errors = errors;
                own.allChecks = false;
                const Answer alone = answer(rows_.table(), own);
                for (const Coefficient& c : alone.fit->coefficients) {
                    const auto at = static_cast<Index>(place);
                    AGREE(errors.shown() + " " + c.term, std::sqrt(a.trace->covariance(at, at)),
                          c.se, 1e-8);
                    AGREE("as told", a.trace->coefficients[place].se, c.se, 1e-10);
                    ++place;
                }
            }
            // A covariance: symmetric, and no combination of coefficients has less than none.
            const MatrixXd& V = a.trace->covariance;
            QVERIFY((V - V.transpose()).cwiseAbs().maxCoeff() < 1e-12 * V.cwiseAbs().maxCoeff());
            const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(V);
            QVERIFY(solver.eigenvalues().minCoeff() > -1e-9 * solver.eigenvalues().maxCoeff());
        }
    }

    void errorsInTimeAreTheirEquationsOwn() {
        const Layout series{Layout::Kind::Series, "", "moment", ""};
        ErrorSpec errors;
        errors.kind = "autocorrelation";
        errors.lags = 3;
        Question q = traceOf("delta");
        q.errors = errors;
        const Answer a = traced(rows_.table(), q, series);
        Question own = explain("m", {"x"});
        own.errors = errors;
        own.allChecks = false;
        const Answer alone = answer(rows_.table(), own, series);
        for (Index j = 0; j < 2; ++j) {
            AGREE("se", std::sqrt(a.trace->covariance(j, j)),
                  alone.fit->coefficients[static_cast<std::size_t>(j)].se, 1e-9);
        }
        // Without rows in time they are refused, by the equation that asks for them.
        const Answer refused = answer(rows_.table(), q);
        QVERIFY(refused.refusal.has_value());
        QVERIFY(refused.refusal->text().find("‘m’") != std::string::npos);
    }

    void errorsOfTheSurveyAreTheirEquationsOwn() {
        Study study;
        study.survey.weight = "w";
        study.survey.cluster = "village";
        Question q = traceOf("delta");
        q.errors.kind = "survey";
        study.questions = {q};
        const Frame frame = frameOf(rows_.table());
        const Answer a = answerQuestion(study, frame, q, Job());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        Question own = explain("y", {"m", "x"});
        own.errors.kind = "survey";
        own.allChecks = false;
        const Answer alone = answerQuestion(study, frame, own, Job());
        for (Index j = 0; j < 3; ++j) {
            AGREE("se", std::sqrt(a.trace->covariance(2 + j, 2 + j)),
                  alone.fit->coefficients[static_cast<std::size_t>(j)].se, 1e-9);
        }
    }

    /// The same system of logit and least squares: blocks of the likelihood are its own, too.
    void errorsOfALikelihoodAreItsOwn() {
        Table table = rows_.table();
        std::vector<double> yes;
        for (const double y : rows_.y) {
            yes.push_back(y > 1.0 ? 1.0 : 0.0);
        }
        table.columns.push_back(Column::ofNumbers("b", yes));
        Variable b;
        b.name = "b";
        b.measure = Measure::YesNo;
        table.variables.push_back(b);
        for (const ErrorSpec& errors : errorKinds()) {
            if (errors.by.size() > 1) {
                continue;
            }
            for (const char* method : {"logit", "probit"}) {
                Question q = traceOf("delta");
                q.trace.paths[1].to = "b";
                q.trace.paths[1].estimator = method;
                q.trace.effects = {tracedPair("x", "b")};
                q.errors = errors;
                Question own = explain("b", {"m", "x"});
                own.method = method;
                own.errors = errors;
                own.allChecks = false;
                const Answer alone = answer(table, own);
                const Answer a = answer(table, q);
                QCOMPARE(a.refusal.has_value(), alone.refusal.has_value());
                if (a.refusal) {
                    continue;
                }
                for (Index j = 0; j < 3; ++j) {
                    AGREE(std::string(method) + " " + errors.shown(),
                          std::sqrt(a.trace->covariance(2 + j, 2 + j)),
                          alone.fit->coefficients[static_cast<std::size_t>(j)].se, 1e-7);
                }
            }
        }
    }

    /// A draw of a likelihood is its maximum on the rows drawn.
    void drawnLikelihoodsAreSoughtAnew() {
        Table table = rows_.table();
        std::vector<double> yes;
        for (const double y : rows_.y) {
            yes.push_back(y > 1.0 ? 1.0 : 0.0);
        }
        table.columns.push_back(Column::ofNumbers("b", yes));
        Variable b;
        b.name = "b";
        b.measure = Measure::YesNo;
        table.variables.push_back(b);
        Question q = traceOf("percentile");
        q.trace.paths = {q.trace.paths[1]};
        q.trace.paths[0].to = "b";
        q.trace.paths[0].estimator = "logit";
        q.trace.effects = {tracedPair("x", "b", {}, std::pair(0.0, 1.0))};
        const Answer a = answer(table, q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        std::vector<double> effects;
        for (int d = 0; d < 60; ++d) {
            const VectorXd counts = countsOf(11, d);
            MatrixXd X(kRows, 3);
            X << VectorXd::Ones(kRows), rows_.m, rows_.x;
            VectorXd beta = VectorXd::Zero(3);
            for (int step = 0; step < 40; ++step) {
                const VectorXd p = 1.0 / (1.0 + (-(X * beta)).array().exp());
                const VectorXd h = counts.array() * p.array() * (1.0 - p.array());
                const VectorXd g =
                    X.transpose() *
                    VectorXd(counts.array() *
                             (Eigen::Map<const VectorXd>(yes.data(), kRows).array() - p.array()));
                beta += (X.transpose() * h.asDiagonal() * X).ldlt().solve(g);
            }
            double sum = 0.0;
            for (Index i = 0; i < kRows; ++i) {
                const double base = beta(0) + beta(1) * rows_.m(i);
                sum += counts(i) *
                       (1.0 / (1.0 + std::exp(-base - beta(2))) - 1.0 / (1.0 + std::exp(-base)));
            }
            effects.push_back(sum / counts.sum());
        }
        for (const TraceEffect& e : a.trace->effects) {
            if (e.kind == "natural-direct") {
                compare(e, effects, 0.0, 0.0);
                return;
            }
        }
        QFAIL("no effect");
    }

    void moreDrawsTellMoreAndTheSeedIsKept() {
        Question q = traceOf("percentile");
        q.trace.draws = 100;
        const Answer few = traced(rows_.table(), q);
        const Answer again = traced(rows_.table(), q);
        QCOMPARE(through(few).low, through(again).low);
        // Without a seed of its own it is the study’s.
        q.trace.seed.reset();
        Study study;
        study.seed = 11;
        study.questions = {q};
        const Answer own = answerQuestion(study, frameOf(rows_.table()), q, Job());
        QCOMPARE(through(own).low, through(few).low);
        // p is never under one in the number of draws and one.
        q.trace.paths[1].from.pop_back();
        QVERIFY(*through(traced(rows_.table(), q)).p >= 1.0 / 101.0);
    }
};

QTEST_APPLESS_MAIN(PathDrawsTest)
#include "path_draws_test.moc"
