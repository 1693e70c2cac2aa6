#include "stages/puttingback.h"
#include "base/files.h"

#include "jobs/delivering.h"
#include "jobs/places.h"
#include "plate/still.h"

namespace pinion {

void startPutBack(Session& session, const std::filesystem::path& changed, const std::string& name,
                  const PutBackRun& run) {
    if (!session.isReady()) return;
    const Shot& shot = session.shot();
    const std::string ending = loweredEnding(changed);
    // A painted patch says nothing of what the frames should be: they become what the plate is.
    const bool isSequence =
        !isStillPicture(changed) && (ending == ".exr" || ending == ".png" || ending == ".tif" || ending == ".tiff");
    const auto pattern = deliveryFolderOf(shot, session.document.file()) /
                         (fileNameOf(name) + (isSequence ? ".####" + ending : std::string(".mp4")));
    const auto work = [run, changed, pattern,
                       range = shot.plate.frames](const JobLink& link) -> Expected<PutBackReport> {
        const auto made = isStillPicture(changed) ? openStill(changed, range.first, range.last)
                                                  : Plate::open(changed, {.firstFrameOfVideo = range.first});
        if (!made) return tl::unexpected(made.error());
        FrameCache held(*made);
        return run(held, pattern, link);
    };
    const auto merge = [&session, pattern](PutBackReport& report) {
        session.say(
            QString("%1 frames: %2\n%3 of them are the plate to the last bit; on the others %4 % of the picture "
                    "was put back.")
                .arg(report.render.frames)
                .arg(text(pattern.string()))
                .arg(report.unchanged.size())
                .arg(100 * report.changed, 0, 'f', 2));
    };
    session.jobs.start(
        Job<PutBackReport>{.name = "Putting back", .frames = shot.plate.range.count(), .run = work, .merge = merge});
}

}  // namespace pinion
