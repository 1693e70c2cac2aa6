#pragma once

#include <cstddef>
#include <functional>

namespace pinion {

/// Calls `body(i)` for every i in [0, count), on all threads allowed by `limitThreads`; returns when all are done.
/// Indices are handed out in chunks of at least `grain`.
void parallelFor(std::size_t count, const std::function<void(std::size_t)>& body, std::size_t grain = 1);

/// Bounds the threads that `parallelFor` uses from now on; 0 means all processors. Returns the number in force.
int limitThreads(int threads);

}  // namespace pinion
