#include "stages/planes/squaredsight.h"

#include "comp/warp.h"

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
    const Quad upright{Vector2d(rect->left(), rect->top()), Vector2d(rect->right(), rect->top()),
                       Vector2d(rect->right(), rect->bottom()), Vector2d(rect->left(), rect->bottom())};
    if (const auto shown = quadFromQuad(upright, *surface)) warp.shownFromStraight = *shown;
    return warp;
}

std::shared_ptr<const Rendering> SquaredSight::rendering(int frame) const {
    const PlanarTrack* plane = hand_.held();
    const auto surface = plane && difference_ ? surfaceAt(*plane, frame) : std::nullopt;
    const auto onReference = surface ? surfaceAt(*plane, plane->referenceFrame) : std::nullopt;
    const auto map = onReference ? quadFromQuad(*onReference, *surface) : std::nullopt;
    if (!map || !session_.hasPlate()) return nullptr;
    const auto& planes = session_.shot().planes;
    const auto known = std::find_if(made_.begin(), made_.end(), [&](const Made& one) {
        return one.frame == frame && one.plane == plane->id && one.planes.sharedWith(planes);
    });
    if (known != made_.end()) {
        made_.splice(made_.begin(), made_, known);
        return made_.front().rendering;
    }
    made_.push_front(
        {frame, plane->id, planes,
         std::make_shared<SurfaceDifference>(session_.player.sharedFrames(), plane->referenceFrame, *map, *surface)});
    if (made_.size() > kKept) made_.pop_back();
    return made_.front().rendering;
}

QString SquaredSight::words(int frame) const {
    if (const QString why = trouble(frame); !why.isEmpty()) return why;
    const PlanarTrack& plane = *hand_.held();
    QString words = difference_
                        ? QString("%1 against its reference frame %2").arg(text(plane.name)).arg(plane.referenceFrame)
                        : text(plane.name) + " squared up";
    if (const PlaneSample* sample = sampleAt(plane, frame))
        words += QString(" · %1 % seen · fit %2")
                     .arg(double(sample->seen) * 100, 0, 'f', 0)
                     .arg(double(sample->fit), 0, 'f', 3);
    return words;
}

std::optional<QRectF> SquaredSight::extent() const { return std::nullopt; }

}  // namespace pinion
