#include "stages/world/standinoverlay.h"

#include "canvas/marks.h"
#include "shot/stages/worldstage.h"
#include "widgets/theme.h"

#include <QLineF>
#include <QPainter>

#include <algorithm>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kPieces = 8;     // of an edge: straight lines bend in the lens
constexpr int kRound = 48;     // pieces of the ring
constexpr double kWide = 0.7;  // the ring's radius, of the longer side

double ringOf(const Stance& stance) { return kWide * std::max(stance.size.x(), stance.size.z()); }

std::optional<QPointF> screenOf(const Vector3d& world, const WorldEye& eye, const PlateView& view) {
    const auto plate = eye.plateFromWorld(world);
    return plate ? view.screenFromPlate(*plate) : std::nullopt;
}

/// A line of the world, parted where it is out of sight.
QPainterPath lineOf(const Vector3d& from, const Vector3d& to, const WorldEye& eye, const PlateView& view) {
    QPainterPath path;
    bool isOpen = false;
    for (int i = 0; i <= kPieces; ++i) {
        const double share = double(i) / kPieces;
        const auto at = screenOf((1 - share) * from + share * to, eye, view);
        if (at) isOpen ? path.lineTo(*at) : path.moveTo(*at);
        isOpen = at.has_value();
    }
    return path;
}

Vector3d onRing(const Stance& stance, double angle) {
    return stance.place + ringOf(stance) * Vector3d(std::sin(angle), 0, std::cos(angle));
}

}  // namespace

StandInGrips gripsOf(const StandIn& standIn, const Stance& stance, const WorldEye& eye, const PlateView& view) {
    const auto corners = boxCorners(standIn.kind, stance);
    const auto at = [&](const Vector3d& world) { return screenOf(world, eye, view); };
    const Eigen::Affine3d world = stance.worldFromUnit();
    StandInGrips grips;
    grips.foot = at(stance.place);
    grips.rise = at(world * Vector3d(0, standIn.kind == StandInKind::grid ? 0 : 1, 0) +
                    Vector3d(0, 0.12 * std::max(0.4, stance.size.y()), 0));
    grips.turn = at(onRing(stance, stance.turn_deg.y() * std::numbers::pi / 180));
    // The corner that lies farthest to the right of those above.
    for (const Vector3d& corner : {corners[2], corners[3], corners[6], corners[7]})
        if (const auto seen = at(corner); seen && (!grips.size || seen->x() > grips.size->x())) grips.size = seen;
    return grips;
}

std::optional<ScenePick> locatorNear(const SceneLook& look, int frame, const QPointF& at,
                                     const ScreenOfWorld& screenOf) {
    constexpr double kNear = 9;  // screen pixels
    for (const StandIn& one : look.standIns) {
        if (one.kind != StandInKind::locator || one.hidden || !one.isOn(frame)) continue;
        const Vector3d place = one.at(frame).place;
        if (const auto screen = screenOf(place); screen && QLineF(*screen, at).length() < kNear)
            return ScenePick{one.id, place};
    }
    return std::nullopt;
}

void drawLocators(QPainter& painter, const SceneLook& look, int frame, const ScreenOfWorld& screenOf) {
    for (const StandIn& one : look.standIns) {
        if (one.kind != StandInKind::locator || one.hidden || !one.isOn(frame)) continue;
        const auto at = screenOf(one.at(frame).place);
        if (!at) continue;
        overShadow(painter, theme::kBrass, 1.2, [&] {
            drawCross(painter, *at, 5, true);
            painter.drawEllipse(*at, 3.5, 3.5);
        });
        drawLabel(painter, *at + QPointF(8, -18), text(one.name));
    }
}

void StandInOverlay::paint(QPainter& painter, const PlateView& view) {
    const StandIn* held = hand_.held();
    const QString looks = looked ? looked() : QString();
    if (!shown || !held || (looks != "plate" && looks != "stand-ins")) return;
    const auto eye = hand_.eye();
    if (eye) {
        painter.save();
        painter.setRenderHint(QPainter::Antialiasing);
        painter.setClipRect(view.frameOnScreen(), Qt::IntersectClip);
        painter.setBrush(Qt::NoBrush);
        drawLocators(painter, hand_.lookNow(), session_.player.frame(),
                     [&](const Vector3d& world) { return screenOf(world, *eye, view); });
        painter.restore();
    }
    auto stance = hand_.stanceNow();
    if (!eye || !stance) return;
    stance = held->facing(*stance, eye->place());
    const auto corners = boxCorners(held->kind, *stance);
    QPainterPath edges;
    for (unsigned a = 0; a < 8; ++a)
        for (const unsigned bit : {1U, 2U, 4U})
            if ((a & bit) == 0 && !corners[a].isApprox(corners[a | bit]))
                edges.addPath(lineOf(corners[a], corners[a | bit], *eye, view));
    QPainterPath ring;
    for (int i = 0; i < kRound; ++i)
        ring.addPath(lineOf(onRing(*stance, 2 * std::numbers::pi * i / kRound),
                            onRing(*stance, 2 * std::numbers::pi * (i + 1) / kRound), *eye, view));
    painter.save();
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setClipRect(view.frameOnScreen(), Qt::IntersectClip);
    painter.setBrush(Qt::NoBrush);
    if (held->kind != StandInKind::locator) overShadow(painter, theme::kBrass, 1.2, [&] { painter.drawPath(edges); });
    overShadow(painter, theme::kSlate, 1.0, [&] { painter.drawPath(ring); });
    const StandInGrips grips = gripsOf(*held, *stance, *eye, view);
    if (grips.rise && grips.foot) {
        const QPainterPath stem =
            lineOf(stance->place, stance->place + Vector3d(0, 1.12 * stance->size.y(), 0), *eye, view);
        if (held->kind == StandInKind::grid) overShadow(painter, theme::kSlate, 1.0, [&] { painter.drawPath(stem); });
    }
    overShadow(painter, theme::kBrass, 1.4, [&] {
        if (grips.foot) drawCross(painter, *grips.foot, 6, false);
        if (grips.size) painter.drawRect(QRectF(*grips.size - QPointF(4, 4), QSizeF(8, 8)));
        if (grips.turn) painter.drawEllipse(*grips.turn, 4.5, 4.5);
        if (grips.rise) {
            painter.drawLine(*grips.rise + QPointF(-5, 3), *grips.rise + QPointF(0, -4));
            painter.drawLine(*grips.rise + QPointF(0, -4), *grips.rise + QPointF(5, 3));
        }
    });
    if (hand_.isDragged() && grips.foot) drawLabel(painter, *grips.foot + QPointF(14, 8), hand_.numbers());
    painter.restore();
}

}  // namespace pinion
