#pragma once

#include <Eigen/Core>
#include <QPainterPath>
#include <QPointF>
#include <QRectF>
#include <QSizeF>
#include <QTransform>

#include <memory>
#include <optional>
#include <span>

namespace pinion {

struct Lens;

/// A lens, or a map, between the plate as filmed and the picture that is shown of it. Both in pixels.
class PlateBend {
public:
    virtual ~PlateBend() = default;
    /// None where no ray comes.
    virtual std::optional<Eigen::Vector2d> straightFromPlate(const Eigen::Vector2d& plate) const = 0;
    virtual std::optional<Eigen::Vector2d> plateFromStraight(const Eigen::Vector2d& straight) const = 0;
};

/// The plate without a lens's distortion.
std::shared_ptr<const PlateBend> bendOf(const Lens& lens);

/// How the plate lies in the picture that is shown: straightened by a lens first, then steadied, shaken or held on a
/// track. As it is, the bare plate.
struct PlateWarp {
    std::shared_ptr<const PlateBend> bend;
    Eigen::Matrix3d shownFromStraight = Eigen::Matrix3d::Identity();

    bool isBare() const { return !bend && shownFromStraight.isIdentity(1e-12); }
};

/// The one mapping between plate and screen: everything that is drawn on the plate, and every click on it, goes through
/// here. Places are stored on the plate as filmed; where no ray comes there is no answer.
class PlateView {
public:
    void setSizes(const QSizeF& screen, const QSizeF& plate);
    void fit();
    /// How wide a shown pixel is for its height: a squeezed plate is stretched for the eye.
    void setPixelAspect(double aspect);
    double pixelAspect() const { return aspect_; }
    /// What has to be seen when the view fits, in shown pixels; none: the plate's frame.
    void setExtent(const std::optional<QRectF>& extent);
    /// Zooms so that the place under `at` stays there.
    void zoomAt(const QPointF& at, double factor);
    void pan(const QPointF& by);

    void setWarp(const PlateWarp& warp);
    const PlateWarp& warp() const { return warp_; }

    std::optional<QPointF> screenFromPlate(const Eigen::Vector2d& plate) const;
    std::optional<Eigen::Vector2d> plateFromScreen(const QPointF& screen) const;
    /// The nearest place of the plate's frame, for what is dragged and must not leave it.
    std::optional<Eigen::Vector2d> withinPlate(const QPointF& screen) const;
    QPointF screenFromShown(const Eigen::Vector2d& shown) const;

    /// The line through places of the plate, as it appears: bent where the lens bends it, parted where no ray comes.
    QPainterPath line(std::span<const Eigen::Vector2d> places, bool closed = false) const;
    /// A rectangle of the plate about `middle`, `half` pixels to each side, as it appears.
    QPainterPath square(const Eigen::Vector2d& middle, double half) const;

    /// How pictures of `shownFromPicture` are painted.
    QTransform painted(const Eigen::Matrix3d& shownFromPicture, const QPointF& by = {}) const;
    /// The frame of the shown picture.
    QRectF frameOnScreen() const { return {offset_, QSizeF(plate_.width() * aspect_, plate_.height()) * zoom_}; }
    QSizeF plateSize() const { return plate_; }
    double zoom() const { return zoom_; }  ///< screen pixels for a pixel of the plate, downwards

private:
    QSizeF screen_;
    QSizeF plate_;
    QPointF offset_;
    double zoom_ = 1.0;
    double aspect_ = 1.0;
    std::optional<QRectF> extent_;
    bool fitted_ = true;
    PlateWarp warp_;
    Eigen::Matrix3d straightFromShown_ = Eigen::Matrix3d::Identity();
};

}  // namespace pinion
