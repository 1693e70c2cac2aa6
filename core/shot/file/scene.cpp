#include "shot/file/parts.h"
#include "shot/file/values.h"
#include "world/scenejson.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

void putScenePart(json& document, const Shot& shot, const fs::path& file) {
    if (shot.scene == SceneLook{} && shot.nextStandIn == 1) return;
    json& scene = document["scene"] = sceneValue(shot.scene);
    for (json& one : scene["objects"])
        if (one.contains("file")) one["file"] = writtenPath(one["file"].get<std::string>(), file);
    document["next_stand_in"] = shot.nextStandIn;
}

void takeScenePart(const json& document, Shot& shot, const fs::path& file) {
    if (!document.contains("scene")) return;
    shot.scene = takeScene(document["scene"], "scene");
    shot.scene.standIns = shot.scene.standIns.edited([&](auto& all) {
        for (StandIn& one : all)
            if (!one.file.empty()) one.file = takenPath(one.file, file);
    });
    shot.nextStandIn = std::max<StandInId>(1, StandInId(key(document, "next_stand_in", "file")));
    for (const StandIn& one : shot.scene.standIns) shot.nextStandIn = std::max(shot.nextStandIn, one.id + 1);
}

}  // namespace

ShotFilePart scenePart() { return {putScenePart, takeScenePart}; }

}  // namespace pinion
