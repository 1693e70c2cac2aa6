#pragma once

#include "base/expected.h"
#include "base/progress.h"
#include "session/notes.h"
#include "track/tracking.h"

#include <QElapsedTimer>
#include <QObject>
#include <QString>
#include <QThreadPool>

#include <atomic>
#include <functional>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

namespace pinion {

/// What a job has in its thread to report by.
struct JobLink {
    const Progress& progress;
    LiveListener live;  ///< points as they are tracked, drawn while the job runs
    /// Has something done on the interface's thread, unless the job is over by then.
    std::function<void(const std::function<void()>&)> tell;
};

/// A name, what it runs, and how its result is merged into the shot of that moment.
template <class Result>
struct Job {
    QString name;
    int frames = 0;                                       ///< for the rate that is shown; 0: it goes through none
    std::function<Expected<Result>(const JobLink&)> run;  ///< in a thread of its own, on copies
    std::function<void(Result&)> merge;                   ///< on the interface's thread
    std::function<void()> ended = {};                     ///< before it, whatever came of the run
};

struct JobState {
    QString name;
    QString detail;
    double fraction = 0.0;
    double framesPerSecond = 0.0;
    double secondsLeft = -1.0;
};

/// Runs what takes long, beside the interface. One job at a time runs in the foreground, with its progress in the title
/// bar; what is quick and redone at every change runs in the live lane (`LiveWork`, `Derived`) and blocks nothing.
class JobRunner : public QObject {
    Q_OBJECT
public:
    explicit JobRunner(Notes& notes);
    ~JobRunner() override;

    /// False when one is running: there is one foreground.
    template <class Result>
    bool start(Job<Result> job) {
        if (isBusy()) return false;
        run(job.name, job.frames, [this, job](const JobLink& link) -> std::function<void()> {
            auto result = std::make_shared<Expected<Result>>(job.run(link));
            return [this, job, result] {
                if (job.ended) job.ended();
                if (*result) job.merge(**result);
                else sayProblem(result->error());
            };
        });
        return true;
    }
    bool isBusy() const { return thread_.joinable() && !done_; }
    const JobState& state() const { return state_; }
    const std::vector<LivePoint>& livePoints() const { return livePoints_; }
    void stop() { progress_.stop(); }

    /// The threads of the live lane.
    QThreadPool& live() { return live_; }

signals:
    void busyChanged();         ///< one began or ended
    void progressed();          ///< the one that runs moved on
    void liveMoved(int frame);  ///< its points are of this frame now
    void finished(const QString& name, double seconds, const QString& problem);

private:
    using Work = std::function<std::function<void()>(const JobLink&)>;
    void run(const QString& name, int frames, const Work& work);
    void takeReport(double fraction, const QString& detail);
    void sayProblem(const Error& error);

    Notes& notes_;
    std::thread thread_;
    std::atomic<bool> done_{true};
    Progress progress_;
    JobState state_;
    QElapsedTimer clock_;
    int frames_ = 0;
    QString problem_;
    std::vector<LivePoint> livePoints_;
    std::mutex liveMutex_;
    std::vector<LivePoint> livePending_;
    int liveFrame_ = 0;
    QThreadPool live_;
};

}  // namespace pinion
