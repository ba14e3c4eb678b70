#pragma once

#include "core/data/frame.h"
#include "core/model/question.h"
#include "core/numerics/random.h"

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

namespace rapporto::bench {

[[nodiscard]] double seconds(const std::function<void()>& work);

[[nodiscard]] double median(std::vector<double> values);

/// Runs target and baseline in turn and prints the medians and the median ratio. `busy` is how
/// much of a core other processes used meanwhile.
void compare(const std::string& name, int rounds, double goal, const std::function<void()>& target,
             const std::function<void()>& baseline);

/// An absolute time against a goal in seconds, where there is nothing to compare with.
void absolute(const std::string& name, int rounds, double goal,
              const std::function<double()>& target);

/// Between −½ and ½, the same for the same `i`.
[[nodiscard]] double noise(std::uint64_t i);

/// Of mean 0 and spread 1: twelve even draws added up.
[[nodiscard]] double roughlyNormal(RandomStream& random);

/// A table of noise: y on x1 … xk, and g in groups.
[[nodiscard]] Table noiseTable(std::size_t n, int k, int groups);

[[nodiscard]] Question noiseQuestion(int k);

// Each a group of lines that a word on the command line picks.
void benchLeastSquares(bool quick, int rounds);
void benchCauses(bool quick, int rounds);
void benchOutcomes(bool quick, int rounds);
void benchLevels(std::size_t n, int rounds);
void benchLeft(bool quick, int rounds);
void benchOnDisk(bool quick, int rounds);
void benchExpressions(bool quick, int rounds);
void benchCsv(bool quick, int rounds);
void benchCorrelations(bool quick, int rounds);
void benchMissing(std::size_t n, int rounds);
void benchInference(int rounds);
void benchTraces(int rounds);
void benchParts(int rounds);
void benchDefence(int rounds);
void benchWindow(int rounds);

}  // namespace rapporto::bench
