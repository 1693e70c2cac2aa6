#include "stages/tracks/trackhand.h"

#include <array>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kRoom = 18.0;  // screen pixels a pattern needs to show handles

std::vector<QPointF> handlesAt(const PlateView& view, const Vector2d& at, double half,
                               const std::array<Vector2d, 4>& sides) {
    std::vector<QPointF> handles;
    for (const Vector2d& side : sides)
        if (const auto place = view.screenFromPlate(at + half * side)) handles.push_back(*place);
    return handles;
}

}  // namespace

std::optional<Vector2d> placeOf(const Session& session, const TrackHand& hand, const Track& track) {
    if (hand.grip == TrackHand::Grip::move && track.id == hand.dragged) return hand.draggedTo;
    const Sample* sample = sampleAt(track, session.player.frame());
    if (!sample) return std::nullopt;
    return sample->at;
}

const Track* handledTrack(const Session& session) {
    const Track* track = session.isBusy() ? nullptr : session.selection.onlyOne();
    return track && track->byHand && !track->locked && sampleAt(*track, session.player.frame()) ? track : nullptr;
}

std::vector<QPointF> patternHandles(const Session& session, const TrackHand& hand, const PlateView& view) {
    const Track* track = handledTrack(session);
    if (!track) return {};
    const double half = 0.5 * hand.patternOf(*track);
    if (2 * half * view.zoom() < kRoom) return {};
    return handlesAt(view, *placeOf(session, hand, *track), half,
                     {Vector2d(-1, -1), Vector2d(1, -1), Vector2d(1, 1), Vector2d(-1, 1)});
}

std::vector<QPointF> searchHandles(const Session& session, const TrackHand& hand, const PlateView& view) {
    const Track* track = handledTrack(session);
    if (!track) return {};
    return handlesAt(view, *placeOf(session, hand, *track), 0.5 * hand.searchOf(*track),
                     {Vector2d(0, -1), Vector2d(1, 0), Vector2d(0, 1), Vector2d(-1, 0)});
}

void nudgeSelected(Session& session, const Vector2d& by) {
    const Track* track = session.selection.onlyOne();
    if (!track) return;
    if (session.isBusy()) {
        session.say("A job is running. Stop it or wait to nudge.");
        return;
    }
    const Sample* sample = sampleAt(*track, session.player.frame());
    if (!sample) return;
    if (track->locked) {
        session.say(text(track->name) + " is locked. Unlock it to move it.");
        return;
    }
    session.ties.place(track->id, session.player.frame(), sample->at + by, "Nudge " + text(track->name));
}

}  // namespace pinion
