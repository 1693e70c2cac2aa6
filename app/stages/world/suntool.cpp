#include "stages/world/suntool.h"

#include "canvas/marks.h"
#include "render/sunlight.h"
#include "shot/edits/sceneedits.h"
#include "widgets/theme.h"

#include <QPainter>

namespace pinion {

using Eigen::Vector2d;

QString SunTool::next() const {
    switch (clicks_.size()) {
        case 0:
            return "Click the foot of something upright that casts a shadow on the ground.";
        case 1:
            return "Now its top.";
        default:
            return "Now the tip of its shadow.";
    }
}

void SunTool::press(const CanvasEvent& event) {
    const auto eye = hand_.eye();
    if (!event.plate || !eye) return;
    clicks_.push_back(*event.plate);
    if (clicks_.size() < 3) {
        session_.say(next());
        return;
    }
    const auto towards = sunFromShadow(*eye, hand_.floor(), clicks_[0], clicks_[1], clicks_[2]);
    clicks_.clear();
    if (!towards) {
        session_.sayError(text(towards.error().message));
        return;
    }
    Sun sun = session_.shot().scene.sun;
    sun.towards = *towards;
    session_.edit("Sun by a shadow", withSun(session_.shot(), sun));
    session_.say("The sun stands where that shadow says.");
}

bool SunTool::hover(const CanvasEvent& event) {
    at_ = event.plate;
    return !clicks_.empty();
}

void SunTool::paint(QPainter& painter, const PlateView& view) {
    std::vector<Vector2d> places = clicks_;
    if (places.empty()) return;
    if (at_) places.push_back(*at_);
    painter.setRenderHint(QPainter::Antialiasing);
    // The upright, and from its top to the tip of the shadow: the way of the light.
    overShadow(painter, theme::kBrass, 1.4, [&] {
        painter.drawPath(view.line(places));
        for (const Vector2d& place : clicks_)
            if (const auto screen = view.screenFromPlate(place)) drawCross(painter, *screen, 6, true);
    });
}

}  // namespace pinion
