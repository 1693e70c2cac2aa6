// The 2D jobs of the workspace: ties, the plate check, spots, steadied pictures, shakes, import.

#include "exchange/deliverables.h"
#include "jobs/steadying.h"
#include "jobs/tracking.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/steadystage.h"
#include "workspace.h"

#include <QClipboard>
#include <QGuiApplication>
#include <QThreadPool>

namespace pinion {
namespace {

QString text(const std::string& utf8) { return QString::fromStdString(utf8); }

}  // namespace

// ---- ties

void Workspace::placeTie(TrackId id, int frame, const Eigen::Vector2d& to, const QString& name) {
    editTie(name, withTrackMoved(shot(), id, frame, to), id, frame);
}

void Workspace::editTie(const QString& name, Shot shot, TrackId id, int frame) {
    // Key after key on one frame is one correction, and one step back.
    const bool goesOn =
        tieTimer_.isActive() && tieTrack_ == id && tieFrame_ == frame && history_.undoName() == name.toStdString();
    goesOn ? amend(std::move(shot)) : edit(name, std::move(shot));
    const Track* track = findTrack(this->shot(), id);
    // A track that was never tracked has nothing to track again.
    if (!frames_ || !track || track->samples.size() < 2) return;
    tieTrack_ = id;
    tieFrame_ = frame;
    tieTimer_.start();
}

void Workspace::startTie(TrackId id, int frame) {
    if (!frames_ || isBusy() || !findTrack(shot(), id)) return;
    const Shot shot = this->shot();
    runJob("Tracking between ties", shot.plate.range.count(),
           [this, shot, id, frame, frames = frames_](const Progress& progress) -> std::function<void()> {
               auto result = runTie(shot, *frames, id, frame, progress);
               return [this, result, id, before = findTrack(shot, id)->samples] {
                   // What was undone or changed meanwhile is not to come back.
                   const Track* now = findTrack(this->shot(), id);
                   if (!now || !now->samples.sharedWith(before)) return;
                   if (!result) {
                       // A gap with nothing to track again is no trouble.
                       if (result.error().fault == Fault::input) sayError(text(result.error().message));
                       return;
                   }
                   // Part of the edit that placed the tie: one step back undoes both.
                   amend(withTracked(this->shot(), result->tracks));
               };
           });
}

void Workspace::startTrackBad(const std::vector<TrackId>& ids) {
    if (!frames_ || isBusy()) return;
    const Shot shot = this->shot();
    runJob("Tracking what is bad", shot.plate.range.count(),
           [this, shot, ids, frames = frames_](const Progress& progress) -> std::function<void()> {
               auto result = runTrackBad(shot, *frames, ids, 0.92, progress, liveListener());
               return [this, result] {
                   if (!result) {
                       if (result.error().fault != Fault::stopped) sayError(text(result.error().message));
                       return;
                   }
                   edit("Track what is bad", withTracked(this->shot(), result->tracks));
               };
           });
}

// ---- looking at the plate

void Workspace::startPlateCheck() {
    if (!frames_ || isBusy()) return;
    const FrameRange range = shot().plate.range;
    runJob("Checking the plate", range.count(),
           [this, range, frames = frames_](const Progress& progress) -> std::function<void()> {
               auto result = checkPlate(*frames, range.first, range.last, progress);
               return [this, result] {
                   if (!result) {
                       sayError(text(result.error().message));
                       return;
                   }
                   plateCheck_ = *result;
                   emit checkChanged();
                   say(result->stopped         ? QString("Stopped. %1 frames checked.").arg(result->frames.size())
                       : result->notes.empty() ? QString("The plate is even: nothing to watch for.")
                                               : text(result->notes.front().words));
               };
           });
}

void Workspace::startPropose(const Polygon& area) {
    if (!frames_ || isBusy()) return;
    const Shot shot = this->shot();
    constexpr int kSpots = 8;
    runJob("Looking for spots", shot.plate.range.count(),
           [this, shot, area, frame = frame_, frames = frames_](const Progress& progress) -> std::function<void()> {
               auto result = runPropose(shot, *frames, area, frame, kSpots, progress);
               return [this, result, frame] {
                   if (!result) {
                       if (result.error().fault != Fault::stopped) sayError(text(result.error().message));
                       return;
                   }
                   proposals_ = *result;
                   proposalsFrame_ = frame;
                   goTo(frame);
                   emit proposalsChanged();
                   say(QString("%1 spots, the best first. Click one with Place track in hand, or take them all with "
                               "Ctrl+Shift+P.")
                           .arg(proposals_.size()));
               };
           });
}

void Workspace::clearProposals() {
    if (proposals_.empty()) return;
    proposals_.clear();
    emit proposalsChanged();
}

void Workspace::follow(TrackId id) {
    if (id == followed_) return;
    followed_ = id;
    emit followedChanged();
}

// ---- the steadied or shaken picture

void Workspace::refreshPlan() {
    const Shot& now = shot();
    if (!now.steady.changesPicture() || !now.plate.isOpen()) {
        const bool had = plan_ || planPending_ || !planProblem_.isEmpty();
        plan_.reset();
        planProblem_.clear();
        planPending_ = false;
        planKey_ = 0;
        if (had) emit planChanged();
        return;
    }
    // Hashing a million samples at every edit would be felt: whether the tracks are the same list is enough.
    Shot settings = now;
    settings.tracks = {};
    const std::uint64_t key = steadyKey(settings);
    if (key == planKey_ && planTracks_.sharedWith(now.tracks)) return;
    planKey_ = key;
    planTracks_ = now.tracks;
    planPending_ = true;
    // One at a time: what changes meanwhile, at every step of a spin box, is worked out once, at the end.
    if (!planRunning_) startPlan();
    emit planChanged();
}

void Workspace::startPlan() {
    planRunning_ = true;
    QThreadPool::globalInstance()->start([this, shot = shot(), key = planKey_, tracks = planTracks_] {
        auto plan = picturePlan(shot);
        QMetaObject::invokeMethod(this, [this, key, tracks, plan = std::move(plan)]() mutable {
            planRunning_ = false;
            if (planKey_ == 0) return;  // nothing is steadied any more
            if (key != planKey_ || !tracks.sharedWith(planTracks_)) {
                startPlan();
                return;
            }
            planPending_ = false;
            plan_ = plan ? std::make_shared<const PicturePlan>(std::move(*plan)) : nullptr;
            planProblem_ = plan ? QString() : text(plan.error().message);
            emit planChanged();
        });
    });
}

void Workspace::startRender(const std::filesystem::path& pattern) {
    if (!frames_ || isBusy()) return;
    const Shot shot = this->shot();
    runJob("Rendering", shot.plate.range.count(),
           [this, shot, pattern, frames = frames_](const Progress& progress) -> std::function<void()> {
               const auto plan = picturePlan(shot);
               const auto report = plan ? runRender(shot, *plan, *frames, pattern, progress)
                                        : Expected<RenderReport>(tl::unexpected(plan.error()));
               return [this, report, pattern] {
                   if (!report) {
                       sayError(text(report.error().message));
                       return;
                   }
                   QString words = report->stopped
                                       ? QString("Stopped. %1 frames kept in %2")
                                             .arg(report->frames)
                                             .arg(text(pattern.parent_path().string()))
                                       : QString("%1 frames: %2").arg(report->frames).arg(text(pattern.string()));
                   if (!report->missing.empty())
                       words += QString("\nNot readable in the plate: %1").arg(text(frameRanges(report->missing)));
                   say(words);
               };
           });
}

void Workspace::startTakeShake(double above_hz, const std::function<void(const ShakeProfile&)>& done) {
    if (isBusy()) return;
    const Shot shot = this->shot();
    runJob("Taking the shake", 0, [this, shot, above_hz, done](const Progress&) -> std::function<void()> {
        auto profile = runTakeShake(shot, above_hz);
        return [this, profile, done] {
            if (!profile) sayError(text(profile.error().message));
            else done(*profile);
        };
    });
}

// ---- the clipboard

void Workspace::startCopy(const Shot& shot, const Deliverable& deliverable) {
    if (isBusy()) return;
    // The text of a long plate's tracks takes a second to write.
    runJob("Copying", 0, [this, shot, deliverable](const Progress&) -> std::function<void()> {
        auto contents = deliverableText(shot, deliverable);
        const QString words = contents ? text(*contents) : QString();
        return [this, deliverable, contents, words] {
            if (!contents) {
                sayError(text(contents.error().message));
                return;
            }
            QGuiApplication::clipboard()->setText(words);
            say(QString("%1 copied, %2 characters").arg(text(deliverable.name)).arg(words.size()));
        };
    });
}

// ---- import

void Workspace::importTracks(const std::filesystem::path& path) {
    if (!frames_ || isBusy()) return;
    const PlateFacts facts = frames_->facts();
    runJob("Importing tracks", 0, [this, path, facts](const Progress&) -> std::function<void()> {
        auto file = readTracks(path);
        return [this, path, facts, file] {
            if (!file) {
                sayError(text(file.error().message));
                return;
            }
            if (file->width != 0 && (file->width != facts.width || file->height != facts.height)) {
                sayError(QString("%1: is for %2x%3, the plate is %4x%5. Nothing was imported.")
                             .arg(text(path.string()))
                             .arg(file->width)
                             .arg(file->height)
                             .arg(facts.width)
                             .arg(facts.height));
                return;
            }
            for (const Track& track : file->tracks)
                for (const Sample& sample : track.samples)
                    if (!facts.holds(sample.frame)) {
                        sayError(QString("%1: track '%2' has frame %3, the plate holds %4-%5. Nothing was imported.")
                                     .arg(text(path.string()), text(track.name))
                                     .arg(sample.frame)
                                     .arg(facts.firstFrame)
                                     .arg(facts.lastFrame));
                        return;
                    }
            std::vector<TrackId> ids;
            Shot after = withTracksImported(shot(), file->tracks, &ids);
            edit(QString("Import %1 tracks").arg(ids.size()), std::move(after));
            select({ids.begin(), ids.end()});
            say(QString("%1 tracks imported from %2").arg(ids.size()).arg(text(path.filename().string())));
        };
    });
}

}  // namespace pinion
