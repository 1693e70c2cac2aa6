#include "canvas.h"

#include "shot/edits/trackedits.h"
#include "theme.h"

#include <QFileInfo>
#include <QMouseEvent>
#include <QThreadPool>
#include <QWheelEvent>

#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kGrab = 9.0;    // screen pixels within which a click means a track
constexpr double kHandle = 7.0;  // screen pixels within which a press means a handle
constexpr double kRoom = 18.0;   // screen pixels a pattern needs to show handles

}  // namespace

Canvas::Canvas(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("canvas");
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(320, 200);
    setAccessibleName("Plate");
    // Asked for once: a path may lie on a disk that is slow to answer.
    for (const QString& path : workspace.recent())
        if (recent_.size() < 6 && QFileInfo::exists(path)) recent_ << path;
    const auto redraw = [this] { update(); };
    connect(&workspace, &Workspace::shotChanged, this, redraw);
    connect(&workspace, &Workspace::frameChanged, this, [this] {
        refreshMapping();
        adviceText_.clear();
        update();
        reportPointed();
    });
    connect(&workspace, &Workspace::planChanged, this, [this] {
        refreshMapping();
        update();
    });
    connect(&workspace, &Workspace::followedChanged, this, [this] {
        followAt_.reset();
        refreshMapping();
        update();
    });
    connect(&workspace, &Workspace::proposalsChanged, this, redraw);
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
    setCursor(tool == Tool::select ? Qt::ArrowCursor : Qt::CrossCursor);
    outline_.clear();
    adviceText_.clear();
    emit toolChanged(tool);
    update();
}

void Canvas::setShown(Shown shown) {
    if (shown == shown_) return;
    shown_ = shown;
    refreshMapping();
    emit shownChanged();
    update();
}

void Canvas::refreshMapping() {
    Eigen::Matrix3d shownFromPlate = Eigen::Matrix3d::Identity();
    if (shown_ != Shown::plate && workspace_.plan()) {
        if (const FrameMap* map = workspace_.plan()->at(workspace_.frame()))
            shownFromPlate = map->sourceFromOutput.inverse();
    } else if (const Track* track = findTrack(workspace_.shot(), workspace_.followed());
               track && !track->samples.isEmpty()) {
        // Where the track has no sample its nearest one stands in, so that the picture does not jump away.
        const auto& samples = track->samples.vector();
        const auto nearest = std::min_element(samples.begin(), samples.end(), [&](const Sample& a, const Sample& b) {
            return std::abs(a.frame - workspace_.frame()) < std::abs(b.frame - workspace_.frame());
        });
        if (!followAt_ || followedTrack_ != track->id) followAt_ = nearest->wanted();
        followedTrack_ = track->id;
        shownFromPlate.topRightCorner<2, 1>() = *followAt_ - nearest->wanted();
    }
    mapping_.setShown(shownFromPlate);
}

const Track* Canvas::handled() const {
    if (workspace_.selection().size() != 1 || tool_ != Tool::select || workspace_.isBusy()) return nullptr;
    const Track* track = findTrack(workspace_.shot(), *workspace_.selection().begin());
    return track && track->byHand && !track->locked && sampleAt(*track, workspace_.frame()) ? track : nullptr;
}

std::vector<QPointF> Canvas::patternHandles() const {
    const Track* track = handled();
    if (!track) return {};
    const double half = 0.5 * (drag_ == Drag::pattern ? draggedPattern_ : track->pattern_px);
    if (2 * half * mapping_.zoom() < kRoom) return {};
    const Vector2d at = *placeOf(*track);
    std::vector<QPointF> handles;
    for (const auto& [x, y] : {std::pair{-1, -1}, {1, -1}, {1, 1}, {-1, 1}})
        handles.push_back(mapping_.screenFromPlate(at + half * Vector2d(x, y)));
    return handles;
}

std::vector<QPointF> Canvas::searchHandles() const {
    const Track* track = handled();
    if (!track) return {};
    const double half = 0.5 * (drag_ == Drag::search ? draggedSearch_ : track->search_px);
    const Vector2d at = *placeOf(*track);
    std::vector<QPointF> handles;
    // In the middle of the sides, where the pattern has none: the two are never mistaken for each other.
    for (const auto& [x, y] : {std::pair{0, -1}, {1, 0}, {0, 1}, {-1, 0}})
        handles.push_back(mapping_.screenFromPlate(at + half * Vector2d(x, y)));
    return handles;
}

QPointF Canvas::wipeHandle() const { return {wipe_ * width(), height() / 2.0}; }

void Canvas::dragHandle(const QPointF& to) {
    const Track* track = handled();
    if (!track) return;
    const Vector2d away = (mapping_.plateFromScreen(to) - *placeOf(*track)).cwiseAbs();
    const int size = 2 * int(std::lround(away.maxCoeff() - 0.5)) + 1;
    if (drag_ == Drag::pattern) draggedPattern_ = std::clamp(size, 7, 101);
    else draggedSearch_ = std::clamp(size, track->pattern_px + 4, 601);
}

void Canvas::finishOutline() {
    const Track* track =
        workspace_.selection().size() == 1 ? findTrack(workspace_.shot(), *workspace_.selection().begin()) : nullptr;
    const Sample* sample = track ? sampleAt(*track, workspace_.frame()) : nullptr;
    if (outline_.size() < 3) {
        workspace_.say(
            "An outline needs three corners. Click them round what belongs to the pattern, and double-click to close "
            "it.");
        return;
    }
    if (sample) {
        Polygon around;
        double reach = 0;
        for (const Vector2d& corner : outline_) {
            around.push_back(corner - sample->at);
            reach = std::max(reach, around.back().cwiseAbs().maxCoeff());
        }
        const int pattern = std::clamp(2 * int(std::ceil(reach)) + 1, 7, 101);
        workspace_.edit("Outline of " + QString::fromStdString(track->name),
                        withTracksEdited(workspace_.shot(), {track->id}, [&](Track& t) {
                            t.outline = List<Vector2d>(around);
                            // The pattern is as large as its outline; the search stays larger.
                            t.pattern_px = pattern;
                            t.search_px = std::max(t.search_px, pattern + 8);
                        }));
    }
    outline_.clear();
    setTool(Tool::select);
}

void Canvas::dropOutline() {
    outline_.clear();
    update();
}

void Canvas::updateAdvice() {
    const int frame = workspace_.frame();
    const PicturePtr picture = workspace_.picture();
    if (!picture || workspace_.pictureFrame() != frame) return;
    const ScatterSettings& settings = workspace_.shot().scatterSettings;
    if (!advicePyramid_ || adviceFrame_ != frame) {
        if (adviceWanted_ == frame) return;
        adviceWanted_ = frame;
        QThreadPool::globalInstance()->start([this, picture, frame, settings] {
            auto pyramid =
                std::make_shared<const Pyramid>(buildPyramid(*picture, settings.channel, settings.preFilter, 1));
            QMetaObject::invokeMethod(this, [this, pyramid, frame, grain = grainOf(*pyramid)] {
                advicePyramid_ = pyramid;
                adviceGrain_ = grain;
                adviceFrame_ = frame;
                adviceWanted_ = 0;
                updateAdvice();
            });
        });
        return;
    }
    advice_ = adviseSpot(*advicePyramid_, mapping_.plateFromScreen(cursor_), settings.pattern_px, settings.search_px,
                         adviceGrain_);
    adviceText_ = QString::fromStdString(toString(advice_));
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

void Canvas::updateSizes() {
    mapping_.setSizes(size(), QSizeF(workspace_.shot().plate.width, workspace_.shot().plate.height));
}

void Canvas::mouseDoubleClickEvent(QMouseEvent* event) {
    if (tool_ == Tool::outline) finishOutline();
    else mousePressEvent(event);
}

void Canvas::resizeEvent(QResizeEvent*) {
    updateSizes();
    reportPointed();
}

const QImage& Canvas::image() {
    const PicturePtr picture = workspace_.picture();
    if (picture && (picture != imageOf_ || !(imageView_ == workspace_.view()))) {
        const auto pixels = displayPixels(*picture, workspace_.view());
        if (image_.width() != picture->width || image_.height() != picture->height)
            image_ = QImage(picture->width, picture->height, QImage::Format_RGB32);
        for (int y = 0; y < picture->height; ++y)
            std::memcpy(image_.scanLine(y), pixels.data() + std::size_t(y) * std::size_t(picture->width),
                        std::size_t(picture->width) * 4);
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
        if (track.hidden) continue;
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

void Canvas::mousePressEvent(QMouseEvent* event) {
    setFocus();
    cursor_ = dragFrom_ = event->position();
    if (!workspace_.shot().plate.isOpen()) {
        const auto row = std::find_if(recentRows_.begin(), recentRows_.end(),
                                      [&](const auto& one) { return one.first.contains(cursor_); });
        if (row != recentRows_.end() && event->button() == Qt::LeftButton) emit openAsked(row->second);
        return;
    }
    if (event->button() == Qt::MiddleButton) {
        drag_ = Drag::pan;
        return;
    }
    if (event->button() != Qt::LeftButton) return;
    if (shown_ == Shown::wipe && std::abs(cursor_.x() - wipeHandle().x()) < 8) {
        drag_ = Drag::wipe;
        return;
    }
    if (shown_ == Shown::beside) return;
    const Vector2d under = mapping_.plateFromScreen(cursor_);
    const bool onPlate = under.x() >= 0 && under.y() >= 0 && under.x() <= workspace_.shot().plate.width &&
                         under.y() <= workspace_.shot().plate.height;
    if (tool_ == Tool::outline) {
        const Track* track = workspace_.selection().size() == 1
                                 ? findTrack(workspace_.shot(), *workspace_.selection().begin())
                                 : nullptr;
        if (!track || !sampleAt(*track, workspace_.frame())) {
            workspace_.say("An outline belongs to one track on one of its frames. Select it first.");
            return;
        }
        outline_.push_back(under);
        update();
        return;
    }
    if (tool_ == Tool::area) {
        drag_ = Drag::area;
        return;
    }
    if (tool_ == Tool::place) {
        if (!onPlate) {
            workspace_.say("Outside the plate. Click inside it to place a track.");
            return;
        }
        if (workspace_.isBusy()) {
            workspace_.say("A job is running. Stop it or wait to place tracks.");
            return;
        }
        drag_ = Drag::place;
        draggedTo_ = under;
        // On a proposed spot the click means its exact place.
        double nearest = 12;
        if (workspace_.proposalsFrame() == workspace_.frame())
            for (const SpotProposal& spot : workspace_.proposals())
                if (const double away = QLineF(mapping_.screenFromPlate(spot.at), cursor_).length(); away < nearest) {
                    nearest = away;
                    draggedTo_ = spot.at;
                }
        update();
        return;
    }
    if (const Track* track = handled()) {
        const auto nearest = [&](const std::vector<QPointF>& handles) {
            double best = 1e9;
            for (const QPointF& handle : handles) best = std::min(best, QLineF(handle, cursor_).length());
            return best;
        };
        const double pattern = nearest(patternHandles()), search = nearest(searchHandles());
        if (std::min(pattern, search) < kHandle) {
            drag_ = pattern <= search ? Drag::pattern : Drag::search;
            draggedPattern_ = track->pattern_px;
            draggedSearch_ = track->search_px;
            return;
        }
        // With Alt the offset point is drawn out of the track.
        if ((event->modifiers() & Qt::AltModifier) &&
            QLineF(mapping_.screenFromPlate(sampleAt(*track, workspace_.frame())->wanted()), cursor_).length() < 14) {
            drag_ = Drag::offset;
            draggedTo_ = under;
            return;
        }
    }
    const TrackId near = trackNear(cursor_);
    bandOnTrack_ = near != 0;
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
    if (track && track->byHand && !track->locked && !workspace_.isBusy()) {
        draggedTo_ = *placeOf(*track);  // before it counts as dragged, and lies where the drag has it
        drag_ = Drag::move;
        dragged_ = near;
    } else {
        // What cannot be dragged is no hindrance to a band: among hundreds of features there is hardly a free spot.
        drag_ = Drag::band;
    }
}

void Canvas::mouseMoveEvent(QMouseEvent* event) {
    const QPointF before = cursor_;
    cursor_ = event->position();
    cursorInside_ = true;
    if (!workspace_.shot().plate.isOpen()) {
        const bool over = std::any_of(recentRows_.begin(), recentRows_.end(),
                                      [&](const auto& row) { return row.first.contains(cursor_); });
        setCursor(over ? Qt::PointingHandCursor : Qt::ArrowCursor);
        update();
        return;
    }
    const Shot& shot = workspace_.shot();
    const auto inside = [&](const Vector2d& p) -> Vector2d {
        return p.cwiseMax(Vector2d(0, 0)).cwiseMin(Vector2d(shot.plate.width, shot.plate.height));
    };
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
            draggedTo_ =
                inside(draggedTo_ + (mapping_.plateFromScreen(cursor_) - mapping_.plateFromScreen(before)) * 0.5);
            update();
            break;
        case Drag::offset:
            draggedTo_ = mapping_.plateFromScreen(cursor_);
            update();
            break;
        case Drag::pattern:
        case Drag::search:
            dragHandle(cursor_);
            update();
            break;
        case Drag::wipe:
            wipe_ = std::clamp(cursor_.x() / std::max(1, width()), 0.02, 0.98);
            update();
            break;
        case Drag::area:
        case Drag::band:
            update();
            break;
        case Drag::none: {
            if (tool_ == Tool::place) updateAdvice();
            if (tool_ == Tool::outline && !outline_.empty()) update();
            if (tool_ == Tool::select) {
                const auto over = [&](const std::vector<QPointF>& handles) {
                    return std::any_of(handles.begin(), handles.end(),
                                       [&](const QPointF& h) { return QLineF(h, cursor_).length() < kHandle; });
                };
                const bool wiping = shown_ == Shown::wipe && std::abs(cursor_.x() - wipeHandle().x()) < 8;
                setCursor(over(patternHandles())  ? Qt::SizeFDiagCursor
                          : over(searchHandles()) ? Qt::SizeAllCursor
                          : wiping                ? Qt::SplitHCursor
                                                  : Qt::ArrowCursor);
            }
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
    } else if (drag == Drag::pattern || drag == Drag::search) {
        const Track* track = handled();
        const bool pattern = drag == Drag::pattern;
        const int size = pattern ? draggedPattern_ : draggedSearch_;
        if (track && size != (pattern ? track->pattern_px : track->search_px))
            workspace_.edit(QString("%1 of %2 to %3 px")
                                .arg(pattern ? "Pattern" : "Search", QString::fromStdString(track->name))
                                .arg(size),
                            withTracksEdited(workspace_.shot(), {track->id}, [&](Track& t) {
                                if (pattern) {
                                    t.pattern_px = size;
                                    t.search_px = std::max(t.search_px, size + 4);
                                } else {
                                    t.search_px = size;
                                }
                            }));
    } else if (drag == Drag::offset) {
        if (const Track* track = handled()) {
            Vector2d offset = draggedTo_ - sampleAt(*track, workspace_.frame())->at;
            // Dropped on the track itself it is none.
            if (offset.norm() * mapping_.zoom() < 8) offset.setZero();
            workspace_.edit("Offset point of " + QString::fromStdString(track->name),
                            withTracksEdited(workspace_.shot(), {track->id}, [&](Track& t) {
                                t.offset = offset;
                                t.samples = t.samples.edited([&](auto& samples) {
                                    for (Sample& sample : samples) sample.carried = offset.cast<float>();
                                });
                            }));
        }
    } else if (drag == Drag::area) {
        const QRectF box = QRectF(dragFrom_, cursor_).normalized();
        if (box.width() < 12 || box.height() < 12) {
            workspace_.say("Drag a box around the area to search for spots.");
        } else {
            Polygon area;
            for (const QPointF& corner : {box.topLeft(), box.topRight(), box.bottomRight(), box.bottomLeft()})
                area.push_back(mapping_.plateFromScreen(corner));
            setTool(Tool::place);
            workspace_.startPropose(area);
        }
    } else if (drag == Drag::move && (cursor_ - dragFrom_).manhattanLength() > 2) {
        const Track* track = findTrack(workspace_.shot(), dragged_);
        workspace_.placeTie(dragged_, workspace_.frame(), draggedTo_,
                            QString("Move %1").arg(track ? QString::fromStdString(track->name) : "track"));
    } else if (drag == Drag::band && !(bandOnTrack_ && (cursor_ - dragFrom_).manhattanLength() < 5)) {
        std::set<TrackId> chosen;
        if (event->modifiers() & (Qt::ControlModifier | Qt::ShiftModifier)) chosen = workspace_.selection();
        const QRectF band = QRectF(dragFrom_, cursor_).normalized();
        for (const Track& track : workspace_.shot().tracks)
            if (const auto place = placeOf(track);
                place && !track.hidden && band.contains(mapping_.screenFromPlate(*place)))
                chosen.insert(track.id);
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
    adviceText_.clear();
    update();
    reportPointed();
}

void Canvas::nudge(const Vector2d& by) {
    if (workspace_.selection().size() != 1) return;
    if (workspace_.isBusy()) {
        workspace_.say("A job is running. Stop it or wait to nudge.");
        return;
    }
    const Track* track = findTrack(workspace_.shot(), *workspace_.selection().begin());
    const Sample* sample = track ? sampleAt(*track, workspace_.frame()) : nullptr;
    if (!sample) return;
    if (track->locked) {
        workspace_.say(QString("%1 is locked. Unlock it to move it.").arg(QString::fromStdString(track->name)));
        return;
    }
    workspace_.placeTie(track->id, workspace_.frame(), sample->at + by,
                        QString("Nudge %1").arg(QString::fromStdString(track->name)));
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
        const auto value = [&](std::size_t c) {
            return picture->depth == Picture::Depth::bits8 ? picture->bytes[index + c] / 255.0
                                                           : double(picture->floats[index + c]);
        };
        line += QString("   plate %1, %2   R %3 G %4 B %5")
                    .arg(at.x(), 0, 'f', 1)
                    .arg(at.y(), 0, 'f', 1)
                    .arg(value(0), 0, 'f', 2)
                    .arg(value(1), 0, 'f', 2)
                    .arg(value(2), 0, 'f', 2);
    }
    emit pointed(line);
}

}  // namespace pinion
