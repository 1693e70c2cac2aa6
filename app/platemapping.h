#pragma once

#include <Eigen/Core>
#include <QPointF>
#include <QRectF>
#include <QSizeF>

#include <algorithm>

namespace pinion {

/// The one mapping between the picture and the screen: everything that is drawn on the plate, and every click on it, goes
/// through here.
class PlateMapping {
public:
    void setSizes(const QSizeF& screen, const QSizeF& plate) {
        screen_ = screen;
        plate_ = plate;
        if (fitted_) fit();
    }
    void fit() {
        fitted_ = true;
        if (plate_.isEmpty() || screen_.isEmpty()) return;
        zoom_ = std::min((screen_.width() - 24) / plate_.width(), (screen_.height() - 16) / plate_.height());
        zoom_ = std::max(zoom_, 0.02);
        offset_ = QPointF((screen_.width() - plate_.width() * zoom_) / 2, (screen_.height() - plate_.height() * zoom_) / 2);
    }
    /// Zooms so that the plate point under `at` stays there.
    void zoomAt(const QPointF& at, double factor) {
        const double zoom = std::clamp(zoom_ * factor, 0.05, 40.0);
        offset_ = at - (at - offset_) * (zoom / zoom_);
        zoom_ = zoom;
        fitted_ = false;
    }
    void pan(const QPointF& by) {
        offset_ += by;
        fitted_ = false;
    }
    void centreOn(const Eigen::Vector2d& plate, double zoom) {
        zoom_ = zoom;
        offset_ = QPointF(screen_.width() / 2 - plate.x() * zoom, screen_.height() / 2 - plate.y() * zoom);
        fitted_ = false;
    }
    QPointF screenFromPlate(const Eigen::Vector2d& p) const { return {p.x() * zoom_ + offset_.x(), p.y() * zoom_ + offset_.y()}; }
    Eigen::Vector2d plateFromScreen(const QPointF& s) const { return {(s.x() - offset_.x()) / zoom_, (s.y() - offset_.y()) / zoom_}; }
    QRectF plateOnScreen() const { return {offset_, plate_ * zoom_}; }
    double zoom() const { return zoom_; }

private:
    QSizeF screen_;
    QSizeF plate_;
    QPointF offset_;
    double zoom_ = 1.0;
    bool fitted_ = true;
};

}  // namespace pinion
