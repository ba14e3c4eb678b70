#include "core/left/left_picture.h"

#include "core/base/format.h"
#include "core/describe/normality_tests.h"
#include "core/left/left_correlate.h"
#include "core/left/left_describe.h"
#include "core/picture/axis.h"
#include "core/picture/counted.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;

/// Levels that a table of numbers or a cross-table can show.
constexpr std::size_t kMostListed = 1000;
constexpr std::size_t kMostCrossed = 30;
constexpr std::size_t kMostCut = 12;

/// What a picture is made from, and who is asked.
struct Asking {
    const Study& study;
    const Frame& frame;
    const PictureSpec& spec;
    LeftRows rows;
    Job job;

    [[nodiscard]] PictureInput input() const { return {frame, spec, study.survey, study.alpha}; }

    /// The part of the picture's variable k, added in the order in which they are asked for.
    [[nodiscard]] Result<const LeftPart*> part(std::size_t k) {
        const auto at = rows.add(quotedName(spec.of[k]));
        return at ? Result<const LeftPart*>(&rows.part(*at)) : tl::make_unexpected(at.error());
    }
};

using Made = Result<DrawnPicture>;

DrawnPicture nothing(std::string why) {
    DrawnPicture out;
    out.nothing = std::move(why);
    return out;
}

/// A variable of the desk without cells.
DeskVariable meta(const Frame& frame, const std::string& name) {
    DeskVariable out;
    out.name = name;
    out.title = titleOnDesk(*frame.variable(name));
    out.groups = isGroupsOnDesk(frame, name);
    out.date = frame.variable(name)->measure == Measure::Date;
    return out;
}

/// The levels of a part, and the variable with their names.
struct Levels {
    DeskVariable variable;
    LeftLevels levels;
};

Result<Levels> levelsFor(Asking& asking, const LeftPart& part, std::size_t most) {
    auto levels = leftLevels(asking.rows, part, most);
    if (!levels) {
        return tl::make_unexpected(levels.error());
    }
    Levels out{meta(asking.frame, part.name), *std::move(levels)};
    out.variable.levels = levelsOnDesk(out.levels.found, *asking.frame.variable(part.name),
                                       part.value.type == SqlValue::Type::Text);
    return out;
}

Made distribution(Asking& asking) {
    const auto part = asking.part(0);
    if (!part) {
        return tl::make_unexpected(part.error());
    }
    const bool log = asking.spec.logX;
    const std::string x = log ? fmt::format("(case when {0} > 0 then ln({0}) / {1} end)",
                                            (*part)->alias, sqlNumber(std::log(10.0)))
                              : (*part)->alias;
    const auto counts =
        asking.rows.count({log ? "case when " + (*part)->alias + " <= 0 then 1 else 0 end" : "0"});
    if (!counts) {
        return tl::make_unexpected(counts.error());
    }
    const LeftCut all{asking.rows.used()};
    const auto summary = leftSummaries(asking.rows, all, x, true);
    if (!summary) {
        return tl::make_unexpected(summary.error());
    }
    const DeskVariable v = meta(asking.frame, (*part)->name);
    CountedBins counted;
    counted.shape = summary->front();
    counted.n = counted.shape.n;
    counted.notPositive = wholeOf(counts->also[0]);
    if (counted.n == 0) {
        return nothing("No row in the sample has a value of " + v.name +
                       (counted.notPositive > 0 ? " above zero." : "."));
    }
    auto bins = leftHistogram(asking.rows, all.from, x, counted.shape);
    if (!bins) {
        return tl::make_unexpected(bins.error());
    }
    counted.title = v.title;
    counted.scale = log ? AxisScale::Log : v.date ? AxisScale::Date : AxisScale::Number;
    counted.whole = static_cast<double>(counted.n) * bins->width;
    counted.bins = *std::move(bins);
    DrawnPicture out;
    out.exhibits.push_back(histogramExhibit(counted));
    const Summary& s = counted.shape;
    const auto value = [&](double number) { return valueOn(counted.scale, number); };
    out.numbers = {{log ? "geometric mean" : "mean", value(s.mean)},
                   {"standard deviation", log || v.date ? "" : shortNumber(s.sd, 4)},
                   {"lowest", value(s.low)},
                   {"25 %", value(s.lowerQuartile)},
                   {"median", value(s.median)},
                   {"75 %", value(s.upperQuartile)},
                   {"highest", value(s.high)}};
    std::erase_if(out.numbers, [](const NamedNumber& one) { return one.value.empty(); });
    if (!v.date && s.sd > 0.0) {
        addNormality(out, normalityTestsByMoments(s.n, s.skewness, s.kurtosis), s,
                     asking.study.alpha);
        if (log) {
            out.words.front() = "Of the logarithm: " + out.words.front();
        }
    }
    return out;
}

Made shares(Asking& asking) {
    const auto part = asking.part(0);
    if (!part) {
        return tl::make_unexpected(part.error());
    }
    const auto levels = levelsFor(asking, **part, kMostListed);
    if (!levels) {
        return tl::make_unexpected(levels.error());
    }
    CountedShares counted;
    counted.name = (*part)->name;
    counted.shown = asking.frame.variable(counted.name)->shown();
    counted.title = levels->variable.title;
    counted.levels = levels->variable.levels;
    std::vector<std::size_t> counts;
    for (const FoundLevel& level : levels->levels.found) {
        counts.push_back(level.count);
        counted.n += level.count;
    }
    counted.shares = sharesOfCounts(counts, asking.study.alpha);
    counted.intervals = percentLevel(asking.study.alpha) + " intervals";
    counted.of = "rows";
    return sharesPicture(counted);
}

/// Whiskers end at the last values within one and a half box lengths (Tukey 1977).
Result<void> addWhiskers(Asking& asking, const LeftCut& cut, const std::string& y,
                         std::vector<Exhibit::Box>& boxes) {
    std::string low = "case g";
    std::string high = low;
    for (const Exhibit::Box& box : boxes) {
        const auto g = static_cast<std::size_t>(box.at) - 1;
        const double reach = 1.5 * (box.upperQuartile - box.lowerQuartile);
        low += fmt::format(" when {} then {}", g, sqlNumber(box.lowerQuartile - reach));
        high += fmt::format(" when {} then {}", g, sqlNumber(box.upperQuartile + reach));
    }
    const auto found = asking.rows.askEach(
        "select g, min(x), max(x) from " +
        workedOut("g, x, " + low + " end as low, " + high + " end as high",
                  workedOut(cut.group + " as g, " + y + " as x", cut.from, "cut"), "fenced") +
        " where x >= low and x <= high group by g");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    for (const auto& row : found->rows) {
        for (Exhibit::Box& box : boxes) {
            if (box.at - 1.0 == std::stod(*row[0])) {
                box.low = std::min(box.low, std::stod(*row[1]));
                box.high = std::max(box.high, std::stod(*row[2]));
            }
        }
    }
    return {};
}

Made groups(Asking& asking, bool withBoxes) {
    const auto y = asking.part(0);
    const auto g = y ? asking.part(1) : y;
    if (!g) {
        return tl::make_unexpected(g.error());
    }
    const LeftPart outcome = **asking.part(0);
    const LeftPart grouping = **asking.part(1);
    const auto levels = levelsFor(asking, grouping, kMostBars);
    if (!levels) {
        return tl::make_unexpected(levels.error());
    }
    const bool log = asking.spec.logY;
    const LeftCut cut = LeftCut::by(grouping, levels->levels,
                                    asking.rows.usedWhere(log ? outcome.alias + " > 0" : ""));
    if (cut.groups == 0) {
        return nothing("No row has both.");
    }
    const auto summaries = leftSummaries(asking.rows, cut, outcome.alias, withBoxes);
    if (!summaries) {
        return tl::make_unexpected(summaries.error());
    }
    DrawnPicture out;
    Exhibit e;
    e.xNames = levels->variable.levels;
    e.yScale = log ? AxisScale::Log : AxisScale::Number;
    std::size_t n = 0;
    for (std::size_t k = 0; k < cut.groups; ++k) {
        const Summary& s = (*summaries)[k];
        n += s.n;
        if (s.n == 0) {
            continue;
        }
        const double at = static_cast<double>(k) + 1.0;
        if (withBoxes) {
            e.boxes.push_back({at, s.high, s.lowerQuartile, s.median, s.upperQuartile, s.low});
        } else {
            e.intervals.push_back(meanInterval(s, at, asking.study.alpha));
        }
    }
    if (n == 0) {
        return nothing("No row has both.");
    }
    if (withBoxes) {
        if (auto whiskers = addWhiskers(asking, cut, outcome.alias, e.boxes); !whiskers) {
            return tl::make_unexpected(whiskers.error());
        }
    }
    for (Exhibit::Box& box : e.boxes) {
        for (double* v :
             {&box.low, &box.lowerQuartile, &box.median, &box.upperQuartile, &box.high}) {
            *v = onAxis(log, *v);
        }
    }
    for (Exhibit::Interval& mean : e.intervals) {
        for (double* v : {&mean.low, &mean.estimate, &mean.high}) {
            *v = onAxis(log, *v);
        }
    }
    nameGroups(e, meta(asking.frame, outcome.name), levels->variable, asking.input(),
               {withBoxes, withBoxes, !withBoxes}, n);
    out.exhibits.push_back(std::move(e));
    addComparison(out, compareSummaries(levels->variable.levels, *summaries, asking.study.alpha),
                  outcome.name, asking.study.alpha);
    return out;
}

Made boxes(Asking& asking) { return groups(asking, true); }

Made means(Asking& asking) { return groups(asking, false); }

Made cross(Asking& asking) {
    std::vector<Levels> both;
    std::vector<LeftPart> parts;
    for (const std::size_t k : {0U, 1U}) {
        const auto part = asking.part(k);
        if (!part) {
            return tl::make_unexpected(part.error());
        }
        parts.push_back(**part);
    }
    for (const LeftPart& part : parts) {
        auto levels = levelsFor(asking, part, kMostCrossed);
        if (!levels) {
            return tl::make_unexpected(levels.error());
        }
        both.push_back(*std::move(levels));
    }
    const auto placed = [&](std::size_t k) {
        return LeftCut::by(parts[k], both[k].levels, {}).group;
    };
    const auto found = asking.rows.askEach(
        "select r, c, count(*) from " +
        workedOut(placed(0) + " as r, " + placed(1) + " as c", asking.rows.used(), "cut") +
        " group by r, c");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    Eigen::MatrixXd counts = Eigen::MatrixXd::Zero(static_cast<Index>(both[0].levels.found.size()),
                                                   static_cast<Index>(both[1].levels.found.size()));
    for (const auto& row : found->rows) {
        counts(std::stol(*row[0]), std::stol(*row[1])) += std::stod(*row[2]);
    }
    const auto table = crossTable(both[0].variable.levels, both[1].variable.levels, counts);
    if (!table) {
        return nothing(table.error().text());
    }
    return crossPicture({both[0].variable, both[1].variable,
                         asking.frame.variable(parts[0].name)->shown() + " within " +
                             asking.frame.variable(parts[1].name)->shown(),
                         *table, table->counts, "", asking.study.alpha});
}

Made binned(Asking& asking) {
    std::vector<std::string> alias;
    for (const std::size_t k : {1U, 0U}) {
        const auto part = asking.part(k);
        if (!part) {
            return tl::make_unexpected(part.error());
        }
        alias.push_back((*part)->alias);
    }
    const LeftCut all{asking.rows.used()};
    const auto summary = leftSummaries(asking.rows, all, alias[0], false);
    if (!summary) {
        return tl::make_unexpected(summary.error());
    }
    CountedMeans counted;
    if (summary->front().n == 0) {
        return binnedPicture(asking.input(), counted);
    }
    std::vector<double> shares;
    for (std::size_t k = 1; k < kEqualBins; ++k) {
        shares.push_back(static_cast<double>(k) / static_cast<double>(kEqualBins));
    }
    const auto quantiles = leftQuantiles(asking.rows, all, alias[0], *summary, shares);
    if (!quantiles) {
        return tl::make_unexpected(quantiles.error());
    }
    const auto edges = equalBinEdges(quantiles->front(), summary->front().low);
    std::string bin = "case";
    for (std::size_t k = 0; k < edges.size(); ++k) {
        bin += fmt::format(" when {} < {} then {}", alias[0], sqlNumber(edges[k]), k);
    }
    bin = edges.empty() ? "0" : bin + fmt::format(" else {} end", edges.size());
    const LeftCut cut{all.from, bin, edges.size() + 1};
    const auto x = leftSummaries(asking.rows, cut, alias[0], false);
    const auto y = x ? leftSummaries(asking.rows, cut, alias[1], false) : x;
    if (!y) {
        return tl::make_unexpected(y.error());
    }
    for (std::size_t k = 0; k < cut.groups; ++k) {
        if ((*x)[k].n > 0) {
            counted.bins.push_back({(*x)[k].mean, (*y)[k]});
        }
    }
    const auto moments = leftMoments(asking.rows, alias, {}, "1", all.from, true);
    if (!moments) {
        return tl::make_unexpected(moments.error());
    }
    counted.n = moments->weight;
    counted.meanX = moments->mean(0);
    counted.meanY = moments->mean(1);
    counted.xx = moments->spread(0, 0) * counted.n;
    counted.xy = moments->spread(1, 0) * counted.n;
    counted.yy = moments->spread(1, 1) * counted.n;
    return binnedPicture(asking.input(), counted);
}

Made mosaic(Asking& asking) {
    Answer answer;
    answer.question.kind = "correlate";
    for (const std::string& name : asking.spec.of) {
        answer.question.variables.push_back(quotedName(name));
    }
    CorrelationSettings settings;
    settings.alpha = asking.study.alpha;
    const auto table = correlateLeft(answer, asking.study, asking.frame, settings, asking.job);
    if (!table) {
        return tl::make_unexpected(table.error());
    }
    DrawnPicture out = mosaicPicture(*table, true, false);
    if (answer.asked) {
        out.asked = *answer.asked;
    }
    return out;
}

/// One variable’s rows of a table of numbers, cut or whole.
Result<CountedVariable> addNumbers(Asking& asking, PictureTable& table, const LeftPart& part,
                                   const LeftCut& cut, const std::vector<std::string>& cutNames,
                                   double rows) {
    CountedVariable out{part.name, 0, std::nullopt};
    const DeskVariable v = meta(asking.frame, part.name);
    if (!v.groups) {
        const auto summaries = leftSummaries(asking.rows, cut, part.alias, true);
        const auto whole =
            cutNames.empty() || !summaries
                ? summaries
                : leftSummaries(asking.rows, {asking.rows.asked()}, part.alias, false);
        if (!whole) {
            return tl::make_unexpected(whole.error());
        }
        for (std::size_t g = 0; g < summaries->size(); ++g) {
            table.cells.push_back(numbersRow(cutNames.empty() ? v.name : "   " + cutNames[g],
                                             (*summaries)[g], v.date));
        }
        out.missing = whole->front().missing;
        out.skewness = v.date ? std::nullopt : std::optional(whole->front().skewness);
        return out;
    }
    const auto levels = levelsFor(asking, part, kMostListed);
    if (!levels) {
        return tl::make_unexpected(levels.error());
    }
    const std::string level = LeftCut::by(part, levels->levels, {}).group;
    const auto found =
        asking.rows.askEach("select g, l, count(*) from " +
                            workedOut(cut.group + " as g, " + level + " as l", cut.from, "cut") +
                            " where g is not null and l is not null group by g, l");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    const std::size_t k = levels->levels.found.size();
    std::vector<std::vector<std::size_t>> counts(cut.groups, std::vector<std::size_t>(k, 0));
    for (const auto& row : found->rows) {
        counts.at(wholeOf(std::stod(*row[0]))).at(wholeOf(std::stod(*row[1]))) +=
            wholeOf(std::stod(*row[2]));
    }
    for (std::size_t g = 0; g < cut.groups; ++g) {
        addLevelRows(table, (cutNames.empty() ? v.name : "   " + cutNames[g]) + ": ",
                     levels->variable.levels, counts[g], {counts[g].begin(), counts[g].end()});
    }
    double present = 0.0;
    for (const FoundLevel& one : levels->levels.found) {
        present += static_cast<double>(one.count);
    }
    out.missing = wholeOf(rows - present);
    return out;
}

Made numbers(Asking& asking) {
    std::vector<LeftPart> parts;
    for (std::size_t k = 0; k < asking.spec.of.size(); ++k) {
        const auto part = asking.part(k);
        if (!part) {
            return tl::make_unexpected(part.error());
        }
        parts.push_back(**part);
    }
    const auto counts = asking.rows.count();
    if (!counts) {
        return tl::make_unexpected(counts.error());
    }
    PictureTable table;
    table.title = "Numbers";
    LeftCut cut{asking.rows.asked()};
    std::vector<std::string> cutNames;
    // A last grouping cuts the others.
    if (parts.size() > 1 && isGroupsOnDesk(asking.frame, parts.back().name)) {
        const auto levels = levelsFor(asking, parts.back(), kMostCut);
        if (!levels && levels.error().code != ErrorCode::TooLarge) {
            return tl::make_unexpected(levels.error());
        }
        if (levels && !levels->levels.found.empty()) {
            cut = LeftCut::by(parts.back(), levels->levels, cut.from);
            cutNames = levels->variable.levels;
            table.title += " by " + asking.frame.variable(parts.back().name)->shown();
            parts.pop_back();
        }
    }
    table.note = numbersNote(wholeOf(counts->inSample));
    table.cells.push_back(numbersHead());
    std::vector<CountedVariable> counted;
    for (const LeftPart& part : parts) {
        if (!cutNames.empty()) {
            std::vector<std::string> title{part.name};
            title.resize(numbersHead().size());
            table.cells.push_back(std::move(title));
        }
        const auto one = addNumbers(asking, table, part, cut, cutNames, counts->inSample);
        if (!one) {
            return tl::make_unexpected(one.error());
        }
        counted.push_back(*one);
    }
    DrawnPicture out;
    out.table = std::move(table);
    addNumbersReading(out, counted, wholeOf(counts->inSample));
    return out;
}

/// All that a picture of a table hangs on but its title.
std::string nameOf(const Study& study, const PictureSpec& spec) {
    Study part;
    part.variables = study.variables;
    part.derived = study.derived;
    part.sample = study.sample;
    part.survey = study.survey;
    part.alpha = study.alpha;
    part.desk.pictures = {spec};
    part.desk.pictures.front().title.clear();
    return studyText(part);
}

struct Maker {
    const char* kind;
    Made (*make)(Asking& asking);
};

constexpr std::array kMakers = {
    Maker{"distribution", &distribution},
    Maker{"shares", &shares},
    Maker{"boxes", &boxes},
    Maker{"means", &means},
    Maker{"cross", &cross},
    Maker{"binned", &binned},
    Maker{"mosaic", &mosaic},
    Maker{"table", &numbers},
};

}  // namespace

Result<DrawnPicture> leftPicture(const Study& study, const Frame& frame, PictureSpec spec,
                                 const Job& job) {
    std::erase_if(spec.of, [&](const std::string& name) { return frame.column(name) == nullptr; });
    const LeftWords& words = frame.left()->words();
    const PictureKind* kind = kindToDraw(frame, spec);
    const auto maker = std::find_if(kMakers.begin(), kMakers.end(), [&](const Maker& one) {
        return kind != nullptr && std::string_view(one.kind) == kind->id;
    });
    if (maker == kMakers.end()) {
        return titled(
            nothing(spec.of.empty() ? "Put a variable on the desk: click it at the left."
                                    : "No picture of these can be asked of " + words.engine +
                                          ". To see it, " + words.fetch + ", or a sample of them."),
            std::move(spec));
    }
    spec.kind = kind->id;
    const std::string name = nameOf(study, spec);
    if (const auto known = frame.left()->pictureOf(name)) {
        return titled(*known, std::move(spec));
    }
    Asking asking{study, frame, spec, LeftRows(study, frame, job), job};
    if (auto begun = asking.rows.begin({}); !begun) {
        return tl::make_unexpected(begun.error());
    }
    auto out = maker->make(asking);
    if (!out) {
        return out;
    }
    out->asked.insert(out->asked.end(), asking.rows.statements().begin(),
                      asking.rows.statements().end());
    if (spec.weighted && study.survey.isWeighted() && out->nothing.empty()) {
        out->words.push_back("~Every row counts alike: pictures of rows that " + words.stay +
                             " do not use the survey’s weights.");
    }
    frame.left()->keepPicture(name, std::make_shared<const DrawnPicture>(*out));
    return titled(*std::move(out), std::move(spec));
}

Result<DrawnPicture> pictureOf(const Study& study, const Frame& frame, PictureSpec spec,
                               const Job& job) {
    return frame.left() != nullptr ? leftPicture(study, frame, std::move(spec), job)
                                   : Result<DrawnPicture>(drawPicture(frame, std::move(spec),
                                                                      study.survey, study.alpha));
}

}  // namespace rapporto
