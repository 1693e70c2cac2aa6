// pinion-cli: the same jobs as the window, for scripts, batch work and checks. Exit status: 0 done; 1 no result could
// be reached, or it could not be written; 2 the input or the words are wrong; 130 stopped by Ctrl-C.

#include "base/files.h"
#include "base/memory.h"
#include "base/parallel.h"
#include "base/units.h"
#include "console.h"
#include "exchange/formats.h"
#include "exchange/usd.h"
#include "jobs/jobs.h"
#include "jobs/places.h"
#include "lens/stmap.h"
#include "plates.h"
#include "shot/shotfile.h"
#include "outputs.h"
#include "steadycommands.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <fcntl.h>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <unistd.h>

namespace {

using namespace pinion;
using namespace pinion::cli;
using nlohmann::json;
namespace fs = std::filesystem;

struct TrackWords {
    std::string motion = "affine";
    std::string channel = "luma";
    std::string range;
    int pattern = 21;
    int search = 61;
    double driftLimit = 0.8;
    std::string preFilter = "none";
    bool pickUp = true;
    bool bridge = false;
};

void addTrackOptions(CLI::App& command, TrackWords& words) {
    command
        .add_option("--motion", words.motion,
                    "how the pattern may change: translation, similarity, affine, perspective")
        ->check(CLI::IsMember({"translation", "similarity", "affine", "perspective"}));
    command.add_option("--pattern", words.pattern, "side of the pattern area in pixels")->check(CLI::Range(5, 101));
    command.add_option("--search", words.search, "side of the search area in pixels")->check(CLI::Range(7, 1001));
    command.add_option("--range", words.range, "frames A-B; the whole plate by default");
    command.add_option("--channel", words.channel, "luma, red, green, blue")
        ->check(CLI::IsMember({"luma", "red", "green", "blue"}));
    command.add_option("--drift-limit", words.driftLimit, "least score, 0 to 1; a track stops below it")
        ->check(CLI::Range(0.0, 1.0));
    command.add_option("--pre-filter", words.preFilter, "for analysis only: none, denoise, local-contrast")
        ->check(CLI::IsMember({"none", "denoise", "local-contrast"}));
}

json tracksFigures(const TrackingResult& result) {
    std::size_t samples = 0;
    std::vector<std::size_t> lengths;
    json ends = json::object();
    for (const Track& track : result.tracks) {
        samples += track.samples.size();
        lengths.push_back(track.samples.size());
        const std::string reason(toString(track.endReason));
        ends[reason] = ends.value(reason, 0) + 1;
    }
    std::sort(lengths.begin(), lengths.end());
    return {{"tracks", result.tracks.size()},
            {"samples", samples},
            {"median_length", lengths.empty() ? 0 : lengths[lengths.size() / 2]},
            {"ends", ends},
            {"unreadable_frames", result.unreadable}};
}

int info(const Console& console, const std::string& path, const std::string& fps, int firstFrame) {
    const auto plate = openPlate(path, fps, firstFrame);
    if (!plate) return fail(plate.error());
    const PlateFacts& f = (*plate)->facts();
    const Progress progress = consoleProgress("Looking for damaged frames");
    const std::vector<int> damaged = (*plate)->damagedFrames(progress);
    if (progress.stopped()) return fail({Fault::stopped, ""});
    json figures{{"path", f.path.string()},
                 {"kind", f.kind == PlateKind::video ? "video" : "sequence"},
                 {"width", f.width},
                 {"height", f.height},
                 {"fps", toString(f.fps)},
                 {"fps_from_plate", f.fpsFromPlate},
                 {"first_frame", f.firstFrame},
                 {"last_frame", f.lastFrame},
                 {"frames", f.frameCount()},
                 {"pixel_format", f.pixelFormat},
                 {"pixel_aspect", f.pixelAspect},
                 {"linear", f.linear},
                 {"turned", f.turned},
                 {"interlaced", f.interlaced},
                 {"uneven_frames", f.unevenFrames},
                 {"remarks", f.remarks},
                 {"missing_frames", f.missing},
                 {"damaged_frames", damaged}};
    if (!f.times.seconds.isEmpty()) figures["frame_times_s"] = f.times.seconds.vector();
    std::string more;
    if (!f.missing.empty()) more += "\nmissing: " + frameRanges(f.missing);
    if (!damaged.empty()) more += "\ndamaged: " + frameRanges(damaged) + " (tracking passes over them)";
    for (const std::string& remark : f.remarks) more += "\n" + remark;
    say(console, figures,
        fmt::format("{}\n{}x{}, {} frames/s{}, frames {}-{} ({}), {}, pixel aspect {:g}{}", f.path.string(), f.width,
                    f.height, toString(f.fps), f.fpsFromPlate ? "" : " (assumed)", f.firstFrame, f.lastFrame,
                    f.frameCount(), f.pixelFormat, f.pixelAspect, more));
    return 0;
}

int finishTracks(const Console& console, const Expected<TrackingResult>& result, const PlateFacts& facts,
                 const std::string& out) {
    if (!result) return fail(result.error());
    if (result->stopped) return fail({Fault::stopped, ""});
    const TrackFile file{facts.width, facts.height, facts.fps, result->tracks, facts.times};
    const bool csv = fs::path(out).extension() == ".csv";
    if (const auto written = put(out, csv ? tracksCsv(file) : tracksJson(file)); !written) return fail(written.error());
    json figures = tracksFigures(*result);
    figures["out"] = out;
    say(console, figures,
        out == "-" ? ""
                   : fmt::format("{} tracks, median length {} frames: {}", result->tracks.size(),
                                 figures["median_length"].get<int>(), out));
    if (!result->unreadable.empty())
        std::fprintf(stderr, "left out, missing or damaged: %s\n", frameRanges(result->unreadable).c_str());
    return 0;
}

int track(const Console& console, const std::string& path, const std::string& pointsPath, const std::string& out,
          const TrackWords& words, const std::string& fps, int firstFrame) {
    const auto plate = openPlate(path, fps, firstFrame);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", out, {path, facts.path.string(), pointsPath}); !free)
        return fail(free.error());
    const auto points = readPoints(pointsPath);
    if (!points) return fail(points.error());
    const auto range = parseRange(words.range, facts);
    if (!range) return fail(range.error());
    if (words.search < words.pattern)
        return fail(
            {Fault::input, fmt::format("--search {}: is smaller than the pattern of {}", words.search, words.pattern)});
    if (!range->holds(points->referenceFrame))
        return fail({Fault::input, fmt::format("{}: reference_frame {} lies outside the frames {}-{}", pointsPath,
                                               points->referenceFrame, range->first, range->last)});
    std::vector<Track> tracks;
    for (const auto& point : points->points) {
        if (!(point.at.x() >= 0 && point.at.y() >= 0 && point.at.x() <= facts.width && point.at.y() <= facts.height))
            return fail(
                {Fault::input, fmt::format("{}: point '{}' at {:g}, {:g} lies outside the frame of {}x{}", pointsPath,
                                           point.name, point.at.x(), point.at.y(), facts.width, facts.height)});
        if (point.wanted && !((*point.wanted - point.at).cwiseAbs().maxCoeff() < 10.0 * (facts.width + facts.height)))
            return fail({Fault::input, fmt::format("{}: the wanted place of point '{}' is nowhere near the frame",
                                                   pointsPath, point.name)});
        Track one;
        one.id = TrackId(tracks.size() + 1);
        one.name = point.name;
        one.byHand = true;
        one.motion = *motionModelFrom(words.motion);
        one.channel = *channelFrom(words.channel);
        one.pattern_px = words.pattern;
        one.search_px = words.search;
        one.driftLimit = words.driftLimit;
        one.preFilter = *preFilterFrom(words.preFilter);
        one.pickUp = words.pickUp;
        if (point.wanted) one.offset = *point.wanted - point.at;
        Polygon outline = point.outline;
        for (Eigen::Vector2d& corner : outline) corner -= point.at;
        one.outline = List<Eigen::Vector2d>(std::move(outline));
        one.referenceFrame = points->referenceFrame;
        one.samples = List<Sample>(
            {{.frame = points->referenceFrame, .carried = one.offset.cast<float>(), .at = point.at, .tie = true}});
        tracks.push_back(std::move(one));
    }
    auto result = [&] {
        FrameCache frames(*plate, budget(console));
        return trackPoints(frames, tracks, *range, Direction::both, consoleProgress("Tracking"));
    }();
    if (result && words.bridge)
        for (Track& one : result->tracks) one = bridged(one);
    return finishTracks(console, result, facts, out);
}

int scatterPlate(const Console& console, const std::string& path, const std::string& out, int features, double distance,
                 const std::string& exclude, const TrackWords& words, const std::string& fps, int firstFrame) {
    const auto plate = openPlate(path, fps, firstFrame);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free = checkOutput("--out", out, {path, facts.path.string(), exclude}); !free)
        return fail(free.error());
    if (words.search < words.pattern)
        return fail(
            {Fault::input, fmt::format("--search {}: is smaller than the pattern of {}", words.search, words.pattern)});
    Shot shot = shotOf(facts);
    const auto range = parseRange(words.range, facts);
    if (!range) return fail(range.error());
    shot = withRange(shot, *range);
    shot.scatterSettings = {features,
                            distance,
                            0.01,
                            words.pattern,
                            words.search,
                            *motionModelFrom(words.motion),
                            words.driftLimit,
                            *channelFrom(words.channel),
                            *preFilterFrom(words.preFilter)};
    if (!exclude.empty()) {
        const auto mattes = readMattes(exclude);
        if (!mattes) return fail(mattes.error());
        shot.mattes = List<Matte>(*mattes);
    }
    // The frames are given back before the tracks are written.
    const auto result = [&] {
        FrameCache frames(*plate, budget(console));
        return runScatter(shot, frames, range->first, consoleProgress("Scattering"));
    }();
    return finishTracks(console, result, facts, out);
}

int stmap(const Console& console, const std::string& lensPath, const std::string& size, const std::string& folder) {
    auto lens = readLens(lensPath);
    if (!lens) return fail(lens.error());
    if (!size.empty()) {
        int width = 0, height = 0;
        char rest = 0;
        if (std::sscanf(size.c_str(), "%dx%d%c", &width, &height, &rest) != 2 || width < 1 || height < 1 ||
            width > 32768 || height > 32768)
            return fail({Fault::input, fmt::format("--size {}: write WxH, as in 1920x1080", size)});
        // Another size of the same picture: all pixels scale, the distortion stays.
        const double ratio = double(width) / lens->width;
        if (std::abs(ratio * lens->height - height) > 1.0)
            return fail({Fault::input, fmt::format("--size {}: has another shape than the lens's {}x{}", size,
                                                   lens->width, lens->height)});
        lens->focal_px *= ratio;
        lens->cx *= ratio;
        lens->cy *= ratio;
        lens->width = width;
        lens->height = height;
    }
    if (const auto made = makeFolder(folder); !made) return fail(made.error());
    const Progress progress = consoleProgress("ST maps");  // so that Ctrl-C ends it between the two
    const StMap undistort = undistortMap(*lens);
    const StMap redistort = redistortMap(*lens);
    for (const auto& [map, name] :
         {std::pair<const StMap*, const char*>{&undistort, "undistort.exr"}, {&redistort, "redistort.exr"}}) {
        if (progress.stopped()) return fail({Fault::stopped, ""});
        if (const auto written = writeStMap(*map, fs::path(folder) / name); !written) return fail(written.error());
    }
    const PixelBox& box = undistort.data;
    say(console,
        {{"width", lens->width},
         {"height", lens->height},
         {"data_window", {box.x0, box.y0, box.x1, box.y1}},
         {"out_dir", folder}},
        fmt::format("undistort.exr, redistort.exr in {}; overscan left {}, top {}, right {}, bottom {} px", folder,
                    -box.x0, -box.y0, box.x1 - lens->width, box.y1 - lens->height));
    return 0;
}

struct SolveWords {
    std::string out, tracks, exclude, focal = "unknown", distortion = "unknown", motion = "auto", axis = "auto",
                                      basePair;
    std::vector<std::string> distances, places;
    int features = 500;
    double sensorWidth = 36.0;
    double trim = 0.0;
    double squeeze = 0.0;  ///< 0: as the plate says
    bool zoom = false, fixed = false;
};

Expected<void> applySolveWords(const SolveWords& words, SolveSettings& settings) {
    settings.sensorWidth_mm = words.sensorWidth;
    if (words.zoom || words.fixed) settings.zoom = words.zoom;
    settings.motion = words.motion == "travelling" ? std::optional(CameraMotion::travelling)
                      : words.motion == "nodal"    ? std::optional(CameraMotion::nodal)
                      : words.motion == "locked"   ? std::optional(CameraMotion::locked)
                                                   : std::nullopt;
    settings.axis = words.axis == "centre" ? SolveOptions::Axis::centre
                    : words.axis == "free" ? SolveOptions::Axis::free
                                           : SolveOptions::Axis::automatic;
    if (words.squeeze > 0) settings.squeeze = words.squeeze;
    if (words.focal != "unknown") {
        char rest = 0;
        double value = 0, trust = 0;
        if (std::sscanf(words.focal.c_str(), "%lf~%lf%c", &value, &trust, &rest) == 2 && value > 0 && trust > 0) {
            settings.focal = Knowledge::guessed;
            settings.focalTrust_mm = trust;
        } else if (std::sscanf(words.focal.c_str(), "%lf%c", &value, &rest) == 1 && value > 0) {
            settings.focal = Knowledge::known;
        } else {
            return failure(Fault::input, "--focal {}: write millimetres (35), a value and its trust (35~2), or unknown",
                           words.focal);
        }
        settings.focal_mm = value;
    }
    if (words.distortion == "none") {
        settings.distortion = SolveOptions::Distortion::none;
    } else if (words.distortion == "k1") {
        settings.distortion = SolveOptions::Distortion::k1;
    } else if (words.distortion == "full") {
        settings.distortion = SolveOptions::Distortion::full;
    } else if (words.distortion != "unknown") {
        const auto lens = readLens(words.distortion);
        if (!lens) return tl::unexpected(lens.error());
        settings.lens = *lens;
        settings.distortion = SolveOptions::Distortion::known;
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

/// Measures by the tracks' names: A,B=METRES~TRUST and A=X,Y,Z~TRUST; a trust of a centimetre when none is given.
Expected<void> applyMeasures(const SolveWords& words, Shot& shot) {
    const auto idOf = [&](const std::string& name, const std::string& whole) -> Expected<TrackId> {
        for (const Track& track : shot.tracks)
            if (track.name == name) return track.id;
        return failure(Fault::input, "{}: there is no track named {}", whole, name);
    };
    std::vector<KnownDistance> distances;
    for (const std::string& word : words.distances) {
        const auto comma = word.find(','), equals = word.rfind('=');
        KnownDistance known;
        char rest = 0;
        const bool read = comma != std::string::npos && equals != std::string::npos && comma < equals;
        const int count =
            read ? std::sscanf(word.c_str() + equals + 1, "%lf~%lf%c", &known.metres, &known.trust, &rest) : 0;
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
                                            &known.metres[1], &known.metres[2], &known.trust, &rest);
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

json solveFigures(const Solve& solve, int width) {
    json figures{{"rms_px", solve.rms_px},
                 {"held_out_rms_px", solve.heldOutRms_px},
                 {"tracks", solve.used},
                 {"held_out_tracks", solve.heldOut},
                 {"disagreed_tracks", solve.disagreed},
                 {"frames", solve.frames.size()},
                 {"focal_px", solve.lens.focal_px},
                 {"focal_mm", focalMillimetres(solve.lens.focal_px, solve.sensorWidth_mm, width)},
                 {"k1", solve.lens.k1},
                 {"k2", solve.lens.k2},
                 {"base_pair", {solve.basePair.first, solve.basePair.second}},
                 {"parallax_degrees", solve.medianAngleDegrees}};
    if (solve.focalDeviation_mm) figures["focal_deviation_mm"] = *solve.focalDeviation_mm;
    figures["motion"] = toString(solve.motion);
    figures["reason"] = solve.reason;
    figures["noise_px"] = solve.noise_px;
    if (solve.inMetres) figures["in_metres"] = true;
    figures["axis_px"] = {solve.lens.cx, solve.lens.cy};
    if (solve.zoom) {
        double least = 1e300, most = 0;
        for (const SolvedFrame& frame : solve.frames) {
            least = std::min(least, frame.focal_px);
            most = std::max(most, frame.focal_px);
        }
        figures["zoom_mm"] = {focalMillimetres(least, solve.sensorWidth_mm, width),
                              focalMillimetres(most, solve.sensorWidth_mm, width)};
    }
    if (solve.focalRange_mm) figures["focal_range_mm"] = {solve.focalRange_mm->first, solve.focalRange_mm->second};
    if (!solve.doubt.empty()) figures["doubt"] = solve.doubt;
    return figures;
}

int solve(const Console& console, const std::string& path, const SolveWords& words, const std::string& fps,
          int firstFrame) {
    const std::string ending = words.out == "-" ? ".json" : fs::path(words.out).extension().string();
    if (ending != ".json" && ending != ".usda")
        return fail({Fault::input, fmt::format("--out {}: its ending has to be .json or .usda", words.out)});
    const auto plate = openPlate(path, fps, firstFrame);
    if (!plate) return fail(plate.error());
    const PlateFacts& facts = (*plate)->facts();
    if (const auto free =
            checkOutput("--out", words.out, {path, facts.path.string(), words.tracks, words.exclude, words.distortion});
        !free)
        return fail(free.error());
    Shot shot = shotOf(facts);
    if (const auto applied = applySolveWords(words, shot.solveSettings); !applied) return fail(applied.error());
    if (!words.exclude.empty()) {
        const auto mattes = readMattes(words.exclude);
        if (!mattes) return fail(mattes.error());
        shot.mattes = List<Matte>(*mattes);
    }
    if (!words.tracks.empty()) {
        const auto tracks = tracksFor(words.tracks, facts);
        if (!tracks) return fail(tracks.error());
        shot = withScattered(shot, *tracks);
    } else {
        shot.scatterSettings.features = words.features;
        FrameCache frames(*plate, budget(console));
        const auto scattered = runScatter(shot, frames, facts.firstFrame, consoleProgress("Scattering"));
        if (!scattered) return fail(scattered.error());
        if (scattered->stopped) return fail({Fault::stopped, ""});
        shot = withScattered(shot, scattered->tracks);
    }
    if (const auto applied = applyMeasures(words, shot); !applied) return fail(applied.error());
    const auto solved = runSolve(shot, consoleProgress("Solving"), {.trim_px = words.trim});
    if (!solved) return fail(solved.error());
    shot = withSolve(shot, *solved, solveKey(shot));
    const auto camera = cameraFileOf(shot);
    if (!camera) return fail(camera.error());
    const std::string contents = ending == ".usda" ? cameraUsd(*camera, {.name = shot.name}) : cameraJson(*camera);
    if (const auto written = put(words.out, contents); !written) return fail(written.error());
    if (!solved->doubt.empty()) fmt::print(stderr, "not sure: {}\n", solved->doubt);
    json figures = solveFigures(*solved, facts.width);
    figures["out"] = words.out;
    say(console, figures,
        words.out == "-" ? ""
                         : fmt::format("RMS {:.3f} px, {}, {} tracks, {} frames, focal {:.2f} mm, k1 {:.4f}: {}",
                                       solved->rms_px, heldOutWords(*solved, 3), solved->used, solved->frames.size(),
                                       figures["focal_mm"].get<double>(), solved->lens.k1, words.out));
    return 0;
}

/// The places checked before anything is written.
Expected<void> checkDeliveries(const Shot& shot, const fs::path& folder, const std::string& shotPath, bool outside,
                               const std::string& only = "") {
    auto checked = checkPlaces(shot, folder, shotPath, outside,
                               only.empty() ? std::vector<std::string>{} : std::vector<std::string>{only});
    if (!checked && !outside && checkPlaces(shot, folder, shotPath, true))
        checked.error().message += "; --allow-outside writes it there all the same";
    return checked;
}

int deliverShot(const Console& console, const std::string& shotPath, const std::string& only, const std::string& folder,
                bool outside) {
    const auto shot = loadShot(shotPath);
    if (!shot) return fail(shot.error());
    if (const auto free = checkDeliveries(*shot, folder, shotPath, outside, only); !free) return fail(free.error());
    const Progress progress = consoleProgress("Delivering");  // between two files Ctrl-C ends it
    json written = json::array();
    std::string text;
    bool any = false;
    for (const Deliverable& deliverable : shot->deliverables) {
        if (!only.empty() && deliverable.name != only) continue;
        any = true;
        if (progress.stopped()) return fail({Fault::stopped, ""});
        const auto report = deliver(*shot, deliverable, folder);
        if (!report) return fail(report.error());
        for (const fs::path& file : report->files) {
            written.push_back({{"name", report->name}, {"path", file.string()}});
            text += (text.empty() ? "" : "\n") + file.string();
        }
    }
    if (!any) {
        std::string names;
        for (const Deliverable& deliverable : shot->deliverables)
            names += (names.empty() ? "" : ", ") + deliverable.name;
        return fail({Fault::input, only.empty() ? fmt::format("{}: lists no deliverable", shotPath)
                                                : fmt::format("--only {}: the shot has {}", only, names)});
    }
    say(console, {{"files", written}}, text);
    return 0;
}

int runShot(const Console& console, const std::string& shotPath, std::vector<std::string> steps,
            const std::string& save, const std::string& folder, bool outside) {
    const auto loaded = loadShot(shotPath);
    if (!loaded) return fail(loaded.error());
    Shot shot = *loaded;
    const bool asked = !steps.empty();
    if (!asked) {
        if (shot.tracks.isEmpty()) steps.push_back("scatter");
        if (!shot.solve || !steps.empty() || shot.solvedKey != solveKey(shot)) steps.push_back("solve");
        steps.push_back("deliver");
    }
    for (const std::string& step : steps)
        if (step != "scatter" && step != "solve" && step != "deliver")
            return fail({Fault::input, fmt::format("--steps {}: the steps are scatter, solve, deliver", step)});
    const std::string target = save.empty() ? shotPath : save;
    if (const auto free = checkOutput(save.empty() ? "SHOT" : "--save", target, {shot.plate.path.string()}); !free)
        return fail(free.error());
    json figures{{"steps", steps}};
    bool changed = false;
    // What was done before a step failed is kept.
    const auto failKeeping = [&](const Error& error) {
        if (changed) {
            const auto saved = saveShot(shot, target);
            if (saved) fmt::print(stderr, "saved {} as far as it went\n", target);
            else fail(saved.error());
        }
        return fail(error);
    };
    for (const std::string& step : steps) {
        if (step == "scatter") {
            const auto plate = Plate::open(shot.plate.path, {}, consoleProgress("Opening"));
            if (!plate) return failKeeping(plate.error());
            shot = withPlate(shot, (*plate)->facts());
            FrameCache frames(*plate, budget(console));
            const auto result = runScatter(shot, frames, shot.plate.range.first, consoleProgress("Scattering"));
            if (!result) return failKeeping(result.error());
            if (result->stopped) return failKeeping({Fault::stopped, ""});
            shot = withScattered(shot, result->tracks);
            changed = true;
            figures["scatter"] = tracksFigures(*result);
        } else if (step == "solve") {
            const auto result = runSolve(shot, consoleProgress("Solving"));
            if (!result) return failKeeping(result.error());
            shot = withSolve(shot, *result, solveKey(shot));
            changed = true;
            if (!result->doubt.empty()) fmt::print(stderr, "not sure: {}\n", result->doubt);
            figures["solve"] = solveFigures(*result, shot.plate.width);
        } else {
            json files = json::array();
            const fs::path to = folder.empty() ? deliveryFolderOf(shot, shotPath) : fs::path(folder);
            if (const auto free = checkDeliveries(shot, to, target, outside); !free) return failKeeping(free.error());
            const Progress progress = consoleProgress("Delivering");
            for (const Deliverable& deliverable : shot.deliverables.vector()) {
                if (progress.stopped()) return failKeeping({Fault::stopped, ""});
                const auto report = deliver(shot, deliverable, to);
                if (!report) return failKeeping(report.error());
                for (const fs::path& file : report->files) files.push_back(file.string());
                shot = withDelivered(shot, deliverable.name);
                changed = true;
            }
            figures["files"] = files;
        }
    }
    if (const auto saved = saveShot(shot, target); !saved) return fail(saved.error());
    figures["saved"] = target;
    say(console, figures, fmt::format("saved {}", target));
    return 0;
}

}  // namespace

namespace {

/// The first option of a command, or of one below it, that was given "-".
const CLI::Option* takesStandardOutput(const CLI::App& app) {
    if (!app.parsed()) return nullptr;
    for (const CLI::Option* option : app.get_options())
        if (option->count() > 0 && option->results().back() == "-" && !option->get_positional()) return option;
    for (const CLI::App* command : app.get_subcommands({}))
        if (const CLI::Option* option = takesStandardOutput(*command)) return option;
    return nullptr;
}

/// "nan" and "inf" pass every check of a range.
Expected<void> checkFinite(const CLI::App& app) {
    for (const CLI::Option* option : app.get_options())
        if (option->get_type_name().starts_with("FLOAT"))
            for (const std::string& word : option->results())
                if (char* end = nullptr; !std::isfinite(std::strtod(word.c_str(), &end)))
                    return failure(Fault::input, "{} {}: is no finite number", option->get_name(), word);
    for (const CLI::App* command : app.get_subcommands())
        if (auto checked = checkFinite(*command); !checked) return checked;
    return {};
}

/// The first word where a command is expected, when it is none.
std::string unknownCommand(const CLI::App& app, int argc, char** argv) {
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (word == "--threads" || word == "--memory" || word == "--fps" || word == "--first-frame") ++i;
        else if (!word.starts_with('-')) {
            const auto isIt = [&](const CLI::App* command) { return command->check_name(word); };
            return app.get_subcommands(isIt).empty() ? word : "";
        }
    }
    return "";
}

int runCommand(int argc, char** argv) {
    returnLargeBlocks();
    CLI::App app{"Pinion's jobs from the command line."};
    app.require_subcommand(1);
    app.fallthrough();
    app.set_version_flag("--version", "pinion-cli 0.1.0");
    Console console;
    std::string fps;
    int firstFrame = 1001;
    app.add_flag("--json", console.json, "print one JSON object with the figures");
    app.add_option("--threads", console.threads, "threads at most; 0 all")->check(CLI::Range(0, 1024));
    app.add_option("--memory", console.memory_mib, "MiB for the frame cache")->check(CLI::Range(16, 1 << 20));
    app.add_option("--fps", fps, "frame rate, where the plate does not say it: 24, 24000/1001");
    app.add_option("--first-frame", firstFrame, "number of a video's first frame")->check(CLI::Range(0, 100000000));

    std::string plate, points, out, exclude, lensPath, size, folder, shotPath, only, save;
    std::vector<std::string> steps;
    int features = 500;
    double distance = 16.0;
    TrackWords trackWords, scatterWords;
    SolveWords solveWords;

    auto* infoCommand = app.add_subcommand("info", "what a plate is");
    infoCommand->add_option("PLATE", plate)->required();

    auto* trackCommand = app.add_subcommand("track", "tracks from points placed by hand");
    trackCommand->add_option("PLATE", plate)->required();
    trackCommand->add_option("--points", points, "points.json")->required();
    trackCommand->add_option("--out", out, "tracks.json, or a .csv; - for standard output")->required();
    addTrackOptions(*trackCommand, trackWords);
    trackCommand->add_flag("--pick-up,!--no-pick-up", trackWords.pickUp,
                           "look for the pattern again after it was lost: done unless it is taken away");
    trackCommand->add_flag("--bridge", trackWords.bridge, "lay the track smoothly across gaps");

    auto* scatterCommand = app.add_subcommand("scatter", "features found and tracked");
    scatterCommand->add_option("PLATE", plate)->required();
    scatterCommand->add_option("--out", out, "tracks.json, or a .csv; - for standard output")->required();
    scatterCommand->add_option("--features", features, "how many to keep in each frame")->check(CLI::Range(1, 100000));
    scatterCommand->add_option("--least-distance", distance, "pixels between two features")
        ->check(CLI::Range(2.0, 1000.0));
    scatterCommand->add_option("--exclude", exclude, "mattes.json");
    addTrackOptions(*scatterCommand, scatterWords);

    auto* stmapCommand = app.add_subcommand("stmap", "ST maps of a lens");
    stmapCommand->add_option("--lens", lensPath, "lens.json")->required();
    stmapCommand->add_option("--size", size, "WxH; the lens's own by default");
    stmapCommand->add_option("--out-dir", folder)->required();

    auto* solveCommand = app.add_subcommand("solve", "camera, lens and point cloud");
    solveCommand->add_option("PLATE", plate)->required();
    solveCommand->add_option("--out", solveWords.out, ".json or .usda; - for JSON on standard output")->required();
    solveCommand->add_option("--tracks", solveWords.tracks, "tracks.json; scattered otherwise");
    solveCommand->add_option("--features", solveWords.features, "features to scatter")->check(CLI::Range(8, 100000));
    solveCommand->add_option("--exclude", solveWords.exclude, "mattes.json");
    solveCommand->add_option("--sensor-width", solveWords.sensorWidth, "millimetres")->check(CLI::Range(0.5, 1000.0));
    solveCommand->add_option("--focal", solveWords.focal, "MM, MM~TRUST or unknown");
    auto* zooms = solveCommand->add_flag("--zoom", solveWords.zoom,
                                         "a focal length per frame; found from the tracks when neither is said");
    solveCommand->add_flag("--no-zoom", solveWords.fixed, "one focal length for all frames")->excludes(zooms);
    solveCommand->add_option("--distortion", solveWords.distortion, "none, unknown (k1 and k2), k1, full or lens.json");
    solveCommand->add_option("--motion", solveWords.motion, "auto, travelling, nodal or locked")
        ->check(CLI::IsMember({"auto", "travelling", "nodal", "locked"}));
    solveCommand->add_option("--axis", solveWords.axis, "the optical axis: auto, centre or free")
        ->check(CLI::IsMember({"auto", "centre", "free"}));
    solveCommand
        ->add_option(
            "--squeeze", solveWords.squeeze,
            "anamorphic squeeze: pixels across over pixels down of one angle; as the plate's pixels say by default")
        ->check(CLI::Range(0.05, 20.0));
    solveCommand->add_option("--base-pair", solveWords.basePair, "A,B: the frames to start from");
    solveCommand->add_option("--distance", solveWords.distances,
                             "A,B=METRES~TRUST: between two tracks, measured on the set; any number");
    solveCommand->add_option("--place", solveWords.places,
                             "A=X,Y,Z~TRUST: where a track lies, metres, Y up; any number");
    solveCommand->add_option("--trim", solveWords.trim, "set tracks aside above this error in pixels")
        ->check(CLI::NonNegativeNumber);

    SteadyCommands steadyCommands(app);

    auto* deliverCommand = app.add_subcommand("deliver", "writes a shot's deliveries");
    deliverCommand->add_option("SHOT", shotPath)->required();
    deliverCommand->add_option("--only", only, "the name of one deliverable");
    deliverCommand->add_option("--out-dir", folder)->required();
    bool outside = false;
    deliverCommand->add_flag("--allow-outside", outside, "write deliveries whose place lies outside the folder too");

    auto* runCommand = app.add_subcommand("run", "does a shot's open steps and saves it");
    runCommand->add_option("SHOT", shotPath)->required();
    runCommand->add_option("--steps", steps, "scatter, solve, deliver")->delimiter(',');
    runCommand->add_flag("--allow-outside", outside, "write deliveries whose place lies outside the folder too");
    runCommand->add_option("--save", save, "the file to save as; the same by default");
    runCommand->add_option("--out-dir", folder, "delivery folder");

    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        if (error.get_exit_code() == 0) return app.exit(error);
        if (const std::string word = unknownCommand(app, argc, argv); !word.empty()) {
            std::fprintf(stderr, "pinion-cli: there is no command '%s' (see --help)\n", word.c_str());
            return 2;
        }
        std::fprintf(stderr, "pinion-cli: %s (see --help)\n", error.what());
        return 2;
    }
    if (const auto checked = checkFinite(app); !checked) return fail(checked.error());
    limitThreads(console.threads);
    if (console.json)
        for (const CLI::App* command : app.get_subcommands({}))
            if (const CLI::Option* option = takesStandardOutput(*command))
                return fail(
                    {Fault::input, fmt::format("--json and {} -: both want standard output", option->get_name())});
    if (infoCommand->parsed()) return info(console, plate, fps, firstFrame);
    if (trackCommand->parsed()) return track(console, plate, points, out, trackWords, fps, firstFrame);
    if (scatterCommand->parsed())
        return scatterPlate(console, plate, out, features, distance, exclude, scatterWords, fps, firstFrame);
    if (stmapCommand->parsed()) return stmap(console, lensPath, size, folder);
    if (solveCommand->parsed()) return solve(console, plate, solveWords, fps, firstFrame);
    if (steadyCommands.parsed()) return steadyCommands.run(console, fps, firstFrame);
    if (deliverCommand->parsed()) return deliverShot(console, shotPath, only, folder, outside);
    return runShot(console, shotPath, steps, save, folder, outside);
}

}  // namespace

/// A closed stream's number goes to the next file that is opened, and what is said would be written into it.
void holdStandardStreams() {
    for (const int stream : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
        if (::fcntl(stream, F_GETFD) < 0) (void)::open("/dev/null", stream == STDIN_FILENO ? O_RDONLY : O_WRONLY);
}

int main(int argc, char** argv) {
    holdStandardStreams();
    // Nothing may end a command without a word; what comes here is a fault of ours or of the machine.
    try {
        const int status = runCommand(argc, argv);
        if (status == 0 && (std::fflush(stdout) != 0 || std::ferror(stdout) != 0))
            return fail({Fault::system, "standard output cannot be written: the disk is full, or it was closed"});
        return status;
    } catch (const std::bad_alloc&) {
        return fail({Fault::system, "there is not enough memory for this"});
    } catch (const std::exception& error) {
        return fail({Fault::system, fmt::format("it ended unexpectedly: {}", error.what())});
    }
}
