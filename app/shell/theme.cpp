#include "app/shell/theme.h"

#include "core/report/lens.h"
#include "core/report/report.h"

#include <QApplication>
#include <QFontDatabase>
#include <QPainter>
#include <QPainterPath>
#include <QRegularExpression>

#include <algorithm>
#include <cmath>

/// A static library's resources are linked only when they are asked for, outside any namespace.
static void linkResources() { Q_INIT_RESOURCE(resources); }

namespace rapporto::app {

void applyTheme(QApplication& application) {
    linkResources();
    for (const char* file :
         {"Lato-Regular.ttf", "Lato-Bold.ttf", "Lato-Italic.ttf", "Lato-Medium.ttf",
          "STIX-Regular.otf", "STIX-Italic.otf", "STIX-Bold.otf"}) {
        QFontDatabase::addApplicationFont(QString(":/fonts/") + file);
    }
    QApplication::setStyle("Fusion");
    QApplication::setFont(interfaceFont());
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
    palette.setColor(QPalette::ToolTipBase, Qt::white);
    palette.setColor(QPalette::ToolTipText, colour::kInk);
    QApplication::setPalette(palette);
    application.setStyleSheet(
        "QLineEdit{background:white;border:1px solid #D9D2C3;border-radius:2px;padding:4px "
        "6px;selection-background-color:#CFE0E0}"
        "QLineEdit:focus{border-color:#14606B}"
        "QPlainTextEdit,QSpinBox{background:white;border:1px solid #D9D2C3;border-radius:2px;"
        "padding:3px 5px;selection-background-color:#CFE0E0}"
        "QPlainTextEdit:focus,QSpinBox:focus{border-color:#14606B}"
        "QListWidget::item{padding:2px 0}"
        "QLineEdit[quiet=\"true\"]{background:transparent;border:0;border-bottom:1px solid "
        "#D9D2C3;border-radius:0;padding:4px 0}"
        "QLineEdit[quiet=\"true\"]:focus{border-bottom:2px solid #14606B}"
        "QPushButton{background:transparent;border:0;color:#14606B;padding:3px 2px;text-align:left}"
        "QPushButton:hover{text-decoration:underline}QPushButton:focus{background:#E6EEEE;outline:"
        "0}QPushButton:disabled{color:#6B6F7B}"
        "QPushButton[card=\"true\"]{background:white;border:1px solid #D9D2C3;border-left:3px "
        "solid #14606B;padding:8px 10px;color:#14606B;font-weight:bold}"
        "QPushButton[card=\"true\"]:hover,QPushButton[card=\"true\"]:focus{background:#E6EEEE;text-"
        "decoration:none}"
        "QPushButton[card=\"true\"]:disabled{color:#6B6F7B;border-left-color:#D9D2C3;"
        "background:transparent}"
        "QPushButton[tab=\"true\"]{color:#6B6F7B;padding:4px "
        "1px}QPushButton[tab=\"true\"]:checked{color:#14606B;font-weight:bold;border-bottom:2px "
        "solid #14606B}"
        "QPushButton[chip=\"true\"]{background:#F1EDE4;border:0;border-bottom:1px solid "
        "#6B6F7B;color:#232733;padding:3px 7px}"
        "QPushButton[chip=\"true\"]:focus,QPushButton[chip=\"true\"]:hover{background:#D6E6E6;"
        "border-bottom:1px solid #14606B;text-decoration:none}"
        "QPushButton[chip=\"true\"][muted=\"true\"]{color:#6B6F7B;text-decoration:line-through;"
        "background:transparent}"
        "QPushButton[slot=\"true\"]{border:0;border-bottom:1px dotted #14606B;padding:2px "
        "1px;color:#14606B}"
        "QComboBox{background:white;border:1px solid #D9D2C3;border-radius:2px;padding:3px "
        "6px}QComboBox:focus{border-color:#14606B}"
        "QComboBox::drop-down{border:0;width:18px}QComboBox::down-arrow{image:url(:/"
        "down.svg);width:8px;height:5px}"
        "QComboBox QAbstractItemView{background:white;border:1px solid "
        "#D9D2C3;selection-background-color:#E6EEEE;selection-color:#232733}"
        "QTableView{border:0;gridline-color:#E7E1D4;background:#FAF8F3;selection-background-color:#"
        "E6EEEE;selection-color:#232733}"
        "QHeaderView::section{background:#FAF8F3;border:0;border-bottom:1px solid "
        "#232733;padding:4px 8px;font-weight:bold}"
        "QHeaderView::section:vertical{border-bottom:1px solid "
        "#E7E1D4;font-weight:normal;color:#6B6F7B}"
        "QTableCornerButton::section{background:#FAF8F3;border:0;border-bottom:1px solid #232733}"
        "QListView{border:0;background:transparent;outline:0}"
        "QScrollArea{border:0;background:transparent}"
        "QScrollBar:vertical{background:transparent;width:9px;margin:0}QScrollBar::handle:vertical{"
        "background:#CFC8B8;min-height:24px;border-radius:4px}"
        "QScrollBar:horizontal{background:transparent;height:9px;margin:0}QScrollBar::handle:"
        "horizontal{background:#CFC8B8;min-width:24px;border-radius:4px}"
        "QScrollBar::add-line,QScrollBar::sub-line{width:0;height:0}QScrollBar::add-page,"
        "QScrollBar::sub-page{background:transparent}"
        "QToolTip{border:1px solid #D9D2C3;padding:4px;background:white;color:#232733}");
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
    static const QRegularExpression square("power\\(([^,()]+), 2\\)");
    static const QRegularExpression cube("power\\(([^,()]+), 3\\)");
    static const QRegularExpression root("sqrt\\(([^,()]+)\\)");
    // A name in quotes is quoted for the grammar's sake, not the reader's.
    static const QRegularExpression quoted("\"([^\"]+)\"");
    QString shown = text(expression);
    return shown.replace(square, "\\1²")
        .replace(cube, "\\1³")
        .replace(root, "√\\1")
        .replace(quoted, "\\1");
}

QString richText(const std::string& marked) {
    // A number without its zero must not break after the mark: a joiner without width stands
    // between, the one that the interface's face has.
    static const QRegularExpression kBare("(?<![0-9])\\.(?=[0-9])");
    // Nor must it at the thin space between thousands, where this layout breaks lines: a small
    // space that never does stands for it.
    const auto joined = [](QString words) {
        return words.replace(kBare, QString(".\uFEFF"))
            .replace(QChar(0x202F), QString("<span style=\"font-size:7px\">&nbsp;</span>"));
    };
    if (marked.starts_with("~")) {
        return "<span style=\"color:" + colour::kOchreText.name() + "\">" +
               joined(text(htmlText(marked.substr(1)))) + "</span>";
    }
    return joined(text(htmlText(marked)));
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
        case Verdict::Weigh: {
            const double d = 6.5;
            painter.setPen(QPen(colour::kOchre, 1.2));
            painter.setBrush(Qt::white);
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
