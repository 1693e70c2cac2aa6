#include "shot/edits/trackedits.h"

#include "camera/secondsweep.h"
#include "shot/carriers/carriers.h"

#include <algorithm>
#include <set>
#include <unordered_map>

namespace pinion {
namespace {

using Eigen::Vector2d;

Shot withTrackEdited(const Shot& shot, TrackId id, const std::function<void(Track&)>& edit) {
    return withTracksEdited(shot, {id}, edit);
}

/// Gives names that no track of the shot has: "p-1" if it is free, else "p-1-2", ...
class FreeNames {
public:
    explicit FreeNames(const Shot& shot) {
        for (const Track& track : shot.tracks) taken_.insert(track.name);
    }
    std::string take(const std::string& wanted) {
        std::string name = wanted;
        for (int number = 2; !taken_.insert(name).second; ++number) name = fmt::format("{}-{}", wanted, number);
        return name;
    }

private:
    std::set<std::string> taken_;
};

/// What rode on one track rides on another.
Shot withRidesMoved(const Shot& shot, TrackId from, TrackId to) {
    Shot result = withRidesEdited(shot, [&](Ride ride) {
        if (ride.on == "tracks") std::replace(ride.ids.begin(), ride.ids.end(), from, to);
        return ride;
    });
    result.steady.tracks =
        shot.steady.tracks.edited([&](auto& tracks) { std::replace(tracks.begin(), tracks.end(), from, to); });
    return result;
}

}  // namespace

Shot withTrackAdded(const Shot& shot, int frame, const Vector2d& at, TrackId* id) {
    Shot result = shot;
    Track track;
    track.id = result.nextTrack++;
    // What passes in front does not end a point that somebody chose.
    track.pickUp = true;
    std::set<std::string> names;
    for (const Track& other : shot.tracks) names.insert(other.name);
    for (int number = 1; track.name.empty(); ++number)
        if (const std::string name = fmt::format("p-{}", number); !names.contains(name)) track.name = name;
    track.byHand = true;
    track.motion = shot.scatterSettings.motion;
    track.channel = shot.scatterSettings.channel;
    track.pattern_px = shot.scatterSettings.pattern_px;
    track.search_px = shot.scatterSettings.search_px;
    track.driftLimit = shot.scatterSettings.driftLimit;
    track.preFilter = shot.scatterSettings.preFilter;
    track.referenceFrame = frame;
    track.samples = List<Sample>({{.frame = frame, .at = at, .tie = true}});
    if (id) *id = track.id;
    result.tracks = shot.tracks.edited([&](auto& tracks) { tracks.push_back(std::move(track)); });
    return result;
}

Shot withTrackMoved(const Shot& shot, TrackId id, int frame, const Vector2d& to) {
    return withTrackEdited(shot, id, [&](Track& track) {
        track.samples = track.samples.edited([&](std::vector<Sample>& samples) {
            const auto at = std::lower_bound(samples.begin(), samples.end(), frame,
                                             [](const Sample& s, int f) { return s.frame < f; });
            // The offset point stays where the pattern had carried it.
            const bool there = at != samples.end() && at->frame == frame;
            const Sample moved{.frame = frame,
                               .carried = there ? at->carried : Eigen::Vector2f(track.offset.cast<float>()),
                               .at = to,
                               .tie = true};
            if (at != samples.end() && at->frame == frame) *at = moved;
            else samples.insert(at, moved);
        });
    });
}

Shot withTieRemoved(const Shot& shot, TrackId id, int frame) {
    return withTrackEdited(shot, id, [&](Track& track) {
        if (track.samples.size() < 2) return;
        track.samples = track.samples.edited(
            [&](auto& samples) { std::erase_if(samples, [&](const Sample& s) { return s.frame == frame && s.tie; }); });
        if (sampleAt(track, track.referenceFrame)) return;
        // The reference frame was it: the nearest other tie takes its place, else the first frame.
        track.referenceFrame = track.firstFrame();
        for (const Sample& sample : track.samples)
            if (sample.tie && (!sampleAt(track, track.referenceFrame)->tie ||
                               std::abs(sample.frame - frame) < std::abs(track.referenceFrame - frame)))
                track.referenceFrame = sample.frame;
    });
}

Shot withReferenceRenewed(const Shot& shot, TrackId id, int frame) {
    return withTrackEdited(shot, id, [&](Track& track) {
        track.samples = track.samples.edited([&](auto& samples) {
            for (Sample& sample : samples)
                if (sample.frame == frame) sample.tie = sample.renewed = true;
        });
    });
}

Shot withTracksEdited(const Shot& shot, const std::vector<TrackId>& ids, const std::function<void(Track&)>& edit,
                      bool evenLocked) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](std::vector<Track>& tracks) {
        for (Track& track : tracks)
            if (meant.contains(track.id) && (evenLocked || !track.locked)) edit(track);
    });
    return result;
}

Shot withTracksDuplicated(const Shot& shot, const std::vector<TrackId>& ids, std::vector<TrackId>* copies) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    Shot result = shot;
    FreeNames names(shot);
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (const Track& track : shot.tracks) {
            if (!meant.contains(track.id)) continue;
            Track copy = track;
            copy.id = result.nextTrack++;
            copy.name = names.take(track.name);
            copy.locked = false;
            if (copies) copies->push_back(copy.id);
            tracks.push_back(std::move(copy));
        }
    });
    return result;
}

Shot withTracksJoined(const Shot& shot, TrackId first, TrackId second) {
    const Track* other = findTrack(shot, second);
    if (!other || first == second) return shot;
    const Track* one = findTrack(shot, first);
    const Shot result = withTracksRemoved(
        withTrackEdited(shot, first, [other](Track& track) { track = joined(track, *other); }), {second});
    return one ? withRidesMoved(result, second, first) : result;
}

Shot withTracksTrimmed(const Shot& shot, const std::vector<TrackId>& ids, const FrameRange& range) {
    return withTracksEdited(shot, ids, [&](Track& track) {
        List<Sample> kept = track.samples.edited(
            [&](auto& samples) { std::erase_if(samples, [&](const Sample& s) { return !range.holds(s.frame); }); });
        if (kept.isEmpty()) return;
        if (kept.size() != track.samples.size()) {
            if (kept.front().frame != track.samples.front().frame) track.startReason = EndReason::none;
            if (kept.back().frame != track.samples.back().frame) track.endReason = EndReason::none;
        }
        track.samples = kept;
        if (!sampleAt(track, track.referenceFrame))
            track.referenceFrame = std::clamp(track.referenceFrame, track.firstFrame(), track.lastFrame());
        if (!sampleAt(track, track.referenceFrame)) track.referenceFrame = track.firstFrame();
    });
}

Shot withTracksImported(const Shot& shot, const std::vector<Track>& imported, std::vector<TrackId>* ids) {
    Shot result = shot;
    FreeNames names(shot);
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (Track track : imported) {
            track.id = result.nextTrack++;
            track.byHand = true;
            track.name = names.take(track.name);
            if (ids) ids->push_back(track.id);
            tracks.push_back(std::move(track));
        }
    });
    return result;
}

Shot withTracksRemoved(const Shot& shot, const std::vector<TrackId>& ids) {
    const std::set<TrackId> gone(ids.begin(), ids.end());
    Shot result = shot;
    result.tracks = shot.tracks.edited(
        [&](auto& tracks) { std::erase_if(tracks, [&](const Track& t) { return gone.contains(t.id) && !t.locked; }); });
    return result;
}

Shot withSetAside(const Shot& shot, const std::vector<TrackId>& ids, bool aside) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (Track& track : tracks)
            if (meant.contains(track.id)) {
                track.setAside = aside;
                if (!aside && asideFrames(track) > 0)
                    track.samples = track.samples.edited([](auto& samples) {
                        for (Sample& sample : samples) sample.aside = false;
                    });
            }
    });
    return result;
}

Shot withTrackRenamed(const Shot& shot, TrackId id, const std::string& name) {
    return withTrackEdited(shot, id, [&](Track& track) { track.name = name; });
}

Shot withScattered(const Shot& shot, const std::vector<Track>& scattered) {
    Shot result = shot;
    std::vector<Track> tracks;
    std::set<TrackId> carrying;
    for (const Ride& ride : ridesOf(shot))
        for (const TrackId id : tracksCarrying(shot, ride)) carrying.insert(id);
    const auto carriesSomething = [&](const Track& track) { return carrying.contains(track.id); };
    std::set<std::string> taken;
    for (const Track& track : shot.tracks)
        if (track.byHand || track.locked || carriesSomething(track)) {
            taken.insert(track.name);
            tracks.push_back(track);
        }
    int number = int(scattered.size());
    for (Track track : scattered) {
        while (taken.contains(track.name)) track.name = fmt::format("s-{:03}", ++number);
        track.id = result.nextTrack++;
        tracks.push_back(std::move(track));
    }
    result.tracks = List<Track>(std::move(tracks));
    return result;
}

Shot withTracked(const Shot& shot, const std::vector<Track>& tracked) {
    std::unordered_map<TrackId, const Track*> byId;
    for (const Track& track : tracked) byId[track.id] = &track;
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (Track& track : tracks)
            if (const auto found = byId.find(track.id); found != byId.end()) {
                // Names and choices may have changed while the job ran; only what it found is taken.
                track.samples = found->second->samples;
                track.startReason = found->second->startReason;
                track.endReason = found->second->endReason;
            }
    });
    return result;
}

Shot withLengthened(const Shot& shot, const SecondSweep& sweep) {
    if (sweep.stopped) return shot;
    std::unordered_map<TrackId, int> references;
    for (const Track& track : sweep.tracks) references[track.id] = track.referenceFrame;
    Shot result = withTracked(shot, sweep.tracks);
    result.tracks = result.tracks.edited([&](auto& tracks) {
        for (Track& track : tracks)
            if (const auto found = references.find(track.id); found != references.end())
                track.referenceFrame = found->second;
    });
    return withTracksRemoved(result, sweep.joined);
}

}  // namespace pinion
