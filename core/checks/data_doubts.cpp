// Are the data what they seem? What looks odd about the variables and rows that a question uses.
#include "core/checks/data_doubts.h"

#include "core/base/format.h"
#include "core/checks/common.h"

#include <algorithm>
#include <iterator>
#include <map>
#include <set>

namespace rapporto {
namespace {

constexpr std::size_t kMostListed = 10000;  ///< Rows of an oddity.

/// Variables of the source that stand behind an expression.
void addNames(const Frame& frame, const std::string& text, std::set<std::string>& names,
              int depth = 0) {
    const auto parsed = Expression::parse(text);
    if (!parsed || depth > 50) {
        return;
    }
    for (const std::string& name : parsed->names()) {
        const Variable* variable = frame.variable(name);
        if (variable == nullptr) {
            continue;
        }
        if (variable->expression.empty()) {
            names.insert(name);
        } else {
            addNames(frame, variable->expression, names, depth + 1);
        }
    }
}

std::vector<std::string> namesBehind(const CheckInput& in) {
    std::set<std::string> names;
    const Question& q = in.question;
    addNames(in.frame, q.outcome, names);
    for (const Term* term : q.allTerms()) {
        for (std::size_t p = 0; !term->muted && p < term->parts.size(); ++p) {
            addNames(in.frame, term->parts[p], names);
        }
    }
    // Members of sets stand in the design under their own names.
    for (const DesignTerm& term : in.design.terms) {
        addNames(in.frame, term.name, names);
    }
    for (const auto& list : {q.fixedEffects, q.ownSlopes, q.errors.by}) {
        for (const std::string& text : list) {
            addNames(in.frame, text, names);
        }
    }
    for (const std::string& text : {q.offset, q.exposure, q.weight, q.where}) {
        if (!text.empty()) {
            addNames(in.frame, text, names);
        }
    }
    return {names.begin(), names.end()};
}

/// “not (x = 99 or x = 98)” put to the question’s own rule.
Question withoutCodes(const CheckInput& in, const Oddity& odd) {
    const std::string name = quotedName(odd.variables.front());
    std::string rule;
    for (const Key& key : odd.values) {
        rule += (rule.empty() ? "" : " and ") + name + " <> " + exactNumber(std::get<double>(key));
    }
    Question variant = variantBase(in, "without " + odd.title);
    variant.where = variant.where.empty() ? rule : "(" + variant.where + ") and " + rule;
    return variant;
}

/// The question without the terms that use one of two columns that say the same; the later one of
/// them, unless that is the outcome’s.
void offerWithoutCopy(const CheckInput& in, const Oddity& odd, CheckResult& result) {
    std::set<std::string> outcome;
    addNames(in.frame, in.question.outcome, outcome);
    for (auto name = odd.variables.rbegin(); name != odd.variables.rend(); ++name) {
        if (outcome.contains(*name)) {
            continue;
        }
        Question variant = variantBase(in, "without " + *name);
        const std::size_t taken = std::erase_if(variant.terms, [&](const Term& term) {
            std::set<std::string> names;
            for (const std::string& part : term.parts) {
                addNames(in.frame, part, names);
            }
            return names.contains(*name);
        });
        if (taken > 0) {
            result.remedies.push_back({"Take " + in.frame.variable(*name)->shown() + " out",
                                       "what it says is said by the other", std::move(variant)});
            return;
        }
    }
}

void offerWithout(const CheckInput& in, const Oddity& odd, CheckResult& result) {
    const std::string why = "beside the question as it stands: how far the effects move";
    if (odd.kind == OddKind::NoAnswerCode) {
        result.remedies.push_back({"Leave " + odd.title + " out", why, withoutCodes(in, odd)});
        return;
    }
    if (odd.kind == OddKind::CopiedColumn) {
        offerWithoutCopy(in, odd, result);
        return;
    }
    if (odd.rows.empty() || odd.rows.size() < odd.count) {
        return;
    }
    Question variant = variantBase(in, "without " + odd.title);
    for (const std::size_t row : odd.rows) {
        variant.without.push_back(row + 1);
    }
    std::sort(variant.without.begin(), variant.without.end());
    variant.without.erase(std::unique(variant.without.begin(), variant.without.end()),
                          variant.without.end());
    result.remedies.push_back({"Leave " + plural(odd.count, "row", "rows") + " out: " + odd.title,
                               why, std::move(variant)});
}

/// What the check has to say: kinds of oddities, how grave one is, and the words for none.
struct Doubt {
    std::vector<OddKind> kinds;
    Verdict grave = Verdict::Fails;
    const char* none = "";
};

const std::string* acceptedReason(const Frame& frame, const Oddity& odd) {
    for (const AcceptedOddity& one : frame.accepted()) {
        if (one.odd == odd.id()) {
            return &one.reason;
        }
    }
    return nullptr;
}

const Doubt& doubtFor(const std::string& id) {
    static const std::map<std::string, Doubt> kDoubts = {
        {"answer-codes",
         {{OddKind::NoAnswerCode},
          Verdict::Fails,
          "No number among the variables used looks like a code for “no answer”."}},
        {"spellings",
         {{OddKind::AlikeLevels},
          Verdict::Fails,
          "No two levels of a grouping look like one level spelled twice."}},
        {"repeats",
         {{OddKind::RepeatedRows, OddKind::RepeatedMoments},
          Verdict::Fails,
          "No row repeats another."}},
        {"far-values",
         {{OddKind::LoneValue, OddKind::SlippedDigit, OddKind::WrongSign, OddKind::LoneDate},
          Verdict::Weigh,
          "No value among the variables used stands alone by orders of magnitude."}},
        {"twins",
         {{OddKind::CopiedColumn}, Verdict::Fails, "No variable used copies or scales another."}},
        {"heaps",
         {{OddKind::Heap, OddKind::FractionalCount, OddKind::WeightNotAbove},
          Verdict::Weigh,
          "No number stands far more often than others, no count holds fractions, no weight is "
          "zero or below."}},
        {"traits",
         {{OddKind::ChangedTrait},
          Verdict::Weigh,
          "No trait of a unit changes once and comes back."}}};
    return kDoubts.at(id);
}

OddScope scopeOf(const CheckInput& in) {
    OddScope scope;
    scope.variables = namesBehind(in);
    scope.weight = in.question.weight;
    return scope;
}

/// @param all  what looks odd about the question’s variables.
CheckResult doubtOf(const CheckInput& in, const std::vector<Oddity>& all) {
    const Doubt& doubt = doubtFor(in.options.id);
    std::vector<Oddity> found;
    std::copy_if(all.begin(), all.end(), std::back_inserter(found), [&](const Oddity& odd) {
        return std::find(doubt.kinds.begin(), doubt.kinds.end(), odd.kind) != doubt.kinds.end();
    });
    // Rows that the question does not use do it no harm.
    std::vector<std::size_t> used;
    if (!found.empty()) {
        used.assign(in.design.rows.begin(), in.design.rows.end());
        std::sort(used.begin(), used.end());
    }
    std::erase_if(found, [&](Oddity& odd) {
        if (odd.rows.empty()) {
            return false;
        }
        std::erase_if(odd.rows, [&](std::size_t row) {
            return !std::binary_search(used.begin(), used.end(), row);
        });
        // Where they are too many to be listed, the count stands.
        odd.count = odd.count > kMostListed ? odd.count : odd.rows.size();
        return odd.rows.empty();
    });
    CheckResult result;
    result.verdict = Verdict::Fine;
    std::string let;
    std::size_t open = 0;
    for (const Oddity& odd : found) {
        if (const std::string* reason = acceptedReason(in.frame, odd)) {
            let += " " + capitalised(odd.title) + " was looked at and stands: " + *reason + ".";
            continue;
        }
        ++open;
        result.verdict = doubt.grave;
        result.reading += (result.reading.empty() ? "" : " ") + odd.text;
        if (open == 1) {
            result.headline = odd.title;
            result.exhibit = oddExhibit(in.frame, odd);
        }
        offerWithout(in, odd, result);
    }
    result.statistic = static_cast<double>(open);
    result.statisticName = "found";
    if (open > 1) {
        result.headline += ", " + countText(open - 1) + " more";
    }
    if (open == 0) {
        result.headline = let.empty() ? "none found" : "none open";
        result.reading = doubt.none;
        if (const auto names = namesBehind(in); !names.empty()) {
            Oddity none;
            none.variables = {names.front()};
            none.title = in.frame.variable(none.variables.front())->shown() +
                         (let.empty() ? ": nothing of the kind" : ": nothing open");
            result.exhibit = oddExhibit(in.frame, none);
        }
    } else {
        result.reading += " Mend it under Data, “What looks odd”, or say there why it stands.";
    }
    result.reading += let;
    return result;
}

CheckResult lookedAt(const CheckInput& in) {
    OddScope scope = scopeOf(in);
    scope.kinds = doubtFor(in.options.id).kinds;
    return doubtOf(in, oddities(in.frame, scope, in.job));
}

}  // namespace

void DataDoubts::look(const CheckInput& in) { all_ = oddities(in.frame, scopeOf(in), in.job); }

CheckResult DataDoubts::answer(const CheckInput& in) const {
    if (in.options.id == "traits" && in.frame.layout().kind != Layout::Kind::Panel) {
        return checkTraits(in);
    }
    return doubtOf(in, all_);
}

CheckResult checkAnswerCodes(const CheckInput& in) { return lookedAt(in); }

CheckResult checkSpellings(const CheckInput& in) { return lookedAt(in); }

CheckResult checkRepeats(const CheckInput& in) { return lookedAt(in); }

CheckResult checkFarValues(const CheckInput& in) { return lookedAt(in); }

CheckResult checkTwins(const CheckInput& in) { return lookedAt(in); }

CheckResult checkHeaps(const CheckInput& in) { return lookedAt(in); }

CheckResult checkTraits(const CheckInput& in) {
    if (in.frame.layout().kind != Layout::Kind::Panel) {
        return notApplicable("It looks at units over time: say under Data what a row is.");
    }
    return lookedAt(in);
}

}  // namespace rapporto
