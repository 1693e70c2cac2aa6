#pragma once

#include <malloc.h>

namespace pinion {

/// Called once by each program: blocks the size of a picture go back to the system when they are freed. Left to itself
/// the C library keeps them, and a long plate's memory grows a fifth beyond the frame cache's budget.
inline void returnLargeBlocks() { ::mallopt(M_MMAP_THRESHOLD, 1 << 20); }

}  // namespace pinion
