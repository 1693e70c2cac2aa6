#pragma once

#include "comp/insertchoices.h"
#include "lens/stmap.h"
#include "picture/picture.h"

#include <memory>
#include <optional>
#include <span>
#include <vector>

namespace pinion {

// Art that is put into the plate, and how it is laid there.

/// What art shows on one frame: premultiplied red, green, blue and alpha, four floats a pixel of `box`, in the plate's
/// own tones (0 to 1 as shown, or linear).
struct Layer {
    PixelBox box;  ///< of the plate's frame
    std::vector<float> rgba;

    bool isEmpty() const { return rgba.empty(); }
    float* at(int x, int y) { return &rgba[place(x, y)]; }
    const float* at(int x, int y) const { return &rgba[place(x, y)]; }

private:
    std::size_t place(int x, int y) const {
        return 4 * (std::size_t(y - box.y0) * std::size_t(box.width()) + std::size_t(x - box.x0));
    }
};

/// Where a part of the art lies on the plate: all of it, or of art that is bent a field from `left` to `right` and from
/// `top` to `bottom`, shares of its width and height.
struct ArtPiece {
    Quad corners;
    double left = 0, right = 1, top = 0, bottom = 1;
};

/// Art made ready to be laid, for a plate whose values are linear or not. Safe to read from several threads.
class Art {
public:
    static constexpr int kMostSide = 16384;  ///< pixels

    /// `alpha` of the picture's size, or none: opaque. What is of `key`'s colour is taken out. Fails for a picture of
    /// no size, or one with a side of more than 16,384 pixels, with what to do.
    static Expected<Art> create(const Picture& picture, const ImageChannel* alpha, AlphaKind kind, bool forLinear,
                                const std::optional<ColourKey>& key = std::nullopt);

    int width() const { return levels_.front().width; }
    int height() const { return levels_.front().height; }
    std::size_t sizeBytes() const;
    /// Its pixels at every half of its size, the whole first: premultiplied red, green, blue and alpha.
    struct Pixels {
        int width = 0, height = 0;
        std::span<const float> rgba;
    };
    std::size_t levelCount() const { return levels_.size(); }
    Pixels level(std::size_t i) const { return {levels_[i].width, levels_[i].height, levels_[i].rgba}; }

    /// Laid on a plate of `width` x `height` by its pieces, or all of it by its corners. A pixel is the mean of what it
    /// covers of the art, however strongly that is shrunk; of several instants the mean: motion blur. Empty where
    /// nothing of it is in the frame. What lies up to `margin` pixels outside the frame is kept.
    Layer laid(std::span<const std::vector<ArtPiece>> instants, int width, int height, const ArtShape& shape = {},
               int margin = 0) const;
    Layer laid(std::span<const Quad> instants, int width, int height, const ArtShape& shape = {}) const;

private:
    struct Level {
        int width = 0, height = 0;
        std::vector<float> rgba;
    };
    class Laying;
    std::vector<Level> levels_;  ///< each half of the one before
};

/// Numbered chequers with a border, about as wide for their height as told: to see whether something sticks.
Picture testArt(double widthToHeight);
/// One colour, red, green and blue as shown.
Picture plainArt(const std::array<double, 3>& colour, double widthToHeight);
Picture plainPicture(const std::array<double, 3>& colour, int width, int height);
/// Words in one line, opaque where they are: as large as a picture of that shape holds them, in its middle.
ImageChannel textAlpha(const std::string& words, double widthToHeight);

}  // namespace pinion
