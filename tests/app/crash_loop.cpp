// Kills the real window at random moments of editing and saving, and looks at what is left: every
// step older than a second must be there, and the study's file must be whole, old or new.
//
//     crash-loop KILLS [SEED]
#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "core/numerics/random.h"
#include "core/study/journal.h"

#include <fcntl.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <QApplication>
#include <QDir>
#include <QFile>
#include <QTemporaryDir>
#include <QTimer>

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <thread>

using namespace rapporto;

namespace {

using Clock = std::chrono::steady_clock;

/// What the window tells before it is killed: a step that was made, or that a saving was done.
struct Told {
    long long at = 0;  ///< Nanoseconds.
    long step = 0;
    bool saved = false;
};

long long now() { return Clock::now().time_since_epoch().count(); }

/// The window, edited by a timer until it is killed. Each step puts its number into the title and
/// a derived variable of its own, or takes one out again.
int edit(const QString& study, const QString& journals, int pipe, std::uint64_t seed) {
    int argc = 1;
    char name[] = "crash-loop";
    char* argv[] = {name, nullptr};
    QApplication application(argc, argv);
    app::applyTheme(application);
    app::MainWindow window(nullptr, journals);
    window.show();
    window.session().openStudy(study);
    RandomStream random(seed, 1);
    long step = 0;
    const auto tell = [&](bool saved) {
        const Told told{now(), step, saved};
        (void)!::write(pipe, &told, sizeof told);
    };
    QTimer timer;
    QObject::connect(&timer, &QTimer::timeout, &window, [&] {
        app::Session& session = window.session();
        if (!session.hasTable()) {
            return;
        }
        if (random.below(8) == 0 && step > 0) {
            if (session.saveStudy(study)) {
                tell(true);
            }
            return;
        }
        ++step;
        const std::string words = "step " + std::to_string(step);
        const bool done = random.below(4) == 0
                              ? session.edit(PutDerived{{"d" + std::to_string(random.below(6)),
                                                         "x + " + std::to_string(step), words}},
                                             QString::fromStdString(words))
                              : session.edit(SetTitle{words}, QString::fromStdString(words));
        if (done) {
            tell(false);
        }
    });
    timer.start(4);
    return QApplication::exec();
}

/// The last step of a study's trail, by its number; 0: none.
long lastStep(const Study& study) {
    for (std::size_t k = study.trail.size(); k > 0; --k) {
        const std::string& did = study.trail[k - 1].did;
        if (did.starts_with("step ")) {
            return std::strtol(did.c_str() + 5, nullptr, 10);
        }
    }
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    qputenv("RAPPORTO_UNATTENDED", "1");
    const int kills = argc > 1 ? std::atoi(argv[1]) : 500;
    const std::uint64_t seed = argc > 2 ? std::strtoull(argv[2], nullptr, 10) : 1;
    RandomStream random(seed, 0);
    long steps = 0;
    int broken = 0;
    int lost = 0;
    for (int k = 0; k < kills; ++k) {
        const QTemporaryDir place;
        const QString study = place.filePath("s.rapporto");
        const QString journals = place.filePath("state/journals");
        QFile table(place.filePath("t.csv"));
        QFile file(study);
        if (!table.open(QIODevice::WriteOnly) || !file.open(QIODevice::WriteOnly)) {
            std::fprintf(stderr, "there is no place to work in\n");
            return 2;
        }
        table.write("y,x\n1,1\n3,2\n2,3\n5,4\n4,5\n7,6\n");
        table.close();
        file.write(R"({"format":"rapporto-study","version":1,"title":"hives",
            "source":{"kind":"table","file":"t.csv"},"questions":[]})");
        file.close();
        int ends[2];
        if (pipe2(ends, O_CLOEXEC) != 0) {
            return 2;
        }
        const pid_t child = fork();
        if (child == 0) {
            ::close(ends[0]);
            ::_exit(edit(study, journals, ends[1], seed + static_cast<std::uint64_t>(k)));
        }
        ::close(ends[1]);
        // The first step tells that the window stands; it lives on for up to two seconds.
        std::vector<Told> told;
        Told one;
        if (::read(ends[0], &one, sizeof one) != sizeof one) {
            std::fprintf(stderr, "kill %d: the window did not come\n", k);
            return 1;
        }
        told.push_back(one);
        std::this_thread::sleep_for(std::chrono::milliseconds(5 + random.below(1500)));
        kill(child, SIGKILL);
        const long long killed = now();
        while (::read(ends[0], &one, sizeof one) == sizeof one) {
            told.push_back(one);
        }
        ::close(ends[0]);
        waitpid(child, nullptr, 0);
        long must = 0;
        long last = 0;
        for (const Told& t : told) {
            last = std::max(last, t.step);
            must = t.saved || t.at < killed - 1000000000LL ? std::max(must, t.step) : must;
        }
        steps += last;
        const auto read = readStudyFile(study.toStdString());
        long found = read ? lastStep(*read) : 0;
        broken += read ? 0 : 1;
        for (const LeftWork& left : workLeftIn(journals.toStdString())) {
            found = std::max(found, lastStep(left.steps.back().study));
        }
        if (found < must) {
            ++lost;
            std::fprintf(stderr,
                         "kill %d: step %ld of %ld was found, %ld were older than a second\n", k,
                         found, last, must);
        }
    }
    std::printf("%d kills, %ld steps: %d files broken, %d with steps lost\n", kills, steps, broken,
                lost);
    return broken + lost == 0 ? 0 : 1;
}
