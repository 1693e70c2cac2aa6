#include "exchange/deliverables/rows.h"
#include "exchange/objects.h"
#include "exchange/shotfiles.h"

namespace pinion {
namespace {

Expected<std::string> objectsText(const Shot& shot, const Deliverable&) {
    const auto file = objectFileOf(shot);
    if (!file) return tl::unexpected(file.error());
    return objectsJson(*file);
}

Expected<void> checkObjects(const Shot& shot, const Deliverable&, const std::filesystem::path& path) {
    const auto written = objectFileOf(shot);
    if (!written) return tl::unexpected(written.error());
    const auto read = readObjects(path);
    if (!read) return tl::unexpected(read.error());
    bool same = read->objects.size() == written->objects.size();
    for (std::size_t i = 0; same && i < written->objects.size(); ++i) {
        const ObjectFile::Object &a = read->objects[i], &b = written->objects[i];
        same = a.name == b.name && a.points.size() == b.points.size() && a.frames.size() == b.frames.size();
        for (std::size_t k = 0; same && k < b.frames.size(); ++k)
            same = a.frames[k].frame == b.frames[k].frame &&
                   a.frames[k].worldFromObject.isApprox(b.frames[k].worldFromObject, 1e-9);
    }
    return checkSame(same, path, "the objects differ from the shot's");
}

void addObjectsKey(Fingerprint& print, const Shot& shot, const Deliverable&) {
    addWorld(print, shot);
    addObjects(print, shot);
    addTrackNames(print, shot.tracks);
}

}  // namespace

DeliverableRow objectsRow() {
    return {.kind = DeliverableKind::objects,
            .what = "objects are",
            .about = "the motion of solved objects, with their points",
            .formats = {DeliverableFormat::json},
            .usual = {},
            .text = objectsText,
            .check = checkObjects,
            .addKey = addObjectsKey};
}

}  // namespace pinion
