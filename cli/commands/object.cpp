#include "camera/object.h"

#include "camera/solve.h"
#include "commands/command.h"
#include "exchange/formats.h"
#include "exchange/objects.h"
#include "exchange/shotfiles.h"
#include "outputs.h"
#include "plates.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <memory>
#include <nlohmann/json.hpp>
#include <set>

namespace pinion::cli {
namespace {

struct ObjectWords {
    std::string plate, camera, tracks, out, length;
    std::vector<std::string> names, onGround;
    double ground = 0;
};

/// The camera of the file with what the tracks say of it: what moves against it as one thing, and what contradicts it.
Expected<Solve> comparedWith(const CameraFile& file, const std::vector<Track>& tracks, const Progress& progress) {
    SolveOptions options;
    options.width = file.width;
    options.height = file.height;
    options.sensorWidth_mm = file.sensorWidth_mm;
    options.start = std::make_shared<const Solve>(solveOf(file));
    return solveCamera(tracks, options, progress);
}

Expected<ObjectOptions> optionsFor(const ObjectWords& w, const std::vector<Track>& tracks, const CameraFile& file) {
    const auto idsOf = [&](const std::vector<std::string>& names,
                           const char* option) -> Expected<std::vector<TrackId>> {
        std::vector<TrackId> ids;
        for (const std::string& name : names) {
            const auto found =
                std::find_if(tracks.begin(), tracks.end(), [&](const Track& track) { return track.name == name; });
            if (found == tracks.end()) return failure(Fault::input, "{}: there is no track named {}", option, name);
            ids.push_back(found->id);
        }
        return ids;
    };
    ObjectOptions options;
    options.sensorWidth_mm = file.sensorWidth_mm;
    options.readout = file.readout;
    options.ground = w.ground;
    const auto named = idsOf(w.names, "--names"), touching = idsOf(w.onGround, "--on-ground");
    if (!named) return tl::unexpected(named.error());
    if (!touching) return tl::unexpected(touching.error());
    options.tracks = *named;
    options.onGround = *touching;
    if (!w.length.empty()) {
        const auto comma = w.length.find(','), equals = w.length.rfind('=');
        char rest = 0;
        double value = 0;
        if (comma == std::string::npos || equals == std::string::npos || comma > equals ||
            std::sscanf(w.length.c_str() + equals + 1, "%lf%c", &value, &rest) != 1 || !(value > 0))
            return failure(Fault::input, "--length {}: write A,B=UNITS, as in b1,b2=1.6", w.length);
        const auto two = idsOf({w.length.substr(0, comma), w.length.substr(comma + 1, equals - comma - 1)}, "--length");
        if (!two) return tl::unexpected(two.error());
        options.length = ObjectOptions::Length{(*two)[0], (*two)[1], value};
    }
    // As far as most of what stands, where nothing tells.
    std::vector<double> away;
    for (const CameraFile::Point& point : file.points)
        away.push_back((point.xyz - file.frames.front().worldFromCamera.translation()).norm());
    if (!away.empty()) {
        std::nth_element(away.begin(), away.begin() + std::ptrdiff_t(away.size() / 2), away.end());
        options.usualDistance = away[away.size() / 2];
    }
    return options;
}

int objectCommand(const Console& console, const ObjectWords& w) {
    const auto plate = openPlate(console, w.plate);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", w.out, {w.plate, facts.path.string(), w.tracks, w.camera}); !free)
        return fail(free.error());
    const auto tracks = tracksFor(w.tracks, facts);
    if (!tracks) return fail(tracks.error());
    const auto camera = cameraFor(w.camera, facts);
    if (!camera) return fail(camera.error());
    auto options = optionsFor(w, *tracks, *camera);
    if (!options) return fail(options.error());
    std::vector<std::vector<TrackId>> groups;
    if (!options->tracks.empty()) {
        groups.push_back(options->tracks);
    } else {
        const auto compared = comparedWith(*camera, *tracks, consoleProgress("Looking for what moves"));
        if (!compared) return fail(compared.error());
        for (const MovingTracks& mover : compared->movers) groups.push_back(mover.tracks);
        // A thing may be told in parts; what goes with the first joins it.
        options->mayJoin = looseTracks(*compared);
        if (groups.empty())
            return fail({Fault::outcome, "no tracks move as one thing of their own; name those of the object"});
    }
    ObjectFile file;
    std::vector<Error> errors;
    nlohmann::json figures = nlohmann::json::array();
    std::string words;
    const Solve solve = solveOf(*camera);
    const auto nameOf = [&](TrackId id) {
        return std::find_if(tracks->begin(), tracks->end(), [&](const Track& track) { return track.id == id; })->name;
    };
    std::set<TrackId> taken;
    for (std::vector<TrackId> group : groups) {
        const std::size_t had = group.size();
        std::erase_if(group, [&](TrackId id) { return taken.contains(id); });
        if (2 * group.size() < had) continue;  // most of it is on another object already
        options->tracks = group;
        std::erase_if(options->mayJoin, [&](TrackId id) { return taken.contains(id); });
        const std::string name = fmt::format("object {}", file.objects.size() + 1);
        const auto solved = solveObject(camerasOf(solve), *tracks, *options, consoleProgress(name));
        if (!solved) {
            errors.push_back(solved.error());
            continue;
        }
        for (const ObjectPoint& point : solved->points) taken.insert(point.track);
        file.objects.push_back(objectOf(name, *solved, nameOf));
        if (!solved->doubt.empty()) fmt::print(stderr, "not sure of {}: {}\n", name, solved->doubt);
        figures.push_back({{"name", name},
                           {"tracks", solved->points.size()},
                           {"frames", solved->frames.size()},
                           {"rms_px", solved->rms_px},
                           {"scale", toString(solved->scale)},
                           {"scale_deviation", solved->scaleDeviation}});
        words +=
            fmt::format("{}{}: {} tracks, {} frames, RMS {:.3f} px, size {}", words.empty() ? "" : "\n", name,
                        solved->points.size(), solved->frames.size(), solved->rms_px,
                        solved->scale == ObjectScale::free
                            ? "not told: give a length, or where it touches the ground"
                            : fmt::format("by {} ± {:.1f} %", toString(solved->scale), 100 * solved->scaleDeviation));
    }
    if (file.objects.empty()) return fail(errors.front());
    if (const auto done = put(w.out, objectsJson(file)); !done) return fail(done.error());
    say(console, {{"objects", figures}, {"out", w.out}}, w.out == "-" ? "" : words + ": " + w.out);
    return 0;
}

}  // namespace

Runner addObject(CLI::App& command) {
    const auto words = std::make_shared<ObjectWords>();
    ObjectWords& w = *words;
    command.add_option("PLATE", w.plate)->required();
    command.add_option("--camera", w.camera, "camera.json of a solve")->required();
    command.add_option("--tracks", w.tracks, "tracks.json or .csv")->required();
    command.add_option("--out", w.out, "object.json; - for standard output")->required();
    command.add_option("--names", w.names, "a,b,c: the tracks of one object; found where none are named")
        ->delimiter(',');
    command.add_option("--on-ground", w.onGround, "a,b,c: tracks where it touches the ground, which tell its size")
        ->delimiter(',');
    command.add_option("--ground", w.ground, "the height of the ground in the camera's world; 0 when not said");
    command.add_option("--length", w.length, "A,B=UNITS: how far apart two of its points are, in the camera's world");
    return [words](const Console& console) { return objectCommand(console, *words); };
}

}  // namespace pinion::cli
