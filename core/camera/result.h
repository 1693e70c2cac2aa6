#pragma once

#include "base/list.h"
#include "camera/options.h"
#include "camera/readout.h"
#include "lens/lens.h"
#include "track/track.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace pinion {

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

/// Tracks that move as one thing of their own, against the scene: by the tracks alone, before its pose is solved.
struct MovingTracks {
    std::vector<TrackId> tracks;
    std::pair<int, int> frames{0, 0};  ///< first and last on which any of them is seen
};

/// A solved camera. Its world has no scale and no floor yet: the first guess puts Y up along the cameras' mean and the
/// median point ten units away, unless measures from the set say more.
struct Solve {
    Lens lens;  ///< of a zoom: on its first frame
    double sensorWidth_mm = 36.0;
    CameraMotion motion = CameraMotion::travelling;
    std::string reason;  ///< why this kind of camera: "1204 of 1210 tracks fit a camera that only turns"
    bool zoom = false;
    double k1Slope = 0.0;           ///< of a zoom: k1 per natural logarithm of the focal length
    Readout readout;                ///< the frames' poses are those of the middle row
    double readoutDeviation = 0.0;  ///< of its share; 0 when it was given, or is none
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
    bool inMetres = false;      ///< measures from the set gave the unit; with three known places the world is theirs
    List<MovingTracks> movers;  ///< told apart from the scene, the largest first
    std::string doubt;          ///< in words, when the solve is not sure; empty when it is
};

/// "held out 0.21 px", or "none held out" where there were too few tracks for it.
std::string heldOutWords(const Solve& solve, int decimals);

const SolvedFrame* solvedFrameAt(const Solve& solve, int frame);

/// The lens of one solved frame: of a zoom, with that frame's focal length and distortion.
Lens lensOf(const Solve& solve, const SolvedFrame& frame);

/// The same by its number; of a frame that is not solved the solve's own.
Lens lensOn(const Solve& solve, int frame);

/// Where the solve puts a point on a frame's plate, by the row that sees it; none when the frame is not solved or the
/// point is not in view of the lens. Of many points on one frame `FrameRows` does it (camera/framerows.h).
std::optional<Eigen::Vector2d> projected(const Solve& solve, int frame, const Eigen::Vector3d& xyz);

}  // namespace pinion
