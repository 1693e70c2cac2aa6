#include "commands/command.h"
#include "base/files.h"
#include "base/units.h"
#include "exchange/gltf.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "exchange/shotfiles.h"
#include "exchange/usd.h"
#include "figures.h"
#include "jobs/lengthening.h"
#include "jobs/solving.h"
#include "jobs/tracking.h"
#include "outputs.h"
#include "plates.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/solvesettings.h"
#include "shot/stages/camerastage.h"

#include <CLI/CLI.hpp>
#include <array>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

namespace pinion::cli {
namespace {

using nlohmann::json;
namespace fs = std::filesystem;

struct SolveWords {
    std::string plate, out, tracks, exclude, focal = "unknown", distortion = "unknown", basePair, rolling = "auto";
    std::vector<std::string> distances, places, sceneOf;
    int features = 500;
    double trim = 0.0;
    std::array<std::string, 16> choices;  ///< of the table of settings, by their place; empty: not said
    std::array<double, 16> numbers{};     ///< 0: not said
    bool zoom = false, fixed = false, thorough = false;
};

Expected<void> applyRolling(const std::string& words, SolveSettings& settings) {
    const SolveSetting& reading = solveSetting(SettingId::reading);
    if (const auto choice = choiceNamed(reading, words); choice && words != "known") {
        reading.choose(settings, *choice);
        return {};
    }
    char rest = 0;
    double share = 0, sigma = 0;
    const bool isDrawn = std::sscanf(words.c_str(), "%lf~%lf%c", &share, &sigma, &rest) == 2 && sigma > 0;
    if ((!isDrawn && std::sscanf(words.c_str(), "%lf%c", &share, &rest) != 1) || !(std::abs(share) <= 1) || sigma > 1)
        return failure(Fault::input,
                       "--rolling {}: write none, auto, a share of a frame from -1 to 1 (0.6), or a share and its "
                       "trust (0.6~0.05)",
                       words);
    settings.reading = SolveSettings::Reading::known;
    settings.readoutShare = share;
    settings.readoutSigma = isDrawn ? sigma : 0;
    return {};
}

Expected<void> applySolveWords(const SolveWords& words, Shot& shot) {
    SolveSettings& settings = shot.solveSettings;
    for (std::size_t i = 0; i < solveSettings().size(); ++i) {
        const SolveSetting& setting = solveSettings()[i];
        if (setting.isChoice()) {
            if (const auto choice = choiceNamed(setting, words.choices[i])) setting.choose(settings, *choice);
        } else if (words.numbers[i] > 0) {
            settings.*setting.number = words.numbers[i];
        }
    }
    if (words.zoom || words.fixed) settings.zoom = words.zoom;
    if (auto taken = applyRolling(words.rolling, settings); !taken) return taken;
    if (words.focal != "unknown") {
        char rest = 0;
        double value = 0, sigma = 0;
        if (std::sscanf(words.focal.c_str(), "%lf~%lf%c", &value, &sigma, &rest) == 2 && value > 0 && sigma > 0) {
            settings.focal = Knowledge::guessed;
            settings.focalSigma_mm = sigma;
        } else if (std::sscanf(words.focal.c_str(), "%lf%c", &value, &rest) == 1 && value > 0) {
            settings.focal = Knowledge::known;
        } else {
            return failure(Fault::input, "--focal {}: write millimetres (35), a value and its trust (35~2), or unknown",
                           words.focal);
        }
        settings.focal_mm = value;
    }
    // Those words that need no lens.
    const SolveSetting& distortion = solveSetting(SettingId::distortion);
    const auto choice = choiceNamed(distortion, words.distortion);
    if (choice && words.distortion != "known" && words.distortion != "guessed") {
        distortion.choose(settings, *choice);
    } else {
        const bool guessed = words.distortion.ends_with('~');
        const auto lens = readLens(words.distortion.substr(0, words.distortion.size() - (guessed ? 1 : 0)));
        if (!lens) return tl::unexpected(lens.error());
        shot.lens.lens = *lens;
        shot.lens.source = LensCard::Source::file;
        settings.distortion = guessed ? SolveOptions::Distortion::guessed : SolveOptions::Distortion::known;
    }
    if (!words.basePair.empty()) {
        int a = 0, b = 0;
        char rest = 0;
        if (std::sscanf(words.basePair.c_str(), "%d,%d%c", &a, &b, &rest) != 2)
            return failure(Fault::input, "--base-pair {}: write A,B, as in 1001,1040", words.basePair);
        settings.basePair = {a, b};
    }
    return {};
}

/// What is said of tracks by their names: those of the scene; measures, A,B=METRES~TRUST and A=X,Y,Z~TRUST; a trust of
/// a centimetre when none is given.
Expected<void> applyTrackWords(const SolveWords& words, Shot& shot) {
    const auto idOf = [&](const std::string& name, const std::string& whole) -> Expected<TrackId> {
        for (const Track& track : shot.tracks)
            if (track.name == name) return track.id;
        return failure(Fault::input, "{}: there is no track named {}", whole, name);
    };
    std::vector<TrackId> sceneOf;
    for (const std::string& word : words.sceneOf) {
        const auto id = idOf(word, "--scene-of");
        if (!id) return tl::unexpected(id.error());
        sceneOf.push_back(*id);
    }
    shot.solveSettings.sceneOf = List<TrackId>(std::move(sceneOf));
    std::vector<KnownDistance> distances;
    for (const std::string& word : words.distances) {
        const auto comma = word.find(','), equals = word.rfind('=');
        KnownDistance known;
        char rest = 0;
        const bool read = comma != std::string::npos && equals != std::string::npos && comma < equals;
        const int count =
            read ? std::sscanf(word.c_str() + equals + 1, "%lf~%lf%c", &known.metres, &known.sigma, &rest) : 0;
        if (count < 1 || count > 2 || (count == 1 && word.find('~', equals) != std::string::npos))
            return failure(Fault::input, "--distance {}: write A,B=METRES~TRUST, as in p1,p2=2.5~0.01", word);
        const auto a = idOf(word.substr(0, comma), "--distance " + word),
                   b = idOf(word.substr(comma + 1, equals - comma - 1), "--distance " + word);
        if (!a) return tl::unexpected(a.error());
        if (!b) return tl::unexpected(b.error());
        known.a = *a;
        known.b = *b;
        distances.push_back(known);
    }
    std::vector<KnownPlace> places;
    for (const std::string& word : words.places) {
        const auto equals = word.rfind('=');
        KnownPlace known;
        char rest = 0;
        const int count = equals == std::string::npos
                              ? 0
                              : std::sscanf(word.c_str() + equals + 1, "%lf,%lf,%lf~%lf%c", &known.metres[0],
                                            &known.metres[1], &known.metres[2], &known.sigma, &rest);
        if (count < 3 || count > 4 || (count == 3 && word.find('~', equals) != std::string::npos))
            return failure(Fault::input, "--place {}: write A=X,Y,Z~TRUST in metres, as in p1=0,1.2,-3~0.01", word);
        const auto id = idOf(word.substr(0, equals), "--place " + word);
        if (!id) return tl::unexpected(id.error());
        known.track = *id;
        places.push_back(known);
    }
    shot.solveSettings.distances = List<KnownDistance>(std::move(distances));
    shot.solveSettings.places = List<KnownPlace>(std::move(places));
    return {};
}

int solveCommand(const Console& console, const SolveWords& w) {
    const std::string ending = w.out == "-" ? ".json" : loweredEnding(w.out);
    const bool isKnown = ending == ".json" || ending == ".usda" || ending == ".glb" || ending == ".ply";
    if (!isKnown)
        return fail({Fault::input, fmt::format("--out {}: its ending has to be .json, .usda, .glb or .ply", w.out)});
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free =
            checkOutput("--out", w.out, {w.plate, facts.path.string(), w.tracks, w.exclude, w.distortion});
        !free)
        return fail(free.error());
    Shot shot = shotOf(facts);
    if (const auto applied = applySolveWords(w, shot); !applied) return fail(applied.error());
    if (!w.exclude.empty()) {
        const auto mattes = mattesFor(w.exclude, w.tracks, {facts.firstFrame, facts.lastFrame}, facts);
        if (!mattes) return fail(mattes.error());
        shot.mattes = List<Matte>(*mattes);
    }
    if (!w.tracks.empty()) {
        const auto tracks = tracksFor(w.tracks, facts);
        if (!tracks) return fail(tracks.error());
        shot = withCoveredSetAside(withScattered(shot, *tracks));
    } else {
        shot.scatterSettings.features = w.features;
        FrameCache frames(*plate, budget(console));
        const auto scattered = runScatter(shot, frames, facts.firstFrame, consoleProgress("Scattering"));
        if (!scattered) return fail(scattered.error());
        if (scattered->stopped) return fail({Fault::stopped, ""});
        shot = withScattered(shot, scattered->tracks);
    }
    if (const auto applied = applyTrackWords(w, shot); !applied) return fail(applied.error());
    auto solved = runSolve(shot, consoleProgress("Solving"), {.trim_px = w.trim});
    if (!solved) return fail(solved.error());
    shot = withSolve(shot, *solved, shot);
    if (w.thorough) {
        FrameCache frames(*plate, budget(console));
        auto thorough = lengthenAndRefine(shot, frames, consoleProgress("The second sweep"));
        if (!thorough) return fail(thorough.error());
        if (!thorough->solve) return fail({Fault::stopped, ""});
        shot = withLengthened(shot, thorough->sweep);
        shot = withSolve(shot, *thorough->solve, shot);
        *solved = *thorough->solve;
    }
    const auto camera = cameraFileOf(shot);
    if (!camera) return fail(camera.error());
    std::vector<PointColour> colours;
    if (ending == ".glb" || ending == ".ply") {
        FrameCache frames(*plate, budget(console));
        colours = pointColours(*camera, shot, frames, consoleProgress("Colours"));
    }
    const std::string contents = ending == ".usda" ? cameraUsd(*camera, {.name = shot.name, .metres = solved->inMetres})
                                 : ending == ".glb" ? cameraGlb(*camera, shot.name, colours)
                                 : ending == ".ply" ? cloudPly(*camera, colours)
                                                    : cameraJson(*camera);
    if (const auto written = put(w.out, contents); !written) return fail(written.error());
    if (!solved->doubt.empty()) fmt::print(stderr, "not sure: {}\n", solved->doubt);
    json figures = solveFigures(*solved, facts.width);
    figures["out"] = w.out;
    for (const MovingTracks& mover : solved->movers) {
        json names = json::array();
        for (const TrackId id : mover.tracks) names.push_back(findTrack(shot, id)->name);
        figures["movers"].push_back({{"tracks", names}, {"frames", {mover.frames.first, mover.frames.second}}});
        fmt::print(stderr, "{} tracks move as one thing of their own, {} among them, frames {}-{}\n",
                   mover.tracks.size(), findTrack(shot, mover.tracks.front())->name, mover.frames.first,
                   mover.frames.second);
    }
    say(console, figures,
        w.out == "-" ? ""
                     : fmt::format("RMS {:.3f} px, {}, {} tracks, {} frames, focal {:.2f} mm, k1 {:.4f}: {}",
                                   solved->rms_px, heldOutWords(*solved, 3), solved->used, solved->frames.size(),
                                   figures["focal_mm"].get<double>(), solved->lens.k1, w.out));
    return 0;
}

}  // namespace

Runner addSolve(CLI::App& command) {
    const auto words = std::make_shared<SolveWords>();
    SolveWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command
        .add_option("--out", w.out,
                    ".json, .usda, .glb (camera and cloud) or .ply (cloud); - for JSON on standard output")
        ->required();
    command.add_option("--tracks", w.tracks, "tracks.json; scattered otherwise");
    command.add_option("--features", w.features, "features to scatter")->check(CLI::Range(8, 100000));
    command.add_option("--exclude", w.exclude, "mattes.json");
    for (std::size_t i = 0; i < solveSettings().size(); ++i) {
        const SolveSetting& setting = solveSettings()[i];
        if (!setting.option) continue;
        if (setting.isChoice())
            command.add_option(setting.option, w.choices[i], fmt::format("{}. {}", wordsOf(setting), setting.tip))
                ->check(CLI::IsMember(std::vector<std::string>(setting.words.begin(), setting.words.end())));
        else
            command
                .add_option(setting.option, w.numbers[i],
                            fmt::format("{}{}{}", setting.tip, *setting.unit ? ", " : "", setting.unit))
                ->check(CLI::Range(setting.least, setting.most));
    }
    command.add_option("--focal", w.focal, "MM, MM~TRUST or unknown");
    auto* zooms =
        command.add_flag("--zoom", w.zoom, "a focal length per frame; found from the tracks when neither is said");
    command.add_flag("--no-zoom", w.fixed, "one focal length for all frames")->excludes(zooms);
    command.add_option("--rolling", w.rolling,
                       "rolling shutter: none, auto (where the tracks show it), or the share of a frame from the first "
                       "row to the last, SHARE or SHARE~TRUST");
    command.add_option("--distortion", w.distortion,
                       "none, unknown (k1 and k2), k1, full, lens.json (kept), or lens.json~ (guessed from)");
    command.add_option("--base-pair", w.basePair, "A,B: the frames to start from");
    command
        .add_option("--scene-of", w.sceneOf,
                    "A,B,C: tracks that belong to the scene; the camera is the one that sees them stand still")
        ->delimiter(',');
    command.add_option("--distance", w.distances,
                       "A,B=METRES~TRUST: between two tracks, measured on the set; any number");
    command.add_option("--place", w.places, "A=X,Y,Z~TRUST: where a track lies, metres, Y up; any number");
    command.add_flag("--thorough", w.thorough,
                     "tracks are made longer by what the camera knows, and the camera adjusted to them");
    command.add_option("--trim", w.trim, "set tracks aside above this error in pixels")->check(CLI::NonNegativeNumber);
    return [words](const Console& console) { return solveCommand(console, *words); };
}

}  // namespace pinion::cli
