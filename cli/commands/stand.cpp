#include "commands/command.h"
#include "exchange/formats.h"
#include "exchange/scenefile.h"
#include "exchange/shotfiles.h"
#include "jobs/standing.h"
#include "outputs.h"
#include "plates.h"
#include "shot/edits/plateedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/worldstage.h"

#include <CLI/CLI.hpp>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct StandWords {
    std::string plate, camera, scene, out, range;
    std::vector<std::string> passes;
    double shutter = 0;
    bool alone = false, undistorted = false;
};

/// What a scene is rendered with, of files or of a shot.
struct Standing {
    std::shared_ptr<const Solve> solve;
    Orientation orientation;
    SceneLook look;
    std::shared_ptr<const Plate> plate;
    FrameRange range;
};

Expected<Standing> ofShot(const Console& console, const StandWords& w) {
    auto shot = loadShot(w.plate);
    if (!shot) return tl::unexpected(shot.error());
    if (!shot->solve) return failure(Fault::input, "{}: has no camera yet; solve it first", w.plate);
    const auto plate = openPlateOf(console, *shot);
    if (!plate) return tl::unexpected(plate.error());
    Standing standing{shot->solve, orientationOf(*shot), sceneInWorld(*shot), *plate, shot->plate.range};
    if (!w.scene.empty()) {
        auto look = readScene(w.scene, (*plate)->facts().firstFrame);
        if (!look) return tl::unexpected(look.error());
        standing.look = *std::move(look);
    }
    return standing;
}

Expected<Standing> ofFiles(const Console& console, const StandWords& w) {
    if (w.camera.empty() || w.scene.empty())
        return failure(Fault::input, "stand: {} is missing; only a shot has its own",
                       w.camera.empty() ? "--camera" : "--scene");
    const auto plate = openPlate(console, w.plate);
    if (!plate) return tl::unexpected(plate.error());
    const auto camera = readCamera(w.camera);
    if (!camera) return tl::unexpected(camera.error());
    const PlateFacts& facts = (*plate)->facts();
    if (camera->width != facts.width || camera->height != facts.height)
        return failure(Fault::input, "{}: the camera is for {}x{}, the plate is {}x{}", w.camera, camera->width,
                       camera->height, facts.width, facts.height);
    auto look = readScene(w.scene, facts.firstFrame);
    if (!look) return tl::unexpected(look.error());
    return Standing{std::make_shared<const Solve>(solveOf(*camera)),
                    {},
                    *std::move(look),
                    *plate,
                    {facts.firstFrame, facts.lastFrame}};
}

int standCommand(const Console& console, const StandWords& w) {
    const bool isShot = loweredEnding(w.plate) == ".pinion";
    if (isShot && !w.camera.empty())
        return fail({Fault::input, w.plate + ": a shot has its own camera; leave --camera away"});
    const auto standing = isShot ? ofShot(console, w) : ofFiles(console, w);
    if (!standing) return fail(standing.error());
    const PlateFacts& facts = standing->plate->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.camera, w.scene}); !free)
        return fail(free.error());
    FrameRange range = standing->range;
    if (!w.range.empty()) {
        const auto parsed = parseRange(w.range, facts);
        if (!parsed) return fail(parsed.error());
        range = *parsed;
    }
    StandOptions options{.alone = w.alone, .shutter = w.shutter, .undistorted = w.undistorted};
    for (const std::string& word : w.passes) {
        const auto found = std::find(kScenePasses.begin(), kScenePasses.end(), word);
        if (found == kScenePasses.end())
            return fail({Fault::input, "--passes: '" + word + "' is not known; there are " +
                                           fmt::format("{}", fmt::join(kScenePasses, ", "))});
        options.passes.push_back(ScenePass(found - kScenePasses.begin()));
    }
    FrameCache frames(standing->plate, budget(console));
    const auto report = runStand(frames, range, *standing->solve, standing->orientation, standing->look, w.out, options,
                                 consoleProgress("Rendering"));
    if (!report) return fail(report.error());
    if (report->render.stopped) return fail({Fault::stopped, ""});
    std::string words =
        fmt::format("{} frames{}: {}", report->render.frames, w.alone ? " of the scene alone" : "", w.out);
    if (!report->unsolved.empty())
        words += fmt::format("\n{} frames have no camera and show nothing", report->unsolved.size());
    for (const std::string& problem : report->problems) words += "\n" + problem;
    say(console,
        {{"frames", report->render.frames},
         {"missing", report->render.missing},
         {"unsolved", report->unsolved},
         {"problems", report->problems},
         {"out", w.out}},
        words);
    return 0;
}

}  // namespace

Runner addStand(CLI::App& command) {
    const auto words = std::make_shared<StandWords>();
    StandWords& w = *words;
    command.add_option("PLATE", w.plate, "a plate, or a shot whose own scene is rendered")->required();
    command.add_option("--camera", w.camera, "camera.json of a solve");
    command.add_option("--scene", w.scene, "scene.json: what stands in the camera's world, and its light");
    command.add_option("--out", w.out, "out.####.exr, .png, .tif, or a video")->required();
    command.add_flag("--alone", w.alone, "the scene by itself, premultiplied, with its alpha");
    command.add_option("--passes", w.passes, "with it, as layers of EXR: shadow, depth, position, normal, mask")
        ->delimiter(',');
    command.add_option("--shutter", w.shutter, "frames over which motion blurs")->check(CLI::Range(0.0, 1.0));
    command.add_flag("--undistorted", w.undistorted,
                     "alone, as a lens without distortion sees it, with its overscan as data window");
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    return [words](const Console& console) { return standCommand(console, *words); };
}

}  // namespace pinion::cli
