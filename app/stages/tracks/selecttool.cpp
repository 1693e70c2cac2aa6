#include "stages/tracks/selecttool.h"

#include "canvas/marks.h"
#include "shot/edits/trackedits.h"

#include <QLineF>
#include <QPainter>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Grip = TrackHand::Grip;

constexpr double kGrab = 9.0;     // screen pixels within which a click means a track
constexpr double kHandle = 7.0;   // screen pixels within which a press means a handle
constexpr double kOffset = 14.0;  // screen pixels within which a press with Alt means the offset point
constexpr int kLeastPattern = 7, kMostPattern = 101, kMostSearch = 601;

double nearest(const std::vector<QPointF>& handles, const QPointF& at) {
    double best = 1e9;
    for (const QPointF& handle : handles) best = std::min(best, QLineF(handle, at).length());
    return best;
}

bool addsToSelection(const CanvasEvent& event) { return event.modifiers & (Qt::ControlModifier | Qt::ShiftModifier); }

}  // namespace

TrackId SelectTool::trackNear(const QPointF& at) const {
    TrackId found = 0;
    double best = kGrab * kGrab;
    for (const Track& track : session_.shot().tracks) {
        if (track.hidden) continue;
        const auto place = placeOf(session_, hand_, track);
        const auto screen = place ? view_.screenFromPlate(*place) : std::nullopt;
        if (!screen) continue;
        const QPointF d = *screen - at;
        // A track placed by hand wins over a scattered dot at about the same place.
        const double distance = QPointF::dotProduct(d, d) * (track.byHand ? 0.5 : 1.0);
        if (distance < best) {
            best = distance;
            found = track.id;
        }
    }
    return found;
}

void SelectTool::press(const CanvasEvent& event) {
    from_ = at_ = event.at;
    plate_ = event.plate;
    if (const Track* track = handledTrack(session_); track && pressHandle(event, *track)) return;
    pressTrack(event);
}

bool SelectTool::pressHandle(const CanvasEvent& event, const Track& track) {
    const double pattern = nearest(patternHandles(session_, hand_, view_), event.at);
    const double search = nearest(searchHandles(session_, hand_, view_), event.at);
    if (std::min(pattern, search) < kHandle) {
        hand_.grip = pattern <= search ? Grip::pattern : Grip::search;
        hand_.pattern_px = track.pattern_px;
        hand_.search_px = track.search_px;
        return true;
    }
    // With Alt the offset point is drawn out of the track.
    if (!(event.modifiers & Qt::AltModifier) || !event.plate) return false;
    const auto wanted = view_.screenFromPlate(sampleAt(track, session_.player.frame())->wanted());
    if (!wanted || QLineF(*wanted, event.at).length() >= kOffset) return false;
    hand_.grip = Grip::offset;
    hand_.draggedTo = *event.plate;
    return true;
}

void SelectTool::pressTrack(const CanvasEvent& event) {
    const TrackId near = trackNear(event.at);
    bandOnTrack_ = near != 0;
    // What cannot be dragged is no hindrance to a band: among hundreds of features there is hardly a free spot.
    bands_ = true;
    if (near == 0) return;
    std::set<TrackId> selection = session_.selection.tracks();
    if (addsToSelection(event)) {
        if (!selection.erase(near)) selection.insert(near);
        session_.selection.set(selection);
        bands_ = false;
        return;
    }
    if (!selection.contains(near) || selection.size() > 1) session_.selection.set({near});
    const Track* track = findTrack(session_.shot(), near);
    if (!track || !track->byHand || track->locked || session_.isBusy()) return;
    bands_ = false;
    hand_.draggedTo = *placeOf(session_, hand_, *track);  // before it counts as dragged, and lies where the drag has it
    hand_.grip = Grip::move;
    hand_.dragged = near;
}

void SelectTool::drag(const CanvasEvent& event) {
    const auto before = plate_;
    at_ = event.at;
    plate_ = event.plate;
    const Track* track = handledTrack(session_);
    switch (hand_.grip) {
        case Grip::move:
            // Half as fast as the hand: a correction is a matter of fractions of a pixel.
            if (before && plate_) {
                const QSizeF plate = view_.plateSize();
                hand_.draggedTo = (hand_.draggedTo + (*plate_ - *before) * 0.5)
                                      .cwiseMax(Vector2d(0, 0))
                                      .cwiseMin(Vector2d(plate.width(), plate.height()));
            }
            break;
        case Grip::offset:
            if (plate_) hand_.draggedTo = *plate_;
            break;
        case Grip::pattern:
        case Grip::search: {
            if (!track || !plate_) break;
            const Vector2d away = (*plate_ - *placeOf(session_, hand_, *track)).cwiseAbs();
            const int size = 2 * int(std::lround(away.maxCoeff() - 0.5)) + 1;
            if (hand_.grip == Grip::pattern) hand_.pattern_px = std::clamp(size, kLeastPattern, kMostPattern);
            else hand_.search_px = std::clamp(size, track->pattern_px + 4, kMostSearch);
            break;
        }
        case Grip::none:
            break;
    }
}

void SelectTool::release(const CanvasEvent& event) {
    at_ = event.at;
    const bool moved = (at_ - from_).manhattanLength() > 2;
    const Track* handled = handledTrack(session_);
    const TrackHand held = hand_;
    const bool banded = bands_;
    if (held.grip == Grip::pattern || held.grip == Grip::search) {
        if (handled) dropSize(*handled);
    } else if (held.grip == Grip::offset) {
        if (handled) dropOffset(*handled);
    }
    putDown();
    if (held.grip == Grip::move && moved) {
        const Track* track = findTrack(session_.shot(), held.dragged);
        session_.ties.place(held.dragged, session_.player.frame(), held.draggedTo,
                            "Move " + (track ? text(track->name) : QString("track")));
    } else if (banded && !(bandOnTrack_ && (at_ - from_).manhattanLength() < 5)) {
        selectBand(event);
    }
}

void SelectTool::dropSize(const Track& track) {
    const bool pattern = hand_.grip == Grip::pattern;
    const int size = pattern ? hand_.pattern_px : hand_.search_px;
    if (size == (pattern ? track.pattern_px : track.search_px)) return;
    session_.edit(QString("%1 of %2 to %3 px").arg(pattern ? "Pattern" : "Search", text(track.name)).arg(size),
                  withTracksEdited(session_.shot(), {track.id}, [&](Track& t) {
                      if (pattern) {
                          t.pattern_px = size;
                          t.search_px = std::max(t.search_px, size + 4);
                      } else {
                          t.search_px = size;
                      }
                  }));
}

void SelectTool::dropOffset(const Track& track) {
    Vector2d offset = hand_.draggedTo - sampleAt(track, session_.player.frame())->at;
    // Dropped on the track itself it is none.
    if (offset.norm() * view_.zoom() < 8) offset.setZero();
    session_.edit("Offset point of " + text(track.name), withTracksEdited(session_.shot(), {track.id}, [&](Track& t) {
                      t.offset = offset;
                      t.samples = t.samples.edited([&](auto& samples) {
                          for (Sample& sample : samples) sample.carried = offset.cast<float>();
                      });
                  }));
}

void SelectTool::selectBand(const CanvasEvent& event) {
    std::set<TrackId> chosen;
    if (addsToSelection(event)) chosen = session_.selection.tracks();
    const QRectF band = QRectF(from_, at_).normalized();
    for (const Track& track : session_.shot().tracks) {
        const auto place = track.hidden ? std::nullopt : placeOf(session_, hand_, track);
        const auto screen = place ? view_.screenFromPlate(*place) : std::nullopt;
        if (screen && band.contains(*screen)) chosen.insert(track.id);
    }
    session_.selection.set(chosen);
}

bool SelectTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    cursor_ = nearest(patternHandles(session_, hand_, view_), at_) < kHandle  ? Qt::SizeFDiagCursor
              : nearest(searchHandles(session_, hand_, view_), at_) < kHandle ? Qt::SizeAllCursor
                                                                              : Qt::ArrowCursor;
    const TrackId before = hand_.hovered;
    hand_.hovered = trackNear(at_);
    return hand_.hovered != before;
}

void SelectTool::putDown() {
    hand_.grip = Grip::none;
    hand_.dragged = 0;
    bands_ = false;
}

void SelectTool::paint(QPainter& painter, const PlateView&) {
    if (bands_) drawBand(painter, from_, at_);
    if (hand_.grip == Grip::move)
        drawLoupe(painter, canvas_.image(), {hand_.draggedTo.x(), hand_.draggedTo.y()}, at_, canvas_.size());
    // What a drag changes, by name and size.
    if (hand_.grip == Grip::pattern)
        drawLabel(painter, at_ + QPointF(14, 12), QString("pattern %1 px").arg(hand_.pattern_px));
    if (hand_.grip == Grip::search)
        drawLabel(painter, at_ + QPointF(14, 12), QString("search %1 px").arg(hand_.search_px));
}

}  // namespace pinion
