#include "core/describe/ladder.h"

#include "core/describe/summary.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto {
namespace {

struct Power {
    double power;
    const char* label;
    const char* prefix;
    const char* expression;
};

constexpr std::array<Power, 8> kPowers = {{{-2.0, "−1/x²", "neg_inv_sq_", "-1 / power({}, 2)"},
                                           {-1.0, "−1/x", "neg_inv_", "-1 / {}"},
                                           {-0.5, "−1/√x", "neg_inv_root_", "-1 / sqrt({})"},
                                           {0.0, "ln x", "ln_", "ln({})"},
                                           {0.5, "√x", "root_", "sqrt({})"},
                                           {1.0, "x", "", "{}"},
                                           {2.0, "x²", "sq_", "power({}, 2)"},
                                           {3.0, "x³", "cube_", "power({}, 3)"}}};

/// The order of values is kept: negative powers are turned round.
double raised(double x, double power) {
    return power == 0.0 ? std::log(x) : (power < 0.0 ? -1.0 : 1.0) * std::pow(x, power);
}

void measure(LadderRung& rung, const std::vector<double>& values) {
    std::vector<double> cells(values.size());
    std::transform(values.begin(), values.end(), cells.begin(),
                   [&](double x) { return raised(x, rung.power); });
    rung.defined = cells.size() > 2 && std::all_of(cells.begin(), cells.end(),
                                                   [](double x) { return std::isfinite(x); });
    if (!rung.defined) {
        return;
    }
    rung.skewness = summarise(cells).skewness;
    const Histogram bins = histogram(cells, 14);
    const auto most =
        static_cast<double>(*std::max_element(bins.counts.begin(), bins.counts.end()));
    for (const std::size_t count : bins.counts) {
        rung.bars.push_back(static_cast<double>(count) / most);
    }
}

}  // namespace

ShapeLadder shapeLadder(const Frame& frame, const std::string& name) {
    ShapeLadder out;
    const Column* column = frame.column(name);
    const Variable* variable = frame.variable(name);
    if (column == nullptr || column->isText() ||
        (variable->measure != Measure::Quantity && variable->measure != Measure::Count)) {
        out.why = "The ladder is for quantities and counts.";
        return out;
    }
    const std::size_t stride = column->size() / 20000 + 1;
    std::vector<double> values;
    for (std::size_t i = 0; i < column->size(); i += stride) {
        if (frame.states()[i] == RowState::In && !column->isMissing(i)) {
            values.push_back(column->numbers()[i]);
        }
    }
    double least = INFINITY;
    for (const Power& power : kPowers) {
        LadderRung rung;
        rung.label = power.label;
        rung.power = power.power;
        rung.name = power.prefix + name;
        rung.expression = fmt::format(fmt::runtime(power.expression), quotedName(name));
        measure(rung, values);
        // The lightest touch that straightens: a rung farther from x must be clearly better.
        const double cost = std::abs(rung.skewness) + 0.15 * std::abs(rung.power - 1.0);
        if (rung.defined && cost < least) {
            least = cost;
            out.best = static_cast<int>(out.rungs.size());
        }
        out.rungs.push_back(std::move(rung));
    }
    return out;
}

}  // namespace rapporto
