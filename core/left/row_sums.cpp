#include "core/left/row_sums.h"

#include "core/base/room.h"
#include "core/numerics/kernels.h"
#include "core/study/answer.h"

#include <algorithm>
#include <atomic>
#include <bit>
#include <limits>

namespace rapporto {
namespace {

constexpr double kNull = std::numeric_limits<double>::quiet_NaN();

/// Groups are held once a piece of the rows: few pieces, whatever the number of threads.
constexpr std::size_t kGroupedPieces = 4;
constexpr std::size_t kRowsOfPiece = std::size_t{1} << 17U;

/// A sum as it grows. Sum: `a` and what its additions lost; mean and spread: mean and squares
/// about it; least and greatest: `a`.
struct Growing {
    double a = 0.0;
    double b = 0.0;
    double n = 0.0;
};

void addTo(Growing& to, double x, double n) {
    // What the addition loses is added up beside (Knuth 1969): a sum of a hundred million rows
    // keeps its digits.
    const double sum = to.a + x;
    const double part = sum - to.a;
    to.b += (to.a - (sum - part)) + (x - part);
    to.a = sum;
    to.n += n;
}

/// Rows with this mean and these squares about it beside those there are (Chan, Golub & LeVeque
/// 1983).
void mixInto(Growing& to, const Growing& more) {
    if (more.n == 0.0) {
        return;
    }
    const double n = to.n + more.n;
    const double apart = more.a - to.a;
    to.b += more.b + apart * apart * to.n * more.n / n;
    to.a += apart * more.n / n;
    to.n = n;
}

class Adding {
  public:
    Adding(const RowSums& sums, const TextNumbers& texts) : sums_(sums), texts_(texts) {}

    /// The same of one value more.
    void one(const RowSum& sum, Growing& to, double x) const {
        if (x != x) {
            return;
        }
        switch (sum.kind) {
            case SumKind::Rows:
            case SumKind::Present:
                to.n += 1.0;
                break;
            case SumKind::Sum:
                addTo(to, x, 1.0);
                break;
            case SumKind::Least:
            case SumKind::Greatest:
                to.a = to.n == 0.0 || comesBefore(sum, x, to.a) ? x : to.a;
                to.n += 1.0;
                break;
            case SumKind::Mean:
            case SumKind::Spread:
                mixInto(to, {x, 0.0, 1.0});
                break;
        }
    }

    /// The same of another part of the rows.
    void whole(const RowSum& sum, Growing& to, const Growing& more) const {
        if (more.n == 0.0) {
            return;
        }
        switch (sum.kind) {
            case SumKind::Rows:
            case SumKind::Present:
                to.n += more.n;
                break;
            case SumKind::Sum:
                addTo(to, more.a, more.n);
                addTo(to, more.b, 0.0);
                break;
            case SumKind::Least:
            case SumKind::Greatest:
                to.a = to.n == 0.0 || comesBefore(sum, more.a, to.a) ? more.a : to.a;
                to.n += more.n;
                break;
            case SumKind::Mean:
            case SumKind::Spread:
                mixInto(to, more);
                break;
        }
    }

    [[nodiscard]] static double told(const RowSum& sum, const Growing& of) {
        switch (sum.kind) {
            case SumKind::Rows:
            case SumKind::Present:
                return of.n;
            case SumKind::Sum:
                return of.n > 0.0 ? of.a + of.b : kNull;
            case SumKind::Spread:
                return of.n > 1.0 ? std::sqrt(of.b / (of.n - 1.0)) : kNull;
            case SumKind::Least:
            case SumKind::Greatest:
            case SumKind::Mean:
                break;
        }
        return of.n > 0.0 ? of.a : kNull;
    }

    [[nodiscard]] const RowSums& sums() const { return sums_; }

  private:
    [[nodiscard]] bool comesBefore(const RowSum& sum, double x, double y) const {
        const bool less = sum.text ? texts_[x] < texts_[y] : x < y;
        return sum.kind == SumKind::Least ? less : x != y && !less;
    }

    const RowSums& sums_;
    const TextNumbers& texts_;
};

/// All rows of one piece together.
class WholePiece {
  public:
    explicit WholePiece(const Adding& adding)
        : adding_(adding), found_(adding.sums().sums.size()) {}

    void take(RowStream& block, ColumnValues& values) {
        values.begin(block);
        const auto n = static_cast<Eigen::Index>(block.rows());
        for (std::size_t k = 0; k < found_.size(); ++k) {
            const RowSum& sum = adding_.sums().sums[k];
            if (sum.kind == SumKind::Rows) {
                found_[k].n += static_cast<double>(n);
                continue;
            }
            const double* x = values.of(sum.step);
            const double* f = sum.times.empty() ? nullptr : values.of(sum.times.front());
            const double all = sum.kind != SumKind::Sum ? kNull
                               : f == nullptr           ? kernels::sumOf(x, n)
                                                        : kernels::productSum(x, f, n);
            if (all == all) {
                addTo(found_[k], all, static_cast<double>(n));
                continue;
            }
            for (Eigen::Index i = 0; i < n; ++i) {  // Some are missing, or it is no sum.
                adding_.one(sum, found_[k], f == nullptr ? x[i] : x[i] * f[i]);
            }
        }
    }

    [[nodiscard]] const std::vector<Growing>& found() const { return found_; }

    /// Nothing grows with the rows.
    [[nodiscard]] static double bytes() { return 0.0; }

  private:
    const Adding& adding_;
    std::vector<Growing> found_;
};

using GroupKey = std::array<double, 2>;

struct HashOfKey {
    std::size_t operator()(const GroupKey& key) const {
        constexpr std::uint64_t kOdd = 0x9E3779B97F4A7C15U;
        std::uint64_t x = std::bit_cast<std::uint64_t>(key[0]) * kOdd;
        x = (x ^ (x >> 29U)) + std::bit_cast<std::uint64_t>(key[1]);
        x *= 0xBF58476D1CE4E5B9U;
        return static_cast<std::size_t>(x ^ (x >> 32U));
    }
};

struct SameBits {
    bool operator()(const GroupKey& a, const GroupKey& b) const {
        return std::bit_cast<std::uint64_t>(a[0]) == std::bit_cast<std::uint64_t>(b[0]) &&
               std::bit_cast<std::uint64_t>(a[1]) == std::bit_cast<std::uint64_t>(b[1]);
    }
};

/// One zero, and one way of having no value.
double canonical(double x) { return x != x ? kNull : x + 0.0; }

/// The rows of one piece by group.
class GroupedPiece {
  public:
    explicit GroupedPiece(const Adding& adding) : adding_(adding) {}

    void take(RowStream& block, ColumnValues& values) {
        values.begin(block);
        place(block.rows(), values);
        const auto& sums = adding_.sums().sums;
        const std::size_t width = sums.size();
        std::vector<const double*> x(width, nullptr);
        std::vector<const double*> f(width, nullptr);
        for (std::size_t k = 0; k < width; ++k) {
            x[k] = sums[k].kind == SumKind::Rows ? nullptr : values.of(sums[k].step);
            f[k] = sums[k].times.empty() ? nullptr : values.of(sums[k].times.front());
        }
        // Row by row: the sums of a group lie together.
        for (std::size_t i = 0; i < block.rows(); ++i) {
            Growing* group = found_.data() + at_[i] * width;
            for (std::size_t k = 0; k < width; ++k) {
                const double value = x[k] == nullptr   ? 0.0
                                     : f[k] == nullptr ? x[k][i]
                                                       : x[k][i] * f[k][i];
                if (sums[k].kind == SumKind::Sum && value == value) {
                    addTo(group[k], value, 1.0);
                } else {
                    adding_.one(sums[k], group[k], value);
                }
            }
        }
    }

    /// Puts the groups of another piece to these.
    void join(const GroupedPiece& more) {
        const std::size_t width = adding_.sums().sums.size();
        for (std::size_t g = 0; g < more.keys_.size(); ++g) {
            const std::size_t at = placeOf(more.keys_[g]);
            for (std::size_t k = 0; k < width; ++k) {
                adding_.whole(adding_.sums().sums[k], found_[at * width + k],
                              more.found_[g * width + k]);
            }
        }
    }

    [[nodiscard]] const std::vector<GroupKey>& keys() const { return keys_; }

    /// What the groups take, while they are put together with others, too.
    [[nodiscard]] double bytes() const {
        constexpr double kOfPlace = 64.0;
        return static_cast<double>(keys_.size()) *
               (kOfPlace + 3.0 * sizeof(Growing) * static_cast<double>(adding_.sums().sums.size()));
    }

    [[nodiscard]] const std::vector<Growing>& found() const { return found_; }

  private:
    void place(std::size_t rows, ColumnValues& values) {
        const auto& by = adding_.sums().by;
        const double* first = values.of(by[0]);
        const double* second = by.size() > 1 ? values.of(by[1]) : nullptr;
        at_.resize(rows);
        GroupKey last{};
        std::uint32_t where = 0;
        for (std::size_t i = 0; i < rows; ++i) {
            const GroupKey key{canonical(first[i]), second == nullptr ? 0.0 : canonical(second[i])};
            // Rows of one group often lie together.
            if (i == 0 || !SameBits()(key, last)) {
                where = placeOf(key);
                last = key;
            }
            at_[i] = where;
        }
    }

    std::uint32_t placeOf(const GroupKey& key) {
        const auto next = static_cast<std::uint32_t>(keys_.size());
        const std::uint32_t at = adding_.sums().by.size() == 1
                                     ? single_.add(key[0], next)
                                     : pairs_.try_emplace(key, next).first->second;
        if (at == next) {
            keys_.push_back(key);
            found_.resize(found_.size() + adding_.sums().sums.size());
        }
        return at;
    }

    const Adding& adding_;
    ValuePlaces single_;
    std::unordered_map<GroupKey, std::uint32_t, HashOfKey, SameBits> pairs_;
    std::vector<GroupKey> keys_;
    std::vector<Growing> found_;  ///< Groups × sums.
    std::vector<std::uint32_t> at_;
};

/// Takes every row to the piece that it belongs to, piece beside piece.
///
/// @param most  bytes that a piece may come to.
/// @return Stopped, or TooLarge.
template <class Piece>
Result<void> takeAll(const ColumnRelation& from, const ColumnProgram& program,
                     std::vector<Piece>& pieces, double most, const Job& job) {
    std::atomic<std::size_t> done{0};
    std::atomic<bool> tooMany{false};
    inParallel(pieces.size(), [&](std::size_t k) {
        const std::size_t count = pieces.size();
        const RowRange range{from.rows * k / count, from.rows * (k + 1) / count};
        const auto block = from.open(range);
        ColumnValues values(program);
        while (!job.stopped() && !tooMany && block->next()) {
            pieces[k].take(*block, values);
            if (pieces[k].bytes() > most) {
                tooMany = true;
            }
        }
        done += range.end - range.begin;
        job.report(static_cast<double>(done) /
                   static_cast<double>(std::max<std::size_t>(from.rows, 1)));
    });
    if (tooMany) {
        return refuse(ErrorCode::TooLarge,
                      "the groups that these rows fall into need more memory than is left", "",
                      "Group by something coarser, or close what else takes memory.");
    }
    return job.stopped() ? Result<void>(stoppedWork()) : Result<void>();
}

Result<SummedGroups> allTogether(const ColumnRelation& from, const Adding& adding, const Job& job) {
    const std::size_t count = std::max<std::size_t>(1, from.rows / kRowsOfPiece);
    std::vector<WholePiece> pieces(count, WholePiece(adding));
    if (auto done = takeAll(from, *adding.sums().program, pieces, 1.0, job); !done) {
        return tl::make_unexpected(done.error());
    }
    SummedGroups out;
    out.rows = 1;
    for (std::size_t k = 0; k < adding.sums().sums.size(); ++k) {
        const RowSum& sum = adding.sums().sums[k];
        Growing all;
        for (const WholePiece& piece : pieces) {
            adding.whole(sum, all, piece.found()[k]);
        }
        out.values.push_back({Adding::told(sum, all)});
    }
    return out;
}

Result<SummedGroups> byGroup(const ColumnRelation& from, const Adding& adding, const Job& job) {
    const std::size_t count = std::clamp<std::size_t>(from.rows / kRowsOfPiece, 1, kGroupedPieces);
    std::vector<GroupedPiece> pieces(count, GroupedPiece(adding));
    const double most = static_cast<double>(memoryLeft()) / 2.0 / static_cast<double>(count);
    if (auto done = takeAll(from, *adding.sums().program, pieces, most, job); !done) {
        return tl::make_unexpected(done.error());
    }
    GroupedPiece& all = pieces.front();
    for (std::size_t k = 1; k < pieces.size(); ++k) {
        all.join(pieces[k]);
    }
    SummedGroups out;
    out.rows = all.keys().size();
    const std::size_t width = adding.sums().sums.size();
    for (std::size_t b = 0; b < adding.sums().by.size(); ++b) {
        std::vector<double>& column = out.values.emplace_back();
        for (const GroupKey& key : all.keys()) {
            column.push_back(key[b]);
        }
    }
    for (std::size_t k = 0; k < width; ++k) {
        std::vector<double>& column = out.values.emplace_back();
        for (std::size_t g = 0; g < out.rows; ++g) {
            column.push_back(Adding::told(adding.sums().sums[k], all.found()[g * width + k]));
        }
    }
    return out;
}

}  // namespace

Result<SummedGroups> addUp(const ColumnRelation& from, const RowSums& sums, const Job& job) {
    const Adding adding(sums, sums.program->texts());
    return sums.by.empty() ? allTogether(from, adding, job) : byGroup(from, adding, job);
}

}  // namespace rapporto
