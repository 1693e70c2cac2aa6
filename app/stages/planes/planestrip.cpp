#include "stages/planes/planestrip.h"

#include "sheet/threadsheet.h"
#include "shot/stages/planesstage.h"
#include "widgets/theme.h"

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

constexpr int kRow = 18;
constexpr std::size_t kMostRows = 4;

double badnessOf(const PlaneSample& sample) {
    return std::clamp(double(1 - sample.fit) / (2 * (1 - double(kGoodFit))), 0.0, 1.0);
}

}  // namespace

std::size_t PlaneStrip::rows() const { return std::min(session_.shot().planes.size(), kMostRows); }

int PlaneStrip::height() const { return shown && rows() > 0 ? int(rows()) * kRow + 2 : 0; }

const PlanarTrack* PlaneStrip::planeAt(double y) const {
    const auto row = std::size_t(std::max(0.0, y) / kRow);
    return row < rows() ? &session_.shot().planes[row] : nullptr;
}

void PlaneStrip::paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) {
    const double cell = sheet.cellWidth();
    for (std::size_t row = 0; row < rows(); ++row) {
        const PlanarTrack& plane = session_.shot().planes[row];
        const bool held = hand_.plane() == plane.id;
        const int top = area.top() + int(row) * kRow;
        if (held) painter.fillRect(QRect(0, top, area.width(), kRow), theme::kRaised);
        painter.setPen(held ? theme::kText : theme::kDim);
        painter.drawText(QRect(14, top, ThreadSheet::kNames - 18, kRow), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(text(plane.name), Qt::ElideRight, ThreadSheet::kNames - 20));
        constexpr double kMost = kRow - 6;
        for (const PlaneSample& sample : plane.samples) {
            const double x = sheet.xOfFrame(sample.frame) - cell / 2, high = std::max(1.5, kMost * double(sample.seen));
            QColor colour = theme::fitColour(badnessOf(sample));
            painter.fillRect(QRectF(x, top + kRow - 3 - high, std::max(1.0, cell - (cell > 4 ? 1 : 0)), high), colour);
            if (sample.renewed || sample.anew) {
                painter.setPen(QPen(theme::kText, 1));
                painter.drawLine(QPointF(x + cell / 2, top + 1), QPointF(x + cell / 2, top + kRow - 3));
            }
        }
        painter.setRenderHint(QPainter::Antialiasing);
        // The reference, a diamond; ties, small bows.
        const auto mark = [&](int frame, bool bow) {
            const QPointF c(sheet.xOfFrame(frame), top + kRow / 2.0);
            QPolygonF shape;
            if (bow) shape << c + QPointF(-4, -3) << c + QPointF(4, 3) << c + QPointF(4, -3) << c + QPointF(-4, 3);
            else shape << c + QPointF(0, -4.5) << c + QPointF(4.5, 0) << c + QPointF(0, 4.5) << c + QPointF(-4.5, 0);
            painter.setPen(QPen(QColor(0x16, 0x16, 0x16), 1));
            painter.setBrush(bow ? theme::kBrass : theme::kText);
            painter.drawPolygon(shape);
        };
        mark(plane.referenceFrame, false);
        for (const PlaneTie& tie : plane.ties) mark(tie.frame, true);
        painter.setRenderHint(QPainter::Antialiasing, false);
    }
    painter.setPen(theme::kLine);
    painter.drawLine(area.left(), area.bottom(), area.right(), area.bottom());
}

QString PlaneStrip::whatIsAt(const StripEvent& at) const {
    const PlanarTrack* plane = planeAt(at.y);
    if (!plane) return {};
    QString words = QString("%1, %2").arg(text(plane->name)).arg(at.frame);
    if (at.frame == plane->referenceFrame) words += ": its reference frame";
    const PlaneSample* sample = sampleAt(*plane, at.frame);
    if (!sample) return words + (at.frame == plane->referenceFrame ? "" : ": not tracked here");
    words += QString(": %1 % seen, fit %2, ± %3 px")
                 .arg(double(sample->seen) * 100, 0, 'f', 0)
                 .arg(double(sample->fit), 0, 'f', 3)
                 .arg(double(sample->deviation_px), 0, 'f', 2);
    if (sample->renewed) words += "; its look was taken anew here";
    if (sample->anew) words += "; tracked anew from a correction";
    for (const PlaneTie& tie : plane->ties)
        if (tie.frame == at.frame) words += "; its surface was placed here";
    return words;
}

void PlaneStrip::click(double y) {
    if (const PlanarTrack* plane = planeAt(y)) hand_.hold(plane->id);
}

}  // namespace pinion
