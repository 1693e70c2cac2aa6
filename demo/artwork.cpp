#include "artwork.h"

#include <cairo.h>

#include <array>
#include <cmath>
#include <fmt/format.h>
#include <memory>
#include <numbers>
#include <string>

namespace ternholm {
namespace {

constexpr int kWidth = 1280, kHeight = 880;

struct Sailing {
    const char *quay, *island, *point, *back, *days;
};
constexpr std::array<Sailing, 8> kSailings{{{"05:50", "06:25", "06:40", "07:20", "Mon-Fri"},
                                            {"07:35", "08:10", "08:25", "09:05", "daily"},
                                            {"09:20", "09:55", "10:10", "10:50", "daily"},
                                            {"11:30", "12:05", "12:20", "13:00", "daily"},
                                            {"13:45", "14:20", "14:35", "15:15", "Sat, Sun"},
                                            {"15:40", "16:15", "16:30", "17:10", "daily"},
                                            {"17:25", "18:00", "18:15", "18:55", "daily"},
                                            {"20:10", "20:45", "21:00", "21:40", "Fri-Sun"}}};

class Sheet {
public:
    explicit Sheet(cairo_t* to) : to_(to) {}
    void colour(double r, double g, double b) { cairo_set_source_rgb(to_, r, g, b); }
    void box(double x, double y, double width, double height) {
        cairo_rectangle(to_, x, y, width, height);
        cairo_fill(to_);
    }
    void words(double x, double y, double size, const std::string& text, bool bold = false) {
        cairo_select_font_face(to_, "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                               bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
        cairo_set_font_size(to_, size);
        cairo_move_to(to_, x, y);
        cairo_show_text(to_, text.c_str());
    }
    /// The ferry, seen from its side.
    void boat(double x, double y, double scale) {
        cairo_save(to_);
        cairo_translate(to_, x, y);
        cairo_scale(to_, scale, scale);
        cairo_move_to(to_, 0, 40);
        cairo_line_to(to_, 130, 40);
        cairo_line_to(to_, 112, 68);
        cairo_line_to(to_, 16, 68);
        cairo_close_path(to_);
        cairo_fill(to_);
        box(28, 20, 70, 16);
        box(40, 4, 34, 14);
        box(82, 2, 10, 16);
        cairo_restore(to_);
    }

private:
    cairo_t* to_;
};

}  // namespace

bool drawTimetable(const std::filesystem::path& out) {
    const std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface(
        cairo_image_surface_create(CAIRO_FORMAT_RGB24, kWidth, kHeight), &cairo_surface_destroy);
    const std::unique_ptr<cairo_t, decltype(&cairo_destroy)> context(cairo_create(surface.get()), &cairo_destroy);
    Sheet sheet(context.get());
    sheet.colour(0.93, 0.91, 0.85);
    sheet.box(0, 0, kWidth, kHeight);
    sheet.colour(0.09, 0.24, 0.36);
    sheet.box(0, 0, kWidth, 170);
    sheet.colour(0.96, 0.94, 0.88);
    sheet.words(60, 92, 68, "Ternholm ferry", true);
    sheet.words(62, 142, 34, "Quay  -  Holm  -  North Point");
    sheet.boat(1010, 44, 1.6);
    sheet.colour(0.72, 0.24, 0.14);
    sheet.box(0, 170, kWidth, 14);
    constexpr std::array kColumns{60.0, 300.0, 520.0, 760.0, 1000.0};
    constexpr std::array kHeads{"Quay", "Holm", "Point", "Quay", "runs"};
    sheet.colour(0.09, 0.24, 0.36);
    for (std::size_t c = 0; c < kColumns.size(); ++c) sheet.words(kColumns[c], 250, 40, kHeads[c], true);
    for (std::size_t i = 0; i < kSailings.size(); ++i) {
        const double top = 282 + 66 * double(i);
        if (i % 2 == 0) {
            sheet.colour(0.84, 0.83, 0.77);
            sheet.box(40, top, kWidth - 80, 62);
        }
        sheet.colour(0.13, 0.13, 0.13);
        const Sailing& s = kSailings[i];
        const std::array cells{s.quay, s.island, s.point, s.back, s.days};
        for (std::size_t c = 0; c < cells.size(); ++c) sheet.words(kColumns[c], top + 45, 40, cells[c]);
    }
    sheet.colour(0.35, 0.35, 0.33);
    sheet.words(60, 852, 26, "In fog and heavy seas the boat stays in harbour. Bicycles ride free.");
    return cairo_surface_write_to_png(surface.get(), out.string().c_str()) == CAIRO_STATUS_SUCCESS;
}

namespace {

constexpr int kLampWidth = 240, kLampHeight = 320, kLampFrames = 60;

void glow(cairo_t* c, double x, double y, double radius, double strength) {
    cairo_pattern_t* light = cairo_pattern_create_radial(x, y, 0, x, y, radius);
    cairo_pattern_add_color_stop_rgba(light, 0, 1, 0.86, 0.55, 0.75 * strength);
    cairo_pattern_add_color_stop_rgba(light, 0.35, 1, 0.74, 0.35, 0.28 * strength);
    cairo_pattern_add_color_stop_rgba(light, 1, 1, 0.6, 0.2, 0);
    cairo_set_source(c, light);
    cairo_arc(c, x, y, radius, 0, 2 * std::numbers::pi);
    cairo_fill(c);
    cairo_pattern_destroy(light);
}

void lampOn(cairo_t* c, double phase) {
    const double turn = 2 * std::numbers::pi * phase;
    const double burns = 0.86 + 0.08 * std::sin(3 * turn) + 0.05 * std::sin(7 * turn + 1) + 0.03 * std::sin(13 * turn);
    // It hangs from a hook at the top, and swings about that.
    cairo_translate(c, kLampWidth / 2.0, 14);
    cairo_rotate(c, 0.035 * std::sin(turn));
    glow(c, 0, 180, 116, burns);
    Sheet sheet(c);
    sheet.colour(0.13, 0.13, 0.14);
    cairo_set_line_width(c, 5);
    cairo_arc(c, 0, 30, 22, std::numbers::pi, 2 * std::numbers::pi);
    cairo_stroke(c);
    sheet.box(-3, 6, 6, 60);
    cairo_move_to(c, -46, 112);
    cairo_line_to(c, -18, 66);
    cairo_line_to(c, 18, 66);
    cairo_line_to(c, 46, 112);
    cairo_close_path(c);
    cairo_fill(c);
    // The glass, and the flame in it.
    cairo_set_source_rgba(c, 1, 0.87, 0.6, 0.55 + 0.35 * burns);
    cairo_rectangle(c, -38, 112, 76, 116);
    cairo_fill(c);
    glow(c, 2 * std::sin(5 * turn), 178, 46, 1.2 * burns);
    cairo_set_source_rgba(c, 1, 0.97, 0.85, 0.95);
    cairo_save(c);
    cairo_translate(c, 2 * std::sin(5 * turn), 186);
    cairo_scale(c, 9, 20 * burns);
    cairo_arc(c, 0, 0, 1, 0, 2 * std::numbers::pi);
    cairo_restore(c);
    cairo_fill(c);
    sheet.colour(0.13, 0.13, 0.14);
    for (const double x : {-41.0, -2.5, 36.0}) sheet.box(x, 112, x < -10 || x > 10 ? 5 : 4, 116);
    sheet.box(-46, 226, 92, 12);
    sheet.box(-30, 238, 60, 14);
}

}  // namespace

bool drawLamp(const std::filesystem::path& folder) {
    std::error_code code;
    std::filesystem::create_directories(folder, code);
    for (int frame = 0; frame < kLampFrames; ++frame) {
        const std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface(
            cairo_image_surface_create(CAIRO_FORMAT_ARGB32, kLampWidth, kLampHeight), &cairo_surface_destroy);
        const std::unique_ptr<cairo_t, decltype(&cairo_destroy)> context(cairo_create(surface.get()), &cairo_destroy);
        lampOn(context.get(), double(frame) / kLampFrames);
        const auto name = fmt::format("lamp.{:04}.png", frame + 1);
        if (cairo_surface_write_to_png(surface.get(), (folder / name).c_str()) != CAIRO_STATUS_SUCCESS) return false;
    }
    return true;
}

}  // namespace ternholm
