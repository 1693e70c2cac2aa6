#pragma once

#include "base/expected.h"
#include "base/progress.h"
#include "camera/result.h"

#include <Eigen/Geometry>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// The camera of a frame, as far as an object needs it.
struct CameraOnFrame {
    int frame = 0;
    Eigen::Isometry3d worldFromCamera = Eigen::Isometry3d::Identity();  ///< looks along -Z, Y up
    Lens lens;
};
std::vector<CameraOnFrame> camerasOf(const Solve& solve);

/// What an object is asked.
struct ObjectOptions {
    std::vector<TrackId> tracks;   ///< on it
    std::vector<TrackId> mayJoin;  ///< that may be on it as well: those that go with it do; others are not looked at

    /// How far apart two of its points are, in units of the world.
    struct Length {
        TrackId from = 0, to = 0;
        double length = 1;
    };
    std::optional<Length> length;

    /// Tracks where it touches the ground, which is at the height `ground` of the world.
    std::vector<TrackId> onGround;
    double ground = 0;

    /// Where nothing tells its size it is put this far from the camera on its first frame.
    double usualDistance = 10;

    double sensorWidth_mm = 36.0;
    Readout readout;  ///< of the camera
};

/// What told the size of an object.
enum class ObjectScale {
    free,    ///< nothing: its path and its size may be larger and farther off, all alike
    unrest,  ///< the camera's own unrest, which the path of an object that moves by itself does not share; one that is
             ///< carried along with the camera is told wrong
    ground,
    length
};
std::string_view toString(ObjectScale scale);

struct ObjectFrame {
    int frame = 0;
    Eigen::Isometry3d worldFromObject = Eigen::Isometry3d::Identity();
    double rms_px = 0;
    int tracks = 0;
};
struct ObjectPoint {
    TrackId track = 0;
    Eigen::Vector3d xyz{0, 0, 0};  ///< of the object
    double rms_px = 0;
};

/// A rigid thing that moves by itself, in the world of the camera. Its origin is the middle of its points; its axes are
/// those of the world on its first frame.
struct ObjectSolve {
    std::vector<ObjectFrame> frames;  ///< by rising frame; those on which too few of its tracks are seen are absent
    std::vector<ObjectPoint> points;
    ObjectScale scale = ObjectScale::free;
    double scaleDeviation = 0;  ///< of the size, as a share of it; 0 where it was given, or is free
    double rms_px = 0;
    double heldOutRms_px = 0;
    std::string doubt;  ///< in words; empty when it is sure
    bool scaleIsKnown() const { return scale != ObjectScale::free; }
};

/// A camera that travels about a thing that stands is the same as a thing that moves before a camera: the tracks,
/// straightened by the lens of each frame, are solved as such, and the camera's own motion is taken out. The size is
/// told by a length, by where it touches the ground, or by the camera's unrest: at a wrong size the object's path would
/// have to share it. Where its tracks fall into parts in time the longest is solved, and what joins may carry it on.
/// Fails, with what to do, where the tracks are too few or hold no shape.
Expected<ObjectSolve> solveObject(std::span<const CameraOnFrame> cameras, std::span<const Track> tracks,
                                  const ObjectOptions& options, const Progress& progress = Progress{});

/// The camera as the object sees it stand and move: on the frames that both have, with the camera's lens and rows.
Solve seenFromObject(const Solve& camera, const ObjectSolve& object);

/// Tracks that contradict a camera for long enough to be told to be on an object.
std::vector<TrackId> looseTracks(const Solve& camera);

/// Its pose on a frame; null where it has none.
const ObjectFrame* objectFrameAt(const ObjectSolve& object, int frame);

/// Where a point of the object is seen on a frame; none where it has no pose, or is behind the camera.
std::optional<Eigen::Vector2d> projected(const ObjectSolve& object, std::span<const CameraOnFrame> cameras, int frame,
                                         const Eigen::Vector3d& xyz);

}  // namespace pinion
