#include "commands/command.h"
#include "exchange/corners.h"
#include "outputs.h"
#include "planar/surface.h"
#include "plates.h"
#include "steady/motion.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <memory>
#include <optional>
#include <sstream>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct PinWords {
    std::string plate, tracks, out, range;
    std::string names;
    std::optional<int> reference;
};

/// "a,b,c,d" taken apart; what is left out is no name.
std::vector<std::string> namesIn(const std::string& words) {
    std::vector<std::string> names;
    std::stringstream rest(words);
    for (std::string name; std::getline(rest, name, ',');)
        if (!name.empty()) names.push_back(name);
    return names;
}

Expected<CornersFile> pinned(const PinWords& w, const PlateFacts& facts) {
    const auto range = parseRange(w.range, facts);
    if (!range) return tl::unexpected(range.error());
    const auto all = tracksFor(w.tracks, facts);
    if (!all) return tl::unexpected(all.error());
    std::vector<Track> four;
    for (const std::string& name : namesIn(w.names)) {
        const auto found =
            std::find_if(all->begin(), all->end(), [&](const Track& track) { return track.name == name; });
        if (found == all->end()) return failure(Fault::input, "{}: there is no track '{}'", w.tracks, name);
        four.push_back(*found);
    }
    if (four.size() != 4)
        return failure(Fault::input, "--names: a surface has four corners, {} track{} named", four.size(),
                       four.size() == 1 ? " is" : "s are");
    // The frame they are put in order on: the first that all four share.
    std::optional<int> reference = w.reference;
    if (reference && !range->holds(*reference))
        return failure(Fault::input, "--reference {}: lies outside the frames {}-{}", *reference, range->first,
                       range->last);
    for (int frame = range->first; !reference && frame <= range->last; ++frame)
        if (std::all_of(four.begin(), four.end(), [&](const Track& track) { return sampleAt(track, frame); }))
            reference = frame;
    if (!reference)
        return failure(Fault::outcome, "the four tracks share no frame of {}-{}", range->first, range->last);
    const auto motion = motionOf(four, *reference, *range, MotionKind::cornerPin);
    if (!motion) return tl::unexpected(motion.error());
    CornersFile corners;
    for (const FrameMotion& frame : motion->frames) {
        PlaneTie one;
        one.frame = frame.frame;
        for (std::size_t i = 0; i < 4; ++i) one.corners[i] = carried(frame.plateFromReference, motion->corners[i]);
        corners.push_back(one);
    }
    return corners;
}

int pinCommand(const Console& console, const PinWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.tracks}); !free)
        return fail(free.error());
    const auto corners = pinned(w, facts);
    if (!corners) return fail(corners.error());
    if (const auto written = put(w.out, cornersJson(*corners)); !written) return fail(written.error());
    say(console,
        {{"frames", corners->size()},
         {"first", corners->front().frame},
         {"last", corners->back().frame},
         {"out", w.out}},
        w.out == "-" ? std::string()
                     : fmt::format("{} frames, {}-{}: {}", corners->size(), corners->front().frame,
                                   corners->back().frame, w.out));
    return 0;
}

}  // namespace

Runner addPin(CLI::App& command) {
    const auto words = std::make_shared<PinWords>();
    PinWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--tracks", w.tracks, "tracks.json or .csv")->required();
    command.add_option("--names", w.names, "a,b,c,d: four tracks, in any order")->required();
    command.add_option("--out", w.out, "corners.json; - for standard output")->required();
    command.add_option("--reference", w.reference, "the frame on which they are put in order");
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    return [words](const Console& console) { return pinCommand(console, *words); };
}

}  // namespace pinion::cli
