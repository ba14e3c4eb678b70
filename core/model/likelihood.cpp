#include "core/model/likelihood.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/model/reweighted.h"
#include "core/numerics/distributions.h"
#include "core/numerics/kernels.h"
#include "core/numerics/square_sums.h"

#include <cblas.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <mutex>
#include <numeric>
#include <span>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kMostSteps = 200;

/// Columns made alike: centred where there is a constant, of length about √n. They are read so
/// block by block. The coefficients of the columns as they are: b = to · b̃.
struct Scaled {
    VectorXd centre;
    VectorXd scale;
    MatrixXd to;
};

Scaled scaledPart(const IndexPart& part) {
    const Index k = part.X.cols();
    Scaled out{VectorXd::Zero(k), VectorXd::Ones(k), MatrixXd::Identity(k, k)};
    // About the first value: a rough centre and length do, of all rows or of blocks all over them.
    constexpr Index kEnough = 65536;
    const Index stride = kernels::kBlock * std::max<Index>(1, part.X.rows() / kEnough);
    MatrixXd moments = MatrixXd::Zero(2, k);
    double n = 0.0;
    for (Index from = 0; from < part.X.rows(); from += stride) {
        const Index rows = std::min(kernels::kBlock, part.X.rows() - from);
        n += static_cast<double>(rows);
        for (Index j = part.hasConstant ? 1 : 0; j < k; ++j) {
            kernels::addMoments(&part.X(from, j), nullptr, rows,
                                part.hasConstant ? part.X(0, j) : 0.0, &moments(0, j));
        }
    }
    for (Index j = part.hasConstant ? 1 : 0; j < k; ++j) {
        const double moved = part.hasConstant ? moments(0, j) / n : 0.0;
        const double length = std::sqrt(std::max(moments(1, j) / n - moved * moved, 0.0));
        out.centre(j) = part.hasConstant ? part.X(0, j) + moved : 0.0;
        // A power of two changes no digit.
        out.scale(j) =
            length > 0.0 && std::isfinite(length) ? std::exp2(-std::round(std::log2(length))) : 1.0;
        out.to(j, j) = out.scale(j);
        if (part.hasConstant) {
            out.to(0, j) = -out.centre(j) * out.scale(j);
        }
    }
    return out;
}

class Maximiser {
  public:
    Maximiser(std::span<const IndexPart> parts, const RowModel& model, const VectorXd& weights,
              bool wantScores, const Job& job)
        : parts_(parts),
          model_(model),
          weights_(weights),
          wantScores_(wantScores),
          job_(job),
          n_(parts.front().X.rows()),
          M_(model.indices()),
          S_(model.extras()),
          chunks_(static_cast<std::size_t>(n_)),
          index_(n_, M_) {
        Index at = 0;
        for (const IndexPart& part : parts) {
            scaled_.push_back(scaledPart(part));
            starts_.push_back(at);
            at += part.X.cols();
        }
        extrasAt_ = at;
        p_ = at + S_;
    }

    Result<Maximum> run(const VectorXd& start) {
        VectorXd theta = toScaled(start);
        double value = evaluate(theta, true);
        if (!std::isfinite(value)) {
            return refuse(ErrorCode::NotConverged,
                          "the likelihood is not defined where the search begins", "method",
                          "Look for values of the outcome that cannot be.");
        }
        bool done = false;
        int step = 0;
        double decrement = 0.0;
        for (; step < kMostSteps && !done; ++step) {
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            const VectorXd direction = newton(decrement);
            const double tolerance = 1e-18 * std::max(1.0, std::abs(value));
            // Under this the value itself cannot tell better from worse: go by the gradient.
            const bool close = decrement < 1e-9 * std::max(1.0, std::abs(value)) && !ridged_;
            double length = 1.0;
            VectorXd next;
            double found = -std::numeric_limits<double>::infinity();
            for (int half = 0; half < 60; ++half, length *= 0.5) {
                next = theta + length * direction;
                found = evaluate(next, true);
                const double slack = close ? 1e-12 * std::abs(value) : 0.0;
                if (std::isfinite(found) && found >= value - slack) {
                    break;
                }
            }
            if (!std::isfinite(found)) {
                break;
            }
            done = (decrement < tolerance && !ridged_) || (close && step > 0 && length < 1e-6);
            theta = next;
            value = found;
        }
        newton(decrement);
        if ((!done && decrement > 1e-10 * std::max(1.0, std::abs(value))) || ridged_) {
            return flatOrLost(step, decrement, theta);
        }
        return finished(theta, value, step, decrement);
    }

  private:
    [[nodiscard]] VectorXd toScaled(const VectorXd& theta) const {
        VectorXd out = theta;
        for (std::size_t m = 0; m < parts_.size(); ++m) {
            const Index k = parts_[m].X.cols();
            out.segment(starts_[m], k) =
                scaled_[m].to.partialPivLu().solve(theta.segment(starts_[m], k));
        }
        return out;
    }

    [[nodiscard]] VectorXd fromScaled(const VectorXd& theta) const {
        VectorXd out = theta;
        for (std::size_t m = 0; m < parts_.size(); ++m) {
            const Index k = parts_[m].X.cols();
            out.segment(starts_[m], k) = scaled_[m].to * theta.segment(starts_[m], k);
        }
        return out;
    }

    /// ℓ; with `derivatives` the gradient and the negative Hessian, too.
    double evaluate(const VectorXd& theta, bool derivatives) {
        const auto count = chunks_.count();
        std::vector<double> values(count, 0.0);
        std::vector<MatrixXd> sums(derivatives ? count : 0);
        chunks_.forEach([&](std::size_t c) {
            const auto [begin, end] = chunks_[c];
            if (derivatives) {
                sums[c] = MatrixXd::Zero(p_, p_ + 1);
            }
            std::unique_ptr<Room> room = borrowRoom();
            // Blocks of rows that stay near while all is made of them.
            for (auto from = static_cast<Index>(begin); from < static_cast<Index>(end);
                 from += kernels::kBlock) {
                const Index rows = std::min(kernels::kBlock, static_cast<Index>(end) - from);
                values[c] +=
                    evaluateBlock(theta, from, rows, *room, derivatives ? &sums[c] : nullptr);
            }
            for (std::size_t m = 0; derivatives && m < room->squares.size(); ++m) {
                const Index k = parts_[m].X.cols();
                room->squares[m].moveTo(sums[c].block(starts_[m], 1 + starts_[m], k, k));
            }
            giveBack(std::move(room));
        });
        double value = 0.0;
        for (const double one : values) {
            value += one;
        }
        if (derivatives) {
            MatrixXd sum = MatrixXd::Zero(p_, p_ + 1);
            for (const MatrixXd& one : sums) {
                sum += one;
            }
            gradient_ = sum.col(0);
            // Only the upper half was filled between indices.
            information_ = MatrixXd(sum.rightCols(p_).selfadjointView<Eigen::Upper>());
        }
        return std::isnan(value) ? -std::numeric_limits<double>::infinity() : value;
    }

    /// What a block of rows is worked on in.
    struct Room {
        std::vector<MatrixXd> X;  ///< Of each index: kBlock × k, centred and scaled.
        MatrixXd eta;
        RowTerms terms;
        MatrixXd weighted;
        std::vector<SquareSums> squares;  ///< Of each index with itself.
    };

    /// Rooms are kept from one stretch of rows to the next: as many as threads have asked at once.
    [[nodiscard]] std::unique_ptr<Room> borrowRoom() {
        {
            const std::lock_guard<std::mutex> lock(roomsLock_);
            if (!rooms_.empty()) {
                std::unique_ptr<Room> out = std::move(rooms_.back());
                rooms_.pop_back();
                return out;
            }
        }
        return std::make_unique<Room>(makeRoom());
    }

    void giveBack(std::unique_ptr<Room> room) {
        const std::lock_guard<std::mutex> lock(roomsLock_);
        rooms_.push_back(std::move(room));
    }

    [[nodiscard]] Room makeRoom() const {
        Room out;
        Index widest = 0;
        for (const IndexPart& part : parts_) {
            out.X.emplace_back(kernels::kBlock, part.X.cols());
            out.squares.emplace_back(part.X.cols());
            widest = std::max(widest, part.X.cols());
        }
        out.eta.resize(kernels::kBlock, M_);
        out.terms.first.resize(kernels::kBlock, M_ + S_);
        out.terms.second.resize(kernels::kBlock, M_ * (M_ + S_));
        out.terms.among.resize(S_, S_);
        out.weighted.resize(kernels::kBlock, M_ > 1 ? widest : 0);
        return out;
    }

    /// ℓ of a block of rows; its gradient and, beside it, the upper half of its negative Hessian
    /// are added to `sums` (p × (1 + p)) where they are wanted.
    double evaluateBlock(const VectorXd& theta, Index from, Index rows, Room& room,
                         MatrixXd* sums) {
        const int lead = static_cast<int>(kernels::kBlock);
        for (int m = 0; m < M_; ++m) {
            const auto at = static_cast<std::size_t>(m);
            const Scaled& scaled = scaled_[at];
            const Index k = parts_[at].X.cols();
            for (Index j = 0; j < k; ++j) {
                kernels::centredInto(&room.X[at](0, j), &parts_[at].X(from, j), rows,
                                     scaled.centre(j), scaled.scale(j));
            }
            cblas_dgemv(CblasColMajor, CblasNoTrans, static_cast<int>(rows), static_cast<int>(k),
                        1.0, room.X[at].data(), lead, theta.data() + starts_[at], 1, 0.0,
                        room.eta.col(m).data(), 1);
            if (parts_[at].offset.size() > 0) {
                room.eta.col(m).head(rows) += parts_[at].offset.segment(from, rows);
            }
        }
        index_.middleRows(from, rows) = room.eta.topRows(rows);
        room.terms.among.setZero();
        const double sum = model_.block(from, rows, room.eta, theta.data() + extrasAt_,
                                        weights_.size() > 0 ? weights_.data() + from : nullptr,
                                        sums != nullptr ? &room.terms : nullptr);
        if (sums != nullptr) {
            combine(rows, room, *sums);
        }
        return sum;
    }

    void combine(Index rows, Room& room, MatrixXd& sums) const {
        const int lead = static_cast<int>(kernels::kBlock);
        const int n = static_cast<int>(rows);
        const int p = static_cast<int>(p_);
        const MatrixXd& first = room.terms.first;
        const MatrixXd& second = room.terms.second;
        for (int a = 0; a < M_; ++a) {
            const auto ma = static_cast<std::size_t>(a);
            const MatrixXd& Xa = room.X[ma];
            const int ka = static_cast<int>(Xa.cols());
            room.squares[ma].add(Xa.data(), kernels::kBlock, rows,
                                 second.col(a * (M_ + S_) + a).data());
            for (int b = a + 1; b < M_; ++b) {
                const auto mb = static_cast<std::size_t>(b);
                const MatrixXd& Xb = room.X[mb];
                const int kb = static_cast<int>(Xb.cols());
                const double* h = second.col(a * (M_ + S_) + b).data();
                for (Index j = 0; j < kb; ++j) {
                    kernels::productInto(&room.weighted(0, j), &Xb(0, j), h, rows);
                }
                cblas_dgemm(CblasColMajor, CblasTrans, CblasNoTrans, ka, kb, n, 1.0, Xa.data(),
                            lead, room.weighted.data(), lead, 1.0,
                            &sums(starts_[ma], 1 + starts_[mb]), p);
            }
            const auto addColumn = [&](const double* by, Index column) {
                cblas_dgemv(CblasColMajor, CblasTrans, n, ka, 1.0, Xa.data(), lead, by, 1, 1.0,
                            &sums(starts_[ma], column), 1);
            };
            addColumn(first.col(a).data(), 0);
            for (int s = 0; s < S_; ++s) {
                addColumn(second.col(a * (M_ + S_) + M_ + s).data(), 1 + extrasAt_ + s);
            }
        }
        for (int s = 0; s < S_; ++s) {
            sums(extrasAt_ + s, 0) += first.col(M_ + s).head(rows).sum();
        }
        sums.bottomRightCorner(S_, S_) += room.terms.among;
    }

    /// Newton’s direction; a ridge where the information is not positive.
    VectorXd newton(double& decrement) {
        VectorXd unit = information_.diagonal().cwiseAbs().cwiseSqrt();
        unit = unit.unaryExpr([](double u) { return u > 0.0 ? u : 1.0; });
        const VectorXd inverse = unit.cwiseInverse();
        const MatrixXd scaled = inverse.asDiagonal() * information_ * inverse.asDiagonal();
        const VectorXd g = inverse.cwiseProduct(gradient_);
        ridged_ = false;
        for (double ridge = 0.0; ridge < 1e8; ridge = std::max(ridge * 8.0, 1e-4)) {
            const Eigen::LLT<MatrixXd> llt(
                scaled + ridge * MatrixXd::Identity(scaled.rows(), scaled.cols()));
            const VectorXd pivots = llt.info() == Eigen::Success
                                        ? VectorXd(MatrixXd(llt.matrixL()).diagonal().cwiseAbs2())
                                        : VectorXd();
            if (llt.info() == Eigen::Success && pivots.minCoeff() > 1e-13) {
                const VectorXd d = llt.solve(g);
                decrement = g.dot(d);
                ridged_ = ridge > 0.0;
                return inverse.cwiseProduct(d);
            }
        }
        decrement = std::numeric_limits<double>::infinity();
        ridged_ = true;
        return VectorXd::Zero(p_);
    }

    Result<Maximum> flatOrLost(int steps, double decrement, const VectorXd& theta) const {
        if (ridged_) {
            return refuse(ErrorCode::RankDeficient,
                          "the likelihood is flat: other values of the coefficients do as well "
                          "(after " +
                              plural(static_cast<std::size_t>(steps), "step", "steps") + ")",
                          "method",
                          "Take a term out, merge rare levels, or choose a simpler estimator.");
        }
        static_cast<void>(theta);
        return refuse(
            ErrorCode::NotConverged,
            "the search did not settle in " +
                plural(static_cast<std::size_t>(steps), "step", "steps") +
                "; the likelihood could still gain about " + shortNumber(0.5 * decrement, 2),
            "method", "Scale or log terms with a long tail, or choose a simpler estimator.");
    }

    Maximum finished(const VectorXd& theta, double value, int steps, double decrement) {
        Maximum out;
        out.theta = fromScaled(theta);
        out.logLikelihood = value;
        out.iterations = steps;
        out.gradient = decrement;
        VectorXd unit = information_.diagonal().cwiseSqrt();
        const VectorXd inverse = unit.cwiseInverse();
        const MatrixXd scaled = inverse.asDiagonal() * information_ * inverse.asDiagonal();
        const Eigen::LLT<MatrixXd> llt(scaled);
        // (LL')⁻¹ = L⁻ᵀ L⁻¹.
        MatrixXd F = llt.matrixU().solve(MatrixXd::Identity(p_, p_));
        F = (inverse.asDiagonal() * F).eval();
        for (std::size_t m = 0; m < parts_.size(); ++m) {
            const Index k = parts_[m].X.cols();
            F.middleRows(starts_[m], k) = (scaled_[m].to * F.middleRows(starts_[m], k)).eval();
        }
        out.factor = std::move(F);
        fillRows(theta, out);
        return out;
    }

    /// Indices of the rows and, where they are wanted, scores in the coordinates of the columns as
    /// they are.
    void fillRows(const VectorXd& theta, Maximum& out) {
        out.index = std::move(index_);
        if (!wantScores_) {
            return;
        }
        const VectorXd extras = theta.tail(S_);
        out.scores.resize(n_, p_);
        chunks_.forEach([&](std::size_t c) {
            Room room = makeRoom();
            const auto end = static_cast<Index>(chunks_[c].end);
            for (auto from = static_cast<Index>(chunks_[c].begin); from < end;
                 from += kernels::kBlock) {
                const Index rows = std::min(kernels::kBlock, end - from);
                room.eta.topRows(rows) = out.index.middleRows(from, rows);
                room.terms.among.setZero();
                model_.block(from, rows, room.eta, extras.data(), nullptr, &room.terms);
                for (int m = 0; m < M_; ++m) {
                    const auto at = static_cast<std::size_t>(m);
                    for (Index j = 0; j < parts_[at].X.cols(); ++j) {
                        kernels::productInto(&out.scores(from, starts_[at] + j),
                                             &parts_[at].X(from, j), room.terms.first.col(m).data(),
                                             rows);
                    }
                }
                out.scores.block(from, extrasAt_, rows, S_) =
                    room.terms.first.block(0, M_, rows, S_);
            }
        });
    }

    std::span<const IndexPart> parts_;
    const RowModel& model_;
    const VectorXd& weights_;
    bool wantScores_;
    const Job& job_;
    Index n_;
    int M_;
    int S_;
    RowChunks chunks_;
    std::vector<Scaled> scaled_;
    std::vector<Index> starts_;
    Index extrasAt_ = 0;
    Index p_ = 0;
    VectorXd gradient_;
    MatrixXd information_;
    MatrixXd index_;  ///< n × indices, of the last evaluation.
    std::mutex roomsLock_;
    std::vector<std::unique_ptr<Room>> rooms_;
    bool ridged_ = false;
};

}  // namespace

Result<Maximum> maximise(const std::vector<IndexPart>& parts, const RowModel& model,
                         const VectorXd& start, const VectorXd& weights, const Job& job,
                         bool wantScores) {
    return Maximiser(parts, model, weights, wantScores, job).run(start);
}

Result<Maximum> maximise(const IndexPart& part, const RowModel& model, const VectorXd& start,
                         const VectorXd& weights, const Job& job, bool wantScores) {
    return Maximiser({&part, 1}, model, weights, wantScores, job).run(start);
}

std::optional<double> scoreStatistic(const RowModel& model, const MatrixXd& X,
                                     const VectorXd& index, const VectorXd& weights) {
    MatrixXd information = MatrixXd::Zero(X.cols(), X.cols());
    VectorXd score = VectorXd::Zero(X.cols());
    RowTerms terms;
    terms.first.resize(kernels::kBlock, 1);
    terms.second.resize(kernels::kBlock, 1);
    terms.among = MatrixXd::Zero(0, 0);
    MatrixXd eta(kernels::kBlock, 1);
    for (Index from = 0; from < X.rows(); from += kernels::kBlock) {
        const Index rows = std::min(kernels::kBlock, X.rows() - from);
        eta.topRows(rows) = index.segment(from, rows);
        model.block(from, rows, eta, nullptr, weights.size() > 0 ? weights.data() + from : nullptr,
                    &terms);
        const auto part = X.middleRows(from, rows);
        score += part.transpose() * terms.first.col(0).head(rows);
        information += part.transpose() * terms.second.col(0).head(rows).asDiagonal() * part;
    }
    const VectorXd unit = information.diagonal().cwiseMax(0.0).cwiseSqrt();
    if (!(unit.minCoeff() > 0.0)) {
        return std::nullopt;
    }
    const VectorXd inverse = unit.cwiseInverse();
    const Eigen::LDLT<MatrixXd> ldlt(inverse.asDiagonal() * information * inverse.asDiagonal());
    if (ldlt.info() != Eigen::Success || ldlt.vectorD().minCoeff() <= 1e-13) {
        return std::nullopt;
    }
    const VectorXd scaled = inverse.cwiseProduct(score);
    return scaled.dot(ldlt.solve(scaled));
}

VectorXd curvatures(const RowModel& model, const Maximum& found, Index columns) {
    VectorXd out(found.index.rows());
    const VectorXd extras = found.theta.tail(found.theta.size() - columns);
    const RowChunks chunks(static_cast<std::size_t>(out.size()));
    chunks.forEach([&](std::size_t c) {
        RowTerms terms;
        terms.first.resize(kernels::kBlock, model.extras() + 1);
        terms.second.resize(kernels::kBlock, model.extras() + 1);
        terms.among = MatrixXd::Zero(model.extras(), model.extras());
        MatrixXd eta(kernels::kBlock, 1);
        const auto end = static_cast<Index>(chunks[c].end);
        for (auto from = static_cast<Index>(chunks[c].begin); from < end; from += kernels::kBlock) {
            const Index rows = std::min(kernels::kBlock, end - from);
            eta.topRows(rows) = found.index.middleRows(from, rows);
            model.block(from, rows, eta, extras.data(), nullptr, &terms);
            out.segment(from, rows) = terms.second.col(0).head(rows);
        }
    });
    return out;
}

VectorXd rowLeverages(const MatrixXd& X, const MatrixXd& F, const VectorXd& curvature,
                      const VectorXd& weights) {
    VectorXd h = VectorXd::Zero(X.rows());
    const auto k = static_cast<int>(X.cols());
    const auto q = static_cast<int>(F.cols());
    const RowChunks chunks(static_cast<std::size_t>(X.rows()));
    chunks.forEach([&](std::size_t c) {
        MatrixXd turned(kernels::kBlock, q);
        const auto end = static_cast<Index>(chunks[c].end);
        for (auto from = static_cast<Index>(chunks[c].begin); from < end; from += kernels::kBlock) {
            const Index rows = std::min(kernels::kBlock, end - from);
            cblas_dgemm(CblasColMajor, CblasNoTrans, CblasNoTrans, static_cast<int>(rows), q, k,
                        1.0, X.data() + from, static_cast<int>(X.rows()), F.data(),
                        static_cast<int>(F.rows()), 0.0, turned.data(),
                        static_cast<int>(kernels::kBlock));
            for (int j = 0; j < q; ++j) {
                kernels::addSquares(&h(from), &turned(0, j), rows);
            }
            for (Index i = from; i < from + rows; ++i) {
                h(i) *= std::max(curvature(i), 0.0) * (weights.size() > 0 ? weights(i) : 1.0);
            }
        }
    });
    return h;
}

double RowModel::block(Index from, Index rows, const MatrixXd& eta, const double* shared,
                       const double* weights, RowTerms* terms) const {
    const int M = indices();
    const int S = extras();
    const auto D = static_cast<std::size_t>(M + S);
    std::vector<double> at(D);
    std::vector<double> g(D);
    std::vector<double> H(D * D);
    std::copy(shared, shared + S, at.begin() + M);
    double sum = 0.0;
    for (Index i = 0; i < rows; ++i) {
        const double w = weights != nullptr ? weights[i] : 1.0;
        for (int m = 0; m < M; ++m) {
            at[static_cast<std::size_t>(m)] = eta(i, m);
        }
        sum += w * row(from + i, at.data(), g.data(), terms != nullptr ? H.data() : nullptr);
        if (terms == nullptr) {
            continue;
        }
        for (int a = 0; a < M + S; ++a) {
            terms->first(i, a) = w * g[static_cast<std::size_t>(a)];
        }
        for (int a = 0; a < M; ++a) {
            for (int b = 0; b < M + S; ++b) {
                terms->second(i, a * (M + S) + b) =
                    -w * H[static_cast<std::size_t>(a) * D + static_cast<std::size_t>(b)];
            }
        }
        for (int a = 0; a < S; ++a) {
            for (int b = 0; b < S; ++b) {
                terms->among(a, b) -=
                    w * H[static_cast<std::size_t>(M + a) * D + static_cast<std::size_t>(M + b)];
            }
        }
    }
    return sum;
}

VectorXd rowWeights(const Design& design) {
    return design.weights.size() > 0 ? design.weights : VectorXd(VectorXd::Ones(design.y.size()));
}

Result<KeptColumns> independentColumns(const MatrixXd& X, const std::vector<DesignColumn>& columns,
                                       bool hasConstant, const Job& job) {
    KeptColumns out;
    const VectorXd none;
    const auto solution = solveLinear({X, VectorXd::Zero(X.rows()), none, hasConstant}, false, job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    out.kept = solution->kept;
    if (out.kept.empty() && X.cols() > 0) {
        return refuse(ErrorCode::NoTerms, "no term is left: every one is zero in the rows used",
                      "terms", "Add a term that varies, or a constant.");
    }
    for (const RedundantColumn& redundant : solution->redundant) {
        out.dropped.push_back({columns[static_cast<std::size_t>(redundant.column)].name,
                               combinationText(columns, redundant)});
    }
    return out;
}

std::optional<Separation> findSeparation(const MatrixXd& X, const VectorXd& signs, const Job& job) {
    // Coordinates in an orthonormal basis of the columns.
    const Eigen::HouseholderQR<MatrixXd> qr(X);
    MatrixXd Q = qr.householderQ() * MatrixXd::Identity(X.rows(), X.cols());
    VectorXd u = VectorXd::Ones(X.rows());
    for (Index i = 0; i < u.size(); ++i) {
        Q.row(i) *= signs(i) == 0.0 ? 1.0 : signs(i);
        u(i) = signs(i) == 0.0 ? 0.0 : 1.0;
    }
    VectorXd inside;
    bool reached = false;
    for (int step = 0; step < 20000 && !reached; ++step) {
        if (job.stopped()) {
            return std::nullopt;
        }
        inside = Q * (Q.transpose() * u);
        double least = 0.0;
        for (Index i = 0; i < u.size(); ++i) {
            least = std::min(least, signs(i) == 0.0 ? -std::abs(inside(i)) : inside(i));
            u(i) = signs(i) == 0.0 ? 0.0 : std::max(inside(i), 0.0);
        }
        const double largest = u.maxCoeff();
        if (largest < 1e-9) {
            return std::nullopt;
        }
        reached = least > -1e-7 * largest;
    }
    const double largest = u.maxCoeff();
    // Where the cone is the origin alone the steps shrink for ever and nothing is reached.
    if (!reached || !(largest > 1e-9)) {
        return std::nullopt;
    }
    Separation out;
    for (Index i = 0; i < u.size(); ++i) {
        if (u(i) > 1e-4 * largest) {
            out.rows.push_back(i);
        }
    }
    const VectorXd combination =
        qr.matrixQR().topRows(X.cols()).triangularView<Eigen::Upper>().solve(
            VectorXd(Q.transpose() * u));
    VectorXd part = combination.cwiseAbs();
    for (Index j = 0; j < part.size(); ++j) {
        part(j) *= (X.col(j).array() - X.col(j).mean()).matrix().norm();
    }
    std::vector<Index> order(static_cast<std::size_t>(part.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return part(a) > part(b); });
    for (const Index j : order) {
        if (part(j) > 1e-3 * part.maxCoeff()) {
            out.columns.push_back(j);
        }
    }
    return out;
}

Result<Covariance> covarianceOfScores(const Design& design, const MatrixXd& scores,
                                      const MatrixXd& factor, const VectorXd& leverage, double n,
                                      double left, const ErrorSpec& errors, double alpha,
                                      const Job& job) {
    if (errors.kind == "classical") {
        return Covariance{factor * factor.transpose(), std::numeric_limits<double>::infinity(), ""};
    }
    if (errors.kind == "robust" && errors.type != "HC0" && errors.type != "HC1" &&
        leverage.size() == 0) {
        return refuse(ErrorCode::BadSetting,
                      "errors of type " + errors.type + " need a row’s leverage in one equation",
                      "errors", "Choose HC1, or cluster.");
    }
    if (errors.automaticLags) {
        return refuse(ErrorCode::BadSetting,
                      "the number of lags is found by the data for least squares alone", "errors",
                      "Name a number of lags.");
    }
    // The formulas of least squares hold with the scores for columns and ones for residuals. The
    // scores are turned first: far from zero their products would lose what the factor cancels.
    const MatrixXd turned = scores * factor;
    LinearSolution s;
    s.factor = factor;
    s.centredFactor = MatrixXd::Identity(factor.cols(), factor.cols());
    s.centre = VectorXd::Zero(factor.cols());
    s.residuals = VectorXd::Ones(scores.rows());
    s.coefficients = VectorXd::Zero(factor.rows());
    for (Index j = 0; j < factor.cols(); ++j) {
        s.kept.push_back(j);
    }
    const VectorXd h = leverage.size() > 0 ? leverage : VectorXd(VectorXd::Zero(scores.rows()));
    const LinearProblem problem{turned, design.y, design.weights, false};
    return covarianceOf({design, problem, s, h, n, left, alpha, job}, errors);
}

Result<Fit> fitOfLikelihood(LikelihoodInput in, const ErrorSpec& errors, double alpha,
                            const Job& job) {
    const Design& design = in.design;
    const auto p = static_cast<double>(in.maximum.theta.size()) + in.effectsRank;
    Fit fit;
    fit.n = rowsStoodFor(design);
    fit.dfResidual = fit.n - p;
    if (fit.dfResidual < 1.0) {
        return refuse(ErrorCode::TooFewRows,
                      plural(design.counts.used, "row", "rows") + " cannot carry " +
                          plural(static_cast<std::size_t>(p), "coefficient", "coefficients"),
                      "sample", "Take terms out or widen the sample.");
    }
    auto covariance = covarianceOfScores(design, in.maximum.scores, in.maximum.factor, in.leverage,
                                         fit.n, fit.dfResidual, errors, alpha, job);
    if (!covariance) {
        return tl::make_unexpected(covariance.error());
    }
    // Where what is held fixed, or a level of its own, tells its rows exactly, scores, and with
    // them other errors than those of the likelihood, are rounding: nothing that counts as an
    // error.
    for (Index j = 0; j < in.maximum.theta.size(); ++j) {
        const double told = in.maximum.factor.row(j).norm();
        if (std::sqrt(std::max(covariance->matrix(j, j), 0.0)) < 1e-10 * told) {
            covariance->matrix.row(j).setZero();
            covariance->matrix.col(j).setZero();
        }
        if (std::abs(in.maximum.theta(j)) < 1e-13 * told) {
            in.maximum.theta(j) = 0.0;
        }
    }
    VectorXd slope = VectorXd::Ones(in.maximum.theta.size());
    const auto kept = static_cast<Index>(in.kept.size());
    for (Index j = 0; j < in.maximum.theta.size(); ++j) {
        Coefficient c;
        c.estimate = in.maximum.theta(j);
        if (in.shown) {
            std::tie(c.estimate, slope(j)) = in.shown(j, c.estimate);
        }
        if (j < kept) {
            const Index column = in.kept[static_cast<std::size_t>(j)];
            const DesignColumn& info = design.columns[static_cast<std::size_t>(column)];
            c.term = info.name;
            c.label = info.label;
            c.column = column;
            c.designTerm = info.term;
        } else {
            const ExtraName& name = in.further[static_cast<std::size_t>(j - kept)];
            c.equation = name.equation;
            c.term = name.term;
            c.label = name.term;
            c.column = -1;
        }
        fit.coefficients.push_back(std::move(c));
    }
    covariance->matrix = slope.asDiagonal() * covariance->matrix * slope.asDiagonal();
    covariance->df = std::numeric_limits<double>::infinity();
    replaceCovariance(fit, design, *std::move(covariance), alpha);
    // Spreads, dispersions and correlations have the interval of the scale they are searched on,
    // where their law is nearer to the normal: it keeps within their bounds.
    for (Index j = kept; in.shown && j < in.maximum.theta.size(); ++j) {
        Coefficient& c = fit.coefficients[static_cast<std::size_t>(j)];
        if (slope(j) != 1.0 && slope(j) > 0.0 && isError(c.se, c.estimate)) {
            const double reach = criticalValue(alpha, std::nullopt) * c.se / slope(j);
            c.low = in.shown(j, in.maximum.theta(j) - reach).first;
            c.high = in.shown(j, in.maximum.theta(j) + reach).first;
        }
    }
    fit.dropped = std::move(in.dropped);
    fit.fitted = std::move(in.fitted);
    fit.residuals = design.y - fit.fitted;
    fit.leverage = in.leverage.size() > 0 ? in.leverage : VectorXd(VectorXd::Zero(design.y.size()));
    fit.solution.kept = in.kept;
    fit.solution.coefficients = in.maximum.theta.head(kept);
    fit.solution.residuals = fit.residuals;
    const MatrixXd inverse = in.maximum.factor * in.maximum.factor.transpose();
    fit.solution.factor = Eigen::LLT<MatrixXd>(inverse.topLeftCorner(kept, kept)).matrixL();
    fit.solution.centredFactor = fit.solution.factor;
    fit.solution.centre = VectorXd::Zero(kept);
    in.told->iterations = in.maximum.iterations;
    in.told->gradient = in.maximum.gradient;
    in.told->logLikelihood = in.maximum.logLikelihood;
    in.told->parameters = p;
    in.told->index = std::move(in.maximum.index);
    in.told->inverse = inverse;
    FitStatistics& s = fit.statistics;
    s.sigma = s.rss = s.tss = std::numeric_limits<double>::quiet_NaN();
    if (design.weightKind == WeightKind::Sampling) {
        fit.notes.emplace_back("With sampling weights there is no likelihood, so no AIC or BIC.");
    } else {
        s.logLikelihood = in.told->logLikelihood;
        s.aic = -2.0 * *s.logLikelihood + 2.0 * p;
        s.bic = -2.0 * *s.logLikelihood + p * std::log(fit.n);
    }
    fit.likelihood = std::move(in.told);
    return fit;
}

}  // namespace rapporto
