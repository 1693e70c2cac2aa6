// Rolling shutters on the command line, as a script would call it.

#include "commandline.h"
#include "exchange/formats.h"
#include "lens/stmap.h"

#include <Eigen/Geometry>
#include <nlohmann/json.hpp>

using namespace pinion;
using namespace pinion::test;
using nlohmann::json;

namespace {

const std::string kTelephone = std::string(PINION_SOURCE_DIR) + "/demo/plates/telephone.mp4";

}  // namespace

TEST_CASE("a readout is found, said in the camera, and taken out of the plate row by row") {
    const Scratch scratch;
    const std::string tracks = (scratch / "t.json").string(), camera = (scratch / "c.json").string();
    REQUIRE(run("scatter " + kTelephone + " --features 300 --out " + tracks).status == 0);
    const Outcome solved = run("--json solve " + kTelephone + " --tracks " + tracks + " --out " + camera);
    REQUIRE(solved.status == 0);
    const json figures = json::parse(solved.out);
    CHECK(figures["readout"].get<double>() == Approx(0.62).margin(0.03));
    CHECK(figures["read_by"] == "rows");
    CHECK(figures["readout_deviation"].get<double>() < 0.03);
    const auto file = readCamera(camera);
    REQUIRE(file);
    CHECK(file->readout.share == figures["readout"].get<double>());

    // Given, it is kept to the last digit.
    const std::string given = (scratch / "g.json").string();
    REQUIRE(run("solve " + kTelephone + " --tracks " + tracks + " --rolling 0.62 --out " + given).status == 0);
    CHECK(readCamera(given)->readout.share == 0.62);
    const std::string usd = (scratch / "c.usda").string();
    REQUIRE(run("solve " + kTelephone + " --tracks " + tracks + " --rolling 0.62~0.01 --out " + usd).status == 0);
    CHECK(readFile(usd)->find("double pinion:readout = 0.6") != std::string::npos);

    const std::string out = (scratch / "o.####.exr").string(), maps = (scratch / "m.####.exr").string();
    const std::string undistort = "undistort " + kTelephone + " --camera " + camera + " --range 1030-1031 --out ";
    REQUIRE(run(undistort + out + " --rolling --maps " + maps).status == 0);
    const auto first = readStMap(scratch / "m.1030.exr"), second = readStMap(scratch / "m.1031.exr");
    REQUIRE((first && second));
    CHECK(first->st != second->st);
    CHECK(first->width == 1280);
    CHECK(std::filesystem::exists(scratch / "o.1031.exr"));
    // It is the lens, and what the rows moved: some pixels at the top and bottom, little in the middle.
    REQUIRE(run(undistort + (scratch / "p.####.exr").string()).status == 0);
    const StMap plain = undistortMap(file->lens);
    const auto at = [](const StMap& map, int x, int y) {
        const std::size_t i =
            2 * (std::size_t(y - map.data.y0) * std::size_t(map.data.width()) + std::size_t(x - map.data.x0));
        return Eigen::Vector2d(map.st[i] * 1280, map.st[i + 1] * 720);
    };
    const double top = (at(*first, 640, 20) - at(plain, 640, 20)).norm(),
                 middle = (at(*first, 640, 360) - at(plain, 640, 360)).norm();
    CHECK(top > 1);
    CHECK(middle < 0.3);
    // Back into the rows.
    REQUIRE(run("redistort " + out + " --camera " + camera + " --rolling --out " + (scratch / "b.####.png").string())
                .status == 0);
    CHECK(std::filesystem::exists(scratch / "b.1031.png"));
}

TEST_CASE("words about rolling shutters that mean nothing are refused with what to write") {
    const Scratch scratch;
    const std::string out = " --out " + (scratch / "c.json").string();
    for (const std::string word : {"fast", "1.5", "0.6~0", "0.6~x", "known", "nan", ""})
        checkRefused(run("solve " + kTelephone + " --rolling '" + word + "'" + out), 2,
                     "write none, auto, a share of a frame from -1 to 1");
    const std::string pictures = " --out " + (scratch / "o.####.exr").string();
    checkRefused(run("undistort " + kTelephone + pictures), 2, "give one of --lens, --map and --camera");
    const Lens lens = pinholeLens(1280, 720, 1000);
    const std::string lensFile = scratch.write("l.json", lensJson(lens)).string();
    checkRefused(run("undistort " + kTelephone + " --lens " + lensFile + " --rolling" + pictures), 2,
                 "--rolling needs --camera");
    CameraFile still;
    still.width = 1280;
    still.height = 720;
    still.fps = {30, 1};
    still.lens = lens;
    still.frames.push_back({1001, Eigen::Isometry3d::Identity(), 1000});
    json camera = json::parse(cameraJson(still));
    const std::string atOnce = scratch.write("a.json", camera.dump()).string();
    checkRefused(run("undistort " + kTelephone + " --camera " + atOnce + " --rolling" + pictures), 2,
                 "this camera's sensor is read at once");
    checkRefused(run("undistort " + kTelephone + " --camera " + atOnce + " --maps " +
                     (scratch / "m.####.exr").string() + pictures),
                 2, "--maps needs --rolling");
    camera["solve"]["readout"] = 3;
    checkRefused(run("undistort " + kTelephone + " --camera " + scratch.write("b.json", camera.dump()).string() +
                     " --rolling" + pictures),
                 2, "solve.readout: has to be from -1 to 1");
    camera["solve"]["readout"] = 0.5;
    const std::string rolling = scratch.write("r.json", camera.dump()).string();
    checkRefused(run("undistort " + kTelephone + " --camera " + rolling + " --rolling --maps " +
                     (scratch / "m.exr").string() + " --range 1001-1001" + pictures),
                 2, "write it as maps.####.exr");
}

TEST_CASE("steady and a taken shake straighten the rows of a readout that is told") {
    const Scratch scratch;
    const std::string tracks = (scratch / "t.json").string(), range = " --range 1001-1024";
    REQUIRE(run("scatter " + kTelephone + " --features 200" + range + " --out " + tracks).status == 0);
    const std::string steady = "--json steady " + kTelephone + " --tracks " + tracks + range + " --fit fill --out ";
    const Outcome plain = run(steady + (scratch / "p.####.png").string());
    const Outcome straight = run(steady + (scratch / "s.####.png").string() + " --rolling 0.62");
    INFO(straight.err);
    REQUIRE(plain.status == 0);
    REQUIRE(straight.status == 0);
    const json told = json::parse(straight.out), was = json::parse(plain.out);
    CHECK_FALSE(was.contains("rows_px"));
    // The hand moves the picture by some pixels a frame, and a row is read up to 0.31 of a frame from the middle one.
    CHECK(told["rows_px"].get<double>() > 1);
    CHECK(told["rows_px"].get<double>() < 12);
    CHECK(told["fills"] == true);
    CHECK(told["frames"] == 24);
    CHECK(*readFile(scratch / "p.1012.png") != *readFile(scratch / "s.1012.png"));

    // Put back unchanged it is the plate, whose rows are as they were.
    const Outcome back = run(steady + (scratch / "b.####.png").string() + " --rolling 0.62 --put-back " +
                             (scratch / "s.####.png").string());
    INFO(back.err);
    REQUIRE(back.status == 0);
    CHECK(json::parse(back.out)["unchanged_frames"].size() == 24);

    const std::string take = "--json shake take " + kTelephone + " --tracks " + tracks + range + " --out ";
    const Outcome shake = run(take + (scratch / "a.json").string()),
                  rows = run(take + (scratch / "b.json").string() + " --rolling 0.62");
    REQUIRE(rows.status == 0);
    CHECK(json::parse(rows.out)["shift_rms"] != json::parse(shake.out)["shift_rms"]);
    for (const char* wrong : {"2", "0.6,rows", "fast"}) {
        const Outcome refused = run(steady + (scratch / "x.####.png").string() + " --rolling " + wrong);
        CHECK(refused.status == 2);
        CHECK(refused.err.find("--rolling") != std::string::npos);
    }
}
