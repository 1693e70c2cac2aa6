#include "stages/tracks/placetool.h"

#include "canvas/marks.h"
#include "picture/pyramid.h"
#include "shot/edits/trackedits.h"

#include <QLineF>
#include <QPainter>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kOnSpot = 12.0;  // screen pixels within which a click means a proposed spot

}  // namespace

PlaceTool::PlaceTool(Session& session, const Spots& spots, Canvas& canvas)
    : session_(session), spots_(spots), canvas_(canvas), ground_(session.jobs, [this] {
          advise();
          canvas_.update();
      }) {}

void PlaceTool::press(const CanvasEvent& event) {
    at_ = event.at;
    const QSizeF plate = canvas_.view().plateSize();
    if (!event.plate || !QRectF(QPointF(0, 0), plate).contains(event.plate->x(), event.plate->y())) {
        session_.say("Outside the plate. Click inside it to place a track.");
        return;
    }
    if (session_.isBusy()) {
        session_.say("A job is running. Stop it or wait to place tracks.");
        return;
    }
    placed_ = *event.plate;
    // On a proposed spot the click means its exact place.
    double nearest = kOnSpot;
    for (const SpotProposal& spot : spots_.on(session_.player.frame()))
        if (const auto screen = canvas_.view().screenFromPlate(spot.at))
            if (const double away = QLineF(*screen, event.at).length(); away < nearest) {
                nearest = away;
                placed_ = spot.at;
            }
}

void PlaceTool::drag(const CanvasEvent& event) {
    at_ = event.at;
    if (!placed_) return;
    if (const auto within = canvas_.view().withinPlate(event.at)) placed_ = within;
}

void PlaceTool::release(const CanvasEvent&) {
    if (!placed_) return;
    TrackId id = 0;
    Shot shot = withTrackAdded(session_.shot(), session_.player.frame(), *placed_, &id);
    placed_.reset();
    session_.edit("Place track", std::move(shot));
    session_.selection.set({id});
}

void PlaceTool::putDown() {
    placed_.reset();
    advice_.reset();
}

bool PlaceTool::hover(const CanvasEvent& event) {
    at_ = event.at;
    plate_ = event.plate;
    const GroundKey key = groundKey();
    if (!key.picture) return false;
    ground_.want(key, [key](const Progress&) {
        Ground ground{buildPyramid(*key.picture, key.channel, key.filter, 1)};
        ground.grain = grainOf(ground.pyramid);
        return Expected<Ground>(std::move(ground));
    });
    advise();
    return true;
}

/// Without a picture while that of the frame is still being read.
PlaceTool::GroundKey PlaceTool::groundKey() const {
    const Player& player = session_.player;
    const ScatterSettings& settings = session_.shot().scatterSettings;
    return {player.pictureFrame() == player.frame() ? player.picture() : nullptr, settings.channel, settings.preFilter};
}

void PlaceTool::advise() {
    advice_.reset();
    if (!plate_ || !ground_.value() || ground_.isPending() || ground_.key() != groundKey()) return;
    const ScatterSettings& settings = session_.shot().scatterSettings;
    advice_ =
        adviseSpot(ground_.value()->pyramid, *plate_, settings.pattern_px, settings.search_px, ground_.value()->grain);
}

void PlaceTool::paint(QPainter& painter, const PlateView&) {
    if (placed_) drawLoupe(painter, canvas_.image(), {placed_->x(), placed_->y()}, at_, canvas_.size());
    else if (advice_ && canvas_.cursorPlace()) paintAdvice(painter);
}

void PlaceTool::paintAdvice(QPainter& painter) const {
    const double half = 0.5 * session_.shot().scatterSettings.pattern_px * canvas_.view().zoom();
    const bool good = advice_->kind == SpotAdvice::Kind::corner;
    const QColor colour = good                                          ? QColor(240, 238, 230)
                          : advice_->kind == SpotAdvice::Kind::repeated ? theme::kSand
                                                                        : theme::kCoral;
    painter.setBrush(Qt::NoBrush);
    overShadow(painter, colour, 1.0, [&] {
        painter.drawRect(QRectF(at_ - QPointF(half, half), QSizeF(2 * half, 2 * half)));
        if (advice_->kind == SpotAdvice::Kind::edge) paintSlide(painter, half);
    });
    const QString words = advice();
    const double wide = painter.fontMetrics().horizontalAdvance(words) + 14;
    const double right = at_.x() + half + 10;
    const double x = right + wide > canvas_.width() ? at_.x() - half - 10 - wide : right;
    drawLabel(painter, {x, std::clamp(at_.y() + 10, 4.0, canvas_.height() - 24.0)}, words,
              good ? theme::kText : colour);
}

/// The way a pattern on an edge would slide, with an arrow at both ends.
void PlaceTool::paintSlide(QPainter& painter, double half) const {
    const double angle = advice_->slideDegrees * M_PI / 180;
    const QPointF along(std::cos(angle), std::sin(angle)), across(-along.y(), along.x());
    const double reach = std::max(16.0, half);
    painter.drawLine(at_ - along * reach, at_ + along * reach);
    for (const double end : {-1.0, 1.0})
        for (const double side : {-1.0, 1.0})
            painter.drawLine(at_ + along * reach * end, at_ + along * (reach - 5) * end + across * 4 * side);
}

}  // namespace pinion
