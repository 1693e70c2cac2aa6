#include "shot/carriers/carriers.h"
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
        // What the lens is told by, and no more: a carrier may outlive its shot.
        seen_.plate = shot.plate;
        seen_.lens = shot.lens;
        seen_.solve = shot.solve;
        seen_.solveSettings = shot.solveSettings;
    }
    std::shared_ptr<const Lens> lensOn(int frame) const override {
        if (!spansSurface_) return nullptr;
        const auto lens = lensInForce(seen_, frame);
        return lens && lens->isDistorted() ? std::make_shared<const Lens>(*lens) : nullptr;
    }

private:
    Shot seen_;
    bool spansSurface_;
};

std::shared_ptr<const Carrier> tracksCarrying(const Shot& shot, const Ride& ride) {
    return std::make_shared<const TracksCarrier>(shot, ride);
}

void addCarryingTracks(Fingerprint& print, const Shot& shot, const Ride& ride) {
    addTracks(print, List<Track>(tracksOf(shot, List<TrackId>(ride.ids))), AsideTracks::taken);
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

std::optional<std::int64_t> trackId(const Shot& shot, const std::string& name) {
    for (const Track& track : shot.tracks)
        if (track.name == name) return track.id;
    return std::nullopt;
}

}  // namespace

Ride rideOnTracks(std::vector<TrackId> tracks, int referenceFrame) {
    return {"tracks", std::move(tracks), referenceFrame};
}

CarrierKind tracksCarrier() {
    return {.word = "tracks",
            .thing = "track",
            .make = tracksCarrying,
            .addKey = addCarryingTracks,
            .addSurfaceKey =
                [](Fingerprint& print, const Shot& shot, const Ride& ride) {
                    if (ride.ids.size() >= kSurface) addLensInForce(print, shot);
                },
            .isQuick = [](const Shot&, const Ride& ride) { return ride.ids.size() <= kSurface; },
            .isThere = areTracksThere,
            .words = wordsForTracks,
            .nameOf = trackName,
            .idOf = trackId,
            .tracks = [](const Shot&, const Ride& ride) { return ride.ids; }};
}

}  // namespace pinion
