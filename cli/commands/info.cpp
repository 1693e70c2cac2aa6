#include "commands/command.h"
#include "plate/plate.h"
#include "base/files.h"
#include "plates.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct InfoWords {
    std::string plate;
};

int infoCommand(const Console& console, const InfoWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& f = (*plate)->facts();
    const Progress progress = consoleProgress("Looking for damaged frames");
    const std::vector<int> damaged = (*plate)->damagedFrames(progress);
    if (progress.stopped()) return fail({Fault::stopped, ""});
    json figures{{"path", f.path.string()},
                 {"kind", f.kind == PlateKind::video ? "video" : "sequence"},
                 {"width", f.width},
                 {"height", f.height},
                 {"fps", toString(f.fps)},
                 {"fps_from_plate", f.fpsFromPlate},
                 {"first_frame", f.firstFrame},
                 {"last_frame", f.lastFrame},
                 {"frames", f.frameCount()},
                 {"pixel_format", f.pixelFormat},
                 {"pixel_aspect", f.pixelAspect},
                 {"linear", f.linear},
                 {"turned", f.turned},
                 {"interlaced", f.interlaced},
                 {"uneven_frames", f.unevenFrames},
                 {"remarks", f.remarks},
                 {"missing_frames", f.missing},
                 {"damaged_frames", damaged}};
    if (!f.times.seconds.isEmpty()) figures["frame_times_s"] = f.times.seconds.vector();
    std::string more;
    if (!f.missing.empty()) more += "\nmissing: " + frameRanges(f.missing);
    if (!damaged.empty()) more += "\ndamaged: " + frameRanges(damaged) + " (tracking passes over them)";
    for (const std::string& remark : f.remarks) more += "\n" + remark;
    say(console, figures,
        fmt::format("{}\n{}x{}, {} frames/s{}, frames {}-{} ({}), {}, pixel aspect {:g}{}", f.path.string(), f.width,
                    f.height, toString(f.fps), f.fpsFromPlate ? "" : " (assumed)", f.firstFrame, f.lastFrame,
                    f.frameCount(), f.pixelFormat, f.pixelAspect, more));
    return 0;
}

}  // namespace

Runner addInfo(CLI::App& command) {
    const auto words = std::make_shared<InfoWords>();
    InfoWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    return [words](const Console& console) { return infoCommand(console, *words); };
}

}  // namespace pinion::cli
