#include "comp/insert.h"

#include "base/parallel.h"

#include <algorithm>
#include <cmath>
#include <opencv2/imgproc.hpp>

namespace pinion {
namespace {

constexpr std::array<std::string_view, 5> kBlends{"over", "multiply", "screen", "add", "overlay"};

/// Of one colour: the art's (not multiplied by its alpha) and what lies under it. Screen and overlay are told of values
/// from 0 to 1; what lies beyond is added to what they give.
float mixed(Blend blend, float art, float under) {
    const float a = std::min(art, 1.0F), u = std::min(under, 1.0F);
    switch (blend) {
        case Blend::multiply:
            return art * under;
        case Blend::screen:
            return a + u - a * u + (art - a) + (under - u);
        case Blend::overlay:
            return (u <= 0.5F ? 2 * a * u : 1 - 2 * (1 - a) * (1 - u)) + (under - u);
        case Blend::over:
        case Blend::add:
            break;
    }
    return art;
}

/// `body(row)` for the rows of a layer.
void eachRow(const Layer& layer, const std::function<void(int y)>& body) {
    if (layer.isEmpty()) return;
    parallelFor(
        std::size_t(layer.box.height()), [&](std::size_t row) { body(layer.box.y0 + int(row)); }, 8);
}

/// Blurred within its box; nothing lies beyond it.
void blurInside(Layer& layer, double deviation) {
    const cv::Mat pixels(layer.box.height(), layer.box.width(), CV_32FC4, layer.rgba.data());
    const int size = 2 * reachOf(deviation) + 1;
    cv::GaussianBlur(pixels, pixels, {size, size}, deviation, deviation, cv::BORDER_CONSTANT | cv::BORDER_ISOLATED);
}

void growBox(Layer& layer, const PixelBox& box) {
    Layer grown;
    grown.box = box;
    grown.rgba.assign(4 * std::size_t(std::max(0, box.width())) * std::size_t(std::max(0, box.height())), 0.0F);
    const int first = std::max(box.x0, layer.box.x0), end = std::min(box.x1, layer.box.x1);
    for (int y = std::max(box.y0, layer.box.y0); y < std::min(box.y1, layer.box.y1); ++y)
        if (first < end) std::copy_n(layer.at(first, y), 4 * std::size_t(end - first), grown.at(first, y));
    layer = std::move(grown);
}

}  // namespace

std::string_view toString(Blend blend) { return kBlends[std::size_t(blend)]; }

std::optional<Blend> blendFrom(std::string_view word) {
    const auto found = std::find(kBlends.begin(), kBlends.end(), word);
    if (found == kBlends.end()) return std::nullopt;
    return Blend(found - kBlends.begin());
}

int reachOf(double deviation_px) { return deviation_px > 0.05 ? std::max(1, int(std::ceil(3.2 * deviation_px))) : 0; }

void gradeLayer(Layer& layer, const Grade& grade) {
    if (grade == Grade{}) return;
    const auto saturation = float(grade.saturation), power = float(1 / std::max(0.01, grade.gamma));
    eachRow(layer, [&](int y) {
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            float* pixel = layer.at(x, y);
            const float alpha = pixel[3];
            if (alpha <= 0) continue;
            const float luma = 0.2126F * pixel[0] + 0.7152F * pixel[1] + 0.0722F * pixel[2];
            for (std::size_t c = 0; c < 3; ++c) {
                float value = (luma + saturation * (pixel[c] - luma)) / alpha;
                if (power != 1) value = value > 0 ? std::pow(value, power) : value;
                pixel[c] = alpha * std::max(0.0F, float(grade.gain[c]) * value + float(grade.lift[c]));
            }
        }
    });
}

void blurLayer(Layer& layer, double deviation_px, int width, int height, int margin) {
    const int reach = reachOf(deviation_px);
    if (reach == 0 || layer.isEmpty()) return;
    growBox(layer, {std::max(-margin, layer.box.x0 - reach), std::max(-margin, layer.box.y0 - reach),
                    std::min(width + margin, layer.box.x1 + reach), std::min(height + margin, layer.box.y1 + reach)});
    blurInside(layer, deviation_px);
}

void cropLayer(Layer& layer, int width, int height) {
    const PixelBox cut{std::max(0, layer.box.x0), std::max(0, layer.box.y0), std::min(width, layer.box.x1),
                       std::min(height, layer.box.y1)};
    if (layer.isEmpty() || cut == layer.box) return;
    if (cut.width() <= 0 || cut.height() <= 0) layer = {};
    else growBox(layer, cut);
}

void maskLayer(Layer& layer, const ImageChannel& front, bool inside) {
    eachRow(layer, [&](int y) {
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            const float covered = front.row(y)[x], left = inside ? covered : 1 - covered;
            for (int c = 0; c < 4; ++c) layer.at(x, y)[c] *= left;
        }
    });
}

void fadeLayer(Layer& layer, double opacity) {
    const auto share = float(std::clamp(opacity, 0.0, 1.0));
    if (share >= 1) return;
    for (float& value : layer.rgba) value *= share;
}

void wrapLight(Layer& layer, const Picture& plate, const LightWrap& wrap) {
    const double deviation = wrap.width_px / 2;
    const int reach = reachOf(deviation);
    if (layer.isEmpty() || !(wrap.amount > 0) || reach == 0) return;
    // The plate where the layer is not, as a layer of its own.
    Layer beyond;
    beyond.box = {std::max(0, layer.box.x0 - reach), std::max(0, layer.box.y0 - reach),
                  std::min(plate.width, layer.box.x1 + reach), std::min(plate.height, layer.box.y1 + reach)};
    beyond.rgba.resize(4 * std::size_t(beyond.box.width()) * std::size_t(beyond.box.height()));
    eachRow(beyond, [&](int y) {
        for (int x = beyond.box.x0; x < beyond.box.x1; ++x) {
            const bool within = x >= layer.box.x0 && x < layer.box.x1 && y >= layer.box.y0 && y < layer.box.y1;
            const float share = within ? 1 - layer.at(x, y)[3] : 1.0F;
            float* out = beyond.at(x, y);
            const std::size_t pixel = std::size_t(y) * std::size_t(plate.width) + std::size_t(x);
            for (std::size_t c = 0; c < 3; ++c) out[c] = share * valueAt(plate, 3 * pixel + c);
        }
    });
    blurInside(beyond, deviation);
    eachRow(layer, [&](int y) {
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            float* pixel = layer.at(x, y);
            const float alpha = pixel[3];
            if (alpha <= 0) continue;
            for (std::size_t c = 0; c < 3; ++c) {
                const float light = float(wrap.amount) * beyond.at(x, y)[c], colour = pixel[c] / alpha;
                pixel[c] = alpha * (plate.linear ? colour + light : mixed(Blend::screen, colour, light));
            }
        }
    });
}

void lay(Picture& picture, const Layer& layer, Blend blend) {
    eachRow(layer, [&](int y) {
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            const float* art = layer.at(x, y);
            const float share = art[3];
            if (share <= 0) continue;
            const std::size_t pixel = std::size_t(y) * std::size_t(picture.width) + std::size_t(x);
            for (std::size_t c = 0; c < 3; ++c) {
                const float under = valueAt(picture, 3 * pixel + c), colour = art[c] / share;
                const float value =
                    blend == Blend::add ? under + art[c] : under + share * (mixed(blend, colour, under) - under);
                if (picture.depth == Picture::Depth::bits8)
                    picture.bytes[3 * pixel + c] = std::uint8_t(std::clamp(255.0F * value + 0.5F, 0.0F, 255.0F));
                else picture.floats[3 * pixel + c] = value;
            }
        }
    });
}

Picture withInsert(const Picture& plate, Layer layer, const InsertLook& look, const ImageChannel* heldOut) {
    Picture result = plate;
    if (heldOut) maskLayer(layer, *heldOut);
    fadeLayer(layer, look.opacity);
    lay(result, layer, look.blend);
    return result;
}

InsertAlone::InsertAlone(int width, int height, bool linear)
    : picture{width, height, Picture::Depth::float32, linear, {}, {}}, alpha(width, height) {
    picture.floats.resize(3 * alpha.values.size());
}

void InsertAlone::add(const Layer& layer) {
    eachRow(layer, [&](int y) {
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            const std::size_t pixel = std::size_t(y) * std::size_t(picture.width) + std::size_t(x);
            const float* art = layer.at(x, y);
            for (std::size_t c = 0; c < 3; ++c)
                picture.floats[3 * pixel + c] = art[c] + (1 - art[3]) * picture.floats[3 * pixel + c];
            alpha.values[pixel] = art[3] + (1 - art[3]) * alpha.values[pixel];
        }
    });
}

}  // namespace pinion
