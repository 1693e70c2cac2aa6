#pragma once

#include <string>

namespace pinion {

enum class StageState { empty, done, stale, attention };

/// What the docket says of a stage: its state, its one number, and what is wrong, in words. Derived from the shot,
/// every time.
struct StageReport {
    StageState state = StageState::empty;
    std::string number;
    std::string message;
};

}  // namespace pinion
