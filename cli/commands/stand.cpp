#include "commands/command.h"
#include "jobs/standing.h"
#include "plate/framewriter.h"
#include "plates.h"
#include "standing.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct StandWords {
    std::string plate, camera, scene, out, range;
    std::vector<std::string> passes;
    double shutter = 0;
    bool alone = false, undistorted = false, review = false;
};

int standCommand(const Console& console, const StandWords& w) {
    const auto standing = standingOf(console, "stand", {w.plate, w.camera, w.scene, w.range, w.out, {}}, true);
    if (!standing) return fail(standing.error());
    if (w.undistorted && !w.alone)
        return fail({Fault::input,
                     "--undistorted: such a scene is written alone: undistort the plate by its lens for "
                     "what lies under it"});
    if (w.review && w.alone)
        return fail({Fault::input, "--review: is of the scene over its plate; leave --alone away"});
    StandOptions options{.manner = w.undistorted ? SceneManner::undistorted
                                   : w.alone     ? SceneManner::alone
                                   : w.review    ? SceneManner::review
                                                 : SceneManner::over,
                         .name = nameWithoutNumber(w.plate),
                         .shutter = w.shutter};
    for (const std::string& word : w.passes) {
        const auto found = std::find(kScenePasses.begin(), kScenePasses.end(), word);
        if (found == kScenePasses.end())
            return fail({Fault::input, "--passes: '" + word + "' is not known; there are " +
                                           fmt::format("{}", fmt::join(kScenePasses, ", "))});
        options.passes.push_back(ScenePass(found - kScenePasses.begin()));
    }
    FrameCache frames(standing->plate, budget(console));
    const auto report = runStand(frames, standing->range, *standing->solve, standing->orientation, standing->look,
                                 w.out, options, consoleProgress("Rendering"));
    if (!report) return fail(report.error());
    if (report->render.stopped) return fail({Fault::stopped, ""});
    std::string words =
        fmt::format("{} frames{}: {}", report->render.frames, w.alone ? " of the scene alone" : "", w.out);
    if (report->kept > 0) words += fmt::format("\n{} frames of an earlier run were kept", report->kept);
    if (!report->unsolved.empty())
        words += fmt::format("\n{} frames have no camera and show nothing", report->unsolved.size());
    for (const std::string& problem : report->problems) words += "\n" + problem;
    say(console,
        {{"frames", report->render.frames},
         {"kept", report->kept},
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
    command.add_flag("--review", w.review, "over the plate, with its name, the frame and its error burnt in");
    command.add_option("--passes", w.passes, "with it, as layers of EXR: shadow, depth, position, normal, mask")
        ->delimiter(',');
    command.add_option("--shutter", w.shutter, "frames over which motion blurs")->check(CLI::Range(0.0, 1.0));
    command.add_flag("--undistorted", w.undistorted,
                     "alone, as a lens without distortion sees it, with its overscan as data window");
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    return [words](const Console& console) { return standCommand(console, *words); };
}

}  // namespace pinion::cli
