#pragma once

#include "base/json.h"
#include "lens/lensjson.h"
#include "shot/shot.h"

#include <array>
#include <string>
#include <utility>

namespace pinion::shotfile {

// Values that several parts of the shot's file hold; taking one throws `jsonfile::malformed` with its place.

template <class Enum, std::size_t N>
Enum word(const jsonfile::json& object, const char* name, const std::array<const char*, N>& words,
          const std::string& where) {
    const std::string found = jsonfile::text(object, name, where);
    for (std::size_t i = 0; i < N; ++i)
        if (found == words[i]) return Enum(i);
    jsonfile::malformed(where + "." + name + ": '" + found + "' is not known");
}

jsonfile::json vector3(const Eigen::Vector3d& v);
Eigen::Vector3d vector3(const jsonfile::json& value, const std::string& where);
/// The first three rows of a pose, row by row.
jsonfile::json poseValue(const Eigen::Isometry3d& pose);
Eigen::Isometry3d takePose(const jsonfile::json& object, const char* name, const std::string& where);
/// What a solve is asked, and back; a lens that lay there in older files is left alone.
jsonfile::json settingsValue(const SolveSettings& settings);
SolveSettings takeSettings(const jsonfile::json& value, const std::string& where);
/// Taken as far as a million, which no place is beyond.
Eigen::Vector2d vector2(const jsonfile::json& value, const std::string& where);
/// Within bounds: what an artist set beyond them is taken as far as it goes, and never refused.
double numberWithin(const jsonfile::json& object, const char* name, double low, double high, const std::string& where);
std::pair<int, int> twoFrames(const jsonfile::json& value, const std::string& where);
TrackId takeId(const jsonfile::json& value, const std::string& where);
List<TrackId> takeIds(const jsonfile::json& object, const char* name, const std::string& where);

/// "pixel_aspect": 0.01 to 100.
double takeAspect(const jsonfile::json& object, const std::string& where);
FrameRange takeRange(const jsonfile::json& object, const char* name, const std::string& where);
jsonfile::json cornersValue(const Quad& quad);
Quad takeCorners(const jsonfile::json& object, const char* name, const std::string& where);
/// A path as the shot's file has it: relative to the file where it lies beside or below it, so that a folder can be
/// moved whole; and back.
std::string writtenPath(const std::filesystem::path& path, const std::filesystem::path& file);
std::filesystem::path takenPath(const std::filesystem::path& path, const std::filesystem::path& file);

inline constexpr std::array kMotionWords{"travelling", "nodal", "locked"};

}  // namespace pinion::shotfile
