#include "stages/rides.h"

#include "session/notes.h"

namespace pinion {
namespace {

constexpr const char* kSelected = "selected";

}  // namespace

std::optional<Ride> rideOnSelected(const Session& session) {
    if (session.selection.isEmpty()) return std::nullopt;
    std::vector<TrackId> there;
    for (const TrackId id : session.selection.list())
        if (findTrack(session.shot(), id)) there.push_back(id);
    return rideOnTracks(std::move(there));
}

QString choiceOf(const Ride& ride) {
    QString data = text(ride.on);
    for (const std::int64_t id : ride.ids) data += QString(" %1").arg(id);
    return data;
}

QString shownRide(const Session& session, const Ride& ride) {
    const Shot& shot = session.shot();
    const bool isGone = !lackOf(shot, ride).empty() && namesOf(shot, ride).empty() && !ride.ids.empty();
    return isGone ? QString("gone") : text(wordsOf(shot, ride));
}

void addRideChoices(QComboBox& list, const Session& session, const QString& start, const QString& key) {
    if (const auto count = session.selection.size(); count > 0)
        list.addItem(start + QString("%1 selected track%2").arg(count).arg(count == 1 ? "" : "s"), key + kSelected);
    for (const CarrierKind& kind : carrierKinds())
        if (kind.offered)
            for (const Ride& ride : kind.offered(session.shot()))
                list.addItem(start + text(wordsOf(session.shot(), ride)), key + choiceOf(ride));
}

std::optional<Ride> rideOfChoice(const Session& session, const QString& data) {
    if (data == kSelected) return rideOnSelected(session);
    for (const CarrierKind& kind : carrierKinds())
        if (kind.offered)
            for (const Ride& ride : kind.offered(session.shot()))
                if (choiceOf(ride) == data) return ride;
    return std::nullopt;
}

void whenRidesAreKnown(Session& session, const std::vector<std::optional<Ride>>& rides,
                       const std::function<void()>& then) {
    std::vector<Ride> wanted;
    for (std::optional<Ride> ride : rides) {
        if (!ride) continue;
        // As the edit will tell it.
        ride->referenceFrame = referenceForRide(session.shot(), *ride, session.player.frame());
        if (!quickCarrierOf(session.shot(), *ride)) wanted.push_back(*ride);
    }
    if (wanted.empty()) {
        then();
        return;
    }
    // It is kept: what is done with it is quick then.
    session.jobs.start(Job<bool>{.name = "Working out the motion",
                                 .run = [shot = session.shot(), wanted](const JobLink&) -> Expected<bool> {
                                     for (const Ride& ride : wanted) (void)carrierOf(shot, ride);
                                     return true;
                                 },
                                 .merge = [then](bool&) { then(); }});
}

}  // namespace pinion
