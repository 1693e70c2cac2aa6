#pragma once

#include "exchange/formats.h"
#include "exchange/objects.h"
#include "shot/shot.h"

namespace pinion {

/// The shot's camera, oriented and scaled, as it is delivered. Fails when there is none.
Expected<CameraFile> cameraFileOf(const Shot& shot);

/// The camera of a file, as a solve has it: poses, lens, readout and points.
Solve solveOf(const CameraFile& file);

/// The shot's solved objects, oriented and scaled as its camera is. Fails when there is none.
Expected<ObjectFile> objectFileOf(const Shot& shot);

TrackFile trackFileOf(const Shot& shot);

/// The lens that belongs to the camera that is handed on: the solve's, else the Lens card's. Fails where there is none.
Expected<Lens> lensFileOf(const Shot& shot);

/// The same camera for the undistorted plate with the overscan that the lens needs: no distortion, the film back grown
/// to match, the axis where it meets the larger picture.
CameraFile withOverscan(const CameraFile& file);

}  // namespace pinion
