#include "jobs/squaring.h"

#include "comp/warp.h"
#include "planar/surface.h"

#include <Eigen/LU>
#include <algorithm>
#include <memory>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

/// The way back: where pixels of the plate are found on a surface unrolled to `width` x `height`.
LookUp rolledUp(const Sheet& sheet, int width, int height, const PixelBox& frame) {
    // Beyond what its edges enclose there is nothing to ask for.
    constexpr int kPieces = 16;
    Vector2d low(1e9, 1e9), high(-1e9, -1e9);
    for (int i = 0; i <= kPieces; ++i)
        for (int k = 0; k <= kPieces; ++k) {
            const Vector2d at = sheet.onPlate({double(i) / kPieces, double(k) / kPieces});
            low = low.cwiseMin(at - Vector2d(2, 2));
            high = high.cwiseMax(at + Vector2d(2, 2));
        }
    return lookUpBy(frame, 1, [&](const Vector2d& p) -> std::optional<Vector2d> {
        if ((p.array() < low.array()).any() || (p.array() > high.array()).any()) return std::nullopt;
        const auto at = sheet.onSheet(p);
        if (!at || at->minCoeff() < 0 || at->maxCoeff() > 1) return std::nullopt;
        return Vector2d(at->x() * width, at->y() * height);
    });
}

Expected<void> checkSurface(const Carrier& carrier, const char* purpose) {
    if (!carrier.hasSurface())
        return failure(Fault::input, "there is no surface to {}; place its four corners first", purpose);
    return {};
}

/// The surface on the frames where it is seen.
struct Seen {
    int frame = 0;
    std::shared_ptr<const Sheet> sheet;
    std::optional<Matrix3d> flat;  ///< the plate from the unit square, where a homography takes it there
};
std::vector<Seen> seenOn(const Carrier& carrier) {
    std::vector<Seen> seen;
    for (int frame = carrier.range().first; frame <= carrier.range().last; ++frame) {
        std::shared_ptr<const Sheet> sheet = carrier.surfaceOn(frame);
        if (!sheet) continue;
        std::optional<Matrix3d> flat;
        if (sheet->isFlat()) {
            const auto corners = carrier.cornersOn(frame);
            flat = corners ? quadFromQuad(*corners, {Vector2d(0, 0), Vector2d(1, 0), Vector2d(1, 1), Vector2d(0, 1)})
                           : std::nullopt;
            if (!flat) continue;
        }
        seen.push_back({frame, std::move(sheet), flat});
    }
    return seen;
}

Matrix3d plateFromPixels(const Matrix3d& plateFromUnit, int width, int height) {
    return plateFromUnit * Eigen::Vector3d(1.0 / width, 1.0 / height, 1).asDiagonal();
}

}  // namespace

LookUp unrolled(const Sheet& sheet, int width, int height, int samples) {
    return lookUpBy({0, 0, width, height}, samples, [&](const Vector2d& p) -> std::optional<Vector2d> {
        const Vector2d at(p.x() / width, p.y() / height);
        if (!sheet.faces(at)) return std::nullopt;
        return sheet.onPlate(at);
    });
}

Expected<RenderReport> runSquared(const Carrier& carrier, FrameCache& frames, const std::filesystem::path& pattern,
                                  int width, int height, const Progress& progress) {
    if (auto is = checkSurface(carrier, "square up"); !is) return tl::unexpected(is.error());
    if (width < 8 || height < 8 || width > 16384 || height > 16384)
        return failure(Fault::input, "{} x {}: a size between 8 and 16384 pixels is expected", width, height);
    const std::vector<Seen> seen = seenOn(carrier);
    if (std::all_of(seen.begin(), seen.end(), [](const Seen& one) { return one.flat.has_value(); })) {
        std::vector<FrameMap> maps;
        for (const Seen& one : seen) maps.push_back({one.frame, plateFromPixels(*one.flat, width, height)});
        RenderOptions options;
        options.width = width;
        options.height = height;
        return renderFrames(frames, maps, pattern, options, progress);
    }
    std::vector<int> numbers;
    for (const Seen& one : seen) numbers.push_back(one.frame);
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        return writingOf(bent(picture, unrolled(*seen[i].sheet, width, height)));
    };
    return renderMade(frames, numbers, pattern, {.width = width, .height = height}, made, progress);
}

Expected<PutBackReport> runPutBackSurface(const Carrier& carrier, FrameCache& frames, FrameCache& made,
                                          const std::filesystem::path& pattern, const Progress& progress) {
    if (auto is = checkSurface(carrier, "put back on"); !is) return tl::unexpected(is.error());
    const int width = made.facts().width, height = made.facts().height;
    const PixelBox frame{0, 0, frames.facts().width, frames.facts().height};
    std::vector<SheetMap> maps;
    for (const Seen& one : seenOn(carrier)) {
        if (one.flat) {
            const Matrix3d plate = plateFromPixels(*one.flat, width, height);
            maps.push_back({one.frame,
                            [plate, width, height](const Picture& picture) {
                                return warped(picture, plate, RenderOptions{}.filter, RenderOptions{}.edges, width,
                                              height);
                            },
                            [plate, frame](const Picture& picture, ResampleFilter filter, EdgeMode edges) {
                                return warped(picture, plate.inverse(), filter, edges, frame.width(), frame.height());
                            }});
            continue;
        }
        maps.push_back({one.frame,
                        [sheet = one.sheet, width, height](const Picture& picture) {
                            return bent(picture, unrolled(*sheet, width, height));
                        },
                        [sheet = one.sheet, width, height, frame, table = std::shared_ptr<const LookUp>()](
                            const Picture& picture, ResampleFilter, EdgeMode edges) mutable {
                            // The change and the picture come back by the same table.
                            if (!table) table = std::make_shared<const LookUp>(rolledUp(*sheet, width, height, frame));
                            return bent(picture, *table, BendFilter::bicubic, edges);
                        }});
    }
    return putBackSheets(frames, made, maps, pattern, progress);
}

}  // namespace pinion
