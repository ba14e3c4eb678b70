#include "core/base/parallel.h"
#include "core/numerics/random.h"
#include "core/paths/path_picture.h"
#include "core/paths/trace.h"
#include "core/paths/trace_edits.h"
#include "core/paths/trace_kind.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "core/report/writers/writer.h"
#include "core/study/study.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <set>

using namespace rapporto;
using namespace rapporto::test;

namespace {

using Paths = std::vector<std::pair<std::string, std::vector<std::string>>>;

/// “a × b” is a product.
Term termOf(const std::string& text) {
    const std::string times = " × ";
    if (const auto at = text.find(times); at != std::string::npos) {
        return {Term::Kind::Product, {text.substr(0, at), text.substr(at + times.size())}, false};
    }
    return Term::expression(text);
}

Question traceOf(const Paths& paths, const std::string& interval = "delta") {
    Question q;
    q.id = "q1";
    q.kind = "trace";
    q.allChecks = false;
    for (const auto& [to, from] : paths) {
        PathSpec path;
        path.to = to;
        for (const std::string& one : from) {
            path.from.push_back(termOf(one));
        }
        q.trace.paths.push_back(std::move(path));
    }
    q.trace.interval = interval;
    return q;
}

ErrorSpec errorsOf(const std::string& kind) {
    ErrorSpec errors;
    if (kind == "clustered") {
        errors.kind = kind;
        errors.by = {"village"};
    } else if (kind != "classical") {
        errors.kind = "robust";
        errors.type = kind;
    }
    return errors;
}

const TraceEffect* effectOf(const Answer& a, const std::string& from, const std::string& to,
                            const std::string& kind, const std::vector<std::string>& through = {},
                            const ModeratorSetting& at = {}) {
    for (const TraceEffect& e : a.trace->effects) {
        if (e.from == from && e.to == to && e.kind == kind && e.through == through && e.at == at) {
            return &e;
        }
    }
    return nullptr;
}

std::vector<std::string> split(const std::string& text) {
    std::vector<std::string> out;
    std::size_t at = 0;
    while (at <= text.size()) {
        const std::size_t end = std::min(text.find(", ", at), text.size());
        out.push_back(text.substr(at, end - at));
        at = end + 2;
    }
    return out;
}

}  // namespace

class PathsTest : public QObject {
    Q_OBJECT

    nlohmann::json reference_ = readJson("tests/reference/paths_reference.json");

    [[nodiscard]] Table table() const { return tableFrom(reference_.at("data")); }

    static std::vector<VariableEntry> entries() {
        VariableEntry g;
        g.name = "g";
        g.measure = Measure::Groups;
        VariableEntry yes;
        yes.measure = Measure::YesNo;
        std::vector<VariableEntry> all = {g};
        for (const char* name : {"w", "b", "d", "t"}) {
            yes.name = name;
            all.push_back(yes);
        }
        return all;
    }

    [[nodiscard]] Answer traced(const Question& q) const {
        Answer a = answer(table(), q, {}, entries());
        if (a.refusal) {
            qFatal("%s", a.refusal->text().c_str());
        }
        return a;
    }

    [[nodiscard]] std::string refusalOf(const Question& q) const {
        const Answer a = answer(table(), q, {}, entries());
        return a.refusal ? a.refusal->text() : "";
    }

    /// The system of a reference entry.
    static Paths pathsOf(const nlohmann::json& system) {
        Paths paths;
        for (const auto& equation : system.at("equations")) {
            std::vector<std::string> terms;
            for (const std::string term : equation.at("terms")) {
                // Levels of a grouping stand as the grouping itself.
                const std::string name = term.substr(0, term.find('='));
                if (std::find(terms.begin(), terms.end(), name) == terms.end()) {
                    terms.push_back(name);
                }
            }
            paths.emplace_back(equation.at("to"), terms);
        }
        return paths;
    }

    static void compareEffect(const std::string& what, const TraceEffect* found,
                              const nlohmann::json& expected) {
        QVERIFY2(found != nullptr, what.c_str());
        AGREE_FROM(1e-12, what, found->estimate, number(expected.at("estimate")), 1e-9);
        AGREE_FROM(1e-12, what + " se", found->se, number(expected.at("se")), 1e-9);
        const double z = 1.959963984540054;
        AGREE_FROM(1e-9, what + " low", found->low,
                   number(expected.at("estimate")) - z * number(expected.at("se")), 1e-9);
    }

  private slots:

    void effectsAgreeWithExplicitMatrices_data() {
        QTest::addColumn<QString>("system");
        QTest::addColumn<QString>("kind");
        for (const char* name : {"parallel", "serial", "moderated", "grouped", "counted", "over"}) {
            for (const auto& [kind, told] : reference_["systems"][name]["kinds"].items()) {
                QTest::addRow("%s %s", name, kind.c_str()) << name << QString::fromStdString(kind);
            }
        }
    }

    void effectsAgreeWithExplicitMatrices() {
        QFETCH(QString, system);
        QFETCH(QString, kind);
        const auto& entry = reference_["systems"][system.toStdString()];
        const auto& told = entry["kinds"][kind.toStdString()];
        Question q = traceOf(pathsOf(entry));
        q.errors = errorsOf(kind.toStdString());
        if (system == "counted") {
            q.weightKind = WeightKind::Frequency;
            q.weight = "times";
        }
        const Answer a = traced(q);
        std::size_t place = 0;
        for (const auto& equation : entry["equations"]) {
            for (const auto& b : equation["b"]) {
                AGREE("coefficient", a.trace->coefficients[place].estimate, number(b), 1e-9);
                QCOMPARE(a.trace->coefficients[place].equation,
                         "to " + equation["to"].get<std::string>());
                // A block of the joint covariance is the equation’s own.
                AGREE("se",
                      std::sqrt(a.trace->covariance(static_cast<Eigen::Index>(place),
                                                    static_cast<Eigen::Index>(place))),
                      a.trace->coefficients[place].se, 1e-9);
                ++place;
            }
        }
        for (std::size_t i = 0; i < place; ++i) {
            for (std::size_t j = 0; j < place; ++j) {
                const double scale = a.trace->coefficients[i].se * a.trace->coefficients[j].se;
                QVERIFY(std::abs(a.trace->covariance(static_cast<Eigen::Index>(i),
                                                     static_cast<Eigen::Index>(j)) -
                                 number(told["covariance"][i][j])) < 1e-9 * scale);
            }
        }
        for (const auto& [pair, expected] : told["effects"].items()) {
            const std::string from = pair.substr(0, pair.find(" -> "));
            const std::string to = pair.substr(pair.find(" -> ") + 4);
            compareEffect(pair + " total", effectOf(a, from, to, "total"), expected["total"]);
            const TraceEffect* total = effectOf(a, from, to, "total");
            if (system != "counted") {
                AGREE("standardised", *total->standardised,
                      total->estimate * number(expected["scale"]), 1e-9);
            }
            if (expected.contains("direct")) {
                compareEffect(pair + " direct", effectOf(a, from, to, "direct"),
                              expected["direct"]);
            }
            if (!expected.contains("indirect")) {
                QVERIFY(effectOf(a, from, to, "indirect") == nullptr);
                continue;
            }
            compareEffect(pair + " indirect", effectOf(a, from, to, "indirect"),
                          expected["indirect"]);
            for (const auto& [way, size] : expected["ways"].items()) {
                compareEffect(pair + " " + way, effectOf(a, from, to, "indirect", split(way)),
                              size);
            }
            const auto share =
                std::find_if(a.trace->shares.begin(), a.trace->shares.end(),
                             [&](const TraceShare& s) { return s.from == from && s.to == to; });
            QVERIFY(share != a.trace->shares.end());
            if (share->share) {
                AGREE("share", *share->share, number(expected["share"]["estimate"]), 1e-9);
                AGREE("share low", share->low,
                      number(expected["share"]["estimate"]) -
                          1.959963984540054 * number(expected["share"]["se"]),
                      1e-9);
            }
        }
    }

    void aModeratorsValuesAreTold() {
        const auto& entry = reference_["systems"]["moderated"];
        Question q = traceOf(pathsOf(entry));
        q.errors = errorsOf("HC1");
        q.trace.effects = {tracedPair("x", "y", {{"w", {0.0, 1.0}}})};
        const Answer a = traced(q);
        for (const double value : {0.0, 1.0}) {
            const ModeratorSetting at = {{"w", value}};
            const std::string name = value == 0.0 ? "moderated at 0" : "moderated at 1";
            const auto& expected = reference_["systems"][name]["kinds"]["HC1"]["effects"]["x -> y"];
            compareEffect(name, effectOf(a, "x", "y", "indirect", {"m1"}, at),
                          expected["ways"]["m1"]);
            compareEffect(name + " direct", effectOf(a, "x", "y", "direct", {}, at),
                          expected["direct"]);
        }
        compareEffect("difference",
                      effectOf(a, "x", "y", "indirect-difference", {"m1"}, {{"w", 1.0}}),
                      reference_["systems"]["moderated difference"]);
        QVERIFY(effectOf(a, "x", "y", "indirect-difference", {}, {{"w", 1.0}}) != nullptr);
        QVERIFY(effectOf(a, "x", "y", "indirect-difference", {}, {{"w", 0.0}}) == nullptr);
    }

    void theFitOfASystemIsThatOfItsMatrices() {
        const auto& entry = reference_["systems"]["over"];
        Question q = traceOf(pathsOf(entry));
        q.allChecks = true;
        const Answer a = traced(q);
        const SystemFit& fit = *a.trace->fit;
        for (const auto& [name, value] :
             {std::pair("chi2", fit.chi2), std::pair("df", fit.df), std::pair("p", fit.p),
              std::pair("cfi", fit.cfi), std::pair("tli", fit.tli), std::pair("rmsea", fit.rmsea),
              std::pair("rmsea_low", fit.rmseaLow), std::pair("rmsea_high", fit.rmseaHigh),
              std::pair("srmr", fit.srmr)}) {
            AGREE_FROM(1e-9, name, value, number(entry["fit"][name]), 1e-8);
        }
        const CheckResult& left = check(a, "paths-left-out");
        AGREE("χ²", *left.statistic, number(entry["fit"]["chi2"]), 1e-8);
        for (const auto& [arrow, statistic] : entry["added"].items()) {
            const auto path = std::find_if(
                a.trace->absent.begin(), a.trace->absent.end(),
                [&, name = arrow](const auto& p) { return p.from + " -> " + p.to == name; });
            QVERIFY2(path != a.trace->absent.end(), arrow.c_str());
            AGREE("added " + arrow, path->statistic, number(statistic), 1e-8);
        }
        // The clearest comes first and is offered.
        QCOMPARE(a.trace->absent.front().from + a.trace->absent.front().to, std::string("m1y"));
        QVERIFY(!left.remedies.empty());
        const Answer more = traced(left.remedies.front().variant);
        QVERIFY(more.trace->fit->chi2 < fit.chi2);
        // Where every path is there, nothing is left to test.
        const Answer full = traced(traceOf({{"m1", {"x"}}, {"y", {"m1", "x"}}}));
        QCOMPARE(full.trace->fit->df, 0.0);
        QVERIFY(std::isnan(full.trace->fit->chi2) && full.trace->absent.empty());
        // A cause that only one equation leaves out.
        const Answer close =
            traced(traceOf({{"m1", {"x"}}, {"m2", {"m1", "x"}}, {"y", {"m2", "m1", "x"}}}));
        QCOMPARE(close.trace->fit->df, 0.0);
    }

    void theErrorsThatUndoAWayAreThose() {
        const Answer a = traced(traceOf({{"m1", {"x", "z"}}, {"y", {"m1", "x", "z"}}}));
        QCOMPARE(a.trace->sensitivity.size(), 2U);
        const TraceSensitivity& s = a.trace->sensitivity.front();
        const auto& expected = reference_["systems"]["sensitivity"];
        AGREE("ρ", s.rhoZero, number(expected["rho_zero"]), 1e-9);
        for (const auto& [rho, indirect] : expected["indirect"].items()) {
            AGREE("at " + rho, s.indirectAt(std::stod(rho)), number(indirect), 1e-9);
        }
        QVERIFY(std::abs(s.indirectAt(s.rhoZero)) < 1e-12);
        // Other causes in the two equations, or two ways: it is not told.
        QVERIFY(
            traced(traceOf({{"m1", {"x"}}, {"y", {"m1", "x", "z"}}})).trace->sensitivity.empty());
        QVERIFY(traced(traceOf({{"m1", {"x"}}, {"m2", {"x"}}, {"y", {"m1", "m2", "x"}}}))
                    .trace->sensitivity.empty());
    }

    void naturalEffectsAreAveragesOverTheRows_data() {
        QTest::addColumn<QString>("name");
        for (const auto& [name, told] : reference_["natural"].items()) {
            QTest::newRow(name.c_str()) << QString::fromStdString(name);
        }
    }

    void naturalEffectsAreAveragesOverTheRows() {
        QFETCH(QString, name);

        struct Case {
            Paths paths;
            std::map<std::string, std::string> estimators;
            TracedPair pair;
        };

        const std::map<QString, Case> cases = {
            {"logit outcome",
             {{{"m1", {"x", "z"}}, {"b", {"m1", "x", "z"}}},
              {{"b", "logit"}},
              tracedPair("x", "b")}},
            {"probit outcome",
             {{{"m1", {"x"}}, {"b", {"m1", "x"}}},
              {{"b", "probit"}},
              tracedPair("x", "b", {}, std::pair(1.0, 3.0))}},
            {"logit between",
             {{{"d", {"x"}}, {"y", {"d", "x"}}}, {{"d", "logit"}}, tracedPair("x", "y")}},
            {"poisson outcome",
             {{{"d", {"t", "z"}}, {"count", {"d", "t", "z"}}},
              {{"d", "logit"}, {"count", "poisson"}},
              tracedPair("t", "count")}},
            {"poisson between",
             {{{"count", {"t", "z"}}, {"b", {"count", "t"}}},
              {{"count", "poisson"}, {"b", "logit"}},
              tracedPair("t", "b")}},
            {"chain",
             {{{"m1", {"x"}}, {"m2", {"m1", "x"}}, {"b", {"m1", "m2", "x"}}},
              {{"b", "logit"}},
              tracedPair("x", "b")}},
            {"product",
             {{{"m1", {"x"}}, {"b", {"m1", "x", "m1 × x"}}},
              {{"b", "logit"}},
              tracedPair("x", "b")}},
            {"moderated",
             {{{"m1", {"x", "w"}}, {"b", {"m1", "x", "w", "m1 × w"}}},
              {{"b", "logit"}},
              tracedPair("x", "b", {{"w", {1.0}}})}},
            {"mixed",
             {{{"m1", {"x"}}, {"d", {"m1", "x"}}, {"b", {"m1", "d", "x"}}},
              {{"d", "logit"}, {"b", "logit"}},
              tracedPair("x", "b")}},
        };
        const Case& one = cases.at(name);
        Question q = traceOf(one.paths);
        for (PathSpec& path : q.trace.paths) {
            const auto own = one.estimators.find(path.to);
            path.estimator = own == one.estimators.end() ? path.estimator : own->second;
        }
        q.trace.effects = {one.pair};
        const Answer a = traced(q);
        const auto& expected = reference_["natural"][name.toStdString()];
        const ModeratorSetting at =
            one.pair.at.empty() ? ModeratorSetting{} : ModeratorSetting{{"w", 1.0}};
        for (const auto& [kind, key] :
             {std::pair("natural-direct", "direct"), std::pair("natural-indirect", "indirect"),
              std::pair("total", "total")}) {
            const TraceEffect* found = effectOf(a, one.pair.from, one.pair.to, kind, {}, at);
            QVERIFY(found != nullptr);
            AGREE(kind, found->estimate, number(expected[key]), 1e-9);
            AGREE("change", found->change->first, number(expected["change"][0]), 1e-12);
            QVERIFY(found->se > 0.0 && found->low < found->estimate);
        }
        if (expected.contains("indirect_se")) {
            AGREE("se", effectOf(a, "x", "b", "natural-indirect")->se,
                  number(expected["indirect_se"]), 1e-7);
        }
    }

    void aSummaryAnswersAsItsRows() {
        MomentEntries entries;
        const Table rows = table();
        entries.names = {"x", "z", "m1", "m2", "y"};
        entries.n = static_cast<double>(rows.rows());
        for (const std::string& a : entries.names) {
            const auto column = [&](const std::string& name) {
                for (const Column& c : rows.columns) {
                    if (c.name() == name) {
                        return std::vector<double>(c.numbers().begin(), c.numbers().end());
                    }
                }
                return std::vector<double>();
            };
            const auto moments = [&](const std::string& p, const std::string& q) {
                const auto u = column(p);
                const auto v = column(q);
                double mu = 0.0;
                double mv = 0.0;
                for (std::size_t i = 0; i < u.size(); ++i) {
                    mu += u[i] / entries.n;
                    mv += v[i] / entries.n;
                }
                double sum = 0.0;
                for (std::size_t i = 0; i < u.size(); ++i) {
                    sum += (u[i] - mu) * (v[i] - mv);
                }
                return std::pair(mu, sum / (entries.n - 1.0));
            };
            entries.mean.push_back(moments(a, a).first);
            entries.covariance.emplace_back();
            for (const std::string& b : entries.names) {
                entries.covariance.back().push_back(moments(a, b).second);
                if (b == a) {
                    break;
                }
            }
        }
        const auto made = makeMoments(entries);
        QVERIFY(made.has_value());
        const Question q = traceOf({{"m1", {"x", "z"}}, {"m2", {"m1"}}, {"y", {"m2", "x"}}});
        const Answer byRows = traced(q);
        Study study;
        study.questions = {q};
        const Frame frame = Frame::ofMoments(std::make_shared<const SummaryMatrix>(*made), {});
        const Answer bySummary = answerQuestion(study, frame, q, Job());
        QVERIFY2(!bySummary.refusal, bySummary.refusal ? bySummary.refusal->text().c_str() : "");
        QCOMPARE(bySummary.trace->effects.size(), byRows.trace->effects.size());
        for (std::size_t k = 0; k < byRows.trace->effects.size(); ++k) {
            const TraceEffect& one = byRows.trace->effects[k];
            const TraceEffect& other = bySummary.trace->effects[k];
            AGREE("estimate", other.estimate, one.estimate, 1e-9);
            AGREE("se", other.se, one.se, 1e-9);
            AGREE("standardised", *other.standardised, *one.standardised, 1e-9);
            QVERIFY(other.rounding.has_value() && !one.rounding);
        }
        AGREE("χ²", bySummary.trace->fit->chi2, byRows.trace->fit->chi2, 1e-8);
        AGREE("srmr", bySummary.trace->fit->srmr, byRows.trace->fit->srmr, 1e-8);
        QCOMPARE(bySummary.rows.used, byRows.rows.used);

        // Draws come from the law of its covariances: their spread is near the delta errors.
        Question drawn = q;
        drawn.trace.interval = "percentile";
        const Answer draws = answerQuestion(study, frame, drawn, Job());
        QCOMPARE(draws.trace->resampling, std::string("parametric"));
        QCOMPARE(draws.trace->failed, 0);
        for (std::size_t k = 0; k < draws.trace->effects.size(); ++k) {
            const TraceEffect& one = draws.trace->effects[k];
            QVERIFY(std::abs(one.se / bySummary.trace->effects[k].se - 1.0) < 0.1);
            QVERIFY(one.low < one.estimate && one.estimate < one.high);
        }
        // What needs rows is refused by name.
        for (const auto& [change, words] :
             {std::pair<std::function<void(Question&)>, const char*>(
                  [](Question& r) { r.trace.interval = "bca"; }, "BCa intervals need rows"),
              {[](Question& r) { r.trace.interval = "percentile", r.trace.resampling = "rows"; },
               "draws of rows need rows"},
              {[](Question& r) { r.errors = errorsOf("HC3"); }, "classical errors needs rows"},
              {[](Question& r) { r.trace.paths[2].estimator = "logit"; }, "needs rows"},
              {[](Question& r) { r.trace.paths[1].from.push_back(termOf("m1 × x")); },
               "needs rows"}}) {
            Question other = q;
            change(other);
            const Answer refused = answerQuestion(study, frame, other, Job());
            QVERIFY(refused.refusal.has_value());
            QVERIFY2(refused.refusal->text().find(words) != std::string::npos,
                     refused.refusal->text().c_str());
        }
    }

    void drawsAreTheSameOnAnyThreads_data() {
        QTest::addColumn<QString>("resampling");
        QTest::addColumn<QString>("interval");
        for (const char* interval : {"percentile", "bias-corrected", "bca"}) {
            QTest::addRow("rows %s", interval) << "rows" << interval;
            QTest::addRow("clusters %s", interval) << "clusters" << interval;
        }
        QTest::newRow("parametric") << "parametric"
                                    << "bias-corrected";
        QTest::newRow("logit") << "logit"
                               << "percentile";
    }

    void drawsAreTheSameOnAnyThreads() {
        QFETCH(QString, resampling);
        QFETCH(QString, interval);
        Question q = traceOf({{"m1", {"x", "z"}}, {"y", {"m1", "x", "z"}}}, interval.toStdString());
        q.trace.resampling = resampling == "logit" ? "rows" : resampling.toStdString();
        q.trace.by = resampling == "clusters" ? std::vector<std::string>{"village"}
                                              : std::vector<std::string>();
        q.trace.draws = 400;
        q.trace.seed = 7;
        if (resampling == "logit") {
            q.trace.paths[1].to = "b";
            q.trace.paths[1].estimator = "logit";
            q.trace.effects = {tracedPair("x", "b")};
        }
        setThreads(1);
        const Answer one = traced(q);
        setThreads(4);
        const Answer four = traced(q);
        setThreads(0);
        QCOMPARE(one.trace->asked, 400);
        for (std::size_t k = 0; k < one.trace->effects.size(); ++k) {
            QCOMPARE(one.trace->effects[k].low, four.trace->effects[k].low);
            QCOMPARE(one.trace->effects[k].high, four.trace->effects[k].high);
            QCOMPARE(*one.trace->effects[k].p, *four.trace->effects[k].p);
            QVERIFY(one.trace->effects[k].se > 0.0);
        }
        q.trace.seed = 8;
        QVERIFY(traced(q).trace->effects.front().low != one.trace->effects.front().low);
    }

    /// A draw’s estimate is that of the rows it draws: followed here by hand.
    void aDrawIsAFitOfItsRows() {
        Question q = traceOf({{"m1", {"x", "z"}}, {"y", {"m1", "x", "z"}}}, "percentile");
        q.trace.effects = {tracedPair("x", "y")};
        q.trace.seed = 3;
        q.trace.draws = 40;
        const Answer a = traced(q);
        const Table rows = table();
        const auto column = [&](const char* name) {
            for (const Column& c : rows.columns) {
                if (c.name() == name) {
                    return Eigen::VectorXd(Eigen::Map<const Eigen::VectorXd>(
                        c.numbers().data(), static_cast<Eigen::Index>(c.size())));
                }
            }
            return Eigen::VectorXd();
        };
        const auto n = static_cast<std::uint64_t>(rows.rows());
        std::vector<double> indirect;
        for (int d = 0; d < 40; ++d) {
            RandomStream random(3, static_cast<std::uint64_t>(d));
            std::vector<Eigen::Index> drawn;
            for (std::uint64_t i = 0; i < n; ++i) {
                drawn.push_back(static_cast<Eigen::Index>(random.below(n)));
            }
            Eigen::MatrixXd X(static_cast<Eigen::Index>(n), 4);
            X << Eigen::VectorXd::Ones(static_cast<Eigen::Index>(n)), column("x")(drawn),
                column("z")(drawn), column("m1")(drawn);
            const Eigen::VectorXd y = column("y")(drawn);
            const Eigen::VectorXd first =
                X.leftCols(3).colPivHouseholderQr().solve(Eigen::VectorXd(X.col(3)));
            const Eigen::VectorXd second = X.colPivHouseholderQr().solve(y);
            indirect.push_back(first(1) * second(3));
        }
        std::sort(indirect.begin(), indirect.end());
        double mean = 0.0;
        double squares = 0.0;
        for (const double v : indirect) {
            mean += v / 40.0;
        }
        for (const double v : indirect) {
            squares += (v - mean) * (v - mean);
        }
        const TraceEffect* found = effectOf(a, "x", "y", "indirect", {"m1"});
        AGREE("se", found->se, std::sqrt(squares / 39.0), 1e-10);
        // The 1.025th of 40 from below.
        AGREE("low", found->low, indirect[0] + 0.025 * (indirect[1] - indirect[0]), 1e-10);
        AGREE("high", found->high, indirect[39] - 0.025 * (indirect[39] - indirect[38]), 1e-10);
    }

    void unitsAndOrderChangeNothing() {
        const Question q = traceOf({{"m1", {"x", "z"}}, {"y", {"m1", "x", "z"}}}, "bca");
        const Answer a = traced(q);
        // Another unit of the cause: its effects scale, nothing else.
        auto data = reference_["data"];
        for (auto& cell : data["x"]) {
            cell = cell.get<double>() * 1000.0;
        }
        const Answer scaled = answer(tableFrom(data), q, {}, entries());
        // Equations the other way round.
        Question turned = q;
        std::swap(turned.trace.paths[0], turned.trace.paths[1]);
        const Answer other = traced(turned);
        for (const TraceEffect& e : a.trace->effects) {
            const double by = (e.from == "x" ? 1e-3 : 1.0) * (e.to == "x" ? 1e3 : 1.0);
            const TraceEffect* s = effectOf(scaled, e.from, e.to, e.kind, e.through);
            AGREE_FROM(1e-9, "scaled", s->estimate, e.estimate * by, 1e-9);
            AGREE_FROM(1e-9, "scaled low", s->low, e.low * by, 1e-7);
            AGREE_FROM(1e-9, "scaled standardised", *s->standardised, *e.standardised, 1e-9);
            const TraceEffect* o = effectOf(other, e.from, e.to, e.kind, e.through);
            AGREE("turned", o->estimate, e.estimate, 1e-10);
            AGREE("turned high", o->high, e.high, 1e-9);
        }
    }

    void verdictsGoByIntervals() {
        const Answer both = traced(traceOf({{"m1", {"x"}}, {"y", {"m1", "x"}}}));
        const Answer only = traced(traceOf({{"m1", {"x"}}, {"m2", {"m1", "x"}}}));
        for (const Answer* a : {&both, &only}) {
            QCOMPARE(a->trace->verdicts.size(), 2U);
            const TraceVerdict& v = a->trace->verdicts.front();
            const TraceEffect* in = effectOf(*a, v.from, v.to, "indirect");
            const TraceEffect* direct = effectOf(*a, v.from, v.to, "direct");
            const bool through = in->low > 0.0 || in->high < 0.0;
            const bool beside = direct->low > 0.0 || direct->high < 0.0;
            const std::string expected =
                through && beside ? (in->estimate * direct->estimate > 0.0 ? "both, same sign"
                                                                           : "both, opposite signs")
                : through         ? "indirect only"
                : beside          ? "direct only"
                                  : "none";
            QCOMPARE(v.verdict, expected);
            QCOMPARE(v.through.value_or(""), std::string("m1"));
            QVERIFY(!a->trace->verdicts.back().through);
        }
        // Where signs oppose there is no share.
        const Answer b = traced(traceOf({{"m1", {"x"}}, {"m3", {"m1", "x"}}}));
        for (const TraceShare& share : b.trace->shares) {
            const TraceEffect* in = effectOf(b, share.from, share.to, "indirect");
            const TraceEffect* direct = effectOf(b, share.from, share.to, "direct");
            QCOMPARE(share.share.has_value(), in->estimate * direct->estimate > 0.0);
        }
        // “Stopped being significant” is never the reason.
        for (const Answer* a : {&both, &only, &b}) {
            const std::string text = answerReading(*a);
            QVERIFY(text.find("significan") == std::string::npos);
            QVERIFY(text.find("passes through") != std::string::npos);
        }
    }

    void mutingWhatStandsBetweenLeavesTheDirectEffect() {
        Question q = traceOf({{"m1", {"x", "z"}}, {"y", {"m1", "x", "z"}}});
        q.trace.muted = {"m1"};
        q.trace.effects = {tracedPair("x", "y"), tracedPair("x", "m1")};
        const Answer a = traced(q);
        QCOMPARE(a.trace->equations.size(), 1U);
        QCOMPARE(a.trace->effects.size(), 2U);  // Direct and total.
        const Answer plain = answer(table(), explain("y", {"x", "z"}), {}, entries());
        AGREE("direct", effectOf(a, "x", "y", "direct")->estimate,
              coefficient(plain, "x")->estimate, 1e-12);
        QVERIFY(questionSentence(q).find("through") == std::string::npos);
        QVERIFY(answerReading(a).find("Nothing stands between yet") != std::string::npos);
    }

    void rowsAreThoseThatHaveEverything() {
        auto data = reference_["data"];
        data["m1"][3] = nullptr;
        data["y"][5] = nullptr;
        data["z"][7] = nullptr;
        const Question q = traceOf({{"m1", {"x"}}, {"y", {"m1", "x", "z"}}});
        const Answer a = answer(tableFrom(data), q, {}, entries());
        QCOMPARE(a.rows.used, table().rows() - 3);
        QCOMPARE(a.rows.missing, 3U);
        for (const TraceEquation& equation : a.trace->equations) {
            QCOMPARE(equation.design->rows.size(), table().rows() - 3);
        }
        QCOMPARE(a.rows.missingBy.size(), 3U);
        // A rule, and rows left out, hold for every equation.
        Question ruled = q;
        ruled.where = "w = 1";
        ruled.without = {1, 2};
        const Answer b = answer(tableFrom(data), ruled, {}, entries());
        QVERIFY(b.rows.used < a.rows.used);
        QCOMPARE(b.trace->equations[0].design->rows, b.trace->equations[1].design->rows);
    }

    void whatCannotBeTracedIsRefusedByName_data() {
        QTest::addColumn<QString>("change");
        QTest::addColumn<QStringList>("words");
        QTest::newRow("circle") << "circle" << QStringList{"circle", "m1", "y", "→"};
        QTest::newRow("itself") << "itself" << QStringList{"‘y’ would explain itself"};
        QTest::newRow("derived") << "derived" << QStringList{"worked out from ‘y’", "y + 1"};
        QTest::newRow("twice") << "twice" << QStringList{"‘m1’ is explained twice"};
        QTest::newRow("no path") << "no path" << QStringList{"no path joins ‘y’ and ‘x’"};
        QTest::newRow("unknown") << "unknown" << QStringList{"‘nobody’"};
        QTest::newRow("levels") << "levels" << QStringList{"several levels", "g=1"};
        QTest::newRow("level") << "level" << QStringList{"‘7’ is no level of ‘g’"};
        QTest::newRow("moderates") << "moderates" << QStringList{"‘w’ moderates nothing"};
        QTest::newRow("held") << "held" << QStringList{"‘m1’ is explained and held"};
        QTest::newRow("bootstrap") << "bootstrap" << QStringList{"are not drawn"};
        QTest::newRow("nothing") << "nothing" << QStringList{"no outcome"};
        QTest::newRow("change") << "change" << QStringList{"is linear", "‘change’"};
        QTest::newRow("clusters") << "clusters" << QStringList{"one cluster"};
    }

    void whatCannotBeTracedIsRefusedByName() {
        QFETCH(QString, change);
        QFETCH(QStringList, words);
        Question q = traceOf({{"m1", {"x", "g"}}, {"y", {"m1", "x", "w", "g"}}});
        const std::map<QString, std::function<void(TraceSpec&)>> changes = {
            {"circle", [](TraceSpec& s) { s.paths[0].from.push_back(Term::expression("y")); }},
            {"itself", [](TraceSpec& s) { s.paths[1].from.push_back(Term::expression("y")); }},
            {"derived", [](TraceSpec& s) { s.paths[1].from.push_back(Term::expression("y + 1")); }},
            {"twice", [](TraceSpec& s) { s.paths.push_back(s.paths[0]); }},
            {"no path", [](TraceSpec& s) { s.effects = {tracedPair("y", "x")}; }},
            {"unknown", [](TraceSpec& s) { s.effects = {tracedPair("nobody", "y")}; }},
            {"levels", [](TraceSpec& s) { s.effects = {tracedPair("g", "y")}; }},
            {"level",
             [](TraceSpec& s) {
                 s.paths[1].from.push_back(termOf("m1 × g"));
                 s.effects = {tracedPair("x", "y", {{"g", {7.0}}})};
             }},
            {"moderates",
             [](TraceSpec& s) {
                 s.effects = {tracedPair("x", "y", {{"w", {1.0}}})};
             }},
            {"held", [](TraceSpec& s) { s.holding = {Term::expression("m1")}; }},
            {"bootstrap", [](TraceSpec&) {}},
            {"nothing", [](TraceSpec& s) { s.paths.clear(); }},
            {"change",
             [](TraceSpec& s) { s.effects = {tracedPair("x", "y", {}, std::pair(0.0, 1.0))}; }},
            {"clusters",
             [](TraceSpec& s) {
                 s.interval = "percentile";
                 s.resampling = "clusters";
                 s.by = {"times * 0"};
             }},
        };
        changes.at(change)(q.trace);
        if (change == "bootstrap") {
            q.errors.kind = "bootstrap";
        }
        const std::string text = refusalOf(q);
        for (const QString& word : words) {
            QVERIFY2(text.find(word.toStdString()) != std::string::npos, text.c_str());
        }
    }

    void groupsAsModeratorsGiveEveryLevel() {
        Question q = traceOf({{"m1", {"x", "g"}}, {"y", {"m1", "x", "g", "m1 × g"}}});
        q.trace.effects = {tracedPair("x", "y", {{"g", {0.0, 1.0, 2.0}}}), tracedPair("g=1", "y")};
        const Answer a = traced(q);
        const auto b = [&](const std::string& term, const std::string& equation) {
            for (const Coefficient& c : a.trace->coefficients) {
                if (c.term == term && c.equation == equation) {
                    return c.estimate;
                }
            }
            return std::nan("");
        };
        for (const std::string level : {"0", "1", "2"}) {
            const double more = level == "0" ? 0.0 : b("m1 × g=" + level, "to y");
            const TraceEffect* found =
                effectOf(a, "x", "y", "indirect", {"m1"}, {{"g", Key(level)}});
            QVERIFY(found != nullptr);
            AGREE("at " + level, found->estimate, b("x", "to m1") * (b("m1", "to y") + more),
                  1e-12);
        }
        QVERIFY(effectOf(a, "g=1", "y", "indirect", {"m1"}) != nullptr);
    }

    void everyWayIsCountedOnce() {
        // Seven variables in a row, each explained by all before it: 2^5 ways, one of them direct.
        std::vector<std::pair<std::string, std::vector<double>>> columns;
        RandomStream random(1, 1);
        for (int v = 0; v < 7; ++v) {
            std::vector<double> cells(60);
            for (double& cell : cells) {
                cell = random.uniform();
            }
            columns.emplace_back("v" + std::to_string(v), cells);
        }
        Paths paths;
        std::vector<std::string> before = {"v0"};
        for (int v = 1; v < 7; ++v) {
            paths.emplace_back("v" + std::to_string(v), before);
            before.push_back("v" + std::to_string(v));
        }
        Question q = traceOf(paths);
        q.trace.effects = {tracedPair("v0", "v6")};
        const Answer a = answer(tableOf(columns), q);
        double sum = 0.0;
        int ways = 0;
        for (const TraceEffect& e : a.trace->effects) {
            if (e.kind == "indirect" && !e.through.empty()) {
                sum += e.estimate;
                ++ways;
            }
        }
        QCOMPARE(ways, 31);
        AGREE_FROM(1e-9, "sum", effectOf(a, "v0", "v6", "indirect")->estimate, sum, 1e-10);
        AGREE_FROM(1e-9, "total", effectOf(a, "v0", "v6", "total")->estimate,
                   sum + effectOf(a, "v0", "v6", "direct")->estimate, 1e-10);
        // The total effect is that of least squares on the cause alone.
        const Answer alone = answer(tableOf(columns), explain("v6", {"v0"}));
        AGREE_FROM(1e-9, "alone", effectOf(a, "v0", "v6", "total")->estimate,
                   coefficient(alone, "v0")->estimate, 1e-10);
    }

    void aTraceIsStopped() {
        Question q = traceOf({{"m1", {"x"}}, {"y", {"m1", "x"}}}, "percentile");
        q.trace.draws = 1000000;
        Study study;
        study.questions = {q};
        const Job job;
        job.stop();
        const Answer a = answerQuestion(study, frameOf(table()), q, job);
        QVERIFY(a.refusal && a.refusal->code == ErrorCode::Stopped);
    }

    void drawsThatFailAreCounted() {
        // A yes–no that is yes in three rows is gone from many draws.
        auto data = reference_["data"];
        for (std::size_t i = 0; i < data["w"].size(); ++i) {
            data["w"][i] = i < 3 ? 1.0 : 0.0;
        }
        Question q = traceOf({{"m1", {"x", "w"}}, {"y", {"m1", "x", "w"}}}, "percentile");
        q.allChecks = true;
        const Answer a = answer(tableFrom(data), q, {}, entries());
        QVERIFY(a.trace->failed > 100 && a.trace->failed < 600);  // e⁻³ of 5,000 are 249.
        const CheckResult& draws = check(a, "draws");
        QCOMPARE(draws.verdict, Verdict::Weigh);
        QVERIFY(draws.reading.find("without one") != std::string::npos);
        QVERIFY(answerReading(a).find("had no solution") != std::string::npos);
    }

    void checksAreThoseOfEachEquation() {
        Question q = traceOf({{"m1", {"x", "z"}}, {"y", {"m1", "x", "z"}}});
        q.allChecks = true;
        const Answer a = traced(q);
        std::set<std::string> equations;
        for (const CheckResult& c : a.checks) {
            equations.insert(c.equation);
            if (c.id == "breusch-pagan" && c.equation == "to m1") {
                QCOMPARE(checkName(c), std::string("m1: Breusch–Pagan"));
                const Answer own = answer(table(), explain("m1", {"x", "z"}), {}, entries());
                AGREE("own", *c.statistic, *check(own, "breusch-pagan").statistic, 1e-10);
                // Its remedies are of the whole trace.
                for (const Remedy& remedy : c.remedies) {
                    QCOMPARE(remedy.variant.kind, std::string("trace"));
                    QCOMPARE(remedy.variant.trace.paths.size(), 2U);
                }
            }
        }
        QCOMPARE(equations, (std::set<std::string>{"", "to m1", "to y"}));
        QCOMPARE(check(a, "draws").verdict, Verdict::NotApplicable);
        // Asked by name: the whole’s, and one of every equation.
        q.allChecks = false;
        q.checks = {CheckRequest{"paths-left-out"}, CheckRequest{"vif"}};
        const Answer few = traced(q);
        QCOMPARE(few.checks.size(), 3U);
    }

    void theStudyFileKeepsATrace() {
        const std::string text = R"({"format":"rapporto-study","version":1,"title":"t",
"source":{"kind":"table","file":"a.csv"},"questions":[{"id":"q3","kind":"trace","title":"why",
"paths":[{"to":"pruning","from":["training",{"product":["a","b"]}]},
{"to":"income","from":["pruning",{"set":"s"}],"estimator":"logit"}],"holding":["age"],
"effects":[{"from":"training","to":"income"},
{"from":"training","to":"income","at":{"irrigated":[0,1],"zone":["Ridge"]},"change":[1,2]}],
"muted":["pruning"],"resampling":"clusters","by":["village"],"draws":200,"interval":"bca",
"seed":9,"errors":{"kind":"robust","type":"HC3"},"where":"age > 3","checks":["vif"],
"places":{"income":[0.5,0.25]}}]})";
        const auto study = readStudyText(text);
        QVERIFY2(study.has_value(), study ? "" : study.error().text().c_str());
        const Question& q = study->questions.front();
        QVERIFY2(!q.unbuilt, q.unbuilt ? q.unbuilt->text().c_str() : "");
        QVERIFY(q.unknownKeys.empty());
        QCOMPARE(q.trace.paths[1].estimator, std::string("logit"));
        QCOMPARE(q.trace.effects[1].at[1].name, std::string("zone"));
        QCOMPARE(*q.trace.seed, 9U);
        const auto again = readStudyText(studyText(*study));
        QVERIFY(again.has_value());
        Question other = again->questions.front();
        other.raw = q.raw;
        QVERIFY(other.sameAs(q));
        // A rename reaches every place.
        Study derived = *study;
        derived.derived.push_back({"training", "days * 1", ""});
        const auto renamed = apply(derived, Edit{RenameDerived{"training", "course"}, "rename"});
        QVERIFY(renamed.has_value());
        const TraceSpec& spec = renamed->questions.front().trace;
        QCOMPARE(spec.paths[0].from[0].parts[0], std::string("course"));
        QCOMPARE(spec.effects[0].from, std::string("course"));
        QVERIFY(namesUsed(*study).contains("irrigated"));
        QVERIFY(!usesOf(*study, "village").empty());
    }

    void keysOfOtherKindsAreRefused_data() {
        QTest::addColumn<QString>("question");
        QTest::addColumn<QString>("words");
        const auto row = [](const char* name, const char* question, const char* words) {
            QTest::newRow(name) << question << words;
        };
        row("outcome", R"({"kind":"trace","paths":[],"outcome":"y"})", "explain an outcome");
        row("paths", R"({"kind":"explain","outcome":"y","terms":[],"paths":[]})", "trace a cause");
        row("estimator", R"({"kind":"trace","paths":[{"to":"y","from":[],"estimator":"magic"}]})",
            "‘magic’");
        row("interval", R"({"kind":"trace","paths":[],"interval":"wide"})", "‘wide’");
        row("by", R"({"kind":"trace","paths":[],"by":["v"]})", "draws of clusters");
        row("draws", R"({"kind":"trace","paths":[],"draws":2.5})", "whole number");
        row("kind", R"({"kind":"wonder"})", "explain, correlate, trace");
    }

    void keysOfOtherKindsAreRefused() {
        QFETCH(QString, question);
        QFETCH(QString, words);
        const std::string text =
            R"({"format":"rapporto-study","version":1,"source":{"kind":"table","file":"a.csv"},)"
            R"("questions":[)" +
            question.toStdString() + "]}";
        const auto study = readStudyText(text);
        QVERIFY(study.has_value());
        const auto& unbuilt = study->questions.front().unbuilt;
        QVERIFY(unbuilt.has_value());
        QVERIFY2(unbuilt->text().find(words.toStdString()) != std::string::npos,
                 unbuilt->text().c_str());
        // What was not understood is kept to the letter.
        QVERIFY(studyText(*study).find(question.contains("wonder") ? "wonder" : "kind") !=
                std::string::npos);
    }

    void resultsHoldEverythingThatWasAsked() {
        Question q = traceOf({{"m1", {"x", "z"}}, {"y", {"m1", "x", "z"}}}, "bias-corrected");
        q.trace.draws = 200;
        const Answer a = traced(q);
        Study study;
        study.questions = {q};
        const auto json = resultsJson(study, {a});
        const auto& one = json["answers"][0];
        QVERIFY(one["fit"].is_null());
        QCOMPARE(one["equations"].size(), 2U);
        QCOMPARE(one["coefficients"][1]["equation"].get<std::string>(), std::string("to m1"));
        QCOMPARE(one["covariance"].size(), 7U);
        QCOMPARE(one["trace"]["draws"]["asked"].get<int>(), 200);
        QCOMPARE(one["trace"]["fit"]["df"].get<int>(), 0);
        QVERIFY(one["trace"]["fit"]["chi2"].is_null());
        QVERIFY(one["trace"]["effects"][0].contains("standardised"));
        QVERIFY(!one["reading"].get<std::string>().empty());
        QVERIFY(one["trace"]["verdicts"].back()["through"].is_null());
    }

    void thePictureHasRoomForEveryNode() {
        for (const int count : {2, 5, 12, 30}) {
            std::vector<std::pair<std::string, std::vector<double>>> columns;
            RandomStream random(2, static_cast<std::uint64_t>(count));
            Paths paths = {{"last", {}}};
            for (int v = 0; v < count; ++v) {
                std::vector<double> cells(80);
                for (double& cell : cells) {
                    cell = random.uniform();
                }
                columns.emplace_back("cause_" + std::to_string(v), cells);
                paths.back().second.push_back(columns.back().first);
            }
            std::vector<double> cells(80);
            for (double& cell : cells) {
                cell = random.uniform();
            }
            columns.emplace_back("last", cells);
            const Answer a = answer(tableOf(columns), traceOf(paths));
            const PathLayout layout = layoutPaths(*a.trace, {}, 700.0, 380.0);
            QCOMPARE(layout.boxes.size(), static_cast<std::size_t>(count) + 1U);
            for (const PathBox& box : layout.boxes) {
                QVERIFY(box.middle.x - 0.5 * box.width >= -0.5 &&
                        box.middle.x + 0.5 * box.width <= 700.5);
                QVERIFY(box.middle.y >= 0.0 && box.middle.y <= 380.0);
                for (const PathBox& other : layout.boxes) {
                    const bool apart = &box == &other ||
                                       std::abs(box.middle.x - other.middle.x) >=
                                           0.5 * (box.width + other.width) ||
                                       std::abs(box.middle.y - other.middle.y) >=
                                           0.5 * (box.height + other.height) ||
                                       count == 30;  // Closer than their height: they touch.
                    QVERIFY(apart);
                }
            }
            const std::string svg = pathPictureSvg(*a.trace, {}, 700.0, 380.0);
            QVERIFY(svg.starts_with("<svg") && svg.find("last") != std::string::npos);
        }
        // A node stays where it was put.
        const Answer a = traced(traceOf({{"m1", {"x"}}, {"y", {"m1", "x"}}}));
        const PathLayout moved = layoutPaths(*a.trace, {{"m1", {0.5, 0.9}}}, 700.0, 380.0);
        const PathBox& box =
            moved.boxes[static_cast<std::size_t>(moved.boxOf(a.trace->arrows[0].to))];
        QCOMPARE(box.middle.x, 350.0);
    }

    void reportsTellATrace() {
        Question q = traceOf({{"m1", {"x"}}, {"y", {"m1", "x"}}});
        q.title = "way";
        const Answer a = traced(q);
        Study study;
        study.questions = {q};
        for (const char* item : {"reading", "table", "lenses", "equation", "checks", "methods"}) {
            study.report = {{item, {"q1"}}};
            const auto blocks = buildReport(study, {{"q1", &a}});
            QVERIFY2(!blocks.empty(), item);
            QVERIFY(blocks.front().item == 0);
        }
        study.report = {{"table", {"q1"}}};
        const auto html = writeHtml(reportPages(study, {{"q1", &a}}), "t");
        QVERIFY(html && html->bytes.find("through m1") != std::string::npos);
        QVERIFY(traceMethods(a).find("delta") != std::string::npos);
        for (std::size_t k = 0; k < a.trace->effects.size(); ++k) {
            QVERIFY(!tracedEffectReading(a, k).empty());
        }
        for (std::size_t k = 0; k < a.trace->arrows.size(); ++k) {
            QVERIFY(arrowReading(a, k).size() >= 2);
        }
    }
};

QTEST_APPLESS_MAIN(PathsTest)
#include "paths_test.moc"
