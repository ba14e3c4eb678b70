#include "core/left/left_correlate.h"

#include "core/base/format.h"
#include "core/describe/correlation_pairs.h"
#include "core/left/left_explain.h"
#include "core/left/left_rows.h"

#include <fmt/format.h>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t kMostSums = 30000;

/// Columns that are related, those that are held last.
struct Related {
    std::vector<std::string> aliases;
    std::vector<std::string> names;  ///< As results have them.
    std::size_t variables = 0;       ///< How many are not held.
};

/// Correlations of columns with these spreads; NaN beside one that does not vary.
///
/// @param about  values of the size of the columns: a spread under what their rounding leaves is
///               none.
MatrixXd correlationOf(const MatrixXd& spread, const VectorXd& about) {
    constexpr double kRounding = 1e-28;
    VectorXd scale(spread.rows());
    for (Index j = 0; j < scale.size(); ++j) {
        const bool varies = spread(j, j) > kRounding * about(j) * about(j);
        scale(j) = varies ? 1.0 / std::sqrt(spread(j, j)) : std::nan("");
    }
    MatrixXd r = scale.asDiagonal() * spread * scale.asDiagonal();
    for (Index j = 0; j < r.rows(); ++j) {
        r(j, j) = std::isnan(scale(j)) ? std::nan("") : 1.0;
    }
    return r.cwiseMax(-1.0).cwiseMin(1.0);
}

/// Every pair over the rows that have both and all that is held.
class EachPair {
  public:
    EachPair(LeftRows& rows, const Related& related) : rows_(rows), related_(related) {}

    [[nodiscard]] Result<std::vector<RelatedPair>> asked() {
        if (auto found = findCentres(); !found) {
            return tl::make_unexpected(found.error());
        }
        std::vector<std::string> sums;
        for (std::size_t a = 0; a < related_.variables; ++a) {
            for (std::size_t b = 0; b < a; ++b) {
                addSums(placesOf(a, b), sums);
            }
        }
        if (sums.size() > kMostSums) {
            return refuse(ErrorCode::TooLarge,
                          "each pair by itself takes " + countText(sums.size()) + " sums, and " +
                              rows_.words().engine + " is asked for " + countText(kMostSums) +
                              " at most",
                          "", "Correlate fewer variables, or take the rows that have everything.");
        }
        const auto found = rows_.sumsOfRows(sums, workedOut(centred(), rows_.asked(), "centred"));
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        std::vector<RelatedPair> out;
        std::size_t at = 0;
        for (std::size_t a = 0; a < related_.variables; ++a) {
            for (std::size_t b = 0; b < a; ++b) {
                auto pair = pairOf(placesOf(a, b), *found, at);
                if (!pair) {
                    return tl::make_unexpected(pair.error());
                }
                out.push_back(*std::move(pair));
            }
        }
        return out;
    }

    /// Rows with each of the variables.
    [[nodiscard]] const VectorXd& own() const { return own_; }

  private:
    using Places = std::vector<std::size_t>;

    /// The pair first, then what is held.
    [[nodiscard]] Places placesOf(std::size_t a, std::size_t b) const {
        Places out = {a, b};
        for (std::size_t h = related_.variables; h < related_.aliases.size(); ++h) {
            out.push_back(h);
        }
        return out;
    }

    /// Means over the rows that have a column: products about them keep their digits.
    [[nodiscard]] Result<void> findCentres() {
        std::vector<std::string> sums;
        for (const std::string& alias : related_.aliases) {
            sums.push_back("count(" + alias + ")");
            sums.push_back("sum(" + alias + ")");
        }
        const auto found = rows_.sumsOfRows(sums, rows_.asked());
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        const auto p = static_cast<Index>(related_.aliases.size());
        own_.resize(static_cast<Index>(related_.variables));
        centre_.resize(p);
        for (Index j = 0; j < p; ++j) {
            const auto at = static_cast<std::size_t>(2 * j);
            const double n = (*found)[at];
            centre_(j) = n > 0.0 ? (*found)[at + 1] / n : 0.0;
            if (j < own_.size()) {
                own_(j) = n;
            }
        }
        return {};
    }

    [[nodiscard]] std::string centred() const {
        std::string out;
        std::string held;
        for (std::size_t j = 0; j < related_.aliases.size(); ++j) {
            const std::string& alias = related_.aliases[j];
            out += fmt::format("{}{} - {} as d{}", out.empty() ? "" : ", ", alias,
                               sqlNumber(centre_(static_cast<Index>(j))), j);
            if (j >= related_.variables) {
                held += (held.empty() ? "" : " + ") + alias;
            }
        }
        return held.empty() ? out : out + ", 0 * (" + held + ") as held";
    }

    /// A sum over the rows of the pair alone: what any of them lacks takes its row away.
    static std::string over(const Places& places, const std::string& what) {
        return what + fmt::format(" + 0 * (d{} + d{})", places[0], places[1]) +
               (places.size() > 2 ? " + held" : "");
    }

    static void addSums(const Places& places, std::vector<std::string>& sums) {
        sums.push_back("count(" + over(places, "0") + ")");
        for (const std::size_t i : places) {
            sums.push_back("sum(" + over(places, fmt::format("d{}", i)) + ")");
        }
        for (std::size_t i = 0; i < places.size(); ++i) {
            for (std::size_t j = 0; j <= i; ++j) {
                const std::string product = fmt::format("d{} * d{}", places[i], places[j]);
                sums.push_back("sum(" + over(places, product) + ")");
            }
        }
    }

    [[nodiscard]] Result<RelatedPair> pairOf(const Places& places, const std::vector<double>& sums,
                                             std::size_t& at) {
        const auto p = static_cast<Index>(places.size());
        VectorXd about(p);
        for (Index i = 0; i < p; ++i) {
            about(i) = centre_(static_cast<Index>(places[static_cast<std::size_t>(i)]));
        }
        LeftMoments moments = momentsAbout(sums.data() + at, about);
        at += 1 + places.size() + places.size() * (places.size() + 1) / 2;
        RelatedPair out{moments.weight, MatrixXd::Constant(p, p, std::nan(""))};
        if (!(moments.weight > 1.0)) {
            out.n = std::isnan(moments.weight) ? 0.0 : moments.weight;
            return out;
        }
        // Rows that lie far from where the columns lie are looked at about their own means.
        if (areFar(moments, about)) {
            auto again = lookedAtAgain(places);
            if (!again) {
                return tl::make_unexpected(again.error());
            }
            moments = *std::move(again);
        }
        out.r = correlationOf(moments.spread, moments.mean);
        return out;
    }

    [[nodiscard]] Result<LeftMoments> lookedAtAgain(const Places& places) {
        std::vector<std::string> aliases;
        std::string present;
        for (const std::size_t i : places) {
            aliases.push_back(related_.aliases[i]);
            present += (present.empty() ? "" : " and ") + aliases.back() + " is not null";
        }
        return leftMoments(rows_, aliases, {}, "1",
                           "(select * from " + rows_.asked() + " where " + present + ") used",
                           true);
    }

    LeftRows& rows_;
    const Related& related_;
    VectorXd own_;
    VectorXd centre_;
};

/// All of them over the rows that have everything.
Result<std::vector<RelatedPair>> together(LeftRows& rows, const Related& related) {
    if (related.aliases.size() * (related.aliases.size() + 1) / 2 > kMostSums) {
        return refuse(ErrorCode::TooLarge,
                      countText(related.aliases.size()) + " variables have more products than " +
                          rows.words().engine + " is asked for, " + countText(kMostSums),
                      "", "Correlate fewer variables.");
    }
    const auto moments = leftMoments(rows, related.aliases, {}, "1", rows.used(), true);
    if (!moments) {
        return tl::make_unexpected(moments.error());
    }
    const MatrixXd r = correlationOf(moments->spread, moments->mean);
    std::vector<RelatedPair> out;
    for (std::size_t a = 0; a < related.variables; ++a) {
        for (std::size_t b = 0; b < a; ++b) {
            std::vector<Index> places = {static_cast<Index>(a), static_cast<Index>(b)};
            for (std::size_t h = related.variables; h < related.aliases.size(); ++h) {
                places.push_back(static_cast<Index>(h));
            }
            out.push_back({moments->weight, r(places, places)});
        }
    }
    return out;
}

/// Rows that have all that is held and two of the variables: those that some pair takes.
Result<double> rowsOfSomePair(LeftRows& rows, const Related& related) {
    std::string there;
    std::string held;
    for (std::size_t j = 0; j < related.aliases.size(); ++j) {
        if (j < related.variables) {
            there += (there.empty() ? "" : " + ") + ("case when " + related.aliases[j]) +
                     " is null then 0 else 1 end";
        } else {
            held += " and " + related.aliases[j] + " is not null";
        }
    }
    const auto found = rows.sumsOfRows(
        {"count(case when " + there + " >= 2" + held + " then 1 end)"}, rows.asked());
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    return found->front();
}

Result<Related> relatedIn(LeftRows& rows, const Question& question) {
    Related out;
    out.variables = question.variables.size();
    for (const auto* list : {&question.variables, &question.holding}) {
        for (const std::string& text : *list) {
            const auto place = rows.add(text);
            if (!place) {
                return tl::make_unexpected(place.error());
            }
            const LeftPart& part = rows.part(*place);
            if (part.groups) {
                return refuse(ErrorCode::WrongType,
                              "‘" + part.name + "’ is a grouping: a correlation would say nothing",
                              "", "Correlate numbers; or explain a number with it.", {part.name});
            }
            out.aliases.push_back(part.alias);
            out.names.push_back(part.name);
        }
    }
    return out;
}

/// Where the rows went: all that have everything, or those that some pair takes.
Result<void> tellCounts(LeftRows& rows, const Related& related, bool apart, LeftCounts counts,
                        RowCounts& out) {
    if (apart) {
        const auto used = rowsOfSomePair(rows, related);
        if (!used) {
            return tl::make_unexpected(used.error());
        }
        counts.used = *used;
        for (LeftCounts::Lack& lack : counts.lacks) {
            lack.alone = 0.0;  // No variable by itself takes a row from all pairs.
        }
    }
    out = countsOf(counts);
    if (out.used < 3) {
        return refuse(ErrorCode::TooFewRows, "a correlation needs three rows", "sample",
                      "Widen the sample.");
    }
    return {};
}

Result<CorrelationTable> correlated(LeftRows& rows, const Question& question,
                                    const CorrelationSettings& settings, RowCounts& told) {
    if (auto begun = rows.begin(question.where); !begun) {
        return tl::make_unexpected(begun.error());
    }
    const auto related = relatedIn(rows, question);
    if (!related) {
        return tl::make_unexpected(related.error());
    }
    const auto counts = rows.count();
    if (!counts) {
        return tl::make_unexpected(counts.error());
    }
    const bool apart = !settings.listwise && counts->used < counts->inSample;
    if (auto enough = tellCounts(rows, *related, apart, *counts, told); !enough) {
        return tl::make_unexpected(enough.error());
    }
    EachPair each(rows, *related);
    const auto pairs = apart ? each.asked() : together(rows, *related);
    if (!pairs) {
        return tl::make_unexpected(pairs.error());
    }
    const VectorXd own =
        apart ? each.own()
              : VectorXd::Constant(static_cast<Index>(related->variables), counts->used);
    const auto held = related->names.begin() + static_cast<std::ptrdiff_t>(related->variables);
    return correlatePairs({related->names.begin(), held}, {held, related->names.end()}, own, *pairs,
                          settings);
}

}  // namespace

Result<CorrelationTable> correlateLeft(Answer& answer, const Study& study, const Frame& frame,
                                       const CorrelationSettings& settings, const Job& job) {
    const Question& question = answer.question;
    if (settings.kind != CorrelationKind::Pearson) {
        return tl::make_unexpected(needsRowsAtHand(frame, "a correlation of ranks"));
    }
    if (!question.without.empty()) {
        return tl::make_unexpected(needsRowsAtHand(frame, "rows left out by number"));
    }
    LeftRows rows(study, frame, job);
    auto table = correlated(rows, question, settings, answer.rows);
    answer.asked = std::make_shared<const std::vector<std::string>>(rows.statements());
    return table;
}

}  // namespace rapporto
