// What a person waits for in the window.
#include "app/plots/plot_view.h"
#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "app/stages/data/data_page.h"
#include "app/stages/data/grid_model.h"
#include "app/stages/model/effect_rows.h"
#include "app/stages/model/left_out_page.h"
#include "app/stages/report/page_view.h"
#include "bench/bench.h"
#include "core/data/frame.h"
#include "core/defend/by_lot.h"
#include "core/numerics/random.h"
#include "core/report/report.h"
#include "core/study/journal.h"

#include <fmt/format.h>

#include <QApplication>
#include <QEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QScrollBar>
#include <QTableView>
#include <QTemporaryDir>

#include <chrono>
#include <vector>

namespace rapporto::bench {
namespace {

/// Counts how often a widget was painted.
class PaintSpy : public QObject {
  public:
    int paints = 0;

    bool eventFilter(QObject* watched, QEvent* event) override {
        paints += event->type() == QEvent::Paint ? 1 : 0;
        return QObject::eventFilter(watched, event);
    }
};

/// A scatter of a million points, and a box drawn over it while a second picture follows.
void benchPictures() {
    constexpr std::size_t kRows = 1'000'000;
    Exhibit e;
    Exhibit bars;
    bars.bars.resize(40);
    std::uint64_t state = 12345;
    const auto draw = [&state] {
        state = state * 6364136223846793005ULL + 1442695040888963407ULL;
        return static_cast<double>(state >> 11) / 9007199254740992.0;
    };
    for (std::size_t i = 0; i < kRows; ++i) {
        e.x.push_back(draw() + draw());
        e.y.push_back(0.5 * e.x.back() + draw());
        e.rows.push_back(i);
        const auto bin = static_cast<std::size_t>(e.x.back() * 20.0);
        bars.bars[bin].x0 = static_cast<double>(bin) / 20.0;
        bars.bars[bin].x1 = bars.bars[bin].x0 + 0.05;
        bars.bars[bin].y1 += 1.0;
        bars.bars[bin].rows.push_back(static_cast<std::uint32_t>(i));
    }
    bars.fromZero = true;
    app::PlotView scatter;
    app::PlotView histogram;
    QObject::connect(&scatter, &app::PlotView::rowsBrushed, &histogram,
                     &app::PlotView::showSelection);
    QObject::connect(&scatter, &app::PlotView::rowsBrushed, &scatter,
                     &app::PlotView::showSelection);
    for (app::PlotView* plot : {&scatter, &histogram}) {
        plot->resize(460, 580);
        plot->show();
    }
    histogram.showExhibit(bars);
    const auto shared = std::make_shared<const Exhibit>(std::move(e));
    scatter.showExhibit(shared);
    (void)scatter.grab();
    absolute("scatter of 1e6 points: shown and painted", 9, 0.150, [&] {
        return seconds([&] {
            scatter.showExhibit(shared);
            (void)scatter.grab();
        });
    });
    const auto send = [&](QEvent::Type type, QPointF at) {
        QMouseEvent event(type, at, scatter.mapToGlobal(at), Qt::LeftButton, Qt::LeftButton, {});
        QApplication::sendEvent(&scatter, &event);
    };
    (void)histogram.grab();
    send(QEvent::MouseButtonPress, {60, 80});
    int step = 0;
    absolute("brushing 1e6 points: a move, both pictures painted", 60, 0.050, [&] {
        ++step;
        return seconds([&] {
            send(QEvent::MouseMove, {70.0 + 6.0 * step, 90.0 + 7.0 * step});
            (void)scatter.grab();
            (void)histogram.grab();
        });
    });
    send(QEvent::MouseButtonRelease, {430, 520});
}

/// What keeping a step costs the window's turn, against making it.
void benchJournal(int rounds) {
    const auto demo = readStudyFile(RAPPORTO_DEMO_STUDY);
    if (!demo) {
        return;
    }
    const QTemporaryDir place;
    Journal journal(place.path().toStdString());
    journal.begin({}, *demo);
    Study study = *demo;
    constexpr int kSteps = 50;
    compare(
        "50 steps noted in the journal / 50 steps made", rounds, 1.0,
        [&] {
            for (int i = 0; i < kSteps; ++i) {
                journal.note(study, "step");
            }
        },
        [&] {
            journal.flush();
            for (int i = 0; i < kSteps; ++i) {
                study = *apply(study, {SetTitle{std::to_string(i)}, "step"});
            }
            study.trail = demo->trail;
        });
}

}  // namespace

/// Lots of a yes–no cause, and the page of what may be left out while a strength is dragged.
void benchDefence(int rounds) {
    constexpr std::size_t kRows = 10000;
    RandomStream random(41, 1);
    const auto normal = [&] { return roughlyNormal(random); };
    Table table;
    std::vector<std::vector<double>> cells(11);
    for (std::size_t i = 0; i < kRows; ++i) {
        double y = 0.0;
        for (std::size_t c = 1; c < cells.size(); ++c) {
            const double x = c == 1 ? (random.uniform() < 0.4 ? 1.0 : 0.0) : normal();
            cells[c].push_back(x);
            y += 0.05 * x;
        }
        cells[0].push_back(y + normal());
    }
    Question question;
    question.id = "q1";
    question.outcome = "v0";
    question.allChecks = false;
    for (std::size_t c = 0; c < cells.size(); ++c) {
        Variable variable;
        variable.name = "v" + std::to_string(c);
        table.columns.push_back(Column::ofNumbers(variable.name, cells[c]));
        table.variables.push_back(variable);
        if (c > 0) {
            question.terms.push_back(Term::expression(variable.name));
        }
    }
    question.leftOut = LeftOutRequest{"v1", {Term::expression("v2")}, {1.0, 2.0, 3.0}};
    const Frame frame = Frame::make(table, {}, {}, {}, {});
    const auto answer =
        std::make_shared<const Answer>(answerQuestion(Study{}, frame, question, Making(Job())));
    absolute("9,999 lots of a yes–no cause, 10,000 rows × 10 terms", rounds, 0.3, [&] {
        return seconds([&] {
            static_cast<void>(
                byLot(frame, *answer->design, *answer->fit, LotRequest{"v1"}, 1, 0.05, Job()));
        });
    });
    app::LeftOutPage page(nullptr);
    page.resize(900, 620);
    page.showAnswer(answer, true);
    page.show();
    static_cast<void>(page.grab());
    absolute("a strength dragged on the page of what may be left out, a frame", rounds, 1.0 / 60.0,
             [&] {
                 return seconds([&] {
                     QKeyEvent press(QEvent::KeyPress, Qt::Key_Right, Qt::NoModifier);
                     QApplication::sendEvent(page.plot(), &press);
                     static_cast<void>(page.grab());
                 });
             });
}

void benchWindow(int rounds) {
    app::MainWindow window;
    window.resize(1280, 800);
    window.show();
    window.session().openDemo();
    window.settle();
    window.showStage(2);
    window.settle();
    PaintSpy spy;
    window.findChild<app::EffectRows*>()->installEventFilter(&spy);
    int turn = 0;
    const auto change = [&] {
        Question q = *window.session().question();
        q.errors = ErrorSpec{"robust", turn % 2 == 0 ? "HC3" : "HC1", {}};
        q.where = fmt::format("age > {}", 18 + turn++);  // Never the same, so never from the cache.
        const auto from = std::chrono::steady_clock::now();
        window.session().putQuestion(q, "bench");
        while (!window.session().isFresh()) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        // The answer is there; now until the effect rows have drawn it.
        const int before = spy.paints;
        while (spy.paints == before) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    };
    absolute("demo: slot change to painted effects", rounds * 3, 0.03, [&] {
        // A person looks at what is there before the next change.
        while (!window.session().bench().isIdle() || !window.session().isComplete()) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        QApplication::processEvents();
        return change();
    });
    absolute("demo: the same while checks are still coming in", rounds * 3, 0.05, change);
    while (!window.session().bench().isIdle() || !window.session().isComplete()) {
        QApplication::processEvents(QEventLoop::AllEvents, 1);
    }
    window.showStage(5);
    window.settle();
    auto* paper = window.findChild<app::PageView*>();
    PaintSpy turned;
    paper->viewport()->installEventFilter(&turned);
    absolute("report: one item set to its page painted", rounds * 3, 1.0 / 30.0, [&] {
        auto items = reportItems(window.session().study());
        items[1].table.below = ++turn % 2 == 0 ? "interval" : "error";
        const auto from = std::chrono::steady_clock::now();
        window.session().edit(SetReport{items}, "bench");
        const int before = turned.paints;
        while (turned.paints == before) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    });
    {
        // A page of the grid further down or up each time, over ten million rows.
        constexpr std::size_t kRows = 10'000'000;
        Table large;
        for (const char* name : {"a", "b", "c", "d", "e", "f"}) {
            const auto salt = static_cast<std::size_t>(name[0]);
            std::vector<double> cells(kRows);
            for (std::size_t i = 0; i < kRows; ++i) {
                cells[i] = static_cast<double>((i * salt) % 1000003) / 8.0;
            }
            large.columns.push_back(Column::ofNumbers(name, std::move(cells)));
            Variable v;
            v.name = name;
            large.variables.push_back(v);
        }
        app::GridModel model(nullptr);
        model.showTable(std::make_shared<const Table>(std::move(large)));
        QTableView grid;
        app::dressTable(&grid);
        grid.setModel(&model);
        grid.resize(720, 560);
        grid.show();
        QApplication::processEvents();
        auto* bar = grid.verticalScrollBar();
        PaintSpy painted;
        grid.viewport()->installEventFilter(&painted);
        int page = 0;
        absolute("grid of 1e7 rows: scrolled to painted", 120, 1.0 / 60.0, [&] {
            const auto from = std::chrono::steady_clock::now();
            const int before = painted.paints;
            bar->setValue(static_cast<int>((static_cast<std::int64_t>(++page) * 7919 * 104729) %
                                           bar->maximum()));
            while (painted.paints == before) {
                QApplication::processEvents(QEventLoop::AllEvents, 1);
            }
            return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
        });
    }
    absolute("colours of the whole window changed and painted", 5, 0.3, [&] {
        return seconds([&] {
            app::useTheme(app::isDark() ? app::Theme::Paper : app::Theme::Dark);
            QApplication::processEvents();
            static_cast<void>(window.grab());
        });
    });
    app::useTheme(app::Theme::Paper);
    benchPictures();
    benchJournal(rounds);
    absolute("start to first paint of the demo's answer, in process", 3, 1.0, [&] {
        const auto from = std::chrono::steady_clock::now();
        app::MainWindow other;
        other.resize(1280, 800);
        other.show();
        other.session().openDemo();
        other.showStage(2);
        while (!other.session().isFresh()) {
            QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        const QPixmap painted = other.grab();
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
    });
}

}  // namespace rapporto::bench
