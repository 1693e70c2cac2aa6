#include "commands/command.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "jobs/tracking.h"
#include "outputs.h"
#include "shot/edits/plateedits.h"
#include "trackwords.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct ScatterWords {
    std::string plate, out, exclude, rides;
    int features = 500;
    double distance = 16.0;
    TrackWords track;
};

int scatterCommand(const Console& console, const ScatterWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.exclude}); !free)
        return fail(free.error());
    if (const auto fits = checkAreas(w.track); !fits) return fail(fits.error());
    Shot shot = shotOf(facts);
    const auto range = parseRange(w.track.range, facts);
    if (!range) return fail(range.error());
    shot = withRange(shot, *range);
    shot.scatterSettings = {w.features,
                            w.distance,
                            0.01,
                            w.track.pattern,
                            w.track.search,
                            *motionModelFrom(w.track.motion),
                            w.track.driftLimit,
                            *channelFrom(w.track.channel),
                            *preFilterFrom(w.track.preFilter)};
    if (!w.exclude.empty()) {
        const auto mattes = mattesFor(w.exclude, w.rides, *range, facts);
        if (!mattes) return fail(mattes.error());
        shot.mattes = List<Matte>(*mattes);
    }
    // The frames are given back before the tracks are written.
    const auto result = [&] {
        FrameCache frames(*plate, budget(console));
        return runScatter(shot, frames, range->first, consoleProgress("Scattering"));
    }();
    return finishTracks(console, result, facts, w.out);
}

}  // namespace

Runner addScatter(CLI::App& command) {
    const auto words = std::make_shared<ScatterWords>();
    ScatterWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--out", w.out, "tracks.json, or a .csv; - for standard output")->required();
    command.add_option("--features", w.features, "how many to keep in each frame")->check(CLI::Range(1, 100000));
    command.add_option("--least-distance", w.distance, "pixels between two features")->check(CLI::Range(2.0, 1000.0));
    command.add_option("--exclude", w.exclude, "mattes.json");
    command.add_option("--ride", w.rides, "tracks.json that the mattes ride on");
    addTrackOptions(command, w.track);
    return [words](const Console& console) { return scatterCommand(console, *words); };
}

}  // namespace pinion::cli
