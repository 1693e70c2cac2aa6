#pragma once

#include "base/progress.h"
#include "session/jobrunner.h"

#include <functional>
#include <memory>

namespace pinion {

/// Quick work of one purpose in the live lane. What is asked for anew stops what runs; the latest wins, and only its
/// result arrives. Used from the interface's thread alone.
class LiveWork {
public:
    /// Runs in a thread, on copies; what it returns is called on the interface's thread if nothing newer was asked for.
    using Work = std::function<std::function<void()>(const Progress&)>;

    explicit LiveWork(JobRunner& jobs) : jobs_(jobs), state_(std::make_shared<State>()) {}
    ~LiveWork() { cancel(); }
    LiveWork(const LiveWork&) = delete;
    LiveWork& operator=(const LiveWork&) = delete;

    void start(Work work);
    void cancel();
    bool isRunning() const { return state_->running; }

private:
    struct State {
        bool running = false;
        Progress progress;
        Work next;       ///< waits until the one that runs has ended
        int wanted = 0;  ///< counts what was asked for
    };
    static void begin(JobRunner& jobs, const std::shared_ptr<State>& state, Work work);

    JobRunner& jobs_;
    std::shared_ptr<State> state_;
};

}  // namespace pinion
