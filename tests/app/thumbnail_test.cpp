// A study as a small card: what a folder of files shows of it, without computing anything.
#include "app/shell/thumbnail.h"

#include "app/shell/theme.h"

#include <QApplication>
#include <QFile>
#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;
using namespace rapporto::app;

namespace {

Study studyOf(const QString& title, int questions) {
    Study study;
    study.title = utf8(title);
    for (int q = 0; q < questions; ++q) {
        Question one;
        one.id = "q" + std::to_string(q);
        one.outcome = "ln(revenue)";
        one.terms = {Term::expression("hives"), Term::expression("member")};
        study.questions.push_back(one);
    }
    return study;
}

/// Pixels that are not the ground, in a part of the card.
int inked(const QImage& image, const QRect& within) {
    int count = 0;
    for (int y = within.top(); y <= within.bottom(); ++y) {
        for (int x = within.left(); x <= within.right(); ++x) {
            count += image.pixelColor(x, y) != colour::kGround ? 1 : 0;
        }
    }
    return count;
}

}  // namespace

class ThumbnailTest : public QObject {
    Q_OBJECT

  private slots:

    void itShowsTitleAndQuestions() {
        const QImage none = studyThumbnail(studyOf("Does membership pay?", 0), 320);
        const QImage two = studyThumbnail(studyOf("Does membership pay?", 2), 320);
        QCOMPARE(none.size(), QSize(256, 320));
        const QRect title(18, 20, 220, 76);
        const QRect first(18, 104, 220, 60);
        const QRect third(18, 232, 220, 56);
        QVERIFY(inked(none, title) > 200);
        QCOMPARE(inked(none, first), 0);
        QVERIFY(inked(two, first) > 200);
        QCOMPARE(inked(two, third), 0);
        // Of many the first three, and how many more.
        const QImage many = studyThumbnail(studyOf("x", 9), 320);
        QVERIFY(inked(many, third) > 200);
        QVERIFY(inked(many, QRect(18, 292, 220, 24)) > 20);
        QCOMPARE(studyThumbnail(studyOf("x", 9), 320), many);
    }

    void longWordsStayOnTheCard() {
        const QImage image = studyThumbnail(studyOf(QString(400, 'W') + " and more of it", 1), 320);
        QCOMPARE(inked(image, QRect(240, 20, 12, 280)), 0);
        const QImage lines =
            studyThumbnail(studyOf(QString("as many words as nobody reads ").repeated(20), 0), 320);
        QCOMPARE(inked(lines, QRect(18, 100, 220, 180)), 0);
    }

    void sizesAreWhatIsAskedWithinReason() {
        QCOMPARE(studyThumbnail(Study(), 128).height(), 128);
        QCOMPARE(studyThumbnail(Study(), 0).height(), 16);
        QCOMPARE(studyThumbnail(Study(), 1 << 30).height(), 2048);
    }

    void itIsWrittenAsDesktopsCallIt() {
        QTemporaryDir place;
        const QString picture = place.filePath("card.png");
        const QString demo = QString(RAPPORTO_SOURCE_DIR) + "/demo/calvessa.rapporto";
        QCOMPARE(writeThumbnail({"128", demo, picture}), 0);
        QCOMPARE(QImage(picture).height(), 128);
        // A stranger’s study whose data are elsewhere has a card all the same.
        const QString alone = place.filePath("alone.rapporto");
        QVERIFY(QFile::copy(demo, alone));
        QCOMPARE(writeThumbnail({"128", alone, picture}), 0);
        QTest::ignoreMessage(QtWarningMsg, QRegularExpression("cannot be written"));
        QCOMPARE(writeThumbnail({"128", demo, place.filePath("no/card.png")}), 1);
        QTest::ignoreMessage(QtWarningMsg, QRegularExpression("."));
        QCOMPARE(writeThumbnail({"128", place.filePath("none.rapporto"), picture}), 1);
        QTest::ignoreMessage(QtWarningMsg, QRegularExpression("wants a size"));
        QCOMPARE(writeThumbnail({"128"}), 1);
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    ThumbnailTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "thumbnail_test.moc"
