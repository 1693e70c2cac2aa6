#include "shot/objects.h"

#include "shot/ingredients.h"

#include <fmt/core.h>

namespace pinion {

std::uint64_t objectKey(const Shot& shot, const ShotObject& object) {
    Fingerprint print;
    addSolve(print, shot);
    for (const TrackId id : object.tracks)
        if (const Track* track = findTrack(shot, id)) addTrack(print, *track);
    if (object.onGround.isEmpty()) return print.value();
    for (const TrackId id : object.onGround) print.add(117).add(double(id));
    addWorld(print, shot);
    return print.value();
}

std::vector<TrackId> tracksOnObjects(const Shot& shot) {
    std::vector<TrackId> all;
    for (const ShotObject& object : shot.objects) all.insert(all.end(), object.tracks.begin(), object.tracks.end());
    return all;
}

std::string lackOfObjects(const Shot& shot) {
    for (const ShotObject& object : shot.objects) {
        if (!object.solve) return fmt::format("{} is not solved yet. Solve it.", object.name);
        if (object.solvedKey != objectKey(shot, object))
            return fmt::format("{} was solved before its tracks or the camera changed. Solve it again.", object.name);
    }
    return {};
}

std::string sizeWords(const ObjectSolve& object) {
    const std::string sure =
        object.scaleDeviation > 0 ? fmt::format(", ± {:.2g} %", 100 * object.scaleDeviation) : std::string();
    switch (object.scale) {
        case ObjectScale::unrest:
            return "size by the camera's unrest" + sure;
        case ObjectScale::ground:
            return "size by the ground" + sure;
        case ObjectScale::length:
            return "size by a length";
        default:
            return "its size is open: say where it touches the ground";
    }
}

}  // namespace pinion
