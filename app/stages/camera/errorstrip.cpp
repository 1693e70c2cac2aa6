#include "stages/camera/errorstrip.h"

#include "base/median.h"
#include "sheet/threadsheet.h"
#include "widgets/theme.h"

#include <algorithm>

namespace pinion {

int ErrorStrip::height() const { return looker_.isOpen() && looker_.look() ? 18 : 0; }

QString ErrorStrip::whatIsAt(const StripEvent& at) const {
    const SolveLook* look = looker_.look();
    const auto found = look ? look->byFrame.find(at.frame) : std::map<int, double>::const_iterator{};
    if (!look || found == look->byFrame.end()) return QString("%1: not solved").arg(at.frame);
    const SolvedFrame* frame = session_.shot().solve ? solvedFrameAt(*session_.shot().solve, at.frame) : nullptr;
    return QString("%1: error %2 px, %3 tracks")
        .arg(at.frame)
        .arg(found->second, 0, 'f', 2)
        .arg(frame ? frame->tracks : 0);
}

void ErrorStrip::paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) {
    const SolveLook* look = looker_.look();
    if (!look || look->byFrame.empty()) return;
    std::vector<double> all;
    for (const auto& [frame, error] : look->byFrame) all.push_back(error);
    const double usual = std::max(1e-6, median(all));
    const double most = std::max(2 * usual, *std::max_element(all.begin(), all.end()));
    const double cell = sheet.cellWidth(), high = area.height() - 2.0;
    painter.save();
    QFont small = sheet.font();
    small.setPixelSize(10);
    painter.setFont(small);
    painter.setPen(theme::kDim);
    painter.drawText(QRectF(14, area.top(), ThreadSheet::kNames - 20, high), Qt::AlignLeft | Qt::AlignVCenter,
                     QString("Error, to %1 px").arg(most, 0, 'f', 2));
    for (const auto& [frame, error] : look->byFrame) {
        const double tall = std::max(1.0, error / most * (high - 2));
        painter.fillRect(QRectF(sheet.xOfFrame(frame) - cell / 2, area.top() + high - 1 - tall,
                                std::max(1.0, cell - (cell > 4 ? 1 : 0)), tall),
                         error > 1.5 * usual ? theme::kSand : QColor(0x55, 0x60, 0x63));
    }
    painter.restore();
}

}  // namespace pinion
