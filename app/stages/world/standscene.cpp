#include "stages/world/standscene.h"

#include "canvas/marks.h"
#include "render/scenerender.h"
#include "shot/stages/worldstage.h"
#include "shot/edits/sceneedits.h"
#include "stages/world/standinoverlay.h"
#include "widgets/theme.h"

#include <QLineF>
#include <QPainter>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

namespace pinion {
namespace {

using Eigen::Vector3d;

constexpr double kGrabInScene = 10;  // screen pixels
constexpr double kAxisReach = 72;    // of the axes, screen pixels
constexpr double kShortest = 14;     // an axis that is seen shorter points at the eye
constexpr double kRingReach = 0.7;   // of the axes' reach
constexpr int kRingPieces = 48;      // of the ring

bool isGripped(const std::optional<QPointF>& grip, const QPointF& at) {
    return grip && QLineF(*grip, at).length() < kGrabInScene;
}

Vector3d onTurnRing(const Stance& stance, double radius, double angle) {
    return stance.place + radius * Vector3d(std::sin(angle), 0, std::cos(angle));
}

}  // namespace

std::optional<Stance> StandScene::stance() const {
    const StandIn* held = hand_.held();
    auto stance = hand_.stanceNow();
    if (!shown || !held || !stance || session_.shot().solve == nullptr) return std::nullopt;
    const auto eye = hand_.eye();
    return eye ? held->facing(*stance, eye->place()) : *stance;
}

std::optional<StandScene::Grips> StandScene::grips(const SceneSight& sight) const {
    const auto stance = this->stance();
    if (!stance) return std::nullopt;
    Grips grips;
    grips.foot = sight.screenFromWorld(stance->place);
    if (!grips.foot) return std::nullopt;
    // As long on the screen whatever it is seen from: by the axis that is seen longest.
    const double trial = 0.25 * std::max(1e-6, stance->size.maxCoeff());
    double longest = 0;
    for (int axis = 0; axis < 3; ++axis)
        if (const auto end = sight.screenFromWorld(stance->place + trial * Vector3d::Unit(axis)))
            longest = std::max(longest, QLineF(*grips.foot, *end).length());
    if (longest <= 0) return std::nullopt;
    grips.reach = kAxisReach / longest * trial;
    for (int axis = 0; axis < 3; ++axis) {
        const auto end = sight.screenFromWorld(stance->place + grips.reach * Vector3d::Unit(axis));
        if (end && QLineF(*grips.foot, *end).length() > kShortest) grips.axes[std::size_t(axis)] = end;
    }
    grips.turn = sight.screenFromWorld(onTurnRing(
        *stance, kRingReach * grips.reach, stance->turn_deg.y() * std::numbers::pi / 180 + std::numbers::pi / 4));
    // The upper corner that lies farthest to the right.
    const auto corners = boxCorners(hand_.held()->kind, *stance);
    for (const Vector3d& corner : {corners[2], corners[3], corners[6], corners[7]})
        if (const auto seen = sight.screenFromWorld(corner); seen && (!grips.size || seen->x() > grips.size->x()))
            grips.size = seen;
    return grips;
}

bool StandScene::press(const SceneEvent& event) {
    drag_ = {};
    if (!shown || !session_.shot().solve) return false;
    const WorldRay ray = event.sight.rayThrough(event.at);
    StandGrip grip = StandGrip::none;
    std::optional<double> level;
    if (const auto grips = this->grips(event.sight)) {
        grip = isGripped(grips->axes[0], event.at)   ? StandGrip::alongX
               : isGripped(grips->axes[1], event.at) ? StandGrip::alongY
               : isGripped(grips->axes[2], event.at) ? StandGrip::alongZ
               : isGripped(grips->turn, event.at)    ? StandGrip::turn
               : isGripped(grips->size, event.at)    ? StandGrip::size
               : isGripped(grips->foot, event.at)    ? StandGrip::floor
                                                     : StandGrip::none;
        foot_ = *grips->foot;
    }
    if (grip == StandGrip::none) {
        if (event.isOnPoint) return false;
        const auto eye = hand_.eye();
        const auto frame = session_.player.frame();
        const auto locator = locatorNear(hand_.lookNow(), frame, event.at,
                                         [&](const Vector3d& world) { return event.sight.screenFromWorld(world); });
        const auto picked =
            locator ? locator
                    : pickedAlong(hand_.lookNow(), ray, eye ? eye->place() : ray.from, frame, hand_.cardPictures());
        if (!picked || picked->standIn == 0) return false;
        hand_.hold(picked->standIn);
        grip = StandGrip::floor;
        level = picked->world.y();
    }
    if (!hand_.mayEdit()) return true;
    const Stance start = *hand_.stanceNow();
    drag_ = StandDrag(grip, start, ray, level.value_or(start.place.y()));
    at_ = event.at;
    return true;
}

void StandScene::drag(const SceneEvent& event) {
    if (drag_.grip() == StandGrip::none || !hand_.held()) return;
    const bool steps = event.modifiers & Qt::ShiftModifier;
    if (drag_.grip() == StandGrip::size) {
        const double before = QLineF(foot_, at_).length(), now = QLineF(foot_, event.at).length();
        hand_.setDraft(drag_.sized(now / std::max(1.0, before), steps));
    } else if (const auto stance = drag_.at(event.sight.rayThrough(event.at), steps)) {
        hand_.setDraft(*stance);
    }
}

void StandScene::release() { hand_.drop(verbOf(std::exchange(drag_, {}).grip())); }

std::optional<Shot> StandScene::draft() const {
    if (instead) {
        Shot shot = session_.shot();
        shot.world = *instead;
        return shot;
    }
    const auto stance = hand_.isDragged() ? hand_.stanceNow() : std::nullopt;
    if (!stance || !hand_.standIn()) return std::nullopt;
    return withWorldStance(session_.shot(), *hand_.standIn(), session_.player.frame(), *stance);
}

std::vector<Vector3d> StandScene::held() const {
    const auto stance = this->stance();
    if (!stance) return {};
    const auto corners = boxCorners(hand_.held()->kind, *stance);
    return {corners.begin(), corners.end()};
}

void StandScene::paint(QPainter& painter, const SceneSight& sight) const {
    if (shown && session_.shot().solve) {
        painter.setBrush(Qt::NoBrush);
        drawLocators(painter, hand_.lookNow(), session_.player.frame(),
                     [&](const Vector3d& world) { return sight.screenFromWorld(world); });
    }
    const auto grips = this->grips(sight);
    if (!grips) return;
    const Stance stance = *this->stance();
    QPainterPath ring;
    bool isOpen = false;
    for (int i = 0; i <= kRingPieces; ++i) {
        const auto at = sight.screenFromWorld(
            onTurnRing(stance, kRingReach * grips->reach, 2 * std::numbers::pi * i / kRingPieces));
        if (at) isOpen ? ring.lineTo(*at) : ring.moveTo(*at);
        isOpen = at.has_value();
    }
    painter.setBrush(Qt::NoBrush);
    overShadow(painter, theme::kSlate, 1.0, [&] { painter.drawPath(ring); });
    overShadow(painter, theme::kBrass, 1.4, [&] {
        drawCross(painter, *grips->foot, 6, false);
        if (grips->size) painter.drawRect(QRectF(*grips->size - QPointF(4, 4), QSizeF(8, 8)));
        if (grips->turn) painter.drawEllipse(*grips->turn, 4.5, 4.5);
        for (const auto& end : grips->axes)
            if (end) painter.drawLine(*grips->foot, *end);
    });
    QFont bold = painter.font();
    bold.setWeight(QFont::DemiBold);
    bold.setPixelSize(11);
    painter.setFont(bold);
    for (std::size_t axis = 0; axis < 3; ++axis) {
        if (!grips->axes[axis]) continue;
        const QRectF knob(*grips->axes[axis] - QPointF(8, 8), QSizeF(16, 16));
        painter.setPen(QPen(theme::kBrass, 1.2));
        painter.setBrush(theme::kGround);
        painter.drawEllipse(knob);
        painter.setPen(theme::kText);
        painter.drawText(knob, Qt::AlignCenter, QString("XYZ").mid(int(axis), 1));
    }
    if (hand_.isDragged()) drawLabel(painter, *grips->foot + QPointF(14, 8), hand_.numbers());
}

}  // namespace pinion
