#include "stages/planes/planesoverlay.h"

#include "canvas/marks.h"
#include "canvas/plateview.h"
#include "shot/stages/planesstage.h"
#include "widgets/theme.h"

#include <QPainter>

#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

/// From the unit square to a surface.
}  // namespace

QImage testPicture(double widthOverHeight) {
    constexpr int kSide = 64;
    const int rows = widthOverHeight >= 1 ? 6 : std::clamp(int(std::lround(6 / widthOverHeight)), 6, 18);
    const int columns = widthOverHeight >= 1 ? std::clamp(int(std::lround(6 * widthOverHeight)), 6, 18) : 6;
    QImage image(columns * kSide, rows * kSide, QImage::Format_RGB32);
    QPainter painter(&image);
    QFont font = painter.font();
    font.setPixelSize(22);
    font.setWeight(QFont::DemiBold);
    painter.setFont(font);
    for (int row = 0; row < rows; ++row)
        for (int column = 0; column < columns; ++column) {
            const QRect field(column * kSide, row * kSide, kSide, kSide);
            const bool dark = (row + column) % 2 == 0;
            painter.fillRect(field, dark ? QColor(0x3a, 0x3f, 0x45) : QColor(0xd8, 0xd4, 0xc8));
            painter.setPen(dark ? QColor(0xd8, 0xd4, 0xc8) : QColor(0x3a, 0x3f, 0x45));
            painter.drawText(field, Qt::AlignCenter, QString("%1%2").arg(QChar('A' + row)).arg(column + 1));
        }
    painter.setPen(QPen(QColor(0xD9, 0xA4, 0x41), 6));
    painter.drawRect(image.rect().adjusted(3, 3, -3, -3));
    return image;
}

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
    if (picture_.isNull() || pictureRatio_ != ratio) picture_ = testPicture(ratio);
    pictureRatio_ = ratio;
    const auto sheet = SurfaceSheet::of(hand_.trackNow(plane), session_.player.frame());
    if (!sheet) return;
    // Round a cylinder it goes in strips.
    const int strips = sheet->isCurved() ? 24 : 1;
    painter.save();
    painter.setOpacity(0.85);
    painter.setRenderHint(QPainter::SmoothPixmapTransform);
    painter.setRenderHint(QPainter::Antialiasing, strips == 1);
    const QTransform before = painter.transform();
    for (int strip = 0; strip < strips; ++strip) {
        const double left = double(strip) / strips, right = double(strip + 1) / strips;
        if (!sheet->faces({left, 0.5}) || !sheet->faces({right, 0.5})) continue;
        const QRectF part(left * picture_.width(), 0, (right - left) * picture_.width(), picture_.height());
        QPolygonF from(part), to;
        from.pop_back();
        for (const Vector2d& corner : {Vector2d(left, 0), Vector2d(right, 0), Vector2d(right, 1), Vector2d(left, 1)})
            if (const auto at = view.screenFromPlate(sheet->onPlate(corner))) to << *at;
        QTransform transform;
        if (to.size() != 4 || !QTransform::quadToQuad(from, to, transform)) continue;
        painter.setTransform(transform * before);
        painter.drawImage(part, picture_, part);
    }
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
        // Round a cylinder lines are curves.
        const int pieces = sheet && sheet->isCurved() ? 16 : 1;
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
