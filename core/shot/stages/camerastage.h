#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

#include <cstdint>

namespace pinion {

StageReport cameraReport(const Shot& shot);

/// What a solve depends on: when it differs from the solve's, the solve is stale.
std::uint64_t solveKey(const Shot& shot);

SolveOptions solveOptionsOf(const Shot& shot);

}  // namespace pinion
