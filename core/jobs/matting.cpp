#include "jobs/matting.h"

#include "matte/coverage.h"
#include "plate/framewriter.h"

#include <numeric>

namespace pinion {
namespace {

/// Multiplied where light adds up: in linear values.
Picture multiplied(const Picture& picture, const Plane& alpha) {
    Picture result = picture;
    for (std::size_t i = 0; i < alpha.values.size(); ++i)
        for (std::size_t c = 0; c < 3; ++c) {
            const std::size_t k = 3 * i + c;
            const float a = alpha.values[i];
            if (picture.depth == Picture::Depth::bits8) {
                const float linear = decodeSrgb(float(picture.bytes[k]) / 255.0F) * a;
                result.bytes[k] = std::uint8_t(encodeSrgb(linear) * 255.0F + 0.5F);
            } else if (picture.linear) {
                result.floats[k] = picture.floats[k] * a;
            } else {
                result.floats[k] = encodeSrgb(decodeSrgb(std::max(0.0F, picture.floats[k])) * a);
            }
        }
    return result;
}

}  // namespace

Expected<MatteReport> renderMattes(FrameCache& frames, const FrameRange& range, std::span<const Matte> mattes,
                                   const std::filesystem::path& pattern, MatteAs as, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (as == MatteAs::premultiplied && pattern.extension() == ".png")
        return failure(Fault::input, "{}: PNG has straight alpha only; take EXR or TIFF for multiplied colours",
                       pattern.string());
    const auto writer = FrameWriter::create(pattern, facts.width, facts.height, facts.fps, {.half = true});
    if (!writer) return tl::unexpected(writer.error());
    MatteReport report;
    for (int frame = range.first; frame <= range.last; ++frame) {
        if (progress.stopped()) {
            report.stopped = true;
            break;
        }
        const Plane plane = coverageOf(mattes, frame, facts.width, facts.height);
        report.coverage += std::accumulate(plane.values.begin(), plane.values.end(), 0.0) / double(plane.values.size());
        Expected<void> written;
        if (as == MatteAs::alone) {
            written = (*writer)->write(frame, plane);
        } else {
            const auto picture = frames.get(frame);
            if (!picture) return tl::unexpected(picture.error());
            written = as == MatteAs::straight
                          ? (*writer)->write(frame, **picture, plane, AlphaKind::straight)
                          : (*writer)->write(frame, multiplied(**picture, plane), plane, AlphaKind::premultiplied);
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
