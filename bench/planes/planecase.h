#pragma once

#include "planar/planartrack.h"
#include "plate/framecache.h"

#include <memory>
#include <string>
#include <vector>

namespace pinion::planes {

/// A made-up shot of a photograph that hangs in front of another one: how it moves, and what happens to the picture.
/// All that is drawn from a seed is here, so that a case can be changed in one thing.
struct PlaneCase {
    unsigned seed = 0;
    std::string surface, behind;  ///< photographs of Debian's opencv-doc
    int width = 640, height = 480, frames = 41;
    double size_px = 240;  ///< of the surface's longer side on the middle frame
    double scaleEnd = 1;   ///< how much larger it is at the end than in the middle; the inverse at the start
    double tiltEnd = 0, tiltAxis = 0;  ///< radians, towards the end; it starts from the other side
    double turn = 0;                   ///< radians, in the picture
    Eigen::Vector2d travel{0, 0};      ///< pixels, from the middle to the end
    double shake_px = 2;               ///< of a hand
    double shutter = 0;                ///< frames
    double defocus_px = 0;             ///< standard deviation, largest at the end
    double grain = 0;                  ///< grey levels
    double gainEnd = 1;                ///< at the end, of the middle's light
    double highlight = 0;              ///< grey levels, of a round one that passes over
    double cover = 0;                  ///< share of the surface's width that a bar covers as it passes
};

/// The case of a seed: sizes of 60 to 600 pixels, scales of 0.5 to 3, tilts to 60 degrees, each of the rest in a third
/// of the cases or so.
PlaneCase planeCase(unsigned seed);

/// The names of the photographs that cases are made of.
const std::vector<std::string>& photographs();

/// In words: "240 px of graf1.png, scale 1.4, tilt 31, blur, grain 3".
std::string describe(const PlaneCase& c);

/// Where the surface's corners are on a frame (0 to frames - 1), in pixels; the truth.
Quad cornersAt(const PlaneCase& c, int frame);

/// The share of the surface that is in the frame and not behind the bar.
double visibleAt(const PlaneCase& c, int frame);

/// What is drawn on the middle frame to track it by: the surface, a little inside its edges.
PlanarTrack planeOf(const PlaneCase& c);

/// Frames are made when they are read. None when the photographs are not there.
std::shared_ptr<const Plate> plateOf(const PlaneCase& c);

/// The surface's corners as a track has them on a frame; the truth on its reference frame carried along.
Quad trackedCorners(const PlaneCase& c, const PlaneSample& sample);

/// RMS over the corners.
double apart(const Quad& a, const Quad& b);

}  // namespace pinion::planes
