#include "threadsheet.h"

#include "theme.h"

#include <QMouseEvent>
#include <QPainter>
#include <QWheelEvent>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kNames = 108;
constexpr int kRight = 14;
constexpr int kCounts = 40;
constexpr int kRuler = 22;
constexpr int kRow = 14;

}  // namespace

ThreadSheet::ThreadSheet(Workspace& workspace, QWidget* parent) : QWidget(parent), workspace_(workspace) {
    setObjectName("threadSheet");
    setMinimumHeight(110);
    setMouseTracking(true);
    setAccessibleName("Thread sheet");
    connect(&workspace, &Workspace::shotChanged, this, [this] { rebuildRows(); });
    connect(&workspace, &Workspace::plateChanged, this, [this] { rebuildRows(); });
    connect(&workspace, &Workspace::frameChanged, this, [this] { update(); });
    connect(&workspace, &Workspace::selectionChanged, this, [this] {
        scrollToSelection();
        update();
    });
    rebuildRows();
}

void ThreadSheet::setOrder(Order order) {
    order_ = order;
    shownTracks_ = {};
    rebuildRows();
}

void ThreadSheet::rebuildRows() {
    const Shot& shot = workspace_.shot();
    counts_ = tracksPerFrame(shot);
    if (shownTracks_.sharedWith(shot.tracks) && shownSolve_ == shot.solve) {
        update();
        return;
    }
    shownTracks_ = shot.tracks;
    shownSolve_ = shot.solve;
    errors_.clear();
    if (shot.solve)
        for (const SolvedTrack& track : shot.solve->tracks) errors_[track.track] = track.rms_px;
    rows_.resize(shot.tracks.size());
    for (std::size_t i = 0; i < rows_.size(); ++i) rows_[i] = i;
    std::stable_sort(rows_.begin(), rows_.end(), [&](std::size_t a, std::size_t b) {
        const Track& x = shot.tracks[a];
        const Track& y = shot.tracks[b];
        // What was placed by hand is what the artist cares about first.
        if (x.byHand != y.byHand) return x.byHand;
        const auto error = [&](const Track& t) {
            const auto known = errors_.find(t.id);
            return known == errors_.end() ? -1.0 : known->second;
        };
        switch (order_) {
            case Order::start: return x.firstFrame() < y.firstFrame();
            case Order::length: return x.samples.size() > y.samples.size();
            case Order::error: return error(x) > error(y);
            case Order::name: return x.name < y.name;
        }
        return false;
    });
    clampScroll();
    update();
}

QRect ThreadSheet::rulerRect() const { return {0, kCounts, width(), kRuler}; }
QRect ThreadSheet::rowsRect() const { return {0, kCounts + kRuler, width(), std::max(0, height() - kCounts - kRuler)}; }

double ThreadSheet::xOfFrame(double frame) const {
    const FrameRange& frames = workspace_.shot().plate.frames;
    return kNames + (frame - frames.first + 0.5) * (width() - kNames - kRight) / std::max(1, frames.count());
}

int ThreadSheet::frameAtX(double x) const {
    const FrameRange& frames = workspace_.shot().plate.frames;
    const double share = (x - kNames) / std::max(1, width() - kNames - kRight);
    return std::clamp(frames.first + int(std::floor(share * frames.count())), frames.first, frames.last);
}

void ThreadSheet::clampScroll() {
    const int most = std::max(0, int(rows_.size()) * kRow - rowsRect().height());
    scroll_ = std::clamp(scroll_, 0, most);
}

void ThreadSheet::resizeEvent(QResizeEvent*) { clampScroll(); }

void ThreadSheet::scrollToSelection() {
    if (workspace_.selection().empty()) return;
    const TrackId first = *workspace_.selection().begin();
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        if (workspace_.shot().tracks[rows_[i]].id != first) continue;
        const int top = int(i) * kRow;
        if (top < scroll_ || top + kRow > scroll_ + rowsRect().height()) scroll_ = top - rowsRect().height() / 2;
        clampScroll();
        return;
    }
}

void ThreadSheet::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme::kGround);
    const Shot& shot = workspace_.shot();
    if (!shot.plate.isOpen()) return;
    paintCounts(painter, {0, 0, width(), kCounts});
    paintRows(painter, rowsRect());
    paintRuler(painter, rulerRect());
    const double x = xOfFrame(workspace_.frame());
    painter.setPen(QPen(QColor(0xf2, 0xf2, 0xf2), 1));
    painter.drawLine(QPointF(x, kCounts + 8), QPointF(x, height()));
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setBrush(QColor(0xf2, 0xf2, 0xf2));
    painter.drawPolygon(QPolygonF({{x - 5, kCounts + 1.0}, {x + 5, kCounts + 1.0}, {x, kCounts + 9.0}}));
}

void ThreadSheet::paintCounts(QPainter& painter, const QRect& area) {
    const FrameRange& range = workspace_.shot().plate.range;
    const double cell = double(width() - kNames - kRight) / std::max(1, workspace_.shot().plate.frames.count());
    const int most = counts_.empty() ? 0 : *std::max_element(counts_.begin(), counts_.end());
    const double scale = (area.height() - 12.0) / std::max(2 * kTrackFloor, most);
    painter.setPen(theme::kDim);
    painter.drawText(QRect(14, 2, kNames - 18, 16), Qt::AlignLeft | Qt::AlignVCenter, "Tracks a frame");
    const double bottom = area.bottom() - 1.0;
    for (std::size_t i = 0; i < counts_.size(); ++i) {
        const bool poor = counts_[i] < kTrackFloor && most > 0;
        const double height = std::max(poor ? 3.0 : 0.0, counts_[i] * scale);
        const double x = xOfFrame(range.first + int(i)) - cell / 2;
        painter.fillRect(QRectF(x, bottom - height, std::max(1.0, cell - (cell > 4 ? 1 : 0)), height), poor ? theme::kCoral : QColor(0x4a, 0x53, 0x56));
    }
    if (most > 0) {
        const double y = bottom - kTrackFloor * scale;
        painter.setPen(QPen(theme::kBrass, 1, Qt::DotLine));
        painter.drawLine(QPointF(kNames, y), QPointF(width() - kRight, y));
        painter.setPen(theme::kBrass);
        painter.drawText(QRectF(14, std::min(y - 8, bottom - 15), kNames - 20, 16), Qt::AlignRight | Qt::AlignVCenter, QString("floor %1").arg(kTrackFloor));
    }
}

void ThreadSheet::paintRuler(QPainter& painter, const QRect& area) {
    const PlateRef& plate = workspace_.shot().plate;
    painter.fillRect(area, theme::kPanel);
    const double perFrame = double(width() - kNames - kRight) / std::max(1, plate.frames.count());
    int step = 1;
    for (const int candidate : {1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000}) {
        step = candidate;
        if (candidate * perFrame >= 52) break;
    }
    for (int frame = (plate.frames.first + step - 1) / step * step; frame <= plate.frames.last; frame += step) {
        const double x = xOfFrame(frame);
        if (x + 24 > width()) break;
        painter.setPen(theme::kLine);
        painter.drawLine(QPointF(x, area.bottom() - 4), QPointF(x, area.bottom()));
        painter.setPen(theme::kDim);
        painter.drawText(QRectF(x - 30, area.top() + 2, 60, area.height() - 5), Qt::AlignCenter, QString::number(frame));
    }
    if (workspace_.hasPlate())
        for (const int frame : workspace_.frames()->facts().missing)  // a gap: a filled block under the ruler
            painter.fillRect(QRectF(xOfFrame(frame) - std::max(1.0, perFrame / 2), area.bottom() - 5, std::max(2.0, perFrame), 5), theme::kCoral);
    const FrameRange range = drag_ == Drag::first || drag_ == Drag::last ? dragRange_ : plate.range;
    const double left = xOfFrame(range.first) - perFrame / 2;
    const double right = xOfFrame(range.last) + perFrame / 2;
    // Outside the range the ruler darkens; the handles are brackets that can be dragged.
    painter.fillRect(QRectF(kNames, area.top(), left - kNames, area.height()), QColor(0, 0, 0, 120));
    painter.fillRect(QRectF(right, area.top(), width() - kRight - right, area.height()), QColor(0, 0, 0, 120));
    painter.setPen(QPen(theme::kBrass, 2));
    for (const auto& [x, out] : {std::pair{left, 1.0}, {right, -1.0}}) {
        painter.drawLine(QPointF(x, area.top() + 3), QPointF(x, area.bottom() - 2));
        painter.drawLine(QPointF(x, area.top() + 3), QPointF(x + out * 5, area.top() + 3));
        painter.drawLine(QPointF(x, area.bottom() - 2), QPointF(x + out * 5, area.bottom() - 2));
    }
    painter.setPen(theme::kDim);
    painter.drawText(QRect(14, area.top(), kNames - 18, area.height()), Qt::AlignLeft | Qt::AlignVCenter, QString("%1–%2").arg(range.first).arg(range.last));
}

void ThreadSheet::paintRows(QPainter& painter, const QRect& area) {
    const Shot& shot = workspace_.shot();
    if (rows_.empty()) {
        painter.setPen(theme::kDim);
        painter.drawText(area, Qt::AlignCenter, workspace_.isBusy() ? "Tracks appear here when the job is done" : "No tracks yet: scatter features, or place one by hand");
        return;
    }
    painter.save();
    painter.setClipRect(area);
    const double cell = double(width() - kNames - kRight) / std::max(1, shot.plate.frames.count());
    QFont small = font();
    small.setPixelSize(11);
    painter.setFont(small);
    const int first = scroll_ / kRow;
    const int last = std::min(int(rows_.size()) - 1, (scroll_ + area.height()) / kRow);
    for (int row = first; row <= last; ++row) {
        const Track& track = shot.tracks[rows_[std::size_t(row)]];
        const int y = area.top() + row * kRow - scroll_;
        const bool selected = workspace_.selection().contains(track.id);
        if (selected) painter.fillRect(QRect(0, y, width(), kRow), QColor(0x33, 0x2d, 0x20));
        painter.setPen(selected ? theme::kBrass : track.byHand ? theme::kText : theme::kDim);
        painter.drawText(QRect(14, y, kNames - 20, kRow), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(QString::fromStdString(track.name), Qt::ElideRight, kNames - 22));
        const auto error = errors_.find(track.id);
        // Neighbouring cells of one shade are drawn at once; a row has few of them.
        const auto& samples = track.samples.vector();
        for (std::size_t i = 0; i < samples.size();) {
            const auto shade = [&](const Sample& s) { return int(std::lround(theme::badnessOfScore(s.score) * 12)); };
            std::size_t end = i + 1;
            while (end < samples.size() && samples[end].frame == samples[end - 1].frame + 1 && shade(samples[end]) == shade(samples[i])) ++end;
            QColor colour = theme::fitColour(shade(samples[i]) / 12.0);
            if (track.setAside) colour = QColor(0x30, 0x30, 0x30);
            const double x0 = xOfFrame(samples[i].frame) - cell / 2;
            const double x1 = xOfFrame(samples[end - 1].frame) + cell / 2;
            painter.fillRect(QRectF(x0, y + 2, x1 - x0, kRow - 4), colour);
            i = end;
        }
        if (error != errors_.end() && error->second > 1.0 && !samples.empty() && !track.setAside) {
            painter.setPen(theme::kCoral);
            painter.drawText(QRectF(xOfFrame(samples.back().frame) - 52, y, 50, kRow), Qt::AlignRight | Qt::AlignVCenter, QString("%1 px").arg(error->second, 0, 'f', 1));
        }
        // A tie is a small bow.
        painter.setRenderHint(QPainter::Antialiasing);
        painter.setPen(Qt::NoPen);
        painter.setBrush(theme::kBrass);
        for (const Sample& sample : samples) {
            if (!sample.tie) continue;
            const double x = xOfFrame(sample.frame);
            const double m = y + kRow / 2.0;
            painter.drawPolygon(QPolygonF({{x, m}, {x - 4, m - 3.5}, {x - 4, m + 3.5}}));
            painter.drawPolygon(QPolygonF({{x, m}, {x + 4, m - 3.5}, {x + 4, m + 3.5}}));
        }
        painter.setRenderHint(QPainter::Antialiasing, false);
    }
    const int total = int(rows_.size()) * kRow;
    if (total > area.height()) {
        const double share = double(area.height()) / total;
        painter.fillRect(QRectF(width() - 6, area.top() + scroll_ * share, 4, std::max(16.0, area.height() * share)), QColor(0x50, 0x50, 0x50));
    }
    painter.restore();
}

void ThreadSheet::mousePressEvent(QMouseEvent* event) {
    if (!workspace_.shot().plate.isOpen() || event->button() != Qt::LeftButton) return;
    const double x = event->position().x();
    if (rowsRect().contains(event->position().toPoint()) && x < kNames) {
        const int row = int(event->position().y() - rowsRect().top() + scroll_) / kRow;
        if (row < int(rows_.size())) {
            const TrackId id = workspace_.shot().tracks[rows_[std::size_t(row)]].id;
            std::set<TrackId> selection;
            if (event->modifiers() & Qt::ControlModifier) selection = workspace_.selection();
            if (!selection.erase(id)) selection.insert(id);
            workspace_.select(selection);
        }
        return;
    }
    if (rulerRect().contains(event->position().toPoint())) {
        const FrameRange& range = workspace_.shot().plate.range;
        const double cell = double(width() - kNames - kRight) / std::max(1, workspace_.shot().plate.frames.count());
        dragRange_ = range;
        if (std::abs(x - (xOfFrame(range.first) - cell / 2)) < 6) drag_ = Drag::first;
        else if (std::abs(x - (xOfFrame(range.last) + cell / 2)) < 6) drag_ = Drag::last;
        if (drag_ != Drag::none) return;
    }
    if (x >= kNames) {
        drag_ = Drag::playhead;
        workspace_.setPlaying(false);
        workspace_.goTo(frameAtX(x));
        if (rowsRect().contains(event->position().toPoint())) {
            const int row = int(event->position().y() - rowsRect().top() + scroll_) / kRow;
            if (row < int(rows_.size())) workspace_.select({workspace_.shot().tracks[rows_[std::size_t(row)]].id});
        }
    }
}

void ThreadSheet::mouseMoveEvent(QMouseEvent* event) {
    const int frame = frameAtX(event->position().x());
    switch (drag_) {
        case Drag::playhead: workspace_.goTo(frame); break;
        case Drag::first: dragRange_.first = std::min(frame, dragRange_.last); update(); break;
        case Drag::last: dragRange_.last = std::max(frame, dragRange_.first); update(); break;
        case Drag::none: break;
    }
}

void ThreadSheet::mouseReleaseEvent(QMouseEvent*) {
    const Drag drag = drag_;
    drag_ = Drag::none;
    if ((drag == Drag::first || drag == Drag::last) && !(dragRange_ == workspace_.shot().plate.range))
        workspace_.edit(QString("Range %1–%2").arg(dragRange_.first).arg(dragRange_.last), withRange(workspace_.shot(), dragRange_));
    update();
}

void ThreadSheet::wheelEvent(QWheelEvent* event) {
    scroll_ -= event->angleDelta().y() / 2;
    clampScroll();
    update();
}

}  // namespace pinion
