// Any text as an expression: parsed or refused. What parses has one spelling that parses to
// itself, and is computed over a small panel without a crash.
#include "core/data/frame.h"

#include <cmath>
#include <cstdint>
#include <cstdio>

using namespace rapporto;

namespace {

const Frame& frame() {
    static const Frame kFrame = [] {
        Table table;
        const double none = std::nan("");
        const auto add = [&](const std::string& name, Column column, Measure measure) {
            table.columns.push_back(std::move(column));
            Variable v;
            v.name = name;
            v.measure = measure;
            table.variables.push_back(v);
        };
        add("x", Column::ofNumbers("x", {1.5, -2, 0, none, 1e300, 7}), Measure::Quantity);
        add("u", Column::ofNumbers("u", {1, 1, 1, 2, 2, none}), Measure::Groups);
        add("t", Column::ofNumbers("t", {1, 2, 4, 1, 2, 3}), Measure::Count);
        add("w", Column::ofTexts("w", {0, 1, -1, 0, 1, 2}, {"a", "b", "10"}), Measure::Groups);
        Layout layout;
        layout.kind = Layout::Kind::Panel;
        layout.unit = "u";
        layout.time = "t";
        return Frame::make(table, {}, {}, {}, layout);
    }();
    return kFrame;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::string text(reinterpret_cast<const char*>(data), size);
    const auto parsed = Expression::parse(text);
    if (!parsed) {
        (void)parsed.error().text();
        return 0;
    }
    const std::string one = parsed->canonical();
    const auto again = Expression::parse(one);
    if (!again || again->canonical() != one) {
        std::fprintf(stderr, "‘%s’ is spelled ‘%s’%s%s\n", text.c_str(), one.c_str(),
                     again ? ", then " : ": ",
                     again ? again->canonical().c_str() : again.error().text().c_str());
        __builtin_trap();
    }
    (void)renamedIn(text, "x", "y z");
    const auto value = evaluate(*parsed, frame().scope());
    if (value && value->column.size() != frame().rows()) {
        __builtin_trap();
    }
    if (value && !value->column.isText()) {
        for (const double cell : value->column.numbers()) {
            if (std::isinf(cell)) {
                std::fprintf(stderr, "‘%s’ has an infinity\n", text.c_str());
                __builtin_trap();
            }
        }
    }
    return 0;
}
