#pragma once

#include "app/shell/number_marks.h"
#include "core/checks/check.h"
#include "core/model/fit.h"

#include <QColor>
#include <QFont>
#include <QRectF>
#include <QString>

class QApplication;
class QPainter;
class QWidget;

namespace rapporto::app {

/// The palette by role; see the look in docs. What stands here is paper; `useTheme` changes it.
namespace colour {
inline QColor kGround(0xFA, 0xF8, 0xF3);
inline QColor kPanel(0xF1, 0xED, 0xE4);
inline QColor kField(0xFF, 0xFF, 0xFF);  ///< Where one types, and cards.
inline QColor kBand(0xFB, 0xF3, 0xDF);   ///< A question of the program’s own.
inline QColor kHairline(0xD9, 0xD2, 0xC3);
inline QColor kGrid(0xE7, 0xE1, 0xD4);
inline QColor kScroll(0xCF, 0xC8, 0xB8);
inline QColor kInk(0x23, 0x27, 0x33);
inline QColor kSoft(0x63, 0x67, 0x73);
inline QColor kAccent(0x14, 0x60, 0x6B);
inline QColor kAccentWash(0xE6, 0xEE, 0xEE);
inline QColor kAccentHover(0xD6, 0xE6, 0xE6);
inline QColor kAccentSoft(0x4B, 0x86, 0x8E);
inline QColor kMarked(0xCF, 0xE0, 0xE0);  ///< Text that is selected.
inline QColor kBlue(0x35, 0x52, 0x7D);
inline QColor kOchre(0xB9, 0x82, 0x2B);
inline QColor kOchreText(0x8C, 0x5F, 0x16);  ///< Ochre dark enough for text.
inline QColor kHatch(0xE3, 0xCF, 0xA4);
inline QColor kPlum(0x7A, 0x40, 0x69);
inline QColor kMoss(0x5B, 0x7B, 0x3A);
inline QColor kClay(0xA4, 0x51, 0x3A);
inline QColor kSlate(0x70, 0x80, 0x90);
inline QColor kMuted(0x8A, 0x93, 0xA3);
inline QColor kBars(0x9F, 0xAB, 0xBF);
}  // namespace colour

enum class Theme : std::uint8_t { ByDesktop, Paper, Dark };

/// Loads the fonts that ship with the application and styles it.
void applyTheme(QApplication& application);

/// Changes the colours of everything that is there; what paints itself does so on its next turn.
void useTheme(Theme theme);
[[nodiscard]] Theme theme();
[[nodiscard]] bool isDark();

/// A style sheet or rich text with its roles, as in “color:{soft}”, made colours.
[[nodiscard]] QString themed(QString text);

/// The widget’s own style sheet, with roles; it follows the theme.
void dress(QWidget* widget, const QString& sheet);

/// Paper for as long as it lives: figures and pages that leave the window are never dark.
class OnPaper {
  public:
    OnPaper();
    ~OnPaper();
    OnPaper(const OnPaper&) = delete;
    OnPaper& operator=(const OnPaper&) = delete;

  private:
    bool dark_;
};

/// Lato at a pixel size.
[[nodiscard]] QFont interfaceFont(int pixels = 13, bool bold = false);

/// STIX at a pixel size, for titles and equations.
[[nodiscard]] QFont paperFont(int pixels, bool italic = false);

[[nodiscard]] QString text(const std::string& utf8);
[[nodiscard]] std::string utf8(const QString& text);  ///< See numbered() for words with numbers.

/// An expression in the notation of a page: hives², √x.
[[nodiscard]] QString termText(const std::string& expression);

/// **bold** and a leading ~ (a caution) as rich text.
[[nodiscard]] QString richText(const std::string& marked);

/// ● moss, ◇ soft ink, ◉ moss in a ring, ◆ ochre half-filled, ■ clay, ○ soft ink; centred.
void drawVerdict(QPainter& painter, QPointF centre, Verdict verdict);
[[nodiscard]] QColor verdictColour(Verdict verdict);

/// Draws the lens of an effect; `at` maps a value to an x inside `area`.
void drawLens(QPainter& painter, const QRectF& area, const Coefficient& effect,
              const std::function<double(double)>& at, const QColor& colour);

}  // namespace rapporto::app
