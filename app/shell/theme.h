#pragma once

#include "core/checks/check.h"
#include "core/model/fit.h"

#include <QColor>
#include <QFont>
#include <QRectF>
#include <QString>

class QApplication;
class QPainter;

namespace rapporto::app {

/// The palette by role; see the look in docs. One place to change a colour.
namespace colour {
inline const QColor kGround(0xFA, 0xF8, 0xF3);
inline const QColor kPanel(0xF1, 0xED, 0xE4);
inline const QColor kHairline(0xD9, 0xD2, 0xC3);
inline const QColor kInk(0x23, 0x27, 0x33);
inline const QColor kSoft(0x6B, 0x6F, 0x7B);
inline const QColor kAccent(0x14, 0x60, 0x6B);
inline const QColor kAccentWash(0xE6, 0xEE, 0xEE);
inline const QColor kBlue(0x35, 0x52, 0x7D);
inline const QColor kOchre(0xB9, 0x82, 0x2B);
inline const QColor kOchreText(0x96, 0x66, 0x18);  ///< Ochre dark enough for text.
inline const QColor kPlum(0x7A, 0x40, 0x69);
inline const QColor kMoss(0x5B, 0x7B, 0x3A);
inline const QColor kClay(0xA4, 0x51, 0x3A);
inline const QColor kBars(0x9F, 0xAB, 0xBF);
}  // namespace colour

/// Loads the fonts that ship with the application and styles it.
void applyTheme(QApplication& application);

/// Lato at a pixel size.
[[nodiscard]] QFont interfaceFont(int pixels = 13, bool bold = false);

/// STIX at a pixel size, for titles and equations.
[[nodiscard]] QFont paperFont(int pixels, bool italic = false);

[[nodiscard]] QString text(const std::string& utf8);
[[nodiscard]] std::string utf8(const QString& text);

/// An expression in the notation of a page: hives², √x.
[[nodiscard]] QString termText(const std::string& expression);

/// **bold** and a leading ~ (a caution) as rich text.
[[nodiscard]] QString richText(const std::string& marked);

/// ● moss, ◆ ochre half-filled, ■ clay, ○ soft ink; centred.
void drawVerdict(QPainter& painter, QPointF centre, Verdict verdict);

/// Draws the lens of an effect; `at` maps a value to an x inside `area`.
void drawLens(QPainter& painter, const QRectF& area, const Coefficient& effect,
              const std::function<double(double)>& at, const QColor& colour);

}  // namespace rapporto::app
