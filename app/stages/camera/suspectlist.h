#pragma once

#include "stages/camera/camerastage.h"

namespace pinion {

/// The solve's suspects by their reason, what it would gain without them, and how errors are drawn on the plate.
QWidget* makeSuspectList(Session& session, CameraStage& stage);

}  // namespace pinion
