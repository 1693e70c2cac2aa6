#include "jobs/inserting.h"

#include "base/files.h"
#include "jobs/goingon.h"
#include "jobs/standing.h"
#include "plate/filestamp.h"

#include <algorithm>

namespace pinion {
namespace {

namespace fs = std::filesystem;

/// Renders a scene; `numbers` are the frames that are to be made.
Expected<InsertReport> rendered(FrameCache& frames, const std::vector<int>& numbers, const InsertScene& scene,
                                ArtShelf& shelf, const fs::path& pattern, bool alone, int quality,
                                const Progress& progress) {
    InsertReport report{{}, 0, scene.notes};
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        if (!alone) return writingOf(composed(scene, numbers[i], picture, shelf, &report.problems));
        return [made = composedAlone(scene, numbers[i], picture, shelf, &report.problems)](FrameWriter& writer,
                                                                                           int number) {
            return writer.write(number, made.picture, made.alpha, AlphaKind::premultiplied, AlphaKind::premultiplied);
        };
    };
    auto render = renderMade(frames, numbers, pattern, {.quality = quality}, made, progress);
    if (!render) return tl::unexpected(render.error());
    report.render = *std::move(render);
    return report;
}

/// What a render of the shot's inserts depends on.
std::uint64_t renderKey(const Shot& shot, const FrameCache& frames, ArtShelf& shelf, bool alone) {
    Fingerprint print;
    addInserts(print, shot);
    // Files that are replaced make another render.
    print.add(stampOf(frames.plate(), shot.plate.range));
    for (const Clip& clip : shot.clips)
        if (const auto plate = shelf.open(clip)) print.add(stampOf(**plate, clip.frames));
    addFilesOf(print, shot.scene, shelf);
    for (const Matte& matte : shot.mattes)
        if (matte.pictures)
            if (const auto plate = Plate::open(matte.pictures->path())) print.add(stampOf(**plate, shot.plate.range));
    return print.add(alone ? 1 : 0).value();
}

/// Whether both name the same file on a frame.
bool isSamePlace(const fs::path& a, const fs::path& b, int frame) {
    std::error_code code;
    return fs::weakly_canonical(frameFile(a, frame), code) == fs::weakly_canonical(frameFile(b, frame), code);
}

Expected<void> checkClips(const InsertScene& scene, ArtShelf& shelf, const fs::path& pattern) {
    std::string gone;
    for (const InsertScene::One& one : scene.inserts) {
        if (!one.surface || one.insert.shows != Insert::Shows::clip) continue;
        if (!one.clip) return failure(Fault::input, "{}: has no clip; choose one in its card", one.insert.name);
        if (isSamePlace(pattern, one.clip->path, one.clip->frames.first))
            return failure(Fault::input, "{}: is the clip {} itself; choose another place", pattern.string(),
                           one.clip->name);
        if (const auto open = shelf.open(*one.clip); !open) gone += (gone.empty() ? "" : "; ") + open.error().message;
        if (one.clip->hasAlpha)
            if (const auto kind = alphaKindOf(*one.clip); !kind) return tl::unexpected(kind.error());
    }
    if (gone.empty()) return {};
    return failure(Fault::input, "{}; find it again in the list of clips", gone);
}

}  // namespace

std::vector<Quad> cornersOverShutter(const CornersFile& corners, std::size_t index, double shutter) {
    const InsertSurface surface(corners);
    const auto at = [&](int frame) { return surface.at(frame); };
    std::vector<Quad> quads;
    for (const double part : shutterInstants(at, corners[index].frame, shutter))
        quads.push_back(shutter > 0 ? cornersBetween(at, corners[index].frame, part) : corners[index].corners);
    return quads;
}

Expected<InsertReport> runInsert(FrameCache& frames, const FrameRange& range, const CornersFile& corners,
                                 const fs::path& art, const fs::path& pattern, const InsertOptions& options,
                                 std::span<const Matte> heldOut, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    const auto first =
        std::find_if(corners.begin(), corners.end(), [&](const PlaneTie& one) { return range.holds(one.frame); });
    if (first == corners.end())
        return failure(Fault::input, "there are no corners on the frames {}-{}", range.first, range.last);
    auto clip = clipOf(art);
    if (!clip) return tl::unexpected(clip.error());
    clip->alpha = options.alphaKind;
    if (clip->hasAlpha)
        if (const auto kind = alphaKindOf(*clip); !kind) return tl::unexpected(kind.error());
    InsertScene::One one;
    one.insert.name = clip->name;
    one.insert.look = options.look;
    one.insert.shape.softEdge_px = options.softEdge_px;
    one.insert.shutter = options.shutter;
    one.insert.time.start = first->frame;
    one.clip = *clip;
    one.surface = std::make_shared<const InsertSurface>(corners, options.lens, facts.pixelAspect);
    one.source = std::make_shared<const ArtSource>(one.insert, one.clip, one.surface);
    one.heldOut.assign(heldOut.begin(), heldOut.end());
    const InsertScene scene{{one}, facts.width, facts.height, facts.fps, {}};
    std::vector<int> numbers(std::size_t(range.count()));
    std::iota(numbers.begin(), numbers.end(), range.first);
    ArtShelf shelf;
    return rendered(frames, numbers, scene, shelf, pattern, options.alone, options.quality, progress);
}

Expected<InsertReport> runInserts(const Shot& shot, FrameCache& frames, ArtShelf& shelf, const fs::path& pattern,
                                  bool alone, const Progress& progress) {
    const InsertScene scene = insertSceneOf(shot);
    if (scene.inserts.empty()) return failure(Fault::input, "there is no insert to render");
    if (const auto whole = checkClips(scene, shelf, pattern); !whole) return tl::unexpected(whole.error());
    const GoingOn going(pattern, isSequencePattern(pattern) ? renderKey(shot, frames, shelf, alone) : 0,
                        shot.plate.range);
    InsertReport report{{}, 0, scene.notes};
    if (!going.open().empty()) {
        if (const auto begun = going.begin(); !begun) return tl::unexpected(begun.error());
        auto made = rendered(frames, going.open(), scene, shelf, pattern, alone, 16, progress);
        if (!made) return tl::unexpected(going.failed(made.error()));
        report = *std::move(made);
    }
    report.kept = going.kept();
    if (!report.render.stopped) going.finish();
    return report;
}

}  // namespace pinion
