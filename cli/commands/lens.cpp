#include "base/units.h"
#include "commands/command.h"
#include "exchange/formats.h"
#include "jobs/lensing.h"
#include "outputs.h"
#include "plate/cuts.h"
#include "plates.h"

#include <CLI/CLI.hpp>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct LensWords {
    std::string plate, lines, out, undistorting, redistorting, terms = "auto", axis = "auto", squares = "9x6";
    std::vector<std::string> pictures;
    double focal_mm = 0, sensorWidth_mm = 36, squeeze = 0, squareSize = 1;
    bool asClicked = false;
};

Expected<void> checkFrames(const std::vector<StraightLine>& lines, const PlateFacts& facts, const std::string& file) {
    for (std::size_t i = 0; i < lines.size(); ++i)
        if (!facts.holds(lines[i].frame))
            return failure(Fault::input, "{}: lines[{}] is on frame {}, the plate holds {}-{}", file, i, lines[i].frame,
                           facts.firstFrame, facts.lastFrame);
    return {};
}

json figuresOf(const LinesLens& found, const std::vector<LensLine>& traced) {
    json lines = json::array();
    for (std::size_t i = 0; i < found.lines.size(); ++i)
        lines.push_back({{"frame", traced[i].frame},
                         {"places", traced[i].places().size()},
                         {"on_edge", !traced[i].edge.isEmpty()},
                         {"before_px", found.lines[i].before_px},
                         {"after_px", found.lines[i].after_px},
                         {"curved_in_life", found.lines[i].curved}});
    return {{"k1", found.lens.k1},
            {"k1_deviation", found.deviations.k1},
            {"k2", found.lens.k2},
            {"k2_deviation", found.deviations.k2},
            {"cx", found.lens.cx},
            {"cy", found.lens.cy},
            {"axis_deviation_px", {found.deviations.axis_px.x(), found.deviations.axis_px.y()}},
            {"border_deviation_px", found.deviations.border_px},
            {"before_px", found.before_px},
            {"after_px", found.after_px},
            {"terms", found.terms},
            {"choice", found.choice},
            {"warnings", found.warnings},
            {"lines", lines}};
}

int fromLines(const Console& console, const LensWords& w) {
    const auto lines = readLines(w.lines);
    if (!lines) return fail(lines.error());
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.lines}); !free)
        return fail(free.error());
    if (const auto inside = checkFrames(*lines, facts, w.lines); !inside) return fail(inside.error());
    if (const auto inside = checkPlaces(*lines, facts.width, facts.height); !inside)
        return fail({Fault::input, w.lines + ": " + inside.error().message});
    FrameCache frames(*plate, budget(console));
    std::vector<LensLine> traced;
    if (w.asClicked) {
        for (const StraightLine& line : *lines) traced.push_back({line.frame, List<Eigen::Vector2d>(line.points), {}});
    } else {
        auto found = traceLines(frames, *lines, consoleProgress("Edges"));
        if (!found)
            return fail(
                {found.error().fault, found.error().message.empty() ? "" : w.lines + ": " + found.error().message});
        traced = std::move(*found);
    }
    std::vector<int> onFrames;
    for (const StraightLine& line : *lines) onFrames.push_back(line.frame);
    std::string cut;
    if (const auto range = framesOfLines(onFrames))
        cut = cutWords(onFrames, findCuts(frames, range->first, range->last, consoleProgress("Cuts")));
    std::vector<StraightLine> straight;
    for (const LensLine& line : traced) straight.push_back({line.frame, line.places().vector()});
    LinesOptions options{.width = facts.width, .height = facts.height};
    options.squeeze = w.squeeze > 0 ? w.squeeze : 1 / facts.pixelAspect;
    options.focal_px = focalPixels(w.focal_mm > 0 ? w.focal_mm : w.sensorWidth_mm, w.sensorWidth_mm, facts.width);
    options.terms = w.terms == "k1"       ? LineTerms::k1
                    : w.terms == "k1k2"   ? LineTerms::k1k2
                    : w.terms == "k1k2k3" ? LineTerms::k1k2k3
                                          : LineTerms::automatic;
    options.axis = w.axis == "free" ? LineAxis::free : w.axis == "centre" ? LineAxis::centre : LineAxis::automatic;
    auto found = lensFromLines(straight, options);
    if (found && !cut.empty()) found->warnings.push_back(cut);
    if (!found) return fail({found.error().fault, w.lines + ": " + found.error().message});
    if (const auto written = put(w.out, lensJson(found->lens)); !written) return fail(written.error());
    for (const std::string& warning : found->warnings) fmt::print(stderr, "note: {}\n", warning);
    for (std::size_t i = 0; i < traced.size() && !w.asClicked; ++i)
        if (traced[i].edge.isEmpty())
            fmt::print(stderr, "note: line {} (frame {}): no edge was found under it; it counts as it was clicked\n",
                       i + 1, traced[i].frame);
    for (std::size_t i = 0; i < found->lines.size(); ++i)
        if (found->lines[i].curved)
            fmt::print(
                stderr,
                "note: line {} (frame {}) is curved in life, it seems: {:.2f} px from straight; it was set apart\n",
                i + 1, traced[i].frame, found->lines[i].after_px);
    json figures = figuresOf(*found, traced);
    figures["out"] = w.out;
    say(console, figures,
        w.out == "-"
            ? ""
            : fmt::format("{}: k1 {:.5f}, k2 {:.5f}; the lines are {:.2f} px from straight, {:.2f} before; the "
                          "border is sure to {:.2f} px ({})",
                          w.out, found->lens.k1, found->lens.k2, found->after_px, found->before_px,
                          found->deviations.border_px, found->choice));
    return 0;
}

int fromGrid(const Console& console, const LensWords& w) {
    Chart chart{.square = w.squareSize};
    char rest = 0;
    if (std::sscanf(w.squares.c_str(), "%dx%d%c", &chart.columns, &chart.rows, &rest) != 2 || chart.columns < 3 ||
        chart.rows < 3 || chart.columns > 200 || chart.rows > 200)
        return fail(
            {Fault::input, fmt::format("--squares {}: write the inner corners across and down, as in 9x6", w.squares)});
    if (const auto free = checkOutput("--out", w.out, w.pictures); !free) return fail(free.error());
    std::vector<fs::path> pictures(w.pictures.begin(), w.pictures.end());
    auto seen = findCharts(pictures, chart, consoleProgress("Charts"));
    if (!seen) return fail(seen.error());
    const auto found = lensFromChart(std::move(seen->views), chart, seen->width, seen->height);
    if (!found) return fail(found.error());
    if (const auto written = put(w.out, lensJson(found->lens)); !written) return fail(written.error());
    json views = json::array();
    std::size_t used = 0;
    for (const ChartView& view : found->views) {
        used += view.used;
        views.push_back({{"name", view.name}, {"used", view.used}, {"rms_px", view.rms_px}});
        if (!view.trouble.empty()) views.back()["trouble"] = view.trouble;
        if (!view.used) fmt::print(stderr, "note: {}: {}\n", view.name, view.trouble);
    }
    const Lens& lens = found->lens;
    say(console,
        {{"focal_px", lens.focal_px},
         {"focal_deviation_px", found->deviations.focal_px},
         {"k1", lens.k1},
         {"k1_deviation", found->deviations.k1},
         {"k2", lens.k2},
         {"k2_deviation", found->deviations.k2},
         {"cx", lens.cx},
         {"cy", lens.cy},
         {"axis_deviation_px", {found->deviations.axis_px.x(), found->deviations.axis_px.y()}},
         {"rms_px", found->rms_px},
         {"terms", found->terms},
         {"views", views},
         {"out", w.out}},
        w.out == "-" ? ""
                     : fmt::format("{}: focal {:.1f} ± {:.1f} px, k1 {:.5f}, k2 {:.5f}; {} of {} views, {:.2f} px",
                                   w.out, lens.focal_px, found->deviations.focal_px, lens.k1, lens.k2, used,
                                   found->views.size(), found->rms_px));
    return 0;
}

int fromMaps(const Console& console, const LensWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.undistorting, w.redistorting});
        !free)
        return fail(free.error());
    const double focal_px = focalPixels(w.focal_mm > 0 ? w.focal_mm : w.sensorWidth_mm, w.sensorWidth_mm, facts.width);
    auto found = readMapsLens({.undistorting = w.undistorting, .redistorting = w.redistorting}, facts.width,
                              facts.height, focal_px);
    if (!found) return fail(found.error());
    found->lens.squeeze = w.squeeze > 0 ? w.squeeze : 1 / facts.pixelAspect;
    if (const auto written = put(w.out, lensJson(found->lens)); !written) return fail(written.error());
    for (const std::string& warning : found->warnings) fmt::print(stderr, "note: {}\n", warning);
    say(console,
        {{"returns_px", found->returns_px},
         {"returns_at", {found->worstAt.x(), found->worstAt.y()}},
         {"held_px", found->held_px},
         {"half", found->isHalf},
         {"warnings", found->warnings},
         {"out", w.out}},
        w.out == "-"
            ? ""
            : fmt::format("{}: places come back within {:.4f} px through the maps, which are held to {:.5f} px", w.out,
                          found->returns_px, found->held_px));
    return 0;
}

}  // namespace

Runner addLens(CLI::App& command) {
    const auto words = std::make_shared<LensWords>();
    LensWords& w = *words;
    command.require_subcommand(1);
    command.fallthrough();
    CLI::App* lines = command.add_subcommand("lines", "the distortion from what is straight in life");
    lines->add_option("PLATE", w.plate)->required();
    lines->add_option("--lines", w.lines, "lines.json")->required();
    lines->add_option("--out", w.out, "lens.json; - for standard output")->required();
    lines->add_flag("--no-snap", w.asClicked, "the places as they are, not the edges under them");
    lines->add_option("--terms", w.terms, "auto, k1, k1k2 or k1k2k3")
        ->check(CLI::IsMember({"auto", "k1", "k1k2", "k1k2k3"}));
    lines->add_option("--axis", w.axis, "where the axis meets the plate: centre, free or auto")
        ->check(CLI::IsMember({"auto", "centre", "free"}));
    lines
        ->add_option("--focal", w.focal_mm,
                     "millimetres; lines do not tell it, and as much as the sensor's width is taken")
        ->check(CLI::Range(0.5, 5000.0));
    lines->add_option("--sensor-width", w.sensorWidth_mm, "millimetres")->check(CLI::Range(0.5, 1000.0));
    lines->add_option("--squeeze", w.squeeze, "anamorphic squeeze; as the plate's pixels say by default")
        ->check(CLI::Range(0.05, 20.0));
    CLI::App* grid = command.add_subcommand("grid", "the lens from pictures of a chessboard");
    grid->add_option("IMAGE", w.pictures, "stills or frames, all of one size")->required();
    grid->add_option("--squares", w.squares, "inner corners across and down");
    grid->add_option("--square-size", w.squareSize, "the edge of a square, in any unit")->check(CLI::PositiveNumber);
    grid->add_option("--out", w.out, "lens.json; - for standard output")->required();
    CLI::App* maps = command.add_subcommand("maps", "a pair of ST maps made elsewhere, as one lens");
    maps->add_option("PLATE", w.plate)->required();
    maps->add_option("--undistort", w.undistorting, "the map that undistorts the plate (EXR)")->required();
    maps->add_option("--redistort", w.redistorting, "the map that puts the distortion back (EXR)")->required();
    maps->add_option("--out", w.out, "lens.json; - for standard output")->required();
    maps->add_option("--focal", w.focal_mm, "millimetres; the maps do not tell it")->check(CLI::Range(0.5, 5000.0));
    maps->add_option("--sensor-width", w.sensorWidth_mm, "millimetres")->check(CLI::Range(0.5, 1000.0));
    maps->add_option("--squeeze", w.squeeze, "anamorphic squeeze; as the plate's pixels say by default")
        ->check(CLI::Range(0.05, 20.0));
    return [words, lines, maps](const Console& console) {
        return lines->parsed()  ? fromLines(console, *words)
               : maps->parsed() ? fromMaps(console, *words)
                                : fromGrid(console, *words);
    };
}

}  // namespace pinion::cli
