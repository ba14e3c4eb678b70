// Estimators against the products and reads that they cannot do without.
#include "bench/bench.h"
#include "core/base/parallel.h"
#include "core/data/frame.h"
#include "core/io/server_connection.h"
#include "core/left/left_table.h"
#include "core/model/fit.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/numerics/quantile_solution.h"
#include "core/numerics/random.h"
#include "core/numerics/sweep_effects.h"
#include "core/study/answer.h"
#include "core/study/sources.h"
#include "tests/core/test_server.h"

#include <Eigen/Dense>
#include <cblas.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <fstream>
#include <numeric>
#include <string>
#include <vector>

namespace rapporto::bench {
namespace {

/// A panel of units with gaps: ids of units and moments, and columns of numbers.
struct BenchPanel {
    std::vector<std::int32_t> unit;
    std::vector<std::int32_t> moment;
    Eigen::MatrixXd columns;
};

BenchPanel benchPanel(std::int32_t units, std::int32_t moments, double present) {
    BenchPanel out;
    RandomStream random(12, 0);
    std::int32_t placed = 0;
    for (std::int32_t u = 0; u < units; ++u) {
        bool any = false;
        for (std::int32_t t = 0; t < moments; ++t) {
            if (random.uniform() < present) {
                out.unit.push_back(placed);
                out.moment.push_back(t);
                any = true;
            }
        }
        placed += any ? 1 : 0;
    }
    out.columns.resize(static_cast<Eigen::Index>(out.unit.size()), 6);
    for (Eigen::Index j = 0; j < 6; ++j) {
        for (Eigen::Index i = 0; i < out.columns.rows(); ++i) {
            const auto row = static_cast<std::size_t>(i);
            out.columns(i, j) =
                random.uniform() + 0.01 * (out.unit[row] % 97) + 0.1 * (out.moment[row] % 11);
        }
    }
    return out;
}

/// A number of /proc/self/status in kilobytes.
double memoryKb(const std::string& key) {
    std::ifstream in("/proc/self/status");
    for (std::string line; std::getline(in, line);) {
        if (line.starts_with(key + ":")) {
            return std::stod(line.substr(key.size() + 1));
        }
    }
    return 0.0;
}

void resetPeakMemory() { std::ofstream("/proc/self/clear_refs") << "5"; }

}  // namespace

void benchCauses(bool quick, int rounds) {
    double sink = 0.0;
    {
        const BenchPanel panel = benchPanel(quick ? 20000 : 100000, 60, 0.83);
        const std::int32_t units = *std::max_element(panel.unit.begin(), panel.unit.end()) + 1;
        const Eigen::VectorXd none;
        Eigen::MatrixXd work = panel.columns;
        const auto read = [&] { sink += work.sum(); };
        // Sweeping what is swept does the same work again.
        const auto sweepOut = [&] {
            sink += sweepEffects(work, {{panel.unit, units}, {panel.moment, 60}}, none, Job())
                        ->largestMean;
        };
        for (const std::size_t threads : {1U, 2U}) {
            setThreads(threads);
            work = panel.columns;
            compare(fmt::format("two-way effects, {} rows, {} thread(s), in reads of the columns",
                                panel.unit.size(), threads),
                    std::min(rounds, 5), threads == 1 ? 15.0 : 10.0, sweepOut, read);
        }
        setThreads(2);
        work = panel.columns;
        const auto report =
            *sweepEffects(work, {{panel.unit, units}, {panel.moment, 60}}, none, Job());
        fmt::print(
            "{{\"name\": \"largest group mean left, in sd\", \"value\": {:.2e}, "
            "\"goal\": 1e-8}}\n",
            report.largestMean);
    }
    {
        BenchPanel panel = benchPanel(quick ? 20000 : 100000, 60, 0.83);
        const auto n = static_cast<Eigen::Index>(panel.unit.size());
        const std::int32_t units = *std::max_element(panel.unit.begin(), panel.unit.end()) + 1;
        Design design;
        design.hasConstant = true;
        design.X.resize(n, 6);
        design.X.col(0).setOnes();
        design.X.rightCols(5) = panel.columns.rightCols(5);
        design.y = panel.columns.col(0);
        panel.columns.resize(0, 0);
        design.columns.push_back({"(constant)", "", -1, false});
        for (int j = 0; j < 5; ++j) {
            design.columns.push_back({fmt::format("x{}", j), "", j, false});
            design.terms.emplace_back();
        }
        design.rows.resize(static_cast<std::size_t>(n));
        std::iota(design.rows.begin(), design.rows.end(), std::size_t{0});
        design.counts.used = static_cast<std::size_t>(n);
        design.effects.resize(2);
        design.effects[0].of = std::move(panel.unit);
        design.effects[0].count = units;
        design.effects[1].of = std::move(panel.moment);
        design.effects[1].count = 60;
        // Six columns of numbers and two of ids; what the process holds beside is taken off.
        const double data = static_cast<double>(n) * (6.0 * 8.0 + 2.0 * 4.0) / 1024.0;
        const double before = memoryKb("VmRSS") - data - static_cast<double>(n) * 16.0 / 1024.0;
        resetPeakMemory();
        const auto swept = sweptDesign(std::move(design), Job());
        sink += fitLeastSquares(*swept, {}, 0.05, Job())->statistics.rss;
        fmt::print(
            "{{\"name\": \"peak memory of a fit with two-way effects, in its data\", "
            "\"value\": {:.2f}, \"goal\": 3}}\n",
            (memoryKb("VmHWM") - before) / data);
    }
    {
        // Workers stay with a firm near by; one in twenty moves once, to the next firm.
        const std::int32_t workers = quick ? 20000 : 100000;
        const std::int32_t firms = workers / 5;
        std::vector<std::int32_t> worker;
        std::vector<std::int32_t> firm;
        RandomStream random(13, 0);
        for (std::int32_t w = 0; w < workers; ++w) {
            const std::int32_t home = w / 5;
            const bool moves = random.uniform() < 0.05 || w % 5 == 0;
            for (int t = 0; t < 10; ++t) {
                worker.push_back(w);
                firm.push_back(moves && t > 5 ? (home + 1) % firms : home);
            }
        }
        Eigen::MatrixXd columns(static_cast<Eigen::Index>(worker.size()), 6);
        for (Eigen::Index j = 0; j < 6; ++j) {
            for (Eigen::Index i = 0; i < columns.rows(); ++i) {
                columns(i, j) = random.uniform() + 0.001 * firm[static_cast<std::size_t>(i)];
            }
        }
        const Eigen::VectorXd none;
        Eigen::MatrixXd work = columns;
        SweptReport report;
        compare(
            fmt::format("{} workers by {} firms, badly connected, in reads of the columns", workers,
                        firms),
            1, 250.0,
            [&] {
                work = columns;
                report = *sweepEffects(work, {{worker, workers}, {firm, firms}}, none, Job());
            },
            [&] { sink += columns.sum(); });
        fmt::print(
            "{{\"name\": \"badly connected design\", \"settled\": {}, \"steps\": {}, "
            "\"largest_mean\": {:.2e}}}\n",
            report.converged, report.steps, report.largestMean);
    }
    {
        const Eigen::Index n = quick ? 200000 : 1000000;
        Design design;
        RandomStream random(14, 0);
        design.X.resize(n, 11);
        design.Z.resize(n, 5);
        design.y.resize(n);
        design.hasConstant = true;
        design.columns.push_back({"(constant)", "", -1, false});
        for (int j = 0; j < 10; ++j) {
            design.columns.push_back({fmt::format("x{}", j), "", j, false});
            DesignTerm term;
            term.name = fmt::format("x{}", j);
            term.columns = {j + 1};
            term.endogenous = j == 0;
            design.terms.push_back(term);
        }
        for (int j = 0; j < 5; ++j) {
            design.instrumentColumns.push_back({fmt::format("z{}", j), "", j, false});
        }
        for (Eigen::Index i = 0; i < n; ++i) {
            design.X(i, 0) = 1.0;
            for (Eigen::Index j = 1; j < 11; ++j) {
                design.X(i, j) = random.uniform();
            }
            for (Eigen::Index j = 0; j < 5; ++j) {
                design.Z(i, j) = random.uniform();
            }
            design.X(i, 1) += design.Z.row(i).sum();
            design.y(i) = design.X.row(i).sum() + random.uniform();
            design.rows.push_back(static_cast<std::size_t>(i));
        }
        design.counts.used = static_cast<std::size_t>(n);
        // Least squares with the instruments as columns, too.
        Design wide = design;
        wide.X.conservativeResize(Eigen::NoChange, 16);
        wide.X.rightCols(5) = design.Z;
        for (int j = 0; j < 5; ++j) {
            wide.columns.push_back({fmt::format("z{}", j), "", 10 + j, false});
            wide.terms.emplace_back();
        }
        setThreads(2);
        const ErrorSpec robust{"robust", "HC1", {}};
        compare(
            fmt::format("two-stage, 5 instruments, {} rows, against least squares", n),
            std::min(rounds, 3), 2.0,
            [&] { sink += fitTwoStage(design, {}, robust, 0.05, Job())->statistics.rss; },
            [&] { sink += fitLeastSquares(wide, robust, 0.05, Job())->statistics.rss; });
        compare(
            fmt::format("the same with first stages and least squares beside it, {} rows", n),
            std::min(rounds, 3), 4.0,
            [&] {
                auto fit = fitTwoStage(design, {}, robust, 0.05, Job());
                describeInstruments(*fit, design, robust, 0.05, Job());
                sink += fit->statistics.rss;
            },
            [&] { sink += fitLeastSquares(wide, robust, 0.05, Job())->statistics.rss; });
    }
    if (sink == 0.12345) {
        fmt::print("\n");
    }
}

/// Effects of two groupings swept out of six columns, in reads of these columns; a badly connected
/// design of workers and firms; two-stage against least squares with as many columns.
void benchOutcomes(bool quick, int rounds) {
    double sink = 0.0;
    for (const Eigen::Index n : {Eigen::Index{10000}, Eigen::Index{quick ? 20000 : 100000}}) {
        RandomStream random(21, 0);
        Eigen::MatrixXd X = Eigen::MatrixXd::Ones(n, 10);
        Eigen::VectorXd y(n);
        for (Eigen::Index i = 0; i < n; ++i) {
            for (Eigen::Index j = 1; j < 10; ++j) {
                X(i, j) = random.uniform() + random.uniform() - 1.0;
            }
            y(i) = X.row(i).sum() +
                   (random.uniform() + random.uniform() - 1.0) * (1.0 + std::abs(X(i, 1)));
        }
        const Eigen::VectorXd none;
        const Eigen::VectorXd weights = Eigen::VectorXd::LinSpaced(n, 0.5, 1.5);
        compare(
            fmt::format("median of {} x 10, in twenty weighted cross products", n),
            std::min(rounds, 5), 5.0,
            [&] { sink += solveQuantile(X, y, none, 0.5, Job())->objective; },
            [&] {
                for (int step = 0; step < 20; ++step) {
                    const Eigen::MatrixXd weighted = weights.cwiseSqrt().asDiagonal() * X;
                    Eigen::MatrixXd cross = Eigen::MatrixXd::Zero(10, 10);
                    cross.selfadjointView<Eigen::Lower>().rankUpdate(weighted.transpose());
                    sink += Eigen::LLT<Eigen::MatrixXd>(cross).matrixLLT()(0, 0);
                }
            });
    }
    const Eigen::Index n = quick ? 100000 : 1000000;
    Design design;
    RandomStream random(22, 0);
    design.X = Eigen::MatrixXd::Ones(n, 20);
    design.y.resize(n);
    design.hasConstant = true;
    for (int j = 0; j < 20; ++j) {
        design.columns.push_back(
            {j == 0 ? "(constant)" : "x" + std::to_string(j), "", j == 0 ? -1 : j - 1, false});
        if (j > 0) {
            design.terms.emplace_back();
        }
    }
    Eigen::VectorXd yes(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        design.rows.push_back(static_cast<std::size_t>(i));
        double index = 0.3;
        for (Eigen::Index j = 1; j < 20; ++j) {
            design.X(i, j) = random.uniform() - 0.5;
            index += 0.2 * design.X(i, j);
        }
        const double mean =
            std::exp(index) * -0.5 *
            (std::log(random.uniform() + 1e-300) + std::log(random.uniform() + 1e-300));
        int k = 0;
        for (double left = std::exp(-mean), p = random.uniform(); p > left && k < 1000; ++k) {
            p *= random.uniform();
        }
        design.y(i) = k;
        yes(i) = random.uniform() < 1.0 / (1.0 + std::exp(-index)) ? 1.0 : 0.0;
    }
    design.counts.used = static_cast<std::size_t>(n);
    const auto syrk = [&](int steps) {
        for (int step = 0; step < steps; ++step) {
            Eigen::MatrixXd cross(20, 20);
            cblas_dsyrk(CblasColMajor, CblasLower, CblasTrans, 20, static_cast<int>(n), 1.0,
                        design.X.data(), static_cast<int>(n), 0.0, cross.data(), 20);
            sink += cross(0, 0);
        }
    };
    setThreads(1);
    const auto columns = independentColumns(design.X, design.columns, true, Job());
    const auto poisson = poissonModel(design.y);
    const std::vector<IndexPart> parts = {{design.X, {}, true}};
    Eigen::VectorXd start = Eigen::VectorXd::Zero(20);
    start(0) = std::log(design.y.mean());
    const Eigen::VectorXd none;
    // The search looks at the rows once before its first step; setting up counts, too.
    const int steps = maximise(parts, *poisson, start, none, Job(), false)->iterations + 1;
    compare(
        fmt::format("an evaluation in a Poisson search, {} x 20, one thread, in cross products", n),
        std::min(rounds, 3), 1.3,
        [&] { sink += maximise(parts, *poisson, start, none, Job(), false)->logLikelihood; },
        [&] { syrk(steps); });
    sink += static_cast<double>(columns->kept.size());
    compare(
        "negative binomial, in Poissons", std::min(rounds, 2), 3.0,
        [&] {
            sink += fitNegativeBinomial(design, {}, {}, 0.05, Job())->likelihood->logLikelihood;
        },
        [&] { sink += fitPoisson(design, {}, {}, 0.05, Job())->likelihood->logLikelihood; });
    Design asked = design;
    asked.y = yes;
    compare(
        "logit, in Poissons", std::min(rounds, 2), 1.3,
        [&] { sink += fitLogit(asked, {}, {}, 0.05, Job())->likelihood->logLikelihood; },
        [&] { sink += fitPoisson(design, {}, {}, 0.05, Job())->likelihood->logLikelihood; });
    setThreads(0);
    if (sink == 0.25) {
        fmt::print("\n");
    }
}

/// A random constant and slope of many groups, whole, against twenty cross products of its columns.
void benchLevels(std::size_t n, int rounds) {
    RandomStream random(25, 1);
    const auto rows = static_cast<Eigen::Index>(n);
    const auto groups = static_cast<std::int32_t>(n / 20);
    Design design;
    design.X = Eigen::MatrixXd::Ones(rows, 20);
    design.y.resize(rows);
    design.hasConstant = true;
    DesignLevel level;
    level.name = "g";
    level.count = groups;
    level.slopeNames = {"x"};
    level.slopes.resize(rows, 1);
    level.labels.assign(static_cast<std::size_t>(groups), "g");
    const auto normal = [&] { return roughlyNormal(random); };
    std::vector<double> constants(static_cast<std::size_t>(groups));
    std::vector<double> slopes(static_cast<std::size_t>(groups));
    for (std::size_t g = 0; g < constants.size(); ++g) {
        constants[g] = 0.6 * normal();
        slopes[g] = 0.3 * normal();
    }
    design.columns.push_back({"(constant)", "constant", -1, false});
    for (Eigen::Index j = 1; j < 20; ++j) {
        const std::string name = "x" + std::to_string(j);
        DesignTerm term;
        term.name = term.label = name;
        term.columns = {j};
        design.columns.push_back({name, name, static_cast<int>(design.terms.size()), false});
        design.terms.push_back(std::move(term));
    }
    for (Eigen::Index i = 0; i < rows; ++i) {
        const auto g = static_cast<std::size_t>(i) % constants.size();
        level.of.push_back(static_cast<std::int32_t>(g));
        double y = constants[g] + normal();
        for (Eigen::Index j = 1; j < 20; ++j) {
            design.X(i, j) = normal();
            y += 0.1 * design.X(i, j);
        }
        level.slopes(i, 0) = design.X(i, 1);
        design.y(i) = y + slopes[g] * design.X(i, 1);
        design.rows.push_back(static_cast<std::size_t>(i));
    }
    design.levels.push_back(std::move(level));
    design.counts.used = n;
    double sink = 0.0;
    compare(
        fmt::format("a random constant and slope, {} x 20, {} groups, in twenty cross products", n,
                    groups),
        std::min(rounds, 3), 1.0,
        [&] { sink += fitMultilevel(design, {}, {}, 0.05, Job())->levels->deviance; },
        [&] {
            for (int step = 0; step < 20; ++step) {
                Eigen::MatrixXd cross(20, 20);
                cblas_dsyrk(CblasColMajor, CblasLower, CblasTrans, 20, static_cast<int>(n), 1.0,
                            design.X.data(), static_cast<int>(n), 0.0, cross.data(), 20);
                sink += cross(0, 0);
            }
        });
    if (sink == 0.25) {
        fmt::print("\n");
    }
}

/// Least squares whose rows stay with a server, against the server's own sums of the same columns.
void benchLeft(bool quick, int rounds) {
    const tests::TestServer server;
    if (!server.why().isEmpty()) {
        fmt::print(stderr, "left: {}\n", server.why().toStdString());
        return;
    }
    const int rows = quick ? 300'000 : 10'000'000;
    const bool made = server.sql(
        QString("create unlogged table big as select g as id, random() as a, random() as b, "
                "random() as c, random() as d, random() as y from generate_series(1, %1) g; "
                "analyze big;")
            .arg(rows));
    const auto study = readStudyText(
        R"({"format": "rapporto-study", "version": 1, "source": {"kind": "table", "rows": "left",
            "reader": {"type": "postgresql", "service": "warehouse", "table": "big"}},
            "questions": [{"id": "q", "outcome": "y", "terms": ["a", "b", "c", "d"],
            "errors": {"kind": "robust"}, "checks": "none"}]})");
    const auto sources = readSources(*study, "/", false, Job());
    const auto connection = ServerConnection::open("warehouse", 0.0, Job());
    if (!made || !sources || !connection) {
        fmt::print(stderr, "left: the table was not made\n");
        return;
    }
    const Frame frame = makeFrame(*study, *sources);
    compare(
        fmt::format("left with a server, HC1, {:.0e} x 4, against its sums", double{1} * rows),
        quick ? rounds : 3, 3.0,
        [&] {
            const Answer answer = answerQuestion(*study, frame, study->questions[0], Job());
            if (answer.refusal) {
                fmt::print(stderr, "left: {}\n", answer.refusal->text());
            }
        },
        [&] {
            (void)connection->ask("select sum(a), sum(b), sum(c), sum(d), sum(y) from big", {},
                                  Job());
        });
}

/// Least squares whose rows stay on the disk, against the same with its rows at hand.
void benchOnDisk(bool quick, int rounds) {
    const std::size_t n = quick ? 100'000 : 1'000'000;
    const auto table = std::make_shared<const Table>(noiseTable(n, 10, 5000));
    Study study;
    Question question = noiseQuestion(10);
    question.allChecks = false;
    const auto left = LeftTable::ofColumns(table, {}, "noise");
    const Frame onDisk = Frame::ofLeft(*left, (*left)->first(), static_cast<double>(n), {}, {}, {});
    const Frame atHand = Frame::make(*table, {}, {}, {}, {});
    const auto answerOn = [&](const Frame& frame) {
        const Answer answer = answerQuestion(study, frame, question, Job());
        if (answer.refusal) {
            fmt::print(stderr, "on the disk: {}\n", answer.refusal->text());
        }
    };
    for (const char* kind : {"robust", "clustered"}) {
        question.errors.kind = kind;
        question.errors.type = "HC1";
        question.errors.by = {};
        if (question.errors.kind == "clustered") {
            question.errors.by = {"g"};
        }
        compare(
            fmt::format("rows on the disk, {}, {} x 10, against rows at hand", kind, n), rounds,
            1.0, [&] { answerOn(onDisk); }, [&] { answerOn(atHand); });
    }
}

}  // namespace rapporto::bench
