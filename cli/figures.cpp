#include "figures.h"

#include "base/units.h"

#include <algorithm>
#include <nlohmann/json.hpp>

namespace pinion::cli {

using nlohmann::json;

json tracksFigures(const TrackingResult& result) {
    std::size_t samples = 0;
    std::vector<std::size_t> lengths;
    json ends = json::object();
    for (const Track& track : result.tracks) {
        samples += track.samples.size();
        lengths.push_back(track.samples.size());
        const std::string reason(toString(track.endReason));
        ends[reason] = ends.value(reason, 0) + 1;
    }
    std::sort(lengths.begin(), lengths.end());
    return {{"tracks", result.tracks.size()},
            {"samples", samples},
            {"median_length", lengths.empty() ? 0 : lengths[lengths.size() / 2]},
            {"ends", ends},
            {"unreadable_frames", result.unreadable}};
}

json solveFigures(const Solve& solve, int width) {
    json figures{{"rms_px", solve.rms_px},
                 {"held_out_rms_px", solve.heldOutRms_px},
                 {"tracks", solve.used},
                 {"held_out_tracks", solve.heldOut},
                 {"disagreed_tracks", solve.disagreed},
                 {"frames", solve.frames.size()},
                 {"focal_px", solve.lens.focal_px},
                 {"focal_mm", focalMillimetres(solve.lens.focal_px, solve.sensorWidth_mm, width)},
                 {"k1", solve.lens.k1},
                 {"k2", solve.lens.k2},
                 {"base_pair", {solve.basePair.first, solve.basePair.second}},
                 {"parallax_degrees", solve.medianAngleDegrees}};
    if (solve.focalDeviation_mm) figures["focal_deviation_mm"] = *solve.focalDeviation_mm;
    figures["motion"] = toString(solve.motion);
    figures["reason"] = solve.reason;
    figures["noise_px"] = solve.noise_px;
    if (solve.inMetres) figures["in_metres"] = true;
    figures["axis_px"] = {solve.lens.cx, solve.lens.cy};
    if (solve.zoom) {
        double least = 1e300, most = 0;
        for (const SolvedFrame& frame : solve.frames) {
            least = std::min(least, frame.focal_px);
            most = std::max(most, frame.focal_px);
        }
        figures["zoom_mm"] = {focalMillimetres(least, solve.sensorWidth_mm, width),
                              focalMillimetres(most, solve.sensorWidth_mm, width)};
    }
    if (solve.readout.isRolling()) {
        figures["readout"] = solve.readout.share;
        figures["read_by"] = solve.readout.columns ? "columns" : "rows";
        if (solve.readoutDeviation > 0) figures["readout_deviation"] = solve.readoutDeviation;
    }
    if (solve.focalRange_mm) figures["focal_range_mm"] = {solve.focalRange_mm->first, solve.focalRange_mm->second};
    if (!solve.doubt.empty()) figures["doubt"] = solve.doubt;
    return figures;
}

}  // namespace pinion::cli
