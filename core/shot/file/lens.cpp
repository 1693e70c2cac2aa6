#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kLensSources{"none", "typed", "lines", "chart", "solve", "file", "maps"};
constexpr std::array kTerms{"auto", "k1", "k1k2", "k1k2k3"};
constexpr std::array kAxes{"auto", "centre", "free"};
constexpr std::array kFilters{"bilinear", "bicubic", "lanczos", "area"};
constexpr std::array kOverscans{"auto", "none", "pixels"};

json places(const List<Eigen::Vector2d>& points) {
    json list = json::array();
    for (const Eigen::Vector2d& p : points) list.push_back({p.x(), p.y()});
    return list;
}

std::vector<Eigen::Vector2d> takePlaces(const json& object, const char* name, const std::string& where) {
    std::vector<Eigen::Vector2d> points;
    for (const json& point : list(object, name, where))
        points.push_back(vector2(point, fmt::format("{}.{}[{}]", where, name, points.size())));
    return points;
}

json linesOf(const LensCard& card) {
    json lines = json::array();
    for (const LensLine& line : card.lines) {
        lines.push_back({{"frame", line.frame}, {"clicks", places(line.clicks)}});
        if (!line.edge.isEmpty()) lines.back()["edge"] = places(line.edge);
    }
    return lines;
}

json viewsOf(const LensCard& card) {
    json views = json::array();
    for (const ChartView& view : card.views)
        views.push_back({{"name", view.name},
                         {"used", view.used},
                         {"rms_px", view.rms_px},
                         {"trouble", view.trouble},
                         {"corners", places(List<Eigen::Vector2d>(view.corners))}});
    for (std::size_t i = 0; i < views.size(); ++i) {
        const ChartView& view = card.views[i];
        if (!view.path.empty()) views[i]["path"] = view.path;
        if (view.frame) views[i]["frame"] = *view.frame;
    }
    return views;
}

void putLensPart(json& document, const Shot& shot, const fs::path&) {
    const LensCard& c = shot.lens;
    json& lens = document["lens"] = {{"source", kLensSources[std::size_t(c.source)]}};
    if (c.lens) lens["lens"] = lensValues(*c.lens);
    if (c.lens)
        lens["deviations"] = {{"focal_px", c.deviations.focal_px},
                              {"k1", c.deviations.k1},
                              {"k2", c.deviations.k2},
                              {"k3", c.deviations.k3},
                              {"axis_px", {c.deviations.axis_px.x(), c.deviations.axis_px.y()}},
                              {"border_px", c.deviations.border_px}};
    if (!c.lines.isEmpty()) lens["lines"] = linesOf(c);
    if (!c.snap) lens["snap"] = false;
    if (c.terms != LineTerms::automatic) lens["terms"] = kTerms[std::size_t(c.terms)];
    if (c.axis != LineAxis::automatic) lens["axis"] = kAxes[std::size_t(c.axis)];
    lens["chart"] = {{"columns", c.chart.columns}, {"rows", c.chart.rows}, {"square", c.chart.square}};
    if (!c.views.isEmpty()) lens["views"] = viewsOf(c);
    if (!c.maps.undistorting.empty())
        lens["maps"] = {{"undistorting", c.maps.undistorting},
                        {"redistorting", c.maps.redistorting},
                        {"returns_px", c.maps.returns_px},
                        {"half", c.maps.half}};
    if (c.filter != BendFilter::bicubic) lens["filter"] = kFilters[std::size_t(c.filter)];
    if (c.overscan.kind != Overscan::Kind::automatic)
        lens["overscan"] = {{"kind", kOverscans[std::size_t(c.overscan.kind)]}, {"pixels", c.overscan.pixels}};
}

void takeLines(const json& lens, LensCard& card) {
    std::vector<LensLine> lines;
    for (const json& entry : list(lens, "lines", "lens")) {
        const std::string where = fmt::format("lens.lines[{}]", lines.size());
        LensLine line{whole(entry, "frame", where), List<Eigen::Vector2d>(takePlaces(entry, "clicks", where)), {}};
        if (entry.contains("edge")) line.edge = List<Eigen::Vector2d>(takePlaces(entry, "edge", where));
        lines.push_back(std::move(line));
    }
    card.lines = List<LensLine>(std::move(lines));
}

void takeViews(const json& lens, LensCard& card) {
    std::vector<ChartView> views;
    for (const json& entry : list(lens, "views", "lens")) {
        const std::string where = fmt::format("lens.views[{}]", views.size());
        ChartView view;
        view.name = text(entry, "name", where);
        view.used = flagOr(entry, "used", true, where);
        view.rms_px = number(entry, "rms_px", where);
        view.trouble = text(entry, "trouble", where);
        view.corners = takePlaces(entry, "corners", where);
        if (entry.contains("path")) view.path = text(entry, "path", where);
        if (entry.contains("frame")) view.frame = whole(entry, "frame", where);
        views.push_back(std::move(view));
    }
    card.views = List<ChartView>(std::move(views));
}

void takeLensPart(const json& document, Shot& shot, const fs::path&) {
    if (!document.contains("lens")) return;  // a shot from before there was a Lens card
    const json& lens = member(document, "lens", "file");
    LensCard& c = shot.lens;
    c = {};
    c.source = word<LensCard::Source>(lens, "source", kLensSources, "lens");
    if (lens.contains("lens")) c.lens = takeOwnLensValues(lens["lens"], "lens.lens");
    if (lens.contains("deviations")) {
        const json& d = lens["deviations"];
        c.deviations.focal_px = number(d, "focal_px", "lens.deviations");
        c.deviations.k1 = number(d, "k1", "lens.deviations");
        c.deviations.k2 = number(d, "k2", "lens.deviations");
        c.deviations.k3 = number(d, "k3", "lens.deviations");
        c.deviations.axis_px = vector2(member(d, "axis_px", "lens.deviations"), "lens.deviations.axis_px");
        c.deviations.border_px = number(d, "border_px", "lens.deviations");
    }
    if (lens.contains("lines")) takeLines(lens, c);
    c.snap = flagOr(lens, "snap", true, "lens");
    if (lens.contains("terms")) c.terms = word<LineTerms>(lens, "terms", kTerms, "lens");
    if (lens.contains("axis")) c.axis = word<LineAxis>(lens, "axis", kAxes, "lens");
    const json& chart = member(lens, "chart", "lens");
    c.chart = {whole(chart, "columns", "lens.chart"), whole(chart, "rows", "lens.chart"),
               number(chart, "square", "lens.chart")};
    if (lens.contains("views")) takeViews(lens, c);
    if (lens.contains("maps")) {
        const json& maps = member(lens, "maps", "lens");
        c.maps = {text(maps, "undistorting", "lens.maps"), text(maps, "redistorting", "lens.maps"),
                  number(maps, "returns_px", "lens.maps"), flagOr(maps, "half", false, "lens.maps")};
    }
    if (lens.contains("filter")) c.filter = word<BendFilter>(lens, "filter", kFilters, "lens");
    if (lens.contains("overscan")) {
        const json& overscan = lens["overscan"];
        c.overscan.kind = word<Overscan::Kind>(overscan, "kind", kOverscans, "lens.overscan");
        c.overscan.pixels = whole(overscan, "pixels", "lens.overscan");
    }
}

}  // namespace

ShotFilePart lensPart() { return {putLensPart, takeLensPart}; }

}  // namespace pinion
