#include "exchange/scenefile.h"

#include "render/meshfile.h"
#include "world/scenejson.h"

namespace pinion {

using namespace jsonfile;

std::string sceneJson(const SceneLook& look) {
    json document = sceneValue(look);
    document["format"] = "pinion.scene";
    document["version"] = 1;
    return dumped(document, 1) + "\n";
}

Expected<SceneLook> readScene(const std::filesystem::path& path) {
    return parseFile(path, [&path](const json& document) {
        expectFormat(document, "pinion.scene", 1);
        SceneLook look = takeScene(document, "");
        // As the mesh is beside it; of its own size where none is said.
        std::size_t place = 0;
        std::vector<StandIn> all = look.standIns.vector();
        for (StandIn& one : all) {
            const json& entry = document["objects"][place++];
            if (one.kind != StandInKind::mesh) continue;
            if (one.file.is_relative()) one.file = path.parent_path() / one.file;
            if (entry.contains("size")) continue;
            const auto mesh = readMesh(one.file);
            if (!mesh) malformed(fmt::format("objects[{}].file: {}", place - 1, mesh.error().message));
            one.stance.size = mesh->extents;
        }
        look.standIns = List<StandIn>(std::move(all));
        std::size_t i = 0;
        for (const StandIn& one : look.standIns) {
            const std::string at = fmt::format("objects[{}]", i++);
            if (!(one.stance.size.minCoeff() > 0)) malformed(at + ".size: has to be above 0 each way");
            std::size_t k = 0;
            for (const StanceKey& key : one.keys) {
                if (!(key.stance.size.minCoeff() > 0))
                    malformed(fmt::format("{}.keys[{}].size: has to be above 0 each way", at, k));
                ++k;
            }
        }
        return look;
    });
}

}  // namespace pinion
