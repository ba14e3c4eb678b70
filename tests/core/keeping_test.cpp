// What keeps work safe: saving, the journal, locks, what differs, what a study may read.
#include "core/base/disk.h"
#include "core/base/hash.h"
#include "core/study/allowed.h"
#include "core/study/differences.h"
#include "core/study/journal.h"
#include "core/study/sources.h"
#include "core/study/study_lock.h"
#include "tests/core/fixtures.h"

#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <QDir>
#include <QFile>
#include <QTemporaryDir>
#include <QTest>

#include <atomic>
#include <cerrno>
#include <thread>

using namespace rapporto;

namespace {

/// A disk whose n-th call fails, from 1; every one after it, too, when it is `gone`.
class FailingDisk : public Disk {
  public:
    FailingDisk(int n, int error, bool gone = false) : left_(n), error_(error), gone_(gone) {}

    int open(const char* path, int flags, mode_t mode) override {
        return fails() ? -1 : Disk::open(path, flags, mode);
    }

    ssize_t write(int handle, const void* bytes, std::size_t count) override {
        if (fails()) {
            // Half of it gets through, as on a disk that fills up.
            return count > 1 && error_ == ENOSPC && !half_
                       ? (half_ = true, Disk::write(handle, bytes, count / 2))
                       : -1;
        }
        return Disk::write(handle, bytes, count);
    }

    int sync(int handle) override { return fails() ? -1 : Disk::sync(handle); }

    int close(int handle) override {
        const int done = Disk::close(handle);
        return fails() ? -1 : done;
    }

    int rename(const char* from, const char* to) override {
        return fails() ? -1 : Disk::rename(from, to);
    }

    int unlink(const char* path) override { return fails() ? -1 : Disk::unlink(path); }

    int setMode(int handle, mode_t mode) override {
        return fails() ? -1 : Disk::setMode(handle, mode);
    }

    [[nodiscard]] bool wasReached() const { return left_ <= 0; }

  private:
    bool fails() {
        --left_;
        if (left_ == 0 || (gone_ && left_ < 0)) {
            errno = error_;
            return true;
        }
        return false;
    }

    int left_;
    int error_;
    bool gone_;
    bool half_ = false;
};

std::string contents(const std::string& path) { return readWhole(path).value_or("(nothing)"); }

mode_t modeOf(const std::string& path) {
    struct stat info {};

    return stat(path.c_str(), &info) == 0 ? info.st_mode & 07777U : 0;
}

Study studyAt(double alpha = 0.05) {
    Study study;
    study.title = "hives";
    study.alpha = alpha;
    study.source.file = "t.csv";
    return study;
}

/// The study with one step more.
Study after(const Study& study, const std::string& did) {
    auto next = apply(study, {SetTitle{did}, did});
    return next ? *next : Study{};
}

}  // namespace

class KeepingTest : public QObject {
    Q_OBJECT

    QTemporaryDir place_;

    [[nodiscard]] std::string at(const char* name) const {
        return place_.filePath(name).toStdString();
    }

    [[nodiscard]] QStringList files() const {
        return QDir(place_.path()).entryList(QDir::Files | QDir::Hidden);
    }

  private slots:

    void cleanup() { QDir(place_.path()).removeRecursively(), QDir().mkpath(place_.path()); }

    // ---- saving

    void replacesAFileAndKeepsItsMode() {
        QVERIFY(replaceFile(at("s"), "one").has_value());
        QCOMPARE(contents(at("s")), std::string("one"));
        chmod(at("s").c_str(), 0600);
        QVERIFY(replaceFile(at("s"), "two").has_value());
        QCOMPARE(contents(at("s")), std::string("two"));
        QCOMPARE(modeOf(at("s")), mode_t{0600});
        QCOMPARE(files(), QStringList{"s"});
    }

    void followsALinkAndKeepsIt() {
        QVERIFY(replaceFile(at("target"), "one").has_value());
        QVERIFY(symlink("target", at("link").c_str()) == 0);
        QVERIFY(replaceFile(at("link"), "two").has_value());
        QVERIFY(QFileInfo(QString::fromStdString(at("link"))).isSymLink());
        QCOMPARE(contents(at("target")), std::string("two"));
    }

    void saysThatAnotherNameIsLeftBehind() {
        QVERIFY(replaceFile(at("a"), "one").has_value());
        QVERIFY(link(at("a").c_str(), at("b").c_str()) == 0);
        const auto done = replaceFile(at("a"), "two");
        QVERIFY(done && done->otherNamesLeftBehind);
        QCOMPARE(contents(at("b")), std::string("one"));
    }

    void clearsWhatKilledWritersLeft() {
        const pid_t child = fork();
        if (child == 0) {
            _exit(0);
        }
        waitpid(child, nullptr, 0);
        const std::string dead = at((".s." + std::to_string(child) + ".part").c_str());
        const std::string other = at(".s.notes.part");
        QVERIFY(replaceFile(dead, "half").has_value());
        QVERIFY(replaceFile(other, "somebody's").has_value());
        QVERIFY(replaceFile(at("s"), "one").has_value());
        QVERIFY(!QFile::exists(QString::fromStdString(dead)));
        QVERIFY(QFile::exists(QString::fromStdString(other)));
    }

    void saysWhyItCannotWrite() {
        const auto why = [](const Result<Written>& done) {
            return done ? std::string("(done)") : done.error().text();
        };
        QVERIFY(why(replaceFile("/no/such/place/s", "x")).find("folder is gone") !=
                std::string::npos);
        QVERIFY(why(replaceFile(place_.path().toStdString(), "x")).find("folder") !=
                std::string::npos);
        QVERIFY(why(replaceFile("", "x")).find("no name") != std::string::npos);
        QVERIFY(why(replaceFile("/dev/full", "x")).find("no file") != std::string::npos);
        FailingDisk full(3, ENOSPC);
        for (int n = 1; n < 8; ++n) {
            FailingDisk disk(n, ENOSPC);
            const auto done = replaceFile(at("s"), "text", disk);
            if (!done) {
                QVERIFY2(why(done).find("the disk is full") != std::string::npos ||
                             why(done).find("does not confirm") != std::string::npos,
                         why(done).c_str());
            }
        }
    }

    void isWhollyOldOrWhollyNewWhereverItFails() {
        // Every call of every saving fails once, alone and with all that come after it.
        for (const int error : {ENOSPC, EIO, EINTR}) {
            for (const bool gone : {false, true}) {
                for (int n = 1; n < 40; ++n) {
                    QVERIFY(replaceFile(at("s"), "old and whole").has_value());
                    FailingDisk disk(n, error, gone && error != EINTR);
                    const auto done = replaceFile(at("s"), "new and whole, too", disk);
                    const std::string now = contents(at("s"));
                    QVERIFY2(now == "old and whole" || now == "new and whole, too", now.c_str());
                    QVERIFY2(!done || now == "new and whole, too", "said done, and is not");
                    if (!disk.wasReached()) {
                        QVERIFY(n > 6);
                        break;
                    }
                }
            }
        }
        QVERIFY(replaceFile(at("s"), "last").has_value());
        QCOMPARE(files(), QStringList{"s"});
    }

    void readsNothingThatIsNoFile() {
        const auto why = [](const std::string& path) {
            const auto text = readWhole(path);
            return text ? std::string("(read)") : text.error().text();
        };
        QVERIFY(mkfifo(at("pipe").c_str(), 0600) == 0);
        QVERIFY(why(at("pipe")).find("a pipe") != std::string::npos);
        QVERIFY(why("/dev/zero").find("a device") != std::string::npos);
        QVERIFY(why(place_.path().toStdString()).find("a folder") != std::string::npos);
        QVERIFY(why(at("none")).find("not there") != std::string::npos);
        QVERIFY(why(std::string("a\0b", 3)).find("no name can hold") != std::string::npos);
        QVERIFY(sha256OfFile("/dev/zero").error().text().find("a device") != std::string::npos);
        QVERIFY(replaceFile(at("long"), std::string(1000, 'x')).has_value());
        QVERIFY(!readWhole(at("long"), 999));
        QCOMPARE(readWhole(at("long"), 1000)->size(), std::size_t{1000});
    }

    // ---- the journal

    void givesBackEveryStep() {
        Study study = studyAt();
        {
            Journal journal(place_.path().toStdString());
            journal.begin({at("s.rapporto"), "sum", {}, "a,b\n1,2\n"}, study);
            journal.flush();
            QVERIFY(files().isEmpty());  // Nothing was done yet.
            for (int i = 0; i < 14; ++i) {
                study = after(study, "step " + std::to_string(i));
                journal.note(study, "step " + std::to_string(i));
            }
            journal.flush();
            QVERIFY(!journal.trouble());
            // It is being kept: nobody may take it for left behind.
            QCOMPARE(workLeftIn(place_.path().toStdString()).size(), std::size_t{0});
        }
        const auto left = workLeftIn(place_.path().toStdString());
        QCOMPARE(left.size(), std::size_t{1});
        QCOMPARE(left[0].head.study, at("s.rapporto"));
        QCOMPARE(left[0].head.base, std::string("sum"));
        QCOMPARE(left[0].head.pasted, std::string("a,b\n1,2\n"));
        QCOMPARE(left[0].steps.size(), std::size_t{14});
        QCOMPARE(left[0].steps[6].did, std::string("step 6"));
        QCOMPARE(left[0].steps[6].study.title, std::string("step 6"));
        QCOMPARE(studyText(left[0].start), studyText(studyAt()));
        QCOMPARE(studyText(left[0].steps.back().study), studyText(study));
        QVERIFY(!left[0].torn);
    }

    void keepsUndoneStepsAndDesksApart() {
        const Study before = studyAt();
        const Study one = after(before, "one");
        {
            Journal journal(place_.path().toStdString());
            journal.begin({}, before);
            journal.note(one, "one");
            Study desk = one;
            desk.desk.pictures.emplace_back();
            journal.note(desk, "");
            journal.note(before, "undo: one");
        }
        const auto left = workLeftIn(place_.path().toStdString());
        QCOMPARE(left.size(), std::size_t{1});
        QCOMPARE(left[0].steps.size(), std::size_t{2});
        QCOMPARE(left[0].steps[0].study.desk.pictures.size(), std::size_t{1});
        QCOMPARE(studyText(left[0].steps[1].study), studyText(before));
    }

    void keepsValuesOnce() {
        Study study = studyAt();
        KeptColumn kept;
        kept.name = "left_q1";
        kept.values = std::make_shared<const std::vector<double>>(
            std::vector<double>{1.5, std::nan(""), 0.1 + 0.2});
        study.kept = {kept};
        std::string file;
        {
            Journal journal(place_.path().toStdString());
            journal.begin({}, study);
            for (int i = 0; i < 5; ++i) {
                study = after(study, "step");
                journal.note(study, "step");
            }
            journal.flush();
            file = journal.file();
        }
        const std::string text = contents(file);
        QCOMPARE(QByteArray::fromStdString(text).count("0.30000000000000004"), 1);
        auto left = workLeftIn(place_.path().toStdString());
        QCOMPARE(left.size(), std::size_t{1});
        QCOMPARE((*left[0].steps.back().study.kept[0].values)[2], 0.1 + 0.2);
        QCOMPARE((*left[0].start.kept[0].values)[0], 1.5);
        // Taken up, it goes on in the same file, and is whole after another end.
        {
            Journal journal(place_.path().toStdString());
            journal.adopt(left[0]);
            journal.note(after(left[0].steps.back().study, "more"), "more");
            journal.flush();
            QCOMPARE(journal.file(), file);
        }
        left = workLeftIn(place_.path().toStdString());
        QCOMPARE(left[0].steps.size(), std::size_t{6});
        QCOMPARE(left[0].steps.back().did, std::string("more"));
        QCOMPARE((*left[0].steps.back().study.kept[0].values)[2], 0.1 + 0.2);
    }

    void takesWhatIsWholeOfATornOne() {
        std::string file;
        {
            Journal journal(place_.path().toStdString());
            journal.begin({}, studyAt());
            Study study = studyAt();
            for (int i = 0; i < 4; ++i) {
                study = after(study, "step " + std::to_string(i));
                journal.note(study, study.title);
            }
            journal.flush();
            file = journal.file();
        }
        const std::string whole = contents(file);
        for (std::size_t cut = whole.size(); cut > 0; cut -= std::min<std::size_t>(cut, 37)) {
            QVERIFY(replaceFile(file, whole.substr(0, cut)).has_value());
            const auto left = workLeftIn(place_.path().toStdString());
            for (const LeftWork& one : left) {
                QVERIFY(one.steps.size() <= 4);
                for (std::size_t k = 0; k < one.steps.size(); ++k) {
                    QCOMPARE(one.steps[k].did, "step " + std::to_string(k));
                }
            }
            if (left.empty()) {
                QVERIFY(cut < whole.size() / 2);
                break;
            }
        }
        // A byte that the disk turned ends it there.
        std::string turned = whole;
        turned[whole.size() * 3 / 4] ^= 1;
        QVERIFY(replaceFile(file, turned).has_value());
        const auto left = workLeftIn(place_.path().toStdString());
        QVERIFY(left.size() == 1 && left[0].torn && left[0].steps.size() < 4);
    }

    void outlastsEveryFaultOfTheDisk() {
        // The n-th call fails: it is said, or the steps are there.
        for (int n = 1; n < 25; ++n) {
            cleanup();
            FailingDisk disk(n, ENOSPC);
            bool said = false;
            Study study = studyAt();
            {
                Journal journal(place_.path().toStdString(), disk);
                journal.begin({}, study);
                for (int i = 0; i < 4; ++i) {
                    study = after(study, "step " + std::to_string(i));
                    journal.note(study, study.title);
                    journal.flush();
                    said = said || journal.trouble().has_value();
                }
            }
            const auto left = workLeftIn(place_.path().toStdString());
            const bool there =
                !left.empty() && std::any_of(left.begin(), left.end(), [&](const LeftWork& one) {
                    return studyText(one.steps.back().study) == studyText(study);
                });
            QVERIFY2(said || there, qPrintable(QString("call %1").arg(n)));
            // One fault is not the end: what comes after it is kept anew.
            QVERIFY2(there || n > 8, qPrintable(QString("call %1: nothing there").arg(n)));
        }
    }

    void outlastsAKilledProcess() {
        const pid_t child = fork();
        if (child == 0) {
            Journal journal(place_.path().toStdString());
            Study study = studyAt();
            journal.begin({}, study);
            for (int i = 0; i < 3; ++i) {
                study = after(study, "step " + std::to_string(i));
                journal.note(study, study.title);
            }
            journal.flush();
            kill(getpid(), SIGKILL);
        }
        int status = 0;
        waitpid(child, &status, 0);
        QVERIFY(WIFSIGNALED(status));
        const auto left = workLeftIn(place_.path().toStdString());
        QCOMPARE(left.size(), std::size_t{1});
        QCOMPARE(left[0].steps.size(), std::size_t{3});
        // Left, it is out of the way and not gone.
        layAside(left[0]);
        QCOMPARE(workLeftIn(place_.path().toStdString()).size(), std::size_t{0});
        QCOMPARE(files().filter(".aside").size(), 1);
    }

    void goesWhenNothingIsWantedOfIt() {
        Journal journal(place_.path().toStdString());
        journal.begin({}, studyAt());
        journal.note(after(studyAt(), "one"), "one");
        journal.flush();
        QCOMPARE(files().size(), 1);
        journal.drop();
        journal.flush();
        QVERIFY(files().isEmpty());
        journal.note(after(studyAt(), "two"), "two");
        journal.flush();
        QVERIFY(files().isEmpty());
    }

    void isTakenUpWhileOthersLook() {
        const std::string folder = place_.path().toStdString();
        {
            Journal journal(folder);
            journal.begin({}, studyAt());
            journal.note(after(studyAt(), "one"), "one");
        }
        const auto left = workLeftIn(folder);
        QCOMPARE(left.size(), std::size_t{1});
        std::atomic<int> looks = 0;
        std::jthread other([&](const std::stop_token& enough) {
            while (!enough.stop_requested()) {
                (void)workLeftIn(folder);
                ++looks;
            }
        });
        for (int i = 0; i < 50; ++i) {
            Journal journal(folder);
            journal.adopt(left[0]);
            QVERIFY(workLeftIn(folder).empty());
            journal.note(after(left[0].steps.back().study, "two"), "two");
            journal.flush();
            QCOMPARE(journal.file(), left[0].file);
        }
        other.request_stop();
        other.join();
        QVERIFY(looks > 0);
        QCOMPARE(files().size(), 1);
    }

    void keepsNothingWithoutAFolder() {
        Journal journal("");
        journal.begin({}, studyAt());
        journal.note(after(studyAt(), "one"), "one");
        journal.flush();
        QVERIFY(journal.file().empty() && !journal.trouble());
    }

    // ---- who has it, what differs, what it may read

    void knowsWhoHasAStudy() {
        const std::string study = at("s.rapporto");
        {
            const StudyLock first(study);
            QVERIFY(first.isOurs() && !first.other());
            const StudyLock second(study);
            QVERIFY(!second.isOurs());
            QVERIFY(second.other() && second.other()->process == getpid());
            QVERIFY(!second.other()->since.empty());
        }
        QVERIFY(files().isEmpty());
        // What a crash leaves is stale: nobody holds it.
        QVERIFY(replaceFile(at(".s.rapporto.lock"), R"({"owner":"x","process":1})").has_value());
        const StudyLock third(study);
        QVERIFY(third.isOurs());
        const StudyLock nowhere("/no/such/place/s.rapporto");
        QVERIFY(!nowhere.isOurs() && !nowhere.other());
    }

    void tellsStepByStepWhatDiffers() {
        const Study base = after(after(studyAt(), "one"), "two");
        const Study mine = after(base, "mine");
        const Study theirs = after(after(base, "theirs"), "more of theirs");
        const auto differ = differencesOf(mine, theirs);
        QCOMPARE(differ.shared, std::size_t{2});
        QCOMPARE(differ.first.size(), std::size_t{1});
        QCOMPARE(differ.second.size(), std::size_t{2});
        QCOMPARE(differ.second[1].did, std::string("more of theirs"));
        QCOMPARE(differ.parts, std::vector<std::string>{"title"});
        QVERIFY(differencesOf(mine, mine).same());
        Study asked = base;
        Question question;
        question.id = "q7";
        question.outcome = "y";
        asked.questions = {question};
        QCOMPARE(differencesOf(base, asked).parts,
                 std::vector<std::string>{"question ‘q7’ (only the second has it)"});
    }

    void readsOutsideItsFolderWhenAllowed() {
        QDir().mkpath(place_.filePath("home"));
        Study study = studyAt();
        const std::string home = at("home");
        study.source.file = "t.csv";
        QVERIFY(filesOutside(study, home).empty());
        study.source.file = "../t.csv";
        QCOMPARE(filesOutside(study, home), std::vector<std::string>{"../t.csv"});
        study.source.file = "/etc/hostname";
        QCOMPARE(filesOutside(study, home), std::vector<std::string>{"/etc/hostname"});
        study.source.file = "link.csv";
        QVERIFY(symlink("/etc/hostname", (home + "/link.csv").c_str()) == 0);
        QCOMPARE(filesOutside(study, home), std::vector<std::string>{"link.csv"});
        // A description beside the study whose table is a link that leads out.
        study.source.file = "p.datapackage.json";
        QVERIFY(replaceFile(home + "/p.datapackage.json",
                            R"({"resources":[{"name":"x","path":"link.csv"}]})")
                    .has_value());
        QCOMPARE(filesOutside(study, home), std::vector<std::string>{"p.datapackage.json"});
        study.source.file = "sub/../t.csv";
        QVERIFY(filesOutside(study, home).empty());

        const std::string mine = home + "/s.rapporto";
        AllowedFiles allowed(at("state/allowed.json"));
        QCOMPARE(allowed.missing(mine, {"../t.csv"}), std::vector<std::string>{"../t.csv"});
        allowed.allow(mine, {"../t.csv"});
        QVERIFY(AllowedFiles(at("state/allowed.json")).missing(mine, {"../t.csv"}).empty());
        QCOMPARE(allowed.missing(mine, {"/etc/hostname"}).size(), std::size_t{1});
        QCOMPARE(allowed.missing(at("other.rapporto"), {"../t.csv"}).size(), std::size_t{1});
    }

    void writesOverNothingTheStudyIsMadeOf() {
        QVERIFY(replaceFile(at("t.csv"), "y\n1\n").has_value());
        QVERIFY(replaceFile(at("s.rapporto"), studyText(studyAt())).has_value());
        QVERIFY(!mayWriteTo(at("t.csv"), studyAt(), at("s.rapporto")));
        QVERIFY(!mayWriteTo(at("./t.csv"), studyAt(), at("s.rapporto")));
        QVERIFY(!mayWriteTo(at("s.rapporto"), studyAt(), at("s.rapporto")));
        QVERIFY(link(at("t.csv").c_str(), at("same.csv").c_str()) == 0);
        QVERIFY(!mayWriteTo(at("same.csv"), studyAt(), at("s.rapporto")));
        QVERIFY(mayWriteTo(at("report.html"), studyAt(), at("s.rapporto")).has_value());
    }
};

QTEST_GUILESS_MAIN(KeepingTest)
#include "keeping_test.moc"
