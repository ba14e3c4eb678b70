#include "app/shell/number_marks.h"

#include "core/report/blocks.h"

#include <QRegularExpression>

#include <cmath>

namespace rapporto::app {
namespace {

NumberMarks& present() {
    static NumberMarks marks;
    return marks;
}

/// The same as the core has them.
ReportDress& dressOfMarks() {
    static ReportDress dress;
    return dress;
}

}  // namespace

const NumberMarks& numberMarks() { return present(); }

void useNumberMarks(const NumberMarks& marks) {
    present() = marks;
    dressOfMarks().decimal = marks.decimal.toStdString();
    dressOfMarks().thousands = marks.thousands.toStdString();
}

QString numbered(const std::string& words) {
    return QString::fromStdString(dressed(words, dressOfMarks()));
}

std::optional<double> typedNumber(const QString& typed) {
    static const QRegularExpression kSpaces("[\\s\u00A0\u202F\u2009]");
    QString plain = typed;
    plain.remove(kSpaces).replace(QChar(0x2212), '-');
    const NumberMarks& marks = numberMarks();
    if (const QString mark = QRegularExpression::escape(marks.thousands); !mark.isEmpty()) {
        // Only where it parts threes: “1,5” is one and a half wherever one writes 1,500.
        const QRegularExpression threes("^-?[1-9]\\d{0,2}(" + mark + "\\d{3})+(" +
                                        QRegularExpression::escape(marks.decimal) + "\\d*)?$");
        if (threes.match(plain).hasMatch()) {
            plain.remove(marks.thousands);
        }
    }
    plain.replace(marks.decimal, ".");
    if (plain.count(',') == 1 && !plain.contains('.')) {
        plain.replace(',', '.');
    }
    bool fits = false;
    const double value = plain.toDouble(&fits);
    return fits && std::isfinite(value) ? std::optional(value) : std::nullopt;
}

}  // namespace rapporto::app
