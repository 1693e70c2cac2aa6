#pragma once

#include "base/framerange.h"
#include "base/framerate.h"
#include "picture/picture.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>

namespace pinion {

// Stills and clips beside the plate: what is shown of them when, and what of their pictures is taken out.

using ClipId = std::int64_t;

/// A still or a clip beside the plate.
struct Clip {
    ClipId id = 0;
    std::string name;
    std::filesystem::path path;
    int width = 0, height = 0;
    double pixelAspect = 1;  ///< width of a pixel to its height
    FrameRate fps;
    FrameRange frames;  ///< its own numbers; of a still one frame
    bool still = false;
    bool hasAlpha = false;
    /// Whether its colours are multiplied by its alpha, as the artist said; none: as its format has it.
    std::optional<AlphaKind> alpha;
};

/// Width to height as it is shown.
inline double ratioOf(const Clip& clip) { return clip.pixelAspect * clip.width / std::max(1, clip.height); }

/// A flat backing that is taken out of art: what of a pixel is the backing's colour, by colour difference.
struct ColourKey {
    std::array<float, 3> colour{0.1F, 0.7F, 0.2F};  ///< of the backing, in the art's own tones
    float clears =
        0.1F;  ///< share of the way from the backing to the foreground that is clear all the same: uneven light
    float keeps = 0.02F;  ///< share of the backing's colour that the foreground may have and stays opaque
    float spill = 1;      ///< how much of the backing's light on the foreground is taken down, 0 to 1

    bool operator==(const ColourKey&) const = default;
};

/// Which frame of its clip is shown when.
struct ClipTime {
    enum class After { hold, loop, end };
    int start = 0;               ///< frame of the plate that shows the first one used
    std::optional<int> in, out;  ///< of the clip's own frames the first and the last used; none: its own ends
    After after = After::hold;   ///< the last one used
    bool ownRate = false;        ///< at its own rate; else a frame for a frame

    bool operator==(const ClipTime&) const = default;
};

}  // namespace pinion
