// Times and their ratios, and tables of noise.
#include "bench/bench.h"

#include <fmt/format.h>
#include <sys/times.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <fstream>
#include <functional>
#include <string>
#include <vector>

namespace rapporto::bench {
namespace {

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

}  // namespace

double seconds(const std::function<void()>& work) {
    const auto from = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
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

double noise(std::uint64_t i) {
    i = (i + 1) * 0x9E3779B97F4A7C15ULL;
    i = (i ^ (i >> 30U)) * 0xBF58476D1CE4E5B9ULL;
    i = (i ^ (i >> 27U)) * 0x94D049BB133111EBULL;
    return static_cast<double>((i ^ (i >> 31U)) >> 11U) / 9007199254740992.0 - 0.5;
}

double roughlyNormal(RandomStream& random) {
    double sum = -6.0;
    for (int k = 0; k < 12; ++k) {
        sum += random.uniform();
    }
    return sum;
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

}  // namespace rapporto::bench
