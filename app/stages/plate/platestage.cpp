#include "stages/plate/platestage.h"

#include "sheet/threadsheet.h"
#include "shot/stages/platestage.h"
#include "stages/plate/checkstrip.h"
#include "stages/plate/platecard.h"
#include "stages/reasons.h"
#include "widgets/commands.h"

namespace pinion {

PlateStage::PlateStage(Session& session) : Stage(session) {
    connect(&session.player, &Player::plateChanged, this, [this] {
        check_.reset();
        emit checkChanged();
    });
}

StageReport PlateStage::report() const {
    return plateReport(session_.shot(),
                       session_.hasPlate() ? session_.player.frames()->facts().missing : std::vector<int>{});
}

QWidget* PlateStage::makeCard() { return makePlateCard(session_, *this); }

void PlateStage::furnish(const Desk& desk) {
    desk.sheet.addStrip(std::make_unique<CheckStrip>(*this));
    connect(this, &PlateStage::checkChanged, &desk.sheet, &ThreadSheet::refreshStrips);
    desk.commands.add(
        "Shot", "Check the plate", {QKeySequence("Ctrl+Shift+L")},
        [this, desk] {
            desk.openCard(id());
            startCheck();
        },
        [this] { return whyNotReady(session_); });
}

void PlateStage::startCheck() {
    if (!session_.isReady()) return;
    const FrameRange range = session_.shot().plate.range;
    const auto run = [range, frames = session_.player.sharedFrames()](const JobLink& link) {
        return checkPlate(*frames, range.first, range.last, link.progress);
    };
    const auto merge = [this](PlateCheck& result) {
        check_ = result;
        emit checkChanged();
        session_.say(result.stopped         ? QString("Stopped. %1 frames checked.").arg(result.frames.size())
                     : result.notes.empty() ? QString("The plate is even: nothing to watch for.")
                                            : text(result.notes.front().words));
    };
    session_.jobs.start(
        Job<PlateCheck>{.name = "Checking the plate", .frames = range.count(), .run = run, .merge = merge});
}

}  // namespace pinion
