// planar and pin, as a script would call them, on the board plate beside its truth.

#include "commandline.h"
#include "scratch.h"

#include <catch2/catch.hpp>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace pinion;
using nlohmann::json;

namespace {

const std::string kBoardPlate = std::string(PINION_SOURCE_DIR) + "/demo/plates/board.mp4";

json truthOfBoard() {
    std::ifstream file(std::string(PINION_SOURCE_DIR) + "/demo/plates/board.truth.json");
    REQUIRE(file);
    return json::parse(file);
}

json cornersOf(const json& truth, int frame) {
    for (const json& one : truth["marked"]["frames"])
        if (one["frame"] == frame) {
            json corners = json::array();
            for (const json& place : one["places"]) corners.push_back({place[0], place[1]});
            return corners;
        }
    return {};
}

void write(const std::filesystem::path& path, const json& contents) { std::ofstream(path) << contents.dump(); }

json cornersFile(int frame, const json& corners) {
    return {{"format", "pinion.corners"}, {"version", 1}, {"frames", {{{"frame", frame}, {"corners", corners}}}}};
}

double apart(const json& a, const json& b) {
    double sum = 0;
    for (std::size_t i = 0; i < 4; ++i)
        sum += std::pow(a[i][0].get<double>() - b[i][0].get<double>(), 2) +
               std::pow(a[i][1].get<double>() - b[i][1].get<double>(), 2);
    return std::sqrt(sum / 4);
}

}  // namespace

TEST_CASE("the notice board is tracked from the middle both ways, through its lens") {
    const test::Scratch scratch;
    const json truth = truthOfBoard();
    write(scratch / "board.json", cornersFile(1050, cornersOf(truth, 1050)));
    write(scratch / "lens.json", truth["lens"]);
    const auto run =
        test::run("--json planar " + kBoardPlate + " --outline " + (scratch / "board.json").string() + " --lens " +
                  (scratch / "lens.json").string() + " --range 1042-1058 --out " + (scratch / "out.json").string());
    INFO(run.err);
    REQUIRE(run.status == 0);
    const json figures = json::parse(run.out);
    CHECK(figures["frames"] == 17);
    CHECK(figures["motion"] == "perspective");
    CHECK(figures["after"] == "end of the range");
    std::ifstream file(scratch / "out.json");
    const json out = json::parse(file);
    CHECK(out["format"] == "pinion.corners");
    double worst = 0;
    for (const json& frame : out["frames"])
        worst = std::max(worst, apart(frame["corners"], cornersOf(truth, frame["frame"])));
    CHECK(worst < 0.3);
}

TEST_CASE("the corners that are wanted are another thing than the outline, and may be placed on another frame") {
    const test::Scratch scratch;
    const json truth = truthOfBoard();
    // Tracked by a part of the board, drawn roughly as a shape with a hole.
    const json shape = {
        {"format", "pinion.mattes"},
        {"version", 1},
        {"shapes",
         {{{"name", "sheet"}, {"mode", "exclude"}, {"keys", {{{"frame", 1050}, {"polygon", cornersOf(truth, 1050)}}}}},
          {{"name", "stamp"},
           {"mode", "exclude"},
           {"op", "subtract"},
           {"keys", {{{"frame", 1050}, {"polygon", {{640, 300}, {700, 300}, {700, 340}, {640, 340}}}}}}}}}};
    write(scratch / "shapes.json", shape);
    write(scratch / "wanted.json", cornersFile(1056, cornersOf(truth, 1056)));
    const auto run = test::run("planar " + kBoardPlate + " --outline " + (scratch / "shapes.json").string() +
                               " --surface " + (scratch / "wanted.json").string() + " --range 1048-1058 --out -");
    INFO(run.err);
    REQUIRE(run.status == 0);
    const json out = json::parse(run.out);
    REQUIRE(out["frames"].size() == 11);
    for (const json& frame : out["frames"]) {
        if (frame["frame"] == 1056) CHECK(apart(frame["corners"], cornersOf(truth, 1056)) < 1e-4);
        CHECK(apart(frame["corners"], cornersOf(truth, frame["frame"])) < 0.5);
    }
}

TEST_CASE("outlines that cannot be meant are refused by planar, naming file and place") {
    const test::Scratch scratch;
    const auto refused = [&](const json& outline, int status) {
        write(scratch / "outline.json", outline);
        const auto run = test::run("planar " + kBoardPlate + " --outline " + (scratch / "outline.json").string() +
                                   " --range 1048-1052 --out " + (scratch / "out.json").string());
        CHECK(run.status == status);
        CHECK_FALSE(std::filesystem::exists(scratch / "out.json"));
        return run.err;
    };
    const json three = {{100, 100}, {200, 100}, {200, 200}};
    CHECK(refused(cornersFile(1050, three), 2).find("has 3 corners; a surface has four") != std::string::npos);
    const json crossed = {{100, 100}, {200, 200}, {200, 100}, {100, 200}};
    CHECK(refused(cornersFile(1050, crossed), 2).find("its edges cross") != std::string::npos);
    const json outside = {{-300, 100}, {-100, 100}, {-100, 200}, {-300, 200}};
    CHECK(refused(cornersFile(1050, outside), 2).find("the outline lies outside the frame of 1280x720") !=
          std::string::npos);
    const json good = {{460, 220}, {860, 220}, {860, 480}, {460, 480}};
    CHECK(refused(cornersFile(1001, good), 2).find("the reference frame 1001 lies outside the frames 1048-1052") !=
          std::string::npos);
    CHECK(refused({{"format", "pinion.points"}, {"version", 1}}, 2).find("outline.json") != std::string::npos);
}

TEST_CASE("planar follows the bollard as a cylinder, and tells its turn") {
    // Sides and outline as an artist would draw them on the middle frame, a pixel or two off; no lens is known.
    const test::Scratch scratch;
    const std::string call = "--json planar " + std::string(PINION_SOURCE_DIR) + "/demo/plates/bollard.mp4 --outline " +
                             std::string(PINION_SOURCE_DIR) + "/demo/bollard.outline.json --range 1022-1038 --out " +
                             (scratch / "out.json").string() + " --cylinder ";
    const auto run = test::run(call + std::string(PINION_SOURCE_DIR) + "/demo/bollard.sides.json");
    INFO(run.err);
    REQUIRE(run.status == 0);
    CHECK(json::parse(run.out)["motion"] == "cylinder");
    std::ifstream file(scratch / "out.json");
    const json frames = json::parse(file)["frames"];
    REQUIRE(frames.size() == 17);
    // The camera goes round it at (0.35, 1.9), seen from above; the truth has where it stands.
    std::ifstream truthFile(std::string(PINION_SOURCE_DIR) + "/demo/plates/bollard.truth.json");
    const json truth = json::parse(truthFile);
    const auto round = [&](int frame) {
        for (const json& one : truth["frames"])
            if (one["frame"] == frame) {
                const auto pose = one["world_from_camera"].get<std::vector<double>>();
                return std::atan2(pose[3] - 0.35, pose[11] - 1.9) * 180 / M_PI;
            }
        return 0.0;
    };
    for (const json& frame : frames)
        CHECK(frame["turn_deg"].get<double>() == Approx(round(1030) - round(frame["frame"].get<int>())).margin(0.5));
    // What no cylinder has, or is drawn elsewhere.
    write(scratch / "elsewhere.json", cornersFile(1025, {{453, 171}, {813, 168}, {787, 610}, {482, 613}}));
    const auto elsewhere = test::run(call + (scratch / "elsewhere.json").string());
    CHECK(elsewhere.status == 2);
    CHECK(elsewhere.err.find("wanted on the reference frame 1030") != std::string::npos);
    const auto missing = test::run(call + (scratch / "none.json").string());
    CHECK(missing.status == 2);
    CHECK(missing.err.find("none.json") != std::string::npos);
}

TEST_CASE("four point tracks become corners, put in order") {
    const test::Scratch scratch;
    json tracks = {{"format", "pinion.tracks"}, {"version", 1}, {"width", 1280}, {"height", 720}, {"fps", 24.0}};
    const double places[4][2] = {{700, 400}, {300, 120}, {310, 410}, {690, 130}};
    for (int i = 0; i < 4; ++i) {
        json samples = json::array();
        for (int frame = 1001; frame <= 1010; ++frame)
            samples.push_back({{"frame", frame},
                               {"x", places[i][0] + 2 * (frame - 1001)},
                               {"y", places[i][1] - (frame - 1001)},
                               {"score", 1.0}});
        tracks["tracks"].push_back({{"name", "p" + std::to_string(i + 1)}, {"samples", samples}});
    }
    write(scratch / "tracks.json", tracks);
    const auto pin = [&](const std::string& names) {
        return test::run("pin " + kBoardPlate + " --tracks " + (scratch / "tracks.json").string() + " --names " +
                         names + " --out -");
    };
    const auto run = pin("p1,p2,p3,p4");
    INFO(run.err);
    REQUIRE(run.status == 0);
    const json out = json::parse(run.out);
    REQUIRE(out["frames"].size() == 10);
    const json expected = {{318, 111}, {708, 121}, {718, 391}, {328, 401}};
    CHECK(apart(out["frames"][9]["corners"], expected) < 1e-3);
    CHECK(pin("p1,p2,p3").err.find("four corners, 3 tracks are named") != std::string::npos);
    CHECK(pin("p1,p2,p3,nobody").err.find("there is no track 'nobody'") != std::string::npos);
    CHECK(pin("p1,p2,p3,nobody").status == 2);
}
