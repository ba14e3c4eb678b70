// How a trace is written down, answered, and told in the results file.
#include "core/paths/trace_kind.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/model/estimator.h"
#include "core/paths/trace.h"
#include "core/study/known_checks.h"
#include "core/study/question_codec.h"
#include "core/study/results.h"

#include <algorithm>
#include <cmath>
#include <mutex>
#include <set>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

void readPaths(JsonReader& in, TraceSpec& spec) {
    for (const Json* one : in.list("paths", most::kTerms)) {
        JsonReader path(*one, "paths");
        PathSpec made;
        made.to = path.text("to");
        readTerms(path, made.from, "from", false);
        made.estimator = path.text("estimator", made.estimator);
        if (!hasTrait(made.estimator, trait::kEquation)) {
            std::vector<std::string> known;
            for (const Estimator& way : allEstimators()) {
                if (way.has(trait::kEquation)) {
                    known.emplace_back(way.method);
                }
            }
            path.fault("a path has no estimator ‘" + made.estimator + "’",
                       "Estimators are " + joinedNames(known) + ".");
        }
        in.close(path);
        spec.paths.push_back(std::move(made));
    }
}

std::vector<ModeratorValues> readModerators(const Json& json, JsonReader& in) {
    std::vector<ModeratorValues> out;
    if (json.is_null()) {
        return out;
    }
    if (!json.is_object()) {
        in.fault("‘at’ names moderators with their values, as in {\"irrigated\": [0, 1]}");
        return out;
    }
    for (const auto& [name, value] : json.items()) {
        ModeratorValues one{name, {}};
        const auto add = [&](const Json& cell) {
            const auto key =
                cell.is_boolean() ? std::optional(Key(cell.get<bool>() ? 1.0 : 0.0)) : keyOf(cell);
            key ? one.values.push_back(*key)
                : in.fault("a value of ‘" + one.name + "’ is a number or a text");
        };
        if (value.is_array()) {
            std::for_each(value.begin(), value.end(), add);
        } else {
            add(value);
        }
        if (one.values.empty()) {
            in.fault("‘" + name + "’ has no value in ‘at’");
        }
        out.push_back(std::move(one));
    }
    return out;
}

void readPairs(JsonReader& in, TraceSpec& spec) {
    for (const Json* one : in.list("effects", most::kRequests)) {
        JsonReader pair(*one, "effects");
        TracedPair made;
        made.from = pair.text("from");
        made.to = pair.text("to");
        if (made.from.empty() || made.to.empty()) {
            pair.fault("an effect says ‘from’ what ‘to’ what");
        }
        made.at = readModerators(pair.at("at"), pair);
        if (pair.has("change")) {
            const Json& change = pair.at("change");
            if (change.is_array() && change.size() == 2 && change[0].is_number() &&
                change[1].is_number()) {
                made.change = {change[0].get<double>(), change[1].get<double>()};
            } else {
                pair.fault("‘change’ is a pair of values of the cause");
            }
        }
        in.close(pair);
        spec.effects.push_back(std::move(made));
    }
}

void readDraws(JsonReader& in, TraceSpec& spec) {
    spec.resampling = in.text("resampling");
    spec.by = in.texts("by");
    spec.interval = in.text("interval", spec.interval);
    spec.draws = static_cast<int>(in.whole("draws", spec.draws, 20.0, 1e7));
    if (in.has("seed")) {
        spec.seed = static_cast<std::uint64_t>(in.whole("seed", 1.0, 0.0, most::kCount));
    }
    const std::set<std::string> resamplings = {"", "rows", "clusters", "parametric"};
    if (!resamplings.contains(spec.resampling)) {
        in.fault("there is no resampling ‘" + spec.resampling + "’",
                 "Draws are of rows, clusters or parametric.");
    }
    const std::set<std::string> intervals = {"bias-corrected", "percentile", "bca", "delta"};
    if (!intervals.contains(spec.interval)) {
        in.fault("there is no interval ‘" + spec.interval + "’",
                 "Intervals are bias-corrected, percentile, bca and delta.");
    }
    if (spec.resampling == "clusters" && spec.by.size() != 1) {
        in.fault("draws of clusters name one variable in ‘by’");
    } else if (spec.resampling != "clusters" && !spec.by.empty()) {
        in.fault("‘by’ belongs to draws of clusters",
                 "Say \"resampling\": \"clusters\", or take it out.");
    }
}

void readTrace(JsonReader& in, Question& q) {
    readPaths(in, q.trace);
    readTerms(in, q.trace.holding, "holding", false);
    readPairs(in, q.trace);
    q.trace.muted = in.texts("muted");
    readDraws(in, q.trace);
    readErrors(in.at("errors"), q, in);
    readWeights(in.at("weights"), q, in);
    if (const Json& places = in.at("places"); places.is_object()) {
        for (const auto& [name, at] : places.items()) {
            const bool pair =
                at.is_array() && at.size() == 2 && at[0].is_number() && at[1].is_number();
            if (pair) {
                q.trace.places[name] = {at[0].get<double>(), at[1].get<double>()};
            } else {
                in.fault("a place is a pair of shares of the picture’s width and height");
            }
        }
    } else if (!places.is_null()) {
        in.fault("‘places’ names nodes with where they stand");
    }
}

Json pairsJson(const TraceSpec& spec) {
    Json list = Json::array();
    for (const TracedPair& pair : spec.effects) {
        Json one{{"from", pair.from}, {"to", pair.to}};
        for (const ModeratorValues& moderator : pair.at) {
            Json values = Json::array();
            for (const Key& value : moderator.values) {
                values.push_back(keyJson(value));
            }
            one["at"][moderator.name] = std::move(values);
        }
        if (pair.change) {
            one["change"] = Json::array({pair.change->first, pair.change->second});
        }
        list.push_back(std::move(one));
    }
    return list;
}

void writeTrace(JsonWriter& out, const Question& q) {
    const TraceSpec& spec = q.trace;
    Json paths = Json::array();
    for (const PathSpec& path : spec.paths) {
        Json one{{"to", path.to}, {"from", termsJson(path.from)}};
        if (path.estimator != PathSpec{}.estimator) {
            one["estimator"] = path.estimator;
        }
        paths.push_back(std::move(one));
    }
    Json places = Json::object();
    for (const auto& [name, at] : spec.places) {
        places[name] = Json::array({at.x, at.y});
    }
    const TraceSpec plain;
    out.put("paths", paths, Json());
    out.put("holding", termsJson(spec.holding), Json::array());
    out.put("effects", pairsJson(spec), Json::array());
    out.put("muted", spec.muted, Json::array());
    out.put("resampling", spec.resampling, "");
    out.put("by", spec.by, Json::array());
    out.put("draws", spec.draws, plain.draws);
    out.put("interval", spec.interval, plain.interval);
    out.put("seed", spec.seed ? Json(*spec.seed) : Json(), Json());
    writeErrors(out, q);
    writeWeights(out, q);
    writeRows(out, q);
    writeChecks(out, q);
    out.put("places", places, Json::object());
}

/// Puts an expression in place of another throughout.
void replaceText(TraceSpec& spec, const std::string& from, const std::string& to) {
    const auto same = [&](const std::string& text) {
        const auto parsed = Expression::parse(text);
        return text == from || (parsed && parsed->canonical() == from);
    };
    eachText(spec, [&](std::string& text) { text = same(text) ? to : text; });
    eachNodeName(spec, [&](std::string& name) { name = same(name) ? to : name; });
}

/// A remedy of an equation as one of the whole trace; nothing where it has none.
std::optional<Remedy> asTraceRemedy(const Remedy& remedy, const Question& equation,
                                    const Question& trace) {
    const Question& changed = remedy.variant;
    if (changed.method != equation.method || changed.weightKind != equation.weightKind ||
        changed.fixedEffects != equation.fixedEffects || !changed.endogenous.empty()) {
        return std::nullopt;
    }
    Question variant = trace;
    variant.id.clear();
    variant.variantOf = trace.variantOf.empty() ? trace.id : trace.variantOf;
    variant.lead = false;
    variant.title = changed.title;
    variant.where = changed.where;
    variant.without = changed.without;
    variant.errors = changed.errors;
    if (changed.errors.kind == "bootstrap") {
        return std::nullopt;
    }
    const auto missingIn = [](const std::vector<Term>& terms, const std::vector<Term>& from) {
        std::vector<Term> out;
        std::copy_if(terms.begin(), terms.end(), std::back_inserter(out), [&](const Term& term) {
            return std::find(from.begin(), from.end(), term) == from.end();
        });
        return out;
    };
    const auto added = missingIn(changed.terms, equation.terms);
    const auto gone = missingIn(equation.terms, changed.terms);
    for (PathSpec& path : variant.trace.paths) {
        if (path.to != equation.outcome) {
            continue;
        }
        for (const Term& term : gone) {
            if (std::find(path.from.begin(), path.from.end(), term) == path.from.end()) {
                return std::nullopt;  // It is held in every equation.
            }
            std::erase(path.from, term);
        }
        path.from.insert(path.from.end(), added.begin(), added.end());
    }
    if (changed.outcome != equation.outcome) {
        replaceText(variant.trace, equation.outcome, changed.outcome);
    }
    const bool any = !variant.sameAs(trace) &&
                     (!added.empty() || !gone.empty() || changed.outcome != equation.outcome ||
                      !(changed.errors == equation.errors) || changed.where != equation.where ||
                      changed.without != equation.without);
    return any ? std::optional(Remedy{remedy.label, remedy.why, variant}) : std::nullopt;
}

/// Where the trace has no way of mending an equation: the equation as a question of its own, which
/// can be asked every other way.
Remedy byItself(const Question& equation, const std::string& to, const Question& trace) {
    Question variant = equation;
    variant.id.clear();
    variant.variantOf = trace.variantOf.empty() ? trace.id : trace.variantOf;
    variant.lead = false;
    variant.title = "what explains " + to;
    return {"Ask what explains " + to + " by itself",
            "as a question of its own it can be asked by every estimator", variant};
}

/// A check of an equation, with next steps for the whole trace.
CheckResult asTraceCheck(CheckResult check, const TraceEquation& equation, const Question& trace) {
    check.equation = "to " + equation.to;
    std::vector<Remedy> remedies;
    for (const Remedy& remedy : check.remedies) {
        if (auto own = asTraceRemedy(remedy, equation.question, trace)) {
            remedies.push_back(*std::move(own));
        }
    }
    if (isDoubt(check.verdict) && remedies.empty() && !check.remedies.empty()) {
        remedies.push_back(byItself(equation.question, equation.to, trace));
    }
    check.remedies = std::move(remedies);
    return check;
}

/// The checks of all equations, shown as they come.
class EquationChecks {
  public:
    EquationChecks(Answer& answer, const Trace& trace, const Making& making)
        : answer_(answer), trace_(trace), making_(making), own_(trace.equations.size()) {
        ofWhole_ = answer.checks;
        for (std::size_t e = 0; e < own_.size(); ++e) {
            take(e, awaitedChecks(trace.equations[e].question));
        }
    }

    /// Shows what is there.
    void show() {
        const std::scoped_lock lock(mutex_);
        gather();
        if (making_.show) {
            making_.show(answer_);
        }
    }

    /// Puts all of them into the answer.
    void gather() {
        answer_.checks = ofWhole_;
        for (const auto& checks : own_) {
            answer_.checks.insert(answer_.checks.end(), checks.begin(), checks.end());
        }
    }

    void run(const Frame& frame) {
        inParallel(own_.size(), [&](std::size_t e) {
            const TraceEquation& equation = trace_.equations[e];
            CheckRun run{frame,
                         equation.question,
                         *equation.design,
                         *equation.fit,
                         answer_.alpha,
                         equation.checkRows,
                         {}};
            if (making_.show) {
                run.tell = [&](const std::vector<CheckResult>& checks) {
                    take(e, checks);
                    show();
                };
            }
            if (making_.known != nullptr) {
                making_.known->serve(run);
            }
            take(e, runChecks(run, making_.job.quiet()));
        });
    }

  private:
    void take(std::size_t e, const std::vector<CheckResult>& checks) {
        std::vector<CheckResult> told;
        for (const CheckResult& check : checks) {
            told.push_back(asTraceCheck(check, trace_.equations[e], answer_.question));
        }
        const std::scoped_lock lock(mutex_);
        own_[e] = std::move(told);
    }

    Answer& answer_;
    const Trace& trace_;
    const Making& making_;
    std::mutex mutex_;
    std::vector<CheckResult> ofWhole_;
    std::vector<std::vector<CheckResult>> own_;
};

Result<void> answerTrace(Answer& answer, const Study& study, const Frame& frame,
                         const Making& making) {
    const Job& job = making.job;
    auto found = traceCauses(study, frame, answer.question, answer.rows, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    const auto trace = std::make_shared<const Trace>(*std::move(found));
    answer.trace = trace;
    answer.checks = runTraceChecks(frame, answer.question, *trace, answer.alpha, job);
    EquationChecks checks(answer, *trace, making);
    checks.show();
    checks.run(frame);
    if (job.stopped()) {
        return stoppedWork();
    }
    checks.gather();
    return {};
}

Json atJson(const ModeratorSetting& at) {
    if (at.empty()) {
        return {};
    }
    Json json = Json::object();
    for (const auto& [name, value] : at) {
        json[name] = keyJson(value);
    }
    return json;
}

Json effectsJson(const Trace& trace) {
    Json list = Json::array();
    for (const TraceEffect& e : trace.effects) {
        list.push_back(Json{{"from", e.from},
                            {"to", e.to},
                            {"kind", e.kind},
                            {"through", e.through},
                            {"at", atJson(e.at)},
                            {"estimate", numberJson(e.estimate)},
                            {"se", numberJson(e.se)},
                            {"low", numberJson(e.low)},
                            {"high", numberJson(e.high)},
                            {"p", numberJson(e.p)},
                            {"standardised", numberJson(e.standardised)}});
        if (e.change) {
            list.back()["change"] = Json::array({e.change->first, e.change->second});
        }
        if (e.rounding) {
            list.back()["rounding"] = numberJson(e.rounding);
        }
    }
    return list;
}

Json fitJson(const std::optional<SystemFit>& fit) {
    if (!fit) {
        return {};
    }
    return Json{{"chi2", numberJson(fit->chi2)},
                {"df", wholeJson(fit->df)},
                {"p", numberJson(fit->p)},
                {"cfi", numberJson(fit->cfi)},
                {"tli", numberJson(fit->tli)},
                {"rmsea", numberJson(fit->rmsea)},
                {"rmsea_low", numberJson(fit->rmseaLow)},
                {"rmsea_high", numberJson(fit->rmseaHigh)},
                {"srmr", numberJson(fit->srmr)}};
}

Json equationsJson(const Trace& trace) {
    Json list = Json::array();
    for (const TraceEquation& equation : trace.equations) {
        const FitStatistics& s = equation.fit->statistics;
        list.push_back(Json{{"to", equation.to},
                            {"rows", wholeJson(equation.fit->n)},
                            {"r_squared", numberJson(s.rSquared)},
                            {"adjusted_r_squared", numberJson(s.adjustedRSquared)},
                            {"sigma", numberJson(s.sigma)}});
    }
    return list;
}

}  // namespace

void traceResults(Json& one, const Answer& answer) {
    const Trace& trace = *answer.trace;
    one["coefficients"] = coefficientsJson(trace.coefficients, answer.alpha);
    one["covariance"] = matrixJson(trace.covariance);
    one["fit"] = Json();
    one["equations"] = equationsJson(trace);
    Json shares = Json::array();
    for (const TraceShare& share : trace.shares) {
        shares.push_back(Json{{"from", share.from},
                              {"to", share.to},
                              {"at", atJson(share.at)},
                              {"share", numberJson(share.share)},
                              {"low", numberJson(share.low)},
                              {"high", numberJson(share.high)}});
    }
    Json verdicts = Json::array();
    for (const TraceVerdict& verdict : trace.verdicts) {
        verdicts.push_back(Json{{"from", verdict.from},
                                {"to", verdict.to},
                                {"through", verdict.through ? Json(*verdict.through) : Json()},
                                {"at", atJson(verdict.at)},
                                {"verdict", verdict.verdict}});
    }
    Json sensitivity = Json::array();
    for (const TraceSensitivity& one_ : trace.sensitivity) {
        sensitivity.push_back(Json{{"from", one_.from},
                                   {"to", one_.to},
                                   {"through", one_.through},
                                   {"rho_zero", numberJson(one_.rhoZero)}});
    }
    one["trace"] = Json{{"effects", effectsJson(trace)},
                        {"share_through", shares},
                        {"fit", fitJson(trace.fit)},
                        {"draws", Json{{"asked", trace.asked}, {"failed", trace.failed}}},
                        {"verdicts", verdicts},
                        {"sensitivity", sensitivity}};
    one["checks"] = checksJson(answer.checks);
    Json dropped = Json::array();
    for (const TraceEquation& equation : trace.equations) {
        for (const DroppedTerm& term : equation.fit->dropped) {
            dropped.push_back(Json{
                {"equation", "to " + equation.to}, {"term", term.name}, {"reason", term.reason}});
        }
    }
    one["dropped_terms"] = dropped;
    one["warnings"] = trace.warnings;
}

QuestionKind traceKind() {
    return {"trace",
            "trace a cause",
            {"paths", "holding", "effects", "muted", "resampling", "by", "draws", "interval",
             "seed", "errors", "weights", "places"},
            readTrace,
            writeTrace,
            answerTrace,
            traceResults,
            traceSentence,
            traceReading,
            traceMethods,
            traceReport};
}

}  // namespace rapporto
