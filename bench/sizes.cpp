// How often each check rejects a model that is true, at 5 %: sizes [DRAWS] [ROWS]. Run by hand; the
// table stands in docs/methods.md.
#include "core/base/parallel.h"
#include "core/checks/check.h"
#include "core/numerics/random.h"
#include "core/study/study.h"

#include <boost/math/distributions/normal.hpp>
#include <fmt/format.h>
#include <tbb/parallel_for.h>

#include <cstdlib>
#include <map>
#include <mutex>
#include <vector>

using namespace rapporto;

namespace {

double normal(RandomStream& random) {
    return boost::math::quantile(boost::math::normal(), random.uniform() * (1.0 - 2e-16) + 1e-16);
}

/// y on x, z and three groups, every assumption true; rows in time, clusters of six.
Table drawn(std::uint64_t draw, int rows) {
    RandomStream random(20261124, draw);
    std::vector<std::pair<std::string, std::vector<double>>> columns;
    for (const char* name : {"t", "x", "z", "g", "c", "y"}) {
        columns.emplace_back(name, std::vector<double>(static_cast<std::size_t>(rows)));
    }
    for (int i = 0; i < rows; ++i) {
        const auto at = static_cast<std::size_t>(i);
        const double x = normal(random);
        const double z = 0.4 * x + normal(random);
        columns[0].second[at] = i + 1;
        columns[1].second[at] = x;
        columns[2].second[at] = z;
        columns[3].second[at] = i % 3 + 1;
        columns[4].second[at] = i / 6 + 1;
        columns[5].second[at] = 1.0 + x - 0.5 * z + (i % 3 == 1 ? 0.5 : 0.0) + normal(random);
    }
    Table table;
    for (auto& [name, cells] : columns) {
        table.columns.push_back(Column::ofNumbers(name, std::move(cells)));
        Variable v;
        v.name = name;
        v.measure = name == "g" || name == "c" ? Measure::Groups : Measure::Quantity;
        table.variables.push_back(v);
    }
    return table;
}

}  // namespace

int main(int argc, char** argv) {
    const int draws = argc > 1 ? std::atoi(argv[1]) : 10000;
    const int rows = argc > 2 ? std::atoi(argv[2]) : 120;
    setThreads(0);
    Question q;
    q.id = "q1";
    q.outcome = "y";
    q.terms = {Term::expression("x"), Term::expression("z"), Term::expression("g")};
    q.allChecks = false;
    for (const Check& check : allChecks()) {
        CheckRequest request{check.id};
        request.by = request.id == "intraclass" ? "c" : "";
        q.checks.push_back(request);
    }
    const Layout layout{Layout::Kind::Series, "", "t", ""};
    std::map<std::string, std::pair<int, int>> counts;  // Rejected, with a p.
    std::mutex mutex;
    tbb::parallel_for(0, draws, [&](int d) {
        const Frame frame =
            Frame::make(drawn(static_cast<std::uint64_t>(d), rows), {}, {}, {}, layout);
        const Design design = *makeDesign(frame, q, {});
        const Fit fit = *fitLeastSquares(design, q.errors, 0.05, Job());
        const auto results = runChecks(frame, q, design, fit, 0.05, Job());
        const std::lock_guard lock(mutex);
        for (const CheckResult& c : results) {
            if (c.p) {
                counts[c.id].first += *c.p < 0.05 ? 1 : 0;
                counts[c.id].second += 1;
            }
        }
    });
    for (const Check& check : allChecks()) {
        const auto at = counts.find(check.id);
        if (at != counts.end()) {
            fmt::print("{:20} {:6.2f} %  of {}\n", check.id,
                       100.0 * at->second.first / at->second.second, at->second.second);
        }
    }
    return 0;
}
