#include "jobs/lensing.h"

#include "lens/edges.h"
#include "plate/plate.h"

#include <cctype>
#include <map>
#include <set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

Expected<void> checkSize(ChartPictures& found, const fs::path& path, int width, int height) {
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
    if (auto fits = checkSize(found, path, (*picture)->width, (*picture)->height); !fits) return fits;
    found.views.push_back({.name = path.filename().string(), .corners = chartCorners(**picture, chart)});
    return {};
}

Expected<void> addFrames(ChartPictures& found, const fs::path& path, const Chart& chart, const Progress& progress) {
    const auto plate = Plate::open(path);
    if (!plate) return tl::unexpected(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (auto fits = checkSize(found, path, facts.width, facts.height); !fits) return fits;
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

}  // namespace

Expected<std::vector<TracedLine>> traceLines(FrameCache& frames, std::span<const StraightLine> lines,
                                             const Progress& progress) {
    std::vector<TracedLine> traced;
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
        traced.push_back({line.frame, std::move(on.clicks), std::move(on.edge)});
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

}  // namespace pinion
