#include "jobs/lensing.h"

#include "lens/edges.h"
#include "plate/plate.h"
#include "shot/stages/lensstage.h"

#include <cctype>
#include <map>
#include <set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

constexpr int kMostFramesForCuts = 400;

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
    found.views.push_back(
        {.name = path.filename().string(), .corners = chartCorners(**picture, chart), .path = path.string()});
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
        ChartView view{
            .name = fmt::format("{} {}", path.filename().string(), frame), .path = path.string(), .frame = frame};
        if (picture) view.corners = chartCorners(**picture, chart);
        else view.trouble = picture.error().message;
        found.views.push_back(std::move(view));
        progress.report(double(frame - facts.firstFrame + 1) / facts.frameCount(), found.views.back().name);
    }
    return {};
}

/// A picture by its ending; anything else is a plate.
bool isStill(const fs::path& path) {
    std::error_code code;
    return isPictureName(path) && fs::is_regular_file(path, code);
}

using Tables = std::function<std::shared_ptr<const LookUp>(int frame)>;

Tables always(LookUp table) {
    return [shared = std::make_shared<const LookUp>(std::move(table))](int) { return shared; };
}

/// Made for each frame as it comes.
Tables overTime(const std::function<LookUp(int frame)>& make) {
    return [make](int frame) { return std::make_shared<const LookUp>(make(frame)); };
}

Expected<BentFrames> render(FrameCache& frames, const FrameRange& range, const Tables& tables, const PixelBox& box,
                            const std::filesystem::path& pattern, const BendChoices& choices, int width, int height,
                            const Progress& progress) {
    auto report = renderBent(frames, range, tables, pattern,
                             {.width = width,
                              .height = height,
                              .filter = choices.filter,
                              .edges = choices.edges,
                              .quality = choices.quality},
                             progress);
    if (!report) return tl::unexpected(report.error());
    return BentFrames{std::move(*report), width, height, box};
}

struct SizeOf {
    std::pair<int, int> operator()(const RowGlass& rows) const { return {rows.lens().width, rows.lens().height}; }
    std::pair<int, int> operator()(const auto& own) const { return {own.width, own.height}; }
};

/// What holds the undistorted picture of every frame.
Expected<PixelBox> boxOver(const LensOverTime& lenses, const FrameRange& range, const Overscan& overscan) {
    PixelBox all{0, 0, lenses.width, lenses.height};
    for (int frame = range.first; frame <= range.last; ++frame) {
        const auto box = undistortedBox(lenses.at(frame), overscan);
        if (!box) return box;
        all = {std::min(all.x0, box->x0), std::min(all.y0, box->y0), std::max(all.x1, box->x1),
               std::max(all.y1, box->y1)};
    }
    return all;
}

}  // namespace

Expected<PixelBox> undistortedBox(const Glass& glass, const FrameRange& range, const Overscan& overscan) {
    if (const auto* map = std::get_if<StMap>(&glass)) return map->data;
    if (const auto* zoom = std::get_if<LensOverTime>(&glass)) return boxOver(*zoom, range, overscan);
    if (const auto* rows = std::get_if<RowGlass>(&glass))
        return boxOver(
            {rows->lens().width, rows->lens().height, [&](int frame) { return lensOn(*rows->solve, frame); }}, range,
            overscan);
    return undistortedBox(std::get<Lens>(glass), overscan);
}

Expected<std::vector<LensLine>> traceLines(FrameCache& frames, std::span<const StraightLine> lines,
                                           const Progress& progress) {
    if (const auto inside = checkPlaces(lines, frames.facts().width, frames.facts().height); !inside)
        return tl::unexpected(inside.error());
    std::vector<LensLine> traced;
    std::map<int, ImageChannel> planes;
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

std::optional<FrameRange> framesOfLines(std::span<const int> frames) {
    if (frames.empty()) return std::nullopt;
    const auto [first, last] = std::minmax_element(frames.begin(), frames.end());
    if (*first == *last || *last - *first > kMostFramesForCuts) return std::nullopt;
    return FrameRange{*first, *last};
}

std::string cutWords(std::span<const int> frames, std::span<const int> cuts) {
    const auto range = framesOfLines(frames);
    std::vector<int> between;
    for (const int cut : cuts)
        if (range && cut > range->first && cut <= range->last) between.push_back(cut);
    if (between.empty()) return {};
    return fmt::format("another shot seems to begin at frame{} {}: lines before and after may not be of one lens",
                       between.size() == 1 ? "" : "s", frameRanges(between));
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

Expected<MapsLens> readMapsLens(const LensMaps& files, int width, int height, double focal_px) {
    const auto undistorting = readStMap(files.undistorting);
    if (!undistorting) return tl::unexpected(undistorting.error());
    const auto redistorting = readStMap(files.redistorting);
    if (!redistorting) return tl::unexpected(redistorting.error());
    auto found = lensFromMaps(*undistorting, *redistorting, width, height, focal_px);
    if (!found)
        return failure(found.error().fault, "{}, {}: {}", files.undistorting, files.redistorting,
                       found.error().message);
    return found;
}

std::optional<Glass> glassOf(const Shot& shot) {
    const auto lens = lensInForce(shot);
    if (!lens) return std::nullopt;
    if (!isOfZoom(shot)) return *lens;
    return LensOverTime{lens->width, lens->height,
                        [shot, lens = *lens](int frame) { return lensInForce(shot, frame).value_or(lens); }};
}

std::pair<int, int> sizeOf(const Glass& glass) { return std::visit(SizeOf{}, glass); }

Expected<void> checkSize(const Glass& glass, int width, int height, std::string_view what) {
    const bool isLens = !std::holds_alternative<StMap>(glass);
    const auto [ownWidth, ownHeight] = sizeOf(glass);
    if (ownWidth == width && ownHeight == height) return {};
    return failure(Fault::input, "the {} is for {}x{}, {} {}x{}; one of another size bends the wrong pixels",
                   isLens ? "lens" : "map", ownWidth, ownHeight, what, width, height);
}

Expected<BentFrames> undistortPlate(FrameCache& frames, const FrameRange& range, const Glass& glass,
                                    const fs::path& pattern, const BendChoices& choices, const Progress& progress) {
    const int width = frames.facts().width, height = frames.facts().height;
    if (auto fits = checkSize(glass, width, height, "the plate is"); !fits) return tl::unexpected(fits.error());
    const auto box = undistortedBox(glass, range, choices.overscan);
    if (!box) return tl::unexpected(box.error());
    const auto write = [&](const Tables& tables) {
        return render(frames, range, tables, *box, pattern, choices, width, height, progress);
    };
    if (const auto* map = std::get_if<StMap>(&glass))
        return write(always(lookUpOf(*map, {0, 0, width, height}, width, height)));
    if (const auto* zoom = std::get_if<LensOverTime>(&glass))
        return write(overTime([&](int frame) { return undistorting(zoom->at(frame), *box, choices.samples); }));
    if (const auto* rows = std::get_if<RowGlass>(&glass))
        return write(overTime([&](int frame) { return undistortingRows(*rows, frame, *box, choices.samples); }));
    return write(always(undistorting(std::get<Lens>(glass), *box, choices.samples)));
}

Expected<BentFrames> redistortPictures(FrameCache& frames, const FrameRange& range, const Glass& glass,
                                       const fs::path& pattern, const BendChoices& choices, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    const FrameWindow frame = facts.window.value_or(FrameWindow{facts.width, facts.height, 0, 0});
    if (auto fits = checkSize(glass, frame.width, frame.height, "the pictures' frame is"); !fits)
        return tl::unexpected(fits.error());
    const PixelBox source{frame.x0, frame.y0, frame.x0 + facts.width, frame.y0 + facts.height};
    const auto write = [&](const Tables& tables) {
        return render(frames, range, tables, {0, 0, frame.width, frame.height}, pattern, choices, frame.width,
                      frame.height, progress);
    };
    if (const auto* map = std::get_if<StMap>(&glass))
        return write(always(lookUpOf(*map, source, frame.width, frame.height)));
    if (const auto* zoom = std::get_if<LensOverTime>(&glass))
        return write(overTime([&](int at) { return redistorting(zoom->at(at), source, choices.samples); }));
    if (const auto* rows = std::get_if<RowGlass>(&glass))
        return write(overTime([&](int at) { return redistortingRows(*rows, at, source, choices.samples); }));
    return write(always(redistorting(std::get<Lens>(glass), source, choices.samples)));
}

}  // namespace pinion
