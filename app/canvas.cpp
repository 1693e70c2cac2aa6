#include "canvas.h"

#include "theme.h"

#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QWheelEvent>

#include <cmath>
#include <unordered_map>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kGrab = 9.0;     // screen pixels within which a click means a track
constexpr int kTrailFrames = 20;  // before and after the current frame
constexpr double kRing = 6.0;     // screen pixels

QBrush hatch() {
    QPixmap tile(12, 12);
    tile.fill(QColor(0x1f, 0x1f, 0x1f));
    QPainter painter(&tile);
    painter.setPen(QColor(0x28, 0x28, 0x28));
    painter.drawLine(0, 12, 12, 0);
    painter.drawLine(-6, 6, 6, -6);
    painter.drawLine(6, 18, 18, 6);
    return QBrush(tile);
}

}  // namespace

Canvas::Canvas(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("canvas");
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(320, 200);
    setAccessibleName("Plate");
    const auto redraw = [this] { update(); };
    connect(&workspace, &Workspace::shotChanged, this, redraw);
    connect(&workspace, &Workspace::frameChanged, this, [this] {
        update();
        reportPointed();
    });
    connect(&workspace, &Workspace::selectionChanged, this, redraw);
    connect(&workspace, &Workspace::candidatesChanged, this, redraw);
    connect(&workspace, &Workspace::liveChanged, this, redraw);
    connect(&workspace, &Workspace::viewChanged, this, redraw);
    connect(&workspace, &Workspace::trimPreviewChanged, this, redraw);
    connect(&workspace, &Workspace::plateChanged, this, [this] {
        imageOf_.reset();
        image_ = {};
        updateSizes();
        fit();
    });
}

void Canvas::setTool(Tool tool) {
    if (tool == tool_) return;
    tool_ = tool;
    setCursor(tool == Tool::place ? Qt::CrossCursor : Qt::ArrowCursor);
    emit toolChanged(tool);
    update();
}

void Canvas::fit() {
    mapping_.fit();
    update();
    reportPointed();
}

void Canvas::zoomTo(double zoom) {
    mapping_.zoomAt(cursorInside_ ? cursor_ : QPointF(width() / 2.0, height() / 2.0), zoom / mapping_.zoom());
    update();
    reportPointed();
}

void Canvas::setOverlays(bool shown) {
    overlays_ = shown;
    update();
}

void Canvas::setGrid(bool shown) {
    gridShown_ = shown;
    update();
}

void Canvas::updateSizes() { mapping_.setSizes(size(), QSizeF(workspace_.shot().plate.width, workspace_.shot().plate.height)); }

void Canvas::resizeEvent(QResizeEvent*) {
    updateSizes();
    reportPointed();
}

const QImage& Canvas::image() {
    const PicturePtr picture = workspace_.picture();
    if (picture && (picture != imageOf_ || !(imageView_ == workspace_.view()))) {
        const auto pixels = displayPixels(*picture, workspace_.view());
        if (image_.width() != picture->width || image_.height() != picture->height) image_ = QImage(picture->width, picture->height, QImage::Format_RGB32);
        for (int y = 0; y < picture->height; ++y)
            std::memcpy(image_.scanLine(y), pixels.data() + std::size_t(y) * std::size_t(picture->width), std::size_t(picture->width) * 4);
        imageOf_ = picture;
        imageView_ = workspace_.view();
    }
    return image_;
}

std::optional<Vector2d> Canvas::placeOf(const Track& track) const {
    if (drag_ == Drag::move && track.id == dragged_) return draggedTo_;
    const Sample* sample = sampleAt(track, workspace_.frame());
    if (!sample) return std::nullopt;
    return sample->at;
}

TrackId Canvas::trackNear(const QPointF& at) const {
    TrackId nearest = 0;
    double best = kGrab * kGrab;
    for (const Track& track : workspace_.shot().tracks) {
        const auto place = placeOf(track);
        if (!place) continue;
        const QPointF d = mapping_.screenFromPlate(*place) - at;
        // A track placed by hand wins over a scattered dot at about the same place.
        const double distance = QPointF::dotProduct(d, d) * (track.byHand ? 0.5 : 1.0);
        if (distance < best) {
            best = distance;
            nearest = track.id;
        }
    }
    return nearest;
}

void Canvas::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    static const QBrush outside = hatch();
    painter.fillRect(rect(), outside);
    if (!workspace_.shot().plate.isOpen()) {
        paintEmpty(painter);
        return;
    }
    const QRectF plate = mapping_.plateOnScreen();
    if (!image().isNull() && workspace_.picture()) {
        // Grown pixels stay pixels: the eye judges sub-pixel places by them.
        painter.setRenderHint(QPainter::SmoothPixmapTransform, mapping_.zoom() < 2.0);
        painter.drawImage(plate, image_);
    } else {
        painter.fillRect(plate, QColor(0x16, 0x16, 0x16));
    }
    if (!workspace_.frameProblem().isEmpty()) {
        painter.fillRect(plate, QColor(0x16, 0x16, 0x16, 220));
        painter.setPen(theme::kCoral);
        painter.drawText(plate.adjusted(24, 24, -24, -24), Qt::AlignCenter | Qt::TextWordWrap, workspace_.frameProblem());
    }
    if (!overlays_) return;
    painter.setRenderHint(QPainter::Antialiasing);
    if (gridShown_) paintGrid(painter);
    paintTracks(painter);
    if (drag_ == Drag::band) {
        painter.setPen(QPen(theme::kBrass, 1, Qt::DashLine));
        painter.setBrush(QColor(217, 164, 65, 24));
        painter.drawRect(QRectF(dragFrom_, cursor_).normalized());
    }
    if (drag_ == Drag::place || drag_ == Drag::move) paintLoupe(painter);
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
    painter.drawText(rect().adjusted(0, 22, 0, 22), Qt::AlignCenter, "Drop a video, a numbered sequence or a .pinion shot here, or press Ctrl+O");
}

void Canvas::paintTrail(QPainter& painter, const Track& track, const QColor& colour) {
    const auto& samples = track.samples.vector();
    const int frame = workspace_.frame();
    const auto first = std::lower_bound(samples.begin(), samples.end(), frame - kTrailFrames, [](const Sample& s, int f) { return s.frame < f; });
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
    const double half = track.pattern_px / 2.0;
    const QRectF pattern(mapping_.screenFromPlate(at - Vector2d(half, half)), mapping_.screenFromPlate(at + Vector2d(half, half)));
    const double corner = std::min(8.0, pattern.width() / 3);
    for (const bool shadow : {true, false}) {
        painter.setPen(QPen(shadow ? QColor(0, 0, 0, 140) : theme::kBrass, shadow ? 3.0 : 1.4));
        for (int i = 0; i < 4; ++i) {
            const QPointF c(i & 1 ? pattern.right() : pattern.left(), i & 2 ? pattern.bottom() : pattern.top());
            painter.drawLine(c, c + QPointF(i & 1 ? -corner : corner, 0));
            painter.drawLine(c, c + QPointF(0, i & 2 ? -corner : corner));
        }
    }
    const double reach = track.search_px / 2.0;
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(theme::kBrass, 1, Qt::CustomDashLine));
    QPen fine(QColor(233, 200, 130, 190), 1);
    fine.setDashPattern({2, 4});
    painter.setPen(fine);
    painter.drawRect(QRectF(mapping_.screenFromPlate(at - Vector2d(reach, reach)), mapping_.screenFromPlate(at + Vector2d(reach, reach))));
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
        if (known != solved.end()) badness = known->second->role == TrackRole::disagreed ? 1.0 : theme::badnessOfError(known->second->rms_px);
        const QPointF at = mapping_.screenFromPlate(*place);
        const bool goes = workspace_.trimPreview() > 0 && known != solved.end() && known->second->rms_px > workspace_.trimPreview() && !track.setAside;
        QColor colour = badness < 0.4 ? QColor(232, 232, 226) : theme::fitColour(badness);
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
        const QColor colour = selected ? theme::kBrass : QColor(240, 238, 230);
        if (!many || selected) paintTrail(painter, *track, colour);
        const auto place = placeOf(*track);
        if (!place) continue;
        const QPointF at = mapping_.screenFromPlate(*place);
        if (selected && workspace_.selection().size() == 1) paintAreas(painter, *track, *place);
        paintTrack(painter, *track, at, selected, colour);
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
            QRectF box = QRectF(at + QPointF(12, -30), QSizeF(fontMetrics().horizontalAdvance(line) + 14, 20));
            if (box.right() > width() - 4) box.moveRight(at.x() - 12);
            painter.setPen(Qt::NoPen);
            painter.setBrush(QColor(20, 20, 20, 215));
            painter.drawRoundedRect(box, 3, 3);
            painter.setPen(theme::kText);
            painter.drawText(box, Qt::AlignCenter, line);
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
    const Lens& lens = shot.solve->lens;
    const auto place = [&](const Vector3d& world) -> std::optional<QPointF> {
        const Vector3d seen = cameraFromWorld * world;
        if (seen.z() > -0.05) return std::nullopt;
        const auto plate = plateFromPlane(lens, {seen.x() / -seen.z(), seen.y() / seen.z()});
        if (!plate || plate->cwiseAbs().maxCoeff() > 2e4) return std::nullopt;
        return mapping_.screenFromPlate(*plate);
    };
    painter.save();
    painter.setClipRect(mapping_.plateOnScreen());
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
    const Vector2d centre = drag_ == Drag::move || drag_ == Drag::place ? draggedTo_ : mapping_.plateFromScreen(cursor_);
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

void Canvas::mousePressEvent(QMouseEvent* event) {
    setFocus();
    cursor_ = dragFrom_ = event->position();
    if (!workspace_.shot().plate.isOpen()) return;
    if (event->button() == Qt::MiddleButton) {
        drag_ = Drag::pan;
        return;
    }
    if (event->button() != Qt::LeftButton) return;
    if (tool_ == Tool::place) {
        if (!mapping_.plateOnScreen().contains(cursor_)) {
            workspace_.say("Outside the plate. Click inside it to place a track.");
            return;
        }
        if (workspace_.isBusy()) {
            workspace_.say("A job is running. Stop it or wait to place tracks.");
            return;
        }
        drag_ = Drag::place;
        draggedTo_ = mapping_.plateFromScreen(cursor_);
        update();
        return;
    }
    const TrackId near = trackNear(cursor_);
    if (near == 0) {
        drag_ = Drag::band;
        return;
    }
    std::set<TrackId> selection = workspace_.selection();
    if (event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier)) {
        if (!selection.erase(near)) selection.insert(near);
        workspace_.select(selection);
        return;
    }
    if (!selection.contains(near) || selection.size() > 1) workspace_.select({near});
    const Track* track = findTrack(workspace_.shot(), near);
    if (track && track->byHand && !workspace_.isBusy()) {
        drag_ = Drag::move;
        dragged_ = near;
        draggedTo_ = *placeOf(*track);
    }
}

void Canvas::mouseMoveEvent(QMouseEvent* event) {
    const QPointF before = cursor_;
    cursor_ = event->position();
    cursorInside_ = true;
    const Shot& shot = workspace_.shot();
    const auto inside = [&](const Vector2d& p) -> Vector2d { return p.cwiseMax(Vector2d(0, 0)).cwiseMin(Vector2d(shot.plate.width, shot.plate.height)); };
    switch (drag_) {
        case Drag::pan:
            mapping_.pan(cursor_ - before);
            update();
            break;
        case Drag::place:
            draggedTo_ = inside(mapping_.plateFromScreen(cursor_));
            update();
            break;
        case Drag::move:
            // Half as fast as the hand: a correction is a matter of fractions of a pixel.
            draggedTo_ = inside(draggedTo_ + (mapping_.plateFromScreen(cursor_) - mapping_.plateFromScreen(before)) * 0.5);
            update();
            break;
        case Drag::band: update(); break;
        case Drag::none: {
            const TrackId near = shot.plate.isOpen() && tool_ == Tool::select ? trackNear(cursor_) : 0;
            if (near != hovered_) {
                hovered_ = near;
                update();
            }
        }
    }
    reportPointed();
}

void Canvas::mouseReleaseEvent(QMouseEvent* event) {
    const Drag drag = drag_;
    drag_ = Drag::none;
    if (drag == Drag::place && event->button() == Qt::LeftButton) {
        TrackId id = 0;
        Shot shot = withTrackAdded(workspace_.shot(), workspace_.frame(), draggedTo_, &id);
        workspace_.edit("Place track", std::move(shot));
        workspace_.select({id});
    } else if (drag == Drag::move && (cursor_ - dragFrom_).manhattanLength() > 2) {
        const Track* track = findTrack(workspace_.shot(), dragged_);
        workspace_.edit(QString("Move %1").arg(track ? QString::fromStdString(track->name) : "track"), withTrackMoved(workspace_.shot(), dragged_, workspace_.frame(), draggedTo_));
    } else if (drag == Drag::band) {
        std::set<TrackId> chosen;
        if (event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier)) chosen = workspace_.selection();
        const QRectF band = QRectF(dragFrom_, cursor_).normalized();
        for (const Track& track : workspace_.shot().tracks)
            if (const auto place = placeOf(track); place && band.contains(mapping_.screenFromPlate(*place))) chosen.insert(track.id);
        workspace_.select(chosen);
    }
    dragged_ = 0;
    update();
}

void Canvas::wheelEvent(QWheelEvent* event) {
    if (!workspace_.shot().plate.isOpen()) return;
    mapping_.zoomAt(event->position(), std::pow(1.0015, event->angleDelta().y()));
    update();
    reportPointed();
}

void Canvas::leaveEvent(QEvent*) {
    cursorInside_ = false;
    hovered_ = 0;
    update();
    reportPointed();
}

void Canvas::nudge(const Vector2d& by) {
    if (workspace_.selection().size() != 1 || workspace_.isBusy()) return;
    const Track* track = findTrack(workspace_.shot(), *workspace_.selection().begin());
    const Sample* sample = track ? sampleAt(*track, workspace_.frame()) : nullptr;
    if (!sample) return;
    workspace_.edit(QString("Nudge %1").arg(QString::fromStdString(track->name)), withTrackMoved(workspace_.shot(), track->id, workspace_.frame(), sample->at + by));
}

void Canvas::reportPointed() {
    if (!workspace_.shot().plate.isOpen()) {
        emit pointed("");
        return;
    }
    QString line = QString("zoom %1 %").arg(qRound(mapping_.zoom() * 100));
    const Vector2d at = mapping_.plateFromScreen(cursor_);
    const PicturePtr picture = workspace_.picture();
    if (cursorInside_ && picture && at.x() >= 0 && at.y() >= 0 && at.x() < picture->width && at.y() < picture->height) {
        const std::size_t index = (std::size_t(at.y()) * std::size_t(picture->width) + std::size_t(at.x())) * 3;
        const auto value = [&](std::size_t c) { return picture->depth == Picture::Depth::bits8 ? picture->bytes[index + c] / 255.0 : double(picture->floats[index + c]); };
        line += QString("   plate %1, %2   R %3 G %4 B %5").arg(at.x(), 0, 'f', 1).arg(at.y(), 0, 'f', 1).arg(value(0), 0, 'f', 2).arg(value(1), 0, 'f', 2).arg(value(2), 0, 'f', 2);
    }
    emit pointed(line);
}

}  // namespace pinion
