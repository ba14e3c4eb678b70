#include "app/shell/settings.h"

#include "app/shell/autosave.h"
#include "core/base/format.h"

#include <QComboBox>
#include <QFormLayout>
#include <QKeyEvent>
#include <QLabel>

#include <algorithm>

namespace rapporto::app {
namespace {

const QList<int> kSizes = {100, 110, 125, 150, 175, 200};

const QList<QString> kDecimals = {".", ","};

/// Between thousands: a narrow space, the mark that is not the decimal one, an apostrophe, nothing.
QString thousandsMark(int index, const QString& decimal) {
    return index == 1   ? (decimal == "," ? "." : ",")
           : index == 2 ? "’"
           : index == 3 ? ""
                        : QString(QChar(0x202F));
}

/// Where a mark stands in that list.
int indexOfThousands(const QString& mark) {
    return mark == "," || mark == "." ? 1 : mark == "’" ? 2 : mark.isEmpty() ? 3 : 0;
}

}  // namespace

namespace settings {

QSettings store() { return {QSettings::IniFormat, QSettings::UserScope, "rapporto", "rapporto"}; }

Theme theme() {
    const QString name = store().value("theme", "desktop").toString();
    return name == "dark" ? Theme::Dark : name == "paper" ? Theme::Paper : Theme::ByDesktop;
}

void setTheme(Theme theme) {
    store().setValue("theme", theme == Theme::Dark    ? "dark"
                              : theme == Theme::Paper ? "paper"
                                                      : "desktop");
}

int size() { return std::clamp(store().value("size", 100).toInt(), 100, 200); }

void setSize(int percent) { store().setValue("size", std::clamp(percent, 100, 200)); }

NumberMarks numberMarks() {
    const QString decimal = store().value("decimal").toString() == "comma" ? "," : ".";
    return {decimal, thousandsMark(store().value("thousands", 0).toInt(), decimal)};
}

void setNumberMarks(const NumberMarks& marks) {
    store().setValue("decimal", marks.decimal == "," ? "comma" : "point");
    store().setValue("thousands", indexOfThousands(marks.thousands));
}

void applySize() {
    // What the desktop or the caller asks for comes first.
    if (size() != 100 && !qEnvironmentVariableIsSet("QT_SCALE_FACTOR")) {
        qputenv("QT_SCALE_FACTOR", QByteArray::number(size() / 100.0));
    }
}

}  // namespace settings

SettingsSheet::SettingsSheet(Autosave* autosave, QWidget* parent)
    : QFrame(parent, Qt::Popup),
      autosave_(autosave),
      theme_(new QComboBox(this)),
      size_(new QComboBox(this)),
      decimal_(new QComboBox(this)),
      thousands_(new QComboBox(this)),
      saving_(new QComboBox(this)) {
    setObjectName("settingsSheet");
    dress(this, "#settingsSheet{background:{field};border:1px solid {accent}}");
    auto* form = new QFormLayout(this);
    form->setContentsMargins(16, 14, 16, 14);
    form->setVerticalSpacing(8);
    auto* title = new QLabel(tr("settings"), this);
    title->setFont(paperFont(18, true));
    form->addRow(title);
    theme_->setObjectName("settings:theme");
    theme_->addItems({tr("as the desktop"), tr("paper"), tr("dark")});
    form->addRow(tr("colours"), theme_);
    size_->setObjectName("settings:size");
    for (const int percent : kSizes) {
        size_->addItem(tr("%1 %").arg(percent));
    }
    form->addRow(tr("size"), size_);
    decimal_->setObjectName("settings:decimal");
    decimal_->addItems({"0.5", "0,5"});
    form->addRow(tr("decimal mark"), decimal_);
    thousands_->setObjectName("settings:thousands");
    thousands_->addItems({"1\u202F234", "1,234", "1’234", "1234"});
    form->addRow(tr("between thousands"), thousands_);
    saving_->setObjectName("settings:saving");
    saving_->addItems({tr("when you save them"), tr("by themselves")});
    form->addRow(tr("studies are saved"), saving_);
    connect(theme_, &QComboBox::activated, this, [this](int index) {
        const Theme chosen = index == 2   ? Theme::Dark
                             : index == 1 ? Theme::Paper
                                          : Theme::ByDesktop;
        settings::setTheme(chosen);
        useTheme(chosen);
        emit themeChanged();
    });
    connect(size_, &QComboBox::activated, this, [this](int index) {
        settings::setSize(kSizes[index]);
        emit told(
            tr("Everything will be shown at %1 % from the next start on.").arg(kSizes[index]));
    });
    for (QComboBox* box : {decimal_, thousands_}) {
        connect(box, &QComboBox::activated, this, &SettingsSheet::takeMarks);
    }
    connect(saving_, &QComboBox::activated, this, [this](int index) {
        autosave_->setOn(index == 1);
        emit told(autosave_->words());
    });
}

void SettingsSheet::takeMarks() {
    const QString decimal = kDecimals[decimal_->currentIndex()];
    const NumberMarks marks{decimal, thousandsMark(thousands_->currentIndex(), decimal)};
    settings::setNumberMarks(marks);
    useNumberMarks(marks);
    showMarks(marks);
    emit marksChanged();
    emit told(tr("Numbers are shown as %1 from now on; a report has marks of its own.")
                  .arg(numbered(shortNumber(-1234.5, 5))));
}

void SettingsSheet::showMarks(const NumberMarks& marks) {
    decimal_->setCurrentIndex(
        static_cast<int>(std::max<qsizetype>(0, kDecimals.indexOf(marks.decimal))));
    thousands_->setItemText(1, "1" + thousandsMark(1, marks.decimal) + "234");
    thousands_->setCurrentIndex(indexOfThousands(marks.thousands));
}

void SettingsSheet::openUnder(const QWidget* widget) {
    const Theme now = theme();
    theme_->setCurrentIndex(now == Theme::Dark ? 2 : now == Theme::Paper ? 1 : 0);
    size_->setCurrentIndex(
        static_cast<int>(std::max<qsizetype>(0, kSizes.indexOf(settings::size()))));
    showMarks(settings::numberMarks());
    saving_->setCurrentIndex(autosave_->isOn() ? 1 : 0);
    adjustSize();
    const QPoint corner = widget->mapToGlobal(QPoint(widget->width(), widget->height() + 4));
    move(corner.x() - width(), corner.y());
    show();
    theme_->setFocus();
}

void SettingsSheet::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) {
        close();
        return;
    }
    QFrame::keyPressEvent(event);
}

}  // namespace rapporto::app
