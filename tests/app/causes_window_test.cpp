// From least squares to instruments to a panel, in the real window on the demo.
#include "app/shell/theme.h"
#include "app/stages/checks/checks_stage.h"
#include "app/stages/model/first_stage_page.h"
#include "app/stages/model/left_out_page.h"
#include "app/stages/model/model_stage.h"
#include "core/model/panel.h"
#include "core/report/wording.h"
#include "tests/app/window_driver.h"

#include <QApplication>
#include <QFileInfo>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>

#include <cmath>
#include <set>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class CausesWindowTest : public WindowDriver {
    Q_OBJECT

    [[nodiscard]] const Coefficient& effect(const std::string& term) {
        for (const Coefficient& c : answer().fit->coefficients) {
            if (c.term == term) {
                return c;
            }
        }
        qFatal("no effect of %s", term.c_str());
        return answer().fit->coefficients.front();
    }

    void openPanel() {
        window_->openPath(QFileInfo(session().path()).absolutePath() + "/growers_panel.rapporto");
        window_->settle();
        window_->showStage(2);
        window_->settle();
    }

  private slots:

    void init() { openDemo(); }

    void cleanup() { window_.reset(); }

    void whatMayBeLeftOutIsAskedAndSaid() {
        // Membership’s effect, which is the first one.
        const auto ask = [this]() -> std::optional<ActionCard> {
            for (const ActionCard& card : window_->findChild<ModelStage*>()->reading().actions) {
                if (card.label == "What may be left out") {
                    return card;
                }
            }
            return std::nullopt;
        };
        const auto card = ask();
        QVERIFY(card.has_value());
        card->act();
        window_->settle();
        const auto& request = session().question()->leftOut;
        QVERIFY(request && request->of == "member");
        // Sets and groupings serve, too; the effect itself does not.
        QVERIFY(request->benchmarks.size() >= 3);
        const QString all = readingText();
        QVERIFY2(all.contains("a cause left out would have to explain"), qPrintable(all));
        QVERIFY(all.contains("Against irrigated: a cause left out as strong as it on both sides"));
        QVERIFY(!ask().has_value());  // It is answered here now.
        const LeftOut& found = **answer().leftOut;
        QVERIFY(*found.robustnessAlpha > 0.0 && *found.robustnessAlpha < *found.robustness);
        // The page of it: a strength is put where the mouse is, and told in words.
        click("tab:Left out");
        auto* plot = find<StrengthPlot>("leftOutPicture");
        const auto [wide, high] = leftOutReach(found);
        const auto words = [this] { return find<QLabel>("leftOutWords")->text(); };
        QTest::mouseClick(plot, Qt::LeftButton, {},
                          plot->pixelOf(0.5 * wide, 0.25 * high).toPoint());
        auto* page = window_->findChild<LeftOutPage*>();
        QVERIFY(std::abs(page->chosen().withTerm - 0.5 * wide) < 0.01 * wide);
        QVERIFY(std::abs(page->chosen().withOutcome - 0.25 * high) < 0.01 * high);
        const QString before = words();
        QTest::mousePress(plot, Qt::LeftButton, {},
                          plot->pixelOf(0.5 * wide, 0.25 * high).toPoint());
        QTest::mouseMove(plot, plot->pixelOf(0.9 * wide, 0.9 * high).toPoint());
        QTest::mouseRelease(plot, Qt::LeftButton, {},
                            plot->pixelOf(0.9 * wide, 0.9 * high).toPoint());
        QVERIFY(words() != before);
        QVERIFY(page->chosen().withTerm > 0.8 * wide);
        const double held = page->chosen().withOutcome;
        QTest::keyClick(plot, Qt::Key_Down);
        QVERIFY(std::abs(page->chosen().withOutcome - (held - high / 50.0)) < 1e-12);
        QTest::keyClick(window_.get(), Qt::Key_Return, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().study().report.back().shows, std::string("left-out"));
        session().undo();
        window_->settle();
        session().undo();
        window_->settle();
        QVERIFY(!session().question()->leftOut && ask().has_value());
    }

    void aProposalIsTakenWithItsReason() {
        Question q = *session().question();
        q.errors = {};
        session().putQuestion(q, "classical errors");
        window_->settle();
        auto* slot = find<QPushButton>("slot:proposed");
        QCOMPARE(slot->text(), QString("proposed: errors by the survey design"));
        QVERIFY(slot->toolTip().contains("A design is declared"));
        QTest::mouseClick(slot, Qt::LeftButton);
        take("survey");
        QCOMPARE(session().question()->errors.kind, std::string("survey"));
        QVERIFY(window_->findChild<QPushButton*>("slot:proposed") == nullptr);
    }

    void membershipIsAskedByWhatMovesIt() {
        const double least = effect("member").estimate;
        const double leastError = effect("member").se;
        click("term:0");
        take("by instruments");
        // The next blank stands open: what moves it.
        take("road_km");
        QCOMPARE(session().question()->method, std::string("two-stage"));
        QVERIFY2(answer().fit != nullptr, answer().refusal ? answer().refusal->text().c_str() : "");
        click("slot:mover");
        take("office_km");
        closeFinder();
        const Question& q = *session().question();
        QCOMPARE(q.endogenous.size(), std::size_t{1});
        QCOMPARE(q.instruments.size(), std::size_t{2});
        // The effect shrinks and grows less sure; the truth, .12, lies inside.
        QVERIFY(effect("member").estimate < least);
        QVERIFY(effect("member").se > 3.0 * leastError);
        QVERIFY(effect("member").low < 0.12 && effect("member").high > 0.12);
        click("tab:First stage");
        auto* page = window_->findChild<FirstStagePage*>();
        QVERIFY(page->isVisible());
        QVERIFY(find<QLabel>("firstStageStrength")->text().contains("F(2, 47)"));
        QCOMPARE(page->rows()->cells(0).front(), QString("road_km"));
        click("stage:1");
        QVERIFY(find<QLabel>("firstStageStrength")->text().contains("ln_revenue"));
        // Least squares stands beside it in words.
        click("tab:Effects");
        QVERIFY(window_->findChild<QPushButton*>("tab:Terms")->isHidden());
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().question()->method, std::string("least-squares"));
        QCOMPARE(effect("member").estimate, least);
    }

    void instrumentsComeOneByOneAndFourEstimatorsStandTogether() {
        session().setQuestion("q5");
        window_->settle();
        const std::size_t before = session().study().questions.size();
        click("card:Add the instruments one by one");
        QCOMPARE(session().study().questions.size(), before + 1);
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        window_->settle();
        session().setQuestion("q5");
        window_->settle();
        click("card:Four estimators side by side");
        QCOMPARE(session().study().questions.size(), before + 3);
        window_->showStage(4);
        window_->settle();
        std::set<std::string> methods;
        for (const Question& q : session().study().questions) {
            if (q.kind == "explain") {
                const auto answered = session().answer(q.id);
                QVERIFY2(answered && answered->fit, q.title.c_str());
                methods.insert(q.method);
            }
        }
        QVERIFY(methods.contains("liml") && methods.contains("gmm"));
    }

    void aChipTakenOutLeavesLeastSquares() {
        session().setQuestion("q5");
        window_->settle();
        auto* chip = find<QPushButton>("moved:0");
        chip->setFocus();
        QTest::keyClick(chip, Qt::Key_Delete);
        window_->settle();
        QVERIFY(session().question()->endogenous.empty());
        QVERIFY(session().question()->instruments.empty());
        QCOMPARE(session().question()->method, std::string("least-squares"));
        QVERIFY(answer().fit != nullptr);
    }

    void netsAreComparedWithinGrowers() {
        openPanel();
        QCOMPARE(session().question()->method, std::string("within"));
        QVERIFY(std::abs(effect("nets").estimate - 0.11) < 2.5 * effect("nets").se);
        QVERIFY(answerReading(answer()).find("240 units") != std::string::npos);
        // All rows alike mix the growers' levels in; Hausman says so.
        session().setQuestion("q3");
        window_->settle();
        openCheck("hausman");
        click("card:Compare each unit with itself");
        QCOMPARE(session().question()->method, std::string("within"));
        window_->showStage(2);
        window_->settle();
        click("slot:fixed");
        take("year");
        closeFinder();
        QCOMPARE(session().question()->fixedEffects, std::vector<std::string>{"year"});
        QVERIFY(std::abs(effect("nets").estimate - 0.11) < 2.5 * effect("nets").se);
        // Another method by its slot.
        click("slot:method");
        take("first differences");
        QVERIFY2(answer().fit != nullptr, answer().refusal ? answer().refusal->text().c_str() : "");
        // Changes of the years stay held fixed.
        QVERIFY(answer().fit->panel->pairs > 1000);
        QVERIFY(answer().design->swept);
        QVERIFY(std::abs(effect("nets").estimate - 0.11) < 2.5 * effect("nets").se);
        // A mean of years holds no year fixed: refused in words.
        click("slot:method");
        take("of units");
        QVERIFY(answer().refusal &&
                answer().refusal->text().find("held fixed") != std::string::npos);
    }

    void aVariantUnderTheSurveyDesign() {
        const double plain = effect("hives").estimate;
        click("slot:errors");
        take("survey design");
        QVERIFY2(answer().fit != nullptr, answer().refusal ? answer().refusal->text().c_str() : "");
        QVERIFY(answer().design->weightKind == WeightKind::Sampling);
        QVERIFY(effect("hives").estimate != plain);
        // 48 clusters less 4 strata.
        QCOMPARE(*effect("hives").df, 44.0);
        QVERIFY(answer().fit->errorNote.find("4 strata") != std::string::npos);
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    CausesWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "causes_window_test.moc"
