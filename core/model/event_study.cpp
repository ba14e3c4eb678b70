#include "core/model/event_study.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/model/panel.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

std::int64_t changeOf(const Design& design, Index row) {
    return design.changed[static_cast<std::size_t>(design.units[static_cast<std::size_t>(row)])];
}

std::int64_t momentOf(const Design& design, Index row) {
    return design.unitMoments[static_cast<std::size_t>(row)];
}

/// Distances further out than asked for go to the ends.
int placeOf(std::int64_t distance, const EstimatorSettings& s) {
    return static_cast<int>(std::clamp<std::int64_t>(distance, -s.before, s.after));
}

std::string placeName(const std::string& variable, int at) {
    return variable + (at < 0 ? " −" + std::to_string(-at) : " +" + std::to_string(at));
}

struct PlaceColumn {
    int at = 0;
    std::int64_t cohort = kNever;  ///< kNever: of all cohorts.
    VectorXd column;
};

/// Half width, in standard errors, of a band that holds all of these estimates at once: the
/// (1 − alpha) point of the largest |z| under their correlations, by drawing.
double bandCritical(const MatrixXd& V, double alpha) {
    const VectorXd sd = V.diagonal().cwiseMax(0.0).cwiseSqrt();
    if (V.rows() == 0 || sd.minCoeff() <= 0.0) {
        return 0.0;
    }
    const MatrixXd R = sd.cwiseInverse().asDiagonal() * V * sd.cwiseInverse().asDiagonal();
    const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(R);
    const MatrixXd half =
        solver.eigenvectors() * solver.eigenvalues().cwiseMax(0.0).cwiseSqrt().asDiagonal();
    constexpr int kDraws = 20000;
    std::vector<double> largest(kDraws);
    for (int d = 0; d < kDraws; ++d) {
        RandomStream random(20260, static_cast<std::uint64_t>(d));
        VectorXd z(V.rows());
        for (Index j = 0; j < z.size(); ++j) {
            z(j) = normalQuantile(random.uniform() + 0x1.0p-54);
        }
        largest[static_cast<std::size_t>(d)] = (half * z).cwiseAbs().maxCoeff();
    }
    const auto at = static_cast<std::size_t>(std::ceil((1.0 - alpha) * kDraws)) - 1;
    std::nth_element(largest.begin(), largest.begin() + static_cast<std::ptrdiff_t>(at),
                     largest.end());
    return largest[at];
}

/// Effects and what they hang on, before they are put into a fit.
struct EventEffects {
    std::vector<int> at;  ///< Distances that have an estimate, ascending.
    VectorXd b;
    MatrixXd V;  ///< Of b, then of the other terms where they are estimated beside it.
};

class EventFitter {
  public:
    EventFitter(const Design& design, const EstimatorSettings& settings, const ErrorSpec& errors,
                double alpha, const Job& job)
        : settings_(settings), errors_(errors), alpha_(alpha), job_(job), raw_(design) {}

    Result<Fit> run() {
        if (auto done = chooseRows(); !done) {
            return tl::make_unexpected(done.error());
        }
        auto fit = settings_.weighting == "pooled" ? pooled() : byCohorts();
        if (fit) {
            finish(*fit);
        }
        return fit;
    }

  private:
    Result<void> chooseRows() {
        if (raw_.units.empty() || raw_.unitMoments.empty() || raw_.changed.empty()) {
            return refuse(ErrorCode::BadSetting,
                          "this method needs rows that are a unit at a moment", "method",
                          "Say in Data what a row is.");
        }
        told_.variable = plainName(settings_.variable);
        told_.weighting = settings_.weighting;
        std::map<std::int64_t, std::size_t> cohorts;
        for (const std::int64_t changed : raw_.changed) {
            told_.never += changed == kNever ? 1 : 0;
            told_.always += changed == kAlways ? 1 : 0;
            if (changed != kNever && changed != kAlways) {
                ++cohorts[changed];
            }
        }
        for (const auto& [moment, units] : cohorts) {
            told_.cohorts.push_back({moment, units});
        }
        if (told_.cohorts.empty()) {
            return refuse(ErrorCode::NoVariation,
                          "no unit changes ‘" + settings_.variable + "’ in the rows used", "method",
                          "Widen the sample, or choose another variable.", {settings_.variable});
        }
        std::int64_t end = kNever;
        if (told_.never == 0) {
            if (told_.cohorts.size() < 2) {
                return refuse(ErrorCode::BadSetting,
                              "all units change ‘" + settings_.variable +
                                  "’ at the same moment: nobody is left to compare with",
                              "method", "Bring units in that do not change, or later.",
                              {settings_.variable});
            }
            // From its own change on the last cohort has nobody to be compared with.
            end = told_.cohorts.back().moment;
            told_.lastAsComparison = true;
        }
        const auto left = [&](Index i) {
            return changeOf(raw_, i) != kAlways &&
                   (settings_.weighting == "pooled" || momentOf(raw_, i) < end);
        };
        std::vector<Index> rows;
        for (Index i = 0; i < raw_.y.size(); ++i) {
            if (left(i)) {
                rows.push_back(i);
            }
        }
        design_ = withRows(raw_, rows);
        if (told_.lastAsComparison && settings_.weighting != "pooled") {
            for (std::int64_t& changed : design_.changed) {
                changed = changed == end ? kNever : changed;
            }
            told_.cohorts.pop_back();
        }
        return {};
    }

    /// Columns of the places: one for a distance, or for a distance and a cohort.
    [[nodiscard]] std::vector<PlaceColumn> placeColumns(bool byCohort) const {
        std::map<std::pair<int, std::int64_t>, VectorXd> found;
        for (Index i = 0; i < design_.y.size(); ++i) {
            const std::int64_t changed = changeOf(design_, i);
            if (changed == kNever) {
                continue;
            }
            const int at = placeOf(momentOf(design_, i) - changed, settings_);
            if (at != -1) {
                auto& column = found
                                   .try_emplace({at, byCohort ? changed : kNever},
                                                VectorXd::Zero(design_.y.size()))
                                   .first->second;
                column(i) = 1.0;
            }
        }
        std::vector<PlaceColumn> out;
        for (auto& [key, column] : found) {
            out.push_back({key.first, key.second, std::move(column)});
        }
        return out;
    }

    /// The design with such columns before its own terms, effects swept out.
    Result<Design> withPlaces(const std::vector<PlaceColumn>& places) const {
        Design out = design_;
        const Index first = design_.hasConstant ? 1 : 0;
        const auto m = static_cast<Index>(places.size());
        const Index k = design_.X.cols();
        out.X.resize(design_.y.size(), k + m);
        out.X.leftCols(first) = design_.X.leftCols(first);
        out.X.rightCols(k - first) = design_.X.rightCols(k - first);
        DesignTerm term;
        term.name = told_.variable;
        term.label = told_.variable;
        std::vector<DesignColumn> columns(design_.columns.begin(), design_.columns.begin() + first);
        for (Index j = 0; j < m; ++j) {
            const PlaceColumn& place = places[static_cast<std::size_t>(j)];
            out.X.col(first + j) = place.column;
            std::string name = placeName(told_.variable, place.at);
            if (place.cohort != kNever) {
                name += " of " + std::to_string(place.cohort);
            }
            columns.push_back({name, name, 0, true});
            term.columns.push_back(first + j);
        }
        for (std::size_t j = static_cast<std::size_t>(first); j < design_.columns.size(); ++j) {
            columns.push_back(design_.columns[j]);
            ++columns.back().term;
        }
        out.columns = std::move(columns);
        for (DesignTerm& own : out.terms) {
            for (Index& column : own.columns) {
                column += m;
            }
        }
        out.terms.insert(out.terms.begin(), std::move(term));
        return sweptDesign(std::move(out), job_);
    }

    Result<Fit> pooled() {
        auto made = withPlaces(placeColumns(false));
        if (!made) {
            return tl::make_unexpected(made.error());
        }
        auto fit = fitLeastSquares(*made, errors_, alpha_, job_);
        if (fit && placesHangTogether(*fit, *made)) {
            return refuse(
                ErrorCode::RankDeficient,
                told_.never == 0
                    ? "every unit changes, and each distance stands alone: a line in time "
                      "cannot be told from the effects"
                    : "the distances from the change cannot be told apart from each other "
                      "and from what is held fixed",
                "method",
                "Bring units in that never change, let the ends hold several distances "
                "(fewer moments before or after), or weight by cohorts.",
                {settings_.variable});
        }
        if (fit) {
            fit->linearised = std::make_shared<const Design>(*std::move(made));
        }
        return fit;
    }

    /// Some place is a combination of others: least squares would set it to zero and tell the rest
    /// from there. A place that is all of one unit’s rows says nothing and may leave.
    ///
    /// @param places  of the columns, by cohort; empty: pooled. Those of cohorts without a base do
    ///                hang together, and are not read.
    [[nodiscard]] bool placesHangTogether(const Fit& fit, const Design& made,
                                          const std::vector<PlaceColumn>& places = {}) const {
        const Index first = design_.hasConstant ? 1 : 0;
        const auto isPlace = [&](Index column) {
            return made.columns[static_cast<std::size_t>(column)].term == 0 &&
                   (places.empty() || !withoutBase_.contains(
                                          places[static_cast<std::size_t>(column - first)].cohort));
        };
        return std::any_of(fit.solution.redundant.begin(), fit.solution.redundant.end(),
                           [&](const RedundantColumn& r) {
                               return isPlace(r.column) &&
                                      std::any_of(r.of.begin(), r.of.end(), isPlace);
                           });
    }

    /// An effect for every cohort and distance, then their weighted means; of group-time the means
    /// come from differences and this fit gives what is left.
    Result<Fit> byCohorts() {
        if (settings_.weighting == "group-time" && !unitClusters()) {
            return refuse(
                ErrorCode::BadSetting,
                "errors " + errors_.shown() + " do not go with effects by cohort and moment",
                "errors",
                "Use robust errors (by unit), or cluster by the unit or by what holds "
                "whole units.");
        }
        const auto places = placeColumns(true);
        auto full = withPlaces(places);
        if (!full) {
            return tl::make_unexpected(full.error());
        }
        auto each = fitLeastSquares(*full, errors_, alpha_, job_);
        if (!each) {
            return each;
        }
        noteCohortsWithoutBase();
        if (withoutBase_.size() == told_.cohorts.size()) {
            return refuse(ErrorCode::TooFewRows,
                          "no cohort has a row at the moment before its change, which effects are "
                          "counted from",
                          "sample", "Widen the sample, or choose another layout of time.");
        }
        if (placesHangTogether(*each, *full, places)) {
            return refuse(ErrorCode::RankDeficient,
                          "the distances of some cohort cannot be told apart from each other and "
                          "from what is held fixed",
                          "method", "Look at fewer moments before or after the change.",
                          {settings_.variable});
        }
        auto shown = withPlaces(placeColumns(false));
        if (!shown) {
            return tl::make_unexpected(shown.error());
        }
        EventEffects effects;
        std::optional<double> df;
        if (settings_.weighting == "cohorts") {
            effects = weighted(*each, places);
            df = each->coefficients.front().df;
        } else {
            auto found = groupTime();
            if (!found) {
                return tl::make_unexpected(found.error());
            }
            effects = *std::move(found);
        }
        return assembled(*std::move(shown), *each, effects, df, places.size());
    }

    /// A cohort without a row at the moment before its change has nothing that its effects are
    /// counted from: its rows stay, under indicators of their own, and its effects are not read.
    void noteCohortsWithoutBase() {
        std::set<std::int64_t> with;
        for (Index i = 0; i < design_.y.size(); ++i) {
            const std::int64_t changed = changeOf(design_, i);
            if (changed != kNever && momentOf(design_, i) - changed == -1) {
                with.insert(changed);
            }
        }
        for (const EventFit::Cohort& cohort : told_.cohorts) {
            if (!with.contains(cohort.moment)) {
                withoutBase_.insert(cohort.moment);
            }
        }
    }

    /// Means over cohorts by their rows at the distance; the other terms unchanged.
    EventEffects weighted(const Fit& each, const std::vector<PlaceColumn>& places) {
        const Index first = design_.hasConstant ? 1 : 0;

        struct Entry {
            Index coefficient;
            double rows;
        };

        std::map<int, std::vector<Entry>> byPlace;
        std::vector<Index> others;
        for (std::size_t c = 0; c < each.coefficients.size(); ++c) {
            const Coefficient& one = each.coefficients[c];
            if (one.designTerm != 0) {
                others.push_back(static_cast<Index>(c));
                continue;
            }
            const PlaceColumn& place = places[static_cast<std::size_t>(one.column - first)];
            if (withoutBase_.contains(place.cohort)) {
                continue;
            }
            const double rows =
                design_.weights.size() > 0 ? place.column.dot(design_.weights) : place.column.sum();
            byPlace[place.at].push_back({static_cast<Index>(c), rows});
            told_.groupTimes.push_back({place.cohort, place.at, one.estimate, one.se});
        }
        EventEffects out;
        MatrixXd T = MatrixXd::Zero(static_cast<Index>(byPlace.size() + others.size()),
                                    static_cast<Index>(each.coefficients.size()));
        Index row = 0;
        for (const auto& [at, entries] : byPlace) {
            double total = 0.0;
            for (const Entry& entry : entries) {
                total += entry.rows;
            }
            for (const Entry& entry : entries) {
                T(row, entry.coefficient) = entry.rows / total;
            }
            cohortsAt_[at] = entries.size();
            out.at.push_back(at);
            ++row;
        }
        for (const Index other : others) {
            T(row++, other) = 1.0;
        }
        VectorXd b(static_cast<Index>(each.coefficients.size()));
        for (std::size_t c = 0; c < each.coefficients.size(); ++c) {
            b(static_cast<Index>(c)) = each.coefficients[c].estimate;
        }
        out.b = T * b;
        out.V = T * each.covariance * T.transpose();
        return out;
    }

    /// Clusters of units that the errors name; each unit its own under robust ones.
    [[nodiscard]] std::optional<std::vector<std::int32_t>> unitClusters() const {
        std::vector<std::int32_t> of(static_cast<std::size_t>(design_.unitCount));
        for (std::size_t u = 0; u < of.size(); ++u) {
            of[u] = static_cast<std::int32_t>(u);
        }
        if (errors_.kind == "robust") {
            return of;
        }
        const SweptGrouping units{"", design_.units, design_.unitCount};
        if (errors_.kind != "clustered" || design_.clusters.size() != 1 ||
            !isNested(units, design_.clusters.front())) {
            return std::nullopt;
        }
        for (std::size_t i = 0; i < design_.units.size(); ++i) {
            of[static_cast<std::size_t>(design_.units[i])] = design_.clusters.front()[i];
        }
        return of;
    }

    struct CohortMoment {
        std::int64_t cohort = 0;
        int at = 0;
        double units = 0.0;
        double estimate = 0.0;
        VectorXd influence;  ///< Of each unit.
    };

    Result<EventEffects> groupTime() {
        const auto clusters = unitClusters();
        if (design_.weights.size() > 0) {
            return refuse(ErrorCode::NotBuilt,
                          "weights are not built for effects by cohort and moment yet", "weights",
                          "Take the weights out.");
        }
        std::unordered_map<std::int64_t, Index> at;
        std::set<std::int64_t> moments;
        for (Index i = 0; i < design_.y.size(); ++i) {
            at[historyKey(design_.units[static_cast<std::size_t>(i)], momentOf(design_, i))] = i;
            moments.insert(momentOf(design_, i));
        }
        std::map<int, std::vector<CohortMoment>> byPlace;
        for (const EventFit::Cohort& cohort : told_.cohorts) {
            for (const std::int64_t moment : moments) {
                const std::int64_t distance = moment - cohort.moment;
                if (distance == -1 || distance < -settings_.before || distance > settings_.after) {
                    continue;
                }
                if (job_.stopped()) {
                    return refuse(ErrorCode::Stopped, "the computation was stopped");
                }
                if (auto one = effectOf(cohort.moment, moment, at)) {
                    byPlace[one->at].push_back(*std::move(one));
                }
            }
        }
        if (byPlace.empty()) {
            return refuse(ErrorCode::TooFewRows,
                          "no cohort has rows just before its change together with units to "
                          "compare with",
                          "sample", "Widen the sample, or take terms out.");
        }
        const auto clusterCount = 1 + *std::max_element(clusters->begin(), clusters->end());
        MatrixXd sums = MatrixXd::Zero(clusterCount, static_cast<Index>(byPlace.size()));
        EventEffects out;
        out.b.resize(static_cast<Index>(byPlace.size()));
        Index place = 0;
        for (const auto& [distance, cells] : byPlace) {
            double units = 0.0;
            double sum = 0.0;
            for (const CohortMoment& cell : cells) {
                units += cell.units;
                sum += cell.units * cell.estimate;
                told_.groupTimes.push_back(
                    {cell.cohort, distance, cell.estimate,
                     clusteredNorm(cell.influence, *clusters, clusterCount)});
            }
            const double mean = sum / units;
            for (const CohortMoment& cell : cells) {
                for (Index u = 0; u < cell.influence.size(); ++u) {
                    const bool own = design_.changed[static_cast<std::size_t>(u)] == cell.cohort;
                    // The cohort’s share is itself drawn.
                    sums((*clusters)[static_cast<std::size_t>(u)], place) +=
                        cell.units / units * cell.influence(u) +
                        (own ? (cell.estimate - mean) / units : 0.0);
                }
            }
            cohortsAt_[distance] = cells.size();
            out.at.push_back(distance);
            out.b(place++) = mean;
        }
        out.V = sums.transpose() * sums;
        return out;
    }

    static double clusteredNorm(const VectorXd& influence,
                                const std::vector<std::int32_t>& clusters, Index count) {
        VectorXd sums = VectorXd::Zero(count);
        for (Index u = 0; u < influence.size(); ++u) {
            sums(clusters[static_cast<std::size_t>(u)]) += influence(u);
        }
        return sums.norm();
    }

    /// How a cohort’s outcome moved from the moment before its change, less how that of units not
    /// (yet) changed did at the same terms.
    [[nodiscard]] std::optional<CohortMoment> effectOf(
        std::int64_t cohort, std::int64_t moment,
        const std::unordered_map<std::int64_t, Index>& at) const {
        const std::int64_t base = cohort - 1;
        std::vector<std::int32_t> own;
        std::vector<std::int32_t> against;
        const auto unitCount = design_.unitCount;
        std::vector<std::pair<Index, Index>> rows(static_cast<std::size_t>(unitCount), {-1, -1});
        for (std::int32_t u = 0; u < unitCount; ++u) {
            const auto now = at.find(historyKey(u, moment));
            const auto then = at.find(historyKey(u, base));
            if (now == at.end() || then == at.end()) {
                continue;
            }
            rows[static_cast<std::size_t>(u)] = {now->second, then->second};
            const std::int64_t changed = design_.changed[static_cast<std::size_t>(u)];
            if (changed == cohort) {
                own.push_back(u);
            } else if (changed == kNever ||
                       (settings_.against == "not-yet" && changed > std::max(moment, base))) {
                against.push_back(u);
            }
        }
        const Index k = std::max<Index>(design_.X.cols(), 1);
        if (own.empty() || static_cast<Index>(against.size()) <= k) {
            return std::nullopt;
        }
        const auto gather = [&](const std::vector<std::int32_t>& units, MatrixXd& X, VectorXd& y) {
            X.resize(static_cast<Index>(units.size()), k);
            y.resize(static_cast<Index>(units.size()));
            for (std::size_t i = 0; i < units.size(); ++i) {
                const auto [now, then] = rows[static_cast<std::size_t>(units[i])];
                y(static_cast<Index>(i)) = design_.y(now) - design_.y(then);
                if (design_.X.cols() > 0) {
                    X.row(static_cast<Index>(i)) = design_.X.row(then);
                } else {
                    X(static_cast<Index>(i), 0) = 1.0;
                }
            }
        };
        MatrixXd X1;
        MatrixXd X0;
        VectorXd y1;
        VectorXd y0;
        gather(own, X1, y1);
        gather(against, X0, y0);
        const auto line = solveLinear({X0, y0, VectorXd(), design_.hasConstant}, false, job_);
        if (!line) {
            return std::nullopt;
        }
        const VectorXd left = y1 - X1(Eigen::all, line->kept) * line->coefficients;
        const double n1 = static_cast<double>(own.size());
        CohortMoment out{cohort, static_cast<int>(moment - cohort), n1, left.mean(),
                         VectorXd::Zero(unitCount)};
        const VectorXd mean = X1(Eigen::all, line->kept).colwise().mean().transpose();
        const VectorXd turned = line->factor * (line->factor.transpose() * mean);
        for (std::size_t i = 0; i < own.size(); ++i) {
            out.influence(own[i]) += (left(static_cast<Index>(i)) - out.estimate) / n1;
        }
        for (std::size_t i = 0; i < against.size(); ++i) {
            const auto row = static_cast<Index>(i);
            out.influence(against[i]) -= turned.dot(X0(row, line->kept)) * line->residuals(row);
        }
        return out;
    }

    /// A fit whose places are the pooled columns and whose estimates come from elsewhere.
    Result<Fit> assembled(Design shown, const Fit& each, const EventEffects& effects,
                          std::optional<double> df, std::size_t cells) {
        const Index first = design_.hasConstant ? 1 : 0;
        const auto columns = placeColumns(false);
        std::vector<Index> kept;
        std::vector<Index> order;  // Of effects.b and V.
        if (design_.hasConstant && settings_.weighting == "cohorts") {
            kept.push_back(0);
            order.push_back(static_cast<Index>(effects.at.size()));
        }
        for (std::size_t j = 0; j < effects.at.size(); ++j) {
            for (std::size_t c = 0; c < columns.size(); ++c) {
                if (columns[c].at == effects.at[j]) {
                    kept.push_back(first + static_cast<Index>(c));
                    order.push_back(static_cast<Index>(j));
                }
            }
        }
        if (settings_.weighting == "cohorts") {
            const Index shift = static_cast<Index>(cells) - static_cast<Index>(columns.size());
            auto at = static_cast<Index>(effects.at.size());
            for (const Coefficient& c : each.coefficients) {
                if (c.designTerm == 0) {
                    continue;
                }
                if (c.designTerm > 0) {
                    kept.push_back(c.column - shift);
                    order.push_back(at);
                }
                ++at;
            }
        }
        LinearSolution solution;
        solution.kept = kept;
        solution.coefficients = VectorXd(effects.b(order));
        solution.residuals = each.residuals;
        solution.residualSquares = each.statistics.rss;
        solution.factor =
            MatrixXd::Zero(static_cast<Index>(kept.size()), static_cast<Index>(kept.size()));
        const MatrixXd X = shown.X(Eigen::all, kept);
        if (const auto own = solveLinear({X, shown.y, shown.weights, false}, false, job_);
            own && own->kept.size() == kept.size()) {
            solution.factor = own->factor;
            solution.centre = own->centre;
            solution.centredFactor = own->centredFactor;
        }
        Covariance covariance;
        covariance.matrix = effects.V(order, order);
        covariance.df = df.value_or(std::numeric_limits<double>::infinity());
        covariance.note = each.errorNote;
        shown.changed = design_.changed;
        auto fit = fitGiven(shown, {shown.X, std::move(solution), std::move(covariance)}, errors_,
                            alpha_, job_);
        if (fit) {
            fit->leverage = each.leverage;
            fit->linearised = std::make_shared<const Design>(std::move(shown));
        }
        return fit;
    }

    /// Places, mean effect, the joint test of what comes before; notes.
    void finish(Fit& fit) {
        const Index first = design_.hasConstant ? 1 : 0;
        const auto columns = placeColumns(false);
        std::map<int, const PlaceColumn*> byPlace;
        for (const PlaceColumn& column : columns) {
            byPlace[column.at] = &column;
        }
        std::vector<Index> own;
        std::vector<Index> beforeIt;
        std::vector<Index> afterIt;
        EventFit::Place zero;
        zero.at = -1;
        zero.reference = true;
        for (Index i = 0; i < design_.y.size(); ++i) {
            const std::int64_t changed = changeOf(design_, i);
            zero.rows += changed != kNever && momentOf(design_, i) - changed == -1 ? 1 : 0;
        }
        for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
            const Coefficient& one = fit.coefficients[c];
            if (one.designTerm != 0) {
                continue;
            }
            const PlaceColumn& column = columns[static_cast<std::size_t>(one.column - first)];
            EventFit::Place place;
            place.at = column.at;
            place.open = settings_.weighting != "group-time" &&
                         (column.at == -settings_.before || column.at == settings_.after);
            place.estimate = one.estimate;
            place.se = one.se;
            place.low = one.low;
            place.high = one.high;
            place.rows = static_cast<std::size_t>(std::lround(column.column.sum()));
            place.cohorts =
                cohortsAt_.contains(column.at) ? cohortsAt_[column.at] : told_.cohorts.size();
            if (place.at > -1 && (told_.places.empty() || told_.places.back().at < -1)) {
                told_.places.push_back(zero);
            }
            told_.places.push_back(place);
            (place.at < 0 ? beforeIt : afterIt).push_back(static_cast<Index>(c));
            own.push_back(static_cast<Index>(c));
            told_.df = one.df;
        }
        if (told_.places.empty() || told_.places.back().at < -1) {
            told_.places.push_back(zero);
        }
        VectorXd b(static_cast<Index>(fit.coefficients.size()));
        for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
            b(static_cast<Index>(c)) = fit.coefficients[c].estimate;
        }
        if (!afterIt.empty()) {
            told_.after = b(afterIt).mean();
            told_.afterSe = std::sqrt(std::max(fit.covariance(afterIt, afterIt).sum(), 0.0)) /
                            static_cast<double>(afterIt.size());
        }
        if (!beforeIt.empty()) {
            const auto q = static_cast<double>(beforeIt.size());
            if (const auto f = waldF(b(beforeIt), fit.covariance(beforeIt, beforeIt))) {
                const double df2 = told_.df.value_or(std::numeric_limits<double>::infinity());
                told_.before = FTest{*f, q, df2, fTail(*f, q, told_.df)};
            }
        }
        told_.together = bandCritical(fit.covariance(own, own), alpha_);
        if (told_.always > 0) {
            fit.notes.push_back(plural(told_.always, "unit had changed before its first row and is",
                                       "units had changed before their first rows and are") +
                                " left out: nothing is known of before.");
        }
        for (const std::int64_t cohort : withoutBase_) {
            fit.dropped.push_back({"the cohort of " + std::to_string(cohort),
                                   "has no row at the moment before its change, which effects are "
                                   "counted from"});
        }
        if (told_.lastAsComparison) {
            fit.notes.emplace_back(
                "Every unit changes in the end: those that change last stand for the ones that do "
                "not, up to the moment before they do.");
        }
        fit.event = std::make_shared<const EventFit>(std::move(told_));
    }

    const EstimatorSettings& settings_;
    const ErrorSpec& errors_;
    double alpha_;
    const Job& job_;
    const Design& raw_;
    Design design_;
    EventFit told_;
    std::map<int, std::size_t> cohortsAt_;
    std::set<std::int64_t> withoutBase_;  ///< Cohorts whose effects are not read.
};

}  // namespace

Result<Fit> fitEventStudy(const Design& design, const EstimatorSettings& settings,
                          const ErrorSpec& errors, double alpha, const Job& job) {
    return EventFitter(design, settings, errors, alpha, job).run();
}

Design withoutTerm(const Design& design, int term) {
    Design out = design;
    std::vector<Index> kept;
    out.columns.clear();
    for (Index j = 0; j < design.X.cols(); ++j) {
        DesignColumn column = design.columns[static_cast<std::size_t>(j)];
        if (column.term == term) {
            continue;
        }
        column.term -= column.term > term ? 1 : 0;
        out.columns.push_back(std::move(column));
        kept.push_back(j);
    }
    out.X = MatrixXd(design.X(Eigen::all, kept));
    out.terms.erase(out.terms.begin() + term);
    for (DesignTerm& one : out.terms) {
        one.columns.clear();
    }
    for (std::size_t j = 0; j < out.columns.size(); ++j) {
        if (out.columns[j].term >= 0) {
            out.terms[static_cast<std::size_t>(out.columns[j].term)].columns.push_back(
                static_cast<Index>(j));
        }
    }
    return out;
}

tl::expected<Policy, std::string> policyOf(const Design& design) {
    if (design.units.empty() || design.unitMoments.empty()) {
        return tl::make_unexpected(
            std::string("No row is a unit at a moment, so no change can be placed."));
    }
    std::string why = "No term is a switch: 0 before a change and 1 from it on.";
    for (std::size_t t = 0; t < design.terms.size(); ++t) {
        const DesignTerm& term = design.terms[t];
        if (term.columns.size() != 1 || term.isProduct || term.groups) {
            continue;
        }
        const auto x = design.X.col(term.columns.front());
        if (!((x.array() == 0.0) || (x.array() == 1.0)).all()) {
            continue;
        }

        struct Seen {
            std::int64_t firstOn = kNever;
            std::int64_t lastOff = kAlways;
        };

        std::vector<Seen> seen(static_cast<std::size_t>(design.unitCount));
        for (Index i = 0; i < x.size(); ++i) {
            Seen& one = seen[static_cast<std::size_t>(design.units[static_cast<std::size_t>(i)])];
            const std::int64_t moment = momentOf(design, i);
            (x(i) == 1.0 ? one.firstOn = std::min(one.firstOn, moment)
                         : one.lastOff = std::max(one.lastOff, moment));
        }
        Policy policy;
        policy.term = static_cast<int>(t);
        bool back = false;
        std::set<std::int64_t> cohorts;
        for (const Seen& one : seen) {
            back = back || (one.firstOn != kNever && one.lastOff > one.firstOn);
            const bool always = one.firstOn != kNever && one.lastOff == kAlways;
            policy.changed.push_back(always ? kAlways : one.firstOn);
            policy.always += always ? 1 : 0;
            policy.never += one.firstOn == kNever ? 1 : 0;
            if (!always && one.firstOn != kNever) {
                cohorts.insert(one.firstOn);
            }
        }
        policy.cohorts = cohorts.size();
        if (back) {
            why = "‘" + term.name + "’ is switched off again in some units.";
        } else if (policy.cohorts > 0) {
            return policy;
        }
    }
    return tl::make_unexpected(why);
}

tl::expected<ComparisonSplit, std::string> splitComparisons(
    const Design& design, const std::vector<std::int64_t>& changed) {
    std::set<std::int64_t> all(design.unitMoments.begin(), design.unitMoments.end());
    const std::vector<std::int64_t> moments(all.begin(), all.end());
    const auto T = moments.size();
    std::map<std::int64_t, std::size_t> placeOfMoment;
    for (std::size_t t = 0; t < T; ++t) {
        placeOfMoment[moments[t]] = t;
    }
    std::vector<std::size_t> rows(static_cast<std::size_t>(design.unitCount), 0);
    for (const std::int32_t unit : design.units) {
        ++rows[static_cast<std::size_t>(unit)];
    }
    ComparisonSplit out;
    out.allUnits = rows.size();
    // Mean outcome of each cohort at each moment, and its units.
    std::map<std::int64_t, VectorXd> means;
    std::map<std::int64_t, double> sizes;
    for (std::size_t i = 0; i < design.units.size(); ++i) {
        const auto unit = static_cast<std::size_t>(design.units[i]);
        if (rows[unit] != T) {
            continue;
        }
        auto& mean =
            means.try_emplace(changed[unit], VectorXd::Zero(static_cast<Index>(T))).first->second;
        const std::size_t t = placeOfMoment[design.unitMoments[i]];
        mean(static_cast<Index>(t)) += design.y(static_cast<Index>(i));
        sizes[changed[unit]] += t == 0 ? 1.0 : 0.0;
    }
    double total = 0.0;
    for (auto& [cohort, mean] : means) {
        mean /= sizes[cohort];
        total += sizes[cohort];
    }
    out.units = static_cast<std::size_t>(total);
    if (means.size() < 2) {
        return tl::make_unexpected(
            std::string("Too few units have a row at every moment to be compared."));
    }
    // Share of the moments from the change on; first moment of it.
    const auto start = [&](std::int64_t cohort) -> Index {
        if (cohort == kNever) {
            return static_cast<Index>(T);
        }
        return static_cast<Index>(std::lower_bound(moments.begin(), moments.end(), cohort) -
                                  moments.begin());
    };
    const auto mean = [](const VectorXd& y, Index from, Index to) {
        return y.segment(from, to - from).mean();
    };
    const auto end = static_cast<Index>(T);
    double sum = 0.0;
    for (auto k = means.begin(); k != means.end(); ++k) {
        for (auto l = means.begin(); l != means.end(); ++l) {
            const Index a = start(k->first);
            const Index b = start(l->first);
            if (k == l || a == 0 || a == end) {
                continue;  // k is the cohort whose change is looked at.
            }
            const double nk = sizes[k->first] / total;
            const double nl = sizes[l->first] / total;
            const double share = nk / (nk + nl);
            const double Dk = static_cast<double>(end - a) / static_cast<double>(T);
            const double Dl = static_cast<double>(end - b) / static_cast<double>(T);
            Comparison one;
            one.changed = k->first;
            one.against = l->first;
            if (b == end || b == 0) {
                one.kind = b == end ? Comparison::Kind::Never : Comparison::Kind::Always;
                one.weight = std::pow(nk + nl, 2) * share * (1.0 - share) * Dk * (1.0 - Dk);
                one.estimate = (mean(k->second, a, end) - mean(k->second, 0, a)) -
                               (mean(l->second, a, end) - mean(l->second, 0, a));
            } else if (b > a) {
                one.kind = Comparison::Kind::NotYet;
                one.weight = std::pow((nk + nl) * (1.0 - Dl), 2) * share * (1.0 - share) *
                             (Dk - Dl) / (1.0 - Dl) * (1.0 - Dk) / (1.0 - Dl);
                one.estimate = (mean(k->second, a, b) - mean(k->second, 0, a)) -
                               (mean(l->second, a, b) - mean(l->second, 0, a));
            } else if (b < a) {
                // k changes later; l had changed already.
                one.kind = Comparison::Kind::Already;
                one.weight =
                    std::pow((nk + nl) * Dl, 2) * share * (1.0 - share) * Dk / Dl * (Dl - Dk) / Dl;
                one.estimate = (mean(k->second, a, end) - mean(k->second, b, a)) -
                               (mean(l->second, a, end) - mean(l->second, b, a));
            } else {
                continue;
            }
            sum += one.weight;
            out.comparisons.push_back(one);
        }
    }
    if (!(sum > 0.0)) {
        return tl::make_unexpected(std::string("Nothing changes among units with every moment."));
    }
    for (Comparison& one : out.comparisons) {
        one.weight /= sum;
        out.effect += one.weight * one.estimate;
    }
    std::stable_sort(out.comparisons.begin(), out.comparisons.end(),
                     [](const Comparison& a, const Comparison& b) { return a.weight > b.weight; });
    return out;
}

NegativeWeights negativeWeights(const VectorXd& left, const VectorXd& on, const VectorXd& weights) {
    NegativeWeights out;
    double total = 0.0;
    double negative = 0.0;
    for (Index i = 0; i < on.size(); ++i) {
        if (on(i) != 1.0) {
            continue;
        }
        const double w = left(i) * (weights.size() > 0 ? weights(i) : 1.0);
        ++out.rows;
        total += w;
        if (w < 0.0) {
            ++out.negative;
            negative += w;
        }
    }
    out.sum = total > 0.0 ? negative / total : 0.0;
    return out;
}

}  // namespace rapporto
