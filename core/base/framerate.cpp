#include "base/framerate.h"

#include <array>
#include <charconv>
#include <cmath>
#include <numeric>

namespace pinion {

FrameRate reduced(FrameRate rate) {
    if (rate.numerator <= 0 || rate.denominator <= 0) return {};
    const auto divisor = std::gcd(rate.numerator, rate.denominator);
    return {rate.numerator / divisor, rate.denominator / divisor};
}

FrameRate frameRateNear(double perSecond) {
    static constexpr std::array<FrameRate, 15> known{{{24000, 1001},
                                                      {24, 1},
                                                      {25, 1},
                                                      {30000, 1001},
                                                      {30, 1},
                                                      {48000, 1001},
                                                      {48, 1},
                                                      {50, 1},
                                                      {60000, 1001},
                                                      {60, 1},
                                                      {12, 1},
                                                      {15, 1},
                                                      {100, 1},
                                                      {120000, 1001},
                                                      {120, 1}}};
    for (const FrameRate& rate : known)
        if (std::abs(rate.perSecond() - perSecond) < 0.002) return rate;
    return reduced({std::int64_t(std::llround(perSecond * 1000)), 1000});
}

std::string toString(FrameRate rate) {
    if (rate.denominator == 1) return fmt::format("{}", rate.numerator);
    return fmt::format("{}/{}", rate.numerator, rate.denominator);
}

Expected<FrameRate> parseFrameRate(std::string_view text) {
    const auto number = [](std::string_view part) {
        double value = 0;
        const auto [end, code] = std::from_chars(part.data(), part.data() + part.size(), value);
        return code == std::errc() && end == part.data() + part.size() ? value : -1.0;
    };
    const auto slash = text.find('/');
    if (slash != std::string_view::npos) {
        const double above = number(text.substr(0, slash));
        const double below = number(text.substr(slash + 1));
        if (above >= 1 && below >= 1 && above < 1e9 && below < 1e9)
            return reduced({std::llround(above), std::llround(below)});
    } else if (const double value = number(text); value > 0 && value < 1e6) {
        return frameRateNear(value);
    }
    return failure(Fault::input, "'{}' is no frame rate: write 24, 23.976 or 24000/1001", text);
}

}  // namespace pinion
