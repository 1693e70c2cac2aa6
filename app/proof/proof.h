#pragma once

#include "session/livework.h"
#include "session/session.h"

#include <QImage>
#include <QWidget>

#include <map>
#include <vector>

class QToolButton;

namespace pinion {

/// The selected track's patch on chosen frames, held still in the track's own motion: a drift shows as a picture that
/// walks. A click goes to the frame, a drag corrects it (a tie), the difference to the reference shows what has
/// changed.
class ProofStrip : public QWidget {
    Q_OBJECT
public:
    explicit ProofStrip(Session& session, QWidget* parent = nullptr);

    /// The frames shown for the present track: here, the reference, even steps along it and the two worst.
    std::vector<int> frames() const { return order_; }
    /// Where the patch of the nth of them lies.
    QRect cellRect(std::size_t index) const;
    bool differenceShown() const { return difference_; }
    void setDifference(bool shown);

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

private:
    struct Patch {
        QImage image;        ///< null when the frame cannot be read
        Eigen::Vector2d at;  ///< where the track was when it was cut
    };
    const Track* track() const;
    std::vector<int> framesOf(const Track& track) const;
    void refresh();
    void request();
    void paintPatch(QPainter& painter, const Track& track, std::size_t index) const;
    void paintCaption(QPainter& painter, const Track& track, std::size_t index) const;
    QImage differenceOf(const QImage& patch) const;
    double marginPlate(const Track& track) const { return track.pattern_px * 1.1; }

    Session& session_;
    TrackId shown_ = 0;
    std::vector<int> order_;
    std::map<int, Patch> patches_;
    LiveWork work_;
    QTimer settle_;
    QToolButton* differenceButton_;
    bool difference_ = false;
    int draggedCell_ = -1;
    QPointF dragFrom_;
    Eigen::Vector2d draggedBy_{0, 0};  ///< of the picture, in pixels of the plate
};

}  // namespace pinion
