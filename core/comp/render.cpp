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
    const int width = options.width > 0 ? options.width : facts.width,
              height = options.height > 0 ? options.height : facts.height;
    const auto writer =
        FrameWriter::create(pattern, width, height, facts.fps, {.quality = options.quality, .half = isHalf(facts)});
    if (!writer) return tl::unexpected(writer.error());
    std::vector<int> numbers;
    for (const FrameMap& map : maps) numbers.push_back(map.frame);
    const auto made = [&](const Picture& picture, std::size_t i) {
        return warped(picture, maps[i].sourceFromOutput, options.filter, options.edges, width, height);
    };
    return renderEach(frames, numbers, pattern, **writer, made, progress);
}

namespace {

/// Whether `made` can be what was given out of `frames` by the maps.
Expected<void> checkMade(FrameCache& frames, FrameCache& made, const std::vector<FrameMap>& maps,
                         const RenderOptions& options, PutBackBy by) {
    const PlateFacts &facts = frames.facts(), &own = made.facts();
    if (maps.empty()) return failure(Fault::input, "there is no frame to put back");
    if (own.width != facts.width || own.height != facts.height)
        return failure(Fault::input,
                       "{}: is {}x{}, the plate is {}x{}; put back what was given out at the plate's size",
                       own.path.string(), own.width, own.height, facts.width, facts.height);
    const auto first =
        std::find_if(maps.begin(), maps.end(), [&](const FrameMap& map) { return made.get(map.frame).has_value(); });
    if (first == maps.end())
        return failure(Fault::input, "{}: holds the frames {}-{}, and none of {}-{}, which are held", own.path.string(),
                       own.firstFrame, own.lastFrame, maps.front().frame, maps.back().frame);
    if (by == PutBackBy::alpha) {
        const auto alpha = made.plate().readAlpha(first->frame);
        if (!alpha) return tl::unexpected(alpha.error());
        if (!*alpha)
            return failure(Fault::input, "{}: has no alpha; put back where it differs, or by a matte",
                           own.path.string());
    }
    if (by != PutBackBy::difference) return {};
    const auto plate = frames.get(first->frame), picture = made.get(first->frame);
    if (!plate) return {};
    // A painter changes a part of a picture.
    constexpr double kMostChanged = 0.85;
    const double share =
        differingShare(warped(**plate, first->sourceFromOutput, options.filter, options.edges), **picture);
    if (share > kMostChanged)
        return failure(Fault::input,
                       "{}: frame {} differs at {:.0f} % of its pixels from what was given out: another shot's, given "
                       "out with other settings, or written with losses; put it back by its alpha or by a matte",
                       own.path.string(), first->frame, 100 * share);
    return {};
}

}  // namespace

Expected<PutBackReport> putBackFrames(FrameCache& frames, FrameCache& made, const std::vector<FrameMap>& maps,
                                      const std::filesystem::path& pattern, const RenderOptions& options,
                                      const Progress& progress, const PutBackSource& source) {
    const PlateFacts &facts = frames.facts(), &own = made.facts();
    if (auto fits = checkMade(frames, made, maps, options, source.by); !fits) return tl::unexpected(fits.error());
    for (const FrameCache* cache : {&frames, &made})
        if (auto elsewhere = checkElsewhere(*cache, pattern); !elsewhere) return tl::unexpected(elsewhere.error());
    const auto writer = FrameWriter::create(pattern, facts.width, facts.height, facts.fps,
                                            {.quality = options.quality, .half = isHalf(facts)});
    if (!writer) return tl::unexpected(writer.error());
    std::vector<int> numbers;
    for (const FrameMap& map : maps) numbers.push_back(map.frame);
    PutBackReport report;
    double changed = 0;
    const auto partOf = [&](int frame) -> std::shared_ptr<const Plane> {
        if (source.by == PutBackBy::matte) return source.matte->at(frame);
        auto alpha = made.plate().readAlpha(frame);
        return alpha && *alpha ? std::make_shared<const Plane>(std::move(**alpha)) : nullptr;
    };
    const auto back = [&](const Picture& picture, std::size_t i) {
        const auto changedPicture = own.holds(numbers[i]) ? made.get(numbers[i]) : tl::unexpected(Error{});
        PutBack one{picture};
        const Eigen::Matrix3d& map = maps[i].sourceFromOutput;
        if (changedPicture && source.by == PutBackBy::difference)
            one = putBack(picture, warped(picture, map, options.filter, options.edges), **changedPicture, map,
                          {.filter = options.filter});
        else if (changedPicture)
            if (const auto part = partOf(numbers[i]);
                part && part->width == facts.width && part->height == facts.height)
                one = putBackBy(source.by, picture, **changedPicture, *part, map, options.filter);
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

Expected<RenderReport> putBackMattes(FrameCache& frames, const MattePictures& matte, const std::vector<FrameMap>& maps,
                                     const std::filesystem::path& pattern, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    const auto writer = FrameWriter::create(pattern, facts.width, facts.height, facts.fps, {.half = true});
    if (!writer) return tl::unexpected(writer.error());
    RenderReport report;
    for (const FrameMap& map : maps) {
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
        if (auto written = (*writer)->write(map.frame, putBackMatte(*drawn, map.sourceFromOutput)); !written)
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
