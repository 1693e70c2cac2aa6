#pragma once

#include "workspace.h"

#include <QImage>
#include <QWidget>

#include <atomic>
#include <map>
#include <vector>

namespace pinion {

/// The selected track's patch on chosen frames, held still in the track's own motion: a drift shows as a picture that walks.
/// A click goes to the frame.
class ProofStrip : public QWidget {
    Q_OBJECT
public:
    explicit ProofStrip(Workspace& workspace, QWidget* parent = nullptr);

    /// The frames shown for the present track: here, the reference, even steps along it and the two worst.
    std::vector<int> frames() const { return order_; }

protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;

private:
    struct Patch {
        QImage image;
        Eigen::Vector2d at;  ///< where the track was when it was cut
    };
    const Track* track() const;
    void refresh();
    void request();
    QRect cellRect(std::size_t index) const;
    double marginPlate(const Track& track) const { return track.pattern_px * 1.1; }

    Workspace& workspace_;
    TrackId shown_ = 0;
    std::vector<int> order_;
    std::map<int, Patch> patches_;
    std::atomic<int> run_{0};
    QTimer settle_;
};

}  // namespace pinion
