#include "stages/inserts/inserttools.h"

#include "canvas/marks.h"
#include "shot/edits/insertedits.h"
#include "stages/inserts/insertsoverlay.h"

#include <QLineF>

#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kGrab = 11;  // screen pixels

std::optional<std::size_t> cornerAt(const PlateView& view, const Quad& corners, const QPointF& at) {
    std::optional<std::size_t> best;
    double nearest = kGrab;
    for (std::size_t i = 0; i < 4; ++i)
        if (const auto screen = view.screenFromPlate(corners[i]))
            if (const double distance = QLineF(*screen, at).length(); distance < nearest) {
                nearest = distance;
                best = i;
            }
    return best;
}

/// The picture that the loupe magnifies: what is seen.
const QImage& seenBy(const Canvas& canvas) {
    return canvas.renderedImage().isNull() ? canvas.image() : canvas.renderedImage();
}

}  // namespace

// ---- placing

bool PlaceInsertTool::takeAnother(const CanvasEvent& event) {
    const auto& inserts = session_.shot().inserts;
    for (std::size_t i = inserts.size(); i-- > 0;) {
        if (inserts[i].id == hand_.insert()) continue;
        const auto corners = hand_.cornersNow(inserts[i]);
        if (!corners || !contains(Polygon(corners->begin(), corners->end()), *event.plate)) continue;
        hand_.hold(inserts[i].id);
        return true;
    }
    return false;
}

void PlaceInsertTool::press(const CanvasEvent& event) {
    start_.reset();
    if (!event.plate || !hand_.mayEdit()) return;
    const auto corners = hand_.cornersNow(*hand_.held());
    const auto handle = corners ? turnHandle(canvas_.view(), *corners) : std::nullopt;
    const auto corner = corners ? cornerAt(canvas_.view(), *corners, event.at) : std::nullopt;
    grip_ = Part::all;
    if (corner) grip_ = Part::corner;
    else if (handle && QLineF(*handle, event.at).length() < kGrab) grip_ = Part::turn;
    else if (!corners || !contains(Polygon(corners->begin(), corners->end()), *event.plate)) {
        if (takeAnother(event)) press(event);
        else if (!corners) session_.say(text(hand_.held()->name) + " is not on this frame. Go to where it is.");
        return;
    }
    const auto inside = hand_.heldArt()->surface->inside(*event.plate, session_.player.frame());
    if (!inside) {
        session_.say("What carries it is not on this frame. Go to where it is.");
        return;
    }
    corner_ = corner.value_or(0);
    from_ = *inside;
    start_ = hand_.held()->placing;
}

void PlaceInsertTool::drag(const CanvasEvent& event) {
    if (!start_ || !event.plate || !hand_.heldArt()) return;
    const auto inside = hand_.heldArt()->surface->inside(*event.plate, session_.player.frame());
    if (!inside) return;
    Placing placing = *start_;
    const double ratio = hand_.heldArt()->surface->widthToHeight();
    // In a metric in which the carrier's height is one.
    const auto metric = [&](const Vector2d& place) {
        return Vector2d((place.x() - start_->centre.x()) * ratio, place.y() - start_->centre.y());
    };
    const Vector2d from = metric(from_), now = metric(*inside);
    if (grip_ == Part::all) {
        placing.centre += *inside - from_;
    } else if (grip_ == Part::turn) {
        double turned = std::atan2(now.y(), now.x()) - std::atan2(from.y(), from.x());
        placing.turn_deg = start_->turn_deg + turned * 180 / std::numbers::pi;
        placing.turn_deg -= 360 * std::round(placing.turn_deg / 360);
        if (event.modifiers & Qt::ShiftModifier) placing.turn_deg = 15 * std::round(placing.turn_deg / 15);
    } else {
        // About its middle; its own axes are turned.
        const double turn = -start_->turn_deg * std::numbers::pi / 180;
        const auto own = [&](const Vector2d& v) {
            return Vector2d(std::cos(turn) * v.x() - std::sin(turn) * v.y(),
                            std::sin(turn) * v.x() + std::cos(turn) * v.y());
        };
        const Vector2d a = own(from), b = own(now);
        if (event.modifiers & Qt::ShiftModifier) {
            for (int k = 0; k < 2; ++k)
                if (std::abs(a[k]) > 1e-6) placing.scale[k] = start_->scale[k] * std::max(0.02, b[k] / a[k]);
        } else if (a.norm() > 1e-6) {
            placing.scale = start_->scale * std::max(0.02, b.dot(a) / a.squaredNorm());
        }
    }
    hand_.setDraft(placing);
}

void PlaceInsertTool::release(const CanvasEvent&) {
    start_.reset();
    const auto placing = hand_.endDrag();
    if (!placing) return;
    const QString what = grip_ == Part::all ? "Move" : grip_ == Part::turn ? "Turn" : "Size";
    session_.edit(what + " " + text(hand_.held()->name),
                  withInsertEdited(session_.shot(), *hand_.insert(), [&](Insert& i) { i.placing = *placing; }));
}

void PlaceInsertTool::nudge(const Vector2d& by) {
    const auto corners = hand_.held() ? hand_.cornersNow(*hand_.held()) : std::nullopt;
    if (!corners || !hand_.mayEdit()) return;
    const int frame = session_.player.frame();
    const Vector2d middle = 0.25 * ((*corners)[0] + (*corners)[1] + (*corners)[2] + (*corners)[3]);
    const auto a = hand_.heldArt()->surface->inside(middle, frame),
               b = hand_.heldArt()->surface->inside(middle + by, frame);
    if (a && b) hand_.edit("Nudge", [&](Insert& insert) { insert.placing.centre += *b - *a; });
}

bool PlaceInsertTool::remove() {
    if (!hand_.mayEdit()) return true;
    session_.edit("Remove " + text(hand_.held()->name), withInsertRemoved(session_.shot(), *hand_.insert()));
    return true;
}

void PlaceInsertTool::putDown() {
    start_.reset();
    if (hand_.isDragged()) hand_.setDraft(std::nullopt);
}

// ---- trims

void TrimInsertTool::press(const CanvasEvent& event) {
    at_ = event.at;
    start_.reset();
    if (!event.plate || !hand_.mayEdit()) return;
    const auto corners = hand_.cornersNow(*hand_.held());
    const auto* part = hand_.heldArt();
    corner_ = corners ? cornerAt(canvas_.view(), *corners, event.at) : std::nullopt;
    const auto inside = part ? part->surface->inside(*event.plate, session_.player.frame()) : std::nullopt;
    if (!corner_ || !inside) return;
    start_ = hand_.held()->placing;
    from_ = *inside;
}

void TrimInsertTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    const auto* part = hand_.heldArt();
    if (!start_ || !event.plate || !part) return;
    const auto inside = part->surface->inside(*event.plate, session_.player.frame());
    if (!inside) return;
    Placing placing = *start_;
    placing.trims[*corner_] += *inside - from_;
    hand_.setDraft(placing);
}

void TrimInsertTool::release(const CanvasEvent&) {
    start_.reset();
    const auto placing = hand_.endDrag();
    if (!placing) return;
    if (const auto now = hand_.cornersNow(*hand_.held()); now && !troubleOf(*now).empty()) {
        hand_.setDraft(std::nullopt);
        session_.say("The corners would cross. Move one by less.");
        return;
    }
    session_.edit("Trim a corner of " + text(hand_.held()->name),
                  withInsertEdited(session_.shot(), *hand_.insert(), [&](Insert& i) { i.placing = *placing; }));
}

void TrimInsertTool::nudge(const Vector2d& by) {
    const auto corners = hand_.held() ? hand_.cornersNow(*hand_.held()) : std::nullopt;
    const auto* part = hand_.heldArt();
    if (!part || !corners || !corner_ || !hand_.mayEdit()) return;
    const int frame = session_.player.frame();
    const auto a = part->surface->inside((*corners)[*corner_], frame),
               b = part->surface->inside((*corners)[*corner_] + by, frame);
    if (a && b) hand_.edit("Nudge a corner", [&](Insert& insert) { insert.placing.trims[*corner_] += *b - *a; });
}

void TrimInsertTool::putDown() {
    start_.reset();
    corner_.reset();
    if (hand_.isDragged()) hand_.setDraft(std::nullopt);
}

void TrimInsertTool::paint(QPainter& painter, const PlateView&) {
    if (!start_ || !corner_ || !hand_.held()) return;
    if (const auto corners = hand_.cornersNow(*hand_.held())) {
        const Vector2d& corner = (*corners)[*corner_];
        drawLoupe(painter, seenBy(canvas_), {corner.x(), corner.y()}, at_, canvas_.size());
    }
}

// ---- an area

void AreaForInsertTool::press(const CanvasEvent& event) {
    start_ = at_ = event.at;
    from_ = to_ = event.plate;
}

void AreaForInsertTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (from_ && event.plate) to_ = event.plate;
}

void AreaForInsertTool::release(const CanvasEvent& event) {
    at_ = event.at;
    if (from_ && to_ && chosen) chosen(*from_, *to_);
    from_.reset();
}

bool AreaForInsertTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    hovered_ = true;
    return true;
}

void AreaForInsertTool::paint(QPainter& painter, const PlateView&) {
    if (from_) drawBand(painter, start_, at_);
    else if (hovered_) drawLabel(painter, at_ + QPointF(14, 12), words_);
}

}  // namespace pinion
