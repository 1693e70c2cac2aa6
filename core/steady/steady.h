#pragma once

#include "steady/motion.h"

#include <optional>
#include <string>
#include <vector>

namespace pinion {

struct SteadyOptions {
    /// Hold: the reference frame stays where it is. Ease: the intended move stays, what is faster goes.
    enum class Mode { hold, ease };
    Mode mode = Mode::hold;

    /// How much of each is taken out, 0 to 1. A plate held fully keeps its motion blur; less hides it.
    double position = 1.0;
    double rotation = 1.0;
    double scale = 1.0;

    /// What ease keeps. Gaussian: a soft average over `smooth_frames` (its standard deviation); larger is calmer and
    /// cuts into the intended move. L1: the path of fewest accelerations (Grundmann, Kwatra and Essa 2011) that stays
    /// within `leeway` of the shot's width: still stretches and even pans, as from a tripod or a dolly.
    enum class Smoother { gaussian, l1 };
    Smoother smoother = Smoother::gaussian;
    double smooth_frames = 12.0;
    double leeway = 0.05;

    /// None: the border shows. Fill: the smallest zoom that shows none. Crop: `cropZoom` about `cropCentre` (0 to 1 of
    /// the frame).
    enum class Fit { none, fill, crop };
    Fit fit = Fit::fill;
    double cropZoom = 1.0;
    Eigen::Vector2d cropCentre{0.5, 0.5};

    bool operator==(const SteadyOptions&) const = default;
};

/// How each output frame reads from its source frame: one map, one resampling.
struct FrameMap {
    int frame = 0;
    Eigen::Matrix3d sourceFromOutput = Eigen::Matrix3d::Identity();
};

struct SteadyPlan {
    std::vector<FrameMap> frames;  ///< by rising frame
    double zoom = 1.0;             ///< 1.08 is 8 %
    bool fills = true;             ///< no border shows on any frame
    std::vector<double> blur_px;   ///< a frame: the length of the motion blur that no longer goes with a visible motion

    const FrameMap* at(int frame) const;
};

/// The steadying of a plate whose motion is known. A corner pin is held whole when all three strengths are 1, else by
/// its position, rotation and scale. `shutter` is the part of a frame's time that the shutter is open. Fails when there
/// is no frame.
Expected<SteadyPlan> planSteady(const PlateMotion& motion, int width, int height, const SteadyOptions& options,
                                double shutter = 0.5);

/// A corner pin squared up: what lies between its corners as an upright rectangle in the middle of the picture, by the
/// mean lengths of its sides on the reference frame, no larger than it is there and than fits.
std::vector<FrameMap> squaredUp(const PlateMotion& motion, int width, int height);

/// The smallest zoom about the middle of the frame with which every map reads inside the source, `margin` pixels from
/// its border; none when even 20-fold does not.
std::optional<double> fillZoom(const std::vector<FrameMap>& maps, int width, int height, double margin = 0);

/// The maps seen through a zoom about a point of the output.
void applyZoom(std::vector<FrameMap>& maps, double zoom, const Eigen::Vector2d& about);

/// A path smoothed. Gaussian: ends continued by point reflection, so that a pan does not slow down there.
std::vector<double> smoothGaussian(const std::vector<double>& path, double sigma);
/// L1-optimal: the least sum of |first|, 10 |second| and 100 |third| differences within `leeway` of the path.
std::vector<double> smoothL1(const std::vector<double>& path, double leeway);

/// For the artist: "blur of up to 9 px stays visible on 1023-1027"; empty when less than `visible_px` is left.
std::string blurNote(const SteadyPlan& plan, double visible_px = 2.0);

}  // namespace pinion
