#include "camera/doubt.h"

#include <algorithm>
#include <cmath>
#include <fmt/core.h>

namespace pinion::solving {

namespace {
constexpr double kClear = 6.0;       // fall of the log-likelihood that nobody would call alike: three and a half standard deviations
constexpr double kStep = 1.09;       // from one focal length of the profile to the next
constexpr int kFrames = 28;          // that the profile looks at
}  // namespace

Reconstruction thinned(const Reconstruction& scene, int most) {
    Reconstruction part = scene;
    std::vector<int> placed;
    for (int f = 0; f < int(scene.material().frames.size()); ++f)
        if (scene.pose(f)) placed.push_back(f);
    if (int(placed.size()) <= most) return part;
    std::vector<char> kept(scene.material().frames.size(), 0);
    for (int i = 0; i < most; ++i) kept[std::size_t(placed[std::size_t(i) * (placed.size() - 1) / std::size_t(most - 1)])] = 1;
    for (const int f : placed)
        if (!kept[std::size_t(f)]) part.forgetFrame(f);
    return part;
}

std::pair<double, double> alikeFocals(const Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    Reconstruction middle = thinned(scene, kFrames);
    const double width = lossWidth(scene);
    const double own = scene.lens().focal_px, size = scene.material().width;
    const LensTerms held = LensTerms(plan.fine).remove(LensTerm::focal);
    middle.adjust(plan.fine, width, 12, progress);
    const double noise = std::max(middle.noise(), 0.03 * scene.material().scale());
    // What is seen of the shot here is a part of what there is.
    const double clear = kClear * double(middle.placedFrames()) / double(scene.placedFrames());
    const auto costOfScene = [&](const Reconstruction& at) {
        const BundleOptions options = at.bundleOptions(held, width, 0, 0);
        return costOf(at.assemble(), options) / (noise * noise);
    };
    const double least = costOfScene(middle);
    const auto reach = [&](double factor) {
        Reconstruction moved = middle;
        double last = own;
        for (double focal = own * factor; focal > 0.33 * size && focal < 11.2 * size && !progress.stopped(); focal *= factor) {
            // The same glass bends the same pixels; and of a camera that does not turn, a scene stretched in depth looks the same.
            const double ratio = focal / moved.lens().focal_px;
            Lens lens = moved.lens();
            lens.k1 *= ratio * ratio;
            lens.k2 *= std::pow(ratio, 4);
            lens.focal_px = focal;
            Reconstruction deeper = moved;
            deeper.deepen(ratio);
            for (Reconstruction* start : {&moved, &deeper}) {
                start->setLens(lens);
                start->adjust(held, width, 14, progress, 1e-5);
            }
            if (costOfScene(deeper) < costOfScene(moved)) moved = std::move(deeper);
            if (costOfScene(moved) - least > clear) return last;
            last = focal;
        }
        return last;
    };
    const double low = reach(1 / kStep), high = reach(kStep);
    return {low, high};
}

std::optional<FocalOpinion> focalAskedFor(const Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    Reconstruction part = thinned(scene, kFrames);
    const LensTerms free = LensTerms(plan.fine).add(LensTerm::focal);
    const double width = lossWidth(part);
    part.adjust(free, width, 20, progress);
    part.adjust(free, lossWidth(part), 20, progress);
    const auto covariance = covarianceOf(part.assemble(), part.bundleOptions(free, lossWidth(part), 0, 0));
    if (!covariance) return std::nullopt;
    return FocalOpinion{part.lens().focal_px, covariance->deviationOf(LensTerm::focal)};
}

std::string inRanges(const std::vector<int>& frames) {
    std::string text;
    for (std::size_t i = 0; i < frames.size();) {
        std::size_t j = i;
        while (j + 1 < frames.size() && frames[j + 1] == frames[j] + 1) ++j;
        text += (text.empty() ? "" : ", ") + (i == j ? fmt::format("{}", frames[i]) : fmt::format("{}-{}", frames[i], frames[j]));
        i = j + 1;
    }
    return text;
}

}  // namespace pinion::solving
