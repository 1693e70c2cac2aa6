#pragma once

#include "comp/insertchoices.h"

#include <array>
#include <optional>

namespace pinion {

/// The colour difference of a pixel: how far its colour goes in the backing's direction beyond what a foreground's
/// may. Colours less than 60 degrees of hue from the backing's have some; of a pure green backing it is green less the
/// larger of red and blue.
class KeyExcess {
public:
    explicit KeyExcess(const std::array<float, 3>& backing);
    float of(const float* colour) const;
    /// Of the backing itself; 0: it is grey, and keys nothing.
    float ofBacking() const { return whole_; }
    /// Lowers the colour by its excess, `share` of it, and keeps its luma.
    void takeSpill(float* colour, float share) const;

private:
    std::array<float, 3> towards_{};  ///< unit chroma of the backing, orthogonal to grey
    float whole_ = 0;
};

/// The mean of the pixels up to `reach` beside one, in the picture's own tones.
std::array<float, 3> meanColour(const Picture& picture, int x, int y, int reach);

/// A key of the flat backing that a picture shows in its upper corners and half way down its sides; none where these
/// differ, or are nearly grey.
std::optional<ColourKey> keyOfBacking(const Picture& picture);

/// The pixel's alpha by the key, and its own colour without the backing behind it (not multiplied by alpha).
float keyed(const ColourKey& key, const KeyExcess& excess, float* colour);

}  // namespace pinion
