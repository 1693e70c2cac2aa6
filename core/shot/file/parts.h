#pragma once

#include "base/json.h"
#include "shot/shot.h"

#include <filesystem>

namespace pinion {

/// One part of the shot's file: how it is written into the document and taken from it. `file` is the file's own path.
/// Taking throws `jsonfile::malformed` with the place of what is wrong. A part that is as usual need not be written.
struct ShotFilePart {
    void (*put)(jsonfile::json& document, const Shot& shot, const std::filesystem::path& file);
    void (*take)(const jsonfile::json& document, Shot& shot, const std::filesystem::path& file);
};

extern const ShotFilePart kPlatePart;
extern const ShotFilePart kTracksPart;  ///< with the settings of scatter, and mattes
extern const ShotFilePart kCameraPart;  ///< what the Camera card holds
extern const ShotFilePart kSolvePart;
extern const ShotFilePart kWorldPart;
extern const ShotFilePart kSteadyPart;  ///< with the locators
extern const ShotFilePart kDeliveryPart;

}  // namespace pinion
