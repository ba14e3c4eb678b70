#include "core/study/offered_methods.h"

#include "core/model/estimator.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Quantities that are nowhere below the outcome and begin like it (wage_from, wage_to): they may
/// be its upper ends.
std::vector<std::string> upperEnds(const Question& q, const Frame* frame) {
    std::vector<std::string> out;
    const Column* low = frame != nullptr ? frame->column(q.outcome) : nullptr;
    if (low == nullptr || low->isText()) {
        return out;
    }
    const auto lower = low->numbers();
    for (const Variable& v : frame->table().variables) {
        const Column* high = frame->column(v.name);
        if (v.name == q.outcome || high->isText() || v.measure != Measure::Quantity) {
            continue;
        }
        const auto upper = high->numbers();
        std::size_t both = 0;
        std::size_t wider = 0;
        bool crossed = false;
        for (std::size_t i = 0; i < lower.size() && !crossed; ++i) {
            if (!std::isnan(lower[i]) && !std::isnan(upper[i])) {
                ++both;
                wider += upper[i] > lower[i] ? 1 : 0;
                crossed = upper[i] < lower[i];
            }
        }
        const auto alike =
            std::mismatch(v.name.begin(), v.name.end(), q.outcome.begin(), q.outcome.end()).first -
            v.name.begin();
        if (!crossed && both > 1 && wider > 0 && alike >= 3) {
            out.push_back(quotedName(v.name));
        }
    }
    return out;
}

/// What the rows of an answer tell of the outcome and of the terms.
void lookAtDesign(const Design& design, OfferedTo& to) {
    for (const DesignTerm& term : design.terms) {
        if (term.yesNo) {
            to.switches.push_back(term.name);
        } else if (!term.groups && !term.isProduct && !term.factors.empty() &&
                   term.name.find(" past bend ") == std::string::npos &&
                   !term.name.starts_with("bend ")) {
            to.amounts.push_back(term.name);
        }
    }
    if (design.y.size() == 0) {
        return;
    }
    const double least = design.y.minCoeff();
    if ((design.y.array() == least).count() > design.y.size() / 50 && design.levelNames.empty()) {
        to.heapedLeast = least;
    }
    to.shares = least >= 0.0 && design.y.maxCoeff() <= 1.0 && !design.outcomeYesNo;
}

}  // namespace

OfferedMethods offeredMethods(const Study& study, const Frame* frame, const Question& question,
                              const Answer* answer) {
    OfferedTo to{question};
    const Variable* outcome = frame != nullptr ? frame->variable(question.outcome) : nullptr;
    const Column* column = frame != nullptr ? frame->column(question.outcome) : nullptr;
    to.measure = outcome != nullptr ? outcome->measure : Measure::Quantity;
    to.panel = study.layout.kind == Layout::Kind::Panel;
    to.inTime = study.layout.kind != Layout::Kind::CrossSection;
    to.lacksOutcome = column != nullptr && column->countMissing() > 0;
    to.upperEnds = upperEnds(question, frame);
    const bool known = answer != nullptr && answer->design != nullptr;
    to.yesNo = to.measure == Measure::YesNo || (known && answer->design->outcomeYesNo);
    if (known) {
        lookAtDesign(*answer->design, to);
    }
    OfferedMethods out;
    for (const Estimator& estimator : allEstimators()) {
        if (estimator.offers == nullptr) {
            continue;
        }
        for (OfferedMethod& one : estimator.offers(to)) {
            Question asked = question;
            asked.method = one.method = estimator.method;
            asked.settings = one.settings;
            one.label = one.label.empty() ? methodText(asked) : one.label;
            out.push_back(std::move(one));
        }
    }
    std::stable_sort(out.begin(), out.end(), [](const OfferedMethod& a, const OfferedMethod& b) {
        return a.place < b.place;
    });
    return out;
}

}  // namespace rapporto
