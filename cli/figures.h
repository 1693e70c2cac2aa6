#pragma once

#include "camera/result.h"
#include "track/tracking.h"

#include <nlohmann/json_fwd.hpp>

namespace pinion::cli {

/// What `--json` prints of tracks, and of a solve.
nlohmann::json tracksFigures(const TrackingResult& result);
nlohmann::json solveFigures(const Solve& solve, int width);

}  // namespace pinion::cli
