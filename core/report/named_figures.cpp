#include "core/report/named_figures.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/event_picture.h"
#include "core/checks/groups_picture.h"
#include "core/checks/residual_pictures.h"
#include "core/checks/row_sheet.h"
#include "core/model/event_study.h"
#include "core/model/forecast.h"
#include "core/model/instruments.h"
#include "core/model/quantile.h"
#include "core/model/scenario.h"
#include "core/model/term_choice.h"
#include "core/picture/figure.h"
#include "core/report/cause_reading.h"
#include "core/report/defence_picture.h"
#include "core/report/effect_picture.h"
#include "core/report/left_out_picture.h"
#include "core/report/sweep_picture.h"
#include "core/report/term_choice_picture.h"
#include "core/report/wording.h"
#include "core/study/shape_trials.h"
#include "core/study/sweep.h"

#include <algorithm>
#include <array>

namespace rapporto {
namespace {

/// The variable that an item names first, or nothing.
std::string wantedOf(const ItemInput& in) {
    return in.item.variables.empty() ? std::string() : in.item.variables.front();
}

/// The first effect, or that of the term the item names; nothing where there is none.
std::optional<std::size_t> wantedEffect(const ItemInput& in, const Answer& answer) {
    const auto& list = answer.fit->coefficients;
    const std::string wanted = wantedOf(in);
    const auto found = std::find_if(list.begin(), list.end(), [&](const Coefficient& c) {
        return c.designTerm >= 0 && (wanted.empty() || c.term == wanted);
    });
    return found == list.end() ? std::nullopt
                               : std::optional(static_cast<std::size_t>(found - list.begin()));
}

tl::unexpected<Refusal> noTable() {
    return refuse(ErrorCode::BadSetting, "no table is at hand to fit anew", "figure",
                  "Open the study's source.");
}

/// Paragraphs of a reading as the note of a figure.
std::string asNote(const std::vector<std::string>& paragraphs) {
    std::string out;
    for (const std::string& one : paragraphs) {
        out += (out.empty() ? "" : " ") + withoutMarks(one.starts_with('~') ? one.substr(1) : one);
    }
    return out;
}

tl::unexpected<Refusal> noSuchTerm(const ItemInput& in) {
    return refuse(ErrorCode::BadSetting, "there is no effect of ‘" + wantedOf(in) + "’", "figure",
                  "Name a term of the question.");
}

MadeFigure titled(const Exhibit& exhibit, const std::string& otherwise) {
    return pageFigure(exhibit, exhibit.title.empty() ? otherwise : exhibit.title);
}

bool isLinear(const Answer& answer) {
    return answer.fit && answer.design && !answer.fit->likelihood && !answer.fit->quantile &&
           !answer.fit->levels && !answer.fromMoments;
}

bool hasShape(const Answer& answer) {
    return answer.scenarios && !answer.scenarios->variables().empty();
}

Result<MadeFigure> makeShape(const ItemInput& in, const Answer& answer) {
    std::string variable = wantedOf(in);
    if (variable.empty() && hasShape(answer)) {
        variable = answer.scenarios->variables().front().name;
    }
    const auto exhibit = shapeExhibit(answer, variable, in.item.by);
    if (!exhibit) {
        return tl::make_unexpected(exhibit.error());
    }
    return titled(*exhibit, "The effect of " + variable);
}

/// The first variable whose shape can be tried: a quantity or a count; empty: none.
std::string firstToTry(const Answer& answer) {
    const auto& all = answer.scenarios->variables();
    const auto found = std::find_if(all.begin(), all.end(), [](const ScenarioVariable& one) {
        return !one.groups && one.derivedFrom.empty() &&
               (one.measure == Measure::Quantity || one.measure == Measure::Count);
    });
    return found == all.end() ? std::string() : found->name;
}

bool hasShapes(const Answer& answer) {
    return isLinear(answer) && !answer.fit->instrumented && hasShape(answer) &&
           !firstToTry(answer).empty();
}

Result<MadeFigure> makeShapes(const ItemInput& in, const Answer& answer) {
    if (in.frame == nullptr) {
        return noTable();
    }
    const std::string along = wantedOf(in).empty() ? firstToTry(answer) : wantedOf(in);
    const std::string of = in.item.variables.size() > 1 ? in.item.variables[1] : along;
    const auto found = shapeTrials(*in.frame, answer.question, in.study.sets, of, along, in.job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    return titled(found->exhibit(-1), "Other shapes of " + of);
}

bool hasAlone(const Answer& answer) {
    return isLinear(answer) && !answer.fit->instrumented &&
           std::any_of(answer.fit->coefficients.begin(), answer.fit->coefficients.end(),
                       [](const Coefficient& c) { return c.designTerm >= 0; });
}

Result<MadeFigure> makeAlone(const ItemInput& in, const Answer& answer) {
    const auto at = wantedEffect(in, answer);
    if (!at) {
        return noSuchTerm(in);
    }
    const auto exhibit = addedVariable(*answer.design, *answer.fit, *at, in.job);
    if (!exhibit) {
        return tl::make_unexpected(exhibit.error());
    }
    return titled(*exhibit, answer.fit->coefficients[*at].term + " with all else taken out");
}

Result<MadeFigure> makeQuantiles(const ItemInput& in, const Answer& answer) {
    const auto at = wantedEffect(in, answer);
    if (!at) {
        return noSuchTerm(in);
    }
    return titled(processExhibit(answer, *at), "The effect along quantiles");
}

Result<MadeFigure> makeEvent(const ItemInput& /*in*/, const Answer& answer) {
    return titled(eventExhibit(*answer.fit->event, answer.alpha, shownNames(answer.design->outcome),
                               answer.design->outcomeUnit),
                  "Before and after the change");
}

/// The groups of the level that an item names (the innermost where it names none), of their
/// constant or of the slope it names beside it.
Result<MadeFigure> makeGroups(const ItemInput& in, const Answer& answer) {
    const LevelsFit& fit = *answer.fit->levels;
    const auto& names = in.item.variables;
    std::size_t level = 0;
    while (!names.empty() && level < fit.levels.size() && fit.levels[level].by != names[0]) {
        ++level;
    }
    std::size_t column = 0;
    const bool known = level < fit.levels.size();
    while (known && names.size() > 1 && column < fit.levels[level].variances.size() &&
           fit.levels[level].variances[column].term != names[1]) {
        ++column;
    }
    if (!known || column >= fit.levels[level].variances.size()) {
        return refuse(ErrorCode::BadSetting,
                      "there are no random effects of ‘" + wantedOf(in) + "’", "figure",
                      "Name a grouping of the question, and a slope of its groups.");
    }
    MadeFigure out =
        titled(groupsExhibit(*answer.design, fit, level, column, answer.alpha), "Groups");
    out.note = withoutMarks(levelsReading(fit, answer.alpha).substr(1));
    return out;
}

/// What the instruments do to a term, or to the outcome: lenses, and how strong they are.
Result<MadeFigure> stageFigure(const Answer& answer, const FirstStage& stage, bool reduced) {
    std::vector<std::string> names;
    std::vector<const Coefficient*> effects;
    const auto alone = stageAnswer(answer, stage);
    for (const Coefficient& c : alone->fit->coefficients) {
        if (c.designTerm >= 0) {
            names.push_back(c.label);
            effects.push_back(&c);
        }
    }
    return MadeFigure{lensDrawing(names, effects, kFigureWidth),
                      reduced ? "The outcome on the instruments"
                              : "What moves " + stage.endogenous + " in the first stage",
                      asNote(stageReading(answer, stage, reduced))};
}

Result<MadeFigure> makeFirstStage(const ItemInput& in, const Answer& answer) {
    const std::string wanted = wantedOf(in);
    for (const FirstStage& stage : answer.fit->instrumented->firstStages) {
        if (wanted.empty() || stage.endogenous == wanted) {
            return stageFigure(answer, stage, false);
        }
    }
    return noSuchTerm(in);
}

Result<MadeFigure> makeReducedForm(const ItemInput& /*in*/, const Answer& answer) {
    return stageFigure(answer, answer.fit->instrumented->reducedForm, true);
}

bool hasChoices(const Answer& answer) {
    return isLinear(answer) && !answer.fit->instrumented && answer.design->terms.size() >= 2;
}

/// Terms that the item names: they are in every choice.
std::vector<bool> heldIn(const ItemInput& in, const Design& design) {
    std::vector<bool> out;
    for (const DesignTerm& term : design.terms) {
        out.push_back(std::find(in.item.variables.begin(), in.item.variables.end(), term.name) !=
                      in.item.variables.end());
    }
    return out;
}

Result<MadeFigure> makeSubsets(const ItemInput& in, const Answer& answer) {
    const auto& all = allCriteria();
    const auto asked = std::find_if(all.begin(), all.end(),
                                    [&](const CriterionName& one) { return in.item.by == one.id; });
    const Criterion by = asked == all.end() ? all.front().criterion : asked->criterion;
    const auto found = searchSubsets(*answer.design, heldIn(in, *answer.design), 5, in.job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    MadeFigure out = titled(criteriaExhibit(*found, by), "Choices of terms by a criterion");
    out.note = withoutMarks(subsetReading(*answer.design, *found, by));
    return out;
}

Result<MadeFigure> penaltyFigure(const ItemInput& in, const Answer& answer, bool path) {
    const auto held = heldIn(in, *answer.design);
    const auto found = lassoPath(*answer.design, held, in.study.seed, in.job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    MadeFigure out =
        path ? titled(lassoPathExhibit(*answer.design, *found), "Coefficients along the penalty")
             : titled(lassoErrorExhibit(*found), "What a penalty errs");
    out.note = withoutMarks(lassoReading(*answer.design, *found, held));
    return out;
}

Result<MadeFigure> makePenalty(const ItemInput& in, const Answer& answer) {
    return penaltyFigure(in, answer, false);
}

Result<MadeFigure> makePenaltyPath(const ItemInput& in, const Answer& answer) {
    return penaltyFigure(in, answer, true);
}

Result<MadeFigure> makeControls(const ItemInput& in, const Answer& answer) {
    const auto& terms = answer.design->terms;
    const std::string wanted = wantedOf(in);
    const auto of = std::find_if(terms.begin(), terms.end(), [&](const DesignTerm& term) {
        return wanted.empty() || term.name == wanted;
    });
    if (of == terms.end()) {
        return noSuchTerm(in);
    }
    const auto found =
        doubleSelection(*answer.design, static_cast<std::size_t>(of - terms.begin()), in.job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    MadeFigure out = titled(selectionExhibit(*answer.design, *found), "Controls that are needed");
    out.note = withoutMarks(selectionReading(*answer.design, *found));
    return out;
}

std::string availableIn(const Answer& answer) {
    std::vector<std::string> names;
    for (const NamedFigure& figure : allNamedFigures()) {
        if (figure.has(answer)) {
            names.push_back("‘" + std::string(figure.shows) + "’");
        }
    }
    return names.empty() ? "Name a check that was made."
                         : "Name a check that was made, or one of " + joinedNames(names) + ".";
}

/// Pictures beside each other, two in a row, in the order they come.
MadeFigure together(std::vector<Exhibit> exhibits, const std::string& caption) {
    DrawnPicture picture;
    picture.columns = exhibits.size() > 1 ? 2 : 1;
    picture.exhibits = std::move(exhibits);
    return {pictureDrawing(picture, kFigureWidth), caption, ""};
}

bool hasResiduals(const Answer& answer) {
    const auto keys = keyPictures(answer.checks);
    return std::any_of(keys.begin(), keys.end(), [](const auto* key) { return key != nullptr; });
}

Result<MadeFigure> makeResiduals(const ItemInput& /*in*/, const Answer& answer) {
    std::vector<Exhibit> exhibits;
    for (const CheckResult* key : keyPictures(answer.checks)) {
        if (key != nullptr) {
            exhibits.push_back(key->exhibit);
        }
    }
    return together(std::move(exhibits), "What is left of " + questionTitle(answer));
}

bool hasFurtherResiduals(const Answer& answer) {
    return answer.fit && answer.design && !answer.fromMoments;
}

Result<MadeFigure> makeFurtherResiduals(const ItemInput& /*in*/, const Answer& answer) {
    auto exhibits =
        residualPictures(*answer.design, *answer.fit, answer.question.settings, answer.alpha);
    if (exhibits.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "a fit of this kind leaves no residuals that a picture could show", "figure",
                      availableIn(answer));
    }
    constexpr std::size_t kMost = 8;  // As many as stand on a page.
    exhibits.resize(std::min(exhibits.size(), kMost));
    return together(std::move(exhibits), "What is left of " + questionTitle(answer));
}

bool hasLeftOut(const Answer& answer) { return leftOutToDraw(answer) != nullptr; }

Result<MadeFigure> makeLeftOut(const ItemInput& /*in*/, const Answer& answer) {
    return titled(leftOutExhibit(*leftOutToDraw(answer), answer.alpha), "What may be left out");
}

bool hasStability(const Answer& answer) { return !stabilityExhibit(answer).lines.empty(); }

Result<MadeFigure> makeStability(const ItemInput& /*in*/, const Answer& answer) {
    return titled(stabilityExhibit(answer), "How stable an effect is");
}

bool hasLots(const Answer& answer) { return lotsToDraw(answer) != nullptr; }

Result<MadeFigure> makeLots(const ItemInput& /*in*/, const Answer& answer) {
    return titled(lotsExhibit(*lotsToDraw(answer)), "The cause by lot");
}

bool hasForecast(const Answer& answer) { return answer.forecast && *answer.forecast; }

Result<MadeFigure> makeForecast(const ItemInput& /*in*/, const Answer& answer) {
    return titled(forecastExhibit(answer), "Moments to come");
}

bool hasSweep(const Answer& answer) {
    return isLinear(answer) && !answer.fit->bent && canSweep(answer.question);
}

Result<MadeFigure> makeSweep(const ItemInput& in, const Answer& answer) {
    if (in.frame == nullptr) {
        return noTable();
    }
    const auto found = sweep(in.study, *in.frame,
                             sweepOf(answer.question, *answer.design, *answer.fit,
                                     in.item.sweep.value_or(SweepChoices{})),
                             in.job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    if (found->results.empty()) {
        return refuse(ErrorCode::BadSetting, "no specification has an answer", "figure",
                      "Let other terms come and go.");
    }
    return MadeFigure{
        sweepDrawing(*found, answer.alpha, kFigureWidth),
        found->spec.of + " over " + countText(found->results.size()) + " specifications, sorted",
        asNote(sweepReading(*found)) + " " + sweptOver(*found)};
}

}  // namespace

std::span<const NamedFigure> allNamedFigures() {
    static const std::array kFigures = {
        NamedFigure{"shape", "shape of an effect", &hasShape, &makeShape},
        NamedFigure{"shapes", "other shapes", &hasShapes, &makeShapes, true},
        NamedFigure{"alone", "an effect with all else taken out", &hasAlone, &makeAlone},
        NamedFigure{"residuals", "what is left, together", &hasResiduals, &makeResiduals},
        NamedFigure{"residuals-further", "what is left, from every side", &hasFurtherResiduals,
                    &makeFurtherResiduals, true},
        NamedFigure{"quantiles", "along quantiles",
                    [](const Answer& a) { return a.fit && a.fit->quantile != nullptr; },
                    &makeQuantiles},
        NamedFigure{"groups", "groups’ effects",
                    [](const Answer& a) { return a.fit && a.fit->levels != nullptr; }, &makeGroups},
        NamedFigure{"event", "before and after",
                    [](const Answer& a) { return a.fit && a.fit->event != nullptr; }, &makeEvent},
        NamedFigure{"first-stage", "what moves a term",
                    [](const Answer& a) { return a.fit && a.fit->instrumented != nullptr; },
                    &makeFirstStage},
        NamedFigure{"reduced-form", "the outcome on the instruments",
                    [](const Answer& a) { return a.fit && a.fit->instrumented != nullptr; },
                    &makeReducedForm},
        NamedFigure{"sweep", "an effect over its specifications", &hasSweep, &makeSweep, true},
        NamedFigure{"left-out", "what a cause left out would do", &hasLeftOut, &makeLeftOut},
        NamedFigure{"stability", "how stable an effect is", &hasStability, &makeStability},
        NamedFigure{"by-lot", "the cause by lot", &hasLots, &makeLots},
        NamedFigure{"forecast", "moments to come", &hasForecast, &makeForecast},
        NamedFigure{"subsets", "choices of terms", &hasChoices, &makeSubsets, true},
        NamedFigure{"penalty", "terms by a penalty", &hasChoices, &makePenalty, true},
        NamedFigure{"penalty-path", "coefficients along a penalty", &hasChoices, &makePenaltyPath,
                    true},
        NamedFigure{"controls", "controls that are needed", &hasChoices, &makeControls, true},
    };
    return kFigures;
}

bool fitAnew(const std::vector<ReportItem>& items) {
    return std::any_of(items.begin(), items.end(), [](const ReportItem& item) {
        const auto all = allNamedFigures();
        return item.item == "figure" &&
               std::any_of(all.begin(), all.end(), [&](const NamedFigure& one) {
                   return one.fitsAnew && item.shows == one.shows;
               });
    });
}

MadeFigure pageFigure(const Exhibit& exhibit, const std::string& caption) {
    MadeFigure out{exhibitDrawing(exhibit, kFigureWidth, 0.58 * kFigureWidth), caption, ""};
    if (!exhibit.subtitle.empty()) {
        out.note = capitalised(exhibit.subtitle) + (exhibit.subtitle.ends_with('.') ? "" : ".");
    }
    return out;
}

Result<MadeFigure> namedFigure(const ItemInput& in, const Answer& answer) {
    const std::string shows = in.item.shows.empty() ? "shape" : in.item.shows;
    const auto all = allNamedFigures();
    const auto named = std::find_if(all.begin(), all.end(),
                                    [&](const NamedFigure& one) { return shows == one.shows; });
    if (named != all.end() && named->has(answer)) {
        return named->make(in, answer);
    }
    for (const CheckResult& check : answer.checks) {
        if (check.id == shows && check.verdict != Verdict::NotApplicable) {
            return pageFigure(check.exhibit, (check.exhibit.title.empty() ? checkName(check)
                                                                          : check.exhibit.title) +
                                                 ", " + questionTitle(answer));
        }
    }
    return refuse(ErrorCode::BadSetting, questionTitle(answer) + " has no figure ‘" + shows + "’",
                  "figure", availableIn(answer));
}

std::vector<std::pair<std::string, std::string>> figuresOf(const Answer& answer) {
    std::vector<std::pair<std::string, std::string>> out;
    for (const NamedFigure& figure : allNamedFigures()) {
        if (figure.has(answer)) {
            out.emplace_back(figure.shows, figure.words);
        }
    }
    for (const CheckResult& check : answer.checks) {
        const Check* known = findCheck(check.id);
        if (known != nullptr && check.verdict != Verdict::NotApplicable) {
            out.emplace_back(known->id, known->name);
        }
    }
    return out;
}

}  // namespace rapporto
