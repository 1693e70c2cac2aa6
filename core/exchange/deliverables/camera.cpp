#include "exchange/deliverables/rows.h"
#include "exchange/shotfiles.h"
#include "exchange/usd.h"
#include "shot/stages/worldstage.h"

namespace pinion {
namespace {

namespace fs = std::filesystem;

UsdOptions usdOptionsOf(const Shot& shot, const Deliverable& deliverable) {
    return {.name = shot.name, .zUp = deliverable.upAxis == UpAxis::z, .metres = isInMetres(shot)};
}

Expected<CameraFile> fileOf(const Shot& shot, const Deliverable& deliverable) {
    auto file = cameraFileOf(shot);
    if (!file || !deliverable.overscan) return file;
    if (file->zoom)
        return failure(Fault::outcome,
                       "deliverable {}: a zoom's overscan differs on every frame; hand on the camera for "
                       "the plate as filmed",
                       deliverable.name);
    return withOverscan(*file);
}

Expected<std::string> cameraText(const Shot& shot, const Deliverable& deliverable) {
    const auto camera = fileOf(shot, deliverable);
    if (!camera) return tl::unexpected(camera.error());
    return deliverable.format == DeliverableFormat::usda ? cameraUsd(*camera, usdOptionsOf(shot, deliverable))
                                                         : cameraJson(*camera);
}

Expected<void> checkCamera(const Shot& shot, const Deliverable& deliverable, const fs::path& path) {
    const auto written = fileOf(shot, deliverable);
    if (!written) return tl::unexpected(written.error());
    if (deliverable.format == DeliverableFormat::usda)
        return checkCameraUsd(path, *written, usdOptionsOf(shot, deliverable));
    const auto read = readCamera(path);
    if (!read) return tl::unexpected(read.error());
    bool same = read->frames.size() == written->frames.size() && read->points.size() == written->points.size() &&
                read->fps == written->fps && read->width == written->width && read->height == written->height;
    for (std::size_t i = 0; same && i < written->frames.size(); ++i)
        same = read->frames[i].frame == written->frames[i].frame &&
               read->frames[i].worldFromCamera.isApprox(written->frames[i].worldFromCamera, 1e-9);
    return checkSame(same, path, "the camera differs from the shot's");
}

void addCameraKey(Fingerprint& print, const Shot& shot, const Deliverable&) {
    addPlate(print, shot.plate);
    addText(print, shot.name);
    addWorld(print, shot);
    if (!shot.objects.isEmpty()) addObjects(print.add(118), shot);
    if (!shot.scene.standIns.isEmpty()) addScene(print.add(119), shot);
    // The points carry the names of their tracks.
    addTrackNames(print, shot.tracks);
}

}  // namespace

DeliverableRow cameraRow() {
    return {.kind = DeliverableKind::camera,
            .what = "a camera is",
            .about = "the camera on every frame, and its lens; in USD also cloud, ground, objects and stand-ins",
            .formats = {DeliverableFormat::usda, DeliverableFormat::json},
            .usual = {{"camera for CG", DeliverableFormat::usda, ".usda"},
                      {"camera data", DeliverableFormat::json, ".camera.json"}},
            .text = cameraText,
            .check = checkCamera,
            .addKey = addCameraKey};
}

}  // namespace pinion
