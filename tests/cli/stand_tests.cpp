// Stand-ins on the command line, as a script would call it.

#include "commandline.h"
#include "base/files.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "exchange/shotfiles.h"
#include "shot/edits/sceneedits.h"
#include "shot/file/shotfile.h"
#include "plate/plate.h"

#include <OpenImageIO/imageio.h>
#include <nlohmann/json.hpp>

using namespace pinion;
using namespace pinion::test;
using nlohmann::json;

namespace {

const std::string kLanding = std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4";

/// The true camera of the demo's landing as a camera.json.
void writeTrueCamera(const std::filesystem::path& to) {
    const json truth = json::parse(*readFile(std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.truth.json"));
    json frames = json::array();
    for (const json& frame : truth["frames"])
        frames.push_back({{"frame", frame["frame"]},
                          {"world_from_camera", frame["world_from_camera"]},
                          {"focal_mm", truth["focal_mm"]},
                          {"focal_px", truth["lens"]["focal_px"]}});
    const json camera{
        {"format", "pinion.camera"},
        {"version", 1},
        {"width", truth["width"]},
        {"height", truth["height"]},
        {"fps", truth["fps"]},
        {"sensor_width_mm", truth["sensor_width_mm"]},
        {"lens", truth["lens"]},
        {"frames", frames},
        {"points", json::array()},
        {"solve",
         {{"rms_px", 0.1}, {"held_out_rms_px", 0.1}, {"tracks", 100}, {"frames", 120}, {"motion", "travelling"}}}};
    REQUIRE(writeFile(to, camera.dump()));
}

}  // namespace

TEST_CASE("a scene is rendered over a plate and alone, and a pixel that it does not touch is the plate's") {
    const Scratch scratch;
    writeTrueCamera(scratch / "c.json");
    REQUIRE(writeFile(scratch / "s.json", R"({"format":"pinion.scene","version":1,
        "sun":{"towards":[-0.6,1,0.3],"softness":1,"strength":0.7},
        "objects":[{"name":"crate","kind":"box","place":[0.5,0,0],"size":[0.6,0.8,0.6],"colour":[0.9,0.2,0.7]},
                   {"name":"post","kind":"mesh","file":")" +
                                              std::string(PINION_SOURCE_DIR) +
                                              R"(/demo/lamp-post.obj","place":[-0.8,0,0]}]})"));
    const std::string with = " --camera " + (scratch / "c.json").string() + " --scene " +
                             (scratch / "s.json").string() + " --range 1010-1011 --out ";
    const Outcome over = run("--json stand " + kLanding + with + (scratch / "o.####.png").string());
    INFO(over.err);
    REQUIRE(over.status == 0);
    CHECK(json::parse(over.out)["frames"] == 2);
    REQUIRE(run("stand " + kLanding + with + (scratch / "a.####.exr").string() + " --alone").status == 0);
    const auto plate = Plate::open(kLanding), made = Plate::open(scratch / "o.1010.png"),
               alone = Plate::open(scratch / "a.1010.exr");
    REQUIRE((plate && made && alone));
    const auto before = (*plate)->read(1010), after = (*made)->read(1010);
    const auto alpha = (*alone)->readAlpha(1010);
    REQUIRE((before && after && alpha && *alpha));
    std::size_t touched = 0, changed = 0, whole = 0;
    for (std::size_t i = 0; i < (*alpha)->values.size(); ++i) {
        const bool differs = (*before)->bytes[3 * i] != (*after)->bytes[3 * i] ||
                             (*before)->bytes[3 * i + 1] != (*after)->bytes[3 * i + 1];
        if ((*alpha)->values[i] == 0) REQUIRE_FALSE(differs);
        touched += (*alpha)->values[i] > 0;
        whole += (*alpha)->values[i] == 1;
        changed += differs;
    }
    CHECK(whole > 5000);
    CHECK(touched > whole + 1000);  // shadows
    CHECK(changed > 0.9 * double(whole));
}

TEST_CASE("stand refuses what cannot be rendered, with the file, the place and what to do") {
    const Scratch scratch;
    writeTrueCamera(scratch / "c.json");
    const std::string camera = " --camera " + (scratch / "c.json").string(), out = (scratch / "o.####.png").string();
    const auto refused = [&](const std::string& scene, const std::string& words) {
        REQUIRE(writeFile(scratch / "s.json", scene));
        const Outcome outcome = run("stand " + kLanding + camera + " --scene " + (scratch / "s.json").string() +
                                    " --range 1001-1002 --out " + out);
        INFO(outcome.err);
        CHECK(outcome.status == 2);
        CHECK(outcome.err.find(words) != std::string::npos);
    };
    refused(R"({"format":"pinion.scene","version":1,"objects":[]})", "nothing stands in the scene");
    refused(R"({"format":"pinion.scene","version":1,"objects":[{"name":"a","kind":"tree"}]})", "objects[0].kind");
    refused(R"({"format":"pinion.scene","version":2,"objects":[]})", "version");
    refused(R"({"format":"pinion.scene","version":1,"objects":[{"name":"m","kind":"mesh","file":"none.obj"}]})",
            "none.obj: is not there");
    REQUIRE(writeFile(scratch / "s.json",
                      R"({"format":"pinion.scene","version":1,"objects":[{"name":"a","kind":"box"}]})"));
    const std::string scene = " --scene " + (scratch / "s.json").string();
    CHECK(run("stand " + kLanding + scene + " --out " + out).err.find("--camera is missing") != std::string::npos);
    CHECK(run("stand " + kLanding + camera + " --out " + out).err.find("--scene is missing") != std::string::npos);
    // Never over what it reads.
    std::filesystem::copy(kLanding, scratch / "plate.mp4");
    const std::string own = (scratch / "plate.mp4").string();
    const auto before = std::filesystem::file_size(own);
    CHECK(run("stand " + own + camera + scene + " --range 1001-1001 --out " + own).status == 2);
    CHECK(std::filesystem::file_size(own) == before);
    CHECK_FALSE(std::filesystem::exists(scratch / "o.1001.png"));
    // A sun below the horizon is said, and the rest is done.
    REQUIRE(writeFile(scratch / "s.json", R"({"format":"pinion.scene","version":1,"sun":{"towards":[0,-1,0.2]},
        "objects":[{"name":"a","kind":"box"}]})"));
    const Outcome night = run("stand " + kLanding + camera + scene + " --range 1001-1001 --out " + out);
    CHECK(night.status == 0);
    CHECK(night.out.find("below the horizon") != std::string::npos);
}

TEST_CASE("a shot's scene is delivered as glTF and USD that other readers find right") {
    const Scratch scratch;
    const auto plate = Plate::open(kLanding);
    REQUIRE(plate);
    Shot shot = shotOf((*plate)->facts());
    writeTrueCamera(scratch / "c.json");
    const auto camera = readCamera(scratch / "c.json");
    REQUIRE(camera);
    Solve solve = solveOf(*camera);
    solve.tracks = std::vector<SolvedTrack>{{.track = 1, .role = TrackRole::used, .xyz = Eigen::Vector3d(0.5, 0, 0.5)},
                                            {.track = 2, .role = TrackRole::used, .xyz = Eigen::Vector3d(-1, 0, 1)}};
    shot.solve = std::make_shared<const Solve>(solve);
    for (const StandInKind kind :
         {StandInKind::board, StandInKind::box, StandInKind::cone, StandInKind::ball, StandInKind::figure,
          StandInKind::grid, StandInKind::text, StandInKind::mesh, StandInKind::card, StandInKind::locator}) {
        StandIn one;
        one.kind = kind;
        one.stance = {{0.3 * double(kind), 0, 0}, {0, 15, 0}, usualSize(kind)};
        one.words = "Ternholm";
        if (kind == StandInKind::mesh) one.file = std::string(PINION_SOURCE_DIR) + "/demo/lamp-post.obj";
        if (kind == StandInKind::card) one.file = kLanding;
        if (kind == StandInKind::box)
            one.keys = std::vector<StanceKey>{{1005, one.stance}, {1060, {{2, 0, 1}, {0, 0, 0}, {1, 1, 1}}}};
        one.card.facesCamera = kind == StandInKind::text;
        one.opacity = kind == StandInKind::ball ? 0.5 : 1;
        shot = withStandInAdded(shot, one);
    }
    // A mesh of two pictures and a plain part, and a card that shows numbered pictures.
    for (const char* name : {"planks.png", "tar.png", "walk.0001.png", "walk.0002.png", "walk.0004.png"}) {
        const auto file = OIIO::ImageOutput::create((scratch / name).string());
        REQUIRE((file && file->open((scratch / name).string(), OIIO::ImageSpec(8, 8, 3, OIIO::TypeDesc::UINT8))));
        REQUIRE(file->write_image(OIIO::TypeDesc::UINT8, std::vector<std::uint8_t>(8 * 8 * 3, 120).data()));
        REQUIRE(file->close());
    }
    REQUIRE(writeFile(scratch / "crate.mtl",
                      "newmtl a\nmap_Kd planks.png\nnewmtl b\nmap_Kd tar.png\nnewmtl c\nKd 1 0 0\n"));
    REQUIRE(writeFile(scratch / "crate.obj",
                      "mtllib crate.mtl\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 1\nvt 0 0\nvt 2 0\nvt 2 2\n"
                      "usemtl a\nf 1/1 2/2 3/3\nusemtl b\nf 1/1 3/2 4/3\nusemtl c\nf 1/1 5/2 6/3\n"));
    StandIn crate;
    crate.kind = StandInKind::mesh;
    crate.name = "crate";
    crate.file = scratch / "crate.obj";
    shot = withStandInAdded(shot, crate);
    StandIn walker;
    walker.kind = StandInKind::card;
    walker.name = "walker";
    walker.file = scratch / "walk.####.png";
    walker.card.time.start = 1003;
    shot = withStandInAdded(shot, walker);
    REQUIRE(saveShot(shot, scratch / "s.pinion"));
    const std::string to = " --out-dir " + scratch.path().string();
    const Outcome glb = run("deliver " + (scratch / "s.pinion").string() + " --only 'scene for CG'" + to);
    INFO(glb.err);
    REQUIRE(glb.status == 0);
    const Outcome usd = run("deliver " + (scratch / "s.pinion").string() + " --only 'camera for CG'" + to);
    INFO(usd.err);
    REQUIRE(usd.status == 0);
    REQUIRE(run("deliver " + (scratch / "s.pinion").string() + " --only 'camera data'" + to).status == 0);
    // A locator is a named place without a shape.
    CHECK_THAT(*readFile(scratch / "landing.usda"), Catch::Contains("def Xform \"locator_1\""));
    const std::string glbText = *readFile(scratch / "landing.glb"), usdText = *readFile(scratch / "landing.usda");
    CHECK_THAT(glbText, Catch::Contains("\"name\":\"locator 1\""));
    // Each picture lies on its own triangles, and is repeated.
    CHECK_THAT(glbText, Catch::Contains("\"name\":\"crate 1\"") && Catch::Contains("\"name\":\"crate 2\"") &&
                            Catch::Contains("\"wrapS\":10497"));
    CHECK_THAT(usdText, Catch::Contains("asset inputs:file = @" + (scratch / "planks.png").string() + "@") &&
                            Catch::Contains("asset inputs:file = @" + (scratch / "tar.png").string() + "@") &&
                            Catch::Contains("def GeomSubset \"Part2\"") && Catch::Contains("wrapS = \"repeat\""));
    // The third picture is not there: the second stays until the fourth.
    CHECK_THAT(usdText, Catch::Contains("1003: @" + (scratch / "walk.0001.png").string() + "@") ||
                            Catch::Contains("1001: @" + (scratch / "walk.0001.png").string() + "@"));
    CHECK_THAT(usdText, Catch::Contains("1004: @" + (scratch / "walk.0002.png").string() + "@") &&
                            Catch::Contains("1006: @" + (scratch / "walk.0004.png").string() + "@"));
    const std::string node = std::string(PINION_BINARY_DIR) + "/node",
                      tests = std::string(PINION_SOURCE_DIR) + "/tests/node/";
    const auto isRight = [&](const std::string& words) {
        return std::system(("PINION_NODE_DIR=" + node + " node " + tests + words).c_str()) == 0;
    };
    if (!std::filesystem::exists(node + "/node_modules/gltf-validator")) {
        WARN("node or its packages are not here: glTF and USD were not read by other readers");
        return;
    }
    CHECK(isRight("check_gltf.mjs " + (scratch / "landing.glb").string()));
    CHECK(isRight("check_usd.mjs " + (scratch / "landing.usda").string() + " " +
                  (scratch / "landing.camera.json").string() + " 11"));
}

TEST_CASE("passes, motion blur and the undistorted scene are asked for by words, and refused by what they lack") {
    const Scratch scratch;
    writeTrueCamera(scratch / "c.json");
    REQUIRE(writeFile(scratch / "s.json", R"({"format":"pinion.scene","version":1,
        "objects":[{"name":"crate","kind":"box","place":[0.5,0,0],"size":[0.6,0.8,0.6]},
                   {"name":"sign","kind":"text","text":"Ternholm","place":[-0.8,0.5,0],"faces_camera":true}]})"));
    const std::string with = "stand " + kLanding + " --camera " + (scratch / "c.json").string() + " --scene " +
                             (scratch / "s.json").string() + " --range 1010-1010 --out ";
    const Outcome passes =
        run(with + (scratch / "p.####.exr").string() + " --alone --passes depth,normal --shutter 0.5");
    INFO(passes.err);
    REQUIRE(passes.status == 0);
    CHECK(std::filesystem::file_size(scratch / "p.1010.exr") > 1000);
    REQUIRE(run(with + (scratch / "u.####.exr").string() + " --alone --undistorted").status == 0);
    const auto wide = Plate::open(scratch / "u.1010.exr", {.overscan = true});
    REQUIRE(wide);
    CHECK((*wide)->facts().width > 1280);
    checkRefused(run(with + (scratch / "p.####.exr").string() + " --alone --passes depths"), 2,
                 "'depths' is not known; there are shadow, depth, position, normal, mask");
    checkRefused(run(with + (scratch / "p.####.png").string() + " --alone --passes depth"), 2, "layers of EXR");
    checkRefused(run(with + (scratch / "p.####.exr").string() + " --undistorted"), 2, "alone");
    REQUIRE(run(with + (scratch / "r.####.png").string() + " --review").status == 0);
    checkRefused(run(with + (scratch / "r.####.png").string() + " --review --alone"), 2, "leave --alone away");
    // Its foot is dark where the plate's is not.
    const auto review = Plate::open(scratch / "r.1010.png"), filmed = Plate::open(kLanding);
    REQUIRE((review && filmed));
    const auto burnt = (*review)->read(1010), own = (*filmed)->read(1010);
    REQUIRE((burnt && own));
    const std::size_t foot = 3 * (std::size_t(717) * 1280 + 300), above = 3 * (std::size_t(690) * 1280 + 300);
    CHECK((*burnt)->bytes[foot] < 0.5 * (*own)->bytes[foot]);
    CHECK((*burnt)->bytes[above] == (*own)->bytes[above]);
}

TEST_CASE("a matte and a picture of one frame are thrown on to the ground, and refused by what they lack") {
    const Scratch scratch;
    writeTrueCamera(scratch / "c.json");
    REQUIRE(writeFile(scratch / "m.json", R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"puddle",
        "mode":"include","op":"add","keys":[{"frame":1010,"polygon":[[500,560],[760,560],[760,660],[500,660]]}]}]})"));
    REQUIRE(writeFile(scratch / "s.json", R"({"format":"pinion.scene","version":1,"objects":[{"name":"crate",
        "kind":"box","place":[0.5,0,0],"size":[0.6,0.8,0.6]}]})"));
    const std::string camera = " --camera " + (scratch / "c.json").string(),
                      mattes = " --mattes " + (scratch / "m.json").string(),
                      out = " --out " + (scratch / "o.####.exr").string();
    const Outcome done = run("--json project " + kLanding + camera + mattes + " --from 1010 --range 1010-1012" + out);
    INFO(done.err);
    REQUIRE(done.status == 0);
    const json figures = json::parse(done.out);
    CHECK(figures["frames"] == 3);
    CHECK(figures["empty"].empty());
    const auto made = Plate::open(scratch / "o.####.exr");
    REQUIRE(made);
    const auto alphaOf = [&](int frame, int x, int y) {
        const auto alpha = (*made)->readAlpha(frame);
        REQUIRE(alpha);
        REQUIRE(*alpha);
        return (**alpha).values[std::size_t(y) * 1280 + std::size_t(x)];
    };
    CHECK(alphaOf(1010, 630, 610) == Approx(1).margin(0.01));
    CHECK(alphaOf(1010, 480, 610) == Approx(0).margin(0.01));
    CHECK(alphaOf(1012, 630, 610) == Approx(1).margin(0.01));
    const auto refused = [&](const std::string& words) {
        const Outcome outcome = run("project " + kLanding + words + out);
        CHECK(outcome.status == 2);
        return outcome.err;
    };
    CHECK(refused(camera + " --from 1010").find("either --art or --mattes") != std::string::npos);
    CHECK(refused(mattes + " --from 1010").find("--camera is missing") != std::string::npos);
    CHECK(refused(camera + mattes + " --from 1500").find("frame 1500 has no camera") != std::string::npos);
    CHECK(refused(camera + mattes + " --from 1010 --onto wall").find("'wall' is not known") != std::string::npos);
    CHECK(refused(camera + mattes + " --from 1010 --onto 0,0,500,0,0,1").find("not seen on frame 1010") !=
          std::string::npos);
    CHECK(refused(camera + mattes + " --from 1010 --onto 0,0,0,0,0,0").find("a normal of 0") != std::string::npos);
    CHECK(
        refused(camera + mattes + " --from 1010 --onto wall --scene " + (scratch / "s.json").string()).find("crate") !=
        std::string::npos);
    CHECK(refused(camera + " --from 1010 --art " + std::string(PINION_SOURCE_DIR) + "/demo/timetable.png")
              .find("does not fill a plate of 1280x720") != std::string::npos);
    CHECK(run("project " + kLanding + camera + mattes + " --from 1010 --range 1010-1010 --onto crate --scene " +
              (scratch / "s.json").string() + out)
              .status == 0);
}

TEST_CASE("what the frames show of a grid on the ground is gathered as one picture") {
    const Scratch scratch;
    writeTrueCamera(scratch / "c.json");
    REQUIRE(writeFile(scratch / "s.json", R"({"format":"pinion.scene","version":1,"objects":[{"name":"deck",
        "kind":"grid","place":[0.5,0,0.5],"size":[2,1,1]},{"name":"crate","kind":"box"}]})"));
    const std::string with = "project " + kLanding + " --camera " + (scratch / "c.json").string() + " --scene " +
                             (scratch / "s.json").string() + " --range 1001-1010 --out ",
                      out = (scratch / "deck.png").string();
    const Outcome done = run("--json " + with + out + " --gather deck --pixels 60");
    INFO(done.err);
    REQUIRE(done.status == 0);
    const json figures = json::parse(done.out);
    CHECK(figures["width"] == 120);
    CHECK(figures["height"] == 60);
    CHECK(figures["frames"] == 10);
    CHECK(figures["seen"].get<double>() > 0.5);
    CHECK(std::filesystem::exists(out));
    CHECK(run(with + out + " --gather wall").err.find("no stand-in is named 'wall'") != std::string::npos);
    CHECK(run(with + out + " --gather crate").err.find("is not flat") != std::string::npos);
    CHECK(run(with + out + " --gather deck --art x.png --from 1").status == 2);
}
