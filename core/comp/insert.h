#pragma once

#include "comp/art.h"

namespace pinion {

// What is done to a layer of art so that it belongs into the plate, and how it is mixed with it.

void gradeLayer(Layer& layer, const Grade& grade);
/// By a Gaussian; the box grows by what flows out of it, within `margin` pixels of a frame of `width` x `height`.
void blurLayer(Layer& layer, double deviation_px, int width, int height, int margin = 0);
/// How far a blur reaches, whole pixels.
int reachOf(double deviation_px);
/// Cuts off what lies outside the frame.
void cropLayer(Layer& layer, int width, int height);
/// Takes out what `front` (of the frame's size, 0 to 1) covers; with `inside`, what it does not.
void maskLayer(Layer& layer, const ImageChannel& front, bool inside = false);
void fadeLayer(Layer& layer, double opacity);
/// Wraps the light of the plate round the layer's edges, those of what was taken out of it too.
void wrapLight(Layer& layer, const Picture& plate, const LightWrap& wrap);

/// Mixes the layer into the picture; a pixel that it does not touch stays as it is, to the last bit.
void lay(Picture& picture, const Layer& layer, Blend blend);

/// The layer mixed with the plate as the look's opacity and blend say; `heldOut` comes back on top.
Picture withInsert(const Picture& plate, Layer layer, const InsertLook& look, const ImageChannel* heldOut = nullptr);

/// Layers by themselves, one over the other: their colours, premultiplied, on black, and their alpha.
struct InsertAlone {
    Picture picture;
    ImageChannel alpha;

    InsertAlone(int width, int height, bool linear);
    void add(const Layer& layer);
};

}  // namespace pinion
