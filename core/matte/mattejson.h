#pragma once

// Mattes as a list of shapes, alike in mattes.json and in a shot. For sources that read and write JSON.

#include "base/json.h"
#include "matte/matte.h"

#include <span>
#include <string>
#include <vector>

namespace pinion {

nlohmann::json rideValue(const Ride& ride);
Ride takeRide(const nlohmann::json& ride, const std::string& where);

nlohmann::json turnsValue(const std::vector<Matte::Turn>& turns);
/// Of `object`'s member "there"; none where it has none.
std::vector<Matte::Turn> takeTurns(const nlohmann::json& object, const std::string& where);

nlohmann::json mattesValue(std::span<const Matte> mattes);

/// Values beyond their bounds are refused in files from elsewhere; in a shot's own they are taken as far as the bounds
/// go, for what was saved is to open.
enum class MatteBounds { refused, taken };

/// Throws jsonfile::Malformed with the place inside the list, which is called `name` there. Pictures that are named
/// relatively lie beside `file`.
std::vector<Matte> takeMattes(const nlohmann::json& shapes, const std::string& name, const std::filesystem::path& file,
                              MatteBounds bounds = MatteBounds::refused);

}  // namespace pinion
