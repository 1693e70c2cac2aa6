#include "mutations/mutations.h"

#include "comp/composing.h"
#include "exchange/corners.h"
#include "exchange/deliverables.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "exchange/shotfiles.h"
#include "exchange/transforms.h"
#include "exchange/usd.h"
#include "jobs/inserting.h"
#include "matte/matte.h"
#include "mutations/fullshot.h"
#include "planar/surface.h"
#include "shot/edits/cameraedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/insertsstage.h"
#include "shot/stages/lensstage.h"
#include "shot/stages/mattesstage.h"
#include "shot/stages/planesstage.h"
#include "shot/stages/platestage.h"
#include "shot/stages/steadystage.h"
#include "shot/stages/tracksstage.h"
#include "shot/stages/worldstage.h"

#include <array>
#include <cctype>
#include <chrono>
#include <unistd.h>

namespace pinion::bench {
namespace {

Shot madeShot() {
    PlateFacts facts;
    facts.path = "/made/plate.mp4";
    facts.width = 640;
    facts.height = 360;
    facts.firstFrame = 1001;
    facts.lastFrame = 1024;
    facts.unevenFrames = 1;
    facts.times = {1001, std::vector<double>{0.0, 0.04, 0.09}};
    Shot shot = shotOf(facts);
    shot.name = "made";
    for (int t = 0; t < 5; ++t) {
        Track track;
        track.id = t + 1;
        track.name = "p-" + std::to_string(t + 1);
        track.byHand = t == 0;
        track.referenceFrame = 1001;
        std::vector<Sample> samples;
        for (int i = 0; i < 6; ++i)
            samples.push_back({.frame = 1001 + i + (i > 3), .at = {100.0 + 50 * t + i, 80.0 + 31 * t}, .tie = i == 0});
        track.samples = std::move(samples);
        shot.tracks = shot.tracks.edited([&](auto& tracks) { tracks.push_back(track); });
    }
    shot.nextTrack = 6;
    Solve solve;
    solve.lens = pinholeLens(640, 360, 600);
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1004; ++frame) {
        SolvedFrame solved;
        solved.frame = frame;
        solved.focal_px = 600;
        solved.worldFromCamera.translation() = Eigen::Vector3d(0.1 * (frame - 1001), 0, 0);
        frames.push_back(solved);
    }
    solve.frames = std::move(frames);
    SolvedTrack placed;
    placed.track = 1;
    placed.xyz = Eigen::Vector3d(1, 2, -8);
    SolvedTrack other = placed;
    other.track = 2;
    other.xyz = Eigen::Vector3d(-1, 2, -9);
    solve.tracks = std::vector<SolvedTrack>{placed, other};
    shot = withSolve(shot, solve, shot);
    shot.mattes = std::vector<Matte>{{"shape", Matte::Mode::exclude, {{1001, {{0, 0}, {50, 0}, {50, 50}}}}}};
    shot.steady.steady = true;
    shot.steady.profile = std::make_shared<const ShakeProfile>(
        ShakeProfile{"hand", {24, 1}, 0.5, {{0.001, 0.002, 0.1, 1}, {0.002, 0.001, 0.2, 1.01}}});
    shot.locators = std::vector<Locator>{{1, "locator", Ride{"tracks", {1, 2}, 1001, MotionKind::similarity}}};
    shot.solveSettings.distances = std::vector<KnownDistance>{{1, 2, 3.5, 0.01}};
    shot.world.measures = std::vector<World::Measure>{{1, 2, 2.0}};
    return shot;
}

/// Everything that a window does with a shot that it has opened.
void use(const Shot& shot) {
    for (const auto report : {tracksReport, cameraReport, worldReport, steadyReport, deliveryReport, lensReport,
                              mattesReport, planesReport, insertsReport})
        (void)report(shot);
    (void)plateReport(shot);
    (void)solveKey(shot);
    (void)steadyKey(shot);
    (void)tracksPerFrame(shot);
    (void)picturePlan(shot);
    (void)orientationOf(shot);
    for (const Deliverable& item : shot.deliverables) (void)deliverableText(shot, item);
    for (const Locator& locator : shot.locators) (void)locatorMotion(shot, locator);
    // What the canvas draws and the inserts' view makes, on a few frames.
    const InsertScene scene = insertSceneOf(shot);
    ArtShelf shelf;
    const Picture plate = plainArt({0.5, 0.5, 0.5}, 16.0 / 9);
    for (const int frame : {shot.plate.range.first, shot.plate.range.last, 1004}) {
        for (const PlanarTrack& plane : shot.planes) {
            (void)surfaceAt(plane, frame);
            if (const auto sheet = SurfaceSheet::of(plane, frame)) (void)piecesOf(*sheet);
        }
        for (const InsertScene::One& one : scene.inserts) {
            if (!one.surface) continue;  // a layer of a kind that only another version knows
            (void)one.surface->outline(one.insert.placing, frame, true);
            (void)one.surface->pieces(one.insert.placing, frame, one.insert.shutter, true);
        }
        for (const Matte& matte : shot.mattes) (void)shapeAt(matte, frame);
        InsertScene small = scene;
        small.width = plate.width;
        small.height = plate.height;
        std::vector<std::string> problems;
        (void)composed(small, frame, plate, shelf, &problems);
    }
    (void)mattesOf(shot, FrameRange{shot.plate.range.first, shot.plate.range.first});
}

template <class Value>
std::string messageOf(const Expected<Value>& read) {
    return read ? std::string() : read.error().message;
}

bool isNumber(char c) { return std::isdigit(static_cast<unsigned char>(c)) || c == '-' || c == '.' || c == 'e'; }

}  // namespace

std::vector<ReaderUnderTest> readersUnderTest() {
    const Shot shot = madeShot();
    const TrackFile tracks = trackFileOf(shot);
    PlateMotion motion{MotionKind::similarity, 1001, {320, 180}, {}, {}};
    for (int frame = 1001; frame < 1005; ++frame) motion.frames.push_back({frame, Eigen::Matrix3d::Identity(), 4, 0.1});
    const TransformSource source{"made", 640, 360, {24, 1}};
    const Quad corners{Eigen::Vector2d(10, 10), {80, 12}, {82, 60}, {11, 61.5}};
    const std::filesystem::path scratch =
        std::filesystem::temp_directory_path() / ("pinion-mutation-" + std::to_string(::getpid()) + ".pinion");
    const auto openAndUse = [](const std::filesystem::path& path) {
        const auto read = loadShot(path);
        if (read) use(*read);
        return messageOf(read);
    };
    return {
        {"shot", "made.pinion", shotJson(shot, scratch), openAndUse},
        {"shot, every part filled", "full.pinion", shotJson(fullShot(), scratch), openAndUse},
        {"corners.json", "q.json", cornersJson({{1001, corners}, {1002, corners}}),
         [](const auto& path) { return messageOf(readCorners(path)); }},
        {"lines.json", "n.json",
         R"({"format":"pinion.lines","version":1,"lines":[{"frame":1001,"points":[[1,2],[300,4],[600,7]]},
{"frame":1001,"points":[[1,350],[300,352],[600,350]]}]})",
         [](const auto& path) {
             const auto read = readLines(path);
             if (read) (void)lensFromLines(*read, {.width = 640, .height = 360});
             return messageOf(read);
         }},
        {"lens.json with a field", "f.json", lensJson(*fullShot().lens.lens),
         [](const auto& path) { return messageOf(readLens(path)); }},
        {"tracks.json", "t.json", tracksJson(tracks), [](const auto& path) { return messageOf(readTracks(path)); }},
        {"tracks.csv", "t.csv", tracksCsv(tracks), [](const auto& path) { return messageOf(readTracks(path)); }},
        {"points.json", "p.json",
         R"({"format":"pinion.points","version":1,"reference_frame":1001,"points":[{"name":"a","x":10.5,"y":20},
{"name":"b","x":30,"y":40,"wanted":[31,44],"outline":[[25,35],[35,35],[35,45]]}]})",
         [](const auto& path) { return messageOf(readPoints(path)); }},
        {"lens.json", "l.json", lensJson(shot.solve->lens),
         [](const auto& path) {
             const auto read = readLens(path);
             return messageOf(read);
         }},
        {"mattes.json", "m.json",
         R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"a","mode":"exclude",
"keys":[{"frame":1001,"polygon":[[0,0],[50,0],[50,50]],"in":[[1,0],[0,0],[0,0]],"feather":[0,2,1]},
{"frame":1010,"polygon":[[5,0],[55,0],[55,50]]}],"feather":2.5,"grow":-1,"there":[{"frame":1004,"there":false}],
"ride":{"tracks":["p-1"],"reference_frame":1001},"colour":"#7fb7be"},
{"name":"b","mode":"include","op":"subtract","keys":[],"pictures":"m.####.png"}]})",
         [](const auto& path) { return messageOf(readMattes(path)); }},
        {"camera.json", "c.json", cameraJson(*cameraFileOf(shot)),
         [](const auto& path) {
             const auto read = readCamera(path);
             if (read) (void)cameraUsd(*read, {});
             return messageOf(read);
         }},
        {"transforms.json", "x.json", transformsJson(motion, source, {}),
         [](const auto& path) { return messageOf(readMatrices(path)); }},
        {"shake.json", "s.json", shakeJson(*shot.steady.profile),
         [](const auto& path) {
             const auto read = readShake(path);
             if (read) (void)lendShake(*read, {1001, 1040}, {24, 1}, 640, 360);
             return messageOf(read);
         }},
    };
}

std::string mutated(const std::string& contents, std::mt19937& random) {
    static const std::array<const char*, 26> kWorst{
        "1e308", "-1e308",    "1e-320", "0",    "-1",   "2147483647", "2147483648", "-2147483649", "9007199254740993",
        "1e400", "nan",       "null",   "true", "\"\"", "[]",         "{}",         "\"\\u0000\"", "\"\\ud800\"",
        "65536", "100000000", "0.5",    "[[]]", ",",    "\xFF\xFE",   "\n",         "1e9"};
    const auto pick = [&](std::size_t below) { return std::size_t(random() % std::max<std::size_t>(1, below)); };
    std::string text = contents;
    for (std::size_t change = 0, count = 1 + pick(4); change < count && !text.empty(); ++change) {
        const std::size_t at = pick(text.size()), length = 1 + pick(std::min<std::size_t>(40, text.size() - at));
        switch (pick(8)) {
            case 0:
                text[at] = char(random());
                break;
            case 1:
                text.erase(at, length);
                break;
            case 2:
                text.insert(at, text.substr(at, length));
                break;
            case 3:
                text.resize(at);
                break;
            case 4:
                text.insert(at, kWorst[pick(kWorst.size())]);
                break;
            case 5: {  // a word's letter
                std::size_t letter = at;
                while (letter < text.size() && !std::isalpha(static_cast<unsigned char>(text[letter]))) ++letter;
                if (letter < text.size()) text[letter] = char('a' + pick(26));
                break;
            }
            default: {  // a whole number
                std::size_t first = at;
                while (first < text.size() && !std::isdigit(static_cast<unsigned char>(text[first]))) ++first;
                std::size_t last = first;
                while (last < text.size() && isNumber(text[last])) ++last;
                if (first < last) text.replace(first, last - first, kWorst[pick(kWorst.size())]);
                break;
            }
        }
    }
    return text;
}

std::string faultOf(const ReaderUnderTest& reader, const std::filesystem::path& path) {
    const auto before = std::chrono::steady_clock::now();
    std::string message;
    try {
        message = reader.read(path);
    } catch (const std::exception& error) {
        return std::string("an exception left it: ") + error.what();
    }
    if (std::chrono::steady_clock::now() - before > std::chrono::seconds(5)) return "it took more than five seconds";
    if (message.empty()) return {};
    for (const char* jargon : {"type_error", "json.exception", "parse_error", "out_of_range", "std::", "bad_alloc",
                               "invalid_iterator", "stoi", "of another kind than expected"})
        if (message.find(jargon) != std::string::npos) return "a library's words: " + message;
    if (message.find(path.filename().string()) == std::string::npos) return "it does not name the file: " + message;
    return {};
}

}  // namespace pinion::bench
