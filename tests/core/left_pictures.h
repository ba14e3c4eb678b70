#pragma once

#include "core/left/left_describe.h"
#include "core/left/left_picture.h"
#include "tests/core/left_questions.h"

#include <fmt/format.h>

#include <algorithm>

namespace rapporto::tests {

inline PictureSpec specOf(const char* kind, std::vector<std::string> of) {
    PictureSpec spec;
    spec.kind = kind;
    spec.of = std::move(of);
    return spec;
}

inline void compareBars(const Exhibit& a, const Exhibit& b) {
    QCOMPARE(a.bars.size(), b.bars.size());
    for (std::size_t i = 0; i < a.bars.size(); ++i) {
        const std::string what = fmt::format("bar {}", i);
        same(what + " from", a.bars[i].x0, b.bars[i].x0);
        same(what + " to", a.bars[i].x1, b.bars[i].x1);
        same(what + " below", a.bars[i].y0, b.bars[i].y0);
        same(what + " height", a.bars[i].y1, b.bars[i].y1);
        QCOMPARE(a.bars[i].says, b.bars[i].says);
        QCOMPARE(a.bars[i].label, b.bars[i].label);
        QCOMPARE(a.bars[i].shade.has_value(), b.bars[i].shade.has_value());
    }
}

inline void compareMarks(const Exhibit& a, const Exhibit& b) {
    QCOMPARE(a.boxes.size(), b.boxes.size());
    for (std::size_t i = 0; i < a.boxes.size(); ++i) {
        const std::string what = fmt::format("box {}", i);
        same(what + " low", a.boxes[i].low, b.boxes[i].low, 0.0);
        same(what + " 25 %", a.boxes[i].lowerQuartile, b.boxes[i].lowerQuartile, 1e-15);
        same(what + " median", a.boxes[i].median, b.boxes[i].median, 1e-15);
        same(what + " 75 %", a.boxes[i].upperQuartile, b.boxes[i].upperQuartile, 1e-15);
        same(what + " high", a.boxes[i].high, b.boxes[i].high, 0.0);
    }
    QCOMPARE(a.intervals.size(), b.intervals.size());
    for (std::size_t i = 0; i < a.intervals.size(); ++i) {
        const std::string what = fmt::format("interval {}", i);
        same(what + " at", a.intervals[i].at, b.intervals[i].at, 1e-12);
        same(what + " low", a.intervals[i].low, b.intervals[i].low);
        same(what, a.intervals[i].estimate, b.intervals[i].estimate, 1e-12);
        same(what + " high", a.intervals[i].high, b.intervals[i].high);
    }
}

/// What a picture by sums lacks is what takes rows.
inline void compare(const DrawnPicture& left, const DrawnPicture& here) {
    QCOMPARE(left.nothing, here.nothing);
    QCOMPARE(left.spec.kind, here.spec.kind);
    QCOMPARE(left.exhibits.size(), here.exhibits.size());
    for (std::size_t k = 0; k < left.exhibits.size(); ++k) {
        const Exhibit& a = left.exhibits[k];
        const Exhibit& b = here.exhibits[k];
        QCOMPARE(a.title, b.title);
        QCOMPARE(a.xTitle, b.xTitle);
        QCOMPARE(a.yTitle, b.yTitle);
        QCOMPARE(a.xNames, b.xNames);
        compareBars(a, b);
        compareMarks(a, b);
        for (const Exhibit::Line& line : a.lines) {
            const auto at = std::find_if(b.lines.begin(), b.lines.end(),
                                         [&](const auto& one) { return one.name == line.name; });
            QVERIFY2(at != b.lines.end(), line.name.c_str());
            QCOMPARE(line.x.size(), at->x.size());
            for (std::size_t i = 0; i < line.x.size(); ++i) {
                same(line.name + " x", line.x[i], at->x[i]);
                same(line.name + " y", line.y[i], at->y[i], 1e-8);
            }
        }
    }
    QCOMPARE(left.table.has_value(), here.table.has_value());
    if (left.table) {
        QCOMPARE(left.table->title, here.table->title);
        QCOMPARE(left.table->note, here.table->note);
        QCOMPARE(left.table->cells, here.table->cells);
    }
}

/// Pictures of sums.
inline void addPicturesBySums() {
    QTest::addColumn<PictureSpec>("spec");
    const auto ask = [](const char* kind, std::vector<std::string> of, bool log = false) {
        PictureSpec spec = specOf(kind, of);
        spec.logX = log;
        spec.logY = log;
        std::string name = std::string(kind) + (log ? " log" : "");
        for (const std::string& one : of) {
            name += " " + one;
        }
        QTest::newRow(name.c_str()) << spec;
    };
    for (const char* name : {"income", "hives", "ln_income", "age", "copies", "price", "far",
                             "seen", "trained", "id"}) {
        ask("distribution", {name});
    }
    ask("distribution", {"income"}, true);
    ask("distribution", {"trained"}, true);  // Half of it has no logarithm.
    for (const char* name : {"zone", "village", "soil", "band", "irrigated", "member", "old"}) {
        ask("shares", {name});
    }
    for (const char* kind : {"means", "boxes"}) {
        ask(kind, {"income", "zone"});
        ask(kind, {"far", "village"});  // One of its groups has a single row.
        ask(kind, {"ln_income", "member"});
        ask(kind, {"income", "band"}, true);
    }
    ask("cross", {"zone", "soil"});
    ask("cross", {"member", "band"});
    ask("binned", {"ln_income", "hives"});
    ask("binned", {"member", "distance"});
    ask("binned", {"income", "copies"});  // Three values: three bins.
    ask("binned", {"far", "age"});
    ask("mosaic", {"ln_income", "hives", "age", "trained"});
    ask("table", {"income", "far", "zone", "seen", "member"});
    ask("table", {"income", "trained", "soil", "zone"});  // Cut by its last.
    ask("table", {"hives", "village"});                   // Too many to cut by.
}

inline void drawBothWays(const Opening& open) {
    QFETCH(PictureSpec, spec);
    const auto fetched = open("fetched", {});
    const auto left = open("left", {});
    QVERIFY(fetched && left);
    const auto a = pictureOf(left->study, left->frame, spec, Job());
    QVERIFY2(a.has_value(), a ? "" : a.error().text().c_str());
    const auto b = pictureOf(fetched->study, fetched->frame, spec, Job());
    QVERIFY(!a->asked.empty() && b->asked.empty());
    QCOMPARE(a->spec.kind, spec.kind);
    compare(*a, *b);
    QVERIFY(a->nothing.empty());
}

}  // namespace rapporto::tests
