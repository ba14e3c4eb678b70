#include "core/study/known_checks.h"

#include "core/base/hash.h"
#include "core/study/study.h"

#include <fmt/format.h>

#include <algorithm>

namespace rapporto {
namespace {

constexpr std::size_t kMostKept = 16;
/// Larger tables have pictures of so many rows that only the last few are held on to.
constexpr std::size_t kManyRows = 200000;
constexpr std::size_t kMostKeptOfMany = 2;

/// The same cells, names, rows and what was said of them: frames share what did not change.
bool isSame(const Frame& a, const Frame& b) {
    const Table& one = a.table();
    const Table& other = b.table();
    if (one.columns.size() != other.columns.size() || a.states() != b.states() ||
        !(a.layout() == b.layout()) || one.variables != other.variables ||
        a.accepted() != b.accepted()) {
        return false;
    }
    for (std::size_t c = 0; c < one.columns.size(); ++c) {
        if (!one.columns[c].sharesCellsWith(other.columns[c])) {
            return false;
        }
    }
    return true;
}

/// The question without what no check looks at.
Question lookedAt(Question question) {
    question.id.clear();
    question.title.clear();
    question.lead = false;
    question.variantOf.clear();
    question.effects.clear();
    question.predict.clear();
    question.hypotheses.clear();
    question.decisions.clear();
    question.chosen.reset();
    question.allChecks = true;
    question.checks.clear();
    return question;
}

/// The design is a function of question, sets and table, and so is the fit: what differs in a set
/// shows in what is left of the outcome.
std::uint64_t keyOf(const CheckRun& run) {
    std::uint64_t key = contentHash(questionText(lookedAt(run.question)));
    const auto add = [&](const auto& numbers) {
        key = contentHash(
            std::string_view(reinterpret_cast<const char*>(numbers.data()),
                             static_cast<std::size_t>(numbers.size()) * sizeof(numbers.data()[0])),
            key);
    };
    add(run.fit.covariance);
    add(run.fit.residuals);
    add(std::vector<double>{run.alpha, static_cast<double>(run.design.X.rows()),
                            static_cast<double>(run.design.X.cols())});
    return key;
}

std::string requestText(const CheckRequest& r) {
    std::string out = fmt::format("{}|{}|{}|{}|{}|{}|{}|{}|{}", r.id, r.lags.value_or(-1),
                                  r.cross ? (*r.cross ? 1 : 0) : -1, r.by, r.drop.value_or(-1.0),
                                  r.atRow.value_or(0), r.at, r.lagsBy, r.with);
    for (const int power : r.powers) {
        out += fmt::format("|{}", power);
    }
    return out;
}

/// What a remedy took over unchanged from `was` is taken from `now`.
Question ledOnFrom(Question variant, const Question& was, const Question& now) {
    const auto follow = [&](auto member) {
        if (variant.*member == was.*member) {
            variant.*member = now.*member;
        }
    };
    variant.variantOf = now.variantOf.empty() ? now.id : now.variantOf;
    follow(&Question::effects);
    follow(&Question::predict);
    follow(&Question::hypotheses);
    follow(&Question::decisions);
    follow(&Question::chosen);
    follow(&Question::allChecks);
    follow(&Question::checks);
    follow(&Question::raw);
    follow(&Question::unknownKeys);
    return variant;
}

}  // namespace

void KnownChecks::clear() {
    const std::scoped_lock lock(mutex_);
    entries_.clear();
}

void KnownChecks::serve(CheckRun& run) {
    if (run.frame.moments() != nullptr) {
        return;  // Its checks take no time.
    }
    const std::uint64_t key = keyOf(run);
    run.before = [this, key, &run](const CheckRequest& request) { return find(key, run, request); };
    run.keep = [this, key, &run](const CheckRequest& request, const CheckResult& result) {
        keep(key, run, request, result);
    };
}

std::optional<CheckResult> KnownChecks::find(std::uint64_t key, const CheckRun& run,
                                             const CheckRequest& request) {
    const std::scoped_lock lock(mutex_);
    for (const Entry& one : entries_) {
        if (one.key != key || !isSame(one.frame, run.frame)) {
            continue;
        }
        const auto at = one.results.find(requestText(request));
        if (at == one.results.end()) {
            continue;
        }
        CheckResult result = at->second;
        for (Remedy& remedy : result.remedies) {
            remedy.variant = ledOnFrom(remedy.variant, one.question, run.question);
        }
        return result;
    }
    return std::nullopt;
}

void KnownChecks::keep(std::uint64_t key, const CheckRun& run, const CheckRequest& request,
                       const CheckResult& result) {
    if (result.fault) {
        return;
    }
    const std::scoped_lock lock(mutex_);
    // Remedies of one entry are all of one question, and what it holds is of one table.
    auto at = std::find_if(entries_.begin(), entries_.end(), [&](const Entry& one) {
        return one.key == key && isSame(one.frame, run.frame) && one.question.sameAs(run.question);
    });
    if (at == entries_.end()) {
        const std::size_t most = run.frame.rows() > kManyRows ? kMostKeptOfMany : kMostKept;
        entries_.push_front({key, run.frame, run.question, {}});
        if (entries_.size() > most) {
            entries_.resize(most);
        }
        at = entries_.begin();
    }
    at->results[requestText(request)] = result;
}

}  // namespace rapporto
