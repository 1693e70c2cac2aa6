#pragma once

#include "motion/ride.h"

#include <cstdint>
#include <string>

namespace pinion {

using LocatorId = std::int64_t;

/// Carries the motion of what it is on for whatever hangs on it: all of that motion, or what `on.as` says.
struct Locator {
    LocatorId id = 0;
    std::string name;
    Ride on;
};

}  // namespace pinion
