#include "commands/command.h"
#include "base/files.h"
#include "jobs/inserting.h"
#include "outputs.h"
#include "plates.h"
#include "shot/edits/plateedits.h"
#include "shot/file/shotfile.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct InsertWords {
    std::string plate, corners, art, out, blend = "over", heldOut, rides, alpha, range, lens;
    double opacity = 1, softEdge = 0, shutter = 0;
    bool alone = false;
};

int told(const Console& console, const InsertWords& w, const Expected<InsertReport>& report) {
    if (!report) return fail(report.error());
    const RenderReport& render = report->render;
    if (render.stopped) return fail({Fault::stopped, ""});
    std::string words = fmt::format("{} frames{}: {}", render.frames, w.alone ? " of the insert alone" : "", w.out);
    if (report->kept > 0) words += fmt::format("; {} were there from an earlier run", report->kept);
    for (const std::string& problem : report->problems) words += "\n" + problem;
    say(console,
        {{"frames", render.frames},
         {"kept", report->kept},
         {"missing", render.missing},
         {"problems", report->problems},
         {"out", w.out}},
        words);
    return 0;
}

/// A shot's own inserts, as its card renders them.
int runShot(const Console& console, const InsertWords& w) {
    auto shot = loadShot(w.plate);
    if (!shot) return fail(shot.error());
    // A range of its own is checked by itself.
    Shot asked = *shot;
    if (!w.range.empty()) asked.plate.range = {asked.plate.frames.first, asked.plate.frames.first};
    const auto plate = openPlateOf(console, asked);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    std::vector<std::string> inputs{w.plate, facts.path.string()};
    for (const Clip& clip : shot->clips) inputs.push_back(clip.path.string());
    if (const auto free = checkOutput("--out", w.out, inputs); !free) return fail(free.error());
    if (!w.range.empty()) {
        const auto range = parseRange(w.range, facts);
        if (!range) return fail(range.error());
        *shot = withRange(*shot, *range);
    }
    FrameCache frames(*plate, budget(console));
    ArtShelf shelf;
    return told(console, w, runInserts(*shot, frames, shelf, w.out, w.alone, consoleProgress("Inserting")));
}

int insertCommand(const Console& console, const InsertWords& w) {
    const bool isShot = loweredEnding(w.plate) == ".pinion";
    if (isShot && (!w.corners.empty() || !w.art.empty()))
        return fail({Fault::input, w.plate + ": a shot has its own inserts; leave --corners and --art away"});
    if (isShot) return runShot(console, w);
    if (w.corners.empty() || w.art.empty())
        return fail({Fault::input, fmt::format("insert: {} is missing; only a shot has inserts of its own",
                                               w.corners.empty() ? "--corners" : "--art")});
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free =
            checkOutput("--out", w.out, {w.plate, facts.path.string(), w.corners, w.art, w.heldOut, w.lens});
        !free)
        return fail(free.error());
    const auto range = parseRange(w.range, facts);
    if (!range) return fail(range.error());
    const auto corners = readCorners(w.corners);
    if (!corners) return fail(corners.error());
    std::vector<Matte> heldOut;
    if (!w.heldOut.empty()) {
        auto read = mattesFor(w.heldOut, w.rides, *range, facts);
        if (!read) return fail(read.error());
        heldOut = *std::move(read);
    }
    InsertOptions options;
    options.look.blend = *blendFrom(w.blend);
    options.look.opacity = w.opacity;
    options.softEdge_px = w.softEdge;
    options.shutter = w.shutter;
    options.alone = w.alone;
    if (!w.alpha.empty()) options.alphaKind = w.alpha == "straight" ? AlphaKind::straight : AlphaKind::premultiplied;
    if (!w.lens.empty()) {
        const auto lens = lensFor(w.lens, facts);
        if (!lens) return fail(lens.error());
        options.lens = std::make_shared<const Lens>(*lens);
    }
    FrameCache frames(*plate, budget(console));
    return told(console, w,
                runInsert(frames, *range, *corners, w.art, w.out, options, heldOut, consoleProgress("Inserting")));
}

}  // namespace

Runner addInsert(CLI::App& command) {
    const auto words = std::make_shared<InsertWords>();
    InsertWords& w = *words;
    command.add_option("PLATE", w.plate, "a plate, or a shot whose own inserts are rendered")->required();
    command.add_option("--corners", w.corners, "corners.json: where the art's own corners go");
    command.add_option(
        "--art", w.art,
        "a picture, or a clip (a video, or all numbered pictures: name.####.png) that begins with the first "
        "corners and holds its last");
    command.add_option("--out", w.out, "out.####.exr, .png, .tif, or a video")->required();
    command.add_option("--blend", w.blend, "over, multiply, screen, add or overlay")
        ->check(CLI::IsMember({"over", "multiply", "screen", "add", "overlay"}));
    command.add_option("--opacity", w.opacity, "0 to 1")->check(CLI::Range(0.0, 1.0));
    command.add_option("--soft-edge", w.softEdge, "pixels over which it fades in from its border")
        ->check(CLI::Range(0.0, 1000.0));
    command.add_option("--hold-out", w.heldOut, "mattes.json of what passes in front");
    command.add_option("--lens", w.lens, "lens.json: what lies on the corners is bent as the lens bends it");
    command.add_option("--ride", w.rides, "tracks.json that the mattes ride on");
    command.add_option("--shutter", w.shutter, "frames over which its motion blurs it")->check(CLI::Range(0.0, 2.0));
    command.add_option("--alpha", w.alpha, "the art's colours: premultiplied or straight; else as its format has it")
        ->check(CLI::IsMember({"premultiplied", "straight"}));
    command.add_flag("--alone", w.alone, "the insert by itself, with its alpha");
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    return [words](const Console& console) { return insertCommand(console, *words); };
}

}  // namespace pinion::cli
