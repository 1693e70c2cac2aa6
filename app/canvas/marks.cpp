#include "canvas/marks.h"

#include <QImage>
#include <QPainter>
#include <QPixmap>

namespace pinion {

const QBrush& outsideBrush() {
    static const QBrush brush = [] {
        QPixmap tile(12, 12);
        tile.fill(QColor(0x1f, 0x1f, 0x1f));
        QPainter painter(&tile);
        painter.setPen(QColor(0x28, 0x28, 0x28));
        painter.drawLine(0, 12, 12, 0);
        painter.drawLine(-6, 6, 6, -6);
        painter.drawLine(6, 18, 18, 6);
        return QBrush(tile);
    }();
    return brush;
}

void drawLabel(QPainter& painter, const QPointF& at, const QString& words, const QColor& colour) {
    const QRectF box(at, QSizeF(painter.fontMetrics().horizontalAdvance(words) + 14, 20));
    painter.setPen(Qt::NoPen);
    painter.setBrush(QColor(20, 20, 20, 215));
    painter.drawRoundedRect(box, 3, 3);
    painter.setPen(colour);
    painter.drawText(box, Qt::AlignCenter, words);
}

void drawLoupe(QPainter& painter, const QImage& picture, const QPointF& centre, const QPointF& cursor,
               const QSize& size) {
    if (picture.isNull()) return;
    constexpr double kSide = 132;
    constexpr double kMagnified = 6;
    QRectF box(cursor + QPointF(22, 22), QSizeF(kSide, kSide));
    if (box.right() > size.width()) box.moveRight(cursor.x() - 22);
    if (box.bottom() > size.height()) box.moveBottom(cursor.y() - 22);
    const double span = kSide / kMagnified;
    painter.fillRect(box, QColor(0x16, 0x16, 0x16));
    painter.setRenderHint(QPainter::SmoothPixmapTransform, false);
    painter.drawImage(box, picture, QRectF(centre.x() - span / 2, centre.y() - span / 2, span, span));
    painter.setPen(QPen(theme::kBrass, 1));
    painter.setBrush(Qt::NoBrush);
    painter.drawRect(box);
    const QPointF c = box.center();
    painter.drawLine(QPointF(c.x(), box.top() + 8), QPointF(c.x(), c.y() - 8));
    painter.drawLine(QPointF(c.x(), c.y() + 8), QPointF(c.x(), box.bottom() - 8));
    painter.drawLine(QPointF(box.left() + 8, c.y()), QPointF(c.x() - 8, c.y()));
    painter.drawLine(QPointF(c.x() + 8, c.y()), QPointF(box.right() - 8, c.y()));
}

void drawCross(QPainter& painter, const QPointF& at, double reach, bool turned) {
    const QPointF a = turned ? QPointF(reach, reach) : QPointF(reach, 0);
    const QPointF b = turned ? QPointF(reach, -reach) : QPointF(0, reach);
    painter.drawLine(at - a, at + a);
    painter.drawLine(at - b, at + b);
}

void drawLaid(QPainter& painter, const PlateView& view, const QImage& picture, std::span<const ArtPiece> pieces) {
    painter.save();
    painter.setRenderHint(QPainter::SmoothPixmapTransform);
    // Smooth edges would show between two pieces.
    painter.setRenderHint(QPainter::Antialiasing, pieces.size() == 1);
    const QTransform before = painter.transform();
    for (const ArtPiece& piece : pieces) {
        const QRectF field(QPointF(piece.left * picture.width(), piece.top * picture.height()),
                           QPointF(piece.right * picture.width(), piece.bottom * picture.height()));
        QPolygonF from(field), to;
        from.pop_back();
        for (const Eigen::Vector2d& corner : piece.corners)
            if (const auto at = view.screenFromPlate(corner)) to << *at;
        QTransform transform;
        if (to.size() != 4 || !QTransform::quadToQuad(from, to, transform)) continue;
        painter.setTransform(transform * before);
        painter.drawImage(field, picture, field);
    }
    painter.restore();
}

void drawBand(QPainter& painter, const QPointF& from, const QPointF& to) {
    painter.setPen(QPen(theme::kBrass, 1, Qt::DashLine));
    painter.setBrush(QColor(217, 164, 65, 24));
    painter.drawRect(QRectF(from, to).normalized());
}

}  // namespace pinion
