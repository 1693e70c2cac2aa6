#include "steadying.h"

#include "base/files.h"
#include "exchange/newshot.h"
#include "exchange/transforms.h"
#include "jobs/steadying.h"
#include "jobs/tracking.h"
#include "matte/sequence.h"
#include "outputs.h"
#include "plate/still.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"

#include <CLI/CLI.hpp>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

json renderFigures(const RenderReport& report, const PicturePlan& plan) {
    return {{"frames", report.frames},
            {"missing_frames", report.missing},
            {"zoom", plan.zoom},
            {"fills", plan.fills},
            {"note", plan.note}};
}

}  // namespace

void addPictureOptions(CLI::App& command, PictureWords& w) {
    command.add_option("--out", w.out, "a sequence (out.####.exr, .png, .tif) or a video (.mp4)")->required();
    command.add_option("--filter", w.filter, "bilinear, bicubic, lanczos")
        ->check(CLI::IsMember({"bilinear", "bicubic", "lanczos"}));
    command.add_option("--edges", w.edges, "beyond the source: empty, held, mirrored")
        ->check(CLI::IsMember({"empty", "held", "mirrored"}));
    command.add_option("--fit", w.fit, "none, or fill: the smallest zoom without a border")
        ->check(CLI::IsMember({"none", "fill"}));
    command.add_option("--range", w.range, "frames A-B; the whole plate by default");
}

void addRollingOption(CLI::App& command, PictureWords& w) {
    command.add_option("--rolling", w.rolling,
                       "of a rolling shutter whose readout is known: the share of a frame from the first row to the "
                       "last (0.6; 0.6,columns); its rows are straightened");
}

Expected<void> applyRolling(const PictureWords& w, Shot& shot) {
    if (w.rolling.empty()) return {};
    const bool byColumns = w.rolling.ends_with(",columns");
    const std::string share = byColumns ? w.rolling.substr(0, w.rolling.find(',')) : w.rolling;
    SolveSettings& known = shot.solveSettings;
    char rest = 0;
    if (std::sscanf(share.c_str(), "%lf%c", &known.readoutShare, &rest) != 1 || !(std::abs(known.readoutShare) <= 1))
        return failure(Fault::input,
                       "--rolling {}: write a share of a frame from -1 to 1 (0.6), or 0.6,columns for a sensor that is "
                       "read by columns",
                       w.rolling);
    known.reading = SolveSettings::Reading::known;
    known.readBy = byColumns ? SolveSettings::ReadBy::columns : SolveSettings::ReadBy::rows;
    return {};
}

void applyPictureWords(const PictureWords& w, SteadySettings& settings) {
    settings.options.fit = settings.lending.fit = w.fit == "fill" ? SteadyOptions::Fit::fill : SteadyOptions::Fit::none;
    settings.filter = *resampleFilterFrom(w.filter);
    settings.edges = *edgeModeFrom(w.edges);
}

Expected<std::shared_ptr<const Plate>> openFor(const Console& console, const PictureWords& w, const std::string& more) {
    auto opened = openPlate(console, w.plate);
    if (!opened) return opened;
    const std::vector<std::string> inputs{w.plate, (*opened)->facts().path.string(), w.tracks, more};
    for (const auto& [option, place] : {std::pair("--out", w.out), std::pair("--transforms", w.transforms)})
        if (const auto free = checkOutput(option, place, inputs); !free) return tl::unexpected(free.error());
    if (!w.transforms.empty() && w.transforms != "-")
        if (const auto free = checkOutput("--transforms", w.transforms, {w.out}); !free)
            return tl::unexpected(free.error());
    return opened;
}

/// The shot with its tracks: read, or scattered.
Expected<Shot> shotWithTracks(const PictureWords& w, const PlateFacts& facts, FrameCache& frames) {
    Shot shot = shotOf(facts);
    const auto within = parseRange(w.range, facts);
    if (!within) return tl::unexpected(within.error());
    shot = withRange(shot, *within);

    if (!w.tracks.empty()) {
        const auto read = tracksFor(w.tracks, facts);
        if (!read) return tl::unexpected(read.error());
        return withTracksImported(shot, *read);
    }
    shot.scatterSettings.features = w.features;
    shot.scatterSettings.motion = MotionModel::similarity;
    const auto result = runScatter(shot, frames, within->first, consoleProgress("Scattering"));
    if (!result) return tl::unexpected(result.error());
    if (result->stopped) return failure(Fault::stopped, "");
    return withScattered(shot, result->tracks);
}

namespace {

int putBack(const Console& console, const PictureWords& w, const Shot& shot, const PicturePlan& plan,
            FrameCache& frames, json figures) {
    const PlateFacts& facts = frames.facts();
    const auto held = isStillPicture(w.putBack) ? openStill(w.putBack, facts.firstFrame, facts.lastFrame)
                                                : openPlate(console, w.putBack);
    if (!held) return fail(held.error());
    if (const auto free = checkOutput("--out", w.out, {w.putBack, (*held)->facts().path.string()}); !free)
        return fail(free.error());
    if (w.putBackBy == "as-matte") {
        const auto report =
            putBackMattes(frames, *matteSequence(w.putBack), plan.sheets(shot.steady.filter, shot.steady.edges), w.out,
                          consoleProgress("Putting back"));
        if (!report) return fail(report.error());
        if (report->stopped) return fail({Fault::stopped, ""});
        say(console, {{"frames", report->frames}, {"missing", report->missing}, {"out", w.out}},
            fmt::format("{} frames of a matte: {}", report->frames, w.out));
        return 0;
    }
    FrameCache made(*held, budget(console));
    PutBackSource source{w.putBackBy == "alpha" ? PutBackBy::alpha : PutBackBy::difference};
    if (!w.putBackMatte.empty()) source = {PutBackBy::matte, matteSequence(w.putBackMatte)};
    const auto report = runPutBack(shot, plan, frames, made, w.out, consoleProgress("Putting back"), source);
    if (!report) return fail(report.error());
    if (report->render.stopped) return fail({Fault::stopped, ""});
    figures.update(renderFigures(report->render, plan));
    figures["unchanged_frames"] = report->unchanged;
    figures["changed"] = report->changed;
    figures["out"] = w.out;
    say(console, figures,
        fmt::format("{} frames, {} of them the plate's to the last bit, {:.2f} % changed on the others: {}",
                    report->render.frames, report->unchanged.size(), 100 * report->changed, w.out));
    return 0;
}

}  // namespace

/// Renders and says what came of it.
int render(const Console& console, const PictureWords& w, const Shot& shot, FrameCache& frames, json figures) {
    const auto plan = picturePlan(shot);
    if (!plan) return fail(plan.error());
    if (!plan->motion.frames.empty()) {
        double squares = 0;
        for (const FrameMotion& frame : plan->motion.frames) squares += frame.residual_px * frame.residual_px;
        figures["motion"] = toString(plan->motion.kind);
        if (!plan->motion.reason.empty()) figures["reason"] = plan->motion.reason;
        figures["residual_px"] = std::sqrt(squares / double(plan->motion.frames.size()));
    }
    if (plan->rows) figures["rows_px"] = plan->rows->reach_px();
    if (!w.transforms.empty()) {
        const TransformSource source{shot.name, shot.plate.width, shot.plate.height, shot.plate.fps};
        const bool csv = loweredEnding(w.transforms) == ".csv";
        if (const auto written = put(
                w.transforms, csv ? transformsCsv(plan->motion, source, {}) : transformsJson(plan->motion, source, {}));
            !written)
            return fail(written.error());
    }
    if (!w.putBack.empty()) return putBack(console, w, shot, *plan, frames, std::move(figures));
    const auto report = runRender(shot, *plan, frames, w.out, consoleProgress("Rendering"));
    if (!report) return fail(report.error());
    if (report->stopped) return fail({Fault::stopped, ""});
    figures.update(renderFigures(*report, *plan));
    figures["out"] = w.out;
    say(console, figures,
        fmt::format("{} frames, zoom {:.1f} %{}{}: {}", report->frames, (plan->zoom - 1) * 100,
                    plan->note.empty() ? "" : ", ", plan->note, w.out));
    return 0;
}

}  // namespace pinion::cli
