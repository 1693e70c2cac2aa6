#include "base/parallel.h"

#include <memory>
#include <mutex>
#include <tbb/blocked_range.h>
#include <tbb/global_control.h>
#include <tbb/info.h>
#include <tbb/parallel_for.h>
#include <tbb/task_scheduler_observer.h>

#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

namespace pinion {
namespace {

constexpr int kBehind = 5;  // nice, of -20 to 19: a quarter of the processor while others want it

class WorkersGiveWay : public tbb::task_scheduler_observer {
public:
    WorkersGiveWay() { observe(true); }
    void on_scheduler_entry(bool isWorker) override {
        if (isWorker) giveWay();
    }
};

}  // namespace

void giveWay() {
    // On Linux a thread has a priority of its own, and its id names it (sched(7)).
    ::setpriority(PRIO_PROCESS, id_t(::syscall(SYS_gettid)), kBehind);
}

void loopsGiveWay() { static WorkersGiveWay observer; }

void parallelFor(std::size_t count, const std::function<void(std::size_t)>& body, std::size_t grain) {
    tbb::parallel_for(tbb::blocked_range<std::size_t>(0, count, grain),
                      [&](const tbb::blocked_range<std::size_t>& range) {
                          for (std::size_t i = range.begin(); i != range.end(); ++i) body(i);
                      });
}

int limitThreads(int threads) {
    // oneTBB keeps its limit in an object; it has to outlive every loop of the process.
    static std::mutex mutex;
    static std::unique_ptr<tbb::global_control> control;
    const std::lock_guard lock(mutex);
    const int count = threads > 0 ? threads : tbb::info::default_concurrency();
    control = std::make_unique<tbb::global_control>(tbb::global_control::max_allowed_parallelism, std::size_t(count));
    return count;
}

}  // namespace pinion
