#pragma once

// The values of a lens, alike in lens.json, camera.json and a shot. For sources that read and write JSON.

#include "base/json.h"
#include "lens/lens.h"

#include <string>

namespace pinion {

nlohmann::json lensValues(const Lens& lens);

/// Throws jsonfile::Malformed for what makes no lens (checkLens).
Lens takeLensValues(const nlohmann::json& object, const std::string& where);
/// The same for a shot's own file, which opens with whatever it was saved with: a lens that folds the picture over is
/// taken, and is a trouble of its card. Throws for what is no lens at all (checkLensValues).
Lens takeOwnLensValues(const nlohmann::json& object, const std::string& where);

}  // namespace pinion
