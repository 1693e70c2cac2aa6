#include "stages/stage.h"

#include "canvas/canvas.h"
#include "scene/worldview.h"
#include "sheet/threadsheet.h"

namespace pinion {

void Stage::takeInHand(const QString& tool) {
    desk_->canvas.takeTool(tool);
    desk_->canvas.setFocus();
}

void Stage::redraw() {
    if (!desk_) return;
    desk_->sheet.refreshStrips();
    desk_->canvas.update();
    if (desk_->scene) desk_->scene->update();
}

}  // namespace pinion
