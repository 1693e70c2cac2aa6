#include "commands/command.h"
#include "exchange/corners.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "jobs/planing.h"
#include "outputs.h"
#include "planar/surface.h"
#include "plates.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/planeedits.h"
#include "shot/stages/planesstage.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <filesystem>
#include <memory>
#include <optional>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;

struct PlanarWords {
    std::string plate, outline, out, surface, lens, sides, motion = "auto", exclude, rides, range;
    std::optional<int> reference;
    double leastSeen = 0.2;
};

/// The plane that the outline's file draws: four corners on one frame, or shapes of a mattes.json, of which those that
/// subtract are taken out.
Expected<PlanarTrack> drawnPlane(const PlanarWords& w) {
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "plane 1";
    plane.leastSeen = w.leastSeen;
    if (w.motion != "auto") plane.motion = motionModelFrom(w.motion);
    auto corners = readCorners(w.outline);
    if (corners) {
        if (!w.reference && corners->size() > 1)
            return failure(Fault::input, "{}: has {} frames; say with --reference which one is meant", w.outline,
                           corners->size());
        const auto meant = std::find_if(corners->begin(), corners->end(),
                                        [&](const PlaneTie& one) { return !w.reference || one.frame == *w.reference; });
        if (meant == corners->end())
            return failure(Fault::input, "{}: has no corners on the reference frame {}", w.outline, *w.reference);
        plane.referenceFrame = meant->frame;
        plane.outlines = List<Polygon>({Polygon(meant->corners.begin(), meant->corners.end())});
        plane.ties = List<PlaneTie>({*meant});
        return plane;
    }
    const auto mattes = readMattes(w.outline);
    if (!mattes)
        // Which of the two formats it was meant to be, its own words tell.
        return tl::unexpected(mattes.error().message.find("pinion.corners") != std::string::npos ? corners.error()
                                                                                                 : mattes.error());
    std::vector<Polygon> outlines, takenOut;
    const auto drawn = std::find_if(mattes->begin(), mattes->end(), [](const Matte& one) { return !one.keys.empty(); });
    if (drawn == mattes->end()) return failure(Fault::input, "{}: holds no outline to track by", w.outline);
    plane.referenceFrame = w.reference.value_or(drawn->keys.front().frame);
    for (const Matte& matte : *mattes) {
        if (matte.ride)
            return failure(Fault::input, "{}: shape '{}' rides; an outline is drawn on the reference frame", w.outline,
                           matte.name);
        const Polygon outline = outlineAt(matte, plane.referenceFrame);
        if (outline.size() < 3) continue;
        (matte.op == Matte::Op::subtract ? takenOut : outlines).push_back(outline);
    }
    if (outlines.empty()) return failure(Fault::input, "{}: holds no outline to track by", w.outline);
    plane.outlines = List<Polygon>(std::move(outlines));
    plane.takenOut = List<Polygon>(std::move(takenOut));
    const PlaneBox box = boxOf(plane.region());
    const auto c = box.corners();
    plane.ties = List<PlaneTie>({{plane.referenceFrame, {c[0], c[1], c[2], c[3]}}});
    return plane;
}

Expected<Shot> shotToTrack(const PlanarWords& w, const PlateFacts& facts) {
    const auto range = parseRange(w.range, facts);
    if (!range) return tl::unexpected(range.error());
    Shot shot = withRange(shotOf(facts), *range);
    auto plane = drawnPlane(w);
    if (!plane) return tl::unexpected(plane.error());
    if (!range->holds(plane->referenceFrame))
        return failure(Fault::input, "{}: the reference frame {} lies outside the frames {}-{}", w.outline,
                       plane->referenceFrame, range->first, range->last);
    if (boxOf(plane->region()).cutTo(facts.width, facts.height).isEmpty())
        return failure(Fault::input, "{}: the outline lies outside the frame of {}x{}", w.outline, facts.width,
                       facts.height);
    shot.planes = List<PlanarTrack>({*plane});
    if (!w.lens.empty()) {
        const auto lens = lensFor(w.lens, facts);
        if (!lens) return tl::unexpected(lens.error());
        shot.lens.source = LensCard::Source::file;
        shot.lens.lens = *lens;
    }
    if (!w.sides.empty()) {
        const auto read = readCorners(w.sides);
        if (!read) return tl::unexpected(read.error());
        if (read->size() != 1 || read->front().frame != plane->referenceFrame)
            return failure(Fault::input, "{}: the two sides are wanted on the reference frame {} and no other", w.sides,
                           plane->referenceFrame);
        auto round = withPlaneSides(shot, plane->id, read->front().corners);
        if (!round) return failure(Fault::input, "{}: {}", w.sides, round.error().message);
        shot = *std::move(round);
    }
    if (!w.exclude.empty()) {
        const auto mattes = mattesFor(w.exclude, w.rides, *range, facts);
        if (!mattes) return tl::unexpected(mattes.error());
        shot.mattes = List<Matte>(*mattes);
    }
    return shot;
}

int planarCommand(const Console& console, const PlanarWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out,
                                      {w.plate, facts.path.string(), w.outline, w.surface, w.lens, w.sides, w.exclude});
        !free)
        return fail(free.error());
    const auto shot = shotToTrack(w, facts);
    if (!shot) return fail(shot.error());
    CornersFile surface;
    if (!w.surface.empty()) {
        auto read = readCorners(w.surface);
        if (!read) return fail(read.error());
        surface = *std::move(read);
    }
    const auto result = [&] {
        FrameCache frames(*plate, budget(console));
        return runPlanes(*shot, frames, {1}, shot->planes[0].referenceFrame, Direction::both, 0, false,
                         consoleProgress("Tracking"));
    }();
    if (!result) return fail(result.error());
    if (result->stopped) return fail({Fault::stopped, ""});
    Shot tracked = withPlanesTracked(*shot, result->planes);
    if (!surface.empty()) {
        tracked = withSurfaceRemoved(tracked, 1);
        for (const PlaneTie& tie : surface) {
            auto tied = withPlaneTie(tracked, 1, tie.frame, tie.corners);
            if (!tied) return fail({tied.error().fault, fmt::format("{}: {}", w.surface, tied.error().message)});
            tracked = *std::move(tied);
        }
    }
    const PlanarTrack& plane = tracked.planes[0];
    CornersFile corners;
    std::vector<double> turns;
    double seen = 1, fit = 1, deviation = 0;
    for (const PlaneSample& sample : plane.samples) {
        if (const auto quad = surfaceAt(plane, sample.frame)) {
            corners.push_back({sample.frame, *quad});
            if (const auto turn = turnAt(plane, sample.frame)) turns.push_back(*turn);
        }
        seen = std::min(seen, double(sample.seen));
        fit = std::min(fit, double(sample.fit));
        deviation = std::max(deviation, double(sample.deviation_px));
    }
    if (const auto written = put(w.out, cornersJson(corners, turns)); !written) return fail(written.error());
    const std::string motion(plane.sides ? "cylinder" : toString(result->motions.front()));
    say(console,
        {{"frames", corners.size()},
         {"motion", motion},
         {"turn_deg", turns.empty() ? json() : json(turns.back() - turns.front())},
         {"first", plane.firstFrame()},
         {"last", plane.lastFrame()},
         {"before", toString(plane.startReason)},
         {"after", toString(plane.endReason)},
         {"least_seen", seen},
         {"least_fit", fit},
         {"largest_deviation_px", deviation},
         {"unreadable", result->unreadable},
         {"out", w.out}},
        w.out == "-" ? std::string()
                     : fmt::format("{} frames, {} ({}): {}; at least {:.0f} % seen, fit {:.3f}, within ± {:.2f} px",
                                   corners.size(), wordsOf(plane, tracked.plate.range), motion, w.out, 100 * seen, fit,
                                   deviation));
    return 0;
}

}  // namespace

Runner addPlanar(CLI::App& command) {
    const auto words = std::make_shared<PlanarWords>();
    PlanarWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command
        .add_option("--outline", w.outline,
                    "what to track by: corners.json of one frame, or mattes.json, whose shapes that subtract are taken "
                    "out")
        ->required();
    command.add_option("--out", w.out, "corners.json; - for standard output")->required();
    command.add_option("--surface", w.surface,
                       "corners.json with the four corners that are wanted, on one frame or more; the outline's by "
                       "default");
    command.add_option("--motion", w.motion, "auto, translation, similarity, affine or perspective")
        ->check(CLI::IsMember({"auto", "translation", "similarity", "affine", "perspective"}));
    command.add_option("--reference", w.reference, "the frame that the outline is drawn on");
    command.add_option("--lens", w.lens, "lens.json: a flat surface moves as one only without the plate's distortion");
    command.add_option(
        "--cylinder", w.sides,
        "corners.json of the reference frame with the two sides of a round body: the left from the first "
        "corner to the fourth, the right from the second to the third");
    command.add_option("--exclude", w.exclude, "mattes.json; what they take out does not count");
    command.add_option("--ride", w.rides, "tracks.json that the mattes ride on");
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    command.add_option("--least-seen", w.leastSeen, "the share of the texture below which it ends")
        ->check(CLI::Range(0.02, 1.0));
    return [words](const Console& console) { return planarCommand(console, *words); };
}

}  // namespace pinion::cli
