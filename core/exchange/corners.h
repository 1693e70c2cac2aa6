#pragma once

#include "base/expected.h"
#include "planar/planartrack.h"

#include <filesystem>
#include <string>
#include <vector>

namespace pinion {

/// Four corners a frame, `pinion.corners` of docs/formats.md; by rising frame.
using CornersFile = std::vector<PlaneTie>;
/// With `turns_deg`, as many: how far a cylinder has turned on each frame (see `turnAt`).
std::string cornersJson(const CornersFile& corners, const std::vector<double>& turns_deg = {});
/// Fails for what is no surface (`troubleOf`), naming the frame.
Expected<CornersFile> readCorners(const std::filesystem::path& path);

}  // namespace pinion
