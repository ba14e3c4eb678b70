// Speed as ratios against a baseline of the same run, one JSON line each. --quick ends in a minute.
#include "bench/bench.h"

#include "app/shell/theme.h"

#include <QApplication>

#include <functional>
#include <string>
#include <utility>
#include <vector>

using namespace rapporto;
using namespace rapporto::bench;

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    qputenv("RAPPORTO_UNATTENDED", "1");
    QApplication application(argc, argv);
    app::applyTheme(application);
    // --quick ends in a minute; a word runs the group of that name alone.
    std::string only;
    bool quick = false;
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        quick = quick || word == "--quick";
        only = word.starts_with("--") ? only : word;
    }
    const int rounds = quick ? 5 : 9;
    const std::vector<std::pair<std::string, std::function<void()>>> groups = {
        {"least-squares", [&] { benchLeastSquares(quick, rounds); }},
        {"expressions", [&] { benchExpressions(quick, quick ? 3 : 5); }},
        {"csv", [&] { benchCsv(quick, quick ? 3 : 5); }},
        {"correlations", [&] { benchCorrelations(quick, rounds); }},
        {"causes", [&] { benchCauses(quick, rounds); }},
        {"outcomes", [&] { benchOutcomes(quick, rounds); }},
        {"levels", [&] { benchLevels(quick ? 20000 : 100000, rounds); }},
        {"missing", [&] { benchMissing(quick ? 5000 : 20000, rounds); }},
        {"defence", [&] { benchDefence(rounds); }},
        {"left", [&] { benchLeft(quick, rounds); }},
        {"on-disk", [&] { benchOnDisk(quick, rounds); }},
        {"inference", [&] { benchInference(rounds); }},
        {"traces", [&] { benchTraces(rounds); }},
        {"parts", [&] { benchParts(rounds); }},
        {"window", [&] { benchWindow(rounds); }}};
    for (const auto& [name, run] : groups) {
        if (only.empty() || only == name) {
            run();
        }
    }
    return 0;
}
