#include "jobs/matting.h"
#include "base/files.h"

#include "matte/coverage.h"
#include "plate/framewriter.h"

#include <numeric>

namespace pinion {
Expected<MatteReport> renderMattes(FrameCache& frames, const FrameRange& range, std::span<const Matte> mattes,
                                   const std::filesystem::path& pattern, MatteAs as, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (as == MatteAs::premultiplied && loweredEnding(pattern) == ".png")
        return failure(Fault::input, "{}: PNG has straight alpha only; take EXR or TIFF for multiplied colours",
                       pattern.string());
    const auto writer = FrameWriter::createFor(facts, pattern, {.half = true});
    if (!writer) return tl::unexpected(writer.error());
    MatteReport report;
    for (int frame = range.first; frame <= range.last; ++frame) {
        if (progress.stopped()) {
            report.stopped = true;
            break;
        }
        const ImageChannel plane = coverageOf(mattes, frame, facts.width, facts.height);
        report.coverage += std::accumulate(plane.values.begin(), plane.values.end(), 0.0) / double(plane.values.size());
        Expected<void> written;
        if (as == MatteAs::alone) {
            written = (*writer)->write(frame, plane);
        } else {
            const auto picture = frames.get(frame);
            if (!picture) return tl::unexpected(picture.error());
            written = (*writer)->write(frame, **picture, plane, AlphaKind::straight,
                                       as == MatteAs::straight ? AlphaKind::straight : AlphaKind::premultiplied);
        }
        if (!written) return tl::unexpected(written.error());
        ++report.frames;
        progress.report(double(report.frames) / range.count());
    }
    if (report.frames > 0) report.coverage /= report.frames;
    if (auto finished = (*writer)->finish(); !finished) return tl::unexpected(finished.error());
    return report;
}

}  // namespace pinion
