#pragma once

#include "shot/shot.h"

#include <filesystem>
#include <string>

namespace pinion::cli {

/// The places of deliveries checked before anything is written; `outside` lets them lie outside the folder.
Expected<void> checkDeliveries(const Shot& shot, const std::filesystem::path& folder, const std::string& shotPath,
                               bool outside, const std::string& only = "");

}  // namespace pinion::cli
