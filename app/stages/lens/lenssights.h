#pragma once

#include "canvas/sight.h"
#include "comp/bend.h"
#include "session/session.h"

#include <memory>
#include <optional>

namespace pinion {

/// Keeps what is made for the lens in force, and makes it anew when that changes.
class LensSights {
public:
    explicit LensSights(Session& session) : session_(session) {}

    const std::optional<Lens>& lens() const;
    bool isOfZoom() const;
    std::shared_ptr<const PlateBend> bend() const;
    std::shared_ptr<const Rendering> undistorted() const;
    std::shared_ptr<const Rendering> roundTrip() const;
    std::shared_ptr<const Rendering> difference() const;
    std::shared_ptr<const Rendering> residual() const;
    /// The overscan that the lens needs.
    PixelBox box() const;
    /// The same for all frames of a zoom.
    PixelBox widestBox() const;
    /// The box with the overscan that the card asks for.
    const Expected<PixelBox>& chosenBox() const;

private:
    void refresh() const;

    Session& session_;
    mutable std::optional<Lens> lens_;
    mutable BendFilter filter_ = BendFilter::bicubic;
    mutable PixelBox box_;
    mutable Overscan overscan_;
    mutable std::shared_ptr<const Solve> zoom_;
    mutable PixelBox zoomBox_;
    mutable Expected<PixelBox> chosenBox_;
    mutable std::shared_ptr<const PlateBend> bend_;
    mutable std::shared_ptr<const Rendering> undistorted_, roundTrip_, difference_, residual_;
};

/// The plate without its distortion, with the overscan that this needs.
class UndistortedSight : public Sight {
public:
    explicit UndistortedSight(const LensSights& sights) : sights_(sights) {}
    QString name() const override { return "undistorted"; }
    PlateWarp warpAt(int frame) const override;
    std::shared_ptr<const Rendering> rendering(int) const override { return sights_.undistorted(); }
    std::optional<QRectF> extent() const override;
    QString words(int frame) const override;

private:
    const LensSights& sights_;
};

/// The distortion taken out and put back, as a delivery would be; or how it differs from the plate.
class RoundTripSight : public Sight {
public:
    RoundTripSight(const LensSights& sights, bool difference) : sights_(sights), difference_(difference) {}
    QString name() const override { return difference_ ? "difference" : "round trip"; }
    PlateWarp warpAt(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int) const override {
        return difference_ ? sights_.difference() : sights_.roundTrip();
    }
    QString words(int frame) const override;

private:
    const LensSights& sights_;
    bool difference_;
};

/// How far each place of the plate comes back beside itself: shades, and numbers over them.
class ResidualSight : public Sight {
public:
    explicit ResidualSight(const LensSights& sights) : sights_(sights) {}
    QString name() const override { return "residual"; }
    PlateWarp warpAt(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int) const override { return sights_.residual(); }
    QString words(int frame) const override;
    void paint(QPainter& painter, const PlateView& view) const override;

private:
    const LensSights& sights_;
};

/// "left 43, top 24, right 43, bottom 24 px (7 % more)".
QString overscanWords(const PixelBox& box, int width, int height);

}  // namespace pinion
