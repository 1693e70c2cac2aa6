#include "stages/planes/planesoverlay.h"

#include "canvas/marks.h"
#include "canvas/displaypictures.h"
#include "canvas/plateview.h"
#include "comp/insertion.h"
#include "shot/stages/planesstage.h"
#include "widgets/theme.h"

#include <QPainter>

#include <cmath>

namespace pinion {

using Eigen::Vector2d;

void PlanesOverlay::paintOutlines(QPainter& painter, const PlateView& view, const PlanarTrack& inShot) const {
    const PlanarTrack plane = hand_.trackNow(inShot);
    const auto pose = surfacePoseOn(plane, session_.player.frame());
    if (!pose) return;
    const bool held = hand_.plane() == plane.id;
    const PlaneSample* sample = sampleAt(plane, session_.player.frame());
    const double badness = sample ? std::clamp(double(1 - sample->fit) / (2 * (1 - double(kGoodFit))), 0.0, 1.0) : 0.0;
    const QColor colour = held ? theme::kBrass : theme::fitColour(badness);
    painter.setBrush(Qt::NoBrush);
    const auto draw = [&](const Polygon& outline, Qt::PenStyle style, bool handles) {
        Polygon corners;
        for (const Vector2d& p : outline) corners.push_back(placedBy(plane, *pose, p));
        // Round a cylinder its edges are curves, and stop at the contours.
        const auto round = carried(plane.geometry(), *pose, PlaneRegion{{outline}, {}});
        const Polygon& edge = plane.sides && round ? round->outlines.front() : corners;
        const QPainterPath path = view.line(edge, true);
        for (const bool shadow : {true, false}) {
            QPen pen(shadow ? QColor(0, 0, 0, 150) : colour, shadow ? 2.6 : 1.2);
            pen.setStyle(shadow ? Qt::SolidLine : style);
            painter.setPen(pen);
            painter.drawPath(path);
        }
        if (!handles) return;
        painter.setBrush(colour);
        painter.setPen(QPen(QColor(0, 0, 0, 150), 1));
        for (const Vector2d& p : corners)
            if (const auto at = view.screenFromPlate(p)) painter.drawRect(QRectF(at->x() - 2.5, at->y() - 2.5, 5, 5));
        painter.setBrush(Qt::NoBrush);
    };
    for (const Polygon& outline : plane.outlines) draw(outline, Qt::DashLine, held);
    for (const Polygon& outline : plane.takenOut) draw(outline, Qt::DotLine, held);
    // Unrolled it has no contours.
    if (held && !(looked && looked().startsWith("surface"))) paintContours(painter, view, plane, *pose);
}

/// The two contours of a cylinder as the track has them: beside those of the picture they are a proof.
void PlanesOverlay::paintContours(QPainter& painter, const PlateView& view, const PlanarTrack& plane,
                                  const SurfacePose& pose) const {
    const SurfaceGeometry geometry = plane.geometry(), here = geometry.moved(pose);
    if (!here.cylinder) return;
    const SurfaceMap reference = SurfaceMap::of(plane, SurfacePose{});
    const auto along = [&](std::size_t a, std::size_t b) {
        return 0.5 * (reference.onSurface((*plane.sides)[a]).y() + reference.onSurface((*plane.sides)[b]).y());
    };
    const double top = along(0, 1), bottom = along(3, 2);
    for (const double side : {-1.0, 1.0}) {
        const double angle = here.cylinder->facing() + side * here.cylinder->visible();
        Polygon line;
        for (const double height : {top, bottom})
            line.push_back(seenAt(*here.lens, here.cylinder->at({angle, height})));
        const QPainterPath path = view.line(line);
        overShadow(painter, theme::kBrass, 1.2, [&] { painter.drawPath(path); });
    }
}

void PlanesOverlay::paintTestPicture(QPainter& painter, const PlateView& view, const PlanarTrack& plane) const {
    const auto size = squaredSize(plane);
    const double ratio = size ? double(size->width) / size->height : 1.0;
    if (picture_.isNull() || pictureRatio_ != ratio) picture_ = imageOf(testArt(ratio), {});
    pictureRatio_ = ratio;
    const auto sheet = SurfaceSheet::of(hand_.trackNow(plane), session_.player.frame());
    if (!sheet) return;
    painter.save();
    painter.setOpacity(0.85);
    drawLaid(painter, view, picture_, piecesOf(*sheet, kScreenBend_px));
    painter.restore();
}

void PlanesOverlay::paintSurface(QPainter& painter, const PlateView& view, const PlanarTrack& plane) const {
    const auto surface = hand_.surfaceNow(plane);
    if (!surface) return;
    const bool held = hand_.plane() == plane.id;
    if (hand_.testPicture()) paintTestPicture(painter, view, plane);
    painter.setBrush(Qt::NoBrush);
    const auto sheet = SurfaceSheet::of(hand_.trackNow(plane), session_.player.frame());
    const auto line = [&](const Vector2d& from, const Vector2d& to) {
        // Round a cylinder, and through a lens, lines are curves.
        const int pieces = sheet && !sheet->isFlat() ? 16 : 1;
        Polygon places;
        for (int i = 0; i <= pieces; ++i) places.push_back(sheet->onPlate(from + double(i) / pieces * (to - from)));
        return view.line(places);
    };
    QPainterPath edge;
    if (sheet)
        for (const auto& [from, to] :
             {std::pair<Vector2d, Vector2d>{{0, 0}, {1, 0}}, {{1, 0}, {1, 1}}, {{1, 1}, {0, 1}}, {{0, 1}, {0, 0}}})
            edge.addPath(line(from, to));
    else edge = view.line(Polygon(surface->begin(), surface->end()), true);
    overShadow(painter, held ? theme::kText : theme::kDim, held ? 1.6 : 1.0, [&] { painter.drawPath(edge); });
    if (sheet && hand_.grid() && held) {
        constexpr int kFields = 8;
        painter.setPen(QPen(QColor(255, 255, 255, 110), 1));
        for (int i = 1; i < kFields; ++i) {
            const double at = double(i) / kFields;
            painter.drawPath(line({0, at}, {1, at}));
            painter.drawPath(line({at, 0}, {at, 1}));
        }
    }
    if (!held) return;
    // A corner each as an angle along its edges; the first one, top left, is filled: it tells which way is up.
    for (std::size_t i = 0; i < 4; ++i) {
        const auto at = view.screenFromPlate((*surface)[i]);
        if (!at) continue;
        painter.setPen(QPen(QColor(0, 0, 0, 160), 1));
        painter.setBrush(i == 0 ? QBrush(theme::kBrass) : QBrush(theme::kText));
        painter.drawEllipse(*at, i == 0 ? 5.0 : 4.0, i == 0 ? 5.0 : 4.0);
    }
    const auto first = view.screenFromPlate((*surface)[0]);
    if (first && view.warp().isBare()) drawLabel(painter, *first + QPointF(8, -24), text(plane.name));
}

void PlanesOverlay::paint(QPainter& painter, const PlateView& view) {
    if (!shown) return;
    painter.setRenderHint(QPainter::Antialiasing);
    for (const PlanarTrack& plane : session_.shot().planes) {
        if (plane.hidden && hand_.plane() != plane.id) continue;
        paintSurface(painter, view, plane);
        paintOutlines(painter, view, plane);
    }
}

}  // namespace pinion
