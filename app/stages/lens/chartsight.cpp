#include "stages/lens/chartsight.h"

#include "canvas/marks.h"
#include "canvas/plateview.h"
#include "plate/plate.h"

#include <QPainter>

#include <algorithm>
#include <mutex>

namespace pinion {
namespace {

/// The picture of a file, or a frame of a plate, whatever plate is open.
class ChartPicture : public Rendering {
public:
    ChartPicture(std::string path, std::optional<int> frame) : path_(std::move(path)), frame_(frame) {}
    QImage made(const Picture& plate, const ViewTransform& view) const override {
        std::call_once(once_, [this] { read(); });
        if (!picture_) {
            QImage none(plate.width, plate.height, QImage::Format_RGB32);
            none.fill(QColor(0x16, 0x16, 0x16));
            return none;
        }
        const std::vector<std::uint32_t> pixels = displayPixels(*picture_, view);
        return QImage(reinterpret_cast<const uchar*>(pixels.data()), picture_->width, picture_->height,
                      picture_->width * 4, QImage::Format_RGB32)
            .copy();
    }

private:
    void read() const {
        if (frame_) {
            if (const auto plate = Plate::open(path_))
                if (auto picture = (*plate)->read(*frame_)) picture_ = *picture;
        } else if (auto picture = readStill(path_)) {
            picture_ = *picture;
        }
    }

    std::string path_;
    std::optional<int> frame_;
    mutable std::once_flag once_;
    mutable PicturePtr picture_;
};

}  // namespace

const ChartView* ChartSight::view() const {
    const auto& views = session_.shot().lens.views;
    return stage_.chartView() < views.size() ? &views[stage_.chartView()] : nullptr;
}

std::shared_ptr<const Rendering> ChartSight::rendering(int) const {
    const ChartView* shown = view();
    if (!shown) return nullptr;
    if (!rendering_ || path_ != shown->path || frame_ != shown->frame) {
        path_ = shown->path;
        frame_ = shown->frame;
        rendering_ = std::make_shared<ChartPicture>(path_, frame_);
    }
    return rendering_;
}

bool ChartSight::isTroubled() const {
    const ChartView* shown = view();
    return shown && !shown->used;
}

QString ChartSight::words(int) const {
    const ChartView* shown = view();
    if (!shown) return "no picture of a chart was measured yet";
    const QString head = QString("chart %1 of %2 · %3 · ")
                             .arg(stage_.chartView() + 1)
                             .arg(session_.shot().lens.views.size())
                             .arg(QString::fromStdString(shown->name));
    if (shown->corners.empty()) return head + QString::fromStdString(shown->trouble);
    return head + QString("%1 corners, %2 px").arg(shown->corners.size()).arg(shown->rms_px, 0, 'f', 2) +
           (shown->used ? QString() : " · " + QString::fromStdString(shown->trouble));
}

void ChartSight::paint(QPainter& painter, const PlateView& plate) const {
    const ChartView* shown = view();
    if (!shown || shown->corners.empty()) return;
    const QColor colour = shown->used ? theme::kBrass : theme::kCoral;
    const auto columns = std::size_t(std::max(1, session_.shot().lens.chart.columns));
    painter.setBrush(Qt::NoBrush);
    overShadow(painter, colour, 1.0, [&] {
        for (std::size_t i = 0; i < shown->corners.size(); ++i) {
            const auto at = plate.screenFromPlate(shown->corners[i]);
            if (!at) continue;
            painter.drawLine(*at - QPointF(4, 4), *at + QPointF(4, 4));
            painter.drawLine(*at - QPointF(4, -4), *at + QPointF(4, -4));
            // Along the rows, so that a board that was read wrongly shows.
            const auto next = i + 1 < shown->corners.size() && (i + 1) % columns != 0
                                  ? plate.screenFromPlate(shown->corners[i + 1])
                                  : std::nullopt;
            if (next) painter.drawLine(*at, *next);
        }
    });
    if (const auto first = plate.screenFromPlate(shown->corners.front()))
        drawLabel(painter, *first + QPointF(8, -20), "first", colour);
}

}  // namespace pinion
