#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "core/base/parallel.h"

#include <QApplication>
#include <QCommandLineParser>

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    QApplication::setApplicationName("Rapporto");
    QApplication::setApplicationVersion("0.1.0");
    rapporto::setThreads(0);
    rapporto::app::applyTheme(application);

    QCommandLineParser parser;
    parser.setApplicationDescription("A workbench for regression that has to be defended.");
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addOption({"demo", "Open the demo study."});
    parser.addPositionalArgument("FILE", "A study (.rapporto) or a table (.csv).", "[FILE]");
    parser.process(application);

    rapporto::app::MainWindow window;
    window.show();
    if (parser.isSet("demo")) {
        window.session().openDemo();
        window.showStage(2);
    } else if (!parser.positionalArguments().isEmpty()) {
        window.openPath(parser.positionalArguments().front());
    }
    return QApplication::exec();
}
