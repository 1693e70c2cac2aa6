#pragma once

#include "base/expected.h"
#include "exchange/formats.h"

#include <filesystem>
#include <string>

namespace pinion {

struct UsdOptions {
    std::string name = "shot";  ///< of the root prim; made to fit USD's rules for names
    bool zUp = false;           ///< Y up otherwise
    bool metres = false;        ///< whether the units are metres; said in the file's comment when they are not
    bool ground = true;         ///< add a 10 x 10 units grid at the floor
};

/// The camera, the cloud, objects, stand-ins and the ground as USD in its text form (openusd.org, "USD file format";
/// UsdGeomCamera, UsdGeomPoints): a matrix a frame, focal length and apertures in millimetres, the lens as custom
/// attributes.
std::string cameraUsd(const CameraFile& file, const UsdOptions& options);

/// Reads a file that `cameraUsd` wrote and compares it with `file`: rate, range, every matrix, the number of points.
/// Fails with the first difference.
Expected<void> checkCameraUsd(const std::filesystem::path& path, const CameraFile& file, const UsdOptions& options);

}  // namespace pinion
