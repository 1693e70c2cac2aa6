#include "jobs/projecting.h"

#include "comp/insert.h"

namespace pinion {

Expected<ProjectReport> runProject(FrameCache& frames, const FrameRange& range, const Solve& solve,
                                   const Orientation& orientation, const Projector& projector,
                                   const std::filesystem::path& pattern, int quality, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (solve.lens.width != facts.width || solve.lens.height != facts.height)
        return failure(Fault::input, "the camera is for {}x{}, the plate is {}x{}", solve.lens.width, solve.lens.height,
                       facts.width, facts.height);
    ProjectReport report;
    std::vector<int> numbers;
    for (int frame = range.first; frame <= range.last; ++frame) {
        numbers.push_back(frame);
        if (!solvedFrameAt(solve, frame)) report.unsolved.push_back(frame);
    }
    if (report.unsolved.size() == numbers.size())
        return failure(Fault::input, "the camera has none of the frames {}-{}", range.first, range.last);
    const auto made = [&](const Picture& picture, std::size_t i) -> Expected<WriteFrame> {
        InsertAlone alone(facts.width, facts.height, picture.linear);
        if (const auto eye = WorldEye::of(solve, orientation, numbers[i])) {
            const Layer layer = projector.on(*eye, numbers[i], {0, 0, facts.width, facts.height}, picture.linear);
            bool isEmpty = true;
            for (std::size_t p = 3; p < layer.rgba.size() && isEmpty; p += 4) isEmpty = layer.rgba[p] <= 0;
            if (isEmpty) report.empty.push_back(numbers[i]);
            alone.add(layer);
        }
        return [made = std::move(alone)](FrameWriter& writer, int number) {
            return writer.write(number, made.picture, made.alpha, AlphaKind::premultiplied, AlphaKind::premultiplied);
        };
    };
    auto render = renderMade(frames, numbers, pattern, {.quality = quality}, made, progress);
    if (!render) return tl::unexpected(render.error());
    report.render = *std::move(render);
    return report;
}

}  // namespace pinion
