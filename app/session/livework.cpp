#include "session/livework.h"

#include "base/log.h"

#include <exception>

namespace pinion {

void LiveWork::start(Work work) {
    ++state_->wanted;
    if (state_->running) {
        // One at a time: what changes meanwhile, at every step of a spin box, is worked out once, at the end.
        state_->progress.stop();
        state_->next = std::move(work);
        return;
    }
    begin(jobs_, state_, std::move(work));
}

void LiveWork::cancel() {
    ++state_->wanted;
    state_->next = {};
    state_->progress.stop();
}

void LiveWork::begin(JobRunner& jobs, const std::shared_ptr<State>& state, Work work) {
    state->running = true;
    state->progress = Progress();
    jobs.live().start([&jobs, weak = std::weak_ptr(state), work = std::move(work), progress = state->progress,
                       number = state->wanted] {
        std::function<void()> arrive;
        try {
            if (!progress.stopped()) arrive = work(progress);
        } catch (const std::exception& error) {
            // Out of memory, mostly: what was asked for does not come, and the program goes on.
            log::error("live work failed: {}", error.what());
        }
        // The runner outlives its threads; whoever asked may be gone by then.
        QMetaObject::invokeMethod(&jobs, [&jobs, weak, number, arrive = std::move(arrive)] {
            const auto held = weak.lock();
            if (!held) return;
            held->running = false;
            if (held->next) begin(jobs, held, std::exchange(held->next, {}));
            else if (number == held->wanted && arrive) arrive();
        });
    });
}

}  // namespace pinion
