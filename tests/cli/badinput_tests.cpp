// Bad and unusual input, as scripts and queues bring it: one line that says what is wrong, no crash, no hang, no files
// left behind.

#include "commandline.h"
#include "exchange/formats.h"
#include "lens/stmap.h"
#include "matte/sequence.h"
#include "plate/framewriter.h"
#include "plate/plate.h"
#include "plate/still.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"

#include <catch2/catch.hpp>
#include <chrono>
#include <csignal>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <sstream>
#include <thread>
#include <unistd.h>

using namespace pinion;
using nlohmann::json;
namespace fs = std::filesystem;

namespace {

const std::string kBoardVideo = std::string(PINION_SOURCE_DIR) + "/demo/plates/board.mp4";
const std::string kOutline = std::string(PINION_SOURCE_DIR) + "/demo/board.outline.json";

Picture patterned(int width, int height, int seed) {
    Picture picture{width, height, Picture::Depth::bits8, false, {}, {}};
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            for (int c = 0; c < 3; ++c)
                picture.bytes.push_back(std::uint8_t((x * 7 + y * 13 + seed * 29 + c * 50) % 200));
    return picture;
}

void writePlate(const fs::path& pattern, int first, int last, int width = 64, int height = 48, double aspect = 1) {
    auto writer = FrameWriter::create(pattern, width, height, {24, 1}, {.pixelAspect = aspect});
    REQUIRE(writer);
    for (int frame = first; frame <= last; ++frame) REQUIRE((*writer)->write(frame, patterned(width, height, frame)));
    REQUIRE((*writer)->finish());
}

Shot shotOver(const fs::path& pattern) {
    const auto plate = Plate::open(pattern);
    REQUIRE(plate);
    Shot shot;
    shot.name = "quay";
    shot.plate = plateRef((*plate)->facts());
    return shot;
}

std::string quoted(const fs::path& path) { return "'" + path.string() + "'"; }

/// What lies in a folder beside what is wanted there.
int partsIn(const fs::path& folder) {
    int parts = 0;
    for (const auto& entry : fs::recursive_directory_iterator(folder))
        parts += entry.path().filename().string().find(".part") != std::string::npos;
    return parts;
}

}  // namespace

TEST_CASE("an outline without shapes, a reference frame below the first and sides a pixel apart are refused") {
    const test::Scratch scratch;
    const auto none = scratch.write("none.json", R"({"format":"pinion.mattes","version":1,"shapes":[]})");
    test::checkRefused(
        test::run("planar " + kBoardVideo + " --outline " + quoted(none) + " --out " + quoted(scratch / "c.json")), 2,
        "holds no outline to track by");
    test::checkRefused(test::run("planar " + kBoardVideo + " --outline " + kOutline + " --reference -5 --out " +
                                 quoted(scratch / "c.json")),
                       2, "no corners on the reference frame -5");
    const auto sides = scratch.write(
        "sides.json",
        R"({"format":"pinion.corners","version":1,"frames":[{"frame":1050,"corners":[[500,200],[503,200],[503,400],)"
        R"([500,400]]}]})");
    const auto refused = test::run("planar " + kBoardVideo + " --outline " + kOutline + " --cylinder " + quoted(sides) +
                                   " --out " + quoted(scratch / "c.json"));
    CHECK(refused.status == 2);
    const auto far = scratch.write(
        "far.json",
        R"({"format":"pinion.corners","version":1,"frames":[{"frame":1050,"corners":[[0,0],[1e300,0],[1e300,9],[0,)"
        R"(9]]}]})");
    test::checkRefused(
        test::run("planar " + kBoardVideo + " --outline " + quoted(far) + " --out " + quoted(scratch / "c.json")), 2,
        "farther than 1000000 pixels off");
}

TEST_CASE("names that are commas are no names, and it is said so") {
    const test::Scratch scratch;
    TrackFile tracks;
    tracks.width = 1280;
    tracks.height = 720;
    tracks.fps = {24, 1};
    const auto file = scratch.write("t.json", tracksJson(tracks));
    test::checkRefused(test::run("pin " + kBoardVideo + " --tracks " + quoted(file) + " --names ,,, --out " +
                                 quoted(scratch / "c.json")),
                       2, "0 tracks are named");
}

TEST_CASE("a name with a line break is said in one line") {
    const test::Scratch scratch;
    test::checkRefused(test::run("info " + quoted(scratch / "no\nsuch\x01plate.mp4")), 2, "no such file");
}

TEST_CASE("maps that are cropped, constant, of pixels, or lie elsewhere bend nothing") {
    const test::Scratch scratch;
    writePlate(scratch / "p.####.png", 1, 2);
    const auto write = [&](const char* name, PixelBox box,
                           const std::function<std::pair<float, float>(double, double)>& at) {
        StMap map{.width = 64, .height = 48, .data = box, .st = {}};
        for (int y = box.y0; y < box.y1; ++y)
            for (int x = box.x0; x < box.x1; ++x) {
                const auto [s, t] = at(x + 0.5, y + 0.5);
                map.st.push_back(s);
                map.st.push_back(t);
            }
        REQUIRE(writeStMap(map, scratch / name));
    };
    const auto straight = [](double x, double y) { return std::pair(float(x / 64), float(1 - y / 48)); };
    write("good.exr", {0, 0, 64, 48}, straight);
    write("cropped.exr", {10, 10, 40, 40}, straight);
    write("constant.exr", {0, 0, 64, 48}, [](double, double) { return std::pair(0.5F, 0.5F); });
    write("pixels.exr", {0, 0, 64, 48}, [](double x, double y) { return std::pair(float(x), float(48 - y)); });
    write("elsewhere.exr", {500, 500, 564, 548}, straight);
    write("turned.exr", {0, 0, 64, 48}, [](double x, double y) { return std::pair(float(x / 64), float(y / 48)); });
    const auto call = [&](const std::string& command, const char* map) {
        return test::run(command + " " + quoted(scratch / "p.####.png") + " --map " + quoted(scratch / map) +
                         " --out " + quoted(scratch / "o" / (command + ".####.exr")));
    };
    for (const std::string command : {"undistort", "redistort"}) {
        INFO(command);
        CHECK(call(command, "good.exr").status == 0);
        for (const char* bad : {"constant.exr", "pixels.exr", "elsewhere.exr", "turned.exr"}) {
            INFO(bad);
            const auto refused = call(command, bad);
            CHECK(refused.status == 2);
            CHECK(refused.err.find(bad) != std::string::npos);
        }
    }
    test::checkRefused(call("redistort", "cropped.exr"), 2, "the whole plate is needed");
    CHECK(call("undistort", "pixels.exr").err.find("seem to be pixels") != std::string::npos);
    CHECK(std::distance(fs::directory_iterator(scratch / "o"), fs::directory_iterator{}) == 4);
}

TEST_CASE("lines far off, drawn twice or scribbled make no lens and no waiting") {
    const test::Scratch scratch;
    const auto call = [&](const json& lines) {
        const auto file =
            scratch.write("lines.json", json{{"format", "pinion.lines"}, {"version", 1}, {"lines", lines}}.dump());
        return test::run("lens lines " + test::kPlate + " --lines " + quoted(file) + " --out " +
                         quoted(scratch / "l.json"));
    };
    const auto started = std::chrono::steady_clock::now();
    test::checkRefused(call({{{"frame", 1001}, {"points", {{10, 10}, {1e7, 20}, {600, 30}}}}}), 2, "outside the plate");
    test::checkRefused(call({{{"frame", 1001}, {"points", {{10, 10}, {1e300, 20}, {600, 30}}}}}), 2,
                       "outside the plate");
    CHECK(std::chrono::steady_clock::now() - started < std::chrono::seconds(20));
    // The same line six times is one line.
    json line{{"frame", 1001}, {"points", {{30, 60}, {400, 42}, {800, 40}, {1250, 58}}}};
    const auto once = call(json::array({line})), often = call(json::array({line, line, line, line, line, line}));
    CHECK(once.status == often.status);
    // Clicks to and fro.
    json scribble = json::array();
    for (int k = 0; k < 6; ++k) {
        json points = json::array();
        for (int i = 0; i < 8; ++i) points.push_back({100 + 140 * i, 120 + 90 * k + (i % 2) * 25});
        scribble.push_back({{"frame", 1001}, {"points", points}});
    }
    test::checkRefused(call(scribble), 2, "to and fro");
}

TEST_CASE("a lens whose numbers are no lens's is refused in our words, once, before anything is written") {
    const test::Scratch scratch;
    json lens{{"format", "pinion.lens"}, {"version", 1}, {"width", 64}, {"height", 48}, {"model", "brown-conrady"},
              {"focal_px", 60},          {"k1", -0.1},   {"k2", 0},     {"cx", 32},     {"cy", 24}};
    const auto call = [&](const char* name, const json& value) {
        json bad = lens;
        bad[name] = value;
        const auto file = scratch.write("l.json", bad.dump());
        return test::run("stmap --lens " + quoted(file) + " --out-dir " + quoted(scratch / "maps"));
    };
    test::checkRefused(call("k1", 1e200), 2, "l.json");
    test::checkRefused(call("cx", 2147483647), 2, "l.json");
    test::checkRefused(call("k1", -9), 2, "folds the picture over");
    CHECK(call("k1", -9).err.find("lens: lens:") == std::string::npos);
    CHECK_FALSE(fs::exists(scratch / "maps"));
    // A size beyond all memory, before the work.
    const auto file = scratch.write("l.json", lens.dump());
    const auto started = std::chrono::steady_clock::now();
    test::checkRefused(
        test::run("stmap --lens " + quoted(file) + " --size 32768x24576 --out-dir " + quoted(scratch / "maps")), 2,
        "--size 32768x24576");
    CHECK(std::chrono::steady_clock::now() - started < std::chrono::seconds(10));
}

TEST_CASE("a shot whose plate became shorter is refused, not rendered in part") {
    const test::Scratch scratch;
    writePlate(scratch / "p.####.png", 1, 8);
    Shot shot = shotOver(scratch / "p.####.png");
    Insert tint;
    tint.shows = Insert::Shows::colour;
    shot = withInsertAdded(shot, tint, 1);
    REQUIRE(saveShot(shot, scratch / "quay.pinion"));
    for (const int frame : {6, 7, 8}) fs::remove(frameFile(scratch / "p.####.png", frame));
    const std::string call = "insert " + quoted(scratch / "quay.pinion") + " --out " + quoted(scratch / "o.####.png");
    test::checkRefused(test::run(call), 2, "holds the frames 1-5, the shot works on 1-8");
    CHECK_FALSE(fs::exists(scratch / "o.0001.png"));
    CHECK(test::run(call + " --range 1-5").status == 0);
    // Nine million frames that are not there.
    json document = json::parse(*readFile(scratch / "quay.pinion"));
    document["plate"]["frames"] = document["plate"]["range"] = {1, 9000000};
    scratch.write("long.pinion", document.dump());
    const auto started = std::chrono::steady_clock::now();
    for (const std::string words : {"insert", "run"}) {
        const auto refused = test::run(words + " " + quoted(scratch / "long.pinion") +
                                       (words == "insert" ? " --out " + quoted(scratch / "o.####.png") : ""));
        CHECK(refused.status == 2);
    }
    CHECK(std::chrono::steady_clock::now() - started < std::chrono::seconds(20));
}

TEST_CASE("a render is written beside where one stands, without a folder in its name") {
    const test::Scratch scratch;
    writePlate(scratch / "p.####.png", 1, 3);
    Shot shot = shotOver(scratch / "p.####.png");
    Insert tint;
    tint.shows = Insert::Shows::colour;
    shot = withInsertAdded(shot, tint, 1);
    REQUIRE(saveShot(shot, scratch / "quay.pinion"));
    const auto done = test::run("insert quay.pinion --out o.####.png", "cd " + quoted(scratch.path()) + "; ");
    INFO(done.err);
    CHECK(done.status == 0);
    CHECK(fs::exists(scratch / "o.0003.png"));
}

TEST_CASE("every command that writes pictures keeps the plate's pixel aspect") {
    const test::Scratch scratch;
    writePlate(scratch / "p.####.png", 0, 4, 320, 240, 2);  // frame 0 is a frame
    const auto plate = quoted(scratch / "p.####.png");
    const auto lens = scratch.write(
        "l.json",
        R"({"format":"pinion.lens","version":1,"width":320,"height":240,"focal_px":300,"k1":-0.05,"k2":0,"cx":160,)"
        R"("cy":120})");
    const auto mattes = scratch.write(
        "m.json",
        R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"a","mode":"exclude","keys":[{"frame":0,)"
        R"("polygon":[[50,50],[250,50],[150,200]]}]}]})");
    json frames = json::array();
    for (int frame = 0; frame <= 4; ++frame)
        frames.push_back({{"frame", frame}, {"corners", {{40, 40}, {200, 40}, {200, 160}, {40, 160}}}});
    const auto corners =
        scratch.write("c.json", json{{"format", "pinion.corners"}, {"version", 1}, {"frames", frames}}.dump());
    writePlate(scratch / "art.####.png", 1, 1, 32, 32);
    Track track;
    track.id = 1;
    track.name = "a";
    std::vector<Sample> samples;
    for (int frame = 0; frame <= 4; ++frame) samples.push_back({.frame = frame, .at = {100.0 + frame, 100}});
    track.samples = samples;
    const auto tracks = scratch.write("t.json", tracksJson({320, 240, {24, 1}, {track}}));
    Shot shot = shotOver(scratch / "p.####.png");
    CHECK(shot.plate.pixelAspect == Approx(2));
    Insert tint;
    tint.shows = Insert::Shows::colour;
    REQUIRE(saveShot(withInsertAdded(shot, tint, 0), scratch / "quay.pinion"));
    // A line for each command and way of writing; the next one that is added belongs here.
    const std::pair<std::string, std::string> calls[] = {
        {"undistort", "undistort " + plate + " --lens " + quoted(lens)},
        {"redistort", "redistort " + plate + " --lens " + quoted(lens)},
        {"insert", "insert " + plate + " --corners " + quoted(corners) + " --art " + quoted(scratch / "art.0001.png")},
        {"alone",
         "insert " + plate + " --alone --corners " + quoted(corners) + " --art " + quoted(scratch / "art.0001.png")},
        {"shot", "insert " + quoted(scratch / "quay.pinion")},
        {"matte", "matte " + plate + " --mattes " + quoted(mattes)},
        {"alpha", "matte " + plate + " --alpha straight --mattes " + quoted(mattes)},
        {"steady", "steady " + plate + " --mode hold --fit none --tracks " + quoted(tracks) + " --names a"}};
    for (const auto& [name, words] : calls)
        for (const std::string ending : {".####.exr", ".####.png", ".####.tif", ".mp4"}) {
            if (ending == ".mp4" && (name == "alone" || name == "matte" || name == "alpha" || name == "undistort"))
                continue;
            INFO(name << ending);
            const auto out = scratch / (name + ending);
            const auto done = test::run(words + " --out " + quoted(out));
            INFO(done.err);
            REQUIRE(done.status == 0);
            // Undistorted pictures have their place in their name.
            fs::path written = out;
            if (name == "undistort" && ending != ".####.exr")
                for (const auto& entry : fs::directory_iterator(scratch.path()))
                    if (entry.path().filename().string().starts_with("undistort.o") &&
                        entry.path().extension() == fs::path(ending.substr(5)).string())
                        written = entry.path();
            const auto back = Plate::open(written);
            REQUIRE(back);
            CHECK((*back)->facts().pixelAspect == Approx(2).epsilon(1e-3));
            if (ending != ".mp4") CHECK((*back)->facts().firstFrame == 0);
        }
}

TEST_CASE("mattes whose pictures are missing or of another size stop a command before it begins") {
    const test::Scratch scratch;
    writePlate(scratch / "p.####.png", 1, 3);
    const auto call = [&](const std::string& pictures) {
        const auto file = scratch.write(
            "m.json",
            json{
                {"format", "pinion.mattes"},
                {"version", 1},
                {"shapes", {{{"name", "crane"}, {"mode", "exclude"}, {"keys", json::array()}, {"pictures", pictures}}}}}
                .dump());
        return test::run("matte " + quoted(scratch / "p.####.png") + " --mattes " + quoted(file) + " --out " +
                         quoted(scratch / "o.####.png"));
    };
    test::checkRefused(call("gone.####.png"), 2, "crane: its pictures cannot be read");
    writePlate(scratch / "small.####.png", 1, 3, 32, 24);
    test::checkRefused(call("small.####.png"), 2, "are 32x24, the plate is 64x48");
    writePlate(scratch / "right.####.png", 1, 3);
    CHECK(call("right.####.png").status == 0);  // beside the file that names them
    writePlate(scratch / "short.####.png", 1, 2);
    test::checkRefused(call("short.####.png"), 2, "it covers nothing on 3");
}

TEST_CASE("the signal that queues send leaves no part behind, and what a killed run left is swept up") {
    const test::Scratch scratch;
    const auto begun = [&](const std::string& out) {
        const pid_t child = ::fork();
        if (child == 0) {
            (void)!std::freopen("/dev/null", "w", stderr);
            ::execl(test::kCli.c_str(), test::kCli.c_str(), "shake", "lend", test::kPlate.c_str(), "--profile",
                    (scratch / "shake.json").c_str(), "--out", out.c_str(), nullptr);
            ::_exit(99);
        }
        return child;
    };
    scratch.write(
        "shake.json",
        R"({"format":"pinion.shake","version":1,"name":"hand","fps":24,"above_hz":0,"samples":[)"
        R"({"x":0.01,"y":0,"rotation":0,"scale":1},)"
        R"({"x":0,"y":0.01,"rotation":0,"scale":1},{"x":-0.01,"y":0,"rotation":0,"scale":1}]})");
    const auto waitForPart = [&] {
        for (int i = 0; i < 500 && partsIn(scratch.path()) == 0; ++i)
            std::this_thread::sleep_for(std::chrono::milliseconds(20));
        return partsIn(scratch.path());
    };
    int status = 0;
    pid_t child = begun((scratch / "a.mp4").string());
    REQUIRE(waitForPart() == 1);
    ::kill(child, SIGTERM);
    ::waitpid(child, &status, 0);
    REQUIRE(WIFEXITED(status));
    CHECK(WEXITSTATUS(status) == 143);
    CHECK(partsIn(scratch.path()) == 0);
    CHECK_FALSE(fs::exists(scratch / "a.mp4"));
    // Killed outright it cannot clean up; the next run does.
    child = begun((scratch / "a.mp4").string());
    REQUIRE(waitForPart() == 1);
    ::kill(child, SIGKILL);
    ::waitpid(child, &status, 0);
    CHECK(partsIn(scratch.path()) == 1);
    const auto after = test::run(
        "stmap --lens " +
        quoted(scratch.write(
            "l.json",
            R"({"format":"pinion.lens","version":1,"width":64,"height":48,"focal_px":60,"k1":0,"k2":0,"cx":32,)"
            R"("cy":24})")) +
        " --out-dir " + quoted(scratch.path()));
    INFO(after.err);
    CHECK(after.status == 0);
    CHECK(partsIn(scratch.path()) == 0);
}

TEST_CASE("every command says what it does and takes, in words") {
    const auto all = test::run("--help");
    REQUIRE(all.status == 0);
    std::istringstream lines(all.out.substr(all.out.find("Subcommands")));
    std::string line;
    std::getline(lines, line);
    int commands = 0;
    while (std::getline(lines, line)) {
        const auto first = line.find_first_not_of(' ');
        if (first != 2) continue;  // a line of words that goes on
        const std::string name = line.substr(2, line.find(' ', 2) - 2);
        INFO(name);
        const auto help = test::run(name + " --help");
        CHECK(help.status == 0);
        CHECK(help.out.find(" w.") == std::string::npos);
        CHECK(help.out.find(name) != std::string::npos);
        // Without its words it says which one is missing.
        const auto bare = test::run(name);
        CHECK(bare.status == 2);
        CHECK(bare.err.find("pinion-cli: ") == 0);
        ++commands;
    }
    CHECK(commands >= 17);
}
