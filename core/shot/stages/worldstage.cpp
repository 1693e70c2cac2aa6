#include "shot/stages/worldstage.h"

namespace pinion {

Orientation orientationOf(const Shot& shot) {
    if (!shot.solve) return {};
    const auto orientation = orient(shot.world, *shot.solve);
    return orientation ? *orientation : Orientation{};
}

bool isInMetres(const Shot& shot) { return shot.world.hasScale() || (shot.solve && shot.solve->inMetres); }

StageReport worldReport(const Shot& shot) {
    StageReport report{StageState::empty, "not set", ""};
    if (shot.world.isSet()) {
        report.state = StageState::done;
        report.number = fmt::format("{}{}", shot.world.ground.isEmpty() ? "no ground" : "ground",
                                    isInMetres(shot) ? " · metres" : " · no scale");
        if (shot.solve) {
            if (const auto orientation = orient(shot.world, *shot.solve); !orientation) {
                report.state = StageState::attention;
                report.message = orientation.error().message;
            }
        }
    }
    return report;
}

}  // namespace pinion
