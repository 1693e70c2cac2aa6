#pragma once

#include "camera/pose.h"
#include "camera/solve.h"
#include "lens/lens.h"
#include "track/track.h"

#include <Eigen/Core>
#include <string>
#include <vector>

namespace pinion::bench {

enum class Scene { court, street, room, field, wall, floor };
enum class Move { sideways, forward, orbit, upward, slide, nodal, locked, panThenWalk, walk };

/// What a made-up shot is made of. Lengths in metres, y down, the camera first looks along z.
struct ShotPlan {
    std::string kind = "handheld";
    unsigned seed = 1;
    Scene scene = Scene::court;
    Move move = Move::sideways;
    int width = 1920, height = 1080;
    int frames = 100;
    double focal_mm = 35;    ///< on a sensor 36 mm wide
    double zoomTo_mm = 0;    ///< 0: no zoom
    double axisOff = 0.004;  ///< standard deviation of the optical axis, in widths
    double k1 = -0.05, k2 = 0.0;
    double length = 2;  ///< of the move
    double shake = 1;   ///< of the hand; 0: a rig
    int tracks = 450;   ///< in a frame
    double life = 35;   ///< mean, frames
    double noise_px = 0.15;
    double correlation = 0;  ///< of the noise from one frame to the next
    double wrong = 0.125;    ///< share of tracks that slide, jump or sit on a mover
};

struct MadeTrack {
    Eigen::Vector3d point{0, 0, 0};
    bool good = true;         ///< every sample is the point, but for noise
    double wrongBy_px = 0;    ///< largest distance from where the point is, noise aside
    int wrongFrom = 1 << 30;  ///< first frame that is wrong, when an earlier stretch is right
    int mover = -1;           ///< the thing that moves by itself which it is on; of the second generator
};

/// A shot as tracks, with its truth.
struct MadeShot {
    ShotPlan plan;
    Lens lens;                      ///< of the first frame
    std::vector<double> focals_px;  ///< a frame
    double k1Slope = 0;             ///< of a zoom: k1 over the logarithm of the focal length
    Readout readout;                ///< the poses are those of the middle row
    std::vector<Pose> poses;        ///< a frame, the first is number 1001
    std::vector<Track> tracks;      ///< ids from 1
    std::vector<MadeTrack> truth;   ///< one a track
    Lens lensAt(int index) const;
    Eigen::Vector2d seen(int index, const Eigen::Vector3d& point, bool* visible = nullptr) const;
};

MadeShot make(const ShotPlan& plan);

/// A plan of a kind, everything that varies drawn by `seed`. Kinds: handheld, flat, long-lens, wide, forward, few,
/// noisy, short-tracks, crop, small, short-move, far, slide, pan-walk, walk-400, nodal, locked, zoom-nodal, zoom-walk,
/// zoom-mild.
ShotPlan drawPlan(const std::string& kind, unsigned seed);

}  // namespace pinion::bench
