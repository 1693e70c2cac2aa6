#include "stages/tracks/areatools.h"

#include "canvas/marks.h"
#include "shot/edits/trackedits.h"

#include <QPainter>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kLeastBox = 12.0;  // screen pixels

}  // namespace

// ---- outline

void OutlineTool::press(const CanvasEvent& event) {
    const Track* track = session_.selection.onlyOne();
    if (!track || !sampleAt(*track, session_.player.frame())) {
        session_.say("An outline belongs to one track on one of its frames. Select it first.");
        return;
    }
    if (event.plate) corners_.push_back(*event.plate);
}

bool OutlineTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    return !corners_.empty();
}

void OutlineTool::doubleClick(const CanvasEvent&) {
    if (corners_.size() < 3) {
        session_.say(
            "An outline needs three corners. Click them round what belongs to the pattern, and double-click to close "
            "it.");
        return;
    }
    const Track* track = session_.selection.onlyOne();
    if (const Sample* sample = track ? sampleAt(*track, session_.player.frame()) : nullptr) {
        Polygon around;
        double reach = 0;
        for (const Vector2d& corner : corners_) {
            around.push_back(corner - sample->at);
            reach = std::max(reach, around.back().cwiseAbs().maxCoeff());
        }
        const int pattern = std::clamp(2 * int(std::ceil(reach)) + 1, 7, 101);
        session_.edit("Outline of " + text(track->name), withTracksEdited(session_.shot(), {track->id}, [&](Track& t) {
                          t.outline = List<Vector2d>(around);
                          // The pattern is as large as its outline; the search stays larger.
                          t.pattern_px = pattern;
                          t.search_px = std::max(t.search_px, pattern + 8);
                      }));
    }
    canvas_.takeTool("select");
}

void OutlineTool::paint(QPainter& painter, const PlateView& view) {
    if (corners_.empty()) return;
    QPolygonF line;
    for (const Vector2d& corner : corners_)
        if (const auto screen = view.screenFromPlate(corner)) line << *screen;
    if (canvas_.cursorPlace()) line << at_;
    painter.setBrush(QColor(217, 164, 65, 28));
    overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawPolygon(line); });
    drawLabel(painter, at_ + QPointF(14, 12), corners_.size() < 3 ? "click the corners" : "double-click closes");
}

// ---- spots

void SpotsTool::press(const CanvasEvent& event) {
    drags_ = true;
    from_ = at_ = event.at;
}

void SpotsTool::release(const CanvasEvent& event) {
    if (!std::exchange(drags_, false)) return;
    const QRectF box = QRectF(from_, event.at).normalized();
    if (box.width() < kLeastBox || box.height() < kLeastBox) {
        session_.say("Drag a box around the area to search for spots.");
        return;
    }
    Polygon area;
    for (const QPointF& corner : {box.topLeft(), box.topRight(), box.bottomRight(), box.bottomLeft()})
        if (const auto place = canvas_.view().plateFromScreen(corner)) area.push_back(*place);
    if (area.size() < 4) {
        session_.say("The box reaches beyond what the view shows of the plate. Drag a smaller one.");
        return;
    }
    canvas_.takeTool("place");
    search_(area);
}

void SpotsTool::paint(QPainter& painter, const PlateView&) {
    if (drags_) drawBand(painter, from_, at_);
}

}  // namespace pinion
