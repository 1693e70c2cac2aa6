#pragma once

#include "base/expected.h"
#include "motion/platemotion.h"
#include "track/tracking.h"

#include <Eigen/Core>
#include <string>
#include <vector>

namespace pinion {

/// A similarity about a pivot: `plate = pivot + shift + scale * R(angle) * (reference - pivot)`. The angle runs from x
/// towards y: clockwise on the screen, since y points down.
struct MotionParts {
    Eigen::Vector2d shift{0, 0};  ///< pixels
    double angle = 0.0;           ///< radians
    double scale = 1.0;

    Eigen::Matrix3d about(const Eigen::Vector2d& pivot) const;
};

/// The parts of the similarity nearest to `matrix` at the pivot.
MotionParts partsOf(const Eigen::Matrix3d& matrix, const Eigen::Vector2d& pivot);

/// A place carried by a homography.
Eigen::Vector2d carried(const Eigen::Matrix3d& matrix, const Eigen::Vector2d& place);

/// How the motion of tracks is handed on.
struct TransformOptions {
    Origin origin = Origin::topLeft;
    bool inverse = false;  ///< false: match-move, what hangs on it follows the picture; true: the picture is held still
    bool position = true;
    bool rotation = true;
    bool scale = true;
    bool operator==(const TransformOptions&) const = default;
};

/// What chosen tracks carry: one gives position; two and more rotation and scale too (least squares, outliers
/// down-weighted); exactly four with `MotionKind::cornerPin` a homography, their corners put in order. Position alone
/// can be asked of any number. Fails when a track is missing on the reference frame, when rotation is asked of one
/// track or perspective of fewer than five, when two tracks lie on one spot, and when four corners do not span a convex
/// area on some frame, naming it.
Expected<PlateMotion> motionOf(const std::vector<Track>& tracks, int referenceFrame, const FrameRange& range,
                               MotionKind kind);

/// What the motion of the whole picture may be. Automatic: the least that the tracks support. A camera that turns moves
/// the picture by homographies; a similarity is what is left of them through a long lens.
enum class PictureModel { automatic, position, similarity, perspective };

/// The motion of the whole picture from many tracks, few of which need live on any one frame: places on the reference
/// frame and a similarity or a homography per frame, adjusted together so that nothing adds up along the plate; tracks
/// that disagree (movers, parallax) lose their weight (Tukey's biweight). Fails when fewer than three tracks connect
/// two neighbouring frames, and when perspective is asked for that too few tracks carry.
Expected<PlateMotion> pictureMotionOf(const std::vector<Track>& tracks, int referenceFrame, const FrameRange& range,
                                      PictureModel model = PictureModel::automatic);

}  // namespace pinion
