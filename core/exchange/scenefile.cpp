#include "exchange/scenefile.h"

#include "comp/artshelf.h"
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

Expected<SceneLook> readScene(const std::filesystem::path& path, int firstFrame) {
    return parseFile(path, [&path, firstFrame](const json& document) {
        expectFormat(document, "pinion.scene", 1);
        SceneLook look = takeScene(document, "", firstFrame);
        // Files lie beside it; what has a size of its own needs none said.
        std::size_t place = 0;
        std::vector<StandIn> all = look.standIns.vector();
        for (StandIn& one : all) {
            const json& entry = document["objects"][place++];
            if (one.carrier != 0)
                malformed(
                    fmt::format("objects[{}].object: a scene by itself has no solved objects; take it out, or "
                                "render the shot",
                                place - 1));
            if (!one.hasFile()) continue;
            if (one.file.is_relative()) one.file = path.parent_path() / one.file;
            const auto refuse = [&](const Error& error) {
                malformed(fmt::format("objects[{}].file: {}", place - 1, error.message));
            };
            if (one.showsPictures()) {
                const auto clip = clipOf(one.file);
                if (!clip) refuse(clip.error());
                else if (!entry.contains("size")) one.stance.size.x() = one.stance.size.y() * ratioOf(*clip);
            } else if (!entry.contains("size")) {
                const auto mesh = readMesh(one.file);
                if (!mesh) refuse(mesh.error());
                else one.stance.size = mesh->extents;
            }
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
