#include "stages/camera/erroroverlay.h"

#include "camera/framerows.h"
#include "camera/result.h"
#include "canvas/marks.h"
#include "canvas/plateview.h"

#include <QPainter>

namespace pinion {

void ErrorOverlay::paint(QPainter& painter, const PlateView& view) {
    const Shot& shot = session_.shot();
    if (!shot.solve) return;
    const int frame = session_.player.frame();
    const auto placeOf = [&](TrackId id) -> std::optional<QPointF> {
        const Track* track = findTrack(shot, id);
        const Sample* sample = track && !track->hidden ? sampleAt(*track, frame) : nullptr;
        return sample ? view.screenFromPlate(sample->at) : std::nullopt;
    };
    const auto rows = FrameRows::of(*shot.solve, frame);
    for (const TrackId id : session_.selection.tracks()) {
        const SolvedTrack* solved = findSolved(shot, id);
        const auto seen = rows && solved && solved->xyz ? rows->projected(*solved->xyz) : std::nullopt;
        const auto from = placeOf(id), to = seen ? view.screenFromPlate(*seen) : std::nullopt;
        if (!from || !to) continue;
        painter.setPen(QPen(theme::kCoral, 1.2));
        painter.drawLine(*from, *to);
    }
    painter.setPen(QPen(theme::kCoral, 1.5));
    for (const TrackId id : stage_.tracksAbove(stage_.trimPreview()))
        if (const auto at = placeOf(id)) drawCross(painter, *at, 5, true);
}

}  // namespace pinion
