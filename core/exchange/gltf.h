#pragma once

#include "exchange/pointcolours.h"

#include <span>
#include <string>

namespace pinion {

/// The camera, the cloud, the ground, objects and stand-ins as glTF 2.0 in its binary form (Khronos, "glTF 2.0
/// Specification", `.glb`): a node each, keyed on every solved frame where it moves, in seconds from the first; the
/// camera with the perspective of that; points as meshes of points, named in their extras; stand-ins with materials,
/// their pictures inside (cards and words with KHR_materials_unlit), and the sun (KHR_lights_punctual). glTF knows
/// neither distortion, nor an axis off the middle, nor a zoom: `extras` of the camera hold lens and focal lengths as
/// `camera.json` does. Y up, as the standard has it. `colours` of the cloud's points, or none.
std::string cameraGlb(const CameraFile& file, const std::string& name, std::span<const PointColour> colours = {});

/// The cloud as PLY (Turk 1994), binary little endian: x, y, z as floats, and red, green and blue as bytes where there
/// are colours.
std::string cloudPly(const CameraFile& file, std::span<const PointColour> colours = {});

}  // namespace pinion
