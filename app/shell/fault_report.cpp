#include "app/shell/fault_report.h"

#include <execinfo.h>
#include <fcntl.h>
#include <signal.h>
#include <unistd.h>

#include <QDir>
#include <QFile>

#include <array>
#include <atomic>
#include <cstring>

namespace rapporto::app {
namespace {

// What the handler may touch: nothing that allocates.
std::array<char, 4096> path{};
std::array<char, 512> last{};
std::atomic<bool> reporting{false};

void put(int handle, const char* words) { (void)!::write(handle, words, std::strlen(words)); }

void onFault(int signal) {
    if (!reporting.exchange(true)) {
        const int handle = ::open(path.data(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
        if (handle >= 0) {
            put(handle, "Rapporto " RAPPORTO_VERSION " was ended by a fault: ");
            put(handle, signal == SIGSEGV   ? "memory that is not there"
                        : signal == SIGABRT ? "a broken assumption"
                        : signal == SIGFPE  ? "arithmetic"
                        : signal == SIGILL  ? "an instruction"
                                            : "the bus");
            put(handle, "\nlast step: ");
            put(handle, last.data());
            put(handle, "\n");
            std::array<void*, 64> frames{};
            backtrace_symbols_fd(frames.data(), backtrace(frames.data(), 64), handle);
            ::close(handle);
        }
    }
    ::signal(signal, SIG_DFL);
    raise(signal);
}

}  // namespace

void installFaultReport(const QString& folder) {
    QDir().mkpath(folder);
    const QByteArray file =
        QFile::encodeName(QDir(folder).filePath(QString("fault-%1.txt").arg(getpid())));
    std::strncpy(path.data(), file.constData(), path.size() - 1);
    std::array<void*, 4> warm{};
    (void)backtrace(warm.data(), 4);  // It loads what it needs at its first call.
    for (const int signal : {SIGSEGV, SIGABRT, SIGFPE, SIGILL}) {
        struct sigaction action {};

        action.sa_handler = &onFault;
        sigemptyset(&action.sa_mask);
        sigaction(signal, &action, nullptr);
    }
}

void noteLastStep(const QString& did) {
    const QByteArray words = did.toUtf8().left(static_cast<int>(last.size()) - 1);
    std::memset(last.data(), 0, last.size());
    std::memcpy(last.data(), words.constData(), static_cast<std::size_t>(words.size()));
}

QString newFaultReport(const QString& folder) {
    const QDir dir(folder);
    for (const QString& name : dir.entryList({"fault-*.txt"}, QDir::Files, QDir::Time)) {
        const QString told = dir.filePath("told-" + name);
        QFile::remove(told);
        if (QFile::rename(dir.filePath(name), told)) {
            return told;
        }
    }
    return {};
}

}  // namespace rapporto::app
