#include "plate/cuts.h"

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kColumns = 48, kRows = 27;
constexpr int kProbes = 4;             // across and down, of a cell
constexpr double kLeastChange = 0.04;  // of the tones, that a cut makes at least
constexpr double kTimesUsual = 4;      // the change around it
constexpr int kAround = 6;             // frames to each side

float toneAt(const Picture& picture, int x, int y) {
    const std::size_t index = (std::size_t(y) * std::size_t(picture.width) + std::size_t(x)) * 3;
    float sum = 0;
    for (std::size_t c = 0; c < 3; ++c)
        sum += picture.depth == Picture::Depth::bits8 ? float(picture.bytes[index + c]) / 255.0F
                                                      : std::sqrt(std::clamp(picture.floats[index + c], 0.0F, 1.0F));
    return sum / 3;
}

}  // namespace

Likeness::Likeness(const Picture& picture) : tones_(std::size_t(kColumns) * kRows) {
    const auto place = [](int cell, int probe, int cells, int size) {
        return std::min(size - 1, int((cell + (probe + 0.5) / kProbes) * size / cells));
    };
    for (int row = 0; row < kRows; ++row)
        for (int column = 0; column < kColumns; ++column) {
            float sum = 0;
            for (int v = 0; v < kProbes; ++v)
                for (int u = 0; u < kProbes; ++u)
                    sum += toneAt(picture, place(column, u, kColumns, picture.width),
                                  place(row, v, kRows, picture.height));
            tones_[std::size_t(row) * kColumns + std::size_t(column)] = sum / (kProbes * kProbes);
        }
}

double Likeness::apart(const Likeness& other) const {
    double sum = 0;
    for (std::size_t i = 0; i < tones_.size(); ++i) sum += std::abs(double(tones_[i]) - other.tones_[i]);
    return sum / double(tones_.size());
}

std::vector<int> cutsAmong(const std::vector<std::optional<Likeness>>& likenesses, int first) {
    const int count = int(likenesses.size());
    const auto apart = [&](int a, int b) -> std::optional<double> {
        if (a < 0 || b >= count || !likenesses[std::size_t(a)] || !likenesses[std::size_t(b)]) return std::nullopt;
        return likenesses[std::size_t(a)]->apart(*likenesses[std::size_t(b)]);
    };
    std::vector<std::optional<double>> changes;
    for (int i = 1; i < count; ++i) changes.push_back(apart(i - 1, i));
    std::vector<int> cuts;
    for (int i = 1; i < count; ++i) {
        const auto change = changes[std::size_t(i - 1)];
        if (!change || *change < kLeastChange) continue;
        std::vector<double> around;
        for (int k = std::max(1, i - kAround); k <= std::min(count - 1, i + kAround); ++k)
            if (k != i && changes[std::size_t(k - 1)]) around.push_back(*changes[std::size_t(k - 1)]);
        if (around.size() < 2) continue;
        std::nth_element(around.begin(), around.begin() + std::ptrdiff_t(around.size() / 2), around.end());
        if (*change < kTimesUsual * around[around.size() / 2]) continue;
        // What comes back to where it was is a flash: before it and after it look alike.
        const auto ofFlash = [&](int before, int after) {
            const auto over = apart(before, after);
            return over && *over < 0.5 * *change;
        };
        if (ofFlash(i - 1, i + 1) || ofFlash(i - 2, i) || ofFlash(i - 1, i + 2) || ofFlash(i - 3, i)) continue;
        cuts.push_back(first + i);
    }
    return cuts;
}

std::vector<int> findCuts(FrameCache& frames, int first, int last, const Progress& progress) {
    std::vector<std::optional<Likeness>> likenesses;
    for (int frame = first; frame <= last && !progress.stopped(); ++frame) {
        // Past the memory: what is worked on stays there.
        PicturePtr picture = frames.peek(frame);
        if (!picture)
            if (const auto read = frames.plate().read(frame)) picture = *read;
        likenesses.push_back(picture ? std::optional(Likeness(*picture)) : std::nullopt);
        progress.report(double(frame - first + 1) / (last - first + 1));
    }
    return cutsAmong(likenesses, first);
}

}  // namespace pinion
