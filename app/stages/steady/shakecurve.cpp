#include "stages/steady/shakecurve.h"

#include <cmath>

namespace pinion {

std::vector<CurveLine> ShakeCurve::lines() const {
    const auto plan = stage_.plan();
    if (!plan) return {};
    const PlateRef& plate = session_.shot().plate;
    std::vector<CurveLine> parts{{"x, px", {}, {}}, {"y, px", {}, {}}, {"rotation, tenths of a degree", {}, {}}};
    const auto add = [&](double frame, double x, double y, double degrees) {
        for (CurveLine& part : parts) part.frames << frame;
        parts[0].values << x;
        parts[1].values << y;
        parts[2].values << degrees * 10;
    };
    if (!plan->shake.empty()) {
        for (std::size_t i = 0; i < plan->shake.size(); ++i) {
            const ShakeSample& sample = plan->shake[i];
            add(plate.range.first + double(i), sample.x * plate.width, sample.y * plate.width, sample.angleDegrees);
        }
        return parts;
    }
    // What the steadying takes out: the motion of the source against the output.
    const Eigen::Vector2d middle(plate.width / 2.0, plate.height / 2.0);
    for (const FrameMap& map : plan->frames) {
        const MotionParts motion = partsOf(map.sourceFromOutput, middle);
        add(map.frame, motion.shift.x(), motion.shift.y(), motion.angle * 180 / M_PI);
    }
    return parts;
}

}  // namespace pinion
