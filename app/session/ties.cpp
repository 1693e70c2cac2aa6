#include "session/ties.h"

#include "jobs/tracking.h"
#include "shot/edits/trackedits.h"

namespace pinion {

Ties::Ties(Document& document, Player& player, JobRunner& jobs, Notes& notes)
    : document_(document), player_(player), jobs_(jobs), notes_(notes), work_(jobs) {
    timer_.setSingleShot(true);
    timer_.setInterval(250);
    connect(&timer_, &QTimer::timeout, this, [this] {
        if (jobs_.isBusy()) timer_.start();
        else track();
    });
    connect(&document, &Document::changed, this, [this] {
        if (track_ && !findTrack(document_.shot(), track_)) timer_.stop();
    });
    // What was undone or closed is not tracked any more.
    for (const auto signal : {&Document::wentBack, &Document::replaced})
        connect(&document, signal, this, [this] {
            timer_.stop();
            work_.cancel();
            track_ = 0;  // a nudge after an undo is a step of its own
        });
}

void Ties::place(TrackId id, int frame, const Eigen::Vector2d& to, const QString& name) {
    edit(name, withTrackMoved(document_.shot(), id, frame, to), id, frame);
}

void Ties::edit(const QString& name, Shot shot, TrackId id, int frame) {
    // Key after key on one frame is one correction, and one step back.
    const bool goesOn =
        isTracking() && track_ == id && frame_ == frame && document_.history().undoName() == name.toStdString();
    goesOn ? document_.amend(std::move(shot)) : document_.edit(name, std::move(shot));
    const Track* track = findTrack(document_.shot(), id);
    // A track that was never tracked has nothing to track again.
    if (!player_.hasPlate() || !track || track->samples.size() < 2) return;
    name_ = name;
    track_ = id;
    frame_ = frame;
    timer_.start();
}

void Ties::track() {
    if (!player_.hasPlate() || !findTrack(document_.shot(), track_)) return;
    work_.start([this, shot = document_.shot(), id = track_, frame = frame_,
                 frames = player_.sharedFrames()](const Progress& progress) -> std::function<void()> {
        auto result = runTie(shot, *frames, id, frame, progress);
        return [this, result, id, before = findTrack(shot, id)->samples] {
            // What was undone or changed meanwhile is not to come back.
            const Track* now = findTrack(document_.shot(), id);
            if (!now || !now->samples.sharedWith(before)) return;
            if (!result) {
                // A gap with nothing to track again is no trouble.
                if (result.error().fault == Fault::input) notes_.sayError(text(result.error().message));
                return;
            }
            // Part of the edit that placed the tie: one step back undoes both. Unless something else was done
            // meanwhile.
            Shot after = withTracked(document_.shot(), result->tracks);
            if (document_.history().undoName() == name_.toStdString()) document_.amend(std::move(after));
            else document_.edit("Track beside a tie", std::move(after));
        };
    });
}

}  // namespace pinion
