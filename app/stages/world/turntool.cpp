#include "stages/world/turntool.h"

#include "canvas/marks.h"
#include "render/scenerender.h"
#include "stages/reasons.h"

#include <cmath>
#include <numbers>
#include <utility>

namespace pinion {
namespace {

constexpr double kNearOrigin = 1e-3;  // of the world's unit: no heading there
constexpr double kTurnSteps = 5;      // degrees

}  // namespace

std::optional<double> TurnTool::headingUnder(const CanvasEvent& event) const {
    const auto ray = eye_ && event.plate ? eye_->rayThrough(*event.plate) : std::nullopt;
    const auto met = ray ? onLevel(*ray, 0) : std::nullopt;
    if (!met || std::hypot(met->x(), met->z()) < kNearOrigin) return std::nullopt;
    return std::atan2(met->x(), met->z()) * 180 / std::numbers::pi;
}

void TurnTool::press(const CanvasEvent& event) {
    draft_.reset();
    const QString busy = whyNotReady(session_);
    if (!busy.isEmpty()) {
        session_.say(busy.left(1).toUpper() + busy.mid(1) + ".");
        return;
    }
    eye_ = hand_.eye();
    const auto heading = headingUnder(event);
    if (!heading) {
        session_.say("The ground is not under that place: grip it below the horizon, away from the origin.");
        eye_.reset();
        return;
    }
    grip_deg_ = *heading;
}

void TurnTool::drag(const CanvasEvent& event) {
    const auto heading = headingUnder(event);
    if (!heading) return;
    World world = session_.shot().world;
    double turn = world.turn_deg + grip_deg_ - *heading;
    if (event.modifiers & Qt::ShiftModifier) turn = kTurnSteps * std::round(turn / kTurnSteps);
    world.turn_deg = turn - 360 * std::round(turn / 360);
    draft_ = world;
    at_ = event.at;
    showInstead(draft_);
}

void TurnTool::release(const CanvasEvent&) {
    const auto world = std::exchange(draft_, std::nullopt);
    putDown();
    if (world && world->turn_deg != session_.shot().world.turn_deg) turned(*world);
}

void TurnTool::putDown() {
    eye_.reset();
    draft_.reset();
    showInstead(std::nullopt);
}

void TurnTool::paint(QPainter& painter, const PlateView&) {
    if (draft_) drawLabel(painter, at_ + QPointF(16, 10), QString::number(draft_->turn_deg, 'f', 1) + "°");
}

}  // namespace pinion
