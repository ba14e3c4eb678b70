// Choosing terms, trying shapes and looking row by row, in the real window on the demo.
#include "app/shell/theme.h"
#include "app/stages/checks/row_sheet_view.h"
#include "app/stages/model/curve_page.h"
#include "app/stages/model/hypotheses_page.h"
#include "app/stages/model/terms_page.h"
#include "core/report/wording.h"
#include "tests/app/window_driver.h"

#include <QApplication>
#include <QComboBox>
#include <QHeaderView>
#include <QPushButton>
#include <QTableView>
#include <QTest>
#include <QTextBrowser>
#include <QUrl>

#include <algorithm>
#include <cmath>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class ChoiceTest : public WindowDriver {
    Q_OBJECT

  private slots:

    void init() { openDemo(); }

    void cleanup() { window_.reset(); }

    void theBestSubsetBecomesAVariantThatSaysHowItWasChosen() {
        const std::string original = answer().question.id;
        click("tab:Terms");
        auto* page = window_->findChild<TermsPage*>();
        QVERIFY(!page->isBusy());
        QCOMPARE(page->plot()->exhibit().xTitle, std::string("coefficients"));
        const ReadingContent before = page->reading();
        QVERIFY(before.paragraphs.join(' ').contains("By BIC"));
        // A term held is in every choice.
        const std::size_t choices = page->plot()->exhibit().x.size();
        click("terms:hold:zone");
        QVERIFY(page->plot()->exhibit().x.size() < choices);
        QVERIFY(page->reading().paragraphs.join(' ').contains("zone"));
        choose("terms:by", 1);
        QVERIFY(page->reading().paragraphs.join(' ').contains("By AIC"));
        emit find<QTextBrowser>("terms:list")->anchorClicked(QUrl("take:0"));
        window_->settle();
        const Question& variant = *session().question();
        const auto family = session().study().family(original);
        QVERIFY(std::any_of(family.begin(), family.end(),
                            [&](const Question* q) { return q->id == variant.id; }));
        QVERIFY(variant.chosen.has_value());
        QCOMPARE(variant.chosen->by, std::string("aic"));
        QVERIFY(variant.chosen->among.size() >= 8);
        QVERIFY(answerReading(answer()).find("chosen among") != std::string::npos);
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        window_->settle();
        QVERIFY(!session().question()->chosen.has_value());
    }

    void lassoControlsAndOverlap() {
        click("tab:Terms");
        auto* page = window_->findChild<TermsPage*>();
        click("terms:lasso");
        QVERIFY(page->reading().paragraphs.join(' ').contains("foretold best"));
        QCOMPARE(page->plot()->exhibit().yTitle, std::string("mean squared error"));
        choose("terms:by", 1);
        QVERIFY(page->plot()->exhibit().zeroLine);
        click("terms:double");
        QVERIFY(page->reading().paragraphs.join(' ').contains("by <b>"));
        emit find<QTextBrowser>("terms:list")->anchorClicked(QUrl("take:0"));
        window_->settle();
        QCOMPARE(session().question()->chosen->by, std::string("double-selection"));
        QCOMPARE(session().question()->chosen->of, std::string("member"));
        QVERIFY(answer().fit != nullptr);
        click("terms:overlap");
        QVERIFY(page->reading().paragraphs.join(' ').contains("No term says nearly the same"));
    }

    void aShapeIsTriedBesideTheOthersAndAsked() {
        click("tab:Shape");
        auto* page = window_->findChild<CurvePage*>();
        page->setVariable("hives");
        window_->settle();
        choose("curve:look", 1);
        QVERIFY(!page->isBusy());
        auto* list = find<QTextBrowser>("curve:trials");
        QVERIFY(list->isVisible());
        QVERIFY(list->toPlainText().contains("hives with its square"));
        QVERIFY(page->plot()->exhibit().lines.size() > 8);
        QCOMPARE(page->plot()->exhibit().yTitle, std::string("revenue_fl, fl"));
        QVERIFY(page->reading().paragraphs.join(' ').contains("AIC"));
        const auto at = list->toHtml().indexOf("try:");
        QVERIFY(at > 0);
        const QString trial = list->toHtml().mid(at).section('"', 0, 0);
        emit list->anchorClicked(QUrl(trial));
        window_->settle();
        QVERIFY(!session().question()->variantOf.empty());
        QVERIFY(answer().fit != nullptr);
        // The outcome’s own shapes: the logarithm is the question’s.
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        window_->settle();
        choose("curve:look", 2);
        QVERIFY(list->toPlainText().contains("ln revenue_fl"));
        QVERIFY(page->reading().paragraphs.join(' ').contains("Jacobian"));
        // A column by itself.
        choose("curve:look", 3);
        QVERIFY(!list->isVisible());
        QVERIFY(page->reading().title.contains("alone"));
        QCOMPARE(page->plot()->exhibit().rows.size(), answer().design->rows.size());
        choose("curve:look", 0);
        QVERIFY(page->plot()->exhibit().bands.size() == 1);
    }

    void rowsOfTheFitAreSortedAndChosen() {
        window_->showStage(3);
        window_->settle();
        click("checks:rows");
        auto* table = find<QTableView>("rowsheet");
        auto* model = qobject_cast<RowSheetModel*>(table->model());
        QCOMPARE(static_cast<std::size_t>(model->rowCount()), answer().design->rows.size());
        // The most unusual first, by size.
        const auto unusual = [&](int row) {
            return std::abs(model->index(row, RowSheetModel::Unusual)
                                .data()
                                .toString()
                                .replace(QChar(0x2212), '-')
                                .toDouble());
        };
        QVERIFY(unusual(0) >= unusual(1) && unusual(1) >= unusual(2));
        auto* header = table->horizontalHeader();
        const int x = header->sectionViewportPosition(RowSheetModel::Leverage) + 8;
        QTest::mouseClick(header->viewport(), Qt::LeftButton, {}, QPoint(x, 10));
        QTest::mouseClick(header->viewport(), Qt::LeftButton, {}, QPoint(x, 10));
        const auto leverage = [&](int row) {
            return model->index(row, RowSheetModel::Leverage).data().toString().toDouble();
        };
        QVERIFY(leverage(0) >= leverage(1) && leverage(0) > leverage(model->rowCount() - 1));
        // Rows chosen here are chosen everywhere.
        QTest::mouseClick(table->viewport(), Qt::LeftButton, {},
                          table->visualRect(model->index(0, 1)).center());
        window_->settle();
        QCOMPARE(session().selectedRows().size(), std::size_t{1});
        QVERIFY(session().selectedRows().contains(model->sourceRow(0)));
        choose("rowsheet:effect", 1);
        QVERIFY(model->headerData(RowSheetModel::Without, Qt::Horizontal, Qt::DisplayRole)
                    .toString()
                    .contains("hives"));
        const std::size_t used = answer().rows.used;
        click("card:See it without 1 selected");
        QCOMPARE(answer().rows.used, used - 1);
        QCOMPARE(static_cast<std::size_t>(model->rowCount()), used - 1);
    }

    void effectsTogetherByTheDraws() {
        Question q = *session().question();
        q.errors = ErrorSpec{};
        q.errors.kind = "bootstrap";
        q.errors.draws = 199;
        session().putQuestion(q, "errors by drawing rows");
        window_->settle();
        click("tab:Hypotheses");
        auto* page = window_->findChild<HypothesesPage*>();
        QVERIFY(page->shownText().contains("stepped down"));
        QVERIFY(page->shownText().contains("Romano"));
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    ChoiceTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "choice_test.moc"
