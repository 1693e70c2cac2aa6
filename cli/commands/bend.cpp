// The lens taken out of a plate, and put back into what was made on it.

#include "commands/command.h"
#include "exchange/formats.h"
#include "exchange/shotfiles.h"
#include "jobs/lensing.h"
#include "lens/maps.h"
#include "lens/stmap.h"
#include "outputs.h"
#include "plates.h"
#include "words.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct BendWords {
    std::string plate, lens, map, camera, maps, out, size, overscan = "auto", filter = "bicubic", range,
                                                           edges = "empty";
    int samples = 1, quality = 16;
    bool rolling = false;
};

/// The lens of a solved camera, and the rows that it was read by where they are to be straightened.
Expected<Glass> glassOfCamera(const BendWords& w) {
    const auto file = readCamera(w.camera);
    if (!file) return tl::unexpected(file.error());
    const auto solve = std::make_shared<const Solve>(solveOf(*file));
    if (w.rolling) {
        if (!solve->readout.isRolling())
            return failure(Fault::input,
                           "{}: this camera's sensor is read at once; solve with --rolling to find its readout, or "
                           "leave --rolling out here",
                           w.camera);
        return RowGlass{solve};
    }
    if (!solve->zoom) return solve->lens;
    return LensOverTime{solve->lens.width, solve->lens.height, [solve](int frame) { return lensOn(*solve, frame); }};
}

/// The lens, the map or the camera that was named.
Expected<Glass> glassOf(const BendWords& w) {
    if (int(w.lens.empty()) + int(w.map.empty()) + int(w.camera.empty()) != 2)
        return failure(Fault::input, "give one of --lens, --map and --camera");
    if (w.rolling && w.camera.empty())
        return failure(Fault::input, "--rolling needs --camera: it tells the rows' poses");
    if (!w.maps.empty() && !w.rolling)
        return failure(Fault::input, "--maps needs --rolling: without, `stmap` writes the one");
    if (!w.camera.empty()) return glassOfCamera(w);
    if (!w.lens.empty()) {
        auto lens = readLens(w.lens);
        if (!lens) return tl::unexpected(lens.error());
        return *lens;
    }
    auto map = readStMap(w.map);
    if (!map) return tl::unexpected(map.error());
    if (map->isHalf)
        fmt::print(stderr,
                   "note: {}: is of half floats, which place a pixel to about {:.1f} px only; 32-bit floats are "
                   "needed for a clean round trip\n",
                   w.map, map->width / 2048.0);
    return std::move(*map);
}

Expected<Overscan> overscanOf(const std::string& word) {
    if (word == "auto") return Overscan{};
    if (word == "none") return Overscan{Overscan::Kind::none};
    int pixels = 0;
    char rest = 0;
    if (std::sscanf(word.c_str(), "%d%c", &pixels, &rest) != 1 || pixels < 0 || pixels > 32768)
        return failure(Fault::input, "--overscan {}: write auto, none or pixels", word);
    return Overscan{Overscan::Kind::pixels, pixels};
}

BendChoices choicesOf(const BendWords& w) {
    return {.filter = *bendFilterFrom(w.filter),
            .edges = *edgeModeFrom(w.edges),
            .samples = w.samples,
            .quality = w.quality};
}

int tell(const Console& console, const BendWords& w, const Expected<BentFrames>& bent) {
    if (!bent) return fail(bent.error());
    if (bent->report.stopped) return fail({Fault::stopped, ""});
    const PixelBox& box = bent->box;
    say(console,
        {{"frames", bent->report.frames},
         {"missing", bent->report.missing},
         {"width", bent->width},
         {"height", bent->height},
         {"data_window", {box.x0, box.y0, box.x1, box.y1}},
         {"out", w.out}},
        fmt::format("{} frames: {}; overscan left {}, top {}, right {}, bottom {} px", bent->report.frames, w.out,
                    -box.x0, -box.y0, box.x1 - bent->width, box.y1 - bent->height));
    return 0;
}

/// Everything that is checked before the work begins.
struct Start {
    std::shared_ptr<const Plate> plate;
    FrameRange range;
    Glass glass;
};
Expected<Start> startOf(const Console& console, const BendWords& w, const PlateOptions& options) {
    const auto plate = openPlate(console, w.plate, options);
    if (!plate) return tl::unexpected(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.lens, w.map, w.camera}); !free)
        return tl::unexpected(free.error());
    const auto range = parseRange(w.range, facts);
    if (!range) return tl::unexpected(range.error());
    auto glass = glassOf(w);
    if (!glass) return tl::unexpected(glass.error());
    const auto fits = facts.window
                          ? checkSize(*glass, facts.window->width, facts.window->height, "the pictures' frame is")
                          : checkSize(*glass, facts.width, facts.height, "the plate is");
    if (!fits) return failure(Fault::input, "{}{}{}: {}", w.lens, w.map, w.camera, fits.error().message);
    if (const auto* map = std::get_if<StMap>(&*glass))
        if (const auto sound = checkStMap(*map, options.overscan); !sound)
            return failure(Fault::input, "{}: {}", w.map, sound.error().message);
    return Start{*plate, *range, std::move(*glass)};
}

int undistort(const Console& console, const BendWords& w) {
    const auto overscan = overscanOf(w.overscan);
    if (!overscan) return fail(overscan.error());
    const auto start = startOf(console, w, plateOptions(console));
    if (!start) return fail(start.error());
    BendChoices choices = choicesOf(w);
    choices.overscan = *overscan;
    FrameCache frames(start->plate, budget(console));
    if (const auto* rows = std::get_if<RowGlass>(&start->glass); rows && !w.maps.empty()) {
        const auto box = undistortedBox(start->glass, start->range, *overscan);
        if (!box) return fail(box.error());
        const PixelBox whole{0, 0, rows->lens().width, rows->lens().height};
        const auto written = writeMaps(
            w.maps, start->range.first, start->range.last,
            [&](int frame) {
                return mapOf(undistortingRows(*rows, frame, *box), whole, whole.width(), whole.height());
            },
            consoleProgress("Maps"));
        if (!written) return fail(written.error());
    }
    return tell(console, w,
                undistortPlate(frames, start->range, start->glass, w.out, choices, consoleProgress("Undistorting")));
}

int redistort(const Console& console, const BendWords& w) {
    PlateOptions options = plateOptions(console);
    options.overscan = true;
    const auto start = startOf(console, w, options);
    if (!start) return fail(start.error());
    if (!w.size.empty()) {
        const auto size = sizeFrom("--size", w.size);
        if (!size) return fail(size.error());
        // The glass fits the pictures' frame, so it has its size.
        const auto [width, height] = sizeOf(start->glass);
        if (*size != std::pair{width, height})
            return fail({Fault::input,
                         fmt::format("--size {}: the pictures' frame is {}x{}; without its overscan's place a picture "
                                     "cannot be put back",
                                     w.size, width, height)});
    }
    FrameCache frames(start->plate, budget(console));
    return tell(
        console, w,
        redistortPictures(frames, start->range, start->glass, w.out, choicesOf(w), consoleProgress("Redistorting")));
}

void addBendOptions(CLI::App& command, BendWords& w) {
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--lens", w.lens, "lens.json");
    command.add_option("--map", w.map, "an ST map in place of a lens");
    command.add_option("--camera", w.camera, "camera.json in place of a lens: a zoom is followed frame by frame");
    command.add_flag("--rolling", w.rolling,
                     "with --camera: each row as the middle one would have seen it, for what lies as far as most");
    command.add_option("--out", w.out, "out.####.exr, .png, .tif, or a video")->required();
    command.add_option("--filter", w.filter, "bilinear, bicubic, lanczos, or area for strong bends")
        ->check(CLI::IsMember({"bilinear", "bicubic", "lanczos", "area"}));
    command.add_option("--samples", w.samples, "across and down, of each pixel")->check(CLI::Range(1, 8));
    command.add_option("--edges", w.edges, "beyond the picture: empty, held or mirrored")
        ->check(CLI::IsMember({"empty", "held", "mirrored"}));
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    command.add_option("--quality", w.quality, "of a video: 0 lossless to 30 coarse")->check(CLI::Range(0, 51));
}

}  // namespace

Runner addUndistort(CLI::App& command) {
    const auto words = std::make_shared<BendWords>();
    addBendOptions(command, *words);
    command.add_option("--maps", words->maps, "maps.####.exr: with --rolling, also an ST map a frame");
    command.add_option("--overscan", words->overscan, "auto: what the lens needs; none; or pixels on every side");
    return [words](const Console& console) { return undistort(console, *words); };
}

Runner addRedistort(CLI::App& command) {
    const auto words = std::make_shared<BendWords>();
    addBendOptions(command, *words);
    command.add_option("--size", words->size, "WxH of the frame; it is checked against the pictures' own");
    return [words](const Console& console) { return redistort(console, *words); };
}

}  // namespace pinion::cli
