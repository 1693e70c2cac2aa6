// Work done elsewhere and put back, and what moves proposed, on the command line.

#include "base/files.h"
#include "commandline.h"
#include "exchange/formats.h"
#include "matte/coverage.h"
#include "matte/drawing.h"
#include "plate/framewriter.h"
#include "plate/plate.h"

#include <cmath>
#include <nlohmann/json.hpp>

using namespace pinion;
using namespace pinion::test;
using nlohmann::json;

namespace {

const std::string kMooringPlate = std::string(PINION_SOURCE_DIR) + "/demo/plates/mooring.mp4";

/// Two tracks that go with a slow turn, over the first frames of mooring.
std::string tracksFile(const Scratch& scratch, int last = 1004) {
    json tracks = json::array();
    const double places[][2] = {{300, 200}, {900, 250}, {880, 560}, {320, 520}};
    for (int i = 0; i < 4; ++i) {
        json samples = json::array();
        for (int frame = 1001; frame <= last; ++frame) {
            const double t = frame - 1001, c = std::cos(0.004 * t), s = std::sin(0.004 * t);
            const double x = places[i][0] - 640, y = places[i][1] - 360;
            samples.push_back(
                {{"frame", frame}, {"x", 640 + c * x - s * y + 2.3 * t}, {"y", 360 + s * x + c * y - 1.1 * t}});
        }
        tracks.push_back({{"name", "p" + std::to_string(i + 1)}, {"samples", samples}});
    }
    return scratch
        .write("tracks.json", json{{"format", "pinion.tracks"},
                                   {"version", 1},
                                   {"width", 1280},
                                   {"height", 720},
                                   {"fps", 24},
                                   {"tracks", tracks}}
                                  .dump())
        .string();
}

std::size_t differing(const Picture& a, const Picture& b, int x0, int y0, int x1, int y1, bool inside) {
    std::size_t count = 0;
    for (int y = 0; y < a.height; ++y)
        for (int x = 0; x < a.width; ++x) {
            if ((x >= x0 && x < x1 && y >= y0 && y < y1) != inside) continue;
            const std::size_t i = (std::size_t(y) * std::size_t(a.width) + std::size_t(x)) * 3;
            count += a.bytes[i] != b.bytes[i] || a.bytes[i + 1] != b.bytes[i + 1] || a.bytes[i + 2] != b.bytes[i + 2];
        }
    return count;
}

}  // namespace

TEST_CASE("a painted patch is put back on every frame by its alpha; all else is the plate to the bit") {
    const Scratch scratch;
    const std::string words =
        " --tracks " + tracksFile(scratch) + " --names p1,p2 --mode hold --fit none --range 1001-1004 --put-back ";
    const std::string out = (scratch / "back.####.png").string();
    const std::string patch = std::string(PINION_SOURCE_DIR) + "/demo/plates/mooring.painted.png";
    const auto done = run("--json steady " + kMooringPlate + words + patch + " --by alpha --out " + out);
    INFO(done.err);
    REQUIRE(done.status == 0);
    CHECK(json::parse(done.out)["unchanged_frames"].empty());
    const auto plate = Plate::open(kMooringPlate), back = Plate::open(scratch / "back.1001.png");
    REQUIRE(back);
    for (int frame = 1001; frame <= 1004; ++frame) {
        INFO(frame);
        const auto before = (*plate)->read(frame), after = (*back)->read(frame);
        REQUIRE(after);
        CHECK(differing(**before, **after, 330, 320, 600, 590, false) == 0);
        CHECK(differing(**before, **after, 380, 370, 520, 450, true) > 7000);
    }
    // On the first frame, where nothing moved, it is the patch.
    const auto painted = readStill(patch), first = (*back)->read(1001);
    const auto at = [](const Picture& picture, int x, int y) {
        return int(picture.bytes[(std::size_t(y) * std::size_t(picture.width) + std::size_t(x)) * 3]);
    };
    CHECK(std::abs(at(**painted, 450, 400) - at(**first, 450, 400)) <= 1);
    // By difference a patch on black is another picture altogether; without an alpha there is nothing to go by.
    checkRefused(run("steady " + kMooringPlate + words + patch + " --out " + out), 2, "differs at");
    checkRefused(run("steady " + kMooringPlate + words + kMooringPlate + " --by alpha --out " + out), 2,
                 "has no alpha");
}

TEST_CASE("held frames are put back by a matte that was drawn on them, and the matte itself as a matte") {
    const Scratch scratch;
    const std::string words =
        " --tracks " + tracksFile(scratch) + " --names p1,p2,p3,p4 --square-up --mode hold --range 1001-1004 ";
    const std::string held = (scratch / "held.####.png").string(), out = (scratch / "back.####.png").string();
    REQUIRE(run("steady " + kMooringPlate + words + "--out " + held).status == 0);
    // The four stand upright: a rectangle in the middle of the picture.
    Matte matte;
    matte.keys = {rectangleShape({560, 300}, {720, 420})};
    {
        auto writer = FrameWriter::create(scratch / "matte.####.png", 1280, 720, {24, 1});
        REQUIRE(writer);
        for (int frame = 1001; frame <= 1004; ++frame)
            REQUIRE((*writer)->write(frame, coverageOf(matte, frame, 1280, 720)));
    }
    const std::string pictures = (scratch / "matte.####.png").string();
    const auto done = run("--json steady " + kMooringPlate + words + "--put-back " + held + " --put-back-matte " +
                          pictures + " --out " + out);
    INFO(done.err);
    REQUIRE(done.status == 0);
    const auto plate = Plate::open(kMooringPlate), back = Plate::open(scratch / "back.1001.png");
    const auto before = (*plate)->read(1003), after = (*back)->read(1003);
    CHECK(differing(**before, **after, 520, 260, 780, 470, false) == 0);
    CHECK(json::parse(done.out)["changed"].get<double>() == Approx(160.0 * 120 / (1280 * 720)).epsilon(0.1));
    const auto asMatte = run("--json steady " + kMooringPlate + words + "--put-back " + pictures +
                             " --by as-matte --out " + (scratch / "moved.####.png").string());
    INFO(asMatte.err);
    REQUIRE(asMatte.status == 0);
    CHECK(json::parse(asMatte.out)["frames"] == 4);
    const auto moved = readStill(scratch / "moved.1004.png");
    REQUIRE(moved);
    double sum = 0;
    for (std::size_t i = 0; i < 1280 * 720; ++i)
        sum +=
            (*moved)->depth == Picture::Depth::bits8 ? (*moved)->bytes[3 * i] / 255.0 : double((*moved)->floats[3 * i]);
    CHECK(sum == Approx(160 * 120).epsilon(0.05));
    // Frames that are none of the held ones are named.
    {
        auto writer = FrameWriter::create(scratch / "late.####.png", 1280, 720, {24, 1});
        REQUIRE((*writer)->write(2001, **before));
    }
    checkRefused(
        run("steady " + kMooringPlate + words + "--put-back " + (scratch / "late.####.png").string() + " --out " + out),
        2, "none of 1001-1004");
}

TEST_CASE("shapes are written as SVG and JSON, and tracks end at them and are set aside under them") {
    const Scratch scratch;
    const std::string tracks = tracksFile(scratch, 1096);
    const std::string mattes =
        scratch
            .write("m.json", R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"mast","keys":[
{"frame":1001,"polygon":[[250,150],[350,150],[350,250],[250,250]]},
{"frame":1010,"polygon":[[270,140],[370,140],[370,240],[270,240]]}]}]})")
            .string();
    const auto svg = run("--json matte " + kMooringPlate + " --mattes " + mattes + " --out " +
                         (scratch / "shape.####.svg").string());
    INFO(svg.err);
    REQUIRE(svg.status == 0);
    CHECK(json::parse(svg.out)["files"] == 2);
    CHECK_THAT(*readFile(scratch / "shape.1010.svg"), Catch::Contains("M 270.0000 140.0000"));
    REQUIRE(
        run("matte " + kMooringPlate + " --mattes " + mattes + " --out " + (scratch / "again.json").string()).status ==
        0);
    CHECK(readMattes(scratch / "again.json")->front().keys.size() == 2);
    const auto points = scratch.write("p.json", R"({"format":"pinion.points","version":1,"reference_frame":1001,
"points":[{"name":"beacon","x":875,"y":300}]})");
    const std::string wall =
        scratch
            .write("w.json", R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"wall","there":[
{"frame":1001,"there":false},{"frame":1008,"there":true}],"keys":[
{"frame":1001,"polygon":[[800,200],[950,200],[950,400],[800,400]]}]}]})")
            .string();
    const std::string out = (scratch / "t.json").string();
    REQUIRE(run("track " + kMooringPlate + " --points " + points.string() + " --exclude " + wall +
                " --no-pick-up --range 1001-1020 --out " + out)
                .status == 0);
    CHECK(readTracks(out)->tracks.front().samples.size() == 7);
}

TEST_CASE("propose says where nothing moves, and what it lacks") {
    const Scratch scratch;
    const std::string out = (scratch / "m.json").string();
    checkRefused(run("propose " + kMooringPlate + " --tracks " + tracksFile(scratch, 1096) + " --out " + out), 1,
                 "what moves cannot be told");
    checkRefused(run("propose " + kMooringPlate + " --tracks nothing.json --out " + out), 2, "nothing.json");
}

TEST_CASE("a solve leaves out what shapes cover of its tracks, and shapes that ride on what is not there are refused") {
    const Scratch scratch;
    const std::string plate = std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4";
    const std::string tracks = (scratch / "t.json").string(), camera = (scratch / "c.json").string();
    REQUIRE(run("scatter " + plate + " --features 160 --range 1001-1040 --out " + tracks).status == 0);
    const auto plain = run("--json solve " + plate + " --tracks " + tracks + " --out " + camera);
    INFO(plain.err);
    REQUIRE(plain.status == 0);
    const std::string roof =
        scratch
            .write("roof.json", R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"hut","keys":[
{"frame":1001,"polygon":[[700,40],[1280,40],[1280,480],[700,480]]}]}]})")
            .string();
    const auto masked =
        run("--json solve " + plate + " --tracks " + tracks + " --exclude " + roof + " --out " + camera);
    INFO(masked.err);
    REQUIRE(masked.status == 0);
    CHECK(json::parse(masked.out)["tracks"].get<int>() < 0.85 * json::parse(plain.out)["tracks"].get<int>());
    const auto riding = [&](const std::string& ride) {
        return scratch
            .write("ride.json", R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"hut","keys":[
{"frame":1001,"polygon":[[700,40],[900,40],[900,180]]}],"ride":)" +
                                    ride + "}]}")
            .string();
    };
    const std::string out = " --range 1001-1002 --out " + (scratch / "m.####.png").string();
    checkRefused(run("matte " + plate + " --mattes " + riding(R"({"picture":true,"reference_frame":1001})") + out), 2,
                 "rides on the picture's motion");
    checkRefused(run("matte " + plate + " --mattes " + riding(R"({"locator":"hook","reference_frame":1001})") +
                     " --tracks " + tracks + out),
                 2, "no such locator");
    const auto carried = run("--json matte " + plate + " --mattes " +
                             riding(R"({"picture":true,"reference_frame":1001})") + " --tracks " + tracks + out);
    INFO(carried.err);
    CHECK(carried.status == 0);
    CHECK(json::parse(carried.out)["frames"] == 2);
}
