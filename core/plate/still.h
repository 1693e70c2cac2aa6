#pragma once

#include "plate/plate.h"

namespace pinion {

/// Whether a path is one picture by itself: a file of pictures whose name does not end in a frame's number.
bool isStillPicture(const std::filesystem::path& path);

/// One picture as a plate that shows it on every frame from `first` to `last`, with its alpha where it has one.
Expected<std::shared_ptr<const Plate>> openStill(const std::filesystem::path& path, int first, int last);

}  // namespace pinion
