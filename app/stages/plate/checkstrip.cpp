#include "stages/plate/checkstrip.h"

#include "sheet/threadsheet.h"
#include "widgets/theme.h"

#include <QStringList>

#include <algorithm>

namespace pinion {
namespace {

constexpr int kUnfolded = 46, kFolded = 15;

enum Row { sharpness, motion, brightness, noise, kRows };

bool concerns(PlateNote::Kind kind, int row) {
    switch (kind) {
        case PlateNote::Kind::blurred:
            return row == sharpness || row == motion;
        case PlateNote::Kind::soft:
            return row == sharpness;
        case PlateNote::Kind::fast:
            return row == motion;
        case PlateNote::Kind::jump:
            return row == brightness;
        case PlateNote::Kind::noisy:
            return row == noise;
        case PlateNote::Kind::cut:
        case PlateNote::Kind::damaged:
            return false;
    }
    return false;
}

}  // namespace

int CheckStrip::height() const { return !plate_.check() ? 0 : unfolded_ ? kUnfolded : kFolded; }

QString CheckStrip::whatIsAt(const StripEvent& at) const {
    const int frame = at.frame;
    const PlateCheck& check = *plate_.check();
    QStringList lines;
    for (const PlateNote& note : check.notes)
        if (frame >= note.first && frame <= note.last) lines << text(note.words);
    for (const FrameCheck& facts : check.frames)
        if (facts.frame == frame)
            lines.prepend(QString("%1: sharpness %2, motion %3 px, brightness %4, noise %5")
                              .arg(frame)
                              .arg(facts.sharpness, 0, 'f', 2)
                              .arg(facts.motion_px, 0, 'f', 1)
                              .arg(facts.brightness, 0, 'f', 0)
                              .arg(facts.noise, 0, 'f', 1));
    return lines.join("\n");
}

/// Folded, it is the sharpness, and glows wherever anything is spoken of.
bool CheckStrip::isSpokenOf(int frame, int row) const {
    const auto& notes = plate_.check()->notes;
    return std::any_of(notes.begin(), notes.end(), [&](const PlateNote& note) {
        if (frame < note.first || frame > note.last) return false;
        return unfolded_ ? concerns(note.kind, row) : note.kind != PlateNote::Kind::noisy;
    });
}

void CheckStrip::paintNames(QPainter& painter, const QRect& area, double high) const {
    const char* const names[kRows] = {"Sharpness", "Motion", "Brightness", "Noise"};
    painter.setPen(theme::kDim);
    for (int row = 0; row < (unfolded_ ? int(kRows) : 1); ++row)
        painter.drawText(QRectF(14, area.top() + row * high, ThreadSheet::kNames - 20, high),
                         Qt::AlignLeft | Qt::AlignVCenter, unfolded_ ? names[row] : "Plate check");
    painter.drawText(QRectF(2, area.top(), 12, high), Qt::AlignCenter, unfolded_ ? "−" : "+");
}

void CheckStrip::paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) {
    const PlateCheck& check = *plate_.check();
    const double cell = sheet.cellWidth();
    const int rows = unfolded_ ? int(kRows) : 1;
    const double high = (area.height() - 2.0) / rows;
    painter.save();
    QFont small = sheet.font();
    small.setPixelSize(10);
    painter.setFont(small);
    paintNames(painter, area, high);
    double mostMotion = 10, mostNoise = 4;
    for (const FrameCheck& frame : check.frames) {
        mostMotion = std::max(mostMotion, frame.motion_px);
        mostNoise = std::max(mostNoise, frame.noise);
    }
    for (const FrameCheck& frame : check.frames) {
        const double x = sheet.xOfFrame(frame.frame);
        const double shares[kRows] = {frame.sharpness, frame.motion_px / mostMotion, frame.brightness / 255,
                                      frame.noise / mostNoise};
        for (int row = 0; row < rows; ++row) {
            const double tall = std::clamp(shares[row], 0.0, 1.0) * (high - 2);
            painter.fillRect(QRectF(x - cell / 2, area.top() + (row + 1) * high - 1 - tall,
                                    std::max(1.0, cell - (cell > 4 ? 1 : 0)), tall),
                             isSpokenOf(frame.frame, row) ? theme::kSand : QColor(0x55, 0x60, 0x63));
        }
        if (frame.cut) {
            painter.setPen(QPen(theme::kCoral, 2));
            painter.drawLine(QPointF(x - cell / 2, area.top()), QPointF(x - cell / 2, area.bottom()));
        }
    }
    painter.restore();
}

}  // namespace pinion
