#include "jobs/steadying.h"
#include "shot/stages/steadystage.h"

namespace pinion {

Expected<RenderReport> runRender(const Shot& shot, const PicturePlan& plan, FrameCache& frames,
                                 const std::filesystem::path& pattern, const Progress& progress) {
    const RenderOptions options{.filter = shot.steady.filter, .edges = shot.steady.edges};
    if (!plan.rows) return renderFrames(frames, plan.frames, pattern, options, progress);
    const std::vector<SheetMap> sheets = plan.sheets(options.filter, options.edges);
    std::vector<int> numbers;
    for (const SheetMap& sheet : sheets) numbers.push_back(sheet.frame);
    return renderMade(
        frames, numbers, pattern, options,
        [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
            return writingOf(sheets[i].given(picture));
        },
        progress);
}

Expected<PutBackReport> runPutBack(const Shot& shot, const PicturePlan& plan, FrameCache& frames, FrameCache& made,
                                   const std::filesystem::path& pattern, const Progress& progress,
                                   const PutBackSource& source) {
    const RenderOptions options{.filter = shot.steady.filter, .edges = shot.steady.edges};
    return putBackFrames(frames, made, plan.sheets(options.filter, options.edges), pattern, options, progress, source);
}

Expected<ShakeProfile> runTakeShake(const Shot& shot, double above_hz) {
    const auto motion = steadyMotion(shot);
    if (!motion) return tl::unexpected(motion.error());
    return takeShake(*motion, shot.plate.width, shot.plate.height, shot.plate.fps, above_hz, shot.name);
}

}  // namespace pinion
