#include "core/left/left_describe.h"

#include "core/base/format.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>

namespace rapporto {
namespace {

/// Brackets in which fewer rows lie are asked for value by value.
constexpr double kFewRows = 2000.0;
/// Bins that all brackets of a statement share.
constexpr std::size_t kBins = 4096;

double numberIn(const std::optional<std::string>& cell) {
    return cell ? std::strtod(cell->c_str(), nullptr) : std::nan("");
}

/// “case g when 0 then … when 1 then … end”.
std::string caseOf(const std::string& of, const std::vector<std::string>& each) {
    std::string out = "case " + of;
    for (std::size_t k = 0; k < each.size(); ++k) {
        out += fmt::format(" when {} then {}", k, each[k]);
    }
    return out + " end";
}

/// The rows of a cut with their group as g and the column as x, those of no group left out.
std::string told(const LeftCut& cut, const std::string& x) {
    return "(select * from " + workedOut(cut.group + " as g, " + x + " as x", cut.from, "cut") +
           " where g is not null) told";
}

/// Ends, counts and sums of each group.
struct FirstLook {
    double rows = 0.0;
    double n = 0.0;
    double sum = 0.0;
    double low = INFINITY;
    double high = -INFINITY;
};

Result<std::vector<FirstLook>> firstLook(LeftRows& rows, const LeftCut& cut, const std::string& x) {
    const auto found = rows.askEach("select g, count(*), count(x), sum(x), min(x), max(x) from " +
                                    told(cut, x) + " group by g");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    std::vector<FirstLook> out(cut.groups);
    for (const auto& row : found->rows) {
        FirstLook& group = out.at(wholeOf(numberIn(row[0])));
        group.rows += numberIn(row[1]);
        if (numberIn(row[2]) > 0.0) {
            group.n += numberIn(row[2]);
            group.sum += numberIn(row[3]);
            group.low = std::min(group.low, numberIn(row[4]));
            group.high = std::max(group.high, numberIn(row[5]));
        }
    }
    return out;
}

/// Sets mean and shape by sums of powers about the first means.
Result<void> addShape(LeftRows& rows, const LeftCut& cut, const std::string& x,
                      std::vector<Summary>& out) {
    std::vector<std::string> means;
    for (const Summary& one : out) {
        means.push_back(sqlNumber(one.mean));
    }
    const std::string centred =
        workedOut("g, x - " + caseOf("g", means) + " as d", told(cut, x), "centred");
    const auto found =
        rows.askEach("select g, sum(d), sum(d * d), sum(d * d * d), sum(d * d * d * d) from " +
                     centred + " where d is not null group by g");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    std::vector<Eigen::Vector4d> sums(out.size(), Eigen::Vector4d::Zero());
    for (const auto& row : found->rows) {
        Eigen::Vector4d& own = sums.at(wholeOf(numberIn(row[0])));
        for (Eigen::Index k = 0; k < 4; ++k) {
            own(k) += numberIn(row[static_cast<std::size_t>(k) + 1]);
        }
    }
    for (std::size_t g = 0; g < out.size(); ++g) {
        const auto n = static_cast<double>(out[g].n);
        if (out[g].n == 0) {
            continue;
        }
        const double s1 = sums[g](0);
        const double s2 = sums[g](1);
        const double s3 = sums[g](2);
        const double s4 = sums[g](3);
        const double off = s1 / n;
        out[g].mean += off;
        setShape(out[g], std::max(s2 - n * off * off, 0.0),
                 s3 - 3.0 * off * s2 + 2.0 * n * off * off * off,
                 s4 - 4.0 * off * s3 + 6.0 * off * off * s2 - 3.0 * n * off * off * off * off);
        if (out[g].low == out[g].high) {
            out[g].mean = out[g].low;
            setShape(out[g], 0.0, 0.0, 0.0);
        }
    }
    return {};
}

/// Order statistics of groups, each within values between which it must lie.
class OrderStatistics {
  public:
    OrderStatistics(LeftRows& rows, const LeftCut& cut, const std::string& x)
        : rows_(rows), told_(told(cut, x)), found_(cut.groups) {}

    /// @param ranks  from 0, ascending.
    void want(std::size_t group, const Summary& summary, std::vector<double> ranks) {
        if (summary.n > 0 && !ranks.empty()) {
            open_.push_back({group, summary.low, summary.high, 0.0, static_cast<double>(summary.n),
                             std::move(ranks)});
        }
    }

    /// Values by rank, of each group.
    Result<std::vector<std::map<double, double>>> find() {
        settle();
        while (!open_.empty()) {
            if (auto closer = look(); !closer) {
                return tl::make_unexpected(closer.error());
            }
            settle();
        }
        return found_;
    }

  private:
    /// Values from low to high, both of which occur.
    struct Bracket {
        std::size_t group = 0;
        double low = 0.0;
        double high = 0.0;
        double below = 0.0;  ///< Rows of the group under low.
        double rows = 0.0;   ///< In it.
        std::vector<double> ranks;
    };

    struct Bin {
        double rows = 0.0;
        double low = INFINITY;
        double high = -INFINITY;
    };

    /// Brackets of one value are answers.
    void settle() {
        std::vector<Bracket> rest;
        for (Bracket& bracket : open_) {
            if (bracket.low < bracket.high) {
                rest.push_back(std::move(bracket));
                continue;
            }
            for (const double rank : bracket.ranks) {
                found_[bracket.group][rank] = bracket.low;
            }
        }
        open_ = std::move(rest);
    }

    /// Cuts every bracket into bins and goes on with those that hold what is wanted. Both ends of a
    /// bracket occur and lie in different bins, so that each look leaves fewer rows.
    Result<void> look() {
        std::map<std::size_t, std::string> byGroup;
        std::vector<std::string> places;
        const std::size_t bins = std::clamp<std::size_t>(kBins / open_.size(), 16, 512);
        for (std::size_t b = 0; b < open_.size(); ++b) {
            const Bracket& one = open_[b];
            byGroup[one.group] += fmt::format(" when x >= {} and x <= {} then {}",
                                              sqlNumber(one.low), sqlNumber(one.high), b);
            // Halves, so that the range of the largest numbers is one, too.
            places.push_back(one.rows <= kFewRows
                                 ? std::string("x")
                                 : fmt::format("floor((x * 0.5 - {}) / {} * {})",
                                               sqlNumber(0.5 * one.low),
                                               sqlNumber(0.5 * one.high - 0.5 * one.low), bins));
        }
        std::string which = "case g";
        for (const auto& [group, cases] : byGroup) {
            which += fmt::format(" when {} then case{} end", group, cases);
        }
        const std::string cut = workedOut(which + " end as b, x", told_, "bracketed");
        const auto got = rows_.askEach(
            "select b, k, count(*), min(x), max(x) from " +
            workedOut("b, x, " + caseOf("b", places) + " as k",
                      "(select * from " + cut + " where b is not null) within", "binned") +
            " group by b, k");
        if (!got) {
            return tl::make_unexpected(got.error());
        }
        std::vector<std::map<double, Bin>> byBracket(open_.size());
        for (const auto& row : got->rows) {
            Bin& bin = byBracket.at(wholeOf(numberIn(row[0])))[numberIn(row[1])];
            bin.rows += numberIn(row[2]);
            bin.low = std::min(bin.low, numberIn(row[3]));
            bin.high = std::max(bin.high, numberIn(row[4]));
        }
        std::vector<Bracket> closer;
        for (std::size_t b = 0; b < open_.size(); ++b) {
            double below = open_[b].below;
            auto rank = open_[b].ranks.begin();
            for (const auto& [place, bin] : byBracket[b]) {
                Bracket next{open_[b].group, bin.low, bin.high, below, bin.rows, {}};
                below += bin.rows;
                for (; rank != open_[b].ranks.end() && *rank < below; ++rank) {
                    next.ranks.push_back(*rank);
                }
                if (!next.ranks.empty()) {
                    closer.push_back(std::move(next));
                }
            }
        }
        open_ = std::move(closer);
        return {};
    }

    LeftRows& rows_;
    std::string told_;
    std::vector<std::map<double, double>> found_;
    std::vector<Bracket> open_;
};

}  // namespace

Result<LeftLevels> leftLevels(LeftRows& rows, const LeftPart& part, std::size_t most) {
    const std::string from =
        "(select * from " + rows.asked() + " where " + part.alias + " is not null) present";
    const auto tooMany = [&] {
        return refuse(ErrorCode::TooLarge,
                      "‘" + part.name + "’ has over " + countText(most) + " levels", "",
                      "Merge levels in a variable of their own, or look at another.", {part.name});
    };
    const auto over = rows.hasOver(part.alias, from, most);
    if (!over) {
        return tl::make_unexpected(over.error());
    }
    if (*over) {
        return tooMany();
    }
    const auto found =
        rows.askEach("select " + part.alias + ", count(*) from " + from + " group by " +
                     part.alias + (rows.isSpread() ? "" : fmt::format(" limit {}", most + 1)));
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    std::map<std::string, double> counts;
    for (const auto& row : found->rows) {
        counts[*row[0]] += numberIn(row[1]);
    }
    if (counts.size() > most) {
        return tooMany();
    }
    std::vector<std::optional<std::string>> cells;
    std::vector<double> ofCells;
    for (const auto& [cell, count] : counts) {
        cells.emplace_back(cell);
        ofCells.push_back(count);
    }
    const bool text = part.value.type == SqlValue::Type::Text;
    const Column column = columnOfCells(part.name, cells, text);
    LeftLevels out;
    out.found = levelsOf(column, part.variable);
    for (FoundLevel& level : out.found) {
        for (std::size_t i = 0; i < cells.size(); ++i) {
            if ((text ? column.codes()[i] : column.numbers()[i]) == level.code) {
                level.count = wholeOf(ofCells[i]);
                const auto literal = text ? ServerConnection::literal(*cells[i])
                                          : std::optional(sqlNumber(level.code));
                if (!literal) {
                    return refuse(ErrorCode::BadSetting, "a level cannot be written as SQL", "",
                                  rows.words().view, {part.name});
                }
                out.written.push_back(*literal);
            }
        }
    }
    return out;
}

LeftCut LeftCut::by(const LeftPart& part, const LeftLevels& levels, std::string from) {
    std::string group = "case " + part.alias;
    for (std::size_t k = 0; k < levels.written.size(); ++k) {
        group += fmt::format(" when {} then {}", levels.written[k], k);
    }
    return {std::move(from), levels.written.empty() ? "null" : group + " end",
            levels.written.size()};
}

Result<std::vector<Summary>> leftSummaries(LeftRows& rows, const LeftCut& cut, const std::string& x,
                                           bool quartiles) {
    const auto first = firstLook(rows, cut, x);
    if (!first) {
        return tl::make_unexpected(first.error());
    }
    std::vector<Summary> out(cut.groups);
    for (std::size_t g = 0; g < out.size(); ++g) {
        const FirstLook& look = (*first)[g];
        out[g].n = wholeOf(look.n);
        out[g].missing = wholeOf(look.rows - look.n);
        if (out[g].n > 0) {
            out[g].mean = look.sum / look.n;
            out[g].low = look.low;
            out[g].high = look.high;
        }
    }
    if (auto shaped = addShape(rows, cut, x, out); !shaped) {
        return tl::make_unexpected(shaped.error());
    }
    if (!quartiles) {
        return out;
    }
    const auto found = leftQuantiles(rows, cut, x, out, {0.25, 0.5, 0.75});
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    for (std::size_t g = 0; g < out.size(); ++g) {
        if (out[g].n > 0) {
            out[g].lowerQuartile = (*found)[g][0];
            out[g].median = (*found)[g][1];
            out[g].upperQuartile = (*found)[g][2];
        }
    }
    return out;
}

Result<std::vector<std::vector<double>>> leftQuantiles(LeftRows& rows, const LeftCut& cut,
                                                       const std::string& x,
                                                       const std::vector<Summary>& summaries,
                                                       const std::vector<double>& probabilities) {
    OrderStatistics order(rows, cut, x);
    const auto placeOf = [&](std::size_t g, double p) {
        return p * static_cast<double>(summaries[g].n - 1);
    };
    for (std::size_t g = 0; g < summaries.size(); ++g) {
        std::set<double> ranks;
        for (const double p : probabilities) {
            if (summaries[g].n > 0) {
                const double below = std::floor(placeOf(g, p));
                ranks.insert(below);
                ranks.insert(std::min(below + 1.0, static_cast<double>(summaries[g].n - 1)));
            }
        }
        order.want(g, summaries[g], {ranks.begin(), ranks.end()});
    }
    const auto found = order.find();
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    std::vector<std::vector<double>> out(summaries.size());
    for (std::size_t g = 0; g < summaries.size(); ++g) {
        for (const double p : probabilities) {
            if (summaries[g].n > 0) {
                const double at = placeOf(g, p);
                const double below = (*found)[g].at(std::floor(at));
                const double above = (*found)[g].at(
                    std::min(std::floor(at) + 1.0, static_cast<double>(summaries[g].n - 1)));
                out[g].push_back(below + (at - std::floor(at)) * (above - below));
            }
        }
    }
    return out;
}

Result<Histogram> leftHistogram(LeftRows& rows, const std::string& from, const std::string& x,
                                const Summary& summary) {
    BinFacts facts{summary.n, summary.low, summary.high};
    facts.quartileRange = summary.upperQuartile - summary.lowerQuartile;
    std::vector<std::string> sums = {"sum(case when x = floor(x) then 0 else 1 end)"};
    for (const double step : commonSteps()) {
        const std::string by = "x / " + sqlNumber(step);
        sums.push_back(fmt::format(
            "sum(case when abs({0} - floor({0} + 0.5)) < 1e-9 * (1 + abs(x)) then 0 else 1 end)",
            by));
    }
    const std::string present =
        "(select * from " + workedOut(x + " as x", from, "told") + " where x is not null) present";
    const auto odd = rows.sumsOfRows(sums, present);
    if (!odd) {
        return tl::make_unexpected(odd.error());
    }
    facts.whole = (*odd)[0] == 0.0;
    for (std::size_t k = commonSteps().size(); k-- > 0;) {
        facts.step = (*odd)[k + 1] == 0.0 ? commonSteps()[k] : facts.step;
    }
    Histogram out = binsFor(facts);
    if (out.counts.empty()) {
        return out;
    }
    const auto found = rows.askEach(fmt::format(
        "select k, count(*) from (select floor((x - {}) / {}) as k from {}) binned group by k",
        sqlNumber(out.from), sqlNumber(out.width), present));
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    for (const auto& row : found->rows) {
        const std::size_t bin = wholeOf(numberIn(row[0]));
        out.counts[std::min(bin, out.counts.size() - 1)] += wholeOf(numberIn(row[1]));
    }
    return out;
}

}  // namespace rapporto
