#include "commands/command.h"
#include "camera/secondsweep.h"
#include "exchange/formats.h"
#include "exchange/shotfiles.h"
#include "outputs.h"
#include "plates.h"
#include "trackwords.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <memory>

namespace pinion::cli {
namespace {

struct LengthenWords {
    std::string plate, camera, tracks, out, exclude;
    double apart = 8.0;
};

int lengthenCommand(const Console& console, const LengthenWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.tracks, w.camera, w.exclude});
        !free)
        return fail(free.error());
    const auto tracks = tracksFor(w.tracks, facts);
    if (!tracks) return fail(tracks.error());
    const auto camera = cameraFor(w.camera, facts);
    if (!camera) return fail(camera.error());
    SecondSweepOptions options;
    options.range = {facts.firstFrame, facts.lastFrame};
    options.apart_px = w.apart;
    if (!w.exclude.empty()) {
        auto mattes = mattesFor(w.exclude, w.tracks, options.range, facts);
        if (!mattes) return fail(mattes.error());
        options.mattes = *std::move(mattes);
    }
    auto swept = [&] {
        FrameCache frames(*plate, budget(console));
        return lengthen(frames, solveOf(*camera), *tracks, options, consoleProgress("The second sweep"));
    }();
    if (!swept) return fail(swept.error());
    // The others stay as they were, all in the order in which they came.
    TrackingResult result;
    result.stopped = swept->stopped;
    result.unreadable = swept->unreadable;
    for (const Track& track : *tracks) {
        const auto longer = std::find_if(swept->tracks.begin(), swept->tracks.end(),
                                         [&](const Track& one) { return one.id == track.id; });
        if (longer != swept->tracks.end()) result.tracks.push_back(*longer);
        else if (std::find(swept->joined.begin(), swept->joined.end(), track.id) == swept->joined.end())
            result.tracks.push_back(track);
    }
    if (!swept->stopped)
        fmt::print(stderr, "{} tracks run on: {:.0f} frames in the median, {:.0f} before; {} went into others\n",
                   swept->tracks.size(), swept->median, swept->medianBefore, swept->joined.size());
    return finishTracks(console, result, facts, w.out);
}

}  // namespace

Runner addLengthen(CLI::App& command) {
    const auto words = std::make_shared<LengthenWords>();
    LengthenWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--camera", w.camera, "camera.json, solved from these tracks")->required();
    command.add_option("--tracks", w.tracks, "tracks.json")->required();
    command.add_option("--out", w.out, "tracks.json, or a .csv; - for standard output")->required();
    command.add_option("--exclude", w.exclude, "mattes.json");
    command.add_option("--apart", w.apart, "pixels: tracks that keep nearer to each other are one; 0 keeps all")
        ->check(CLI::Range(0.0, 200.0));
    return [words](const Console& console) { return lengthenCommand(console, *words); };
}

}  // namespace pinion::cli
