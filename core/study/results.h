#pragma once

#include "core/study/answer.h"

#include <nlohmann/json.hpp>

namespace rapporto {

/// Parts of a results file that several kinds of questions share.

/// A number, or null where it does not exist. The library writes the shortest text that reads
/// back as the same double, which loses none of its 17 digits.
[[nodiscard]] nlohmann::ordered_json numberJson(std::optional<double> x);

/// The same without a point where the number is whole.
[[nodiscard]] nlohmann::ordered_json wholeJson(double x);

[[nodiscard]] nlohmann::ordered_json matrixJson(const Eigen::MatrixXd& matrix);
[[nodiscard]] nlohmann::ordered_json coefficientsJson(const std::vector<Coefficient>& all,
                                                      double alpha);
[[nodiscard]] nlohmann::ordered_json checksJson(const std::vector<CheckResult>& all);

/// The parts of an entry by the kind of its question.
void explainResults(nlohmann::ordered_json& one, const Answer& a);
void correlateResults(nlohmann::ordered_json& one, const Answer& a);

}  // namespace rapporto
