#include "stages/planes/planetools.h"

#include "canvas/marks.h"
#include "lens/edges.h"
#include "shot/edits/planeedits.h"
#include "shot/stages/planesstage.h"

#include <QLineF>
#include <QPainter>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kGrab = 9;   // screen pixels
constexpr double kDrags = 6;  // from which a press is a drag

Polygon rectangleBetween(const Vector2d& a, const Vector2d& b) {
    const Vector2d low = a.cwiseMin(b), high = a.cwiseMax(b);
    return {low, {high.x(), low.y()}, high, {low.x(), high.y()}};
}

std::optional<std::size_t> cornerNear(const Canvas& canvas, const Quad& corners, const QPointF& at) {
    std::optional<std::size_t> best;
    double nearest = kGrab;
    for (std::size_t i = 0; i < 4; ++i) {
        const auto screen = canvas.view().screenFromPlate(corners[i]);
        if (!screen) continue;
        const double distance = QLineF(*screen, at).length();
        if (distance < nearest) {
            nearest = distance;
            best = i;
        }
    }
    return best;
}

}  // namespace

// ---- what is tracked by

QString PlaneOutlineTool::name() const {
    return kind_ == Kind::plane ? "plane" : kind_ == Kind::more ? "plane more" : "plane take out";
}

bool PlaneOutlineTool::onFirst(const QPointF& at) const {
    if (drawn_.size() < 3) return false;
    const auto first = canvas_.view().screenFromPlate(drawn_.front());
    return first && QLineF(*first, at).length() < kGrab;
}

std::optional<PlaneOutlineTool::Grip> PlaneOutlineTool::gripNear(const QPointF& at) const {
    const PlanarTrack* plane = hand_.held();
    const auto pose = plane ? hand_.poseNow(*plane) : std::nullopt;
    if (!pose || plane->locked) return std::nullopt;
    std::optional<Grip> best;
    double nearest = kGrab;
    std::size_t index = 0;
    for (const List<Polygon>* list : {&plane->outlines, &plane->takenOut})
        for (const Polygon& outline : *list) {
            for (std::size_t i = 0; i < outline.size(); ++i) {
                const auto screen = canvas_.view().screenFromPlate(placedBy(*plane, *pose, outline[i]));
                if (!screen) continue;
                const double distance = QLineF(*screen, at).length();
                if (distance < nearest) {
                    nearest = distance;
                    best = Grip{index, i};
                }
            }
            ++index;
        }
    return best;
}

void PlaneOutlineTool::press(const CanvasEvent& event) {
    at_ = from_ = event.at;
    grip_.reset();
    corner_.reset();
    moved_.reset();
    if (onFirst(event.at)) {
        close();
        return;
    }
    if (drawn_.empty()) {
        if (kind_ != Kind::plane && !hand_.mayEdit()) return;
        if (session_.isBusy()) {
            session_.say("A job is running. Stop it or wait to draw.");
            return;
        }
        grip_ = gripNear(event.at);
        if (grip_) return;
    }
    if (event.plate) drawn_.push_back(*event.plate);
}

void PlaneOutlineTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (!event.plate) return;
    if (grip_) moved_ = *event.plate;
    else if (drawn_.size() == 1 && QLineF(from_, event.at).length() > kDrags) corner_ = *event.plate;
}

void PlaneOutlineTool::release(const CanvasEvent&) {
    if (grip_ && moved_ && hand_.mayEdit())
        session_.edit("Move a corner of " + text(hand_.held()->name),
                      withPlaneCornerMoved(session_.shot(), *hand_.plane(), grip_->outline, grip_->corner,
                                           session_.player.frame(), *moved_));
    grip_.reset();
    moved_.reset();
    if (!corner_) return;
    drawn_ = rectangleBetween(drawn_.front(), *corner_);
    corner_.reset();
    close();
}

void PlaneOutlineTool::doubleClick(const CanvasEvent& event) {
    at_ = event.at;
    // Its first press has added the last corner already.
    if (!drawn_.empty()) close();
}

bool PlaneOutlineTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    hovered_ = true;
    return true;
}

bool PlaneOutlineTool::remove() {
    if (drawn_.empty()) return false;
    drawn_.pop_back();
    return true;
}

bool PlaneOutlineTool::finish() {
    if (drawn_.empty()) return false;
    close();
    return true;
}

void PlaneOutlineTool::close() {
    Polygon outline = std::move(drawn_);
    drawn_.clear();
    // A double click's second place lies on its first.
    while (outline.size() > 1 && (outline.back() - outline[outline.size() - 2]).norm() < 1) outline.pop_back();
    if (outline.size() < 3) {
        session_.say("An outline needs three corners at least. Click round the surface, or drag a rectangle.");
        return;
    }
    if (crossesItself(outline)) {
        session_.say("The outline crosses itself. Draw it round the surface without crossing.");
        return;
    }
    if (areaOf(outline) < 64) {
        session_.say("The outline is too small to hold on to. Draw a larger one.");
        return;
    }
    const Shot& shot = session_.shot();
    PlaneRegion region;
    region.outlines = {outline};
    if (boxOf(region).cutTo(shot.plate.width, shot.plate.height).isEmpty()) {
        session_.say("The outline lies outside the plate. Draw it where the surface is seen.");
        return;
    }
    const int frame = session_.player.frame();
    if (kind_ == Kind::plane) {
        PlaneId id = 0;
        const Shot with = withPlaneAdded(shot, outline, frame, &id);
        session_.edit("Draw " + text(findPlane(with, id)->name), with);
        hand_.hold(id);
        canvas_.takeTool("surface");
        session_.say("Track it both ways (Y), or place its surface first: four clicks on the corners that are wanted.");
        return;
    }
    if (!hand_.mayEdit()) return;
    const QString name = text(hand_.held()->name);
    if (!hand_.poseNow(*hand_.held())) {
        session_.say(name + " is not tracked on this frame. Go to where it is.");
        return;
    }
    const bool takenOut = kind_ == Kind::takenOut;
    session_.edit((takenOut ? "Take a part out of " : "Add an outline to ") + name,
                  withPlaneOutlineAdded(shot, *hand_.plane(), frame, outline, takenOut));
}

void PlaneOutlineTool::paint(QPainter& painter, const PlateView& view) {
    if (grip_ && moved_) {
        if (const auto at = view.screenFromPlate(*moved_)) {
            painter.setBrush(theme::kBrass);
            painter.setPen(QPen(QColor(0, 0, 0, 150), 1));
            painter.drawRect(QRectF(at->x() - 4, at->y() - 4, 8, 8));
            drawLoupe(painter, canvas_.image(), {moved_->x(), moved_->y()}, at_, canvas_.size());
        }
        return;
    }
    Polygon line = drawn_;
    const bool closes = onFirst(at_);
    if (corner_) line = rectangleBetween(drawn_.front(), *corner_);
    else if (const auto place = view.plateFromScreen(at_); place && !line.empty() && !closes) line.push_back(*place);
    painter.setBrush(Qt::NoBrush);
    if (!line.empty()) {
        const QPainterPath path = view.line(line, closes || corner_);
        overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawPath(path); });
    }
    const QString what = kind_ == Kind::takenOut ? "part that does not count"
                         : kind_ == Kind::more   ? "more of it"
                                                 : "a plane";
    const QString words = line.empty()        ? "click or drag: " + what
                          : closes            ? QString("closes it")
                          : drawn_.size() < 3 ? QString("corner %1").arg(drawn_.size() + 1)
                                              : QString("first corner, Enter or double click close it");
    if (!corner_ && hovered_) drawLabel(painter, at_ + QPointF(14, 12), words);
}

// ---- the surface

void SurfaceTool::press(const CanvasEvent& event) {
    at_ = event.at;
    start_.reset();
    if (!hand_.mayEdit() || !event.plate) return;
    const PlanarTrack& plane = *hand_.held();
    if (!hand_.poseNow(plane)) {
        session_.say(text(plane.name) + " is not tracked on this frame. Track it to here first.");
        return;
    }
    if (const auto surface = hand_.surfaceNow(plane)) {
        corner_ = cornerNear(canvas_, *surface, event.at);
        if (!corner_ && !contains(Polygon(surface->begin(), surface->end()), *event.plate)) return;
        start_ = surface;
        from_ = *event.plate;
        return;
    }
    placed_.push_back(*event.plate);
    if (placed_.size() < 4) return;
    const auto corners = inOrder({placed_[0], placed_[1], placed_[2], placed_[3]});
    placed_.clear();
    if (!corners) {
        session_.sayError(text(corners.error().message) + ". Click the four corners again.");
        return;
    }
    hand_.place(*corners, "Place the surface of " + text(plane.name));
}

void SurfaceTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (!start_ || !event.plate) return;
    Quad moved = *start_;
    const Vector2d by = *event.plate - from_;
    if (corner_) moved[*corner_] += by;
    else
        for (Vector2d& corner : moved) corner += by;
    hand_.setDraft(moved);
}

void SurfaceTool::release(const CanvasEvent& event) {
    at_ = event.at;
    if (!start_) return;
    const auto moved = hand_.surfaceNow(*hand_.held());
    const Quad before = *start_;
    start_.reset();
    if (!moved || *moved == before) return;
    hand_.place(*moved,
                (corner_ ? "Move a corner of the surface of " : "Move the surface of ") + text(hand_.held()->name));
}

void SurfaceTool::putDown() {
    placed_.clear();
    // A drag that is given up leaves the surface where it was.
    if (start_) hand_.setDraft(std::nullopt);
    start_.reset();
}

bool SurfaceTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    hovered_ = true;
    return true;
}

void SurfaceTool::nudge(const Vector2d& by) {
    const PlanarTrack* plane = hand_.held();
    auto surface = plane ? hand_.surfaceNow(*plane) : std::nullopt;
    if (!surface || !hand_.mayEdit()) return;
    if (corner_) (*surface)[*corner_] += by;
    else
        for (Vector2d& corner : *surface) corner += by;
    hand_.place(*surface, "Nudge the surface of " + text(plane->name));
}

bool SurfaceTool::remove() {
    if (!placed_.empty()) {
        placed_.pop_back();
        return true;
    }
    const PlanarTrack* plane = hand_.held();
    if (!plane || !hand_.mayEdit()) return false;
    const int frame = session_.player.frame();
    for (const PlaneTie& tie : plane->ties)
        if (tie.frame == frame) {
            session_.edit(plane->ties.size() == 1 ? "Remove the surface of " + text(plane->name)
                                                  : QString("Remove the correction on %1").arg(frame),
                          withPlaneTieRemoved(session_.shot(), plane->id, frame));
            return true;
        }
    session_.say("The surface was neither placed nor corrected on this frame.");
    return true;
}

void SurfaceTool::paint(QPainter& painter, const PlateView& view) {
    for (std::size_t i = 0; i < placed_.size(); ++i)
        if (const auto at = view.screenFromPlate(placed_[i])) {
            painter.setBrush(theme::kBrass);
            painter.setPen(QPen(QColor(0, 0, 0, 150), 1));
            painter.drawEllipse(*at, 3.5, 3.5);
        }
    const PlanarTrack* plane = hand_.held();
    if (start_ && corner_)
        if (const auto now = plane ? hand_.surfaceNow(*plane) : std::nullopt) {
            const Vector2d& corner = (*now)[*corner_];
            drawLoupe(painter, canvas_.image(), {corner.x(), corner.y()}, at_, canvas_.size());
            return;
        }
    if (!hovered_ || !plane || !hand_.poseNow(*plane)) return;
    const auto surface = hand_.surfaceNow(*plane);
    if (!surface)
        drawLabel(painter, at_ + QPointF(14, 12), QString("corner %1 of 4 of the surface").arg(placed_.size() + 1));
}

// ---- a cylinder's sides

bool SidesTool::mayDraw() {
    if (!hand_.mayEdit()) return false;
    const PlanarTrack& plane = *hand_.held();
    if (session_.player.frame() == plane.referenceFrame) return true;
    session_.player.goTo(plane.referenceFrame);
    session_.say(QString("The sides are drawn on its reference frame, %1: here it is.").arg(plane.referenceFrame));
    return false;
}

void SidesTool::set(const Quad& sides, const QString& edit) {
    auto shot = withPlaneSides(session_.shot(), *hand_.plane(), sides);
    if (!shot) {
        session_.sayError(text(shot.error().message) + ".");
        return;
    }
    session_.edit(edit, *std::move(shot));
    session_.say(knowsFocal(session_.shot())
                     ? "A cylinder. Track it both ways (Y): its sides are fitted to what is tracked."
                     : "A cylinder. Track it both ways (Y): its sides and the focal length, which is not known, are "
                       "fitted to what is tracked.");
}

void SidesTool::press(const CanvasEvent& event) {
    at_ = event.at;
    end_.reset();
    moved_.reset();
    if (!event.plate || !mayDraw()) return;
    const PlanarTrack& plane = *hand_.held();
    if (plane.sides && clicked_.empty())
        if ((end_ = cornerNear(canvas_, *plane.sides, event.at))) return;
    clicked_.push_back(*event.plate);
    if (clicked_.size() < 4) return;
    Polygon clicked = std::move(clicked_);
    clicked_.clear();
    // On to the contours, where the picture shows them.
    if (const PicturePtr picture = session_.player.picture();
        picture && session_.player.pictureFrame() == plane.referenceFrame) {
        const ImageChannel analysed = analysisPlane(*picture);
        for (const std::size_t side : {std::size_t(0), std::size_t(2)}) {
            const SnappedLine on = snapped(analysed, std::span(clicked).subspan(side, 2));
            std::copy(on.clicks.begin(), on.clicks.end(), clicked.begin() + std::ptrdiff_t(side));
        }
    }
    set(sidesInOrder(clicked), "Sides of " + text(plane.name));
}

void SidesTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (end_ && event.plate) moved_ = *event.plate;
}

void SidesTool::release(const CanvasEvent& event) {
    at_ = event.at;
    const PlanarTrack* plane = hand_.held();
    if (end_ && moved_ && plane && plane->sides && hand_.mayEdit()) {
        Quad sides = *plane->sides;
        sides[*end_] = *moved_;
        set(sides, "Move a side of " + text(plane->name));
    }
    end_.reset();
    moved_.reset();
}

bool SidesTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    hovered_ = true;
    return true;
}

bool SidesTool::remove() {
    if (clicked_.empty()) return false;
    clicked_.pop_back();
    return true;
}

void SidesTool::paint(QPainter& painter, const PlateView& view) {
    const PlanarTrack* plane = hand_.held();
    const auto dot = [&](const Vector2d& place) {
        painter.setBrush(theme::kBrass);
        painter.setPen(QPen(QColor(0, 0, 0, 150), 1));
        if (const auto at = view.screenFromPlate(place)) painter.drawEllipse(*at, 3.5, 3.5);
    };
    if (plane && plane->sides && session_.player.frame() == plane->referenceFrame &&
        !canvas_.sight().startsWith("surface")) {
        Quad sides = *plane->sides;
        if (end_ && moved_) sides[*end_] = *moved_;
        for (const auto& [from, to] : {std::pair<std::size_t, std::size_t>{0, 3}, {1, 2}}) {
            const QPainterPath path = view.line(Polygon{sides[from], sides[to]});
            painter.setBrush(Qt::NoBrush);
            overShadow(painter, theme::kBrass, 1.6, [&] { painter.drawPath(path); });
        }
        for (const Vector2d& end : sides) dot(end);
        if (end_ && moved_) {
            drawLoupe(painter, canvas_.image(), {moved_->x(), moved_->y()}, at_, canvas_.size());
            return;
        }
    }
    if (clicked_.size() % 2 == 1)
        if (const auto place = view.plateFromScreen(at_)) {
            const QPainterPath path = view.line(Polygon{clicked_.back(), *place});
            painter.setBrush(Qt::NoBrush);
            overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawPath(path); });
        }
    if (clicked_.size() > 1) {
        const QPainterPath path = view.line(Polygon{clicked_[0], clicked_[1]});
        painter.setBrush(Qt::NoBrush);
        overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawPath(path); });
    }
    for (const Vector2d& place : clicked_) dot(place);
    if (!hovered_ || !plane || (plane->sides && clicked_.empty())) return;
    static const QStringList kWords{"one contour: its top", "its bottom", "the other contour: its top", "its bottom"};
    drawLabel(painter, at_ + QPointF(14, 12), kWords.value(int(clicked_.size())));
}

}  // namespace pinion
