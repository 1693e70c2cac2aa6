#include "steady/riding.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr double kHorizon = 0.02;  // of a place's depth: nearer to it a shape runs to infinity

MotionKind kindOf(std::size_t tracks) {
    return tracks == 1   ? MotionKind::position
           : tracks < 4  ? MotionKind::similarity
           : tracks == 4 ? MotionKind::cornerPin
                         : MotionKind::perspective;
}

Expected<PlateMotion> motionOfRide(const Matte& matte, const std::vector<Track>& tracks, const FrameRange& range) {
    std::vector<Track> carrying;
    for (const std::string& name : matte.ride->tracks) {
        const auto found =
            std::find_if(tracks.begin(), tracks.end(), [&](const Track& track) { return track.name == name; });
        if (found == tracks.end())
            return failure(Fault::input, "shape {} rides on {}, and there is no such track", matte.name, name);
        carrying.push_back(*found);
    }
    // The reference frame's own motion is needed though it may lie outside.
    const FrameRange whole{std::min(range.first, matte.ride->referenceFrame),
                           std::max(range.last, matte.ride->referenceFrame)};
    auto motion = motionOf(carrying, matte.ride->referenceFrame, whole, kindOf(carrying.size()));
    if (!motion) return failure(motion.error().fault, "shape {}: {}", matte.name, motion.error().message);
    return motion;
}

Expected<Matte> carried(const Matte& matte, const PlateMotion& motion, const FrameRange& range) {
    Matte baked = matte;
    baked.ride.reset();
    baked.between = Matte::Between::linear;
    baked.keys.clear();
    for (const FrameMotion& frame : motion.frames) {
        if (frame.frame < range.first || frame.frame > range.last) continue;
        Matte::Key key{frame.frame, outlineAt(matte, frame.frame)};
        for (Eigen::Vector2d& p : key.polygon) {
            const Eigen::Vector3d at = frame.plateFromReference * p.homogeneous();
            if (!(at.z() > kHorizon * std::abs(frame.plateFromReference(2, 2))))
                return failure(
                    Fault::outcome,
                    "shape {} reaches the horizon of its tracks' perspective on frame {}; draw it smaller, or "
                    "let it ride on fewer tracks",
                    matte.name, frame.frame);
            p = at.hnormalized();
        }
        baked.keys.push_back(std::move(key));
    }
    return baked;
}

}  // namespace

Expected<std::vector<Matte>> ridden(std::vector<Matte> mattes, const std::vector<Track>& tracks,
                                    const FrameRange& range) {
    for (Matte& matte : mattes) {
        if (!matte.ride) continue;
        const auto motion = motionOfRide(matte, tracks, range);
        if (!motion) return tl::unexpected(motion.error());
        auto placed = carried(matte, *motion, range);
        if (!placed) return tl::unexpected(placed.error());
        matte = std::move(*placed);
        if (matte.keys.empty())
            return failure(Fault::outcome, "shape {}: its tracks are on none of the frames {}-{}", matte.name,
                           range.first, range.last);
    }
    return mattes;
}

}  // namespace pinion
