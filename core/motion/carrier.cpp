#include "motion/carrier.h"

#include <Eigen/LU>
#include <algorithm>
#include <cstdlib>

namespace pinion {

using Eigen::Matrix3d;

Carrier::Carrier(FrameRange range, std::function<Expected<PlateMotion>()> make)
    : range_(range), make_(std::move(make)) {}

const Carrier::Known& Carrier::known() const {
    std::call_once(once_, [this] {
        auto made = make_();
        make_ = nullptr;
        if (made) {
            known_.motion = std::move(*made);
        } else {
            known_.problem = made.error().message;
            known_.fault = made.error().fault;
        }
        for (int frame = range_.first; made && frame <= range_.last; ++frame)
            if (!known_.motion.at(frame)) known_.missing.push_back(frame);
        workedOut_.store(true, std::memory_order_release);
    });
    return known_;
}

const std::vector<int>& Carrier::surfaceMissing() const {
    std::call_once(surfaceOnce_, [this] {
        for (int frame = range_.first; frame <= range_.last; ++frame)
            if (!cornersOn(frame)) surfaceMissing_.push_back(frame);
    });
    return surfaceMissing_;
}

Expected<PlateMotion> Carrier::motionOrProblem() const {
    if (!problem().empty()) return failure(known().fault, "{}", problem());
    return motion();
}

Matrix3d Carrier::plateFromReference(int frame) const {
    const auto& frames = motion().frames;
    if (frames.empty()) return Matrix3d::Identity();
    const auto nearest =
        std::min_element(frames.begin(), frames.end(), [&](const FrameMotion& a, const FrameMotion& b) {
            return std::abs(a.frame - frame) < std::abs(b.frame - frame);
        });
    return nearest->plateFromReference;
}

PlateMotion rebased(const PlateMotion& motion, int referenceFrame) {
    PlateMotion result = motion;
    const auto nearest =
        std::min_element(motion.frames.begin(), motion.frames.end(), [&](const FrameMotion& a, const FrameMotion& b) {
            return std::abs(a.frame - referenceFrame) < std::abs(b.frame - referenceFrame);
        });
    result.referenceFrame = referenceFrame;
    if (nearest == motion.frames.end()) return result;
    const auto moved = [&](const Eigen::Vector2d& place) {
        return Eigen::Vector2d((nearest->plateFromReference * place.homogeneous()).hnormalized());
    };
    result.pivot = moved(motion.pivot);
    for (Eigen::Vector2d& corner : result.corners) corner = moved(corner);
    const Matrix3d baseFromReference = nearest->plateFromReference.inverse();
    for (FrameMotion& frame : result.frames) frame.plateFromReference *= baseFromReference;
    return result;
}

}  // namespace pinion
