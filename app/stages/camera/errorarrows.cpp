#include "stages/camera/errorarrows.h"

#include "canvas/marks.h"
#include "canvas/plateview.h"

#include <QPainter>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr double kFrameTimes = 20, kGatheredTimes = 200;
constexpr int kFewest = 3;  // tracks in a part before they say anything

/// From a place of the plate along a vector of it; what fits recedes.
void drawArrow(QPainter& painter, const PlateView& view, const Eigen::Vector2d& from, const Eigen::Vector2d& along,
               const QColor& colour) {
    const auto a = view.screenFromPlate(from), b = view.screenFromPlate(from + along);
    if (!a || !b) return;
    const QPointF way = *b - *a;
    const double length = std::hypot(way.x(), way.y());
    if (length < 1.5) return;
    const QPointF unit = way / length, side(-unit.y(), unit.x());
    const double head = std::min(4.0, 0.5 * length);
    overShadow(painter, colour, 1.3, [&] {
        painter.drawLine(*a, *b);
        painter.drawLine(*b, *b - head * unit + 0.6 * head * side);
        painter.drawLine(*b, *b - head * unit - 0.6 * head * side);
    });
}

QColor shadeOf(double error_px, double usual_px) {
    return error_px > 4 * usual_px ? theme::kCoral : error_px > 2 * usual_px ? theme::kSand : theme::kSlate;
}

}  // namespace

void ErrorArrows::paint(QPainter& painter, const PlateView& view) {
    const SolveLook* look = looker_.look();
    const Shot& shot = session_.shot();
    if (!look || !shot.solve || looker_.arrows() == SolveLooker::Arrows::none) return;
    painter.setRenderHint(QPainter::Antialiasing);
    const double usual = std::max(0.02, shot.solve->noise_px * std::sqrt(2.0));
    if (looker_.arrows() == SolveLooker::Arrows::frame) {
        const int frame = session_.player.frame();
        for (const TrackErrors& track : look->errors) {
            const auto at = std::lower_bound(track.of.begin(), track.of.end(), frame,
                                             [](const TrackErrors::Error& one, int f) { return one.frame < f; });
            if (at == track.of.end() || at->frame != frame) continue;
            drawArrow(painter, view, at->at, kFrameTimes * at->error, shadeOf(at->error.norm(), usual));
        }
    } else {
        for (const SolveLook::Part& part : look->parts)
            if (part.tracks >= kFewest)
                drawArrow(painter, view, part.middle, kGatheredTimes * part.usual,
                          shadeOf(part.usual.norm(), 0.15 * usual));
    }
    const bool isFrame = looker_.arrows() == SolveLooker::Arrows::frame;
    drawLabel(painter, QPointF(12, painter.viewport().height() - 34),
              isFrame ? "errors on this frame, 20 times" : "usual errors of the whole shot, 200 times", theme::kDim);
}

}  // namespace pinion
