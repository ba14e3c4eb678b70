#include "app/shell/fault_report.h"
#include "app/shell/main_window.h"
#include "app/shell/settings.h"
#include "app/shell/theme.h"
#include "app/shell/thumbnail.h"
#include "core/base/parallel.h"
#include "core/io/column_store.h"
#include "core/study/journal.h"

#include <QApplication>
#include <QCommandLineParser>
#include <QFileInfo>
#include <QIcon>

#include <cstdlib>
#include <cstring>
#include <exception>

namespace {

/// The border for exceptions around every slot: what gets out of one costs what it was doing, not
/// the window and the work in it.
class Application : public QApplication {
  public:
    using QApplication::QApplication;

    bool notify(QObject* receiver, QEvent* event) override {
        try {
            return QApplication::notify(receiver, event);
        } catch (const std::exception& error) {
            qWarning("a fault was stopped at the window's border: %s", error.what());
        }
        return false;
    }
};

}  // namespace

int main(int argc, char** argv) {
    const bool card = argc > 1 && std::strcmp(argv[1], "--thumbnail") == 0;
    if (card) {
        qputenv("QT_QPA_PLATFORM", "offscreen");  // Nothing of it is shown.
    } else {
        rapporto::app::settings::applySize();
    }
    Application application(argc, argv);
    QApplication::setApplicationName("Rapporto");
    QApplication::setApplicationVersion(RAPPORTO_VERSION);
    QApplication::setWindowIcon(QIcon(":/rapporto.svg"));
    QApplication::setDesktopFileName("org.rapporto.Rapporto");
    rapporto::setThreads(0);
    rapporto::column_store::keepIn(rapporto::column_store::usualFolder());
    rapporto::app::applyTheme(application);
    if (card) {
        return rapporto::app::writeThumbnail(QApplication::arguments().mid(2));
    }
    rapporto::app::useTheme(rapporto::app::settings::theme());
    rapporto::app::useNumberMarks(rapporto::app::settings::numberMarks());

    QCommandLineParser parser;
    parser.setApplicationDescription("A workbench for regression that has to be defended.");
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addOption({"demo", "Open the demo study."});
    parser.addOption({"thumbnail",
                      "Alone and first: write the study as a small card, for a desktop’s folders: "
                      "--thumbnail SIZE STUDY PICTURE.",
                      "SIZE"});
    parser.addPositionalArgument("FILE", "A study (.rapporto) or a table (.csv).", "[FILE]");
    parser.process(application);

    const QString journals = QString::fromStdString(rapporto::journalFolder());
    if (!journals.isEmpty()) {
        rapporto::app::installFaultReport(QFileInfo(journals).path());
    }
    auto* window = new rapporto::app::MainWindow(nullptr, journals);
    window->liveAlone();
    window->show();
    if (parser.isSet("demo")) {
        window->session().openDemo();
        window->showStage(2);
    } else if (!parser.positionalArguments().isEmpty()) {
        window->openPath(parser.positionalArguments().front());
    }
    window->offerLeftWork();
    // A closed window has everything that is worth keeping on the disk. Work that cannot be
    // stopped, inside a parser of others, shall not keep the process.
    std::_Exit(QApplication::exec());
}
