#pragma once

#include "base/progress.h"
#include "plate/framecache.h"
#include "track/tracking.h"

#include <string>
#include <vector>

namespace pinion {

/// How well a pattern around a spot can be localised, before anything is tracked.
struct SpotAdvice {
    enum class Kind {
        corner,    ///< held in both directions
        edge,      ///< slides along an edge
        flat,      ///< nothing but grain to hold on to
        repeated,  ///< a corner, but another place within the search area looks the same
        border     ///< the pattern does not fit inside the frame
    };
    Kind kind = Kind::border;
    /// Standard deviation of the place, in pixels along the better and the weaker direction, for grain of one grey
    /// level in 255 (the inverse of the gradient matrix; Shi and Tomasi 1994).
    double strong_px = 0.0;
    double weak_px = 0.0;
    double slideDegrees = 0.0;  ///< the weaker direction, from x towards y
    double contrast = 0.0;      ///< standard deviation of the pattern, grey levels
    double twin = 0.0;          ///< the highest correlation elsewhere in the search area
};

/// `grain` is what `grainOf` says of the frame: what grain alone would seem to offer is no texture.
SpotAdvice adviseSpot(const Pyramid& pyramid, const Eigen::Vector2d& at, int pattern_px, int search_px,
                      double grain = 0.0);

/// The mean squared gradient that grain alone makes: that of the quietest parts of the frame.
double grainOf(const Pyramid& pyramid);

/// For the artist: "corner: ±0.02 px in both directions", "slides along the edge: ±0.31 px at 12°".
std::string toString(const SpotAdvice& advice);

struct SpotProposal {
    Eigen::Vector2d at;
    SpotAdvice advice;
    int frames = 0;     ///< how many frames of the range it stays trackable
    double rank = 0.0;  ///< 0 to 1: corner, contrast and length together
};

/// The best spots of an area on `frame`, best first, ranked by corner, contrast and how long they stay visible.
/// `settings` says how they would be tracked. Fails when the area holds no corner.
Expected<std::vector<SpotProposal>> proposeSpots(FrameCache& frames, const Polygon& area, int frame,
                                                 const FrameRange& range, int count, const Track& settings,
                                                 const Progress& progress = Progress{});

}  // namespace pinion
