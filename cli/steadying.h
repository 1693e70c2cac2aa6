#pragma once

#include "console.h"
#include "plate/framecache.h"
#include "plates.h"
#include "shot/shot.h"

#include <nlohmann/json_fwd.hpp>
#include <string>

namespace CLI {
class App;
}

namespace pinion::cli {

/// What the commands share that steady or shake a picture.
struct PictureWords {
    std::string plate, tracks, out, range, rolling, transforms, putBack, putBackBy = "difference", putBackMatte;
    std::string fit = "fill", filter = "bicubic", edges = "empty";
    int features = 500;
    double position = -1, rotation = -1, scale = -1;  ///< below 0: as all components
};

void addPictureOptions(CLI::App& command, PictureWords& words);

/// Of a rolling shutter whose readout is known, and what the shot makes of it.
void addRollingOption(CLI::App& command, PictureWords& words);
Expected<void> applyRolling(const PictureWords& words, Shot& shot);

/// A component's own share, or where it has none that of all.
inline double amountOf(double own, double all) { return own >= 0 ? own : all; }

/// Filter, edges and fit as the words say.
void applyPictureWords(const PictureWords& words, SteadySettings& settings);

/// Opens the plate, after a look at where things are to be written; `more` are further inputs that stay untouched.
Expected<std::shared_ptr<const Plate>> openFor(const Console& console, const PictureWords& words,
                                               const std::string& more = "");

/// The shot with its tracks: read, or scattered.
Expected<Shot> shotWithTracks(const PictureWords& words, const PlateFacts& facts, FrameCache& frames);

/// Renders and says what came of it.
int render(const Console& console, const PictureWords& words, const Shot& shot, FrameCache& frames,
           nlohmann::json figures);

}  // namespace pinion::cli
