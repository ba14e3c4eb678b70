#pragma once

#include "core/base/compiled_once.h"
#include "core/data/column.h"
#include "core/model/term.h"

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// One equation of a path system: what explains `to` beside what every equation holds.
struct PathSpec {
    RAPPORTO_COMPILED_ONCE(PathSpec);

    std::string to;                           ///< An expression; empty: not chosen yet.
    std::vector<Term> from;                   ///< Expressions, products, sets.
    std::string estimator = "least-squares";  ///< Or logit, probit, poisson.

    friend bool operator==(const PathSpec&, const PathSpec&) = default;
};

/// Values of a moderator at which an effect is told, in the order listed.
struct ModeratorValues {
    std::string name;
    std::vector<Key> values;

    friend bool operator==(const ModeratorValues&, const ModeratorValues&) = default;
};

/// An effect that is asked for: of a variable, or of a level (“zone=Ridge”) against the base.
struct TracedPair {
    RAPPORTO_COMPILED_ONCE(TracedPair);

    std::string from;
    std::string to;
    std::vector<ModeratorValues> at = {};
    /// Of ways that are not linear: the two values of the cause; absent: 0 and 1 of a yes–no, else
    /// half a standard deviation on either side of the mean.
    std::optional<std::pair<double, double>> change = {};

    friend bool operator==(const TracedPair&, const TracedPair&) = default;
};

/// Where a person put a node of the picture, as shares of its width and height.
struct NodePlace {
    double x = 0.0;
    double y = 0.0;

    friend bool operator==(const NodePlace&, const NodePlace&) = default;
};

/// What a question of kind trace asks.
struct TraceSpec {
    RAPPORTO_COMPILED_ONCE(TraceSpec);

    std::vector<PathSpec> paths;
    std::vector<Term> holding;        ///< In every equation; no causes of interest.
    std::vector<TracedPair> effects;  ///< Empty: every pair that a path joins.
    std::vector<std::string> muted;   ///< Variables kept in the sentence, left out of the system.
    std::string resampling;           ///< rows, clusters, parametric; empty: rows where there are.
    std::vector<std::string> by;      ///< Of clusters.
    int draws = 5000;
    std::string interval = "bias-corrected";  ///< Or percentile, bca, delta.
    std::optional<std::uint64_t> seed = {};   ///< Absent: the study’s.
    std::map<std::string, NodePlace> places;  ///< By the node’s name; changes nothing computed.

    /// No outcome is chosen yet.
    [[nodiscard]] bool isEmpty() const {
        for (const PathSpec& path : paths) {
            if (!path.to.empty()) {
                return false;
            }
        }
        return true;
    }

    friend bool operator==(const TraceSpec&, const TraceSpec&) = default;
};

/// Visits every expression of the spec, to read or to change it.
template <class Visit>
void eachText(TraceSpec& spec, const Visit& visit) {
    const auto terms = [&](std::vector<Term>& list) {
        for (Term& term : list) {
            for (std::string& part : term.parts) {
                if (term.kind != Term::Kind::Set) {
                    visit(part);
                }
            }
        }
    };
    for (PathSpec& path : spec.paths) {
        visit(path.to);
        terms(path.from);
    }
    terms(spec.holding);
    for (std::string& name : spec.muted) {
        visit(name);
    }
    for (std::string& name : spec.by) {
        visit(name);
    }
}

/// Where the level begins in the name of a node, “zone=Ridge”; npos: it names a variable or an
/// expression, which writes its comparisons with spaces around them.
[[nodiscard]] inline std::size_t levelAt(const std::string& node) {
    for (std::size_t i = 1; i + 1 < node.size(); ++i) {
        const std::string beside = {node[i - 1], node[i + 1]};
        if (node[i] == '=' && beside.find_first_of(" <>!=") == std::string::npos) {
            return i;
        }
    }
    return std::string::npos;
}

/// Visits every name that effects ask for: “zone=Ridge” is visited as “zone”.
template <class Visit>
void eachNodeName(TraceSpec& spec, const Visit& visit) {
    const auto node = [&](std::string& text) {
        const std::size_t level = levelAt(text);
        std::string name = text.substr(0, level);
        visit(name);
        text = name + (level == std::string::npos ? "" : text.substr(level));
    };
    for (TracedPair& pair : spec.effects) {
        node(pair.from);
        node(pair.to);
        for (ModeratorValues& one : pair.at) {
            visit(one.name);
        }
    }
}

}  // namespace rapporto
