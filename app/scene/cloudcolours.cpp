#include "scene/cloudcolours.h"

#include "camera/result.h"

namespace pinion {
namespace {

constexpr int kFrames = 9;  // looked at, from end to end

}  // namespace

CloudColours::CloudColours(Session& session, std::function<void()> changed)
    : session_(session), colours_(session.jobs, std::move(changed)) {}

QColor CloudColours::of(TrackId track) const {
    if (!colours_.value()) return {150, 150, 150};
    const auto found = colours_.value()->find(track);
    return found == colours_.value()->end() ? QColor(150, 150, 150)
                                            : QColor(found->second[0], found->second[1], found->second[2]);
}

void CloudColours::want() {
    const Shot& shot = session_.shot();
    if (!shot.solve || !session_.hasPlate()) return;
    colours_.want({shot.solve, session_.player.frames()},
                  [tracks = shot.tracks, range = shot.plate.range,
                   frames = session_.player.sharedFrames()](const Progress& progress) {
                      return Expected<Colours>(trackColours(tracks, range, *frames, kFrames, progress));
                  });
}

}  // namespace pinion
