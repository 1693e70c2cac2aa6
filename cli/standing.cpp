#include "standing.h"

#include "base/files.h"
#include "exchange/formats.h"
#include "exchange/scenefile.h"
#include "exchange/shotfiles.h"
#include "outputs.h"
#include "plates.h"
#include "shot/edits/plateedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/worldstage.h"

namespace pinion::cli {
namespace {

Expected<Standing> ofShot(const Console& console, const StandingFiles& w) {
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

Expected<Standing> ofFiles(const Console& console, const std::string& command, const StandingFiles& w,
                           bool needsScene) {
    if (w.camera.empty() || (needsScene && w.scene.empty()))
        return failure(Fault::input, "{}: {} is missing; only a shot has its own", command,
                       w.camera.empty() ? "--camera" : "--scene");
    const auto plate = openPlate(console, w.plate);
    if (!plate) return tl::unexpected(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    const auto camera = cameraFor(w.camera, facts);
    if (!camera) return tl::unexpected(camera.error());
    SceneLook look;
    if (!w.scene.empty()) {
        auto read = readScene(w.scene, facts.firstFrame);
        if (!read) return tl::unexpected(read.error());
        look = *std::move(read);
    }
    return Standing{std::make_shared<const Solve>(solveOf(*camera)),
                    {},
                    std::move(look),
                    *plate,
                    {facts.firstFrame, facts.lastFrame}};
}

}  // namespace

Expected<Standing> standingOf(const Console& console, const std::string& command, const StandingFiles& files,
                              bool needsScene) {
    const bool isShot = loweredEnding(files.plate) == ".pinion";
    if (isShot && !files.camera.empty())
        return failure(Fault::input, "{}: a shot has its own camera; leave --camera away", files.plate);
    auto standing = isShot ? ofShot(console, files) : ofFiles(console, command, files, needsScene);
    if (!standing) return standing;
    const PlateFacts& facts = standing->plate->facts();
    std::vector<std::string> inputs = files.others;
    inputs.insert(inputs.end(), {files.plate, facts.path.string(), files.camera, files.scene});
    if (auto free = checkOutput("--out", files.out, inputs); !free) return tl::unexpected(free.error());
    if (files.range.empty()) return standing;
    const auto range = parseRange(files.range, facts);
    if (!range) return tl::unexpected(range.error());
    standing->range = *range;
    return standing;
}

}  // namespace pinion::cli
