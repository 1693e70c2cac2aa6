#pragma once

#include "shot/shot.h"

namespace pinion {

/// How many solves a shot keeps beside the one that counts.
inline constexpr std::size_t kKeptSolves = 5;

/// The solve of `asked`, whose settings it was made with, counts from now on; the one before it is kept, and those kept
/// longest go.
Shot withSolve(const Shot& shot, const Solve& solve, const Shot& asked);
/// A kept one counts, with the settings it was asked with; the one that counted is kept. The same shot when there is
/// none of that id.
Shot withSolveChosen(const Shot& shot, SolveId solve);
Shot withWorld(const Shot& shot, const World& world);

}  // namespace pinion
