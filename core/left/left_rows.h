#pragma once

#include "core/left/left_table.h"
#include "core/left/sql_expression.h"
#include "core/study/answer.h"

#include <Eigen/Dense>

#include <limits>
#include <set>

namespace rapporto {

/// One thing that a question reads in every row.
struct LeftPart {
    std::string text;   ///< As the question has it.
    std::string name;   ///< As results name it.
    std::string alias;  ///< Of its column.
    SqlValue value;
    Variable variable;  ///< Of a bare name; else its measure alone.
    bool groups = false;
    bool needed = true;  ///< A row that lacks it is not used.
};

/// Where the rows of a question went.
struct LeftCounts {
    double source = 0.0;
    double inSample = 0.0;
    double used = 0.0;
    std::vector<double> also;

    struct Lack {
        std::string name;
        double rows = 0.0;
        double alone = 0.0;
    };

    std::vector<Lack> lacks;  ///< Parts that lack something, as they were added.
};

/// Sums over rows that fall into groups.
struct LeftGroupSums {
    std::vector<std::string> groups;  ///< What each is written as.
    Eigen::MatrixXd sums;             ///< Groups × columns.
};

/// The same as an answer tells it, what lacks most first.
[[nodiscard]] RowCounts countsOf(const LeftCounts& counts);

/// A count that came as a number.
[[nodiscard]] std::size_t wholeOf(double count);

/// The rows of a question in an engine, a server or columns on the disk: what it reads becomes
/// columns of a statement, and sums over the rows that have all of it are asked for. Every
/// statement is kept, to be shown.
class LeftRows {
  public:
    /// @param frame  of a study whose rows are left.
    LeftRows(const Study& study, const Frame& frame, Job job);

    /// Connects, and takes the study's rule and `where` for the rows that count.
    [[nodiscard]] Result<void> begin(const std::string& where);

    /// Adds what is read; the same twice is one.
    ///
    /// @param needed  of the rows that are used.
    /// @return its place, or what `evaluate` and `sqlOf` refuse.
    [[nodiscard]] Result<std::size_t> add(const std::string& text, bool needed = true);

    [[nodiscard]] const LeftPart& part(std::size_t place) const { return parts_[place]; }

    /// The part of that text, which was added.
    [[nodiscard]] const LeftPart& partOf(const std::string& text) const;

    /// Columns of the table that the parts read, and how each is named in a statement.
    [[nodiscard]] const std::map<std::string, std::string>& cells() const { return cells_; }

    /// The part that is this cell as it stands, or empty.
    [[nodiscard]] std::string aliasOf(const std::string& cell) const;

    /// Rows that count, whatever they lack, as “(select …) asked”.
    [[nodiscard]] std::string asked() const;

    /// Rows that have every part, as “(select …) used”.
    [[nodiscard]] std::string used() const { return usedWhere({}); }

    /// The same with a condition more.
    [[nodiscard]] std::string usedWhere(const std::string& condition) const;

    /// @param also  sums over the rows that have every part, asked for in the same look; their
    ///              values stand in `also`, and a row that lacks something adds null.
    [[nodiscard]] Result<LeftCounts> count(const std::vector<std::string>& also = {});

    /// One row of numbers; null is NaN. Many are asked for in several statements.
    [[nodiscard]] Result<std::vector<double>> sums(const std::vector<std::string>& columns,
                                                   const std::string& from);

    /// The same of sums over single rows, which add up: where the table is spread over servers each
    /// adds up its own rows, and no row crosses the wire.
    [[nodiscard]] Result<std::vector<double>> sumsOfRows(const std::vector<std::string>& columns,
                                                         const std::string& from);

    /// Whether a server of several has over `most` values of a column. A limit would have it hand
    /// over rows in order instead of its own groups, so it is asked first; where the table has no
    /// parts the limit tells, and nothing is asked.
    [[nodiscard]] Result<bool> hasOver(const std::string& column, const std::string& from,
                                       std::size_t most);

    /// As many values as there are to be told.
    static constexpr std::size_t kAll = std::numeric_limits<int>::max();

    /// Values that occur, each once, `most` of them at most; where a single server of several has
    /// more, as many blanks: whoever asks with a bound has too many then.
    [[nodiscard]] Result<std::vector<std::string>> distinct(const std::string& column,
                                                            const std::string& from,
                                                            std::size_t most);

    /// Sums over single rows by group, one row a group: where the table is spread over servers.
    [[nodiscard]] Result<LeftGroupSums> sumsByGroup(const std::string& groups,
                                                    const std::vector<std::string>& columns,
                                                    const std::string& from);

    /// Its parts lie with several servers.
    [[nodiscard]] bool isSpread() const { return !table_.table().parts.empty(); }

    [[nodiscard]] Result<ServerRows> ask(const std::string& sql);

    /// The same of every part, or of the table that has none: their rows one after the other, for
    /// those who know how they add up.
    [[nodiscard]] Result<ServerRows> askEach(const std::string& sql);

    /// Statements that were sent, in order.
    [[nodiscard]] const std::vector<std::string>& statements() const { return statements_; }

    [[nodiscard]] const Job& job() const { return job_; }

    [[nodiscard]] const LeftWords& words() const { return table_.words(); }

  private:
    [[nodiscard]] Result<SqlValue> nameSql(const Node& node);
    [[nodiscard]] Result<SqlValue> cell(const std::string& name);
    [[nodiscard]] Result<std::string> condition(const std::string& text);
    [[nodiscard]] Result<LeftCounts> withLacks(LeftCounts counts,
                                               const std::vector<double>& present);
    [[nodiscard]] Result<std::vector<double>> sumsFrom(const std::vector<std::string>& columns,
                                                       const std::string& from,
                                                       const std::string& table);
    /// @param table  in place of the table.
    [[nodiscard]] Result<ServerRows> askOf(const std::string& sql, const std::string& table);

    const Study& study_;
    const Frame& frame_;
    const LeftTable& table_;
    Job job_;
    std::shared_ptr<LeftEngine> engine_;
    std::vector<LeftPart> parts_;
    std::map<std::string, std::string> cells_;    ///< Name in the study to alias.
    std::map<std::string, std::string> cellSql_;  ///< Alias to what it is.
    std::set<std::string> within_;                ///< Derived variables being spelled out.
    std::string rule_;
    std::vector<std::string> statements_;
};

/// A column of cells that came as texts; none: missing.
[[nodiscard]] Column columnOfCells(const std::string& name,
                                   const std::vector<std::optional<std::string>>& cells, bool text);

/// Rows whose columns the engine works out once and not anew wherever they are used: “(select …) as
/// name”.
[[nodiscard]] std::string workedOut(const std::string& columns, const std::string& from,
                                    const std::string& name);

/// Mean and products about the mean of columns over rows, weighted.
struct LeftMoments {
    double weight = 0.0;   ///< Sum of weights, or rows.
    Eigen::VectorXd mean;  ///< p.
    /// Σ w (x − mean)(x − mean)' / Σ w, p × p.
    Eigen::MatrixXd spread;
};

/// Moments from the sums n, Σ d, and Σ d d' by rows of its lower triangle, of columns less `about`.
[[nodiscard]] LeftMoments momentsAbout(const double* sums, const Eigen::VectorXd& about);

/// The means lie so many spreads from `about` that the difference has cost digits.
[[nodiscard]] bool areFar(const LeftMoments& moments, const Eigen::VectorXd& about);

/// Products of what is left of columns about values near their means, so that digits hold far from
/// zero, in one look at the rows; where such a value turns out to be far off, in another about the
/// means.
///
/// @param columns  of `from`, p.
/// @param near     about their means, p; empty: they are asked for first.
/// @param weight   an expression, “1” for none.
/// @param apart    each row of `from` is told by one row of the table: servers add up their own.
[[nodiscard]] Result<LeftMoments> leftMoments(LeftRows& rows,
                                              const std::vector<std::string>& columns,
                                              const Eigen::VectorXd& near,
                                              const std::string& weight, const std::string& from,
                                              bool apart);

/// m × p rows that have these means and spreads with weight 1 each: they stand in for rows that are
/// not at hand. A column whose spread is told by those before it is told by them here.
///
/// @param m  at least p + 1.
/// @param told  share of a spread under which it counts as told by others, one a column.
[[nodiscard]] Eigen::MatrixXd standInRows(const LeftMoments& moments, Eigen::Index m,
                                          const Eigen::VectorXd& told);

}  // namespace rapporto
