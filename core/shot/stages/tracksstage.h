#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

#include <vector>

namespace pinion {

constexpr int kTrackFloor = 8;  ///< fewest tracks a frame should have

StageReport tracksReport(const Shot& shot);

/// How many tracks that are not set aside each frame of the range has.
std::vector<int> tracksPerFrame(const Shot& shot);

/// With the mattes where their tracks carry them.
ScatterOptions scatterOptionsOf(const Shot& shot, int startFrame);

}  // namespace pinion
