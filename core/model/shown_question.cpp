#include "core/model/shown_question.h"

#include "core/base/shown_names.h"

namespace rapporto {

std::vector<std::string> quotedTexts(const Question& question) {
    std::vector<std::string> out;
    const auto put = [&](const std::string& text) {
        if (text.find('"') != std::string::npos) {
            out.push_back(text);
        }
    };
    for (const std::string* text :
         {&question.outcome, &question.where, &question.weight, &question.offset,
          &question.exposure, &question.settings.variable}) {
        put(*text);
    }
    for (const auto* terms :
         {&question.endogenous, &question.terms, &question.instruments, &question.completeBy}) {
        for (const Term& term : *terms) {
            for (const std::string& part : term.parts) {
                put(part);
            }
        }
    }
    for (const auto* texts :
         {&question.variables, &question.holding, &question.fixedEffects, &question.ownSlopes,
          &question.settings.zeroTerms, &question.errors.by, &question.hypotheses}) {
        for (const std::string& text : *texts) {
            put(text);
        }
    }
    for (const LevelSpec& level : question.settings.levels) {
        put(level.by);
        for (const std::string& slope : level.slopes) {
            put(slope);
        }
    }
    return out;
}

std::string shownNames(const std::string& words, const Question& question) {
    return words.find('"') == std::string::npos ? words
                                                : shownNamesOf(words, quotedTexts(question));
}

}  // namespace rapporto
