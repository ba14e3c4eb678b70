// What pictures draw: numbers against references made another way, exhibits against small tables.
#include "core/picture/picture.h"

#include "core/base/format.h"
#include "core/data/row_set.h"
#include "core/describe/autocorrelation.h"
#include "core/describe/calculator.h"
#include "core/describe/density.h"
#include "core/describe/ledger.h"
#include "core/describe/smooth.h"
#include "core/describe/survey_mean.h"
#include "core/describe/thumbnail.h"
#include "core/picture/axis.h"
#include "core/picture/line_fit.h"
#include "core/study/study.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <numeric>
#include <set>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/picture_reference.json");
    return kReference;
}

std::vector<double> numbers(const nlohmann::json& list) { return list.get<std::vector<double>>(); }

bool allNear(const std::vector<double>& a, const nlohmann::json& b, double tolerance) {
    if (a.size() != b.size()) {
        return false;
    }
    for (std::size_t i = 0; i < a.size(); ++i) {
        if (std::abs(a[i] - b[i].get<double>()) >
            tolerance * std::max(1.0, std::abs(b[i].get<double>()))) {
            return false;
        }
    }
    return true;
}

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

DrawnPicture drawn(const Frame& frame, std::vector<std::string> of, const std::string& kind = {},
                   const Survey& survey = {}) {
    PictureSpec spec;
    spec.of = std::move(of);
    spec.kind = kind;
    return drawPicture(frame, spec, survey, 0.05);
}

/// A small table with a grouping, a yes–no, a date and a weight.
Table smallTable() {
    Table t = tableOf({{"x", {5, 1, 3, 3, kNone, 9}},
                       {"y", {10, 2, 6, 7, 1, 18}},
                       {"g", {1, 2, 1, 2, 1, 1}},
                       {"yes", {1, 0, 1, 1, 0, 0}},
                       {"day", {19000, 19010, 19020, 19030, 19040, 19050}},
                       {"w", {1, 2, 1, 2, 1, 3}}});
    t.variables[2].measure = Measure::Groups;
    t.variables[3].measure = Measure::YesNo;
    t.variables[4].measure = Measure::Date;
    return t;
}

/// The last row set aside.
Frame smallFrame() {
    Sample sample;
    sample.setAside = {{6, "odd"}};
    return Frame::make(smallTable(), {}, {}, sample, {});
}

const Exhibit::Line* named(const Exhibit& e, const std::string& name) {
    for (const auto& line : e.lines) {
        if (line.name == name) {
            return &line;
        }
    }
    return nullptr;
}

}  // namespace

class PictureTest : public QObject {
    Q_OBJECT

  private slots:

    void rowSetIsASet() {
        RowSet rows{5, 64, 3};
        rows.insert(64);
        QCOMPARE(rows.size(), std::size_t{3});
        QCOMPARE(std::vector<std::size_t>(rows.begin(), rows.end()),
                 (std::vector<std::size_t>{3, 5, 64}));
        QVERIFY(rows.contains(5) && !rows.contains(4) && !rows.contains(100000));
        rows.erase(64);
        QCOMPARE(rows, (RowSet{3, 5}));
        rows.clear();
        QVERIFY(rows.empty() && rows.begin() == rows.end());
    }

    void localSmoothAgreesWithItsProjection() {
        const auto x = numbers(reference()["points"]["x"]);
        const auto y = numbers(reference()["points"]["y"]);
        const auto w = numbers(reference()["points"]["w"]);
        const auto check = [&](const LocalSmooth& s, const char* name) {
            const auto& r = reference()[name];
            return allNear(s.x, r["x"], 1e-12) && allNear(s.y, r["y"], 1e-8);
        };
        const LocalSmooth plain = localSmooth(x, y, {}, {0.4, 0, true});
        QVERIFY(check(plain, "smooth"));
        QVERIFY(allNear(plain.se, reference()["smooth"]["se"], 1e-8));
        QVERIFY(near(plain.df, reference()["smooth"]["df"].get<double>(), 1e-8));
        QVERIFY(check(localSmooth(x, y, {}, {0.5, 3, false}), "smooth_robust"));
        QVERIFY(check(localSmooth(x, y, w, {0.6, 0, false}), "smooth_weighted"));
        const LocalSmooth tied = localSmooth(numbers(reference()["tied"]["x"]),
                                             numbers(reference()["tied"]["y"]), {}, {0.5, 0, true});
        QVERIFY(check(tied, "smooth_tied"));
        QVERIFY(allNear(tied.se, reference()["smooth_tied"]["se"], 1e-8));
    }

    void localSmoothKeepsALineAndItsOrder() {
        std::vector<double> x(900);
        std::vector<double> y(900);
        for (std::size_t i = 0; i < x.size(); ++i) {
            x[i] = std::fmod(static_cast<double>(i) * 0.618, 1.0);
            y[i] = 4.0 - 3.0 * x[i];
        }
        const LocalSmooth s = localSmooth(x, y, {}, {0.3, 2, false});
        QCOMPARE(s.x.size(), std::size_t{120});
        for (std::size_t k = 0; k < s.x.size(); ++k) {
            QVERIFY(near(s.y[k], 4.0 - 3.0 * s.x[k], 1e-10));
        }
        std::reverse(x.begin(), x.end());
        std::reverse(y.begin(), y.end());
        QCOMPARE(localSmooth(x, y, {}, {0.3, 2, false}).y, s.y);
        QVERIFY(localSmooth(std::vector<double>(9, 1.0), std::vector<double>(9, 2.0), {}, {})
                    .x.empty());
        QVERIFY(
            localSmooth(std::vector<double>{1, 2}, std::vector<double>{1, 2}, {}, {}).x.empty());
    }

    void weightedNumbersAgree() {
        const auto x = numbers(reference()["points"]["x"]);
        const auto w = numbers(reference()["points"]["w"]);
        const auto& r = reference()["weighted"];
        const Summary s = summariseWeighted(x, w);
        QVERIFY(near(s.mean, r["mean"].get<double>(), 1e-12));
        QVERIFY(near(s.sd, r["sd"].get<double>(), 1e-12));
        QVERIFY(near(s.skewness, r["skewness"].get<double>(), 1e-10));
        QVERIFY(near(s.kurtosis, r["kurtosis"].get<double>(), 1e-10));
        QVERIFY(near(s.lowerQuartile, r["quartiles"][0].get<double>(), 1e-12));
        QVERIFY(near(s.median, r["quartiles"][1].get<double>(), 1e-12));
        QVERIFY(near(s.upperQuartile, r["quartiles"][2].get<double>(), 1e-12));
        // Equal weights, whatever their size, are none.
        const Summary plain = summarise(x);
        const Summary equal = summariseWeighted(x, std::vector<double>(x.size(), 7.5));
        QVERIFY(near(equal.median, plain.median, 1e-13));
        QVERIFY(near(equal.lowerQuartile, plain.lowerQuartile, 1e-13));
        QVERIFY(near(equal.sd, plain.sd, 1e-13));
        QVERIFY(near(equal.kurtosis, plain.kurtosis, 1e-10));
        // A weight of two counts in a density as the value twice.
        const Density twice = densityOf(std::vector<double>{1, 2, 2, 4}, 0.5);
        const Density weighted =
            densityOf(std::vector<double>{1, 2, 4}, 0.5, std::vector<double>{1, 2, 1});
        for (std::size_t k = 0; k < twice.y.size(); k += 20) {
            QVERIFY(near(weighted.y[k], twice.y[k], 1e-12));
        }
    }

    void meansOfADesignAgree() {
        const auto& r = reference()["design"];
        std::vector<std::pair<std::string, std::vector<double>>> columns = {
            {"stratum", {}}, {"cluster", {}}, {"weight", {}}, {"x", {}}, {"z", {}}};
        std::vector<double> in;
        for (const auto& row : r["rows"]) {
            for (auto& [name, cells] : columns) {
                cells.push_back(row[name].get<double>());
            }
            in.push_back(row["in"].get<double>());
        }
        const Frame frame = frameOf(tableOf(columns));
        const Survey survey{"weight", "stratum", "cluster", ""};
        const auto design = surveyRows(frame, survey);
        QVERIFY(design.has_value());
        auto cells = columns[3].second;
        std::vector<double> x;
        std::vector<double> z;
        std::vector<std::size_t> rows;
        for (std::size_t i = 0; i < cells.size(); ++i) {
            if (in[i] == 1.0) {
                x.push_back(cells[i]);
                z.push_back(columns[4].second[i]);
                rows.push_back(i);
            } else {
                cells[i] = kNone;
            }
        }
        const auto mean = meanUnder(*design, cells);
        QVERIFY(mean.has_value());
        QVERIFY(near(mean->mean, r["mean"].get<double>(), 1e-12));
        QVERIFY(near(mean->se, r["se"].get<double>(), 1e-12));
        QCOMPARE(mean->df, r["df"].get<double>());
        QCOMPARE(mean->n, r["n"].get<std::size_t>());
        QVERIFY(near(mean->effective, r["effective"].get<double>(), 1e-12));
        const auto counted = surveyRows(frame, {"weight", "stratum", "cluster", "20"});
        QVERIFY(near(meanUnder(*counted, cells)->se, r["se_of_20"].get<double>(), 1e-12));
        const auto line = fitCurve(x, z, rows, 1, &*design);
        QVERIFY(near(line->slope(), r["line"]["slope"].get<double>(), 1e-11));
        QVERIFY(near(line->at(5.0), r["line"]["at_5"].get<double>(), 1e-12));
        QVERIFY(near(line->se(5.0), r["line"]["se_at_5"].get<double>(), 1e-10));
        QCOMPARE(surveyRows(frame, {"weight", "stratum", "cluster", "2"}).error().code,
                 ErrorCode::BadSetting);
        QCOMPARE(surveyRows(frame, {"weight", "nobody", "", ""}).error().code,
                 ErrorCode::UnknownName);
    }

    void curvesAndIntervalsAgree() {
        const auto x = numbers(reference()["points"]["x"]);
        const auto y = numbers(reference()["points"]["y"]);
        std::vector<std::size_t> rows(x.size());
        std::iota(rows.begin(), rows.end(), std::size_t{0});
        for (const int degree : {1, 2}) {
            const auto& r = reference()["curves"][std::to_string(degree)];
            const auto curve = fitCurve(x, y, rows, degree, nullptr);
            QVERIFY(near(curve->at(7.0), r["at_7"].get<double>(), 1e-11));
            QVERIFY(near(curve->se(7.0), r["se_at_7"].get<double>(), 1e-10));
            QVERIFY(near(curve->sigma, r["sigma"].get<double>(), 1e-11));
        }
        const std::vector<double> two{1, 2, 1, 2};
        QVERIFY(!fitCurve(two, two, rows, 2, nullptr));  // A parabola through two places.
        QVERIFY(!fitCurve(std::vector<double>{1, 1, 1}, two, rows, 1, nullptr));
        const auto& wilson = reference()["wilson"];
        const ShareInterval share = wilsonInterval(wilson["p"], wilson["n"], wilson["z"]);
        QVERIFY(near(share.low, wilson["ends"][0].get<double>(), 1e-12));
        QVERIFY(near(share.high, wilson["ends"][1].get<double>(), 1e-12));
        QCOMPARE(wilsonInterval(0.0, 10.0, 1.96).low, 0.0);
    }

    void correlogramsAgree() {
        const auto x = numbers(reference()["series"]["x"]);
        const auto y = numbers(reference()["series"]["y"]);
        std::vector<double> time(x.size());
        std::iota(time.begin(), time.end(), 1.0);
        const Table table = tableOf({{"t", time}, {"x", x}, {"y", y}});
        const auto order = orderRows(table, {Layout::Kind::Series, "", "t", ""});
        const Autocorrelations a = autocorrelations(*order, x, 15);
        QVERIFY(allNear(a.r, reference()["correlogram"]["r"], 1e-12));
        QVERIFY(allNear(a.partial, reference()["correlogram"]["partial"], 1e-10));
        QVERIFY(near(a.q, reference()["correlogram"]["q"].get<double>(), 1e-11));
        QVERIFY(near(a.p, reference()["correlogram"]["p"].get<double>(), 1e-10));
        QVERIFY(allNear(crossCorrelations(*order, x, y, 6), reference()["cross"], 1e-12));
        // The order of the rows is nothing, the order of the moments all.
        std::vector<std::size_t> turn(x.size());
        for (std::size_t i = 0; i < turn.size(); ++i) {
            turn[i] = (i * 7) % turn.size();
        }
        std::vector<double> t2;
        std::vector<double> x2;
        for (const std::size_t i : turn) {
            t2.push_back(time[i]);
            x2.push_back(x[i]);
        }
        const auto shuffled = orderRows(tableOf({{"t", t2}}), {Layout::Kind::Series, "", "t", ""});
        QVERIFY(near(autocorrelations(*shuffled, x2, 3).r[1], a.r[1], 1e-12));
        // Two units that do not know each other: no pair crosses them.
        const Table panel = tableOf({{"u", {1, 1, 1, 2, 2, 2}}, {"t", {1, 2, 3, 1, 2, 3}}});
        const auto units = orderRows(panel, {Layout::Kind::Panel, "u", "t", ""});
        const std::vector<double> v{1, 2, 3, 30, 20, 10};
        // About own means: −1 0 1 and 10 0 −10; the only products at lag 2 are −1 and −100.
        const Autocorrelations p = autocorrelations(*units, v, 2);
        QVERIFY(near(p.r[0], 0.0, 1e-14));
        QVERIFY(near(p.r[1], -101.0 / 202.0, 1e-14));
        QVERIFY(autocorrelations(*units, std::vector<double>(6, 4.0), 2).r.empty());
    }

    void axesHaveRoundPlaces() {
        const auto texts = [](const std::vector<Tick>& ticks) {
            std::vector<std::string> out;
            for (const Tick& tick : ticks) {
                out.push_back(tick.text);
            }
            return out;
        };
        using Texts = std::vector<std::string>;
        QCOMPARE(texts(ticksOn(AxisScale::Number, -0.1, 1.03, 5)),
                 (Texts{"0.0", "0.2", "0.4", "0.6", "0.8", "1.0"}));
        QCOMPARE(texts(ticksOn(AxisScale::Number, 1999, 2011, 3)), (Texts{"2000", "2005", "2010"}));
        QCOMPARE(texts(ticksOn(AxisScale::Log, -0.2, 3.1, 4)),
                 (Texts{"1", "10", "100", countText(1000)}));
        QCOMPARE(texts(ticksOn(AxisScale::Log, 0.0, 1.1, 6)), (Texts{"1", "2", "5", "10"}));
        // 2024-02-01 to 2024-05-28.
        QCOMPARE(texts(ticksOn(AxisScale::Date, 19754, 19871, 4)),
                 (Texts{"Feb 2024", "Mar 2024", "Apr 2024", "May 2024"}));
        QCOMPARE(texts(ticksOn(AxisScale::Date, 0, 365.25 * 30, 3)),
                 (Texts{"1970", "1980", "1990", "2000"}));
        QVERIFY(ticksOn(AxisScale::Number, 1, 1, 5).empty());
        QCOMPARE(valueOn(AxisScale::Date, 0), std::string("1970-01-01"));
        QCOMPARE(valueOn(AxisScale::Log, 2), std::string("100"));
    }

    void thePictureFollowsTheVariables() {
        const Frame frame = smallFrame();
        const auto first = [&](std::vector<std::string> of) {
            const auto kinds = fittingPictures(frame, of);
            return kinds.empty() ? std::string() : std::string(kinds.front()->id);
        };
        QCOMPARE(first({"x"}), std::string("distribution"));
        QCOMPARE(first({"day"}), std::string("distribution"));
        QCOMPARE(first({"g"}), std::string("shares"));
        QCOMPARE(first({"yes"}), std::string("shares"));
        QCOMPARE(first({"y", "x"}), std::string("scatter"));
        QCOMPARE(first({"x", "g"}), std::string("groups"));
        QCOMPARE(first({"g", "yes"}), std::string("cross"));
        QCOMPARE(first({"y", "x", "g"}), std::string("scatter"));
        QCOMPARE(first({"y", "x", "w"}), std::string("matrix"));
        QCOMPARE(first({}), std::string());
        // A kind that does not fit gives way; a name that is not there is passed over.
        QCOMPARE(drawn(frame, {"x"}, "scatter").spec.kind, std::string("distribution"));
        QCOMPARE(drawn(frame, {"nobody", "g"}).spec.kind, std::string("shares"));
        QVERIFY(!drawn(frame, {"nobody"}).nothing.empty());
        std::set<std::string> ids;
        for (const PictureKind& kind : allPictureKinds()) {
            QVERIFY(ids.insert(kind.id).second);
            QVERIFY(findPictureKind(kind.id) == &kind);
        }
    }

    void barsHoldTheirRows() {
        const Frame frame = smallFrame();
        const Exhibit e = drawn(frame, {"x"}).exhibits.at(0);
        // 1, 3, 3, 5 as whole numbers: a bar each from 1 to 5.
        QCOMPARE(e.bars.size(), std::size_t{5});
        QCOMPARE(e.bars[2].y1, 2.0);
        QCOMPARE(e.bars[2].rows, (std::vector<std::uint32_t>{2, 3}));
        QCOMPARE(e.bars[0].x0, 0.5);
        QCOMPARE(e.bars[1].y1, 0.0);
        const auto* normal = named(e, "normal");
        QVERIFY(normal != nullptr);
        const double sd = std::sqrt(8.0 / 3.0);
        const double at = normal->x[60];
        QVERIFY(
            near(normal->y[60],
                 4.0 * std::exp(-0.5 * std::pow((at - 3.0) / sd, 2)) / (sd * std::sqrt(2.0 * M_PI)),
                 1e-12));
        // Under a weight the heights are shares of it.
        const Exhibit w = drawn(frame, {"x"}, "", {"w", "", "", ""}).exhibits.at(0);
        QVERIFY(near(w.bars[2].y1, 100.0 * 3.0 / 6.0, 1e-12));
        QVERIFY(w.subtitle.find("weighted by w") != std::string::npos);
        PictureSpec log;
        log.of = {"y"};
        log.logX = true;
        const Exhibit l = drawPicture(frame, log, {}, 0.05).exhibits.at(0);
        QVERIFY(l.xScale == AxisScale::Log);
        QVERIFY(near(l.bars.front().x0, 0.0, 1e-12));
        // Levels: two rows of five are in group 2.
        const Exhibit s = drawn(frame, {"g"}).exhibits.at(0);
        QCOMPARE(s.xNames, (std::vector<std::string>{"1", "2"}));
        QCOMPARE(s.bars[1].y1, 40.0);
        QCOMPARE(s.bars[1].rows, (std::vector<std::uint32_t>{1, 3}));
        const ShareInterval wilson = wilsonInterval(0.4, 5.0, 1.959963984540054);
        QVERIFY(near(s.intervals[1].low, 100.0 * wilson.low, 1e-10));
        QVERIFY(near(s.intervals[1].high, 100.0 * wilson.high, 1e-10));
        QCOMPARE(drawn(frame, {"yes"}).exhibits.at(0).xNames,
                 (std::vector<std::string>{"no", "yes"}));
    }

    void binsOfHalvesHaveNoTeeth() {
        std::vector<double> halves;
        for (int i = 0; i < 400; ++i) {
            halves.push_back(0.5 * (i % 41));
        }
        const Histogram h = histogram(halves);
        const double steps = h.width / 0.5;
        QVERIFY(near(steps, std::round(steps), 1e-12));
        // Each bin but the last holds the same number of possible values: the counts are alike.
        const auto [low, high] = std::minmax_element(h.counts.begin(), h.counts.end() - 1);
        QVERIFY(*high - *low <= h.counts.front() / 9 + 3);
        QCOMPARE(std::accumulate(h.counts.begin(), h.counts.end(), std::size_t{0}),
                 std::size_t{400});
    }

    void probabilityPicturesHoldTheirPoints() {
        const Frame frame = smallFrame();
        const Exhibit steps = drawn(frame, {"x"}, "cumulative").exhibits.at(0);
        QCOMPARE(steps.x, (std::vector<double>{1, 3, 3, 5}));
        QCOMPARE(steps.y, (std::vector<double>{0.25, 0.75, 0.75, 1.0}));
        QCOMPARE(steps.rows, (std::vector<std::size_t>{1, 2, 3, 0}));
        const double reach = std::sqrt(std::log(40.0) / 8.0);
        QVERIFY(near(steps.bands[0].low[3], 0.75 - reach, 1e-14));
        QVERIFY(near(steps.bands[0].high[0], reach, 1e-14));
        const Exhibit weighted =
            drawn(frame, {"x"}, "cumulative", {"w", "", "", ""}).exhibits.at(0);
        QVERIFY(near(weighted.y[1], 5.0 / 6.0, 1e-14));
        QVERIFY(weighted.bands.empty());
        const Exhibit quantiles = drawn(frame, {"x"}, "quantiles").exhibits.at(0);
        QCOMPARE(quantiles.y, (std::vector<double>{1, 3, 3, 5}));
        // (1 − 3/8)/(4 + 1/4) of a normal law; the quartiles are 2.5 and 3.5.
        QVERIFY(near(quantiles.x[0], -1.0491313979639725, 1e-12));
        const double slope = 1.0 / (2.0 * 0.6744897501960817);
        const auto& line = quantiles.lines[0];
        QVERIFY(near(line.y[0], 3.0 + slope * line.x[0], 1e-12));
        QVERIFY(quantiles.bands[0].low[0] < line.y[0] && quantiles.bands[0].high[0] > line.y[0]);
    }

    void groupsHaveBoxesMeansAndRows() {
        const Frame frame = smallFrame();
        const Exhibit e = drawn(frame, {"x", "g"}).exhibits.at(0);
        QCOMPARE(e.xNames, (std::vector<std::string>{"1", "2"}));
        QCOMPARE(e.x, (std::vector<double>{1, 2, 1, 2}));
        QCOMPARE(e.boxes.size(), std::size_t{2});
        QCOMPARE(e.boxes[0].median, 4.0);
        QCOMPARE(e.boxes[0].lowerQuartile, 3.5);
        QCOMPARE(e.boxes[0].high, 5.0);
        QCOMPARE(e.intervals[0].estimate, 4.0);
        // Of two values 3 and 5: 4 ± t(1) · √2/√2.
        QVERIFY(near(e.intervals[0].high - 4.0, 12.706204736174707, 1e-10));
        for (const float shift : e.dx) {
            QVERIFY(std::abs(shift) <= 0.25F);
        }
        QVERIFY(drawn(frame, {"x", "g"}, "strips").exhibits.at(0).boxes.empty());
        const Exhibit means = drawn(frame, {"x", "g"}, "means").exhibits.at(0);
        QVERIFY(means.pointsHidden && means.intervals[1].at == 2.0);
        // Boxes alone show what no whisker reaches.
        std::vector<double> v(20, 0.0);
        std::iota(v.begin(), v.end(), 0.0);
        v.back() = 90.0;
        Table far = tableOf({{"v", v}, {"g", std::vector<double>(20, 1.0)}});
        far.variables[1].measure = Measure::Groups;
        const Exhibit boxes = drawn(frameOf(far), {"v", "g"}, "boxes").exhibits.at(0);
        QCOMPARE(boxes.y, (std::vector<double>{90.0}));
        QCOMPARE(boxes.boxes[0].high, 18.0);
    }

    void binsHoldEqualCountsAndTheirMeans() {
        // 400 rows: y = 3x plus a wave that a line leaves out; x uneven.
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 400; ++i) {
            x.push_back(std::pow(0.05 * i, 1.5));
            y.push_back(3.0 * x.back() + 40.0 * std::sin(0.05 * i));
        }
        x.push_back(kNone);
        y.push_back(7.0);
        const Frame frame = frameOf(tableOf({{"x", x}, {"y", y}}));
        const DrawnPicture d = drawn(frame, {"y", "x"}, "binned");
        const Exhibit& e = d.exhibits.at(0);
        QCOMPARE(e.intervals.size(), std::size_t{20});
        double meanX = 0.0;
        double meanY = 0.0;
        for (std::size_t k = 0; k < 20; ++k) {
            // The k-th twenty rows in order of x, by hand.
            double sumX = 0.0;
            double sumY = 0.0;
            double squares = 0.0;
            for (std::size_t i = 20 * k; i < 20 * k + 20; ++i) {
                sumX += x[i];
                sumY += y[i];
                squares += y[i] * y[i];
            }
            QVERIFY(near(e.intervals[k].at, sumX / 20.0, 1e-13));
            QVERIFY(near(e.intervals[k].estimate, sumY / 20.0, 1e-12));
            const double sd = std::sqrt((squares - sumY * sumY / 20.0) / 19.0);
            const double t19 = 2.093024054408263;
            QVERIFY(near(e.intervals[k].high - e.intervals[k].estimate, t19 * sd / std::sqrt(20.0),
                         1e-9));
            meanX += sumX / 400.0;
            meanY += sumY / 400.0;
        }
        // The line is that of the scatter, through all rows.
        QVERIFY(near(d.slope, drawn(frame, {"y", "x"}, "scatter").slope, 1e-12));
        const auto* line = named(e, "line");
        QVERIFY(line != nullptr);
        QVERIFY(near(line->y[0] + d.slope * (meanX - line->x[0]), meanY, 1e-11));
        QVERIFY(e.subtitle.find("n = 400 · 20 bins") == 0);
        QVERIFY(d.words.back().find("counts alike") == std::string::npos);
        Survey survey;
        survey.weight = "x";
        QVERIFY(drawn(frame, {"y", "x"}, "binned", survey).words.back().find("counts alike") !=
                std::string::npos);
        // Few values: a bin each; one value: one bin and no line; a yes–no: its share.
        const Frame few = frameOf(
            tableOf({{"x", {1, 1, 1, 2, 2, 2, 3, 3, 3}}, {"y", {1, 2, 3, 5, 5, 5, 0, 4, 8}}}));
        const Exhibit bins = drawn(few, {"y", "x"}, "binned").exhibits.at(0);
        QCOMPARE(bins.intervals.size(), std::size_t{3});
        QCOMPARE(bins.intervals[2].at, 3.0);
        QCOMPARE(bins.intervals[2].estimate, 4.0);
        const Frame one = frameOf(tableOf({{"x", {4, 4, 4}}, {"y", {1, 2, 6}}}));
        const Exhibit single = drawn(one, {"y", "x"}, "binned").exhibits.at(0);
        QCOMPARE(single.intervals.size(), std::size_t{1});
        QCOMPARE(single.intervals[0].estimate, 3.0);
        QVERIFY(single.lines.empty());
        Table yes = tableOf({{"x", {1, 2, 3, 4}}, {"member", {0, 0, 1, 1}}});
        yes.variables[1].measure = Measure::YesNo;
        const Exhibit share = drawn(frameOf(yes), {"member", "x"}, "binned").exhibits.at(0);
        QCOMPARE(share.intervals.back().estimate, 1.0);
        QCOMPARE(share.intervals.front().estimate, 0.0);
        const Frame none = frameOf(tableOf({{"x", {1, kNone}}, {"y", {kNone, 2}}}));
        QCOMPARE(drawn(none, {"y", "x"}, "binned").nothing, std::string("No row has both."));
    }

    void scatterHasItsLinesAndBands() {
        Table t = smallTable();
        const Frame frame = smallFrame();
        PictureSpec spec;
        spec.of = {"y", "x"};
        spec.bands = true;
        spec.square = true;
        const DrawnPicture d = drawPicture(frame, spec, {}, 0.05);
        const Exhibit& e = d.exhibits.at(0);
        QCOMPARE(e.x, (std::vector<double>{5, 1, 3, 3}));
        QCOMPARE(e.rows, (std::vector<std::size_t>{0, 1, 2, 3}));
        // Slope of 5→10, 1→2, 3→6, 3→7: (2·4 + 2·4)/8 = 2, about (3, 6.25).
        QVERIFY(near(d.slope, 2.0, 1e-13));
        const auto* line = named(e, "line");
        QVERIFY(line != nullptr && line->dashed);
        QVERIFY(near(line->y.front(), 2.25, 1e-13) && near(line->y.back(), 10.25, 1e-13));
        QVERIFY(named(e, "square") != nullptr);
        QVERIFY(named(e, "smooth") == nullptr);  // Four points carry none.
        QCOMPARE(e.bands.size(), std::size_t{4});
        // Residuals −.25 −.25 −.25 .75 about the line: σ² = .75/2; at the mean of x se = σ/2.
        const double sigma = std::sqrt(0.375);
        const double t2 = 4.302652729749462;
        const auto& mean = e.bands[1];
        QVERIFY(near(mean.high[30] - 6.25, t2 * sigma / 2.0, 1e-11));
        QVERIFY(near(e.bands[0].high[30] - 6.25, t2 * sigma * std::sqrt(1.25), 1e-11));
        // By groups: a series and a line each.
        const Exhibit by = drawn(frame, {"y", "x", "g"}).exhibits.at(0);
        QCOMPARE(by.seriesNames, (std::vector<std::string>{"1", "2"}));
        QCOMPARE(by.series, (std::vector<std::uint8_t>{0, 1, 0, 1}));
        // Logs: the line is straight in them, and what is not positive is counted.
        t = tableOf({{"a", {1, 10, 100, -1}}, {"b", {2, 20, 200, 5}}});
        PictureSpec logs;
        logs.of = {"b", "a"};
        logs.logX = logs.logY = true;
        const DrawnPicture l = drawPicture(frameOf(t), logs, {}, 0.05);
        QVERIFY(near(l.slope, 1.0, 1e-12));
        QVERIFY(l.exhibits[0].subtitle.find("1 at or below zero") != std::string::npos);
    }

    void equalPointsMoveApartWithoutChance() {
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 60; ++i) {
            x.push_back(i % 3);
            y.push_back(0.1 * i + 0.01);
        }
        const Frame frame = frameOf(tableOf({{"y", y}, {"x", x}}));
        const Exhibit a = drawn(frame, {"y", "x"}).exhibits.at(0);
        const Exhibit b = drawn(frame, {"y", "x"}).exhibits.at(0);
        QCOMPARE(a.dx, b.dx);
        QCOMPARE(a.dx.size(), std::size_t{60});
        QVERIFY(a.dy.empty());
        QCOMPARE(a.x[4], 1.0);  // The value itself stays.
    }

    void linesOverTimeBreakAtGaps() {
        Table t = tableOf({{"u", {1, 1, 1, 2, 2, 2}},
                           {"year", {2001, 2002, 2004, 2001, 2002, 2003}},
                           {"v", {1, 2, 4, 10, 20, kNone}},
                           {"g", {1, 1, 1, 2, 2, 2}}});
        t.variables[3].measure = Measure::Groups;
        const Layout layout{Layout::Kind::Panel, "u", "year", ""};
        const Frame frame = Frame::make(t, {}, {}, {}, layout);
        const Exhibit e = drawn(frame, {"v"}, "over-time").exhibits.at(0);
        // Unit 1 in two pieces, unit 2, and the mean.
        QCOMPARE(e.lines.size(), std::size_t{4});
        QCOMPARE(e.lines[0].x, (std::vector<double>{2001, 2002}));
        QCOMPARE(e.lines[1].x, (std::vector<double>{2004}));
        QCOMPARE(e.lines[2].rows, (std::vector<std::uint32_t>{3, 4}));
        QCOMPARE(e.lines[3].name, std::string("mean"));
        QCOMPARE(e.lines[3].y, (std::vector<double>{5.5, 11, 4}));
        QVERIFY(e.pointsHidden && e.x.size() == 5);
        const Exhibit by = drawn(frame, {"v", "g"}, "over-time").exhibits.at(0);
        QCOMPARE(by.lines.size(), std::size_t{2});
        QCOMPARE(by.lines[1].y, (std::vector<double>{10, 20}));
        const Exhibit r =
            drawn(Frame::make(
                      tableOf({{"t", {1, 2, 3, 4, 5, 6, 7, 8}}, {"v", {1, 2, 1, 2, 1, 2, 1, 2}}}),
                      {}, {}, {}, {Layout::Kind::Series, "", "t", ""}),
                  {"v"}, "autocorrelation")
                .exhibits.at(0);
        QVERIFY(near(r.bars[0].y0, -7.0 / 8.0, 1e-12));
        QVERIFY(near(r.bands[0].high[0], 1.959963984540054 / std::sqrt(8.0), 1e-12));
    }

    void tilesShowTheCrossTable() {
        Table t = tableOf({{"a", {1, 1, 1, 2, 2, 2, 2, 1}}, {"b", {1, 1, 1, 1, 2, 2, 2, 2}}});
        t.variables[0].measure = Measure::Groups;
        t.variables[1].measure = Measure::Groups;
        const DrawnPicture d = drawn(frameOf(t), {"a", "b"});
        const Exhibit& e = d.exhibits.at(0);
        QCOMPARE(e.bars.size(), std::size_t{4});
        // Column 1 holds half of the rows, three quarters of them are 1.
        QVERIFY(near(e.bars[0].y1, 75.0, 1e-12));
        QVERIFY(near(e.bars[0].x1, 49.6, 1e-12));
        QCOMPARE(e.bars[0].rows, (std::vector<std::uint32_t>{0, 1, 2}));
        QVERIFY(*e.bars[0].shade > 0.0 && *e.bars[1].shade < 0.0);
        // (3 − 2)/√(2 · ½ · ½) = √2, of at most 6.
        QVERIFY(near(*e.bars[0].shade, std::sqrt(2.0) / 6.0, 1e-12));
        QCOMPARE(d.table->cells[1][1], std::string("75.0 (3)"));
    }

    void manyVariablesMakeAMatrixAndAMosaic() {
        const Frame frame = smallFrame();
        const DrawnPicture m = drawn(frame, {"y", "x", "w"});
        QCOMPARE(m.columns, std::size_t{3});
        QCOMPARE(m.exhibits.size(), std::size_t{9});
        QCOMPARE(m.exhibits[3].yTitle, std::string("x"));
        QCOMPARE(m.exhibits[3].xTitle, std::string("y"));
        QVERIFY(m.exhibits[1].tiles && m.exhibits[4].fromZero);
        QCOMPARE(m.exhibits[1].bars[0].of, (std::vector<std::string>{"y", "x"}));
        const DrawnPicture mosaic = drawn(frame, {"y", "x", "w"}, "mosaic");
        QCOMPARE(mosaic.exhibits[0].bars.size(), std::size_t{3});
        bool found = false;
        for (const auto& bar : mosaic.exhibits[0].bars) {
            const std::set<std::string> pair(bar.of.begin(), bar.of.end());
            if (pair == std::set<std::string>{"x", "y"}) {
                // r = 16/√(8 · 32.75).
                QVERIFY(near(*bar.shade, 16.0 / std::sqrt(8.0 * 32.75), 1e-12));
                found = true;
            }
        }
        QVERIFY(found);
    }

    void numbersStandInATable() {
        const Frame frame = smallFrame();
        const PictureTable t = *drawn(frame, {"x"}, "table").table;
        QCOMPARE(t.cells[0].size(), t.cells[1].size());
        QCOMPARE(t.cells[1][0], std::string("x"));
        QCOMPARE(t.cells[1][1], std::string("4"));
        QCOMPARE(t.cells[1][2], std::string("1"));
        QCOMPARE(t.cells[1][3], std::string("3"));
        QCOMPARE(t.cells[1][6], std::string("2.5"));
        // What to look at first is said: one of five values is missing, nothing leans far.
        const auto words = drawn(frame, {"x"}, "table").words;
        QCOMPARE(words.size(), std::size_t{2});
        QVERIFY(words[0].find("**x** lacks 1 value in 5 rows") != std::string::npos);
        QVERIFY(words[1].find("No quantity") != std::string::npos);
        const PictureTable by = *drawn(frame, {"x", "g"}, "table").table;
        QCOMPARE(by.cells[2][0], std::string("   1"));
        QCOMPARE(by.cells[2][3], std::string("4"));
        QCOMPARE(by.cells[3][3], std::string("2"));
        const PictureTable shares = *drawn(frame, {"g"}, "table").table;
        QCOMPARE(shares.cells[2][3], std::string("40.0 %"));
        const PictureTable weighted = *drawn(frame, {"g"}, "table", {"w", "", "", ""}).table;
        QCOMPARE(weighted.cells[2][3], std::string("57.1 %"));
    }

    void emptyPicturesSayWhy() {
        Table t = tableOf({{"none", {kNone, kNone}}, {"g", {1, 1}}, {"x", {kNone, 2}}});
        t.variables[1].measure = Measure::Groups;
        const Frame frame = frameOf(t);
        for (const auto& of : std::vector<std::vector<std::string>>{
                 {"none"}, {"none", "x"}, {"none", "g"}, {"x", "none"}}) {
            for (const PictureKind* kind : fittingPictures(frame, of)) {
                const DrawnPicture d = drawn(frame, of, kind->id);
                QVERIFY2(!d.nothing.empty() || d.table.has_value(), kind->id);
            }
        }
        // One row, and a frame without any.
        for (const Table& small :
             {tableOf({{"x", {2}}, {"y", {3}}}), tableOf({{"x", {}}, {"y", {}}})}) {
            for (const auto& of : std::vector<std::vector<std::string>>{{"x"}, {"x", "y"}}) {
                for (const PictureKind* kind : fittingPictures(frameOf(small), of)) {
                    const DrawnPicture d = drawn(frameOf(small), of, kind->id);
                    QVERIFY2(!d.nothing.empty() || !d.exhibits.empty() || d.table, kind->id);
                }
            }
        }
    }

    void aSlopeWithoutRowsIsTheSlopeOfTheOthers() {
        const Table all = tableOf({{"x", {1, 2, 3, 4, 5, 6}}, {"y", {2, 1, 4, 3, 9, 1}}});
        const Table fewer = tableOf({{"x", {1, 2, 3, 4, 5}}, {"y", {2, 1, 4, 3, 9}}});
        const auto scatter = drawn(frameOf(all), {"y", "x"}, "scatter");
        const auto without = slopeWithout(scatter, frameOf(all), {}, RowSet{5});
        QVERIFY(without.has_value());
        // By hand: Σ(x−3)(y−3.8) = 16 over Σ(x−3)² = 10.
        QVERIFY(std::abs(*without - 1.6) < 1e-12);
        const auto same = slopeWithout(drawn(frameOf(fewer), {"y", "x"}, "scatter"), frameOf(fewer),
                                       {}, RowSet{});
        QVERIFY(std::abs(*without - *same) < 1e-14);
        // Two rows left have a line, one has none.
        QVERIFY(!slopeWithout(scatter, frameOf(all), {}, RowSet{1, 2, 3, 4, 5}));
    }

    void rowsAreFoundByACondition() {
        const Frame frame = smallFrame();
        // Of all rows, the one set aside among them: who asks says which rows count.
        const auto rows = rowsWhere(frame, "x >= 3 and g = 1");
        QCOMPARE(*rows, (std::vector<std::size_t>{0, 2, 5}));
        std::vector<std::size_t> inSample;
        std::ranges::copy_if(*rows, std::back_inserter(inSample),
                             [&](std::size_t r) { return frame.states()[r] == RowState::In; });
        QCOMPARE(inSample, (std::vector<std::size_t>{0, 2}));
        QVERIFY(rowsWhere(frame, "x > 100")->empty());
        QCOMPARE(rowsWhere(frame, "hivs > 1").error().code, ErrorCode::UnknownName);
    }

    void thumbnailsLightUpTheirPart() {
        Table t = tableOf({{"x", {1, 2, 2, 3, 3, 3, 3, kNone}}, {"g", {7, 7, 7, 5, 5, 5, 5, 5}}});
        t.variables[1].measure = Measure::Groups;
        const Thumbnail x = thumbnailOf(t.columns[0], t.variables[0]);
        QCOMPARE(x.bars.front(), 0.25);
        QCOMPARE(x.bars.back(), 1.0);
        const auto lit = litPart(x, t.columns[0], {0, 4, 5, 7});
        QCOMPARE(lit.front(), 0.25);
        QCOMPARE(lit.back(), 0.5);
        // The largest level first.
        const Thumbnail g = thumbnailOf(t.columns[1], t.variables[1]);
        QCOMPARE(g.bars, (std::vector<double>{1.0, 0.6}));
        QCOMPARE(litPart(g, t.columns[1], {0}), (std::vector<double>{0.0, 0.2}));
        QCOMPARE(litPart(g, t.columns[1], {}), (std::vector<double>{0.0, 0.0}));
        // Of many rows a part is looked at and stands for all.
        std::vector<double> many(60000);
        RowSet half;
        for (std::size_t i = 0; i < many.size(); ++i) {
            many[i] = static_cast<double>(i % 2);
            if (i % 4 == 0) {
                half.insert(i);
            }
        }
        const Column column = Column::ofNumbers("m", many);
        Variable yes;
        yes.measure = Measure::YesNo;
        const auto part = litPart(thumbnailOf(column, yes), column, half);
        QVERIFY(near(part[0], 0.5, 0.02) && part[1] == 0.0);
    }

    void theDeskIsPartOfTheStudy() {
        const std::string text = R"({"format": "rapporto-study", "version": 1,
            "source": {"kind": "table", "file": "a.csv"}, "questions": [],
            "desk": {"pictures": [{"kind": "scatter", "of": ["y", "x"], "log": ["x"],
                     "show": ["line", "bands"], "span": 0.3, "robust": true, "weighted": false,
                     "title": "Mine", "glow": 3}], "lamp": "on"}})";
        const auto study = readStudyText(text);
        QVERIFY(study.has_value());
        const PictureSpec& spec = study->desk.pictures.at(0);
        QVERIFY(spec.logX && !spec.logY && spec.line && spec.bands && !spec.smooth);
        QVERIFY(spec.robust && !spec.weighted && spec.span == 0.3 && spec.title == "Mine");
        const std::string once = studyText(*study);
        QVERIFY(once.find("\"glow\": 3") != std::string::npos);
        QVERIFY(once.find("\"lamp\": \"on\"") != std::string::npos);
        const auto again = readStudyText(once);
        QCOMPARE(again->desk, study->desk);
        QCOMPARE(studyText(*again), once);
        for (const char* wrong : {R"({"of": "x"})", R"({"of": [], "span": 3})", R"({"kind": 4})",
                                  R"({"robust": 1})", "7"}) {
            std::string bad = text;
            const auto from = bad.find("{\"kind\": \"scatter\"");
            bad.replace(from, bad.find('}', from) + 1 - from, wrong);
            const auto refused = readStudyText(bad);
            QVERIFY2(!refused && refused.error().where == "desk, picture 1", wrong);
        }
        // Another name for a derived variable reaches the desk.
        Study derived = *study;
        derived.derived = {{"x", "ln(a)", ""}};
        const auto renamed = apply(derived, {RenameDerived{"x", "lx"}, "rename"});
        QCOMPARE(renamed->desk.pictures[0].of, (std::vector<std::string>{"y", "lx"}));
    }

    void calculatorFollowsItsLaws() {
        const auto& r = reference()["laws"];
        QVERIFY(near(*probabilityBeyond({LawKind::Normal, 0, 0}, Tail::Both, -1.96),
                     r["normal_1_96"].get<double>(), 1e-12));
        const Law t{LawKind::T, 20, 0};
        QVERIFY(near(*probabilityBeyond(t, Tail::Both, 2), r["t_2_20"].get<double>(), 1e-12));
        QVERIFY(
            near(*probabilityBeyond(t, Tail::Lower, -2), r["t_2_20_above"].get<double>(), 1e-12));
        QVERIFY(near(*probabilityBeyond({LawKind::ChiSquare, 4, 0}, Tail::Both, 9),
                     r["chi_9_4"].get<double>(), 1e-12));
        QVERIFY(near(*probabilityBeyond({LawKind::F, 2, 40}, Tail::Upper, 3),
                     r["f_3_2_40"].get<double>(), 1e-12));
        // There and back, under every law and tail, far out too.
        for (const Law& law : {Law{LawKind::Normal, 0, 0}, t, Law{LawKind::ChiSquare, 3, 0},
                               Law{LawKind::F, 3, 17}}) {
            for (const Tail tail : {Tail::Both, Tail::Upper, Tail::Lower}) {
                for (const double p : {0.9, 0.4, 0.05, 1e-9}) {
                    QVERIFY(
                        near(*probabilityBeyond(law, tail, *statisticFor(law, tail, p)), p, 1e-8));
                }
            }
        }
        QVERIFY(!statisticFor(t, Tail::Both, 0.0) && !statisticFor(t, Tail::Both, 1.5));
        QVERIFY(!probabilityBeyond({LawKind::T, 0, 0}, Tail::Both, 1));
        const Exhibit e = lawPicture(t, Tail::Both, 2.0);
        QCOMPARE(e.bands.size(), std::size_t{2});
        QCOMPARE(e.bands[0].x.front(), 2.0);
        QVERIFY(lawPicture({LawKind::ChiSquare, 1, 0}, Tail::Upper, 0.0).lines.size() == 1);
    }

    void varianceSplitFillsItself() {
        const auto s = splitVariance(30.0, 70.0, std::nullopt, 24, 3);
        QVERIFY(near(s->total, 100.0, 1e-14));
        QVERIFY(near(s->f, 10.0 / 3.5, 1e-14));
        QVERIFY(near(s->rSquared, 0.3, 1e-14));
        QVERIFY(near(s->adjustedRSquared, 1.0 - 0.7 * 23.0 / 20.0, 1e-13));
        QVERIFY(near(splitVariance(std::nullopt, 70.0, 100.0, 24, 3)->f, s->f, 1e-13));
        QVERIFY(!splitVariance(30.0, std::nullopt, std::nullopt, 24, 3));
        QVERIFY(!splitVariance(30.0, 70.0, 90.0, 24, 3));
        QVERIFY(!splitVariance(30.0, 70.0, std::nullopt, 4, 3));
        QVERIFY(!splitVariance(130.0, std::nullopt, 100.0, 24, 3));
    }

    /// ./dev gallery draws what stands there: a new kind belongs into it.
    void everyKindStandsInTheGallery() {
        std::set<std::string> shown;
        for (const char* name : {"rows", "moments"}) {
            const auto study = readStudyFile(std::string(RAPPORTO_SOURCE_DIR) + "/docs/gallery/" +
                                             name + ".rapporto");
            QVERIFY2(study.has_value(), name);
            std::string words;
            for (const ReportItem& item : study->report) {
                if (item.picture) {
                    shown.insert(item.picture->kind);
                    QVERIFY2(words.starts_with("# " + item.picture->kind), words.c_str());
                }
                words = item.text;
            }
        }
        std::set<std::string> kinds;
        for (const PictureKind& kind : allPictureKinds()) {
            kinds.insert(kind.id);
        }
        QCOMPARE(shown, kinds);
    }
};

QTEST_APPLESS_MAIN(PictureTest)
#include "picture_test.moc"
