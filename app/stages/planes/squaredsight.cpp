#include "stages/planes/squaredsight.h"

#include "comp/warp.h"
#include "jobs/squaring.h"

#include <Eigen/LU>

#include <algorithm>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

constexpr std::size_t kKept = 12;
constexpr float kGain = 3;  // of the difference, so that little is seen

/// The frame against the reference frame laid over it, after both are brought to the same mean on the surface.
class SurfaceDifference : public Rendering {
public:
    SurfaceDifference(std::shared_ptr<FrameCache> frames, int reference, const Matrix3d& referenceFromFrame,
                      Quad surface)
        : frames_(std::move(frames)), reference_(reference), map_(referenceFromFrame), surface_(std::move(surface)) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        QImage image(picture.width, picture.height, QImage::Format_RGB32);
        image.fill(QColor(0x1f, 0x1f, 0x1f));
        const auto reference = frames_->get(reference_);
        if (!reference) return image;
        const Picture laid = warped(**reference, map_);
        const auto a = displayPixels(picture, view), b = displayPixels(laid, view);
        const Polygon outline(surface_.begin(), surface_.end());
        const auto grey = [](std::uint32_t p) {
            return 0.0722F * float(p & 0xFF) + 0.7152F * float(p >> 8 & 0xFF) + 0.2126F * float(p >> 16 & 0xFF);
        };
        double left = 1e9, top = 1e9, right = -1e9, bottom = -1e9;
        for (const Vector2d& p : surface_) {
            left = std::min(left, p.x());
            top = std::min(top, p.y());
            right = std::max(right, p.x());
            bottom = std::max(bottom, p.y());
        }
        const int x0 = std::clamp(int(left) - 4, 0, picture.width), x1 = std::clamp(int(right) + 4, x0, picture.width);
        const int y0 = std::clamp(int(top) - 4, 0, picture.height),
                  y1 = std::clamp(int(bottom) + 4, y0, picture.height);
        double sum = 0;
        int count = 0;
        for (int y = y0; y < y1; y += 3)
            for (int x = x0; x < x1; x += 3)
                if (contains(outline, {x + 0.5, y + 0.5})) {
                    const auto at = std::size_t(y) * std::size_t(picture.width) + std::size_t(x);
                    sum += double(grey(a[at]) - grey(b[at]));
                    ++count;
                }
        const float mean = count > 0 ? float(sum / count) : 0.0F;
        for (int y = y0; y < y1; ++y) {
            auto* row = reinterpret_cast<QRgb*>(image.scanLine(y));
            for (int x = x0; x < x1; ++x) {
                const auto at = std::size_t(y) * std::size_t(picture.width) + std::size_t(x);
                const int value = std::min(255, int(kGain * std::abs(grey(a[at]) - grey(b[at]) - mean)));
                row[x] = qRgb(value, value * 9 / 10, value * 8 / 10);
            }
        }
        return image;
    }

private:
    std::shared_ptr<FrameCache> frames_;
    int reference_;
    Matrix3d map_;
    Quad surface_;
};

/// Between the plate and a surface that is curved or bent by the lens, unrolled into a rectangle.
class SheetBend : public PlateBend {
public:
    SheetBend(SurfaceSheet sheet, const QRectF& rect) : sheet_(std::move(sheet)), rect_(rect) {}
    std::optional<Vector2d> straightFromPlate(const Vector2d& plate) const override {
        const auto at = sheet_.onSheet(plate);
        if (!at) return std::nullopt;
        return Vector2d(rect_.left() + at->x() * rect_.width(), rect_.top() + at->y() * rect_.height());
    }
    std::optional<Vector2d> plateFromStraight(const Vector2d& straight) const override {
        const Vector2d at((straight.x() - rect_.left()) / rect_.width(), (straight.y() - rect_.top()) / rect_.height());
        if (!sheet_.faces(at)) return std::nullopt;
        return sheet_.onPlate(at);
    }

private:
    SurfaceSheet sheet_;
    QRectF rect_;
};

/// Such a surface unrolled, or what differs there from the reference frame, within a picture of the plate's size.
class UnrolledPicture : public Rendering {
public:
    UnrolledPicture(const SurfaceSheet& sheet, const QRectF& rect) : sheet_(sheet), rect_(rect.toRect()) {}
    void against(std::shared_ptr<FrameCache> frames, int reference, const SurfaceSheet& there) {
        frames_ = std::move(frames);
        reference_ = reference;
        there_ = there;
    }
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        QImage image(picture.width, picture.height, QImage::Format_RGB32);
        image.fill(QColor(0x1f, 0x1f, 0x1f));
        const auto pixels = cut(picture, sheet_, view);
        std::vector<std::uint32_t> laid;
        if (there_) {
            const auto reference = frames_->get(reference_);
            if (!reference) return image;
            laid = cut(**reference, *there_, view);
        }
        for (int y = 0; y < rect_.height(); ++y) {
            auto* row = reinterpret_cast<QRgb*>(image.scanLine(rect_.top() + y)) + rect_.left();
            for (int x = 0; x < rect_.width(); ++x) {
                const auto at = std::size_t(y) * std::size_t(rect_.width()) + std::size_t(x);
                // Nothing is seen of what turns away.
                if ((pixels[at] >> 24) == 0 || (there_ && (laid[at] >> 24) == 0)) continue;
                const int value =
                    there_ ? std::min(255, int(kGain * std::abs(qGray(pixels[at]) - qGray(laid[at])))) : 0;
                row[x] = there_ ? qRgb(value, value * 9 / 10, value * 8 / 10) : pixels[at] | 0xFF000000U;
            }
        }
        return image;
    }

private:
    std::vector<std::uint32_t> cut(const Picture& picture, const SurfaceSheet& sheet, const ViewTransform& view) const {
        const LookUp table = unrolled(sheet, rect_.width(), rect_.height());
        const auto made = DisplayBend(table, picture.width, picture.height).bent(displayPixels(picture, view));
        return {made.get(), made.get() + std::size_t(rect_.width()) * std::size_t(rect_.height())};
    }
    SurfaceSheet sheet_;
    QRect rect_;
    std::shared_ptr<FrameCache> frames_;
    int reference_ = 0;
    std::optional<SurfaceSheet> there_;
};

}  // namespace

QString SquaredSight::trouble(int frame) const {
    const PlanarTrack* plane = hand_.held();
    if (!plane) return "there is no plane yet: draw an outline in the Planes card";
    if (plane->ties.isEmpty()) return text(plane->name) + " has no surface yet: place its four corners";
    if (!surfaceAt(*plane, frame)) return text(plane->name) + " is not tracked on this frame";
    return {};
}

std::optional<QRectF> SquaredSight::shownRect() const {
    const PlanarTrack* plane = hand_.held();
    const auto size = plane ? squaredSize(*plane) : std::nullopt;
    if (!size) return std::nullopt;
    const double width = session_.shot().plate.width, height = session_.shot().plate.height;
    const double scale = 0.8 * std::min(width / size->width, height / size->height);
    const double w = scale * size->width, h = scale * size->height;
    return QRectF((width - w) / 2, (height - h) / 2, w, h);
}

PlateWarp SquaredSight::warpAt(int frame) const {
    PlateWarp warp;
    const PlanarTrack* plane = hand_.held();
    const auto rect = shownRect();
    const auto surface = plane ? surfaceAt(*plane, frame) : std::nullopt;
    if (!rect || !surface) return warp;
    if (const auto sheet = SurfaceSheet::of(*plane, frame); sheet && !sheet->isFlat()) {
        warp.bend = std::make_shared<SheetBend>(*sheet, QRectF(rect->toRect()));
        return warp;
    }
    const Quad upright{Vector2d(rect->left(), rect->top()), Vector2d(rect->right(), rect->top()),
                       Vector2d(rect->right(), rect->bottom()), Vector2d(rect->left(), rect->bottom())};
    if (const auto shown = quadFromQuad(upright, *surface)) warp.shownFromStraight = *shown;
    return warp;
}

std::shared_ptr<const Rendering> SquaredSight::rendering(int frame) const {
    const PlanarTrack* plane = hand_.held();
    if (!plane || !session_.hasPlate()) return nullptr;
    const auto& planes = session_.shot().planes;
    const auto known = std::find_if(made_.begin(), made_.end(), [&](const Made& one) {
        return one.frame == frame && one.plane == plane->id && one.planes.sharedWith(planes);
    });
    if (known != made_.end()) {
        made_.splice(made_.begin(), made_, known);
        return made_.front().rendering;
    }
    const auto rendering = made(*plane, frame);
    if (!rendering) return nullptr;
    made_.push_front({frame, plane->id, planes, rendering});
    if (made_.size() > kKept) made_.pop_back();
    return rendering;
}

std::shared_ptr<const Rendering> SquaredSight::made(const PlanarTrack& plane, int frame) const {
    const auto surface = surfaceAt(plane, frame), onReference = surfaceAt(plane, plane.referenceFrame);
    const auto sheet = SurfaceSheet::of(plane, frame), there = SurfaceSheet::of(plane, plane.referenceFrame);
    const auto rect = shownRect();
    if (sheet && !sheet->isFlat() && rect) {
        auto picture = std::make_shared<UnrolledPicture>(*sheet, *rect);
        if (difference_ && there) picture->against(session_.player.sharedFrames(), plane.referenceFrame, *there);
        return picture;
    }
    const auto map = difference_ && surface && onReference ? quadFromQuad(*onReference, *surface) : std::nullopt;
    if (!map) return nullptr;
    return std::make_shared<SurfaceDifference>(session_.player.sharedFrames(), plane.referenceFrame, *map, *surface);
}

QString SquaredSight::words(int frame) const {
    if (const QString why = trouble(frame); !why.isEmpty()) return why;
    const PlanarTrack& plane = *hand_.held();
    QString words = difference_
                        ? QString("%1 against its reference frame %2").arg(text(plane.name)).arg(plane.referenceFrame)
                        : text(plane.name) + (plane.sides ? " unrolled" : " squared up");
    if (const auto turn = turnAt(plane, frame)) words += QString(" · turned %1°").arg(*turn, 0, 'f', 2);
    if (const PlaneSample* sample = sampleAt(plane, frame))
        words += QString(" · %1 % seen · fit %2")
                     .arg(double(sample->seen) * 100, 0, 'f', 0)
                     .arg(double(sample->fit), 0, 'f', 3);
    return words;
}

std::optional<QRectF> SquaredSight::extent() const { return std::nullopt; }

}  // namespace pinion
