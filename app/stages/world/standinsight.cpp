#include "stages/world/standinsight.h"

#include <algorithm>

namespace pinion {

QString StandInSight::words(int frame) const {
    const Shot& shot = session_.shot();
    if (!shot.solve) return "there is no camera yet: solve it in the Camera card";
    const bool isAnyThrown = std::any_of(shot.inserts.begin(), shot.inserts.end(), [](const Insert& insert) {
        return insert.kind == kThrownLayer && !insert.hidden;
    });
    if (shot.scene.standIns.isEmpty() && !isAnyThrown)
        return "nothing stands in the scene yet: add something in the World card";
    const bool isHidden = std::none_of(shot.inserts.begin(), shot.inserts.end(), [](const Insert& insert) {
        return insert.kind == kSceneLayer && !insert.hidden;
    });
    if (isHidden && !isAnyThrown) return "the layer of the stand-ins is hidden: tick it in the Inserts card";
    if (!solvedFrameAt(*shot.solve, frame)) return QString("frame %1 has no camera").arg(frame);
    if (const QString problem = problemAt(frame); !problem.isEmpty()) return problem;
    if (!hand_.scene()) return "working out the scene…";
    if (!hand_.scene()->notes.empty()) return text(hand_.scene()->notes.front());
    return hand_.isQuick() ? "with stand-ins · hard shadows and fewer rays while it moves" : "with stand-ins";
}

}  // namespace pinion
