#pragma once

#include "core/io/server_table.h"
#include "core/left/left_engine.h"
#include "core/left/left_words.h"

#include <map>
#include <memory>
#include <mutex>
#include <set>

namespace rapporto {

struct DrawnPicture;

/// What is known of a column whose cells stay with the engine.
struct LeftFacts {
    double present = 0.0;  ///< Rows with a value.
    // Of numbers, else NaN.
    double mean = 0.0;
    double sd = 0.0;  ///< n − 1 in the divisor.
    double low = 0.0;
    double high = 0.0;
};

using LeftFactsByName = std::map<std::string, LeftFacts>;

/// A table whose rows stay where they are: with a database server, or in columns on the disk. It
/// holds no rows but the first ones, which tell what its columns are; every question is answered by
/// sums that it asks for. Immutable.
class LeftTable {
  public:
    /// Looks at the table and counts its rows.
    ///
    /// @return the table, or what describeServerTable() refuses; Syntax when it has no row.
    [[nodiscard]] static Result<std::shared_ptr<const LeftTable>> open(const ReaderOptions& options,
                                                                       const Job& job);

    /// A table that was read from a file, whose cells may lie mapped on the disk.
    ///
    /// @param shown  of the file, for people.
    /// @return the table; Syntax when it has no row.
    [[nodiscard]] static Result<std::shared_ptr<const LeftTable>> ofColumns(
        std::shared_ptr<const Table> columns, const ReaderOptions& options,
        const std::string& shown);

    /// The rows lie in columns on the disk, not with a server.
    [[nodiscard]] bool isOnDisk() const { return columns_ != nullptr; }

    [[nodiscard]] const LeftWords& words() const;

    [[nodiscard]] const ReaderOptions& options() const { return options_; }

    [[nodiscard]] const ServerTable& table() const { return table_; }

    [[nodiscard]] double rows() const { return rows_; }

    /// Its first rows, with what is known of each column.
    [[nodiscard]] const Table& first() const { return first_; }

    /// Null for a name it does not have.
    [[nodiscard]] const ServerVariable* variable(const std::string& name) const;

    /// Asks once for number, mean, spread and ends of every column, for people to look at. It reads
    /// the whole table. From any thread.
    [[nodiscard]] Result<void> describe(const Job& job) const;

    /// What describe() found; null before.
    [[nodiscard]] std::shared_ptr<const LeftFactsByName> facts() const;

    /// A picture that was asked for before; null: none of that name.
    /// @param name  all that it hangs on.
    [[nodiscard]] std::shared_ptr<const DrawnPicture> pictureOf(const std::string& name) const;

    /// Keeps a picture for whoever asks for it next: a page, a stage. From any thread.
    void keepPicture(const std::string& name, std::shared_ptr<const DrawnPicture> picture) const;

    /// Whom to ask, for one question: a new connection in a transaction of its own.
    [[nodiscard]] Result<std::shared_ptr<LeftEngine>> connect(const Job& job) const;

    /// The cells of a column as the study reads them, before codes for “no answer” are taken out.
    [[nodiscard]] std::string cellSql(const std::string& name) const;

  private:
    [[nodiscard]] Result<ServerConnection> connection(const Job& job) const;
    /// Counts the rows, and finds what the first of them do not tell.
    [[nodiscard]] Result<void> look(const ServerConnection& connection, const Job& job);

    ReaderOptions options_;
    std::shared_ptr<const Table> columns_;  ///< Null: rows are a server's.
    ServerTable table_;
    double rows_ = 0.0;
    Table first_;
    std::set<std::string> endless_;  ///< Columns with a cell that is infinite or not a number.
    mutable std::mutex mutex_;
    mutable std::shared_ptr<const LeftFactsByName> facts_;
    mutable std::map<std::string, std::shared_ptr<const DrawnPicture>> pictures_;
};

}  // namespace rapporto
