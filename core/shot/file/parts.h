#pragma once

#include "base/json.h"
#include "shot/shot.h"

#include <filesystem>
#include <span>
#include <string>

namespace pinion {

/// One part of the shot's file: how it is written into the document and taken from it. `file` is the file's own path.
/// Taking throws `jsonfile::malformed` with the place of what is wrong. A part that is as usual need not be written.
struct ShotFilePart {
    void (*put)(jsonfile::json& document, const Shot& shot, const std::filesystem::path& file);
    void (*take)(const jsonfile::json& document, Shot& shot, const std::filesystem::path& file);
};

/// A part by itself, as it is written. For telling whether it is the same.
std::string partText(const ShotFilePart& part, const Shot& shot);

// A file of this folder each; a new one is a line of the table in core/kinds.cpp.
std::span<const ShotFilePart> shotFileParts();
ShotFilePart insertsPart();
ShotFilePart scenePart();

}  // namespace pinion
