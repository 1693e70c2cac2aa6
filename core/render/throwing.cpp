#include "render/throwing.h"

#include "matte/coverage.h"
#include "picture/picture.h"

#include <algorithm>
#include <cmath>

namespace pinion {

using Eigen::Vector2d;

namespace {

Expected<WorldEye> eyeOf(const Solve& solve, const Orientation& orientation, int frame) {
    auto eye = WorldEye::of(solve, orientation, frame);
    if (!eye) return failure(Fault::input, "frame {} has no camera: nothing can be thrown from it", frame);
    return *std::move(eye);
}

}  // namespace

Expected<std::vector<ThrownPicture>> picturesThrown(const Clip& clip, std::span<const int> frames, const Solve& solve,
                                                    const Orientation& orientation, ArtShelf& shelf) {
    const double shape = double(solve.lens.width) / solve.lens.height, own = double(clip.width) / clip.height;
    // A pixel more or less on a side of a smaller picture.
    // Nothing else says how the alpha of some TIFFs is meant.
    Clip shown = clip;
    if (shown.hasAlpha && !alphaKindOf(shown)) shown.alpha = AlphaKind::straight;
    if (std::abs(own / shape - 1) > 2.0 / std::min(clip.width, clip.height))
        return failure(Fault::input, "{}: is {}x{}, and does not fill a plate of {}x{}: paint on a frame of the plate",
                       clip.path.string(), clip.width, clip.height, solve.lens.width, solve.lens.height);
    std::vector<ThrownPicture> thrown;
    for (const int frame : frames) {
        auto eye = eyeOf(solve, orientation, frame);
        if (!eye) return tl::unexpected(eye.error());
        const auto art = shelf.art(shown, shown.frames.holds(frame) ? frame : shown.frames.first, true);
        if (!art) return tl::unexpected(art.error());
        thrown.push_back({frame, *std::move(eye), std::make_shared<const SurfacePicture>(*art), *art});
    }
    return thrown;
}

Expected<std::vector<ThrownPicture>> mattesThrown(std::span<const Matte> mattes, std::span<const int> frames,
                                                  const Solve& solve, const Orientation& orientation) {
    std::vector<ThrownPicture> thrown;
    for (const int frame : frames) {
        auto eye = eyeOf(solve, orientation, frame);
        if (!eye) return tl::unexpected(eye.error());
        const ImageChannel covered = coverageOf(mattes, frame, solve.lens.width, solve.lens.height);
        if (std::none_of(covered.values.begin(), covered.values.end(), [](float value) { return value > 0; }))
            return failure(Fault::input,
                           "the mattes cover nothing of frame {}: throw them from a frame on which they do", frame);
        const Picture white = plainPicture({1, 1, 1}, covered.width, covered.height);
        thrown.push_back({frame, *std::move(eye), std::make_shared<const SurfacePicture>(white, &covered)});
    }
    return thrown;
}

Expected<void> checkThrow(const ThrownOn& onto, std::span<const int> frames, const Solve& solve,
                          const Orientation& orientation) {
    constexpr int kAcross = 32, kDown = 18;
    constexpr double kEdgeOn = 0.02;  // the sine of a degree
    const std::string what = onto.standIn ? onto.standIn->name : "the plane";
    if (onto.standIn && onto.standIn->kind == StandInKind::locator)
        return failure(Fault::input, "{}: is a place and no surface: throw on to the ground or another stand-in", what);
    for (const int frame : frames) {
        const auto eye = eyeOf(solve, orientation, frame);
        if (!eye) return tl::unexpected(eye.error());
        std::vector<Vector2d> places;
        for (int y = 0; y <= kDown; ++y)
            for (int x = 0; x <= kAcross; ++x)
                places.emplace_back(double(x) * solve.lens.width / kAcross, double(y) * solve.lens.height / kDown);
        const int seen = Projector({}, onto, solve.lens.width, solve.lens.height).seenAt(*eye, frame, places);
        const Eigen::Vector3d towards = onto.at - eye->place();
        const double slope = std::abs(towards.normalized().dot(onto.normal.normalized()));
        if (!onto.standIn && onto.isAbout && slope < kEdgeOn)
            return failure(
                Fault::input,
                "the plane is seen edge-on on frame {} (by {:.1f} degrees): throw from a frame that sees it, "
                "or on to another surface",
                frame, 57.3 * std::asin(slope));
        // What is small may lie between.
        if (seen == 0 && !(onto.standIn && eye->plateFromWorld(onto.standIn->at(frame, eye->place()).place)))
            return failure(Fault::input, "{} is not seen on frame {}: throw from a frame that sees it", what, frame);
    }
    return {};
}

}  // namespace pinion
