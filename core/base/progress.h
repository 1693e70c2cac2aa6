#pragma once

#include <atomic>
#include <functional>
#include <memory>
#include <string>

namespace pinion {

/// How a long job tells how far it is, and learns that it should stop. Copies share one state, so a shell keeps a copy
/// and calls `stop()` while the job, in another thread, reports. Safe to use from several threads.
class Progress {
public:
    /// Called from the job's thread with the share done, 0 to 1, and what is being done ("Scattering", "frame 1043").
    using Listener = std::function<void(double fraction, const std::string& what)>;

    explicit Progress(Listener listener = {});

    void report(double fraction, const std::string& what = {}) const;
    void stop() const { state_->stopped = true; }
    bool stopped() const { return state_->stopped; }

    /// The same job seen by one of its parts: its 0 to 1 becomes `from` to `to` of the whole.
    Progress part(double from, double to) const;

private:
    struct State {
        std::atomic<bool> stopped{false};
        Listener listener;
    };
    std::shared_ptr<State> state_;
    double from_ = 0.0;
    double to_ = 1.0;
};

}  // namespace pinion
