#pragma once

#include "scenarios/madeshot.h"

#include <string>
#include <vector>

namespace pinion::bench {

/// A second generator of shots as tracks, which shares with the first only the form of its answer: surfaces are
/// patches with points of their own (no rays are cast), paths are random walks that are held back (no sines), noise is
/// heavy-tailed with a colour of its own, and things move by themselves for as long as the shot lasts.
struct CrowdPlan {
    std::string kind = "handheld";
    unsigned seed = 1;
    int width = 1920, height = 1080, frames = 100;
    double focal_mm = 35, zoomTo_mm = 0;  ///< on a sensor 36 mm wide; 0: no zoom
    double k1 = -0.03, k2 = 0, axisOff = 0.003;
    double walk_m = 2;       ///< length of the camera's path; 0: it only turns
    double unrest = 1;       ///< of the hand; 0: a rig
    bool follows = false;    ///< the camera goes along with the first mover
    bool flat = false;       ///< one wall or floor and nothing else
    int tracks = 400;        ///< in a frame
    double halfLife = 22;    ///< frames
    double noise_px = 0.15;  ///< median over the tracks
    int movers = 1;
    double moverShare = 0.15;  ///< of the samples, all movers together
    bool shadow = false;       ///< slides along the ground under the mover
    bool waits = false;        ///< it stands still for half of the shot
    int filled = 0;            ///< frames at the beginning on which the mover fills the picture and little else is seen
    bool backwards = false;    ///< all of it in reverse: what begins ends
    double readout = 0;        ///< of a sensor that is read row by row: a share of a frame
    bool columns = false;      ///< it is read by columns
    double mirrored = 0, swaying = 0, sliding = 0, drifting = 0;  ///< shares of the tracks
};

/// Kinds: handheld, pan, flat, zoom, long-lens, wide, follow, two-movers, waiting, shadow, portrait, mirror, foliage,
/// sliding, slide, begins and ends (on a mover), quiet (no mover); read row by row: rolling, rolling-pan,
/// rolling-quiet, rolling-portrait (by columns).
CrowdPlan drawCrowd(const std::string& kind, unsigned seed);
const std::vector<std::string>& crowdKinds();

MadeShot make(const CrowdPlan& plan);

}  // namespace pinion::bench
