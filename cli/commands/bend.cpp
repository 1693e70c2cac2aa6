// The lens taken out of a plate, and put back into what was made on it.

#include "comp/render.h"
#include "commands/command.h"
#include "exchange/formats.h"
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

struct Words {
    std::string plate, lens, map, out, size, overscan = "auto", filter = "bicubic", range, edges = "empty";
    int samples = 1, quality = 16;
};

struct Frame {
    int width = 0, height = 0;
};

/// The lens or the map that was named, for a frame of that size.
struct Glass {
    std::optional<Lens> lens;
    std::optional<StMap> map;
};
Expected<Glass> glassOf(const Words& w, const Frame& frame, const char* what) {
    Glass glass;
    if (w.lens.empty() == w.map.empty()) return failure(Fault::input, "give either --lens or --map");
    if (!w.lens.empty()) {
        auto lens = readLens(w.lens);
        if (!lens) return tl::unexpected(lens.error());
        if (lens->width != frame.width || lens->height != frame.height)
            return failure(Fault::input, "{}: is a lens for {}x{}, {} {}x{}", w.lens, lens->width, lens->height, what,
                           frame.width, frame.height);
        glass.lens = *lens;
        return glass;
    }
    auto map = readStMap(w.map);
    if (!map) return tl::unexpected(map.error());
    if (map->width != frame.width || map->height != frame.height)
        return failure(Fault::input, "{}: is a map for {}x{}, {} {}x{}", w.map, map->width, map->height, what,
                       frame.width, frame.height);
    if (map->isHalf)
        fmt::print(stderr,
                   "note: {}: is of half floats, which place a pixel to about {:.1f} px only; 32-bit floats are "
                   "needed for a clean round trip\n",
                   w.map, map->width / 2048.0);
    glass.map = std::move(*map);
    return glass;
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

int render(const Console& console, const Words& w, const Plate& plate, FrameCache& frames, LookUp table,
           const Frame& frame, const char* doing) {
    const auto range = parseRange(w.range, plate.facts());
    if (!range) return fail(range.error());
    const auto shared = std::make_shared<const LookUp>(std::move(table));
    const BentOptions options{.width = frame.width,
                              .height = frame.height,
                              .filter = *bendFilterFrom(w.filter),
                              .edges = *edgeModeFrom(w.edges),
                              .quality = w.quality};
    const auto report = renderBent(
        frames, *range, [&](int) { return shared; }, w.out, options, consoleProgress(doing));
    if (!report) return fail(report.error());
    if (report->stopped) return fail({Fault::stopped, ""});
    const PixelBox& box = shared->out;
    say(console,
        {{"frames", report->frames},
         {"missing", report->missing},
         {"width", frame.width},
         {"height", frame.height},
         {"data_window", {box.x0, box.y0, box.x1, box.y1}},
         {"out", w.out}},
        fmt::format("{} frames: {}; overscan left {}, top {}, right {}, bottom {} px", report->frames, w.out, -box.x0,
                    -box.y0, box.x1 - frame.width, box.y1 - frame.height));
    return 0;
}

int undistort(const Console& console, const Words& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.lens, w.map}); !free)
        return fail(free.error());
    const Frame frame{facts.width, facts.height};
    const auto glass = glassOf(w, frame, "the plate is");
    if (!glass) return fail(glass.error());
    FrameCache frames(*plate, budget(console));
    if (glass->map)
        return render(console, w, **plate, frames,
                      lookUpOf(*glass->map, {0, 0, frame.width, frame.height}, frame.width, frame.height), frame,
                      "Undistorting");
    const auto overscan = overscanOf(w.overscan);
    if (!overscan) return fail(overscan.error());
    const auto box = undistortedBox(*glass->lens, *overscan);
    if (!box) return fail({box.error().fault, w.lens + ": " + box.error().message});
    return render(console, w, **plate, frames, undistorting(*glass->lens, *box, w.samples), frame, "Undistorting");
}

int redistort(const Console& console, const Words& w) {
    PlateOptions options = plateOptions(console);
    options.overscan = true;
    const auto plate = openPlate(console, w.plate, options);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.lens, w.map}); !free)
        return fail(free.error());
    Frame frame{facts.width, facts.height};
    PixelBox source{0, 0, facts.width, facts.height};
    if (facts.window) {
        frame = {facts.window->width, facts.window->height};
        source = {facts.window->x0, facts.window->y0, facts.window->x0 + facts.width, facts.window->y0 + facts.height};
    }
    if (!w.size.empty()) {
        const auto size = sizeFrom("--size", w.size);
        if (!size) return fail(size.error());
        if (size->first != frame.width || size->second != frame.height)
            return fail(
                {Fault::input, fmt::format("--size {}: the pictures' frame is {}x{}; without its overscan's place "
                                           "a picture cannot be put back",
                                           w.size, frame.width, frame.height)});
    }
    const auto glass = glassOf(w, frame, "the pictures' frame is");
    if (!glass) return fail(glass.error());
    FrameCache frames(*plate, budget(console));
    return render(console, w, **plate, frames,
                  glass->map ? lookUpOf(*glass->map, source, frame.width, frame.height)
                             : redistorting(*glass->lens, source, w.samples),
                  frame, "Redistorting");
}

void addBendOptions(CLI::App& command, Words& w) {
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--lens", w.lens, "lens.json");
    command.add_option("--map", w.map, "an ST map in place of a lens");
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
    const auto words = std::make_shared<Words>();
    addBendOptions(command, *words);
    command.add_option("--overscan", words->overscan, "auto: what the lens needs; none; or pixels on every side");
    return [words](const Console& console) { return undistort(console, *words); };
}

Runner addRedistort(CLI::App& command) {
    const auto words = std::make_shared<Words>();
    addBendOptions(command, *words);
    command.add_option("--size", words->size, "WxH of the frame; it is checked against the pictures' own");
    return [words](const Console& console) { return redistort(console, *words); };
}

}  // namespace pinion::cli
