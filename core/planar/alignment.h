#pragma once

#include "base/expected.h"
#include "planar/texture.h"
#include "planar/warp.h"
#include "track/track.h"

#include <Eigen/Core>
#include <optional>
#include <vector>

namespace pinion {

/// Where and how a surface of the reference frame is seen on another frame.
struct PlaneAlignment {
    SurfacePose pose;         ///< of the frame from the reference frame
    double seen = 1;          ///< the share of the texture that is in the frame and looks as it should
    double beyond = 0;        ///< the share of the texture that is out of the frame
    double fit = 1;           ///< correlation of what is seen with the reference, light evened out, -1 to 1
    double deviation_px = 0;  ///< standard deviation of the region's worst corner, by the noise that is left
    int rounds = 0;           ///< alignment steps on the finest level
};

/// What is carried from frame to frame: light, noise, blur and what was seen last.
struct PlaneConditions {
    struct Light {
        float gain = 1, offset = 0;
        float slopeU = 0, slopeV = 0;  ///< of the offset, from the cell's middle to its border
    };
    std::vector<Light> cells;  ///< empty: as on the reference frame
    std::vector<float> seen;   ///< of each block, 0 to 1; empty: all
    std::vector<char> barred;  ///< 1 for each block that must not count on this frame; empty: all count
    double noise = 0;          ///< grey levels; 0: not known
    Eigen::Matrix2d blur = Eigen::Matrix2d::Zero();  ///< beyond the reference's, in its pixels squared
    bool matchesBlur = true;                         ///< false: both pictures are compared as they are
};

/// One reference of a plane or a cylinder, aligned to other frames by inverse-compositional steps (Baker and Matthews
/// 2004) with robust weights for each pixel (Geman and McClure) and each block of pixels, a gain and a sloping offset
/// for each cell of blocks (eliminated from the steps; priors hold them near the plane's own), and the blur of the two
/// matched. Not safe to call from several threads.
class PlaneAligner {
public:
    /// Fails when the region is out of the frame or has no texture to hold on to, with what to do.
    static Expected<PlaneAligner> create(const Pyramid& reference, const PlaneRegion& region, MotionModel motion,
                                         const PlaneExclusion& excluded = {}, const SurfaceGeometry& geometry = {});

    /// Refines `start`, which takes places of the reference frame to places of this one (both undistorted), from the
    /// level of the pyramid where it is expected to be within a few samples. The shape (not the place) of `expected` is
    /// a prior, for when little is seen. None when the steps lead nowhere. `conditions` are those of the frame before,
    /// and then of this one.
    std::optional<PlaneAlignment> align(const Pyramid& frame, const SurfacePose& start, PlaneConditions& conditions,
                                        int coarsest = 2, const SurfacePose* expected = nullptr);

    /// Refines `start` on the finest level alone, with what is left of each pixel there; by those weights, or the
    /// alignment's own, which are then given where there are none.
    std::optional<SurfacePose> settle(const Pyramid& frame, const SurfacePose& start, PlaneConditions& conditions,
                                      std::vector<float>& residual, std::vector<float>& weight);

    /// How well `start` explains the frame without any step: the mean of the pixels' robust misfits at a coarse level,
    /// 0 to 1, less is better. For choosing among starts.
    double misfit(const Pyramid& frame, const SurfacePose& start, const PlaneConditions& conditions);

    MotionModel motion() const { return motion_; }
    const PlaneTexture& texture() const { return texture_; }
    /// The standard deviation of the region's worst corner for grain of one grey level, with `motion`.
    double weakness(MotionModel motion) const;

private:
    struct Pass;
    struct Level;
    struct Eliminated;
    explicit PlaneAligner(PlaneTexture texture) : texture_(std::move(texture)) {}
    bool alignLevel(const Pyramid& frame, int index, MotionModel motion, int mostRounds, Pass& pass,
                    PlaneConditions& conditions, PlaneAlignment& alignment);
    std::optional<Level> levelOf(const Pyramid& frame, int index, const Pass& pass, const PlaneConditions& conditions);
    void read(const Level& level, Pass& pass) const;
    bool measureNoise(const Level& level, Pass& pass, const PlaneConditions& conditions, double noiseBefore) const;
    void weigh(const Level& level, Pass& pass, PlaneConditions& conditions) const;
    bool gather(const Level& level, Pass& pass, PlaneWarp::Steps& right, std::vector<Eliminated>& eliminated) const;
    static void measureBlur(const Level& level, const Pass& pass, PlaneConditions& conditions);
    void conclude(const Level& level, const Pass& pass, const PlaneConditions& conditions,
                  const PlaneWarp::Directions& directions, PlaneAlignment& alignment) const;

    PlaneTexture texture_;
    std::shared_ptr<const PlaneWarp> warp_;
    MotionModel motion_ = MotionModel::perspective;
    std::array<double, 4> weakness_{};  ///< of each model
};

/// The motion that a region supports: the most general one whose worst corner the texture holds to half a pixel at a
/// grain of four levels.
MotionModel motionFor(const PlaneAligner& aligner);

}  // namespace pinion
