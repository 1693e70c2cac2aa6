#include "jobs/tracking.h"

#include "shot/edits/trackedits.h"
#include "shot/stages/mattesstage.h"
#include "shot/stages/tracksstage.h"

#include <algorithm>
#include <set>

namespace pinion {

Expected<TrackingResult> runScatter(const Shot& shot, FrameCache& frames, int startFrame, const Progress& progress,
                                    const LiveListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    return scatter(frames, scatterOptionsOf(shot, startFrame), progress, live);
}

Expected<TrackingResult> runTrack(const Shot& shot, FrameCache& frames, const std::vector<TrackId>& ids, int from,
                                  Direction direction, int steps, const Progress& progress, const LiveListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    const std::set<TrackId> meant(ids.begin(), ids.end());
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (meant.contains(track.id)) {
            if (track.locked) return failure(Fault::input, "track {} is locked; unlock it to track it", track.name);
            tracks.push_back(track);
        }
    if (tracks.empty()) return failure(Fault::input, "no track is selected; click one, or place one with the tool");
    FrameRange range = shot.plate.range;
    if (steps > 0) range = {std::max(range.first, from - steps), std::min(range.last, from + steps)};
    const std::vector<Matte> mattes = mattesOf(shot);
    auto result = trackPoints(frames, tracks, from, range, direction, progress, live, mattes);
    if (result && steps > 0)
        // A few steps end where they were told to, not where the range does.
        for (Track& track : result->tracks) {
            if (track.endReason == EndReason::rangeEnd && track.lastFrame() < shot.plate.range.last)
                track.endReason = EndReason::none;
            if (track.startReason == EndReason::rangeEnd && track.firstFrame() > shot.plate.range.first)
                track.startReason = EndReason::none;
        }
    return result;
}

Expected<TrackingResult> runTie(const Shot& shot, FrameCache& frames, TrackId id, int frame, const Progress& progress,
                                const LiveListener& live) {
    const Track* track = findTrack(shot, id);
    if (!track) return failure(Fault::input, "the track is gone");
    if (track->locked) return failure(Fault::input, "track {} is locked; unlock it to track it", track->name);
    if (const Sample* sample = sampleAt(*track, frame); sample && sample->tie)
        return trackAroundTie(frames, *track, frame, shot.plate.range, progress, live);
    // The tie was taken away: the gap it left, from its neighbours. Other gaps are none of its business.
    FrameRange gap = shot.plate.range;
    for (const Sample& sample : track->samples) {
        if (sample.frame < frame) gap.first = std::max(gap.first, sample.frame);
        if (sample.frame > frame) {
            gap.last = std::min(gap.last, sample.frame);
            break;
        }
    }
    return trackBad(frames, {*track}, 0.0, gap, progress, live);
}

Expected<TrackingResult> runTrackBad(const Shot& shot, FrameCache& frames, const std::vector<TrackId>& ids,
                                     double least, const Progress& progress, const LiveListener& live) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (meant.contains(track.id) && !track.locked) tracks.push_back(track);
    if (tracks.empty()) return failure(Fault::input, "no track is selected that is not locked; click one first");
    return trackBad(frames, tracks, least, shot.plate.range, progress, live);
}

Expected<std::vector<SpotProposal>> runPropose(const Shot& shot, FrameCache& frames, const Polygon& area, int frame,
                                               int count, const Progress& progress) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    TrackId id = 0;
    const Shot with = withTrackAdded(shot, frame, {0, 0}, &id);
    return proposeSpots(frames, area, frame, shot.plate.range, count, *findTrack(with, id), progress);
}

}  // namespace pinion
