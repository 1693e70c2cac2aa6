#pragma once

#include "base/progress.h"
#include "exchange/deliverables.h"
#include "shot/shot.h"

#include <filesystem>
#include <string>
#include <vector>

namespace pinion {

/// What was written, and that it was read back and found the same.
struct DeliveryReport {
    std::string name;
    std::vector<std::filesystem::path> files;
};

/// Writes one deliverable below `folder` and reads it back to check.
Expected<DeliveryReport> deliver(const Shot& shot, const Deliverable& deliverable, const std::filesystem::path& folder);

/// Writes "NAME.README.txt" into the folder: of which plate and camera the deliveries are, in which axes and units, and
/// what is in each of those that are there. Its path; nothing where none is there.
Expected<std::filesystem::path> writeDeliveryNote(const Shot& shot, const std::filesystem::path& folder);

/// Where the shot's deliveries go: its delivery folder, relative to the shot's file; "delivery" beside it by default.
std::filesystem::path deliveryFolderOf(const Shot& shot, const std::filesystem::path& shotFile);

/// The shot after a successful delivery: the deliverable is marked as written from the version `written`, which the
/// shot may have left behind meanwhile.
Shot withDelivered(const Shot& shot, const std::string& deliverableName, const Shot& written);

}  // namespace pinion
