#pragma once

#include "camera/frameblend.h"
#include "camera/pose.h"

#include <Eigen/Core>
#include <array>
#include <span>
#include <vector>

namespace pinion {

/// A camera's pose while it reads a row: between the poses of its frames, which are those of the middle row. Places go
/// by the cubic of `FrameBlend`, turns by the same cubic of their logarithms about the frame's own turn, so that both
/// pass through the frames' poses. Frames without a camera are no neighbours. Models of the rolling shutter like this:
/// Hedborg et al. 2012 ("Rolling shutter bundle adjustment"), Forssén and Ringaby 2010.
class RowPoses {
public:
    static constexpr std::size_t kMost = FrameBlend::kMost;  ///< frames that a row may follow
    static constexpr int kReach = FrameBlend::kReach;        ///< how far they may lie from its own

    /// `times`: the frame number of each camera, rising; empty: one after the other. Only neighbours in time count.
    RowPoses(std::span<const Pose> cameras, std::span<const int> times);

    /// How a row's pose follows from the frames' poses: exp(turn) R of a camera turns the row's pose by
    /// `turnByTurn * turn` in the row's own axes; its place in the world moves by `centreByPose` times turn and shift.
    struct Slopes {
        int count = 0;
        std::array<int, kMost> cameras{};  ///< rising
        std::array<double, kMost> weights{};
        std::array<double, kMost> speeds{};  ///< of the weights, a frame
        std::array<Eigen::Matrix3d, kMost> turnByTurn;
        std::array<Eigen::Matrix<double, 3, 6>, kMost> centreByPose;
        Eigen::Vector3d turnByTime{0, 0, 0};    ///< in the row's own axes, radians a frame
        Eigen::Vector3d centreByTime{0, 0, 0};  ///< in the world
    };

    /// The pose `time` frames after the middle row of a camera's frame, within half a frame and a little.
    Pose at(std::size_t camera, double time, Slopes* slopes = nullptr) const;

    /// The cameras whose poses a row of this frame may follow.
    std::pair<int, int> support(std::size_t camera) const;

private:
    /// A neighbour of a camera.
    struct Beside {
        Eigen::Vector3d turn{0, 0, 0};  ///< the logarithm of its turn after the camera's
        Eigen::Matrix3d inverse;        ///< of the left Jacobian there
    };
    struct Frame {
        Eigen::Matrix3d rotation;
        Eigen::Vector3d centre;
        Eigen::Matrix<double, 3, 6> centreByPose;
        int before = 0, after = 0;  ///< neighbours in time on either side, up to the reach
        std::array<Beside, 2 * kReach> beside;
    };
    static std::size_t placeOf(int step) { return std::size_t(step < 0 ? step + kReach : step + kReach - 1); }
    std::vector<Frame> frames_;
};

/// How a camera's centre follows its turn and shift (exp(turn) R, t + shift).
Eigen::Matrix<double, 3, 6> centreByPose(const Pose& pose);

}  // namespace pinion
