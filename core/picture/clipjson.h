#pragma once

// How a clip is keyed and timed, alike in inserts and stand-ins. For sources that read and write JSON.

#include "base/json.h"
#include "picture/clip.h"

#include <string>

namespace pinion {

nlohmann::json keyColourValue(const ColourKey& key);
nlohmann::json timeValue(const ClipTime& time);

/// Throw jsonfile::Malformed with the place of what is wrong. Numbers beyond their bounds are taken as far as they go.
ColourKey takeColourKey(const nlohmann::json& value, const std::string& where);
ClipTime takeTime(const nlohmann::json& value, const std::string& where);

}  // namespace pinion
