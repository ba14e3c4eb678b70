// Tables kept as columns: mapped the second time as they were read, never instead of what changed.
#include "core/io/column_store.h"

#include "core/base/hash.h"
#include "core/base/memory_on_disk.h"
#include "core/io/table_file.h"
#include "tests/core/fixtures.h"

#include <sys/wait.h>
#include <unistd.h>

#include <QDir>
#include <QFile>
#include <QTemporaryDir>
#include <QTest>

#include <bit>
#include <chrono>
#include <csignal>

using namespace rapporto;
using namespace rapporto::test;

namespace {

/// A table with all that a reader can tell: repairs, codes, texts, gaps, dates.
QByteArray growersText(int rows, int salt) {
    QByteArray out = "id;zone;income;seen;note;member\n";
    for (int i = 0; i < rows; ++i) {
        const QByteArray zone = i % 7 == 0   ? QByteArray()
                                : i % 3 == 0 ? QByteArray("Ridge")
                                             : QByteArray("\"Fläche; \"\"flat\"\"\"");
        out += QByteArray::number(i) + ";" + zone + ";" +
               (i % 11 == 0 ? QByteArray("-9") : QByteArray::number(1000.25 + i * salt)) +
               ";2024-0" + QByteArray::number(1 + i % 9) + "-11;" +
               (i % 5 == 0 ? QByteArray() : "n" + QByteArray::number(i % 23)) + ";" +
               QByteArray::number(i % 2) + (i == 17 ? ";one too many" : "") + "\n";
    }
    return out;
}

void write(const QString& path, const QByteArray& bytes) {
    QFile file(path);
    QVERIFY(file.open(QIODevice::WriteOnly | QIODevice::Truncate));
    file.write(bytes);
}

bool sameBits(std::span<const double> a, std::span<const double> b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](double x, double y) {
        return std::bit_cast<std::uint64_t>(x) == std::bit_cast<std::uint64_t>(y);
    });
}

void compare(const Import& a, const Import& b) {
    QCOMPARE(a.table.columns.size(), b.table.columns.size());
    for (std::size_t c = 0; c < a.table.columns.size(); ++c) {
        const Column& x = a.table.columns[c];
        const Column& y = b.table.columns[c];
        QCOMPARE(x.name(), y.name());
        QCOMPARE(x.isText(), y.isText());
        if (x.isText()) {
            QVERIFY(x.texts() == y.texts());
            QVERIFY(
                std::equal(x.codes().begin(), x.codes().end(), y.codes().begin(), y.codes().end()));
        } else {
            QVERIFY(sameBits(x.numbers(), y.numbers()));
        }
        QVERIFY(a.table.variables[c] == b.table.variables[c]);
        QCOMPARE(a.evidence[c].reason, b.evidence[c].reason);
        QCOMPARE(a.evidence[c].suggestion, b.evidence[c].suggestion);
        QVERIFY(a.evidence[c].suspected == b.evidence[c].suspected);
        QVERIFY(a.evidence[c].inTheWay == b.evidence[c].inTheWay);
    }
    QVERIFY(a.used == b.used);
    QCOMPARE(a.problemCount, b.problemCount);
    QCOMPARE(a.problems.size(), b.problems.size());
    for (std::size_t i = 0; i < a.problems.size(); ++i) {
        QCOMPARE(a.problems[i].line, b.problems[i].line);
        QCOMPARE(a.problems[i].what, b.problems[i].what);
    }
    QVERIFY(a.parts == b.parts);
}

}  // namespace

class ColumnStoreTest : public QObject {
    Q_OBJECT

    std::unique_ptr<QTemporaryDir> folder_;

    [[nodiscard]] QString stores() const { return folder_->filePath("cache"); }

    [[nodiscard]] std::string file(const char* name = "growers.csv") const {
        return folder_->filePath(name).toStdString();
    }

    [[nodiscard]] QString store() const {
        const auto all = QDir(stores()).entryList({"*.columns"}, QDir::Files);
        return all.size() == 1 ? QDir(stores()).filePath(all.front()) : QString();
    }

    [[nodiscard]] Import read(const ReaderOptions& options = {}) const {
        auto import = readTableFile(file(), options, Job());
        if (!import) {
            qFatal("%s", import.error().text().c_str());
        }
        return *std::move(import);
    }

    [[nodiscard]] bool isKept(const ReaderOptions& options = {}) const {
        return column_store::find({file()}, options).has_value();
    }

  private slots:

    void init() {
        folder_ = std::make_unique<QTemporaryDir>();
        write(QString::fromStdString(file()), growersText(500, 3));
        QTest::qWait(2200);  // What was changed just now is not kept.
        column_store::keepIn(stores().toStdString(), 0);
    }

    void cleanup() { column_store::keepIn({}); }

    void isTheSameTheSecondTime() {
        column_store::keepIn({});
        const Import plain = read();
        QVERIFY(!QDir(stores()).exists());
        column_store::keepIn(stores().toStdString(), 0);
        compare(read(), plain);  // Read and kept.
        QVERIFY(!store().isEmpty());
        QVERIFY(isKept());
        compare(read(), plain);  // Mapped.
        QVERIFY(plain.problemCount > 0);
        QVERIFY(!plain.evidence[2].suspected.empty());
        // Nobody else reads the cells.
        QVERIFY(!(QFile(store()).permissions() & (QFile::ReadGroup | QFile::ReadOther)));
    }

    void outlivesTheFileItIsMappedFrom() {
        (void)read();
        const Import kept = read();
        const double before = kept.table.columns[0].numbers()[499];
        QVERIFY(QFile::remove(store()));
        QCOMPARE(kept.table.columns[0].numbers()[499], before);
        QVERIFY(!isKept());
        compare(read(), kept);
    }

    void otherOptionsAreAnotherTable() {
        (void)read();
        ReaderOptions spaces;
        spaces.keepSpaces = true;
        QVERIFY(!isKept(spaces));
        ReaderOptions late;
        late.skip = 3;
        late.header = true;
        QCOMPARE(read(late).table.rows(), std::size_t{497});
        QCOMPARE(read().table.rows(), std::size_t{500});
    }

    void aChangedFileIsReadAnew() {
        (void)read();
        QVERIFY(isKept());
        const std::string sum = *sha256OfTable(file(), {});
        QCOMPARE(*sha256OfTable(file(), {}), sum);
        // The same size, other cells; its time of writing is set back to what it was.
        const auto time = QFileInfo(QString::fromStdString(file())).lastModified();
        write(QString::fromStdString(file()), growersText(500, 4));
        QFile again(QString::fromStdString(file()));
        QVERIFY(again.open(QIODevice::ReadWrite));
        QVERIFY(again.setFileTime(time, QFileDevice::FileModificationTime));
        again.close();
        QVERIFY(!isKept());
        QCOMPARE(read().table.columns[2].numbers()[1], 1004.25);
        QVERIFY(*sha256OfTable(file(), {}) != sum);
        QVERIFY(!isKept());  // Too fresh to be trusted.
        QTest::qWait(2200);
        QCOMPARE(read().table.columns[2].numbers()[1], 1004.25);
        QVERIFY(isKept());
    }

    void whatIsNotWholeIsMadeAnew() {
        const Import plain = read();
        QFile whole(store());
        QVERIFY(whole.open(QIODevice::ReadOnly));
        const QByteArray bytes = whole.readAll();
        whole.close();
        for (const int size : {0, 5, 16, 40, 100, 1000, static_cast<int>(bytes.size()) - 1}) {
            write(store(), bytes.left(size));
            QVERIFY(!isKept());
        }
        write(store(), bytes + "x");
        QVERIFY(!isKept());
        // No byte of the head can be another without being noticed.
        std::uint64_t length = 0;
        std::memcpy(&length, bytes.constData() + 16, sizeof length);
        const int end = 88 + static_cast<int>(length);
        for (int at = 0; at < end; at += at < 120 ? 1 : 37) {
            QByteArray bad = bytes;
            bad[at] = static_cast<char>(bad[at] ^ 1);
            write(store(), bad);
            QVERIFY2(!isKept(), qPrintable(QString::number(at)));
        }
        compare(read(), plain);
        QVERIFY(isKept());
    }

    void whatStandsInTheWayCostsTheStoreAlone() {
        // A file where the folder should be.
        write(stores(), "in the way");
        QCOMPARE(read().table.rows(), std::size_t{500});
        QVERIFY(!isKept());
        QVERIFY(sha256OfTable(file(), {}).has_value());
        // Small tables are not worth it.
        QFile::remove(stores());
        column_store::keepIn(stores().toStdString(), 1U << 20U);
        QCOMPARE(read().table.rows(), std::size_t{500});
        QVERIFY(!QDir(stores()).exists());
        // A stop costs it, too, and leaves nothing behind.
        column_store::keepIn(stores().toStdString(), 0);
        const Job job;
        job.stop();
        const std::string stamp = column_store::stampOf({file()});
        QVERIFY(!stamp.empty());
        ReaderOptions other;
        other.skip = 9;
        QVERIFY(!column_store::keep(read(), {file()}, other, stamp, job));
        QCOMPARE(QDir(stores()).entryList(QDir::Files | QDir::Hidden).size(), 1);
    }

    /// Whenever a writer is killed: what is found afterwards is whole, or is not there.
    void aKilledWriterLeavesAWholeOneOrNone() {
        write(QString::fromStdString(file()), growersText(40000, 5));
        column_store::keepIn({});
        const Import plain = read();
        QTest::qWait(2200);
        column_store::keepIn(stores().toStdString(), 0);
        const auto began = std::chrono::steady_clock::now();
        (void)read();
        const auto whole = std::chrono::duration_cast<std::chrono::microseconds>(
            std::chrono::steady_clock::now() - began);
        int kept = 0;
        int without = 0;
        constexpr int kKills = 40;
        for (int i = 0; i < kKills; ++i) {
            QFile::remove(store());
            const pid_t child = fork();
            if (child == 0) {
                (void)read();
                _exit(0);
            }
            // From before it begins to write until after it has ended: how long that takes hangs on
            // what else the machine does, so that the last one ends by itself.
            if (i < kKills - 1) {
                usleep(
                    static_cast<useconds_t>(i == 0 ? 0 : whole.count() * (i + 8) / (kKills - 8)));
                kill(child, SIGKILL);
            }
            int status = 0;
            waitpid(child, &status, 0);
            const auto found = column_store::find({file()}, {});
            if (found) {
                compare(*found, plain);
            }
            ++(found ? kept : without);
        }
        QVERIFY2(kept > 0 && without > 0, qPrintable(QString::number(kept)));
        // The next one makes it anew, and clears away what the killed ones had begun.
        QFile::remove(store());
        compare(read(), plain);
        QVERIFY(isKept());
        QCOMPARE(QDir(stores()).entryList(QDir::Files | QDir::Hidden).size(), 1);
    }

    void databasesAreNotKept() {
        const auto to = folder_->filePath("growers.sqlite").toStdString();
        QVERIFY(writeTableFile(read().table, to).has_value());
        QTest::qWait(2200);
        QVERIFY(readTableFile(to, {}, Job()).has_value());
        QVERIFY(!column_store::find({to}, {}).has_value());
    }

    /// Cells that are large beside memory lie on the disk while they are read: the table is the
    /// same, also where lines are blank, a column turns out to hold texts, and records are long.
    void readsCellsOnTheDisk_data() {
        QTest::addColumn<QByteArray>("text");
        QByteArray many = growersText(120'000, 3);  // Several pieces.
        QTest::newRow("pieces") << many;
        QByteArray gaps = many;
        gaps.replace("\n7", "\n\n\n7");  // Fewer records than lines: columns close up.
        QTest::newRow("blank lines") << gaps;
        QByteArray late = "a,b\n";
        for (int i = 0; i < 90'000; ++i) {
            late += QByteArray::number(i) + "," +
                    (i == 80'000 ? QByteArray("none") : QByteArray::number(i * 0.5)) + "\n";
        }
        QTest::newRow("a text late") << late;
        QTest::newRow("few rows") << QByteArray("a,b\n1,x\n2,y\n");
    }

    void readsCellsOnTheDisk() {
        QFETCH(QByteArray, text);
        write(folder_->filePath("growers.csv"), text);
        column_store::keepIn({});
        const Import inMemory = read();
        // Nothing is kept (the least is too much), and all counts as large.
        column_store::keepIn(stores().toStdString(), std::size_t{1} << 50U, 0.0);
        QVERIFY(!column_store::folderForLarge(1.0).empty());
        const Import onDisk = read();
        compare(inMemory, onDisk);
        QVERIFY(store().isEmpty());
        QCOMPARE(QDir(stores()).entryList(QDir::Files | QDir::Hidden).size(), 0);
    }

    void asksForAFolderOnlyWhereItHelps() {
        column_store::keepIn({});
        QVERIFY(column_store::folderForLarge(1e12).empty());
        column_store::keepIn(stores().toStdString());
        QVERIFY(column_store::folderForLarge(1e3).empty());   // Small beside any memory.
        QVERIFY(column_store::folderForLarge(1e18).empty());  // No disk holds it.
    }

    void memoryOnDiskIsAsItWasLeft() {
        const std::string folder = folder_->path().toStdString();
        QVERIFY(memoryOnDisk(1000, folder + "/nowhere") == nullptr);
        QVERIFY(memoryOnDisk(std::size_t{1} << 60U, folder) == nullptr);
        const auto names = [&] {
            return QDir(folder_->path()).entryList(QDir::Files | QDir::Hidden);
        };
        const QStringList before = names();
        constexpr std::size_t kBytes = 1'000'003;
        const auto bytes = memoryOnDisk(kBytes, folder);
        QVERIFY(bytes != nullptr);
        for (std::size_t i = 0; i < kBytes; ++i) {
            bytes[i] = static_cast<std::byte>(i % 251);
        }
        putAside(bytes.get() + 17, kBytes - 40);
        putAside(bytes.get(), 1);  // Less than a page.
        std::size_t wrong = 0;
        for (std::size_t i = 0; i < kBytes; ++i) {
            wrong += bytes[i] == static_cast<std::byte>(i % 251) ? 0U : 1U;
        }
        QCOMPARE(wrong, std::size_t{0});
        QCOMPARE(names(), before);  // It has no name.
    }
};

QTEST_GUILESS_MAIN(ColumnStoreTest)
#include "column_store_test.moc"
