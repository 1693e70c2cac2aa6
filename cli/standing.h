#pragma once

#include "camera/result.h"
#include "console.h"
#include "plate/plate.h"
#include "world/standin.h"
#include "world/world.h"

#include <memory>
#include <string>
#include <vector>

namespace pinion::cli {

/// What a scene is seen with, of files or of a shot.
struct Standing {
    std::shared_ptr<const Solve> solve;
    Orientation orientation;
    SceneLook look;
    std::shared_ptr<const Plate> plate;
    FrameRange range;  ///< as asked for, else the shot's or the whole plate
};

struct StandingFiles {
    std::string plate;  ///< or a shot, which has its own camera and scene
    std::string camera, scene, range, out;
    std::vector<std::string> others;  ///< that are read as well: `out` must be none of them
};

/// Fails when they do not go together, or one is missing: `needsScene` of a plate. `command` is for the words.
Expected<Standing> standingOf(const Console& console, const std::string& command, const StandingFiles& files,
                              bool needsScene);

}  // namespace pinion::cli
