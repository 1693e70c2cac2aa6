#include "shot/file/parts.h"
#include "shot/file/values.h"
#include "world/scenejson.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

json writingValue(const SceneWriting& writing) {
    json value{{"place", writing.place.string()},
               {"manner", kSceneManners[std::size_t(writing.manner)]},
               {"shutter", writing.shutter}};
    json& passes = value["passes"] = json::array();
    for (const ScenePass pass : writing.passes) passes.push_back(kScenePasses[std::size_t(pass)]);
    return value;
}

/// Words that a later version has are left out.
SceneWriting takeWriting(const json& value) {
    const std::string where = "scene_render";
    SceneWriting writing;
    writing.place = text(value, "place", where);
    writing.shutter = std::clamp(numberOr(value, "shutter", 0, where), 0.0, 1.0);
    const std::string manner = text(value, "manner", where);
    for (std::size_t i = 0; i < kSceneManners.size(); ++i)
        if (manner == kSceneManners[i]) writing.manner = SceneManner(i);
    for (const json& pass : list(value, "passes", where))
        for (std::size_t i = 0; i < kScenePasses.size(); ++i)
            if (pass == kScenePasses[i]) writing.passes.push_back(ScenePass(i));
    return writing;
}

void putScenePart(json& document, const Shot& shot, const fs::path& file) {
    if (shot.sceneWriting != SceneWriting{}) document["scene_render"] = writingValue(shot.sceneWriting);
    if (shot.scene == SceneLook{} && shot.nextStandIn == 1) return;
    json& scene = document["scene"] = sceneValue(shot.scene);
    for (json& one : scene["objects"])
        if (one.contains("file")) one["file"] = writtenPath(one["file"].get<std::string>(), file);
    document["next_stand_in"] = shot.nextStandIn;
}

void takeScenePart(const json& document, Shot& shot, const fs::path& file) {
    if (document.contains("scene_render")) shot.sceneWriting = takeWriting(document["scene_render"]);
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
