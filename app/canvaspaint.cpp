// What the canvas draws on the plate.

#include "canvas.h"
#include "shot/stages/worldstage.h"
#include "theme.h"

#include <QFileInfo>
#include <QPainter>
#include <QPainterPath>

#include <cmath>
#include <unordered_map>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kTrailFrames = 20;  // before and after the current frame
constexpr double kRing = 6.0;     // screen pixels

QBrush outsideBrush() {
    QPixmap tile(12, 12);
    tile.fill(QColor(0x1f, 0x1f, 0x1f));
    QPainter painter(&tile);
    painter.setPen(QColor(0x28, 0x28, 0x28));
    painter.drawLine(0, 12, 12, 0);
    painter.drawLine(-6, 6, 6, -6);
    painter.drawLine(6, 18, 18, 6);
    return QBrush(tile);
}

void label(QPainter& painter, const QPointF& at, const QString& words, const QColor& colour = theme::kText) {
    const QRectF box(at, QSizeF(painter.fontMetrics().horizontalAdvance(words) + 14, 20));
    painter.setPen(Qt::NoPen);
    painter.setBrush(QColor(20, 20, 20, 215));
    painter.drawRoundedRect(box, 3, 3);
    painter.setPen(colour);
    painter.drawText(box, Qt::AlignCenter, words);
}

}  // namespace

void Canvas::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    static const QBrush outside = outsideBrush();
    painter.fillRect(rect(), outside);
    if (!workspace_.shot().plate.isOpen()) {
        paintEmpty(painter);
        return;
    }
    paintPicture(painter);
    const QRectF frame = mapping_.frameOnScreen();
    if (!workspace_.frameProblem().isEmpty()) {
        painter.fillRect(frame, QColor(0x16, 0x16, 0x16, 220));
        painter.setPen(theme::kCoral);
        painter.drawText(frame.adjusted(24, 24, -24, -24), Qt::AlignCenter | Qt::TextWordWrap,
                         workspace_.frameProblem());
    }
    painter.setRenderHint(QPainter::Antialiasing);
    if (shown_ != Shown::plate || workspace_.followed() != 0) paintShownNote(painter);
    if (!overlays_ || shown_ == Shown::beside) return;
    // Of a wipe only the result's side has the tracks where they are drawn.
    if (shown_ == Shown::wipe) painter.setClipRect(QRectF(wipeHandle().x() + 1, 0, width(), height()));
    if (gridShown_) paintGrid(painter);
    paintTracks(painter);
    paintProposals(painter);
    paintOutline(painter);
    if (drag_ == Drag::band || drag_ == Drag::area) {
        painter.setPen(QPen(theme::kBrass, 1, Qt::DashLine));
        painter.setBrush(QColor(217, 164, 65, 24));
        painter.drawRect(QRectF(dragFrom_, cursor_).normalized());
    }
    if (tool_ == Tool::place && cursorInside_ && drag_ == Drag::none) paintAdvice(painter);
    if (drag_ == Drag::place || drag_ == Drag::move) paintLoupe(painter);
}

void Canvas::paintPicture(QPainter& painter) {
    const QRectF frame = mapping_.frameOnScreen();
    if (image().isNull() || !workspace_.picture()) {
        painter.fillRect(frame, QColor(0x16, 0x16, 0x16));
        return;
    }
    // Grown pixels stay pixels: the eye judges sub-pixel places by them. A moved picture has none of its own.
    const bool moved = !mapping_.shownFromPlate().isIdentity(1e-12);
    const auto draw = [&](const Eigen::Matrix3d& shownFromPlate, const QPointF& by) {
        painter.save();
        painter.setRenderHint(QPainter::SmoothPixmapTransform,
                              mapping_.zoom() < 2.0 || !shownFromPlate.isIdentity(1e-12));
        painter.setTransform(PlateMapping::painted(shownFromPlate, mapping_.zoom(), mapping_.offset() + by));
        painter.drawImage(QPointF(0, 0), image_);
        painter.restore();
    };
    const auto shadeOutside = [&](const QRectF& within, const QRectF& area) {
        // What the frame cuts off stays visible, dimmed, while it is worked on.
        QPainterPath beyond;
        beyond.addRect(area);
        QPainterPath inner;
        inner.addRect(within);
        painter.fillPath(beyond.subtracted(inner), QColor(0x1f, 0x1f, 0x1f, 205));
    };
    const auto bare = Eigen::Matrix3d::Identity();
    switch (shown_) {
        case Shown::plate:
            draw(mapping_.shownFromPlate(), {0, 0});
            break;
        case Shown::steady:
            draw(mapping_.shownFromPlate(), {0, 0});
            if (moved) shadeOutside(frame, rect());
            break;
        case Shown::wipe: {
            const double x = wipeHandle().x();
            painter.save();
            painter.setClipRect(QRectF(0, 0, x, height()));
            draw(bare, {0, 0});
            painter.restore();
            painter.save();
            painter.setClipRect(QRectF(x, 0, width() - x, height()));
            draw(mapping_.shownFromPlate(), {0, 0});
            shadeOutside(frame, rect());
            painter.restore();
            painter.setPen(QPen(theme::kBrass, 1.5));
            painter.drawLine(QPointF(x, 0), QPointF(x, height()));
            painter.setBrush(theme::kBrass);
            painter.drawPolygon(
                QPolygonF({{x - 3, height() / 2.0 - 5}, {x - 9, height() / 2.0}, {x - 3, height() / 2.0 + 5}}));
            painter.drawPolygon(
                QPolygonF({{x + 3, height() / 2.0 - 5}, {x + 9, height() / 2.0}, {x + 3, height() / 2.0 + 5}}));
            break;
        }
        case Shown::beside:
            // Both halves show the same spot at the same size.
            for (const bool left : {true, false}) {
                const QRectF half(left ? 0 : width() / 2.0, 0, width() / 2.0, height());
                const QPointF by(left ? -width() / 4.0 : width() / 4.0, 0);
                painter.save();
                painter.setClipRect(half);
                draw(left ? Eigen::Matrix3d(bare) : mapping_.shownFromPlate(), by);
                if (!left) shadeOutside(frame.translated(by), half);
                painter.restore();
            }
            painter.setPen(QPen(theme::kBrass, 1.5));
            painter.drawLine(QPointF(width() / 2.0, 0), QPointF(width() / 2.0, height()));
            break;
    }
}

void Canvas::paintShownNote(QPainter& painter) {
    if (shown_ == Shown::plate) {
        if (const Track* track = findTrack(workspace_.shot(), workspace_.followed()))
            label(painter, {12, 10}, "held on " + QString::fromStdString(track->name), theme::kBrass);
        return;
    }
    const auto plan = workspace_.plan();
    const SteadySettings& s = workspace_.shot().steady;
    QString words;
    if (!workspace_.planProblem().isEmpty()) words = workspace_.planProblem();
    else if (!plan)
        words =
            workspace_.planPending() ? "working out the motion…" : "nothing is steadied: turn it on in the Steady card";
    else if (!plan->at(workspace_.frame())) words = "the motion of this frame is not known";
    else
        words = QString("%1%2 · zoom %3 %")
                    .arg(s.steady ? (s.options.mode == SteadyOptions::Mode::hold ? "hold" : "ease") : "",
                         s.shake && s.profile ? (s.steady ? " · shake" : "shake") : "")
                    .arg((plan->zoom - 1) * 100, 0, 'f', 1);
    const double x = shown_ == Shown::steady ? std::max(8.0, mapping_.frameOnScreen().left() + 8)
                                             : (shown_ == Shown::wipe ? wipeHandle().x() : width() / 2.0) + 12;
    const double y = std::max(8.0, mapping_.frameOnScreen().top() + 8);
    label(painter, {x, y}, words, workspace_.planProblem().isEmpty() ? theme::kText : theme::kCoral);
    if (shown_ != Shown::steady)
        label(painter, {x - 24 - painter.fontMetrics().horizontalAdvance("original") - 14, y}, "original");
    if (!plan || !plan->at(workspace_.frame()) || shown_ == Shown::beside) return;
    // The frame, and the border of the source where it reaches into it.
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(QColor(255, 255, 255, 90), 1));
    painter.drawRect(mapping_.frameOnScreen());
    const PlateRef& plate = workspace_.shot().plate;
    QPolygonF border;
    for (const Vector2d& corner :
         {Vector2d(0, 0), Vector2d(plate.width, 0), Vector2d(plate.width, plate.height), Vector2d(0, plate.height)})
        border << mapping_.screenFromPlate(corner);
    painter.setPen(QPen(plan->fills ? theme::kSlate : theme::kSand, 1, Qt::DashLine));
    painter.drawPolygon(border);
}

void Canvas::paintOutline(QPainter& painter) {
    if (outline_.empty()) return;
    QPolygonF line;
    for (const Vector2d& corner : outline_) line << mapping_.screenFromPlate(corner);
    if (cursorInside_) line << cursor_;
    for (const bool shadow : {true, false}) {
        painter.setPen(QPen(shadow ? QColor(0, 0, 0, 150) : theme::kBrass, shadow ? 3.2 : 1.4));
        painter.setBrush(shadow ? QBrush(Qt::NoBrush) : QBrush(QColor(217, 164, 65, 28)));
        painter.drawPolygon(line);
    }
    label(painter, cursor_ + QPointF(14, 12), outline_.size() < 3 ? "click the corners" : "double-click closes");
}

void Canvas::paintProposals(QPainter& painter) {
    if (workspace_.proposalsFrame() != workspace_.frame()) return;
    int number = 0;
    for (const SpotProposal& spot : workspace_.proposals()) {
        const QPointF at = mapping_.screenFromPlate(spot.at);
        ++number;
        for (const bool shadow : {true, false}) {
            painter.setPen(QPen(shadow ? QColor(0, 0, 0, 160) : theme::kBrass, shadow ? 3.0 : 1.4));
            painter.setBrush(Qt::NoBrush);
            painter.drawRect(QRectF(at - QPointF(5, 5), QSizeF(10, 10)));
        }
        // How long it lasts is said where it does not last.
        const bool whole = spot.frames >= workspace_.shot().plate.range.count();
        label(painter, at + QPointF(8, -10),
              whole ? QString::number(number) : QString("%1 · %2 frames").arg(number).arg(spot.frames));
    }
}

void Canvas::paintAdvice(QPainter& painter) {
    if (adviceText_.isEmpty()) return;
    const double half = 0.5 * workspace_.shot().scatterSettings.pattern_px * mapping_.zoom();
    const bool good = advice_.kind == SpotAdvice::Kind::corner;
    const QColor colour = good                                         ? QColor(240, 238, 230)
                          : advice_.kind == SpotAdvice::Kind::repeated ? theme::kSand
                                                                       : theme::kCoral;
    painter.setBrush(Qt::NoBrush);
    for (const bool shadow : {true, false}) {
        painter.setPen(QPen(shadow ? QColor(0, 0, 0, 130) : colour, shadow ? 2.6 : 1.0));
        painter.drawRect(QRectF(cursor_ - QPointF(half, half), QSizeF(2 * half, 2 * half)));
        if (advice_.kind == SpotAdvice::Kind::edge) {
            // The way it would slide, with an arrow at both ends.
            const double angle = advice_.slideDegrees * M_PI / 180;
            const QPointF along(std::cos(angle), std::sin(angle)), across(-along.y(), along.x());
            const double reach = std::max(16.0, half);
            painter.drawLine(cursor_ - along * reach, cursor_ + along * reach);
            for (const double end : {-1.0, 1.0})
                for (const double side : {-1.0, 1.0})
                    painter.drawLine(cursor_ + along * reach * end,
                                     cursor_ + along * (reach - 5) * end + across * 4 * side);
        }
    }
    const double wide = fontMetrics().horizontalAdvance(adviceText_) + 14;
    const double x =
        cursor_.x() + half + 10 + wide > width() ? cursor_.x() - half - 10 - wide : cursor_.x() + half + 10;
    label(painter, {x, std::clamp(cursor_.y() + 10, 4.0, height() - 24.0)}, adviceText_, good ? theme::kText : colour);
}

void Canvas::paintHandles(QPainter& painter) {
    painter.setPen(QPen(QColor(0, 0, 0, 190), 1));
    painter.setBrush(theme::kBrass);
    for (const QPointF& handle : patternHandles()) painter.drawRect(QRectF(handle - QPointF(2.5, 2.5), QSizeF(5, 5)));
    painter.setBrush(QColor(30, 30, 30));
    painter.setPen(QPen(QColor(233, 200, 130), 1.2));
    for (const QPointF& handle : searchHandles()) painter.drawEllipse(handle, 3.2, 3.2);
    // What a drag changes, by name and size.
    const bool pattern = drag_ == Drag::pattern;
    if (pattern || drag_ == Drag::search)
        label(painter, cursor_ + QPointF(14, 12),
              pattern ? QString("pattern %1 px").arg(draggedPattern_) : QString("search %1 px").arg(draggedSearch_));
}

void Canvas::paintEmpty(QPainter& painter) {
    painter.setPen(theme::kText);
    QFont font = this->font();
    font.setPixelSize(17);
    font.setWeight(QFont::DemiBold);
    painter.setFont(font);
    painter.drawText(rect().adjusted(0, -22, 0, -22), Qt::AlignCenter, "Open a plate to begin");
    font.setPixelSize(13);
    font.setWeight(QFont::Normal);
    painter.setFont(font);
    painter.setPen(theme::kDim);
    painter.drawText(rect().adjusted(0, 22, 0, 22), Qt::AlignCenter,
                     "Drop a video, a numbered sequence or a .pinion shot here, or press Ctrl+O");
    // What was open last, one click away.
    recentRows_.clear();
    double top = rect().center().y() + 64;
    for (const QString& path : recent_) {
        if (top + 22 > height()) break;
        const QString words = fontMetrics().elidedText(QFileInfo(path).fileName() + "   " + QFileInfo(path).path(),
                                                       Qt::ElideMiddle, std::max(200, width() - 120));
        const double wide = painter.fontMetrics().horizontalAdvance(words) + 24;
        const QRectF row(rect().center().x() - wide / 2, top, wide, 22);
        const bool over = cursorInside_ && row.contains(cursor_);
        if (over) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(QColor(255, 255, 255, 14));
            painter.drawRoundedRect(row, 4, 4);
        }
        painter.setPen(over ? theme::kText : theme::kDim);
        painter.drawText(row, Qt::AlignCenter, words);
        recentRows_.emplace_back(row, path);
        top += 24;
    }
}

void Canvas::paintTrail(QPainter& painter, const Track& track, const QColor& colour) {
    const auto& samples = track.samples.vector();
    const int frame = workspace_.frame();
    const auto first = std::lower_bound(samples.begin(), samples.end(), frame - kTrailFrames,
                                        [](const Sample& s, int f) { return s.frame < f; });
    QPolygonF past, future;
    for (auto s = first; s != samples.end() && s->frame <= frame + kTrailFrames; ++s) {
        if (s->frame <= frame) past << mapping_.screenFromPlate(s->at);
        if (s->frame >= frame) future << mapping_.screenFromPlate(s->at);
    }
    QColor faint = colour;
    faint.setAlpha(150);
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(faint, 1.2));
    painter.drawPolyline(past);
    // What is to come is dashed, so that the direction reads without colour.
    painter.setPen(QPen(faint, 1.0, Qt::DotLine));
    painter.drawPolyline(future);
}

void Canvas::paintTrack(QPainter& painter, const Track& track, const QPointF& at, bool selected, const QColor& colour) {
    const bool large = track.byHand || selected || track.id == hovered_;
    if (!large) {
        painter.setPen(QPen(QColor(0, 0, 0, 130), 1));
        painter.setBrush(track.setAside ? QBrush(Qt::NoBrush) : QBrush(colour));
        if (track.setAside) painter.setPen(QPen(QColor(200, 200, 200, 110), 1));
        painter.drawEllipse(at, 2.4, 2.4);
        return;
    }
    // A register mark: a ring with four short ticks; filled when placed by hand.
    for (const bool shadow : {true, false}) {
        QPen pen(shadow ? QColor(0, 0, 0, 150) : colour, shadow ? 3.2 : 1.5);
        if (track.setAside && !shadow) pen.setStyle(Qt::DotLine);
        painter.setPen(pen);
        QColor fill = colour;
        fill.setAlpha(70);
        painter.setBrush(track.byHand && !shadow ? QBrush(fill) : QBrush(Qt::NoBrush));
        painter.drawEllipse(at, kRing, kRing);
        for (int side = 0; side < 4; ++side) {
            const QPointF out(side == 0 ? 1 : side == 1 ? -1 : 0, side == 2 ? 1 : side == 3 ? -1 : 0);
            painter.drawLine(at + out * (kRing - 2), at + out * (kRing + 4));
        }
    }
    painter.setPen(Qt::NoPen);
    painter.setBrush(colour);
    painter.drawEllipse(at, 1.1, 1.1);
}

void Canvas::paintAreas(QPainter& painter, const Track& track, const Vector2d& at) {
    const double half = (drag_ == Drag::pattern ? draggedPattern_ : track.pattern_px) / 2.0;
    const QRectF pattern(mapping_.screenFromPlate(at - Vector2d(half, half)),
                         mapping_.screenFromPlate(at + Vector2d(half, half)));
    const double corner = std::min(8.0, pattern.width() / 3);
    for (const bool shadow : {true, false}) {
        painter.setPen(QPen(shadow ? QColor(0, 0, 0, 140) : theme::kBrass, shadow ? 3.0 : 1.4));
        for (int i = 0; i < 4; ++i) {
            const QPointF c(i & 1 ? pattern.right() : pattern.left(), i & 2 ? pattern.bottom() : pattern.top());
            painter.drawLine(c, c + QPointF(i & 1 ? -corner : corner, 0));
            painter.drawLine(c, c + QPointF(0, i & 2 ? -corner : corner));
        }
    }
    if (!track.outline.isEmpty()) {
        QPolygonF outline;
        for (const Vector2d& place : track.outline) outline << mapping_.screenFromPlate(at + place);
        painter.setBrush(Qt::NoBrush);
        painter.setPen(QPen(theme::kBrass, 1.2));
        painter.drawPolygon(outline);
    }
    const double reach = (drag_ == Drag::search ? draggedSearch_ : track.search_px) / 2.0;
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(theme::kBrass, 1, Qt::CustomDashLine));
    QPen fine(QColor(233, 200, 130, 190), 1);
    fine.setDashPattern({2, 4});
    painter.setPen(fine);
    painter.drawRect(QRectF(mapping_.screenFromPlate(at - Vector2d(reach, reach)),
                            mapping_.screenFromPlate(at + Vector2d(reach, reach))));
    paintHandles(painter);
}

void Canvas::paintTracks(QPainter& painter) {
    if (workspace_.candidatesShown()) {
        for (const Candidate& candidate : workspace_.candidates()) {
            const QPointF at = mapping_.screenFromPlate(candidate.at);
            for (const bool shadow : {true, false}) {
                painter.setPen(QPen(shadow ? QColor(0, 0, 0, 150) : QColor(240, 235, 220), shadow ? 2.6 : 1.1));
                painter.drawLine(at - QPointF(3, 0), at + QPointF(3, 0));
                painter.drawLine(at - QPointF(0, 3), at + QPointF(0, 3));
            }
        }
    }
    if (workspace_.isBusy() && !workspace_.livePoints().empty()) {
        painter.setPen(QPen(QColor(0, 0, 0, 130), 1));
        for (const LivePoint& point : workspace_.livePoints()) {
            painter.setBrush(theme::fitColour(theme::badnessOfScore(point.score)).lighter(150));
            painter.drawEllipse(mapping_.screenFromPlate(point.at), 2.4, 2.4);
        }
        return;
    }
    const Shot& shot = workspace_.shot();
    std::unordered_map<TrackId, const SolvedTrack*> solved;
    if (shot.solve)
        for (const SolvedTrack& track : shot.solve->tracks) solved[track.track] = &track;
    const bool crowded = shot.tracks.size() > 60;
    std::vector<const Track*> onTop;
    for (const Track& track : shot.tracks) {
        if (track.hidden) continue;
        const auto place = placeOf(track);
        const bool selected = workspace_.selection().contains(track.id);
        if (selected || track.byHand || track.id == hovered_) {
            if (place || selected) onTop.push_back(&track);
            continue;
        }
        if (!place) continue;
        const Sample* sample = sampleAt(track, workspace_.frame());
        double badness = theme::badnessOfScore(sample ? sample->score : 1.0);
        const auto known = solved.find(track.id);
        if (known != solved.end())
            badness = known->second->role == TrackRole::disagreed ? 1.0 : theme::badnessOfError(known->second->rms_px);
        const QPointF at = mapping_.screenFromPlate(*place);
        const bool goes = workspace_.trimPreview() > 0 && known != solved.end() &&
                          known->second->rms_px > workspace_.trimPreview() && !track.setAside;
        QColor colour = track.colour != 0 ? QColor::fromRgb(track.colour)
                        : badness < 0.4   ? QColor(232, 232, 226)
                                          : theme::fitColour(badness);
        if (!crowded) paintTrail(painter, track, colour);
        paintTrack(painter, track, at, false, colour);
        if (goes) {
            painter.setPen(QPen(theme::kCoral, 1.5));
            painter.drawLine(at + QPointF(-5, -5), at + QPointF(5, 5));
            painter.drawLine(at + QPointF(-5, 5), at + QPointF(5, -5));
        }
    }
    const bool many = onTop.size() > 40;
    for (const Track* track : onTop) {
        const bool selected = workspace_.selection().contains(track->id);
        const QColor colour = selected             ? theme::kBrass
                              : track->colour != 0 ? QColor::fromRgb(track->colour)
                                                   : QColor(240, 238, 230);
        if (!many || selected) paintTrail(painter, *track, colour);
        const auto place = placeOf(*track);
        if (!place) continue;
        const QPointF at = mapping_.screenFromPlate(*place);
        if (selected && workspace_.selection().size() == 1) paintAreas(painter, *track, *place);
        paintTrack(painter, *track, at, selected, colour);
        const Sample* here = sampleAt(*track, workspace_.frame());
        if (here && (here->carried != Eigen::Vector2f(0, 0) || (drag_ == Drag::offset && selected))) {
            // The offset point: a small cross on a line from the track.
            const QPointF wanted = mapping_.screenFromPlate(
                drag_ == Drag::offset && selected ? draggedTo_ : Vector2d(*place + here->carried.cast<double>()));
            for (const bool shadow : {true, false}) {
                painter.setPen(QPen(shadow ? QColor(0, 0, 0, 150) : colour, shadow ? 3.0 : 1.3));
                painter.drawLine(at, wanted);
                painter.drawLine(wanted - QPointF(5, 5), wanted + QPointF(5, 5));
                painter.drawLine(wanted - QPointF(5, -5), wanted + QPointF(5, -5));
            }
        }
        const auto known = solved.find(track->id);
        if (known != solved.end() && known->second->xyz && selected)
            if (const auto seen = projected(*shot.solve, workspace_.frame(), *known->second->xyz)) {
                painter.setPen(QPen(theme::kCoral, 1.2));
                painter.drawLine(at, mapping_.screenFromPlate(*seen));
            }
        if (track->id == hovered_ || (selected && workspace_.selection().size() == 1)) {
            const Sample* sample = sampleAt(*track, workspace_.frame());
            QString line = QString::fromStdString(track->name);
            if (sample) line += sample->tie ? " · tie" : QString(" · fit %1").arg(sample->score, 0, 'f', 3);
            if (known != solved.end()) line += QString(" · %1 px").arg(known->second->rms_px, 0, 'f', 2);
            if (track->locked) line += " · locked";
            const double wide = fontMetrics().horizontalAdvance(line) + 14;
            label(painter, {at.x() + 12 + wide > width() - 4 ? at.x() - 12 - wide : at.x() + 12, at.y() - 30}, line);
        }
    }
}

void Canvas::paintGrid(QPainter& painter) {
    const Shot& shot = workspace_.shot();
    if (!shot.solve || shot.world.ground.isEmpty()) return;
    const SolvedFrame* solved = solvedFrameAt(*shot.solve, workspace_.frame());
    if (!solved) return;
    const Orientation orientation = orientationOf(shot);
    const Eigen::Isometry3d cameraFromWorld = orientation.apply(solved->worldFromCamera).inverse();
    const Lens lens = lensOf(*shot.solve, *solved);
    const auto place = [&](const Vector3d& world) -> std::optional<QPointF> {
        const Vector3d seen = cameraFromWorld * world;
        if (seen.z() > -0.05) return std::nullopt;
        const auto plate = plateFromPlane(lens, {seen.x() / -seen.z(), seen.y() / seen.z()});
        if (!plate || plate->cwiseAbs().maxCoeff() > 2e4) return std::nullopt;
        return mapping_.screenFromPlate(*plate);
    };
    painter.save();
    painter.setClipRect(mapping_.frameOnScreen());
    constexpr int kCells = 10;
    constexpr int kPieces = 6;  // a cell: straight lines bend in the lens
    for (int axis = 0; axis < 2; ++axis)
        for (int line = -kCells; line <= kCells; ++line) {
            QPainterPath path;
            bool open = false;
            for (int piece = -kCells * kPieces; piece <= kCells * kPieces; ++piece) {
                const double along = double(piece) / kPieces;
                const auto at = place(axis == 0 ? Vector3d(along, 0, line) : Vector3d(line, 0, along));
                if (!at) {
                    open = false;
                    continue;
                }
                open ? path.lineTo(*at) : path.moveTo(*at);
                open = true;
            }
            painter.setBrush(Qt::NoBrush);
            const bool main = line == 0;
            painter.setPen(QPen(QColor(0, 0, 0, 70), main ? 3.0 : 2.0));
            painter.drawPath(path);
            painter.setPen(QPen(main ? QColor(217, 164, 65, 220) : QColor(235, 235, 225, 120), main ? 1.5 : 1.0));
            painter.drawPath(path);
        }
    painter.restore();
}

void Canvas::paintLoupe(QPainter& painter) {
    if (image_.isNull()) return;
    constexpr double kSide = 132;
    constexpr double kMagnified = 6;
    const Vector2d centre =
        drag_ == Drag::move || drag_ == Drag::place ? draggedTo_ : mapping_.plateFromScreen(cursor_);
    QRectF box(cursor_ + QPointF(22, 22), QSizeF(kSide, kSide));
    if (box.right() > width()) box.moveRight(cursor_.x() - 22);
    if (box.bottom() > height()) box.moveBottom(cursor_.y() - 22);
    const double span = kSide / kMagnified;
    painter.fillRect(box, QColor(0x16, 0x16, 0x16));
    painter.setRenderHint(QPainter::SmoothPixmapTransform, false);
    painter.drawImage(box, image_, QRectF(centre.x() - span / 2, centre.y() - span / 2, span, span));
    painter.setPen(QPen(theme::kBrass, 1));
    painter.setBrush(Qt::NoBrush);
    painter.drawRect(box);
    painter.drawLine(QPointF(box.center().x(), box.top() + 8), QPointF(box.center().x(), box.center().y() - 8));
    painter.drawLine(QPointF(box.center().x(), box.center().y() + 8), QPointF(box.center().x(), box.bottom() - 8));
    painter.drawLine(QPointF(box.left() + 8, box.center().y()), QPointF(box.center().x() - 8, box.center().y()));
    painter.drawLine(QPointF(box.center().x() + 8, box.center().y()), QPointF(box.right() - 8, box.center().y()));
}

}  // namespace pinion
