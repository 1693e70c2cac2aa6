#include "stages/steady/steadysight.h"

#include <Eigen/LU>

namespace pinion {

const FrameMap* SteadySight::mapAt(int frame) const {
    const auto plan = stage_.plan();
    return plan ? plan->at(frame) : nullptr;
}

PlateWarp SteadySight::warpAt(int frame) const {
    PlateWarp warp;
    if (const FrameMap* map = mapAt(frame)) warp.shownFromStraight = map->sourceFromOutput.inverse();
    return warp;
}

QString SteadySight::words(int frame) const {
    const auto plan = stage_.plan();
    const SteadySettings& s = session_.shot().steady;
    if (!stage_.planProblem().isEmpty()) return stage_.planProblem();
    if (!plan)
        return stage_.planPending() ? "working out the motion…"
                                    : "nothing is steadied: turn it on in the Steady card";
    if (!plan->at(frame)) return "the motion of this frame is not known";
    return QString("%1%2 · zoom %3 %")
        .arg(s.steady ? (s.options.mode == SteadyOptions::Mode::hold ? "hold" : "ease") : "",
             s.shake && s.profile ? (s.steady ? " · shake" : "shake") : "")
        .arg((plan->zoom - 1) * 100, 0, 'f', 1);
}

}  // namespace pinion
