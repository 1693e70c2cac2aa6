#include "camera/frameblend.h"

#include <algorithm>
#include <cmath>
#include <cstddef>

namespace pinion {

FrameBlend FrameBlend::at(double time, int before, int after) {
    // As if time went on after the frame; before it, everything is mirrored.
    const bool isAfter = time >= 0;
    const double s = std::abs(time);
    const int on = isAfter ? after : before, back = isAfter ? before : after;
    FrameBlend blend;
    const auto add = [&](int step, double weight, double speed) {
        const auto at = std::size_t(blend.count++);
        blend.steps[at] = isAfter ? step : -step;
        blend.weights[at] = weight;
        blend.speeds[at] = isAfter ? speed : -speed;
    };
    if (on >= 3 && back >= 2) {
        // Hermite's: the values at both ends, and the speeds there, twelfths of differences.
        const double h00 = 1 + s * s * (2 * s - 3), h10 = s * (1 + s * (s - 2)), h01 = s * s * (3 - 2 * s),
                     h11 = s * s * (s - 1);
        const double d00 = 6 * s * (s - 1), d10 = 1 + s * (3 * s - 4), d01 = -d00, d11 = s * (3 * s - 2);
        add(-2, h10 / 12, d10 / 12);
        add(-1, (-8 * h10 + h11) / 12, (-8 * d10 + d11) / 12);
        add(0, h00 - 8 * h11 / 12, d00 - 8 * d11 / 12);
        add(1, h01 + 8 * h10 / 12, d01 + 8 * d10 / 12);
        add(2, (-h10 + 8 * h11) / 12, (-d10 + 8 * d11) / 12);
        add(3, -h11 / 12, -d11 / 12);
    } else if (on >= 2 && back >= 1) {
        add(-1, s * (-0.5 + s * (1 - 0.5 * s)), -0.5 + s * (2 - 1.5 * s));
        add(0, 1 + s * s * (-2.5 + 1.5 * s), s * (-5 + 4.5 * s));
        add(1, s * (0.5 + s * (2 - 1.5 * s)), 0.5 + s * (4 - 4.5 * s));
        add(2, s * s * (-0.5 + 0.5 * s), s * (-1 + 1.5 * s));
    } else if (on >= 1 && back >= 1) {  // the parabola through three
        add(-1, 0.5 * s * (s - 1), s - 0.5);
        add(0, 1 - s * s, -2 * s);
        add(1, 0.5 * s * (s + 1), s + 0.5);
    } else if (on >= 2) {
        add(0, 0.5 * (s - 1) * (s - 2), s - 1.5);
        add(1, s * (2 - s), 2 - 2 * s);
        add(2, 0.5 * s * (s - 1), s - 0.5);
    } else if (on == 1) {
        add(0, 1 - s, -1);
        add(1, s, 1);
    } else if (back >= 1) {  // beyond the end: on as before
        add(-1, -s, -1);
        add(0, 1 + s, 1);
    } else {
        add(0, 1, 0);
    }
    if (!isAfter) {  // rising
        std::reverse(blend.steps.begin(), blend.steps.begin() + blend.count);
        std::reverse(blend.weights.begin(), blend.weights.begin() + blend.count);
        std::reverse(blend.speeds.begin(), blend.speeds.begin() + blend.count);
    }
    return blend;
}

}  // namespace pinion
