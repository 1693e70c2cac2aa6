#include "commands/command.h"
#include "jobs/inserting.h"
#include "outputs.h"
#include "plates.h"

#include <CLI/CLI.hpp>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct Words {
    std::string plate, corners, art, out, blend = "over", heldOut, rides, alpha, range;
    double opacity = 1, softEdge = 0, shutter = 0;
    bool alone = false;
};

int run(const Console& console, const Words& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.corners, w.art, w.heldOut});
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
    FrameCache frames(*plate, budget(console));
    const auto report =
        runInsert(frames, *range, *corners, w.art, w.out, options, heldOut, consoleProgress("Inserting"));
    if (!report) return fail(report.error());
    const RenderReport& render = report->render;
    if (render.stopped) return fail({Fault::stopped, ""});
    std::string words = fmt::format("{} frames{}: {}", render.frames, w.alone ? " of the insert alone" : "", w.out);
    for (const std::string& problem : report->problems) words += "\n" + problem;
    say(console,
        {{"frames", render.frames}, {"missing", render.missing}, {"problems", report->problems}, {"out", w.out}},
        words);
    return 0;
}

}  // namespace

Runner addInsert(CLI::App& command) {
    const auto words = std::make_shared<Words>();
    Words& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--corners", w.corners, "corners.json: where the art's own corners go")->required();
    command.add_option("--art", w.art, "a picture, or a clip that begins with the first corners and holds its last")
        ->required();
    command.add_option("--out", w.out, "out.####.exr, .png, .tif, or a video")->required();
    command.add_option("--blend", w.blend, "over, multiply, screen, add or overlay")
        ->check(CLI::IsMember({"over", "multiply", "screen", "add", "overlay"}));
    command.add_option("--opacity", w.opacity, "0 to 1")->check(CLI::Range(0.0, 1.0));
    command.add_option("--soft-edge", w.softEdge, "pixels over which it fades in from its border")
        ->check(CLI::Range(0.0, 1000.0));
    command.add_option("--hold-out", w.heldOut, "mattes.json of what passes in front");
    command.add_option("--ride", w.rides, "tracks.json that the mattes ride on");
    command.add_option("--shutter", w.shutter, "frames over which its motion blurs it")->check(CLI::Range(0.0, 2.0));
    command.add_option("--alpha", w.alpha, "the art's colours: premultiplied or straight; else as its format has it")
        ->check(CLI::IsMember({"premultiplied", "straight"}));
    command.add_flag("--alone", w.alone, "the insert by itself, with its alpha");
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    return [words](const Console& console) { return run(console, *words); };
}

}  // namespace pinion::cli
