#pragma once

#include "shot/shot.h"

#include <filesystem>
#include <string>
#include <vector>

namespace pinion {

/// A delivery that would be written outside its folder: by an absolute place, by `..`, or through a link.
struct OutsidePlace {
    std::string name;
    std::filesystem::path path;
};

/// Whether a path would be written outside `folder`: by an absolute place, by `..`, or through a link.
bool liesOutside(const std::filesystem::path& path, const std::filesystem::path& folder);

/// A name as one part of a file's: of what would lead elsewhere or cannot be typed, an underscore is left.
std::string fileNameOf(const std::string& name);

/// Those of the shot's deliveries that lie outside `folder`; of all when `names` is empty. A shot from somebody else
/// may name any file of this machine.
std::vector<OutsidePlace> placesOutside(const Shot& shot, const std::filesystem::path& folder,
                                        const std::vector<std::string>& names = {});

/// Fails when two deliveries have one place, or one is the shot's own file, its plate or a frame of it, or, unless
/// `outsideAllowed`, lies outside `folder`.
Expected<void> checkPlaces(const Shot& shot, const std::filesystem::path& folder, const std::filesystem::path& shotFile,
                           bool outsideAllowed, const std::vector<std::string>& names = {});

}  // namespace pinion
