#include "stages/camera/errorhistogram.h"

#include "shot/edits/trackedits.h"
#include "shot/stages/tracksstage.h"
#include "widgets/theme.h"

#include <QMouseEvent>
#include <QPainter>

#include <algorithm>
#include <cmath>
#include <set>

namespace pinion {
namespace {

constexpr int kBins = 36;
constexpr double kMost = 3.0;  // pixels; the last bin holds everything beyond
constexpr int kCaption = 46;

}  // namespace

ErrorHistogram::ErrorHistogram(Session& session, CameraStage& stage, QWidget* parent)
    : QWidget(parent), session_(session), stage_(stage) {
    setObjectName("errorHistogram");
    setFixedHeight(sizeHint().height());
    setCursor(Qt::SplitHCursor);
    setToolTip("Drag the line: tracks with a larger error would be set aside");
    setAccessibleName("Errors of the tracks");
    connect(&stage, &CameraStage::trimPreviewChanged, this, [this] { update(); });
    connect(&session.document, &Document::changed, this, [this] { update(); });
}

double ErrorHistogram::errorAtX(double x) const { return std::clamp(x / std::max(1, width()) * kMost, 0.05, kMost); }
double ErrorHistogram::xOfError(double error_px) const { return error_px / kMost * width(); }

void ErrorHistogram::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    const Shot& shot = session_.shot();
    if (!shot.solve) return;
    std::set<TrackId> active;
    for (const Track& track : shot.tracks)
        if (!track.setAside) active.insert(track.id);
    std::vector<int> bins(kBins, 0);
    for (const SolvedTrack& track : shot.solve->tracks)
        if (track.role != TrackRole::unplaced && active.contains(track.track))
            ++bins[std::size_t(std::min(kBins - 1, int(track.rms_px / kMost * kBins)))];
    const int most = std::max(1, *std::max_element(bins.begin(), bins.end()));
    const double bottom = height() - kCaption;
    const double line = stage_.trimPreview();
    painter.fillRect(QRectF(0, 0, width(), bottom), QColor(0x1b, 0x1b, 0x1b));
    for (int i = 0; i < kBins; ++i) {
        // Roots, so that the few bad ones are seen beside the many good.
        const double bar =
            bins[std::size_t(i)] > 0 ? std::max(2.0, std::sqrt(double(bins[std::size_t(i)]) / most) * (bottom - 4)) : 0;
        const double x0 = width() * double(i) / kBins;
        const double x1 = width() * double(i + 1) / kBins;
        const bool goes = line > 0 && (i + 0.5) / kBins * kMost > line;
        painter.fillRect(QRectF(x0 + 0.5, bottom - bar, x1 - x0 - 1, bar),
                         goes ? theme::kCoral : QColor(0x66, 0x74, 0x77));
    }
    const double at = xOfError(line > 0 ? line : 1.0);
    painter.setPen(QPen(line > 0 ? theme::kBrass : QColor(0x80, 0x70, 0x50), line > 0 ? 2 : 1,
                        line > 0 ? Qt::SolidLine : Qt::DashLine));
    painter.drawLine(QPointF(at, 0), QPointF(at, bottom));
    painter.setPen(theme::kDim);
    QFont small = font();
    small.setPixelSize(10);
    painter.setFont(small);
    for (int px = 0; px <= 3; ++px) {
        const double x = xOfError(px);
        painter.drawText(QRectF(std::clamp(x - 20, 0.0, width() - 40.0), bottom + 1, 40, 13),
                         px == 0   ? Qt::AlignLeft
                         : px == 3 ? Qt::AlignRight
                                   : Qt::AlignHCenter,
                         px == 3 ? "3 px +" : QString::number(px));
    }
    QString caption = "Drag the line to choose what goes";
    if (line > 0) {
        const auto above = stage_.tracksAbove(line);
        Shot after = withSetAside(shot, above, true);
        const auto counts = tracksPerFrame(after);
        const int fewest = counts.empty() ? 0 : *std::min_element(counts.begin(), counts.end());
        caption = QString("above %1 px: %2 of %3 go;\nfewest left in a frame: %4")
                      .arg(line, 0, 'f', 2)
                      .arg(above.size())
                      .arg(active.size())
                      .arg(fewest);
    }
    painter.drawText(QRectF(0, bottom + 16, width(), 30), Qt::AlignLeft | Qt::AlignTop, caption);
}

void ErrorHistogram::mousePressEvent(QMouseEvent* event) { stage_.setTrimPreview(errorAtX(event->position().x())); }

void ErrorHistogram::mouseMoveEvent(QMouseEvent* event) {
    if (event->buttons() & Qt::LeftButton) stage_.setTrimPreview(errorAtX(event->position().x()));
}

}  // namespace pinion
