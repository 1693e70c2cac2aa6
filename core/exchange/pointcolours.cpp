#include "exchange/pointcolours.h"

#include <algorithm>
#include <cmath>
#include <string>

namespace pinion {
namespace {

constexpr PointColour kUnknownColour{128, 128, 128};

PointColour colourAt(const Picture& picture, const Eigen::Vector2d& at) {
    std::array<double, 3> sum{};
    for (int dy = -1; dy <= 1; ++dy)
        for (int dx = -1; dx <= 1; ++dx) {
            const int x = std::clamp(int(std::floor(at.x())) + dx, 0, picture.width - 1);
            const int y = std::clamp(int(std::floor(at.y())) + dy, 0, picture.height - 1);
            const std::size_t index = (std::size_t(y) * std::size_t(picture.width) + std::size_t(x)) * 3;
            for (std::size_t c = 0; c < 3; ++c) {
                if (picture.depth == Picture::Depth::bits8) {
                    sum[c] += picture.bytes[index + c];
                    continue;
                }
                const float value = std::max(0.0F, picture.floats[index + c]);
                sum[c] += 255.0 * std::min(1.0F, picture.linear ? encodeSrgb(value) : value);
            }
        }
    PointColour colour{};
    for (std::size_t c = 0; c < 3; ++c) colour[c] = std::uint8_t(std::lround(sum[c] / 9));
    return colour;
}

}  // namespace

std::unordered_map<TrackId, PointColour> trackColours(const List<Track>& tracks, const FrameRange& range,
                                                      FrameCache& frames, int most, const Progress& progress) {
    std::unordered_map<TrackId, PointColour> colours;
    const int count = std::min(most, range.count());
    for (int i = 0; i < count && colours.size() < tracks.size() && !progress.stopped(); ++i) {
        progress.report(double(i) / count, "Colours of the points");
        const int frame = count > 1 ? range.first + (range.count() - 1) * i / (count - 1) : range.first;
        const auto picture = frames.get(frame);
        if (!picture) continue;
        for (const Track& track : tracks)
            if (const Sample* sample = colours.contains(track.id) ? nullptr : sampleAt(track, frame))
                colours[track.id] = colourAt(**picture, sample->wanted());
    }
    return colours;
}

std::vector<PointColour> pointColours(const CameraFile& file, const Shot& shot, FrameCache& frames,
                                      const Progress& progress) {
    const auto known = trackColours(shot.tracks, shot.plate.range, frames, 48, progress);
    std::unordered_map<std::string, PointColour> named;
    for (const Track& track : shot.tracks)
        if (const auto found = known.find(track.id); found != known.end()) named.emplace(track.name, found->second);
    std::vector<PointColour> colours;
    for (const CameraFile::Point& point : file.points) {
        const auto found = named.find(point.name);
        colours.push_back(found == named.end() ? kUnknownColour : found->second);
    }
    return colours;
}

}  // namespace pinion
