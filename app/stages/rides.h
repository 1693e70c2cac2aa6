#pragma once

#include "session/session.h"
#include "shot/carriers/carriers.h"

#include <QComboBox>

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

// What cards offer to be ridden on: the selected tracks, and what the table of carriers offers, whatever that is.

/// The selected tracks as a ride; none while none is selected.
std::optional<Ride> rideOnSelected(const Session& session);

/// What something is on, as a list shows it: "gone" where that is no more, which a card's message tells at length.
QString shownRide(const Session& session, const Ride& ride);
/// Adds them to a list, the selected tracks first; the item's data is a ride after `key`.
void addRideChoices(QComboBox& list, const Session& session, const QString& start = {}, const QString& key = {});
/// The ride of such data.
std::optional<Ride> rideOfChoice(const Session& session, const QString& data);
/// How a ride is told in such data.
QString choiceOf(const Ride& ride);

/// Does `then` when the motion of all the rides, told from the frame that is shown, is known: at once, or after a job.
void whenRidesAreKnown(Session& session, const std::vector<std::optional<Ride>>& rides,
                       const std::function<void()>& then);

}  // namespace pinion
