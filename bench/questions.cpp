// Questions with their draws, sweeps and checks.
#include "app/shell/main_window.h"
#include "bench/bench.h"
#include "core/base/parallel.h"
#include "core/data/frame.h"
#include "core/model/fit.h"
#include "core/numerics/random.h"
#include "core/paths/draws.h"
#include "core/paths/trace_edits.h"
#include "core/study/sweep.h"

#include <Eigen/Dense>

#include <QCoreApplication>
#include <QEventLoop>

#include <algorithm>
#include <chrono>
#include <string>
#include <vector>

namespace rapporto::bench {
namespace {

/// How long until an answer has its effects, and until it has its checks.
struct Parts {
    double effects = 0.0;
    double all = 0.0;
};

Parts partsOf(const Frame& frame, const Question& q) {
    Study study;
    study.questions = {q};
    const auto from = std::chrono::steady_clock::now();
    const auto since = [&] {
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    };
    Parts out;
    Making making{Job()};
    making.show = [&](const Answer&) { out.effects = out.effects > 0.0 ? out.effects : since(); };
    static_cast<void>(answerQuestion(study, frame, q, making));
    out.all = since();
    out.effects = out.effects > 0.0 ? out.effects : out.all;
    return out;
}

}  // namespace

/// Draws, sweeps, and what checks cost beside the fit.
void benchInference(int rounds) {
    {
        const Frame frame = Frame::make(noiseTable(10000, 9, 50), {}, {}, {}, {});
        Question q = noiseQuestion(9);
        q.errors.kind = "bootstrap";
        q.errors.scheme = "wild-clusters";
        q.errors.by = {"g"};
        q.errors.draws = 9999;
        const Design design = *makeDesign(frame, q, {}, Job());
        absolute("wild draws by 50 clusters, 9,999 of them, 10,000x10", rounds, 1.0, [&] {
            return seconds(
                [&] { static_cast<void>(fitLeastSquares(design, q.errors, 0.05, Job())); });
        });
    }
    {
        const Frame frame = Frame::make(noiseTable(100000, 19, 50), {}, {}, {}, {});
        Question q = noiseQuestion(19);
        const Design design = *makeDesign(frame, q, {}, Job());
        const Fit fit = *fitLeastSquares(design, q.errors, 0.05, Job());
        q.allChecks = false;
        q.checks = {CheckRequest{"cooks-distance"}, CheckRequest{"dfbetas"}};
        compare(
            "Cook and DFBETAS of 100,000x20 against the fit", rounds, 3.0,
            [&] {
                static_cast<void>(runChecks({frame, q, design, fit, 0.05}, Job()));
            },
            [&] { static_cast<void>(fitLeastSquares(design, q.errors, 0.05, Job())); });
    }
    {
        app::MainWindow window;
        window.session().openDemo();
        window.settle();
        const Study study = window.session().study();
        const auto frame = window.session().frame();
        const Question lead = *study.lead();
        const auto answer = window.session().answer();
        absolute("every check of the demo's lead question", rounds, 0.1, [&] {
            return seconds([&] {
                static_cast<void>(
                    runChecks({*frame, lead, *answer->design, *answer->fit, 0.05}, Job()));
            });
        });
        SweepSpec spec;
        spec.question = lead;
        spec.question.terms.clear();
        for (const char* term : {"member", "hives", "irrigated", "zone", "age", "schooling_years",
                                 "slope_pct", "ln(orchard_ha)", "frost_nights"}) {
            spec.question.terms.push_back(Term::expression(term));
        }
        spec.of = "member";
        spec.vary = {1, 2, 3, 4, 5, 6, 7, 8};
        spec.errors = {ErrorSpec{}, ErrorSpec{"robust", "HC3", {}}, lead.errors,
                       ErrorSpec{"robust", "HC1", {}}};
        absolute("sweep of 1,024 specifications of the demo", rounds, 2.0, [&] {
            return seconds([&] { static_cast<void>(sweep(study, *frame, spec, Job())); });
        });
    }
    {
        const Frame frame = Frame::make(noiseTable(500, 3, 10), {}, {}, {}, {});
        Question q = noiseQuestion(3);
        q.method = "bent-line";
        q.settings.variable = "x1";
        q.settings.bends = 2;
        const Design design = *makeDesign(frame, q, {}, Job());
        absolute("two bends in 500 rows, with profile intervals", rounds, 0.5, [&] {
            return seconds(
                [&] { static_cast<void>(fitBentLine(design, q.settings, q.errors, 0.05, Job())); });
        });
    }
}

/// Draws of a path system against the random numbers that they need.
void benchTraces(int rounds) {
    const Frame frame = Frame::make(noiseTable(500, 4, 10), {}, {}, {}, {});
    Question q;
    q.id = "q1";
    q.kind = "trace";
    q.allChecks = false;
    const auto path = [](const char* to, const std::vector<std::string>& from) {
        PathSpec made;
        made.to = to;
        for (const std::string& one : from) {
            made.from.push_back(Term::expression(one));
        }
        return made;
    };
    q.trace.paths = {path("x3", {"x1", "x2"}), path("x4", {"x3", "x1", "x2"}),
                     path("y", {"x4", "x3", "x1", "x2"})};
    q.trace.effects = {tracedPair("x1", "y"), tracedPair("x2", "y")};
    Study study;
    study.questions = {q};
    setThreads(1);
    q.trace.resampling = "rows";
    RowCounts counts;
    const auto system = makeSystem(study, frame, q, counts, Job());
    const auto plan = EffectPlan::make(*system, q.trace);
    const auto draw = [&] {
        static_cast<void>(drawEffects(*system, *plan, q.trace, Eigen::MatrixXd(), nullptr, Job()));
    };
    volatile std::uint64_t sum = 0;
    compare("5,000 draws of three equations over 500 rows, one thread, in their random numbers",
            rounds, 7.5, draw, [&] {
                std::uint64_t all = 0;
                for (std::uint64_t d = 0; d < 5000; ++d) {
                    RandomStream random(1, d);
                    for (int i = 0; i < 500; ++i) {
                        all += random.below(500);
                    }
                }
                sum = all;
            });
    absolute("the same, by the clock", rounds, 0.03, [&] { return seconds(draw); });
    absolute("the whole answer to it, without checks", rounds, 0.05, [&] {
        return seconds([&] { static_cast<void>(answerQuestion(study, frame, q, Job())); });
    });
    setThreads(0);
    app::MainWindow window;
    window.resize(1280, 800);
    window.show();
    window.session().openDemo();
    window.settle();
    window.session().setQuestion("q6");
    window.showStage(2);
    window.settle();
    // Each from another variable of the roster, so that no answer was there before.
    std::vector<std::string> from = {
        "trees",   "slope_pct", "frost_nights", "scab_outbreaks", "advisor_visits", "market_km",
        "road_km", "office_km", "member",       "hired_days",     "irrigated",      "orchard_ha"};
    std::size_t turn = 0;
    absolute("path drawn to answer painted, demo", rounds, 0.1, [&] {
        Question next = *window.session().question();
        drawPath(next.trace, from[turn++ % from.size()], "pruning_score");
        const double took = seconds([&] {
            window.session().putQuestion(next, "draw a path");
            while (!window.session().isFresh()) {
                QCoreApplication::processEvents(QEventLoop::WaitForMoreEvents, 5);
            }
            QCoreApplication::processEvents();
            window.repaint();
        });
        window.session().undo();
        window.settle();
        return took;
    });
}

/// What was found slow: large tables, many columns, many levels, many draws.
void benchParts(int rounds) {
    setThreads(0);
    {
        const Frame frame = Frame::make(noiseTable(1000000, 11, 50), {}, {}, {}, {});
        const Question q = noiseQuestion(11);
        std::vector<Parts> parts;
        for (int r = 0; r < std::max(rounds / 3, 2); ++r) {
            parts.push_back(partsOf(frame, q));
        }
        std::size_t next = 0;
        absolute("1,000,000 x 10: effects", static_cast<int>(parts.size()), 0.5,
                 [&] { return parts[next++ % parts.size()].effects; });
        next = 0;
        absolute("1,000,000 x 10: all checks", static_cast<int>(parts.size()), 4.0,
                 [&] { return parts[next++ % parts.size()].all; });
        Question draws = q;
        draws.allChecks = false;
        draws.errors.kind = "bootstrap";
        draws.errors.scheme = "rows";
        draws.errors.draws = 999;
        absolute("999 draws of rows, 1,000,000 x 10", 1, 15.0,
                 [&] { return partsOf(frame, draws).all; });
    }
    {
        const Frame frame = Frame::make(noiseTable(20000, 80, 50), {}, {}, {}, {});
        Question q = noiseQuestion(80);
        q.allChecks = false;
        q.checks = {CheckRequest{"white"}};
        absolute("White of 80 columns, 20,000 rows", 3, 1.0, [&] { return partsOf(frame, q).all; });
    }
    {
        const Frame frame = Frame::make(noiseTable(3000, 301, 50), {}, {}, {}, {});
        absolute("300 terms, 3,000 rows, all checks", 2, 3.0,
                 [&] { return partsOf(frame, noiseQuestion(301)).all; });
    }
    {
        Table table = noiseTable(40000, 4, 2000);
        for (Variable& v : table.variables) {
            v.measure = v.name == "g" ? Measure::Groups : v.measure;
        }
        Question held = noiseQuestion(4);
        held.allChecks = false;
        Question termed = held;
        held.fixedEffects = {"g"};
        termed.terms.push_back(Term::expression("g"));
        const Frame frame = Frame::make(table, {}, {}, {}, {});
        compare(
            "2,000 levels as a term against holding them fixed", 3, 2.0,
            [&] { static_cast<void>(partsOf(frame, termed)); },
            [&] { static_cast<void>(partsOf(frame, held)); });
    }
}

}  // namespace rapporto::bench
