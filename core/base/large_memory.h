#pragma once

#include <Eigen/Dense>

namespace rapporto {

/// An n × k matrix, not filled, whose memory the system may hand out in large pages: touching it
/// for the first time then costs a few hundred times fewer interruptions.
[[nodiscard]] Eigen::MatrixXd largeMatrix(Eigen::Index rows, Eigen::Index columns);

/// Gives memory that was freed and is kept at hand back to the system.
void giveBackMemory();

}  // namespace rapporto
