// Speed as ratios against a baseline of the same run, one JSON line each. --quick ends in a minute.
#include "app/plots/plot_view.h"
#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "app/stages/data/data_page.h"
#include "app/stages/data/grid_model.h"
#include "app/stages/model/effect_rows.h"
#include "app/stages/model/left_out_page.h"
#include "app/stages/report/page_view.h"
#include "core/base/parallel.h"
#include "core/data/frame.h"
#include "core/defend/by_lot.h"
#include "core/describe/correlation.h"
#include "core/io/csv.h"
#include "core/io/server_connection.h"
#include "core/model/fit.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/numerics/blocked_qr.h"
#include "core/numerics/linear_solution.h"
#include "core/numerics/quantile_solution.h"
#include "core/numerics/random.h"
#include "core/numerics/sweep_effects.h"
#include "core/paths/draws.h"
#include "core/paths/trace_edits.h"
#include "core/report/report.h"
#include "core/study/journal.h"
#include "core/study/missing_answer.h"
#include "core/study/sources.h"
#include "core/study/sweep.h"
#include "tests/core/test_server.h"

#include <Eigen/Dense>
#include <cblas.h>
#include <fast_float/fast_float.h>
#include <fmt/format.h>
#include <sys/times.h>
#include <unistd.h>

#include <QApplication>
#include <QEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QScrollBar>
#include <QTableView>
#include <QTemporaryDir>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstring>
#include <fstream>
#include <functional>
#include <numeric>
#include <string>
#include <thread>
#include <vector>

extern "C" void dgels_(const char* trans, const int* rows, const int* columns, const int* right,
                       double* A, const int* lead, double* B, const int* leadB, double* work,
                       const int* size, int* info);

namespace {

using namespace rapporto;

double seconds(const std::function<void()>& work) {
    const auto from = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
}

/// Jiffies that all processors spent working, and the clock ticks of this process.
double machineBusy() {
    std::ifstream in("/proc/stat");
    std::string name;
    double user = 0;
    double nice = 0;
    double system = 0;
    in >> name >> user >> nice >> system;
    return (user + nice + system) / static_cast<double>(sysconf(_SC_CLK_TCK));
}

double ownBusy() {
    tms used{};
    times(&used);
    return static_cast<double>(used.tms_utime + used.tms_stime) /
           static_cast<double>(sysconf(_SC_CLK_TCK));
}

double median(std::vector<double> values) {
    std::nth_element(values.begin(),
                     values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2), values.end());
    return values[values.size() / 2];
}

/// Runs target and baseline in turn and prints the medians and the median ratio. `busy` is how
/// much of a core other processes used meanwhile.
void compare(const std::string& name, int rounds, double goal, const std::function<void()>& target,
             const std::function<void()>& baseline) {
    target();
    baseline();
    std::vector<double> a;
    std::vector<double> b;
    std::vector<double> ratios;
    const double machine = machineBusy();
    const double own = ownBusy();
    const double wall = seconds([&] {
        for (int r = 0; r < rounds; ++r) {
            a.push_back(seconds(target));
            b.push_back(seconds(baseline));
            ratios.push_back(a.back() / b.back());
        }
    });
    const double busy = std::max(0.0, (machineBusy() - machine) - (ownBusy() - own)) / wall;
    fmt::print(
        "{{\"name\": \"{}\", \"ratio\": {:.3f}, \"target_s\": {:.5f}, \"baseline_s\": {:.5f}, "
        "\"goal\": {}, \"busy\": {:.2f}}}\n",
        name, median(ratios), median(a), median(b), goal, busy);
    std::fflush(stdout);
}

/// An absolute time against a goal in seconds, where there is nothing to compare with.
void absolute(const std::string& name, int rounds, double goal,
              const std::function<double()>& target) {
    std::vector<double> times;
    for (int r = 0; r < rounds; ++r) {
        times.push_back(target());
    }
    fmt::print(
        "{{\"name\": \"{}\", \"ratio\": {:.3f}, \"target_s\": {:.5f}, \"baseline_s\": null, "
        "\"goal\": {}, \"busy\": null, \"worst_s\": {:.5f}}}\n",
        name, median(times) / goal, median(times), goal,
        *std::max_element(times.begin(), times.end()));
    std::fflush(stdout);
}

/// Counts how often a widget was painted.
class PaintSpy : public QObject {
  public:
    int paints = 0;

    bool eventFilter(QObject* watched, QEvent* event) override {
        paints += event->type() == QEvent::Paint ? 1 : 0;
        return QObject::eventFilter(watched, event);
    }
};

double noise(std::uint64_t i) {
    i = (i + 1) * 0x9E3779B97F4A7C15ULL;
    i = (i ^ (i >> 30U)) * 0xBF58476D1CE4E5B9ULL;
    i = (i ^ (i >> 27U)) * 0x94D049BB133111EBULL;
    return static_cast<double>((i ^ (i >> 31U)) >> 11U) / 9007199254740992.0 - 0.5;
}

void benchLeastSquares(bool quick, int rounds) {
    const Eigen::Index n = quick ? 300000 : 1000000;
    const Eigen::Index k = 20;
    Eigen::MatrixXd X(n, k);
    Eigen::VectorXd y(n);
    std::vector<std::int32_t> groups(static_cast<std::size_t>(n));
    for (Eigen::Index i = 0; i < n; ++i) {
        X(i, 0) = 1.0;
        y(i) = noise(static_cast<std::uint64_t>(i) * 31 + 7);
        for (Eigen::Index j = 1; j < k; ++j) {
            X(i, j) = noise(static_cast<std::uint64_t>(i * k + j)) + static_cast<double>(j);
            y(i) += 0.1 * X(i, j);
        }
        groups[static_cast<std::size_t>(i)] = static_cast<std::int32_t>((i * 7919) % 10000);
    }
    const Eigen::VectorXd none;
    const LinearProblem problem{X, y, none, true};
    Eigen::MatrixXd gram(k, k);
    const auto syrk = [&] {
        cblas_dsyrk(CblasColMajor, CblasUpper, CblasTrans, static_cast<int>(k), static_cast<int>(n),
                    1.0, X.data(), static_cast<int>(n), 0.0, gram.data(), static_cast<int>(k));
    };
    double sink = 0.0;
    const auto robust = [&] { sink += solveLinear(problem, true, Job())->meat.sum(); };
    const auto clustered = [&] {
        const LinearSolution s =
            *solveLinear(problem, WantedSums{.groups = groups, .groupCount = 10000}, Job());
        sink += (s.scores * s.centredFactor).squaredNorm();
    };
    const Eigen::VectorXd centre = X.colwise().mean();
    const auto orthogonal = [&] { sink += blockedQr(X, y, none, centre, 1e-11).residualSquares; };
    // It overwrites what it is given with numbers as full as before: no copy need be timed.
    Eigen::MatrixXd copy = X;
    const auto dgels = [&] {
        const int rows = static_cast<int>(n);
        const int columns = static_cast<int>(k);
        const int one = 1;
        std::vector<double> work(static_cast<std::size_t>(64 * (columns + 1)));
        const int size = static_cast<int>(work.size());
        int info = 0;
        Eigen::VectorXd right = y;
        dgels_("N", &rows, &columns, &one, copy.data(), &rows, right.data(), &rows, work.data(),
               &size, &info);
        sink += right(0);
    };
    for (const std::size_t threads : {1U, 2U}) {
        setThreads(threads);
        compare(fmt::format("least squares HC1 {}x20, {} thread(s), against syrk", n, threads),
                rounds, threads == 1 ? 2.5 : 1.5, robust, syrk);
        compare(
            fmt::format("least squares clustered {}x20, {} thread(s), against syrk", n, threads),
            rounds, threads == 1 ? 3.0 : 2.0, clustered, syrk);
        if (threads == 1) {
            compare(fmt::format("blocked QR {}x20, 1 thread, against dgels", n), rounds, 0.35,
                    orthogonal, dgels);
        }
    }
    if (sink == 0.12345) {
        fmt::print("\n");  // Keeps the work from being left out.
    }
}

/// Simple operations over a million rows against copying a column, and a lag over a panel that has
/// to be sorted first against sorting its keys.
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
    const auto normal = [&] {
        double sum = -6.0;
        for (int k = 0; k < 12; ++k) {
            sum += random.uniform();
        }
        return sum;
    };
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

/// Twenty sets of ten variables, each lacking a tenth of its answers: seven quantities, two yes–no,
/// one of four groups.
/// Lots of a yes–no cause, and the page of what may be left out while a strength is dragged.
void benchDefence(int rounds) {
    constexpr std::size_t kRows = 10000;
    RandomStream random(41, 1);
    const auto normal = [&] {
        double sum = -6.0;
        for (int k = 0; k < 12; ++k) {
            sum += random.uniform();
        }
        return sum;
    };
    Table table;
    std::vector<std::vector<double>> cells(11);
    for (std::size_t i = 0; i < kRows; ++i) {
        double y = 0.0;
        for (std::size_t c = 1; c < cells.size(); ++c) {
            const double x = c == 1 ? (random.uniform() < 0.4 ? 1.0 : 0.0) : normal();
            cells[c].push_back(x);
            y += 0.05 * x;
        }
        cells[0].push_back(y + normal());
    }
    Question question;
    question.id = "q1";
    question.outcome = "v0";
    question.allChecks = false;
    for (std::size_t c = 0; c < cells.size(); ++c) {
        Variable variable;
        variable.name = "v" + std::to_string(c);
        table.columns.push_back(Column::ofNumbers(variable.name, cells[c]));
        table.variables.push_back(variable);
        if (c > 0) {
            question.terms.push_back(Term::expression(variable.name));
        }
    }
    question.leftOut = LeftOutRequest{"v1", {Term::expression("v2")}, {1.0, 2.0, 3.0}};
    const Frame frame = Frame::make(table, {}, {}, {}, {});
    const auto answer =
        std::make_shared<const Answer>(answerQuestion(Study{}, frame, question, Making(Job())));
    absolute("9,999 lots of a yes–no cause, 10,000 rows × 10 terms", rounds, 0.3, [&] {
        return seconds([&] {
            static_cast<void>(
                byLot(frame, *answer->design, *answer->fit, LotRequest{"v1"}, 1, 0.05, Job()));
        });
    });
    app::LeftOutPage page(nullptr);
    page.resize(900, 620);
    page.showAnswer(answer, true);
    page.show();
    static_cast<void>(page.grab());
    absolute("a strength dragged on the page of what may be left out, a frame", rounds, 1.0 / 60.0,
             [&] {
                 return seconds([&] {
                     QKeyEvent press(QEvent::KeyPress, Qt::Key_Right, Qt::NoModifier);
                     QApplication::sendEvent(page.plot(), &press);
                     static_cast<void>(page.grab());
                 });
             });
}

void benchMissing(std::size_t n, int rounds) {
    RandomStream random(31, 1);
    const auto normal = [&] {
        double sum = -6.0;
        for (int k = 0; k < 12; ++k) {
            sum += random.uniform();
        }
        return sum;
    };
    Table table;
    Study study;
    std::vector<std::vector<double>> cells(12);
    for (std::size_t i = 0; i < n; ++i) {
        const double z = normal();
        for (std::size_t c = 0; c < cells.size(); ++c) {
            const double x = 0.5 * z + normal();
            const bool gap = c < 10 && random.uniform() < 0.1;
            const double value = c == 7 || c == 8 ? (x > 0.0 ? 1.0 : 0.0)
                                 : c == 9         ? std::floor(std::clamp(2.0 + x, 0.0, 3.0))
                                                  : x;
            cells[c].push_back(gap ? std::nan("") : value);
        }
    }
    for (std::size_t c = 0; c < cells.size(); ++c) {
        Variable variable;
        variable.name = "v" + std::to_string(c);
        variable.measure = c == 7 || c == 8 ? Measure::YesNo
                           : c == 9         ? Measure::Groups
                                            : Measure::Quantity;
        table.columns.push_back(Column::ofNumbers(variable.name, cells[c]));
        table.variables.push_back(variable);
        (c < 10 ? study.imputation.variables : study.imputation.with).push_back(variable.name);
    }
    const Frame frame = Frame::make(table, {}, {}, {}, {});
    const std::string what = fmt::format("twenty sets of ten variables, {} rows, ten rounds", n);
    absolute(what, std::min(rounds, 3), 5.0,
             [&] { return seconds([&] { static_cast<void>(setsOf(study, frame, Job())); }); });
    absolute("from asking it to stop until it has, the same", std::min(rounds, 5), 0.1, [&] {
        const Job job;
        double took = 0.0;
        std::thread stopper([&] {
            std::this_thread::sleep_for(std::chrono::milliseconds(300));
            const auto from = std::chrono::steady_clock::now();
            job.stop();
            took = -std::chrono::duration<double>(from.time_since_epoch()).count();
        });
        static_cast<void>(setsOf(study, frame, job));
        const auto end = std::chrono::steady_clock::now().time_since_epoch();
        stopper.join();
        return std::chrono::duration<double>(end).count() + took;
    });
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

void benchExpressions(bool quick, int rounds) {
    const std::size_t n = quick ? 300000 : 1000000;
    const auto column = [](const std::string& name, std::size_t rows, auto cell) {
        std::vector<double> cells(rows);
        for (std::size_t i = 0; i < rows; ++i) {
            cells[i] = cell(i);
        }
        return Column::ofNumbers(name, std::move(cells));
    };
    const auto tableOf = [](std::vector<Column> columns) {
        Table table;
        for (Column& one : columns) {
            Variable variable;
            variable.name = one.name();
            table.variables.push_back(variable);
            table.columns.push_back(std::move(one));
        }
        return table;
    };
    double sink = 0.0;
    const Frame frame =
        Frame::make(tableOf({column("x", n, [](std::size_t i) { return noise(i); }),
                             column("y", n, [](std::size_t i) { return noise(i + 7) + 2.0; })}),
                    {}, {}, {}, {});
    setThreads(1);
    constexpr double kOperations = 5.0;  // Of the expression below.
    absolute(
        fmt::format("expression of 5 simple operations, {} rows, against 50 million a second", n),
        rounds, kOperations * static_cast<double>(n) / 50e6, [&] {
            return seconds([&] {
                sink += frame.evaluateText("(x + y) * 2 - x / y > 1")->column.numbers()[0];
            });
        });
    const std::size_t rows = quick ? 500000 : 5000000;
    std::vector<std::uint32_t> order(rows);
    std::iota(order.begin(), order.end(), 0U);
    for (std::size_t i = rows; i > 1; --i) {
        std::swap(order[i - 1],
                  order[static_cast<std::size_t>((noise(i) + 0.5) * static_cast<double>(i))]);
    }
    const Table panel = tableOf(
        {column("unit", rows, [&](std::size_t i) { return static_cast<double>(order[i] / 20); }),
         column("year", rows, [&](std::size_t i) { return 2000.0 + order[i] % 20; }),
         column("x", rows, [&](std::size_t i) { return noise(i); })});
    compare(
        fmt::format("lag over a shuffled panel of {} rows against sorting its keys", rows), rounds,
        1.0,
        [&] {
            const Frame fresh =
                Frame::make(panel, {}, {}, {}, {Layout::Kind::Panel, "unit", "year", {}});
            sink += static_cast<double>(fresh.evaluateText("lag(x)")->undefined);
        },
        [&] {
            auto keys = order;
            std::sort(keys.begin(), keys.end());
            sink += keys[rows / 2];
        });
    setThreads(0);
    if (sink == 0.12345) {
        fmt::print("\n");  // Keeps the work from being left out.
    }
}

/// Names, quoted groups, dates, whole numbers with a missing code, amounts, blanks.
std::string mixedCsv(std::size_t rows) {
    std::string text = "grower,zone,surveyed_on,age,hives,revenue,note\n";
    static const char* const kZones[] = {"Ridge", "\"River flat, low\"", "Terrace",
                                         "\"Old \"\"wall\"\"\""};
    for (std::size_t i = 0; i < rows; ++i) {
        const auto pick = [&](std::size_t k, std::size_t most) {
            return static_cast<std::size_t>((noise(i * 7 + k) + 0.5) * static_cast<double>(most));
        };
        text += fmt::format("Grower {},{},2024-{:02}-{:02},{},{:.1f},", i % 5000,
                            kZones[pick(0, 4)], 1 + pick(1, 12), 1 + pick(2, 28),
                            pick(3, 20) == 0 ? -9 : static_cast<int>(18 + pick(4, 70)),
                            static_cast<double>(pick(5, 200)) / 10.0);
        text += pick(6, 15) == 0 ? "" : fmt::format("{:.2f}", 1e5 * (noise(i) + 0.5));
        text += ",\"as the year before\"\n";
    }
    return text;
}

void benchCsv(bool quick, int rounds) {
    const std::size_t rows = quick ? 200000 : 1000000;
    std::string text = "a,b,c,d,e,f,g,h,i,j,k,l,m,n,o,p,q,r,s,t\n";
    for (std::size_t i = 0; i < rows; ++i) {
        for (std::size_t j = 0; j < 20; ++j) {
            text += fmt::format("{:.6f}", 10.0 * noise(i * 20 + j));
            text += j < 19 ? ',' : '\n';
        }
    }
    const std::string mixed = mixedCsv(rows);
    const double megabytes = static_cast<double>(text.size()) / 1e6;
    std::size_t sink = 0;
    const auto import = [&] { sink += readCsvText(text, {}, Job())->table.rows(); };
    const auto newlines = [&] {
        sink += static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
    };
    const auto numbers = [&] {
        std::vector<double> values;
        values.reserve(rows * 20);
        const char* at = text.data() + text.find('\n') + 1;
        const char* end = text.data() + text.size();
        while (at < end) {
            double v = 0.0;
            at = fast_float::from_chars(at, end, v).ptr + 1;
            values.push_back(v);
        }
        sink += values.size();
    };
    for (const auto& [threads, goal] : {std::pair{1, 180.0}, std::pair{2, 280.0}}) {
        setThreads(static_cast<std::size_t>(threads));
        for (const auto& [kind, bytes] : {std::pair<const char*, std::string_view>{"numbers", text},
                                          {"types, quotes, missing codes", mixed}}) {
            const double each = static_cast<double>(bytes.size()) / 1e6;
            absolute(
                fmt::format("CSV import of {:.0f} MB, {}, {} thread(s), against {} MB/s", each,
                            kind, threads, goal),
                rounds, each / goal, [&] {
                    return seconds([&] { sink += readCsvText(bytes, {}, Job())->table.rows(); });
                });
        }
    }
    setThreads(1);
    compare(fmt::format("CSV import {:.0f} MB against bare number parsing", megabytes), rounds, 2.0,
            import, numbers);
    compare(fmt::format("CSV import {:.0f} MB against newline counting", megabytes), rounds, 40.0,
            import, newlines);
    setThreads(0);
    if (sink == 1) {
        fmt::print("\n");
    }
}

/// A scatter of a million points, and a box drawn over it while a second picture follows.
void benchPictures() {
    constexpr std::size_t kRows = 1'000'000;
    Exhibit e;
    Exhibit bars;
    bars.bars.resize(40);
    std::uint64_t state = 12345;
    const auto draw = [&state] {
        state = state * 6364136223846793005ULL + 1442695040888963407ULL;
        return static_cast<double>(state >> 11) / 9007199254740992.0;
    };
    for (std::size_t i = 0; i < kRows; ++i) {
        e.x.push_back(draw() + draw());
        e.y.push_back(0.5 * e.x.back() + draw());
        e.rows.push_back(i);
        const auto bin = static_cast<std::size_t>(e.x.back() * 20.0);
        bars.bars[bin].x0 = static_cast<double>(bin) / 20.0;
        bars.bars[bin].x1 = bars.bars[bin].x0 + 0.05;
        bars.bars[bin].y1 += 1.0;
        bars.bars[bin].rows.push_back(static_cast<std::uint32_t>(i));
    }
    bars.fromZero = true;
    app::PlotView scatter;
    app::PlotView histogram;
    QObject::connect(&scatter, &app::PlotView::rowsBrushed, &histogram,
                     &app::PlotView::showSelection);
    QObject::connect(&scatter, &app::PlotView::rowsBrushed, &scatter,
                     &app::PlotView::showSelection);
    for (app::PlotView* plot : {&scatter, &histogram}) {
        plot->resize(460, 580);
        plot->show();
    }
    histogram.showExhibit(bars);
    const auto shared = std::make_shared<const Exhibit>(std::move(e));
    scatter.showExhibit(shared);
    (void)scatter.grab();
    absolute("scatter of 1e6 points: shown and painted", 9, 0.150, [&] {
        return seconds([&] {
            scatter.showExhibit(shared);
            (void)scatter.grab();
        });
    });
    const auto send = [&](QEvent::Type type, QPointF at) {
        QMouseEvent event(type, at, scatter.mapToGlobal(at), Qt::LeftButton, Qt::LeftButton, {});
        QApplication::sendEvent(&scatter, &event);
    };
    (void)histogram.grab();
    send(QEvent::MouseButtonPress, {60, 80});
    int step = 0;
    absolute("brushing 1e6 points: a move, both pictures painted", 60, 0.050, [&] {
        ++step;
        return seconds([&] {
            send(QEvent::MouseMove, {70.0 + 6.0 * step, 90.0 + 7.0 * step});
            (void)scatter.grab();
            (void)histogram.grab();
        });
    });
    send(QEvent::MouseButtonRelease, {430, 520});
}

/// Correlations of 50 columns against one symmetric product of the same matrix.
void benchCorrelations(bool quick, int rounds) {
    const Eigen::Index rows = quick ? 200'000 : 1'000'000;
    constexpr Eigen::Index kColumns = 50;
    Eigen::MatrixXd x = Eigen::MatrixXd::Random(rows, kColumns);
    std::vector<RelatedColumn> columns;
    for (Eigen::Index j = 0; j < kColumns; ++j) {
        columns.push_back({std::to_string(j), {x.col(j).data(), x.col(j).data() + rows}});
    }
    Eigen::MatrixXd product = Eigen::MatrixXd::Zero(kColumns, kColumns);
    const auto baseline = [&] {
        cblas_dsyrk(CblasColMajor, CblasUpper, CblasTrans, kColumns, static_cast<int>(rows), 1.0,
                    x.data(), static_cast<int>(rows), 0.0, product.data(), kColumns);
    };
    const auto target = [&] {
        if (!correlate(columns, {}, {}, {}, Job())) {
            std::abort();
        }
    };
    compare(fmt::format("correlations of 50 columns, {} rows, against syrk", rows), rounds, 2.0,
            target, baseline);
    for (auto& column : columns) {
        for (std::size_t i = column.name.size(); i < column.cells.size(); i += 29) {
            column.cells[i] = std::nan("");
        }
    }
    compare(fmt::format("the same with holes in every column, {} rows", rows), rounds, 2.0, target,
            baseline);
}

/// A table of noise: y on x1 … xk, and g in groups.
Table noiseTable(std::size_t n, int k, int groups) {
    Table table;
    const auto add = [&](const std::string& name, std::vector<double> cells) {
        table.columns.push_back(Column::ofNumbers(name, std::move(cells)));
        Variable v;
        v.name = name;
        table.variables.push_back(v);
    };
    std::vector<double> y(n, 1.0);
    for (int j = 1; j <= k; ++j) {
        std::vector<double> x(n);
        for (std::size_t i = 0; i < n; ++i) {
            x[i] = noise(i * 131 + static_cast<std::size_t>(j) * 7919);
            y[i] += 0.2 * x[i];
        }
        add("x" + std::to_string(j), std::move(x));
    }
    std::vector<double> g(n);
    for (std::size_t i = 0; i < n; ++i) {
        g[i] = static_cast<double>(i % static_cast<std::size_t>(groups));
        y[i] += noise(i * 977 + 5) + 0.3 * noise(static_cast<std::uint64_t>(g[i]) + 99);
    }
    add("g", std::move(g));
    add("y", std::move(y));
    return table;
}

Question noiseQuestion(int k) {
    Question q;
    q.id = "q1";
    q.outcome = "y";
    for (int j = 1; j <= k; ++j) {
        q.terms.push_back(Term::expression("x" + std::to_string(j)));
    }
    return q;
}

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
    q.trace.effects = {{"x1", "y"}, {"x2", "y"}};
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

/// What keeping a step costs the window's turn, against making it.
void benchJournal(int rounds) {
    const auto demo = readStudyFile(RAPPORTO_DEMO_STUDY);
    if (!demo) {
        return;
    }
    const QTemporaryDir place;
    Journal journal(place.path().toStdString());
    journal.begin({}, *demo);
    Study study = *demo;
    constexpr int kSteps = 50;
    compare(
        "50 steps noted in the journal / 50 steps made", rounds, 1.0,
        [&] {
            for (int i = 0; i < kSteps; ++i) {
                journal.note(study, "step");
            }
        },
        [&] {
            journal.flush();
            for (int i = 0; i < kSteps; ++i) {
                study = *apply(study, {SetTitle{std::to_string(i)}, "step"});
            }
            study.trail = demo->trail;
        });
}

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

void benchWindow(int rounds) {
    app::MainWindow window;
    window.resize(1280, 800);
    window.show();
    window.session().openDemo();
    window.settle();
    window.showStage(2);
    window.settle();
    PaintSpy spy;
    window.findChild<app::EffectRows*>()->installEventFilter(&spy);
    int turn = 0;
    const auto change = [&] {
        Question q = *window.session().question();
        q.errors = ErrorSpec{"robust", turn % 2 == 0 ? "HC3" : "HC1", {}};
        q.where = fmt::format("age > {}", 18 + turn++);  // Never the same, so never from the cache.
        const auto from = std::chrono::steady_clock::now();
        window.session().putQuestion(q, "bench");
        while (!window.session().isFresh()) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        // The answer is there; now until the effect rows have drawn it.
        const int before = spy.paints;
        while (spy.paints == before) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    };
    absolute("demo: slot change to painted effects", rounds * 3, 0.03, [&] {
        // A person looks at what is there before the next change.
        while (!window.session().bench().isIdle() || !window.session().isComplete()) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        QApplication::processEvents();
        return change();
    });
    absolute("demo: the same while checks are still coming in", rounds * 3, 0.05, change);
    while (!window.session().bench().isIdle() || !window.session().isComplete()) {
        QApplication::processEvents(QEventLoop::AllEvents, 1);
    }
    window.showStage(5);
    window.settle();
    auto* paper = window.findChild<app::PageView*>();
    PaintSpy turned;
    paper->viewport()->installEventFilter(&turned);
    absolute("report: one item set to its page painted", rounds * 3, 1.0 / 30.0, [&] {
        auto items = reportItems(window.session().study());
        items[1].table.below = ++turn % 2 == 0 ? "interval" : "error";
        const auto from = std::chrono::steady_clock::now();
        window.session().edit(SetReport{items}, "bench");
        const int before = turned.paints;
        while (turned.paints == before) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    });
    {
        // A page of the grid further down or up each time, over ten million rows.
        constexpr std::size_t kRows = 10'000'000;
        Table large;
        for (const char* name : {"a", "b", "c", "d", "e", "f"}) {
            const auto salt = static_cast<std::size_t>(name[0]);
            std::vector<double> cells(kRows);
            for (std::size_t i = 0; i < kRows; ++i) {
                cells[i] = static_cast<double>((i * salt) % 1000003) / 8.0;
            }
            large.columns.push_back(Column::ofNumbers(name, std::move(cells)));
            Variable v;
            v.name = name;
            large.variables.push_back(v);
        }
        app::GridModel model(nullptr);
        model.showTable(std::make_shared<const Table>(std::move(large)));
        QTableView grid;
        app::dressTable(&grid);
        grid.setModel(&model);
        grid.resize(720, 560);
        grid.show();
        QApplication::processEvents();
        auto* bar = grid.verticalScrollBar();
        PaintSpy painted;
        grid.viewport()->installEventFilter(&painted);
        int page = 0;
        absolute("grid of 1e7 rows: scrolled to painted", 120, 1.0 / 60.0, [&] {
            const auto from = std::chrono::steady_clock::now();
            const int before = painted.paints;
            bar->setValue(static_cast<int>((static_cast<std::int64_t>(++page) * 7919 * 104729) %
                                           bar->maximum()));
            while (painted.paints == before) {
                QApplication::processEvents(QEventLoop::AllEvents, 1);
            }
            return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
        });
    }
    benchPictures();
    benchJournal(rounds);
    absolute("start to first paint of the demo's answer, in process", 3, 1.0, [&] {
        const auto from = std::chrono::steady_clock::now();
        app::MainWindow other;
        other.resize(1280, 800);
        other.show();
        other.session().openDemo();
        other.showStage(2);
        while (!other.session().isFresh()) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        const QPixmap painted = other.grab();
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    });
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

}  // namespace

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    qputenv("RAPPORTO_UNATTENDED", "1");
    QApplication application(argc, argv);
    app::applyTheme(application);
    // --quick ends in a minute; a word runs the group of that name alone.
    std::string only;
    bool quick = false;
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        quick = quick || word == "--quick";
        only = word.starts_with("--") ? only : word;
    }
    const int rounds = quick ? 5 : 9;
    const std::vector<std::pair<std::string, std::function<void()>>> groups = {
        {"least-squares", [&] { benchLeastSquares(quick, rounds); }},
        {"expressions", [&] { benchExpressions(quick, quick ? 3 : 5); }},
        {"csv", [&] { benchCsv(quick, quick ? 3 : 5); }},
        {"correlations", [&] { benchCorrelations(quick, rounds); }},
        {"causes", [&] { benchCauses(quick, rounds); }},
        {"outcomes", [&] { benchOutcomes(quick, rounds); }},
        {"levels", [&] { benchLevels(quick ? 20000 : 100000, rounds); }},
        {"missing", [&] { benchMissing(quick ? 5000 : 20000, rounds); }},
        {"defence", [&] { benchDefence(rounds); }},
        {"left", [&] { benchLeft(quick, rounds); }},
        {"inference", [&] { benchInference(rounds); }},
        {"traces", [&] { benchTraces(rounds); }},
        {"parts", [&] { benchParts(rounds); }},
        {"window", [&] { benchWindow(rounds); }}};
    for (const auto& [name, run] : groups) {
        if (only.empty() || only == name) {
            run();
        }
    }
    return 0;
}
