#include "jobs/planing.h"

#include "shot/stages/lensstage.h"
#include "shot/stages/mattesstage.h"
#include "shot/stages/planesstage.h"

#include <algorithm>
#include <memory>

namespace pinion {

Expected<PlanarResult> runPlanes(const Shot& shot, FrameCache& frames, const std::vector<PlaneId>& ids, int from,
                                 Direction direction, int steps, bool anew, const Progress& progress,
                                 const PlaneListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    std::vector<PlanarTrack> planes;
    for (const PlanarTrack& plane : shot.planes) {
        if (std::find(ids.begin(), ids.end(), plane.id) == ids.end()) continue;
        if (plane.locked) return failure(Fault::input, "plane {} is locked; unlock it to track it", plane.name);
        planes.push_back(anew ? begunAnew(plane, from) : plane);
        // What is known of the lens comes first; what a plane was tracked through before stays with what is left of it.
        PlanarTrack& begun = planes.back();
        const bool whole = begun.samples.size() <= 1 || (steps == 0 && !sampleAt(begun, from));
        const auto lens = lensInForce(shot);
        // A cylinder asks for a focal length, known or not. One that was fitted to it stays.
        if (begun.sides && begun.samples.size() <= 1) begun.lens = std::make_shared<const Lens>(cylinderLens(shot));
        else if (!begun.sides && whole && lens && lens->isDistorted()) begun.lens = std::make_shared<const Lens>(*lens);
    }
    if (planes.empty())
        return failure(Fault::input, "no plane is chosen; draw an outline with the tool, or choose one in the list");
    FrameRange range = shot.plate.range;
    if (steps > 0) range = {std::max(range.first, from - steps), std::min(range.last, from + steps)};
    // No plane rides on itself: what mattes ride on is as it was before.
    const std::vector<Matte> mattes = mattesOf(shot);
    auto result = trackPlanes(frames, planes, from, range, direction, progress, live, mattes, !knowsFocal(shot));
    if (result && steps > 0)
        // A few steps end where they were told to, not where the range does.
        for (PlanarTrack& plane : result->planes) {
            if (plane.endReason == PlaneEnd::rangeEnd && plane.lastFrame() < shot.plate.range.last)
                plane.endReason = PlaneEnd::none;
            if (plane.startReason == PlaneEnd::rangeEnd && plane.firstFrame() > shot.plate.range.first)
                plane.startReason = PlaneEnd::none;
        }
    return result;
}

namespace {

/// The way back: where pixels of the plate are found on a surface unrolled to `width` x `height`.
LookUp rolledUp(const SurfaceSheet& sheet, int width, int height, const PixelBox& frame) {
    // Beyond what its edges enclose there is nothing to ask for.
    constexpr int kPieces = 16;
    Eigen::Vector2d low(1e9, 1e9), high(-1e9, -1e9);
    for (int i = 0; i <= kPieces; ++i)
        for (int k = 0; k <= kPieces; ++k) {
            const Eigen::Vector2d at = sheet.onPlate({double(i) / kPieces, double(k) / kPieces});
            low = low.cwiseMin(at - Eigen::Vector2d(2, 2));
            high = high.cwiseMax(at + Eigen::Vector2d(2, 2));
        }
    return lookUpBy(frame, 1, [&](const Eigen::Vector2d& p) -> std::optional<Eigen::Vector2d> {
        if ((p.array() < low.array()).any() || (p.array() > high.array()).any()) return std::nullopt;
        const auto at = sheet.onSheet(p);
        if (!at || at->minCoeff() < 0 || at->maxCoeff() > 1) return std::nullopt;
        return Eigen::Vector2d(at->x() * width, at->y() * height);
    });
}

}  // namespace

LookUp unrolled(const SurfaceSheet& sheet, int width, int height, int samples) {
    return lookUpBy({0, 0, width, height}, samples, [&](const Eigen::Vector2d& p) -> std::optional<Eigen::Vector2d> {
        const Eigen::Vector2d at(p.x() / width, p.y() / height);
        if (!sheet.faces(at)) return std::nullopt;
        return sheet.onPlate(at);
    });
}

Expected<RenderReport> runSquared(const Shot& shot, FrameCache& frames, PlaneId id,
                                  const std::filesystem::path& pattern, int width, int height,
                                  const Progress& progress) {
    const PlanarTrack* plane = findPlane(shot, id);
    if (!plane || plane->ties.isEmpty())
        return failure(Fault::input, "there is no surface to square up; place its four corners first");
    if (width < 8 || height < 8 || width > 16384 || height > 16384)
        return failure(Fault::input, "{} x {}: a size between 8 and 16384 pixels is expected", width, height);
    if (plane->geometry().cylinder || plane->lens) {
        std::vector<int> numbers;
        std::vector<SurfaceSheet> sheets;
        for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame)
            if (const auto sheet = SurfaceSheet::of(*plane, frame)) {
                numbers.push_back(frame);
                sheets.push_back(*sheet);
            }
        const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
            return writingOf(bent(picture, unrolled(sheets[i], width, height)));
        };
        return renderMade(frames, numbers, pattern, {.width = width, .height = height}, made, progress);
    }
    std::vector<FrameMap> maps;
    Eigen::Matrix3d unitFromOutput = Eigen::Matrix3d::Identity();
    unitFromOutput(0, 0) = 1.0 / width;
    unitFromOutput(1, 1) = 1.0 / height;
    for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame)
        if (const auto plate = plateFromSurface(*plane, frame)) maps.push_back({frame, *plate * unitFromOutput});
    RenderOptions options;
    options.width = width;
    options.height = height;
    return renderFrames(frames, maps, pattern, options, progress);
}

Expected<PutBackReport> runPutBackSurface(const Shot& shot, FrameCache& frames, FrameCache& made, PlaneId id,
                                          const std::filesystem::path& pattern, const Progress& progress) {
    const PlanarTrack* plane = findPlane(shot, id);
    if (!plane || plane->ties.isEmpty())
        return failure(Fault::input, "there is no surface to put back on; place its four corners first");
    const int width = made.facts().width, height = made.facts().height;
    const PixelBox frame{0, 0, shot.plate.width, shot.plate.height};
    std::vector<SheetMap> maps;
    for (int number = shot.plate.range.first; number <= shot.plate.range.last; ++number) {
        const auto sheet = SurfaceSheet::of(*plane, number);
        const auto flat = plateFromSurface(*plane, number);
        if (!sheet || !flat) continue;
        if (sheet->isFlat()) {
            const Eigen::Matrix3d plate = *flat * Eigen::Vector3d(1.0 / width, 1.0 / height, 1).asDiagonal();
            maps.push_back({number,
                            [plate, width, height](const Picture& picture) {
                                return warped(picture, plate, RenderOptions{}.filter, RenderOptions{}.edges, width,
                                              height);
                            },
                            [plate, frame](const Picture& picture, ResampleFilter filter, EdgeMode edges) {
                                return warped(picture, plate.inverse(), filter, edges, frame.width(), frame.height());
                            }});
            continue;
        }
        maps.push_back(
            {number,
             [sheet, width, height](const Picture& picture) { return bent(picture, unrolled(*sheet, width, height)); },
             [sheet, width, height, frame, table = std::shared_ptr<const LookUp>()](
                 const Picture& picture, ResampleFilter, EdgeMode edges) mutable {
                 // The change and the picture come back by the same table.
                 if (!table) table = std::make_shared<const LookUp>(rolledUp(*sheet, width, height, frame));
                 return bent(picture, *table, BendFilter::bicubic, edges);
             }});
    }
    return putBackSheets(frames, made, maps, pattern, progress);
}

}  // namespace pinion
