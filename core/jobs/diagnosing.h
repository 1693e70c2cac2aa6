#pragma once

#include "base/progress.h"
#include "camera/suspects.h"
#include "camera/trackerrors.h"
#include "shot/shot.h"

#include <cstdint>
#include <map>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// What is seen of a solve when it is looked at: every track's errors, frame by frame, and which are suspected of what.
struct SolveLook {
    std::vector<TrackErrors> errors;  ///< in the order of the solve's tracks
    std::vector<Suspect> suspects;    ///< of tracks that count
    /// RMS of the tracks that were used, a frame, in pixels.
    std::map<int, double> byFrame;
    /// The usual error of used tracks in each part of the picture (16 across, 9 down) over the whole shot, the median
    /// of what each is off there in the mean: what most share is the lens, not they. Parts that no track crosses are
    /// none.
    struct Part {
        Eigen::Vector2d middle{0, 0};
        Eigen::Vector2d usual{0, 0};
        int tracks = 0;
    };
    std::vector<Part> parts;
};
/// What the look depends on.
std::uint64_t lookKey(const Shot& shot);
/// Fails, saying what to do, where nothing is solved.
Expected<SolveLook> lookAtSolve(const Shot& shot, const Progress& progress = Progress{});

/// What the solve would be without some of its tracks, adjusted anew from where it stands.
struct Without {
    std::size_t tracks = 0;     ///< that would go
    double heldOut_px = 0;      ///< now, of the held-out tracks that both have
    double heldOutThen_px = 0;  ///< 0 where there are none
    double rms_px = 0, rmsThen_px = 0;
    int fewest = 0, fewestThen = 0;       ///< used tracks on the frame that has the least
    int fewestFrame = 0;                  ///< then
    double covered = 0, coveredThen = 0;  ///< share of the parts of the picture (8 x 6) that used tracks were ever in
    bool gains() const { return heldOutThen_px > 0 && heldOutThen_px < 0.995 * heldOut_px; }
};
/// The shot is not changed. Fails where too little would be left.
Expected<Without> solveWithout(const Shot& shot, std::span<const TrackId> tracks,
                               const Progress& progress = Progress{});

/// Suspects and worst tracks set aside as long as the error on held-out tracks falls by it.
struct Weeding {
    std::vector<TrackId> aside;
    double heldOut_px = 0, heldOutThen_px = 0;  ///< of the held-out tracks that stay, adjusted alike before and after
    std::vector<std::string> steps;             ///< what was set aside, in words
    Solve solve;                                ///< of what is left
};
/// Tries each reason's suspects, then the worst one in fifty, adjusting anew from where the solve stands; keeps a step
/// that lowers the held-out error by half a per cent, leaves each frame half of its tracks (and eight) and the picture
/// covered, and stops when none does. The shot is not changed; stopped, it gives what it has. Fails where nothing is
/// solved, or too few tracks are there to hold any out.
Expected<Weeding> setAsideWhileItGains(const Shot& shot, const Progress& progress = Progress{});

}  // namespace pinion
