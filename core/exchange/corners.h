#pragma once

#include "base/expected.h"
#include "planar/planartrack.h"

#include <filesystem>
#include <string>
#include <vector>

namespace pinion {

/// Four corners a frame, `pinion.corners` of docs/formats.md; by rising frame.
using CornersFile = std::vector<PlaneTie>;
std::string cornersJson(const CornersFile& corners);
/// Fails for what is no surface (`troubleOf`), naming the frame.
Expected<CornersFile> readCorners(const std::filesystem::path& path);

}  // namespace pinion
