#pragma once

#include "base/expected.h"
#include "base/list.h"
#include "base/progress.h"
#include "lens/lens.h"
#include "track/track.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace pinion {

/// How much is known of a quantity before the solve.
enum class Knowledge { known, guessed, unknown };

/// How a camera moves, from a picture's point of view.
enum class CameraMotion { travelling, nodal, locked };
std::string_view toString(CameraMotion motion);

/// How far apart the points of two tracks lie, measured on the set, with a standard deviation.
struct KnownDistance {
    TrackId a = 0, b = 0;
    double metres = 0;
    double trust = 0.01;  ///< metres
};

/// Where the point of a track lies in the set's own coordinates (metres, Y up), with a standard deviation.
struct KnownPlace {
    TrackId track = 0;
    Eigen::Vector3d metres{0, 0, 0};
    double trust = 0.01;  ///< metres
};

struct Solve;

struct SolveOptions {
    int width = 0;
    int height = 0;
    double sensorWidth_mm = 36.0;

    /// Known: kept as it is. Guessed: drawn to the value with the trust (a standard deviation). Unknown: searched from
    /// wide to long, then refined.
    Knowledge focal = Knowledge::unknown;
    double focal_mm = 35.0;
    double focalTrust_mm = 2.0;

    /// Known: `lens` gives it, axis and all, and keeps it: at whatever focal length is found the same glass bends the
    /// same pixels; errors are then those of the straightened picture (its own focal length counts when `focal` is
    /// known and `focal_mm` is 0). Unknown: k1 and k2 are found. Guessed: they are found near those of `lens`.
    enum class Distortion { none, known, unknown, k1, full, guessed };
    Distortion distortion = Distortion::unknown;
    std::optional<Lens> lens;

    /// Where the optical axis meets the plate. Automatic: near the middle, as far off as the tracks say against a trust
    /// of `axisTrust` widths. Centre: the middle, or the given lens' axis. Free: wherever the tracks put it.
    enum class Axis { automatic, centre, free };
    Axis axis = Axis::automatic;
    double axisTrust = 0.005;

    /// The anamorphic squeeze; it is known or it is 1.
    double squeeze = 1.0;

    /// How the camera moves; found from the tracks when empty.
    std::optional<CameraMotion> motion;

    /// A focal length per frame, smooth in time; whether it is needed is found from the tracks when empty.
    std::optional<bool> zoom;
    bool zooms() const { return zoom.value_or(false); }

    /// The two frames to start from; chosen by the parallax between them when empty.
    std::optional<std::pair<int, int>> basePair;

    /// Tracks with a larger error than this, in pixels, are set aside after the first full solve. 0: only those that
    /// contradict the rest.
    double trim_px = 0.0;

    /// An earlier solve to start from: its cameras and points are taken and adjusted with what has changed since
    /// (tracks added or tied, another lens, more frames), without a search. It must be near: a start that is wrong
    /// stays wrong.
    std::shared_ptr<const Solve> start;

    /// A tenth of the tracks is kept out of the adjustment and measured against it.
    bool holdOut = true;

    /// Fewest tracks a frame needs to be solved.
    int fewestTracks = 8;

    /// Measures from the set. One gives the scale, further ones hold the shape, three places the world.
    std::vector<KnownDistance> distances;
    std::vector<KnownPlace> places;

    /// How much more a track placed by hand counts than a scattered one: its errors are multiplied by this.
    double byHandWeight = 2.0;
};

struct SolvedFrame {
    int frame = 0;
    Eigen::Isometry3d worldFromCamera = Eigen::Isometry3d::Identity();  ///< looks along -Z, Y up, in the solve's units
    double focal_px = 0.0;
    double rms_px = 0.0;
    int tracks = 0;
    Eigen::Vector3d deviation{0, 0, 0};  ///< standard deviation of the place, an axis each; 0 when not computed
    double focalDeviation_px = 0.0;      ///< of a zoom
};

enum class TrackRole {
    used,
    heldOut,    ///< kept out of the adjustment to measure it
    disagreed,  ///< contradicts the rest: it moves, slides or jumps
    unplaced    ///< too short to be placed
};

struct SolvedTrack {
    TrackId track = 0;
    TrackRole role = TrackRole::unplaced;
    std::optional<Eigen::Vector3d> xyz;        ///< in the solve's units; none when its depth is not known
    std::optional<Eigen::Vector3d> direction;  ///< of length 1, in the solve's world, when only that is known
    double rms_px = 0.0;
    int frames = 0;
    Eigen::Vector3d deviation{0, 0, 0};  ///< standard deviation of the place, an axis each; 0 when not computed
    std::optional<std::pair<int, int>>
        goodFrames;  ///< first and last frame that agree, when the rest of the track does not
};

/// A solved camera. Its world has no scale and no floor yet: the first guess puts Y up along the cameras' mean and the
/// median point ten units away, unless measures from the set say more.
struct Solve {
    Lens lens;  ///< of a zoom: on its first frame
    double sensorWidth_mm = 36.0;
    CameraMotion motion = CameraMotion::travelling;
    std::string reason;  ///< why this kind of camera: "1204 of 1210 tracks fit a camera that only turns"
    bool zoom = false;
    double k1Slope = 0.0;  ///< of a zoom: k1 per natural logarithm of the focal length
    List<SolvedFrame> frames;
    List<SolvedTrack> tracks;
    double rms_px = 0.0;
    double heldOutRms_px = 0.0;  ///< 0 when nothing was held out
    double noise_px = 0.0;       ///< of one coordinate of a good track
    int used = 0;
    int disagreed = 0;
    int heldOut = 0;
    int duplicates = 0;                       ///< tracks left out because another has the same samples
    std::optional<double> focalDeviation_mm;  ///< none when the focal length was known
    std::optional<std::pair<double, double>>
        focalRange_mm;  ///< focal lengths that explain the tracks about as well, when they are clearly different
    double k1Deviation = 0.0, k2Deviation = 0.0;
    Eigen::Vector2d axisDeviation_px{0, 0};  ///< 0 when it was held
    std::pair<int, int> basePair{0, 0};
    double medianAngleDegrees = 0.0;  ///< the parallax of the points: how wide their rays spread
    bool inMetres = false;  ///< measures from the set gave the unit; with three known places the world is theirs
    std::string doubt;      ///< in words, when the solve is not sure; empty when it is
};

/// "held out 0.21 px", or "none held out" where there were too few tracks for it.
std::string heldOutWords(const Solve& solve, int decimals);

const SolvedFrame* solvedFrameAt(const Solve& solve, int frame);

/// The lens of one solved frame: of a zoom, with that frame's focal length and distortion.
Lens lensOf(const Solve& solve, const SolvedFrame& frame);

/// What a solve has so far, for whoever watches: poses of the frames placed, and points.
struct SolveView {
    std::vector<SolvedFrame> frames;
    std::vector<Eigen::Vector3d> points;
    double focal_px = 0.0;
};
using SolveWatch = std::function<void(const SolveView&)>;

/// Solves a camera from its tracks; those set aside are left out. Several pairs of frames and several focal lengths are
/// carried through keyframes of the whole shot and compared at one noise scale; the best goes on to all frames
/// (docs/architecture.md). Fails, saying the cause and what to try, when there are too few tracks, a cut, or nothing
/// that decides; a result that is not sure says so in `doubt`. When stopped early it gives what it has once all frames
/// are placed, with a doubt, else Fault::stopped.
Expected<Solve> solveCamera(std::span<const Track> tracks, const SolveOptions& options,
                            const Progress& progress = Progress{}, const SolveWatch& watch = {});

/// Where the solve puts a point on a frame's plate; none when the frame is not solved or the point is not in view of
/// the lens.
std::optional<Eigen::Vector2d> projected(const Solve& solve, int frame, const Eigen::Vector3d& xyz);

}  // namespace pinion
