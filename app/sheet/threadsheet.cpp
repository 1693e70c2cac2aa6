#include "sheet/threadsheet.h"

#include "shot/edits/plateedits.h"
#include "shot/stages/tracksstage.h"
#include "widgets/theme.h"

#include <QMouseEvent>
#include <QPainter>
#include <QWheelEvent>

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kCounts = 30;
constexpr int kRuler = 20;
constexpr int kRow = 14;

}  // namespace

ThreadSheet::ThreadSheet(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("threadSheet");
    setMinimumHeight(92);
    setMouseTracking(true);
    setAccessibleName("Thread sheet");
    connect(&session.document, &Document::changed, this, [this] { rebuildRows(); });
    connect(&session.player, &Player::plateChanged, this, [this] { rebuildRows(); });
    connect(&session.player, &Player::frameChanged, this, [this] { update(); });
    connect(&session.selection, &Selection::changed, this, [this] {
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

void ThreadSheet::setFilter(const QString& filter) {
    filter_ = filter;
    shownTracks_ = {};
    scroll_ = 0;
    rebuildRows();
}

int ThreadSheet::rowHeight() const { return kRow; }

void ThreadSheet::rebuildRows() {
    const Shot& shot = session_.shot();
    // Counting a million samples is felt: only when there is something new to count.
    const bool sameTracks = shownTracks_.sharedWith(shot.tracks);
    if (!sameTracks || !(countedRange_ == shot.plate.range)) counts_ = tracksPerFrame(shot);
    countedRange_ = shot.plate.range;
    if (sameTracks && shownSolve_ == shot.solve) {
        update();
        return;
    }
    shownTracks_ = shot.tracks;
    shownSolve_ = shot.solve;
    errors_.clear();
    if (shot.solve)
        for (const SolvedTrack& track : shot.solve->tracks) errors_[track.track] = track.rms_px;
    rows_.clear();
    const QStringList words = filter_.split(' ', Qt::SkipEmptyParts);
    for (std::size_t i = 0; i < shot.tracks.size(); ++i) {
        const QString name =
            words.isEmpty() ? QString() : QString::fromStdString(shot.tracks[i].name + " " + shot.tracks[i].group);
        if (std::all_of(words.begin(), words.end(),
                        [&](const QString& word) { return name.contains(word, Qt::CaseInsensitive); }))
            rows_.push_back(i);
    }
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
            case Order::start:
                return x.firstFrame() < y.firstFrame();
            case Order::length:
                return x.samples.size() > y.samples.size();
            case Order::error:
                return error(x) > error(y);
            case Order::name:
                return x.name < y.name;
        }
        return false;
    });
    clampScroll();
    update();
}

void ThreadSheet::addStrip(std::unique_ptr<SheetStrip> strip) { strips_.push_back(std::move(strip)); }

void ThreadSheet::refreshStrips() {
    clampScroll();
    update();
}

QRect ThreadSheet::stripRect(std::size_t index) const {
    int top = 0;
    for (std::size_t i = 0; i < index && i < strips_.size(); ++i) top += strips_[i]->height();
    return {0, top, width(), index < strips_.size() ? strips_[index]->height() : 0};
}

std::optional<std::size_t> ThreadSheet::stripAt(const QPointF& at) const {
    for (std::size_t i = 0; i < strips_.size(); ++i)
        if (strips_[i]->height() > 0 && stripRect(i).contains(at.toPoint())) return i;
    return std::nullopt;
}

StripEvent ThreadSheet::onStrip(std::size_t strip, const QPointF& at, Qt::KeyboardModifiers modifiers) const {
    return {frameAtX(at.x()), at.y() - stripRect(strip).top(), modifiers};
}

QRect ThreadSheet::rulerRect() const { return {0, stripRect(strips_.size()).top() + kCounts, width(), kRuler}; }
QRect ThreadSheet::rowsRect() const {
    const int top = rulerRect().bottom() + 1;
    return {0, top, width(), std::max(0, height() - top)};
}

int ThreadSheet::rowAt(double y) const {
    const int row = int(std::floor((y - rowsRect().top() + scroll_) / kRow));
    return row >= 0 && row < int(rows_.size()) ? row : -1;
}

/// What the cursor points at, in words.
QString ThreadSheet::whatIsAt(const QPointF& at) const {
    const Shot& shot = session_.shot();
    if (!shot.plate.isOpen() || at.x() < kNames) return {};
    const int frame = frameAtX(at.x());
    if (const auto strip = stripAt(at)) return strips_[*strip]->whatIsAt(onStrip(*strip, at, {}));
    if (!rowsRect().contains(at.toPoint())) return {};
    const int row = rowAt(at.y());
    if (row < 0) return {};
    const Track& track = shot.tracks[rows_[std::size_t(row)]];
    const QString name = QString::fromStdString(track.name);
    if (const Sample* sample = sampleAt(track, frame))
        return sample->aside     ? QString("%1, %2: set aside here").arg(name).arg(frame)
               : sample->tie     ? QString("%1, %2: tie").arg(name).arg(frame)
               : sample->bridged ? QString("%1, %2: bridged").arg(name).arg(frame)
                                 : QString("%1, %2: fit %3").arg(name).arg(frame).arg(sample->score, 0, 'f', 3);
    if (track.samples.isEmpty()) return name;
    // In front of, behind or between its frames: why it is not there.
    EndReason reason = frame < track.firstFrame() ? track.startReason : track.endReason;
    if (frame > track.firstFrame() && frame < track.lastFrame())
        for (const Sample& sample : track.samples)
            if (sample.frame < frame) reason = sample.lost;
    return QString("%1, %2: %3").arg(name).arg(frame).arg(QString::fromStdString(std::string(toString(reason))));
}

double ThreadSheet::cellWidth() const {
    return double(width() - kNames - kRight) / std::max(1, session_.shot().plate.frames.count());
}

double ThreadSheet::xOfFrame(double frame) const {
    const FrameRange& frames = session_.shot().plate.frames;
    return kNames + (frame - frames.first + 0.5) * (width() - kNames - kRight) / std::max(1, frames.count());
}

int ThreadSheet::frameAtX(double x) const {
    const FrameRange& frames = session_.shot().plate.frames;
    const double share = (x - kNames) / std::max(1, width() - kNames - kRight);
    return std::clamp(frames.first + int(std::floor(share * frames.count())), frames.first, frames.last);
}

void ThreadSheet::clampScroll() {
    const int most = std::max(0, int(rows_.size()) * kRow - rowsRect().height());
    scroll_ = std::clamp(scroll_, 0, most);
}

void ThreadSheet::resizeEvent(QResizeEvent*) { clampScroll(); }

void ThreadSheet::scrollToSelection() {
    if (session_.selection.isEmpty()) return;
    const TrackId first = *session_.selection.tracks().begin();
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        if (session_.shot().tracks[rows_[i]].id != first) continue;
        const int top = int(i) * kRow;
        if (top < scroll_ || top + kRow > scroll_ + rowsRect().height()) scroll_ = top - rowsRect().height() / 2;
        clampScroll();
        return;
    }
}

void ThreadSheet::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme::kGround);
    const Shot& shot = session_.shot();
    if (!shot.plate.isOpen()) return;
    for (std::size_t i = 0; i < strips_.size(); ++i)
        if (strips_[i]->height() > 0) strips_[i]->paint(painter, stripRect(i), *this);
    paintCounts(painter, {0, stripRect(strips_.size()).top(), width(), kCounts});
    paintRows(painter, rowsRect());
    paintRuler(painter, rulerRect());
    const double x = xOfFrame(session_.player.frame());
    painter.setPen(QPen(QColor(0xf2, 0xf2, 0xf2), 1));
    const double head = rulerRect().top();
    painter.drawLine(QPointF(x, head + 8), QPointF(x, height()));
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setBrush(QColor(0xf2, 0xf2, 0xf2));
    painter.drawPolygon(QPolygonF({{x - 5, head + 1.0}, {x + 5, head + 1.0}, {x, head + 9.0}}));
    if (drag_ == Drag::band) paintBand(painter);
}

void ThreadSheet::paintBand(QPainter& painter) {
    painter.setPen(QPen(theme::kBrass, 1, Qt::DashLine));
    painter.setBrush(QColor(217, 164, 65, 30));
    painter.drawRect(QRectF(bandFrom_, cursor_).normalized().intersected(QRectF(rowsRect())));
}

void ThreadSheet::paintCounts(QPainter& painter, const QRect& area) {
    const FrameRange& range = session_.shot().plate.range;
    const double cell = cellWidth();
    const int most = counts_.empty() ? 0 : *std::max_element(counts_.begin(), counts_.end());
    const double scale = (area.height() - 12.0) / std::max(2 * kTrackFloor, most);
    painter.setPen(theme::kDim);
    painter.drawText(QRect(14, area.top() + 2, kNames - 18, 16), Qt::AlignLeft | Qt::AlignVCenter, "Tracks a frame");
    const double bottom = area.bottom() - 1.0;
    for (std::size_t i = 0; i < counts_.size(); ++i) {
        const bool poor = counts_[i] < kTrackFloor && most > 0;
        const double height = std::max(poor ? 3.0 : 0.0, counts_[i] * scale);
        const double x = xOfFrame(range.first + int(i)) - cell / 2;
        painter.fillRect(QRectF(x, bottom - height, std::max(1.0, cell - (cell > 4 ? 1 : 0)), height),
                         poor ? theme::kCoral : QColor(0x4a, 0x53, 0x56));
    }
    if (most > 0) {
        const double y = bottom - kTrackFloor * scale;
        painter.setPen(QPen(theme::kBrass, 1, Qt::DotLine));
        painter.drawLine(QPointF(kNames, y), QPointF(width() - kRight, y));
        painter.setPen(theme::kBrass);
        painter.drawText(QRectF(14, std::min(y - 8, bottom - 15), kNames - 20, 16), Qt::AlignRight | Qt::AlignVCenter,
                         QString("floor %1").arg(kTrackFloor));
    }
}

void ThreadSheet::paintRuler(QPainter& painter, const QRect& area) {
    const PlateRef& plate = session_.shot().plate;
    painter.fillRect(area, theme::kPanel);
    const double perFrame = cellWidth();
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
        painter.drawText(QRectF(x - 30, area.top() + 2, 60, area.height() - 5), Qt::AlignCenter,
                         QString::number(frame));
    }
    if (session_.hasPlate())
        for (const int frame : session_.player.frames()->facts().missing)  // a gap: a filled block under the ruler
            painter.fillRect(
                QRectF(xOfFrame(frame) - std::max(1.0, perFrame / 2), area.bottom() - 5, std::max(2.0, perFrame), 5),
                theme::kCoral);
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
    painter.drawText(QRect(14, area.top(), kNames - 18, area.height()), Qt::AlignLeft | Qt::AlignVCenter,
                     QString("%1–%2").arg(range.first).arg(range.last));
}

void ThreadSheet::paintName(QPainter& painter, const Track& track, int y) const {
    const bool selected = session_.selection.contains(track.id);
    if (selected) painter.fillRect(QRect(0, y, width(), kRow), QColor(0x33, 0x2d, 0x20));
    painter.setPen(selected ? theme::kBrass : track.byHand ? theme::kText : theme::kDim);
    QString name = text(track.name);
    if (track.locked) name += " ·locked";
    if (track.hidden) name += " ·hidden";
    painter.drawText(QRect(14, y, kNames - 20, kRow), Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(name, Qt::ElideRight, kNames - 22));
    if (track.colour != 0) painter.fillRect(QRect(6, y + 4, 4, kRow - 8), QColor::fromRgb(track.colour));
}

void ThreadSheet::paintCells(QPainter& painter, const Track& track, int y) const {
    const double cell = cellWidth();
    const auto& samples = track.samples.vector();
    // A bridged frame was not seen: a thin line, no cell.
    const auto shade = [](const Sample& s) {
        return s.bridged ? -1 : s.aside ? -2 : int(std::lround(theme::badnessOfScore(s.score) * 12));
    };
    // Neighbouring cells of one shade are drawn at once; a row has few of them.
    for (std::size_t i = 0; i < samples.size();) {
        std::size_t end = i + 1;
        while (end < samples.size() && samples[end].frame == samples[end - 1].frame + 1 &&
               shade(samples[end]) == shade(samples[i]))
            ++end;
        const QColor colour = track.setAside ? QColor(0x30, 0x30, 0x30) : theme::fitColour(shade(samples[i]) / 12.0);
        const double x0 = xOfFrame(samples[i].frame) - cell / 2;
        const double x1 = xOfFrame(samples[end - 1].frame) + cell / 2;
        // Set aside on these frames alone: as dark as a track that is so whole.
        if (shade(samples[i]) == -2) painter.fillRect(QRectF(x0, y + 2, x1 - x0, kRow - 4), QColor(0x30, 0x30, 0x30));
        else if (shade(samples[i]) < 0) painter.fillRect(QRectF(x0, y + kRow / 2.0 - 0.5, x1 - x0, 1), theme::kSlate);
        else painter.fillRect(QRectF(x0, y + 2, x1 - x0, kRow - 4), colour);
        i = end;
    }
    const auto error = errors_.find(track.id);
    if (error == errors_.end() || error->second <= 1.0 || samples.empty() || track.setAside) return;
    painter.setPen(theme::kCoral);
    painter.drawText(QRectF(xOfFrame(samples.back().frame) - 52, y, 50, kRow), Qt::AlignRight | Qt::AlignVCenter,
                     QString("%1 px").arg(error->second, 0, 'f', 1));
}

/// A tie is a small bow.
void ThreadSheet::paintTies(QPainter& painter, const Track& track, int y) const {
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(Qt::NoPen);
    painter.setBrush(theme::kBrass);
    const double m = y + kRow / 2.0;
    for (const Sample& sample : track.samples) {
        if (!sample.tie) continue;
        const double x = xOfFrame(sample.frame);
        painter.drawPolygon(QPolygonF({{x, m}, {x - 4, m - 3.5}, {x - 4, m + 3.5}}));
        painter.drawPolygon(QPolygonF({{x, m}, {x + 4, m - 3.5}, {x + 4, m + 3.5}}));
    }
    painter.setRenderHint(QPainter::Antialiasing, false);
}

void ThreadSheet::paintRows(QPainter& painter, const QRect& area) {
    const Shot& shot = session_.shot();
    if (rows_.empty()) {
        painter.setPen(theme::kDim);
        painter.drawText(area, Qt::AlignCenter,
                         session_.isBusy() ? "Tracks appear here when the job is done"
                                           : "No tracks yet: scatter features, or place one by hand");
        return;
    }
    painter.save();
    painter.setClipRect(area);
    QFont small = font();
    small.setPixelSize(11);
    painter.setFont(small);
    const int first = scroll_ / kRow;
    const int last = std::min(int(rows_.size()) - 1, (scroll_ + area.height()) / kRow);
    for (int row = first; row <= last; ++row) {
        const Track& track = shot.tracks[rows_[std::size_t(row)]];
        const int y = area.top() + row * kRow - scroll_;
        paintName(painter, track, y);
        paintCells(painter, track, y);
        paintTies(painter, track, y);
    }
    const int total = int(rows_.size()) * kRow;
    if (total > area.height()) {
        const double share = double(area.height()) / total;
        painter.fillRect(QRectF(width() - 6, area.top() + scroll_ * share, 4, std::max(16.0, area.height() * share)),
                         QColor(0x50, 0x50, 0x50));
    }
    painter.restore();
}

void ThreadSheet::mousePressEvent(QMouseEvent* event) {
    if (!session_.shot().plate.isOpen() || event->button() != Qt::LeftButton) return;
    const double x = event->position().x();
    if (const auto strip = stripAt(event->position())) {
        const StripEvent at = onStrip(*strip, event->position(), event->modifiers());
        if (x < kNames) strips_[*strip]->click(at.y);
        else if (strips_[*strip]->press(at)) draggedStrip_ = strip;
        if (x < kNames || draggedStrip_) {
            refreshStrips();
            return;
        }
    }
    if (rowsRect().contains(event->position().toPoint()) && x < kNames) {
        const int row = int(event->position().y() - rowsRect().top() + scroll_) / kRow;
        if (row < int(rows_.size())) {
            const TrackId id = session_.shot().tracks[rows_[std::size_t(row)]].id;
            std::set<TrackId> selection;
            if (event->modifiers() & Qt::ControlModifier) selection = session_.selection.tracks();
            if (!selection.erase(id)) selection.insert(id);
            session_.selection.set(selection);
        }
        return;
    }
    if (rulerRect().contains(event->position().toPoint())) {
        const FrameRange& range = session_.shot().plate.range;
        const double cell = cellWidth();
        dragRange_ = range;
        if (std::abs(x - (xOfFrame(range.first) - cell / 2)) < 6) drag_ = Drag::first;
        else if (std::abs(x - (xOfFrame(range.last) + cell / 2)) < 6) drag_ = Drag::last;
        if (drag_ != Drag::none) return;
    }
    if (x >= kNames) {
        session_.player.setPlaying(false);
        if (rowsRect().contains(event->position().toPoint())) {
            // A press may become a rubber band; released at once it is a click on a track's frame.
            drag_ = Drag::band;
            bandFrom_ = cursor_ = event->position();
            marked_.reset();
            return;
        }
        drag_ = Drag::playhead;
        session_.player.goTo(frameAtX(x));
    }
}

void ThreadSheet::mouseMoveEvent(QMouseEvent* event) {
    const int frame = frameAtX(event->position().x());
    cursor_ = event->position();
    if (draggedStrip_) {
        strips_[*draggedStrip_]->drag(onStrip(*draggedStrip_, event->position(), event->modifiers()));
        update();
        return;
    }
    switch (drag_) {
        case Drag::band:
            update();
            break;
        case Drag::playhead:
            session_.player.goTo(frame);
            break;
        case Drag::first:
            dragRange_.first = std::min(frame, dragRange_.last);
            update();
            break;
        case Drag::last:
            dragRange_.last = std::max(frame, dragRange_.first);
            update();
            break;
        case Drag::none:
            setToolTip(whatIsAt(cursor_));
            break;
    }
}

void ThreadSheet::leaveEvent(QEvent*) { setToolTip({}); }

void ThreadSheet::mouseReleaseEvent(QMouseEvent* event) {
    if (draggedStrip_) {
        const std::size_t strip = *std::exchange(draggedStrip_, std::nullopt);
        strips_[strip]->release(onStrip(strip, event->position(), event->modifiers()));
        refreshStrips();
        return;
    }
    const Drag drag = drag_;
    drag_ = Drag::none;
    if (drag == Drag::band) {
        const QRectF band = QRectF(bandFrom_, event->position()).normalized();
        std::set<TrackId> chosen;
        if (event->modifiers() & Qt::ControlModifier) chosen = session_.selection.tracks();
        if (band.width() < 4 && band.height() < 4) {
            const int row = rowAt(bandFrom_.y());
            session_.player.goTo(frameAtX(bandFrom_.x()));
            if (row >= 0) chosen.insert(session_.shot().tracks[rows_[std::size_t(row)]].id);
        } else {
            const FrameRange frames{frameAtX(band.left()), frameAtX(band.right())};
            marked_ = frames;
            const int first = std::max(0, int(std::floor((band.top() - rowsRect().top() + scroll_) / kRow)));
            const int last =
                std::min(int(rows_.size()) - 1, int(std::floor((band.bottom() - rowsRect().top() + scroll_) / kRow)));
            for (int row = first; row <= last; ++row) {
                const Track& track = session_.shot().tracks[rows_[std::size_t(row)]];
                if (std::any_of(track.samples.begin(), track.samples.end(),
                                [&](const Sample& s) { return frames.holds(s.frame); }))
                    chosen.insert(track.id);
            }
            session_.say(QString("%1 tracks on the frames %2–%3. Cut these frames (Ctrl+Shift+X), keep only them "
                                 "(Ctrl+Shift+M), or set the tracks aside (X).")
                             .arg(chosen.size())
                             .arg(frames.first)
                             .arg(frames.last));
        }
        session_.selection.set(chosen);
        update();
        return;
    }
    if ((drag == Drag::first || drag == Drag::last) && !(dragRange_ == session_.shot().plate.range))
        session_.edit(QString("Range %1–%2").arg(dragRange_.first).arg(dragRange_.last),
                      withRange(session_.shot(), dragRange_));
    update();
}

void ThreadSheet::wheelEvent(QWheelEvent* event) {
    scroll_ -= event->angleDelta().y() / 2;
    clampScroll();
    update();
}

}  // namespace pinion
