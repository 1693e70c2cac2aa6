#include "commands/command.h"
#include "base/files.h"
#include "jobs/delivering.h"
#include "jobs/matting.h"
#include "outputs.h"
#include "plates.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct MatteWords {
    std::string plate, mattes, out, tracks, alpha, range;
};

/// The shapes themselves, rides taken in: as JSON, or as SVG a file a keyframe (`name.####.svg`), or one of the range's
/// first frame.
int writeShapes(const Console& console, const MatteWords& w, const std::vector<Matte>& mattes, const FrameRange& range,
                const PlateFacts& facts) {
    Shot shot;
    shot.plate = plateRef(facts);
    shot.plate.range = range;
    shot.mattes = List<Matte>(mattes);
    Deliverable item;
    item.name = "shapes";
    item.kind = DeliverableKind::mattes;
    item.format = loweredEnding(w.out) == ".svg" ? DeliverableFormat::svg : DeliverableFormat::json;
    item.place = std::filesystem::path(w.out).filename().string();
    const auto written = deliver(shot, item, std::filesystem::absolute(w.out).parent_path());
    if (!written) return fail(written.error());
    say(console, {{"files", written->files.size()}, {"shapes", mattes.size()}, {"out", w.out}},
        fmt::format("{} file{} of {} shape{}: {}", written->files.size(), written->files.size() == 1 ? "" : "s",
                    mattes.size(), mattes.size() == 1 ? "" : "s", w.out));
    return 0;
}

int matteCommand(const Console& console, const MatteWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.mattes, w.tracks}); !free)
        return fail(free.error());
    const auto range = parseRange(w.range, facts);
    if (!range) return fail(range.error());
    const auto mattes = mattesFor(w.mattes, w.tracks, *range, facts);
    if (!mattes) return fail(mattes.error());
    const std::string ending = loweredEnding(w.out);
    if (ending == ".svg" || ending == ".json") return writeShapes(console, w, *mattes, *range, facts);
    const MatteAs as = w.alpha.empty()         ? MatteAs::alone
                       : w.alpha == "straight" ? MatteAs::straight
                                               : MatteAs::premultiplied;
    FrameCache frames(*plate, budget(console));
    const auto report = renderMattes(frames, *range, *mattes, w.out, as, consoleProgress("Mattes"));
    if (!report) return fail(report.error());
    if (report->stopped) return fail({Fault::stopped, ""});
    say(console,
        {{"frames", report->frames}, {"shapes", mattes->size()}, {"coverage", report->coverage}, {"out", w.out}},
        fmt::format("{} frames of {} shape{}: {}; {:.1f} % covered", report->frames, mattes->size(),
                    mattes->size() == 1 ? "" : "s", w.out, 100 * report->coverage));
    return 0;
}

}  // namespace

Runner addMatte(CLI::App& command) {
    const auto words = std::make_shared<MatteWords>();
    MatteWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--mattes", w.mattes, "mattes.json")->required();
    command
        .add_option("--out", w.out,
                    "out.####.exr, .png or .tif; the shapes themselves as .json, or .svg (out.####.svg: a file a "
                    "keyframe)")
        ->required();
    command.add_option("--tracks", w.tracks, "tracks.json that shapes ride on");
    command.add_option("--alpha", w.alpha, "the plate with the mattes as its alpha: premultiplied or straight")
        ->check(CLI::IsMember({"premultiplied", "straight"}));
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    return [words](const Console& console) { return matteCommand(console, *words); };
}

}  // namespace pinion::cli
