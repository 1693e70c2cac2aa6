#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

#include <optional>
#include <vector>

namespace pinion {

StageReport mattesReport(const Shot& shot);

/// The mattes with their rides taken in, over `range` or the shot's; one that nothing carries stays as it was drawn.
std::vector<Matte> mattesOf(const Shot& shot, const std::optional<FrameRange>& range = std::nullopt,
                            std::vector<std::string>* notes = nullptr);

/// The frames on which tracks lie in what the mattes take out, by the track: those that are set aside there already do
/// not count, nor do tracks that are set aside whole, nor those that a matte rides on.
struct CoveredTrack {
    TrackId track = 0;
    std::vector<int> frames;
};
std::vector<CoveredTrack> tracksInMattes(const Shot& shot);

}  // namespace pinion
