#pragma once

#include "base/expected.h"
#include "matte/matte.h"

#include <filesystem>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// A matte made elsewhere: a sequence of pictures, numbered as the plate. Of pictures with an alpha that is what
/// covers, of others their first channel as it is stored. Opened with the first frame that is asked for, so that a shot
/// whose pictures have moved can be opened; frames without a picture cover nothing.
std::shared_ptr<const MattePictures> matteSequence(const std::filesystem::path& path);

/// What keeps the pictures of mattes from covering, each with the matte's name; empty where nothing does.
std::vector<std::string> pictureTroubles(std::span<const Matte> mattes, const FrameRange& range, int width, int height);

/// Whether a sequence can serve as the matte of a plate of `width` x `height`: it can be read and is of that size.
/// Gives its frames that are missing between its first and last.
Expected<std::vector<int>> checkMatteSequence(const std::filesystem::path& path, int width, int height);

}  // namespace pinion
