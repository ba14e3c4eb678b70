#pragma once

#include "core/model/trace_spec.h"

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// Changes of a trace as a person makes them in its sentence or its picture. Each leaves a spec
/// whose effects are those of the causes on the outcomes.

/// The effect of one variable on another, as a trace asks for it.
[[nodiscard]] TracedPair tracedPair(std::string from, std::string to,
                                    std::vector<ModeratorValues> at = {},
                                    std::optional<std::pair<double, double>> change = std::nullopt);

/// A cause of interest, into every equation.
void addCause(TraceSpec& spec, const std::string& name);

/// What the causes are to reach: explained by everything that is there; in place of the one before
/// where there was none.
void addOutcome(TraceSpec& spec, const std::string& name);

/// Something between: explained by the causes and what stands beside them, and explaining the
/// outcomes.
void addBetween(TraceSpec& spec, const std::string& name);

/// A further term of every equation, whose effect is not asked for.
void addBeside(TraceSpec& spec, const std::string& name);

/// Where a variable goes that is dropped on a trace: what is still missing first, then between.
void addDropped(TraceSpec& spec, const std::string& name);

/// Draws an arrow; what it leads to gets an equation where it has none.
void drawPath(TraceSpec& spec, const std::string& from, const std::string& to);

/// Takes an arrow out, products that hold its cause among the terms, too.
void removePath(TraceSpec& spec, const std::string& from, const std::string& to);

/// The arrow the other way round.
void turnPath(TraceSpec& spec, const std::string& from, const std::string& to);

/// Takes a variable out of every equation, its own among them.
void removeNode(TraceSpec& spec, const std::string& name);

/// Leaves a variable out without taking it from the sentence, or takes it up again.
void muteNode(TraceSpec& spec, const std::string& name);

[[nodiscard]] bool isMuted(const TraceSpec& spec, const std::string& name);

}  // namespace rapporto
