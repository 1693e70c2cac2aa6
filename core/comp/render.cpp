#include "comp/render.h"

#include "comp/putback.h"
#include "plate/framewriter.h"

#include <deque>
#include <functional>
#include <future>
#include <numeric>
#include <regex>

namespace pinion {
namespace {

/// The same for every way to write a frame number.
std::string placeOf(const std::filesystem::path& pattern) {
    static const std::regex number("%0?\\d*d|#+");
    std::error_code code;
    return std::regex_replace(std::filesystem::weakly_canonical(pattern, code).string(), number, "#");
}

/// Writes frames of the plate, each through `made`, which is told its place in the list.
Expected<RenderReport> renderEach(FrameCache& frames, const std::vector<int>& numbers,
                                  const std::filesystem::path& pattern, FrameWriter& writer,
                                  const std::function<Picture(const Picture&, std::size_t)>& made,
                                  const Progress& progress) {
    RenderReport report;
    const bool video = pattern.filename().string().find_first_of("#%") == std::string::npos;
    const auto read = [&frames, &numbers](std::size_t i) { return frames.get(numbers[i]); };
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
    for (std::size_t i = 0; i < numbers.size(); ++i) {
        const auto picture = ahead.get();
        if (i + 1 < numbers.size()) ahead = std::async(std::launch::async, read, i + 1);
        if (progress.stopped()) {
            report.stopped = true;
            break;
        }
        if (picture) {
            last = std::make_shared<const Picture>(made(**picture, i));
        } else {
            report.missing.push_back(numbers[i]);
            // A video has no gaps: the frame before stands in, so that the length stays right.
            if (!video || !last) continue;
        }
        if (const auto done = written(video ? 0 : 1); !done) return tl::unexpected(done.error());
        writing.push_back(std::async(std::launch::async,
                                     [&writer, out = last, frame = numbers[i]] { return writer.write(frame, *out); }));
        ++report.frames;
        progress.report(double(i + 1) / double(numbers.size()), fmt::format("frame {}", numbers[i]));
    }
    if (const auto done = written(0); !done) return tl::unexpected(done.error());
    if (report.frames == 0 && !report.stopped)
        return failure(Fault::input, "{}: not one frame could be read", frames.facts().path.string());
    if (!report.stopped)
        if (const auto finished = writer.finish(); !finished) return tl::unexpected(finished.error());
    return report;
}

Expected<void> checkElsewhere(const FrameCache& frames, const std::filesystem::path& pattern) {
    if (placeOf(pattern) == placeOf(frames.facts().path))
        return failure(Fault::input, "{}: is the plate itself; choose another place", pattern.string());
    return {};
}

bool isHalf(const PlateFacts& facts) { return facts.pixelFormat.find("half") != std::string::npos; }

}  // namespace

Expected<RenderReport> renderFrames(FrameCache& frames, const std::vector<FrameMap>& maps,
                                    const std::filesystem::path& pattern, const RenderOptions& options,
                                    const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (maps.empty()) return failure(Fault::input, "there is no frame to render");
    if (auto elsewhere = checkElsewhere(frames, pattern); !elsewhere) return tl::unexpected(elsewhere.error());
    const auto writer = FrameWriter::create(pattern, facts.width, facts.height, facts.fps,
                                            {.quality = options.quality, .half = isHalf(facts)});
    if (!writer) return tl::unexpected(writer.error());
    std::vector<int> numbers;
    for (const FrameMap& map : maps) numbers.push_back(map.frame);
    const auto made = [&](const Picture& picture, std::size_t i) {
        return warped(picture, maps[i].sourceFromOutput, options.filter, options.edges);
    };
    return renderEach(frames, numbers, pattern, **writer, made, progress);
}

Expected<PutBackReport> putBackFrames(FrameCache& frames, FrameCache& made, const std::vector<FrameMap>& maps,
                                      const std::filesystem::path& pattern, const RenderOptions& options,
                                      const Progress& progress) {
    const PlateFacts &facts = frames.facts(), &own = made.facts();
    if (maps.empty()) return failure(Fault::input, "there is no frame to put back");
    if (own.width != facts.width || own.height != facts.height)
        return failure(Fault::input,
                       "{}: is {}x{}, the plate is {}x{}; put back what was given out at the plate's size",
                       own.path.string(), own.width, own.height, facts.width, facts.height);
    for (const FrameCache* source : {&frames, &made})
        if (auto elsewhere = checkElsewhere(*source, pattern); !elsewhere) return tl::unexpected(elsewhere.error());
    const auto writer = FrameWriter::create(pattern, facts.width, facts.height, facts.fps,
                                            {.quality = options.quality, .half = isHalf(facts)});
    if (!writer) return tl::unexpected(writer.error());
    std::vector<int> numbers;
    for (const FrameMap& map : maps) numbers.push_back(map.frame);
    PutBackReport report;
    double changed = 0;
    const auto back = [&](const Picture& picture, std::size_t i) {
        const auto changedPicture = own.holds(numbers[i]) ? made.get(numbers[i]) : tl::unexpected(Error{});
        PutBack one{picture};
        if (changedPicture)
            one = putBack(picture, warped(picture, maps[i].sourceFromOutput, options.filter, options.edges),
                          **changedPicture, maps[i].sourceFromOutput, {.filter = options.filter});
        if (one.changed == 0) report.unchanged.push_back(numbers[i]);
        changed += one.changed;
        return std::move(one.picture);
    };
    auto rendered = renderEach(frames, numbers, pattern, **writer, back, progress);
    if (!rendered) return tl::unexpected(rendered.error());
    report.render = std::move(*rendered);
    const auto others = double(numbers.size() - report.unchanged.size());
    report.changed = others > 0 ? changed / others : 0;
    return report;
}

Expected<RenderReport> renderBent(FrameCache& frames, const FrameRange& range,
                                  const std::function<std::shared_ptr<const LookUp>(int frame)>& tableAt,
                                  const std::filesystem::path& pattern, const BentOptions& options,
                                  const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (range.count() < 1) return failure(Fault::input, "there is no frame to render");
    if (auto elsewhere = checkElsewhere(frames, pattern); !elsewhere) return tl::unexpected(elsewhere.error());
    const auto first = tableAt(range.first);
    const PixelBox box = first->out;
    FrameWriterOptions writing{.quality = options.quality, .half = isHalf(facts)};
    if (!(box == PixelBox{0, 0, options.width, options.height}))
        writing.window = FrameWindow{options.width, options.height, box.x0, box.y0};
    const auto writer = FrameWriter::create(pattern, box.width(), box.height(), facts.fps, writing);
    if (!writer) return tl::unexpected(writer.error());
    std::vector<int> numbers(std::size_t(range.count()));
    std::iota(numbers.begin(), numbers.end(), range.first);
    const auto made = [&](const Picture& picture, std::size_t i) {
        return bent(picture, *tableAt(numbers[i]), options.filter, options.edges);
    };
    return renderEach(frames, numbers, pattern, **writer, made, progress);
}

}  // namespace pinion
