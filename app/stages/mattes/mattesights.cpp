#include "stages/mattes/mattesights.h"

#include "matte/coverage.h"

#include <Eigen/LU>

#include <algorithm>

namespace pinion {
namespace {

constexpr std::size_t kKept = 12;

class MattePicture : public Rendering {
public:
    MattePicture(Shot shot, int frame, bool cut) : shot_(std::move(shot)), frame_(frame), cut_(cut) {}
    QImage made(const Picture& picture, const ViewTransform& view) const override {
        const std::vector<Matte> mattes = mattesOf(shot_, FrameRange{frame_, frame_});
        const ImageChannel plane = coverageOf(mattes, frame_, picture.width, picture.height);
        QImage image(picture.width, picture.height, QImage::Format_RGB32);
        const std::vector<std::uint32_t> plate = cut_ ? displayPixels(picture, view) : std::vector<std::uint32_t>{};
        for (int y = 0; y < picture.height; ++y) {
            auto* row = reinterpret_cast<std::uint32_t*>(image.scanLine(y));
            const float* covered = plane.row(y);
            for (int x = 0; x < picture.width; ++x) {
                if (!cut_) {
                    const auto grey = std::uint32_t(covered[x] * 255 + 0.5F);
                    row[x] = 0xFF000000U | grey << 16 | grey << 8 | grey;
                    continue;
                }
                // What is cut away shows the hatching of what lies outside the plate.
                const std::uint32_t beyond = (x + y) % 12 < 1 ? 0x28 : 0x1f;
                std::uint32_t pixel = 0xFF000000U;
                const std::uint32_t from = plate[std::size_t(y) * std::size_t(picture.width) + std::size_t(x)];
                for (const int shift : {0, 8, 16}) {
                    const float value = float(from >> shift & 0xFF) * covered[x] + float(beyond) * (1 - covered[x]);
                    pixel |= std::uint32_t(value + 0.5F) << shift;
                }
                row[x] = pixel;
            }
        }
        return image;
    }

private:
    Shot shot_;
    int frame_;
    bool cut_;
};

}  // namespace

std::shared_ptr<const Rendering> MatteSight::rendering(int frame) const {
    const Shot& shot = session_.shot();
    Fingerprint print;
    addMattes(print, shot);
    const std::uint64_t key = print.value();
    const auto known =
        std::find_if(made_.begin(), made_.end(), [&](const Made& one) { return one.frame == frame && one.key == key; });
    if (known != made_.end()) {
        made_.splice(made_.begin(), made_, known);
        return made_.front().rendering;
    }
    made_.push_front({frame, key, std::make_shared<MattePicture>(shot, frame, kind_ == Kind::cut)});
    if (made_.size() > kKept) made_.pop_back();
    return made_.front().rendering;
}

QString MatteSight::words(int) const {
    const std::size_t count = session_.shot().mattes.size();
    if (count == 0) return "there are no shapes yet: draw one in the Mattes card";
    return QString("%1 · %2 shape%3")
        .arg(kind_ == Kind::alone ? "matte alone" : "plate cut by the matte")
        .arg(count)
        .arg(count == 1 ? "" : "s");
}

PlateWarp StillSight::warpAt(int frame) const {
    PlateWarp warp;
    if (const auto carrier = hand_.carrierOf(ride))
        warp.shownFromStraight =
            carrier->plateFromReference(ride.referenceFrame) * carrier->plateFromReference(frame).inverse();
    return warp;
}

bool StillSight::isTroubled() const {
    const auto carrier = hand_.carrierOf(ride);
    return carrier && !carrier->problem().empty();
}

QString StillSight::words(int frame) const {
    const auto carrier = hand_.carrierOf(ride);
    if (!carrier) return "working out the motion…";
    if (!carrier->problem().empty()) return "cannot stand still: " + text(carrier->problem());
    QString words = QString("still on %1, as on %2").arg(on).arg(ride.referenceFrame);
    if (!carrier->motion().at(frame)) words += " · not there on this frame";
    if (const Matte* matte = hand_.held())
        words += QString(" · %1: %2 keyframe%3")
                     .arg(text(matte->name))
                     .arg(matte->keys.size())
                     .arg(matte->keys.size() == 1 ? "" : "s");
    return words;
}

}  // namespace pinion
