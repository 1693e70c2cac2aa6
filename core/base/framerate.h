#pragma once

#include "base/expected.h"
#include "base/list.h"

#include <cstdint>
#include <string>
#include <string_view>

namespace pinion {

/// Frames a second, as an exact fraction: 23.976 is 24000/1001 (SMPTE ST 12-1 practice), 24 is 24/1.
struct FrameRate {
    std::int64_t numerator = 24;
    std::int64_t denominator = 1;

    double perSecond() const { return double(numerator) / double(denominator); }
    bool operator==(const FrameRate&) const = default;
};

/// When each frame is shown, of footage whose rate varies.
struct FrameTimes {
    int firstFrame = 0;
    List<double> seconds;  ///< from the first frame, one entry a frame; empty: the rate says it all
};

/// The fraction in lowest terms. A denominator or numerator of zero or less gives 24/1.
FrameRate reduced(FrameRate rate);

/// The nearest rate in trade use (24000/1001, 24, 25, 30000/1001, 30, 48, 50, 60000/1001, 60 ...) when `perSecond` is
/// within 0.002 of it, else a fraction over 1000.
FrameRate frameRateNear(double perSecond);

/// "24", "24000/1001".
std::string toString(FrameRate rate);

/// Reads "24", "23.976", "24000/1001".
Expected<FrameRate> parseFrameRate(std::string_view text);

}  // namespace pinion
