#include "core/left/left_explain.h"

#include "core/base/format.h"
#include "core/left/left_checks.h"
#include "core/left/left_errors.h"
#include "core/left/left_likelihood.h"
#include "core/left/left_question.h"
#include "core/left/left_rows.h"
#include "core/left/left_sample.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/method_uses.h"
#include "core/model/retransformed.h"
#include "core/model/reweighted.h"
#include "core/study/explain.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Shares of a spread under which a column counts as told by others: rounding of the products.
constexpr double kToldTerm = 1e-11;
constexpr double kToldOutcome = 1e-13;

bool isTwoStage(const Question& question) { return question.method == "two-stage"; }

/// What the question asks for that sums do not tell; nothing where they tell all.
std::optional<std::string> beyondSums(const Question& q) {
    if (!q.byLeastSquares() && !isTwoStage(q) && !isByLikelihood(q)) {
        return "the method ‘" + q.method + "’";
    }
    if (isByLikelihood(q) && (!q.offset.empty() || !q.exposure.empty() || q.settings.penalised)) {
        return q.settings.penalised ? "a penalised likelihood" : "an offset or an exposure";
    }
    if (isByLikelihood(q) && !q.predict.empty()) {
        return "a prediction of an outcome that is no measurement";
    }
    const bool robust =
        q.errors.kind == "robust" && (q.errors.type == "HC0" || q.errors.type == "HC1");
    if (q.errors.kind == "robust" && !robust) {
        return "errors of type " + q.errors.type + ", which take each row’s leverage,";
    }
    if (q.errors.kind != "classical" && !robust && q.errors.kind != "clustered") {
        return "errors that are " + q.errors.shown();
    }
    if (q.fixedEffects.size() > 1) {
        return "more than one grouping held fixed";
    }
    if (!q.ownSlopes.empty()) {
        return "slopes of units’ own";
    }
    if (!q.fixedEffects.empty() && (!q.intercept || !q.byLeastSquares())) {
        return q.intercept ? "a grouping held fixed by ‘" + q.method + "’"
                           : "a grouping held fixed without a constant";
    }
    if (q.missing != "rows") {
        return "filling in or weighing up what is missing";
    }
    if (!q.without.empty()) {
        return "rows left out by number";
    }
    if (!q.effects.empty()) {
        return "effects averaged over the rows";
    }
    if (q.byLot || q.worstCases || q.forecast) {
        return q.byLot ? "drawing by lot" : q.worstCases ? "worst cases" : "a forecast";
    }
    return std::nullopt;
}

class LeftExplain {
  public:
    LeftExplain(Answer& answer, const Study& study, const Frame& frame, const Making& making)
        : answer_(answer),
          study_(study),
          frame_(frame),
          making_(making),
          question_(answer.question),
          rows_(study, frame, making.job) {}

    Result<void> run() {
        if (const auto beyond = beyondSums(question_)) {
            return tl::make_unexpected(needsRowsAtHand(frame_, *beyond));
        }
        const Estimator* estimator = findEstimator(question_.method);
        if (const auto unused = notTaken(question_, *estimator)) {
            return tl::make_unexpected(*unused);
        }
        auto spelled = spellOut(rows_, study_, frame_, question_, answer_.rows);
        if (!spelled) {
            return tl::make_unexpected(spelled.error());
        }
        columns_ = std::move(spelled->columns);
        source_ = std::move(spelled->source);
        template_ = std::move(spelled->seen);
        design_ = std::move(spelled->design);
        if (auto done = sum(); !done) {
            return done;
        }
        auto fit = estimate(*estimator);
        if (!fit) {
            return tl::make_unexpected(fit.error());
        }
        return tell(*std::move(fit));
    }

    [[nodiscard]] const std::vector<std::string>& statements() const { return rows_.statements(); }

  private:
    /// Without a difference there is nothing to explain; less than rounding is none.
    Result<void> mustVary() const {
        const Index y = moments_.mean.size() - 1;
        const double level = level_.size() > 0 ? level_(y) : moments_.mean(y);
        const double squares =
            columns_.held.empty() ? moments_.spread(y, y) : wholeSquares_ / moments_.weight;
        constexpr double kUnits = 4.0 * std::numeric_limits<double>::epsilon();
        if (std::sqrt(squares) > kUnits * std::abs(level)) {
            return {};
        }
        return refuse(ErrorCode::NoVariation,
                      "the outcome ‘" + question_.outcome + "’ is " + shortNumber(level) +
                          " in every row used",
                      question_.title,
                      "There is nothing to explain: choose another outcome or sample.",
                      {question_.outcome});
    }

    /// The rows with columns by name: x0 … , z0 …, y, w, and whatever groups them.
    [[nodiscard]] std::string named(const std::string& from) const {
        std::string out = "(select ";
        for (std::size_t j = 0; j < columns_.terms.size(); ++j) {
            out += columns_.terms[j] + fmt::format(" as x{}, ", j);
        }
        for (std::size_t j = 0; j < columns_.instruments.size(); ++j) {
            out += columns_.instruments[j] + fmt::format(" as z{}, ", j);
        }
        for (std::size_t d = 0; d < columns_.clusters.size(); ++d) {
            out += columns_.clusters[d] + fmt::format(" as c{}, ", d);
        }
        if (!columns_.held.empty()) {
            out += columns_.held + " as g, ";
        }
        for (std::size_t b = 0; b < columns_.beside.size(); ++b) {
            out += columns_.beside[b].alias + fmt::format(" as b{}, ", b);
        }
        return out + columns_.outcome + " as y, " + columns_.weight + " as w from " + from +
               ") named";
    }

    [[nodiscard]] std::vector<std::string> joint() const {
        std::vector<std::string> out;
        for (std::size_t j = 0; j < columns_.terms.size(); ++j) {
            out.push_back(fmt::format("x{}", j));
        }
        for (std::size_t j = 0; j < columns_.instruments.size(); ++j) {
            out.push_back(fmt::format("z{}", j));
        }
        out.emplace_back("y");
        return out;
    }

    [[nodiscard]] std::string weightName() const { return columns_.weight == "1" ? "1" : "w"; }

    /// A group of more rows than one; a row that counts for two is two.
    [[nodiscard]] std::string notAlone() const {
        return question_.weightKind == WeightKind::Frequency ? "sum(w) > 1" : "count(*) > 1";
    }

    /// What is held fixed taken out: of each column its group's mean; groups of one row leave.
    [[nodiscard]] std::string withinGroups() const {
        std::string left = "select ";
        std::string means = "select g, count(*) as rows, sum(w) as weight";
        for (const std::string& column : joint()) {
            left += fmt::format("named.{0} - means.{0} as {0}, ", column);
            means += fmt::format(", sum(w * {0}) / sum(w) as {0}", column);
        }
        for (std::size_t d = 0; d < columns_.clusters.size(); ++d) {
            left += fmt::format("named.c{0} as c{0}, ", d);
        }
        means += " from " + named(source_) + " group by g having " + notAlone();
        return "(" + left + "named.g as g, named.y as whole, named.w as w from " + named(source_) +
               " join (" + means + ") means on means.g = named.g) within_groups";
    }

    /// Means, then products.
    Result<void> sum() {
        centred_ = design_.hasConstant;
        rowsSql_ = columns_.held.empty() ? named(source_) : withinGroups();
        if (!columns_.held.empty()) {
            if (auto done = lookAtGroups(); !done) {
                return done;
            }
        }
        auto moments =
            leftMoments(rows_, joint(), nearMeans(), weightName(), rowsSql_, columns_.held.empty());
        if (!moments) {
            return tl::make_unexpected(moments.error());
        }
        moments_ = *std::move(moments);
        if (auto varies = mustVary(); !varies) {
            return varies;
        }
        return sumCells();
    }

    /// Where the columns lie by the rows that were seen; about their groups’ means they lie at
    /// zero.
    [[nodiscard]] VectorXd nearMeans() const {
        const auto k = static_cast<Index>(columns_.terms.size());
        const auto q = static_cast<Index>(columns_.instruments.size());
        VectorXd out = VectorXd::Zero(k + q + 1);
        if (columns_.held.empty()) {
            out.head(k) = design_.X.rightCols(k).colwise().mean().transpose();
            out.segment(k, q) = design_.Z.colwise().mean().transpose();
            out(k + q) = design_.y.mean();
        }
        return out;
    }

    /// How many groups there are, and the level they have together.
    Result<void> lookAtGroups() {
        std::vector<std::string> sums = {"count(*)", "sum(rows)", "sum(weight)"};
        std::string means = "select count(*) as rows, sum(w) as weight";
        for (const std::string& column : joint()) {
            sums.push_back("sum(" + column + ")");
            means += ", sum(w * " + column + ") as " + column;
        }
        const auto found = rows_.sums(sums, "(" + means + " from " + named(source_) +
                                                " group by g having " + notAlone() + ") levels");
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        groups_ = std::isnan((*found)[0]) ? 0.0 : (*found)[0];
        if (groups_ < 1.0) {
            return refuse(ErrorCode::TooFewRows,
                          "no group of ‘" + question_.fixedEffects.front() + "’ has two rows",
                          "fixed effects", "Take it out, or hold a coarser grouping fixed.");
        }
        const std::size_t kept = wholeOf((*found)[1]);
        answer_.rows.dropped += answer_.rows.used - kept;
        answer_.rows.used = kept;
        level_.resize(static_cast<Index>(joint().size()));
        for (Index j = 0; j < level_.size(); ++j) {
            level_(j) = (*found)[static_cast<std::size_t>(j) + 3] / (*found)[2];
        }
        const auto whole =
            rows_.sums({"sum(w * (whole - " + sqlNumber(level_(level_.size() - 1)) +
                        ") * (whole - " + sqlNumber(level_(level_.size() - 1)) + "))"},
                       rowsSql_);
        if (!whole) {
            return tl::make_unexpected(whole.error());
        }
        wholeSquares_ = whole->front();
        return {};
    }

    /// Mean and spread of the variables that the terms read, for values nobody names.
    Result<void> sumCells() {
        std::vector<std::string> names;
        std::vector<std::string> columns;
        for (const auto& [name, alias] : rows_.cells()) {
            const Variable& variable = *template_->variable(name);
            if (isGrouping(variable.measure) || template_->column(name)->isText()) {
                continue;
            }
            // What stands among the terms as it is was asked for already.
            std::vector<std::string> known = columns_.terms;
            known.insert(known.end(), columns_.instruments.begin(), columns_.instruments.end());
            known.push_back(columns_.outcome);
            const auto term = std::find(known.begin(), known.end(), rows_.aliasOf(alias));
            if (columns_.held.empty() && term != known.end()) {
                const auto j = static_cast<Index>(term - known.begin());
                asked_.push_back({name, moments_.mean(j), std::sqrt(moments_.spread(j, j))});
                continue;
            }
            names.push_back(name);
            columns.push_back(alias);
        }
        if (columns.empty()) {
            return {};
        }
        const std::string w = columns_.weight;
        const auto averages = [&](const std::vector<std::string>& values) {
            std::vector<std::string> sums;
            for (std::size_t j = 0; j < columns.size(); ++j) {
                sums.push_back("sum(" + w + " * " + values[j] + ")");
                sums.push_back("sum(case when " + columns[j] + " is not null then " + w + " end)");
            }
            auto found = rows_.sumsOfRows(sums, source_);
            for (std::size_t j = 0; found && j < columns.size(); ++j) {
                (*found)[j] = (*found)[2 * j] / (*found)[2 * j + 1];
            }
            return found;
        };
        const auto means = averages(columns);
        if (!means) {
            return tl::make_unexpected(means.error());
        }
        std::vector<std::string> squares;
        for (std::size_t j = 0; j < columns.size(); ++j) {
            const std::string left = "(" + columns[j] + " - " +
                                     sqlNumber(std::isnan((*means)[j]) ? 0.0 : (*means)[j]) + ")";
            squares.push_back(left + " * " + left);
        }
        auto spreads = averages(squares);
        if (!spreads) {
            return tl::make_unexpected(spreads.error());
        }
        for (double& one : *spreads) {
            one = std::sqrt(one);
        }
        for (std::size_t j = 0; j < columns.size(); ++j) {
            asked_.push_back({names[j], (*means)[j], (*spreads)[j]});
        }
        return {};
    }

    /// Rows with the mean and spread of every number and each level of every grouping.
    [[nodiscard]] Table factsTable(Index m) const {
        Table out;
        const Table& seen = template_->table();
        for (std::size_t c = 0; c < seen.columns.size(); ++c) {
            if (!seen.variables[c].expression.empty()) {
                continue;
            }
            const auto at = std::find_if(asked_.begin(), asked_.end(), [&](const CellFacts& one) {
                return one.name == seen.variables[c].name;
            });
            if (at != asked_.end()) {
                std::vector<double> numbers;
                for (Index r = 0; r < m; ++r) {
                    numbers.push_back(at->mean + (r % 2 == 0 ? at->sd : -at->sd));
                }
                out.columns.push_back(Column::ofNumbers(seen.variables[c].name, numbers));
            } else {
                out.columns.push_back(cycled(seen.columns[c], m));
            }
            out.variables.push_back(seen.variables[c]);
        }
        return out;
    }

    static Column cycled(const Column& column, Index m) {
        if (column.isText()) {
            std::vector<std::int32_t> codes;
            const auto levels = static_cast<Index>(std::max<std::size_t>(column.texts().size(), 1));
            for (Index r = 0; r < m; ++r) {
                codes.push_back(column.texts().empty() ? -1
                                                       : static_cast<std::int32_t>(r % levels));
            }
            return Column::ofTexts(column.name(), std::move(codes), column.texts());
        }
        std::set<double> levels;
        for (const double x : column.numbers()) {
            if (!std::isnan(x)) {
                levels.insert(x);
            }
        }
        const std::vector<double> list(levels.begin(), levels.end());
        std::vector<double> cells;
        for (Index r = 0; r < m; ++r) {
            cells.push_back(list.empty() ? std::nan("")
                                         : list[static_cast<std::size_t>(r) % list.size()]);
        }
        return Column::ofNumbers(column.name(), std::move(cells));
    }

    /// The design over rows that have the means and products asked for.
    void standIn() {
        std::size_t most = 2;
        for (const Column& column : template_->table().columns) {
            most = std::max(most, column.isText() ? column.texts().size() : std::size_t{0});
            if (!column.isText() && isGrouping(template_->variable(column.name())->measure)) {
                const auto cells = column.numbers();
                most = std::max(most, std::set<double>(cells.begin(), cells.end()).size());
            }
        }
        const auto p = static_cast<Index>(joint().size());
        Index m = std::max<Index>(p + 1, static_cast<Index>(most));
        m += m % 2;
        VectorXd told = VectorXd::Constant(p, kToldTerm);
        told(p - 1) = kToldOutcome;
        MatrixXd rows = standInRows(moments_, m, told);
        const auto k = static_cast<Index>(columns_.terms.size());
        const auto q = static_cast<Index>(columns_.instruments.size());
        const auto used = static_cast<double>(answer_.rows.used);
        design_.rows.resize(static_cast<std::size_t>(m));
        for (std::size_t i = 0; i < design_.rows.size(); ++i) {
            design_.rows[i] = i;
        }
        design_.counts = answer_.rows;
        design_.weightKind =
            question_.weightKind == WeightKind::None ? WeightKind::Frequency : question_.weightKind;
        scale_ = design_.weightKind == WeightKind::Sampling ? used / moments_.weight : 1.0;
        design_.weights = VectorXd::Constant(m, scale_ * moments_.weight / static_cast<double>(m));
        design_.standFor = design_.weightKind == WeightKind::Frequency ? moments_.weight : used;
        const VectorXd level = level_.size() > 0 ? level_ : VectorXd::Zero(p);
        rows.rowwise() += level.transpose();
        const Index first = centred_ ? 1 : 0;
        design_.X = MatrixXd::Ones(m, k + first);
        design_.X.rightCols(k) = rows.leftCols(k);
        design_.Z = rows.middleCols(k, q);
        design_.y = rows.col(p - 1);
        facts_ = Frame::ofLeft(frame_.left(), factsTable(m), static_cast<double>(used),
                               entriesAsRead(study_.variables), study_.derived, {});
        if (!columns_.held.empty()) {
            holdFixed(m);
        }
    }

    void holdFixed(Index m) {
        auto before = std::make_shared<Design>(design_);
        // The outcome before its groups' levels were taken out: of it the total spread is asked.
        const double now =
            (design_.y.array() - level_(level_.size() - 1)).square().sum() * design_.weights(0);
        const double times = now > 0.0 ? std::sqrt(scale_ * wholeSquares_ / now) : 1.0;
        before->y =
            (design_.y.array() - level_(level_.size() - 1)) * times + level_(level_.size() - 1);
        design_.before = before;
        SweptGrouping held;
        held.name = rows_.partOf(question_.fixedEffects.front()).name;
        held.of = std::vector<std::int32_t>(static_cast<std::size_t>(m), 0);
        held.count = static_cast<std::int32_t>(groups_);
        design_.effects = {held};
        design_.effectsRank = groups_ - 1.0;
        design_.swept = true;
    }

    /// What is left of each row at the estimate, in columns that are taken about their means.
    [[nodiscard]] std::string residualSql(const Fit& fit) const {
        std::string out = about("y", joint().size() - 1);
        for (const Coefficient& c : fit.coefficients) {
            const Index j = c.column - (centred_ ? 1 : 0);
            if (j >= 0) {
                out += " - " + sqlNumber(c.estimate) + " * " +
                       about(fmt::format("x{}", j), static_cast<std::size_t>(j));
            }
        }
        return "(" + out + ")";
    }

    [[nodiscard]] std::string about(const std::string& column, std::size_t place) const {
        const double mean = moments_.mean(static_cast<Index>(place));
        return centred_ && mean != 0.0 ? "(" + column + " - " + sqlNumber(mean) + ")" : column;
    }

    /// The rows with what is left of each as “e”.
    [[nodiscard]] std::string withResiduals(const Fit& fit) const {
        return workedOut("*, " + residualSql(fit) + " as e", rowsSql_, "rests");
    }

    [[nodiscard]] LeftBasis basisOf(const Fit& fit) const {
        LeftBasis out;
        const auto& kept = fit.solution.kept;
        const Index shift = centred_ ? 1 : 0;
        out.from = withResiduals(fit);
        out.plainFrom = rowsSql_;
        out.square = "power(" + residualSql(fit) + ", 2)";
        out.between = [&fit](const MatrixXd& meat) { return sandwichOf(fit, meat); };
        if (!isTwoStage(question_)) {
            out.toKept = MatrixXd::Identity(static_cast<Index>(kept.size()),
                                            static_cast<Index>(kept.size()));
            for (const Index column : kept) {
                const auto j = static_cast<std::size_t>(column - shift);
                out.columns.push_back(column < shift ? "1" : about(fmt::format("x{}", j), j));
            }
            return out;
        }
        project(out, fit);
        return out;
    }

    /// Two-stage: what the instruments foretell of the terms, by the products that were asked for.
    void project(LeftBasis& out, const Fit& fit) const {
        const InstrumentParts& parts = *fit.instrumented->parts;
        const Index shift = centred_ ? 1 : 0;
        const auto k = static_cast<Index>(columns_.terms.size());
        std::vector<Index> places;  // Among the joint columns; −1: the constant.
        for (const Index column : parts.exogenous) {
            places.push_back(column - shift);
        }
        for (const Index column : parts.excluded) {
            places.push_back(k + column);
        }
        std::vector<Index> varying;
        for (const Index place : places) {
            if (place < 0) {
                out.columns.emplace_back("1");
                continue;
            }
            const auto at = static_cast<std::size_t>(place);
            out.columns.push_back(about(joint()[at], at));
            varying.push_back(place);
        }
        // About the means beside a constant, else about zero.
        const MatrixXd all =
            centred_ ? moments_.spread
                     : MatrixXd(moments_.spread + moments_.mean * moments_.mean.transpose());
        const MatrixXd S = all(varying, varying);
        const VectorXd d = S.diagonal().cwiseSqrt().cwiseInverse();
        const Eigen::LDLT<MatrixXd> solver(d.asDiagonal() * S * d.asDiagonal());
        out.toKept = MatrixXd::Zero(static_cast<Index>(places.size()),
                                    static_cast<Index>(fit.solution.kept.size()));
        for (std::size_t c = 0; c < fit.solution.kept.size(); ++c) {
            const Index column = fit.solution.kept[c] - shift;
            VectorXd by = VectorXd::Zero(static_cast<Index>(varying.size()));
            if (column >= 0) {
                const VectorXd with = all(varying, std::vector<Index>{column});
                by = d.asDiagonal() * solver.solve(d.asDiagonal() * with);
            }
            Index next = 0;
            for (std::size_t b = 0; b < places.size(); ++b) {
                out.toKept(static_cast<Index>(b), static_cast<Index>(c)) =
                    places[b] < 0 ? (column < 0 ? 1.0 : 0.0) : by(next++);
            }
        }
    }

    /// The errors that were asked for, by one more look at the rows.
    Result<Covariance> errorsOf(const Fit& fit, const LeftBasis& basis) {
        LeftScores scores;
        scores.rows = rowsSql_;
        scores.weights = question_.weightKind;
        scores.scale = scale_;
        scores.clusterings = columns_.clusters.size();
        scores.held = columns_.held.empty() ? std::nullopt : std::optional(groups_);
        auto found = leftCovariance(rows_, question_.errors, scores, fit, basis);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        for (const LeftClusters& one : found->clusters) {
            noteNesting(one);
        }
        return std::move(found->covariance);
    }

    /// Whether the groups held fixed lie within the clusters, as the design tells it.
    void noteNesting(const LeftClusters& one) {
        std::vector<std::int32_t> ids(design_.rows.size(), 0);
        if (!one.heldWithin) {
            ids.back() = 1;
        }
        design_.clusters.push_back(std::move(ids));
        design_.clusterCounts.push_back(one.count);
    }

    /// By likelihood: its own bread, and rests that are the scores by the index.
    Result<Fit> likelihoodFit() {
        auto kept = independentColumns(design_.X, design_.columns, centred_, making_.job);
        if (!kept) {
            return tl::make_unexpected(kept.error());
        }
        const Index shift = centred_ ? 1 : 0;
        const auto k = static_cast<Index>(kept->kept.size());
        VectorXd mean = VectorXd::Zero(k);
        VectorXd size = VectorXd::Ones(k);
        LeftIndex index{familyOf(question_.method),
                        {},
                        "y",
                        weightName(),
                        rowsSql_,
                        moments_.mean(moments_.mean.size() - 1),
                        moments_.weight};
        for (Index c = 0; c < k; ++c) {
            const Index j = kept->kept[static_cast<std::size_t>(c)] - shift;
            if (j < 0) {
                index.columns.emplace_back("1");
                continue;
            }
            mean(c) = centred_ ? moments_.mean(j) : 0.0;
            size(c) = std::sqrt(moments_.spread(j, j) +
                                (centred_ ? 0.0 : moments_.mean(j) * moments_.mean(j)));
            index.columns.push_back("(" +
                                    about(fmt::format("x{}", j), static_cast<std::size_t>(j)) +
                                    " * " + sqlNumber(1.0 / size(c)) + ")");
        }
        auto found = maximiseLeft(rows_, index);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        // Coefficients of x from those of (x − mean)/size: the constant takes up the means.
        MatrixXd back = size.cwiseInverse().asDiagonal();
        if (centred_ && k > 0 && kept->kept.front() == 0) {
            back.row(0) -= mean.cwiseQuotient(size).transpose();
        }
        return toldLikelihood(*std::move(kept), index, *found, back);
    }

    Result<Fit> toldLikelihood(KeptColumns kept, const LeftIndex& index, const LeftMaximum& found,
                               const MatrixXd& back) {
        const Index m = design_.y.size();
        Maximum maximum;
        maximum.theta = back * found.theta;
        maximum.factor =
            back * MatrixXd(Eigen::LLT<MatrixXd>(MatrixXd(found.inverse / scale_)).matrixL());
        maximum.index = MatrixXd::Zero(m, 1);
        maximum.logLikelihood = scale_ * found.logLikelihood;
        maximum.iterations = found.iterations;
        maximum.gradient = scale_ * found.gradient;
        auto told = std::make_shared<LikelihoodFit>(*index.family);
        told->nullLogLikelihood =
            centred_ ? scale_ * found.nullLogLikelihood : LikelihoodFit::kNone;
        told->deviance = scale_ * found.deviance;
        told->pearson = scale_ * found.pearson;
        LikelihoodInput input{
            design_, std::move(maximum), kept.kept, std::move(kept.dropped), {}, {}, {},
            told,    VectorXd::Zero(m)};
        auto fit = fitOfLikelihood(std::move(input), ErrorSpec{}, study_.alpha, making_.job);
        if (!fit || question_.errors.kind == "classical") {
            return fit;
        }
        LeftBasis basis;
        basis.columns = index.columns;
        basis.toKept = MatrixXd::Identity(back.rows(), back.rows());
        basis.from = basis.plainFrom = found.from;
        basis.square = "e * e";
        const MatrixXd bread = back * (found.inverse / scale_);
        basis.between = [bread](const MatrixXd& meat) {
            return MatrixXd(bread * meat * bread.transpose());
        };
        auto covariance = errorsOf(*fit, basis);
        if (!covariance) {
            return tl::make_unexpected(covariance.error());
        }
        covariance->df = std::numeric_limits<double>::infinity();
        replaceCovariance(*fit, design_, *std::move(covariance), study_.alpha);
        return fit;
    }

    Result<Fit> estimate(const Estimator& estimator) {
        standIn();
        if (isByLikelihood(question_)) {
            return likelihoodFit();
        }
        auto fit =
            estimator.estimate(design_, question_.settings, ErrorSpec{}, study_.alpha, making_.job);
        if (!fit) {
            return fit;
        }
        const bool classical = question_.errors.kind == "classical";
        if (!classical && !fit->exact) {
            const LeftBasis basis = basisOf(*fit);
            auto covariance = errorsOf(*fit, basis);
            if (!covariance) {
                return tl::make_unexpected(covariance.error());
            }
            fit = isTwoStage(question_) ? replaced(*std::move(fit), *std::move(covariance))
                                        : again(*fit, *std::move(covariance));
            if (!fit) {
                return fit;
            }
        }
        if (isTwoStage(question_)) {
            describeInstruments(*fit, design_, ErrorSpec{}, study_.alpha, making_.job);
        }
        if (auto done = weighLikelihood(*fit); !done) {
            return tl::make_unexpected(done.error());
        }
        return fit;
    }

    Result<Fit> replaced(Fit fit, Covariance covariance) const {
        replaceCovariance(fit, design_, std::move(covariance), study_.alpha);
        fit.notes.emplace_back(
            "First stages, and least squares beside, are told under one spread: other errors of "
            "theirs need the rows.");
        return fit;
    }

    /// The same solution with the covariance that was asked for.
    Result<Fit> again(const Fit& fit, Covariance covariance) const {
        GivenSolution given{design_.X, fit.solution, std::move(covariance)};
        given.solution.residuals = fit.residuals;
        given.likelihood = true;
        return fitGiven(design_, std::move(given), question_.errors, study_.alpha, making_.job);
    }

    /// With weights of precision the likelihood has their logarithms, row by row.
    Result<void> weighLikelihood(Fit& fit) {
        FitStatistics& s = fit.statistics;
        if (design_.weightKind != WeightKind::Precision || !s.logLikelihood) {
            return {};
        }
        const auto logs = rows_.sumsOfRows({"sum(ln(w))"}, named(source_));
        if (!logs) {
            return tl::make_unexpected(logs.error());
        }
        const double wrong = 0.5 * design_.weights.array().log().sum();
        const double more = 0.5 * logs->front() - wrong;
        *s.logLikelihood += more;
        *s.aic -= 2.0 * more;
        *s.bic -= 2.0 * more;
        return {};
    }

    /// Everything beside the fit that needs no rows.
    Result<void> tell(Fit made) {
        const auto design = std::make_shared<const Design>(design_);
        const auto fit = std::make_shared<const Fit>(std::move(made));
        answerRequests(answer_, study_, facts_, *design, *fit, making_.job);
        if (auto done = carryBack(*fit); !done) {
            return done;
        }
        answer_.design = design;
        answer_.fit = fit;
        CheckRun run{facts_, question_, *design, *fit, answer_.alpha};
        const Estimated found{*design, *fit, question_.errors};
        answer_.checks = checksOf(facts_, answer_, found, run, Making(making_.job));
        checkRests(*design, *fit);
        return making_.job.stopped() ? Result<void>(stoppedWork()) : Result<void>();
    }

    /// Checks of residuals that sums can answer, in their places.
    void checkRests(const Design& design, const Fit& fit) {
        const bool plain = question_.byLeastSquares() && columns_.held.empty() &&
                           question_.weightKind == WeightKind::None && !fit.exact && centred_;
        if (!plain) {
            return;
        }
        LeftRests rests;
        rests.from = withResiduals(fit);
        rests.rows = fit.n;
        const std::string y = about("y", joint().size() - 1);
        rests.outcome = y;
        rests.fitted = "(" + y + " - e)";
        for (std::size_t b = 0; b < columns_.beside.size(); ++b) {
            rests.beside.push_back({columns_.beside[b], fmt::format("b{}", b)});
        }
        for (const Index column : fit.solution.kept) {
            if (column > 0) {
                const auto j = static_cast<std::size_t>(column - 1);
                rests.terms.push_back(about(fmt::format("x{}", j), j));
            }
        }
        std::map<std::string, std::size_t> seen;
        for (CheckResult& check : answer_.checks) {
            CheckRequest request;
            request.id = check.id;
            // One check may be asked several times, each with settings of its own, in order.
            std::size_t turn = seen[check.id]++;
            for (const CheckRequest& asked : question_.checks) {
                if (asked.id == check.id && turn-- == 0) {
                    request = asked;
                    break;
                }
            }
            const CheckInput in{facts_,  question_,     design,     fit,
                                request, answer_.alpha, making_.job};
            if (auto told = checkBySums(rows_, rests, in)) {
                check = *std::move(told);
            }
        }
    }

    /// Predictions of a logarithm: the mean of exp(e) is asked for.
    Result<void> carryBack(const Fit& fit) {
        if (design_.outcomeLogOf.empty() || !answer_.predictions || answer_.predictions->empty()) {
            return {};
        }
        const std::vector<std::string> sums = {"sum(w * exp(e))", "sum(w)"};
        const auto mean = columns_.held.empty() ? rows_.sumsOfRows(sums, withResiduals(fit))
                                                : rows_.sums(sums, withResiduals(fit));
        if (!mean) {
            return tl::make_unexpected(mean.error());
        }
        for (Prediction& one : *answer_.predictions) {
            if (one.original) {
                one.original = carriedBack(one, (*mean)[0] / (*mean)[1]);
            }
        }
        return {};
    }

    Answer& answer_;
    const Study& study_;
    const Frame& frame_;
    const Making& making_;
    const Question question_;
    LeftRows rows_;
    LeftColumns columns_;
    std::string source_;   ///< The rows used, as they are.
    std::string rowsSql_;  ///< The rows that sums are of.
    std::optional<Frame> template_;
    Frame facts_ = Frame::make({}, {}, {}, {}, {});
    Design design_;
    LeftMoments moments_;
    bool centred_ = true;
    double scale_ = 1.0;
    double groups_ = 0.0;
    double wholeSquares_ = 0.0;
    VectorXd level_;  ///< Means of the joint columns where groups are held fixed; else empty.

    /// Mean and spread of a variable among the rows used.
    struct CellFacts {
        std::string name;
        double mean = 0.0;
        double sd = 0.0;
    };

    std::vector<CellFacts> asked_;
};

}  // namespace

Refusal needsRowsAtHand(const Frame& frame, const std::string& what) {
    return {ErrorCode::BadSetting,
            what + " needs rows, and they " + frame.left()->words().stay,
            "",
            frame.left()->isOnDisk()
                ? std::string("Have the rows read (“rows” is “fetched” in the source), or a part "
                              "of them that fits into memory.")
                : "Fetch the rows, or a sample that anybody draws again alike: query “" +
                      sampleQuery(frame.left()->table()) + "”.",
            {}};
}

Result<void> explainLeft(Answer& answer, const Study& study, const Frame& frame,
                         const Making& making) {
    LeftExplain work(answer, study, frame, making);
    auto done = work.run();
    answer.asked = std::make_shared<const std::vector<std::string>>(work.statements());
    return done;
}

}  // namespace rapporto
