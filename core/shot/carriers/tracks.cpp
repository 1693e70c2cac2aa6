#include "shot/carriers/carriers.h"
#include "shot/carriers/things.h"
#include "shot/stages/lensstage.h"
#include "steady/motion.h"

#include <algorithm>

namespace pinion {
namespace {

constexpr std::size_t kSurface = 4;  // so many tracks and more span a surface of the scene

MotionKind kindOf(std::size_t tracks) {
    return tracks == 1   ? MotionKind::position
           : tracks < 4  ? MotionKind::similarity
           : tracks == 4 ? MotionKind::cornerPin
                         : MotionKind::perspective;
}

Expected<PlateMotion> motionOfTracks(const std::vector<Track>& tracks, const Ride& ride, const FrameRange& whole) {
    const MotionKind kind = ride.as.value_or(kindOf(tracks.size()));
    const bool allOnReference = std::all_of(tracks.begin(), tracks.end(),
                                            [&](const Track& track) { return sampleAt(track, ride.referenceFrame); });
    // Short lives are joined, where nobody asked for more than they give together.
    if (!ride.as && kind == MotionKind::perspective && !allOnReference)
        return pictureMotionOf(tracks, ride.referenceFrame, whole, PictureModel::similarity);
    return motionOf(tracks, ride.referenceFrame, whole, kind);
}

class TracksCarrier : public Carrier {
public:
    TracksCarrier(const Shot& shot, const Ride& ride)
        : Carrier(shot.plate.range, [tracks = tracksOf(shot, List<TrackId>(ride.ids)), ride,
                                     whole = wholeRange(shot, ride)] { return motionOfTracks(tracks, ride, whole); }),
          spansSurface_(ride.ids.size() >= kSurface) {
        if (!spansSurface_) return;
        if (!isOfZoom(shot)) {
            lens_ = bending(lensInForce(shot));
            return;
        }
        // Of a zoom it is another one on every frame. What it is told by, and no more: a carrier may outlive its shot.
        isZoom_ = true;
        seen_.plate = shot.plate;
        seen_.lens = shot.lens;
        seen_.solve = shot.solve;
    }
    std::shared_ptr<const Lens> lensOn(int frame) const override {
        return isZoom_ ? bending(lensInForce(seen_, frame)) : lens_;
    }

private:
    static std::shared_ptr<const Lens> bending(const std::optional<Lens>& lens) {
        return lens && lens->isDistorted() ? std::make_shared<const Lens>(*lens) : nullptr;
    }
    bool spansSurface_, isZoom_ = false;
    std::shared_ptr<const Lens> lens_;
    Shot seen_;
};

std::shared_ptr<const Carrier> carriedByTracks(const Shot& shot, const Ride& ride) {
    return std::make_shared<const TracksCarrier>(shot, ride);
}

void addCarryingTracks(Fingerprint& print, const Shot& shot, const Ride& ride) {
    for (const TrackId id : ride.ids)
        if (const Track* track = findTrack(shot, id)) addTrack(print, *track);
}

bool areTracksThere(const Shot& shot, const Ride& ride, int frame) {
    return std::all_of(ride.ids.begin(), ride.ids.end(), [&](TrackId id) {
        const Track* track = findTrack(shot, id);
        return !track || sampleAt(*track, frame);
    });
}

std::string wordsForTracks(const Shot& shot, const Ride& ride) {
    if (const auto tracks = ride.ids.size() + ride.names.size(); tracks > 2) return fmt::format("{} tracks", tracks);
    std::string words;
    for (const std::string& name : namesOf(shot, ride)) words += (words.empty() ? "" : " and ") + name;
    return words.empty() ? (ride.ids.empty() ? "nothing" : "a track that is gone") : words;
}

const std::string* trackName(const Shot& shot, std::int64_t id) {
    const Track* track = findTrack(shot, id);
    return track ? &track->name : nullptr;
}

}  // namespace

Ride rideOnTracks(std::vector<TrackId> tracks, int referenceFrame) {
    return {"tracks", std::move(tracks), referenceFrame};
}

CarrierKind tracksCarrier() {
    return {.word = "tracks",
            .thing = "track",
            .make = carriedByTracks,
            .addKey = addCarryingTracks,
            .addSurfaceKey =
                [](Fingerprint& print, const Shot& shot, const Ride& ride) {
                    if (ride.ids.size() >= kSurface) addLensInForce(print, shot);
                },
            .isQuick = [](const Shot&, const Ride& ride) { return ride.ids.size() <= kSurface; },
            .isThere = areTracksThere,
            .words = wordsForTracks,
            .nameOf = trackName,
            .idOf = idOfThing<&Shot::tracks>,
            .tracks = [](const Shot&, const Ride& ride) { return ride.ids; }};
}

}  // namespace pinion
