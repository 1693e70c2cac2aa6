// The command line as a script would call it.

#include "commandline.h"
#include "exchange/formats.h"
#include "exchange/objects.h"
#include "jobs/delivering.h"
#include "plate/framewriter.h"
#include "plate/plate.h"
#include "shot/file/shotfile.h"

#include <csignal>
#include <nlohmann/json.hpp>
#include <random>
#include <unistd.h>

using namespace pinion;
using namespace pinion::test;
using nlohmann::json;

TEST_CASE("info tells what a plate is, as text and as one JSON object") {
    const Outcome outcome = run("--json info " + kPlate);
    CHECK(outcome.status == 0);
    const json figures = json::parse(outcome.out);
    CHECK((figures["width"] == 1280 && figures["height"] == 720 && figures["fps"] == "24" && figures["frames"] == 120));
    CHECK(run("info " + kPlate).out.find("1280x720, 24 frames/s, frames 1001-1120") != std::string::npos);
}

TEST_CASE("scatter, solve from the tracks, and the USD camera agrees with the JSON one") {
    const test::Scratch scratch;
    const std::string tracks = (scratch / "tracks.json").string();
    const std::string camera = (scratch / "landing.json").string();
    const std::string usd = (scratch / "landing.usda").string();
    const Outcome scattered = run("--json scatter " + kPlate + " --features 160 --out " + tracks);
    REQUIRE(scattered.status == 0);
    CHECK(json::parse(scattered.out)["tracks"].get<int>() > 160);
    CHECK(scattered.err.find("Scattering") != std::string::npos);
    const Outcome solved = run("--json solve " + kPlate + " --tracks " + tracks + " --focal 28~3 --out " + camera);
    REQUIRE(solved.status == 0);
    const json figures = json::parse(solved.out);
    CHECK(figures["rms_px"].get<double>() < 0.6);
    CHECK(figures["focal_mm"].get<double>() == Approx(28).epsilon(0.01));
    const auto file = readCamera(camera);
    REQUIRE(file);
    CHECK(file->frames.size() == 120);
    CHECK(file->tracks == figures["tracks"].get<int>());
    REQUIRE(run("solve " + kPlate + " --tracks " + tracks + " --focal 28~3 --out " + usd).status == 0);
    // The same jobs give the same result: the standard-output form equals the file.
    const Outcome out = run("solve " + kPlate + " --tracks " + tracks + " --focal 28~3 --out -");
    CHECK(out.out == *readFile(camera));

    const std::string node = std::string(PINION_BINARY_DIR) + "/node";
    if (std::filesystem::exists(node + "/node_modules/three") && std::system("command -v node >/dev/null") == 0) {
        const std::string check = "PINION_NODE_DIR=" + node + " node " + PINION_SOURCE_DIR +
                                  "/tests/node/check_usd.mjs " + usd + " " + camera;
        CHECK(std::system(check.c_str()) == 0);
        const std::string glb = (scratch / "c.glb").string(), ply = (scratch / "c.ply").string();
        REQUIRE(run("solve " + kPlate + " --tracks " + tracks + " --focal 28 --out " + glb).status == 0);
        // Khronos's validator (npm's gltf-validator) finds no error and no warning.
        CHECK(
            std::system(("PINION_NODE_DIR=" + node + " node " + PINION_SOURCE_DIR + "/tests/node/check_gltf.mjs " + glb)
                            .c_str()) == 0);
        REQUIRE(run("solve " + kPlate + " --tracks " + tracks + " --focal 28 --out " + ply).status == 0);
        CHECK(readFile(ply)->starts_with("ply\nformat binary_little_endian"));
    } else {
        WARN("node or the three package is not here: the USD file was not read by another reader");
    }
}

TEST_CASE("track follows points placed by hand") {
    const test::Scratch scratch;
    const auto points = scratch.write(
        "points.json",
        R"({"format":"pinion.points","version":1,"reference_frame":1010,"points":[{"name":"seal","x":1010.4,)"
        R"("y":329.8},{"name":"crate","x":497.0,"y":389.0}]})");
    const Outcome outcome = run("--json track " + kPlate + " --points " + points.string() +
                                " --range 1005-1020 --motion similarity --out " + (scratch / "t.json").string());
    INFO(outcome.err);
    REQUIRE(outcome.status == 0);
    const auto tracks = readTracks(scratch / "t.json");
    REQUIRE(tracks);
    CHECK(tracks->tracks.size() == 2);
    CHECK(tracks->tracks[0].name == "seal");
    CHECK((tracks->tracks[0].firstFrame() == 1005 && tracks->tracks[0].lastFrame() == 1020));
}

TEST_CASE("run does a shot's open steps, saves it, and deliver writes the same files again") {
    const test::Scratch scratch;
    const auto shot = scratch.write(
        "landing.pinion", R"({"format":"pinion.shot","version":1,"name":"landing","plate":{"path":")" + kPlate +
                              R"(","width":1280,"height":720,"fps":24,"frames":[1001,1120],"range":[1001,1060]},
        "scatter":{"features":150,"least_distance_px":20,"threshold":0.01,"pattern_px":21,"search_px":61,
        "motion":"affine","drift_limit":0.8,"channel":"luma"},
        "camera":{"sensor_width_mm":36,"focal":"known","focal_mm":28,"focal_trust_mm":1,"distortion":"unknown"},
        "tracks":[],"world":{"ground":[]},
        "deliverables":[{"name":"camera","kind":"camera","format":"json","place":"cam.json","up_axis":"y",
        "written_key":0},{"name":"maps","kind":"st maps","format":"exr","place":"maps","up_axis":"y",
        "written_key":0}]})");
    const Outcome outcome = run("--json run " + shot.string() + " --save " + (scratch / "done.pinion").string());
    INFO(outcome.err);
    REQUIRE(outcome.status == 0);
    const json figures = json::parse(outcome.out);
    CHECK(figures["steps"] == json({"scatter", "solve", "deliver"}));
    CHECK(figures["solve"]["frames"] == 60);
    const auto first = *readFile(scratch / "delivery/cam.json");
    CHECK(std::filesystem::exists(scratch / "delivery/maps/undistort.exr"));
    const Outcome delivered = run("deliver " + (scratch / "done.pinion").string() + " --only camera --out-dir " +
                                  (scratch / "again").string());
    REQUIRE(delivered.status == 0);
    CHECK(*readFile(scratch / "again/cam.json") == first);
    checkRefused(run("deliver " + (scratch / "done.pinion").string() + " --only sound --out-dir " +
                     (scratch / "again").string()),
                 2, "the shot has camera, maps");
}

TEST_CASE("stmap writes both maps and says the overscan") {
    const test::Scratch scratch;
    const auto lens = scratch.write(
        "lens.json",
        R"({"format":"pinion.lens","version":1,"width":1280,"height":720,"model":"brown-conrady","focal_px":995.6,
        "k1":-0.112,"k2":0.018,"cx":640,"cy":360})");
    const Outcome outcome =
        run("--json stmap --lens " + lens.string() + " --size 640x360 --out-dir " + (scratch / "maps").string());
    REQUIRE(outcome.status == 0);
    const json figures = json::parse(outcome.out);
    CHECK(figures["data_window"][0].get<int>() < -5);
    CHECK(std::filesystem::exists(scratch / "maps/redistort.exr"));
    checkRefused(run("stmap --lens " + lens.string() + " --size 640x640 --out-dir " + (scratch / "maps").string()), 2,
                 "another shape");
}

TEST_CASE("wrong words and wrong input end with status 2 and one line that names file and place") {
    const test::Scratch scratch;
    checkRefused(run("info " + (scratch / "none.mp4").string()), 2, "none.mp4: there is no such file");
    checkRefused(run("info " + scratch.write("text.mp4", "no video").string()), 2, "is no video");
    checkRefused(run("conjure " + kPlate), 2, "");
    checkRefused(run("scatter " + kPlate), 2, "--out");
    checkRefused(run("scatter " + kPlate + " --range 1-5 --out x.json"), 2,
                 "lies outside the plate's frames 1001-1120");
    const auto points = scratch.write(
        "p.json",
        R"({"format":"pinion.points","version":1,"reference_frame":1001,"points":[{"name":"far","x":4000,"y":20}]})");
    checkRefused(run("track " + kPlate + " --points " + points.string() + " --out " + (scratch / "t.json").string()), 2,
                 "point 'far' at 4000, 20 lies outside the frame of 1280x720");
    checkRefused(run("solve " + kPlate + " --focal long --out c.json"), 2, "--focal long");
    checkRefused(run("solve " + kPlate + " --out c.fbx"), 2, "has to be .json, .usda, .glb or .ply");
    checkRefused(run("run " + scratch.write("cut.pinion", R"({"format":"pinion.shot","ver)").string()), 2, "cut off");
    CHECK_FALSE(std::filesystem::exists(scratch / "t.json"));
}

TEST_CASE("what has no result ends with status 1 and the reason") {
    const test::Scratch scratch;
    std::string samples;
    for (int frame = 1001; frame <= 1020; ++frame)
        samples += fmt::format("{}{{\"frame\":{},\"x\":{},\"y\":{}}}", samples.empty() ? "" : ",", frame,
                               600 + 2 * (frame - 1001), 300);
    std::string tracks;
    for (int i = 0; i < 40; ++i) {
        std::string own = samples;
        tracks += fmt::format("{}{{\"name\":\"t{}\",\"samples\":[", i ? "," : "", i);
        own.clear();
        for (int frame = 1001; frame <= 1020; ++frame)
            own += fmt::format("{}{{\"frame\":{},\"x\":{},\"y\":{}}}", own.empty() ? "" : ",", frame,
                               60 + 28 * i + 2 * (frame - 1001), 40 + (i * 137) % 640);
        tracks += own + "]}";
    }
    const auto still = scratch.write(
        "still.json",
        R"({"format":"pinion.tracks","version":1,"width":1280,"height":720,"fps":24,"tracks":[)" + tracks + "]}");
    checkRefused(run("solve " + kPlate + " --tracks " + still.string() + " --out " + (scratch / "c.json").string()), 1,
                 "no parallax");
    checkRefused(
        run("scatter " + kPlate + " --features 20 --range 1001-1003 --out " + (scratch / "none/t.json").string()),
        1 + 1, "does not exist");
}

TEST_CASE("Ctrl-C ends with status 130 and leaves no half-written file") {
    const test::Scratch scratch;
    const std::string out = (scratch / "tracks.json").string();
    const pid_t child = ::fork();
    if (child == 0) {
        std::freopen("/dev/null", "w", stderr);
        ::execl(kCli.c_str(), kCli.c_str(), "scatter", kPlate.c_str(), "--out", out.c_str(), nullptr);
        ::_exit(127);
    }
    ::usleep(1500000);
    ::kill(child, SIGINT);
    int status = 0;
    ::waitpid(child, &status, 0);
    CHECK(WIFEXITED(status));
    CHECK(WEXITSTATUS(status) == 130);
    CHECK(std::filesystem::is_empty(scratch.path()));
}

namespace {

const std::string kMooring = std::string(PINION_SOURCE_DIR) + "/demo/plates/mooring.mp4";

/// Tracks of the mooring, over its first frames only, made once.
std::string mooringTracks() {
    static const test::Scratch scratch;
    const std::string path = (scratch / "tracks.json").string();
    if (!std::filesystem::exists(path))
        REQUIRE(
            run("scatter " + kMooring + " --motion similarity --features 120 --range 1001-1016 --out " + path).status ==
            0);
    return path;
}

}  // namespace

TEST_CASE("steady writes held frames at the plate's size and numbers, and says the zoom and the blur it leaves") {
    const test::Scratch scratch;
    const std::string out = (scratch / "held.####.png").string();
    const Outcome outcome = run("--json steady " + kMooring + " --tracks " + mooringTracks() +
                                " --range 1001-1016 --mode hold --fit fill --transforms " +
                                (scratch / "t.csv").string() + " --out '" + out + "'");
    INFO(outcome.err);
    REQUIRE(outcome.status == 0);
    const json figures = json::parse(outcome.out);
    CHECK(figures["frames"] == 16);
    CHECK(figures["fills"] == true);
    CHECK(figures["zoom"].get<double>() > 1.0);
    CHECK(figures["zoom"].get<double>() < 1.2);
    CHECK((figures["motion"] == "similarity" || figures["motion"] == "perspective"));
    CHECK(figures["reason"].get<std::string>().find("leaves") != std::string::npos);
    // What the picture's motion may be can be chosen.
    const Outcome turned = run("--json steady " + kMooring + " --tracks " + mooringTracks() +
                               " --range 1001-1016 --motion perspective --transforms " + (scratch / "p.csv").string() +
                               " --out '" + (scratch / "persp.####.tif").string() + "'");
    INFO(turned.err);
    REQUIRE(turned.status == 0);
    CHECK(json::parse(turned.out)["motion"] == "perspective");
    CHECK(readFile(scratch / "p.csv")->find(",m31,m32,m33") != std::string::npos);
    checkRefused(run("steady " + kMooring + " --tracks " + mooringTracks() + " --motion wild --out x.####.png"), 2,
                 "--motion");
    for (int frame : {1001, 1016})
        CHECK(std::filesystem::file_size(scratch / fmt::format("held.{}.png", frame)) > 100000);
    const json info = json::parse(run("--json info '" + out + "'").out);
    CHECK(info["width"] == 1280);
    CHECK(info["first_frame"] == 1001);
    CHECK(info["last_frame"] == 1016);
    const std::string table = *readFile(scratch / "t.csv");
    CHECK(table.find("width=1280 height=720 fps=24 first_frame=1001 last_frame=1016") != std::string::npos);
    // Held still: tracked in the result, a point of it does not move.
    const auto points = scratch.write("p.json", R"({"format":"pinion.points","version":1,"reference_frame":1001,)"
                                                R"("points":[{"name":"beacon","x":875,"y":300}]})");
    REQUIRE(run("track '" + out + "' --points " + points.string() + " --motion similarity --out " +
                (scratch / "still.json").string())
                .status == 0);
    const auto still = readTracks(scratch / "still.json");
    REQUIRE(still);
    REQUIRE(still->tracks[0].samples.size() == 16);
    for (const Sample& sample : still->tracks[0].samples) CHECK((sample.at - Eigen::Vector2d(875, 300)).norm() < 0.8);
}

TEST_CASE("a shake is taken from one plate and lent to another, looped where it is too short") {
    const test::Scratch scratch;
    const std::string profile = (scratch / "shake.json").string();
    const Outcome taken =
        run("--json shake take " + kMooring + " --tracks " + mooringTracks() + " --range 1001-1016 --out " + profile);
    INFO(taken.err);
    REQUIRE(taken.status == 0);
    CHECK(json::parse(taken.out)["samples"] == 16);
    const std::string breakwater = std::string(PINION_SOURCE_DIR) + "/demo/plates/breakwater.mp4";
    const Outcome lent = run("--json shake lend " + breakwater + " --profile " + profile +
                             " --amount 0.5 --range 1001-1024 --out " + (scratch / "lent.mp4").string());
    INFO(lent.err);
    REQUIRE(lent.status == 0);
    const json figures = json::parse(lent.out);
    CHECK(figures["frames"] == 24);
    CHECK(figures["note"].get<std::string>().find("is looped") != std::string::npos);
    CHECK(json::parse(run("--json info " + (scratch / "lent.mp4").string()).out)["fps"] == "25");
    checkRefused(
        run("shake lend " + breakwater + " --profile " + mooringTracks() + " --out " + (scratch / "x.mp4").string()), 2,
        "'pinion.shake' is expected");
    checkRefused(run("shake take " + kMooring + " --tracks " + mooringTracks() +
                     " --range 1001-1016 --above 20 --out " + profile),
                 2, "cannot be told at 24 frames a second");
}

TEST_CASE("held frames come back over the plate: unchanged they are the plate, painted only there") {
    const Scratch scratch;
    const std::string words = " --tracks " + mooringTracks() + " --mode hold --range 1001-1004 ";
    const std::string held = (scratch / "held.####.png").string(), back = (scratch / "back.####.png").string();
    REQUIRE(run("steady " + kMooring + words + "--out " + held).status == 0);
    const auto unchanged = run("--json steady " + kMooring + words + "--put-back " + held + " --out " + back);
    INFO(unchanged.err);
    REQUIRE(unchanged.status == 0);
    CHECK(json::parse(unchanged.out)["unchanged_frames"].size() == 4);
    const auto plate = Plate::open(kMooring), same = Plate::open(scratch / "back.1001.png");
    REQUIRE(same);
    for (int frame = 1001; frame <= 1004; ++frame)
        CHECK((*(*plate)->read(frame))->bytes == (*(*same)->read(frame))->bytes);

    // A grey patch on one held frame.
    const auto picture = readStill(scratch / "held.1003.png");
    REQUIRE(picture);
    Picture painted = **picture;
    for (int y = 200; y < 240; ++y)
        for (int x = 300; x < 380; ++x)
            for (std::size_t c = 0; c < 3; ++c)
                painted.bytes[(std::size_t(y) * std::size_t(painted.width) + std::size_t(x)) * 3 + c] = 128;
    {
        auto writer = FrameWriter::create(scratch / "held.####.png", painted.width, painted.height, {24, 1});
        REQUIRE(writer);
        REQUIRE((*writer)->write(1003, painted));
    }
    const auto done = run("--json steady " + kMooring + words + "--put-back " + held + " --out " + back);
    REQUIRE(done.status == 0);
    const json figures = json::parse(done.out);
    CHECK(figures["unchanged_frames"] == json({1001, 1002, 1004}));
    CHECK(figures["changed"].get<double>() ==
          Approx(80.0 * 40 / (double(painted.width) * painted.height)).epsilon(0.25));
    checkRefused(run("steady " + kMooring + words + "--put-back " + held + " --out " + held), 2, "held");
    Picture small{64, 36, Picture::Depth::bits8, false, std::vector<std::uint8_t>(64 * 36 * 3, 90), {}};
    {
        auto writer = FrameWriter::create(scratch / "small.####.png", 64, 36, {24, 1});
        REQUIRE(writer);
        REQUIRE((*writer)->write(1001, small));
    }
    checkRefused(
        run("steady " + kMooring + words + "--put-back " + (scratch / "small.1001.png").string() + " --out " + back), 2,
        "64x36, the plate is 1280x720");
}

TEST_CASE("track takes every choice of a track, and steady refuses what gives no motion") {
    const test::Scratch scratch;
    const auto points =
        scratch.write("p.json", R"({"format":"pinion.points","version":1,"reference_frame":1001,"points":[
        {"name":"beacon","x":875,"y":300,"wanted":[895,340],"outline":[[862,288],[888,288],[888,312],[862,312]]}]})");
    const std::string out = (scratch / "t.csv").string();
    const Outcome tracked = run("track " + kMooring + " --points " + points.string() +
                                " --motion translation --pattern 27 --search 71 --channel red --pre-filter "
                                "local-contrast --drift-limit 0.7 --pick-up --bridge --range 1001-1012 --out " +
                                out);
    INFO(tracked.err);
    REQUIRE(tracked.status == 0);
    const auto table = readTracks(out);
    REQUIRE(table);
    REQUIRE(table->tracks[0].samples.size() == 12);
    CHECK((table->tracks[0].samples[0].at - Eigen::Vector2d(895, 340)).norm() < 1e-3);

    const std::string held = " --mode hold --fit none --out '" + (scratch / "x.####.png").string() + "'";
    checkRefused(run("steady " + kMooring + " --tracks " + out + " --names tower" + held), 2, "has no such track");
    checkRefused(run("steady " + kMooring + " --tracks " + out + " --names beacon --corner-pin" + held), 2,
                 "a corner pin needs four tracks");
    checkRefused(run("steady " + kMooring + " --tracks " + out + " --mode hold --fit none --out one.png"), 2,
                 "write the frame number as in one.####.png");
    const auto broken = scratch.write("b.csv", "track,frame,x\np,1001,3\n");
    checkRefused(run("steady " + kMooring + " --tracks " + broken.string() + held), 2, "the column 'y' is missing");
    const auto late = scratch.write("l.csv", "track,frame,x,y\np,2001,3,4\n");
    checkRefused(run("steady " + kMooring + " --tracks " + late.string() + held), 2,
                 "has frame 2001, the plate holds 1001-1096");
    CHECK(std::filesystem::directory_iterator(scratch.path()) != std::filesystem::directory_iterator());
    CHECK_FALSE(std::filesystem::exists(scratch / "x.1001.png"));
}

TEST_CASE("what moves is told on standard error and in the figures, and tracks of the scene decide what stands") {
    const test::Scratch scratch;
    // Made-up tracks: three dozen that stand, seen by a camera that walks, and a dozen that go by.
    json tracks = json::array();
    std::mt19937 random(5);
    const auto grain = [&] { return 0.0005 * (double(random() % 1000) - 500); };
    const auto add = [&](const std::string& name, const std::function<Eigen::Vector3d(int)>& place) {
        json samples = json::array();
        for (int f = 0; f < 30; ++f) {
            const Eigen::Vector3d at = place(f) - Eigen::Vector3d(0.06 * f, 0.01 * std::sin(0.7 * f), 0.02 * f);
            const double turn = 0.004 * f, x = std::cos(turn) * at.x() - std::sin(turn) * at.z(),
                         z = std::sin(turn) * at.x() + std::cos(turn) * at.z();
            samples.push_back({{"frame", 1001 + f},
                               {"x", 480 + 800 * x / z + grain()},
                               {"y", 270 + 800 * at.y() / z + grain()},
                               {"score", 1}});
        }
        tracks.push_back({{"name", name}, {"samples", samples}});
    };
    for (int i = 0; i < 36; ++i)
        add(fmt::format("s{}", i), [&](int) {
            return Eigen::Vector3d(-2.4 + 0.9 * (i % 6) + 0.1 * (i / 6), -1.2 + 0.5 * (i / 6),
                                   5 + 0.8 * ((i * i + i / 6) % 5));
        });
    for (int i = 0; i < 12; ++i)
        add(fmt::format("m{}", i), [&](int f) {
            return Eigen::Vector3d(1.2 - 0.07 * f + 0.3 * (i % 4), -0.4 + 0.3 * (i / 4) + 0.3 * std::sin(0.25 * f),
                                   4.5 + 0.12 * (i * i % 5));
        });
    const std::string plate = (scratch / "p.####.png").string(), path = (scratch / "t.json").string();
    const auto writer = FrameWriter::create(plate, 960, 540, FrameRate{24, 1});
    REQUIRE(writer);
    Picture grey;
    grey.width = 960;
    grey.height = 540;
    grey.bytes.assign(std::size_t(960 * 540 * 3), 90);
    for (int f = 1001; f <= 1030; ++f) REQUIRE((*writer)->write(f, grey));
    REQUIRE((*writer)->finish());
    const json file{{"format", "pinion.tracks"}, {"version", 1}, {"width", 960}, {"height", 540}, {"fps", 24},
                    {"tracks", tracks}};
    std::ofstream(path) << file.dump();
    const std::string solve = "--json solve " + plate + " --focal 30 --distortion none --tracks " + path;
    const Outcome usual = run(solve + " --out " + (scratch / "a.json").string());
    INFO(usual.err);
    REQUIRE(usual.status == 0);
    CHECK_THAT(usual.err, Catch::Contains("tracks move as one thing of their own"));
    const json movers = json::parse(usual.out)["movers"];
    REQUIRE(movers.size() == 1);
    CHECK(movers[0]["tracks"].size() >= 10);
    for (const json& name : movers[0]["tracks"]) CHECK(name.get<std::string>().starts_with("m"));
    CHECK(movers[0]["frames"] == json({1001, 1030}));
    // Told otherwise, the dozen stands.
    const Outcome told = run(solve + " --scene-of m1,m6,m11 --out " + (scratch / "b.json").string());
    INFO(told.err);
    REQUIRE(told.status == 0);
    const json other = json::parse(told.out)["movers"];
    REQUIRE(other.size() >= 1);
    for (const json& name : other[0]["tracks"]) CHECK(name.get<std::string>().starts_with("s"));

    // As an object: found, or named; its size as it is told.
    const std::string camera = (scratch / "a.json").string(), out = (scratch / "o.json").string();
    const std::string object = "--json object " + plate + " --camera " + camera + " --tracks " + path + " --out " + out;
    const Outcome found = run(object);
    INFO(found.err);
    REQUIRE(found.status == 0);
    const json figures = json::parse(found.out)["objects"];
    REQUIRE(figures.size() == 1);
    CHECK(figures[0]["tracks"].get<int>() >= 10);
    CHECK(figures[0]["frames"] == 30);
    CHECK(figures[0]["rms_px"].get<double>() < 0.6);
    const auto read = readObjects(out);
    REQUIRE(read);
    CHECK(read->objects[0].name == "object 1");
    for (const std::string& name : read->objects[0].tracks) CHECK(name.starts_with("m"));
    CHECK(read->objects[0].frames.size() == 30);

    const std::string names = " --names m0,m1,m2,m3,m4,m5,m6,m7,m8,m9,m10,m11";
    const Outcome measured = run(object + names + " --length m0,m3=9");
    INFO(measured.err);
    REQUIRE(measured.status == 0);
    CHECK(json::parse(measured.out)["objects"][0]["scale"] == "length");
    const auto sized = readObjects(out);
    REQUIRE(sized);
    CHECK(sized->objects[0].scaleIsKnown);
    const auto at = [&](const std::string& name) {
        for (const auto& point : sized->objects[0].points)
            if (point.name == name) return point.xyz;
        FAIL("no " + name);
        return Eigen::Vector3d(0, 0, 0);
    };
    CHECK((at("m0") - at("m3")).norm() == Approx(9).margin(1e-6));
    checkRefused(run(object + " --names m1,nobody"), 2, "there is no track named nobody");
    checkRefused(run(object + " --names m1,m2"), 1, "an object needs 6 tracks");
    checkRefused(run(object + names + " --length m0,m3"), 2, "write A,B=UNITS");
    checkRefused(run("object " + plate + " --camera " + path + " --tracks " + path + " --out " + out), 2, "t.json");
}

TEST_CASE("distances and places from the set put a solve in metres, by the names of tracks") {
    const test::Scratch scratch;
    const std::string plate = std::string(PINION_SOURCE_DIR) + "/demo/plates/zoom.mp4";
    const std::string tracks = (scratch / "t.json").string(), first = (scratch / "a.json").string(),
                      second = (scratch / "b.json").string();
    REQUIRE(run("scatter " + plate + " --features 150 --out " + tracks).status == 0);
    REQUIRE(run("solve " + plate + " --zoom --tracks " + tracks + " --out " + first).status == 0);
    const auto plain = readCamera(first);
    REQUIRE(plain);
    REQUIRE(plain->points.size() > 60);
    // Any two points of the first solve; three times as far apart as it has them.
    const auto& a = plain->points[10];
    const auto& b = plain->points[50];
    const double metres = 3 * (a.xyz - b.xyz).norm();
    const Outcome measured = run("--json solve " + plate + " --zoom --tracks " + tracks + " --distance " + a.name +
                                 "," + b.name + fmt::format("={:.6f}~0.01", metres) + " --out " + second);
    INFO(measured.err);
    REQUIRE(measured.status == 0);
    CHECK(json::parse(measured.out)["in_metres"] == true);
    const auto scaled = readCamera(second);
    REQUIRE(scaled);
    const auto at = [&](const std::string& name) {
        for (const auto& point : scaled->points)
            if (point.name == name) return point.xyz;
        FAIL("no point " + name);
        return Eigen::Vector3d(0, 0, 0);
    };
    CHECK((at(a.name) - at(b.name)).norm() == Approx(metres).epsilon(0.01));

    const std::string solve = "solve " + plate + " --tracks " + tracks + " --out " + first;
    checkRefused(run(solve + " --scene-of " + a.name + ",nobody"), 2, "there is no track named nobody");
    checkRefused(run(solve + " --distance " + a.name + "=2"), 2, "write A,B=METRES~TRUST");
    checkRefused(run(solve + " --distance " + a.name + ",nobody=2"), 2, "there is no track named nobody");
    checkRefused(run(solve + " --distance " + a.name + "," + b.name + "=-2"), 2, "above 0");
    checkRefused(run(solve + " --distance " + a.name + "," + a.name + "=2"), 2, "to itself");
    checkRefused(run(solve + " --place " + a.name + "=1,2"), 2, "write A=X,Y,Z~TRUST");
    checkRefused(run(solve + " --place " + a.name + "=1,2,3~"), 2, "write A=X,Y,Z~TRUST");
}

TEST_CASE("solve tells a nodal pan and a zoom, writes them, and says its doubt on standard error and in the file") {
    const test::Scratch scratch;
    const std::string plates = std::string(PINION_SOURCE_DIR) + "/demo/plates/";
    const std::string tracks = (scratch / "pan-tracks.json").string(), camera = (scratch / "pan.json").string();
    REQUIRE(run("scatter " + plates + "pan.mp4 --features 150 --out " + tracks).status == 0);
    const Outcome pan = run("--json solve " + plates + "pan.mp4 --tracks " + tracks + " --out " + camera);
    INFO(pan.err);
    REQUIRE(pan.status == 0);
    const json figures = json::parse(pan.out);
    // Edges that are off by a pixel together are no thing that moves.
    CHECK_FALSE(figures.contains("movers"));
    CHECK(figures["motion"] == "nodal");
    CHECK(figures["reason"].get<std::string>().find("only turns") != std::string::npos);
    CHECK(figures["focal_mm"].get<double>() == Approx(32).epsilon(0.01));
    CHECK_FALSE(figures.contains("doubt"));
    const json written = json::parse(*readFile(camera));
    CHECK(written["solve"]["motion"] == "nodal");
    CHECK(written["solve"]["focal_deviation_mm"].get<double>() > 0);
    CHECK(written["points"].empty());
    CHECK(written["directions"].size() > 100);
    const auto read = readCamera(camera);
    REQUIRE(read);
    CHECK(read->directions.size() == written["directions"].size());
    CHECK(read->motion == "nodal");

    // A focal length that the tracks contradict: done, but not without a word.
    const Outcome wrong =
        run("--json solve " + plates + "pan.mp4 --tracks " + tracks + " --focal 50 --motion nodal --out " + camera);
    REQUIRE(wrong.status == 0);
    CHECK(wrong.err.find("not sure: ") != std::string::npos);
    CHECK(json::parse(wrong.out)["doubt"].get<std::string>().find("50.0 mm was given, the tracks say") !=
          std::string::npos);
    CHECK(json::parse(*readFile(camera))["solve"]["doubt"] == json::parse(wrong.out)["doubt"]);
    REQUIRE(readCamera(camera));
    CHECK(readCamera(camera)->doubt == json::parse(wrong.out)["doubt"]);

    const std::string zoomed = (scratch / "zoom.json").string();
    const Outcome zoom = run("--json solve " + plates + "zoom.mp4 --features 250 --out " + zoomed);
    INFO(zoom.err);
    REQUIRE(zoom.status == 0);
    const json range = json::parse(zoom.out)["zoom_mm"];
    CHECK(range[0].get<double>() == Approx(28).epsilon(0.015));
    CHECK(range[1].get<double>() == Approx(46).epsilon(0.015));
    const auto file = readCamera(zoomed);
    REQUIRE(file);
    CHECK(file->zoom);
    CHECK(file->frames.front().focal_px < 0.65 * file->frames.back().focal_px);
    CHECK(file->frames.front().k1 < file->frames.back().k1);
}

TEST_CASE("the solve's words are checked before anything is done") {
    const test::Scratch scratch;
    const std::string out = " --out " + (scratch / "c.json").string();
    for (const char* words :
         {" --motion sideways", " --axis left", " --squeeze 0", " --focal -3", " --focal 35~0", " --base-pair 1001"}) {
        const Outcome outcome = run("solve " + kPlate + words + out);
        INFO(words << ": " << outcome.err);
        CHECK(outcome.status == 2);
    }
    CHECK(run("solve " + kPlate + " --distortion nowhere.json" + out).err.find("nowhere.json") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(scratch / "c.json"));
}

TEST_CASE("an output that is an input is refused, frames of the plate included; nothing is replaced") {
    const test::Scratch scratch;
    const std::string plate = (scratch / "plate.mp4").string();
    std::filesystem::copy_file(std::string(PINION_SOURCE_DIR) + "/demo/plates/pan.mp4", plate);
    const std::string before = *readFile(plate);
    const std::string points =
        scratch
            .write("p.json",
                   R"({"format":"pinion.points","version":1,"reference_frame":1001,"points":[{"name":"a","x":300,)"
                   R"("y":300}]})")
            .string();
    checkRefused(run("scatter " + plate + " --out " + plate), 2, "is read as well");
    checkRefused(run("track " + plate + " --points " + points + " --out " + points), 2, "is read as well");
    checkRefused(run("track " + plate + " --points " + points + " --out " + plate), 2, "is read as well");
    const std::string tracks = (scratch / "t.json").string();
    REQUIRE(run("track " + plate + " --points " + points + " --range 1001-1010 --out " + tracks).status == 0);
    checkRefused(run("solve " + plate + " --tracks " + tracks + " --out " + tracks), 2, "is read as well");
    checkRefused(run("shake take " + plate + " --tracks " + tracks + " --out " + plate), 2, "is read as well");
    checkRefused(run("steady " + plate + " --tracks " + tracks + " --out " + plate), 2, "is read as well");
    checkRefused(run("steady " + plate + " --tracks " + tracks + " --transforms " + tracks + " --out " +
                     (scratch / "o.mp4").string()),
                 2, "is read as well");
    CHECK(*readFile(plate) == before);
    // A sequence: its frames, by pattern, by one of them, by their folder.
    const std::string frames = (scratch.path()).string();
    REQUIRE(
        run("steady " + plate + " --tracks " + tracks + " --range 1001-1003 --out " + frames + "/a.####.png").status ==
        0);
    for (const std::string& name : {frames + "/a.####.png", frames + "/a.1001.png", frames})
        checkRefused(run("steady " + name + " --tracks " + tracks + " --out " + frames + "/a.####.png"), 2, "");
    // A folder that is not there is told before the work.
    checkRefused(run("solve " + plate + " --out " + (scratch / "none/c.json").string()), 2, "does not exist");
    // A file that may not be written stays.
    if (::geteuid() != 0) {
        std::filesystem::permissions(tracks, std::filesystem::perms::owner_read);
        checkRefused(run("scatter " + plate + " --out " + tracks), 1, "no permission");
    }
}

TEST_CASE("a video is one file: '#' and '%' in its name are refused, and no frame is written") {
    const test::Scratch scratch;
    const std::string plate = std::string(PINION_SOURCE_DIR) + "/demo/plates/mooring.mp4";
    const std::string profile =
        scratch
            .write("p.json",
                   R"({"format":"pinion.shake","version":1,"name":"s","fps":24,"above_hz":0,"samples":[{"x":0,"y":0,)"
                   R"("rotation":0,"scale":1},{"x":0.01,"y":0,"rotation":0,"scale":1}]})")
            .string();
    for (const char* name : {"small.####.mp4", "take#2.mp4", "take%2.mov"})
        checkRefused(run("shake lend " + plate + " --profile " + profile + " --range 1001-1004 --out '" +
                         (scratch / name).string() + "'"),
                     2, "a video is one file");
    CHECK(std::distance(std::filesystem::directory_iterator(scratch.path()), {}) == 1);
}

TEST_CASE("what is no number is refused, an unknown command is called by its name, and no exception ends a command") {
    const test::Scratch scratch;
    const std::string out = (scratch / "o.json").string();
    checkRefused(run("track " + kPlate + " --points p.json --drift-limit nan --out " + out), 2, "no finite number");
    checkRefused(run("solve " + kPlate + " --trim nan --out " + out), 2, "no finite number");
    checkRefused(run("solve " + kPlate + " --sensor-width inf --out " + out), 2, "not in range 0.5");
    checkRefused(run("shake lend " + kPlate + " --profile p.json --amount nan --out o.mp4"), 2, "no finite number");
    checkRefused(run("scatter " + kPlate + " --pattern 41 --search 21 --out " + out), 2, "smaller than the pattern");
    checkRefused(run("sovle " + kPlate), 2, "there is no command 'sovle'");
    checkRefused(run("--threads 2 sovle"), 2, "there is no command 'sovle'");
    const std::string lens =
        scratch
            .write("lens.json",
                   R"({"format":"pinion.lens","version":1,"width":30000,"height":30000,"model":"brown-conrady",)"
                   R"("focal_px":30000,"k1":0,"k2":0,"cx":15000,"cy":15000})")
            .string();
    checkRefused(run("stmap --lens " + lens + " --out-dir " + (scratch.path()).string()), 2, "no plate size");
    // Dates for numbers: two frames and a million gaps.
    for (const char* name : {"s.00000001.png", "s.99999999.png", "s.2147483647.png"}) scratch.write(name, "x");
    const Outcome far = run("info " + (scratch / "s.00000001.png").string());
    CHECK(far.status == 2);
    CHECK(far.err.find("too far apart") != std::string::npos);
}

TEST_CASE("what a run has done is saved when a later step fails") {
    const test::Scratch scratch;
    const auto shot = scratch.write(
        "pan.pinion",
        R"({"format":"pinion.shot","version":1,"name":"pan","plate":{"path":")" + std::string(PINION_SOURCE_DIR) +
            R"(/demo/plates/pan.mp4","width":1280,"height":720,"fps":24,"frames":[1001,1100],"range":[1001,1020]},
        "scatter":{"features":60,"least_distance_px":16,"threshold":0.01,"pattern_px":21,"search_px":61,
        "motion":"affine","drift_limit":0.8,"channel":"luma"},
        "camera":{"sensor_width_mm":36,"focal":"unknown","focal_mm":35,"focal_trust_mm":2,"distortion":"unknown"},
        "tracks":[],"world":{"ground":[]},
        "deliverables":[{"name":"broken","kind":"camera","format":"usda","place":"c.usda","up_axis":"y",
        "written_key":0}]})");
    // The folder cannot be made: a file stands there.
    const auto stands = scratch.write("delivery", "a file");
    const Outcome outcome = run("run " + shot.string() + " --steps scatter,deliver");
    CHECK(outcome.status != 0);
    CHECK(outcome.err.find("as far as it went") != std::string::npos);
    const auto kept = loadShot(shot);
    REQUIRE(kept);
    CHECK(kept->tracks.size() >= 30);
}
