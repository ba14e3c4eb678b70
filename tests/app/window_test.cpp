// The real window, driven by mouse and keyboard.
#include "app/shell/theme.h"
#include "app/stages/compare/sweep_view.h"
#include "app/stages/model/curve_page.h"
#include "app/stages/model/effect_rows.h"
#include "app/stages/model/hypotheses_page.h"
#include "app/stages/model/predict_page.h"
#include "app/stages/report/report_stage.h"
#include "core/paths/trace.h"
#include "core/report/report.h"
#include "tests/app/growers_driver.h"

#include <QApplication>
#include <QFile>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QSlider>
#include <QTest>
#include <QTextBrowser>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class WindowTest : public GrowersDriver {
    Q_OBJECT

  private slots:

    void init() { open(); }

    void cleanup() { window_.reset(); }

    void emptyStudySaysWhatToDo() {
        QVERIFY(find<QPushButton>("start:open")->isVisible());
        QVERIFY(find<QPushButton>("start:paste")->isVisible());
        QVERIFY(find<QPushButton>("start:demo")->isVisible());
        for (int s = 0; s < 6; ++s) {  // Every stage stands without data.
            window_->showStage(s);
            window_->settle();
        }
    }

    void fromAFileToAReport() {
        write(place_.filePath("growers.csv"), growers());
        window_->openPath(place_.filePath("growers.csv"));
        window_->settle();
        const auto& import = *session().pending()->import;
        QCOMPARE(*import.used.delimiter, ';');
        QCOMPARE(*import.used.decimal, ',');
        QCOMPARE(import.table.rows(), std::size_t{300});
        click("import:use");
        askForRevenue();
        QCOMPARE(answer().question.outcome, std::string("revenue"));
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{2});

        // The effect is read where it stands.
        auto* effects = window_->findChild<EffectRows*>();
        QTest::mouseClick(effects, Qt::LeftButton, {},
                          QPoint(60, static_cast<int>(effects->rowTop(1)) + 10));
        QCOMPARE(effects->selected(), 1);
        QCOMPARE(effects->cells(1)[0], QString("hives"));

        // A failing check and its remedy, beside the original.
        QTest::keyClick(window_.get(), Qt::Key_4, Qt::ControlModifier);
        window_->settle();
        openCheck("breusch-pagan");
        const CheckResult* spread = nullptr;
        for (const CheckResult& c : answer().checks) {
            spread = c.id == "breusch-pagan" ? &c : spread;
        }
        QCOMPARE(spread->verdict, Verdict::Fails);
        const Eigen::VectorXd residuals = answer().fit->residuals;
        const std::string original = answer().question.id;
        click("card:Log the outcome");
        QCOMPARE(answer().question.outcome, std::string("ln(revenue)"));
        QCOMPARE(answer().question.variantOf, original);
        // The second question leaves the first one's residuals untouched.
        QVERIFY(session().answer(original)->fit->residuals == residuals);

        // Side by side.
        QTest::keyClick(window_.get(), Qt::Key_5, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().study().family(original).size(), std::size_t{2});

        // Undo takes the variant away, redo brings it back.
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().study().questions.size(), std::size_t{1});
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
        window_->settle();
        QCOMPARE(session().study().questions.size(), std::size_t{2});

        // Save, open again: the same numbers.
        const double slope = session().answer(original)->fit->coefficients[1].estimate;
        QVERIFY(session().saveStudy(place_.filePath("apples.rapporto")));
        QVERIFY(session().isSaved());
        window_->openPath(place_.filePath("apples.rapporto"));
        window_->settle();
        QCOMPARE(session().study().source.file, std::string("growers.csv"));
        QCOMPARE(session().answer(original)->fit->coefficients[1].estimate, slope);

        // The report as a page and as PDF.
        window_->showStage(5);
        window_->settle();
        auto* report = window_->findChild<ReportStage*>();
        QCOMPARE(report->exportTo(place_.filePath("r.html")), QString());
        QCOMPARE(report->exportTo(place_.filePath("r.pdf")), QString());
        QVERIFY(report->exportTo("/no/such/place/r.html").size() > 0);
        QFile page(place_.filePath("r.html"));
        QVERIFY(page.open(QIODevice::ReadOnly));
        const QByteArray html = page.readAll();
        QVERIFY(html.contains("log outcome"));
        QVERIFY(QFile(place_.filePath("r.pdf")).size() > 5000);
    }

    void chipsAnswerToTheKeyboard() {
        takeInGrowers();
        askForRevenue();
        auto* chip = find<QPushButton>("term:0");
        chip->setFocus();
        QTest::keyClick(chip, Qt::Key_M);
        window_->settle();
        QVERIFY(session().question()->terms[0].muted);
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{1});
        QTest::keyClick(find<QPushButton>("term:0"), Qt::Key_M);
        window_->settle();
        click("term:0");
        take("its square");
        QCOMPARE(session().question()->terms.size(), std::size_t{2});
        QCOMPARE(answer().fit->coefficients[2].term, std::string("power(hives, 2)"));
        QTest::keyClick(find<QPushButton>("term:1"), Qt::Key_Delete);
        window_->settle();
        QCOMPARE(session().question()->terms.size(), std::size_t{1});
        click("slot:errors");
        take("clustered by village");
        QCOMPARE(answer().question.errors.by, std::vector<std::string>{"village"});
        click("slot:rule");
        take("hives > 2");
        QVERIFY(answer().rows.byRule > 0);
    }

    /// A finder that stands open while its question is exchanged acts on nothing: neither that term
    /// nor its place need be there.
    void aFinderActsOnTheQuestionItWasOpenedOn() {
        session().openDemo();
        window_->showStage(2);
        window_->settle();
        const std::size_t terms = session().question()->terms.size();
        QVERIFY(terms > 2);
        for (const char* slot : {"term:last", "slot:errors", "slot:method"}) {
            const QString name =
                QString(slot) == "term:last"
                    ? QString("term:%1").arg(session().question()->terms.size() - 1)
                    : QString(slot);
            auto* chip = window_->findChild<QPushButton*>(name);
            QVERIFY2(chip != nullptr, qPrintable(name));
            QTest::mouseClick(chip, Qt::LeftButton);
            auto* finder = window_->findChild<Finder*>();
            QVERIFY2(finder->isVisible(), slot);
            auto* field = finder->findChild<QLineEdit*>();
            if (name.startsWith("term:")) {
                QTest::keyClicks(field, "1/0");
            }
            Question other = *session().question();
            other.terms.resize(1);
            session().putQuestion(other, "take out the others");
            const Question before = *session().question();
            QTest::keyClick(field, Qt::Key_Return);
            QVERIFY2(!finder->isVisible(), slot);
            QVERIFY2(questionText(*session().question()) == questionText(before), slot);
            session().undo();
            window_->settle();
        }
        QCOMPARE(session().question()->terms.size(), terms);
    }

    /// Keys that come faster than the line is drawn anew meet chips of terms that are gone.
    void keysOnAChipOfAGoneTermDoNothing() {
        session().openDemo();
        window_->showStage(2);
        window_->settle();
        const std::size_t last = session().question()->terms.size() - 1;
        auto* chip = window_->findChild<QPushButton*>(QString("term:%1").arg(last));
        QVERIFY(chip != nullptr);
        Question other = *session().question();
        other.terms.resize(1);
        session().putQuestion(other, "take out the others");
        const std::string before = questionText(*session().question());
        for (const auto& [key, with] : {std::pair{Qt::Key_M, Qt::NoModifier},
                                        {Qt::Key_Delete, Qt::NoModifier},
                                        {Qt::Key_Left, Qt::AltModifier},
                                        {Qt::Key_Return, Qt::NoModifier}}) {
            // As it reaches the chip, before anything else does.
            QKeyEvent press(QEvent::KeyPress, key, with);
            QCoreApplication::sendEvent(chip, &press);
            QCOMPARE(questionText(*session().question()), before);
        }
    }

    void aPredictionMovesWithItsSlider() {
        takeInGrowers();
        askForRevenue();
        click("tab:Predict");
        auto* page = window_->findChild<PredictPage*>();
        QVERIFY(page->isVisible());
        QCOMPARE(page->predictions().size(), std::size_t{1});
        const double atMean = page->predictions()[0].mean.value;
        click("predict:more");
        QCOMPARE(page->predictions().size(), std::size_t{2});
        auto* slider = find<QSlider>("predict:slider:1:hives");
        slider->setFocus();
        QTest::keyClick(slider, Qt::Key_Home);
        for (int i = 0; i < 5; ++i) {
            QTest::keyClick(slider, Qt::Key_PageUp);
        }
        window_->settle();
        const auto& q = *session().question();
        QCOMPARE(q.predict.size(), std::size_t{2});
        const double hives = std::get<double>(q.predict[1].at.at("hives"));
        QVERIFY(hives > 1.0 && hives < 3.0);
        const auto answer = session().answer();
        QVERIFY(answer->predictions.has_value());
        QCOMPARE((*answer->predictions)[1].mean.value, page->predictions()[1].mean.value);
        QCOMPARE((*answer->predictions)[0].mean.value, atMean);
        QVERIFY((*answer->predictions)[1].difference->value < 0.0);
        // Typed, beyond the data: predicted, with its warning; nonsense stays out.
        auto* edit = find<QLineEdit>("predict:0:hives");
        edit->setFocus();
        QTest::keyClicks(edit, "40");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QCOMPARE(page->predictions()[0].warnings.size(), std::size_t{1});
        edit->setFocus();
        edit->selectAll();
        QTest::keyClicks(edit, "many");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QVERIFY(find<QLabel>("predict:message")->isVisible());
        QCOMPARE(std::get<double>(session().question()->predict[0].at.at("hives")), 40.0);
        session().undo();
        window_->settle();
        QVERIFY(session().question()->predict[0].at.empty());
        click("predict:less");
        QCOMPARE(session().question()->predict.size(), std::size_t{1});
    }

    void aHypothesisIsTypedAndTakenOut() {
        takeInGrowers();
        askForRevenue();
        click("tab:Hypotheses");
        auto* page = window_->findChild<HypothesesPage*>();
        auto* edit = find<QLineEdit>("hypothesis:edit");
        edit->setFocus();
        QTest::keyClicks(edit, "hivs > 0");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QVERIFY(find<QLabel>("hypothesis:message")->text().contains("hives"));
        QVERIFY(session().question()->hypotheses.empty());
        edit->selectAll();
        QTest::keyClicks(edit, "hives > 0");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QCOMPARE(session().question()->hypotheses.size(), std::size_t{1});
        QVERIFY(page->shownText().contains("The claim stands"));
        QVERIFY(!find<QLabel>("hypothesis:message")->isVisible());
        auto* list = find<QTextBrowser>("hypothesis:list");
        emit list->anchorClicked(QUrl("out:0"));
        window_->settle();
        QVERIFY(session().question()->hypotheses.empty());
    }

    void aBendIsDraggedAndHeld() {
        window_->openPath(RAPPORTO_SOURCE_DIR "/demo/pollination.rapporto");
        window_->settle();
        window_->showStage(2);
        click("tab:Shape");
        auto* page = window_->findChild<CurvePage*>();
        QCOMPARE(page->variable(), std::string("hives"));
        BendPlot* plot = page->plot();
        const BentLine before = *session().answer()->fit->bent;
        const double y = plot->exhibit().y[0];
        const QPoint from = plot->pixelOf(before.bends[1].at, y).toPoint();
        const QPoint to = plot->pixelOf(11.0, y).toPoint();
        QTest::mousePress(plot, Qt::LeftButton, {}, from);
        QTest::mouseMove(plot, (from + to) / 2);
        // While it is held the pieces follow and nothing is changed yet.
        QVERIFY(plot->exhibit().title.find("more than where the bends were") != std::string::npos);
        QVERIFY(!session().question()->settings.fixed);
        QTest::mouseMove(plot, to);
        QTest::mouseRelease(plot, Qt::LeftButton, {}, to);
        window_->settle();
        const Question held = *session().question();
        QVERIFY(held.settings.fixed);
        QVERIFY(std::abs(held.settings.start[1] - 11.0) < 0.1);
        const auto answer = session().answer();
        QVERIFY(answer->fit->bent->fixed);
        QCOMPARE(answer->fit->bent->bends[1].at, held.settings.start[1]);
        click("card:Let the bends move");
        QCOMPARE(session().answer()->fit->bent->bends[1].at, before.bends[1].at);
        click("card:One bend fewer");
        QCOMPARE(session().answer()->fit->bent->bends.size(), std::size_t{1});
        session().undo();
        session().undo();
        session().undo();
        window_->settle();
        QVERIFY(!session().question()->settings.fixed);
    }

    void methodAndErrorsAreChosenInTheSentence() {
        takeInGrowers();
        askForRevenue();
        click("slot:method");
        take("2 bends in hives");
        closeFinder();
        window_->settle();
        QCOMPARE(session().question()->method, std::string("bent-line"));
        QCOMPARE(find<QPushButton>("slot:method")->text(), QString("a line with 2 bends in hives"));
        QCOMPARE(session().answer()->fit->bent->bends.size(), std::size_t{2});
        click("slot:method");
        take("least squares");
        closeFinder();
        window_->settle();
        QVERIFY(!session().answer()->fit->bent);
        click("slot:errors");
        take("wild draws by village");
        closeFinder();
        window_->settle();
        const auto answer = session().answer();
        QVERIFY2(answer->fit != nullptr, answer->refusal ? answer->refusal->text().c_str() : "");
        QCOMPARE(answer->fit->resampling->asked, 9999);
        QVERIFY(answer->fit->errorNote.find("30 clusters") != std::string::npos);
    }

    void aSweepFollowsOneEffect() {
        takeInGrowers();
        askForRevenue();
        click("slot:add");
        take("village");
        closeFinder();
        window_->settle();
        QTest::keyClick(window_.get(), Qt::Key_5, Qt::ControlModifier);
        window_->settle();
        click("compare:Sweep");
        window_->settle();
        auto* view = window_->findChild<SweepView*>();
        QVERIFY(view->isVisible() && view->shown());
        // With and without village, two kinds of errors, and rows that stand out where there are.
        const std::size_t all = view->shown()->results.size();
        QVERIFY(all == 4 || all == 8);
        QCOMPARE(view->shown()->spec.of, std::string("hives"));
        click("sweep:errors:robust");
        QCOMPARE(view->shown()->results.size(), all / 2);
        QTest::mouseClick(view, Qt::LeftButton, {},
                          QPoint(static_cast<int>(view->xOf(0)), view->height() / 2));
        QCOMPARE(view->chosen(), 0);
        QTest::keyClick(view, Qt::Key_Right);
        QCOMPARE(view->chosen(), 1);
        const double estimate = view->shown()->results[1].estimate;
        const std::size_t before = session().study().questions.size();
        click("card:Make it a variant");
        QCOMPARE(session().study().questions.size(), before + 1);
        const auto answer = session().answer();
        const auto hives =
            std::find_if(answer->fit->coefficients.begin(), answer->fit->coefficients.end(),
                         [](const auto& c) { return c.term == "hives"; });
        QVERIFY(std::abs(hives->estimate - estimate) < 1e-9 * std::abs(estimate));
        session().undo();
        window_->settle();
        // The series: one step, taken back in one.
        click("compare:Variants");
        click("card:Bring the terms in one by one");
        QCOMPARE(session().study().questions.size(), before + 1);
        QCOMPARE(session().study().questions.back().title, std::string("hives alone"));
        session().undo();
        QCOMPARE(session().study().questions.size(), before);
    }

    void aReasonClosesADoubt() {
        takeInGrowers();
        askForRevenue();
        QTest::keyClick(window_.get(), Qt::Key_4, Qt::ControlModifier);
        window_->settle();
        const auto answer = session().answer();
        const auto failing =
            std::find_if(answer->checks.begin(), answer->checks.end(),
                         [](const auto& c) { return c.verdict == Verdict::Fails; });
        QVERIFY(failing != answer->checks.end());
        openCheck(failing->id);
        auto* edit = find<QLineEdit>("field:kept because");
        edit->setFocus();
        QTest::keyClicks(edit, "the sample is large");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        const auto& decisions = session().question()->decisions;
        // For all checks of the same question that doubt it.
        const auto of = [](const std::string& id) { return std::string(findCheck(id)->group); };
        std::size_t doubting = 0;
        for (const auto& c : answer->checks) {
            doubting += of(c.id) == of(failing->id) &&
                                (c.verdict == Verdict::Fails || c.verdict == Verdict::Weigh)
                            ? 1U
                            : 0U;
        }
        QCOMPARE(decisions.size(), doubting);
        QCOMPARE(of(decisions[0].check), of(failing->id));
        click("checks:ledger");
        auto* ledger = find<QTextBrowser>("ledger");
        QVERIFY(ledger->isVisible());
        QVERIFY(ledger->toPlainText().contains("kept: the sample is large"));
        QVERIFY(ledger->toPlainText().contains("open"));
        session().undo();
        window_->settle();
        QVERIFY(!ledger->toPlainText().contains("kept: the sample is large"));
        click("checks:ledger");
        QVERIFY(!ledger->isVisible());
    }

    void levelsFoldUnderTheirVariable() {
        takeInGrowers();
        askForRevenue();
        click("slot:add");
        take("village");
        closeFinder();
        window_->settle();
        auto* effects = window_->findChild<EffectRows*>();
        QVERIFY(effects->isFolded("village"));  // Thirty levels are many.
        QCOMPARE(effects->rowTop(2), -1.0);
        const auto fold = [&] {
            QTest::mouseClick(effects, Qt::LeftButton, {},
                              QPoint(30, static_cast<int>(effects->headingTop("village")) + 8));
        };
        fold();
        QVERIFY(!effects->isFolded("village"));
        QVERIFY(effects->rowTop(2) > 0.0);
        QTest::mouseClick(effects, Qt::LeftButton, {},
                          QPoint(60, static_cast<int>(effects->rowTop(2)) + 10));
        QTest::keyClick(effects, Qt::Key_Left);
        QVERIFY(effects->isFolded("village"));
    }

    void theReportIsReordered() {
        takeInGrowers();
        askForRevenue();
        window_->showStage(5);
        window_->settle();
        auto* items = window_->findChild<QListWidget*>("reportItems");
        const QString first = items->item(0)->text();
        QVERIFY(items->model()->moveRow({}, 0, {}, 3));  // What a drag does.
        window_->settle();
        QCOMPARE(items->item(2)->text(), first);
        QVERIFY(!session().study().report.empty());
    }

    void findsAnything() {
        takeInGrowers();
        QTest::keyClick(window_.get(), Qt::Key_K, Qt::ControlModifier);
        take("Checks");
        QCOMPARE(window_->stage(), 3);
        QTest::keyClick(window_.get(), Qt::Key_Left, Qt::AltModifier);
        QCOMPARE(window_->stage(), 0);
    }

    void windowAndRunnerShareTheirNumbers() {
        session().openDemo();
        window_->settle();
        const Study study = session().study();
        const auto sources = readSources(study, RAPPORTO_SOURCE_DIR "/demo", false, Job());
        const Frame frame = makeFrame(study, *sources);
        for (const Question& q : study.questions) {
            const Answer direct = answerQuestion(study, frame, q, Job());
            const auto shown = session().answer(q.id);
            QVERIFY(shown && (shown->fit || shown->correlations || shown->trace));
            if (direct.trace) {
                QCOMPARE(direct.trace->effects.size(), shown->trace->effects.size());
                for (std::size_t k = 0; k < direct.trace->effects.size(); ++k) {
                    QCOMPARE(shown->trace->effects[k].low, direct.trace->effects[k].low);
                }
                continue;
            }
            if (direct.correlations) {
                QVERIFY(direct.correlations->r == shown->correlations->r);
                QVERIFY(direct.correlations->low == shown->correlations->low ||
                        direct.correlations->low.hasNaN());
                continue;
            }
            for (std::size_t c = 0; c < direct.fit->coefficients.size(); ++c) {
                QCOMPARE(shown->fit->coefficients[c].estimate,
                         direct.fit->coefficients[c].estimate);
                QCOMPARE(shown->fit->coefficients[c].se, direct.fit->coefficients[c].se);
            }
        }
        for (int s = 0; s < 6; ++s) {
            window_->showStage(s);
            window_->settle();
            QVERIFY(!window_->grab().isNull());
        }
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    WindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "window_test.moc"
