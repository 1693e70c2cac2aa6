#pragma once

#include "planar/kernels.h"
#include "planar/surfacepose.h"
#include "planar/texture.h"
#include "track/track.h"

#include <Eigen/Core>
#include <array>
#include <memory>
#include <optional>
#include <vector>

namespace pinion {

/// Neighbouring pixels share their grain, since frames are smoothed and compressed: what that does to a variance.
inline constexpr double kSharedNoise = 4;

/// How the pixels of a reference move, on a plane or on a cylinder: what the alignment asks of either. A pose is held
/// as the warp likes it (`begun`), the steps of the alignment are the warp's own, up to eight. Only sources of planar/
/// use it.
class PlaneWarp {
public:
    using Steps = Eigen::Matrix<double, 8, 1>;
    using Normal = Eigen::Matrix<double, 8, 8>;
    using Directions = Eigen::Matrix<double, 8, Eigen::Dynamic>;
    /// How the four corners of the region move with each step, in region coordinates.
    using Corners = std::array<Eigen::Matrix<double, 2, 8>, 4>;

    virtual ~PlaneWarp() = default;
    /// The steps that a motion has.
    virtual Directions directions(MotionModel motion) const = 0;
    /// From, and back to, what takes the reference frame to the frame. None where it is no motion of a surface.
    virtual std::optional<SurfacePose> begun(const SurfacePose& pose) const = 0;
    virtual SurfacePose ended(const SurfacePose& pose) const = 0;
    /// In the middle of the region: pixels of the frame from pixels of the reference.
    virtual Eigen::Matrix2d slope(const SurfacePose& pose) const = 0;
    /// Where the region's corners are on the frame, in pixels of the plate; none behind the camera.
    virtual std::optional<std::array<Eigen::Vector2d, 4>> box(const SurfacePose& pose) const = 0;
    /// Where the texture's pixels are on a level of the frame, in samples; far outside where they are not seen.
    virtual void places(const SurfacePose& pose, int level, const TextureLevel& texture, std::vector<float>& x,
                        std::vector<float>& y) const = 0;
    /// The sums of products over a cell (see planekernels::accumulate). `pixels` begin at `first` of the texture.
    virtual void accumulate(const SurfacePose& pose, const TextureLevel& texture, int first,
                            const planekernels::Pixels& pixels, const planekernels::Light& light, int count,
                            double* sums) const = 0;
    virtual Corners corners(const SurfacePose& pose) const = 0;
    /// Adds what a camera's motion leads to expect: the shape changes slowly, the place is free. `noise2` is the
    /// variance of a pixel.
    virtual void expect(const SurfacePose& expected, const SurfacePose& pose, double noise2, Normal& normal,
                        Steps& right) const = 0;
    virtual SurfacePose stepped(const SurfacePose& pose, const Steps& steps) const = 0;
};

/// The derivative of a homography at a place: how large and how turned a surface is shown there.
Eigen::Matrix2d slopeAt(const Eigen::Matrix3d& homography, const Eigen::Vector2d& at);

std::shared_ptr<const PlaneWarp> warpFor(const PlaneTexture& texture, int frameWidth);

}  // namespace pinion
