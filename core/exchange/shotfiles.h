#pragma once

#include "exchange/formats.h"
#include "shot/fingerprint.h"
#include "shot/shot.h"

namespace pinion {

/// The shot's camera, oriented and scaled, as it is delivered. Fails when there is none.
Expected<CameraFile> cameraFileOf(const Shot& shot);

TrackFile trackFileOf(const Shot& shot);

/// The lens as the solve has it, over time.
void addSolvedLens(Fingerprint& print, const Solve& solve);

}  // namespace pinion
