#include "steadycommands.h"

#include "base/files.h"
#include "outputs.h"

#include <CLI/CLI.hpp>
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

struct SteadyCommands::Words {
    CLI::App* steady = nullptr;
    CLI::App* take = nullptr;
    CLI::App* lend = nullptr;
    std::string plate, tracks, out, profile, range, transforms;
    std::string motion = "auto", mode = "hold", fit = "fill", smoother = "gaussian", filter = "bicubic",
                edges = "empty";
    std::vector<std::string> names;
    bool cornerPin = false;
    double strength = 1.0, position = -1, rotation = -1, scale = -1, smooth = 12, leeway = 0.05, amount = 1.0,
           above = 0.0;
    int reference = 0;
    int features = 500;

    Expected<std::shared_ptr<const Plate>> open(const std::string& fps, int firstFrame) const {
        return openPlate(plate, fps, firstFrame);
    }

    /// The shot with its tracks: read, or scattered.
    Expected<Shot> shotWithTracks(const std::shared_ptr<const Plate>& opened, FrameCache& frames) const {
        const PlateFacts& facts = opened->facts();
        Shot shot = shotOf(facts);
        const auto within = parseRange(range, facts);
        if (!within) return tl::unexpected(within.error());
        shot = withRange(shot, *within);

        if (!tracks.empty()) {
            const auto read = tracksFor(tracks, facts);
            if (!read) return tl::unexpected(read.error());
            return withTracksImported(shot, *read);
        }
        shot.scatterSettings.features = features;
        shot.scatterSettings.motion = MotionModel::similarity;
        const auto result = runScatter(shot, frames, within->first, consoleProgress("Scattering"));
        if (!result) return tl::unexpected(result.error());
        if (result->stopped) return failure(Fault::stopped, "");
        return withScattered(shot, result->tracks);
    }

    /// Renders and says what came of it.
    int render(const Console& console, const Shot& shot, FrameCache& frames, json figures) const {
        const auto plan = picturePlan(shot);
        if (!plan) return fail(plan.error());
        if (!plan->motion.frames.empty()) {
            double squares = 0;
            for (const FrameMotion& frame : plan->motion.frames) squares += frame.residual_px * frame.residual_px;
            figures["motion"] = toString(plan->motion.kind);
            if (!plan->motion.reason.empty()) figures["reason"] = plan->motion.reason;
            figures["residual_px"] = std::sqrt(squares / double(plan->motion.frames.size()));
        }
        if (!transforms.empty()) {
            const TransformSource source{shot.name, shot.plate.width, shot.plate.height, shot.plate.fps};
            const bool csv = fs::path(transforms).extension() == ".csv";
            if (const auto written = put(transforms, csv ? transformsCsv(plan->motion, source, {})
                                                         : transformsJson(plan->motion, source, {}));
                !written)
                return fail(written.error());
        }
        const auto report = runRender(shot, *plan, frames, out, consoleProgress("Rendering"));
        if (!report) return fail(report.error());
        if (report->stopped) return fail({Fault::stopped, ""});
        figures.update(renderFigures(*report, *plan));
        figures["out"] = out;
        say(console, figures,
            fmt::format("{} frames, zoom {:.1f} %{}{}: {}", report->frames, (plan->zoom - 1) * 100,
                        plan->note.empty() ? "" : ", ", plan->note, out));
        return 0;
    }
};

SteadyCommands::SteadyCommands(CLI::App& app) : words_(std::make_unique<Words>()) {
    Words& w = *words_;
    const auto share = CLI::Range(0.0, 1.0);
    const auto pictures = [&](CLI::App* command) {
        command->add_option("--out", w.out, "a sequence (out.####.exr, .png, .tif) or a video (.mp4)")->required();
        command->add_option("--filter", w.filter, "bilinear, bicubic, lanczos")
            ->check(CLI::IsMember({"bilinear", "bicubic", "lanczos"}));
        command->add_option("--edges", w.edges, "beyond the source: empty, held, mirrored")
            ->check(CLI::IsMember({"empty", "held", "mirrored"}));
        command->add_option("--fit", w.fit, "none, or fill: the smallest zoom without a border")
            ->check(CLI::IsMember({"none", "fill"}));
        command->add_option("--range", w.range, "frames A-B; the whole plate by default");
    };
    w.steady = app.add_subcommand("steady", "steadied frames");
    w.steady->add_option("PLATE", w.plate)->required();
    w.steady
        ->add_option("--tracks", w.tracks,
                     "tracks.json or .csv; all of them agree on the picture's motion, unless --names chooses")
        ->required();
    w.steady->add_option("--mode", w.mode, "hold or ease")->check(CLI::IsMember({"hold", "ease"}));
    pictures(w.steady);
    w.steady->add_option("--strength", w.strength, "of all components, 0 to 1")->check(share);
    w.steady->add_option("--position", w.position, "strength of the position alone")->check(share);
    w.steady->add_option("--rotation", w.rotation, "strength of the rotation alone")->check(share);
    w.steady->add_option("--scale", w.scale, "strength of the scale alone")->check(share);
    w.steady
        ->add_option("--names", w.names, "steady on these tracks alone: one position, two and more rotation and scale")
        ->delimiter(',');
    w.steady
        ->add_option(
            "--motion", w.motion,
            "what the picture's motion may be: auto (the least that the tracks support), position, similarity, "
            "perspective")
        ->check(CLI::IsMember({"auto", "position", "similarity", "perspective"}));
    w.steady->add_flag("--corner-pin", w.cornerPin, "four named tracks as a corner pin");
    w.steady->add_option("--reference", w.reference, "the frame that is held; the first by default");
    w.steady->add_option("--smoother", w.smoother, "of ease: gaussian or l1")->check(CLI::IsMember({"gaussian", "l1"}));
    w.steady->add_option("--smooth", w.smooth, "standard deviation of the gaussian, in frames")
        ->check(CLI::Range(0.1, 1000.0));
    w.steady->add_option("--leeway", w.leeway, "how far l1 may leave the path, share of the width")
        ->check(CLI::Range(0.001, 0.5));
    w.steady->add_option("--transforms", w.transforms, "also write the motion taken out, .json or .csv");

    auto* shake = app.add_subcommand("shake", "takes a shake from one plate and lends it to another");
    shake->require_subcommand(1);
    shake->fallthrough();
    w.take = shake->add_subcommand("take", "a shake profile from a plate");
    w.take->add_option("PLATE", w.plate)->required();
    w.take->add_option("--out", w.out, "profile.json")->required();
    w.take->add_option("--tracks", w.tracks, "tracks.json; scattered otherwise");
    w.take->add_option("--features", w.features, "features to scatter")->check(CLI::Range(8, 100000));
    w.take->add_option("--above", w.above, "only what is faster than this, in Hz; 0 all of it")
        ->check(CLI::NonNegativeNumber);
    w.take->add_option("--range", w.range, "frames A-B; the whole plate by default");
    w.lend = shake->add_subcommand("lend", "a plate with a shake");
    w.lend->add_option("PLATE", w.plate)->required();
    w.lend->add_option("--profile", w.profile, "profile.json")->required();
    w.lend->add_option("--amount", w.amount, "of all components; 1 as taken")->check(CLI::Range(0.0, 10.0));
    w.lend->add_option("--position", w.position, "amount of the position alone")->check(CLI::Range(0.0, 10.0));
    w.lend->add_option("--rotation", w.rotation, "amount of the rotation alone")->check(CLI::Range(0.0, 10.0));
    w.lend->add_option("--scale", w.scale, "amount of the scale alone")->check(CLI::Range(0.0, 10.0));
    pictures(w.lend);
}

SteadyCommands::~SteadyCommands() = default;

bool SteadyCommands::parsed() const {
    return words_->steady->parsed() || words_->take->parsed() || words_->lend->parsed();
}

int SteadyCommands::run(const Console& console, const std::string& fps, int firstFrame) const {
    const Words& w = *words_;
    const auto opened = w.open(fps, firstFrame);
    if (!opened) return fail(opened.error());
    const PlateFacts& facts = (*opened)->facts();
    const std::vector<std::string> inputs{w.plate, facts.path.string(), w.tracks, w.profile};
    for (const auto& [option, place] : {std::pair("--out", w.out), std::pair("--transforms", w.transforms)})
        if (const auto free = checkOutput(option, place, inputs); !free) return fail(free.error());
    if (!w.transforms.empty() && w.transforms != "-")
        if (const auto free = checkOutput("--transforms", w.transforms, {w.out}); !free) return fail(free.error());
    FrameCache frames(*opened, budget(console));
    const auto amount = [](double own, double all) { return own >= 0 ? own : all; };
    const SteadyOptions::Fit fit = w.fit == "fill" ? SteadyOptions::Fit::fill : SteadyOptions::Fit::none;

    if (w.lend->parsed()) {
        const auto profile = readShake(w.profile);
        if (!profile) return fail(profile.error());
        Shot shot = shotOf(facts);
        const auto range = parseRange(w.range, facts);
        if (!range) return fail(range.error());
        shot = withRange(shot, *range);
        shot.steady.shake = true;
        shot.steady.profile = std::make_shared<const ShakeProfile>(*profile);
        shot.steady.lending = {amount(w.position, w.amount), amount(w.rotation, w.amount), amount(w.scale, w.amount),
                               fit};
        shot.steady.filter = *resampleFilterFrom(w.filter);
        shot.steady.edges = *edgeModeFrom(w.edges);
        return w.render(console, shot, frames, {{"profile", profile->name}, {"profile_seconds", profile->seconds()}});
    }

    auto shot = w.shotWithTracks(*opened, frames);
    if (!shot) return fail(shot.error());
    if (w.take->parsed()) {
        const auto profile = runTakeShake(*shot, w.above);
        if (!profile) return fail(profile.error());
        if (const auto written = put(w.out, shakeJson(*profile)); !written) return fail(written.error());
        say(console,
            {{"samples", profile->samples.size()},
             {"seconds", profile->seconds()},
             {"shift_rms", profile->shiftRms()},
             {"rotation_rms_degrees", profile->angleRms()},
             {"out", w.out}},
            w.out == "-" ? ""
                         : fmt::format("{:.2f} s of shake, {:.2f} % of the width and {:.2f}° RMS: {}",
                                       profile->seconds(), profile->shiftRms() * 100, profile->angleRms(), w.out));
        return 0;
    }

    SteadySettings& s = shot->steady;
    s.steady = true;
    if (w.reference != 0 && !shot->plate.range.holds(w.reference))
        return fail({Fault::input, fmt::format("--reference {}: lies outside the frames {}-{}", w.reference,
                                               shot->plate.range.first, shot->plate.range.last)});
    s.referenceFrame = w.reference;
    s.options.mode = w.mode == "hold" ? SteadyOptions::Mode::hold : SteadyOptions::Mode::ease;
    s.options.position = amount(w.position, w.strength);
    s.options.rotation = amount(w.rotation, w.strength);
    s.options.scale = amount(w.scale, w.strength);
    s.options.smoother = w.smoother == "l1" ? SteadyOptions::Smoother::l1 : SteadyOptions::Smoother::gaussian;
    s.options.smooth_frames = w.smooth;
    s.options.leeway = w.leeway;
    s.options.fit = fit;
    s.filter = *resampleFilterFrom(w.filter);
    s.edges = *edgeModeFrom(w.edges);
    s.cornerPin = w.cornerPin;
    s.model = w.motion == "position"      ? PictureModel::position
              : w.motion == "similarity"  ? PictureModel::similarity
              : w.motion == "perspective" ? PictureModel::perspective
                                          : PictureModel::automatic;
    if (!w.names.empty() || shot->tracks.size() < 3) {
        std::vector<TrackId> chosen;
        for (const std::string& name : w.names) {
            const auto found =
                std::find_if(shot->tracks.begin(), shot->tracks.end(), [&](const Track& t) { return t.name == name; });
            if (found == shot->tracks.end())
                return fail({Fault::input, fmt::format("--names {}: {} has no such track", name, w.tracks)});
            chosen.push_back(found->id);
        }
        if (w.names.empty())
            for (const Track& track : shot->tracks) chosen.push_back(track.id);
        s.source = SteadySettings::Source::chosen;
        s.tracks = List<TrackId>(chosen);
    }
    return w.render(console, *shot, frames, {{"mode", w.mode}});
}

}  // namespace pinion::cli
