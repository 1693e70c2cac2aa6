#pragma once

#include "stages/camera/camerastage.h"

namespace pinion {

/// What to do next about the solve, in words with their evidence, and the button that does it.
QWidget* makeNextStepLine(Session& session, CameraStage& stage);

}  // namespace pinion
