// Tables read, worked out, correlated and filled in.
#include "bench/bench.h"
#include "core/base/parallel.h"
#include "core/data/frame.h"
#include "core/describe/correlation.h"
#include "core/io/csv.h"
#include "core/numerics/random.h"
#include "core/study/missing_answer.h"

#include <Eigen/Dense>
#include <cblas.h>
#include <fast_float/fast_float.h>
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numeric>
#include <string>
#include <thread>
#include <vector>

namespace rapporto::bench {
namespace {

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

}  // namespace

/// Simple operations over a million rows against copying a column, and a lag over a panel that has
/// to be sorted first against sorting its keys.
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

/// Twenty sets of ten variables, each lacking a tenth of its answers: seven quantities, two yes–no,
/// one of four groups.
void benchMissing(std::size_t n, int rounds) {
    RandomStream random(31, 1);
    const auto normal = [&] { return roughlyNormal(random); };
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

}  // namespace rapporto::bench
