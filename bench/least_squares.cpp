// Least squares against products and factors of the same columns.
#include "bench/bench.h"
#include "core/base/parallel.h"
#include "core/numerics/blocked_qr.h"
#include "core/numerics/linear_solution.h"

#include <Eigen/Dense>
#include <cblas.h>
#include <fmt/format.h>

#include <vector>

extern "C" void dgels_(const char* trans, const int* rows, const int* columns, const int* right,
                       double* A, const int* lead, double* B, const int* leadB, double* work,
                       const int* size, int* info);

namespace rapporto::bench {

void benchLeastSquares(bool quick, int rounds) {
    const Eigen::Index n = quick ? 300000 : 1000000;
    const Eigen::Index k = 20;
    Eigen::MatrixXd X(n, k);
    Eigen::VectorXd y(n);
    std::vector<std::int32_t> groups(static_cast<std::size_t>(n));
    for (Eigen::Index i = 0; i < n; ++i) {
        X(i, 0) = 1.0;
        y(i) = noise(static_cast<std::uint64_t>(i) * 31 + 7);
        for (Eigen::Index j = 1; j < k; ++j) {
            X(i, j) = noise(static_cast<std::uint64_t>(i * k + j)) + static_cast<double>(j);
            y(i) += 0.1 * X(i, j);
        }
        groups[static_cast<std::size_t>(i)] = static_cast<std::int32_t>((i * 7919) % 10000);
    }
    const Eigen::VectorXd none;
    const LinearProblem problem{X, y, none, true};
    Eigen::MatrixXd gram(k, k);
    const auto syrk = [&] {
        cblas_dsyrk(CblasColMajor, CblasUpper, CblasTrans, static_cast<int>(k), static_cast<int>(n),
                    1.0, X.data(), static_cast<int>(n), 0.0, gram.data(), static_cast<int>(k));
    };
    double sink = 0.0;
    const auto robust = [&] { sink += solveLinear(problem, true, Job())->meat.sum(); };
    const auto clustered = [&] {
        const LinearSolution s =
            *solveLinear(problem, WantedSums{.groups = groups, .groupCount = 10000}, Job());
        sink += (s.scores * s.centredFactor).squaredNorm();
    };
    const Eigen::VectorXd centre = X.colwise().mean();
    const auto orthogonal = [&] { sink += blockedQr(X, y, none, centre, 1e-11).residualSquares; };
    // It overwrites what it is given with numbers as full as before: no copy need be timed.
    Eigen::MatrixXd copy = X;
    const auto dgels = [&] {
        const int rows = static_cast<int>(n);
        const int columns = static_cast<int>(k);
        const int one = 1;
        std::vector<double> work(static_cast<std::size_t>(64 * (columns + 1)));
        const int size = static_cast<int>(work.size());
        int info = 0;
        Eigen::VectorXd right = y;
        dgels_("N", &rows, &columns, &one, copy.data(), &rows, right.data(), &rows, work.data(),
               &size, &info);
        sink += right(0);
    };
    for (const std::size_t threads : {1U, 2U}) {
        setThreads(threads);
        compare(fmt::format("least squares HC1 {}x20, {} thread(s), against syrk", n, threads),
                rounds, threads == 1 ? 2.5 : 1.5, robust, syrk);
        compare(
            fmt::format("least squares clustered {}x20, {} thread(s), against syrk", n, threads),
            rounds, threads == 1 ? 3.0 : 2.0, clustered, syrk);
        if (threads == 1) {
            compare(fmt::format("blocked QR {}x20, 1 thread, against dgels", n), rounds, 0.35,
                    orthogonal, dgels);
        }
    }
    if (sink == 0.12345) {
        fmt::print("\n");  // Keeps the work from being left out.
    }
}

}  // namespace rapporto::bench
