#include "jobs/steadying.h"
#include "shot/stages/steadystage.h"

namespace pinion {

Expected<RenderReport> runRender(const Shot& shot, const PicturePlan& plan, FrameCache& frames,
                                 const std::filesystem::path& pattern, const Progress& progress) {
    return renderFrames(frames, plan.frames, pattern, {.filter = shot.steady.filter, .edges = shot.steady.edges},
                        progress);
}

Expected<PutBackReport> runPutBack(const Shot& shot, const PicturePlan& plan, FrameCache& frames, FrameCache& made,
                                   const std::filesystem::path& pattern, const Progress& progress,
                                   const PutBackSource& source) {
    return putBackFrames(frames, made, plan.frames, pattern, {.filter = shot.steady.filter, .edges = shot.steady.edges},
                         progress, source);
}

Expected<ShakeProfile> runTakeShake(const Shot& shot, double above_hz) {
    const auto motion = steadyMotion(shot);
    if (!motion) return tl::unexpected(motion.error());
    return takeShake(*motion, shot.plate.width, shot.plate.height, shot.plate.fps, above_hz, shot.name);
}

}  // namespace pinion
