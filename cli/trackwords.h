#pragma once

#include "console.h"
#include "plates.h"
#include "track/tracking.h"

#include <string>

namespace CLI {
class App;
}

namespace pinion::cli {

/// How tracks are made, as words.
struct TrackWords {
    std::string motion = "affine";
    std::string channel = "luma";
    std::string range;
    int pattern = 21;
    int search = 61;
    double driftLimit = 0.8;
    std::string preFilter = "none";
    bool pickUp = true;
    bool bridge = false;
};

void addTrackOptions(CLI::App& command, TrackWords& words);

/// The search area has to hold the pattern.
Expected<void> checkAreas(const TrackWords& words);

/// Writes tracks as JSON or, by the ending of `out`, as a table, and says what came of them.
int finishTracks(const Console& console, const Expected<TrackingResult>& result, const PlateFacts& facts,
                 const std::string& out);

}  // namespace pinion::cli
