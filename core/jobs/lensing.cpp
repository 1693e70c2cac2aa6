#include "jobs/lensing.h"

#include "lens/edges.h"
#include "plate/plate.h"

#include <cctype>
#include <map>
#include <set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

Expected<void> checkAlike(ChartPictures& found, const fs::path& path, int width, int height) {
    if (found.width == 0) {
        found.width = width;
        found.height = height;
    }
    if (width == found.width && height == found.height) return {};
    return failure(Fault::input, "{}: is {}x{}, the first picture {}x{}; all have to be of one lens and size",
                   path.string(), width, height, found.width, found.height);
}

Expected<void> addStill(ChartPictures& found, const fs::path& path, const Chart& chart) {
    const auto picture = readStill(path);
    if (!picture) return tl::unexpected(picture.error());
    if (auto fits = checkAlike(found, path, (*picture)->width, (*picture)->height); !fits) return fits;
    found.views.push_back({.name = path.filename().string(), .corners = chartCorners(**picture, chart)});
    return {};
}

Expected<void> addFrames(ChartPictures& found, const fs::path& path, const Chart& chart, const Progress& progress) {
    const auto plate = Plate::open(path);
    if (!plate) return tl::unexpected(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (auto fits = checkAlike(found, path, facts.width, facts.height); !fits) return fits;
    for (int frame = facts.firstFrame; frame <= facts.lastFrame; ++frame) {
        if (progress.stopped()) return failure(Fault::stopped, "");
        const auto picture = (*plate)->read(frame);
        ChartView view{.name = fmt::format("{} {}", path.filename().string(), frame)};
        if (picture) view.corners = chartCorners(**picture, chart);
        else view.trouble = picture.error().message;
        found.views.push_back(std::move(view));
        progress.report(double(frame - facts.firstFrame + 1) / facts.frameCount(), found.views.back().name);
    }
    return {};
}

/// A picture by its ending; anything else is a plate.
bool isStill(const fs::path& path) {
    static const std::set<std::string> kStills{".png", ".jpg", ".jpeg", ".tif", ".tiff", ".exr", ".dpx", ".bmp"};
    std::string ending = path.extension().string();
    for (char& letter : ending) letter = char(std::tolower(static_cast<unsigned char>(letter)));
    std::error_code code;
    return kStills.contains(ending) && fs::is_regular_file(path, code);
}

Expected<BentFrames> render(FrameCache& frames, const FrameRange& range, LookUp table,
                            const std::filesystem::path& pattern, const BendChoices& choices, int width, int height,
                            const Progress& progress) {
    const auto shared = std::make_shared<const LookUp>(std::move(table));
    auto report = renderBent(
        frames, range, [&](int) { return shared; }, pattern,
        {.width = width,
         .height = height,
         .filter = choices.filter,
         .edges = choices.edges,
         .quality = choices.quality},
        progress);
    if (!report) return tl::unexpected(report.error());
    return BentFrames{std::move(*report), width, height, shared->out};
}

}  // namespace

Expected<std::vector<LensLine>> traceLines(FrameCache& frames, std::span<const StraightLine> lines,
                                           const Progress& progress) {
    std::vector<LensLine> traced;
    std::map<int, Plane> planes;
    for (const StraightLine& line : lines) {
        if (progress.stopped()) return failure(Fault::stopped, "");
        auto plane = planes.find(line.frame);
        if (plane == planes.end()) {
            const auto picture = frames.get(line.frame);
            if (!picture) return tl::unexpected(picture.error());
            plane = planes.emplace(line.frame, analysisPlane(**picture)).first;
        }
        SnappedLine on = snapped(plane->second, line.points);
        traced.push_back(
            {line.frame, List<Eigen::Vector2d>(std::move(on.clicks)), List<Eigen::Vector2d>(std::move(on.edge))});
        progress.report(double(traced.size()) / double(lines.size()));
    }
    return traced;
}

Expected<ChartPictures> findCharts(const std::vector<fs::path>& pictures, const Chart& chart,
                                   const Progress& progress) {
    ChartPictures found;
    for (std::size_t i = 0; i < pictures.size(); ++i) {
        const Progress part =
            progress.part(double(i) / double(pictures.size()), double(i + 1) / double(pictures.size()));
        if (part.stopped()) return failure(Fault::stopped, "");
        const auto added =
            isStill(pictures[i]) ? addStill(found, pictures[i], chart) : addFrames(found, pictures[i], chart, part);
        if (!added) return tl::unexpected(added.error());
        part.report(1.0, pictures[i].filename().string());
    }
    return found;
}

Expected<void> checkSize(const Glass& glass, int width, int height, std::string_view what) {
    const bool isLens = std::holds_alternative<Lens>(glass);
    const auto [ownWidth, ownHeight] = std::visit(
        [](const auto& own) {
            return std::pair{own.width, own.height};
        },
        glass);
    if (ownWidth == width && ownHeight == height) return {};
    return failure(Fault::input, "the {} is for {}x{}, {} {}x{}; one of another size bends the wrong pixels",
                   isLens ? "lens" : "map", ownWidth, ownHeight, what, width, height);
}

Expected<BentFrames> undistortPlate(FrameCache& frames, const FrameRange& range, const Glass& glass,
                                    const fs::path& pattern, const BendChoices& choices, const Progress& progress) {
    const int width = frames.facts().width, height = frames.facts().height;
    if (auto fits = checkSize(glass, width, height, "the plate is"); !fits) return tl::unexpected(fits.error());
    if (const auto* map = std::get_if<StMap>(&glass))
        return render(frames, range, lookUpOf(*map, {0, 0, width, height}, width, height), pattern, choices, width,
                      height, progress);
    const Lens& lens = std::get<Lens>(glass);
    const auto box = undistortedBox(lens, choices.overscan);
    if (!box) return tl::unexpected(box.error());
    return render(frames, range, undistorting(lens, *box, choices.samples), pattern, choices, width, height, progress);
}

Expected<BentFrames> redistortPictures(FrameCache& frames, const FrameRange& range, const Glass& glass,
                                       const fs::path& pattern, const BendChoices& choices, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    const FrameWindow frame = facts.window.value_or(FrameWindow{facts.width, facts.height, 0, 0});
    if (auto fits = checkSize(glass, frame.width, frame.height, "the pictures' frame is"); !fits)
        return tl::unexpected(fits.error());
    const PixelBox source{frame.x0, frame.y0, frame.x0 + facts.width, frame.y0 + facts.height};
    const auto* map = std::get_if<StMap>(&glass);
    return render(frames, range,
                  map ? lookUpOf(*map, source, frame.width, frame.height)
                      : redistorting(std::get<Lens>(glass), source, choices.samples),
                  pattern, choices, frame.width, frame.height, progress);
}

}  // namespace pinion
