#pragma once

#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// & < > " as entities, and what no markup may hold (control characters) as blanks: a text of a
/// page, a picture, a document.
[[nodiscard]] std::string escapedText(const std::string& text);

/// A stretch of a marked text in one dress.
struct TextRun {
    std::string text;
    bool bold = false;
};

/// A text marked with ** where it is bold, in stretches; a mark without its other half is text, and
/// so are the stars of “* p < .05, ** p < .01”.
[[nodiscard]] std::vector<TextRun> textRuns(const std::string& marked);

/// A marked text in HTML: & < > " as entities, **…** as bold.
[[nodiscard]] std::string htmlText(const std::string& marked);

/// A marked text without its marks.
[[nodiscard]] std::string withoutMarks(const std::string& marked);

/// `text` with every `from` replaced.
[[nodiscard]] std::string replacedAll(std::string text, const std::string& from,
                                      const std::string& to);

}  // namespace rapporto
