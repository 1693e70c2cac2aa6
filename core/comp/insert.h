#pragma once

#include "lens/stmap.h"
#include "picture/picture.h"
#include "plate/framewriter.h"
#include "planar/surfacepose.h"

#include <optional>
#include <span>
#include <string_view>
#include <vector>

namespace pinion {

// Art that is put into the plate: laid to four corners, mixed with what lies under it.

/// How the art's colours are mixed with the plate's, where its alpha is; of values from 0 to 1 (the compositing
/// operators of the W3C's Compositing and Blending Level 1).
enum class Blend { over, multiply, screen, add, overlay };
std::string_view toString(Blend blend);
std::optional<Blend> blendFrom(std::string_view word);

struct InsertLook {
    Blend blend = Blend::over;
    double opacity = 1;      ///< 0 to 1
    double softEdge_px = 0;  ///< pixels of the plate over which it fades in from its border
};

/// What an insert shows on one frame: premultiplied red, green, blue and alpha, four floats a pixel of `box`, in the
/// plate's own tones (0 to 1 as shown, or linear).
struct Layer {
    PixelBox box;  ///< of the plate's frame
    std::vector<float> rgba;
};

/// Art made ready to be laid, for a plate whose values are linear or not. Safe to read from several threads.
class Art {
public:
    /// `alpha` of the picture's size, or none: opaque. Fails for a picture of no size, or one with a side of more than
    /// 16,384 pixels, with what to do.
    static Expected<Art> create(const Picture& picture, const Plane* alpha, AlphaKind kind, bool forLinear);

    int width() const { return levels_.front().width; }
    int height() const { return levels_.front().height; }

    /// With its own corners on `corners`, in pixels of a plate of `width` x `height`. A pixel is the mean of what it
    /// covers of the art, however strongly that is shrunk. Of several quads the mean: motion blur. Empty where nothing
    /// of it is in the frame, or the corners are no surface.
    Layer laid(std::span<const Quad> corners, int width, int height, double softEdge_px = 0) const;

private:
    struct Level {
        int width = 0, height = 0;
        std::vector<float> rgba;
    };
    void add(const Quad& corners, float share, double softEdge_px, Layer& layer) const;
    std::vector<Level> levels_;  ///< each half of the one before
};

/// The layer mixed with the plate; a pixel that it does not touch stays as it is, to the last bit. `heldOut` (of the
/// plate's size, 0 to 1) comes back on top.
Picture withInsert(const Picture& plate, const Layer& layer, const InsertLook& look, const Plane* heldOut = nullptr);

/// The layer by itself: its colours, premultiplied, on black, and its alpha, of `width` x `height`.
struct InsertAlone {
    Picture picture;
    Plane alpha;
};
InsertAlone insertAlone(const Layer& layer, const InsertLook& look, int width, int height, bool linear,
                        const Plane* heldOut = nullptr);

}  // namespace pinion
