#include "stages/lens/lenssights.h"

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

/// Out and back in with the filter of the deliveries; as it comes out, or its difference from the plate.
class RoundTripPicture : public Rendering {
public:
    RoundTripPicture(const Lens& lens, const PixelBox& box, BendFilter filter, bool difference)
        : lens_(lens), box_(box), filter_(filter), difference_(difference) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        std::call_once(once_, [this] {
            out_ = undistorting(lens_, box_);
            back_ = redistorting(lens_, box_);
            worst_px_ = worstPlace();
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
        return QString(" · %1 dB · places return within %2 px").arg(decibels_, 0, 'f', 1).arg(worst_px_, 0, 'f', 4);
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
    /// Out by the one table, back by the other between its places.
    double worstPlace() const {
        const auto lookedUp = [](const LookUp& table, double x, double y) -> std::optional<Eigen::Vector2d> {
            const double u = x - table.out.x0 - 0.5, v = y - table.out.y0 - 0.5;
            const int column = int(std::floor(u)), row = int(std::floor(v));
            if (column < 0 || row < 0 || column + 1 >= table.out.width() || row + 1 >= table.out.height())
                return std::nullopt;
            const auto at = [&](int r, int c) {
                const float* place = &table.xy[2 * (std::size_t(r) * std::size_t(table.out.width()) + std::size_t(c))];
                return Eigen::Vector2d(place[0], place[1]);
            };
            const double fx = u - column, fy = v - row;
            const Eigen::Vector2d found = (1 - fy) * ((1 - fx) * at(row, column) + fx * at(row, column + 1)) +
                                          fy * ((1 - fx) * at(row + 1, column) + fx * at(row + 1, column + 1));
            return found.allFinite() ? std::optional(found) : std::nullopt;
        };
        double worst = 0;
        for (int i = 0; i <= 16; ++i)
            for (int j = 0; j <= 10; ++j) {
                const Eigen::Vector2d plate(1 + (lens_.width - 2) * i / 16.0, 1 + (lens_.height - 2) * j / 10.0);
                const auto straight = lookedUp(back_, plate.x(), plate.y());
                if (!straight) continue;
                const auto again = lookedUp(out_, straight->x() + box_.x0, straight->y() + box_.y0);
                if (again) worst = std::max(worst, (*again - plate).norm());
            }
        return worst;
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
    mutable std::atomic<double> worst_px_{0}, decibels_{0};
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
    const auto lens = lensInForce(shot);
    const Overscan& overscan = shot.lens.overscan;
    if (lens == lens_ && shot.lens.filter == filter_ && overscan == overscan_) return;
    lens_ = lens;
    filter_ = shot.lens.filter;
    overscan_ = overscan;
    bend_.reset();
    undistorted_.reset();
    roundTrip_.reset();
    difference_.reset();
    if (!lens_) return;
    box_ = undistortedBox(*lens_);
    chosenBox_ = undistortedBox(*lens_, overscan);
    bend_ = bendOf(*lens_);
    undistorted_ = std::make_shared<UndistortedPicture>(*lens_, box_);
    roundTrip_ = std::make_shared<RoundTripPicture>(*lens_, box_, filter_, false);
    difference_ = std::make_shared<RoundTripPicture>(*lens_, box_, filter_, true);
}

const std::optional<Lens>& LensSights::lens() const {
    refresh();
    return lens_;
}
bool LensSights::isOfZoom() const {
    const Shot& shot = session_.shot();
    return !shot.lens.lens && shot.solve && shot.solve->zoom;
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

QString UndistortedSight::words(int) const {
    const auto& lens = sights_.lens();
    if (!lens) return kNoLens;
    return "undistorted · overscan " + overscanWords(sights_.box(), lens->width, lens->height) +
           (sights_.isOfZoom() ? " · the lens of the zoom's first frame" : "");
}

QString RoundTripSight::words(int) const {
    if (!sights_.lens()) return kNoLens;
    const auto shown = std::static_pointer_cast<const RoundTripPicture>(rendering());
    return (difference_ ? "round trip against the plate · difference × 8" : "distortion taken out and put back") +
           shown->words();
}

}  // namespace pinion
