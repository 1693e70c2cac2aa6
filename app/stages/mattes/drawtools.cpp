#include "stages/mattes/drawtools.h"

#include "canvas/marks.h"
#include "matte/drawing.h"

#include <QLineF>
#include <QPainter>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kClose = 9.0;      // screen pixels about the first point that mean it
constexpr double kStroke_px = 1.5;  // how far a smooth shape may pass from the stroke, on the screen

void paintDrawn(QPainter& painter, const PlateView& view, const Matte::Key& shape, bool closed) {
    painter.setBrush(closed ? QBrush(QColor(217, 164, 65, 28)) : QBrush(Qt::NoBrush));
    const QPainterPath path = view.line(flattened(shape), closed);
    overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawPath(path); });
}

}  // namespace

// ---- point by point

bool ShapeTool::onFirst(const QPointF& at) const {
    if (drawn_.polygon.size() < 3) return false;
    const auto first = canvas_.view().screenFromPlate(drawn_.polygon.front());
    return first && QLineF(*first, at).length() < kClose;
}

void ShapeTool::press(const CanvasEvent& event) {
    at_ = event.at;
    if (onFirst(event.at)) {
        close();
        return;
    }
    if (!event.plate) return;
    drawn_.polygon.push_back(*event.plate);
    drawn_.in.emplace_back(0, 0);
    drawn_.out.emplace_back(0, 0);
    drags_ = true;
}

void ShapeTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (!drags_ || !event.plate || drawn_.polygon.empty()) return;
    const auto place = canvas_.view().screenFromPlate(drawn_.polygon.back());
    const bool pulls = place && QLineF(*place, event.at).length() > 3;
    drawn_.out.back() = pulls ? Vector2d(*event.plate - drawn_.polygon.back()) : Vector2d(0, 0);
    drawn_.in.back() = -drawn_.out.back();
}

void ShapeTool::release(const CanvasEvent& event) {
    at_ = event.at;
    drags_ = false;
}

void ShapeTool::doubleClick(const CanvasEvent& event) {
    at_ = event.at;
    // Its first press has added the last point already.
    if (isDrawing()) close();
}

bool ShapeTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    return isDrawing();
}

bool ShapeTool::remove() {
    if (!isDrawing()) return false;
    drawn_.polygon.pop_back();
    drawn_.in.pop_back();
    drawn_.out.pop_back();
    return true;
}

bool ShapeTool::finish() {
    const bool begun = isDrawing();
    if (begun) close();
    return begun;
}

void ShapeTool::close() {
    drags_ = false;
    if (!hand_.add(drawn_, {})) return;
    drawn_ = {};
    canvas_.takeTool("edit shapes");
}

void ShapeTool::paint(QPainter& painter, const PlateView& view) {
    if (!isDrawing()) return;
    const bool closes = onFirst(at_);
    // An open line: as far as the last point, and on to the cursor.
    Matte::Key open = drawn_;
    if (!drags_ && !closes) {
        if (const auto place = view.plateFromScreen(at_)) {
            open.polygon.push_back(*place);
            open.in.emplace_back(0, 0);
            open.out.emplace_back(0, 0);
        }
    }
    Polygon line = flattened(open);
    if (!closes && line.size() > kCurvePieces)
        line.resize(line.size() - kCurvePieces + 1);  // not the edge that would close it
    painter.setBrush(Qt::NoBrush);
    const QPainterPath path = view.line(line, closes);
    overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawPath(path); });
    for (std::size_t i = 0; i < drawn_.polygon.size(); ++i)
        if (const auto at = view.screenFromPlate(drawn_.polygon[i])) {
            painter.setPen(QPen(QColor(0, 0, 0, 150), 1));
            painter.setBrush(i == 0 && closes ? theme::kBrass : theme::kText);
            painter.drawEllipse(*at, 3.5, 3.5);
        }
    if (drags_)
        for (const Vector2d& end : {Vector2d(drawn_.polygon.back() + drawn_.out.back()),
                                    Vector2d(drawn_.polygon.back() + drawn_.in.back())}) {
            const auto from = view.screenFromPlate(drawn_.polygon.back()), to = view.screenFromPlate(end);
            if (!from || !to) continue;
            painter.setPen(QPen(theme::kText, 1));
            painter.drawLine(*from, *to);
        }
    drawLabel(painter, at_ + QPointF(14, 12),
              closes                      ? "closes the shape"
              : drawn_.polygon.size() < 3 ? "click: corner · drag: smooth"
                                          : "first point, Enter or double click close it");
}

// ---- by one drag

QString DragShapeTool::name() const {
    return kind_ == Kind::ellipse ? "ellipse" : kind_ == Kind::rectangle ? "rectangle" : "stroke";
}

void DragShapeTool::press(const CanvasEvent& event) {
    stroke_.clear();
    if (event.plate) stroke_.push_back(*event.plate);
    modifiers_ = event.modifiers;
}

void DragShapeTool::drag(const CanvasEvent& event) {
    if (stroke_.empty() || !event.plate) return;
    modifiers_ = event.modifiers;
    if (kind_ != Kind::stroke) stroke_.resize(1);
    stroke_.push_back(*event.plate);
}

Matte::Key DragShapeTool::shape() const {
    if (stroke_.size() < 2) return {};
    if (kind_ == Kind::stroke) return smoothShape(stroke_, kStroke_px / canvas_.view().zoom());
    Vector2d from = stroke_.front(), reach = stroke_.back() - from;
    if (modifiers_ & Qt::ShiftModifier) {
        const double side = reach.cwiseAbs().maxCoeff();
        reach = {std::copysign(side, reach.x()), std::copysign(side, reach.y())};
    }
    if (modifiers_ & Qt::AltModifier) {
        from -= reach;
        reach *= 2;
    }
    return kind_ == Kind::ellipse ? ellipseShape(from, from + reach) : rectangleShape(from, from + reach);
}

void DragShapeTool::release(const CanvasEvent&) {
    const Matte::Key drawn = shape();
    stroke_.clear();
    // A click alone draws nothing.
    if (drawn.polygon.empty()) return;
    if (hand_.add(drawn, {})) canvas_.takeTool("edit shapes");
}

void DragShapeTool::paint(QPainter& painter, const PlateView& view) {
    if (stroke_.size() < 2) return;
    if (kind_ == Kind::stroke) {
        painter.setBrush(Qt::NoBrush);
        const QPainterPath path = view.line(stroke_);
        overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawPath(path); });
    } else {
        paintDrawn(painter, view, shape(), true);
    }
}

}  // namespace pinion
