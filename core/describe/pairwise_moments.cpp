#include "core/describe/pairwise_moments.h"

#include "core/base/parallel.h"

#include <cblas.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t kBlock = 504;  // Rows of 50 columns that stay in the cache; no power of
                                     // two, or all columns would fall into the same lines.

/// About where a column lies and how far it reaches, from rows at even distances.
struct Place {
    double centre = 0.0;
    double inverse = 1.0;  ///< One over the reach.
};

Place placeOf(const std::vector<double>& cells, const std::vector<bool>& use) {
    constexpr std::size_t kLooks = 1024;
    const std::size_t stride = cells.size() / kLooks + 1;
    double sum = 0.0;
    double n = 0.0;
    double low = HUGE_VAL;
    double high = -HUGE_VAL;
    for (std::size_t i = 0; i < cells.size(); i += stride) {
        if (!std::isnan(cells[i]) && (use.empty() || use[i])) {
            sum += cells[i] / static_cast<double>(kLooks);
            n += 1.0 / static_cast<double>(kLooks);
            low = std::min(low, cells[i]);
            high = std::max(high, cells[i]);
        }
    }
    Place out;
    out.centre = n > 0.0 ? sum / n : 0.0;
    const double reach = std::max(high - out.centre, out.centre - low);
    out.inverse = n > 0.0 && std::isnormal(reach) ? 1.0 / reach : 1.0;
    return out;
}

/// Sums of one chunk of rows.
struct Sums {
    MatrixXd products;  ///< ZᵀZ, upper triangle.
    VectorXd sums;
    MatrixXd lostSums;     ///< (a, b): Σ z_a over rows where b is missing.
    MatrixXd lostSquares;  ///< Σ z_a² over them.
    MatrixXd lostBoth;     ///< Rows without both; the diagonal: without that one.
    double rows = 0.0;     ///< That count.

    explicit Sums(Index p = 0)
        : products(MatrixXd::Zero(p, p)),
          sums(VectorXd::Zero(p)),
          lostSums(MatrixXd::Zero(p, p)),
          lostSquares(MatrixXd::Zero(p, p)),
          lostBoth(MatrixXd::Zero(p, p)) {}

    void add(const Sums& other) {
        products += other.products;
        sums += other.sums;
        lostSums += other.lostSums;
        lostSquares += other.lostSquares;
        lostBoth += other.lostBoth;
        rows += other.rows;
    }
};

struct Columns {
    const std::vector<const std::vector<double>*>& cells;
    const std::vector<bool>& use;
    std::vector<Place> places;
};

/// A block of rows with what is missing in it.
struct Block {
    MatrixXd z;
    std::vector<std::vector<Index>> gone;  ///< Of each row, the columns without a value.
    VectorXd sums;                         ///< Of each column.
    VectorXd row;
    VectorXd squares;
};

/// (x − centre)/reach into `into`; the sum of them, which is no number where one of them is none.
double centred(const double* x, double* into, Index rows, Place place) {
    double parts[8] = {0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0};
    Index i = 0;
    for (; i + 8 <= rows; i += 8) {
        for (Index k = 0; k < 8; ++k) {
            into[i + k] = (x[i + k] - place.centre) * place.inverse;
            parts[k] += into[i + k];
        }
    }
    double sum = 0.0;
    for (; i < rows; ++i) {
        into[i] = (x[i] - place.centre) * place.inverse;
        sum += into[i];
    }
    for (const double part : parts) {
        sum += part;
    }
    return sum;
}

/// Centred values of some rows, zero where missing.
void fill(const Columns& columns, std::size_t from, std::size_t to, Block& block) {
    const auto rows = static_cast<Index>(to - from);
    for (Index j = 0; j < block.z.cols(); ++j) {
        const double* x = columns.cells[static_cast<std::size_t>(j)]->data() + from;
        double* into = block.z.col(j).data();
        const double sum = centred(x, into, rows, columns.places[static_cast<std::size_t>(j)]);
        block.sums(j) = sum;
        if (sum == sum) {
            continue;
        }
        block.sums(j) = 0.0;
        for (Index i = 0; i < rows; ++i) {
            if (std::isnan(into[i])) {
                into[i] = 0.0;
                block.gone[static_cast<std::size_t>(i)].push_back(j);
            }
            block.sums(j) += into[i];
        }
    }
}

/// What missing cells take out of the sums of the other columns.
void countMissing(Block& block, Index rows, Sums& sums) {
    for (Index i = 0; i < rows; ++i) {
        auto& gone = block.gone[static_cast<std::size_t>(i)];
        if (gone.empty()) {
            continue;
        }
        block.row = block.z.row(i).transpose();
        block.squares = block.row.cwiseAbs2();
        for (const Index b : gone) {
            sums.lostSums.col(b) += block.row;
            sums.lostSquares.col(b) += block.squares;
            for (const Index a : gone) {
                sums.lostBoth(a, b) += 1.0;
            }
        }
        gone.clear();
    }
}

void addBlock(const Columns& columns, std::size_t from, std::size_t to, Block& block, Sums& sums) {
    const auto rows = static_cast<Index>(to - from);
    fill(columns, from, to, block);
    sums.rows += static_cast<double>(rows);
    for (Index i = 0; i < rows && !columns.use.empty(); ++i) {
        if (!columns.use[from + static_cast<std::size_t>(i)]) {
            block.sums -= block.z.row(i).transpose();
            block.z.row(i).setZero();  // Out of everything: no sum feels it, no count has it.
            block.gone[static_cast<std::size_t>(i)].clear();
            sums.rows -= 1.0;
        }
    }
    countMissing(block, rows, sums);
    sums.sums += block.sums;
    const auto p = static_cast<int>(block.z.cols());
    cblas_dsyrk(CblasColMajor, CblasUpper, CblasTrans, p, static_cast<int>(rows), 1.0,
                block.z.data(), static_cast<int>(block.z.rows()), 1.0, sums.products.data(), p);
}

}  // namespace

PairwiseMoments pairwiseMoments(const std::vector<const std::vector<double>*>& columns,
                                const std::vector<bool>& use, const Job& job) {
    const auto p = static_cast<Index>(columns.size());
    const std::size_t rows = columns.front()->size();
    const RowChunks chunks(rows);
    Columns centred{columns, use, {}};
    for (const auto* column : columns) {
        centred.places.push_back(placeOf(*column, use));
    }
    std::vector<Sums> parts(chunks.count());
    chunks.forEach([&](std::size_t c) {
        Sums sums(p);
        Block block{MatrixXd(static_cast<Index>(kBlock), p),
                    std::vector<std::vector<Index>>(kBlock), VectorXd(p), VectorXd(p), VectorXd(p)};
        for (std::size_t from = chunks[c].begin; from < chunks[c].end && !job.stopped();
             from += kBlock) {
            addBlock(centred, from, std::min(from + kBlock, chunks[c].end), block, sums);
        }
        parts[c] = std::move(sums);
    });
    Sums all(p);
    for (const Sums& part : parts) {
        all.add(part);
    }
    PairwiseMoments out;
    out.r = MatrixXd::Identity(p, p);
    out.n = MatrixXd::Zero(p, p);
    out.again = Eigen::MatrixX<bool>::Constant(p, p, false);
    constexpr double kLeast = 1e-4;  // Of a column’s squares: less has lost digits.
    for (Index a = 0; a < p; ++a) {
        out.n(a, a) = all.rows - all.lostBoth(a, a);
        for (Index b = 0; b < a; ++b) {
            const double n =
                all.rows - all.lostBoth(a, a) - all.lostBoth(b, b) + all.lostBoth(a, b);
            const double sumA = all.sums(a) - all.lostSums(a, b);
            const double sumB = all.sums(b) - all.lostSums(b, a);
            const double squaresA =
                all.products(a, a) - all.lostSquares(a, b) - sumA * sumA / std::max(n, 1.0);
            const double squaresB =
                all.products(b, b) - all.lostSquares(b, a) - sumB * sumB / std::max(n, 1.0);
            const double together = all.products(b, a) - sumA * sumB / std::max(n, 1.0);
            // Not above, rather than below: a product that overflowed is no number.
            const bool lost = !(squaresA > kLeast * all.products(a, a)) ||
                              !(squaresB > kLeast * all.products(b, b)) || n < 3.0;
            out.n(a, b) = out.n(b, a) = n;
            out.again(a, b) = out.again(b, a) = lost;
            out.r(a, b) = out.r(b, a) =
                lost ? std::nan("")
                     : std::clamp(together / std::sqrt(squaresA * squaresB), -1.0, 1.0);
        }
    }
    return out;
}

}  // namespace rapporto
