#include "stages/tracks/trackoverlays.h"

#include "canvas/marks.h"

#include <QPainter>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr int kTrailFrames = 20;                // before and after the current frame
constexpr double kRing = 6.0;                   // screen pixels
constexpr std::size_t kCrowd = 60, kMany = 40;  // tracks beyond which trails are left out

void drawTrail(QPainter& painter, const PlateView& view, const Track& track, int frame, const QColor& colour) {
    const auto& samples = track.samples.vector();
    const auto first = std::lower_bound(samples.begin(), samples.end(), frame - kTrailFrames,
                                        [](const Sample& s, int f) { return s.frame < f; });
    std::vector<Vector2d> past, future;
    for (auto s = first; s != samples.end() && s->frame <= frame + kTrailFrames; ++s) {
        if (s->frame <= frame) past.push_back(s->at);
        if (s->frame >= frame) future.push_back(s->at);
    }
    QColor faint = colour;
    faint.setAlpha(150);
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(faint, 1.2));
    painter.drawPath(view.line(past));
    // What is to come is dotted, so that the direction reads without colour.
    painter.setPen(QPen(faint, 1.0, Qt::DotLine));
    painter.drawPath(view.line(future));
}

void drawDot(QPainter& painter, const Track& track, const QPointF& at, const QColor& colour) {
    painter.setPen(QPen(track.setAside ? QColor(200, 200, 200, 110) : QColor(0, 0, 0, 130), 1));
    painter.setBrush(track.setAside ? QBrush(Qt::NoBrush) : QBrush(colour));
    painter.drawEllipse(at, 2.4, 2.4);
}

/// A register mark: a ring with four short ticks; filled when placed by hand.
void drawMark(QPainter& painter, const Track& track, const QPointF& at, const QColor& colour) {
    for (const bool shadow : {true, false}) {
        QPen pen(shadow ? QColor(0, 0, 0, 150) : colour, shadow ? 3.2 : 1.5);
        if (track.setAside && !shadow) pen.setStyle(Qt::DotLine);
        painter.setPen(pen);
        QColor fill = colour;
        fill.setAlpha(70);
        painter.setBrush(track.byHand && !shadow ? QBrush(fill) : QBrush(Qt::NoBrush));
        painter.drawEllipse(at, kRing, kRing);
        for (const QPointF& out : {QPointF(1, 0), QPointF(-1, 0), QPointF(0, 1), QPointF(0, -1)})
            painter.drawLine(at + out * (kRing - 2), at + out * (kRing + 4));
    }
    painter.setPen(Qt::NoPen);
    painter.setBrush(colour);
    painter.drawEllipse(at, 1.1, 1.1);
}

/// The corners of a four-sided path as brackets.
void drawBrackets(QPainter& painter, const PlateView& view, const Vector2d& at, double half) {
    const Vector2d corners[] = {{-1, -1}, {1, -1}, {1, 1}, {-1, 1}};
    std::vector<QPointF> screen;
    for (const Vector2d& corner : corners)
        if (const auto place = view.screenFromPlate(at + half * corner)) screen.push_back(*place);
    if (screen.size() < 4) return;
    overShadow(painter, theme::kBrass, 1.4, [&] {
        for (std::size_t i = 0; i < 4; ++i)
            for (const std::size_t other : {(i + 1) % 4, (i + 3) % 4}) {
                const QPointF side = screen[other] - screen[i];
                const double length = std::hypot(side.x(), side.y());
                painter.drawLine(screen[i], screen[i] + side * std::min(8.0 / std::max(1e-9, length), 1.0 / 3));
            }
    });
}

}  // namespace

bool TracksOverlay::standsOut(const Track& track) const {
    return session_.selection.contains(track.id) || track.byHand || track.id == hand_.hovered;
}

void TracksOverlay::paint(QPainter& painter, const PlateView& view) {
    if (session_.isBusy() && !session_.jobs.livePoints().empty()) return;
    const Shot& shot = session_.shot();
    const bool crowded = shot.tracks.size() > kCrowd;
    std::vector<const Track*> onTop;
    for (const Track& track : shot.tracks) {
        if (track.hidden) continue;
        if (!standsOut(track)) paintPlain(painter, view, track, crowded);
        else if (session_.selection.contains(track.id) || placeOf(session_, hand_, track)) onTop.push_back(&track);
    }
    for (const Track* track : onTop) paintMarked(painter, view, *track, onTop.size() > kMany);
}

QColor TracksOverlay::colourOf(const Track& track, const SolvedTrack* solved) const {
    if (track.colour != 0) return QColor::fromRgb(track.colour);
    const Sample* sample = sampleAt(track, session_.player.frame());
    const double badness = solved ? solved->role == TrackRole::disagreed ? 1.0 : theme::badnessOfError(solved->rms_px)
                                  : theme::badnessOfScore(sample ? sample->score : 1.0);
    return badness < 0.4 ? QColor(232, 232, 226) : theme::fitColour(badness);
}

void TracksOverlay::paintPlain(QPainter& painter, const PlateView& view, const Track& track, bool crowded) const {
    const auto place = placeOf(session_, hand_, track);
    const auto at = place ? view.screenFromPlate(*place) : std::nullopt;
    if (!at) return;
    const QColor colour = colourOf(track, findSolved(session_.shot(), track.id));
    if (!crowded) drawTrail(painter, view, track, session_.player.frame(), colour);
    drawDot(painter, track, *at, colour);
}

void TracksOverlay::paintMarked(QPainter& painter, const PlateView& view, const Track& track, bool many) const {
    const bool selected = session_.selection.contains(track.id);
    const bool alone = selected && session_.selection.size() == 1;
    const QColor colour = selected            ? theme::kBrass
                          : track.colour != 0 ? QColor::fromRgb(track.colour)
                                              : QColor(240, 238, 230);
    if (!many || selected) drawTrail(painter, view, track, session_.player.frame(), colour);
    const auto place = placeOf(session_, hand_, track);
    const auto at = place ? view.screenFromPlate(*place) : std::nullopt;
    if (!at) return;
    if (alone) paintAreas(painter, view, track, *place);
    drawMark(painter, track, *at, colour);
    paintOffset(painter, view, track, *at, colour);
    if (track.id == hand_.hovered || alone) paintName(painter, track, *at);
}

/// The offset point: a small cross on a line from the track.
void TracksOverlay::paintOffset(QPainter& painter, const PlateView& view, const Track& track, const QPointF& at,
                                const QColor& colour) const {
    const Sample* here = sampleAt(track, session_.player.frame());
    const bool drawn = hand_.grip == TrackHand::Grip::offset && session_.selection.contains(track.id);
    if (!here || (here->carried == Eigen::Vector2f(0, 0) && !drawn)) return;
    const Vector2d place =
        drawn ? hand_.draggedTo : Vector2d(*placeOf(session_, hand_, track) + here->carried.cast<double>());
    const auto wanted = view.screenFromPlate(place);
    if (!wanted) return;
    overShadow(painter, colour, 1.3, [&] {
        painter.drawLine(at, *wanted);
        drawCross(painter, *wanted, 5, true);
    });
}

void TracksOverlay::paintAreas(QPainter& painter, const PlateView& view, const Track& track, const Vector2d& at) const {
    painter.setBrush(Qt::NoBrush);
    drawBrackets(painter, view, at, hand_.patternOf(track) / 2.0);
    if (!track.outline.isEmpty()) {
        std::vector<Vector2d> corners;
        for (const Vector2d& corner : track.outline) corners.push_back(at + corner);
        painter.setPen(QPen(theme::kBrass, 1.2));
        painter.drawPath(view.line(corners, true));
    }
    QPen fine(QColor(233, 200, 130, 190), 1);
    fine.setDashPattern({2, 4});
    painter.setPen(fine);
    painter.drawPath(view.square(at, hand_.searchOf(track) / 2.0));
    if (canvas_.toolInHand() != "select") return;
    painter.setPen(QPen(QColor(0, 0, 0, 190), 1));
    painter.setBrush(theme::kBrass);
    for (const QPointF& handle : patternHandles(session_, hand_, view))
        painter.drawRect(QRectF(handle - QPointF(2.5, 2.5), QSizeF(5, 5)));
    painter.setBrush(QColor(30, 30, 30));
    painter.setPen(QPen(QColor(233, 200, 130), 1.2));
    for (const QPointF& handle : searchHandles(session_, hand_, view)) painter.drawEllipse(handle, 3.2, 3.2);
}

void TracksOverlay::paintName(QPainter& painter, const Track& track, const QPointF& at) const {
    QString line = text(track.name);
    if (const Sample* sample = sampleAt(track, session_.player.frame()))
        line += sample->tie ? " · tie" : QString(" · fit %1").arg(sample->score, 0, 'f', 3);
    if (const SolvedTrack* solved = findSolved(session_.shot(), track.id))
        line += QString(" · %1 px").arg(solved->rms_px, 0, 'f', 2);
    if (track.locked) line += " · locked";
    const double wide = painter.fontMetrics().horizontalAdvance(line) + 14;
    const bool fits = at.x() + 12 + wide <= canvas_.width() - 4;
    drawLabel(painter, {fits ? at.x() + 12 : at.x() - 12 - wide, at.y() - 30}, line);
}

void LivePointsOverlay::paint(QPainter& painter, const PlateView& view) {
    if (!session_.isBusy()) return;
    painter.setPen(QPen(QColor(0, 0, 0, 130), 1));
    for (const LivePoint& point : session_.jobs.livePoints())
        if (const auto at = view.screenFromPlate(point.at)) {
            painter.setBrush(theme::fitColour(theme::badnessOfScore(point.score)).lighter(150));
            painter.drawEllipse(*at, 2.4, 2.4);
        }
}

void CandidatesOverlay::paint(QPainter& painter, const PlateView& view) {
    for (const Candidate& candidate : candidates_.found())
        if (const auto at = view.screenFromPlate(candidate.at))
            overShadow(painter, QColor(240, 235, 220), 1.1, [&] { drawCross(painter, *at, 3, false); });
}

void SpotsOverlay::paint(QPainter& painter, const PlateView& view) {
    int number = 0;
    for (const SpotProposal& spot : spots_.on(session_.player.frame())) {
        ++number;
        const auto at = view.screenFromPlate(spot.at);
        if (!at) continue;
        painter.setBrush(Qt::NoBrush);
        overShadow(painter, theme::kBrass, 1.4, [&] { painter.drawRect(QRectF(*at - QPointF(5, 5), QSizeF(10, 10))); });
        // How long it lasts is said where it does not last.
        const bool whole = spot.frames >= session_.shot().plate.range.count();
        drawLabel(painter, *at + QPointF(8, -10),
                  whole ? QString::number(number) : QString("%1 · %2 frames").arg(number).arg(spot.frames));
    }
}

}  // namespace pinion
