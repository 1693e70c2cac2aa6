#pragma once

#include "stages/stage.h"

#include <memory>
#include <vector>

namespace pinion {

/// The stages of a shot in the order of work: the table that a new stage is added to.
std::vector<std::unique_ptr<Stage>> makeStages(Session& session);

}  // namespace pinion
