// How often 95 % intervals hold the truth: cover [DRAWS]. Run by hand; the table stands in
// docs/methods.md.
#include "core/base/parallel.h"
#include "core/model/event_study.h"
#include "core/numerics/random.h"
#include "core/paths/trace.h"
#include "core/study/answer.h"

#include <boost/math/distributions/normal.hpp>
#include <fmt/format.h>
#include <tbb/parallel_for.h>

#include <cmath>
#include <cstdlib>
#include <functional>
#include <mutex>
#include <vector>

using namespace rapporto;

namespace {

double normal(RandomStream& random) {
    return boost::math::quantile(boost::math::normal(), random.uniform() * (1.0 - 2e-16) + 1e-16);
}

int poisson(RandomStream& random, double mean) {
    int k = 0;
    for (double left = std::exp(-mean), p = random.uniform(); p > left && k < 10000; ++k) {
        p *= random.uniform();
    }
    return k;
}

/// A gamma of shape 2 and mean 1: dispersion one half.
double gammaTwo(RandomStream& random) {
    return -0.5 * (std::log(random.uniform() + 1e-300) + std::log(random.uniform() + 1e-300));
}

using Columns = std::vector<std::pair<std::string, std::vector<double>>>;

Table tableOf(const Columns& columns) {
    Table table;
    for (const auto& [name, cells] : columns) {
        table.columns.push_back(Column::ofNumbers(name, cells));
        Variable v;
        v.name = name;
        table.variables.push_back(v);
    }
    return table;
}

/// One way of drawing data with what is asked of them and the truth.
struct Story {
    const char* name;
    std::function<Columns(RandomStream&)> draw;
    std::function<void(Question&)> ask;
    std::vector<std::pair<std::string, double>> truth;
    bool panel = false;
    std::function<void(Study&)> declare = {};  ///< What the study says beside its question.
};

Columns rowsOf(RandomStream& random, int n,
               const std::function<double(RandomStream&, double, double, double)>& outcome) {
    Columns out = {{"y", {}}, {"x", {}}, {"p", {}}, {"z", {}}, {"z2", {}}};
    for (int i = 0; i < n; ++i) {
        const double x = normal(random);
        const double u = normal(random);
        const double z = normal(random);
        const double z2 = normal(random);
        const double p = 0.5 * x + 0.6 * z + 0.4 * z2 + 0.7 * u + 0.6 * normal(random);
        const double values[] = {outcome(random, x, p, u), x, p, z, z2};
        for (std::size_t c = 0; c < out.size(); ++c) {
            out[c].second.push_back(values[c]);
        }
    }
    return out;
}

/// @param together  how far x goes with the unit’s level.
Columns unitsOf(RandomStream& random, int units, int moments, double carried,
                double together = 0.5) {
    Columns out = {{"u", {}}, {"t", {}}, {"y", {}}, {"x", {}}, {"on", {}}};
    for (int u = 0; u < units; ++u) {
        const double level = normal(random);
        double y = level / (1.0 - carried) + normal(random);
        const int start = u % 3 == 0 ? 99 : 3 + 2 * (u % 3);
        for (int t = -10; t < moments; ++t) {
            const double x = together * level + normal(random);
            const bool on = t >= start;
            y = carried * y + 0.7 * x + level + (on ? 0.5 + 0.25 * (t - start) : 0.0) +
                0.8 * normal(random);
            if (t >= 0) {
                const double values[] = {double(u), double(t), y, x, on ? 1.0 : 0.0};
                for (std::size_t c = 0; c < out.size(); ++c) {
                    out[c].second.push_back(values[c]);
                }
            }
        }
    }
    return out;
}

std::vector<Story> stories() {
    const auto moved = [](RandomStream& r, double x, double p, double u) {
        return 1.0 + 0.5 * p + 0.3 * x + 0.8 * u + (0.4 + 0.2 * std::abs(x)) * normal(r);
    };
    const auto byInstruments = [](const char* method) {
        return [method](Question& q) {
            q.terms = {Term::expression("x")};
            q.endogenous = {Term::expression("p")};
            q.instruments = {Term::expression("z"), Term::expression("z2")};
            q.method = method;
            q.errors = {"robust", "HC1", {}};
        };
    };
    const auto rate = [](double x) { return std::exp(0.4 + 0.5 * x); };
    const auto plain = [](const char* method, ErrorSpec errors = {}) {
        return [method, errors](Question& q) {
            q.terms = {Term::expression("x")};
            q.method = method;
            q.errors = errors;
        };
    };
    const ErrorSpec robust{"robust", "HC1", {}};
    std::vector<Story> out;
    for (const char* method : {"two-stage", "liml", "fuller", "gmm"}) {
        out.push_back({method,
                       [moved](RandomStream& r) { return rowsOf(r, 300, moved); },
                       byInstruments(method),
                       {{"p", 0.5}, {"x", 0.3}}});
    }
    out.push_back({"within",
                   [](RandomStream& r) { return unitsOf(r, 60, 4, 0.0); },
                   [](Question& q) {
                       q.terms = {Term::expression("x"), Term::expression("on")};
                       q.method = "within";
                       q.where = "t < 3 or on = 0";
                       q.errors = {"clustered", "HC1", {"u"}};
                   },
                   {{"x", 0.7}},
                   true});
    for (const char* method : {"difference-gmm", "system-gmm"}) {
        out.push_back({method,
                       // Levels as instruments ask for terms that do not go with the units’ own.
                       [method](RandomStream& r) {
                           return unitsOf(r, 200, 7, 0.5,
                                          std::string(method) == "system-gmm" ? 0.0 : 0.5);
                       },
                       [method](Question& q) {
                           q.terms = {Term::expression("lag(y)"), Term::expression("x")};
                           q.where = "on = 0";
                           q.method = method;
                           q.settings.collapsed = true;
                           q.settings.depth = 3;
                           q.errors = {"robust", "HC1", {}};
                       },
                       {{"lag(y)", 0.5}, {"x", 0.7}},
                       true});
    }
    for (const char* weighting : {"cohorts", "group-time"}) {
        out.push_back({weighting,
                       [](RandomStream& r) { return unitsOf(r, 90, 10, 0.0); },
                       [weighting](Question& q) {
                           q.terms.clear();
                           q.method = "event-study";
                           q.settings.variable = "on";
                           q.settings.weighting = weighting;
                           q.settings.before = 3;
                           q.settings.after = 3;
                           q.errors = {"clustered", "HC1", {"u"}};
                       },
                       {{"on +0", 0.5}, {"on +1", 0.75}, {"on −2", 0.0}},
                       true});
    }
    out.push_back({"poisson",
                   [rate](RandomStream& r) {
                       return rowsOf(r, 300, [&](RandomStream& q, double x, double, double) {
                           return poisson(q, rate(x));
                       });
                   },
                   plain("poisson"),
                   {{"x", 0.5}}});
    const auto spread = [rate](RandomStream& r) {
        return rowsOf(r, 300, [&](RandomStream& q, double x, double, double) {
            return poisson(q, rate(x) * gammaTwo(q));
        });
    };
    out.push_back({"poisson, robust", spread, plain("poisson", robust), {{"x", 0.5}}});
    out.push_back({"negative-binomial", spread, plain("negative-binomial"), {{"x", 0.5}}});
    const auto yes = [](RandomStream& q, double x, double, double) {
        const double u = q.uniform() * (1.0 - 2e-16) + 1e-16;
        return 0.3 + 0.8 * x + std::log(u / (1.0 - u)) > 0.0 ? 1.0 : 0.0;
    };
    out.push_back({"logit",
                   [yes](RandomStream& r) { return rowsOf(r, 400, yes); },
                   plain("logit"),
                   {{"x", 0.8}}});
    out.push_back({"probit",
                   [](RandomStream& r) {
                       return rowsOf(r, 400, [](RandomStream& q, double x, double, double) {
                           return 0.3 + 0.6 * x + normal(q) > 0.0 ? 1.0 : 0.0;
                       });
                   },
                   plain("probit"),
                   {{"x", 0.6}}});
    out.push_back({"ordered-logit",
                   [](RandomStream& r) {
                       return rowsOf(r, 400, [](RandomStream& q, double x, double, double) {
                           const double u = q.uniform() * (1.0 - 2e-16) + 1e-16;
                           const double latent = 0.8 * x + std::log(u / (1.0 - u));
                           return 1.0 + (latent > -1.0) + (latent > 0.4) + (latent > 1.6);
                       });
                   },
                   plain("ordered-logit"),
                   {{"x", 0.8}, {"cut 2", 0.4}}});
    const auto wide = [](RandomStream& q, double x, double, double) {
        return 1.0 + 0.5 * x + (1.0 + 0.3 * std::abs(x)) * normal(q);
    };
    out.push_back({"median, sandwich",
                   [wide](RandomStream& r) { return rowsOf(r, 400, wide); },
                   plain("quantile", ErrorSpec{"kernel", "HC1", {}}),
                   {{"x", 0.5}}});
    const auto odd = [](RandomStream& q, double x, double, double) {
        const double e = normal(q);
        return 1.0 + 0.5 * x + (q.uniform() < 0.1 ? 8.0 * e : e);
    };
    for (const char* method : {"huber", "mm"}) {
        out.push_back({method,
                       [odd](RandomStream& r) { return rowsOf(r, 200, odd); },
                       plain(method),
                       {{"x", 0.5}}});
    }
    // Two normal errors, the second with a correlation of .6 to the first.
    const auto joined = [](RandomStream& r, int n) {
        Columns c = {{"y", {}}, {"x", {}}, {"z", {}},  {"m", {}},
                     {"o", {}}, {"k", {}}, {"lo", {}}, {"hi", {}}};
        for (int i = 0; i < n; ++i) {
            const double x = normal(r);
            const double z = normal(r);
            const double e = normal(r);
            const double u = 0.6 * e + 0.8 * normal(r);
            const double y = 1.0 + 0.5 * x + e;
            const double m = 0.5 + 0.9 * z + e;
            const double row[] = {
                0.3 + 0.9 * z + u > 0.0 ? y : std::nan(""),
                x,
                z,
                m,
                -0.2 + 0.5 * m + u > 0.0 ? 1.0 : 0.0,
                static_cast<double>(poisson(r, std::exp(0.3 + 0.2 * m + 0.3 * u))),
                std::floor(y),
                std::floor(y) + 1.0};
            for (std::size_t j = 0; j < c.size(); ++j) {
                c[j].second.push_back(row[j]);
            }
        }
        return c;
    };
    for (const char* method : {"heckman", "heckman-two-step"}) {
        std::vector<std::pair<std::string, double>> truth = {{"x", 0.5}};
        if (std::string(method) == "heckman") {
            truth.emplace_back("rho", 0.6);
        }
        out.push_back({method, [joined](RandomStream& r) { return joined(r, 500); },
                       [method](Question& q) {
                           q.method = method;
                           q.terms = {Term::expression("x")};
                           q.settings.zeroTerms = {"z"};
                       },
                       truth});
    }
    out.push_back({"interval",
                   [joined](RandomStream& r) { return joined(r, 300); },
                   [](Question& q) {
                       q.method = "interval";
                       q.outcome = "lo";
                       q.terms = {Term::expression("x")};
                       q.settings.variable = "hi";
                   },
                   {{"x", 0.5}}});
    for (const char* method : {"probit-instruments", "poisson-control"}) {
        const bool count = std::string(method) == "poisson-control";
        out.push_back({method,
                       [joined](RandomStream& r) { return joined(r, 500); },
                       [method, count](Question& q) {
                           q.method = method;
                           q.outcome = count ? "k" : "o";
                           q.endogenous = {Term::expression("m")};
                           q.instruments = {Term::expression("z")};
                       },
                       {{"m", count ? 0.2 : 0.5}}});
    }
    // The upper quartile within units whose spread grows with x.
    out.push_back({"quantile within",
                   [](RandomStream& r) {
                       Columns c = {{"y", {}}, {"x", {}}, {"u", {}}};
                       for (int u = 0; u < 50; ++u) {
                           const double level = normal(r);
                           for (int t = 0; t < 30; ++t) {
                               const double x = r.uniform() * 2.0;
                               c[0].second.push_back(level + 0.5 * x + (1.0 + 0.3 * x) * normal(r));
                               c[1].second.push_back(x);
                               c[2].second.push_back(u);
                           }
                       }
                       return c;
                   },
                   [](Question& q) {
                       q.method = "quantile";
                       q.settings.at = {0.75};
                       q.terms = {Term::expression("x")};
                       q.fixedEffects = {"u"};
                       q.errors = ErrorSpec{"clustered", "HC1", {"u"}};
                   },
                   {{"x", 0.5 + 0.3 * 0.674489750196082}}});
    // Random constants and slopes of 15 and 50 groups of unequal size: an effect within groups
    // that differs among them, and one of what never changes in a group; slope and constant.
    for (const int groups : {15, 50}) {
        for (const char* law : {"satterthwaite", "kenward-roger"}) {
            static std::vector<std::string> names;
            names.reserve(8);
            names.push_back(fmt::format("levels {} {}", groups, law));
            out.push_back({names.back().c_str(),
                           [groups](RandomStream& r) {
                               Columns c = {{"y", {}}, {"x", {}}, {"z", {}}, {"g", {}}};
                               for (int g = 0; g < groups; ++g) {
                                   const double level = 0.7 * normal(r);
                                   const double slope = 0.5 + 0.3 * level + 0.4 * normal(r);
                                   const double z = normal(r);
                                   for (int i = 0; i < 4 + g % 9; ++i) {
                                       const double x = normal(r);
                                       c[0].second.push_back(0.3 * z + level + slope * x +
                                                             normal(r));
                                       c[1].second.push_back(x);
                                       c[2].second.push_back(z);
                                       c[3].second.push_back(g);
                                   }
                               }
                               return c;
                           },
                           [law](Question& q) {
                               q.method = "multilevel";
                               q.terms = {Term::expression("x"), Term::expression("z")};
                               q.settings.levels = {{"g", {"x"}}};
                               q.settings.lawOfEffects = law;
                           },
                           {{"x", 0.5}, {"z", 0.3}}});
        }
    }
    // Answers that are missing at random given what is seen: x and a yes–no variable lack some by
    // z and by the outcome, so that complete rows are wrong.
    for (const char* missing : {"rows", "imputed", "weighted"}) {
        for (const char* way : {"matching", "normal"}) {
            if (std::string(missing) != "imputed" && std::string(way) == "normal") {
                continue;
            }
            static std::vector<std::string> names;
            names.reserve(100);
            names.push_back(fmt::format("missing {} {}", missing,
                                        std::string(missing) == "imputed" ? way : ""));
            Story story{
                names.back().c_str(),
                [](RandomStream& r) {
                    const double none = std::nan("");
                    Columns c = {{"y", {}}, {"x", {}}, {"w", {}}, {"z", {}}};
                    for (int i = 0; i < 500; ++i) {
                        const double z = normal(r);
                        const double x = 0.6 * z + normal(r);
                        const double w = r.uniform() < 1.0 / (1.0 + std::exp(-x)) ? 1.0 : 0.0;
                        const double y = 0.5 * x + 0.4 * w + 0.3 * z + normal(r);
                        const double gone = 1.0 / (1.0 + std::exp(1.5 - 0.8 * y - 0.4 * z));
                        c[0].second.push_back(y);
                        c[1].second.push_back(r.uniform() < gone ? none : x);
                        c[2].second.push_back(r.uniform() < 0.5 * gone ? none : w);
                        c[3].second.push_back(z);
                    }
                    return c;
                },
                [missing](Question& q) {
                    q.terms = {Term::expression("x"), Term::expression("w"), Term::expression("z")};
                    q.missing = missing;
                    if (q.missing == "weighted") {
                        q.completeBy = {Term::expression("y"), Term::expression("z")};
                    }
                },
                {{"x", 0.5}, {"w", 0.4}, {"z", 0.3}}};
            story.declare = [way](Study& study) {
                study.imputation.variables = {"x", "w"};
                study.imputation.with = {"y", "z"};
                study.imputation.by = {{"x", way}, {"w", "logit"}};
            };
            out.push_back(std::move(story));
        }
    }
    // An indirect effect through one variable, .3 times .4, by each kind of drawn interval.
    for (const int n : {50, 200, 1000}) {
        for (const char* interval : {"percentile", "bias-corrected", "bca", "delta"}) {
            static std::vector<std::string> names;
            names.reserve(100);
            names.push_back(fmt::format("trace {} {}", n, interval));
            out.push_back({names.back().c_str(),
                           [n](RandomStream& r) {
                               Columns c = {{"y", {}}, {"m", {}}, {"x", {}}};
                               for (int i = 0; i < n; ++i) {
                                   const double x = normal(r);
                                   const double m = 0.3 * x + normal(r);
                                   c[0].second.push_back(0.2 * x + 0.4 * m + normal(r));
                                   c[1].second.push_back(m);
                                   c[2].second.push_back(x);
                               }
                               return c;
                           },
                           [interval](Question& q) {
                               q.kind = "trace";
                               q.outcome.clear();
                               PathSpec first;
                               first.to = "m";
                               first.from = {Term::expression("x")};
                               PathSpec second;
                               second.to = "y";
                               second.from = {Term::expression("m"), Term::expression("x")};
                               q.trace.paths = {first, second};
                               q.trace.effects = {{"x", "y"}};
                               q.trace.interval = interval;
                               q.trace.draws = 1999;
                           },
                           {{"through m", 0.12}}});
        }
    }
    return out;
}

}  // namespace

int main(int argc, char** argv) {
    const int draws = argc > 1 ? std::atoi(argv[1]) : 4000;
    const std::string only = argc > 2 ? argv[2] : "";
    setThreads(0);
    for (const Story& story : stories()) {
        if (!only.empty() && only != story.name) {
            continue;
        }
        std::vector<int> held(story.truth.size(), 0);
        int answered = 0;
        std::mutex lock;
        tbb::parallel_for(0, draws, [&](int d) {
            RandomStream random(20261128, static_cast<std::uint64_t>(d));
            Layout layout;
            if (story.panel) {
                layout = {Layout::Kind::Panel, "u", "t", ""};
            }
            const Frame frame = Frame::make(tableOf(story.draw(random)), {}, {}, {}, layout);
            Study study;
            Question q;
            q.id = "q1";
            q.outcome = "y";
            q.allChecks = false;
            story.ask(q);
            if (story.declare) {
                story.declare(study);
                // Each sample is filled in by draws of its own.
                study.seed = static_cast<std::uint64_t>(d) + 1;
            }
            study.questions = {q};
            const Answer answer = answerQuestion(study, frame, q, Job());
            if (answer.refusal) {
                return;
            }
            const auto& effects =
                answer.trace ? answer.trace->effectRows : answer.fit->coefficients;
            const std::lock_guard guard(lock);
            ++answered;
            for (std::size_t t = 0; t < story.truth.size(); ++t) {
                for (const Coefficient& c : effects) {
                    held[t] +=
                        (c.term == story.truth[t].first || c.equation == story.truth[t].first) &&
                                c.low <= story.truth[t].second && c.high >= story.truth[t].second
                            ? 1
                            : 0;
                }
            }
        });
        for (std::size_t t = 0; t < story.truth.size(); ++t) {
            fmt::print("{:22} {:8} {:5.1f} of {}\n", story.name, story.truth[t].first,
                       100.0 * held[t] / std::max(answered, 1), answered);
        }
    }
    return 0;
}
