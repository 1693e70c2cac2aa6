#include "comp/burnin.h"

#include <cairo/cairo.h>

#include <algorithm>
#include <cmath>
#include <memory>

namespace pinion {
namespace {

constexpr double kStrip = 0.036;    // of the picture's height
constexpr double kLetters = 0.62;   // of the strip's
constexpr double kMargin = 0.5;     // of the strip's, before the first letter
constexpr float kDarkened = 0.35F;  // what is left of the picture under the words
constexpr float kInk = 0.9F;

}  // namespace

void burnIn(Picture& picture, const std::array<std::string, 3>& words) {
    const int width = picture.width, height = std::clamp(int(std::lround(kStrip * picture.height)), 14, picture.height);
    const std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface(
        cairo_image_surface_create(CAIRO_FORMAT_A8, width, height), &cairo_surface_destroy);
    const std::unique_ptr<cairo_t, decltype(&cairo_destroy)> context(cairo_create(surface.get()), &cairo_destroy);
    cairo_t* c = context.get();
    cairo_select_font_face(c, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(c, kLetters * height);
    cairo_font_extents_t font;
    cairo_font_extents(c, &font);
    const double line = 0.5 * (height + font.ascent - font.descent);
    for (std::size_t i = 0; i < words.size(); ++i) {
        cairo_text_extents_t size;
        cairo_text_extents(c, words[i].c_str(), &size);
        const double free = width - size.x_advance, margin = kMargin * height;
        cairo_move_to(c, i == 0 ? margin : i == 1 ? 0.5 * free : free - margin, line);
        cairo_show_text(c, words[i].c_str());
    }
    cairo_surface_flush(surface.get());
    const unsigned char* bytes = cairo_image_surface_get_data(surface.get());
    const int stride = cairo_image_surface_get_stride(surface.get());
    const int top = picture.height - height;
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const float ink = float(bytes[std::ptrdiff_t(y) * stride + x]) / 255;
            const std::size_t at = 3 * (std::size_t(top + y) * std::size_t(width) + std::size_t(x));
            for (std::size_t k = at; k < at + 3; ++k) {
                const auto burnt = [&](float own) { return (1 - ink) * kDarkened * own + ink * kInk; };
                if (picture.depth == Picture::Depth::bits8)
                    picture.bytes[k] =
                        std::uint8_t(std::lround(std::clamp(255 * burnt(float(picture.bytes[k]) / 255), 0.0F, 255.0F)));
                else picture.floats[k] = burnt(picture.floats[k]);
            }
        }
}

}  // namespace pinion
