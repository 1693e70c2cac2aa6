#pragma once

#include <cstddef>

namespace pinion {

/// What a user chooses once for all shots; kept between runs.
struct Settings {
    int cache_mib = 2048;  ///< that pictures in memory may take
    int threads = 0;       ///< for jobs; 0: all processors

    bool operator==(const Settings&) const = default;
};

Settings readSettings();
void keepSettings(const Settings& settings);

}  // namespace pinion
