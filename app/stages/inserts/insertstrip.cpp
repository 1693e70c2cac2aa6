#include "stages/inserts/insertstrip.h"

#include "sheet/threadsheet.h"
#include "shot/edits/insertedits.h"
#include "widgets/theme.h"

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kRow = 16;
constexpr std::size_t kMostRows = 6;
constexpr double kStripGrab = 6, kKey = 7;

bool hasKey(const Insert& insert, int frame) {
    return std::any_of(insert.opacityKeys.begin(), insert.opacityKeys.end(),
                       [&](const OpacityKey& key) { return key.frame == frame; });
}

}  // namespace

std::size_t InsertStrip::rows() const { return std::min(session_.shot().inserts.size(), kMostRows); }

int InsertStrip::height() const { return shown && rows() > 0 ? int(rows()) * kRow + 2 : 0; }

const Insert* InsertStrip::insertAt(double y) const {
    const auto row = std::size_t(std::max(0.0, y) / kRow);
    const auto& inserts = session_.shot().inserts;
    // The topmost first, as in the card.
    return row < rows() ? &inserts[inserts.size() - 1 - row] : nullptr;
}

FrameRange InsertStrip::framesOf(const Insert& insert) const {
    return insert.frames.value_or(session_.shot().plate.frames);
}

InsertStrip::Part InsertStrip::partAt(const Insert& insert, int frame) const {
    if (hasKey(insert, frame)) return Part::key;
    const FrameRange frames = framesOf(insert);
    const auto near = [&](int other) { return std::abs(frame - other) * cell_ <= std::max(kStripGrab, cell_ / 2); };
    if (near(frames.first)) return Part::first;
    if (near(frames.last)) return Part::last;
    return frames.holds(frame) ? Part::all : Part::none;
}

Insert InsertStrip::dragged(const Insert& insert) const {
    Insert moved = insert;
    if (!drag_ || drag_->insert != insert.id || drag_->from == drag_->to) return moved;
    const int by = drag_->to - drag_->from;
    const FrameRange all = session_.shot().plate.frames;
    FrameRange frames = framesOf(insert);
    switch (drag_->part) {
        case Part::first:
            frames.first = std::clamp(frames.first + by, all.first, frames.last);
            moved.frames = frames;
            break;
        case Part::last:
            frames.last = std::clamp(frames.last + by, frames.first, all.last);
            moved.frames = frames;
            break;
        case Part::all:
            moved.time.start += by;
            if (insert.frames) {
                moved.frames->first = std::max(all.first, insert.frames->first + by);
                moved.frames->last = std::min(all.last, insert.frames->last + by);
                if (moved.frames->count() < 1) moved.frames = insert.frames;
            }
            break;
        case Part::key:
            moved.opacityKeys = insert.opacityKeys.edited([&](auto& keys) {
                const auto key =
                    std::find_if(keys.begin(), keys.end(), [&](auto& k) { return k.frame == drag_->from; });
                if (key == keys.end()) return;
                const OpacityKey there{drag_->to, key->opacity};
                std::erase_if(keys,
                              [&](const OpacityKey& k) { return k.frame == drag_->from || k.frame == drag_->to; });
                keys.insert(std::find_if(keys.begin(), keys.end(), [&](auto& k) { return k.frame > there.frame; }),
                            there);
            });
            break;
        case Part::none:
            break;
    }
    return moved;
}

void InsertStrip::paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) {
    cell_ = sheet.cellWidth();
    const Shot& shot = session_.shot();
    const int left = area.left() + ThreadSheet::kNames;
    for (std::size_t row = 0; row < rows(); ++row) {
        const Insert insert = dragged(shot.inserts[shot.inserts.size() - 1 - row]);
        const bool held = hand_.insert() == insert.id;
        const int top = area.top() + int(row) * kRow;
        if (held) painter.fillRect(QRect(0, top, area.width(), kRow), theme::kRaised);
        painter.setPen(held ? theme::kText : theme::kDim);
        painter.drawText(QRect(14, top, ThreadSheet::kNames - 18, kRow), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(text(insert.name), Qt::ElideRight, ThreadSheet::kNames - 20));
        painter.save();
        painter.setClipRect(QRect(left, area.top(), area.right() - left, area.height()));
        const auto x = [&](double frame) { return sheet.xOfFrame(frame); };
        const FrameRange frames = framesOf(insert);
        const Clip* clip = insert.shows == Insert::Shows::clip ? findClip(shot, insert.clip) : nullptr;
        const auto* part = hand_.partOf(insert.id);
        const double opacityHeight = kRow - 7;
        for (int frame = frames.first; frame <= frames.last; ++frame) {
            const bool lost =
                part && part->surface &&
                std::binary_search(part->surface->missing().begin(), part->surface->missing().end(), frame);
            const bool shows = !clip || clipFrameAt(insert.time, *clip, frame, shot.plate.fps);
            const double opacity = opacityAt(insert, frame);
            QColor colour = lost ? theme::kSand : theme::kSlate;
            if (insert.hidden || !shows || (lost && insert.lost == Insert::Lost::ends)) colour.setAlpha(60);
            const double high = std::max(1.5, opacityHeight * opacity);
            painter.fillRect(QRectF(x(frame - 0.5), top + kRow - 3 - high, cell_ + 0.5, high), colour);
        }
        // Where a clip's own frames end and it holds or loops.
        if (clip && !clip->still) {
            painter.setPen(QPen(theme::kText, 1));
            for (const int at :
                 {insert.time.start, insert.time.start + shownFrames(insert.time, *clip, shot.plate.fps)})
                if (at > frames.first && at <= frames.last)
                    painter.drawLine(QPointF(x(at - 0.5), top + 1), QPointF(x(at - 0.5), top + kRow - 3));
        }
        painter.setPen(QPen(held ? theme::kBrass : theme::kDim, 1.5));
        for (const double end : {x(frames.first - 0.5), x(frames.last + 0.5)})
            painter.drawLine(QPointF(end, top + 2), QPointF(end, top + kRow - 3));
        for (const OpacityKey& key : insert.opacityKeys) {
            painter.setPen(QPen(QColor(0x16, 0x16, 0x16), 1));
            painter.setBrush(key.frame == session_.player.frame() ? theme::kText : theme::kBrass);
            painter.drawRect(QRectF(x(key.frame) - kKey / 2, top + (kRow - kKey) / 2, kKey, kKey));
        }
        painter.restore();
    }
    painter.setPen(theme::kLine);
    painter.drawLine(area.left(), area.bottom(), area.right(), area.bottom());
}

QString InsertStrip::whatIsAt(const StripEvent& at) const {
    const Insert* insert = insertAt(at.y);
    if (!insert) return {};
    const QString name = text(insert->name);
    switch (partAt(*insert, at.frame)) {
        case Part::key:
            return QString("%1, %2: opacity %3 %. Drag it to another frame.")
                .arg(name)
                .arg(at.frame)
                .arg(100 * opacityAt(*insert, at.frame), 0, 'f', 0);
        case Part::first:
        case Part::last:
            return name + ": drag this end to trim it.";
        case Part::none:
            return QString("%1, %2: not there").arg(name).arg(at.frame);
        case Part::all:
            break;
    }
    const Clip* clip = insert->shows == Insert::Shows::clip ? findClip(session_.shot(), insert->clip) : nullptr;
    QString words = QString("%1, %2").arg(name).arg(at.frame);
    if (clip && !clip->still) {
        const auto own = clipFrameAt(insert->time, *clip, at.frame, session_.shot().plate.fps);
        words += own ? QString(": frame %1 of its clip").arg(*own) : QString(": its clip is not there");
        words += ". Drag to move it in time.";
    }
    return words;
}

void InsertStrip::click(double y) {
    if (const Insert* insert = insertAt(y)) hand_.hold(insert->id);
}

bool InsertStrip::press(const StripEvent& at) {
    const Insert* insert = insertAt(at.y);
    if (!insert || session_.isBusy()) return false;
    hand_.hold(insert->id);
    const Part part = partAt(*insert, at.frame);
    const Clip* clip = insert->shows == Insert::Shows::clip ? findClip(session_.shot(), insert->clip) : nullptr;
    // What has nothing to be moved in time leaves the press to the playhead.
    if (part == Part::none || (part == Part::all && (!clip || clip->still) && !insert->frames)) return false;
    drag_ = Drag{insert->id, part, at.frame, at.frame};
    if (part == Part::key) session_.player.goTo(at.frame);
    return true;
}

void InsertStrip::drag(const StripEvent& at) {
    if (drag_) drag_->to = at.frame;
}

void InsertStrip::release(const StripEvent& at) {
    drag(at);
    if (!drag_) return;
    const Insert* insert = findInsert(session_.shot(), drag_->insert);
    if (!insert || drag_->from == drag_->to) {
        // Pressed and not dragged: the playhead goes there.
        if (insert) session_.player.goTo(at.frame);
        drag_.reset();
        return;
    }
    const Insert moved = dragged(*insert);
    const Drag done = *std::exchange(drag_, std::nullopt);
    const QString what = done.part == Part::all   ? "Move in time: "
                         : done.part == Part::key ? "Move an opacity key: "
                                                  : "Trim ";
    session_.edit(what + text(insert->name),
                  withInsertEdited(session_.shot(), done.insert, [&](Insert& i) { i = moved; }));
}

}  // namespace pinion
