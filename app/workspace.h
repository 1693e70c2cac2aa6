#pragma once

#include "camera/solve.h"
#include "plate/framecache.h"
#include "plate/platecheck.h"
#include "track/advice.h"
#include "exchange/deliverables.h"
#include "exchange/transforms.h"
#include "shot/history.h"
#include "shot/stages/steadystage.h"

#include <QElapsedTimer>
#include <QLockFile>
#include <QObject>
#include <QString>
#include <QThreadPool>
#include <QTimer>

#include <functional>
#include <memory>
#include <mutex>
#include <atomic>
#include <set>
#include <thread>

namespace pinion {

enum class Stage { plate, tracks, camera, world, steady, delivery };

/// What the window works on: the history of the shot, its open plate, the playhead, the selection, and the one job that
/// runs. Views get the current shot and show it; tools turn mouse and keys into edits made here.
class Workspace : public QObject {
    Q_OBJECT
public:
    explicit Workspace(QObject* parent = nullptr);
    ~Workspace() override;

    // The shot and its edits.
    const Shot& shot() const { return history_.current(); }
    const History& history() const { return history_; }
    void edit(const QString& name, Shot shot);
    /// An edit that continues the one before (a value still being dragged): no step of its own.
    void amend(Shot shot);
    void undo();
    void redo();
    bool isModified() const;
    const std::filesystem::path& file() const { return file_; }
    std::vector<StageReport> stages() const;
    std::shared_ptr<const Solve> previousSolve() const { return previousSolve_; }
    /// What the running solve has so far; null when none runs.
    std::shared_ptr<const SolveView> liveSolve() const { return liveSolve_; }

    // Files.
    void openPlate(const std::filesystem::path& path);
    /// The shot's plate at another place; the shot stays. A plate of another size is refused.
    void relinkPlate(const std::filesystem::path& path);
    void openShot(const std::filesystem::path& path);
    /// Either, by what it is.
    void open(const std::filesystem::path& path);
    /// Writes beside and renames, in a thread of its own; `done` is called here with the outcome.
    void save(const std::filesystem::path& path, const std::function<void(bool)>& done = {});
    QStringList recent() const;

    // Recovery after a crash.
    struct Lost {
        std::filesystem::path autosave;
        std::filesystem::path file;  ///< where it was saved; empty when never
        QString name;
    };
    std::vector<Lost> lostShots() const;
    void recover(const Lost& lost);
    void discard(const Lost& lost);
    /// Writes the present version into the autosave, in the writer's thread.
    void autosaveNow() { autosaveThen({}); }

    // The plate on show.
    bool hasPlate() const { return frames_ != nullptr; }
    FrameCache* frames() const { return frames_.get(); }
    std::shared_ptr<FrameCache> sharedFrames() const { return frames_; }
    int frame() const { return frame_; }
    /// The current frame's picture, or the last one shown while it is being read.
    PicturePtr picture() const { return picture_; }
    int pictureFrame() const { return pictureFrame_; }
    QString frameProblem() const { return frameProblem_; }
    const ViewTransform& view() const { return view_; }
    void setView(const ViewTransform& view);
    void goTo(int frame);
    void step(int by) { goTo(frame_ + by); }
    bool isPlaying() const { return playTimer_.isActive(); }
    void setPlaying(bool playing);

    // The selection.
    const std::set<TrackId>& selection() const { return selection_; }
    void select(std::set<TrackId> tracks);
    std::vector<TrackId> selected() const { return {selection_.begin(), selection_.end()}; }

    /// The error in pixels above which solved tracks would be set aside; shown on the plate before it is done. 0: off.
    double trimPreview() const { return trimPreview_; }
    void setTrimPreview(double error_px);
    std::vector<TrackId> tracksAbove(double error_px) const;

    /// An edit that places a tie, and then the stretches on its two sides tracked again: one step for undo. Keys that
    /// nudge come fast; the tracking waits until they rest.
    void placeTie(TrackId track, int frame, const Eigen::Vector2d& to, const QString& name);
    /// The same for any edit after which the stretches around `frame` have to be tracked again.
    void editTie(const QString& name, Shot shot, TrackId track, int frame);

    // What the plate check and the search for spots found: derived, never part of the shot.
    const std::optional<PlateCheck>& plateCheck() const { return plateCheck_; }
    const std::vector<SpotProposal>& proposals() const { return proposals_; }
    int proposalsFrame() const { return proposalsFrame_; }
    void clearProposals();

    // The steadied or shaken picture of the present shot, made in a thread; null while there is none, with the reason.
    std::shared_ptr<const PicturePlan> plan() const { return plan_; }
    QString planProblem() const { return planProblem_; }
    bool planPending() const { return planPending_; }
    /// Asks for the plan even while the Steady card changes nothing (for its curves).
    void refreshPlan();
    void startPlan();

    /// The track the canvas stays on, the picture moving around it; 0: none.
    TrackId followed() const { return followed_; }
    void follow(TrackId track);

    // Candidates, shown before a scatter; derived from the frame and the settings in a thread.
    const std::vector<Candidate>& candidates() const { return candidates_; }
    void showCandidates(bool shown);
    bool candidatesShown() const { return candidatesShown_; }

    // Jobs. One runs at a time; its result is merged into the shot of that moment.
    struct JobState {
        QString name;
        QString detail;
        double fraction = 0.0;
        double framesPerSecond = 0.0;
        double secondsLeft = -1.0;
    };
    bool isBusy() const { return job_.joinable() && !jobDone_; }
    const JobState& jobState() const { return jobState_; }
    const std::vector<LivePoint>& livePoints() const { return livePoints_; }
    void startScatter();
    void startTrack(const std::vector<TrackId>& tracks, Direction direction, int steps);
    void startTrackBad(const std::vector<TrackId>& tracks);
    void startPlateCheck();
    void startPropose(const Polygon& area);
    void startRender(const std::filesystem::path& pattern);
    void startTakeShake(double above_hz, const std::function<void(const ShakeProfile&)>& done);
    /// Puts the text of a deliverable on the clipboard.
    void startCopy(const Deliverable& deliverable) { startCopy(shot(), deliverable); }
    void startCopy(const Shot& shot, const Deliverable& deliverable);
    void importTracks(const std::filesystem::path& path);
    /// `refines`: from the present solve on, without a search.
    void startSolve(bool refines = false);
    /// Asks by `outsideAsked` first when something would be written outside the delivery folder.
    void startDelivery(const std::vector<QString>& names, bool outsideAllowed = false);
    void stopJob();

    void say(const QString& text) { emit saidNote(text); }
    void sayError(const QString& text) { emit saidError(text); }

signals:
    void liveSolveChanged();
    void shotChanged();
    void outsideAsked(const std::vector<QString>& names, const QStringList& paths);
    void plateChanged();
    void frameChanged();  ///< the playhead moved or its picture arrived
    void playingChanged();
    void selectionChanged();
    void candidatesChanged();
    void jobChanged();  ///< started, moved on, ended
    void liveChanged();
    void trimPreviewChanged();
    void checkChanged();  ///< the plate check
    void proposalsChanged();
    void planChanged();
    void followedChanged();
    void viewChanged();
    void fileChanged();
    void saidNote(const QString& text);
    void saidError(const QString& text);

private:
    void noteChange();
    void startTie(TrackId track, int frame);
    /// Runs `work` in the job thread; what it returns is called here, on the interface's thread, when it is done.
    void runJob(const QString& name, int frames, const std::function<std::function<void()>(const Progress&)>& work);
    void takePlate(const std::shared_ptr<const Plate>& plate);
    void onFrameRead(int frame, const QString& problem);
    void wantAround();
    void refreshPicture();
    void updateCandidates();
    LiveListener liveListener();
    void remember(const std::filesystem::path& path);
    void start(Shot shot, const std::filesystem::path& file, bool saved);
    std::filesystem::path autosaveFile();
    void removeAutosave();
    /// Calls `written` in the writer's thread once the autosave stands; never when it could not be written.
    void autosaveThen(const std::function<void()>& written);
    void dropWhatIsGone(std::set<TrackId>& tracks) const;

    History history_;
    int shotRun_ = 0;  ///< counts the shots that were opened, so that a late save does not speak for the next one
    std::uint64_t savedStamp_ = 0;  ///< of the version that stands in the file; 0: none does
    std::filesystem::path file_;
    std::shared_ptr<const Solve> previousSolve_;
    std::shared_ptr<const SolveView> liveSolve_;

    std::shared_ptr<FrameCache> frames_;
    int frame_ = 0;
    PicturePtr picture_;
    int pictureFrame_ = 0;
    QString frameProblem_;
    ViewTransform view_;
    QTimer playTimer_;
    QElapsedTimer playClock_;
    int playShown_ = 0;

    std::set<TrackId> selection_;
    double trimPreview_ = 0.0;
    std::vector<Candidate> candidates_;
    bool candidatesShown_ = false;
    int candidateRun_ = 0;

    std::optional<PlateCheck> plateCheck_;
    std::vector<SpotProposal> proposals_;
    int proposalsFrame_ = 0;
    TrackId followed_ = 0;
    QTimer tieTimer_;
    TrackId tieTrack_ = 0;
    int tieFrame_ = 0;
    std::shared_ptr<const PicturePlan> plan_;
    QString planProblem_;
    bool planPending_ = false;
    bool planRunning_ = false;
    List<Track> planTracks_;
    std::uint64_t planKey_ = 0;

    std::thread job_;
    std::atomic<bool> jobDone_{true};
    Progress jobProgress_;
    JobState jobState_;
    QElapsedTimer jobClock_;
    int jobFrames_ = 0;
    std::vector<LivePoint> livePoints_;
    std::mutex liveMutex_;
    std::vector<LivePoint> livePending_;
    int liveFrame_ = 0;

    QTimer autosaveTimer_;
    std::uint64_t autosavedStamp_ = 0;
    std::unique_ptr<QLockFile> autosaveLock_;
    std::filesystem::path autosaveFile_;
    std::set<std::filesystem::path> discarded_;  ///< about to be removed by the writer
    QThreadPool writer_;                         ///< one thread: what is written later lands later
};

}  // namespace pinion
