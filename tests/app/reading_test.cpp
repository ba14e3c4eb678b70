// The words beside the work, and the figures of the fit below it: whole at every width, there for
// the mouse and for those who read them aloud.
#include "app/shell/reading_column.h"
#include "app/shell/theme.h"
#include "app/shell/words.h"
#include "app/stages/model/fit_strip.h"
#include "core/base/format.h"
#include "tests/app/window_driver.h"

#include <QApplication>
#include <QClipboard>
#include <QTextDocument>

#include <cmath>
#include <set>

using namespace rapporto;
using namespace rapporto::app;

namespace {

ReadingContent content() {
    ReadingContent out;
    out.title = "hives";
    out.paragraphs << "A hive more on a hectare goes with <b>3.8 % more</b> revenue, whatever else "
                      "the orchards differ in, and with less where there are many."
                   << "Short.";
    out.actions = {
        {"Try a variant", "the same question, to be changed beside this one, and told apart", {}},
        {"Keep", "", {}}};
    return out;
}

/// Every paragraph and card is as tall as its words are in the room it has.
void verifyWhole(const ReadingColumn& column) {
    const auto all = column.findChildren<Words*>();
    QCOMPARE(all.size(), 4);
    for (const Words* words : all) {
        QTextDocument document;
        document.setDocumentMargin(0);
        document.setDefaultFont(words->font());
        document.setTextWidth(words->width());
        document.setHtml(words->text());
        QCOMPARE(words->height(), static_cast<int>(std::ceil(document.size().height())));
        QVERIFY(words->parentWidget()->rect().contains(words->geometry()));
    }
}

}  // namespace

class ReadingTest : public app::test::WindowDriver {
    Q_OBJECT

    std::unique_ptr<ReadingColumn> column_;

    /// The words of `content`, on the screen.
    ReadingColumn& shownColumn() {
        column_ = std::make_unique<ReadingColumn>();
        column_->resize(280, 500);
        column_->show(content());
        static_cast<QWidget&>(*column_).show();
        QApplication::processEvents();
        return *column_;
    }

  private slots:

    void cleanup() {
        window_.reset();
        column_.reset();
    }

    void wordsAreWholeAtEveryWidth() {
        ReadingColumn& column = shownColumn();
        verifyWhole(column);
        const int narrow = column.widget()->height();
        for (const int width : {220, 420, 700, 260}) {
            column.resize(width, 500);
            QApplication::processEvents();
            QApplication::processEvents();  // Two columns are laid out in a turn of their own.
            verifyWhole(column);
        }
        QVERIFY(column.widget()->height() >= narrow || column.widget()->height() <= 500);
    }

    void newWordsTakeThePlaceOfOld() {
        ReadingColumn& column = shownColumn();
        const QWidget* page = column.widget();
        ReadingContent longer = content();
        longer.paragraphs[1] = "No longer short: " + longer.paragraphs[0];
        column.show(longer);
        QApplication::processEvents();
        QCOMPARE(column.widget(), page);  // The same page, other words.
        verifyWhole(column);
        longer.actions[1].why = "now with a reason that takes more than the one line that it had";
        column.show(longer);
        QApplication::processEvents();
        verifyWhole(column);
    }

    void aValueStaysWithItsP() {
        const QString shown =
            richText("Clear of nought (p < .001), and with p = .04 there; a group = 3.");
        QVERIFY(shown.contains("p\u00a0&lt;\u00a0.\uFEFF001"));
        QVERIFY(shown.contains("p\u00a0=\u00a0.\uFEFF04"));
        QVERIFY(shown.contains("group = 3"));
    }

    void wordsCanBeSelectedAndCopied() {
        ReadingColumn& column = shownColumn();
        auto* words = column.findChildren<Words*>().front();
        const QImage before = words->grab().toImage();
        QTest::mouseDClick(words, Qt::LeftButton, {}, QPoint(words->width() / 4, 8));
        QVERIFY(words->hasSelectedText());
        QVERIFY(words->grab().toImage() != before);  // It is seen.
        QTest::keyClick(words, Qt::Key_C, Qt::ControlModifier);
        QCOMPARE(QApplication::clipboard()->text(), words->selectedText());
    }

    void wordsLookAsTheyDoWhenSelectedFrom() {
        ReadingColumn& column = shownColumn();
        auto* words = column.findChildren<Words*>().front();
        const QImage own = words->grab().toImage();
        QTest::mouseClick(words, Qt::LeftButton, {}, QPoint(4, 4));
        QVERIFY(!words->hasSelectedText());
        QCOMPARE(words->grab().toImage(), own);  // From now on by the toolkit.
    }

    void figuresWrapWhereTheLineIsTooShort() {
        openDemo();
        FitStrip strip;
        strip.resize(900, 60);
        strip.showAnswer(answer());
        const auto rows = [&strip] {
            std::set<int> tops;
            for (const ToldPart& part : strip.toldParts()) {
                tops.insert(part.place.top());
            }
            return tops.size();
        };
        QCOMPARE(rows(), std::size_t{1});
        const int one = strip.height();
        strip.resize(300, one);
        static_cast<QWidget&>(strip).show();
        QApplication::processEvents();
        QVERIFY(rows() >= 2);
        QVERIFY(strip.height() > one);
        const auto parts = strip.toldParts();
        for (const ToldPart& part : parts) {
            QVERIFY2(strip.rect().contains(part.place), qPrintable(part.name));
            for (const ToldPart& other : parts) {
                QVERIFY(part.name == other.name || !part.place.intersects(other.place));
            }
        }
        QCOMPARE(parts.front().name,
                 "rows: " + QString::fromStdString(countText(answer().rows.used)));
    }

    /// The figures of quantiles need more room than those of means: the columns beside stay.
    void manyFiguresPushNothingAside() {
        openDemo();
        const int reading = window_->findChild<ReadingColumn*>()->width();
        Question q = *session().question();
        q.method = "quantile";
        q.settings.at = {0.1, 0.25, 0.5, 0.75, 0.9};
        q.errors = ErrorSpec{};
        session().putQuestion(q, "quantiles");
        window_->settle();
        QVERIFY(answer().fit != nullptr);
        QCOMPARE(window_->findChild<ReadingColumn*>()->width(), reading);
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    ReadingTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "reading_test.moc"
