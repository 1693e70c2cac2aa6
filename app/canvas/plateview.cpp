#include "canvas/plateview.h"

#include "lens/lens.h"

#include <Eigen/Geometry>
#include <Eigen/LU>

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kPiece = 24.0;   // pixels of the plate that a straight piece of a bent line spans
constexpr int kMostPieces = 400;  // of one line between two places
constexpr double kNowhere = 1e6;  // pixels of the screen; Qt's painting breaks down beyond

class LensBend : public PlateBend {
public:
    explicit LensBend(const Lens& lens) : lens_(lens) {}
    std::optional<Vector2d> straightFromPlate(const Vector2d& plate) const override {
        return undistortedFromPlate(lens_, plate);
    }
    std::optional<Vector2d> plateFromStraight(const Vector2d& straight) const override {
        return plateFromUndistorted(lens_, straight);
    }

private:
    Lens lens_;
};

/// None on and behind the horizon of the homography.
std::optional<Vector2d> mapped(const Eigen::Matrix3d& m, const Vector2d& p) {
    const Eigen::Vector3d h = m * p.homogeneous();
    if (!(h.z() > 1e-9 * std::abs(m(2, 2)))) return std::nullopt;
    return h.hnormalized();
}

}  // namespace

std::shared_ptr<const PlateBend> bendOf(const Lens& lens) { return std::make_shared<const LensBend>(lens); }

void PlateView::setSizes(const QSizeF& screen, const QSizeF& plate) {
    screen_ = screen;
    plate_ = plate;
    if (fitted_) fit();
}

void PlateView::fit() {
    fitted_ = true;
    if (plate_.isEmpty() || screen_.isEmpty()) return;
    const QRectF seen = extent_.value_or(QRectF(QPointF(0, 0), plate_));
    zoom_ = std::min((screen_.width() - 24) / (seen.width() * aspect_), (screen_.height() - 16) / seen.height());
    zoom_ = std::max(zoom_, 0.02);
    const QPointF middle = seen.center() * zoom_;
    offset_ = QPointF(screen_.width() / 2 - middle.x() * aspect_, screen_.height() / 2 - middle.y());
}

void PlateView::setPixelAspect(double aspect) {
    if (aspect == aspect_) return;
    // What is in the middle of the screen stays there.
    const double middle = (screen_.width() / 2 - offset_.x()) / aspect_;
    aspect_ = aspect;
    if (fitted_) fit();
    else offset_.rx() = screen_.width() / 2 - middle * aspect_;
}

void PlateView::setExtent(const std::optional<QRectF>& extent) {
    if (extent == extent_) return;
    extent_ = extent;
    if (fitted_) fit();
}

void PlateView::zoomAt(const QPointF& at, double factor) {
    const double zoom = std::clamp(zoom_ * factor, 0.05, 40.0);
    offset_ = at - (at - offset_) * (zoom / zoom_);
    zoom_ = zoom;
    fitted_ = false;
}

void PlateView::pan(const QPointF& by) {
    offset_ += by;
    fitted_ = false;
}

void PlateView::setWarp(const PlateWarp& warp) {
    warp_ = warp;
    straightFromShown_ = warp.shownFromStraight.inverse();
}

QPointF PlateView::screenFromShown(const Vector2d& p) const {
    return {p.x() * zoom_ * aspect_ + offset_.x(), p.y() * zoom_ + offset_.y()};
}

std::optional<QPointF> PlateView::screenFromPlate(const Vector2d& plate) const {
    const auto straight = warp_.bend ? warp_.bend->straightFromPlate(plate) : plate;
    if (!straight) return std::nullopt;
    const auto shown = mapped(warp_.shownFromStraight, *straight);
    if (!shown) return std::nullopt;
    const QPointF screen = screenFromShown(*shown);
    if (!(std::abs(screen.x()) < kNowhere && std::abs(screen.y()) < kNowhere)) return std::nullopt;
    return screen;
}

std::optional<Vector2d> PlateView::plateFromScreen(const QPointF& screen) const {
    const Vector2d shown((screen.x() - offset_.x()) / (zoom_ * aspect_), (screen.y() - offset_.y()) / zoom_);
    const auto straight = mapped(straightFromShown_, shown);
    if (!straight) return std::nullopt;
    return warp_.bend ? warp_.bend->plateFromStraight(*straight) : straight;
}

std::optional<Vector2d> PlateView::withinPlate(const QPointF& screen) const {
    const auto plate = plateFromScreen(screen);
    if (!plate) return std::nullopt;
    return plate->cwiseMax(Vector2d(0, 0)).cwiseMin(Vector2d(plate_.width(), plate_.height())).eval();
}

QPainterPath PlateView::line(std::span<const Vector2d> places, bool closed) const {
    QPainterPath path;
    bool open = false;
    const auto add = [&](const Vector2d& place) {
        const auto at = screenFromPlate(place);
        if (at) open ? path.lineTo(*at) : path.moveTo(*at);
        open = at.has_value();
    };
    const std::size_t count = places.size();
    for (std::size_t i = 0; i < count + (closed && count > 2 ? 1 : 0); ++i) {
        const Vector2d& to = places[i % count];
        if (i > 0 && warp_.bend) {
            const Vector2d& from = places[i - 1];
            const int pieces = std::clamp(int((to - from).norm() / kPiece), 1, kMostPieces);
            for (int k = 1; k < pieces; ++k) add(from + (to - from) * k / pieces);
        }
        add(to);
    }
    return path;
}

QPainterPath PlateView::square(const Vector2d& middle, double half) const {
    const std::array<Vector2d, 4> corners{middle + Vector2d(-half, -half), middle + Vector2d(half, -half),
                                          middle + Vector2d(half, half), middle + Vector2d(-half, half)};
    return line(corners, true);
}

QTransform PlateView::painted(const Eigen::Matrix3d& m, const QPointF& by) const {
    return QTransform(m(0, 0), m(1, 0), m(2, 0), m(0, 1), m(1, 1), m(2, 1), m(0, 2), m(1, 2), m(2, 2)) *
           QTransform(zoom_ * aspect_, 0, 0, zoom_, offset_.x() + by.x(), offset_.y() + by.y());
}

}  // namespace pinion
