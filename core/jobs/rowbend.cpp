#include "jobs/rowbend.h"

#include "base/median.h"
#include "camera/framerows.h"
#include "plate/framewriter.h"

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kRows = 1024;  // cameras of a frame's rows: a step moves the picture by hundredths of a pixel

/// The cameras of a frame's rows beside that of its middle, and how far most of what it sees is away.
class RowCameras {
public:
    RowCameras(const Solve& solve, const FrameRows& rows)
        : readout_(solve.readout), lens_(rows.at(0.0).lens), middle_(viewOf(rows.at(0.0))) {
        for (int i = 0; i <= kRows; ++i) views_.push_back(viewOf(rows.at(1.5 * (double(i) / kRows - 0.5))));
        std::vector<double> depths;
        for (const SolvedTrack& track : solve.tracks) {
            if (!track.xyz || track.role != TrackRole::used) continue;
            const Vector3d seen = middle_.rotation * *track.xyz + middle_.translation;
            const auto plate = seen.z() > 1e-6 ? plateFromPlane(lens_, seen.head<2>() / seen.z()) : std::nullopt;
            if (plate && plate->x() > 0 && plate->y() > 0 && plate->x() < lens_.width && plate->y() < lens_.height)
                depths.push_back(seen.z());
        }
        if (!depths.empty()) depth_ = median(std::move(depths));
    }

    std::optional<Vector2d> plateFromStraight(const Vector2d& straight) const {
        const Vector3d seen = depth_ * rayOf(straight);
        const Vector3d world = middle_.rotation.transpose() * (seen - middle_.translation);
        double row = rowOf(straight, readout_.columns, lens_.width, lens_.height);
        for (int round = 0;; ++round) {
            const View& view = viewAt(row);
            const Vector3d own = view.rotation * world + view.translation;
            if (own.z() <= 1e-6) return std::nullopt;
            const auto plate = plateFromPlane(view.lens, own.head<2>() / own.z());
            if (!plate) return std::nullopt;
            const double next = rowOf(*plate, readout_.columns, lens_.width, lens_.height);
            if (std::abs(next - row) < 0.5 / kRows || round == 8) return plate;
            row = next;
        }
    }

    std::optional<Vector2d> straightFromPlate(const Vector2d& plate) const {
        const View& view = viewAt(rowOf(plate, readout_.columns, lens_.width, lens_.height));
        const auto plane = planeFromPlate(view.lens, plate);
        if (!plane) return std::nullopt;
        // Where the row's ray is as far from the middle row's camera as what is seen there.
        const Vector3d ray = view.rotation.transpose() * plane->homogeneous();
        const Vector3d from = -(view.rotation.transpose() * view.translation);
        const Vector3d direction = middle_.rotation * ray, start = middle_.rotation * from + middle_.translation;
        if (direction.z() <= 1e-9) return std::nullopt;
        const Vector3d seen = start + (depth_ - start.z()) / direction.z() * direction;
        return Vector2d(seen.x() / seen.z() * lens_.focal_px * lens_.squeeze + lens_.cx,
                        seen.y() / seen.z() * lens_.focal_px + lens_.cy);
    }

private:
    struct View {
        Eigen::Matrix3d rotation;
        Vector3d translation;
        Lens lens;
    };
    static View viewOf(const FrameRows::View& view) {
        return {view.pose.rotation.toRotationMatrix(), view.pose.translation, view.lens};
    }
    const View& viewAt(double row) const {
        const double at = std::clamp((row / 1.5 + 0.5) * kRows, 0.0, double(kRows));
        return views_[std::size_t(std::lround(at))];
    }
    Vector3d rayOf(const Vector2d& straight) const {
        return {(straight.x() - lens_.cx) / (lens_.focal_px * lens_.squeeze),
                (straight.y() - lens_.cy) / lens_.focal_px, 1};
    }

    Readout readout_;
    Lens lens_;
    View middle_;
    std::vector<View> views_;
    double depth_ = 1e6;  ///< of a camera that only turns any will do
};

}  // namespace

LookUp undistortingRows(const RowGlass& glass, int frame, const PixelBox& out, int samples) {
    const auto rows = FrameRows::of(*glass.solve, frame);
    if (!rows) return undistorting(glass.lens(), out, samples);
    const RowCameras cameras(*glass.solve, *rows);
    return lookUpBy(out, samples, [&](const Vector2d& p) { return cameras.plateFromStraight(p); });
}

LookUp redistortingRows(const RowGlass& glass, int frame, const PixelBox& source, int samples) {
    const auto rows = FrameRows::of(*glass.solve, frame);
    if (!rows) return redistorting(glass.lens(), source, samples);
    const RowCameras cameras(*glass.solve, *rows);
    const Vector2d corner(source.x0, source.y0);
    return lookUpBy({0, 0, glass.lens().width, glass.lens().height}, samples,
                    [&](const Vector2d& p) -> std::optional<Vector2d> {
                        const auto straight = cameras.straightFromPlate(p);
                        return straight ? std::optional<Vector2d>(*straight - corner) : std::nullopt;
                    });
}

StMap mapOf(const LookUp& table, const PixelBox& source, int width, int height) {
    StMap map{width, height, table.out, std::vector<float>(table.xy.size())};
    for (std::size_t i = 0; i + 1 < table.xy.size(); i += 2) {
        const double x = double(table.xy[i]) + source.x0, y = double(table.xy[i + 1]) + source.y0;
        map.st[i] = std::isfinite(x) ? float(x / width) : -1.0F;
        map.st[i + 1] = std::isfinite(y) ? float(1 - y / height) : -1.0F;
    }
    return map;
}

Expected<void> writeMaps(const std::filesystem::path& pattern, int first, int last,
                         const std::function<StMap(int frame)>& map, const Progress& progress) {
    if (!isSequencePattern(pattern) || pattern.extension() != ".exr")
        return failure(Fault::input, "{}: maps are a file a frame; write it as maps.####.exr", pattern.string());
    for (int frame = first; frame <= last; ++frame) {
        if (progress.stopped()) return failure(Fault::stopped, "");
        if (auto written = writeStMap(map(frame), frameFile(pattern, frame)); !written) return written;
        progress.report(double(frame - first + 1) / (last - first + 1), "Maps");
    }
    return {};
}

}  // namespace pinion
