#pragma once

#include <unistd.h>

#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

namespace rapporto::tests {

/// A PostgreSQL server of a test's own, on a socket in a folder of its own: nothing listens on the
/// network, and it is gone with the object. As root it runs as the user that the package makes.
class TestServer {
  public:
    /// @param named  as the service “warehouse” and the connection of the environment.
    explicit TestServer(bool named = true) {
        binaries_ = textOf("pg_config", {"--bindir"});
        if (binaries_.isEmpty() || !QFileInfo::exists(binaries_ + "/initdb")) {
            why_ = "no PostgreSQL server is installed (package postgresql)";
            return;
        }
        // The server's user must reach it, whatever the mask is.
        QFile::setPermissions(folder_.path(), QFile::Permissions(0x7755));
        const QString home = folder_.filePath("server");
        QDir().mkpath(home);
        if (geteuid() == 0) {
            QProcess::execute("chown", {"postgres", home});
        }
        data_ = home + "/data";
        socket_ = home;
        if (!run(binaries_ + "/initdb", {"-D", data_, "-A", "trust", "-U", "demo", "--no-sync",
                                         "-E", "UTF8", "--locale=C.UTF-8"}) ||
            !start()) {
            return;
        }
        if (!named) {
            return;
        }
        write("service.conf", "[warehouse]\nhost=" + socket_ + "\nuser=demo\ndbname=postgres\n");
        qputenv("PGSERVICEFILE", folder_.filePath("service.conf").toUtf8());
        qputenv("PGHOST", socket_.toUtf8());
        qputenv("PGUSER", "demo");
        qputenv("PGDATABASE", "postgres");
    }

    TestServer(const TestServer&) = delete;
    TestServer& operator=(const TestServer&) = delete;

    ~TestServer() {
        if (why_.isEmpty()) {
            stop("fast");
        }
    }

    /// Why there is none; empty: it runs.
    [[nodiscard]] const QString& why() const { return why_; }

    [[nodiscard]] QString socket() const { return socket_; }

    bool start() {
        return run(
            binaries_ + "/pg_ctl",
            {"-D", data_, "-w", "-l", socket_ + "/log", "-o",
             "-c listen_addresses='' -c fsync=off -c max_connections=40 -k " + socket_, "start"});
    }

    void stop(const QString& how) {
        run(binaries_ + "/pg_ctl", {"-D", data_, "-m", how, "-w", "stop"});
    }

    /// Statements for the server; false where it refuses one.
    bool sql(const QString& statements) const {
        write("statements.sql", statements);
        QProcess psql;
        psql.start("psql", {"-v", "ON_ERROR_STOP=1", "-q", "-h", socket_, "-U", "demo", "-d",
                            "postgres", "-f", folder_.filePath("statements.sql")});
        const bool done = psql.waitForFinished(120000) && psql.exitCode() == 0;
        if (!done) {
            qWarning("%s", psql.readAllStandardError().constData());
        }
        return done;
    }

    void write(const QString& name, const QString& content) const {
        QFile file(folder_.filePath(name));
        if (!file.open(QIODevice::WriteOnly)) {
            qFatal("%s cannot be written", qPrintable(name));
        }
        file.write(content.toUtf8());
    }

  private:
    static QString textOf(const QString& program, const QStringList& arguments) {
        if (QStandardPaths::findExecutable(program).isEmpty()) {
            return {};
        }
        QProcess process;
        process.start(program, arguments);
        process.waitForFinished();
        return QString::fromUtf8(process.readAllStandardOutput()).trimmed();
    }

    bool run(const QString& program, const QStringList& arguments) {
        QProcess process;
        process.setProcessChannelMode(QProcess::MergedChannels);
        // What the server inherits would keep the pipe open behind it.
        process.setStandardOutputFile(folder_.filePath("said"));
        process.setWorkingDirectory("/");
        if (geteuid() == 0) {
            process.start("runuser", QStringList{"-u", "postgres", "--", program} + arguments);
        } else {
            process.start(program, arguments);
        }
        const bool done = process.waitForFinished(60000) && process.exitCode() == 0;
        if (!done) {
            QFile said(folder_.filePath("said"));
            why_ = program + ": " +
                   (said.open(QIODevice::ReadOnly) ? QString::fromUtf8(said.readAll()) : QString());
        }
        return done;
    }

    QTemporaryDir folder_;
    QString binaries_;
    QString data_;
    QString socket_;
    QString why_;
};

}  // namespace rapporto::tests
