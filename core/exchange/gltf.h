#pragma once

#include "exchange/formats.h"

#include <string>

namespace pinion {

/// The camera and the cloud as glTF 2.0 in its binary form (Khronos, "glTF 2.0 Specification", `.glb`): a node whose
/// place and turn are keyed on every solved frame, in seconds from the first, with the perspective of the first; the
/// points as a mesh of points, named in its extras. glTF knows neither distortion, nor an axis off the middle, nor a
/// zoom: `extras` of the camera hold lens and focal lengths as `camera.json` does. Y up, as the standard has it.
std::string cameraGlb(const CameraFile& file, const std::string& name);

/// The cloud as PLY (Turk 1994), binary little endian: x, y, z as floats.
std::string cloudPly(const CameraFile& file);

}  // namespace pinion
