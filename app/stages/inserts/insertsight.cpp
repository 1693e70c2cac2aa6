#include "stages/inserts/insertsight.h"

namespace pinion {

QString InsertSight::words(int frame) const {
    const Shot& shot = session_.shot();
    if (shot.inserts.isEmpty()) return "there are no inserts yet: add one in the Inserts card";
    if (const QString problem = problemAt(frame); !problem.isEmpty()) return problem;
    if (!hand_.scene()) return "working out where the inserts go…";
    return hand_.isMoving() ? "with inserts · what moves at the view's resolution" : "with inserts";
}

}  // namespace pinion
