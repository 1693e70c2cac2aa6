#pragma once

#include "base/expected.h"

#include <string>
#include <vector>

namespace pinion::cli {

/// Checked before the work begins: what `option` writes to has a folder, can be written, and is none of the inputs, nor
/// a frame of one that is a sequence or a folder of frames.
Expected<void> checkOutput(const std::string& option, const std::string& out, const std::vector<std::string>& inputs);

}  // namespace pinion::cli
