#include "shot/stages/platestage.h"

namespace pinion {

StageReport plateReport(const Shot& shot, const std::vector<int>& missingFrames) {
    StageReport report{StageState::empty, "none", ""};
    if (shot.plate.isOpen()) {
        report.state = missingFrames.empty() ? StageState::done : StageState::attention;
        report.number = fmt::format("{} frames · {:.5g} fps", shot.plate.range.count(), shot.plate.fps.perSecond());
        if (!missingFrames.empty())
            report.message = fmt::format("{} frame{} missing: {}", missingFrames.size(),
                                         missingFrames.size() == 1 ? " is" : "s are", frameRanges(missingFrames));
    }
    return report;
}

}  // namespace pinion
