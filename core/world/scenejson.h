#pragma once

// Stand-ins and their light, alike in scene.json and a shot. For sources that read and write JSON.

#include "base/json.h"
#include "world/standin.h"

#include <string>

namespace pinion {

/// "objects", "sun", "ground" and "ground_catches".
nlohmann::json sceneValue(const SceneLook& look);

/// Throws jsonfile::Malformed with the place of what is wrong. Numbers beyond their bounds are taken as far as they go;
/// ids are those written, or the place in the list from 1; a clip whose time is not said begins on `firstFrame`.
SceneLook takeScene(const nlohmann::json& object, const std::string& where, int firstFrame = 0);

}  // namespace pinion
