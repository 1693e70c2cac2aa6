#pragma once

#include "planar/alignment.h"
#include "planar/planartrack.h"

#include <Eigen/Core>
#include <optional>
#include <span>
#include <vector>

namespace pinion {

/// How a picture moved between two frames about some places: an affine map, by patches found anew (searchPatch) and
/// agreed on by random trials (Fischler and Bolles 1981). None when too few agree.
struct LocalMotion {
    Eigen::Matrix3d toFromFrom = Eigen::Matrix3d::Identity();
    int agree = 0;  ///< of the patches
    int tried = 0;
};
/// `expected` are where the places are looked for, within `radius_px`.
std::optional<LocalMotion> localMotion(const Pyramid& from, const Pyramid& to, std::span<const Eigen::Vector2d> places,
                                       std::span<const Eigen::Vector2d> expected, double radius_px);

/// A planar track in motion, carried from frame to frame in one direction. Every alignment is against the reference, so
/// no drift adds up; it is renewed only when the surface has grown or turned too much, and that sample is marked.
class PlaneRunner {
public:
    /// Takes `plane` up at `pose`, on the frame `from`, with the reference that `reference` shows: its reference frame,
    /// or the one on which `referencePose` holds (where the reference was taken anew). Fails with what is wrong with
    /// the outline.
    static Expected<PlaneRunner> start(const PlanarTrack& plane, const Pyramid& reference,
                                       const SurfacePose& referencePose, const SurfacePose& pose, int from,
                                       const PlaneExclusion& excluded = {});

    /// Follows the plane from the last frame it was seen on, `last`, into `frame`. `excluded` is asked at places of
    /// that frame. Returns false, with the reason, when the track ends here.
    bool advance(const Pyramid& last, const Pyramid& pyramid, int frame, const PlaneExclusion& excluded = {});

    bool ended() const { return reason_ != PlaneEnd::none; }
    PlaneEnd reason() const { return reason_; }
    void end(PlaneEnd reason) { reason_ = reason; }
    /// In the order of the run, without the one it was taken up at.
    const std::vector<PlaneSample>& samples() const { return samples_; }
    const SurfacePose& pose() const { return pose_; }
    int lastFrame() const { return lastFrame_; }
    MotionModel motion() const { return aligner_.motion(); }

private:
    PlaneRunner(const PlanarTrack& plane, PlaneAligner aligner) : plane_(plane), aligner_(std::move(aligner)) {}
    std::optional<PlaneAlignment> alignFrom(const Pyramid& last, const Pyramid& pyramid);
    double shareInFrame(const SurfacePose& pose, const Pyramid& pyramid) const;
    /// Of a cylinder: whether most of what it is tracked by is seen too much from the side, or from behind.
    bool isTurnedAway(const SurfacePose& pose) const;
    PlaneEnd verdictOn(const PlaneAlignment& alignment) const;
    std::vector<Eigen::Vector2d> gridOfRegion() const;
    bool isWornOut(const SurfacePose& pose) const;
    void renewWhereNeeded(const Pyramid& pyramid, const PlaneAlignment& alignment, PlaneSample& sample);
    std::vector<Eigen::Vector2d> seenFeatures() const;
    SurfacePose movedLike(const Eigen::Matrix3d& motion) const;

    PlanarTrack plane_;
    PlaneAligner aligner_;
    PlaneConditions conditions_;
    SurfaceGeometry geometry_;   ///< of the track's reference frame
    SurfacePose referencePose_;  ///< of the aligner's reference
    SurfacePose pose_;           ///< of the last frame, from the track's reference frame
    SurfacePose step_;           ///< how it moved in its last step
    int lastFrame_ = 0;
    std::vector<PlaneSample> samples_;
    PlaneEnd reason_ = PlaneEnd::none;
};

}  // namespace pinion
