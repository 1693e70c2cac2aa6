#include "workspace.h"

#include "jobs/places.h"
#include "exchange/deliverables.h"
#include "shot/stages/platestage.h"
#include "shot/stages/worldstage.h"

#include "base/files.h"
#include "exchange/newshot.h"
#include "jobs/delivering.h"
#include "jobs/solving.h"
#include "jobs/tracking.h"
#include "picture/pyramid.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/history.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/tracksstage.h"

#include <chrono>
#include <QCoreApplication>
#include <QDateTime>
#include <QDir>
#include <QFileInfo>
#include <QSettings>
#include <QStandardPaths>
#include <QThreadPool>

#include <unistd.h>
#include <unordered_set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

QString text(const std::string& utf8) { return QString::fromStdString(utf8); }

fs::path autosaveFolder() {
    return fs::path(QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString()) / "autosave";
}

constexpr int kAutosaveAfter = 2500;  // milliseconds; with the writing at most five seconds of work can be lost
constexpr int kMostWindows = 64;

fs::path lockOf(const fs::path& autosave) { return fs::path(autosave).replace_extension(".lock"); }

/// An autosave with what belongs to it; the lock goes with the process.
void removeShotFiles(const fs::path& autosave) {
    std::error_code code;
    fs::remove(autosave, code);
    fs::remove(fs::path(autosave).replace_extension(".from"), code);
}

}  // namespace

Workspace::Workspace(QObject* parent) : QObject(parent) {
    savedStamp_ = history_.stamp();
    playTimer_.setTimerType(Qt::PreciseTimer);
    connect(&playTimer_, &QTimer::timeout, this, [this] {
        if (!frames_) return;
        // The clock says how many frames are due; one is shown a tick, so that none is dropped while the cache keeps
        // up.
        const double due = double(playClock_.nsecsElapsed()) * 1e-9 * shot().plate.fps.perSecond();
        if (due < playShown_ + 1) return;
        const FrameRange& range = shot().plate.range;
        const int next = frame_ >= range.last || frame_ < range.first ? range.first : frame_ + 1;
        if (!frames_->peek(next)) {
            wantAround();
            // Waiting for the disk is not to be made up for by a burst.
            playShown_ = int(due);
            return;
        }
        ++playShown_;
        if (due > playShown_ + 2) playShown_ = int(due);
        frame_ = next;
        refreshPicture();
        wantAround();
        emit frameChanged();
    });
    connect(this, &Workspace::shotChanged, this, &Workspace::refreshPlan);
    tieTimer_.setSingleShot(true);
    tieTimer_.setInterval(250);
    connect(&tieTimer_, &QTimer::timeout, this, [this] {
        if (isBusy()) tieTimer_.start();
        else startTie(tieTrack_, tieFrame_);
    });
    writer_.setMaxThreadCount(1);
    autosaveTimer_.setSingleShot(true);
    autosaveTimer_.setInterval(kAutosaveAfter);
    connect(&autosaveTimer_, &QTimer::timeout, this, [this] {
        if (isModified() && history_.stamp() != autosavedStamp_) autosaveNow();
    });
}

Workspace::~Workspace() {
    jobProgress_.stop();
    if (job_.joinable()) job_.join();
    if (frames_) frames_->setListener({});
    QThreadPool::globalInstance()->waitForDone();
    removeAutosave();
    writer_.waitForDone();
}

void Workspace::noteChange() {
    // It is not started anew by the next edit: somebody who edits without a pause is saved as well.
    if (!autosaveTimer_.isActive()) autosaveTimer_.start();
    // Nothing stays in hand that an undo has taken away.
    const std::size_t held = selection_.size();
    dropWhatIsGone(selection_);
    if (followed_ && !findTrack(shot(), followed_)) follow(0);
    if (tieTrack_ && !findTrack(shot(), tieTrack_)) tieTimer_.stop();
    emit shotChanged();
    if (selection_.size() != held) emit selectionChanged();
}

void Workspace::dropWhatIsGone(std::set<TrackId>& tracks) const {
    if (tracks.empty()) return;
    std::unordered_set<TrackId> there;
    there.reserve(shot().tracks.size());
    for (const Track& track : shot().tracks) there.insert(track.id);
    std::erase_if(tracks, [&](TrackId id) { return !there.contains(id); });
}

void Workspace::edit(const QString& name, Shot shot) {
    history_.record(name.toStdString(), std::move(shot));
    noteChange();
    if (candidatesShown_) updateCandidates();
}

void Workspace::amend(Shot shot) {
    history_.amend(std::move(shot));
    noteChange();
}

void Workspace::undo() {
    if (!history_.canUndo()) return;
    tieTimer_.stop();
    history_.undo();
    noteChange();
}

void Workspace::redo() {
    if (!history_.canRedo()) return;
    history_.redo();
    noteChange();
}

bool Workspace::isModified() const { return history_.stamp() != savedStamp_; }

/// Another shot takes the place of the present one.
void Workspace::start(Shot shot, const fs::path& file, bool saved) {
    ++shotRun_;
    history_ = History(std::move(shot));
    savedStamp_ = saved ? history_.stamp() : 0;
    autosavedStamp_ = 0;
    autosaveTimer_.stop();
    previousSolve_.reset();
    file_ = file;
    selection_.clear();
    removeAutosave();
}

std::vector<StageReport> Workspace::stages() const {
    return {plateReport(shot(), frames_ ? frames_->facts().missing : std::vector<int>{}),
            tracksReport(shot()),
            cameraReport(shot()),
            worldReport(shot()),
            steadyReport(shot()),
            deliveryReport(shot())};
}

// ---- files

void Workspace::open(const fs::path& path) {
    std::error_code code;
    // Where the program was started does not matter later.
    const fs::path absolute = fs::absolute(path, code);
    if (path.extension() == ".pinion") openShot(absolute);
    else if (shot().plate.isOpen() && !hasPlate()) relinkPlate(absolute);
    else openPlate(absolute);
}

void Workspace::relinkPlate(const fs::path& path) {
    if (isBusy()) {
        sayError("A job is running. Stop it before the plate is put back.");
        return;
    }
    runJob(
        "Opening", 0,
        [this, path, first = shot().plate.frames.first](const Progress& progress) -> std::function<void()> {
            auto plate = Plate::open(path, {.firstFrameOfVideo = first}, progress);
            return [this, path, plate] {
                if (!plate) {
                    if (plate.error().fault != Fault::stopped) sayError(text(plate.error().message));
                    return;
                }
                const PlateFacts& facts = (*plate)->facts();
                const PlateRef& was = shot().plate;
                if (facts.width != was.width || facts.height != was.height) {
                    sayError(
                        QString("%1 is %2x%3, the shot was made on %4x%5: it is another plate. The shot is unchanged.")
                            .arg(text(path.filename().string()))
                            .arg(facts.width)
                            .arg(facts.height)
                            .arg(was.width)
                            .arg(was.height));
                    return;
                }
                const FrameRange before = was.frames;
                edit("Relink plate", withPlate(shot(), facts));
                takePlate(*plate);
                if (facts.firstFrame == before.first && facts.lastFrame == before.last)
                    say(QString("The plate is %1 now; the shot is as it was.").arg(text(path.filename().string())));
                else
                    say(QString("The plate is %1 now. It holds frames %2-%3, the shot was made on %4-%5.")
                            .arg(text(path.filename().string()))
                            .arg(facts.firstFrame)
                            .arg(facts.lastFrame)
                            .arg(before.first)
                            .arg(before.last));
            };
        });
}

void Workspace::openPlate(const fs::path& path) {
    if (isBusy()) {
        sayError("A job is running. Stop it before another plate is opened.");
        return;
    }
    runJob("Opening", 0, [this, path](const Progress& progress) -> std::function<void()> {
        auto plate = Plate::open(path, {}, progress);
        return [this, path, plate] {
            if (!plate) {
                if (plate.error().fault != Fault::stopped) sayError(text(plate.error().message));
                return;
            }
            const PlateFacts& facts = (*plate)->facts();
            start(shotOf(facts), {}, true);
            takePlate(*plate);
            remember(path);
            emit fileChanged();
            emit shotChanged();
            emit selectionChanged();
            QStringList lines;
            if (!facts.missing.empty())
                lines << QString("%1 frames of the plate are missing: %2")
                             .arg(facts.missing.size())
                             .arg(text(frameRanges(facts.missing)));
            for (const std::string& remark : facts.remarks) lines << text(remark);
            if (!lines.isEmpty()) say(lines.join("\n"));
        };
    });
}

void Workspace::openShot(const fs::path& path) {
    if (isBusy()) {
        sayError("A job is running. Stop it before another shot is opened.");
        return;
    }
    runJob("Opening", 0, [this, path](const Progress& progress) -> std::function<void()> {
        auto shot = loadShot(path);
        std::shared_ptr<const Plate> plate;
        QString problem;
        if (shot && shot->plate.isOpen()) {
            auto opened = Plate::open(shot->plate.path, {.firstFrameOfVideo = shot->plate.frames.first}, progress);
            if (!opened) {
                problem = text(opened.error().message) +
                          "\nThe shot is open without its plate; put the plate back, or open it from its new place: "
                          "the shot stays.";
            } else if ((*opened)->facts().width != shot->plate.width ||
                       (*opened)->facts().height != shot->plate.height) {
                problem =
                    QString("The plate is now %1x%2, the shot was made on %3x%4. The shot is open without its plate.")
                        .arg((*opened)->facts().width)
                        .arg((*opened)->facts().height)
                        .arg(shot->plate.width)
                        .arg(shot->plate.height);
            } else {
                plate = *opened;
                const PlateFacts& facts = plate->facts();
                if (facts.firstFrame != shot->plate.frames.first || facts.lastFrame != shot->plate.frames.last)
                    problem = QString("The plate now holds frames %1-%2, the shot was made on %3-%4.")
                                  .arg(facts.firstFrame)
                                  .arg(facts.lastFrame)
                                  .arg(shot->plate.frames.first)
                                  .arg(shot->plate.frames.last);
            }
        }
        return [this, path, shot, plate, problem] {
            if (!shot) {
                sayError(text(shot.error().message));
                return;
            }
            start(*shot, path, true);
            takePlate(plate);
            remember(path);
            emit fileChanged();
            emit shotChanged();
            emit selectionChanged();
            if (!problem.isEmpty()) sayError(problem);
        };
    });
}

void Workspace::save(const fs::path& to, const std::function<void(bool)>& done) {
    std::error_code code;
    const fs::path path = fs::absolute(to, code);
    writer_.start([this, shot = this->shot(), stamp = history_.stamp(), run = shotRun_, path, done] {
        const auto saved = saveShot(shot, path);
        QMetaObject::invokeMethod(this, [this, saved, path, done, stamp, run] {
            if (!saved) {
                sayError(text(saved.error().message));
            } else if (run == shotRun_) {
                file_ = path;
                // What was changed while it was being written is still to be saved.
                savedStamp_ = stamp;
                if (!isModified()) removeAutosave();
                remember(path);
                emit fileChanged();
                emit shotChanged();
                say(QString("Saved %1").arg(text(path.filename().string())));
            }
            if (done) done(saved.has_value());
        });
    });
}

void Workspace::remember(const fs::path& path) {
    QSettings settings;
    QStringList list = settings.value("recent").toStringList();
    std::error_code code;
    const QString entry = text(fs::absolute(path, code).string());
    list.removeAll(entry);
    list.prepend(entry);
    while (list.size() > 10) list.removeLast();
    settings.setValue("recent", list);
}

QStringList Workspace::recent() const { return QSettings().value("recent").toStringList(); }

// ---- recovery

/// A file of this window's own, held by a lock for as long as the process lives.
fs::path Workspace::autosaveFile() {
    for (int i = 0; !autosaveLock_; ++i) {
        (void)makeFolder(autosaveFolder());
        const fs::path file = autosaveFolder() / fmt::format("{}-{}.pinion", ::getpid(), i);
        auto lock = std::make_unique<QLockFile>(text(lockOf(file).string()));
        lock->setStaleLockTime(0);
        std::error_code code;
        // Where no lock can be had (a folder that cannot be written) there is nothing to protect either.
        if ((lock->tryLock(0) && !fs::exists(file, code)) || i == kMostWindows) {
            autosaveLock_ = std::move(lock);
            autosaveFile_ = file;
        }
    }
    return autosaveFile_;
}

void Workspace::removeAutosave() {
    if (!autosaveLock_) return;
    autosavedStamp_ = 0;
    writer_.start([file = autosaveFile()] { removeShotFiles(file); });
}

void Workspace::autosaveThen(const std::function<void()>& written) {
    autosavedStamp_ = history_.stamp();
    writer_.start([shot = this->shot(), to = autosaveFile(), from = file_.string(), written] {
        const bool stands = writeFile(to, shotJson(shot, to)) &&
                            writeFile(fs::path(to).replace_extension(".from"), from + "\n" + shot.name + "\n");
        if (stands && written) written();
    });
}

std::vector<Workspace::Lost> Workspace::lostShots() const {
    std::vector<Lost> lost;
    std::error_code code;
    for (const auto& entry : fs::directory_iterator(autosaveFolder(), code)) {
        if (entry.path().extension() != ".pinion") continue;
        // What is locked belongs to a window that still runs, not to a crash.
        if ((autosaveLock_ && entry.path() == autosaveFile_) || discarded_.contains(entry.path())) continue;
        QLockFile lock(text(lockOf(entry.path()).string()));
        lock.setStaleLockTime(0);
        if (!lock.tryLock(0)) continue;
        lock.unlock();
        Lost one{entry.path(), {}, "a shot"};
        if (const auto from = readFile(fs::path(entry.path()).replace_extension(".from"))) {
            const QStringList lines = text(*from).split('\n');
            one.file = lines.value(0).toStdString();
            one.name = lines.value(1);
        }
        lost.push_back(std::move(one));
    }
    return lost;
}

void Workspace::recover(const Lost& lost) {
    if (isBusy()) {
        sayError("A job is running. Stop it before a shot is recovered.");
        return;
    }
    runJob("Recovering", 0, [this, lost](const Progress& progress) -> std::function<void()> {
        auto shot = loadShot(lost.autosave);
        std::shared_ptr<const Plate> plate;
        if (shot && shot->plate.isOpen())
            if (auto opened = Plate::open(shot->plate.path, {.firstFrameOfVideo = shot->plate.frames.first}, progress))
                plate = *opened;
        return [this, lost, shot, plate] {
            if (!shot) {
                sayError(text(shot.error().message));
                return;
            }
            start(*shot, lost.file, false);
            takePlate(plate);
            // The lost one goes when its successor stands.
            autosaveThen([file = lost.autosave] { removeShotFiles(file); });
            discarded_.insert(lost.autosave);
            emit fileChanged();
            emit shotChanged();
            emit selectionChanged();
            say("Recovered. Save it to keep it.");
        };
    });
}

void Workspace::discard(const Lost& lost) {
    writer_.start([file = lost.autosave] { removeShotFiles(file); });
    discarded_.insert(lost.autosave);
}

// ---- the plate on show

void Workspace::takePlate(const std::shared_ptr<const Plate>& plate) {
    setPlaying(false);
    if (frames_) frames_->setListener({});
    frames_ = plate ? std::make_shared<FrameCache>(plate) : nullptr;
    picture_.reset();
    candidates_.clear();
    candidatesShown_ = false;
    frameProblem_.clear();
    plateCheck_.reset();
    followed_ = 0;
    tieTimer_.stop();
    clearProposals();
    emit checkChanged();
    emit followedChanged();
    if (frames_) {
        frames_->setListener([this](int frame, const Error* error) {
            const QString problem = error ? text(error->message) : QString();
            QMetaObject::invokeMethod(this, [this, frame, problem] { onFrameRead(frame, problem); });
        });
        frame_ = shot().plate.range.first;
        wantAround();
    }
    emit plateChanged();
    emit frameChanged();
}

void Workspace::onFrameRead(int frame, const QString& problem) {
    if (frame != frame_) return;
    frameProblem_ = problem;
    refreshPicture();
    emit frameChanged();
}

void Workspace::wantAround() {
    if (!frames_) return;
    const FrameRange& range = shot().plate.range;
    std::vector<int> wanted;
    const auto want = [&](int frame) {
        if (frames_->facts().holds(frame)) wanted.push_back(frame);
    };
    want(frame_);
    // Ahead by as much as fits comfortably, round the loop when playing.
    const int room = int(std::min<std::size_t>(120, frames_->budget() / 2 / frames_->frameBytes()));
    const int ahead = std::min(isPlaying() ? 48 : 16, room);
    for (int i = 1; i <= ahead; ++i) {
        const int next = frame_ + i;
        want(isPlaying() && next > range.last ? range.first + (next - range.last - 1) % std::max(1, range.count())
                                              : next);
        if (!isPlaying() && i <= 4) want(frame_ - i);
    }
    frames_->want(std::move(wanted));
}

void Workspace::refreshPicture() {
    if (!frames_) return;
    if (auto picture = frames_->peek(frame_)) {
        picture_ = picture;
        pictureFrame_ = frame_;
        frameProblem_.clear();
        if (candidatesShown_ && !isPlaying()) updateCandidates();
    }
}

void Workspace::goTo(int frame) {
    if (!frames_) return;
    frame = std::clamp(frame, shot().plate.frames.first, shot().plate.frames.last);
    if (frame == frame_) return;
    frame_ = frame;
    playClock_.restart();
    playShown_ = 0;
    frameProblem_.clear();
    refreshPicture();
    wantAround();
    emit frameChanged();
}

void Workspace::setPlaying(bool playing) {
    if (playing == isPlaying() || (playing && !frames_)) return;
    if (playing) {
        playClock_.restart();
        playShown_ = 0;
        playTimer_.start(std::max(1, int(250.0 / shot().plate.fps.perSecond())));
        wantAround();
    } else {
        playTimer_.stop();
    }
    emit playingChanged();
}

void Workspace::setView(const ViewTransform& view) {
    if (view == view_) return;
    view_ = view;
    emit viewChanged();
}

void Workspace::select(std::set<TrackId> tracks) {
    dropWhatIsGone(tracks);
    if (tracks == selection_) return;
    selection_ = std::move(tracks);
    emit selectionChanged();
}

void Workspace::setTrimPreview(double error_px) {
    if (error_px == trimPreview_) return;
    trimPreview_ = error_px;
    emit trimPreviewChanged();
}

std::vector<TrackId> Workspace::tracksAbove(double error_px) const {
    std::vector<TrackId> above;
    if (!shot().solve || error_px <= 0) return above;
    std::set<TrackId> active;
    for (const Track& track : shot().tracks)
        if (!track.setAside) active.insert(track.id);
    for (const SolvedTrack& track : shot().solve->tracks)
        if (active.contains(track.track) && track.role != TrackRole::unplaced && track.rms_px > error_px)
            above.push_back(track.track);
    return above;
}

void Workspace::showCandidates(bool shown) {
    candidatesShown_ = shown;
    if (shown) {
        updateCandidates();
    } else {
        candidates_.clear();
        emit candidatesChanged();
    }
}

void Workspace::updateCandidates() {
    if (!picture_ || pictureFrame_ != frame_) return;
    const int run = ++candidateRun_;
    const ScatterOptions options = scatterOptionsOf(shot(), frame_);
    QThreadPool::globalInstance()->start([this, run, options, picture = picture_, frame = frame_] {
        CandidateOptions wanted = options.candidates;
        wanted.border_px = std::max(wanted.border_px, options.pattern_px / 2 + 4);
        auto found = findCandidates(buildPyramid(*picture, options.channel), wanted, {}, options.mattes, frame);
        QMetaObject::invokeMethod(this, [this, run, found = std::move(found)]() mutable {
            if (run != candidateRun_ || !candidatesShown_) return;
            candidates_ = std::move(found);
            emit candidatesChanged();
        });
    });
}

// ---- jobs

void Workspace::runJob(const QString& name, int frames,
                       const std::function<std::function<void()>(const Progress&)>& work) {
    if (job_.joinable()) job_.join();
    jobState_ = {name, "", 0, 0, -1};
    jobFrames_ = frames;
    jobClock_.start();
    jobDone_ = false;
    livePoints_.clear();
    jobProgress_ = Progress(
        [this, last = std::make_shared<std::atomic<qint64>>(-1000)](double fraction, const std::string& detail) {
            // A report a frame would be hundreds a second; the eye wants twenty.
            const qint64 now = jobClock_.elapsed();
            if (now - last->load() < 50 && fraction < 1) return;
            last->store(now);
            QMetaObject::invokeMethod(this, [this, fraction, detail = text(detail)] {
                if (jobDone_) return;
                const double seconds = double(jobClock_.elapsed()) / 1000.0;
                jobState_.fraction = fraction;
                jobState_.detail = detail;
                jobState_.framesPerSecond = seconds > 0.2 ? fraction * jobFrames_ / seconds : 0;
                jobState_.secondsLeft = fraction > 0.03 && seconds > 0.5 ? seconds * (1 - fraction) / fraction : -1;
                {
                    const std::lock_guard lock(liveMutex_);
                    livePoints_ = livePending_;
                    if (liveFrame_ != 0 && !livePoints_.empty()) goTo(liveFrame_);
                }
                emit jobChanged();
                emit liveChanged();
            });
        });
    {
        const std::lock_guard lock(liveMutex_);
        livePending_.clear();
        liveFrame_ = 0;
    }
    job_ = std::thread([this, work, progress = jobProgress_] {
        std::function<void()> finish;
        try {
            finish = work(progress);
        } catch (const std::exception& error) {
            const QString what = error.what();
            finish = [this, what] { sayError("The job failed: " + what); };
        }
        QMetaObject::invokeMethod(this, [this, finish = std::move(finish)] {
            jobDone_ = true;
            livePoints_.clear();
            finish();
            emit jobChanged();
            emit liveChanged();
        });
    });
    emit jobChanged();
}

LiveListener Workspace::liveListener() {
    return [this](int frame, const std::vector<LivePoint>& points) {
        const std::lock_guard lock(liveMutex_);
        livePending_ = points;
        liveFrame_ = frame;
    };
}

void Workspace::stopJob() { jobProgress_.stop(); }

void Workspace::startScatter() {
    if (!frames_ || isBusy()) return;
    setPlaying(false);
    showCandidates(false);
    const Shot shot = this->shot();
    const int start = std::clamp(frame_, shot.plate.range.first, shot.plate.range.last);
    runJob("Scattering", shot.plate.range.count(),
           [this, shot, start, frames = frames_](const Progress& progress) -> std::function<void()> {
               auto result = runScatter(shot, *frames, start, progress, liveListener());
               return [this, start, result] {
                   if (!result) {
                       if (result.error().fault != Fault::stopped) sayError(text(result.error().message));
                       return;
                   }
                   select({});
                   edit(result->stopped ? QString("Scatter, stopped early")
                                        : QString("Scatter %1 tracks").arg(result->tracks.size()),
                        withScattered(this->shot(), result->tracks));
                   goTo(start);
                   say(result->stopped ? QString("Stopped. %1 tracks kept.").arg(result->tracks.size())
                                       : QString("%1 tracks.").arg(result->tracks.size()));
               };
           });
}

void Workspace::startTrack(const std::vector<TrackId>& tracks, Direction direction, int steps) {
    if (!frames_ || isBusy()) return;
    if (tracks.empty()) {
        sayError("No track is selected. Click one, or place one with the tool.");
        return;
    }
    setPlaying(false);
    const Shot shot = this->shot();
    runJob("Tracking", shot.plate.range.count(),
           [this, shot, tracks, direction, steps, from = frame_,
            frames = frames_](const Progress& progress) -> std::function<void()> {
               auto result = runTrack(shot, *frames, tracks, from, direction, steps, progress,
                                      steps == 1 ? LiveListener{} : liveListener());
               return [this, result, direction, steps, from] {
                   if (!result) {
                       if (result.error().fault != Fault::stopped) sayError(text(result.error().message));
                       return;
                   }
                   edit(result->tracks.size() == 1 ? "Track " + text(result->tracks.front().name)
                                                   : QString("Track %1 points").arg(result->tracks.size()),
                        withTracked(this->shot(), result->tracks));
                   const Track& track = result->tracks.front();
                   if (steps == 1)
                       goTo(direction == Direction::forward ? std::min(from + 1, track.lastFrame())
                                                            : std::max(from - 1, track.firstFrame()));
                   else if (direction == Direction::forward) goTo(track.lastFrame());
                   else if (direction == Direction::backward) goTo(track.firstFrame());
                   const EndReason reason = direction == Direction::backward ? track.startReason : track.endReason;
                   if (reason != EndReason::rangeEnd && reason != EndReason::none)
                       say(QString("%1 ends on frame %2: %3.")
                               .arg(text(track.name))
                               .arg(direction == Direction::backward ? track.firstFrame() : track.lastFrame())
                               .arg(text(std::string(toString(reason)))));
               };
           });
}

void Workspace::startSolve(bool refines) {
    if (isBusy()) return;
    const Shot shot = this->shot();
    const std::uint64_t key = solveKey(shot);
    runJob(refines ? "Refining the solve" : "Solving", 0,
           [this, shot, key, refines](const Progress& progress) -> std::function<void()> {
               // Poses and points as they come, four times a second: enough to see it grow.
               auto last = std::chrono::steady_clock::now();
               const auto watch = [this, last](const SolveView& view) mutable {
                   const auto now = std::chrono::steady_clock::now();
                   if (now - last < std::chrono::milliseconds(250)) return;
                   last = now;
                   QMetaObject::invokeMethod(this, [this, view] {
                       if (!isBusy()) return;
                       liveSolve_ = std::make_shared<const SolveView>(view);
                       emit liveSolveChanged();
                   });
               };
               auto result = runSolve(shot, progress, {.watch = watch, .refines = refines});
               return [this, result, key] {
                   liveSolve_.reset();
                   emit liveSolveChanged();
                   if (!result) {
                       if (result.error().fault != Fault::stopped) sayError(text(result.error().message));
                       return;
                   }
                   previousSolve_ = this->shot().solve;
                   edit("Solve camera", withSolve(this->shot(), *result, key));
                   if (!result->doubt.empty()) say(text("Solved, but not sure: " + result->doubt + "."));
                   else
                       say(QString("Solved: %1 px, %2, %3 tracks, %4 frames.")
                               .arg(result->rms_px, 0, 'f', 2)
                               .arg(text(heldOutWords(*result, 2)))
                               .arg(result->used)
                               .arg(result->frames.size()));
               };
           });
}

void Workspace::startDelivery(const std::vector<QString>& names, bool outsideAllowed) {
    if (isBusy()) return;
    const Shot shot = this->shot();
    const fs::path folder = deliveryFolderOf(shot, file_);
    std::vector<std::string> chosen;
    for (const QString& name : names) chosen.push_back(name.toStdString());
    if (const auto free = checkPlaces(shot, folder, file_, true, chosen); !free) {
        sayError(text(free.error().message));
        return;
    }
    if (!outsideAllowed) {
        QStringList paths;
        for (const OutsidePlace& place : placesOutside(shot, folder, chosen)) paths << text(place.path.string());
        if (!paths.isEmpty()) {
            emit outsideAsked(names, paths);
            return;
        }
    }
    runJob("Delivering", 0, [this, shot, folder, names](const Progress& progress) -> std::function<void()> {
        std::vector<std::string> done;
        QStringList problems;
        std::size_t files = 0;
        for (std::size_t i = 0; i < shot.deliverables.size() && !progress.stopped(); ++i) {
            const Deliverable& deliverable = shot.deliverables[i];
            progress.report(double(i) / double(shot.deliverables.size()), deliverable.name);
            if (!names.empty() && std::find(names.begin(), names.end(), text(deliverable.name)) == names.end())
                continue;
            if (const auto report = deliver(shot, deliverable, folder)) {
                done.push_back(deliverable.name);
                files += report->files.size();
            } else {
                problems << text(report.error().message);
            }
        }
        return [this, done, problems, files, folder] {
            if (!done.empty()) {
                Shot after = this->shot();
                for (const std::string& name : done) after = withDelivered(after, name);
                edit("Deliver", after);
                say(QString("%1 files written and read back, in %2").arg(files).arg(text(folder.string())));
            }
            if (!problems.isEmpty()) sayError(problems.join("\n"));
        };
    });
}

}  // namespace pinion
