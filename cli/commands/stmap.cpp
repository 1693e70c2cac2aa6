#include "commands/command.h"
#include "base/files.h"
#include "exchange/formats.h"
#include "lens/stmap.h"
#include "words.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct StmapWords {
    std::string lens, size, folder;
};

int stmapCommand(const Console& console, const StmapWords& w) {
    auto lens = readLens(w.lens);
    if (!lens) return fail(lens.error());
    if (!w.size.empty()) {
        const auto size = sizeFrom("--size", w.size);
        if (!size) return fail(size.error());
        const auto [width, height] = *size;
        // Another w.size of the same picture: all pixels scale, the distortion stays.
        const double ratio = double(width) / lens->width;
        if (std::abs(ratio * lens->height - height) > 1.0)
            return fail({Fault::input, fmt::format("--size {}: has another shape than the lens's {}x{}", w.size,
                                                   lens->width, lens->height)});
        *lens = atSize(*lens, width, height);
        if (const auto sound = checkLens(*lens); !sound)
            return fail({Fault::input, fmt::format("--size {}: {}", w.size, sound.error().message)});
    }
    if (const auto made = makeFolder(w.folder); !made) return fail(made.error());
    const Progress progress = consoleProgress("ST maps");  // so that Ctrl-C ends it between the two
    const StMap undistort = undistortMap(*lens);
    const StMap redistort = redistortMap(*lens);
    for (const auto& [map, name] :
         {std::pair<const StMap*, const char*>{&undistort, "undistort.exr"}, {&redistort, "redistort.exr"}}) {
        if (progress.stopped()) return fail({Fault::stopped, ""});
        if (const auto written = writeStMap(*map, fs::path(w.folder) / name); !written) return fail(written.error());
    }
    const PixelBox& box = undistort.data;
    say(console,
        {{"width", lens->width},
         {"height", lens->height},
         {"data_window", {box.x0, box.y0, box.x1, box.y1}},
         {"out_dir", w.folder}},
        fmt::format("undistort.exr, redistort.exr in {}; overscan left {}, top {}, right {}, bottom {} px", w.folder,
                    -box.x0, -box.y0, box.x1 - lens->width, box.y1 - lens->height));
    return 0;
}

}  // namespace

Runner addStmap(CLI::App& command) {
    const auto words = std::make_shared<StmapWords>();
    StmapWords& w = *words;
    command.add_option("--lens", w.lens, "lens.json")->required();
    command.add_option("--size", w.size, "WxH; the lens's own by default");
    command.add_option("--out-dir", w.folder)->required();
    return [words](const Console& console) { return stmapCommand(console, *words); };
}

}  // namespace pinion::cli
