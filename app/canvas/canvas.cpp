#include "canvas/canvas.h"

#include "canvas/marks.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QWheelEvent>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kWipeGrip = 8.0;    // screen pixels from the wipe's line that mean it
constexpr std::size_t kBehind = 12;  // among so many frames that were shown the latest that was made is looked for
constexpr int kAhead = 6;            // pictures made ready ahead while playing

}  // namespace

Canvas::Canvas(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      pictures_(session.jobs,
                [this] {
                    refreshImage();
                    update();
                }),
      empty_(session.document.recent()) {
    setObjectName("canvas");
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(320, 200);
    setAccessibleName("Plate");
    const auto redraw = [this] { update(); };
    connect(&session.document, &Document::changed, this, redraw);
    connect(&session.selection, &Selection::changed, this, redraw);
    connect(&session.jobs, &JobRunner::progressed, this, redraw);
    connect(&session.jobs, &JobRunner::busyChanged, this, redraw);
    connect(&session.player, &Player::frameChanged, this, [this] {
        if (Tool* tool = this->tool()) tool->refresh();
        aim();
        refreshImage();
        update();
        reportPointed();
    });
    const auto refresh = [this] {
        refreshImage();
        update();
    };
    connect(&session.player, &Player::viewChanged, this, refresh);
    // What was left out while it played is shown where it stops.
    connect(&session.player, &Player::playingChanged, this, refresh);
    connect(&session.player, &Player::plateChanged, this, [this] {
        pictures_.clear();
        image_ = {};
        rendered_ = {};
        before_.clear();
        imageFrame_ = 0;
        look({}, Compare::none);  // a view of the shot before
        updateSizes();
        fit();
    });
}

Canvas::~Canvas() = default;

// ---- what it is furnished with

void Canvas::addOverlay(std::unique_ptr<Overlay> overlay) {
    const auto place = std::upper_bound(overlays_.begin(), overlays_.end(), overlay,
                                        [](const auto& a, const auto& b) { return a->layer() < b->layer(); });
    overlays_.insert(place, std::move(overlay));
}

void Canvas::addTool(std::unique_ptr<Tool> tool) { tools_.push_back(std::move(tool)); }

Sight* Canvas::addSight(std::unique_ptr<Sight> sight) {
    sights_.push_back(std::move(sight));
    return sights_.back().get();
}

Tool* Canvas::tool() const {
    for (const auto& tool : tools_)
        if (tool->name() == toolName_) return tool.get();
    return nullptr;
}

void Canvas::takeTool(const QString& name) {
    if (name == toolName_) return;
    putDown();
    toolName_ = name;
    if (const Tool* taken = tool()) setCursor(taken->cursor());
    emit toolChanged(name);
    update();
}

void Canvas::putDown() {
    if (Tool* held = tool()) held->putDown();
    update();
}

void Canvas::nudge(const Vector2d& by) {
    if (Tool* held = tool()) held->nudge(by);
}

// ---- how it is seen

void Canvas::look(const QString& name, Compare compare) {
    Sight* wanted = nullptr;
    for (const auto& sight : sights_)
        if (sight->name() == name) wanted = sight.get();
    sight_ = wanted;
    compare_ = wanted ? compare : Compare::none;
    lookAnew();
    emit looked();
}

QStringList Canvas::sights() const {
    QStringList names;
    for (const auto& sight : sights_)
        if (sight->isView()) names << sight->name();
    return names;
}

void Canvas::setHold(Sight* hold) {
    hold_ = hold;
    lookAnew();
}

void Canvas::lookAnew() {
    aim();
    before_.clear();  // by another sight
    refreshImage();
    update();
}

void Canvas::refreshView() {
    if (aim()) refreshImage();
    update();
}

bool Canvas::aim() {
    const Sight* sight = shownSight();
    view_.setWarp(sight ? sight->warpAt(session_.player.frame()) : PlateWarp{});
    view_.setExtent(sight_ ? sight_->extent() : std::nullopt);
    const auto rendering = sight ? sight->rendering(session_.player.pictureFrame()) : nullptr;
    if (rendering == rendering_ && session_.player.picture() == aimedAt_) return false;
    // What it was asked for before may come while this is made.
    if (rendering_) {
        before_.emplace_front(aimedAt_, rendering_);
        if (before_.size() > kBehind) before_.pop_back();
    }
    const bool isAnother = rendering != rendering_;
    rendering_ = rendering;
    aimedAt_ = session_.player.picture();
    return isAnother;
}

void Canvas::refreshImage() {
    const Player& player = session_.player;
    pictures_.begin();
    // While a sight's own pictures are played, the plate's are seen beside them or not at all.
    const bool isSeen = !rendering_ || rendered_.isNull() || !player.isPlaying() || compare_ != Compare::none;
    if (const QImage image = isSeen ? pictures_.get(player.picture(), player.view()) : QImage(); !image.isNull()) {
        image_ = image;
        imageFrame_ = player.pictureFrame();
    }
    if (!rendering_) rendered_ = {};
    else if (const QImage made = pictures_.get(player.picture(), player.view(), rendering_); !made.isNull())
        rendered_ = made;
    else if (player.isPlaying()) rendered_ = lastRendered();
    if (!player.isPlaying()) return;
    for (int i = 1; i <= kAhead; ++i) {
        const int frame = player.frame() + i;
        (void)pictures_.get(player.frames()->peek(frame), player.view(),
                            rendering_ ? shownSight()->rendering(frame) : nullptr);
    }
}

bool Canvas::isUpToDate() const {
    const Player& player = session_.player;
    if (imageFrame_ != player.frame()) return false;
    return !rendering_ || !pictures_.peek(player.picture(), player.view(), rendering_).isNull();
}

/// Where playing is quicker than a sight can follow, the latest that it has made.
QImage Canvas::lastRendered() const {
    for (const auto& [picture, rendering] : before_)
        if (const QImage made = pictures_.peek(picture, session_.player.view(), rendering); !made.isNull()) return made;
    return rendered_;
}

void Canvas::fit() {
    view_.fit();
    update();
    reportPointed();
}

void Canvas::zoomTo(double zoom) {
    view_.zoomAt(cursorInside_ ? cursor_ : QPointF(width() / 2.0, height() / 2.0), zoom / view_.zoom());
    update();
    reportPointed();
}

void Canvas::setPixelAspect(double aspect) {
    if (aspect == view_.pixelAspect()) return;
    view_.setPixelAspect(aspect);
    update();
}

void Canvas::setOverlays(bool shown) {
    overlaysShown_ = shown;
    update();
}

void Canvas::updateSizes() {
    view_.setSizes(size(), QSizeF(session_.shot().plate.width, session_.shot().plate.height));
}

// ---- the mouse

CanvasEvent Canvas::eventAt(const QPointF& at, Qt::KeyboardModifiers modifiers) const {
    return {at, view_.plateFromScreen(at), modifiers};
}

bool Canvas::onWipe(const QPointF& at) const {
    return compare_ == Compare::wipe && std::abs(at.x() - wipeHandle().x()) < kWipeGrip;
}

void Canvas::mousePressEvent(QMouseEvent* event) {
    setFocus();
    cursor_ = event->position();
    cursorInside_ = true;
    if (!session_.shot().plate.isOpen()) {
        if (const QString path = empty_.at(cursor_); !path.isEmpty() && event->button() == Qt::LeftButton)
            emit openAsked(path);
    } else if (event->button() == Qt::MiddleButton) {
        grip_ = Grip::pan;
    } else if (event->button() != Qt::LeftButton) {
        return;
    } else if (onWipe(cursor_)) {
        grip_ = Grip::wipe;
    } else if (Tool* held = tool(); held && toolsWork()) {
        grip_ = Grip::tool;
        held->press(eventAt(cursor_, event->modifiers()));
        update();
    }
}

void Canvas::mouseDoubleClickEvent(QMouseEvent* event) {
    Tool* held = tool();
    if (event->button() != Qt::LeftButton || !held || !toolsWork() || onWipe(event->position())) {
        mousePressEvent(event);
        return;
    }
    cursor_ = event->position();
    grip_ = Grip::tool;
    held->doubleClick(eventAt(cursor_, event->modifiers()));
    update();
}

void Canvas::mouseMoveEvent(QMouseEvent* event) {
    const QPointF before = cursor_;
    cursor_ = event->position();
    cursorInside_ = true;
    if (!session_.shot().plate.isOpen()) {
        setCursor(empty_.at(cursor_).isEmpty() ? Qt::ArrowCursor : Qt::PointingHandCursor);
        update();
        return;
    }
    Tool* held = tool();
    switch (grip_) {
        case Grip::pan:
            view_.pan(cursor_ - before);
            update();
            break;
        case Grip::wipe:
            wipe_ = std::clamp(cursor_.x() / std::max(1, width()), 0.02, 0.98);
            update();
            break;
        case Grip::tool:
            if (held) held->drag(eventAt(cursor_, event->modifiers()));
            update();
            break;
        case Grip::none:
            if (!held || !toolsWork()) break;
            if (held->hover(eventAt(cursor_, event->modifiers()))) update();
            setCursor(onWipe(cursor_) ? Qt::SplitHCursor : held->cursor());
            break;
    }
    reportPointed();
}

void Canvas::mouseReleaseEvent(QMouseEvent* event) {
    const Grip grip = std::exchange(grip_, Grip::none);
    cursor_ = event->position();
    if (grip == Grip::tool && event->button() == Qt::LeftButton)
        if (Tool* held = tool()) held->release(eventAt(cursor_, event->modifiers()));
    update();
}

void Canvas::wheelEvent(QWheelEvent* event) {
    if (!session_.shot().plate.isOpen()) return;
    view_.zoomAt(event->position(), std::pow(1.0015, event->angleDelta().y()));
    update();
    reportPointed();
}

void Canvas::leaveEvent(QEvent*) {
    cursorInside_ = false;
    if (Tool* held = tool()) held->leave();
    update();
    reportPointed();
}

namespace {

bool isRemoving(const QKeyEvent& event) {
    return event.modifiers() == Qt::NoModifier && (event.key() == Qt::Key_Delete || event.key() == Qt::Key_Backspace);
}

bool isFinishing(const QKeyEvent& event) { return event.key() == Qt::Key_Return || event.key() == Qt::Key_Enter; }

}  // namespace

bool Canvas::event(QEvent* event) {
    if (event->type() == QEvent::ShortcutOverride) {
        const Tool* held = tool();
        const auto& key = *static_cast<QKeyEvent*>(event);
        if (held && toolsWork() && ((isRemoving(key) && held->removes()) || (isFinishing(key) && held->finishes()))) {
            event->accept();
            return true;
        }
    }
    return QWidget::event(event);
}

void Canvas::keyPressEvent(QKeyEvent* event) {
    Tool* held = tool();
    const bool taken =
        held && toolsWork() && ((isRemoving(*event) && held->remove()) || (isFinishing(*event) && held->finish()));
    if (taken) update();
    else QWidget::keyPressEvent(event);
}

void Canvas::resizeEvent(QResizeEvent*) {
    updateSizes();
    reportPointed();
}

void Canvas::reportPointed() {
    if (!session_.shot().plate.isOpen()) {
        emit pointed("");
        return;
    }
    QString line = QString("zoom %1 %").arg(qRound(view_.zoom() * 100));
    const auto at = view_.plateFromScreen(cursor_);
    const PicturePtr picture = session_.player.picture();
    if (cursorInside_ && at && picture && at->x() >= 0 && at->y() >= 0 && at->x() < picture->width &&
        at->y() < picture->height) {
        const std::size_t index = (std::size_t(at->y()) * std::size_t(picture->width) + std::size_t(at->x())) * 3;
        const auto value = [&](std::size_t c) {
            return picture->depth == Picture::Depth::bits8 ? picture->bytes[index + c] / 255.0
                                                           : double(picture->floats[index + c]);
        };
        line += QString("   plate %1, %2   R %3 G %4 B %5")
                    .arg(at->x(), 0, 'f', 1)
                    .arg(at->y(), 0, 'f', 1)
                    .arg(value(0), 0, 'f', 2)
                    .arg(value(1), 0, 'f', 2)
                    .arg(value(2), 0, 'f', 2);
    }
    emit pointed(line);
}

// ---- painting

void Canvas::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), outsideBrush());
    if (!session_.shot().plate.isOpen()) {
        empty_.paint(painter, *this, cursorInside_ ? cursor_ : QPointF(-1, -1));
        return;
    }
    paintPicture(painter);
    paintProblem(painter);
    painter.setRenderHint(QPainter::Antialiasing);
    if (overlaysShown_ && compare_ != Compare::beside) paintMarks(painter);
    if (shownSight()) paintSightNote(painter);
}

void Canvas::paintMarks(QPainter& painter) {
    painter.save();
    // Of a wipe only the result's side has the tracks where they are drawn.
    if (compare_ == Compare::wipe) painter.setClipRect(QRectF(wipeHandle().x() + 1, 0, width(), height()));
    if (const Sight* sight = shownSight()) sight->paint(painter, view_);
    if (showsPlate()) {
        const bool tracks = !shownSight() || shownSight()->showsTracks();
        for (const auto& overlay : overlays_)
            if (tracks || overlay->layer() != Overlay::Layer::tracks) overlay->paint(painter, view_);
        if (Tool* held = tool()) held->paint(painter, view_);
    }
    painter.restore();
}

void Canvas::paintProblem(QPainter& painter) {
    const QString& problem = session_.player.frameProblem();
    if (problem.isEmpty()) return;
    const QRectF frame = view_.frameOnScreen();
    painter.fillRect(frame, QColor(0x16, 0x16, 0x16, 220));
    painter.setPen(theme::kCoral);
    painter.drawText(frame.adjusted(24, 24, -24, -24), Qt::AlignCenter | Qt::TextWordWrap, problem);
}

/// The plate within `area`: as filmed, or as the sight has it.
void Canvas::paintOne(QPainter& painter, const QRectF& area, bool filmed, const QPointF& by) {
    const Eigen::Matrix3d shown = filmed ? Eigen::Matrix3d::Identity() : view_.warp().shownFromStraight;
    const bool moved = !shown.isIdentity(1e-12);
    painter.save();
    painter.setClipRect(area);
    painter.save();
    // Grown pixels stay pixels: the eye judges sub-pixel places by them. A moved picture has none of its own.
    painter.setRenderHint(QPainter::SmoothPixmapTransform, view_.zoom() < 2.0 || moved);
    painter.setTransform(view_.painted(shown, by), true);
    if (!filmed && rendering_) painter.drawImage(rendering_->corner(), rendered_);
    else painter.drawImage(QPointF(0, 0), image_);
    painter.restore();
    const Sight* sight = shownSight();
    if (!filmed && sight && sight->showsBorder(session_.player.frame())) {
        // What the frame cuts off stays visible, dimmed, while it is worked on.
        QPainterPath beyond, inner;
        beyond.addRect(area);
        inner.addRect(view_.frameOnScreen().translated(by));
        painter.fillPath(beyond.subtracted(inner), QColor(0x1f, 0x1f, 0x1f, 205));
    }
    painter.restore();
}

void Canvas::paintPicture(QPainter& painter) {
    if (image_.isNull() || !session_.player.picture()) {
        painter.fillRect(view_.frameOnScreen(), QColor(0x16, 0x16, 0x16));
        return;
    }
    const double middle = compare_ == Compare::wipe ? wipeHandle().x() : width() / 2.0;
    const QRectF left(0, 0, middle, height()), right(middle, 0, width() - middle, height());
    switch (compare_) {
        case Compare::none:
            paintOne(painter, rect(), false, {});
            return;
        case Compare::wipe:
            paintOne(painter, left, true, {});
            paintOne(painter, right, false, {});
            break;
        case Compare::beside:
            // Both halves show the same spot at the same size.
            paintOne(painter, left, true, {-width() / 4.0, 0});
            paintOne(painter, right, false, {width() / 4.0, 0});
            break;
    }
    painter.setPen(QPen(theme::kBrass, 1.5));
    painter.drawLine(QPointF(middle, 0), QPointF(middle, height()));
    if (compare_ != Compare::wipe) return;
    const double y = height() / 2.0;
    painter.setBrush(theme::kBrass);
    painter.drawPolygon(QPolygonF({{middle - 3, y - 5}, {middle - 9, y}, {middle - 3, y + 5}}));
    painter.drawPolygon(QPolygonF({{middle + 3, y - 5}, {middle + 9, y}, {middle + 3, y + 5}}));
}

void Canvas::paintSightNote(QPainter& painter) {
    const Sight& sight = *shownSight();
    const int frame = session_.player.frame();
    const QString words = sight.words(frame);
    if (!sight_) {
        if (!words.isEmpty()) drawLabel(painter, {12, 10}, words, theme::kBrass);
        return;
    }
    const QRectF shown = view_.frameOnScreen();
    const double x = compare_ == Compare::none ? std::max(8.0, shown.left() + 8)
                                               : (compare_ == Compare::wipe ? wipeHandle().x() : width() / 2.0) + 12;
    const double y = std::max(8.0, shown.top() + 8);
    drawLabel(painter, {x, y}, words, sight.isTroubled() ? theme::kCoral : theme::kText);
    if (compare_ != Compare::none)
        drawLabel(painter, {x - 24 - painter.fontMetrics().horizontalAdvance("original") - 14, y}, "original");
    if (!sight.showsBorder(frame) || compare_ == Compare::beside) return;
    // The frame, and the border of the source where it reaches into it.
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(QColor(255, 255, 255, 90), 1));
    painter.drawRect(shown);
    const PlateRef& plate = session_.shot().plate;
    const Vector2d corners[] = {{0, 0}, {plate.width, 0}, {plate.width, plate.height}, {0, plate.height}};
    painter.setPen(QPen(sight.fills() ? theme::kSlate : theme::kSand, 1, Qt::DashLine));
    painter.drawPath(view_.line(corners, true));
}

}  // namespace pinion
