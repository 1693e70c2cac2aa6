#pragma once

#include "base/expected.h"

#include <string>
#include <utility>

namespace pinion::cli {

/// "WxH" in pixels.
Expected<std::pair<int, int>> sizeFrom(const std::string& option, const std::string& word);

}  // namespace pinion::cli
