#pragma once

#include "base/progress.h"
#include "plate/framecache.h"

#include <string>
#include <vector>

namespace pinion {

/// What one frame is like, before anything is tracked on it.
struct FrameCheck {
    int frame = 0;
    double sharpness = 0.0;   ///< fine detail against coarse, 1 for the sharpest frames of the plate
    double motion_px = 0.0;   ///< how far the whole picture moved since the frame before
    double brightness = 0.0;  ///< mean luma, 0 to 255
    double noise = 0.0;       ///< standard deviation of the grain, grey levels (Immerkaer 1996)
    bool cut = false;         ///< another picture begins here
};

/// A stretch of frames and what it means for tracking.
struct PlateNote {
    enum class Kind { damaged, blurred, soft, jump, noisy, cut, fast };
    Kind kind;
    int first;
    int last;
    std::string words;  ///< "1043-1051 blurred by motion: expect short tracks"
};

struct PlateCheck {
    std::vector<FrameCheck> frames;
    std::vector<PlateNote> notes;
    bool stopped = false;
};

/// Looks at every frame from `first` to `last`. Fails when not one can be read.
Expected<PlateCheck> checkPlate(FrameCache& frames, int first, int last, const Progress& progress = Progress{});

/// What the figures mean, in words; `checkPlate` fills them in.
std::vector<PlateNote> notesOf(const std::vector<FrameCheck>& frames);

}  // namespace pinion
