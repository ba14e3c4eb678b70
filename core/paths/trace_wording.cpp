// What a trace says in words.
#include "core/base/format.h"
#include "core/paths/path_picture.h"
#include "core/paths/trace.h"
#include "core/paths/trace_kind.h"
#include "core/report/report_items.h"
#include "core/report/wording.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

std::string sized(double value, double se) {
    return fixedNumber(value, decimalsFor(std::isfinite(se) ? se : std::abs(value) / 100.0), true);
}

/// “.197 (95 %: .137 to .263)”.
std::string withInterval(const Answer& answer, const TraceEffect& effect) {
    const std::string size = "**" + sized(effect.estimate, effect.se) + "**";
    if (!std::isfinite(effect.low) || !std::isfinite(effect.high)) {
        return size;
    }
    return size + " (" + percentLevel(answer.alpha) + ": " + sized(effect.low, effect.se) + " to " +
           sized(effect.high, effect.se) + ")";
}

bool isClear(const TraceEffect& effect) { return effect.low > 0.0 || effect.high < 0.0; }

std::string throughText(const std::vector<std::string>& through) {
    std::string text;
    for (const std::string& name : through) {
        text += (text.empty() ? "through " : ", then ") + name;
    }
    return text;
}

const TraceEffect* findEffect(const Trace& trace, const TraceEffect& like,
                              const std::vector<std::string>& kinds) {
    for (const TraceEffect& effect : trace.effects) {
        const bool kind = std::find(kinds.begin(), kinds.end(), effect.kind) != kinds.end();
        if (kind && effect.from == like.from && effect.to == like.to && effect.at == like.at &&
            effect.through.empty()) {
            return &effect;
        }
    }
    return nullptr;
}

const TraceShare* shareOf(const Trace& trace, const TraceEffect& like) {
    for (const TraceShare& share : trace.shares) {
        if (share.from == like.from && share.to == like.to && share.at == like.at) {
            return &share;
        }
    }
    return nullptr;
}

/// What passes through, all ways together.
bool isSum(const TraceEffect& effect) {
    return (effect.kind == "indirect" || effect.kind == "natural-indirect") &&
           effect.through.empty();
}

/// What stands between the ends of an effect, each once.
std::vector<std::string> between(const Trace& trace, const TraceEffect& sum) {
    std::vector<std::string> names;
    for (const TraceEffect& effect : trace.effects) {
        if (effect.from == sum.from && effect.to == sum.to && effect.at == sum.at &&
            effect.kind == sum.kind) {
            for (const std::string& name : effect.through) {
                if (std::find(names.begin(), names.end(), name) == names.end()) {
                    names.push_back(name);
                }
            }
        }
    }
    return names;
}

std::string percentText(double share) { return fixedNumber(100.0 * share, 0) + " %"; }

/// How direct and indirect effects stand to each other: by their intervals, never by one of them
/// having stopped being clear.
std::string standing(const TraceEffect& sum, const TraceEffect* direct) {
    const bool through = isClear(sum);
    if (direct == nullptr) {
        return through ? "No direct arrow is drawn, so all of it passes that way by assumption."
                       : "No effect that way is shown: its interval holds zero.";
    }
    const bool beside = isClear(*direct);
    const double most = std::max(std::abs(direct->low), std::abs(direct->high));
    const std::string reach = std::copysign(1.0, direct->estimate) > 0.0
                                  ? sized(direct->high, direct->se)
                                  : sized(direct->low, direct->se);
    if (through && beside) {
        return sum.estimate * direct->estimate > 0.0
                   ? "Both are clear of zero and point the same way: a part passes through, a part "
                     "does not."
                   : "Both are clear of zero and **oppose each other**: the total hides two "
                     "effects.";
    }
    if (through) {
        return "What passes through is clear of zero. The direct effect is not told apart from "
               "zero, and its interval still allows " +
               (std::isfinite(most) ? reach : std::string("much")) +
               ": that everything passes through is not shown.";
    }
    return beside ? "An effect by that way is not shown; the direct one is clear of zero."
                  : "Neither is told apart from zero: the data leave open whether there is an "
                    "effect, and by which way.";
}

/// One pair: total, what passes through, what does not, the share.
std::string pairReading(const Answer& answer, const TraceEffect& sum) {
    const Trace& trace = *answer.trace;
    const TraceEffect* total = findEffect(trace, sum, {"total"});
    const TraceEffect* direct = findEffect(trace, sum, {"direct", "natural-direct"});
    const auto names = between(trace, sum);
    std::string text =
        "Of the effect of **" + sum.from + "** on **" + sum.to + "**" +
        (sum.at.empty() ? "" : " " + settingText(sum.at)) +
        (total != nullptr ? ", " + withInterval(answer, *total) + " in all" : "") + ", " +
        withInterval(answer, sum) + " passes through " +
        (names.empty() ? "what stands between" : joinedNames(names)) +
        (direct != nullptr ? " and " + withInterval(answer, *direct) + " does not" : "") + ".";
    if (const TraceShare* share = shareOf(trace, sum); share != nullptr && isClear(sum)) {
        if (share->share && direct != nullptr) {
            text += " That is " + percentText(*share->share) + " of it" +
                    (std::isfinite(share->low)
                         ? " (" + percentText(share->low) + " to " + percentText(share->high) + ")"
                         : "") +
                    ".";
        }
    }
    return text + " " + standing(sum, direct);
}

std::string roundingText(const Answer& answer) {
    double most = 0.0;
    const TraceEffect* worst = nullptr;
    for (const TraceEffect& effect : answer.trace->effects) {
        if (isSum(effect) && effect.rounding && *effect.rounding > most) {
            most = *effect.rounding;
            worst = &effect;
        }
    }
    if (worst == nullptr) {
        return {};
    }
    return " The digits printed in the summary limit this: at their worst together they move the "
           "effect of " +
           worst->from + " through what stands between by up to " + shortNumber(most, 2) + ".";
}

}  // namespace

TraceRoles traceRoles(const TraceSpec& spec) {
    std::set<std::string> explained;
    std::set<std::string> explaining;
    for (const PathSpec& path : spec.paths) {
        explained.insert(canonicalText(path.to));
        for (const Term& term : path.from) {
            for (const std::string& part : term.parts) {
                explaining.insert(canonicalText(part));
            }
        }
    }
    TraceRoles roles;
    const auto put = [](std::vector<std::string>& list, const std::string& name) {
        if (!name.empty() && std::find(list.begin(), list.end(), name) == list.end()) {
            list.push_back(name);
        }
    };
    for (const PathSpec& path : spec.paths) {
        const std::string to = canonicalText(path.to);
        put(explaining.contains(to) ? roles.between : roles.outcomes, to);
    }
    // In a circle nothing is last: what is asked about is, or what was stated last.
    if (roles.outcomes.empty() && !roles.between.empty() && !explained.contains("")) {
        std::string last = roles.between.back();
        for (const TracedPair& pair : spec.effects) {
            last = explained.contains(canonicalText(pair.to)) ? canonicalText(pair.to) : last;
        }
        std::erase(roles.between, last);
        roles.outcomes.push_back(last);
    }
    std::set<std::string> asked;
    for (const TracedPair& pair : spec.effects) {
        asked.insert(canonicalText(pair.from.substr(0, levelAt(pair.from))));
    }
    for (const PathSpec& path : spec.paths) {
        for (const Term& term : path.from) {
            const bool plain = term.kind == Term::Kind::Expression;
            const std::string name = plain ? canonicalText(term.parts.front()) : term.shown();
            if (plain && explained.contains(name)) {
                continue;
            }
            const bool cause = plain && (asked.empty() || asked.contains(name));
            put(cause ? roles.causes : roles.beside, name);
        }
    }
    return roles;
}

std::string settingText(const ModeratorSetting& at) {
    std::string text;
    for (const auto& [name, value] : at) {
        text += (text.empty() ? "where " : " and ") + name + " is " + keyText(value);
    }
    return text;
}

std::string effectName(const TraceEffect& effect) {
    if (effect.kind == "indirect-difference") {
        return (effect.through.empty() ? std::string("through") : throughText(effect.through)) +
               ": difference from the first";
    }
    if (isSum(effect)) {
        return "through all ways";
    }
    return effect.kind == "indirect"         ? throughText(effect.through)
           : effect.kind == "natural-direct" ? "direct"
                                             : effect.kind;
}

std::string traceSentence(const Question& q) {
    const TraceSpec& spec = q.trace;
    const TraceRoles roles = traceRoles(spec);
    std::string text =
        "Trace how " + joinedNames(roles.causes) + " reaches " + joinedNames(roles.outcomes);
    std::vector<std::string> ways;
    for (const std::string& name : roles.between) {
        const bool muted =
            std::any_of(spec.muted.begin(), spec.muted.end(),
                        [&](const std::string& m) { return canonicalText(m) == name; });
        if (!muted) {
            ways.push_back(name);
        }
    }
    text += ways.empty() ? "" : " through " + joinedNames(ways);
    text += roles.beside.empty() ? "" : ", beside " + joinedNames(roles.beside);
    if (!spec.holding.empty()) {
        std::vector<std::string> held;
        for (const Term& term : spec.holding) {
            held.push_back(term.shown());
        }
        text += ", holding " + joinedNames(held);
    }
    text += " · intervals " + spec.interval;
    if (spec.interval != "delta") {
        text += ", " + countText(static_cast<std::size_t>(spec.draws)) + " draws" +
                (spec.resampling.empty() || spec.resampling == "rows" ? ""
                 : spec.resampling == "clusters" ? " of " + joinedNames(spec.by)
                                                 : ", parametric");
    }
    text += " · errors " + q.errors.shown();
    if (q.weightKind != WeightKind::None) {
        text += " · weighted by " + q.weight + " (" + weightName(q.weightKind) + ")";
    }
    text += q.where.empty() ? "" : " · among " + q.where;
    text += q.without.empty() ? "" : " · without " + plural(q.without.size(), "row", "rows");
    return text;
}

std::string traceReading(const Answer& answer) {
    const Trace& trace = *answer.trace;
    constexpr int kMost = 3;  // Pairs told one by one.
    std::string text;
    int told = 0;
    std::size_t sums = 0;
    for (const TraceEffect& effect : trace.effects) {
        if (!isSum(effect)) {
            continue;
        }
        ++sums;
        if (told < kMost) {
            text += (text.empty() ? "" : " ") + pairReading(answer, effect);
            ++told;
        }
    }
    for (const TraceEffect& effect : trace.effects) {
        if (effect.kind == "indirect-difference" && effect.through.empty()) {
            text += " " + capitalised(settingText(effect.at)) + " what passes through differs by " +
                    withInterval(answer, effect) + " from the first setting.";
        }
    }
    if (told == 0) {
        for (const TraceEffect& effect : trace.effects) {
            if (effect.kind == "total" && told < kMost) {
                text += (text.empty() ? "" : " ") + std::string("**") + effect.from +
                        "** reaches **" + effect.to +
                        "** directly: " + withInterval(answer, effect) + ".";
                ++told;
            }
        }
        text += " Nothing stands between yet.";
    }
    if (sums > static_cast<std::size_t>(kMost)) {
        text += " " + countText(sums - kMost) + " further pairs are listed below.";
    }
    if (trace.fit && trace.fit->df > 0.0) {
        text += std::string(" The paths left out ") +
                (trace.fit->p >= answer.alpha ? "are not missed" : "**are missed**") + " (χ²(" +
                shortNumber(trace.fit->df) + ") " + fixedNumber(trace.fit->chi2, 2, true) + ", " +
                pClause(trace.fit->p) + ").";
    }
    text += roundingText(answer);
    if (trace.failed > 0) {
        text += " " + countText(static_cast<std::size_t>(trace.failed)) + " of " +
                countText(static_cast<std::size_t>(trace.asked)) + " draws had no solution.";
    }
    return text +
           " The arrows are drawn, not found: the effects are those of causes only where nothing "
           "left out moves both ends of an arrow.";
}

std::vector<std::string> tracedEffectReading(const Answer& answer, std::size_t index) {
    const Trace& trace = *answer.trace;
    const TraceEffect& effect = trace.effects.at(index);
    std::vector<std::string> out;
    std::string step;
    const auto node = std::find_if(trace.nodes.begin(), trace.nodes.end(),
                                   [&](const TraceNode& n) { return n.name == effect.from; });
    if (effect.change) {
        step = "Taking **" + effect.from + "** from " + shortNumber(effect.change->first, 4) +
               " to " + shortNumber(effect.change->second, 4) +
               " everywhere changes the mean of **" + effect.to + "** by ";
    } else if (node != trace.nodes.end() && node->yesNo) {
        const std::size_t level = levelAt(effect.from);
        step = (level == std::string::npos
                    ? "Where **" + effect.from + "** is yes, **"
                    : "In **" + effect.from.substr(level + 1) + "** (" +
                          effect.from.substr(0, level) + ", against the base) **") +
               effect.to + "** differs by ";
    } else {
        step = "A unit more of **" + effect.from + "** goes with a difference in **" + effect.to +
               "** of ";
    }
    const std::string how = effect.kind == "total" ? " in all"
                            : isSum(effect) ? " by way of " + joinedNames(between(trace, effect))
                            : effect.kind == "direct" || effect.kind == "natural-direct"
                                ? " directly, with what stands between left as it is"
                                : " " + throughText(effect.through);
    if (effect.kind == "indirect-difference") {
        out.push_back("**" + capitalised(settingText(effect.at)) + "** the effect " +
                      throughText(effect.through) + " differs by " + withInterval(answer, effect) +
                      " from what it is at the first setting.");
    } else {
        out.push_back(step + withInterval(answer, effect) + how +
                      (effect.at.empty() ? "" : ", " + settingText(effect.at)) + ".");
    }
    if (effect.standardised && effect.kind != "indirect-difference") {
        out.push_back("In standard deviations of both that is " +
                      fixedNumber(*effect.standardised, 3, true) + ".");
    }
    if (effect.p) {
        out.push_back(isClear(effect)
                          ? "The interval leaves zero out (" + pClause(*effect.p) + ")."
                          : "The interval holds zero (" + pClause(*effect.p) +
                                "): this is not evidence of no effect, only of little to tell by.");
    }
    if (isSum(effect)) {
        out.push_back(standing(effect, findEffect(trace, effect, {"direct", "natural-direct"})));
    }
    if (effect.rounding && *effect.rounding > 0.0) {
        out.push_back("~The digits printed in the summary may have moved it by up to " +
                      shortNumber(*effect.rounding, 2) + ".");
    }
    return out;
}

std::vector<std::string> arrowReading(const Answer& answer, std::size_t index) {
    const Trace& trace = *answer.trace;
    const TraceArrow& arrow = trace.arrows.at(index);
    const std::string& from = trace.nodes[static_cast<std::size_t>(arrow.from)].name;
    const std::string& to = trace.nodes[static_cast<std::size_t>(arrow.to)].name;
    std::vector<std::string> out;
    out.push_back("From **" + from + "** to **" + to + "**: **" + sized(arrow.estimate, arrow.se) +
                  "** (" + percentLevel(answer.alpha) + ": " + sized(arrow.low, arrow.se) + " to " +
                  sized(arrow.high, arrow.se) + "), " + fixedNumber(arrow.standardised, 3, true) +
                  " in standard deviations of both.");
    if (arrow.moderated) {
        out.emplace_back(
            "It hangs on a product: this is its size with the moderators at their "
            "means.");
    }
    if (arrow.p) {
        out.push_back(*arrow.p < answer.alpha
                          ? "It is told apart from zero (" + pClause(*arrow.p) + ")."
                          : "It is not told apart from zero (" + pClause(*arrow.p) +
                                "), and is drawn broken.");
    }
    std::string ways;
    for (const TraceEffect& effect : trace.effects) {
        std::vector<std::string> stops = {effect.from};
        stops.insert(stops.end(), effect.through.begin(), effect.through.end());
        stops.push_back(effect.to);
        const bool way = effect.at.empty() && (effect.kind == "direct" ||
                                               (effect.kind == "indirect" && stops.size() > 2));
        for (std::size_t k = 0; way && k + 1 < stops.size(); ++k) {
            if (stops[k] == from && stops[k + 1] == to) {
                std::string text;
                for (const std::string& stop : stops) {
                    text += (text.empty() ? "" : " → ") + stop;
                }
                ways +=
                    (ways.empty() ? "" : "; ") + text + ", " + sized(effect.estimate, effect.se);
            }
        }
    }
    if (!ways.empty()) {
        out.push_back("Ways that use it: " + ways + ".");
    }
    return out;
}

std::string sensitivityReading(const TraceSensitivity& s) {
    return "What passes from **" + s.from + "** through **" + s.through + "** to **" + s.to +
           "** would vanish if the errors of the two equations correlated **" +
           fixedNumber(s.rhoZero, 2, true) +
           "**: if something left out moved both so strongly. Nothing in the data tells that "
           "correlation; it is for you to say how strong such a thing could be (" +
           std::string(std::abs(s.rhoZero) < 0.1   ? "very little would do"
                       : std::abs(s.rhoZero) < 0.3 ? "a weak link would do"
                       : std::abs(s.rhoZero) < 0.5 ? "it would take a moderate link"
                                                   : "it would take a strong link") +
           ").";
}

std::vector<std::string> traceDifference(const Answer& from, const Answer& to) {
    std::vector<std::string> out;
    const std::string before = traceSentence(from.question);
    const std::string after = traceSentence(to.question);
    out.push_back(before == after ? "Both ask the same."
                                  : "**" + before + "** became **" + after + "**.");
    for (const TraceEffect& now : to.trace->effects) {
        if (now.kind != "total" && now.kind != "direct") {
            continue;
        }
        const TraceEffect* was = findEffect(*from.trace, now, {now.kind});
        if (was != nullptr && out.size() < 6) {
            out.push_back("The " + now.kind + " effect of " + now.from + " on " + now.to +
                          " is **" + sized(now.estimate, now.se) + "** where it was " +
                          sized(was->estimate, was->se) + ".");
        }
    }
    out.emplace_back(
        "~A direct effect that shrinks when a variable is put between shows that the two go "
        "together; how much passes through is told by the interval of the way itself.");
    return out;
}

std::string traceMethods(const Answer& answer) {
    const Trace& trace = *answer.trace;
    std::vector<std::string> names;
    std::set<std::string> estimators;
    for (const TraceEquation& equation : trace.equations) {
        names.push_back(equation.to);
        const Estimator* estimator = findEstimator(equation.question.method);
        estimators.insert(estimator == nullptr ? equation.question.method : estimator->shown);
    }
    std::string text = "A system of " + plural(names.size(), "equation", "equations") + " (" +
                       joinedNames(names) + ") was estimated by " +
                       joinedNames({estimators.begin(), estimators.end()}) +
                       " on the same rows: " + rowsReading(answer.rows) + ". Errors are " +
                       answer.question.errors.shown() +
                       "; coefficients of different equations have a joint covariance from their "
                       "stacked scores.";
    text += " Indirect effects are products of the coefficients along a way (Bollen 1987)";
    const bool natural = std::any_of(trace.effects.begin(), trace.effects.end(),
                                     [](const TraceEffect& e) { return e.change.has_value(); });
    text += natural
                ? "; where an equation is not linear, differences of expected outcomes averaged "
                  "over the rows (Pearl 2001; Imai, Keele & Tingley 2010)."
                : ".";
    if (trace.interval == "delta") {
        text += " Intervals hold " + percentLevel(answer.alpha) +
                " by the delta method and the normal law (Sobel 1982).";
    } else {
        text += " Intervals hold " + percentLevel(answer.alpha) + ", " +
                (trace.interval == "bca" ? std::string("BCa") : trace.interval) + " from " +
                countText(static_cast<std::size_t>(trace.asked)) + " draws of " +
                (trace.resampling == "parametric"
                     ? (answer.fromMoments ? "the covariance matrix from its Wishart law"
                                           : "the coefficients from their joint normal law")
                 : trace.resampling == "clusters"
                     ? "clusters (" + joinedNames(answer.question.trace.by) + ")"
                     : "rows") +
                " (Efron 1987)" +
                (trace.failed > 0 ? ", " + countText(static_cast<std::size_t>(trace.failed)) +
                                        " of them without a solution"
                                  : "") +
                "; p is the smallest level whose interval leaves zero out.";
    }
    if (trace.fit && trace.fit->df > 0.0) {
        text +=
            " The fit of the system is by (n − 1)·F of its unbiased covariances, errors of "
            "different equations taken as unrelated (Bollen 1989).";
    }
    return text;
}

namespace {

/// The name of an effect in the language of the report: variables on a way stay what they are.
std::string wayName(const ReportSheet& sheet, const std::string& name) {
    constexpr std::string_view kThrough = "through ";
    const std::string whole = sheet.word(name);
    return whole == name && name.starts_with(kThrough)
               ? sheet.word("through") + " " + name.substr(kThrough.size())
               : whole;
}

ReportBlock effectTable(const ReportSheet& sheet, const Answer& answer) {
    const Trace& trace = *answer.trace;
    ReportBlock block;
    block.kind = Kind::Table;
    block.cells.push_back({"", sheet.word("effect"), sheet.word("std. error"),
                           percentLevel(answer.alpha), "p", sheet.word("standardised")});
    block.rules = {0};
    std::string head;
    for (const TraceEffect& effect : trace.effects) {
        const std::string pair = effect.from + " → " + effect.to +
                                 (effect.at.empty() ? "" : ", " + settingText(effect.at));
        if (pair != head) {
            head = pair;
            block.cells.push_back({Cell::over(6, pair)});
        }
        block.cells.push_back(
            {"\u2003" + wayName(sheet, effectName(effect)),
             Cell(sized(effect.estimate, effect.se), effect.estimate),
             std::isfinite(effect.se) ? Cell(sized(effect.se, effect.se), effect.se) : Cell("–"),
             std::isfinite(effect.low) ? sized(effect.low, effect.se) + " " + sheet.word("to") +
                                             " " + sized(effect.high, effect.se)
                                       : "–",
             effect.p ? Cell(pText(*effect.p), *effect.p) : Cell("–"),
             effect.standardised
                 ? Cell(fixedNumber(*effect.standardised, 3, true), *effect.standardised)
                 : Cell("–")});
    }
    return block;
}

}  // namespace

void traceReport(ReportSheet& sheet, const Answer& answer, const std::string& item) {
    const Trace& trace = *answer.trace;
    if (item == "reading") {
        sheet.put(Kind::Paragraph, "**" + questionTitle(answer) + ".** " + answerReading(answer));
    } else if (item == "table") {
        sheet.tableCaption(questionTitle(answer) + ": effects by the way they take");
        sheet.add(effectTable(sheet, answer));
        sheet.put(Kind::Note,
                  "Intervals " + trace.interval +
                      (trace.asked > 0
                           ? ", " + countText(static_cast<std::size_t>(trace.asked)) + " draws"
                           : "") +
                      "; errors " + answer.question.errors.shown() + "; " +
                      rowsReading(answer.rows));
    } else if (item == "lenses" || item == "picture") {
        sheet.figureCaption("The paths of " + questionTitle(answer));
        sheet.addFigure(pathDrawing(trace, answer.question.trace.places, 480.0, 285.0),
                        "Paths with their estimates");
        sheet.put(Kind::Note,
                  "Numbers are effects with standard errors; the width of an arrow is its "
                  "standardised size; a broken one has an interval that holds zero; thin arcs are "
                  "correlations of causes.");
    } else if (item == "equation") {
        for (const TraceEquation& equation : trace.equations) {
            Answer one;
            one.question = equation.question;
            one.design = equation.design;
            one.fit = equation.fit;
            putEquation(sheet, one);
        }
    } else if (item == "checks") {
        putChecks(sheet, answer);
    } else if (item == "methods") {
        sheet.put(Kind::Heading, sheet.word("Methods"));
        sheet.put(Kind::Paragraph, traceMethods(answer));
    }
}

}  // namespace rapporto
