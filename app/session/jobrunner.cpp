#include "session/jobrunner.h"

#include "base/parallel.h"

#include <optional>

namespace pinion {

JobRunner::JobRunner(Notes& notes) : notes_(notes) {
    loopsGiveWay();
    // More than processors: a picture for the screen is not to wait behind a longer one.
    live_.setMaxThreadCount(QThread::idealThreadCount() + 2);
}

JobRunner::~JobRunner() {
    progress_.stop();
    if (thread_.joinable()) thread_.join();
    live_.waitForDone();
}

void JobRunner::sayProblem(const Error& error) {
    problem_ = text(error.message);
    // Who stops a job knows that it is stopped.
    if (error.fault != Fault::stopped) notes_.sayError(problem_);
    else problem_ = "stopped";
}

void JobRunner::takeReport(double fraction, const QString& detail) {
    if (done_) return;
    const double seconds = double(clock_.elapsed()) / 1000.0;
    state_.fraction = fraction;
    state_.detail = detail;
    state_.framesPerSecond = seconds > 0.2 ? fraction * frames_ / seconds : 0;
    state_.secondsLeft = fraction > 0.03 && seconds > 0.5 ? seconds * (1 - fraction) / fraction : -1;
    std::optional<int> frame;
    {
        const std::lock_guard lock(liveMutex_);
        livePoints_ = livePending_;
        if (!livePoints_.empty()) frame = liveFrame_;
    }
    emit progressed();
    if (frame) emit liveMoved(*frame);
}

void JobRunner::run(const QString& name, int frames, const Work& work) {
    if (thread_.joinable()) thread_.join();
    state_ = {name, "", 0, 0, -1};
    frames_ = frames;
    problem_.clear();
    clock_.start();
    done_ = false;
    livePoints_.clear();
    livePending_.clear();
    liveFrame_ = 0;
    progress_ = Progress(
        [this, last = std::make_shared<std::atomic<qint64>>(-1000)](double fraction, const std::string& detail) {
            // A report a frame would be hundreds a second; the eye wants twenty.
            const qint64 now = clock_.elapsed();
            if (now - last->load() < 50 && fraction < 1) return;
            last->store(now);
            QMetaObject::invokeMethod(this, [this, fraction, detail = text(detail)] { takeReport(fraction, detail); });
        });
    thread_ = std::thread([this, work, name, progress = progress_] {
        giveWay();
        const JobLink link{progress,
                           [this](int frame, const std::vector<LivePoint>& points) {
                               const std::lock_guard lock(liveMutex_);
                               livePending_ = points;
                               liveFrame_ = frame;
                           },
                           [this](const std::function<void()>& todo) {
                               QMetaObject::invokeMethod(this, [this, todo] {
                                   if (!done_) todo();
                               });
                           }};
        std::function<void()> finish;
        try {
            finish = work(link);
        } catch (const std::exception& error) {
            finish = [this, what = std::string(error.what())] {
                sayProblem({Fault::system, "The job failed: " + what});
            };
        }
        QMetaObject::invokeMethod(this, [this, name, finish = std::move(finish)] {
            done_ = true;
            livePoints_.clear();
            finish();
            emit finished(name, double(clock_.elapsed()) / 1000.0, problem_);
            emit busyChanged();
        });
    });
    emit busyChanged();
}

}  // namespace pinion
