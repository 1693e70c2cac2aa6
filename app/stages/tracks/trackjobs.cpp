#include "stages/tracks/trackjobs.h"

#include "exchange/formats.h"
#include "jobs/lengthening.h"
#include "jobs/tracking.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/trackedits.h"

#include <algorithm>

namespace pinion {
namespace {

namespace fs = std::filesystem;

constexpr double kBadBelow = 0.92;  // score from which a frame counts as bad
constexpr int kSpots = 8;

/// Goes to where a run over tracks ended, and says why it ended before the range does.
void goToEnd(Session& session, const Track& track, Direction direction, int steps, int from) {
    const bool back = direction == Direction::backward;
    if (steps == 1)
        session.player.goTo(back ? std::max(from - 1, track.firstFrame()) : std::min(from + 1, track.lastFrame()));
    else if (direction != Direction::both) session.player.goTo(back ? track.firstFrame() : track.lastFrame());
    const EndReason reason = back ? track.startReason : track.endReason;
    if (reason == EndReason::rangeEnd || reason == EndReason::none) return;
    session.say(QString("%1 ends on frame %2: %3.")
                    .arg(text(track.name))
                    .arg(back ? track.firstFrame() : track.lastFrame())
                    .arg(text(std::string(toString(reason)))));
}

/// What does not belong to the plate is refused whole, in words; empty when all of it does.
QString whyNotImported(const TrackFile& file, const PlateFacts& facts, const fs::path& path) {
    if (file.width != 0 && (file.width != facts.width || file.height != facts.height))
        return QString("%1: is for %2x%3, the plate is %4x%5. Nothing was imported.")
            .arg(text(path.string()))
            .arg(file.width)
            .arg(file.height)
            .arg(facts.width)
            .arg(facts.height);
    for (const Track& track : file.tracks)
        for (const Sample& sample : track.samples)
            if (!facts.holds(sample.frame))
                return QString("%1: track '%2' has frame %3, the plate holds %4-%5. Nothing was imported.")
                    .arg(text(path.string()), text(track.name))
                    .arg(sample.frame)
                    .arg(facts.firstFrame)
                    .arg(facts.lastFrame);
    return {};
}

}  // namespace

void startScatter(Session& session) {
    if (!session.isReady()) return;
    session.player.setPlaying(false);
    const Shot shot = session.shot();
    const int start = std::clamp(session.player.frame(), shot.plate.range.first, shot.plate.range.last);
    const auto merge = [&session, start](TrackingResult& result) {
        session.selection.set({});
        session.edit(
            result.stopped ? QString("Scatter, stopped early") : QString("Scatter %1 tracks").arg(result.tracks.size()),
            withScattered(session.shot(), result.tracks));
        session.player.goTo(start);
        session.say(result.stopped ? QString("Stopped. %1 tracks kept.").arg(result.tracks.size())
                                   : QString("%1 tracks.").arg(result.tracks.size()));
    };
    session.jobs.start(Job<TrackingResult>{
        .name = "Scattering",
        .frames = shot.plate.range.count(),
        .run = [shot, start, frames = session.player.sharedFrames()](
                   const JobLink& link) { return runScatter(shot, *frames, start, link.progress, link.live); },
        .merge = merge});
}

void startTrack(Session& session, const std::vector<TrackId>& tracks, Direction direction, int steps) {
    if (!session.isReady()) return;
    if (tracks.empty()) {
        session.sayError("No track is selected. Click one, or place one with the tool.");
        return;
    }
    session.player.setPlaying(false);
    const Shot shot = session.shot();
    const int from = session.player.frame();
    const auto run = [shot, tracks, direction, steps, from,
                      frames = session.player.sharedFrames()](const JobLink& link) {
        return runTrack(shot, *frames, tracks, from, direction, steps, link.progress,
                        steps == 1 ? LiveListener{} : link.live);
    };
    const auto merge = [&session, direction, steps, from](TrackingResult& result) {
        session.edit(result.tracks.size() == 1 ? "Track " + text(result.tracks.front().name)
                                               : QString("Track %1 points").arg(result.tracks.size()),
                     withTracked(session.shot(), result.tracks));
        goToEnd(session, result.tracks.front(), direction, steps, from);
    };
    session.jobs.start(
        Job<TrackingResult>{.name = "Tracking", .frames = shot.plate.range.count(), .run = run, .merge = merge});
}

void startTrackBad(Session& session, const std::vector<TrackId>& tracks) {
    if (!session.isReady()) return;
    const Shot shot = session.shot();
    const auto run = [shot, tracks, frames = session.player.sharedFrames()](const JobLink& link) {
        return runTrackBad(shot, *frames, tracks, kBadBelow, link.progress, link.live);
    };
    const auto merge = [&session](TrackingResult& result) {
        session.edit("Track what is bad", withTracked(session.shot(), result.tracks));
    };
    session.jobs.start(Job<TrackingResult>{
        .name = "Tracking what is bad", .frames = shot.plate.range.count(), .run = run, .merge = merge});
}

void startLengthen(Session& session) {
    if (!session.isReady()) return;
    session.player.setPlaying(false);
    const Shot shot = session.shot();
    const auto run = [shot, frames = session.player.sharedFrames()](const JobLink& link) {
        return lengthenAndRefine(shot, *frames, link.progress);
    };
    const auto merge = [&session, shot](ThoroughSolve& result) {
        const SecondSweep& sweep = result.sweep;
        if (sweep.stopped) {
            session.say("Stopped. The tracks are as they were.");
            return;
        }
        if (!result.solve) {
            session.edit("Lengthen with the camera", withLengthened(session.shot(), sweep));
            session.say(QString("Stopped. %1 tracks run on; solve the camera with them.").arg(sweep.tracks.size()));
            return;
        }
        session.edit("Lengthen with the camera",
                     withSolve(withLengthened(session.shot(), sweep), *result.solve, withLengthened(shot, sweep)));
        session.say(
            QString("%1 tracks run on: %2 frames in the median, %3 before; %4 went into others. Held out %5 px, "
                    "was %6.")
                .arg(sweep.tracks.size())
                .arg(int(sweep.median))
                .arg(int(sweep.medianBefore))
                .arg(sweep.joined.size())
                .arg(result.solve->heldOutRms_px, 0, 'f', 3)
                .arg(result.before.heldOutRms_px, 0, 'f', 3));
    };
    session.jobs.start(Job<ThoroughSolve>{.name = "Lengthening with the camera", .run = run, .merge = merge});
}

void startSearch(Session& session, Spots& spots, const Polygon& area) {
    if (!session.isReady()) return;
    const Shot shot = session.shot();
    const int frame = session.player.frame();
    const auto run = [shot, area, frame, frames = session.player.sharedFrames()](const JobLink& link) {
        return runPropose(shot, *frames, area, frame, kSpots, link.progress);
    };
    const auto merge = [&session, &spots, frame](std::vector<SpotProposal>& found) {
        spots.set(found, frame);
        session.player.goTo(frame);
        session.say(QString("%1 spots, the best first. Click one with Place track in hand, or take them all with "
                            "Ctrl+Shift+P.")
                        .arg(found.size()));
    };
    session.jobs.start(Job<std::vector<SpotProposal>>{
        .name = "Looking for spots", .frames = shot.plate.range.count(), .run = run, .merge = merge});
}

void importTracks(Session& session, const fs::path& path) {
    if (!session.isReady()) return;
    const auto merge = [&session, path](TrackFile& file) {
        if (!session.hasPlate()) return;
        if (const QString why = whyNotImported(file, session.player.frames()->facts(), path); !why.isEmpty()) {
            session.sayError(why);
            return;
        }
        std::vector<TrackId> ids;
        Shot after = withTracksImported(session.shot(), file.tracks, &ids);
        session.edit(QString("Import %1 tracks").arg(ids.size()), std::move(after));
        session.selection.set({ids.begin(), ids.end()});
        session.say(QString("%1 tracks imported from %2").arg(ids.size()).arg(text(path.filename().string())));
    };
    session.jobs.start(Job<TrackFile>{
        .name = "Importing tracks", .run = [path](const JobLink&) { return readTracks(path); }, .merge = merge});
}

}  // namespace pinion
