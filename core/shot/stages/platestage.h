#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

#include <vector>

namespace pinion {

/// `missingFrames` come from the opened plate.
StageReport plateReport(const Shot& shot, const std::vector<int>& missingFrames = {});

}  // namespace pinion
