#include "benches.h"
#include "base/median.h"
#include "base/units.h"
#include "camera/secondsweep.h"
#include "camera/solve.h"
#include "plate/framecache.h"
#include "track/tracking.h"

#include <fmt/format.h>

namespace pinion::bench {
namespace {

void tell(const char* what, std::span<const Track> tracks, const Truth& truth) {
    std::vector<double> lengths;
    for (const Track& track : tracks) lengths.push_back(double(track.samples.size()));
    double samples = 0;
    for (const double length : lengths) samples += length;
    fmt::print(" {}: {} tracks, {:.0f} samples, median length {:.0f} frames\n", what, tracks.size(), samples,
               median(lengths));
    std::size_t movers = 0;
    printErrors("against the true cameras", againstTrueCameras(tracks, truth, &movers));
    fmt::print("  {} tracks off by more than 2 px RMS\n", movers);
}

Expected<Solve> solved(const char* what, std::span<const Track> tracks, const SolveOptions& options,
                       const Truth& truth) {
    const double before = now();
    auto solve = solveCamera(tracks, options);
    if (!solve) {
        fmt::print(" {} failed: {}\n", what, solve.error().message);
        return solve;
    }
    const double focal_mm = focalMillimetres(solve->lens.focal_px, options.sensorWidth_mm, options.width);
    CameraErrors camera = againstTruth(*solve, truth);
    fmt::print(
        " {}: {:.2f} s; RMS {:.3f} px, held out {:.3f} px, noise {:.3f} px; {} used, {} disagree; focal {:.3f} mm +- "
        "{:.3f} "
        "({:.3f} % off); path {:.2f} mm off ({:.4f} %){}\n",
        what, now() - before, solve->rms_px, solve->heldOutRms_px, solve->noise_px, solve->used, solve->disagreed,
        focal_mm, solve->focalDeviation_mm.value_or(0), 100 * std::abs(focal_mm - truth.focal_mm) / truth.focal_mm,
        1000 * camera.path_m, 100 * camera.path_m / camera.length_m,
        solve->doubt.empty() ? "" : "; DOUBT: " + solve->doubt);
    fmt::print("  k1 {:.5f} (true {:.5f}), k2 {:.5f} (true {:.5f}); axis off the middle by {:.2f}, {:.2f} px\n",
               solve->lens.k1, truth.lens.k1, solve->lens.k2, truth.lens.k2, solve->lens.cx - 0.5 * options.width,
               solve->lens.cy - 0.5 * options.height);
    printErrors("truth points reprojected", camera.points);
    return solve;
}

}  // namespace

void benchLengthening(const std::shared_ptr<const Plate>& plate, const Truth& truth) {
    const PlateFacts& facts = plate->facts();
    FrameCache frames(plate);
    ScatterOptions options;
    options.range = {facts.firstFrame, facts.lastFrame};
    options.startFrame = facts.firstFrame;
    double since = now();
    auto scattered = scatter(frames, options);
    if (!scattered) {
        fmt::print(" scatter failed: {}\n", scattered.error().message);
        return;
    }
    std::vector<Track> tracks = std::move(scattered->tracks);
    for (std::size_t i = 0; i < tracks.size(); ++i) tracks[i].id = TrackId(i + 1);
    fmt::print(" scatter {:.2f} s\n", now() - since);
    SolveOptions solving;
    solving.width = truth.lens.width;
    solving.height = truth.lens.height;
    solving.sensorWidth_mm = truth.sensorWidth_mm;
    const auto first = solved("solve", tracks, solving, truth);
    if (!first) return;
    since = now();
    SecondSweepOptions second;
    second.range = options.range;
    const auto swept = lengthen(frames, *first, tracks, second);
    if (!swept) {
        fmt::print(" lengthen failed: {}\n", swept.error().message);
        return;
    }
    fmt::print(" lengthen {:.2f} s: {} tracks, {} went into others\n", now() - since, swept->tracks.size(),
               swept->joined.size());
    std::set<TrackId> better(swept->joined.begin(), swept->joined.end());
    for (const Track& track : swept->tracks) better.insert(track.id);
    std::vector<Track> before;
    for (const Track& track : tracks)
        if (better.contains(track.id)) before.push_back(track);
    tell("before, those that were made better", before, truth);
    tell("after", swept->tracks, truth);
    // The same frames of the same tracks.
    std::vector<Track> same;
    for (const Track& track : swept->tracks) {
        const auto old = std::find_if(tracks.begin(), tracks.end(), [&](const Track& t) { return t.id == track.id; });
        Track cut = track;
        cut.samples = track.samples.edited([&](auto& samples) {
            std::erase_if(samples, [&](const Sample& sample) { return !sampleAt(*old, sample.frame); });
        });
        same.push_back(std::move(cut));
    }
    tell("after, frames that were there", same, truth);
    std::vector<Track> all = swept->tracks;
    for (const Track& track : tracks)
        if (!better.contains(track.id)) all.push_back(track);
    solving.start = std::make_shared<const Solve>(*first);
    solved("refined with them", all, solving, truth);
    solving.start.reset();
    solved("solved anew with them", all, solving, truth);
}

}  // namespace pinion::bench
