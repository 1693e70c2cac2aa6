#include "commands/command.h"
#include "exchange/formats.h"
#include "outputs.h"
#include "plates.h"
#include "trackwords.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct TrackingWords {
    std::string plate, points, out, exclude, rides;
    TrackWords track;
};

/// The tracks that the points begin, as the words say how.
Expected<std::vector<Track>> tracksAt(const PointList& points, const PlateFacts& facts, const TrackingWords& w) {
    std::vector<Track> tracks;
    for (const auto& point : points.points) {
        if (!(point.at.x() >= 0 && point.at.y() >= 0 && point.at.x() <= facts.width && point.at.y() <= facts.height))
            return failure(Fault::input, "{}: point '{}' at {:g}, {:g} lies outside the frame of {}x{}", w.points,
                           point.name, point.at.x(), point.at.y(), facts.width, facts.height);
        if (point.wanted && !((*point.wanted - point.at).cwiseAbs().maxCoeff() < 10.0 * (facts.width + facts.height)))
            return failure(Fault::input, "{}: the wanted place of point '{}' is nowhere near the frame", w.points,
                           point.name);
        Track one;
        one.id = TrackId(tracks.size() + 1);
        one.name = point.name;
        one.byHand = true;
        one.motion = *motionModelFrom(w.track.motion);
        one.channel = *channelFrom(w.track.channel);
        one.pattern_px = w.track.pattern;
        one.search_px = w.track.search;
        one.driftLimit = w.track.driftLimit;
        one.preFilter = *preFilterFrom(w.track.preFilter);
        one.pickUp = w.track.pickUp;
        if (point.wanted) one.offset = *point.wanted - point.at;
        Polygon outline = point.outline;
        for (Eigen::Vector2d& corner : outline) corner -= point.at;
        one.outline = List<Eigen::Vector2d>(std::move(outline));
        one.referenceFrame = points.referenceFrame;
        one.samples = List<Sample>(
            {{.frame = points.referenceFrame, .carried = one.offset.cast<float>(), .at = point.at, .tie = true}});
        tracks.push_back(std::move(one));
    }
    return tracks;
}

int trackCommand(const Console& console, const TrackingWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.points}); !free)
        return fail(free.error());
    const auto points = readPoints(w.points);
    if (!points) return fail(points.error());
    const auto range = parseRange(w.track.range, facts);
    if (!range) return fail(range.error());
    if (const auto fits = checkAreas(w.track); !fits) return fail(fits.error());
    if (!range->holds(points->referenceFrame))
        return fail({Fault::input, fmt::format("{}: reference_frame {} lies outside the frames {}-{}", w.points,
                                               points->referenceFrame, range->first, range->last)});
    const auto tracks = tracksAt(*points, facts, w);
    if (!tracks) return fail(tracks.error());
    std::vector<Matte> mattes;
    if (!w.exclude.empty()) {
        auto read = mattesFor(w.exclude, w.rides, *range, facts);
        if (!read) return fail(read.error());
        mattes = *std::move(read);
    }
    auto result = [&] {
        FrameCache frames(*plate, budget(console));
        return trackPoints(frames, *tracks, *range, Direction::both, consoleProgress("Tracking"), {}, mattes);
    }();
    if (result && w.track.bridge)
        for (Track& one : result->tracks) one = bridged(one);
    return finishTracks(console, result, facts, w.out);
}

}  // namespace

Runner addTrack(CLI::App& command) {
    const auto words = std::make_shared<TrackingWords>();
    TrackingWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--points", w.points, "points.json")->required();
    command.add_option("--out", w.out, "tracks.json, or a .csv; - for standard output")->required();
    addTrackOptions(command, w.track);
    command.add_option("--exclude", w.exclude, "mattes.json; a track that runs into what they take out ends there");
    command.add_option("--ride", w.rides, "tracks.json that the mattes ride on");
    command.add_flag("--pick-up,!--no-pick-up", w.track.pickUp,
                     "look for the pattern again after it was lost: done unless it is taken away");
    command.add_flag("--bridge", w.track.bridge, "lay the track smoothly across gaps");
    return [words](const Console& console) { return trackCommand(console, *words); };
}

}  // namespace pinion::cli
