#include "core/defend/ways_to_defend.h"

#include "core/base/format.h"
#include "core/defend/by_lot.h"
#include "core/defend/defence.h"
#include "core/expression/expression.h"
#include "core/model/left_out.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;

class Finder {
  public:
    Finder(const Study& study, const Answer& answer, const Coefficient& effect)
        : study_(study),
          question_(answer.question),
          answer_(answer),
          design_(*answer.design),
          fit_(*answer.fit),
          effect_(effect),
          term_(design_.terms[static_cast<std::size_t>(effect.designTerm)]) {}

    std::vector<WayToDefend> run() {
        leftOut();
        lots();
        worstCases();
        size();
        placebos();
        return std::move(out_);
    }

  private:
    void propose(const std::string& label, const std::string& why, Question question) {
        out_.push_back({label, why, std::move(question), false});
    }

    void leftOut() {
        if (!canAskLeftOut(fit_, effect_) ||
            (question_.leftOut && question_.leftOut->of == effect_.term)) {
            return;
        }
        Question next = question_;
        next.leftOut = usualLeftOut(question_, design_, effect_, study_.sets);
        propose("What may be left out",
                "how strong a cause that is not among the terms would have to be to undo this "
                "effect",
                std::move(next));
    }

    /// The cause is one number in all rows of each of these.
    [[nodiscard]] bool isConstantWithin(const std::vector<std::int32_t>& groups) const {
        const Design& raw = design_.swept && design_.before ? *design_.before : design_;
        std::map<std::int32_t, double> known;
        for (Index i = 0; i < raw.X.rows(); ++i) {
            const double own = raw.X(i, effect_.column);
            const auto [at, fresh] = known.emplace(groups[static_cast<std::size_t>(i)], own);
            if (!fresh && at->second != own) {
                return false;
            }
        }
        return true;
    }

    void lots() {
        if (!canDrawLots(design_, fit_) || term_.isProduct ||
            (question_.byLot && question_.byLot->of == term_.name)) {
            return;
        }
        Question next = question_;
        next.byLot = LotRequest{term_.name};
        std::string who = "rows";
        const auto by = [&](const std::string& name, const std::vector<std::int32_t>& groups) {
            if (isConstantWithin(groups)) {
                next.byLot->by = name;
                who = "whole groups of " + name;
            } else {
                next.byLot->within = {name};
                who = "rows within " + name;
            }
        };
        if (question_.errors.by.size() == 1 && design_.clusters.size() == 1) {
            by(question_.errors.by.front(), design_.clusters.front());
        } else if (!design_.units.empty()) {
            by(quotedName(study_.layout.unit), design_.units);
        }
        // Where each lot is swept row by row, no more than come in some seconds.
        if (design_.effects.size() > 1) {
            next.byLot->draws = design_.y.size() > 50000  ? 199
                                : design_.y.size() > 5000 ? 999
                                                          : 9999;
        }
        propose("Draw it by lot",
                "how often " + term_.name + " would be as loud, drawn anew among " + who +
                    ", if it did nothing",
                std::move(next));
    }

    void worstCases() {
        const auto lacks =
            std::find_if(answer_.rows.missingBy.begin(), answer_.rows.missingBy.end(),
                         [&](const RowCounts::Lack& one) { return one.name == design_.outcome; });
        if (!canDrawLots(design_, fit_) || lacks == answer_.rows.missingBy.end() ||
            lacks->alone == 0 || question_.missing != "rows" ||
            (question_.worstCases && question_.worstCases->of == effect_.term)) {
            return;
        }
        Question next = question_;
        next.worstCases = WorstCaseRequest{effect_.term};
        propose("Worst cases",
                "how far this effect could move with the " +
                    plural(lacks->alone, "outcome", "outcomes") + " not seen",
                std::move(next));
    }

    void size() {
        const bool asked =
            std::any_of(question_.planned.begin(), question_.planned.end(),
                        [&](const PlannedRequest& one) { return one.of == effect_.term; });
        if (asked || !isError(effect_.se, effect_.estimate) || effect_.estimate == 0.0) {
            return;
        }
        Question next = question_;
        // Two digits, as somebody would name it.
        const double unit =
            std::pow(10.0, std::floor(std::log10(std::abs(effect_.estimate))) - 1.0);
        next.planned.push_back({effect_.term, std::round(effect_.estimate / unit) * unit});
        propose("How many rows would do",
                "to find an effect of this size, or of another that matters", std::move(next));
    }

    void placebos() {
        const bool moments = design_.layout != Layout::Kind::CrossSection &&
                             (!design_.moments.empty() || !design_.unitMoments.empty());
        const bool plain =
            std::any_of(question_.terms.begin(), question_.terms.end(), [&](const Term& term) {
                return !term.muted && term.kind == Term::Kind::Expression &&
                       canonicalText(term.parts.front()) == term_.name;
            });
        if (!moments || !plain || fit_.dynamic || fit_.event) {
            return;
        }
        const auto variant = [&](const std::string& title) {
            Question out = question_;
            out.id.clear();
            out.variantOf = question_.variantOf.empty() ? question_.id : question_.variantOf;
            out.lead = false;
            out.title = title;
            dropDefence(out);
            out.hypotheses.clear();
            out.effects.clear();
            out.predict.clear();
            return out;
        };
        Question before = variant("placebo: the outcome before");
        before.outcome = canonicalText("lag(" + question_.outcome + ")");
        out_.push_back({"Placebo: the outcome before",
                        "the outcome of the moment before, which " + term_.name +
                            " cannot have moved: an effect there speaks against the cause",
                        std::move(before), true});
        Question later = variant("placebo: the cause later");
        for (Term& term : later.terms) {
            if (term.kind == Term::Kind::Expression &&
                canonicalText(term.parts.front()) == term_.name) {
                term.parts.front() = canonicalText("lead(" + term_.name + ")");
            }
        }
        out_.push_back({"Placebo: the cause later",
                        "the next moment’s " + term_.name +
                            ", which cannot have done anything yet: an effect of it speaks against "
                            "the cause",
                        std::move(later), true});
    }

    const Study& study_;
    const Question& question_;
    const Answer& answer_;
    const Design& design_;
    const Fit& fit_;
    const Coefficient& effect_;
    const DesignTerm& term_;
    std::vector<WayToDefend> out_;
};

}  // namespace

std::vector<WayToDefend> waysToDefend(const Study& study, const Answer& answer,
                                      std::size_t coefficient) {
    if (!answer.fit || !answer.design || answer.refusal || answer.fromMoments ||
        coefficient >= answer.fit->coefficients.size()) {
        return {};
    }
    const Coefficient& effect = answer.fit->coefficients[coefficient];
    const bool ofTerm = effect.designTerm >= 0 && effect.equation == "main" &&
                        effect.designTerm < static_cast<int>(answer.design->terms.size());
    return ofTerm ? Finder(study, answer, effect).run() : std::vector<WayToDefend>();
}

}  // namespace rapporto
