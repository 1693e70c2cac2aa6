#pragma once

#include "stages/camera/camerastage.h"

namespace pinion {

/// What is known of camera and lens, the solve's figures, and the line that sets tracks aside.
QWidget* makeCameraCard(Session& session, CameraStage& stage);

}  // namespace pinion
