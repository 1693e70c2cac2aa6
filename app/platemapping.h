#pragma once

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <Eigen/LU>
#include <QPointF>
#include <QRectF>
#include <QSizeF>
#include <QTransform>

#include <algorithm>

namespace pinion {

/// The one mapping between the picture and the screen: everything that is drawn on the plate, and every click on it,
/// goes through here.
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
        offset_ =
            QPointF((screen_.width() - plate_.width() * zoom_) / 2, (screen_.height() - plate_.height() * zoom_) / 2);
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
        const Eigen::Vector2d shown = (shownFromPlate_ * plate.homogeneous()).hnormalized();
        offset_ = QPointF(screen_.width() / 2 - shown.x() * zoom, screen_.height() / 2 - shown.y() * zoom);
        fitted_ = false;
    }
    /// How the plate lies in the picture that is shown: steadied, shaken, or held on a track. The identity for the bare
    /// plate.
    void setShown(const Eigen::Matrix3d& shownFromPlate) {
        shownFromPlate_ = shownFromPlate;
        plateFromShown_ = shownFromPlate.inverse();
    }
    const Eigen::Matrix3d& shownFromPlate() const { return shownFromPlate_; }
    QPointF screenFromPlate(const Eigen::Vector2d& p) const {
        return screenFromShown((shownFromPlate_ * p.homogeneous()).hnormalized());
    }
    Eigen::Vector2d plateFromScreen(const QPointF& s) const {
        return (plateFromShown_ * Eigen::Vector3d((s.x() - offset_.x()) / zoom_, (s.y() - offset_.y()) / zoom_, 1))
            .hnormalized();
    }
    QPointF screenFromShown(const Eigen::Vector2d& p) const {
        return {p.x() * zoom_ + offset_.x(), p.y() * zoom_ + offset_.y()};
    }
    /// The whole way as Qt has it, for painting the picture.
    static QTransform painted(const Eigen::Matrix3d& m, double zoom, const QPointF& offset) {
        return QTransform(m(0, 0), m(1, 0), m(2, 0), m(0, 1), m(1, 1), m(2, 1), m(0, 2), m(1, 2), m(2, 2)) *
               QTransform(zoom, 0, 0, zoom, offset.x(), offset.y());
    }
    QPointF offset() const { return offset_; }
    /// The frame of the shown picture.
    QRectF frameOnScreen() const { return {offset_, plate_ * zoom_}; }
    double zoom() const { return zoom_; }

private:
    QSizeF screen_;
    QSizeF plate_;
    QPointF offset_;
    double zoom_ = 1.0;
    bool fitted_ = true;
    Eigen::Matrix3d shownFromPlate_ = Eigen::Matrix3d::Identity();
    Eigen::Matrix3d plateFromShown_ = Eigen::Matrix3d::Identity();
};

}  // namespace pinion
