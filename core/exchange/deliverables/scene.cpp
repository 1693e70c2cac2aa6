#include "base/files.h"
#include "exchange/deliverables/rows.h"
#include "exchange/gltf.h"
#include "exchange/shotfiles.h"

namespace pinion {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kCacheBytes = std::size_t(64) << 20;

Expected<std::vector<fs::path>> writeScene(const Shot& shot, const Deliverable& deliverable, const fs::path& path) {
    const auto camera = cameraFileOf(shot);
    if (!camera) return tl::unexpected(camera.error());
    if (deliverable.format == DeliverableFormat::ply && camera->points.empty())
        return failure(Fault::outcome, "deliverable {}: there are no points to hand on", deliverable.name);
    // A plate that is gone leaves the cloud without colours.
    std::vector<PointColour> colours;
    if (const auto plate = Plate::open(shot.plate.path, {.firstFrameOfVideo = shot.plate.frames.first})) {
        FrameCache frames(*plate, kCacheBytes);  // each frame is looked at once
        colours = pointColours(*camera, shot, frames);
    }
    const std::string contents = deliverable.format == DeliverableFormat::ply ? cloudPly(*camera, colours)
                                                                              : cameraGlb(*camera, shot.name, colours);
    if (auto made = makeFolder(path.parent_path()); !made) return tl::unexpected(made.error());
    if (auto done = writeFile(path, contents); !done) return tl::unexpected(done.error());
    const auto read = readFile(path);
    if (!read) return tl::unexpected(read.error());
    if (auto same = checkSame(*read == contents, path, "it differs"); !same) return tl::unexpected(same.error());
    return std::vector<fs::path>{path};
}

void addSceneKey(Fingerprint& print, const Shot& shot, const Deliverable&) {
    addPlate(print, shot.plate);
    addText(print, shot.name);
    addWorld(print, shot);
    addScene(print, shot);
    if (!shot.objects.isEmpty()) addObjects(print, shot);
    addTrackNames(print, shot.tracks);
    // Where the colours of the cloud are looked up.
    addTracks(print, shot.tracks, AsideTracks::leftOut);
}

}  // namespace

DeliverableRow sceneRow() {
    return {.kind = DeliverableKind::scene,
            .what = "a scene is",
            .about = "camera, cloud, ground, objects, stand-ins with materials, and the sun",
            .formats = {DeliverableFormat::glb, DeliverableFormat::ply},
            .usual = {},
            .write = writeScene,
            .addKey = addSceneKey};
}

}  // namespace pinion
