#include "core/study/odd_mends.h"

#include "core/base/format.h"

#include <algorithm>
#include <set>

namespace rapporto {
namespace {

/// As the variable shows them: a date is no number of days.
std::string keysText(const Frame& frame, const std::string& name, const std::vector<Key>& keys) {
    const bool dates = frame.variable(name)->measure == Measure::Date;
    std::vector<std::string> names;
    for (const Key& key : keys) {
        const auto* number = std::get_if<double>(&key);
        names.push_back(number == nullptr ? keyText(key)
                        : dates           ? dateText(*number)
                                          : shortNumber(*number, 8));
    }
    return joinedNames(names);
}

/// The variable’s codes with these added.
VariableEntry withMissing(const Frame& frame, const std::string& name,
                          const std::vector<Key>& keys) {
    VariableEntry entry;
    entry.name = name;
    entry.missing = frame.variable(name)->missing;
    for (const Key& key : keys) {
        if (std::find(entry.missing->begin(), entry.missing->end(), key) == entry.missing->end()) {
            entry.missing->push_back(key);
        }
    }
    return entry;
}

OddMend makeMissing(const Frame& frame, const Oddity& odd) {
    const std::string name = odd.variables.front();
    const std::string values = keysText(frame, name, odd.values);
    return {"Make " + values + " missing",
            plural(odd.count, "row loses", "rows lose") + " its value of " +
                frame.variable(name)->shown(),
            values + " is missing in " + name, PutVariable{withMissing(frame, name, odd.values)}};
}

/// The same codes in every variable that has them.
std::optional<OddMend> makeMissingEverywhere(const Frame& frame, const Oddity& odd,
                                             const std::vector<Oddity>& all) {
    PutVariables puts;
    std::vector<std::string> names;
    for (const Oddity& one : all) {
        const bool same =
            one.kind == odd.kind && !one.variables.empty() &&
            frame.variable(one.variables.front()) != nullptr &&
            std::all_of(odd.values.begin(), odd.values.end(), [&](const Key& key) {
                return std::find(one.values.begin(), one.values.end(), key) != one.values.end();
            });
        if (same) {
            names.push_back(one.variables.front());
            puts.entries.push_back(withMissing(frame, one.variables.front(), odd.values));
        }
    }
    if (puts.entries.size() < 2) {
        return std::nullopt;
    }
    const std::string values = keysText(frame, odd.variables.front(), odd.values);
    return OddMend{
        "Make " + values + " missing in " + countText(puts.entries.size()) + " variables",
        joinedNames(names), values + " is missing in " + countText(names.size()) + " variables",
        std::move(puts)};
}

OddMend setAside(const Oddity& odd, const std::string& reason) {
    SetRowsAside aside;
    for (const std::size_t row : odd.rows) {
        aside.rows.push_back(row + 1);
    }
    aside.reason = reason;
    return {"Set " + plural(odd.rows.size(), "row", "rows") + " aside",
            "with the reason “" + reason + "”; nothing is deleted", "set aside: " + odd.title,
            std::move(aside)};
}

std::vector<ReadAs> readBefore(const Study& study, const std::string& name) {
    for (const VariableEntry& entry : study.variables) {
        if (entry.name == name && entry.readAs) {
            return *entry.readAs;
        }
    }
    return {};
}

/// The levels alike are read as the one that stays; what was read so before stays so.
OddMend merge(const Frame& frame, const Oddity& odd, const std::vector<ReadAs>& before) {
    VariableEntry entry;
    entry.name = odd.variables.front();
    entry.readAs = before;
    for (std::size_t k = 1; k < odd.values.size(); ++k) {
        entry.readAs->push_back({odd.values[k], odd.values.front()});
    }
    const std::string stays = keyText(odd.values.front());
    return {"Read " + std::string(odd.values.size() == 2 ? "it" : "them") + " as “" + stays + "”",
            "the cells stay as they are; " + frame.variable(entry.name)->shown() +
                " counts them as one level",
            "read as “" + stays + "” in " + entry.name, PutVariable{std::move(entry)}};
}

}  // namespace

std::vector<OddMend> mendsOf(const Study& study, const Frame& frame, const Oddity& odd,
                             const std::vector<Oddity>& all) {
    std::vector<OddMend> out;
    const bool here =
        std::all_of(odd.variables.begin(), odd.variables.end(),
                    [&](const std::string& one) { return frame.variable(one) != nullptr; });
    if (!here) {
        return out;  // Of a table that is gone.
    }
    const std::string name = odd.variables.empty() ? "" : odd.variables.front();
    switch (odd.kind) {
        case OddKind::NoAnswerCode:
            if (auto mend = makeMissingEverywhere(frame, odd, all)) {
                out.push_back(*std::move(mend));
            }
            out.push_back(makeMissing(frame, odd));
            break;
        case OddKind::AlikeLevels:
            out.push_back(merge(frame, odd, readBefore(study, name)));
            break;
        case OddKind::RepeatedRows:
        case OddKind::RepeatedMoments:
            out.push_back(setAside(odd, "stands twice"));
            break;
        case OddKind::LoneValue:
        case OddKind::SlippedDigit:
        case OddKind::WrongSign:
        case OddKind::LoneDate:
            out.push_back(setAside(odd, oddName(odd.kind)));
            if (odd.values.size() <= 5) {
                out.push_back(makeMissing(frame, odd));
            }
            break;
        case OddKind::Heap:
            out.push_back(makeMissing(frame, odd));
            break;
        case OddKind::FractionalCount: {
            VariableEntry entry;
            entry.name = name;
            entry.measure = Measure::Quantity;
            out.push_back({"Call it a quantity", "fractions are no counts", name + " is quantity",
                           PutVariable{std::move(entry)}});
            break;
        }
        case OddKind::ChangedTrait:
            out.push_back(setAside(odd, "trait changes and comes back"));
            break;
        case OddKind::WeightNotAbove:
            out.push_back(setAside(odd, "weight not above zero"));
            break;
        case OddKind::CopiedColumn:
        case OddKind::Constant:
            break;
    }
    // Rows too many to be listed are not set aside by halves.
    std::erase_if(out, [&](const OddMend& mend) {
        return std::holds_alternative<SetRowsAside>(mend.change) &&
               (odd.rows.empty() || odd.rows.size() < odd.count);
    });
    return out;
}

const std::string* reasonItStands(const Sample& sample, const Oddity& odd) {
    for (const AcceptedOddity& one : sample.accepted) {
        if (one.odd == odd.id()) {
            return &one.reason;
        }
    }
    return nullptr;
}

}  // namespace rapporto
