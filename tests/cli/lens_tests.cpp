// The lens on the command line: measured, taken out, put back, as a script would.

#include "commandline.h"
#include "exchange/formats.h"
#include "lensmapping.h"
#include "lens/stmap.h"
#include "plate/plate.h"

#include <OpenImageIO/imageio.h>
#include <cmath>
#include <nlohmann/json.hpp>

using namespace pinion;
using namespace pinion::test;
using Eigen::Vector2d;
using nlohmann::json;
using pinion::bench::landingLens;
using pinion::bench::mappingError;

namespace {

// Along the roof, the eaves and the coping of the landing, a few pixels beside the edges, as a hand clicks.
const char* const kLines = R"({"format":"pinion.lines","version":1,"lines":[
{"frame":1041,"points":[[756,42],[970,52],[1185,63]]},
{"frame":1041,"points":[[820,163],[1050,168],[1270,173]]},
{"frame":1076,"points":[[735,5],[970,14],[1200,28]]},
{"frame":1120,"points":[[685,104],[980,105],[1270,108]]},
{"frame":1120,"points":[[720,129],[980,130],[1270,133]]},
{"frame":1001,"points":[[780,70],[960,81],[1140,94]]},
{"frame":1001,"points":[[4,357],[120,355],[235,353]]}]})";

std::string kLens(const Scratch& scratch) { return scratch.write("lens.json", lensJson(landingLens())).string(); }

}  // namespace

TEST_CASE("lens lines measures the landing's lens from clicks beside its roof and eaves") {
    const Scratch scratch;
    const std::string lines = scratch.write("lines.json", kLines).string(), out = (scratch / "out.json").string();
    const auto done = run("--json lens lines " + kPlate + " --lines " + lines + " --focal 28 --out " + out);
    REQUIRE(done.status == 0);
    const json figures = json::parse(done.out);
    CHECK(figures["lines"].size() == 7);
    for (const json& line : figures["lines"]) {
        CHECK(line["on_edge"] == true);
        CHECK(line["after_px"] < 0.2);
    }
    CHECK(figures["before_px"] > 0.4);
    const auto lens = readLens(out);
    REQUIRE(lens);
    CHECK(lens->focal_px == Approx(995.5556));
    // Over the whole frame, against the truth that the plate was rendered with.
    CHECK(mappingError(*lens, landingLens()) < 0.5);
    const auto clicked = run("--json lens lines " + kPlate + " --lines " + lines + " --no-snap --terms k1 --out -");
    if (clicked.status == 0) CHECK(json::parse(clicked.out).contains("k1"));
    // A lens is a lens for the solve.
    CHECK(run("solve " + kPlate + " --features 150 --distortion " + out + " --out " + (scratch / "c.json").string())
              .status == 0);
    const auto camera = readCamera(scratch / "c.json");
    REQUIRE(camera);
    CHECK(mappingError(camera->lens, *lens) < 1e-6);
}

TEST_CASE("lens lines refuses lines that cannot tell, and says which") {
    const Scratch scratch;
    const auto with = [&](const std::string& lines) {
        const std::string file =
            scratch.write("lines.json", R"({"format":"pinion.lines","version":1,"lines":[)" + lines + "]}").string();
        return run("lens lines " + kPlate + " --no-snap --lines " + file + " --out " + (scratch / "o.json").string());
    };
    checkRefused(with(""), 1, "no lines");
    checkRefused(with(R"({"frame":1001,"points":[[1,1],[300,3],[600,1]]})"), 1, "could be checked");
    checkRefused(with(R"({"frame":1001,"points":[[1,1],[300,3]]})"), 1, "line 1 (frame 1001)");
    checkRefused(with(R"({"frame":2001,"points":[[1,1],[300,3],[600,1]]})"), 2, "lines[0] is on frame 2001");
    checkRefused(with(R"({"frame":1001,"points":[[1,1],[300],[600,1]]})"), 2, "lines[0].points[1]");
    checkRefused(with(R"({"frame":1001,"points":[[1,1],[9000,3],[600,1]]})"), 2, "outside the plate");
    CHECK_FALSE(std::filesystem::exists(scratch / "o.json"));
    checkRefused(run("lens lines " + kPlate + " --lines " + (scratch / "none").string() + " --out x.json"), 2, "none");
}

TEST_CASE(
    "a pair of maps becomes a lens that solves and undistorts as the lens that wrote it; wrong pairs are refused") {
    const Scratch scratch;
    const std::string lens = kLens(scratch), folder = scratch.path().string();
    const auto file = [&](const char* name) { return (scratch / name).string(); };
    REQUIRE(run("stmap --lens " + lens + " --out-dir " + folder).status == 0);
    const auto read = [&](const std::string& undistort, const std::string& redistort) {
        return run("--json lens maps " + kPlate + " --undistort " + undistort + " --redistort " + redistort +
                   " --focal 28 --out " + file("maps.json"));
    };
    const auto done = read(file("undistort.exr"), file("redistort.exr"));
    INFO(done.err);
    REQUIRE(done.status == 0);
    const json figures = json::parse(done.out);
    CHECK(figures["returns_px"].get<double>() < 0.02);
    CHECK(figures["half"] == false);
    const auto found = readLens(file("maps.json"));
    REQUIRE(found);
    CHECK(found->field);
    CHECK(found->focal_px == Approx(landingLens().focal_px));
    CHECK(mappingError(*found, landingLens()) < 0.005);

    // Undistorted through it, and its own maps again.
    REQUIRE(
        run("undistort " + kPlate + " --lens " + file("maps.json") + " --range 1001-1001 --out " + file("u.####.png"))
            .status == 0);
    const PixelBox box = undistortedBox(landingLens());
    CHECK(std::filesystem::exists(scratch / fmt::format("u.o{}x{}.1001.png", -box.x0, -box.y0)));
    REQUIRE(run("stmap --lens " + file("maps.json") + " --out-dir " + file("again")).status == 0);
    const auto again = readStMap(scratch / "again" / "redistort.exr"), first = readStMap(file("redistort.exr"));
    REQUIRE(again);
    REQUIRE(first);
    float worst = 0;
    for (std::size_t i = 0; i < first->st.size(); ++i) worst = std::max(worst, std::abs(first->st[i] - again->st[i]));
    CHECK(worst * 1280 < 0.01F);

    // Maps of another lens, and of another size.
    Lens stronger = landingLens();
    stronger.k1 *= 1.3;
    const std::string other = scratch.write("other.json", lensJson(stronger)).string();
    REQUIRE(run("stmap --lens " + other + " --out-dir " + file("other")).status == 0);
    checkRefused(read(file("other/undistort.exr"), file("redistort.exr")), 2, "do not undo each other");
    REQUIRE(run("stmap --lens " + lens + " --size 640x360 --out-dir " + file("small")).status == 0);
    checkRefused(read(file("small/undistort.exr"), file("small/redistort.exr")), 2, "640x360, the plate is 1280x720");
    checkRefused(read(file("none.exr"), file("redistort.exr")), 2, "none.exr");
    CHECK(mappingError(*readLens(file("maps.json")), landingLens()) < 0.005);
}

TEST_CASE("lens grid measures OpenCV's photographed chessboards, and refuses what cannot tell") {
    const Scratch scratch;
    const std::string folder = "/usr/share/doc/opencv-doc/examples/data/", out = (scratch / "o.json").string();
    const auto done = run("--json lens grid " + folder + "left0[1-5].jpg " + folder +
                          "left1[1-4].jpg --squares 9x6 --square-size 0.025 --out " + out);
    REQUIRE(done.status == 0);
    const json figures = json::parse(done.out);
    CHECK(figures["views"].size() == 9);
    CHECK(figures["focal_px"].get<double>() == Approx(535.9).epsilon(0.015));
    CHECK(readLens(out));
    checkRefused(run("lens grid " + folder + "left01.jpg --out " + out), 1, "three or more");
    checkRefused(run("lens grid " + folder + "graf1.png --out " + out), 1, "no board");
    checkRefused(run("lens grid " + folder + "left01.jpg --squares nine --out " + out), 2, "--squares nine");
}

TEST_CASE("a plate goes out of its lens and back, through the lens or its maps") {
    const Scratch scratch;
    const std::string lens = kLens(scratch), straight = (scratch / "u.####.exr").string();
    const auto out = run("--json undistort " + kPlate + " --lens " + lens + " --range 1001-1002 --out " + straight);
    REQUIRE(out.status == 0);
    const json figures = json::parse(out.out);
    CHECK(figures["frames"] == 2);
    const PixelBox box = undistortedBox(landingLens());
    CHECK(figures["data_window"] == json({box.x0, box.y0, box.x1, box.y1}));
    REQUIRE(
        run("redistort " + straight + " --lens " + lens + " --size 1280x720 --out " + (scratch / "b.####.png").string())
            .status == 0);
    const auto plate = Plate::open(kPlate);
    const auto back = Plate::open(scratch / "b.1001.png");
    REQUIRE(plate);
    REQUIRE(back);
    const auto a = (*plate)->read(1001), b = (*back)->read(1001);
    REQUIRE(a);
    REQUIRE(b);
    const auto filmed = displayPixels(**a), returned = displayPixels(**b);
    REQUIRE(filmed.size() == returned.size());
    double squares = 0;
    for (std::size_t i = 0; i < filmed.size(); ++i)
        for (const int shift : {0, 8, 16})
            squares += std::pow(double((filmed[i] >> shift) & 0xFF) - double((returned[i] >> shift) & 0xFF), 2);
    CHECK(10 * std::log10(255 * 255 / (squares / double(3 * filmed.size()))) > 38);

    // The same through maps.
    REQUIRE(run("stmap --lens " + lens + " --out-dir " + scratch.path().string()).status == 0);
    REQUIRE(run("undistort " + kPlate + " --map " + (scratch / "undistort.exr").string() + " --range 1001-1001 --out " +
                (scratch / "m.####.exr").string())
                .status == 0);
    const auto one = Plate::open(scratch / "u.1001.exr", {.overscan = true}),
               other = Plate::open(scratch / "m.1001.exr", {.overscan = true});
    REQUIRE(one);
    REQUIRE(other);
    const auto p = (*one)->read(1001), q = (*other)->read(1001);
    REQUIRE((*p)->floats.size() == (*q)->floats.size());
    double worst = 0;
    for (std::size_t i = 0; i < (*p)->floats.size(); ++i)
        worst = std::max(worst, double(std::abs((*p)->floats[i] - (*q)->floats[i])));
    CHECK(worst < 0.02);
}

TEST_CASE(
    "a map of half floats is taken with a word, several samples a pixel give the same picture, a video needs even "
    "sides") {
    const Scratch scratch;
    const std::string lens = kLens(scratch), out = (scratch / "u.####.png").string();
    StMap map = undistortMap(landingLens());
    map.data = {0, 0, 1280, 720};
    map.st.clear();
    for (int y = 0; y < 720; ++y)
        for (int x = 0; x < 1280; ++x) {
            map.st.push_back(float((x + 0.5) / 1280));
            map.st.push_back(float(1 - (y + 0.5) / 720));
        }
    const auto output = OIIO::ImageOutput::create((scratch / "half.exr").string());
    OIIO::ImageSpec spec(1280, 720, 2, OIIO::TypeDesc::HALF);
    spec.channelnames = {"R", "G"};
    REQUIRE(output->open((scratch / "half.exr").string(), spec));
    REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, map.st.data()));
    REQUIRE(output->close());
    const auto half =
        run("undistort " + kPlate + " --map " + (scratch / "half.exr").string() + " --range 1001-1001 --out " + out);
    CHECK(half.status == 0);
    CHECK(half.err.find("half floats") != std::string::npos);
    CHECK(std::filesystem::exists(scratch / "u.1001.png"));  // of the frame's size: nothing in the name
    const auto sampled =
        run("--json undistort " + kPlate + " --lens " + lens + " --overscan none --samples 2 --range 1001-1001 --out " +
            (scratch / "s.####.png").string());
    REQUIRE(sampled.status == 0);
    CHECK(json::parse(sampled.out)["data_window"] == json({0, 0, 1280, 720}));
    CHECK(run("undistort " + kPlate + " --lens " + lens + " --overscan none --range 1001-1003 --out " +
              (scratch / "v.mp4").string())
              .status == 0);
    checkRefused(run("undistort " + kPlate + " --lens " + lens +
                     " --overscan 7 --range 1001-1003 --edges mirrored --filter sharp --out " + out),
                 2, "--filter");
}

TEST_CASE("undistort and redistort refuse what would silently ruin a shot") {
    const Scratch scratch;
    const std::string lens = kLens(scratch), out = (scratch / "u.####.exr").string();
    Lens small = landingLens();
    small.width = 640;
    small.height = 360;
    small.cx = 320;
    small.cy = 180;
    const std::string other = scratch.write("small.json", lensJson(small)).string();
    checkRefused(run("undistort " + kPlate + " --lens " + other + " --out " + out), 2,
                 "640x360, the plate is 1280x720");
    REQUIRE(writeStMap(undistortMap(small), scratch / "small.exr"));
    checkRefused(run("undistort " + kPlate + " --map " + (scratch / "small.exr").string() + " --out " + out), 2,
                 "the map is for 640x360, the plate is 1280x720");
    checkRefused(run("undistort " + kPlate + " --out " + out), 2, "one of --lens, --map and --camera");
    checkRefused(run("undistort " + kPlate + " --lens " + lens + " --map x.exr --out " + out), 2,
                 "one of --lens, --map and --camera");
    checkRefused(run("undistort " + kPlate + " --lens " + lens + " --overscan much --out " + out), 2,
                 "--overscan much");
    checkRefused(run("undistort " + kPlate + " --lens " + lens + " --overscan 9000 --out " + out), 2,
                 "more than four times");
    checkRefused(run("undistort " + kPlate + " --lens " + lens + " --out " + (scratch / "one.exr").string()), 2,
                 "####");
    // Rendered at another size by somebody, its overscan is not known any more.
    REQUIRE(run("undistort " + kPlate + " --lens " + lens + " --range 1001-1001 --out " + out).status == 0);
    checkRefused(
        run("redistort " + out + " --lens " + lens + " --size 1366x768 --out " + (scratch / "b.####.exr").string()), 2,
        "frame is 1280x720");
    checkRefused(run("redistort " + out + " --lens " + other + " --out " + (scratch / "b.####.exr").string()), 2,
                 "640x360, the pictures' frame is 1280x720");
}

TEST_CASE("the demo's chart stills give the landing's lens, by the board and by the lines of the grid") {
    const Scratch scratch;
    const std::string folder = std::string(PINION_SOURCE_DIR) + "/demo/plates/chart/",
                      out = (scratch / "o.json").string();
    const auto truth = readLens(folder + "chart.truth.json");
    REQUIRE(truth);
    CHECK(mappingError(*truth, landingLens()) < 1e-9);
    const auto board = run("--json lens grid " + folder + "board.*.jpg --squares 9x6 --square-size 0.04 --out " + out);
    REQUIRE(board.status == 0);
    const json figures = json::parse(board.out);
    CHECK(figures["views"].size() == 10);
    CHECK(figures["focal_px"].get<double>() == Approx(truth->focal_px).epsilon(0.002));
    CHECK(mappingError(*readLens(out), *truth) < 0.15);
    const std::string lines =
        "lens lines " + folder + "grid.1001.jpg --focal 28 --lines " + folder + "grid.lines.json --out " + out;
    REQUIRE(run(lines).status == 0);
    const double onEdges = mappingError(*readLens(out), *truth);
    CHECK(onEdges < 0.2);
    // The same clicks, 1.2 px beside the lines, as they are.
    REQUIRE(run(lines + " --no-snap").status == 0);
    CHECK(mappingError(*readLens(out), *truth) > 5 * onEdges);
    // Lines over a picture that has no edges there count as clicked, and that is said.
    const auto elsewhere =
        run("lens lines " + folder + "board.1001.jpg --lines " + folder + "grid.lines.json --out " + out);
    CHECK(elsewhere.err.find("no edge was found under it") != std::string::npos);
}
