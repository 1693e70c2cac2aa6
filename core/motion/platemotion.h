#pragma once

#include <Eigen/Core>
#include <string>
#include <string_view>
#include <vector>

namespace pinion {

/// Where the plate of the reference frame is on one frame.
struct FrameMotion {
    int frame = 0;
    Eigen::Matrix3d plateFromReference = Eigen::Matrix3d::Identity();
    int tracks = 0;            ///< that spoke for it
    double residual_px = 0.0;  ///< their RMS distance to it
};

enum class MotionKind { position, similarity, cornerPin, perspective };

/// "position", "corner pin"
std::string_view toString(MotionKind kind);

/// The motion of something in the plate, frame by frame, relative to the reference frame.
struct PlateMotion {
    MotionKind kind = MotionKind::position;
    int referenceFrame = 0;
    Eigen::Vector2d pivot{0, 0};
    std::vector<Eigen::Vector2d>
        corners;  ///< of a corner pin: top-left, top-right, bottom-right, bottom-left on the reference frame
    std::vector<FrameMotion> frames;  ///< by rising frame; frames without enough tracks are absent
    std::string reason{};             ///< why the picture's motion was taken for this kind

    const FrameMotion* at(int frame) const;
};

}  // namespace pinion
