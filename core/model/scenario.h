#pragma once

#include "core/model/fit.h"

#include <map>
#include <memory>

namespace rapporto {

/// A variable that the terms of a question are made of.
struct ScenarioVariable {
    std::string name;
    std::string label;
    std::string unit;
    Measure measure = Measure::Quantity;
    bool groups = false;
    double mean = 0.0;  ///< In the rows used, by the question's weights; of groups: nothing.
    double sd = 0.0;
    double low = 0.0;  ///< Smallest and largest in the rows used.
    double high = 0.0;
    bool ranged = true;              ///< Else no rows are at hand, and the ends are mean ± 3 sd.
    std::vector<FoundLevel> levels;  ///< Of groups.
    std::size_t base = 0;
    std::string derivedFrom;  ///< Not a column but a function of other rows: “lag(price)”.

    [[nodiscard]] bool yesNo() const { return measure == Measure::YesNo; }

    /// Of groups or of yes–no: the base (or no), then the others, with the labels of these.
    [[nodiscard]] std::vector<std::pair<Key, std::string>> baseAndOthers() const;
};

/// X as a function of the variables behind it: derived variables and terms are followed through to
/// the columns of the source, means and quantiles inside of expressions stay those of the data, and
/// what reads other rows (a lag, a rank) is a variable of its own. A regular value; cells are
/// shared with the frame.
class ScenarioMap {
  public:
    [[nodiscard]] static Result<ScenarioMap> make(const Frame& frame, const Design& design);

    /// In the order in which the terms first name them.
    [[nodiscard]] const std::vector<ScenarioVariable>& variables() const { return variables_; }

    /// Null when the terms do not hang on it. Derived variables are not listed but can be named.
    [[nodiscard]] const ScenarioVariable* find(const std::string& name) const;

    /// Groupings of random effects, innermost first: where a scenario names a group of one, what
    /// is known of that group counts; else it speaks of a new group. One may be among the terms as
    /// well.
    [[nodiscard]] const std::vector<ScenarioVariable>& groupings() const { return groupings_; }

    /// Of a grouping, or null.
    [[nodiscard]] const ScenarioVariable* grouping(const std::string& name) const;

    /// The terms (or effects of groups) hang on it, or are worked out from it.
    [[nodiscard]] bool knows(const std::string& name) const {
        return leaves_.contains(name) || derived_.contains(name) || grouping(name) != nullptr ||
               (ofGroups_ && ofGroups_->knows(name));
    }

    /// What the effects of groups are in at given values, one row each: of each grouping a one and
    /// its slopes’ values; of a slope in `slopeIn` (where named) how they move with it.
    /// @return what at() refuses.
    [[nodiscard]] Result<std::vector<Eigen::MatrixXd>> columnsOfGroups(
        const std::vector<ScenarioValues>& scenarios, const std::string& slopeIn = "") const;

    /// The map of the terms that tell zeros apart, where these are others; else null.
    [[nodiscard]] const std::shared_ptr<const ScenarioMap>& zero() const { return zero_; }

    /// X at given values, one row each (m × k, the columns of the design). What is not named is the
    /// mean of a quantity and the base of groups.
    /// @return UnknownName, WrongType (a level that does not occur, a text for a number), or
    ///         BadSetting where a term has no value there (ln of zero).
    [[nodiscard]] Result<Eigen::MatrixXd> at(const std::vector<ScenarioValues>& scenarios) const;

    /// X in the rows used, with one variable at one value in all of them (n × k).
    [[nodiscard]] Result<Eigen::MatrixXd> usedWith(const std::string& name, const Key& value) const;

    /// dX/d name in the rows used (n × k).
    [[nodiscard]] Result<Eigen::MatrixXd> slopes(const std::string& name) const;

    /// dX/d name at given values (m × k).
    [[nodiscard]] Result<Eigen::MatrixXd> slopesAt(
        const std::string& name, const std::vector<ScenarioValues>& scenarios) const;

    /// The variable's numbers in the rows used; nothing for texts and unknown names.
    [[nodiscard]] std::optional<Eigen::VectorXd> used(const std::string& name) const;

  private:
    struct Leaf {
        Column column;
        Variable variable;
    };

    struct Place;

    void gather(const Frame& frame, const Node& node);
    void addLeaf(const Frame& frame, const std::string& name);
    [[nodiscard]] Result<Expression> resolved(const std::string& text,
                                              const ScenarioValues& named) const;
    [[nodiscard]] Result<Eigen::MatrixXd> matrix(const Place& place,
                                                 const std::string& slopeIn) const;
    [[nodiscard]] Result<Place> placeOf(const std::vector<ScenarioValues>& scenarios) const;
    [[nodiscard]] Result<Column> columnFor(const std::string& name,
                                           const std::vector<const Key*>& values) const;

    void addGroupings(const Frame& frame, const Design& design);

    [[nodiscard]] bool isTerm(const std::string& name) const {
        return leaves_.contains(name) || derived_.contains(name);
    }

    std::shared_ptr<const ScenarioMap> zero_;
    std::vector<ScenarioVariable> groupings_;
    std::shared_ptr<const ScenarioMap> ofGroups_;  ///< Of all slopes of groups; null without.
    std::vector<Eigen::Index> slopesOf_;           ///< How many each grouping has.
    std::vector<ScenarioVariable> variables_;
    std::vector<DesignTerm> terms_;
    std::vector<DesignColumn> columns_;
    std::vector<std::size_t> rows_;
    std::map<std::string, Leaf> leaves_;
    std::map<std::string, std::string> derived_;  ///< Name to expression: what is followed through.
    std::map<std::string, double> constants_;     ///< Means and quantiles by their text.
};

}  // namespace rapporto
