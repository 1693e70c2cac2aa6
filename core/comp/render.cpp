#include "comp/render.h"

#include "plate/framewriter.h"

#include <deque>
#include <future>
#include <regex>

namespace pinion {
namespace {

/// The same for every way to write a frame number.
std::string placeOf(const std::filesystem::path& pattern) {
    static const std::regex number("%0?\\d*d|#+");
    std::error_code code;
    return std::regex_replace(std::filesystem::weakly_canonical(pattern, code).string(), number, "#");
}

}  // namespace

Expected<RenderReport> renderFrames(FrameCache& frames, const std::vector<FrameMap>& maps,
                                    const std::filesystem::path& pattern, const RenderOptions& options,
                                    const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (maps.empty()) return failure(Fault::input, "there is no frame to render");
    if (placeOf(pattern) == placeOf(facts.path))
        return failure(Fault::input, "{}: is the plate itself; choose another place", pattern.string());
    auto writer =
        FrameWriter::create(pattern, facts.width, facts.height, facts.fps,
                            {.quality = options.quality, .half = facts.pixelFormat.find("half") != std::string::npos});
    if (!writer) return tl::unexpected(writer.error());
    RenderReport report;
    const bool video = pattern.filename().string().find_first_of("#%") == std::string::npos;
    const auto read = [&frames, &maps](std::size_t i) { return frames.get(maps[i].frame); };
    std::future<Expected<PicturePtr>> ahead = std::async(std::launch::async, read, std::size_t(0));
    // Compressing a picture takes longer than warping it: of a sequence two are written at once, a video takes them in
    // turn.
    std::deque<std::future<Expected<void>>> writing;
    const auto written = [&](std::size_t most) -> Expected<void> {
        while (writing.size() > most) {
            const auto done = writing.front().get();
            writing.pop_front();
            if (!done) return done;
        }
        return {};
    };
    std::shared_ptr<const Picture> last;
    for (std::size_t i = 0; i < maps.size(); ++i) {
        const auto picture = ahead.get();
        if (i + 1 < maps.size()) ahead = std::async(std::launch::async, read, i + 1);
        if (progress.stopped()) {
            report.stopped = true;
            break;
        }
        if (picture) {
            last = std::make_shared<const Picture>(
                warped(**picture, maps[i].sourceFromOutput, options.filter, options.edges));
        } else {
            report.missing.push_back(maps[i].frame);
            // A video has no gaps: the frame before stands in, so that the length stays right.
            if (!video || !last) continue;
        }
        if (const auto done = written(video ? 0 : 1); !done) return tl::unexpected(done.error());
        writing.push_back(std::async(std::launch::async, [&writer, out = last, frame = maps[i].frame] {
            return (*writer)->write(frame, *out);
        }));
        ++report.frames;
        progress.report(double(i + 1) / double(maps.size()), fmt::format("frame {}", maps[i].frame));
    }
    if (const auto done = written(0); !done) return tl::unexpected(done.error());
    if (report.frames == 0 && !report.stopped)
        return failure(Fault::input, "{}: not one frame could be read", facts.path.string());
    if (!report.stopped)
        if (const auto finished = (*writer)->finish(); !finished) return tl::unexpected(finished.error());
    return report;
}

}  // namespace pinion
