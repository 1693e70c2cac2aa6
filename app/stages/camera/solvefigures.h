#pragma once

#include "shot/shot.h"

#include <QString>

namespace pinion {

/// The solve's figures as a table, beside those of the solve before it where there is one.
QString solveFigures(const Solve& solve, const Solve* before, int plateWidth);

/// "solve 3: 0.412 px, 38.0 mm", as a list names it.
QString solveTitle(SolveId id, const Solve& solve, int plateWidth);

}  // namespace pinion
