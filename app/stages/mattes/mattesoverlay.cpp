#include "stages/mattes/mattesoverlay.h"

#include "canvas/marks.h"
#include "canvas/plateview.h"

#include <QPainter>

namespace pinion {
namespace {

/// The outline moved outwards, place by place, to show how far it fades.
Polygon movedOut(const Polygon& outline, double by) {
    const std::size_t count = outline.size();
    double turning = 0;
    for (std::size_t i = 0, j = count - 1; i < count; j = i++)
        turning += outline[j].x() * outline[i].y() - outline[i].x() * outline[j].y();
    Polygon moved;
    for (std::size_t i = 0; i < count; ++i) {
        const Eigen::Vector2d along = outline[(i + 1) % count] - outline[(i + count - 1) % count];
        const Eigen::Vector2d out(along.y(), -along.x());
        moved.push_back(outline[i] + out.normalized() * (turning > 0 ? by : -by));
    }
    return moved;
}

/// Pieces enough for the eye: fifty shapes are drawn at every step through the plate.
Polygon coarse(const Matte::Key& shape) {
    const Polygon whole = flattened(shape);
    constexpr std::size_t kEvery = 4;  // a divisor of the pieces of an edge, so that points stay
    static_assert(kCurvePieces % kEvery == 0);
    if (whole.size() != shape.polygon.size() * kCurvePieces) return whole;
    Polygon fewer;
    for (std::size_t i = 0; i < whole.size(); i += kEvery) fewer.push_back(whole[i]);
    return fewer;
}

}  // namespace

void MattesOverlay::paintShape(QPainter& painter, const PlateView& view, std::size_t place) const {
    const Matte& matte = session_.shot().mattes[place];
    const bool held = hand_.matte() == place;
    if (matte.hidden && !held) return;
    const auto shape = hand_.shapeOf(place);
    if (!shape) return;
    const bool there = isThere(matte, session_.player.frame());
    const QColor colour = QColor::fromRgb(matte.colour == 0 ? 0xD9A441 : matte.colour);
    const QPainterPath path = view.line(held ? flattened(*shape) : coarse(*shape), true);
    if (there && matte.opacity > 0) {
        QColor surface = colour;
        surface.setAlphaF(float(matte.opacity));
        QPainterPath area = path;
        area.setFillRule(Qt::OddEvenFill);
        if (matte.invert) area.addRect(view.frameOnScreen());
        painter.setPen(Qt::NoPen);
        painter.fillPath(area, surface);
        surface.setAlphaF(float(std::min(1.0, 2 * matte.opacity)));
        const Qt::BrushStyle hatch = matte.mode == Matte::Mode::exclude ? Qt::BDiagPattern : Qt::FDiagPattern;
        if (held || matte.mode == Matte::Mode::include) painter.fillPath(area, QBrush(surface, hatch));
    }
    painter.setBrush(Qt::NoBrush);
    for (const bool shadow : {true, false}) {
        // Thin lines are drawn many times as fast as wide ones.
        QPen pen(shadow ? QColor(0, 0, 0, 150) : colour, held ? (shadow ? 3.4 : 1.8) : 1);
        if (!held && shadow) continue;
        // Not there on this frame, or taking away: by the line too.
        if (!there) pen.setStyle(Qt::DotLine);
        else if (matte.op == Matte::Op::subtract) pen.setStyle(Qt::DashLine);
        else if (matte.op == Matte::Op::intersect) pen.setStyle(Qt::DashDotLine);
        painter.setPen(pen);
        painter.drawPath(path);
    }
    // How far it fades.
    if (!held || (matte.feather_px == 0 && matte.grow_px == 0)) return;
    const double reach = matte.grow_px + matte.feather_px;
    QPen pen(colour, 1, Qt::DotLine);
    painter.setPen(pen);
    painter.drawPath(view.line(movedOut(flattened(*shape), reach), true));
}

void MattesOverlay::paint(QPainter& painter, const PlateView& view) {
    for (std::size_t i = 0; i < session_.shot().mattes.size(); ++i) paintShape(painter, view, i);
}

}  // namespace pinion
