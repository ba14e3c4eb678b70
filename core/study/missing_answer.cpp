#include "core/study/missing_answer.h"

#include "core/base/border.h"
#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/base/room.h"
#include "core/defend/defence.h"
#include "core/impute/pooling.h"
#include "core/model/forecast.h"
#include "core/model/left_out.h"
#include "core/study/known_sets.h"

#include <algorithm>
#include <cmath>
#include <mutex>
#include <numeric>

namespace rapporto {
namespace {

/// One set with what was estimated on it.
struct OfSet {
    Frame frame;
    Estimated found;
    Answer requests;  ///< Effects, predictions and statements on this set.
};

/// A question that takes the rows as a set has them.
Question askedOfSet(const Question& question) {
    Question out = question;
    out.missing = "rows";
    dropDefence(out);
    return out;
}

/// The part of one set; what refuses says in which set.
Result<OfSet> answerSet(const Answer& answer, const Study& study, const Frame& frame,
                        const ImputedSets& sets, std::size_t set, const Job& job) {
    OfSet out{frameOfSet(study, frame, sets, set), {}, {}};
    out.requests.question = askedOfSet(answer.question);
    out.requests.alpha = answer.alpha;
    auto found =
        estimateQuestion(study, out.frame, out.requests.question, out.requests.rows, job.quiet());
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    out.found = *std::move(found);
    answerRequests(out.requests, study, out.frame, out.found.design, out.found.fit, job.quiet());
    return out;
}

/// All sets, side by side where they are small.
Result<std::vector<OfSet>> answerSets(const Answer& answer, const Study& study, const Frame& frame,
                                      const ImputedSets& sets, const Job& job) {
    constexpr std::size_t kMostBeside = 200000;
    std::vector<std::optional<OfSet>> made(sets.count());
    std::mutex mutex;
    std::optional<std::pair<std::size_t, Refusal>> first;
    const auto one = [&](std::size_t set) {
        if (job.stopped()) {
            return;
        }
        auto part = answerSet(answer, study, frame, sets, set, job);
        const std::scoped_lock lock(mutex);
        if (part) {
            made[set] = *std::move(part);
        } else if (!first || set < first->first) {
            first = {set, part.error()};
        }
    };
    one(0);  // What refuses in every set refuses once.
    if (first) {
        return tl::make_unexpected(first->second);
    }
    if (made[0]) {
        const Design& design = made[0]->found.design;
        const double bytes = static_cast<double>(design.X.size() + 6 * design.y.size()) *
                             sizeof(double) * static_cast<double>(sets.count());
        if (bytes > 0.5 * static_cast<double>(memoryLeft())) {
            return refuse(ErrorCode::TooLarge,
                          "the answers of all sets would take " + fixedNumber(bytes / 1e9, 1) +
                              " GB of memory, and there is less",
                          "missing answers", "Ask for fewer sets in Data, under what is missing.");
        }
    }
    if (frame.rows() <= kMostBeside) {
        inParallel(sets.count() - 1, [&](std::size_t k) { one(k + 1); });
    } else {
        for (std::size_t k = 1; k < sets.count(); ++k) {
            one(k);
        }
    }
    if (job.stopped()) {
        return stoppedWork();
    }
    if (first) {
        Refusal refusal = first->second;
        refusal.what = "in set " + std::to_string(first->first + 1) + " " + refusal.what;
        return tl::make_unexpected(refusal);
    }
    std::vector<OfSet> out;
    for (auto& part : made) {
        out.push_back(*std::move(part));
    }
    return out;
}

/// The same part of every set, or why the first without one has none.
template <class Part, class Of>
Result<std::vector<Part>> collected(const std::vector<OfSet>& sets, Of of) {
    std::vector<Part> out;
    for (const OfSet& set : sets) {
        const Result<Part>& part = of(set);
        if (!part) {
            return tl::make_unexpected(part.error());
        }
        out.push_back(*part);
    }
    return out;
}

/// What is asked of rows, not of several sets, each in its place.
void refuseOfSets(Answer& answer) {
    const Question& q = answer.question;
    const auto refusal = [](const std::string& what) {
        return tl::make_unexpected(
            Refusal{ErrorCode::NotUsed,
                    what + " asked of rows, not of several sets",
                    "missing answers",
                    "Ask it of the same question with the rows that lack nothing.",
                    {}});
    };
    if (q.forecast) {
        answer.forecast = std::make_shared<const Result<Forecast>>(refusal("moments to come are"));
    }
    if (!asksDefence(q)) {
        return;
    }
    Defence defence;
    defence.leftOut = answer.leftOut;
    if (q.byLot) {
        defence.byLot = refusal("lots are");
    }
    if (q.worstCases) {
        defence.worstCases = refusal("worst cases are");
    }
    for (const PlannedRequest& one : q.planned) {
        defence.planned.push_back(plannedSize(*answer.design, *answer.fit, one, answer.alpha));
    }
    answer.defence = std::make_shared<const Defence>(std::move(defence));
}

void poolRequests(Answer& answer, const std::vector<OfSet>& sets) {
    const Question& q = answer.question;
    const Design& design = *answer.design;
    answer.scenarios = sets.front().requests.scenarios;
    const auto note = [&](const auto& part) { noteFault(answer, part); };
    if (!q.predict.empty()) {
        answer.predictions = guarded("the predictions", [&] {
            const auto all = collected<std::vector<Prediction>>(
                sets, [](const OfSet& s) -> auto& { return s.requests.predictions; });
            return all ? pooledPredictions(*all, answer.alpha)
                       : Result<std::vector<Prediction>>(tl::make_unexpected(all.error()));
        });
        note(answer.predictions);
    }
    for (std::size_t k = 0; k < q.effects.size(); ++k) {
        answer.effects.push_back(guarded("the effect of ‘" + q.effects[k].of + "’", [&] {
            const auto all = collected<std::vector<MarginalEffect>>(
                sets, [&](const OfSet& s) -> auto& { return s.requests.effects[k]; });
            return all ? pooledEffects(*all, answer.alpha)
                       : Result<std::vector<MarginalEffect>>(tl::make_unexpected(all.error()));
        }));
        note(answer.effects.back());
    }
    answerStatements(answer, [&](const std::string& text) {
        return pooledHypothesis(design, *answer.fit, text, answer.alpha);
    });
    answerTurns(answer, design, *answer.fit);
    if (q.leftOut) {
        answer.leftOut = tl::make_unexpected(
            Refusal{ErrorCode::NotUsed,
                    "what may be left out is asked of rows, not of several sets",
                    "missing answers",
                    "Ask it of the same question with the rows that lack nothing.",
                    {}});
    }
    refuseOfSets(answer);
}

/// Rows that lack nothing of the question.
std::size_t completeRows(const Study& study, const Frame& frame, const Question& question,
                         const Job& job) {
    RowCounts counts;
    const auto design = makeDesign(frame, askedOfSet(question), study.sets, job.quiet(), &counts);
    return design ? design->rows.size() : counts.used;
}

/// The place of the middle one among the sets where a check says something: by p, else by its
/// statistic, else the first.
std::size_t middleOf(const std::vector<const CheckResult*>& all) {
    std::vector<std::size_t> order(all.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    const auto sortBy = [&](auto of) {
        if (!std::all_of(all.begin(), all.end(),
                         [&](const CheckResult* one) { return of(*one).has_value(); })) {
            return false;
        }
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return *of(*all[a]) < *of(*all[b]); });
        return true;
    };
    if (!sortBy([](const CheckResult& c) { return c.p; }) &&
        !sortBy([](const CheckResult& c) { return c.statistic; })) {
        return 0;
    }
    return order[(order.size() - 1) / 2];
}

CheckResult pooledCheck(const std::vector<const CheckResult*>& all) {
    std::vector<const CheckResult*> said;
    std::copy_if(all.begin(), all.end(), std::back_inserter(said),
                 [](const CheckResult* one) { return one->verdict != Verdict::NotApplicable; });
    if (2 * said.size() <= all.size()) {
        const auto none = std::find_if(all.begin(), all.end(), [](const CheckResult* one) {
            return one->verdict == Verdict::NotApplicable;
        });
        return **none;
    }
    CheckResult out = *said[middleOf(said)];
    const auto doubts = static_cast<std::size_t>(std::count_if(
        said.begin(), said.end(), [](const CheckResult* one) { return isDoubt(one->verdict); }));
    out.reading += " It was made on each of " + std::to_string(all.size()) +
                   " sets that are filled in, and this is the middle one";
    double low = 1.0;
    double high = 0.0;
    bool ranged = true;
    for (const CheckResult* one : said) {
        ranged = ranged && one->p.has_value();
        low = std::min(low, one->p.value_or(1.0));
        high = std::max(high, one->p.value_or(0.0));
    }
    if (ranged) {
        out.reading += ": p runs from " + pText(low) + " to " + pText(high);
        out.details.emplace_back("p lowest", low);
        out.details.emplace_back("p highest", high);
    }
    if (doubts > 0 && doubts < said.size()) {
        out.reading += "; " + plural(doubts, "set gives", "sets give") + " ground to doubt, " +
                       plural(said.size() - doubts, "does", "do") + " not";
    }
    out.reading += ".";
    out.details.emplace_back("sets", static_cast<double>(said.size()));
    out.details.emplace_back("sets in doubt", static_cast<double>(doubts));
    return out;
}

/// A name that no variable has.
std::string freeName(const Frame& frame, std::string name) {
    while (frame.column(name) != nullptr) {
        name += "′";
    }
    return name;
}

tl::unexpected<Refusal> otherWeights() {
    return refuse(ErrorCode::BadSetting,
                  "complete rows that stand for others can have sampling weights, and no others",
                  "missing answers", "Take the weights out, or ask with the rows as they are.");
}

/// Rows of the table that lack nothing of the question; what is held fixed is asked for, and rows
/// alone in a group of it are not taken for incomplete.
Result<std::vector<std::size_t>> rowsLackingNothing(const Study& study, const Frame& frame,
                                                    const Question& question, const Job& job) {
    Question asked = question;
    asked.missing = "rows";
    // Groups held fixed are needed as clusters are, and none of them leaves for being small.
    Question probe = asked;
    if (probe.errors.kind != "clustered" && probe.errors.kind != "survey") {
        probe.errors = ErrorSpec{};
        probe.errors.kind = "clustered";
    }
    probe.errors.by.insert(probe.errors.by.end(), probe.fixedEffects.begin(),
                           probe.fixedEffects.end());
    probe.fixedEffects.clear();
    auto design = question.fixedEffects.empty() ? Result<Design>(tl::make_unexpected(Refusal{}))
                                                : makeDesign(frame, probe, study.sets, job.quiet());
    if (!design) {  // Nothing is held fixed, or the method is made of it.
        design = makeDesign(frame, asked, study.sets, job.quiet());
    }
    return design ? Result<std::vector<std::size_t>>(design->rows)
                  : tl::make_unexpected(design.error());
}

/// What the weights of rows cost by themselves.
double effectOf(const std::vector<double>& weights) {
    double sum = 0.0;
    double squares = 0.0;
    for (const double w : weights) {
        sum += w;
        squares += w * w;
    }
    return sum > 0.0 ? squares * static_cast<double>(weights.size()) / (sum * sum) : 1.0;
}

}  // namespace

Result<std::shared_ptr<const ImputedSets>> setsOf(const Study& study, const Frame& frame,
                                                  const Job& job) {
    const std::string groups = !study.survey.cluster.empty()              ? study.survey.cluster
                               : study.layout.kind == Layout::Kind::Panel ? study.layout.unit
                                                                          : std::string();
    return imputeSets({frame, study.variables, study.derived, study.imputation, study.seed, groups},
                      job);
}

std::function<Result<std::shared_ptr<const ImputedSets>>(const Job&)> setsOnce(const Study& study,
                                                                               const Frame& frame) {
    auto known = std::make_shared<KnownSets>();
    return [known, &study, &frame](const Job& job) {
        return known->get(
            0, [&] { return setsOf(study, frame, job); }, job);
    };
}

Table filledCells(const ImputedSets& sets) {
    std::vector<std::int32_t> codes;
    std::vector<std::string> names;
    std::vector<double> rows;
    for (const ImputedVariable& one : sets.variables) {
        names.push_back(one.name);
        for (const std::size_t row : one.rows) {
            codes.push_back(static_cast<std::int32_t>(names.size() - 1));
            rows.push_back(static_cast<double>(row + 1));
        }
    }
    Table out;
    out.columns = {Column::ofTexts("variable", std::move(codes), std::move(names)),
                   Column::ofNumbers("row", std::move(rows))};
    out.variables.resize(2);
    out.variables[0].name = "variable";
    out.variables[0].measure = Measure::Groups;
    out.variables[1].name = "row";
    return out;
}

Frame frameOfSet(const Study& study, const Frame& frame, const ImputedSets& sets, std::size_t set) {
    return frame.filled(sets.columns(frame, set), study.variables, study.derived);
}

std::vector<std::string> unforetold(const Question& question, const Frame& frame,
                                    const ImputedSets& sets) {
    // Everything that stands behind what is filled in and what foretells it.
    std::set<std::string> known(sets.spec.variables.begin(), sets.spec.variables.end());
    const auto addNames = [](const std::string& text, std::set<std::string>& into) {
        if (const auto parsed = Expression::parse(text)) {
            into.merge(parsed->names());
        }
    };
    const auto withBehind = [&](std::set<std::string> names) {
        std::vector<std::string> open(names.begin(), names.end());
        while (!open.empty()) {
            const Variable* variable = frame.variable(open.back());
            open.pop_back();
            std::set<std::string> parts;
            if (variable != nullptr && !variable->expression.empty()) {
                addNames(variable->expression, parts);
            }
            for (const std::string& part : parts) {
                if (names.insert(part).second) {
                    open.push_back(part);
                }
            }
        }
        return names;
    };
    for (const std::string& text : sets.spec.with) {
        addNames(text, known);
    }
    known = withBehind(known);
    std::set<std::string> asked;
    addNames(question.outcome, asked);
    for (const auto* terms : {&question.terms, &question.endogenous, &question.instruments}) {
        for (const Term& term : *terms) {
            for (const std::string& part : term.parts) {
                if (!term.muted && term.kind != Term::Kind::Set) {
                    addNames(part, asked);
                }
            }
        }
    }
    std::vector<std::string> out;
    for (const std::string& name : withBehind(asked)) {
        const Variable* variable = frame.variable(name);
        // What is derived is known by its parts.
        if (variable != nullptr && variable->expression.empty() && !known.contains(name)) {
            out.push_back(name);
        }
    }
    return out;
}

std::vector<CheckResult> pooledChecks(const std::vector<std::vector<CheckResult>>& all) {
    std::vector<CheckResult> out;
    for (std::size_t k = 0; k < all.front().size(); ++k) {
        std::vector<const CheckResult*> same;
        for (const auto& one : all) {
            same.push_back(&one[k]);
        }
        out.push_back(pooledCheck(same));
    }
    return out;
}

Result<void> answerImputed(Answer& answer, const Study& study, const Frame& frame,
                           const Making& making) {
    if (frame.refusal()) {
        return tl::make_unexpected(*frame.refusal());
    }
    if (!study.imputation.isDeclared()) {
        return refuse(ErrorCode::BadSetting,
                      "missing answers are to be filled in, and nothing is declared to be",
                      "missing answers", "Say what and by what in Data, under what is missing.");
    }
    auto sets = making.sets ? making.sets(making.job) : setsOf(study, frame, making.job);
    if (!sets) {
        return tl::make_unexpected(sets.error());
    }
    auto made = answerSets(answer, study, frame, **sets, making.job);
    if (!made) {
        return tl::make_unexpected(made.error());
    }
    std::vector<std::shared_ptr<const Fit>> fits;
    for (OfSet& one : *made) {
        // Without a copy: the sets outlive it.
        fits.emplace_back(std::shared_ptr<void>(), &one.found.fit);
    }
    const auto design = std::make_shared<const Design>(made->front().found.design);
    auto pooledOnes = pooledFit(*design, fits, answer.alpha);
    if (!pooledOnes) {
        return tl::make_unexpected(pooledOnes.error());
    }
    auto told = std::make_shared<PooledFit>(*pooledOnes->pooled);
    told->rounds = (*sets)->spec.rounds;
    for (const ImputedVariable& one : (*sets)->variables) {
        told->filled.push_back({one.name, one.label, one.way, one.rows.size(), one.settled});
    }
    told->completeRows = completeRows(study, frame, answer.question, making.job);
    told->fewestRows = told->mostRows = design->rows.size();
    for (const OfSet& one : *made) {
        told->fewestRows = std::min(told->fewestRows, one.found.design.rows.size());
        told->mostRows = std::max(told->mostRows, one.found.design.rows.size());
    }
    pooledOnes->pooled = std::move(told);
    if (const auto strangers = unforetold(answer.question, frame, **sets); !strangers.empty()) {
        pooledOnes->notes.push_back(
            joinedNames(strangers) +
            (strangers.size() == 1 ? " stands in the question and foretells nothing that is filled "
                                     "in: what goes with it is drawn towards nothing there."
                                   : " stand in the question and foretell nothing that is filled "
                                     "in: what goes with them is drawn towards nothing there."));
    }
    answer.rows = made->front().requests.rows;
    answer.design = design;
    answer.fit = std::make_shared<const Fit>(*std::move(pooledOnes));
    poolRequests(answer, *made);
    answer.checks = awaitedChecks(answer.question);
    if (making.show && !answer.checks.empty()) {
        making.show(answer);
    }
    std::vector<std::vector<CheckResult>> checks;
    for (std::size_t set = 0; set < made->size() && !answer.checks.empty(); ++set) {
        const OfSet& one = (*made)[set];
        Making quiet(making.job.quiet());
        CheckRun run{one.frame, answer.question, one.found.design, one.found.fit, answer.alpha};
        run.defence = answer.defence.get();
        checks.push_back(checksOf(one.frame, answer, one.found, run, quiet));
        if (making.job.stopped()) {
            return stoppedWork();
        }
        making.job.report(static_cast<double>(set + 1) / static_cast<double>(made->size()));
    }
    answer.checks = checks.empty() ? std::vector<CheckResult>() : pooledChecks(checks);
    return {};
}

Result<AskedOfComplete> askedOfComplete(const Study& study, const Frame& frame,
                                        const Question& question, const Job& job) {
    if (frame.moments() != nullptr) {
        return refuse(ErrorCode::BadSetting,
                      "weighing complete rows needs rows, and the source is a summary",
                      "missing answers", "Ask with the rows as they are.");
    }
    if (question.completeBy.empty()) {
        return refuse(ErrorCode::BadSetting, "nothing is said to foretell which rows are complete",
                      "missing answers", "Name it, as age and zone.");
    }
    if (question.weightKind != WeightKind::None && question.weightKind != WeightKind::Sampling) {
        return otherWeights();
    }
    const Question asked = question.errors.kind == "survey" && study.survey.isDeclared()
                               ? withSurvey(question, study.survey)
                               : question;
    const auto complete = rowsLackingNothing(study, frame, asked, job);
    if (!complete) {
        return tl::make_unexpected(complete.error());
    }
    std::vector<double> isComplete(frame.rows(), 0.0);
    for (const std::size_t row : *complete) {
        isComplete[row] = 1.0;
    }
    // Rows out of the question belong to neither.
    const std::string outcome = freeName(frame, "complete");
    Question logit;
    logit.id = question.id;
    logit.outcome = quotedName(outcome);
    logit.terms = question.completeBy;
    logit.method = "logit";
    logit.where = question.where;
    logit.without = question.without;
    logit.allChecks = false;
    const Frame withOutcome = frame.with(Column::ofNumbers(outcome, isComplete));
    const auto where = [](Refusal refusal) {
        refusal.where = "what foretells that a row is complete" +
                        (refusal.where.empty() ? "" : ", " + refusal.where);
        return tl::make_unexpected(refusal);
    };
    AskedOfComplete out{frame, question, {}};
    std::vector<double> weights(frame.rows(), std::nan(""));
    Question all = logit;
    all.method = Question().method;
    RowCounts counts;
    const auto rows = makeDesign(withOutcome, all, study.sets, job.quiet(), &counts);
    if (rows) {
        for (const std::size_t row : rows->rows) {
            weights[row] = 1.0;
            out.told.complete += isComplete[row] > 0.0 ? 1U : 0U;
        }
        out.told.rows = rows->rows.size();
    }
    if (!rows && rows.error().code != ErrorCode::NoVariation) {
        return where(rows.error());
    }
    const bool varies = rows && out.told.complete < out.told.rows;
    if (!varies) {
        return refuse(ErrorCode::NoVariation,
                      "every row is complete: there is nothing to stand for", "missing answers",
                      "Ask with the rows as they are.");
    }
    auto found = estimateQuestion(study, withOutcome, logit, counts, job.quiet());
    if (!found && found.error().code == ErrorCode::RankDeficient) {
        logit.settings.penalised = out.told.penalised = true;
        found = estimateQuestion(study, withOutcome, logit, counts, job.quiet());
    }
    if (!found) {
        return where(found.error());
    }
    out.told.coefficients = found->fit.coefficients;
    for (std::size_t i = 0; i < found->design.rows.size(); ++i) {
        weights[found->design.rows[i]] = found->fit.fitted(static_cast<Eigen::Index>(i));
    }
    out.told.lowestChance = 1.0;
    out.told.highestChance = 0.0;
    std::vector<double> used;
    for (std::size_t row = 0; row < weights.size(); ++row) {
        if (std::isnan(weights[row])) {
            continue;
        }
        if (isComplete[row] > 0.0) {
            out.told.lowestChance = std::min(out.told.lowestChance, weights[row]);
            out.told.highestChance = std::max(out.told.highestChance, weights[row]);
            used.push_back(1.0 / weights[row]);
        }
        weights[row] = 1.0 / weights[row];
    }
    out.told.weightEffect = effectOf(used);
    if (asked.weightKind == WeightKind::Sampling) {
        const auto own = frame.evaluateText(asked.weight);
        if (!own || own->column.isText()) {
            return own ? Result<AskedOfComplete>(otherWeights())
                       : Result<AskedOfComplete>(tl::make_unexpected(own.error()));
        }
        for (std::size_t row = 0; row < weights.size(); ++row) {
            weights[row] *= own->column.numbers()[row];
        }
    }
    const std::string name = freeName(frame, "weight of complete rows");
    out.frame = frame.with(Column::ofNumbers(name, std::move(weights)));
    out.question.missing = "rows";
    out.question.completeBy.clear();
    out.question.weightKind = WeightKind::Sampling;
    out.question.weight = quotedName(name);
    if (out.question.errors.kind == "classical") {
        out.question.errors = ErrorSpec{};
        out.question.errors.kind = "robust";
    }
    return out;
}

}  // namespace rapporto
