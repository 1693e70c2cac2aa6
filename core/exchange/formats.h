#pragma once

#include "base/expected.h"
#include "base/framerate.h"
#include "camera/result.h"
#include "exchange/objects.h"
#include "lens/lines.h"
#include "matte/matte.h"
#include "track/track.h"
#include "world/standin.h"

#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace pinion {

// The JSON files of docs/formats.md. Writers give the text; `writeFile` puts it in place. Readers refuse what they do
// not know and say where in the file.

struct PointList {
    int referenceFrame = 0;
    struct Point {
        std::string name;
        Eigen::Vector2d at;
        std::optional<Eigen::Vector2d> wanted;  ///< the place to follow while tracking the one at `at`
        Polygon outline;                        ///< what counts of the pattern, in pixels of the plate; empty: all
    };
    std::vector<Point> points;
};
Expected<PointList> readPoints(const std::filesystem::path& path);

/// The place a sample stands for, counted from `origin` of a plate of that height.
Eigen::Vector2d deliveredPlace(const Sample& sample, Origin origin, int height);

struct TrackFile {
    int width = 0;
    int height = 0;
    FrameRate fps;
    std::vector<Track> tracks;
    FrameTimes times{};  ///< of a plate whose rate varies
};
std::string tracksJson(const TrackFile& file, Origin origin = Origin::topLeft);
/// JSON, or CSV by the ending. Of a CSV that does not say them, size and rate are 0.
Expected<TrackFile> readTracks(const std::filesystem::path& path);

/// One row a sample: track, frame, x, y, score. Numbers with a point, fields with a comma; a line that begins with #
/// carries size, rate, frames and origin, the next one names the columns.
std::string tracksCsv(const TrackFile& file, Origin origin = Origin::topLeft);
/// Columns in any order, others left out; fails where one of track, frame, x, y is missing or a value is none, naming
/// the line.
Expected<TrackFile> parseTracksCsv(const std::string& contents, const std::string& name);

std::string lensJson(const Lens& lens);
Expected<Lens> readLens(const std::filesystem::path& path);

std::string linesJson(const std::vector<StraightLine>& lines);
Expected<std::vector<StraightLine>> readLines(const std::filesystem::path& path);

Expected<std::vector<Matte>> readMattes(const std::filesystem::path& path);
/// The same from a text, called `name` in messages; and as a text.
Expected<std::vector<Matte>> mattesFromJson(const std::string& contents, const std::string& name);
std::string mattesJson(std::span<const Matte> mattes);

/// A camera as it is handed on: oriented and scaled.
struct CameraFile {
    int width = 0;
    int height = 0;
    FrameRate fps;
    FrameTimes times{};  ///< of a plate whose rate varies
    Lens lens;
    double sensorWidth_mm = 36.0;
    struct Frame {
        int frame;
        Eigen::Isometry3d worldFromCamera;
        double focal_px;
        double k1 = 0.0;  ///< of a zoom
    };
    std::vector<Frame> frames;
    bool zoom = false;
    struct Point {
        std::string name;
        Eigen::Vector3d xyz;
    };
    std::vector<Point> points;
    std::vector<Point> directions;            ///< of tracks whose depth is not known, of length 1
    std::vector<ObjectFile::Object> objects;  ///< that move by themselves; USD and glTF hold them
    SceneLook scene;                          ///< what stands in the world; likewise
    std::string motion = "travelling";
    double focalDeviation_mm = 0.0;  ///< 0 when the focal length was given
    Readout readout;                 ///< the frames' poses are those of the middle row
    std::string doubt;
    double rms_px = 0.0;
    double heldOutRms_px = 0.0;
    int tracks = 0;
};
std::string cameraJson(const CameraFile& file);
Expected<CameraFile> readCamera(const std::filesystem::path& path);

}  // namespace pinion
