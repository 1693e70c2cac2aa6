#pragma once

#include "base/expected.h"

#include <filesystem>
#include <functional>
#include <string>
#include <string_view>

namespace pinion {

/// Reads a whole file. Fails when it is missing, a directory, unreadable or larger than `limit` bytes.
Expected<std::string> readFile(const std::filesystem::path& path, std::size_t limit = std::size_t(1) << 30);

/// Writes a file beside its place and renames it there, so that the place holds the old or the new contents whole,
/// never a part. On a full disk or a missing permission the old file stays and the error says so.
Expected<void> writeFile(const std::filesystem::path& path, std::string_view contents);

/// The same for libraries that write to a path of their own: `write` gets the path beside.
Expected<void> writeBeside(const std::filesystem::path& path,
                           const std::function<Expected<void>(const std::filesystem::path& beside)>& write);

/// Where something is written before it is renamed to `path`: a hidden file beside it, named by machine and process.
/// What killed processes left there is removed first.
std::filesystem::path pathBeside(const std::filesystem::path& path);

/// Why a library could not write below `path`: our words for a full disk, a missing permission or a disk that may not
/// be written, its own for the rest.
std::string writeProblem(const std::filesystem::path& path, const std::string& libraryWords);

/// ".png" of "LOGO.PNG".
std::string loweredEnding(const std::filesystem::path& path);

/// Makes the folder and its parents; an existing one is fine.
Expected<void> makeFolder(const std::filesystem::path& folder);

}  // namespace pinion
