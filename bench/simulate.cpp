// How often checks reject what is true and intervals hold the truth: simulate [DRAWS] [STORY].
// Every check that has a p in a story, at 30, 200 and 2,000 rows, without weights and with sampling
// weights that have nothing to do with the errors. Run by hand; the table stands in
// docs/methods.md.
#include "core/base/parallel.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "core/study/answer.h"

#include <fmt/format.h>
#include <tbb/parallel_for.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <functional>
#include <map>
#include <mutex>
#include <vector>

using namespace rapporto;

namespace {

double normal(RandomStream& random) { return normalQuantile(random.uniform() + 0x1.0p-54); }

double poisson(RandomStream& random, double mean) {
    double k = 0.0;
    for (double left = std::exp(-mean), p = random.uniform(); p > left && k < 10000.0; k += 1.0) {
        p *= random.uniform();
    }
    return k;
}

/// One row: where it stands, and the column names with values that it gets.
using Row = std::map<std::string, double>;

struct Story {
    const char* name;
    std::function<void(RandomStream&, Row&)> outcome;  ///< Adds y to x, z, own (of the unit), …
    std::function<void(Question&)> ask;
    std::map<std::string, double> truth = {};
    bool panel = false;
    std::vector<const char*> checks = {};  ///< Those that are made; none: all.
};

/// Rows in time, or units of five moments; clusters of six.
Table drawn(const Story& story, RandomStream& random, int n) {
    std::map<std::string, std::vector<double>> columns;
    std::vector<double> shared;
    double own = 0.0;
    for (int i = 0; i < n; ++i) {
        const int moment = story.panel ? i % 6 : i;
        own = story.panel && moment > 0 ? own : normal(random);
        if (static_cast<int>(shared.size()) <= moment) {
            shared.push_back(normal(random));
        }
        Row row = {{"t", moment},
                   {"u", story.panel ? i / 6 : 0},
                   {"c", i / 6},
                   {"g", random.below(3)},
                   {"x", normal(random)},
                   {"own", own},
                   {"shared", shared[static_cast<std::size_t>(moment)]},
                   {"w", std::exp(0.5 * normal(random))}};
        row["z"] = 0.4 * row["x"] + normal(random);
        story.outcome(random, row);
        for (const auto& [name, value] : row) {
            columns[name].push_back(value);
        }
    }
    Table table;
    for (const auto& [name, cells] : columns) {
        table.columns.push_back(Column::ofNumbers(name, cells));
        Variable variable;
        variable.name = name;
        variable.measure = name == "g" || name == "c" ? Measure::Groups : Measure::Quantity;
        table.variables.push_back(variable);
    }
    return table;
}

std::vector<Story> stories() {
    const auto terms = [](Question& q, const char* method) {
        q.terms = {Term::expression("x"), Term::expression("z")};
        q.method = method;
    };
    const auto index = [](const Row& row) { return 0.6 * row.at("x") - 0.4 * row.at("z"); };
    const auto line = [index](RandomStream& random, Row& row) {
        row["y"] = 1.0 + index(row) + normal(random);
    };
    const auto ofUnits = [index](RandomStream& random, Row& row) {
        row["y"] = 1.0 + index(row) + row["own"] + 0.8 * normal(random);
    };
    const auto moved = [](RandomStream& random, Row& row) {
        const double hidden = normal(random);
        row["i1"] = normal(random);
        row["i2"] = normal(random);
        row["i3"] = normal(random);
        row["m"] = 0.6 * row["i1"] + 0.5 * row["i2"] + 0.4 * row["i3"] + 0.6 * normal(random);
        row["y"] = 1.0 + 0.6 * row["m"] - 0.4 * row["x"] + 0.7 * normal(random) + 0.0 * hidden;
    };
    return {
        {"least squares",
         line,
         [terms](Question& q) {
             terms(q, "least-squares");
             q.terms.push_back(Term::expression("g"));
         },
         {{"x", 0.6}, {"z", -0.4}}},
        {"instruments",
         moved,
         [](Question& q) {
             q.terms = {Term::expression("x")};
             q.endogenous = {Term::expression("m")};
             q.instruments = {Term::expression("i1"), Term::expression("i2"),
                              Term::expression("i3")};
             q.method = "two-stage";
             q.errors = {"robust", "HC1", {}};
         },
         {{"m", 0.6}, {"x", -0.4}}},
        {"random effects",
         ofUnits,
         [terms](Question& q) { terms(q, "random"); },
         {{"x", 0.6}, {"z", -0.4}},
         true},
        {"units and moments held fixed",
         [ofUnits](RandomStream& random, Row& row) {
             ofUnits(random, row);
             row["y"] += row["shared"];
         },
         [terms](Question& q) {
             terms(q, "least-squares");
             q.fixedEffects = {"u", "t"};
         },
         {{"x", 0.6}, {"z", -0.4}},
         true},
        {"Poisson",
         [index](RandomStream& random, Row& row) {
             row["y"] = poisson(random, std::exp(0.5 + 0.5 * index(row)));
         },
         [terms](Question& q) { terms(q, "poisson"); },
         {{"x", 0.3}, {"z", -0.2}}},
        {"logit",
         [index](RandomStream& random, Row& row) {
             row["y"] = random.uniform() < 1.0 / (1.0 + std::exp(-index(row))) ? 1.0 : 0.0;
         },
         [terms](Question& q) { terms(q, "logit"); },
         {{"x", 0.6}, {"z", -0.4}}},
        {"ordered logit",
         [index](RandomStream& random, Row& row) {
             const double u = random.uniform();
             const double latent = index(row) + std::log(u / (1.0 - u));
             row["y"] = latent < -0.7 ? 0.0 : latent < 0.8 ? 1.0 : 2.0;
         },
         [terms](Question& q) { terms(q, "ordered-logit"); },
         {{"x", 0.6}, {"z", -0.4}}},
        {"median",
         line,
         [terms](Question& q) {
             terms(q, "quantile");
             q.errors.kind = "robust";
         },
         {{"x", 0.6}, {"z", -0.4}}},
        {"MM", line, [terms](Question& q) { terms(q, "mm"); }, {{"x", 0.6}, {"z", -0.4}}},
        // A cause by lot that does nothing, its law beside it: few have it, and what is left is
        // skewed and uneven.
        {"lots of rows",
         [](RandomStream& random, Row& row) {
             row["d"] = random.uniform() < 0.2 ? 1.0 : 0.0;
             row["y"] = row["z"] + (1.0 + std::abs(row["z"])) * std::exp(normal(random));
         },
         [](Question& q) {
             q.terms = {Term::expression("d"), Term::expression("z")};
             q.errors = {"robust", "HC1", {}};
             q.byLot = LotRequest{"d", {}, "", 999, 1};
         },
         {{"d", 0.0}},
         false,
         {"by-lot"}},
        {"lots within three groups",
         [](RandomStream& random, Row& row) {
             row["d"] = random.uniform() < 0.1 + 0.3 * row["g"] ? 1.0 : 0.0;
             row["y"] = 2.0 * row["g"] + normal(random);
         },
         [](Question& q) {
             q.terms = {Term::expression("d"), Term::expression("g")};
             q.byLot = LotRequest{"d", {"g"}, "", 999, 1};
         },
         {{"d", 0.0}},
         false,
         {"by-lot"}},
        // Units of six moments, an echo within them.
        {"lots of units",
         [](RandomStream& random, Row& row) {
             row["d"] = row["own"] > 0.5 ? 1.0 : 0.0;
             row["y"] = std::cos(37.0 * row["u"]) + 0.5 * row["shared"] + 0.5 * normal(random);
         },
         [](Question& q) {
             q.terms = {Term::expression("d")};
             q.errors = ErrorSpec::clusteredBy("u");
             q.byLot = LotRequest{"d", {}, "u", 999, 1};
         },
         {{"d", 0.0}},
         true,
         {"by-lot"}},
        {"HC3, few rows",
         line,
         [terms](Question& q) {
             terms(q, "least-squares");
             q.errors = {"robust", "HC3", {}};
         },
         {{"x", 0.6}, {"z", -0.4}}},
    };
}

struct Tally {
    int hits = 0;
    int of = 0;
};

using Table2 = std::map<std::string, std::map<std::string, Tally>>;  ///< Row name, column name.

void simulate(const Story& story, int rows, bool weighted, int draws, Table2& out,
              const std::string& column) {
    Question q;
    q.id = "q";
    q.outcome = "y";
    story.ask(q);
    q.allChecks = false;
    for (const Check& check : allChecks()) {
        CheckRequest request{check.id};
        const bool wanted =
            story.checks.empty() || std::any_of(story.checks.begin(), story.checks.end(),
                                                [&](const char* id) { return request.id == id; });
        if (!wanted) {
            continue;
        }
        request.by = request.id == "intraclass" ? "c" : "";
        q.checks.push_back(request);
    }
    if (weighted) {
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
        if (q.errors.kind == "classical" && q.method == "least-squares") {
            q.errors = {"robust", "HC1", {}};
        }
    }
    Layout layout{story.panel ? Layout::Kind::Panel : Layout::Kind::Series, story.panel ? "u" : "",
                  "t", ""};
    Study study;
    study.layout = layout;
    std::mutex mutex;
    tbb::parallel_for(0, draws, [&](int d) {
        RandomStream random(20261129,
                            static_cast<std::uint64_t>(d) * 7 + static_cast<unsigned>(rows));
        const Frame frame = Frame::make(drawn(story, random, rows), {}, {}, {}, layout);
        const Answer a = answerQuestion(study, frame, q, Job());
        const std::lock_guard lock(mutex);
        if (a.refusal) {
            ++out["refused"][column].hits;
            return;
        }
        for (const CheckResult& c : a.checks) {
            if (c.p) {
                out[c.id][column].hits += *c.p < 0.05 ? 1 : 0;
                ++out[c.id][column].of;
            }
        }
        for (const Coefficient& c : a.fit->coefficients) {
            const auto truth = story.truth.find(c.term);
            if (truth != story.truth.end()) {
                if (truth->second == 0.0 && c.p) {
                    Tally& law = out["~ law rejects " + c.term][column];
                    law.hits += *c.p < 0.05 ? 1 : 0;
                    ++law.of;
                }
                Tally& own = out["~ holds " + c.term][column];
                own.hits += c.low <= truth->second && truth->second <= c.high ? 1 : 0;
                ++own.of;
            }
        }
    });
}

}  // namespace

int main(int argc, char** argv) {
    const int draws = argc > 1 ? std::atoi(argv[1]) : 1000;
    const std::string only = argc > 2 ? argv[2] : "";
    setThreads(0);
    for (const Story& story : stories()) {
        if (!only.empty() && only != story.name) {
            continue;
        }
        Table2 found;
        std::vector<std::string> columns;
        for (const bool weighted : {false, true}) {
            for (const int rows : {30, 200, 2000}) {
                const std::string column = fmt::format("{}{}", rows, weighted ? " w" : "");
                columns.push_back(column);
                simulate(story, rows, weighted, rows > 1000 ? draws / 4 : draws, found, column);
            }
        }
        fmt::print("\n{} ({} draws; a quarter at 2000 rows)\n{:28}", story.name, draws, "percent");
        for (const auto& column : columns) {
            fmt::print("{:>9}", column);
        }
        fmt::print("\n");
        for (const auto& [name, by] : found) {
            fmt::print("{:28}", name);
            for (const auto& column : columns) {
                const auto at = by.find(column);
                if (at == by.end() || (at->second.of == 0 && at->second.hits == 0)) {
                    fmt::print("{:>9}", "–");
                } else if (at->second.of == 0) {
                    fmt::print("{:>9}", at->second.hits);
                } else {
                    fmt::print("{:9.1f}", 100.0 * at->second.hits / at->second.of);
                }
            }
            fmt::print("\n");
        }
        std::fflush(stdout);
    }
    return 0;
}
