#include "core/checks/weak_table.h"

#include <cstddef>
#include <span>

namespace rapporto {
namespace {

// Rows by the number of instruments, from the first that the table has.
constexpr WeakValues kBias1[] = {
    {{13.91, 9.08, 6.46, 5.39}},  {{16.85, 10.27, 6.71, 5.34}}, {{18.37, 10.83, 6.77, 5.25}},
    {{19.28, 11.12, 6.76, 5.15}}, {{19.86, 11.29, 6.73, 5.07}}, {{20.25, 11.39, 6.69, 4.99}},
    {{20.53, 11.46, 6.65, 4.92}}, {{20.74, 11.49, 6.61, 4.86}}, {{20.90, 11.51, 6.56, 4.80}},
    {{21.01, 11.52, 6.53, 4.75}}, {{21.10, 11.52, 6.49, 4.71}}, {{21.18, 11.52, 6.45, 4.67}},
    {{21.23, 11.51, 6.42, 4.63}}, {{21.28, 11.50, 6.39, 4.59}}, {{21.31, 11.49, 6.36, 4.56}},
    {{21.34, 11.48, 6.33, 4.53}}, {{21.36, 11.46, 6.31, 4.51}}, {{21.38, 11.45, 6.28, 4.48}},
    {{21.39, 11.44, 6.26, 4.46}}, {{21.40, 11.42, 6.24, 4.43}}, {{21.41, 11.41, 6.22, 4.41}},
    {{21.41, 11.40, 6.20, 4.39}}, {{21.42, 11.38, 6.18, 4.37}}, {{21.42, 11.37, 6.16, 4.35}},
    {{21.42, 11.36, 6.14, 4.34}}, {{21.42, 11.34, 6.13, 4.32}}, {{21.42, 11.33, 6.11, 4.31}},
    {{21.42, 11.32, 6.09, 4.29}}};
constexpr WeakValues kBias2[] = {{{11.04, 7.56, 5.57, 4.73}},  {{13.97, 8.78, 5.91, 4.79}},
                                 {{15.72, 9.48, 6.08, 4.78}},  {{16.88, 9.92, 6.16, 4.76}},
                                 {{17.70, 10.22, 6.20, 4.73}}, {{18.30, 10.43, 6.22, 4.69}},
                                 {{18.76, 10.58, 6.23, 4.66}}};
constexpr WeakValues kBias3[] = {{{9.53, 6.61, 4.99, 4.30}},  {{12.20, 7.77, 5.35, 4.40}},
                                 {{13.95, 8.50, 5.56, 4.44}}, {{15.18, 9.01, 5.69, 4.46}},
                                 {{16.10, 9.37, 5.78, 4.46}}, {{16.80, 9.64, 5.83, 4.45}}};
constexpr WeakValues kSize1[] = {{{16.38, 8.96, 6.66, 5.53}},    {{19.93, 11.59, 8.75, 7.25}},
                                 {{22.30, 12.83, 9.54, 7.80}},   {{24.58, 13.96, 10.26, 8.31}},
                                 {{26.87, 15.09, 10.98, 8.84}},  {{29.18, 16.23, 11.72, 9.38}},
                                 {{31.50, 17.38, 12.48, 9.93}},  {{33.84, 18.54, 13.24, 10.50}},
                                 {{36.19, 19.71, 14.01, 11.07}}, {{38.54, 20.88, 14.78, 11.65}}};
constexpr WeakValues kSize2[] = {
    {{7.03, 4.58, 3.95, 3.63}},    {{13.43, 8.18, 6.40, 5.45}},   {{16.87, 9.93, 7.54, 6.28}},
    {{19.45, 11.22, 8.38, 6.89}},  {{21.68, 12.33, 9.10, 7.42}},  {{23.72, 13.34, 9.77, 7.91}},
    {{25.64, 14.31, 10.41, 8.39}}, {{27.51, 15.24, 11.03, 8.85}}, {{29.32, 16.16, 11.65, 9.31}}};

std::optional<WeakValues> rowOf(std::span<const WeakValues> table, int row) {
    return row >= 0 && row < static_cast<int>(table.size())
               ? std::optional(table[static_cast<std::size_t>(row)])
               : std::nullopt;
}

}  // namespace

std::optional<WeakValues> weakByBias(int instruments, int endogenous) {
    const int row = instruments - endogenous - 2;
    return endogenous == 1   ? rowOf(kBias1, row)
           : endogenous == 2 ? rowOf(kBias2, row)
           : endogenous == 3 ? rowOf(kBias3, row)
                             : std::nullopt;
}

std::optional<WeakValues> weakBySize(int instruments, int endogenous) {
    const int row = instruments - endogenous;
    return endogenous == 1   ? rowOf(kSize1, row)
           : endogenous == 2 ? rowOf(kSize2, row)
                             : std::nullopt;
}

}  // namespace rapporto
