#pragma once

#include "camera/result.h"

#include <QString>

namespace pinion {

/// The solve's figures as a table, beside those of the solve before it where there is one.
QString solveFigures(const Solve& solve, const Solve* before, int plateWidth);

}  // namespace pinion
