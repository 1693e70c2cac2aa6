#include "stages/world/standintool.h"

#include "render/scenerender.h"
#include "render/sunlight.h"
#include "shot/edits/sceneedits.h"
#include "shot/stages/worldstage.h"
#include "stages/world/standinoverlay.h"

#include <QLineF>

#include <algorithm>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kGrab = 11;      // screen pixels
constexpr double kSnap = 9;       // within which a click means a solved point
constexpr double kStep = 0.1;     // of the world's unit, with Shift
constexpr double kTurnStep = 15;  // degrees, with Shift
constexpr double kSmallest = 0.01;

bool isNear(const std::optional<QPointF>& grip, const QPointF& at) {
    return grip && QLineF(*grip, at).length() < kGrab;
}

double stepped(double value, double step, bool isStepped) {
    return isStepped ? step * std::round(value / step) : value;
}

}  // namespace

std::optional<Vector3d> StandTool::groundUnder(const CanvasEvent& event) const {
    const auto eye = hand_.eye();
    if (!eye || !event.plate) return std::nullopt;
    const Shot& shot = session_.shot();
    const Orientation orientation = orientationOf(shot);
    double nearest = kSnap;
    std::optional<Vector3d> point;
    for (const SolvedTrack& track : shot.solve->tracks) {
        if (!track.xyz || track.role == TrackRole::disagreed) continue;
        const Vector3d world = orientation.apply(*track.xyz);
        const auto plate = eye->plateFromWorld(world);
        const auto screen = plate ? canvas_.view().screenFromPlate(*plate) : std::nullopt;
        if (!screen) continue;
        if (const double away = QLineF(*screen, event.at).length(); away < nearest) nearest = away, point = world;
    }
    if (point) return point;
    const auto ray = eye->rayThrough(*event.plate);
    return ray ? onLevel(*ray, hand_.floor()) : std::nullopt;
}

void StandTool::press(const CanvasEvent& event) {
    grip_ = Grip::none;
    if (!event.plate) return;
    const auto eye = hand_.eye();
    if (!eye) {
        session_.say(session_.shot().solve ? "This frame has no camera." : "There is no camera yet: solve it first.");
        return;
    }
    if (wanted) {
        const auto place = groundUnder(event);
        if (!place) {
            session_.say("The ground is not under that place: click below the horizon, or on a solved point.");
            return;
        }
        StandIn made = *std::exchange(wanted, std::nullopt);
        made.stance.place = *place;
        placed(made);
        return;
    }
    if (const StandIn* held = hand_.held()) {
        const Stance stance = held->facing(*hand_.stanceNow(), eye->place());
        const StandInGrips grips = gripsOf(*held, stance, *eye, canvas_.view());
        grip_ = isNear(grips.turn, event.at)   ? Grip::turn
                : isNear(grips.size, event.at) ? Grip::size
                : isNear(grips.rise, event.at) ? Grip::rise
                : isNear(grips.foot, event.at) ? Grip::move
                                               : Grip::none;
    }
    const auto ray = eye->rayThrough(*event.plate);
    if (!ray) return;
    if (grip_ == Grip::none) {
        const auto picked = pickedAt(hand_.lookNow(), *eye, session_.player.frame(), *event.plate);
        if (!picked || picked->standIn == 0) return;
        hand_.hold(picked->standIn);
        grip_ = Grip::move;
        height_ = picked->world.y();
    } else {
        height_ = hand_.stanceNow()->place.y();
    }
    if (!hand_.mayEdit()) {
        grip_ = Grip::none;
        return;
    }
    start_ = *hand_.stanceNow();
    at_ = event.at;
    from_ = grip_ == Grip::rise ? Vector3d(0, heightOnUpright(*ray, start_.place).value_or(0), 0)
                                : onLevel(*ray, height_).value_or(start_.place);
}

void StandTool::drag(const CanvasEvent& event) {
    const auto eye = hand_.eye();
    const auto ray = eye && event.plate ? eye->rayThrough(*event.plate) : std::nullopt;
    if (grip_ == Grip::none || !ray || !hand_.held()) return;
    const bool steps = event.modifiers & Qt::ShiftModifier;
    Stance stance = start_;
    if (grip_ == Grip::rise) {
        const auto height = heightOnUpright(*ray, start_.place);
        if (!height) return;
        stance.place.y() = stepped(start_.place.y() + *height - from_.y(), kStep, steps);
    } else if (grip_ == Grip::size) {
        const auto grips = gripsOf(*hand_.held(), hand_.held()->facing(start_, eye->place()), *eye, canvas_.view());
        if (!grips.foot) return;
        const double before = QLineF(*grips.foot, at_).length(), now = QLineF(*grips.foot, event.at).length();
        double factor = std::max(0.01, now / std::max(1.0, before));
        if (steps) factor = stepped(start_.size.y() * factor, kStep, true) / start_.size.y();
        stance.size = (start_.size * factor).cwiseMax(kSmallest);
    } else {
        const auto met = onLevel(*ray, height_);
        if (!met) return;
        if (grip_ == Grip::move) {
            stance.place += *met - from_;
            stance.place.x() = stepped(stance.place.x(), kStep, steps);
            stance.place.z() = stepped(stance.place.z(), kStep, steps);
        } else {
            const auto angleOf = [&](const Vector3d& p) {
                return std::atan2(p.x() - start_.place.x(), p.z() - start_.place.z()) * 180 / std::numbers::pi;
            };
            double turn = start_.turn_deg.y() + angleOf(*met) - angleOf(from_);
            turn -= 360 * std::round(turn / 360);
            stance.turn_deg.y() = stepped(turn, kTurnStep, steps);
        }
    }
    hand_.setDraft(stance);
}

void StandTool::release(const CanvasEvent&) {
    const Grip grip = std::exchange(grip_, Grip::none);
    const auto stance = hand_.endDrag();
    if (!stance || !hand_.held()) return;
    const QString what = grip == Grip::move   ? "Move"
                         : grip == Grip::rise ? "Raise"
                         : grip == Grip::turn ? "Turn"
                                              : "Size";
    session_.edit(what + " " + text(hand_.held()->name),
                  withWorldStance(session_.shot(), *hand_.standIn(), session_.player.frame(), *stance));
}

void StandTool::nudge(const Vector2d& by) {
    const auto eye = hand_.eye();
    if (!eye || !hand_.held() || !hand_.mayEdit()) return;
    Stance stance = *hand_.stanceNow();
    const auto plate = eye->plateFromWorld(stance.place);
    const auto ray = plate ? eye->rayThrough(*plate + by) : std::nullopt;
    const auto met = ray ? onLevel(*ray, stance.place.y()) : std::nullopt;
    if (!met) return;
    stance.place = *met;
    session_.edit("Nudge " + text(hand_.held()->name),
                  withWorldStance(session_.shot(), *hand_.standIn(), session_.player.frame(), stance));
}

bool StandTool::remove() {
    if (hand_.mayEdit())
        session_.edit("Remove " + text(hand_.held()->name), withStandInRemoved(session_.shot(), *hand_.standIn()));
    return true;
}

void StandTool::putDown() {
    grip_ = Grip::none;
    wanted.reset();
    if (hand_.isDragged()) hand_.setDraft(std::nullopt);
}

}  // namespace pinion
