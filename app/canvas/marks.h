#pragma once

#include "canvas/plateview.h"
#include "comp/art.h"
#include "widgets/theme.h"

#include <QBrush>
#include <QColor>
#include <QPainter>
#include <QPointF>
#include <QString>

#include <span>

class QImage;
class QWidget;

namespace pinion {

/// What lies outside the plate: hatched, never plain black.
const QBrush& outsideBrush();

/// Words on a dark ground, with their top left corner at `at`.
void drawLabel(QPainter& painter, const QPointF& at, const QString& words, const QColor& colour = theme::kText);

/// The picture about `centre` (its own pixels), magnified beside the cursor, inside a widget of `size`.
void drawLoupe(QPainter& painter, const QImage& picture, const QPointF& centre, const QPointF& cursor,
               const QSize& size);

/// A thin cross, `reach` to each side: upright, or turned by 45 degrees.
void drawCross(QPainter& painter, const QPointF& at, double reach, bool turned);

/// A picture as it lies on the plate by its pieces (core/comp/art.h).
void drawLaid(QPainter& painter, const PlateView& view, const QImage& picture, std::span<const ArtPiece> pieces);

/// A dashed rubber band.
void drawBand(QPainter& painter, const QPointF& from, const QPointF& to);

/// Draws twice: a dark line below, so that the light one stands on any picture.
template <class Draw>
void overShadow(QPainter& painter, const QColor& colour, double width, const Draw& draw) {
    for (const bool shadow : {true, false}) {
        painter.setPen(QPen(shadow ? QColor(0, 0, 0, 150) : colour, shadow ? width + 1.6 : width));
        draw();
    }
}

}  // namespace pinion
