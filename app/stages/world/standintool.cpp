#include "stages/world/standintool.h"

#include "render/scenerender.h"
#include "shot/edits/sceneedits.h"
#include "shot/stages/worldstage.h"
#include "stages/world/standinoverlay.h"

#include <QLineF>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kGrab = 11;  // screen pixels
constexpr double kSnap = 9;   // within which a click means a solved point

bool isNear(const std::optional<QPointF>& grip, const QPointF& at) {
    return grip && QLineF(*grip, at).length() < kGrab;
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
    drag_ = {};
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
    StandGrip grip = StandGrip::none;
    if (const StandIn* held = hand_.held()) {
        const Stance stance = held->facing(*hand_.stanceNow(), eye->place());
        const StandInGrips grips = gripsOf(*held, stance, *eye, canvas_.view());
        grip = isNear(grips.turn, event.at)   ? StandGrip::turn
               : isNear(grips.size, event.at) ? StandGrip::size
               : isNear(grips.rise, event.at) ? StandGrip::alongY
               : isNear(grips.foot, event.at) ? StandGrip::floor
                                              : StandGrip::none;
    }
    const auto ray = eye->rayThrough(*event.plate);
    if (!ray) return;
    std::optional<double> level;
    if (grip == StandGrip::none) {
        const auto frame = session_.player.frame();
        const auto locator =
            locatorNear(hand_.lookNow(), frame, event.at, [&](const Vector3d& world) -> std::optional<QPointF> {
                const auto plate = eye->plateFromWorld(world);
                return plate ? canvas_.view().screenFromPlate(*plate) : std::nullopt;
            });
        const auto picked =
            locator ? locator : pickedAt(hand_.lookNow(), *eye, frame, *event.plate, hand_.cardPictures());
        if (!picked || picked->standIn == 0) return;
        hand_.hold(picked->standIn);
        grip = StandGrip::floor;
        level = picked->world.y();
    }
    if (!hand_.mayEdit()) return;
    const Stance start = *hand_.stanceNow();
    drag_ = StandDrag(grip, start, *ray, level.value_or(start.place.y()));
    at_ = event.at;
}

void StandTool::drag(const CanvasEvent& event) {
    const auto eye = hand_.eye();
    const auto ray = eye && event.plate ? eye->rayThrough(*event.plate) : std::nullopt;
    if (drag_.grip() == StandGrip::none || !ray || !hand_.held()) return;
    const bool steps = event.modifiers & Qt::ShiftModifier;
    if (drag_.grip() != StandGrip::size) {
        if (const auto stance = drag_.at(*ray, steps)) hand_.setDraft(*stance);
        return;
    }
    const auto grips = gripsOf(*hand_.held(), hand_.held()->facing(drag_.start(), eye->place()), *eye, canvas_.view());
    if (!grips.foot) return;
    const double before = QLineF(*grips.foot, at_).length(), now = QLineF(*grips.foot, event.at).length();
    hand_.setDraft(drag_.sized(now / std::max(1.0, before), steps));
}

void StandTool::release(const CanvasEvent&) { hand_.drop(verbOf(std::exchange(drag_, {}).grip())); }

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
    drag_ = {};
    wanted.reset();
    if (hand_.isDragged()) hand_.setDraft(std::nullopt);
}

}  // namespace pinion
