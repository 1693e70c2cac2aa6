#pragma once

#include "base/progress.h"
#include "camera/result.h"
#include "matte/matte.h"
#include "plate/framecache.h"
#include "track/tracking.h"

#include <span>
#include <string>
#include <vector>

namespace pinion {

/// An area whose motion disagrees with the solved scene.
struct MoverProposal {
    Matte matte;         ///< rides on `path`, or has keys along the way
    Track path;          ///< how the area goes, from dense motion; set aside, with an id that counts here alone. Of one
                         ///< that was made from tracks it is empty
    std::string reason;  ///< "moves 24.8 px a frame against the scene"
    FrameRange frames;   ///< on which it is seen
    double share = 0;    ///< of the plate that it covers there, in the mean
};

struct MoverOptions {
    FrameRange range;

    /// Frames from one look to the next. Smaller sees shorter appearances and costs in proportion.
    int step = 4;

    /// Smallest share of the plate that is an area.
    double least = 0.003;
};

/// Areas that move by themselves. Dense motion (DIS, Kroeger et al. 2016) between frames one and four apart is held
/// against where a still point may go: from where the camera's turn takes it (far off) to where it comes at half the
/// depth of the nearest thing. What goes elsewhere, comes back on the way back, and looks clearly less like any still
/// place than like where it went, moves; areas of it are followed over the frames. Outlines are convex. What moves
/// exactly as a still point at some depth would is not found.
Expected<std::vector<MoverProposal>> proposeMovers(FrameCache& frames, const Solve& solve, const MoverOptions& options,
                                                   const Progress& progress = Progress{});

/// Areas about tracks that a solve told apart as things that move, `width` x `height` the plate: they need no camera
/// that is right. Outlines are convex, with keys along the way.
std::vector<MoverProposal> proposeFromTracks(std::span<const MovingTracks> movers, std::span<const Track> tracks,
                                             FrameRange range, int width, int height);

}  // namespace pinion
