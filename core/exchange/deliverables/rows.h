#pragma once

#include "exchange/deliverables.h"

namespace pinion {

// What the rows share.

/// Read back, it has to be as it was written.
Expected<void> checkSame(bool same, const std::filesystem::path& path, const char* what);

}  // namespace pinion
