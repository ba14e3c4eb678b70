// Takes a picture of every main view of the demo: shots DIRECTORY [NAME [STUDY [WORD …]]].
// RAPPORTO_LOOK=dark,1920x1080 for another theme and size.
#include "app/question/question_line.h"
#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "app/stages/data/variables_page.h"
#include "core/base/parallel.h"

#include <QAction>
#include <QApplication>
#include <QComboBox>
#include <QFileInfo>
#include <QPixmap>
#include <QPushButton>

int main(int argc, char** argv) {
    using namespace rapporto::app;
    QApplication application(argc, argv);
    rapporto::setThreads(0);
    applyTheme(application);
    const QString directory = argc > 1 ? argv[1] : ".";
    const QString only = argc > 2 ? argv[2] : "";
    MainWindow window;
    window.resize(1280, 800);
    for (const QString& part : qEnvironmentVariable("RAPPORTO_LOOK").split(',')) {
        const QStringList size = part.split('x');
        if (part == "dark") {
            useTheme(Theme::Dark);
        } else if (part == "comma") {
            useNumberMarks({",", "."});
        } else if (size.size() == 2) {
            window.resize(size[0].toInt(), size[1].toInt());
        }
    }
    window.show();
    if (argc > 3) {
        window.openPath(argv[3]);
    } else {
        window.session().openDemo();
    }
    window.settle();
    const QStringList names = {"data", "explore", "model", "checks", "compare", "report"};
    for (int s = 0; s < 6; ++s) {
        if (!only.isEmpty() && only != names[s]) {
            continue;
        }
        window.showStage(s);
        window.settle();
        // A page of the stage by the name of its word, “tab:Terms”, or a key, “F1”.
        for (int w = 4; w < argc; ++w) {
            for (QAction* action : window.actions()) {
                if (action->shortcut() == QKeySequence(argv[w])) {
                    action->trigger();
                    window.settle();
                }
            }
            if (auto* word = window.findChild<QPushButton*>(argv[w])) {
                word->click();
                window.settle();
            }
        }
        window.grab().save(directory + "/" + names[s] + ".png");
        if (s > 0) {
            continue;
        }
        // The pages of Data each have their picture.
        for (const auto& [page, name] : {std::pair{"What looks odd", "odd"}}) {
            if (auto* word = window.findChild<QPushButton*>(QString("data:page:") + page)) {
                word->click();
                if (auto* codebook = window.findChild<VariablesPage*>();
                    codebook->isVisible() && argc <= 3) {
                    codebook->select({"outlook_1", "outlook_2", "outlook_3", "outlook_4"});
                    window.settle();
                    codebook->select({"outlook_1", "outlook_2", "outlook_3", "outlook_4"});
                }
                window.settle();
                window.grab().save(directory + "/" + name + ".png");
            }
        }
        window.findChild<QPushButton*>("data:page:Rows")->click();
    }
    if (argc <= 3 && (only.isEmpty() || only == "explore")) {
        // In place of a single picture: several together.
        rapporto::Desk desk;
        desk.pictures.resize(4);
        desk.pictures[0].of = {"revenue_fl", "hives", "zone"};
        desk.pictures[0].logX = desk.pictures[0].logY = true;
        desk.pictures[0].smooth = false;
        desk.pictures[1].of = {"hives"};
        desk.pictures[2].of = {"member", "zone"};
        desk.pictures[3].of = {"revenue_fl", "zone"};
        desk.pictures[3].kind = "means";
        window.session().setDesk(desk);
        window.showStage(1);
        window.settle();
        window.grab().save(directory + "/explore.png");
    }
    if (argc <= 3 && (only.isEmpty() || only == "predict")) {
        // Two growers alike in all but membership, and what is claimed of the effects.
        rapporto::Question question = *window.session().question();
        question.predict = {{{{"hives", 6.0}, {"irrigated", 1.0}, {"member", 0.0}}, "outside"},
                            {{{"hives", 6.0}, {"irrigated", 1.0}, {"member", 1.0}}, "member"}};
        question.hypotheses = {"member > 0", "member = irrigated", "zone = 0"};
        window.session().putQuestion(question, "predict");
        window.showStage(2);
        window.settle();
        for (const auto& [tab, name] :
             {std::pair{"Predict", "predict"}, {"Hypotheses", "hypotheses"}, {"Effects", ""}}) {
            window.findChild<QPushButton*>(QString("tab:") + tab)->click();
            window.settle();
            if (*name != 0) {
                window.grab().save(directory + "/" + name + ".png");
            }
        }
    }
    if (argc <= 3 && (only.isEmpty() || only == "terms")) {
        // Which terms to keep, which shape fits, and the fit row by row.
        window.showStage(2);
        window.findChild<QPushButton*>("tab:Terms")->click();
        window.settle();
        window.grab().save(directory + "/terms.png");
        window.findChild<QPushButton*>("tab:Shape")->click();
        auto* along = window.findChild<QComboBox*>("curve:variable");
        along->setCurrentIndex(along->findData("hives"));
        emit along->activated(along->currentIndex());
        auto* look = window.findChild<QComboBox*>("curve:look");
        look->setCurrentIndex(1);
        emit look->activated(1);
        window.settle();
        look->setCurrentIndex(0);
        emit look->activated(0);
        window.findChild<QPushButton*>("tab:Effects")->click();
        window.showStage(3);
        window.findChild<QPushButton*>("checks:rows")->click();
        window.settle();
        window.grab().save(directory + "/rows.png");
        window.findChild<QPushButton*>("checks:rows")->click();
    }
    if (argc <= 3 && (only.isEmpty() || only == "sweep")) {
        window.showStage(4);
        window.findChild<QPushButton*>("compare:Sweep")->click();
        window.settle();
        window.grab().save(directory + "/sweep.png");
        window.findChild<QPushButton*>("compare:Variants")->click();
    }
    if (argc <= 3 && (only.isEmpty() || only == "bends")) {
        MainWindow other;
        other.resize(1280, 800);
        other.show();
        other.openPath(QFileInfo(window.session().path()).absolutePath() + "/pollination.rapporto");
        other.settle();
        other.showStage(2);
        other.findChild<QPushButton*>("tab:Shape")->click();
        other.settle();
        other.grab().save(directory + "/bends.png");
    }
    if (argc <= 3 && (only.isEmpty() || only == "forecast")) {
        MainWindow other;
        other.resize(1280, 800);
        other.show();
        other.openPath(QFileInfo(window.session().path()).absolutePath() +
                       "/market_monthly.rapporto");
        other.settle();
        other.showStage(2);
        other.findChild<QPushButton*>("tab:Predict")->click();
        other.findChild<QPushButton*>("predict:ahead")->click();
        other.settle();
        other.grab().save(directory + "/forecast.png");
    }
    if (argc <= 3 && (only.isEmpty() || only == "instruments")) {
        const std::string present = window.session().question()->id;
        window.session().setQuestion("q5");
        window.showStage(2);
        window.settle();
        window.findChild<QPushButton*>("tab:First stage")->click();
        window.settle();
        window.grab().save(directory + "/instruments.png");
        window.findChild<QPushButton*>("tab:Effects")->click();
        window.session().setQuestion(present);
    }
    if (argc <= 3 && (only.isEmpty() || only == "event")) {
        MainWindow other;
        other.resize(1280, 800);
        other.show();
        other.openPath(QFileInfo(window.session().path()).absolutePath() +
                       "/growers_panel.rapporto");
        other.settle();
        rapporto::Question question = *other.session().question();
        question.method = "event-study";
        question.settings.variable = "nets";
        question.settings.weighting = "cohorts";
        other.session().putQuestion(question, "before and after");
        other.showStage(2);
        other.settle();
        other.findChild<QPushButton*>("tab:Before and after")->click();
        other.settle();
        other.grab().save(directory + "/event.png");
    }
    if (argc <= 3 && (only.isEmpty() || only == "quantiles")) {
        const rapporto::Question present = *window.session().question();
        rapporto::Question question = present;
        question.method = "quantile";
        question.settings.at = {0.1, 0.25, 0.5, 0.75, 0.9};
        question.errors = rapporto::ErrorSpec{"kernel", "HC1", {}};
        window.session().putQuestion(question, "quantiles");
        window.showStage(2);
        window.settle();
        window.findChild<QPushButton*>("tab:Along quantiles")->click();
        window.settle();
        window.grab().save(directory + "/quantiles.png");
        window.findChild<QPushButton*>("tab:Effects")->click();
        window.session().putQuestion(present, "as it was");
        window.settle();
    }
    if (argc <= 3 && (only.isEmpty() || only == "trace")) {
        window.session().setQuestion("q6");
        window.showStage(2);
        window.settle();
        window.grab().save(directory + "/trace.png");
        window.session().setQuestion(window.session().study().lead()->id);
        window.settle();
    }
    if (argc <= 3 && (only.isEmpty() || only == "correlations")) {
        window.session().startCorrelate({"age", "schooling_years", "training_days", "pruning_score",
                                         "hives", "household_income"});
        window.settle();
        rapporto::Question question = *window.session().question();
        question.holding = {"orchard_ha"};
        window.session().putQuestion(question, "hold orchard_ha");
        window.showStage(2);
        window.settle();
        window.grab().save(directory + "/correlations.png");
    }
    return 0;
}
