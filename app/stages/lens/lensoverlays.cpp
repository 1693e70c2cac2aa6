#include "stages/lens/lensoverlays.h"

#include "canvas/marks.h"
#include "canvas/plateview.h"
#include "shot/stages/lensstage.h"

#include <QLineF>
#include <QPainter>

#include <algorithm>
#include <cmath>
#include <vector>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kTick = 5.0;  // half of the tick across a line at each of its places, screen pixels
constexpr int kColumns = 12;   // of the grid
constexpr int kPieces = 48;

QColor colourOf(const std::optional<LineBend>& bend) {
    return !bend ? theme::kText : bend->curved ? theme::kCoral : theme::kSlate.lighter(140);
}

QString wordsOf(const LineBend& bend) {
    return QString("%1 → %2 px%3")
        .arg(bend.before_px, 0, 'f', 2)
        .arg(bend.after_px, 0, 'f', 2)
        .arg(bend.curved ? " · curved in life?" : "");
}

/// Short ticks across the line, as on a ruler.
void drawTicks(QPainter& painter, const PlateView& view, const List<Vector2d>& clicks) {
    for (std::size_t k = 0; k < clicks.size(); ++k) {
        const auto at = view.screenFromPlate(clicks[k]);
        const auto to = view.screenFromPlate(clicks[k + 1 < clicks.size() ? k + 1 : k > 0 ? k - 1 : k]);
        if (!at || !to) continue;
        QLineF along(*at, *to);
        if (along.length() < 1e-6) along = QLineF(*at, *at + QPointF(1, 0));
        const QPointF across = QPointF(-along.dy(), along.dx()) / along.length() * kTick;
        painter.drawLine(*at - across, *at + across);
    }
}

}  // namespace

void LinesOverlay::paint(QPainter& painter, const PlateView& view) {
    const Shot& shot = session_.shot();
    std::vector<QPointF> labels;  // those drawn so far
    for (std::size_t i = 0; i < shot.lens.lines.size(); ++i) {
        const LensLine& line = shot.lens.lines[i];
        const bool here = line.frame == session_.player.frame();
        const auto bend = stage_.bendOf(i);
        const List<Vector2d>& places = line.places();
        const QPainterPath path = view.line(places.vector());
        painter.setBrush(Qt::NoBrush);
        painter.setOpacity(here ? 1.0 : 0.35);
        overShadow(painter, colourOf(bend), here ? 1.6 : 1.0, [&] {
            painter.drawPath(path);
            if (here) drawTicks(painter, view, line.clicks);
        });
        painter.setOpacity(1.0);
        const auto at = here && bend ? view.screenFromPlate(places[places.size() / 2]) : std::nullopt;
        if (!at) continue;
        QPointF place = *at + QPointF(8, 8);
        const auto covers = [&](const QPointF& other) {
            return std::abs(other.x() - place.x()) < 150 && std::abs(other.y() - place.y()) < 22;
        };
        while (std::any_of(labels.begin(), labels.end(), covers)) place.ry() += 22;
        labels.push_back(place);
        drawLabel(painter, place, wordsOf(*bend), colourOf(bend));
    }
}

void LensGridOverlay::paint(QPainter& painter, const PlateView& view) {
    const Shot& shot = session_.shot();
    if (!stage_.showsGrid() || !shot.plate.isOpen()) return;
    const auto lens = lensInForce(shot, session_.player.frame());
    const double cell = double(shot.plate.width) / kColumns;
    const int rows = int(shot.plate.height / cell) + 1;
    const auto draw = [&](const Vector2d& from, const Vector2d& to) {
        QPainterPath path;
        bool open = false;
        for (int i = 0; i <= kPieces; ++i) {
            const Vector2d straight = from + (to - from) * i / kPieces;
            const auto plate = lens ? plateFromUndistorted(*lens, straight) : std::optional(straight);
            const auto at = plate ? view.screenFromPlate(*plate) : std::nullopt;
            if (at) open ? path.lineTo(*at) : path.moveTo(*at);
            open = at.has_value();
        }
        painter.drawPath(path);
    };
    painter.setBrush(Qt::NoBrush);
    overShadow(painter, QColor(0xd8, 0xd8, 0xd8, 150), 0.8, [&] {
        // The middle lines of the frame are among them.
        const double width = shot.plate.width, height = shot.plate.height;
        for (int i = -kColumns / 2; i <= kColumns / 2; ++i) {
            const double x = width / 2 + i * cell;
            draw({x, 0}, {x, height});
        }
        for (int i = -rows / 2; i <= rows / 2; ++i) {
            const double y = height / 2 + i * cell;
            if (y >= 0 && y <= height) draw({0, y}, {width, y});
        }
    });
}

}  // namespace pinion
