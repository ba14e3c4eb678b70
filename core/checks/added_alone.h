#pragma once

#include "core/checks/common.h"

#include <functional>
#include <vector>

namespace rapporto {

/// Columns that are tried beside the terms, made block by block: with all of them at once a table
/// of a million rows would not fit.
struct AddedColumns {
    Eigen::Index count = 0;
    /// Writes rows from … from + block.rows() − 1 of all columns into the block.
    std::function<void(Eigen::Index from, Eigen::MatrixXd& block)> fill;
    std::vector<std::vector<Eigen::Index>> groups;  ///< What is added together; places from 0.
};

/// What one group adds to the fit.
struct AddedAlone {
    double gained = 0.0;  ///< The fall of the sum of squares.
    double rank = 0.0;    ///< Columns that are no combination of the terms.
    bool sure = false;    ///< False: next to a combination; only an orthogonalisation can tell.
};

/// Work from which on one pass over the rows for all groups pays.
[[nodiscard]] bool isWorthAPass(const CheckInput& in, Eigen::Index columns);

/// Each group added alone to the fit, in one pass over the rows on all cores: with Q the terms made
/// orthonormal and Z what is added, Z'Z − (Q'Z)'(Q'Z) and Z'e tell what each gains.
///
/// @param e  the residuals times root weights, n.
/// @return one a group; empty when the job was stopped.
///
/// Source: Frisch & Waugh (1933), Econometrica 1, 387–401.
[[nodiscard]] std::vector<AddedAlone> addedAlone(const CheckInput& in, const AddedColumns& added,
                                                 const Eigen::VectorXd& e);

}  // namespace rapporto
