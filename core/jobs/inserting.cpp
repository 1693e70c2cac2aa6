#include "jobs/inserting.h"

#include "matte/coverage.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr int kMostSteps = 64;

/// Whether the art's colours are multiplied by its alpha: EXR holds them so (its standard), PNG does not (its own).
Expected<AlphaKind> kindOf(const PlateFacts& art, const std::optional<AlphaKind>& told) {
    if (told) return *told;
    const std::string ending = art.path.extension().string();
    if (ending == ".exr") return AlphaKind::premultiplied;
    if (ending == ".png") return AlphaKind::straight;
    return failure(
        Fault::input,
        "{}: has an alpha, and it cannot be told whether its colours are multiplied by it; say premultiplied "
        "or straight",
        art.path.string());
}

/// The art of one frame; kept while the next one is the same.
class ArtFrames {
public:
    ArtFrames(FrameCache& frames, bool linear, std::optional<AlphaKind> told)
        : frames_(frames), linear_(linear), told_(told) {}
    Expected<std::shared_ptr<const Art>> at(int frame) {
        const PlateFacts& facts = frames_.facts();
        const int held = std::clamp(frame, facts.firstFrame, facts.lastFrame);
        if (art_ && held == frame_) return art_;
        const auto picture = frames_.get(held);
        if (!picture) return tl::unexpected(picture.error());
        const auto alpha = frames_.plate().readAlpha(held);
        if (!alpha) return tl::unexpected(alpha.error());
        auto kind = AlphaKind::straight;
        if (*alpha) {
            const auto known = kindOf(facts, told_);
            if (!known) return tl::unexpected(known.error());
            kind = *known;
        }
        auto art = Art::create(**picture, *alpha ? &**alpha : nullptr, kind, linear_);
        if (!art) return failure(art.error().fault, "{}: {}", facts.path.string(), art.error().message);
        art_ = std::make_shared<const Art>(*std::move(art));
        frame_ = held;
        return art_;
    }

private:
    FrameCache& frames_;
    bool linear_;
    std::optional<AlphaKind> told_;
    std::shared_ptr<const Art> art_;
    int frame_ = 0;
};

/// A corner between frames: a cubic through those beside it (Catmull and Rom 1974).
Vector2d between(const CornersFile& corners, std::size_t index, std::size_t corner, double part) {
    const auto at = [&](int step) {
        const auto there = std::ptrdiff_t(index) + step;
        const bool holds = there >= 0 && there < std::ptrdiff_t(corners.size()) &&
                           corners[std::size_t(there)].frame == corners[index].frame + step;
        // Where it is not known, it goes on as it went.
        if (holds) return corners[std::size_t(there)].corners[corner];
        const auto back = std::ptrdiff_t(index) - step;
        const bool mirrored = back >= 0 && back < std::ptrdiff_t(corners.size()) &&
                              corners[std::size_t(back)].frame == corners[index].frame - step;
        const Vector2d here = corners[index].corners[corner];
        return mirrored ? Vector2d(2 * here - corners[std::size_t(back)].corners[corner]) : here;
    };
    const int from = part < 0 ? -1 : 0;
    const double t = part - from;
    const Vector2d a = at(from - 1), b = at(from), c = at(from + 1), d = at(from + 2);
    return 0.5 * (2 * b + t * (c - a) + t * t * (2 * a - 5 * b + 4 * c - d) + t * t * t * (3 * b - a - 3 * c + d));
}

}  // namespace

std::vector<Quad> cornersOverShutter(const CornersFile& corners, std::size_t index, double shutter) {
    const Quad& here = corners[index].corners;
    if (!(shutter > 0)) return {here};
    double reach = 0;
    const auto shown = [&](double part) {
        Quad quad;
        for (std::size_t i = 0; i < 4; ++i) quad[i] = between(corners, index, i, part);
        return quad;
    };
    const Quad first = shown(-0.5 * shutter), last = shown(0.5 * shutter);
    for (std::size_t i = 0; i < 4; ++i) reach = std::max(reach, (last[i] - first[i]).norm());
    const int steps = std::clamp(int(std::ceil(1.5 * reach)), 1, kMostSteps);
    std::vector<Quad> quads;
    for (int k = 0; k < steps; ++k) quads.push_back(shown(shutter * ((k + 0.5) / steps - 0.5)));
    return quads;
}

Expected<RenderReport> runInsert(FrameCache& frames, const FrameRange& range, const CornersFile& corners,
                                 FrameCache& artFrames, const std::filesystem::path& pattern,
                                 const InsertOptions& options, std::span<const Matte> heldOut,
                                 const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    const auto first =
        std::find_if(corners.begin(), corners.end(), [&](const PlaneTie& one) { return range.holds(one.frame); });
    if (first == corners.end())
        return failure(Fault::input, "there are no corners on the frames {}-{}", range.first, range.last);
    std::vector<int> numbers(std::size_t(range.count()));
    std::iota(numbers.begin(), numbers.end(), range.first);
    std::optional<ArtFrames> art;
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        const int frame = numbers[i];
        if (!art) art.emplace(artFrames, picture.linear, options.alphaKind);
        const auto here = std::lower_bound(corners.begin(), corners.end(), frame,
                                           [](const PlaneTie& one, int number) { return one.frame < number; });
        Layer layer;
        if (here != corners.end() && here->frame == frame) {
            const auto shown = art->at(artFrames.facts().firstFrame + frame - first->frame);
            if (!shown) return tl::unexpected(shown.error());
            layer = (*shown)->laid(cornersOverShutter(corners, std::size_t(here - corners.begin()), options.shutter),
                                   facts.width, facts.height, options.look.softEdge_px);
        }
        std::optional<Plane> covered;
        if (!heldOut.empty()) covered = coverageOf(heldOut, frame, facts.width, facts.height);
        const Plane* front = covered ? &*covered : nullptr;
        if (!options.alone) return writingOf(withInsert(picture, layer, options.look, front));
        return [alone = insertAlone(layer, options.look, facts.width, facts.height, picture.linear, front)](
                   FrameWriter& writer, int number) {
            return writer.write(number, alone.picture, alone.alpha, AlphaKind::premultiplied);
        };
    };
    return renderMade(frames, numbers, pattern, {.quality = options.quality}, made, progress);
}

}  // namespace pinion
