#pragma once

#include "planar/planartrack.h"
#include "plate/framecache.h"

#include <memory>
#include <string>

namespace pinion::planes {

/// A made-up shot of a photograph wrapped round an upright body, in front of another photograph. All that is drawn from
/// a seed is here.
struct RoundCase {
    unsigned seed = 0;
    std::string surface, behind;  ///< photographs of Debian's opencv-doc
    int width = 640, height = 480, frames = 31;
    double focal_px = 700;
    double radius_px = 100;            ///< as it is seen on the middle frame
    double lean = 0, pitch = 0;        ///< radians, of its axis in the picture and towards the camera
    double turnEnd = 0.5;              ///< radians, from the middle to the end
    double leanEnd = 0, pitchEnd = 0;  ///< radians, likewise
    double scaleEnd = 1;               ///< how much nearer it is at the end
    Eigen::Vector2d travel{0, 0};      ///< pixels
    double shake_px = 1;
    double span = 1.0;  ///< radians to each side of the front, of the outline
    double grain = 0, gainEnd = 1;
    bool bare = false;       ///< the photograph is where the outline is alone
    double cover = 0;        ///< share of its width that a bar covers as it passes
    double sidesOff_px = 2;  ///< the sides are drawn as wrongly as that, at most
    double focalGuess = 1;   ///< times the truth; 1: it is known
};

RoundCase roundCase(unsigned seed);
std::string describe(const RoundCase& c);

/// Where a place of the body is on a frame: radians to the right of its front, and radii down from its middle. With
/// `cosine` how much it faces the camera.
Eigen::Vector2d placeAt(const RoundCase& c, int frame, double angle, double along, double* cosine = nullptr);
/// How far it has turned before the camera since the middle frame, degrees: what `turnAt` says of a track.
double turnAt(const RoundCase& c, int frame);
/// The four corners of what is drawn on it: the surface.
std::array<Eigen::Vector2d, 4> roundCorners(const RoundCase& c);  ///< (angle, along)

/// The outline, the surface, the sides as they are drawn and the lens as it is known, on the middle frame.
PlanarTrack planeOf(const RoundCase& c);
std::shared_ptr<const Plate> plateOf(const RoundCase& c);

}  // namespace pinion::planes
