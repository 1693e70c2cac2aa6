#pragma once

#include "stages/plate/platestage.h"

namespace pinion {

/// What the plate is, how it is shown, what its check found.
QWidget* makePlateCard(Session& session, PlateStage& stage);

}  // namespace pinion
