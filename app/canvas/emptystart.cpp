#include "canvas/emptystart.h"

#include "widgets/theme.h"

#include <QFileInfo>
#include <QPainter>
#include <QWidget>

#include <algorithm>

namespace pinion {
namespace {

constexpr int kMostRows = 6;

}  // namespace

EmptyStart::EmptyStart(const QStringList& recent) {
    for (const QString& path : recent)
        if (recent_.size() < kMostRows && QFileInfo::exists(path)) recent_ << path;
}

QString EmptyStart::at(const QPointF& place) const {
    const auto row =
        std::find_if(rows_.begin(), rows_.end(), [&](const auto& one) { return one.first.contains(place); });
    return row == rows_.end() ? QString() : row->second;
}

void EmptyStart::paint(QPainter& painter, const QWidget& canvas, const QPointF& cursor) {
    const QRect area = canvas.rect();
    QFont font = canvas.font();
    font.setPixelSize(17);
    font.setWeight(QFont::DemiBold);
    painter.setFont(font);
    painter.setPen(theme::kText);
    painter.drawText(area.adjusted(0, -22, 0, -22), Qt::AlignCenter, "Open a plate to begin");
    font.setPixelSize(13);
    font.setWeight(QFont::Normal);
    painter.setFont(font);
    painter.setPen(theme::kDim);
    painter.drawText(area.adjusted(0, 22, 0, 22), Qt::AlignCenter,
                     "Drop a video, a numbered sequence or a .pinion shot here, or press Ctrl+O");
    rows_.clear();
    double top = area.center().y() + 64;
    for (const QString& path : recent_) {
        if (top + 22 > area.height()) break;
        const QFileInfo file(path);
        const QString words = canvas.fontMetrics().elidedText(file.fileName() + "   " + file.path(), Qt::ElideMiddle,
                                                              std::max(200, area.width() - 120));
        const double wide = painter.fontMetrics().horizontalAdvance(words) + 24;
        const QRectF row(area.center().x() - wide / 2, top, wide, 22);
        const bool over = row.contains(cursor);
        if (over) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(QColor(255, 255, 255, 14));
            painter.drawRoundedRect(row, 4, 4);
        }
        painter.setPen(over ? theme::kText : theme::kDim);
        painter.drawText(row, Qt::AlignCenter, words);
        rows_.emplace_back(row, path);
        top += 24;
    }
}

}  // namespace pinion
