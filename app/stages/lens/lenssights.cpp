#include "stages/lens/lenssights.h"

#include "canvas/marks.h"
#include "base/parallel.h"
#include "shot/stages/lensstage.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <mutex>

namespace pinion {
namespace {

QImage imageOf(std::unique_ptr<std::uint32_t[]> pixels, int width, int height, QImage::Format format) {
    std::uint32_t* held = pixels.release();
    return {reinterpret_cast<const uchar*>(held),
            width,
            height,
            width * 4,
            format,
            [](void* gone) { delete[] static_cast<std::uint32_t*>(gone); },
            held};
}

/// Bilinear, through tables that are made once, with the first picture.
class UndistortedPicture : public Rendering {
public:
    UndistortedPicture(const Lens& lens, const PixelBox& box) : lens_(lens), box_(box) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        std::call_once(once_, [this] { table_ = DisplayBend(undistorting(lens_, box_), lens_.width, lens_.height); });
        if (picture.width != lens_.width || picture.height != lens_.height) return {};
        return imageOf(table_.bent(displayPixels(picture, view)), box_.width(), box_.height(),
                       QImage::Format_ARGB32_Premultiplied);
    }
    QPointF corner() const override { return QPointF(box_.x0, box_.y0); }

private:
    Lens lens_;
    PixelBox box_;
    mutable std::once_flag once_;
    mutable DisplayBend table_;
};

/// What the places of the plate lose on the round trip.
struct Residual {
    explicit Residual(std::vector<float> pixels) : error(std::move(pixels)) {
        std::size_t lost = 0;
        for (const float one : error) {
            if (std::isnan(one)) ++lost;
            else worst_px = std::max(worst_px, double(one));
        }
        lostShare = double(lost) / double(std::max<std::size_t>(1, error.size()));
    }
    std::vector<float> error;  ///< of each pixel; NaN: it does not come back
    double worst_px = 0;
    double lostShare = 0;
};

/// So many that two of them tell something.
int digitsFor(double px) { return px > 0 ? std::clamp(2 - int(std::floor(std::log10(px))), 2, 7) - 1 : 2; }

QString lossWords(double share) {
    return share > 5e-5 ? QString(" · %1 % of the plate is lost").arg(100 * share, 0, 'f', share < 0.01 ? 2 : 1)
                        : QString();
}

/// How far each pixel comes back beside itself, in shades up to the worst; what is lost is hatched.
class ResidualPicture : public Rendering {
public:
    ResidualPicture(const Lens& lens, const PixelBox& box) : lens_(lens), box_(box) {}
    QImage made(const Picture& picture, const ViewTransform&) const override {
        if (picture.width != lens_.width || picture.height != lens_.height) return {};
        const Residual& residual = *measured();
        auto pixels = std::make_unique_for_overwrite<std::uint32_t[]>(residual.error.size());
        const double scale = residual.worst_px > 0 ? 255 / residual.worst_px : 0;
        for (std::size_t i = 0; i < residual.error.size(); ++i) {
            const auto column = i % std::size_t(picture.width), row = i / std::size_t(picture.width);
            const float one = residual.error[i];
            const auto grey = std::isnan(one) ? 0U : std::uint32_t(std::min(255.0, one * scale));
            pixels[i] = std::isnan(one) ? ((column + row) / 6 % 2 ? 0xFF8A4A38U : 0xFF2A1A16U)
                                        : 0xFF000000U | grey << 16 | grey << 8 | grey;
        }
        return imageOf(std::move(pixels), picture.width, picture.height, QImage::Format_RGB32);
    }
    /// Null until a picture was made.
    const Residual* known() const { return isKnown_ ? residual_.get() : nullptr; }

private:
    const Residual* measured() const {
        std::call_once(once_, [this] {
            residual_ =
                std::make_unique<Residual>(roundTripError(undistorting(lens_, box_), redistorting(lens_, box_)));
            isKnown_ = true;
        });
        return residual_.get();
    }

    Lens lens_;
    PixelBox box_;
    mutable std::once_flag once_;
    mutable std::unique_ptr<const Residual> residual_;
    mutable std::atomic<bool> isKnown_{false};
};

/// Out and back in with the filter of the deliveries; as it comes out, or its difference from the plate.
class RoundTripPicture : public Rendering {
public:
    RoundTripPicture(const Lens& lens, const PixelBox& box, BendFilter filter, bool difference)
        : lens_(lens), box_(box), filter_(filter), difference_(difference) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        std::call_once(once_, [this] {
            out_ = undistorting(lens_, box_);
            back_ = redistorting(lens_, box_);
            const Residual residual(roundTripError(out_, back_));
            worst_px_ = residual.worst_px;
            lostShare_ = residual.lostShare;
        });
        if (picture.width != lens_.width || picture.height != lens_.height) return {};
        const Picture returned = bent(bent(picture, out_, filter_), back_, filter_);
        std::vector<std::uint32_t> pixels = displayPixels(returned, view);
        const std::vector<std::uint32_t> plate = displayPixels(picture, view);
        decibels_ = likeness(plate, pixels);
        if (difference_) differ(plate, pixels);
        auto held = std::make_unique_for_overwrite<std::uint32_t[]>(pixels.size());
        std::copy(pixels.begin(), pixels.end(), held.get());
        return imageOf(std::move(held), picture.width, picture.height, QImage::Format_RGB32);
    }

    /// What is known once a picture was made: how alike plate and picture are, and how far a place comes back beside
    /// itself through the tables that a delivery reads by.
    QString words() const {
        if (decibels_ <= 0) return {};
        return QString(" · %1 dB · places return within %2 px")
                   .arg(decibels_, 0, 'f', 1)
                   .arg(worst_px_, 0, 'f', digitsFor(worst_px_)) +
               lossWords(lostShare_);
    }

private:
    static constexpr int kGain = 8;  // of the difference

    /// Peak signal to noise over all three colours.
    static double likeness(const std::vector<std::uint32_t>& plate, const std::vector<std::uint32_t>& shown) {
        double squares = 0;
        for (std::size_t i = 0; i < shown.size(); ++i)
            for (const int shift : {0, 8, 16}) {
                const int apart = int((plate[i] >> shift) & 0xFF) - int((shown[i] >> shift) & 0xFF);
                squares += apart * apart;
            }
        return 10 * std::log10(255.0 * 255.0 / std::max(1e-9, squares / double(3 * shown.size())));
    }
    static void differ(const std::vector<std::uint32_t>& plate, std::vector<std::uint32_t>& shown) {
        for (std::size_t i = 0; i < shown.size(); ++i) {
            int most = 0;
            for (const int shift : {0, 8, 16})
                most = std::max(most, std::abs(int((plate[i] >> shift) & 0xFF) - int((shown[i] >> shift) & 0xFF)));
            const auto grey = std::uint32_t(std::min(255, kGain * most));
            shown[i] = 0xFF000000U | grey << 16 | grey << 8 | grey;
        }
    }

    Lens lens_;
    PixelBox box_;
    BendFilter filter_;
    bool difference_;
    mutable std::once_flag once_;
    mutable LookUp out_, back_;
    mutable std::atomic<double> worst_px_{0}, lostShare_{0}, decibels_{0};
};

constexpr const char* kNoLens = "there is no lens yet: draw lines in the Lens card, or solve the camera";

}  // namespace

QString overscanWords(const PixelBox& box, int width, int height) {
    const double more = 100.0 * (double(box.width()) * box.height() / (double(width) * height) - 1);
    return QString("left %1, top %2, right %3, bottom %4 px (%5 % more)")
        .arg(-box.x0)
        .arg(-box.y0)
        .arg(box.x1 - width)
        .arg(box.y1 - height)
        .arg(more, 0, 'f', 1);
}

void LensSights::refresh() const {
    const Shot& shot = session_.shot();
    const auto lens = lensInForce(shot, session_.player.frame());
    const Overscan& overscan = shot.lens.overscan;
    if (lens == lens_ && shot.lens.filter == filter_ && overscan == overscan_) return;
    lens_ = lens;
    filter_ = shot.lens.filter;
    overscan_ = overscan;
    bend_.reset();
    undistorted_.reset();
    roundTrip_.reset();
    difference_.reset();
    residual_.reset();
    if (!lens_) return;
    box_ = undistortedBox(*lens_);
    chosenBox_ = undistortedBox(*lens_, overscan);
    bend_ = bendOf(*lens_);
    undistorted_ = std::make_shared<UndistortedPicture>(*lens_, box_);
    // What a delivery with this overscan would lose is lost here.
    const PixelBox there = chosenBox_.value_or(box_);
    roundTrip_ = std::make_shared<RoundTripPicture>(*lens_, there, filter_, false);
    difference_ = std::make_shared<RoundTripPicture>(*lens_, there, filter_, true);
    residual_ = std::make_shared<ResidualPicture>(*lens_, there);
}

const std::optional<Lens>& LensSights::lens() const {
    refresh();
    return lens_;
}
bool LensSights::isOfZoom() const { return pinion::isOfZoom(session_.shot()); }

PixelBox LensSights::widestBox() const {
    const Shot& shot = session_.shot();
    if (!isOfZoom()) return box();
    if (zoom_ != shot.solve) {
        zoom_ = shot.solve;
        zoomBox_ = box();
        for (const SolvedFrame& frame : shot.solve->frames) {
            const PixelBox one = pinion::undistortedBox(lensOf(*shot.solve, frame));
            zoomBox_ = {std::min(zoomBox_.x0, one.x0), std::min(zoomBox_.y0, one.y0), std::max(zoomBox_.x1, one.x1),
                        std::max(zoomBox_.y1, one.y1)};
        }
    }
    return zoomBox_;
}
std::shared_ptr<const PlateBend> LensSights::bend() const {
    refresh();
    return bend_;
}
std::shared_ptr<const Rendering> LensSights::undistorted() const {
    refresh();
    return undistorted_;
}
std::shared_ptr<const Rendering> LensSights::roundTrip() const {
    refresh();
    return roundTrip_;
}
std::shared_ptr<const Rendering> LensSights::difference() const {
    refresh();
    return difference_;
}
std::shared_ptr<const Rendering> LensSights::residual() const {
    refresh();
    return residual_;
}
PixelBox LensSights::box() const {
    refresh();
    return box_;
}

const Expected<PixelBox>& LensSights::chosenBox() const {
    refresh();
    return chosenBox_;
}

PlateWarp UndistortedSight::warpAt(int) const {
    PlateWarp warp;
    warp.bend = sights_.bend();
    return warp;
}

std::optional<QRectF> UndistortedSight::extent() const {
    if (!sights_.lens()) return std::nullopt;
    const PixelBox box = sights_.widestBox();
    return QRectF(box.x0, box.y0, box.width(), box.height());
}

QString UndistortedSight::words(int) const {
    const auto& lens = sights_.lens();
    if (!lens) return kNoLens;
    return "undistorted · overscan " + overscanWords(sights_.box(), lens->width, lens->height) +
           (sights_.isOfZoom() ? " · the zoom's lens on this frame" : "");
}

QString RoundTripSight::words(int) const {
    if (!sights_.lens()) return kNoLens;
    const auto shown = std::static_pointer_cast<const RoundTripPicture>(rendering(0));
    return (difference_ ? "round trip against the plate · difference × 8" : "distortion taken out and put back") +
           shown->words();
}

namespace {

const Residual* residualOf(const LensSights& sights) {
    const auto picture = std::static_pointer_cast<const ResidualPicture>(sights.residual());
    return picture ? picture->known() : nullptr;
}

}  // namespace

QString ResidualSight::words(int) const {
    if (!sights_.lens()) return kNoLens;
    const Residual* residual = residualOf(sights_);
    if (!residual) return "measuring the round trip…";
    return QString("residual of the round trip · white: %1 px, the most")
               .arg(residual->worst_px, 0, 'f', digitsFor(residual->worst_px)) +
           lossWords(residual->lostShare);
}

void ResidualSight::paint(QPainter& painter, const PlateView& view) const {
    const Residual* residual = residualOf(sights_);
    const auto& lens = sights_.lens();
    if (!residual || !lens || residual->error.size() != std::size_t(lens->width) * std::size_t(lens->height)) return;
    constexpr int kAcross = 7, kDown = 5;
    for (int j = 0; j < kDown; ++j)
        for (int i = 0; i < kAcross; ++i) {
            const int x = int((i + 0.5) * lens->width / kAcross), y = int((j + 0.5) * lens->height / kDown);
            const float error = residual->error[std::size_t(y) * std::size_t(lens->width) + std::size_t(x)];
            const auto at = view.screenFromPlate({x + 0.5, y + 0.5});
            if (!at) continue;
            drawLabel(painter, *at - QPointF(20, 8),
                      std::isnan(error) ? QString("lost")
                                        : QString::number(double(error), 'f', digitsFor(residual->worst_px)));
        }
}

}  // namespace pinion
