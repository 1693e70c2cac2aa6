#include "stages/camera/focalcurve.h"

#include "base/units.h"

namespace pinion {

std::vector<CurveLine> FocalCurve::lines() const {
    const Shot& shot = session_.shot();
    if (!shot.solve) return {};
    const Solve& solved = *shot.solve;
    const auto millimetres = [&](double focal_px) {
        return focalMillimetres(focal_px, solved.sensorWidth_mm, shot.plate.width);
    };
    CurveLine focal{"focal length, mm", {}, {}}, low{"± 3 deviations", {}, {}, true}, high{"", {}, {}, true};
    for (const SolvedFrame& frame : solved.frames) {
        const double value = millimetres(frame.focal_px);
        const double deviation =
            solved.zoom ? millimetres(frame.focalDeviation_px) : solved.focalDeviation_mm.value_or(0);
        for (CurveLine* line : {&focal, &low, &high}) line->frames << frame.frame;
        focal.values << value;
        low.values << value - 3 * deviation;
        high.values << value + 3 * deviation;
    }
    return {focal, low, high};
}

}  // namespace pinion
