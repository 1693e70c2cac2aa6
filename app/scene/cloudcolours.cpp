#include "scene/cloudcolours.h"

#include "camera/result.h"

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kFrames = 9;  // looked at, from end to end

/// The colour as the screen shows it, of the pixel under a place.
QRgb colourAt(const Picture& picture, const Eigen::Vector2d& at) {
    const int x = std::clamp(int(std::floor(at.x())), 0, picture.width - 1);
    const int y = std::clamp(int(std::floor(at.y())), 0, picture.height - 1);
    const std::size_t index = (std::size_t(y) * std::size_t(picture.width) + std::size_t(x)) * 3;
    Picture pixel{1, 1, picture.depth, picture.linear, {}, {}};
    if (picture.depth == Picture::Depth::bits8)
        pixel.bytes.assign(picture.bytes.begin() + std::ptrdiff_t(index),
                           picture.bytes.begin() + std::ptrdiff_t(index + 3));
    else
        pixel.floats.assign(picture.floats.begin() + std::ptrdiff_t(index),
                            picture.floats.begin() + std::ptrdiff_t(index + 3));
    return QRgb(displayPixels(pixel).front());
}

}  // namespace

CloudColours::CloudColours(Session& session, std::function<void()> changed)
    : session_(session), colours_(session.jobs, std::move(changed)) {}

QColor CloudColours::of(TrackId track) const {
    if (!colours_.value()) return {150, 150, 150};
    const auto found = colours_.value()->find(track);
    return found == colours_.value()->end() ? QColor(150, 150, 150) : QColor(found->second);
}

void CloudColours::want() {
    const Shot& shot = session_.shot();
    if (!shot.solve || !session_.hasPlate()) return;
    colours_.want({shot.solve, session_.player.frames()},
                  [tracks = shot.tracks, range = shot.plate.range,
                   frames = session_.player.sharedFrames()](const Progress& progress) {
                      Colours colours;
                      for (int i = 0; i < kFrames && !progress.stopped(); ++i) {
                          const int frame = range.first + (range.count() - 1) * i / (kFrames - 1);
                          const auto picture = frames->get(frame);
                          if (!picture) continue;
                          for (const Track& track : tracks)
                              if (const Sample* sample = colours.contains(track.id) ? nullptr : sampleAt(track, frame))
                                  colours[track.id] = colourAt(**picture, sample->at);
                      }
                      return Expected<Colours>(std::move(colours));
                  });
}

}  // namespace pinion
