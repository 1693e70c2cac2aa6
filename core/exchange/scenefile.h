#pragma once

#include "base/expected.h"
#include "world/standin.h"

#include <filesystem>
#include <string>

namespace pinion {

/// scene.json: what stands in a camera's world (see docs/formats.md).
std::string sceneJson(const SceneLook& look);
/// Fails for what is no such file, a kind that is not known, or a size that is not above 0, naming the place.
Expected<SceneLook> readScene(const std::filesystem::path& path, int firstFrame = 0);

}  // namespace pinion
