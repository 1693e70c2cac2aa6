#include "commands/command.h"
#include "jobs/gathering.h"
#include "jobs/projecting.h"
#include "plates.h"
#include "standing.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cmath>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

struct ProjectWords {
    std::string plate, camera, scene, art, mattes, gather, onto = "ground", out, range;
    std::vector<int> from;
    double pixels = 0;
};

/// "ground", "PX,PY,PZ,NX,NY,NZ", or the name of a stand-in.
Expected<ThrownOn> surfaceFrom(const std::string& words, const SceneLook& look) {
    ThrownOn onto;
    for (const StandIn& one : look.standIns)
        if (one.name == words) {
            onto.standIn = one;
            return onto;
        }
    if (words == "ground") {
        onto.at.y() = look.ground;
        return onto;
    }
    std::vector<double> numbers;
    const char* cursor = words.c_str();
    while (*cursor != 0) {
        char* next = nullptr;
        const double value = std::strtod(cursor, &next);
        if (next == cursor || !std::isfinite(value)) break;
        numbers.push_back(value);
        cursor = *next == ',' ? next + 1 : next;
        if (*next != ',') break;
    }
    if (*cursor == 0 && numbers.size() == 6) {
        onto.at = {numbers[0], numbers[1], numbers[2]};
        onto.normal = {numbers[3], numbers[4], numbers[5]};
        onto.isAbout = true;
        if (!(onto.normal.norm() > 0)) return failure(Fault::input, "--onto {}: a normal of 0 has no direction", words);
        return onto;
    }
    std::string names;
    for (const StandIn& one : look.standIns) names += ", " + one.name;
    return failure(Fault::input,
                   "--onto: '{}' is not known; there are: ground, a plane as PX,PY,PZ,NX,NY,NZ (a place of it and its "
                   "normal){}",
                   words, names.empty() ? "; stand-ins are named in --scene" : names);
}

/// The plate as it shows a flat stand-in, taken off it as one picture.
int gatherCommand(const Console& console, const ProjectWords& w, const Standing& standing, const FrameRange& range) {
    const auto& all = standing.look.standIns;
    const auto sheet = std::find_if(all.begin(), all.end(), [&](const StandIn& one) { return one.name == w.gather; });
    if (sheet == all.end())
        return fail({Fault::input, "--gather: no stand-in is named '" + w.gather + "' in the scene"});
    FrameCache frames(standing.plate, budget(console));
    const auto report = runGather(frames, range, *standing.solve, standing.orientation, *sheet, w.out,
                                  {.pixelsPerUnit = w.pixels}, consoleProgress("Gathering"));
    if (!report) return fail(report.error());
    say(console,
        {{"frames", report->frames},
         {"width", report->width},
         {"height", report->height},
         {"seen", report->seen},
         {"out", w.out}},
        fmt::format("{}x{} of {} frames, {:.0f} % of it seen: {}", report->width, report->height, report->frames,
                    100 * report->seen, w.out));
    return 0;
}

int projectCommand(const Console& console, const ProjectWords& w) {
    if (int(!w.art.empty()) + int(!w.mattes.empty()) + int(!w.gather.empty()) != 1)
        return fail(
            {Fault::input, "project: give either --art or --mattes, what is thrown, or --gather, the other way"});
    if (w.gather.empty() && w.from.empty())
        return fail({Fault::input, "project: --from is missing: the frame that it was made on"});
    const auto standing =
        standingOf(console, "project", {w.plate, w.camera, w.scene, w.range, w.out, {w.art, w.mattes}}, false);
    if (!standing) return fail(standing.error());
    const PlateFacts& facts = standing->plate->facts();
    const FrameRange range = standing->range;
    if (!w.gather.empty()) return gatherCommand(console, w, *standing, range);
    const auto onto = surfaceFrom(w.onto, standing->look);
    if (!onto) return fail(onto.error());
    const Solve& solve = *standing->solve;
    const Orientation& orientation = standing->orientation;
    if (const auto checked = checkThrow(*onto, w.from, solve, orientation); !checked) return fail(checked.error());
    ArtShelf shelf;
    const auto thrown = [&]() -> Expected<std::vector<ThrownPicture>> {
        if (!w.mattes.empty()) {
            const auto mattes = mattesFor(w.mattes, "", range, facts);
            if (!mattes) return tl::unexpected(mattes.error());
            return mattesThrown(*mattes, w.from, solve, orientation);
        }
        const auto clip = clipOf(w.art);
        if (!clip) return tl::unexpected(clip.error());
        return picturesThrown(*clip, w.from, solve, orientation, shelf);
    }();
    if (!thrown) return fail(thrown.error());
    const Projector projector(*thrown, *onto, facts.width, facts.height);
    FrameCache frames(standing->plate, budget(console));
    const auto report =
        runProject(frames, range, solve, orientation, projector, w.out, 16, consoleProgress("Projecting"));
    if (!report) return fail(report.error());
    if (report->render.stopped) return fail({Fault::stopped, ""});
    std::string words = fmt::format("{} frames: {}", report->render.frames, w.out);
    if (!report->unsolved.empty())
        words += fmt::format("\n{} frames have no camera and are empty", report->unsolved.size());
    if (!report->empty.empty()) words += fmt::format("\n{} frames see nothing of it", report->empty.size());
    say(console,
        {{"frames", report->render.frames},
         {"missing", report->render.missing},
         {"unsolved", report->unsolved},
         {"empty", report->empty},
         {"out", w.out}},
        words);
    return 0;
}

}  // namespace

Runner addProject(CLI::App& command) {
    const auto words = std::make_shared<ProjectWords>();
    ProjectWords& w = *words;
    command.add_option("PLATE", w.plate, "a plate, or a shot with its own camera and scene")->required();
    command.add_option("--camera", w.camera, "camera.json of a solve");
    command.add_option("--from", w.from, "the frames it was made on: a number, or several with commas")->delimiter(',');
    command.add_option("--art", w.art, "a picture that fills the plate, or a sequence with a picture for each frame");
    command.add_option("--mattes", w.mattes, "mattes.json in place of art");
    command.add_option(
        "--gather", w.gather,
        "the other way: the name of a board, card or grid that lies on a surface; what the frames show of "
        "it as one picture, without what passes before it");
    command.add_option("--pixels", w.pixels, "of that picture, for a unit of the world; as the plate has by default")
        ->check(CLI::Range(0.0, 1e5));
    command.add_option("--onto", w.onto, "ground, PX,PY,PZ,NX,NY,NZ (a plane), or the name of a stand-in");
    command.add_option("--scene", w.scene, "scene.json with the stand-in, and the ground's height");
    command.add_option("--out", w.out, "out.####.exr, .png or .tif: alone, with alpha; a gathered picture: out.png")
        ->required();
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
    return [words](const Console& console) { return projectCommand(console, *words); };
}

}  // namespace pinion::cli
