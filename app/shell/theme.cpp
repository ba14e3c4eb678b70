#include "app/shell/theme.h"

#include "core/base/shown_names.h"
#include "core/report/lens.h"
#include "core/report/report.h"

#include <QApplication>
#include <QFontDatabase>
#include <QPainter>
#include <QPainterPath>
#include <QRegularExpression>
#include <QWidget>

#include <algorithm>
#include <cmath>

/// A static library's resources are linked only when they are asked for, outside any namespace.
static void linkResources() { Q_INIT_RESOURCE(resources); }

namespace rapporto::app {

namespace {

struct Role {
    const char* name;
    QColor* now;
    QColor paper;
    QColor dark;
};

const std::vector<Role>& roles() {
    static const std::vector<Role> kRoles = {
        {"ground", &colour::kGround, colour::kGround, QColor(0x1E, 0x21, 0x27)},
        {"panel", &colour::kPanel, colour::kPanel, QColor(0x27, 0x2B, 0x33)},
        {"field", &colour::kField, colour::kField, QColor(0x17, 0x19, 0x1E)},
        {"band", &colour::kBand, colour::kBand, QColor(0x3A, 0x33, 0x22)},
        {"hairline", &colour::kHairline, colour::kHairline, QColor(0x43, 0x49, 0x54)},
        {"grid", &colour::kGrid, colour::kGrid, QColor(0x32, 0x37, 0x40)},
        {"scroll", &colour::kScroll, colour::kScroll, QColor(0x53, 0x5A, 0x67)},
        {"ink", &colour::kInk, colour::kInk, QColor(0xE9, 0xE5, 0xDB)},
        {"soft", &colour::kSoft, colour::kSoft, QColor(0xA2, 0xA8, 0xB4)},
        {"accent", &colour::kAccent, colour::kAccent, QColor(0x6C, 0xBF, 0xC9)},
        {"wash", &colour::kAccentWash, colour::kAccentWash, QColor(0x29, 0x3B, 0x40)},
        {"hover", &colour::kAccentHover, colour::kAccentHover, QColor(0x2E, 0x47, 0x4D)},
        {"accentsoft", &colour::kAccentSoft, colour::kAccentSoft, QColor(0x4F, 0x92, 0x9B)},
        {"marked", &colour::kMarked, colour::kMarked, QColor(0x2F, 0x52, 0x59)},
        {"blue", &colour::kBlue, colour::kBlue, QColor(0x8F, 0xB0, 0xDE)},
        {"ochre", &colour::kOchre, colour::kOchre, QColor(0xDB, 0xA9, 0x52)},
        {"caution", &colour::kOchreText, colour::kOchreText, QColor(0xE3, 0xB9, 0x6A)},
        {"hatch", &colour::kHatch, colour::kHatch, QColor(0x66, 0x55, 0x2E)},
        {"plum", &colour::kPlum, colour::kPlum, QColor(0xC9, 0x90, 0xBA)},
        {"moss", &colour::kMoss, colour::kMoss, QColor(0xA0, 0xC2, 0x7C)},
        {"clay", &colour::kClay, colour::kClay, QColor(0xE3, 0x8F, 0x77)},
        {"slate", &colour::kSlate, colour::kSlate, QColor(0x9C, 0xAB, 0xBA)},
        {"muted", &colour::kMuted, colour::kMuted, QColor(0x7E, 0x86, 0x94)},
        {"bars", &colour::kBars, colour::kBars, QColor(0x5E, 0x6C, 0x84)},
    };
    return kRoles;
}

struct Chosen {
    Theme theme = Theme::Paper;
    bool dark = false;
    bool desktopIsDark = false;
};

Chosen& chosen() {
    static Chosen all;
    return all;
}

void takeColours(bool dark) {
    for (const Role& role : roles()) {
        *role.now = dark ? role.dark : role.paper;
    }
}

void styleApplication() {
    QPalette palette;
    palette.setColor(QPalette::Window, colour::kGround);
    palette.setColor(QPalette::Base, colour::kGround);
    palette.setColor(QPalette::AlternateBase, colour::kPanel);
    palette.setColor(QPalette::Button, colour::kPanel);
    palette.setColor(QPalette::Text, colour::kInk);
    palette.setColor(QPalette::WindowText, colour::kInk);
    palette.setColor(QPalette::ButtonText, colour::kInk);
    palette.setColor(QPalette::PlaceholderText, colour::kSoft);
    palette.setColor(QPalette::Highlight, colour::kAccentWash);
    palette.setColor(QPalette::HighlightedText, colour::kInk);
    palette.setColor(QPalette::ToolTipBase, colour::kField);
    palette.setColor(QPalette::ToolTipText, colour::kInk);
    palette.setColor(QPalette::Link, colour::kAccent);
    QApplication::setPalette(palette);
    qApp->setStyleSheet(themed(

        "QLineEdit{background:{field};border:1px solid {hairline};border-radius:2px;padding:4px "
        "6px;selection-background-color:{marked}}"
        "QLineEdit:focus{border-color:{accent}}"
        "QPlainTextEdit,QSpinBox{background:{field};border:1px solid {hairline};border-radius:2px;"
        "padding:3px 5px;selection-background-color:{marked}}"
        "QPlainTextEdit:focus,QSpinBox:focus{border-color:{accent}}"
        "QListWidget::item{padding:2px 0}"
        "QLineEdit[quiet=\"true\"]{background:transparent;border:0;border-bottom:1px solid "
        "{hairline};border-radius:0;padding:4px 0}"
        "QLineEdit[quiet=\"true\"]:focus{border-bottom:2px solid {accent}}"
        // With its padding 24 pixels high: what a finger or a shaking hand meets.
        "QPushButton{background:transparent;border:0;color:{accent};padding:3px "
        "2px;min-height:18px;min-width:20px;text-align:left}"
        "QPushButton:hover{text-decoration:underline}QPushButton:focus{background:{wash};outline:"
        "0}QPushButton:disabled{color:{soft}}"
        "QPushButton[card=\"true\"]{background:{field};border:1px solid {hairline};border-left:3px "
        "solid {accent};padding:8px 10px;color:{accent};font-weight:bold}"
        "QPushButton[card=\"true\"]:hover,QPushButton[card=\"true\"]:focus{background:{wash};text-"
        "decoration:none}"
        "QPushButton[card=\"true\"]:disabled{color:{soft};border-left-color:{hairline};"
        "background:transparent}"
        "QPushButton[tab=\"true\"]{color:{soft};min-width:22px;padding:4px "
        "1px}QPushButton[tab=\"true\"]:checked{color:{accent};font-weight:bold;border-bottom:2px "
        "solid {accent}}"
        "QPushButton[chip=\"true\"]{background:{panel};border:0;border-bottom:1px solid "
        "{soft};color:{ink};padding:3px 7px}"
        "QPushButton[chip=\"true\"]:focus,QPushButton[chip=\"true\"]:hover{background:{hover};"
        "border-bottom:1px solid {accent};text-decoration:none}"
        "QPushButton[chip=\"true\"][muted=\"true\"]{color:{soft};text-decoration:line-through;"
        "background:transparent}"
        "QPushButton[slot=\"true\"]{border:0;border-bottom:1px dotted {accent};padding:2px "
        "1px;color:{accent};min-width:24px;min-height:20px}"
        "QPushButton[slot=\"true\"]:focus{background:{hover};border-bottom:1px solid {accent}}"
        "QComboBox{background:{field};border:1px solid {hairline};border-radius:2px;padding:3px "
        "6px}QComboBox:focus{border-color:{accent}}"
        "QComboBox::drop-down{border:0;width:18px}QComboBox::down-arrow{image:url(:/"
        "down.svg);width:8px;height:5px}"
        "QComboBox QAbstractItemView{background:{field};border:1px solid "
        "{hairline};selection-background-color:{wash};selection-color:{ink}}"
        "QTableView{border:0;gridline-color:{grid};background:{ground};selection-background-color:{"
        "wash};selection-color:{ink}}"
        "QHeaderView::section{background:{ground};border:0;border-bottom:1px solid "
        "{ink};padding:4px 8px;font-weight:bold}"
        "QHeaderView::section:vertical{border-bottom:1px solid "
        "{grid};font-weight:normal;color:{soft}}"
        "QTableCornerButton::section{background:{ground};border:0;border-bottom:1px solid {ink}}"
        "QListView{border:0;background:transparent;outline:0}"
        "QScrollArea{border:0;background:transparent}"
        "QSplitter#middle::handle{background:{hairline}}"
        "QScrollBar:vertical{background:transparent;width:9px;margin:0}QScrollBar::handle:vertical{"
        "background:{scroll};min-height:24px;border-radius:4px}"
        "QScrollBar:horizontal{background:transparent;height:9px;margin:0}QScrollBar::handle:"
        "horizontal{background:{scroll};min-width:24px;border-radius:4px}"
        "QScrollBar::add-line,QScrollBar::sub-line{width:0;height:0}QScrollBar::add-page,"
        "QScrollBar::sub-page{background:transparent}"
        "QToolTip{border:1px solid {hairline};padding:4px;background:{field};color:{ink}}"));
}

}  // namespace

void applyTheme(QApplication& application) {
    linkResources();
    roles();  // Before anything changes them: what stands in them is paper.
    // The desktop's own palette is there until ours is set.
    const QPalette given = QApplication::palette();
    chosen().desktopIsDark =
        given.color(QPalette::WindowText).lightness() > given.color(QPalette::Window).lightness();
    for (const char* file :
         {"Lato-Regular.ttf", "Lato-Bold.ttf", "Lato-Italic.ttf", "Lato-Medium.ttf",
          "STIX-Regular.otf", "STIX-Italic.otf", "STIX-Bold.otf"}) {
        QFontDatabase::addApplicationFont(QString(":/fonts/") + file);
    }
    QApplication::setStyle("Fusion");
    application.setFont(interfaceFont());
    styleApplication();
}

void useTheme(Theme theme) {
    const bool was = chosen().dark;
    chosen().theme = theme;
    chosen().dark = theme == Theme::Dark || (theme == Theme::ByDesktop && chosen().desktopIsDark);
    if (chosen().dark == was) {
        return;  // Nothing that is seen is another; all of it dressed anew takes a second.
    }
    takeColours(chosen().dark);
    styleApplication();
    for (QWidget* widget : QApplication::allWidgets()) {
        const QVariant sheet = widget->property("sheet");
        if (sheet.isValid()) {
            widget->setStyleSheet(themed(sheet.toString()));
        }
        widget->update();
    }
}

Theme theme() { return chosen().theme; }

bool isDark() { return chosen().dark; }

QString themed(QString text) {
    if (!text.contains('{')) {
        return text;
    }
    // Only where a style says so: a value of the data in braces is left alone.
    static const QRegularExpression kRole("(?<=:|solid |dotted )\\{([a-z]+)\\}(?=[;\"} ]|$)");
    auto at = kRole.globalMatch(text);
    QString out;
    qsizetype done = 0;
    while (at.hasNext()) {
        const auto match = at.next();
        const QString name = match.captured(1);
        const auto role = std::find_if(roles().begin(), roles().end(),
                                       [&](const Role& one) { return name == one.name; });
        if (role == roles().end()) {
            continue;
        }
        out += text.mid(done, match.capturedStart() - done) + role->now->name();
        done = match.capturedEnd();
    }
    return out + text.mid(done);
}

void dress(QWidget* widget, const QString& sheet) {
    const QString now = themed(sheet);
    widget->setProperty("sheet", sheet);
    if (widget->styleSheet() != now) {
        widget->setStyleSheet(now);  // It polishes all that lies in it anew, the same or not.
    }
}

OnPaper::OnPaper() : dark_(chosen().dark) {
    if (dark_) {
        takeColours(false);
    }
}

OnPaper::~OnPaper() {
    if (dark_) {
        takeColours(true);
    }
}

QFont interfaceFont(int pixels, bool bold) {
    QFont font("Lato");
    font.setPixelSize(pixels);
    font.setBold(bold);
    return font;
}

QFont paperFont(int pixels, bool italic) {
    QFont font("STIX");
    font.setPixelSize(pixels);
    font.setItalic(italic);
    return font;
}

QString text(const std::string& utf8) { return QString::fromStdString(utf8); }

std::string utf8(const QString& text) { return text.toStdString(); }

QString termText(const std::string& expression) {
    static const QString inside = "(\"[^\"]+\"|[^,()]+)";
    static const QRegularExpression square("power\\(" + inside + ", 2\\)");
    static const QRegularExpression cube("power\\(" + inside + ", 3\\)");
    static const QRegularExpression root("sqrt\\(" + inside + "\\)");
    QString shown = text(expression);
    shown.replace(square, "\\1²").replace(cube, "\\1³").replace(root, "√\\1");
    return text(shownNames(utf8(shown)));
}

QString richText(const std::string& marked) {
    // A number without its zero must not break after the mark: a joiner without width stands
    // between, the one that the interface's face has.
    static const QRegularExpression kBare("(?<![0-9])\\.(?=[0-9])");
    // Nor must it at the thin space between thousands, where this layout breaks lines: a small
    // space that never does stands for it.
    // And a p stays with its value.
    static const QRegularExpression kP("\\bp (&lt;|&gt;|=) (?=\\.?[0-9])");
    const auto joined = [](QString words) {
        return words.replace(kP, "p\u00a0\\1\u00a0")
            .replace(kBare, QString(".\uFEFF"))
            .replace(QChar(0x202F), QString("<span style=\"font-size:7px\">&nbsp;</span>"));
    };
    if (marked.starts_with("~")) {
        return "<span style=\"color:" + colour::kOchreText.name() + "\">" +
               joined(numbered(htmlText(marked.substr(1)))) + "</span>";
    }
    return joined(numbered(htmlText(marked)));
}

QColor verdictColour(Verdict verdict) {
    switch (verdict) {
        case Verdict::Fine:
        case Verdict::AllowedFor:
            return colour::kMoss;
        case Verdict::Weigh:
            return colour::kOchre;
        case Verdict::Fails:
            return colour::kClay;
        case Verdict::Noted:
        case Verdict::NotApplicable:
            return colour::kSoft;
    }
    return colour::kSoft;
}

void drawVerdict(QPainter& painter, QPointF c, Verdict verdict) {
    painter.save();
    painter.setRenderHint(QPainter::Antialiasing);
    const double r = 5.0;
    switch (verdict) {
        case Verdict::Fine:
            painter.setPen(Qt::NoPen);
            painter.setBrush(colour::kMoss);
            painter.drawEllipse(c, r, r);
            break;
        case Verdict::Noted: {
            const double d = 5.5;
            painter.setPen(QPen(colour::kSoft, 1.3));
            painter.setBrush(Qt::NoBrush);
            painter.drawPolygon(QPolygonF(
                {{c.x(), c.y() - d}, {c.x() + d, c.y()}, {c.x(), c.y() + d}, {c.x() - d, c.y()}}));
            break;
        }
        case Verdict::AllowedFor:
            painter.setPen(QPen(colour::kMoss, 1.3));
            painter.setBrush(Qt::NoBrush);
            painter.drawEllipse(c, r, r);
            painter.setPen(Qt::NoPen);
            painter.setBrush(colour::kMoss);
            painter.drawEllipse(c, r - 2.7, r - 2.7);
            break;
        case Verdict::Weigh: {
            const double d = 6.5;
            painter.setPen(QPen(colour::kOchre, 1.2));
            painter.setBrush(colour::kField);
            painter.drawPolygon(QPolygonF(
                {{c.x(), c.y() - d}, {c.x() + d, c.y()}, {c.x(), c.y() + d}, {c.x() - d, c.y()}}));
            painter.setBrush(colour::kOchre);
            painter.drawPolygon(
                QPolygonF({{c.x(), c.y() - d}, {c.x(), c.y() + d}, {c.x() - d, c.y()}}));
            break;
        }
        case Verdict::Fails:
            painter.fillRect(QRectF(c.x() - r + 0.5, c.y() - r + 0.5, 2 * r - 1, 2 * r - 1),
                             colour::kClay);
            break;
        case Verdict::NotApplicable:
            painter.setPen(QPen(colour::kSoft, 1.3));
            painter.setBrush(Qt::NoBrush);
            painter.drawEllipse(c, r - 0.5, r - 0.5);
            break;
    }
    painter.restore();
}

void drawLens(QPainter& painter, const QRectF& area, const Coefficient& effect,
              const std::function<double(double)>& at, const QColor& colour) {
    painter.save();
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setClipRect(area);
    const double middle = area.center().y();
    const double half = area.height() / 2.0 - 1.0;
    const auto outline = lensOutline(effect);
    if (!outline.empty()) {
        QPainterPath path;
        path.moveTo(at(outline.front().value), middle);
        for (const auto& point : outline) {
            path.lineTo(at(point.value), middle - half * point.p);
        }
        for (auto point = outline.rbegin(); point != outline.rend(); ++point) {
            path.lineTo(at(point->value), middle + half * point->p);
        }
        QColor wash = colour;
        wash.setAlpha(60);
        painter.fillPath(path, wash);
    }
    painter.setPen(QPen(colour, 1.6, Qt::SolidLine, Qt::FlatCap));
    painter.drawLine(QPointF(at(effect.low), middle), QPointF(at(effect.high), middle));
    for (const double end : {effect.low, effect.high}) {
        painter.drawLine(QPointF(at(end), middle - 4), QPointF(at(end), middle + 4));
    }
    painter.setPen(QPen(colour, 3.0, Qt::SolidLine, Qt::FlatCap));
    painter.drawLine(QPointF(at(effect.estimate), middle - 7),
                     QPointF(at(effect.estimate), middle + 7));
    painter.restore();
}

}  // namespace rapporto::app
