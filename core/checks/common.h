#pragma once

#include "core/checks/check.h"
#include "core/checks/row_sheet.h"
#include "core/checks/shared_work.h"
#include "core/describe/row_names.h"

namespace rapporto {

/// The T of the check's own fit, made once for all checks of an answer that ask for it.
template <class T, class Make>
[[nodiscard]] std::shared_ptr<const T> onceFor(const CheckInput& in, Make make) {
    SharedWork* shared = SharedWork::of(&in.fit);
    return shared == nullptr ? std::make_shared<const T>(make()) : shared->get<T>(&in.fit, make);
}

/// The rows as the question has them, before sweeping or differencing.
[[nodiscard]] const Design& rawOf(const CheckInput& in);

/// A result that says why the check cannot be answered here.
[[nodiscard]] CheckResult notApplicable(std::string reason);

/// Fine when p ≥ alpha or the size is negligible; Fails from `large` on; Weigh between.
[[nodiscard]] Verdict judge(double p, double alpha, double size, double negligible, double large);

/// Kept columns of X followed by `added`.
[[nodiscard]] Eigen::MatrixXd withColumns(const CheckInput& in, const Eigen::MatrixXd& added);

/// Residuals times root weights: those of the transformed model, of equal spread under the null.
[[nodiscard]] Eigen::VectorXd scaledResiduals(const CheckInput& in);

/// Those of row_sheet.h, of the check’s own design and fit.
[[nodiscard]] Eigen::VectorXd studentisedResiduals(const CheckInput& in);
[[nodiscard]] Eigen::VectorXd cooksDistances(const CheckInput& in);

/// Residual against fitted value with every row named.
[[nodiscard]] Exhibit residualExhibit(const CheckInput& in);

/// Why the order of rows means nothing here, or empty.
[[nodiscard]] std::string orderProblem(const CheckInput& in);

/// The rows of a series from first to last.
[[nodiscard]] std::vector<Eigen::Index> rowsInTime(const CheckInput& in);

/// The fitted values differ by more than rounding: a constant alone has no shape to ask about.
[[nodiscard]] bool fitVaries(const CheckInput& in);

/// Kept columns but the constant.
struct Regressors {
    Eigen::MatrixXd Z;
};

[[nodiscard]] std::shared_ptr<const Regressors> regressors(const CheckInput& in);

/// Names of rows with the largest values first, three at most; for readings.
[[nodiscard]] std::string namesOf(const CheckInput& in, const std::vector<std::size_t>& rows);

/// Source rows whose value exceeds `bound`, largest first.
[[nodiscard]] std::vector<std::size_t> rowsAbove(const CheckInput& in,
                                                 const Eigen::VectorXd& values, double bound);

/// The rows used cut by a grouping variable; the labels of the groups that occur.
struct CheckGroups {
    std::vector<int> of;  ///< −1: no value.
    std::vector<std::string> labels;
};

/// @return the groups, or a sentence why there are none.
[[nodiscard]] tl::expected<CheckGroups, std::string> groupsFor(const CheckInput& in,
                                                               const std::string& variable);

/// The first grouping term of the model, or empty.
[[nodiscard]] std::string firstGrouping(const CheckInput& in);

/// What columns leave of an outcome.
struct Remainder {
    double squares = 0.0;  ///< Σ w e².
    double columns = 0.0;  ///< That are no combination of others.
};

/// As solveLinear() where a length is asked for and no coefficient: wide arithmetic is called for
/// far less often. The squares are good to about 1e-11.
[[nodiscard]] Result<Remainder> remainderOf(const LinearProblem& problem, const Job& job);

/// Residual sum of squares of the kept columns over some rows; absent with fewer rows than columns
/// there, or when the work was stopped.
struct PartFit {
    double rss = 0.0;
    double n = 0.0;
    double columns = 0.0;
};

[[nodiscard]] std::optional<PartFit> fitPart(const CheckInput& in,
                                             const std::vector<Eigen::Index>& rows);

/// R² of y on [1, Z] with redundant columns left out, and how many columns counted.
struct Auxiliary {
    double rSquared = 0.0;
    double explained = 0.0;  ///< Explained sum of squares.
    double rss = 0.0;
    double columns = 0.0;  ///< Without the constant.
    bool varies = true;    ///< False: y is one number but for rounding: there is nothing to tell.
};

[[nodiscard]] Result<Auxiliary> auxiliary(const Eigen::MatrixXd& Z, const Eigen::VectorXd& y,
                                          const Job& job);

/// The same on the columns of Z and on the named products of them after centring. Beyond 2e7 cells
/// the products are formed by blocks of rows and never stand in memory together.
[[nodiscard]] Result<Auxiliary> auxiliary(
    const Eigen::MatrixXd& Z, const std::vector<std::pair<Eigen::Index, Eigen::Index>>& products,
    const Eigen::VectorXd& y, const Job& job);

// Remedies: each an edit of the question, tried beside the original.
[[nodiscard]] Question variantBase(const CheckInput& in, const std::string& title);

/// A term by its name as an expression writes it: the name of a variable in quotes where it needs
/// them.
[[nodiscard]] std::string writtenTerm(const CheckInput& in, const std::string& name);
void offerRobust(const CheckInput& in, CheckResult& result);
void offerLogOutcome(const CheckInput& in, CheckResult& result);
void offerSquare(const CheckInput& in, const std::string& term, CheckResult& result);
void offerWithout(const CheckInput& in, const std::vector<std::size_t>& rows, CheckResult& result);
void offerCluster(const CheckInput& in, CheckResult& result);
void offerAutocorrelation(const CheckInput& in, CheckResult& result);
void offerSquareOfCurved(const CheckInput& in, CheckResult& result);
void offerDrawing(const CheckInput& in, CheckResult& result);
void offerEchoTakenOut(const CheckInput& in, CheckResult& result);

/// Ways out where errors carry over: errors that allow for it, the echo taken out, the outcome a
/// moment before.
void offerForEcho(const CheckInput& in, CheckResult& result);
void offerLaggedOutcome(const CheckInput& in, CheckResult& result);
void offerWithoutTerm(const CheckInput& in, const std::string& name, CheckResult& result);
void offerProduct(const CheckInput& in, const DesignTerm& a, const DesignTerm& b,
                  CheckResult& result);
/// Holds the finest grouping fixed within which the terms still vary.
void offerHeldFixed(const CheckInput& in, CheckResult& result);

/// Complete rows stand for those that lack an answer, by the chance to be complete.
void offerWeighted(const CheckInput& in, CheckResult& result);
void offerEffectsBy(const CheckInput& in, const std::string& groups, CheckResult& result);

/// Rows apart from the half that agree best, and what the others say.
[[nodiscard]] CheckResult checkTrimmed(const CheckInput& in);

/// Of fits that hold odd rows down: which rows, and what least squares says beside.
[[nodiscard]] CheckResult checkHeldDown(const CheckInput& in);

/// Hansen’s J and Sargan’s statistic of instruments by earlier moments.
[[nodiscard]] CheckResult dynamicOverIdentification(const CheckInput& in);

/// Two remedies: the rows before the moment of a row alone, and those from it on.
void offerParts(const CheckInput& in, Eigen::Index row, CheckResult& result);

/// The moment of a row of a series, as it is shown.
[[nodiscard]] std::string momentText(const CheckInput& in, Eigen::Index row);

}  // namespace rapporto
