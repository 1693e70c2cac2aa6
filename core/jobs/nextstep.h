#pragma once

#include "jobs/diagnosing.h"

#include <string>

namespace pinion {

/// What to do next about a solve: the likeliest cause of what is wrong with it, with its evidence.
struct NextStep {
    enum class Kind {
        solveAgain,  ///< something has changed since
        goThere,     ///< `frame` has no camera, or hardly any tracks
        maskMover,   ///< the first of the solve's movers that still counts
        guessFocal,  ///< the tracks leave the focal length open; `focal_mm` fits
        freeLens,    ///< the errors show a pattern over the picture
        setAside,    ///< many tracks are suspected of doing harm
        layGround,   ///< the camera is fine; the world is not set
        none
    };
    Kind kind = Kind::none;
    std::string words;      ///< cause and evidence: "errors lean outwards by 0.21 px in 34 parts of the picture"
    int frame = 0;          ///< of `goThere`
    std::size_t mover = 0;  ///< of `maskMover`, its place in the solve's list
    double focal_mm = 0;    ///< of `guessFocal`
};
/// Asked of a solved shot. What stands first in the list of kinds is told first.
NextStep nextStepOf(const Shot& shot, const SolveLook& look);

}  // namespace pinion
