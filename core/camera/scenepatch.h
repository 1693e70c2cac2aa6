#pragma once

#include "camera/trackerrors.h"
#include "track/matcher.h"

#include <Eigen/Core>
#include <array>
#include <optional>

namespace pinion {

/// A small plane piece of the scene about a track's point: what the pattern of its reference frame lies on, and so how
/// it looks from any other frame of the solved camera (Hartley and Zisserman 2003, 13.1; patches with a normal of their
/// own as Furukawa and Ponce 2010).
class ScenePatch {
public:
    /// `point`: homogeneous, the last 0 for a mere direction. `at`: where `frame` sees the pattern's centre. `tilt`:
    /// how the inverse depth grows to the right and downwards, as a share of it for each unit of the normalised image
    /// plane: 0 for a piece that faces the camera, and by a constant over all of a plane. `half_px`: half the pattern's
    /// side. None where the frame is not solved, or the tilt takes the pattern's edge out of view.
    static std::optional<ScenePatch> create(const SolvedViews& views, const Eigen::Vector4d& point, int frame,
                                            const Eigen::Vector2d& at, const Eigen::Vector2d& tilt, double half_px);

    /// Where a frame has the pattern, its shape by the piece's own place before it. None where it is out of view.
    std::optional<PatternPose> on(const FrameRows& rows) const;

private:
    Eigen::Vector3d centre_{0, 0, 0};
    std::array<Eigen::Vector3d, 4> around_;  ///< right, left, below, above it
    double half_px_ = 1;
};

}  // namespace pinion
