#include "core/numerics/linear_solution.h"

#include "core/base/parallel.h"
#include "core/numerics/blocked_qr.h"
#include "core/numerics/gram_schmidt.h"
#include "core/numerics/indicator_block.h"
#include "core/numerics/kernels.h"
#include "core/numerics/sparse_factor.h"
#include "core/numerics/square_sums.h"

#include <cblas.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <optional>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using kernels::addByGroup;
using kernels::addMoments;
using kernels::addSquares;
using kernels::centredInto;
using kernels::kBlock;
using kernels::productInto;

constexpr double kSmallWork = 3e6;     // n·k² up to which columns are orthogonalised.
constexpr double kLostDigits = 3e-13;  // Estimated error that calls for wide arithmetic.
constexpr double kAlwaysWide = 3e4;    // n·k² that takes a few milliseconds in wide arithmetic.
constexpr double kDoubleTolerance = 1e-11;
constexpr double kWideTolerance = 1e-13;
constexpr double kLeastPivot = 1e-6;  // Below it one refinement of Cholesky is not enough.
constexpr double kEpsilon = 2.220446049250313e-16;

/// Copies rows into a block of centred, scaled and weighted columns.
class BlockReader {
  public:
    BlockReader(const LinearProblem& problem, const std::vector<Index>& columns, VectorXd centre,
                VectorXd scale, VectorXd rootWeights)
        : problem_(problem),
          columns_(columns),
          centre_(std::move(centre)),
          scale_(std::move(scale)),
          rootWeights_(std::move(rootWeights)) {}

    [[nodiscard]] Index width() const { return static_cast<Index>(columns_.size()); }

    /// Fills `block` (at least kBlock × width); the leading dimension is its rows.
    void read(Index from, Index rows, MatrixXd& block) const {
        for (Index c = 0; c < width(); ++c) {
            const double* x = problem_.X.data(columns_[static_cast<std::size_t>(c)]) + from;
            double* out = &block(0, c);
            const double m = centre_(c);
            const double s = scale_(c);
            centredInto(out, x, rows, m, s);
            weigh(from, rows, out);
        }
    }

    void readOutcome(Index from, Index rows, double centre, double* out) const {
        Eigen::Map<Eigen::ArrayXd>(out, rows) = problem_.y.segment(from, rows).array() - centre;
        weigh(from, rows, out);
    }

    /// Takes the root weights out of a stretch of a vector of all rows.
    void unweigh(Index from, Index rows, VectorXd& all) const {
        if (rootWeights_.size() > 0) {
            all.segment(from, rows).array() /= rootWeights_.segment(from, rows).array();
        }
    }

  private:
    void weigh(Index from, Index rows, double* out) const {
        if (rootWeights_.size() > 0) {
            Eigen::Map<Eigen::ArrayXd>(out, rows) *= rootWeights_.segment(from, rows).array();
        }
    }

    const LinearProblem& problem_;
    const std::vector<Index>& columns_;
    VectorXd centre_;
    VectorXd scale_;
    VectorXd rootWeights_;
};

template <class F>
void forBlocks(RowRange range, F f) {
    for (auto from = static_cast<Index>(range.begin); from < static_cast<Index>(range.end);
         from += kBlock) {
        f(from, std::min(kBlock, static_cast<Index>(range.end) - from));
    }
}

/// Column means: of all rows when few, of the first rows when many (any point in the middle of a
/// column serves, the cross products are centred again afterwards).
VectorXd roughCentres(const LinearProblem& problem) {
    const Index k = problem.X.cols();
    VectorXd centre = VectorXd::Zero(k);
    if (problem.hasConstant) {
        const Index rows = std::min<Index>(problem.X.rows(), 4096);
        for (Index j = 1; j < k; ++j) {
            centre(j) = problem.X.col(j).head(rows).mean();
        }
    }
    return centre;
}

VectorXd rootsOf(const VectorXd& weights) { return weights.cwiseSqrt(); }

void finish(LinearSolution& solution, const LinearProblem& problem) {
    // b = Tβ: slopes as they are, the constant less Σ centre·slope.
    solution.factor = solution.centredFactor;
    if (problem.hasConstant && !solution.kept.empty() && solution.kept.front() == 0) {
        for (Index j = 1; j < solution.factor.rows(); ++j) {
            solution.factor.row(0) -= solution.centre(j) * solution.centredFactor.row(j);
        }
    }
}

LinearSolution fromOrthogonal(const LinearProblem& problem, const VectorXd& centre,
                              const Orthogonalised& found, bool wide) {
    LinearSolution solution;
    solution.kept = found.kept;
    solution.wide = wide;
    const auto k = static_cast<Index>(found.kept.size());
    solution.centre.resize(k);
    for (Index j = 0; j < k; ++j) {
        solution.centre(j) = centre(found.kept[static_cast<std::size_t>(j)]);
    }
    for (std::size_t r = 0; r < found.redundant.size(); ++r) {
        RedundantColumn redundant;
        redundant.column = found.redundant[r];
        // Relations are among centred columns: the constant takes up what centring moved.
        Eigen::VectorXd relation = found.relations[r];
        if (problem.hasConstant && relation.size() > 0) {
            relation(0) += centre(redundant.column);
            for (Index j = 1; j < relation.size(); ++j) {
                relation(0) -= relation(j) * centre(found.kept[static_cast<std::size_t>(j)]);
            }
        }
        for (Index j = 0; j < relation.size(); ++j) {
            if (std::abs(relation(j)) > 1e-9) {
                redundant.of.push_back(found.kept[static_cast<std::size_t>(j)]);
                redundant.by.push_back(relation(j));
            }
        }
        solution.redundant.push_back(std::move(redundant));
    }
    solution.coefficients = found.solution;
    if (problem.hasConstant && k > 0) {
        solution.coefficients(0) = found.constantShift;
    }
    solution.centredFactor = found.inverse;
    solution.residuals = found.residuals;
    solution.residualSquares = found.residualSquares;
    finish(solution, problem);
    return solution;
}

LinearSolution solveSmall(const LinearProblem& problem, const VectorXd& centre, bool mayWiden) {
    const VectorXd roots = rootsOf(problem.weights);
    const auto found =
        mayWiden ? gramSchmidt(problem.X, problem.y, roots, centre, kDoubleTolerance, false)
                 : blockedQr(problem.X, problem.y, roots, centre, kDoubleTolerance);
    const double left = std::sqrt(found.residualSquares);
    const double explained = std::sqrt(std::max(
        found.outcomeLength * found.outcomeLength - found.residualSquares, kEpsilon * kEpsilon));
    const double rho = left / explained;
    const double error = kEpsilon * found.condition * (1.0 + found.condition * rho);
    const double inResiduals = kEpsilon * found.outcomeLength / std::max(left, 1e-300);
    const bool suspicious = found.leastShare < 1e-7 || !found.redundant.empty();
    const double work = static_cast<double>(problem.X.rows() * problem.X.cols() * problem.X.cols());
    // Small problems cost nothing in wide arithmetic, and estimates far below their own standard
    // error keep their digits too.
    if (mayWiden &&
        (work <= kAlwaysWide || error > kLostDigits || inResiduals > kLostDigits || suspicious)) {
        return fromOrthogonal(
            problem, centre, gramSchmidt(problem.X, problem.y, roots, centre, kWideTolerance, true),
            true);
    }
    return fromOrthogonal(problem, centre, found, false);
}

/// Cross products of the centred columns and the outcome, one pass.
struct CrossProducts {
    MatrixXd gram;  // (k+1) × (k+1), upper.
    double outcomeCentre = 0.0;
};

MatrixXd sumOf(const std::vector<MatrixXd>& parts) {
    MatrixXd sum = parts.front();
    for (std::size_t c = 1; c < parts.size(); ++c) {
        sum += parts[c];
    }
    return sum;
}

CrossProducts crossProducts(const LinearProblem& problem, const BlockReader& reader) {
    const Index k = reader.width();
    CrossProducts out;
    out.outcomeCentre =
        problem.hasConstant ? problem.y.head(std::min<Index>(problem.y.size(), 4096)).mean() : 0.0;
    const RowChunks chunks(static_cast<std::size_t>(problem.X.rows()));
    std::vector<MatrixXd> parts(chunks.count(), MatrixXd::Zero(k + 1, k + 1));
    chunks.forEach([&](std::size_t c) {
        MatrixXd block(kBlock, k + 1);
        SquareSums sums(k + 1);
        forBlocks(chunks[c], [&](Index from, Index rows) {
            reader.read(from, rows, block);
            reader.readOutcome(from, rows, out.outcomeCentre, &block(0, k));
            sums.add(block.data(), kBlock, rows, nullptr);
        });
        sums.moveTo(parts[c]);
    });
    out.gram = sumOf(parts).selfadjointView<Eigen::Upper>();
    return out;
}

struct SecondPass {
    VectorXd gradient;
    MatrixXd meat;
    MatrixXd scores;  ///< k × groups.
    double squares = 0.0;
};

/// Sums by group are kept apart in so many stretches of rows: each is as large as all groups.
constexpr std::size_t kGroupSlots = 4;

/// Runs `work(slot, range)` on stretches of rows that hang on their number alone.
void forSlots(std::size_t rows, std::size_t slots,
              const std::function<void(std::size_t, std::size_t, std::size_t)>& work) {
    const RowChunks all(rows);
    const auto run = [&](std::size_t slot) {
        work(slot, all.count() * slot / slots, all.count() * (slot + 1) / slots);
    };
    if (slots == 1) {
        run(0);
        return;
    }
    // As many chunks as there are slots.
    const RowChunks bySlot(slots * 16384);
    bySlot.forEach(run);
}

/// Residuals of the scaled solution, their cross products with the columns, the meat and the sums
/// by group.
SecondPass secondPass(const LinearProblem& problem, const BlockReader& reader, const VectorXd& beta,
                      double outcomeCentre, const WantedSums& wanted, VectorXd& residuals) {
    const Index k = reader.width();
    const RowChunks chunks(static_cast<std::size_t>(problem.X.rows()));
    const bool grouped = !wanted.groups.empty();
    const std::size_t slots = grouped ? std::min(chunks.count(), kGroupSlots) : 0;
    std::vector<MatrixXd> meats(chunks.count(), MatrixXd::Zero(k, k));
    std::vector<VectorXd> gradients(chunks.count(), VectorXd::Zero(k));
    std::vector<double> squares(chunks.count(), 0.0);
    std::vector<MatrixXd> scores(slots, MatrixXd::Zero(k, wanted.groupCount));
    const auto run = [&](std::size_t c, MatrixXd* byGroup) {
        MatrixXd block(kBlock, k);
        SquareSums meat(wanted.meat ? k : 0);
        VectorXd e(kBlock);
        VectorXd ee(kBlock);
        std::vector<double> tile(static_cast<std::size_t>(kernels::kGroupTile * k));
        forBlocks(chunks[c], [&](Index from, Index rows) {
            reader.read(from, rows, block);
            reader.readOutcome(from, rows, outcomeCentre, e.data());
            const int lead = static_cast<int>(kBlock);
            cblas_dgemv(CblasColMajor, CblasNoTrans, static_cast<int>(rows), static_cast<int>(k),
                        -1.0, block.data(), lead, beta.data(), 1, 1.0, e.data(), 1);
            cblas_dgemv(CblasColMajor, CblasTrans, static_cast<int>(rows), static_cast<int>(k), 1.0,
                        block.data(), lead, e.data(), 1, 1.0, gradients[c].data(), 1);
            squares[c] += e.head(rows).squaredNorm();
            if (wanted.meat) {
                productInto(ee.data(), e.data(), e.data(), rows);
                meat.add(block.data(), kBlock, rows, ee.data());
            }
            if (byGroup != nullptr) {
                addByGroup(byGroup->data(), &wanted.groups[static_cast<std::size_t>(from)],
                           block.data(), block.rows(), e.data(), rows, k, tile.data());
            }
            residuals.segment(from, rows) = e.head(rows);
            reader.unweigh(from, rows, residuals);
        });
        if (wanted.meat) {
            meat.moveTo(meats[c]);
        }
    };
    if (grouped) {
        forSlots(static_cast<std::size_t>(problem.X.rows()), slots,
                 [&](std::size_t slot, std::size_t first, std::size_t last) {
                     for (std::size_t c = first; c < last; ++c) {
                         run(c, &scores[slot]);
                     }
                 });
    } else {
        chunks.forEach([&](std::size_t c) { run(c, nullptr); });
    }
    SecondPass out;
    out.meat = sumOf(meats).selfadjointView<Eigen::Upper>();
    if (grouped) {
        out.scores = sumOf(scores);
    }
    out.gradient = VectorXd::Zero(k);
    for (std::size_t c = 0; c < chunks.count(); ++c) {
        out.gradient += gradients[c];
        out.squares += squares[c];
    }
    return out;
}

/// Cholesky of the cross products scaled to a unit diagonal; nothing when a pivot is too small.
bool factorise(const MatrixXd& gram, const VectorXd& unit, Eigen::LLT<MatrixXd>& llt) {
    llt.compute(unit.asDiagonal() * gram * unit.asDiagonal());
    if (llt.info() != Eigen::Success) {
        return false;
    }
    const VectorXd diagonal = MatrixXd(llt.matrixL()).diagonal();
    return diagonal.minCoeff() * diagonal.minCoeff() > kLeastPivot;
}

std::optional<LinearSolution> solveLarge(const LinearProblem& problem, const VectorXd& centre,
                                         const WantedSums& wanted) {
    const Index k = problem.X.cols();
    std::vector<Index> all(static_cast<std::size_t>(k));
    for (Index j = 0; j < k; ++j) {
        all[static_cast<std::size_t>(j)] = j;
    }
    VectorXd scale(k);
    for (Index j = 0; j < k; ++j) {
        const double size =
            (problem.X.col(j).head(std::min<Index>(problem.X.rows(), 4096)).array() - centre(j))
                .abs()
                .maxCoeff();
        scale(j) = std::isnormal(size) ? std::ldexp(1.0, -std::ilogb(size)) : 1.0;
    }
    const BlockReader reader(problem, all, centre, scale, rootsOf(problem.weights));
    const CrossProducts cross = crossProducts(problem, reader);
    const MatrixXd gram = cross.gram.topLeftCorner(k, k);
    const VectorXd unit = gram.diagonal().unaryExpr(
        [](double d) { return d > 0.0 && std::isfinite(d) ? 1.0 / std::sqrt(d) : 0.0; });
    Eigen::LLT<MatrixXd> llt;
    if (unit.minCoeff() <= 0.0 || !factorise(gram, unit, llt)) {
        return std::nullopt;
    }
    const auto solve = [&](const VectorXd& right) -> VectorXd {
        return unit.asDiagonal() * llt.solve(unit.asDiagonal() * right);
    };
    VectorXd beta = solve(cross.gram.col(k).head(k));
    LinearSolution solution;
    solution.kept = all;
    solution.residuals.resize(problem.X.rows());
    SecondPass pass =
        secondPass(problem, reader, beta, cross.outcomeCentre, wanted, solution.residuals);
    const VectorXd correction = solve(pass.gradient);
    beta += correction;
    // A correction that the residuals would show calls for a second look at the rows.
    if (correction.dot(gram * correction) > 1e-22 * pass.squares) {
        pass = secondPass(problem, reader, beta, cross.outcomeCentre, wanted, solution.residuals);
        beta += solve(pass.gradient);
    }
    solution.residualSquares = pass.squares;
    solution.centre = centre;
    const MatrixXd inverseLower = llt.matrixL().solve(MatrixXd::Identity(k, k));
    solution.centredFactor = (scale.cwiseProduct(unit)).asDiagonal() * inverseLower.transpose();
    const VectorXd inverseScale = scale.cwiseInverse();
    if (wanted.meat) {
        solution.meat = inverseScale.asDiagonal() * pass.meat * inverseScale.asDiagonal();
    }
    if (!wanted.groups.empty()) {
        solution.scores = pass.scores.transpose() * inverseScale.asDiagonal();
    }
    solution.coefficients = scale.cwiseProduct(beta);
    if (problem.hasConstant) {
        double shift = cross.outcomeCentre;
        for (Index j = 1; j < k; ++j) {
            shift -= centre(j) * solution.coefficients(j);
        }
        solution.coefficients(0) += shift;
    }
    finish(solution, problem);
    return solution;
}

BlockReader readerOf(const LinearProblem& problem, const LinearSolution& solution) {
    return {problem, solution.kept, solution.centre,
            VectorXd::Ones(static_cast<Index>(solution.kept.size())), VectorXd()};
}

}  // namespace

Result<LinearSolution> solveLinear(const LinearProblem& problem, const WantedSums& wanted,
                                   const Job& job) {
    const double n = static_cast<double>(problem.X.rows());
    const double k = static_cast<double>(problem.X.cols());
    const VectorXd centre = roughCentres(problem);
    if (job.stopped()) {
        return refuse(ErrorCode::Stopped, "the computation was stopped");
    }
    std::optional<LinearSolution> found;
    if (n * k * k > kSmallWork) {
        if (const auto block = indicatorBlock(problem.X)) {
            found = solveWithin(problem, *block, job);
        }
        if (!found) {
            if (auto solution = solveLarge(problem, centre, wanted)) {
                return *std::move(solution);
            }
        }
    }
    LinearSolution solution =
        found ? *std::move(found) : solveSmall(problem, centre, n * k * k <= kSmallWork);
    if (wanted.meat || !wanted.groups.empty()) {
        VectorXd factor = solution.residuals;
        if (problem.weights.size() > 0) {
            factor.array() *= problem.weights.array();
        }
        if (wanted.meat) {
            solution.meat = scaledMeat(problem, solution, factor);
        }
        if (!wanted.groups.empty()) {
            solution.scores =
                groupedScores(problem, solution, factor, wanted.groups, wanted.groupCount);
        }
    }
    return solution;
}

Result<LinearSolution> solveOther(const LinearProblem& problem, const LinearSolution& known,
                                  const Job& job) {
    const Index k = problem.X.cols();
    const double work = static_cast<double>(problem.X.rows()) * static_cast<double>(k * k);
    if (work <= kSmallWork || known.wide || static_cast<Index>(known.kept.size()) != k) {
        return solveLinear(problem, false, job);
    }
    if (job.stopped()) {
        return refuse(ErrorCode::Stopped, "the computation was stopped");
    }
    LinearSolution solution;
    solution.kept = known.kept;
    solution.centre = known.centre;
    solution.centredFactor = known.centredFactor;
    solution.factor = known.factor;
    solution.residuals.resize(problem.X.rows());
    const BlockReader reader(problem, solution.kept, solution.centre, VectorXd::Ones(k),
                             rootsOf(problem.weights));
    const double outcomeCentre =
        problem.hasConstant ? problem.y.head(std::min<Index>(problem.y.size(), 4096)).mean() : 0.0;
    const MatrixXd& C = solution.centredFactor;
    VectorXd beta = VectorXd::Zero(k);
    SecondPass pass;
    // The first look gives the products, the second the residuals; another where they show that the
    // solution moved.
    constexpr int kMostLooks = 4;
    for (int look = 0; look < kMostLooks; ++look) {
        pass = secondPass(problem, reader, beta, outcomeCentre, {}, solution.residuals);
        const VectorXd half = C.transpose() * pass.gradient;
        beta += C * half;
        if (look > 0 && half.squaredNorm() <= 1e-22 * pass.squares) {
            break;
        }
    }
    solution.residualSquares = pass.squares;
    solution.coefficients = beta;
    if (problem.hasConstant) {
        double shift = outcomeCentre;
        for (Index j = 1; j < k; ++j) {
            shift -= solution.centre(j) * beta(j);
        }
        solution.coefficients(0) += shift;
    }
    return solution;
}

VectorXd centredSquares(const LinearProblem& problem, const LinearSolution& solution) {
    const auto k = static_cast<Index>(solution.kept.size());
    const RowChunks chunks(static_cast<std::size_t>(problem.X.rows()));
    std::vector<MatrixXd> parts(chunks.count(), MatrixXd::Zero(2, k));
    std::vector<double> weights(chunks.count(), 0.0);
    const double* w = problem.weights.size() > 0 ? problem.weights.data() : nullptr;
    const bool constant = problem.hasConstant && k > 0 && solution.kept.front() == 0;
    chunks.forEach([&](std::size_t c) {
        const auto from = static_cast<Index>(chunks[c].begin);
        const auto rows = static_cast<Index>(chunks[c].end) - from;
        for (Index j = constant ? 1 : 0; j < k; ++j) {
            addMoments(problem.X.data(solution.kept[static_cast<std::size_t>(j)]) + from,
                       w != nullptr ? w + from : nullptr, rows, solution.centre(j),
                       &parts[c](0, j));
        }
        weights[c] =
            w != nullptr ? problem.weights.segment(from, rows).sum() : static_cast<double>(rows);
    });
    const MatrixXd all = sumOf(parts);
    const double total = std::accumulate(weights.begin(), weights.end(), 0.0);
    return (all.row(1).array() - all.row(0).array().square() / total).max(0.0);
}

double centredSquares(const VectorXd& x, const VectorXd& w) {
    const RowChunks chunks(static_cast<std::size_t>(x.size()));
    const double total = w.size() > 0 ? w.sum() : static_cast<double>(x.size());
    double from = x.size() > 0 ? x(0) : 0.0;
    double moments[2] = {0.0, 0.0};
    for (int look = 0; look < 2; ++look) {
        // The mean first, then the squares about it.
        std::vector<Eigen::Vector2d> parts(chunks.count(), Eigen::Vector2d::Zero());
        chunks.forEach([&](std::size_t c) {
            const auto at = static_cast<Index>(chunks[c].begin);
            addMoments(x.data() + at, w.size() > 0 ? w.data() + at : nullptr,
                       static_cast<Index>(chunks[c].end) - at, from, parts[c].data());
        });
        moments[0] = 0.0;
        moments[1] = 0.0;
        for (const Eigen::Vector2d& part : parts) {
            moments[0] += part(0);
            moments[1] += part(1);
        }
        from += look == 0 ? moments[0] / total : 0.0;
    }
    return moments[1] - moments[0] * moments[0] / total;
}

VectorXd leverages(const LinearProblem& problem, const LinearSolution& solution) {
    if (auto within = leveragesWithin(problem, solution)) {
        return *std::move(within);
    }
    const BlockReader reader = readerOf(problem, solution);
    VectorXd h(problem.X.rows());
    const RowChunks chunks(static_cast<std::size_t>(problem.X.rows()));
    chunks.forEach([&](std::size_t c) {
        const auto k = static_cast<int>(reader.width());
        MatrixXd block(kBlock, k);
        MatrixXd turned(kBlock, k);
        forBlocks(chunks[c], [&](Index from, Index rows) {
            reader.read(from, rows, block);
            cblas_dgemm(CblasColMajor, CblasNoTrans, CblasNoTrans, static_cast<int>(rows), k, k,
                        1.0, block.data(), static_cast<int>(kBlock), solution.centredFactor.data(),
                        k, 0.0, turned.data(), static_cast<int>(kBlock));
            h.segment(from, rows).setZero();
            for (Index j = 0; j < k; ++j) {
                addSquares(&h(from), &turned(0, j), rows);
            }
        });
    });
    if (problem.weights.size() > 0) {
        h.array() *= problem.weights.array();
    }
    return h;
}

MatrixXd scaledMeat(const LinearProblem& problem, const LinearSolution& solution,
                    const VectorXd& factorByRow) {
    if (auto within = scaledMeatWithin(problem, solution, factorByRow)) {
        return *std::move(within);
    }
    const BlockReader reader = readerOf(problem, solution);
    const Index k = reader.width();
    const RowChunks chunks(static_cast<std::size_t>(problem.X.rows()));
    std::vector<MatrixXd> parts(chunks.count(), MatrixXd::Zero(k, k));
    chunks.forEach([&](std::size_t c) {
        MatrixXd block(kBlock, k);
        VectorXd squares(kBlock);
        SquareSums sums(k);
        forBlocks(chunks[c], [&](Index from, Index rows) {
            reader.read(from, rows, block);
            productInto(squares.data(), &factorByRow(from), &factorByRow(from), rows);
            sums.add(block.data(), kBlock, rows, squares.data());
        });
        sums.moveTo(parts[c]);
    });
    return sumOf(parts).selfadjointView<Eigen::Upper>();
}

MatrixXd groupedScores(const LinearProblem& problem, const LinearSolution& solution,
                       const VectorXd& factorByRow, std::span<const std::int32_t> groups,
                       Index count) {
    if (auto within = groupedScoresWithin(problem, solution, factorByRow, groups, count)) {
        return *std::move(within);
    }
    const BlockReader reader = readerOf(problem, solution);
    const Index k = reader.width();
    // Scores are stored k by groups, so that a row's additions touch one stretch of memory.
    const RowChunks all(static_cast<std::size_t>(problem.X.rows()));
    const std::size_t slots = std::min(all.count(), kGroupSlots);
    std::vector<MatrixXd> parts(slots, MatrixXd::Zero(k, count));
    forSlots(static_cast<std::size_t>(problem.X.rows()), slots,
             [&](std::size_t slot, std::size_t first, std::size_t last) {
                 MatrixXd block(kBlock, k);
                 std::vector<double> tile(static_cast<std::size_t>(kernels::kGroupTile * k));
                 MatrixXd& sums = parts[slot];
                 forBlocks({all[first].begin, all[last - 1].end}, [&](Index from, Index rows) {
                     reader.read(from, rows, block);
                     addByGroup(sums.data(), &groups[static_cast<std::size_t>(from)], block.data(),
                                block.rows(), &factorByRow(from), rows, k, tile.data());
                 });
             });
    return sumOf(parts).transpose();
}

Eigen::MatrixXd orthonormalColumns(const ColumnsView& X, const LinearSolution& solution) {
    Eigen::MatrixXd Z = X.of(solution.kept).matrix();
    if (solution.centre.size() == Z.cols()) {
        Z.rowwise() -= solution.centre.transpose();
    }
    return SparseFactor(solution.centredFactor).after(Z);
}

bool isRounding(const LinearProblem& problem, const LinearSolution& solution, double blurred) {
    const Eigen::Index n = problem.y.size();
    if (n == 0) {
        return false;
    }
    // What each residual is a difference of, in size: its rounding is a few units of that.
    Eigen::VectorXd size = problem.y.cwiseAbs();
    for (std::size_t j = 0; j < solution.kept.size(); ++j) {
        size += std::abs(solution.coefficients(static_cast<Eigen::Index>(j))) *
                problem.X.col(solution.kept[j]).cwiseAbs();
    }
    constexpr double kUnits = 8.0 * std::numeric_limits<double>::epsilon();
    const double mean = problem.y.mean();
    const double spread = (problem.y.array() - mean).matrix().stableNorm();
    return solution.residuals.stableNorm() <= kUnits * size.stableNorm() + blurred * spread;
}

}  // namespace rapporto
