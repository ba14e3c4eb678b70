#pragma once

#include <QString>

#include <optional>
#include <string>

namespace rapporto::app {

/// The marks that a person reads and types numbers with.
struct NumberMarks {
    QString decimal = ".";
    QString thousands = QChar(0x202F);  ///< A narrow space, the other mark, an apostrophe.

    friend bool operator==(const NumberMarks&, const NumberMarks&) = default;
};

[[nodiscard]] const NumberMarks& numberMarks();

/// What is shown from now on has these marks.
void useNumberMarks(const NumberMarks& marks);

/// Words of the core as they are shown: their numbers in the person’s marks. Not for names,
/// expressions and paths, which are what they are.
[[nodiscard]] QString numbered(const std::string& words);

/// The number that was typed in the person’s marks, or with a decimal comma or point where those
/// leave no doubt; nothing where it is none.
[[nodiscard]] std::optional<double> typedNumber(const QString& typed);

}  // namespace rapporto::app
