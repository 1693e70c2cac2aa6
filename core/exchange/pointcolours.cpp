#include "exchange/pointcolours.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <unordered_map>

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

std::vector<PointColour> pointColours(const CameraFile& file, const Shot& shot, FrameCache& frames,
                                      const Progress& progress) {
    std::unordered_map<std::string, const Track*> named;
    for (const Track& track : shot.tracks) named.emplace(track.name, &track);
    struct Wanted {
        std::size_t point;
        Eigen::Vector2d at;
    };
    std::map<int, std::vector<Wanted>> byFrame;
    for (std::size_t i = 0; i < file.points.size(); ++i) {
        const auto found = named.find(file.points[i].name);
        if (found == named.end() || found->second->samples.isEmpty()) continue;
        const auto& samples = found->second->samples;
        const Sample& middle = samples[samples.size() / 2];
        byFrame[middle.frame].push_back({i, middle.wanted()});
    }
    std::vector<PointColour> colours(file.points.size(), kUnknownColour);
    std::size_t done = 0;
    for (const auto& [frame, wanted] : byFrame) {
        if (progress.stopped()) break;
        progress.report(double(done++) / double(byFrame.size()), "Colours of the points");
        const auto picture = frames.get(frame);
        if (!picture) continue;
        for (const Wanted& one : wanted) colours[one.point] = colourAt(**picture, one.at);
    }
    return colours;
}

}  // namespace pinion
