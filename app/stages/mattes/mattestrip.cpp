#include "stages/mattes/mattestrip.h"

#include "sheet/threadsheet.h"
#include "shot/edits/matteedits.h"
#include "widgets/theme.h"

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kRow = 14;
constexpr std::size_t kMostRows = 5;
constexpr double kSquare = 7, kGrab = 6;

}  // namespace

std::size_t MatteStrip::rows() const { return std::min(session_.shot().mattes.size(), kMostRows); }

int MatteStrip::height() const { return shown && rows() > 0 ? int(rows()) * kRow + 2 : 0; }

std::size_t MatteStrip::firstRow() const {
    // Of many the held one is among those that are shown.
    const std::size_t count = session_.shot().mattes.size(), held = hand_.matte().value_or(0);
    return std::min(held >= rows() ? held - rows() + 1 : 0, count - rows());
}

std::optional<std::size_t> MatteStrip::matteAt(double y) const {
    const auto row = std::size_t(std::max(0.0, y) / kRow);
    if (row >= rows()) return std::nullopt;
    return firstRow() + row;
}

std::optional<int> MatteStrip::keyNear(const Matte& matte, int frame) const {
    std::optional<int> best;
    for (const Matte::Key& key : matte.keys)
        if (!best || std::abs(key.frame - frame) < std::abs(*best - frame)) best = key.frame;
    if (best && std::abs(*best - frame) * cell_ > std::max(kGrab, cell_ / 2)) best.reset();
    return best;
}

void MatteStrip::paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) {
    cell_ = sheet.cellWidth();
    const Shot& shot = session_.shot();
    for (std::size_t row = 0; row < rows(); ++row) {
        const std::size_t place = firstRow() + row;
        const Matte& matte = shot.mattes[place];
        const bool held = hand_.matte() == place;
        const int top = area.top() + int(row) * kRow;
        const double middle = top + kRow / 2.0;
        if (held) painter.fillRect(QRect(0, top, area.width(), kRow), theme::kRaised);
        painter.setPen(held ? theme::kText : theme::kDim);
        painter.drawText(QRect(14, top, ThreadSheet::kNames - 18, kRow), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(text(matte.name), Qt::ElideRight, ThreadSheet::kNames - 20));
        const QColor colour = QColor::fromRgb(matte.colour == 0 ? 0xD9A441 : matte.colour);
        // Where it counts: a line.
        const FrameRange& frames = shot.plate.frames;
        bool there = true;
        int since = frames.first;
        const auto line = [&](int to) {
            if (!there || to < since) return;
            QColor dim = colour;
            dim.setAlpha(110);
            painter.setPen(QPen(dim, 1.5));
            painter.drawLine(QPointF(sheet.xOfFrame(since) - cell_ / 2, middle),
                             QPointF(sheet.xOfFrame(to) + cell_ / 2, middle));
        };
        for (const Matte::Turn& turn : matte.turns) {
            line(turn.frame - 1);
            there = turn.there;
            since = turn.frame;
        }
        line(frames.last);
        const auto square = [&](int frame, bool ghost) {
            painter.setPen(QPen(ghost ? theme::kBrass : QColor(0x16, 0x16, 0x16), 1));
            painter.setBrush(ghost ? QBrush(Qt::NoBrush)
                                   : QBrush(frame == session_.player.frame() ? theme::kText : colour));
            painter.drawRect(QRectF(sheet.xOfFrame(frame) - kSquare / 2, middle - kSquare / 2, kSquare, kSquare));
        };
        painter.setRenderHint(QPainter::Antialiasing, false);
        for (const Matte::Key& key : matte.keys) square(key.frame, false);
        if (drag_ && drag_->matte == place && drag_->to != drag_->from) square(drag_->to, true);
    }
    painter.setPen(theme::kLine);
    painter.drawLine(area.left(), area.bottom(), area.right(), area.bottom());
}

QString MatteStrip::whatIsAt(const StripEvent& at) const {
    const auto place = matteAt(at.y);
    if (!place) return {};
    const Matte& matte = session_.shot().mattes[*place];
    const QString name = text(matte.name);
    if (const auto key = keyNear(matte, at.frame))
        return QString("%1, %2: keyframe. Drag it to another frame, with Ctrl to copy it.").arg(name).arg(*key);
    return QString("%1, %2: %3").arg(name).arg(at.frame).arg(isThere(matte, at.frame) ? "counts" : "does not count");
}

void MatteStrip::click(double y) {
    if (const auto place = matteAt(y)) hand_.hold(place);
}

bool MatteStrip::press(const StripEvent& at) {
    const auto place = matteAt(at.y);
    if (!place) return false;
    hand_.hold(place);
    const auto key = keyNear(session_.shot().mattes[*place], at.frame);
    if (!key) return false;
    session_.player.setPlaying(false);
    session_.player.goTo(*key);
    drag_ = Drag{*place, *key, *key, false};
    return true;
}

void MatteStrip::drag(const StripEvent& at) {
    if (!drag_) return;
    drag_->to = at.frame;
    drag_->copies = at.modifiers & Qt::ControlModifier;
}

void MatteStrip::release(const StripEvent& at) {
    drag(at);
    if (!drag_) return;
    const Drag dragged = *std::exchange(drag_, std::nullopt);
    if (dragged.to == dragged.from || !hand_.mayEdit()) return;
    session_.edit(QString(dragged.copies ? "Copy a keyframe to %1" : "Move a keyframe to %1").arg(dragged.to),
                  withMatteKeyMoved(session_.shot(), dragged.matte, dragged.from, dragged.to, dragged.copies));
    session_.player.goTo(dragged.to);
}

}  // namespace pinion
