#pragma once

#include <cstddef>
#include <functional>

namespace pinion {

/// Calls `body(i)` for every i in [0, count), on all threads allowed by `limitThreads`; returns when all are done.
/// Indices are handed out in chunks of at least `grain`.
void parallelFor(std::size_t count, const std::function<void(std::size_t)>& body, std::size_t grain = 1);

/// Bounds the threads that `parallelFor` uses from now on; 0 means all processors. Returns the number in force.
int limitThreads(int threads);

/// From now on the calling thread, and every thread it begins, runs only when others leave the processor to it: for
/// work beside an interface. Where the system does not allow it nothing changes.
void giveWay();

/// The same for the threads that `parallelFor` brings in; those it is called from are as they were.
void loopsGiveWay();

}  // namespace pinion
