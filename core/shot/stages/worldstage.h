#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

namespace pinion {

StageReport worldReport(const Shot& shot);

/// Whether its unit is the metre: by lengths in the world, or by measures from the set that the solve took in.
bool isInMetres(const Shot& shot);

/// The world of the shot's solve; the solve's own where the decisions cannot be met.
Orientation orientationOf(const Shot& shot);

}  // namespace pinion
