#include "shot/carriers/carriers.h"
#include "shot/layers/layers.h"

namespace pinion {
namespace {

void make(const Shot& shot, InsertScene::One& one, std::vector<std::string>& notes) {
    if (const Clip* clip = findClip(shot, one.insert.clip)) one.clip = *clip;
    one.surface = std::make_shared<const InsertSurface>(surfaceOf(shot, one.insert));
    if (!one.surface->problem().empty())
        notes.push_back(fmt::format("{}: {}", one.insert.name, one.surface->problem()));
    one.source = std::make_shared<const ArtSource>(one.insert, one.clip, one.surface);
}

}  // namespace

InsertSurface surfaceOf(const Shot& shot, const Insert& insert) {
    return {insert, carriersOf(shot), shot.plate.pixelAspect};
}

LayerKind artLayer() {
    return {.word = "art", .make = make, .addKey = [](Fingerprint& print, const Shot& shot, const Insert& insert) {
                if (insert.ride) addRideWithSurface(print, shot, *insert.ride);
            }};
}

}  // namespace pinion
