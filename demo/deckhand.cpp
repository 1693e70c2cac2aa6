#include "deckhand.h"

#include "base/framerate.h"
#include "plate/videowriter.h"

#include <algorithm>
#include <cairo.h>
#include <cmath>
#include <cstdint>
#include <memory>
#include <numbers>
#include <random>
#include <vector>

namespace ternholm {
namespace {

constexpr int kWidth = 560, kHeight = 800, kFrames = 72;
constexpr double kPi = std::numbers::pi;

struct Place {
    double x, y;
    Place operator+(const Place& other) const { return {x + other.x, y + other.y}; }
};
Place away(double length, double degrees) {  // 0 hangs down, 90 to the right
    return {length * std::sin(degrees * kPi / 180), length * std::cos(degrees * kPi / 180)};
}

struct Tone {
    double r, g, b;
    Tone times(double share) const { return {r * share, g * share, b * share}; }
};
constexpr Tone kOilskin{0.88, 0.62, 0.12}, kTrousers{0.17, 0.2, 0.27}, kBoots{0.1, 0.1, 0.11}, kSkin{0.8, 0.58, 0.46},
    kCap{0.14, 0.17, 0.25}, kFlag{0.78, 0.14, 0.12}, kStick{0.55, 0.42, 0.28};

class Figure {
public:
    explicit Figure(cairo_t* to) : to_(to) {
        cairo_set_line_cap(to_, CAIRO_LINE_CAP_ROUND);
        cairo_set_line_join(to_, CAIRO_LINE_JOIN_ROUND);
    }
    /// A limb with its light side to the left, as thick at its ends as it is told.
    void limb(Place from, Place to, double thick, double thin, const Tone& tone) {
        const double dx = to.x - from.x, dy = to.y - from.y, length = std::max(1.0, std::hypot(dx, dy));
        const double nx = -dy / length, ny = dx / length;
        cairo_pattern_t* round = cairo_pattern_create_linear(from.x - nx * thick, from.y - ny * thick,
                                                             from.x + nx * thick, from.y + ny * thick);
        const bool lightFirst = nx > 0;
        stop(round, 0, tone.times(lightFirst ? 0.95 : 0.42));
        stop(round, 0.5, tone);
        stop(round, 1, tone.times(lightFirst ? 0.42 : 0.95));
        cairo_set_source(to_, round);
        cairo_arc(to_, from.x, from.y, thick, 0, 2 * kPi);
        cairo_fill(to_);
        cairo_arc(to_, to.x, to.y, thin, 0, 2 * kPi);
        cairo_fill(to_);
        cairo_move_to(to_, from.x - nx * thick, from.y - ny * thick);
        cairo_line_to(to_, to.x - nx * thin, to.y - ny * thin);
        cairo_line_to(to_, to.x + nx * thin, to.y + ny * thin);
        cairo_line_to(to_, from.x + nx * thick, from.y + ny * thick);
        cairo_close_path(to_);
        cairo_fill(to_);
        cairo_pattern_destroy(round);
    }
    void ellipse(Place at, double wide, double high, const Tone& tone) {
        cairo_save(to_);
        cairo_translate(to_, at.x, at.y);
        cairo_scale(to_, wide, high);
        cairo_pattern_t* round = cairo_pattern_create_radial(-0.4, -0.4, 0, 0, 0, 1.05);
        stop(round, 0, tone.times(1.12));
        stop(round, 0.55, tone);
        stop(round, 1, tone.times(0.5));
        cairo_set_source(to_, round);
        cairo_arc(to_, 0, 0, 1, 0, 2 * kPi);
        cairo_fill(to_);
        cairo_pattern_destroy(round);
        cairo_restore(to_);
    }
    void outline(const std::vector<Place>& places, const Tone& light, const Tone& dark, double left, double right) {
        cairo_pattern_t* across = cairo_pattern_create_linear(left, 0, right, 0);
        stop(across, 0, light);
        stop(across, 1, dark);
        cairo_set_source(to_, across);
        for (const Place& place : places) cairo_line_to(to_, place.x, place.y);
        cairo_close_path(to_);
        cairo_fill(to_);
        cairo_pattern_destroy(across);
    }

private:
    static void stop(cairo_pattern_t* pattern, double at, const Tone& tone) {
        cairo_pattern_add_color_stop_rgb(pattern, at, std::min(1.0, tone.r), std::min(1.0, tone.g),
                                         std::min(1.0, tone.b));
    }
    cairo_t* to_;
};

/// `phase` 0 to 1 is the whole loop: two waves of the flag, one sway of the body.
void deckhandOn(cairo_t* c, double phase) {
    const double turn = 2 * kPi * phase;
    const double sway = 5 * std::sin(turn), wave = std::sin(2 * turn);
    const double foot = kHeight - 6;
    // Drawn 1.4 times as large, about the feet.
    cairo_translate(c, kWidth / 2.0, foot);
    cairo_scale(c, 0.72, 0.72);
    cairo_translate(c, -236, -foot);
    Figure figure(c);
    const Place hips{236 + sway, foot - 372};
    const Place chest{236 + 1.5 * sway, foot - 600};
    // The far arm hangs, its hand on the hip; then legs, body, head, and the arm with the flag before all.
    const Place elbow = chest + Place{-62, 26} + away(104, -28);
    figure.limb(chest + Place{-58, 22}, elbow, 30, 25, kOilskin.times(0.85));
    figure.limb(elbow, hips + Place{-50, -6}, 24, 18, kOilskin.times(0.85));
    for (const double side : {1.0, -1.0}) {
        const Place hip = hips + Place{side * 28, 0}, ankle{236 + side * 48, foot - 40};
        const Place knee{0.5 * (hip.x + ankle.x) + side * 4, 0.5 * (hip.y + ankle.y)};
        figure.limb(hip, knee, 42, 33, kTrousers);
        figure.limb(knee, ankle, 33, 26, kTrousers);
        figure.limb({ankle.x, foot - 120}, {ankle.x, foot - 24}, 31, 28, kBoots);
        figure.limb({ankle.x, foot - 20}, {ankle.x + side * 26, foot - 16}, 20, 16, kBoots);
    }
    figure.outline({hips + Place{-76, 62}, hips + Place{-64, -40}, chest + Place{-84, 8}, chest + Place{-52, -34},
                    chest + Place{52, -34}, chest + Place{84, 8}, hips + Place{64, -40}, hips + Place{78, 60}},
                   kOilskin.times(1.08), kOilskin.times(0.55), chest.x - 90, chest.x + 90);
    figure.outline({chest + Place{-4, -30}, chest + Place{5, -30}, hips + Place{4, 60}, hips + Place{-3, 60}},
                   kOilskin.times(0.6), kOilskin.times(0.45), chest.x - 5, chest.x + 5);
    const Place head = chest + Place{4 + 0.6 * sway, -94};
    figure.limb(chest + Place{0, -34}, head + Place{0, 30}, 24, 24, kSkin.times(0.8));
    figure.ellipse(head, 41, 52, kSkin);
    figure.ellipse(head + Place{-12, 8}, 5, 9, kSkin.times(0.8));
    figure.ellipse(head + Place{0, -34}, 45, 28, kCap);
    figure.limb(head + Place{-38, -22}, head + Place{-8, -20}, 8, 8, kCap.times(0.8));
    // The flag goes over the head and down beside it, its cloth behind.
    const double upper = 140 + 16 * wave, lower = 165 + 22 * wave;
    const Place shoulder = chest + Place{66, 8};
    const Place joint = shoulder + away(112, upper);
    const Place hand = joint + away(100, lower);
    const double stick = 178 + 24 * wave;
    const Place tip = hand + away(190, stick);
    std::vector<Place> cloth;
    for (int edge = 0; edge < 2; ++edge)
        for (int i = 0; i <= 12; ++i) {
            const double along = (edge == 0 ? i : 12 - i) / 12.0;
            const double lag = 9 * along * std::sin(2 * turn - 4.2 * along - 0.8);
            const Place root = tip + away(edge == 0 ? -4 : -92, stick);
            cloth.push_back(root + Place{-108 * along, 16 * along + lag});
        }
    figure.outline(cloth, kFlag.times(0.72), kFlag.times(1.05), tip.x - 108, tip.x);
    figure.limb(hand + away(-26, stick), tip, 5, 4, kStick);
    figure.limb(shoulder, joint, 33, 26, kOilskin);
    figure.limb(joint, hand, 26, 20, kOilskin);
    figure.ellipse(hand, 20, 20, kSkin);
}

}  // namespace

bool filmDeckhand(const std::filesystem::path& out) {
    auto writer = pinion::VideoWriter::create(out, kWidth, kHeight, {24, 1}, {.quality = 21, .small = true});
    if (!writer) return false;
    std::mt19937 dice(7);
    std::normal_distribution<double> grain(0, 1.6);
    for (int frame = 0; frame < kFrames; ++frame) {
        const std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface(
            cairo_image_surface_create(CAIRO_FORMAT_RGB24, kWidth, kHeight), &cairo_surface_destroy);
        const std::unique_ptr<cairo_t, decltype(&cairo_destroy)> context(cairo_create(surface.get()), &cairo_destroy);
        // The cloth: lit from above on the left.
        cairo_pattern_t* light = cairo_pattern_create_radial(150, 200, 60, 240, 450, 620);
        cairo_pattern_add_color_stop_rgb(light, 0, 0.16, 0.68, 0.24);
        cairo_pattern_add_color_stop_rgb(light, 1, 0.12, 0.54, 0.18);
        cairo_set_source(context.get(), light);
        cairo_paint(context.get());
        cairo_pattern_destroy(light);
        deckhandOn(context.get(), double(frame) / kFrames);
        cairo_surface_flush(surface.get());
        const unsigned char* drawn = cairo_image_surface_get_data(surface.get());
        const int stride = cairo_image_surface_get_stride(surface.get());
        std::vector<std::uint8_t> rgb(std::size_t(kWidth) * kHeight * 3);
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x)
                for (int channel = 0; channel < 3; ++channel) {
                    const double tone = drawn[y * stride + x * 4 + 2 - channel] + grain(dice);
                    rgb[(std::size_t(y) * kWidth + std::size_t(x)) * 3 + std::size_t(channel)] =
                        std::uint8_t(std::clamp(tone + 0.5, 0.0, 255.0));
                }
        if (!(*writer)->write(rgb)) return false;
    }
    return bool((*writer)->finish());
}

}  // namespace ternholm
