#include "stages/mattes/editshapetool.h"

#include "canvas/marks.h"
#include "shot/edits/matteedits.h"

#include <QLineF>
#include <QPainter>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kGrab = 8.0;     // screen pixels within which a press means a point or a handle
constexpr double kEdge = 5.0;     // ... an edge
constexpr double kStalk = 26.0;   // from the frame to its turning handle
constexpr double kMargin = 10.0;  // between the points and their frame

/// The nearest place of a line of places, as its number and the share of the way to the next one.
struct Near {
    double distance = 1e9;
    double along = 0;
};
Near nearOf(const std::vector<std::optional<QPointF>>& line, const QPointF& at) {
    Near best;
    for (std::size_t i = 0; i < line.size(); ++i) {
        const auto &a = line[i], &b = line[(i + 1) % line.size()];
        if (!a || !b) continue;
        const QPointF along = *b - *a;
        const double length2 = QPointF::dotProduct(along, along);
        const double t = length2 > 0 ? std::clamp(QPointF::dotProduct(at - *a, along) / length2, 0.0, 1.0) : 0;
        const double distance = QLineF(*a + t * along, at).length();
        if (distance < best.distance) best = {distance, double(i) + t};
    }
    return best;
}

bool isCurved(const Matte::Key& shape) { return !shape.in.empty() || !shape.out.empty(); }

/// The shape with tangents, none of which is missing.
Matte::Key withTangents(Matte::Key shape) {
    shape.in.resize(shape.polygon.size(), Vector2d(0, 0));
    shape.out.resize(shape.polygon.size(), Vector2d(0, 0));
    return shape;
}

}  // namespace

// ---- what is under the cursor

std::optional<EditShapeTool::Handles> EditShapeTool::handles(const Matte::Key& shape) const {
    if (hand_.points().size() < 2) return std::nullopt;
    QRectF box;
    for (const std::size_t point : hand_.points()) {
        const auto at =
            point < shape.polygon.size() ? canvas_.view().screenFromPlate(shape.polygon[point]) : std::nullopt;
        if (!at) continue;
        box = box.isNull() ? QRectF(*at, QSizeF(1e-6, 1e-6)) : box.united(QRectF(*at, QSizeF(1e-6, 1e-6)));
    }
    if (box.isNull()) return std::nullopt;
    box.adjust(-kMargin, -kMargin, kMargin, kMargin);
    return Handles{QPolygonF({box.topLeft(), box.topRight(), box.bottomRight(), box.bottomLeft()}),
                   {box.center().x(), box.top() - kStalk}};
}

EditShapeTool::Grip EditShapeTool::gripOn(std::size_t matte, const QPointF& at) const {
    const auto shape = hand_.shapeOf(matte);
    if (!shape || shape->polygon.empty()) return {};
    const PlateView& view = canvas_.view();
    const auto distance = [&](const Vector2d& place) {
        const auto screen = view.screenFromPlate(place);
        return screen ? QLineF(*screen, at).length() : 1e9;
    };
    const bool held = hand_.matte() == matte;
    Grip best;
    double nearest = kGrab;
    for (std::size_t i = 0; i < shape->polygon.size(); ++i)
        if (const double away = distance(shape->polygon[i]); away < nearest) {
            nearest = away;
            best = {Part::point, matte, i, 0};
        }
    if (best.part != Part::none) return best;
    if (held && isCurved(*shape))
        for (const std::size_t point : hand_.points())
            for (const Part part : {Part::in, Part::out}) {
                const auto& tangents = part == Part::in ? shape->in : shape->out;
                if (point >= tangents.size() || tangents[point].isZero()) continue;
                if (const double away = distance(shape->polygon[point] + tangents[point]); away < nearest) {
                    nearest = away;
                    best = {part, matte, point, 0};
                }
            }
    if (best.part != Part::none) return best;
    std::vector<std::optional<QPointF>> line;
    const Polygon outline = flattened(*shape);
    for (const Vector2d& place : outline) line.push_back(view.screenFromPlate(place));
    const Near near = nearOf(line, at);
    if (near.distance < kEdge) {
        const double pieces = double(outline.size()) / double(shape->polygon.size());
        const double edge = std::floor(near.along / pieces);
        return {Part::edge, matte, std::min(std::size_t(edge), shape->polygon.size() - 1),
                std::clamp((near.along - edge * pieces) / pieces, 0.02, 0.98)};
    }
    const auto plate = view.plateFromScreen(at);
    if (plate && contains(outline, *plate)) return {Part::inside, matte, 0, 0};
    return {};
}

EditShapeTool::Grip EditShapeTool::gripAt(const QPointF& at) const {
    const auto held = hand_.matte();
    Grip own;
    if (held) {
        own = gripOn(*held, at);
        if (own.part != Part::none && own.part != Part::inside && own.part != Part::edge) return own;
        const auto shape = hand_.shapeOf(*held);
        if (const auto frame = shape ? handles(*shape) : std::nullopt) {
            for (int i = 0; i < 4; ++i)
                if (QLineF(frame->corners[i], at).length() < kGrab) return {Part::corner, *held, std::size_t(i), 0};
            if (QLineF(frame->turn, at).length() < kGrab) return {Part::turn, *held, 0, 0};
        }
        if (own.part == Part::edge) return own;
    }
    // Of others what is nearest to being meant: points, edges, then what lies on top.
    Grip best = own;
    for (std::size_t i = session_.shot().mattes.size(); i-- > 0;) {
        if (i == held || session_.shot().mattes[i].hidden) continue;
        const Grip grip = gripOn(i, at);
        if (grip.part == Part::none) continue;
        if (best.part == Part::none || (best.part == Part::inside && grip.part != Part::inside)) best = grip;
    }
    return best;
}

// ---- the mouse

void EditShapeTool::press(const CanvasEvent& event) {
    pressed_ = at_ = event.at;
    from_ = event.plate;
    moves_ = bands_ = feathers_ = false;
    grip_ = gripAt(event.at);
    if (grip_.part == Part::none) {
        bands_ = true;
        return;
    }
    const bool another = hand_.matte() != grip_.matte;
    if (another) hand_.hold(grip_.matte);
    const auto shape = hand_.shapeOf(grip_.matte);
    if (!shape) {
        grip_ = {};
        return;
    }
    start_ = *shape;
    if (grip_.part == Part::point) pressPoint(event);
    // The whole shape is moved by its inside or its edge, and so are chosen points.
    if ((grip_.part == Part::inside || grip_.part == Part::edge) && (another || hand_.points().empty())) {
        std::set<std::size_t> all;
        for (std::size_t i = 0; i < start_.polygon.size(); ++i) all.insert(i);
        hand_.setPoints(std::move(all));
    }
}

void EditShapeTool::pressPoint(const CanvasEvent& event) {
    const std::size_t point = grip_.index;
    if (event.modifiers & Qt::ControlModifier) {
        hand_.setPoints({point});
        if (hand_.mayEdit()) removePoints();
        grip_ = {};
        return;
    }
    std::set<std::size_t> points = hand_.points();
    if (event.modifiers & Qt::ShiftModifier) {
        if (!points.erase(point)) points.insert(point);
        hand_.setPoints(std::move(points));
        return;
    }
    feathers_ = event.modifiers & Qt::AltModifier;
    // Of a whole shape a point is meant by itself.
    if (!points.contains(point) || points.size() == start_.polygon.size()) hand_.setPoints({point});
}

Matte::Key EditShapeTool::framed(const Vector2d& at, Qt::KeyboardModifiers modifiers) const {
    Matte::Key shape = start_;
    const auto frame = handles(start_);
    const PlateView& view = canvas_.view();
    if (!frame) return shape;
    const auto middle = view.plateFromScreen(frame->corners.boundingRect().center());
    if (!middle || !from_) return shape;
    Eigen::Matrix2d change = Eigen::Matrix2d::Identity();
    Vector2d fixed = *middle;
    if (grip_.part == Part::turn) {
        const Vector2d a = *from_ - *middle, b = at - *middle;
        double angle = std::atan2(a.x() * b.y() - a.y() * b.x(), a.dot(b));
        if (modifiers & Qt::ShiftModifier) angle = std::round(angle * 24 / (2 * M_PI)) * 2 * M_PI / 24;
        change = Eigen::Rotation2Dd(angle).toRotationMatrix();
    } else {
        if (!(modifiers & Qt::AltModifier))
            if (const auto opposite = view.plateFromScreen(frame->corners[int(grip_.index + 2) % 4])) fixed = *opposite;
        const Vector2d before = *from_ - fixed, after = at - fixed;
        Vector2d scale(1, 1);
        for (int k = 0; k < 2; ++k)
            if (std::abs(before[k]) > 1) scale[k] = after[k] / before[k];
        if (modifiers & Qt::ShiftModifier) scale.setConstant(after.dot(before) / std::max(1e-9, before.squaredNorm()));
        change = scale.asDiagonal();
    }
    for (const std::size_t point : hand_.points()) {
        if (point >= shape.polygon.size()) continue;
        shape.polygon[point] = fixed + change * (shape.polygon[point] - fixed);
        if (point < shape.in.size()) shape.in[point] = change * shape.in[point];
        if (point < shape.out.size()) shape.out[point] = change * shape.out[point];
    }
    return shape;
}

Matte::Key EditShapeTool::dragged(const CanvasEvent& event) const {
    Matte::Key shape = start_;
    const Vector2d by = *event.plate - *from_;
    const std::size_t point = grip_.index;
    switch (grip_.part) {
        case Part::in:
        case Part::out: {
            shape = withTangents(std::move(shape));
            Vector2d& own = grip_.part == Part::in ? shape.in[point] : shape.out[point];
            Vector2d& other = grip_.part == Part::in ? shape.out[point] : shape.in[point];
            own += by;
            // A smooth point stays smooth, unless Alt breaks it.
            const bool smooth = !other.isZero() && !(event.modifiers & Qt::AltModifier);
            if (smooth && own.norm() > 1e-9) other = -own.normalized() * other.norm();
            return shape;
        }
        case Part::corner:
        case Part::turn:
            return framed(*event.plate, event.modifiers);
        default:
            break;
    }
    if (feathers_) {
        // Alt draws the feather out of a point: as wide as the way, inwards when it goes in.
        shape.feather.resize(shape.polygon.size(), 0.0);
        const double wide = (*event.plate - start_.polygon[point]).norm();
        shape.feather[point] = contains(flattened(start_), *event.plate) ? -wide : wide;
        return shape;
    }
    for (const std::size_t one : hand_.points())
        if (one < shape.polygon.size()) shape.polygon[one] += by;
    return shape;
}

void EditShapeTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (grip_.part == Part::none || !event.plate || !from_) return;
    // A press that trembles is no drag.
    if (!moves_ && QLineF(pressed_, event.at).length() < 3) return;
    if (!moves_ && !hand_.mayEdit()) {
        grip_ = {};
        return;
    }
    const QString what = feathers_                                           ? "Feather"
                         : grip_.part == Part::turn                          ? "Turn points"
                         : grip_.part == Part::corner                        ? "Scale points"
                         : grip_.part == Part::in || grip_.part == Part::out ? "Bend"
                         : hand_.points().size() == 1                        ? "Move a point"
                         : hand_.points().size() == start_.polygon.size()    ? "Move"
                                                                             : "Move points";
    hand_.setShape(what, dragged(event), moves_);
    moves_ = true;
}

void EditShapeTool::release(const CanvasEvent& event) {
    at_ = event.at;
    if (bands_) {
        const QRectF band = QRectF(pressed_, event.at).normalized();
        const auto held = hand_.matte();
        const auto shape = held ? hand_.shapeOf(*held) : std::nullopt;
        const bool isClick = QLineF(pressed_, event.at).length() < 4;
        if (isClick && held && hand_.points().empty()) {
            hand_.hold(std::nullopt);
        } else if (shape) {
            std::set<std::size_t> points;
            if (event.modifiers & Qt::ShiftModifier) points = hand_.points();
            for (std::size_t i = 0; i < shape->polygon.size() && !isClick; ++i)
                if (const auto at = canvas_.view().screenFromPlate(shape->polygon[i]); at && band.contains(*at))
                    points.insert(i);
            hand_.setPoints(std::move(points));
        }
    }
    bands_ = moves_ = feathers_ = false;
    grip_ = {};
}

void EditShapeTool::doubleClick(const CanvasEvent& event) {
    at_ = event.at;
    grip_ = {};
    const Grip grip = gripAt(event.at);
    if (grip.part == Part::none || !(hand_.matte() == grip.matte) || !hand_.mayEdit()) return;
    if (grip.part == Part::edge) {
        session_.edit("Insert a point", withMattePointAdded(session_.shot(), grip.matte, grip.index, grip.t));
        hand_.setPoints({grip.index + 1});
    } else if (grip.part == Part::point) {
        const auto shape = hand_.shapeOf(grip.matte);
        const bool smooth = shape && grip.index < shape->out.size() && !shape->out[grip.index].isZero();
        hand_.setPoints({grip.index});
        setSmooth(!smooth);
    }
}

void EditShapeTool::setSmooth(bool smooth) {
    if (!hand_.mayEdit() || hand_.points().empty()) return;
    session_.edit(
        smooth ? "Smooth points" : "Corners",
        withMattePointsSmooth(session_.shot(), *hand_.matte(), {hand_.points().begin(), hand_.points().end()}, smooth));
}

bool EditShapeTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    const Grip grip = gripAt(event.at);
    switch (grip.part) {
        case Part::none:
            cursor_ = Qt::ArrowCursor;
            break;
        case Part::corner:
            cursor_ = grip.index % 2 == 0 ? Qt::SizeFDiagCursor : Qt::SizeBDiagCursor;
            break;
        case Part::turn:
            cursor_ = Qt::PointingHandCursor;
            break;
        case Part::inside:
            cursor_ = Qt::SizeAllCursor;
            break;
        default:
            cursor_ = Qt::CrossCursor;
    }
    const bool isNew = !(grip == hovered_);
    hovered_ = grip;
    return isNew;
}

void EditShapeTool::nudge(const Vector2d& by) {
    const auto held = hand_.matte();
    const auto shape = held ? hand_.shapeOf(*held) : std::nullopt;
    if (!shape || !hand_.mayEdit()) return;
    Matte::Key moved = *shape;
    for (std::size_t i = 0; i < moved.polygon.size(); ++i)
        if (hand_.points().empty() || hand_.points().contains(i)) moved.polygon[i] += by;
    hand_.setShape("Nudge", moved);
}

void EditShapeTool::putDown() {
    grip_ = {};
    bands_ = moves_ = feathers_ = false;
}

bool EditShapeTool::remove() {
    const Matte* matte = hand_.held();
    if (!matte || !hand_.mayEdit()) return matte != nullptr;
    const std::size_t count = matte->keys.empty() ? 0 : matte->keys.front().polygon.size();
    if (hand_.points().empty() || hand_.points().size() == count) {
        session_.edit("Remove " + text(matte->name), withMatteRemoved(session_.shot(), *hand_.matte()));
        hand_.hold(std::nullopt);
    } else {
        removePoints();
    }
    return true;
}

void EditShapeTool::removePoints() {
    const Matte* matte = hand_.held();
    const std::set<std::size_t> points = hand_.points();
    if (matte->keys.front().polygon.size() < points.size() + 3) {
        session_.say("A shape keeps three points. With none chosen, Delete takes all of it away.");
        return;
    }
    session_.edit(points.size() == 1 ? "Remove a point" : "Remove points",
                  withMattePointsRemoved(session_.shot(), *hand_.matte(), {points.begin(), points.end()}));
    hand_.setPoints({});
}

// ---- painting

void EditShapeTool::paintTangents(QPainter& painter, const PlateView& view, const Matte::Key& shape) const {
    if (!isCurved(shape)) return;
    for (const std::size_t point : hand_.points()) {
        if (point >= shape.polygon.size()) continue;
        const auto from = view.screenFromPlate(shape.polygon[point]);
        for (const Polygon* tangents : {&shape.in, &shape.out}) {
            if (point >= tangents->size() || (*tangents)[point].isZero()) continue;
            const auto to = view.screenFromPlate(shape.polygon[point] + (*tangents)[point]);
            if (!from || !to) continue;
            overShadow(painter, theme::kText, 1, [&] { painter.drawLine(*from, *to); });
            painter.setPen(QPen(QColor(0, 0, 0, 150), 1));
            painter.setBrush(theme::kText);
            painter.drawEllipse(*to, 3, 3);
        }
    }
}

void EditShapeTool::paint(QPainter& painter, const PlateView& view) {
    if (bands_) drawBand(painter, pressed_, at_);
    const auto held = hand_.matte();
    const auto shape = held ? hand_.shapeOf(*held) : std::nullopt;
    if (!shape) return;
    paintTangents(painter, view, *shape);
    for (std::size_t i = 0; i < shape->polygon.size(); ++i) {
        const auto at = view.screenFromPlate(shape->polygon[i]);
        if (!at) continue;
        const bool chosen = hand_.points().contains(i);
        const bool pointed = hovered_.part == Part::point && hovered_.matte == *held && hovered_.index == i;
        painter.setPen(QPen(QColor(0, 0, 0, 170), 1));
        painter.setBrush(chosen ? theme::kBrass : theme::kText);
        const double size = pointed ? 5 : 3.5;
        painter.drawEllipse(*at, size, size);
        if (i < shape->feather.size() && shape->feather[i] != 0)
            drawLabel(painter, *at + QPointF(8, -24),
                      QString("feather %1%2").arg(shape->feather[i] > 0 ? "+" : "").arg(shape->feather[i], 0, 'f', 0));
    }
    if (const auto frame = handles(*shape)) {
        painter.setBrush(Qt::NoBrush);
        painter.setPen(QPen(QColor(255, 255, 255, 110), 1, Qt::DotLine));
        painter.drawPolygon(frame->corners);
        painter.drawLine(QPointF(frame->turn.x(), frame->corners[0].y()), frame->turn);
        painter.setPen(QPen(theme::kText, 2));
        for (int i = 0; i < 4; ++i) {  // brackets, opening inwards
            const QPointF corner = frame->corners[i];
            const double x = i == 0 || i == 3 ? 7 : -7, y = i < 2 ? 7 : -7;
            painter.drawLine(corner, corner + QPointF(x, 0));
            painter.drawLine(corner, corner + QPointF(0, y));
        }
        painter.setPen(QPen(theme::kText, 1.5));
        painter.drawArc(QRectF(frame->turn - QPointF(5, 5), QSizeF(10, 10)), -60 * 16, 300 * 16);
    }
    if (moves_ && (grip_.part == Part::point || grip_.part == Part::in || grip_.part == Part::out)) {
        const Vector2d at = grip_.part == Part::point ? shape->polygon[std::min(grip_.index, shape->polygon.size() - 1)]
                            : grip_.part == Part::in  ? Vector2d(shape->polygon[grip_.index] + shape->in[grip_.index])
                                                      : Vector2d(shape->polygon[grip_.index] + shape->out[grip_.index]);
        drawLoupe(painter, canvas_.image(), {at.x(), at.y()}, at_, canvas_.size());
    }
}

}  // namespace pinion
