#pragma once

#include "shot/shot.h"

namespace pinion {

/// `solvedKey` is the `solveKey` of the shot that was solved.
Shot withSolve(const Shot& shot, const Solve& solve, std::uint64_t solvedKey);
Shot withWorld(const Shot& shot, const World& world);

}  // namespace pinion
