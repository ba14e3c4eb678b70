#include "core/study/kept.h"

#include "core/describe/calibration_facts.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/panel.h"
#include "core/model/robust.h"
#include "core/model/rows_left.h"

#include <algorithm>
#include <cctype>
#include <limits>

namespace rapporto {
namespace {

/// “farming zone” as a part of a name: farming_zone.
std::string asPart(const std::string& text) {
    std::string out;
    for (const char c : text) {
        out += std::isalnum(static_cast<unsigned char>(c)) != 0 ? c : '_';
    }
    return out;
}

/// The name, with a number behind it where it is in use.
std::string freeName(const std::string& base, const std::set<std::string>& taken) {
    std::string name = base;
    for (int i = 2; taken.contains(name); ++i) {
        name = base + "_" + std::to_string(i);
    }
    return name;
}

/// What a group adds, of each row: its own constant, or “village × hives”, its slope’s departure.
Eigen::VectorXd effectOfGroups(const Design& design, const LevelsFit& fit,
                               const std::string& grouping) {
    for (std::size_t l = 0; l < fit.levels.size(); ++l) {
        const LevelsFit::Level& level = fit.levels[l];
        for (std::size_t c = 0; c < level.variances.size(); ++c) {
            if (grouping == level.by + (c == 0 ? "" : " × " + level.variances[c].term)) {
                Eigen::VectorXd out(static_cast<Eigen::Index>(design.rows.size()));
                for (std::size_t i = 0; i < design.rows.size(); ++i) {
                    out(static_cast<Eigen::Index>(i)) =
                        level.effects(design.levels[l].of[i], static_cast<Eigen::Index>(c));
                }
                return out;
            }
        }
    }
    return {};
}

}  // namespace

std::vector<Keepable> keepables(const Answer& answer) {
    std::vector<Keepable> out;
    if (!answer.fit || !answer.design) {
        return out;
    }
    const auto n = answer.design->rows.size();
    if (static_cast<std::size_t>(answer.fit->fitted.size()) == n) {
        out.push_back({"fitted", "", "fitted values"});
    }
    if (static_cast<std::size_t>(answer.fit->residuals.size()) == n) {
        out.push_back({"left", "", "what is left"});
    }
    if (answer.fit->robust && static_cast<std::size_t>(answer.fit->robust->weights.size()) == n) {
        out.push_back({"weight", "", "the weights of the rows"});
    }
    const bool count = answer.fit->likelihood && answer.fit->likelihood->family->isPoisson();
    if (answer.design->swept || count) {
        for (const SweptGrouping& effects : answer.design->effects) {
            out.push_back({"effect", effects.name, "effects of " + effects.name});
        }
    }
    if (answer.fit->levels) {
        for (const LevelsFit::Level& level : answer.fit->levels->levels) {
            for (std::size_t c = 0; c < level.variances.size(); ++c) {
                const std::string of =
                    level.by + (c == 0 ? std::string() : " × " + level.variances[c].term);
                out.push_back({"effect", of, "effects of " + of});
            }
        }
    }
    return out;
}

Result<KeptColumn> keptColumn(const Answer& answer, const Keepable& what, std::size_t rows,
                              const std::set<std::string>& taken, const Job& job) {
    if (!answer.fit || !answer.design) {
        return refuse(ErrorCode::BadSetting, "there is no fit to keep anything of", "",
                      "Put the question right first.");
    }
    const Fit& fit = *answer.fit;
    const Design& design = *answer.design;
    Eigen::VectorXd values;
    KeptColumn out;
    out.what = what.what;
    out.question = answer.question.id;
    out.grouping = what.grouping;
    const std::string of = " of " + answer.question.id;
    std::string name = what.what;
    if (what.what == "fitted") {
        values = fittedOfRows(design, fit);
        out.label = "Fitted " + design.outcome + of;
        out.unit = design.outcomeUnit;
    } else if (what.what == "left") {
        values = leftOfRows(design, fit);
        out.label = "Left of " + design.outcome + of;
        out.unit = design.outcomeUnit;
    } else if (what.what == "weight" && fit.robust) {
        values = fit.robust->weights;
        out.label = "Weights" + of;
    } else if (fit.levels) {
        values = effectOfGroups(design, *fit.levels, what.grouping);
        name += "_" + asPart(what.grouping);
        out.label = "Effect of " + what.grouping + of;
    } else {
        const auto effects = effectsHeldFixed(fit, design, job);
        if (!effects) {
            return tl::make_unexpected(effects.error());
        }
        for (std::size_t d = 0; d < effects->size(); ++d) {
            if (design.effects[d].name == what.grouping) {
                values = (*effects)[d];
            }
        }
        name += "_" + asPart(what.grouping);
        out.label = "Effect of " + what.grouping + of;
    }
    if (static_cast<std::size_t>(values.size()) != design.rows.size()) {
        return refuse(ErrorCode::NotBuilt, "this fit has no " + what.shown + " row by row");
    }
    out.name = freeName(name + "_" + asPart(answer.question.id), taken);
    auto all =
        std::make_shared<std::vector<double>>(rows, std::numeric_limits<double>::quiet_NaN());
    for (std::size_t i = 0; i < design.rows.size(); ++i) {
        if (design.rows[i] < rows) {
            (*all)[design.rows[i]] = values(static_cast<Eigen::Index>(i));
        }
    }
    out.values = std::move(all);
    return out;
}

KeptColumn keptWeights(const SurveyRows& rows, const std::set<std::string>& taken) {
    KeptColumn out;
    out.what = "weight";
    out.name = freeName("weight_calibrated", taken);
    out.label = "Weights" + (rows.known ? " " + calibrationWords(rows) : std::string());
    std::vector<double> values = rows.weights;
    for (std::size_t i = 0; i < values.size(); ++i) {
        values[i] = rows.strata[i] < 0 ? std::numeric_limits<double>::quiet_NaN() : values[i];
    }
    out.values = std::make_shared<const std::vector<double>>(std::move(values));
    return out;
}

}  // namespace rapporto
