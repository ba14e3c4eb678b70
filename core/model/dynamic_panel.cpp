#include "core/model/dynamic_panel.h"

#include "core/base/format.h"
#include "core/model/panel.h"
#include "core/model/reweighted.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// A row of an equation: the design’s row, and the one of the moment before in a change.
struct EquationRow {
    Index later = 0;
    Index earlier = -1;  ///< −1: a level.
};

/// Inverse of a covariance of moments on the part that has one, units of the moments aside.
struct Weight {
    MatrixXd matrix;
    int rank = 0;
};

Weight weightOf(const MatrixXd& S) {
    const VectorXd unit =
        S.diagonal().unaryExpr([](double v) { return v > 0.0 ? 1.0 / std::sqrt(v) : 0.0; });
    const MatrixXd scaled = unit.asDiagonal() * S * unit.asDiagonal();
    const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(scaled);
    const double largest = solver.eigenvalues().cwiseAbs().maxCoeff();
    VectorXd inverse = VectorXd::Zero(S.rows());
    Weight out;
    for (Index j = 0; j < S.rows(); ++j) {
        if (solver.eigenvalues()(j) > 1e-10 * largest) {
            inverse(j) = 1.0 / solver.eigenvalues()(j);
            ++out.rank;
        }
    }
    const MatrixXd turned = unit.asDiagonal() * solver.eigenvectors();
    out.matrix = turned * inverse.asDiagonal() * turned.transpose();
    return out;
}

/// The equations of all units and what the moments need of them.
class Moments {
  public:
    Moments(const Design& design, const EstimatorSettings& settings, bool system)
        : design_(design), settings_(settings), system_(system) {}

    Result<void> make() {
        if (auto done = pairRows(); !done) {
            return done;
        }
        std::vector<Index> exogenous;
        for (Index j = 0; j < design_.X.cols(); ++j) {
            const bool served = std::any_of(design_.histories.begin(), design_.histories.end(),
                                            [&](const ColumnHistory& h) { return h.column == j; });
            const auto term = design_.columns[static_cast<std::size_t>(j)].term;
            // Longer lags of the outcome are served by the shortest one’s instruments.
            const bool moved =
                term >= 0 && design_.terms[static_cast<std::size_t>(term)].endogenous;
            if (!served && !moved) {
                exogenous.push_back(j);
            }
        }
        makeColumns(exogenous);
        return {};
    }

    [[nodiscard]] std::size_t changes() const { return changes_; }

    [[nodiscard]] std::size_t levels() const { return rows_.size() - changes_; }

    [[nodiscard]] const MatrixXd& Z() const { return Z_; }

    [[nodiscard]] const std::vector<bool>& ofLevels() const { return ofLevels_; }

    [[nodiscard]] const std::vector<EquationRow>& rows() const { return rows_; }

    [[nodiscard]] const std::vector<std::vector<Index>>& unitRows() const { return unitRows_; }

    /// A column of the design as the equations have it.
    [[nodiscard]] VectorXd transformed(const VectorXd& x) const {
        VectorXd out(static_cast<Index>(rows_.size()));
        for (std::size_t i = 0; i < rows_.size(); ++i) {
            const EquationRow& row = rows_[i];
            out(static_cast<Index>(i)) = x(row.later) - (row.earlier < 0 ? 0.0 : x(row.earlier));
        }
        return out;
    }

    /// Σ Z'HZ, H the covariance of a unit’s transformed errors under one spread of one.
    [[nodiscard]] MatrixXd underOneSpread() const {
        MatrixXd S = MatrixXd::Zero(Z_.cols(), Z_.cols());
        for (const auto& own : unitRows_) {
            const auto m = static_cast<Index>(own.size());
            MatrixXd H(m, m);
            for (Index a = 0; a < m; ++a) {
                for (Index b = 0; b < m; ++b) {
                    H(a, b) =
                        shared(rows_[static_cast<std::size_t>(own[static_cast<std::size_t>(a)])],
                               rows_[static_cast<std::size_t>(own[static_cast<std::size_t>(b)])]);
                }
            }
            const MatrixXd Zi = Z_(own, Eigen::all);
            S.noalias() += Zi.transpose() * H * Zi;
        }
        return S;
    }

    /// Z'e of each unit, a row each.
    [[nodiscard]] MatrixXd byUnit(const VectorXd& e) const {
        MatrixXd out = MatrixXd::Zero(static_cast<Index>(unitRows_.size()), Z_.cols());
        for (std::size_t u = 0; u < unitRows_.size(); ++u) {
            for (const Index row : unitRows_[u]) {
                out.row(static_cast<Index>(u)) += e(row) * Z_.row(row);
            }
        }
        return out;
    }

    /// The change so many moments before each change of the unit, zero where there is none.
    [[nodiscard]] VectorXd laggedChange(const VectorXd& e, int order) const {
        VectorXd out = VectorXd::Zero(e.size());
        for (const auto& own : unitRows_) {
            std::map<std::int64_t, Index> at;
            for (const Index row : own) {
                if (rows_[static_cast<std::size_t>(row)].earlier >= 0) {
                    at[momentOf(row)] = row;
                }
            }
            for (const auto& [moment, row] : at) {
                if (const auto found = at.find(moment - order); found != at.end()) {
                    out(row) = e(found->second);
                }
            }
        }
        return out;
    }

  private:
    [[nodiscard]] std::int64_t momentOf(Index row) const {
        return design_
            .unitMoments[static_cast<std::size_t>(rows_[static_cast<std::size_t>(row)].later)];
    }

    static double shared(const EquationRow& a, const EquationRow& b) {
        double sum = 0.0;
        for (const auto& [x, xSign] : {std::pair(a.later, 1.0), std::pair(a.earlier, -1.0)}) {
            for (const auto& [y, ySign] : {std::pair(b.later, 1.0), std::pair(b.earlier, -1.0)}) {
                sum += x >= 0 && x == y ? xSign * ySign : 0.0;
            }
        }
        return sum;
    }

    Result<void> pairRows() {
        std::unordered_map<std::int64_t, Index> at;
        for (std::size_t i = 0; i < design_.units.size(); ++i) {
            if (!at.emplace(historyKey(design_.units[i], design_.unitMoments[i]),
                            static_cast<Index>(i))
                     .second) {
                return refuse(ErrorCode::BadSetting, "a unit has two rows at one moment", "method",
                              "See What a row is in Data.");
            }
        }
        for (std::size_t i = 0; i < design_.units.size(); ++i) {
            const auto found = at.find(historyKey(design_.units[i], design_.unitMoments[i] - 1));
            if (found != at.end()) {
                rows_.push_back({static_cast<Index>(i), found->second});
            }
        }
        changes_ = rows_.size();
        if (changes_ == 0) {
            return refuse(ErrorCode::TooFewRows,
                          "no unit has two complete moments in a row, so nothing changes", "method",
                          "A lagged outcome needs three moments of a unit at least.");
        }
        if (system_) {
            for (std::size_t i = 0; i < design_.units.size(); ++i) {
                rows_.push_back({static_cast<Index>(i), -1});
            }
        }
        std::vector<std::vector<Index>> all(static_cast<std::size_t>(design_.unitCount));
        for (std::size_t i = 0; i < rows_.size(); ++i) {
            all[static_cast<std::size_t>(design_.units[static_cast<std::size_t>(rows_[i].later)])]
                .push_back(static_cast<Index>(i));
        }
        std::erase_if(all, [](const auto& own) { return own.empty(); });
        unitRows_ = std::move(all);
        return {};
    }

    void makeColumns(const std::vector<Index>& exogenous) {
        std::vector<VectorXd> columns;
        const auto add = [&](VectorXd column, bool level) {
            if (column.cwiseAbs().maxCoeff() > 0.0) {
                columns.push_back(std::move(column));
                ofLevels_.push_back(level);
            }
        };
        for (const Index j : exogenous) {
            // The constant says nothing of a change.
            if (!(design_.hasConstant && j == 0) || system_) {
                add(transformed(design_.X.col(j)), false);
            }
        }
        for (Index j = 0; j < design_.Z.cols(); ++j) {
            add(transformed(design_.Z.col(j)), false);
        }
        for (const ColumnHistory& history : design_.histories) {
            for (auto& column : earlierOnes(history)) {
                add(std::move(column), false);
            }
        }
        if (system_) {
            for (const ColumnHistory& history : design_.histories) {
                for (auto& column : changesBefore(history)) {
                    add(std::move(column), true);
                }
            }
        }
        Z_.resize(static_cast<Index>(rows_.size()), static_cast<Index>(columns.size()));
        for (std::size_t j = 0; j < columns.size(); ++j) {
            Z_.col(static_cast<Index>(j)) = columns[j];
        }
    }

    [[nodiscard]] std::optional<double> past(const ColumnHistory& h, Index row,
                                             std::int64_t by) const {
        const auto at = static_cast<std::size_t>(rows_[static_cast<std::size_t>(row)].later);
        const auto found = h.at.find(historyKey(design_.units[at], design_.unitMoments[at] - by));
        return found == h.at.end() ? std::nullopt : std::optional(found->second);
    }

    [[nodiscard]] std::pair<std::int64_t, std::int64_t> span(const ColumnHistory& h) const {
        std::int64_t first = std::numeric_limits<std::int64_t>::max();
        for (const auto& [key, value] : h.at) {
            first = std::min(first, key >> 31);
        }
        const auto last = *std::max_element(design_.unitMoments.begin(), design_.unitMoments.end());
        return {first, last};
    }

    /// Columns of earlier values for the changes: one for a moment and a distance, or a distance.
    [[nodiscard]] std::vector<VectorXd> earlierOnes(const ColumnHistory& h) const {
        const int first = h.lagged ? 1 : 2;
        const auto [begin, end] = span(h);
        const auto furthest =
            settings_.depth > 0 ? first + settings_.depth - 1 : static_cast<int>(end - begin);
        std::map<std::pair<std::int64_t, int>, VectorXd> found;
        for (std::size_t i = 0; i < changes_; ++i) {
            const auto row = static_cast<Index>(i);
            for (int by = first; by <= furthest; ++by) {
                if (const auto value = past(h, row, by)) {
                    const std::int64_t moment = settings_.collapsed ? 0 : momentOf(row);
                    auto& column =
                        found
                            .try_emplace({moment, by},
                                         VectorXd::Zero(static_cast<Index>(rows_.size())))
                            .first->second;
                    column(row) = *value;
                }
            }
        }
        std::vector<VectorXd> out;
        for (auto& [key, column] : found) {
            out.push_back(std::move(column));
        }
        return out;
    }

    /// Columns of changes for the levels: one for a moment, or one in all.
    [[nodiscard]] std::vector<VectorXd> changesBefore(const ColumnHistory& h) const {
        const int by = h.lagged ? 0 : 1;
        std::map<std::int64_t, VectorXd> found;
        for (std::size_t i = changes_; i < rows_.size(); ++i) {
            const auto row = static_cast<Index>(i);
            const auto later = past(h, row, by);
            const auto earlier = past(h, row, by + 1);
            if (later && earlier) {
                const std::int64_t moment = settings_.collapsed ? 0 : momentOf(row);
                auto& column =
                    found.try_emplace(moment, VectorXd::Zero(static_cast<Index>(rows_.size())))
                        .first->second;
                column(row) = *later - *earlier;
            }
        }
        std::vector<VectorXd> out;
        for (auto& [key, column] : found) {
            out.push_back(std::move(column));
        }
        return out;
    }

    const Design& design_;
    const EstimatorSettings& settings_;
    bool system_;
    std::vector<EquationRow> rows_;  ///< Changes first.
    std::size_t changes_ = 0;
    std::vector<std::vector<Index>> unitRows_;  ///< Of units that have any.
    MatrixXd Z_;
    std::vector<bool> ofLevels_;  ///< Columns that serve the levels alone.
};

/// A step’s estimate with its weight.
struct Step {
    Weight weight;
    MatrixXd bread;  ///< (X'ZWZ'X)⁻¹.
    VectorXd b;
    VectorXd e;
};

Result<Step> solveStep(Weight weight, const MatrixXd& ZX, const VectorXd& Zy, const MatrixXd& X,
                       const VectorXd& y) {
    Step out;
    out.weight = std::move(weight);
    const MatrixXd A = ZX.transpose() * out.weight.matrix * ZX;
    const VectorXd unit = A.diagonal().cwiseMax(0.0).cwiseSqrt();
    const auto weak = [] {
        return refuse(ErrorCode::RankDeficient,
                      "earlier moments do not tell the terms apart: there are fewer independent "
                      "instruments than coefficients",
                      "method", "Take terms out, or let more earlier moments serve.");
    };
    if (unit.minCoeff() <= 0.0) {
        return weak();
    }
    const VectorXd inverse = unit.cwiseInverse();
    const MatrixXd scaled = inverse.asDiagonal() * A * inverse.asDiagonal();
    const Eigen::LDLT<MatrixXd> ldlt(scaled);
    if (ldlt.info() != Eigen::Success ||
        ldlt.vectorD().minCoeff() <= 1e-13 * ldlt.vectorD().maxCoeff()) {
        return weak();
    }
    out.bread = inverse.asDiagonal() * ldlt.solve(MatrixXd::Identity(A.rows(), A.cols())) *
                inverse.asDiagonal();
    out.bread = (0.5 * (out.bread + out.bread.transpose())).eval();
    out.b = out.bread * (ZX.transpose() * (out.weight.matrix * Zy));
    out.e = y - X * out.b;
    return out;
}

double form(const MatrixXd& W, const VectorXd& g) { return g.dot(W * g); }

/// Whether errors of a unit may go together under this kind of errors; nothing where it is refused.
std::optional<bool> togetherByUnit(const Design& design, const ErrorSpec& errors) {
    if (errors.kind == "classical") {
        return false;
    }
    if (errors.kind == "robust") {
        return true;
    }
    if (errors.kind == "clustered" && design.clusters.size() == 1) {
        const auto& clusters = design.clusters.front();
        const SweptGrouping units{"", design.units, design.unitCount};
        const SweptGrouping groups{"", clusters, design.clusterCounts.front()};
        if (isNested(units, clusters) && isNested(groups, design.units)) {
            return true;
        }
    }
    return std::nullopt;
}

class DynamicFitter {
  public:
    DynamicFitter(const Design& design, const EstimatorSettings& settings, bool system,
                  bool together)
        : design_(design),
          settings_(settings),
          system_(system),
          together_(together),
          moments_(design, settings, system) {}

    Result<Fit> run(const ErrorSpec& errors, double alpha, const Job& job) {
        if (auto done = moments_.make(); !done) {
            return tl::make_unexpected(done.error());
        }
        Design made = reported();
        auto solution = solveLinear({made.X, made.y, made.weights, made.hasConstant}, false, job);
        if (!solution) {
            return tl::make_unexpected(solution.error());
        }
        if (solution->kept.empty() || moments_.Z().cols() == 0) {
            return refuse(ErrorCode::NoTerms,
                          "no term changes within units where an earlier moment serves it", "terms",
                          "Add a term that varies within units, or widen the sample.");
        }
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped");
        }
        MatrixXd X(static_cast<Index>(moments_.rows().size()),
                   static_cast<Index>(solution->kept.size()));
        // Columns that the differences lose stand at the same place in both designs but for the
        // constant.
        const Index shift = design_.X.cols() - made.X.cols();
        for (std::size_t j = 0; j < solution->kept.size(); ++j) {
            X.col(static_cast<Index>(j)) =
                moments_.transformed(design_.X.col(solution->kept[j] + shift));
        }
        const VectorXd y = moments_.transformed(design_.y);
        auto told = std::make_shared<DynamicFit>();
        auto covariance = estimate(X, y, *told);
        if (!covariance) {
            return tl::make_unexpected(covariance.error());
        }
        solution->coefficients = last_.b;
        solution->residuals = made.y - made.X(Eigen::all, solution->kept) * last_.b;
        made.before = std::make_shared<const Design>(design_);
        auto fit = fitGiven(made,
                            {made.X, *std::move(solution), *std::move(covariance),
                             std::numeric_limits<double>::infinity()},
                            errors, alpha, job);
        if (fit) {
            PanelFit panel = panelFitOf(design_);
            panel.pairs = moments_.changes();
            fit->panel = std::make_shared<const PanelFit>(std::move(panel));
            say(*fit, *told);
            fit->dynamic = std::move(told);
            fit->linearised = std::make_shared<const Design>(std::move(made));
        }
        return fit;
    }

  private:
    /// The rows whose residuals are shown: levels of a system, else changes.
    [[nodiscard]] Design reported() const {
        if (system_) {
            return design_;
        }
        std::vector<Index> later;
        for (const EquationRow& row : moments_.rows()) {
            later.push_back(row.later);
        }
        Design out = withRows(design_, later);
        out.y = moments_.transformed(design_.y);
        for (Index j = 0; j < out.X.cols(); ++j) {
            out.X.col(j) = moments_.transformed(design_.X.col(j));
        }
        out.Z.resize(out.y.size(), 0);
        if (out.hasConstant) {
            out.hasConstant = false;
            out.X = MatrixXd(out.X.rightCols(out.X.cols() - 1));
            out.columns.erase(out.columns.begin());
            for (DesignTerm& term : out.terms) {
                for (Index& column : term.columns) {
                    --column;
                }
            }
        }
        return out;
    }

    Result<Covariance> estimate(const MatrixXd& X, const VectorXd& y, DynamicFit& told) {
        const MatrixXd& Z = moments_.Z();
        const MatrixXd ZX = Z.transpose() * X;
        const VectorXd Zy = Z.transpose() * y;
        auto first = solveStep(weightOf(moments_.underOneSpread()), ZX, Zy, X, y);
        if (!first) {
            return tl::make_unexpected(first.error());
        }
        const auto changes = static_cast<Index>(moments_.changes());
        const auto k = static_cast<double>(X.cols());
        const double sigma2 =
            first->e.head(changes).squaredNorm() / (2.0 * (static_cast<double>(changes) - k));
        if (!(sigma2 > 0.0)) {
            return refuse(ErrorCode::TooFewRows, "there are as many coefficients as changes",
                          "sample", "Take terms out or widen the sample.");
        }
        const MatrixXd byUnit = moments_.byUnit(first->e);
        const MatrixXd S = byUnit.transpose() * byUnit;
        const MatrixXd lead = first->bread * ZX.transpose() * first->weight.matrix;
        const MatrixXd robust = lead * S * lead.transpose();
        auto second = solveStep(weightOf(S), ZX, Zy, X, y);
        if (!second) {
            return tl::make_unexpected(second.error());
        }
        told.system = system_;
        told.steps = settings_.steps == "one" ? 1 : 2;
        told.instruments = static_cast<int>(Z.cols());
        told.rank = second->weight.rank;
        told.coefficients = static_cast<int>(X.cols());
        told.units = static_cast<int>(moments_.unitRows().size());
        told.changes = moments_.changes();
        told.levels = moments_.levels();
        told.sargan = form(first->weight.matrix, Z.transpose() * first->e) / sigma2;
        told.hansen = form(second->weight.matrix, Z.transpose() * second->e);
        if (system_) {
            fillLevels(S, ZX, Zy, X, y, told);
        }
        Covariance out;
        MatrixXd allowing = robust;
        if (told.steps == 2) {
            allowing = corrected(X, *first, *second, ZX, byUnit, robust);
        }
        out.matrix = together_         ? allowing
                     : told.steps == 1 ? MatrixXd(sigma2 * first->bread)
                                       : second->bread;
        out.df = std::numeric_limits<double>::infinity();
        out.note = plural(static_cast<std::size_t>(told.units), "unit", "units");
        last_ = told.steps == 1 ? *std::move(first) : *std::move(second);
        fillSerial(X, ZX, allowing, told);
        return out;
    }

    /// Windmeijer’s correction for the weight’s own error.
    [[nodiscard]] MatrixXd corrected(const MatrixXd& X, const Step& first, const Step& second,
                                     const MatrixXd& ZX, const MatrixXd& byUnit,
                                     const MatrixXd& robust) const {
        const VectorXd g = second.weight.matrix * (moments_.Z().transpose() * second.e);
        const MatrixXd lead = second.bread * ZX.transpose() * second.weight.matrix;
        MatrixXd D(X.cols(), X.cols());
        for (Index k = 0; k < X.cols(); ++k) {
            const MatrixXd own = moments_.byUnit(X.col(k));
            // −∂S/∂b_k = Σ Z'(x e' + e x')Z, times what the second step leaves.
            const VectorXd turned = own.transpose() * (byUnit * g) + byUnit.transpose() * (own * g);
            D.col(k) = lead * turned;
        }
        static_cast<void>(first);
        MatrixXd V = second.bread + D * second.bread + second.bread * D.transpose() +
                     D * robust * D.transpose();
        return 0.5 * (V + V.transpose());
    }

    /// What J gains by the instruments that serve the levels alone, the others’ part of S kept.
    void fillLevels(const MatrixXd& S, const MatrixXd& ZX, const VectorXd& Zy, const MatrixXd& X,
                    const VectorXd& y, DynamicFit& told) const {
        std::vector<Index> others;
        for (std::size_t j = 0; j < moments_.ofLevels().size(); ++j) {
            if (!moments_.ofLevels()[j]) {
                others.push_back(static_cast<Index>(j));
            }
        }
        const auto part =
            solveStep(weightOf(S(others, others)), ZX(others, Eigen::all), Zy(others), X, y);
        if (part && part->weight.rank >= told.coefficients) {
            const VectorXd g = (moments_.Z().transpose() * part->e)(others);
            told.levelsJ = told.hansen - form(part->weight.matrix, g);
            told.levelsDf = told.rank - part->weight.rank;
        }
    }

    void fillSerial(const MatrixXd& X, const MatrixXd& ZX, const MatrixXd& V,
                    DynamicFit& told) const {
        const MatrixXd byUnit = moments_.byUnit(last_.e);
        VectorXd changesOnly = last_.e;
        changesOnly.tail(changesOnly.size() - static_cast<Index>(told.changes)).setZero();
        for (int order = 1; order <= 3; ++order) {
            DynamicFit::Serial one;
            one.order = order;
            const VectorXd w = moments_.laggedChange(changesOnly, order);
            VectorXd own(static_cast<Index>(moments_.unitRows().size()));
            for (std::size_t u = 0; u < moments_.unitRows().size(); ++u) {
                double sum = 0.0;
                for (const Index row : moments_.unitRows()[u]) {
                    sum += w(row) * last_.e(row);
                }
                own(static_cast<Index>(u)) = sum;
            }
            const VectorXd wX = X.transpose() * w;
            const double variance =
                own.squaredNorm() -
                2.0 * wX.dot(last_.bread * (ZX.transpose() *
                                            (last_.weight.matrix * (byUnit.transpose() * own)))) +
                wX.dot(V * wX);
            if (w.cwiseAbs().maxCoeff() > 0.0 && variance > 0.0) {
                one.z = own.sum() / std::sqrt(variance);
                one.p = twoSidedP(*one.z, std::nullopt);
            }
            told.serial.push_back(one);
        }
    }

    void say(Fit& fit, const DynamicFit& told) const {
        fit.notes.push_back(
            plural(static_cast<std::size_t>(told.instruments), "instrument", "instruments") +
            " by earlier moments for " +
            plural(static_cast<std::size_t>(told.coefficients), "coefficient", "coefficients") +
            ".");
        if (told.instruments > told.units) {
            fit.notes.emplace_back(
                "There are more instruments than units: the weight fits them too well, Hansen’s J "
                "hardly ever objects, and estimates lean towards least squares. Let fewer earlier "
                "moments serve, or collapse them.");
        }
        if (!together_ && told.steps == 2) {
            fit.notes.emplace_back(
                "Classical errors take the weight of the second step for known and are too small; "
                "robust ones carry the correction.");
        }
    }

    const Design& design_;
    const EstimatorSettings& settings_;
    bool system_;
    bool together_;
    Moments moments_;
    Step last_;
};

Result<Fit> fitDynamic(const Design& design, const EstimatorSettings& settings, bool system,
                       const ErrorSpec& errors, double alpha, const Job& job) {
    if (design.units.empty() || design.unitMoments.empty()) {
        return refuse(ErrorCode::BadSetting, "this method needs rows that are a unit at a moment",
                      "method", "Say in Data what a row is.");
    }
    if (design.weights.size() > 0) {
        return refuse(ErrorCode::NotBuilt,
                      "weights are not built for instruments by earlier moments yet", "weights",
                      "Take the weights out.");
    }
    if (design.histories.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "no term is served by earlier moments: neither a lagged outcome nor an "
                      "endogenous term is in the question",
                      "terms", "Add lag(" + design.outcome + "), or say what is endogenous.");
    }
    const auto together = togetherByUnit(design, errors);
    if (!together) {
        return refuse(ErrorCode::BadSetting,
                      "errors " + errors.shown() + " do not go with instruments by earlier moments",
                      "errors", "Robust errors let all errors of a unit go together.");
    }
    return DynamicFitter(design, settings, system, *together).run(errors, alpha, job);
}

}  // namespace

Result<Fit> fitDifferenceGmm(const Design& design, const EstimatorSettings& settings,
                             const ErrorSpec& errors, double alpha, const Job& job) {
    return fitDynamic(design, settings, false, errors, alpha, job);
}

Result<Fit> fitSystemGmm(const Design& design, const EstimatorSettings& settings,
                         const ErrorSpec& errors, double alpha, const Job& job) {
    // Terms far from zero whose levels serve as instruments of levels are centred: with the
    // constant beside them they span the same, and lose no digits.
    constexpr double kFar = 1e3;  // Of their spread.
    Design centred = design;
    VectorXd moved = VectorXd::Zero(design.X.cols());
    for (Index j = design.hasConstant ? 1 : design.X.cols(); j < design.X.cols(); ++j) {
        const int term = design.columns[static_cast<std::size_t>(j)].term;
        const bool served =
            std::any_of(design.histories.begin(), design.histories.end(),
                        [j](const ColumnHistory& history) { return history.column == j; }) ||
            (term >= 0 && design.terms[static_cast<std::size_t>(term)].endogenous);
        const double mean = design.X.col(j).mean();
        const double spread = std::sqrt((design.X.col(j).array() - mean).square().mean());
        if (!served && std::abs(mean) > kFar * spread) {
            moved(j) = mean;
            centred.X.col(j).array() -= moved(j);
        }
    }
    auto fit = fitDynamic(centred, settings, true, errors, alpha, job);
    if (!fit || moved.isZero(0.0) || fit->coefficients.front().designTerm >= 0) {
        return fit;
    }
    // Back to the constant of the terms as they are.
    MatrixXd T = MatrixXd::Identity(fit->covariance.rows(), fit->covariance.cols());
    for (std::size_t j = 1; j < fit->coefficients.size(); ++j) {
        const double by = moved(fit->coefficients[j].column);
        T(0, static_cast<Index>(j)) = -by;
        fit->coefficients.front().estimate -= by * fit->coefficients[j].estimate;
    }
    fit->solution.coefficients(0) = fit->coefficients.front().estimate;
    replaceCovariance(*fit, design,
                      Covariance{T * fit->covariance * T.transpose(),
                                 std::numeric_limits<double>::infinity(), fit->errorNote},
                      alpha);
    Design shown = *fit->linearised;
    shown.X = design.X;
    shown.before = std::make_shared<const Design>(design);
    fit->linearised = std::make_shared<const Design>(std::move(shown));
    return fit;
}

}  // namespace rapporto
