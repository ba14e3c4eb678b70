#pragma once

#include "core/base/job.h"
#include "core/data/frame.h"
#include "core/data/imputation_spec.h"

#include <Eigen/Dense>

#include <memory>
#include <string>
#include <vector>

namespace rapporto {

/// A variable whose gaps were filled in.
struct ImputedVariable {
    std::string name;
    std::string label;              ///< For people.
    std::string way;                ///< matching, normal, logit, ordered or groups.
    std::string follows;            ///< Of levels: the one whose share the paths are of.
    std::vector<std::size_t> rows;  ///< Rows of the table that were filled, from 0, ascending.
    Eigen::MatrixXd values;         ///< Of those, one column a set: numbers, or codes of texts.
    Eigen::MatrixXd means;          ///< Of what was filled in, rounds × sets …
    Eigen::MatrixXd spreads;        ///< … and its standard deviation.
    std::optional<double> settled;  ///< How far paths of different sets lie apart: see settledOf().
};

/// A table filled in several times over.
struct ImputedSets {
    ImputationSpec spec;
    std::vector<ImputedVariable> variables;  ///< Those with gaps, as the study lists them.
    std::string groups;                      ///< What rows hang together by; empty: nothing.

    [[nodiscard]] std::size_t count() const { return static_cast<std::size_t>(spec.sets); }

    /// The columns of one set, as they go into Frame::filled().
    [[nodiscard]] std::vector<Column> columns(const Frame& frame, std::size_t set) const;

    /// The variable of that name where it has gaps, or null.
    [[nodiscard]] const ImputedVariable* find(const std::string& name) const;
};

/// What sets are made of.
struct ImputationInput {
    const Frame& frame;
    const std::vector<VariableEntry>& entries;
    const std::vector<Derived>& derived;
    const ImputationSpec& spec;
    std::uint64_t seed = 1;   ///< Where the declaration names none.
    std::string groups = {};  ///< Units of a panel or clusters of a design; empty: none.
};

/// Chained equations: every variable with gaps is drawn anew from all others and what else
/// foretells, round after round, from a beginning drawn among its own values. Rows out of the
/// sample are neither filled nor looked at. Derived variables follow in every round; what hangs on
/// a variable itself does not foretell it. Each set is a chain of its own with random numbers of
/// its own: the same bits for any number of threads.
///
/// Source: Rubin (1987); van Buuren (2007), Statistical Methods in Medical Research 16.
///
/// @return the sets, or UnknownName (with the nearest name), BadSetting (a derived variable, a way
///         that does not suit, a gap in what foretells), NoVariation (no answer at all, or only
///         one), TooFewRows, TooLarge, NotConverged, Stopped.
[[nodiscard]] Result<std::shared_ptr<const ImputedSets>> imputeSets(const ImputationInput& input,
                                                                    const Job& job);

/// The way a variable is filled in where none is named: by its measure.
[[nodiscard]] std::string usualWay(Measure measure);

/// All ways, as the study file has them.
[[nodiscard]] const std::vector<std::string>& imputationWays();

/// How much wider the paths of all sets spread together than each by itself, over their second
/// half (1: they cannot be told apart). Source: Gelman & Rubin (1992), Statistical Science 7.
/// @return absent with fewer than two sets or four rounds, or where nothing moves.
[[nodiscard]] std::optional<double> settledOf(const Eigen::MatrixXd& path);

}  // namespace rapporto
