#include "exchange/standins3d.h"

#include "comp/artshelf.h"
#include "render/cardfile.h"
#include "render/meshfile.h"

#include <cairo/cairo.h>

#include <algorithm>
#include <cmath>
#include <cstring>

namespace pinion {
namespace {

constexpr int kSides = 48;  // of what is round

cairo_status_t append(void* to, const unsigned char* bytes, unsigned count) {
    static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(bytes), count);
    return CAIRO_STATUS_SUCCESS;
}

/// `shown`: of a pixel, as shown and premultiplied.
template <class Shown>
Expected<std::string> pngFrom(int width, int height, const Shown& shown) {
    const std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface(
        cairo_image_surface_create(CAIRO_FORMAT_ARGB32, width, height), &cairo_surface_destroy);
    unsigned char* bytes = cairo_image_surface_get_data(surface.get());
    if (!bytes) return failure(Fault::system, "a picture of {}x{} cannot be written as PNG", width, height);
    const int stride = cairo_image_surface_get_stride(surface.get());
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const Eigen::Array4f from = shown(x, y);
            const auto byte = [](float value) {
                return std::uint32_t(std::lround(255 * std::clamp(value, 0.0F, 1.0F)));
            };
            const std::uint32_t alpha = byte(from[3]);
            // Premultiplied, which a colour cannot exceed; one word, whatever its bytes' order.
            std::uint32_t word = alpha << 24U;
            for (unsigned c = 0; c < 3; ++c) word |= std::min(byte(from[c]), alpha) << (16U - 8U * c);
            std::memcpy(bytes + std::ptrdiff_t(y) * stride + 4 * x, &word, 4);
        }
    cairo_surface_mark_dirty(surface.get());
    std::string png;
    if (cairo_surface_write_to_png_stream(surface.get(), append, &png) != CAIRO_STATUS_SUCCESS)
        return failure(Fault::system, "a picture of {}x{} cannot be written as PNG", width, height);
    return png;
}

}  // namespace

std::shared_ptr<const Mesh> handedOnShape(const StandIn& standIn, std::size_t most) {
    auto shape = shapeOf(standIn, kSides);
    return shape && shape->triangles.size() <= most ? shape : nullptr;
}

std::vector<std::pair<int, Stance>> handedOnStances(const CameraFile& file, const StandIn& standIn) {
    std::vector<std::pair<int, Stance>> stances;
    if (standIn.keys.isEmpty() && !standIn.card.facesCamera) return {{0, standIn.stance}};
    for (const CameraFile::Frame& frame : file.frames)
        stances.emplace_back(frame.frame,
                             standIn.at(frame.frame, Eigen::Vector3d(frame.worldFromCamera.translation())));
    if (stances.empty()) stances.emplace_back(0, standIn.stance);
    return stances;
}

std::shared_ptr<const Art> handedOnPicture(const StandIn& standIn) {
    const Eigen::Vector3d& size = standIn.stance.size;
    const double ratio = size.y() > 0 ? size.x() / size.y() : 1;
    ArtShelf shelf;
    if (standIn.showsPictures()) {
        const auto card = cardClipOf(standIn.file);
        if (!card) return nullptr;
        const int first = standIn.card.time.in.value_or(card->clip.frames.first);
        const auto art = shelf.art(card->clip, first, false, standIn.card.key);
        return art ? *art : nullptr;
    }
    if (standIn.kind == StandInKind::board) return shelf.test(ratio, false);
    if (standIn.kind != StandInKind::text) return nullptr;
    const ImageChannel alpha = textAlpha(standIn.words, ratio);
    auto art = Art::create(plainPicture(standIn.colour, alpha.width, alpha.height), &alpha, AlphaKind::straight, false);
    return art ? std::make_shared<const Art>(*std::move(art)) : nullptr;
}

Expected<std::string> pngOf(const Art& art, int most) {
    std::size_t i = 0;
    while (i + 1 < art.levelCount() && std::max(art.level(i).width, art.level(i).height) > most) ++i;
    const Art::Pixels pixels = art.level(i);
    return pngFrom(pixels.width, pixels.height, [&](int x, int y) {
        return Eigen::Map<const Eigen::Array4f>(
                   &pixels.rgba[4 * (std::size_t(y) * std::size_t(pixels.width) + std::size_t(x))])
            .eval();
    });
}

Expected<std::string> pngOf(const SurfacePicture& picture, int most) {
    std::size_t i = 0;
    while (i + 1 < picture.levelCount() && std::max(picture.width(i), picture.height(i)) > most) ++i;
    return pngFrom(picture.width(i), picture.height(i), [&](int x, int y) {
        Eigen::Array4f texel = picture.texel(x, y, i);
        for (int c = 0; c < 3 && texel[3] > 0; ++c) texel[c] = encodeSrgb(texel[c] / texel[3]) * texel[3];
        return texel;
    });
}

}  // namespace pinion
