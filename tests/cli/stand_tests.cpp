// Stand-ins on the command line, as a script would call it.

#include "commandline.h"
#include "base/files.h"
#include "exchange/formats.h"
#include "plate/plate.h"

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
