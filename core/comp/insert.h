#pragma once

#include "comp/art.h"

#include <array>
#include <optional>
#include <string_view>

namespace pinion {

// What is done to a layer of art so that it belongs into the plate, and how it is mixed with it.

/// How the art's colours are mixed with the plate's, where its alpha is; of values from 0 to 1 (the compositing
/// operators of the W3C's Compositing and Blending Level 1).
enum class Blend { over, multiply, screen, add, overlay };
std::string_view toString(Blend blend);
std::optional<Blend> blendFrom(std::string_view word);

/// In the plate's tones, in this order: saturation about luma (ITU-R BT.709), gamma (above 1 lifts), gain, lift.
struct Grade {
    std::array<double, 3> gain{1, 1, 1};
    std::array<double, 3> lift{0, 0, 0};
    double gamma = 1;
    double saturation = 1;

    bool operator==(const Grade&) const = default;
};

/// The plate's light from beyond the edge, screened over what lies within about `width_px` of it.
struct LightWrap {
    double amount = 0;  ///< 0 to 1
    double width_px = 12;

    bool operator==(const LightWrap&) const = default;
};

struct InsertLook {
    Blend blend = Blend::over;
    double opacity = 1;  ///< 0 to 1
    Grade grade{};
    double blur_px = 0;  ///< standard deviation, pixels of the plate
    LightWrap wrap{};

    bool operator==(const InsertLook&) const = default;
};

void gradeLayer(Layer& layer, const Grade& grade);
/// By a Gaussian; the box grows by what flows out of it, within `margin` pixels of a frame of `width` x `height`.
void blurLayer(Layer& layer, double deviation_px, int width, int height, int margin = 0);
/// How far a blur reaches, whole pixels.
int reachOf(double deviation_px);
/// Cuts off what lies outside the frame.
void cropLayer(Layer& layer, int width, int height);
/// Takes out what `front` (of the frame's size, 0 to 1) covers; with `inside`, what it does not.
void maskLayer(Layer& layer, const Plane& front, bool inside = false);
void fadeLayer(Layer& layer, double opacity);
/// Wraps the light of the plate round the layer's edges, those of what was taken out of it too.
void wrapLight(Layer& layer, const Picture& plate, const LightWrap& wrap);

/// Mixes the layer into the picture; a pixel that it does not touch stays as it is, to the last bit.
void lay(Picture& picture, const Layer& layer, Blend blend);

/// The layer mixed with the plate as the look's opacity and blend say; `heldOut` comes back on top.
Picture withInsert(const Picture& plate, Layer layer, const InsertLook& look, const Plane* heldOut = nullptr);

/// Layers by themselves, one over the other: their colours, premultiplied, on black, and their alpha.
struct InsertAlone {
    Picture picture;
    Plane alpha;

    InsertAlone(int width, int height, bool linear);
    void add(const Layer& layer);
};

}  // namespace pinion
