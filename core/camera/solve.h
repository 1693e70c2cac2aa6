#pragma once

#include "base/expected.h"
#include "base/list.h"
#include "base/progress.h"
#include "lens/lens.h"
#include "track/track.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <optional>
#include <span>
#include <utility>
#include <vector>

namespace pinion {

/// How much is known of a quantity before the solve.
enum class Knowledge { known, guessed, unknown };

struct SolveOptions {
    int width = 0;
    int height = 0;
    double sensorWidth_mm = 36.0;

    /// Known: kept as it is. Guessed: drawn to the value with the trust (a standard deviation). Unknown: searched from wide to
    /// long, then refined.
    Knowledge focal = Knowledge::unknown;
    double focal_mm = 35.0;
    double focalTrust_mm = 2.0;

    /// Known: `lens` gives it (its focal length counts when `focal` is known and `focal_mm` is 0). Guessed is not offered.
    /// Unknown: k1 and k2 are found.
    enum class Distortion { none, known, unknown };
    Distortion distortion = Distortion::unknown;
    std::optional<Lens> lens;

    /// The two frames to start from; chosen by the parallax between them when empty.
    std::optional<std::pair<int, int>> basePair;

    /// Tracks with a larger error than this, in pixels, are set aside after the first full solve. 0: only those that
    /// contradict the rest.
    double trim_px = 0.0;

    /// A tenth of the tracks is kept out of the adjustment and measured against it.
    bool holdOut = true;

    /// Fewest tracks a frame needs to be solved.
    int fewestTracks = 8;
};

struct SolvedFrame {
    int frame = 0;
    Eigen::Isometry3d worldFromCamera = Eigen::Isometry3d::Identity();  ///< looks along -Z, Y up, in the solve's units
    double focal_px = 0.0;
    double rms_px = 0.0;
    int tracks = 0;
    Eigen::Vector3d deviation{0, 0, 0};  ///< standard deviation of the place, an axis each; 0 when not computed
};

enum class TrackRole {
    used,
    heldOut,     ///< kept out of the adjustment to measure it
    disagreed,   ///< contradicts the rest: it moves, slides or jumps
    unplaced     ///< too short or too far to be placed
};

struct SolvedTrack {
    TrackId track = 0;
    TrackRole role = TrackRole::unplaced;
    std::optional<Eigen::Vector3d> xyz;  ///< in the solve's units
    double rms_px = 0.0;
    int frames = 0;
};

/// A solved camera. Its world has no scale and no floor yet: the first guess puts Y up along the cameras' mean and the median
/// point ten units away.
struct Solve {
    Lens lens;
    double sensorWidth_mm = 36.0;
    List<SolvedFrame> frames;
    List<SolvedTrack> tracks;
    double rms_px = 0.0;
    double heldOutRms_px = 0.0;  ///< 0 when nothing was held out
    int used = 0;
    int disagreed = 0;
    int heldOut = 0;
    std::optional<double> focalDeviation_mm;  ///< none when the focal length was known
    std::pair<int, int> basePair{0, 0};
    double medianAngleDegrees = 0.0;  ///< the parallax of the points: how wide their rays spread
};

const SolvedFrame* solvedFrameAt(const Solve& solve, int frame);

/// Solves a travelling camera from its tracks; those set aside are left out. Undistorted five-point base pair, resection frame
/// by frame, adjustment at growing sizes (see docs/accuracy.md). Fails, saying what to try, when there are too few tracks or
/// no parallax; when stopped early, fails with Fault::stopped.
Expected<Solve> solveCamera(std::span<const Track> tracks, const SolveOptions& options, const Progress& progress = Progress{});

/// Where the solve puts a point on a frame's plate; none when the frame is not solved or the point is not in view of the lens.
std::optional<Eigen::Vector2d> projected(const Solve& solve, int frame, const Eigen::Vector3d& xyz);

}  // namespace pinion
