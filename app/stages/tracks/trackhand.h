#pragma once

#include "canvas/plateview.h"
#include "session/session.h"

#include <QPointF>

#include <optional>
#include <vector>

namespace pinion {

/// What the hand does to tracks on the plate just now: the select tool sets it, the overlays draw by it.
struct TrackHand {
    enum class Grip { none, move, pattern, search, offset };

    Grip grip = Grip::none;
    TrackId hovered = 0;
    TrackId dragged = 0;
    Eigen::Vector2d draggedTo{0, 0};
    int pattern_px = 0, search_px = 0;  ///< while their handles are dragged

    int patternOf(const Track& track) const { return grip == Grip::pattern ? pattern_px : track.pattern_px; }
    int searchOf(const Track& track) const { return grip == Grip::search ? search_px : track.search_px; }
};

/// Where a track is on the frame that is shown, the hand's drag included; none where it is not.
std::optional<Eigen::Vector2d> placeOf(const Session& session, const TrackHand& hand, const Track& track);

/// Moves the one selected track on this frame by pixels of the plate: a tie.
void nudgeSelected(Session& session, const Eigen::Vector2d& by);

/// The one selected track whose areas can be dragged here; null when there is none.
const Track* handledTrack(const Session& session);

/// Its handles on the screen: the pattern's at the four corners, none while it is too small for them; the search's in
/// the middle of the four sides, where the pattern has none, so that the two are never mistaken for each other.
std::vector<QPointF> patternHandles(const Session& session, const TrackHand& hand, const PlateView& view);
std::vector<QPointF> searchHandles(const Session& session, const TrackHand& hand, const PlateView& view);

}  // namespace pinion
