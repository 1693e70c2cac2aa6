#include "commands/command.h"
#include "deliveries.h"
#include "figures.h"
#include "jobs/delivering.h"
#include "jobs/solving.h"
#include "jobs/tracking.h"
#include "outputs.h"
#include "plates.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/camerastage.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct RunWords {
    std::string shot, save, folder;
    std::vector<std::string> steps;
    bool outside = false;
};

/// What the steps work on, and what they have to say.
struct Work {
    const Console& console;
    const RunWords& words;
    std::string target;  ///< the file to save as
    Shot shot;
    json figures;
    bool changed = false;
};

Expected<void> scatterStep(Work& work) {
    // A fresh shot may know its plate by name alone.
    const bool isKnown = work.shot.plate.width > 0;
    const auto plate = isKnown ? openPlateOf(work.console, work.shot)
                               : Plate::open(work.shot.plate.path, {}, consoleProgress("Opening"));
    if (!plate) return tl::unexpected(plate.error());
    if (!isKnown) work.shot = withPlate(work.shot, (*plate)->facts());
    FrameCache frames(*plate, budget(work.console));
    const auto result = runScatter(work.shot, frames, work.shot.plate.range.first, consoleProgress("Scattering"));
    if (!result) return tl::unexpected(result.error());
    if (result->stopped) return failure(Fault::stopped, "");
    work.shot = withScattered(work.shot, result->tracks);
    work.changed = true;
    work.figures["scatter"] = tracksFigures(*result);
    return {};
}

Expected<void> solveStep(Work& work) {
    const auto result = runSolve(work.shot, consoleProgress("Solving"));
    if (!result) return tl::unexpected(result.error());
    work.shot = withSolve(work.shot, *result, work.shot);
    work.changed = true;
    if (!result->doubt.empty()) fmt::print(stderr, "not sure: {}\n", result->doubt);
    work.figures["solve"] = solveFigures(*result, work.shot.plate.width);
    return {};
}

Expected<void> deliverStep(Work& work) {
    json files = json::array();
    const RunWords& w = work.words;
    const fs::path to = w.folder.empty() ? deliveryFolderOf(work.shot, w.shot) : fs::path(w.folder);
    if (auto free = checkDeliveries(work.shot, to, work.target, w.outside); !free) return free;
    const Progress progress = consoleProgress("Delivering");
    const List<Deliverable> listed = work.shot.deliverables;  // the shot changes as they are written
    for (const Deliverable& deliverable : listed) {
        if (progress.stopped()) return failure(Fault::stopped, "");
        const auto report = deliver(work.shot, deliverable, to);
        if (!report) return tl::unexpected(report.error());
        for (const fs::path& file : report->files) files.push_back(file.string());
        work.shot = withDelivered(work.shot, deliverable.name, work.shot);
        work.changed = true;
    }
    if (const auto note = writeDeliveryNote(work.shot, to); !note) return tl::unexpected(note.error());
    work.figures["files"] = files;
    return {};
}

struct Step {
    const char* name;
    Expected<void> (*run)(Work&);
};
constexpr Step kSteps[] = {{"scatter", scatterStep}, {"solve", solveStep}, {"deliver", deliverStep}};

const Step* stepNamed(const std::string& name) {
    const auto found =
        std::find_if(std::begin(kSteps), std::end(kSteps), [&](const Step& step) { return name == step.name; });
    return found == std::end(kSteps) ? nullptr : found;
}

/// What a shot still needs.
std::vector<std::string> openSteps(const Shot& shot) {
    std::vector<std::string> steps;
    if (shot.tracks.isEmpty()) steps.push_back("scatter");
    if (!shot.solve || !steps.empty() || shot.solvedKey != solveKey(shot)) steps.push_back("solve");
    steps.push_back("deliver");
    return steps;
}

int runCommand(const Console& console, const RunWords& w) {
    auto loaded = loadShot(w.shot);
    if (!loaded) return fail(loaded.error());
    const std::vector<std::string> steps = w.steps.empty() ? openSteps(*loaded) : w.steps;
    for (const std::string& step : steps)
        if (!stepNamed(step))
            return fail({Fault::input, fmt::format("--steps {}: the steps are scatter, solve, deliver", step)});
    Work work{console, w, w.save.empty() ? w.shot : w.save, std::move(*loaded), {}};
    work.figures["steps"] = steps;
    if (const auto free = checkOutput(w.save.empty() ? "SHOT" : "--save", work.target, {work.shot.plate.path.string()});
        !free)
        return fail(free.error());
    for (const std::string& step : steps) {
        const auto done = stepNamed(step)->run(work);
        if (done) continue;
        // What was done before a step failed is kept.
        if (work.changed) {
            if (const auto saved = saveShot(work.shot, work.target); !saved) fail(saved.error());
            else fmt::print(stderr, "saved {} as far as it went\n", work.target);
        }
        return fail(done.error());
    }
    if (const auto saved = saveShot(work.shot, work.target); !saved) return fail(saved.error());
    work.figures["saved"] = work.target;
    say(console, work.figures, fmt::format("saved {}", work.target));
    return 0;
}

}  // namespace

Runner addRun(CLI::App& command) {
    const auto words = std::make_shared<RunWords>();
    RunWords& w = *words;
    command.add_option("SHOT", w.shot)->required();
    command.add_option("--steps", w.steps, "scatter, solve, deliver")->delimiter(',');
    command.add_flag("--allow-outside", w.outside, "write deliveries whose place lies outside the folder too");
    command.add_option("--save", w.save, "the file to save as; the same by default");
    command.add_option("--out-dir", w.folder, "delivery folder");
    return [words](const Console& console) { return runCommand(console, *words); };
}

}  // namespace pinion::cli
