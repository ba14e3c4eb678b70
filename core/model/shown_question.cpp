#include "core/model/shown_question.h"

#include "core/base/shown_names.h"
#include "core/model/question_texts.h"

#include <algorithm>

namespace rapporto {

std::vector<std::string> quotedTexts(const Question& question) {
    std::vector<std::string> out;
    const auto put = [&](const std::string& text) {
        if (text.find('"') != std::string::npos) {
            out.push_back(text);
        }
    };
    Question read = question;  // What visits may change what it visits.
    eachText(read, put);
    std::for_each(read.hypotheses.begin(), read.hypotheses.end(), put);
    return out;
}

std::string shownNames(const std::string& words, const Question& question) {
    return words.find('"') == std::string::npos ? words
                                                : shownNamesOf(words, quotedTexts(question));
}

}  // namespace rapporto
