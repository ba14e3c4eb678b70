#pragma once

#include "core/model/design.h"
#include "core/numerics/random.h"

namespace rapporto {

/// The ways in which a cause could have fallen on those that draw a lot for it: every label goes to
/// as many of them as it did, within each stratum.
class Lots {
  public:
    /// Units of a stratum that have one label, which is not the usual one there.
    struct Run {
        int label = 0;
        int usual = 0;
        std::size_t from = 0;  ///< Among the units of a lot.
        std::size_t count = 0;
    };

    /// A lot: who has another label than most of its stratum, run by run; with what a thread needs
    /// to draw in.
    struct Lot {
        std::vector<std::int32_t> units;
        std::vector<Run> runs;
        std::vector<std::int32_t> order;
    };

    /// @param values  n × columns of the cause, in the rows of the design.
    /// @param groups  they are indicators of a grouping.
    /// @return UnknownName (no such variable), BadSetting (values are missing, the cause differs
    ///         within groups that draw one lot, strata cut them apart, there is nothing to draw).
    [[nodiscard]] static Result<Lots> make(const Frame& frame, const Design& design,
                                           const Eigen::MatrixXd& values, bool groups,
                                           const LotRequest& request);

    /// “1,110 rows”, “24 groups of village”.
    [[nodiscard]] const std::string& shown() const { return shown_; }

    /// A lot is a unit’s course over the moments.
    [[nodiscard]] bool paths() const { return !moments_.empty(); }

    /// How many different lots there are; may be infinite as a number.
    [[nodiscard]] double different() const { return different_; }

    [[nodiscard]] std::int32_t units() const { return static_cast<std::int32_t>(stratum_.size()); }

    [[nodiscard]] Eigen::Index columns() const { return columns_; }

    [[nodiscard]] std::int32_t unitOf(Eigen::Index row) const {
        return unit_[static_cast<std::size_t>(row)];
    }

    /// The label that most of a unit’s stratum have.
    [[nodiscard]] int usual(std::int32_t unit) const {
        return strata_[stratum_[static_cast<std::size_t>(unit)]].usual;
    }

    /// The cause under a label, less a constant where constants are left out anyhow; not of paths.
    [[nodiscard]] double value(int label, Eigen::Index column) const {
        return values_(label, column);
    }

    /// The same in a row, of paths, too.
    [[nodiscard]] double valueAt(int label, Eigen::Index row, Eigen::Index column) const {
        return paths() ? values_(label, moments_[static_cast<std::size_t>(row)])
                       : values_(label, column);
    }

    /// A lot by chance.
    void draw(RandomStream stream, Lot& out) const;

    /// The lot of that number, from 0 to under different(), where those are few.
    void list(std::int64_t number, Lot& out) const;

    /// The label of every unit.
    [[nodiscard]] std::vector<int> labelsOf(const Lot& lot) const;

  private:
    struct Stratum {
        std::vector<std::int32_t> units;
        std::vector<std::pair<int, int>> counts;  ///< Label and how many have it.
        std::size_t others = 0;                   ///< That have not the usual one.
        int usual = 0;
        double different = 1.0;
    };

    Lots() = default;

    Result<std::vector<std::int32_t>> groupsOf(const Frame& frame, const Design& design,
                                               const std::string& name) const;
    Result<void> setUnits(const Frame& frame, const Design& design, const LotRequest& request);
    Result<std::vector<int>> constantLabels(const Design& design, const Eigen::MatrixXd& values,
                                            bool groups);
    Result<std::vector<int>> pathLabels(const Design& design, const Eigen::MatrixXd& values);
    Result<void> setStrata(const Frame& frame, const Design& design, const LotRequest& request,
                           const std::vector<int>& labels);

    std::string shown_;
    std::vector<std::int32_t> unit_;    ///< Of each row.
    std::vector<std::size_t> stratum_;  ///< Of each unit.
    std::vector<Stratum> strata_;
    std::vector<std::int32_t> order_;    ///< Units by stratum.
    std::vector<Run> runs_;              ///< Of a lot by chance.
    Eigen::MatrixXd values_;             ///< Labels × columns; of paths labels × moments.
    std::vector<Eigen::Index> moments_;  ///< Of each row, of paths; else empty.
    Eigen::Index columns_ = 1;
    double different_ = 1.0;
};

}  // namespace rapporto
