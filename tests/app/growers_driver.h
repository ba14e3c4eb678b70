#pragma once

#include "tests/app/window_driver.h"

#include <QApplication>
#include <QFile>
#include <QTemporaryDir>

#include <cmath>

namespace rapporto::app::test {

/// The window with small tables that a test writes into a folder of its own.
class GrowersDriver : public WindowDriver {
  protected:
    QTemporaryDir place_;

    static void write(const QString& path, const QByteArray& text) {
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(text);
    }

    static QByteArray contents(const QString& path) {
        QFile file(path);
        return file.open(QIODevice::ReadOnly) ? file.readAll() : QByteArray();
    }

    /// What is not saved shall go, where the band asks about it.
    void letThemGo() {
        window_->settle();
        auto* button = window_->findChild<QPushButton*>("ask:letGo");
        if (button != nullptr && button->isVisible()) {
            QTest::mouseClick(button, Qt::LeftButton);
            QApplication::processEvents();
            window_->settle();
        }
    }

    /// Apple growers with a spread that grows: a check fails, logs mend it.
    static QByteArray growers() {
        QByteArray text = "grower;revenue;hives;village\n";
        for (int i = 0; i < 300; ++i) {
            const double hives = 1.0 + (i * 7) % 40 / 4.0;
            const double noise = 0.5 * std::sin(i * 12.9898) * std::cos(i * 4.1414) * 2.0;
            text += QString("Tolve %1;%2;%3;village %4\n")
                        .arg(i + 1)
                        .arg(QString::number(300.0 * std::exp(0.15 * hives + noise), 'f', 2)
                                 .replace('.', ','))
                        .arg(QString::number(hives).replace('.', ','))
                        .arg(i % 30)
                        .toUtf8();
        }
        return text;
    }

    void takeInGrowers() {
        write(place_.filePath("growers.csv"), growers());
        window_->openPath(place_.filePath("growers.csv"));
        window_->settle();
        click("import:use");
    }

    void takeIn(const QString& file, const QByteArray& text) {
        write(place_.filePath(file), text);
        window_->openPath(place_.filePath(file));
        window_->settle();
        click("import:use");
    }

    void askForRevenue() {
        QTest::keyClick(window_.get(), Qt::Key_3, Qt::ControlModifier);
        window_->settle();
        click("slot:outcome");
        take("revenue");
        click("slot:add");
        take("hives");
        closeFinder();  // It stands ready for a further term.
        window_->settle();
    }

    /// Types a line anew and ends it with Return.
    void type(const QString& name, const QString& words) {
        auto* field = find<QLineEdit>(name);
        QVERIFY2(field->isVisible(), qPrintable(name));
        field->setFocus();
        QTest::keyClick(field, Qt::Key_A, Qt::ControlModifier);
        QTest::keyClicks(field, words);
        QTest::keyClick(field, Qt::Key_Return);
        window_->settle();
    }

    void pick(const QString& name, const QString& value) {
        auto* box = find<QComboBox>(name);
        const int at = box->findText(value);
        QVERIFY2(at >= 0, qPrintable(name + " has no " + value));
        box->setCurrentIndex(at);
        emit box->activated(at);
        window_->settle();
    }
};

}  // namespace rapporto::app::test
