// What a person without a mouse, with a screen reader or with tired eyes meets on every page.
#include "app/plots/plot_view.h"
#include "app/shell/route.h"
#include "app/shell/theme.h"
#include "app/shell/told_parts.h"
#include "app/stages/checks/check_list.h"
#include "app/stages/compare/compare_stage.h"
#include "app/stages/model/effect_rows.h"
#include "tests/app/window_driver.h"

#include <QAccessible>
#include <QApplication>
#include <QTemporaryDir>

#include <cmath>
#include <set>

using namespace rapporto;
using namespace rapporto::app;

namespace {

/// WCAG 2.1 relative luminance and contrast (W3C 2018).
double luminance(const QColor& colour) {
    const auto linear = [](double x) {
        return x <= 0.03928 ? x / 12.92 : std::pow((x + 0.055) / 1.055, 2.4);
    };
    return 0.2126 * linear(colour.redF()) + 0.7152 * linear(colour.greenF()) +
           0.0722 * linear(colour.blueF());
}

double contrast(const QColor& a, const QColor& b) {
    const double x = luminance(a);
    const double y = luminance(b);
    return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
}

/// Where it stands, for a person who has to mend it.
QString placeOf(const QWidget* widget) {
    QString out;
    if (const auto* label = qobject_cast<const QLabel*>(widget)) {
        out = "‘" + label->text().left(60) + "’ ";
    }
    for (const QWidget* w = widget; w != nullptr && !w->isWindow(); w = w->parentWidget()) {
        out += QString("%1(%2) ").arg(w->metaObject()->className(), w->objectName());
    }
    return out;
}

/// Inner parts of the toolkit’s own widgets are spoken for by the widget.
bool isPart(const QWidget* widget) {
    return widget->objectName().startsWith("qt_") || widget->focusProxy() != nullptr;
}

}  // namespace

class AccessWindowTest : public test::WindowDriver {
    Q_OBJECT

  private slots:

    void init() { openDemo(); }

    void everythingThatTakesTheFocusHasAName_data() { stages(); }

    void everythingThatTakesTheFocusHasAName();

    void theTabKeyGoesRoundWithoutATrap_data() { stages(); }

    void theTabKeyGoesRoundWithoutATrap();

    void whatIsPaintedIsTold_data() { stages(); }

    void whatIsPaintedIsTold();
    void theRouteIsTabsThatCanBePressed();
    void effectsAreReadAndChosen();
    void checksAreReadAndUnfolded();
    void variantsAreReadSideBySide();

    void everyButtonIsLargeEnough_data() { stages(); }

    void everyButtonIsLargeEnough();
    void wordsStandOutFromWhatTheyStandOn_data();
    void wordsStandOutFromWhatTheyStandOn();

  private:
    static void stages() {
        QTest::addColumn<int>("stage");
        const char* names[] = {"data", "explore", "model", "checks", "compare", "report"};
        for (int s = 0; s < 6; ++s) {
            QTest::newRow(names[s]) << s;
        }
    }

    /// Does something on the stage, and on each of its pages.
    void onEachPage(int stage, const std::function<void(const QString&)>& look) {
        window_->showStage(stage);
        window_->settle();
        look("first page");
        QStringList words;
        for (const QPushButton* word : window_->findChildren<QPushButton*>()) {
            if (word->property("tab").toBool() && word->isVisible() && word->isEnabled()) {
                words << word->objectName();
            }
        }
        for (const QString& name : words) {
            auto* word = name.isEmpty() ? nullptr : window_->findChild<QPushButton*>(name);
            if (word != nullptr && word->isVisible() && word->isEnabled()) {
                word->click();
                window_->settle();
                look(name);
            }
        }
    }

    /// Those that the Tab key or a click can reach now.
    std::vector<QWidget*> focusable() {
        std::vector<QWidget*> out;
        for (QWidget* widget : window_->findChildren<QWidget*>()) {
            if (widget->isVisible() && widget->isEnabled() && !isPart(widget) &&
                widget->window() == window_.get() && widget->focusPolicy() != Qt::NoFocus) {
                out.push_back(widget);
            }
        }
        return out;
    }
};

void AccessWindowTest::everythingThatTakesTheFocusHasAName() {
    QFETCH(int, stage);
    QStringList without;
    std::size_t seen = 0;
    onEachPage(stage, [&](const QString& page) {
        for (QWidget* widget : focusable()) {
            ++seen;
            QAccessibleInterface* spoken = QAccessible::queryAccessibleInterface(widget);
            const bool named =
                spoken != nullptr && (!spoken->text(QAccessible::Name).trimmed().isEmpty() ||
                                      !spoken->text(QAccessible::Description).trimmed().isEmpty());
            if (!named) {
                without << page + ": " + placeOf(widget);
            }
        }
    });
    QVERIFY(seen > 10);
    without.removeDuplicates();
    QVERIFY2(without.isEmpty(), qPrintable("\n" + without.join("\n")));
}

/// Lists and pictures that paint their parts themselves have them as children, with words and
/// places.
void AccessWindowTest::whatIsPaintedIsTold() {
    QFETCH(int, stage);
    QStringList dumb;
    int told = 0;
    onEachPage(stage, [&](const QString& page) {
        for (QWidget* widget : window_->findChildren<QWidget*>()) {
            const bool parts = dynamic_cast<ToldWidget*>(widget) != nullptr;
            if (!widget->isVisible() || (!parts && qobject_cast<PlotView*>(widget) == nullptr)) {
                continue;
            }
            QAccessibleInterface* list = QAccessible::queryAccessibleInterface(widget);
            QVERIFY(list != nullptr);
            auto* own = dynamic_cast<ToldWidget*>(widget);
            const int count = parts ? static_cast<int>(own->toldParts().size()) : 0;
            for (int i = 0; i < count; ++i) {
                ++told;
                QAccessibleInterface* part = list->child(i);
                const bool named = part != nullptr && part->isValid() &&
                                   !part->text(QAccessible::Name).trimmed().isEmpty();
                const bool placed = named && part->rect().isValid() && part->parent() == list &&
                                    list->indexOfChild(part) == i;
                if (!placed) {
                    dumb << QString("%1: part %2 of %3").arg(page).arg(i).arg(placeOf(widget));
                }
            }
            QVERIFY(list->child(-1) == nullptr);
        }
    });
    QVERIFY(told >= 6);
    QVERIFY2(dumb.isEmpty(), qPrintable("\n" + dumb.join("\n")));
}

void AccessWindowTest::theRouteIsTabsThatCanBePressed() {
    auto* route = window_->findChild<Route*>();
    QAccessibleInterface* tabs = QAccessible::queryAccessibleInterface(route);
    QCOMPARE(tabs->role(), QAccessible::PageTabList);
    QCOMPARE(tabs->childCount(), 6);
    QAccessibleInterface* checks = tabs->child(3);
    QCOMPARE(checks->role(), QAccessible::PageTab);
    QVERIFY(checks->text(QAccessible::Name).startsWith("Checks"));
    QVERIFY(!checks->state().selected);
    QAccessibleActionInterface* action = checks->actionInterface();
    QVERIFY(action != nullptr);
    QCOMPARE(action->actionNames(), QStringList{QAccessibleActionInterface::pressAction()});
    action->doAction(QAccessibleActionInterface::pressAction());
    window_->settle();
    QVERIFY(checks->state().selected);
    QVERIFY(window_->findChild<CheckList*>()->isVisible());
    QVERIFY(tabs->childAt(checks->rect().center().x(), checks->rect().center().y()) == checks);
}

void AccessWindowTest::effectsAreReadAndChosen() {
    window_->showStage(2);
    window_->settle();
    auto* rows = window_->findChild<EffectRows*>();
    QAccessibleInterface* list = QAccessible::queryAccessibleInterface(rows);
    QAccessibleInterface* effect = nullptr;
    int coefficient = -1;
    for (int i = 0; i < list->childCount(); ++i) {
        QAccessibleInterface* part = list->child(i);
        if (part->role() == QAccessible::ListItem && !part->state().selected) {
            effect = part;
            for (std::size_t c = 0; c < answer().fit->coefficients.size(); ++c) {
                const QStringList cells = rows->cells(static_cast<int>(c));
                if (part->text(QAccessible::Name).contains(": " + cells[1] + ", std. error")) {
                    coefficient = static_cast<int>(c);
                }
            }
            break;
        }
    }
    QVERIFY(effect != nullptr && coefficient >= 0);
    const QString words = effect->text(QAccessible::Name);
    QVERIFY2(words.contains(rows->cells(coefficient)[2]) && words.contains(", from "),
             qPrintable(words));
    effect->actionInterface()->doAction(QAccessibleActionInterface::pressAction());
    QCOMPARE(rows->selected(), coefficient);
    QVERIFY(effect->state().selected);
    rows->setFocus();
    QVERIFY(effect->state().focused);
    QVERIFY(list->focusChild() == effect);
}

void AccessWindowTest::checksAreReadAndUnfolded() {
    window_->showStage(3);
    window_->settle();
    QAccessibleInterface* list =
        QAccessible::queryAccessibleInterface(window_->findChild<CheckList*>());
    QCOMPARE(list->role(), QAccessible::Tree);
    QAccessibleInterface* folded = nullptr;
    for (int i = 0; i < list->childCount() && folded == nullptr; ++i) {
        folded =
            list->child(i)->text(QAccessible::Name).endsWith("folded") ? list->child(i) : nullptr;
    }
    QVERIFY(folded != nullptr);
    const int before = list->childCount();
    const int at = list->indexOfChild(folded);
    folded->actionInterface()->doAction(QAccessibleActionInterface::pressAction());
    window_->settle();
    QVERIFY(list->childCount() > before);
    QVERIFY(list->child(at)->text(QAccessible::Name).endsWith("open"));
    const QString check = list->child(at + 1)->text(QAccessible::Name);
    const bool verdict = check.contains("fine") || check.contains("noted") ||
                         check.contains("weigh") || check.contains("fails") ||
                         check.contains("allowed") || check.contains("not-applicable");
    QVERIFY2(verdict, qPrintable(check));
}

void AccessWindowTest::variantsAreReadSideBySide() {
    window_->showStage(4);
    window_->settle();
    QAccessibleInterface* table =
        QAccessible::queryAccessibleInterface(window_->findChild<CompareTable*>());
    int heads = 0;
    int cells = 0;
    for (int i = 0; i < table->childCount(); ++i) {
        const QAccessible::Role role = table->child(i)->role();
        heads += role == QAccessible::ColumnHeader ? 1 : 0;
        cells += role == QAccessible::Cell ? 1 : 0;
        if (role == QAccessible::Cell) {
            QVERIFY(table->child(i)->text(QAccessible::Name).contains(", std. error "));
        }
    }
    QVERIFY(heads >= 2);
    QVERIFY(cells > 2 * heads);
}

void AccessWindowTest::theTabKeyGoesRoundWithoutATrap() {
    QFETCH(int, stage);
    window_->showStage(stage);
    window_->settle();
    std::set<const QWidget*> visited;
    const QWidget* first = nullptr;
    bool round = false;
    constexpr int kMost = 600;
    for (int i = 0; i < kMost && !round; ++i) {
        QWidget* at = QApplication::focusWidget();
        QTest::keyClick(at == nullptr ? static_cast<QWidget*>(window_.get()) : at, Qt::Key_Tab);
        const QWidget* now = QApplication::focusWidget();
        QVERIFY(now != nullptr);
        QVERIFY2(now != at, qPrintable("Tab stays in " + placeOf(now)));
        round = now == first;
        first = first == nullptr ? now : first;
        if (!round && !visited.insert(now).second) {
            QFAIL(qPrintable("Tab goes round within a part, at " + placeOf(now)));
        }
    }
    QVERIFY(round);
    for (const QWidget* widget : focusable()) {
        const bool byTab = (widget->focusPolicy() & Qt::TabFocus) != 0;
        QVERIFY2(!byTab || visited.count(widget) == 1,
                 qPrintable("Tab passes over " + placeOf(widget)));
    }
}

void AccessWindowTest::everyButtonIsLargeEnough() {
    QFETCH(int, stage);
    constexpr int kLeast = 24;  // Pixels: WCAG 2.2, 2.5.8.
    QStringList small;
    onEachPage(stage, [&](const QString& page) {
        for (const QPushButton* button : window_->findChildren<QPushButton*>()) {
            if (button->isVisible() && (button->width() < kLeast || button->height() < kLeast)) {
                small << QString("%1: %2 ‘%3’ %4 × %5")
                             .arg(page, placeOf(button), button->text())
                             .arg(button->width())
                             .arg(button->height());
            }
        }
    });
    small.removeDuplicates();
    QVERIFY2(small.isEmpty(), qPrintable("\n" + small.join("\n")));
}

void AccessWindowTest::wordsStandOutFromWhatTheyStandOn_data() {
    QTest::addColumn<bool>("dark");
    QTest::newRow("paper") << false;
    QTest::newRow("dark") << true;
}

void AccessWindowTest::wordsStandOutFromWhatTheyStandOn() {
    QFETCH(bool, dark);
    useTheme(dark ? Theme::Dark : Theme::Paper);
    using namespace colour;
    const std::vector<std::pair<const char*, QColor>> words = {{"ink", kInk},
                                                               {"soft", kSoft},
                                                               {"accent", kAccent},
                                                               {"caution", kOchreText},
                                                               {"clay", kClay}};
    const std::vector<std::pair<const char*, QColor>> grounds = {{"ground", kGround},
                                                                 {"panel", kPanel},
                                                                 {"field", kField},
                                                                 {"band", kBand},
                                                                 {"wash", kAccentWash}};
    constexpr double kLeast = 4.5;
    for (const auto& [word, front] : words) {
        for (const auto& [ground, behind] : grounds) {
            const double found = contrast(front, behind);
            QVERIFY2(found >= kLeast,
                     qPrintable(QString("%1 on %2: %3").arg(word, ground).arg(found)));
        }
    }
    QVERIFY(contrast(kInk, kMarked) >= kLeast);
    QVERIFY(contrast(kAccent, kAccentHover) >= kLeast);
    useTheme(Theme::Paper);
}

int main(int argc, char** argv) {
    QTemporaryDir home;  // Settings of the test are nobody's.
    qputenv("XDG_CONFIG_HOME", home.path().toUtf8());
    QApplication application(argc, argv);
    applyTheme(application);
    AccessWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "access_window_test.moc"
