#pragma once

#include "base/framerate.h"
#include "steady/steady.h"

#include <string>
#include <vector>

namespace pinion {

/// The shake of one plate, apart from what it showed.
struct ShakeSample {
    double x = 0.0;             ///< share of the plate's width, to the right
    double y = 0.0;             ///< share of the plate's width, down
    double angleDegrees = 0.0;  ///< clockwise on the screen
    double scale = 1.0;
};

struct ShakeProfile {
    std::string name;
    FrameRate fps;
    double above_hz = 0.0;             ///< only what is faster was taken; 0: all of it
    std::vector<ShakeSample> samples;  ///< one a frame

    double seconds() const { return double(samples.size()) / fps.perSecond(); }
    /// Root mean square of the shift, in shares of the width, and of the angle.
    double shiftRms() const;
    double angleRms() const;
};

/// Takes the shake out of a plate's motion: all of it (less its mean), or what is faster than `above_hz` (a Gaussian
/// that halves at that rate). Fails when the motion has gaps or fewer than 8 frames, saying where.
Expected<ShakeProfile> takeShake(const PlateMotion& motion, int width, int height, FrameRate fps, double above_hz,
                                 const std::string& name);

struct ShakeLending {
    double position = 1.0;  ///< amount per component; 1 is as taken
    double rotation = 1.0;
    double scale = 1.0;
    SteadyOptions::Fit fit = SteadyOptions::Fit::fill;  ///< none or fill

    bool operator==(const ShakeLending&) const = default;
};

struct ShakePlan {
    std::vector<FrameMap> frames;
    double zoom = 1.0;
    bool looped = false;               ///< the profile was shorter than the plate
    bool cut = false;                  ///< the profile was longer than the plate
    std::vector<ShakeSample> samples;  ///< as lent, one a frame of the plate
};

/// Lends a shake to `frames` of a plate: resampled in time to its rate, looped without a seam where it is too short
/// (the end is faded into the beginning, at equal power), zoomed so that no border shows. Fails for a profile without
/// samples.
Expected<ShakePlan> lendShake(const ShakeProfile& profile, const FrameRange& frames, FrameRate fps, int width,
                              int height, const ShakeLending& lending = {});

}  // namespace pinion
