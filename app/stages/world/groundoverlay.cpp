#include "stages/world/groundoverlay.h"

#include "canvas/plateview.h"
#include "shot/stages/worldstage.h"
#include "widgets/theme.h"
#include "world/eye.h"

#include <QPainter>

namespace pinion {
namespace {

using Eigen::Vector3d;

constexpr int kCells = 10;
constexpr int kPieces = 6;    // of a cell: straight lines bend in the lens
constexpr double kFar = 2e4;  // pixels of the plate

}  // namespace

void GroundOverlay::paint(QPainter& painter, const PlateView& view) {
    Shot shot = session_.shot();
    if (instead_) shot.world = *instead_;
    if (!shown_ || !shot.solve || shot.world.ground.isEmpty()) return;
    const auto eye = WorldEye::of(*shot.solve, orientationOf(shot), session_.player.frame());
    if (!eye) return;
    painter.save();
    painter.setClipRect(view.frameOnScreen(), Qt::IntersectClip);
    painter.setBrush(Qt::NoBrush);
    for (int axis = 0; axis < 2; ++axis)
        for (int line = -kCells; line <= kCells; ++line) {
            QPainterPath path;
            bool open = false;
            for (int piece = -kCells * kPieces; piece <= kCells * kPieces; ++piece) {
                const double along = double(piece) / kPieces;
                const auto plate = eye->plateFromWorld(axis == 0 ? Vector3d(along, 0, line) : Vector3d(line, 0, along));
                const bool isNear = plate && plate->cwiseAbs().maxCoeff() < kFar;
                const auto at = isNear ? view.screenFromPlate(*plate) : std::nullopt;
                if (at) open ? path.lineTo(*at) : path.moveTo(*at);
                open = at.has_value();
            }
            const bool main = line == 0;
            painter.setPen(QPen(QColor(0, 0, 0, 70), main ? 3.0 : 2.0));
            painter.drawPath(path);
            painter.setPen(QPen(main ? QColor(217, 164, 65, 220) : QColor(235, 235, 225, 120), main ? 1.5 : 1.0));
            painter.drawPath(path);
        }
    painter.restore();
}

}  // namespace pinion
