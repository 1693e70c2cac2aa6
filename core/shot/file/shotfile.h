#pragma once

#include "base/expected.h"
#include "shot/shot.h"

#include <filesystem>
#include <string>

namespace pinion {

/// The `.pinion` file: JSON, format "pinion.shot". The plate's path is kept relative to the file where it lies beside
/// or below it, so that a folder can be moved whole.
std::string shotJson(const Shot& shot, const std::filesystem::path& file);

/// Reads one. `name` stands for the file in messages; relative paths are resolved against its folder. Everything in it
/// is checked; a file that is cut off, newer or edited wrongly gives an error with the place, never half a shot.
Expected<Shot> parseShot(const std::string& contents, const std::filesystem::path& file);

/// The text is read back before it replaces the file; where that fails the file stays, and the text lies beside it as
/// "name.pinion.unreadable".
Expected<void> saveShot(const Shot& shot, const std::filesystem::path& file);
Expected<Shot> loadShot(const std::filesystem::path& file);

}  // namespace pinion
