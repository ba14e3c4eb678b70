// A trace as a person asks it: the sentence, the picture, keys and mouse.
#include "app/stages/model/effect_rows.h"
#include "app/stages/model/path_view.h"
#include "app/stages/model/trace_pages.h"
#include "app/stages/model/way_rows.h"
#include "core/paths/trace.h"
#include "core/paths/trace_edits.h"
#include "core/paths/trace_kind.h"
#include "tests/app/window_driver.h"

#include <QClipboard>
#include <QDropEvent>
#include <QLabel>
#include <QListView>
#include <QMimeData>
#include <QStandardItemModel>
#include <QTableWidget>
#include <QTemporaryDir>
#include <QTextBrowser>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;

class TraceWindowTest : public app::test::WindowDriver {
    Q_OBJECT

    QTemporaryDir place_;

    PathView* picture() { return find<PathView>("paths"); }

    WayRows* rows() { return find<WayRows>("wayRows"); }

    const Trace& trace() {
        if (!answer().trace) {
            qFatal("%s", answer().refusal ? answer().refusal->text().c_str() : "no trace");
        }
        return *answer().trace;
    }

    int effectOf(const std::string& kind, const std::vector<std::string>& through = {}) {
        for (std::size_t k = 0; k < trace().effects.size(); ++k) {
            const TraceEffect& e = trace().effects[k];
            if (e.kind == kind && e.through == through) {
                return static_cast<int>(k);
            }
        }
        return -1;
    }

    void drag(QWidget* on, QPointF from, QPointF to) {
        QTest::mousePress(on, Qt::LeftButton, {}, from.toPoint());
        for (int k = 1; k <= 4; ++k) {
            QTest::mouseMove(on, (from + (to - from) * (k / 4.0)).toPoint());
            // The move as a held button: the offscreen platform sends it without.
            QMouseEvent move(QEvent::MouseMove, from + (to - from) * (k / 4.0),
                             on->mapToGlobal(from + (to - from) * (k / 4.0)), Qt::NoButton,
                             Qt::LeftButton, {});
            QCoreApplication::sendEvent(on, &move);
        }
        QTest::mouseRelease(on, Qt::LeftButton, {}, to.toPoint());
        window_->settle();
    }

    /// A variable of the roster dropped on a widget.
    void dropOn(QWidget* on, QPointF at, const QString& name) {
        QStandardItemModel model;
        model.appendRow(new QStandardItem(name));
        std::unique_ptr<QMimeData> data(model.mimeData({model.index(0, 0)}));
        QDragEnterEvent enter(at.toPoint(), Qt::CopyAction, data.get(), Qt::LeftButton, {});
        QCoreApplication::sendEvent(on, &enter);
        QDropEvent drop(at, Qt::CopyAction, data.get(), Qt::LeftButton, {});
        QCoreApplication::sendEvent(on, &drop);
        window_->settle();
    }

    [[nodiscard]] QString readingText() {
        QString all;
        for (const QLabel* label : window_->findChildren<QLabel*>()) {
            all += label->isVisible() ? label->text() + "\n" : QString();
        }
        for (const QTextBrowser* browser : window_->findChildren<QTextBrowser*>()) {
            all += browser->isVisible() ? browser->toPlainText() + "\n" : QString();
        }
        return all;
    }

  private slots:

    void init() { openDemo(); }

    void cleanup() { window_.reset(); }

    void firstTheDirectEffectThenTheWayByDrag() {
        session().startTrace({});
        window_->showStage(2);
        window_->settle();
        QVERIFY(find<QLabel>("modelMessage")->text().contains("How does a cause reach"));
        click("slot:cause");
        take("training_days");
        closeFinder();
        click("slot:reached");
        take("household_income");
        closeFinder();
        // Nothing stands between: the direct effect alone.
        QCOMPARE(trace().equations.size(), 1U);
        QCOMPARE(trace().effects.size(), 2U);
        const double alone = trace().effects.front().estimate;
        QVERIFY(find<QLabel>("trace:headline")->text().contains("Nothing stands between"));
        click("slot:cause");
        take("neighbour_ties");
        closeFinder();
        QCOMPARE(session().question()->trace.effects.size(), 2U);
        // The mediator by drag, from the roster onto the picture.
        dropOn(picture(), QPointF(350, 40), "pruning_score");
        QCOMPARE(trace().equations.size(), 2U);
        const int way = effectOf("indirect", {"pruning_score"});
        QVERIFY(way >= 0);
        const TraceEffect& through = trace().effects[static_cast<std::size_t>(way)];
        QVERIFY(through.low > 0.0);
        QVERIFY(std::abs(trace().effects[static_cast<std::size_t>(effectOf("direct"))].estimate) <
                std::abs(alone));
        QVERIFY(find<QLabel>("trace:headline")->text().contains("passes through pruning_score"));
        QVERIFY(!trace().verdicts.empty());
        // The verdict stands in words; it never speaks of what stopped being clear.
        QVERIFY(readingText().contains("passes through pruning_score"));
        QVERIFY(!readingText().contains("significan"));
        // Muting the chip is going back to the direct effect, beside it as a variant.
        session().startVariant();
        window_->settle();
        auto* chip = find<QPushButton>("between:pruning_score");
        chip->setFocus();
        QTest::keyClick(chip, Qt::Key_M);
        window_->settle();
        QCOMPARE(trace().equations.size(), 1U);
        QVERIFY(std::abs(trace().effects.front().estimate - alone) < 0.2 * std::abs(alone));
        window_->showStage(4);
        window_->settle();
        QVERIFY(readingText().contains("where it was"));
        // Undo takes each step back.
        window_->showStage(2);
        session().undo();
        window_->settle();
        QCOMPARE(trace().equations.size(), 2U);
    }

    void arrowsAreDrawnTurnedAndRefusedInACircle() {
        session().setQuestion("q6");
        window_->settle();
        const std::size_t arrows = trace().arrows.size();
        // Neighbours and training: an arrow between the two by mouse.
        drag(picture(), picture()->placeOf("neighbour_ties"), picture()->placeOf("training_days"));
        QCOMPARE(trace().arrows.size(), arrows + 1);
        QCOMPARE(trace().equations.size(), 3U);
        // A circle: from the outcome back to a cause.
        drag(picture(), picture()->placeOf("household_income"),
             picture()->placeOf("neighbour_ties"));
        QVERIFY(answer().refusal.has_value());
        QVERIFY(answer().refusal->text().find("circle") != std::string::npos);
        QVERIFY(find<QLabel>("modelMessage")->text().contains("household_income → "));
        session().undo();
        window_->settle();
        QCOMPARE(trace().arrows.size(), arrows + 1);
        // Click on an arrow: every way that uses it, and what it says.
        QTest::mouseClick(picture(), Qt::LeftButton, {},
                          picture()->numberOf("pruning_score", "household_income").toPoint());
        window_->settle();
        QVERIFY(picture()->chosenArrow() >= 0);
        QVERIFY(readingText().contains("Ways that use it"));
        click("card:Take this path out");
        QCOMPARE(trace().arrows.size(), arrows);
        session().undo();
        window_->settle();
        // A node stays where it is put, and nothing is computed anew for it.
        const auto before = session().answer();
        drag(picture(), picture()->placeOf("pruning_score"), QPointF(400, 20));
        QVERIFY(session().question()->trace.places.contains("pruning_score"));
        QVERIFY(session().answer() == before);
        QVERIFY(std::abs(picture()->placeOf("pruning_score").y() - 24.0) < 12.0);
    }

    void thePictureIsDrawnByKeys() {
        session().setQuestion("q6");
        window_->settle();
        PathView* view = picture();
        view->setFocus();
        QTest::keyClick(view, Qt::Key_Tab);
        QVERIFY(view->chosenNode() >= 0);
        const auto chosenName = [&] {
            return view->chosenNode() < 0
                       ? std::string()
                       : trace().nodes[static_cast<std::size_t>(view->chosenNode())].name;
        };
        std::vector<std::string> order = {chosenName()};
        // To the arrows and out at the end.
        int steps = 0;
        while (view->hasFocus() && steps < 40) {
            QTest::keyClick(view, Qt::Key_Tab);
            ++steps;
            if (view->chosenNode() >= 0) {
                order.push_back(chosenName());
            }
        }
        // Three nodes more, five arrows, and out.
        QCOMPARE(order.size(), 4U);
        QCOMPARE(steps, 3 + 5 + 1);
        view->setFocus();
        view->choose(-1, -1);
        // From training to neighbours: P, choose with Tab, Return; Escape leaves it first.
        const auto placeOf = [&](const char* name) {
            return std::find(order.begin(), order.end(), name) - order.begin();
        };
        while (chosenName() != "training_days") {
            QTest::keyClick(view, Qt::Key_Tab);
        }
        const std::size_t arrows = trace().arrows.size();
        QTest::keyClick(view, Qt::Key_P);
        QTest::keyClick(view, Qt::Key_Escape);
        QTest::keyClick(view, Qt::Key_P);
        // The node after it is the first target.
        const auto away = (placeOf("neighbour_ties") - placeOf("training_days") + 4) % 4 - 1;
        for (int k = 0; k < away; ++k) {
            QTest::keyClick(view, Qt::Key_Tab);
        }
        QTest::keyClick(view, Qt::Key_Return);
        window_->settle();
        QCOMPARE(trace().arrows.size(), arrows + 1);
        QVERIFY(picture()->numberOf("training_days", "neighbour_ties").x() >= 0.0);
        session().undo();
        window_->settle();
        // Delete takes what is chosen out.
        view = picture();
        view->setFocus();
        view->choose(-1, -1);
        QTest::keyClick(view, Qt::Key_Backtab);
        QVERIFY(view->chosenArrow() >= 0);
        QTest::keyClick(view, Qt::Key_Delete);
        window_->settle();
        QCOMPARE(trace().arrows.size(), arrows - 1);
    }

    void effectRowsLightTheirWay() {
        session().setQuestion("q6");
        window_->settle();
        WayRows* list = rows();
        const int direct = effectOf("direct");
        QTest::mouseClick(list, Qt::LeftButton, {},
                          QPoint(20, static_cast<int>(list->rowTop(direct)) + 10));
        window_->settle();
        QCOMPARE(list->selected(), direct);
        QVERIFY(readingText().contains("directly, with what stands between left as it is"));
        QTest::keyClick(list, Qt::Key_Up);
        window_->settle();
        QCOMPARE(list->selected(), effectOf("indirect", {"pruning_score"}));
        QVERIFY(list->cells(list->selected())[2].contains(" to "));
        click("card:Copy the effects");
        QVERIFY(QGuiApplication::clipboard()->text().contains("through pruning_score"));
        click("card:Copy the picture");
        QVERIFY(QGuiApplication::clipboard()->text().startsWith("<svg"));
        // Every page, and every stage, has something to say.
        for (const char* page : {"trace:Equations", "trace:Fit", "trace:Sensitivity"}) {
            click(page);
        }
        QVERIFY(readingText().contains("would vanish if the errors"));
        click("trace:Fit");
        QVERIFY(find<QTextBrowser>("trace:fit")->toPlainText().contains("fits as it must"));
        click("trace:Equations");
        QCOMPARE(window_->findChildren<EffectRows*>().size() >= 3, true);
        for (int s = 0; s < 6; ++s) {
            window_->showStage(s);
            window_->settle();
        }
    }

    void intervalsErrorsAndEstimatorsAreSlots() {
        session().setQuestion("q6");
        window_->settle();
        click("slot:intervals");
        take("BCa");
        QCOMPARE(trace().interval, std::string("bca"));
        click("slot:intervals");
        take("1");  // “1 000 draws”.
        QCOMPARE(trace().asked, 1000);
        click("slot:intervals");
        take("by the delta");
        QCOMPARE(trace().asked, 0);
        click("slot:errors");
        take("clustered by village");
        QCOMPARE(answer().question.errors.kind, std::string("clustered"));
        click("slot:beside");
        take("member");
        QVERIFY(std::find_if(trace().nodes.begin(), trace().nodes.end(), [](const TraceNode& n) {
                    return n.name == "member";
                }) != trace().nodes.end());
        // A yes–no between is explained by logit: its effects are averages over the rows.
        click("slot:between");
        take("irrigated");
        click("between:irrigated");
        take("by logit");
        QVERIFY(effectOf("natural-indirect") >= 0);
        click("between:irrigated");
        take("take it out");
        QVERIFY(effectOf("indirect", {"pruning_score"}) >= 0);
        // Without an outcome the causes wait.
        auto* chip = find<QPushButton>("reached:household_income");
        chip->setFocus();
        QTest::keyClick(chip, Qt::Key_Delete);
        window_->settle();
        QVERIFY(!traceRoles(session().question()->trace).causes.empty());
        click("slot:reached");
        take("revenue_fl");
        QCOMPARE(trace().equations.back().to, std::string("revenue_fl"));
    }

    void aModeratorsValuesAreRows() {
        session().setQuestion("q6");
        window_->settle();
        Question q = *session().question();
        q.trace.paths[1].from.push_back(Term::expression("irrigated"));
        q.trace.paths[1].from.push_back(
            {Term::Kind::Product, {"pruning_score", "irrigated"}, false});
        q.trace.effects = {
            tracedPair("training_days", "household_income", {{"irrigated", {0.0, 1.0}}})};
        session().putQuestion(q, "at two values");
        window_->settle();
        QVERIFY(effectOf("indirect-difference", {"pruning_score"}) >= 0);
        QVERIFY(rows()->rowTop(effectOf("indirect-difference", {"pruning_score"})) > 0.0);
        QVERIFY(readingText().contains("irrigated is 1"));
    }

    void aPrintedMatrixIsTypedInTracedDrawnAndReported() {
        window_.reset();
        open();
        click("start:summary");
        auto* sheet = find<QTableWidget>("sheet:table");
        auto* n = find<QLineEdit>("sheet:n");
        n->setText("412");
        const QStringList names = {"training", "uptake", "grade"};
        const double sd[] = {6.1, 2.2, 9.3};
        for (int i = 0; i < 3; ++i) {
            sheet->item(i, 0)->setText(names[i]);
            sheet->item(i, 1)->setText(QString::number(10 + i));
            sheet->item(i, 2)->setText(QString::number(sd[i]));
        }
        sheet->item(1, 3)->setText(".51");
        sheet->item(2, 3)->setText(".38");
        sheet->item(2, 4)->setText(".62");
        click("sheet:use");
        window_->settle();
        QVERIFY(session().isSummary());
        // From the summary straight into the trace.
        click("card:Trace a way");
        QVERIFY(find<QPushButton>("slot:cause")->isVisible());
        click("slot:cause");
        take("training");
        closeFinder();
        click("slot:reached");
        take("grade");
        closeFinder();
        click("slot:between");
        take("uptake");
        closeFinder();
        QCOMPARE(trace().asked, 5000);
        QCOMPARE(trace().resampling, std::string("parametric"));
        const TraceEffect& way =
            trace().effects[static_cast<std::size_t>(effectOf("indirect", {"uptake"}))];
        const double b = (0.62 - 0.51 * 0.38) / (1.0 - 0.51 * 0.51);
        QVERIFY(std::abs(way.estimate - 0.51 * b * 9.3 / 6.1) < 1e-12);
        QVERIFY(*way.rounding > 0.0);
        QVERIFY(readingText().contains("digits printed in the summary"));
        QVERIFY(session().edit(SetReport{{{"reading", {answer().question.id}},
                                          {"table", {answer().question.id}},
                                          {"lenses", {answer().question.id}},
                                          {"methods", {answer().question.id}}}},
                               "report"));
        window_->showStage(5);
        window_->settle();
        QVERIFY(session().saveStudy(place_.filePath("traced.rapporto")));
        window_->openPath(place_.filePath("traced.rapporto"));
        window_->settle();
        QCOMPARE(trace().asked, 5000);
    }

    void whatMayStandIsOffered() {
        session().startTrace({});
        window_->showStage(2);
        window_->settle();
        auto* line = find<QPushButton>("slot:cause")->parentWidget();
        dropOn(line->parentWidget(), find<QPushButton>("slot:cause")->geometry().center(),
               "member");
        QCOMPARE(traceRoles(session().question()->trace).causes,
                 (std::vector<std::string>{"member"}));
        // The same variable twice is no second cause.
        addCause(const_cast<Question*>(session().question())->trace, "member");
        QCOMPARE(traceRoles(session().question()->trace).causes.size(), 1U);
    }
};

QTEST_MAIN(TraceWindowTest)
#include "trace_window_test.moc"
