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

using MakeFrame = std::function<Expected<WriteFrame>(const Picture&, std::size_t)>;

/// Writes frames of the plate, each through `made`, which is told its place in the list.
Expected<RenderReport> renderEach(FrameCache& frames, const std::vector<int>& numbers,
                                  const std::filesystem::path& pattern, FrameWriter& writer, const MakeFrame& made,
                                  const Progress& progress) {
    RenderReport report;
    const bool video = !isSequencePattern(pattern);
    const auto read = [&frames, &numbers](std::size_t i) { return frames.get(numbers[i]); };
    std::future<Expected<PicturePtr>> ahead = std::async(std::launch::async, read, std::size_t(0));
    // Compressing a picture takes longer than warping it: of a sequence two are written at once, a video takes them in
    // turn.
    std::deque<std::future<Expected<void>>> underWay;
    const auto written = [&](std::size_t most) -> Expected<void> {
        while (underWay.size() > most) {
            const auto done = underWay.front().get();
            underWay.pop_front();
            if (!done) return done;
        }
        return {};
    };
    std::shared_ptr<const WriteFrame> last;
    int standIns = 0;  // of a video's first frames, which have none before them
    const auto begin = [&](int frame) -> Expected<void> {
        if (auto done = written(video ? 0 : 1); !done) return done;
        underWay.push_back(
            std::async(std::launch::async, [&writer, out = last, frame] { return (*out)(writer, frame); }));
        ++report.frames;
        return {};
    };
    for (std::size_t i = 0; i < numbers.size(); ++i) {
        const auto picture = ahead.get();
        if (i + 1 < numbers.size()) ahead = std::async(std::launch::async, read, i + 1);
        if (progress.stopped()) {
            report.stopped = true;
            break;
        }
        if (picture) {
            auto one = made(**picture, i);
            if (!one) return tl::unexpected(one.error());
            last = std::make_shared<const WriteFrame>(*std::move(one));
        } else {
            report.missing.push_back(numbers[i]);
            // A video has no gaps: its neighbour stands in, so that the length stays right.
            if (!video) continue;
            if (!last) {
                ++standIns;
                continue;
            }
        }
        for (; standIns >= 0; --standIns)
            if (auto done = begin(numbers[i]); !done) return tl::unexpected(done.error());
        standIns = 0;
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

WriteFrame writingOf(Picture picture) {
    return [made = std::move(picture)](FrameWriter& writer, int frame) { return writer.write(frame, made); };
}

Expected<RenderReport> renderMade(FrameCache& frames, const std::vector<int>& numbers,
                                  const std::filesystem::path& pattern, const RenderOptions& options,
                                  const MakeFrame& made, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (numbers.empty()) return failure(Fault::input, "there is no frame to render");
    if (auto elsewhere = checkElsewhere(frames, pattern); !elsewhere) return tl::unexpected(elsewhere.error());
    const auto writer = FrameWriter::createFor(
        facts, pattern, {.quality = options.quality, .half = isHalf(facts), .window = options.window}, options.width,
        options.height);
    if (!writer) return tl::unexpected(writer.error());
    return renderEach(frames, numbers, pattern, **writer, made, progress);
}

Expected<RenderReport> renderFrames(FrameCache& frames, const std::vector<FrameMap>& maps,
                                    const std::filesystem::path& pattern, const RenderOptions& options,
                                    const Progress& progress) {
    std::vector<int> numbers;
    for (const FrameMap& map : maps) numbers.push_back(map.frame);
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        return writingOf(
            warped(picture, maps[i].sourceFromOutput, options.filter, options.edges, options.width, options.height));
    };
    return renderMade(frames, numbers, pattern, options, made, progress);
}

namespace {

/// Whether a frame of `made` can be what was given out of that frame, changed in a part.
Expected<void> checkAlike(FrameCache& frames, FrameCache& made, int frame,
                          const std::function<Picture(const Picture&)>& given) {
    const auto plate = frames.get(frame), picture = made.get(frame);
    if (!plate) return {};
    // A painter changes a part of a picture.
    constexpr double kMostChanged = 0.85;
    const double share = differingShare(given(**plate), **picture);
    if (share > kMostChanged)
        return failure(Fault::input,
                       "{}: frame {} differs at {:.0f} % of its pixels from what was given out: another shot's, given "
                       "out with other settings, or written with losses; put it back by its alpha or by a matte",
                       made.facts().path.string(), frame, 100 * share);
    return {};
}

tl::unexpected<Error> holdsNone(const PlateFacts& made, int first, int last) {
    return failure(Fault::input, "{}: holds the frames {}-{}, and none of {}-{}, which are held", made.path.string(),
                   made.firstFrame, made.lastFrame, first, last);
}

/// Whether `made` can be what was given out of `frames` by the maps.
Expected<void> checkMade(FrameCache& frames, FrameCache& made, const std::vector<SheetMap>& maps, PutBackBy by) {
    const PlateFacts &facts = frames.facts(), &own = made.facts();
    if (maps.empty()) return failure(Fault::input, "there is no frame to put back");
    if (own.width != facts.width || own.height != facts.height)
        return failure(Fault::input,
                       "{}: is {}x{}, the plate is {}x{}; put back what was given out at the plate's size",
                       own.path.string(), own.width, own.height, facts.width, facts.height);
    const auto first =
        std::find_if(maps.begin(), maps.end(), [&](const SheetMap& map) { return made.get(map.frame).has_value(); });
    if (first == maps.end()) return holdsNone(own, maps.front().frame, maps.back().frame);
    if (by == PutBackBy::alpha) {
        const auto alpha = made.plate().readAlpha(first->frame);
        if (!alpha) return tl::unexpected(alpha.error());
        if (!*alpha)
            return failure(Fault::input, "{}: has no alpha; put back where it differs, or by a matte",
                           own.path.string());
    }
    if (by != PutBackBy::difference) return {};
    return checkAlike(frames, made, first->frame, first->given);
}

/// What is done to each frame for putting back: `one` is given the plate's picture and the changed one.
using PutOne = std::function<PutBack(const Picture& plate, const Picture& changed, std::size_t i)>;
Expected<PutBackReport> putBackEach(FrameCache& frames, FrameCache& made, const std::vector<int>& numbers,
                                    const std::filesystem::path& pattern, int quality, const Progress& progress,
                                    const PutOne& one) {
    if (auto elsewhere = checkElsewhere(made, pattern); !elsewhere) return tl::unexpected(elsewhere.error());
    PutBackReport report;
    double changed = 0;
    const auto back = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        const auto changedPicture = made.facts().holds(numbers[i]) ? made.get(numbers[i]) : tl::unexpected(Error{});
        PutBack result = changedPicture ? one(picture, **changedPicture, i) : PutBack{picture};
        if (result.changed == 0) report.unchanged.push_back(numbers[i]);
        changed += result.changed;
        return writingOf(std::move(result.picture));
    };
    auto rendered = renderMade(frames, numbers, pattern, {.quality = quality}, back, progress);
    if (!rendered) return tl::unexpected(rendered.error());
    report.render = std::move(*rendered);
    const auto others = double(numbers.size() - report.unchanged.size());
    report.changed = others > 0 ? changed / others : 0;
    return report;
}

}  // namespace

Expected<PutBackReport> putBackFrames(FrameCache& frames, FrameCache& made, const std::vector<SheetMap>& maps,
                                      const std::filesystem::path& pattern, const RenderOptions& options,
                                      const Progress& progress, const PutBackSource& source) {
    const PlateFacts& facts = frames.facts();
    if (auto fits = checkMade(frames, made, maps, source.by); !fits) return tl::unexpected(fits.error());
    std::vector<int> numbers;
    for (const SheetMap& map : maps) numbers.push_back(map.frame);
    const auto partOf = [&](int frame) -> std::shared_ptr<const ImageChannel> {
        if (source.by == PutBackBy::matte) return source.matte->at(frame);
        auto alpha = made.plate().readAlpha(frame);
        return alpha && *alpha ? std::make_shared<const ImageChannel>(std::move(**alpha)) : nullptr;
    };
    const auto one = [&](const Picture& picture, const Picture& changed, std::size_t i) {
        const SheetMap map = maps[i];  // what it keeps between its two ways back goes with the frame
        if (source.by == PutBackBy::difference)
            return putBack(picture, map.given(picture), changed, map.back, {.filter = options.filter});
        const auto part = partOf(numbers[i]);
        if (!part || part->width != facts.width || part->height != facts.height) return PutBack{picture};
        return putBackBy(source.by, picture, changed, *part, map.back, options.filter);
    };
    return putBackEach(frames, made, numbers, pattern, options.quality, progress, one);
}

Expected<PutBackReport> putBackSheets(FrameCache& frames, FrameCache& made, const std::vector<SheetMap>& maps,
                                      const std::filesystem::path& pattern, const Progress& progress) {
    if (maps.empty()) return failure(Fault::input, "there is no frame to put back");
    const auto first =
        std::find_if(maps.begin(), maps.end(), [&](const SheetMap& map) { return made.get(map.frame).has_value(); });
    if (first == maps.end()) return holdsNone(made.facts(), maps.front().frame, maps.back().frame);
    if (auto alike = checkAlike(frames, made, first->frame, first->given); !alike) return tl::unexpected(alike.error());
    std::vector<int> numbers;
    for (const SheetMap& map : maps) numbers.push_back(map.frame);
    const auto one = [&](const Picture& picture, const Picture& changed, std::size_t i) {
        const SheetMap map = maps[i];  // as above
        return putBack(picture, map.given(picture), changed, map.back);
    };
    return putBackEach(frames, made, numbers, pattern, RenderOptions{}.quality, progress, one);
}

Expected<RenderReport> putBackMattes(FrameCache& frames, const MattePictures& matte, const std::vector<SheetMap>& maps,
                                     const std::filesystem::path& pattern, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    const auto writer = FrameWriter::createFor(facts, pattern, {.half = true});
    if (!writer) return tl::unexpected(writer.error());
    RenderReport report;
    for (const SheetMap& map : maps) {
        if (progress.stopped()) {
            report.stopped = true;
            break;
        }
        const auto drawn = matte.at(map.frame);
        if (!drawn) {
            report.missing.push_back(map.frame);
            continue;
        }
        if (drawn->width != facts.width || drawn->height != facts.height)
            return failure(Fault::input, "{}: is {}x{}, the plate is {}x{}", matte.path(), drawn->width, drawn->height,
                           facts.width, facts.height);
        if (auto written = (*writer)->write(map.frame, putBackMatte(*drawn, map.back)); !written)
            return tl::unexpected(written.error());
        progress.report(double(++report.frames) / double(maps.size()));
    }
    if (report.frames == 0 && !report.stopped)
        return failure(Fault::input, "{}: holds none of the frames {}-{}", matte.path(), maps.front().frame,
                       maps.back().frame);
    if (auto finished = (*writer)->finish(); !finished) return tl::unexpected(finished.error());
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
    const auto writer = FrameWriter::createFor(facts, pattern, writing, box.width(), box.height());
    if (!writer) return tl::unexpected(writer.error());
    std::vector<int> numbers(std::size_t(range.count()));
    std::iota(numbers.begin(), numbers.end(), range.first);
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        return writingOf(bent(picture, *tableAt(numbers[i]), options.filter, options.edges));
    };
    return renderEach(frames, numbers, pattern, **writer, made, progress);
}

}  // namespace pinion
