// insert, as a script would call it, on the board plate.

#include "commandline.h"
#include "plate/framewriter.h"
#include "plate/plate.h"
#include "plate/still.h"
#include "scratch.h"

#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace pinion;
using nlohmann::json;

namespace {

const std::string kBoard = std::string(PINION_SOURCE_DIR) + "/demo/plates/board.mp4";

void writeCorners(const std::filesystem::path& path, int first, int last) {
    json frames = json::array();
    for (int frame = first; frame <= last; ++frame)
        frames.push_back({{"frame", frame}, {"corners", {{500, 260}, {700, 260}, {700, 400}, {500, 400}}}});
    std::ofstream(path) << json{{"format", "pinion.corners"}, {"version", 1}, {"frames", frames}}.dump();
}

void writeArt(const std::filesystem::path& pattern, const Plane* alpha = nullptr) {
    Picture art{40, 28, Picture::Depth::bits8, false, {}, {}};
    for (int i = 0; i < 40 * 28; ++i) art.bytes.insert(art.bytes.end(), {240, 20, 60});
    auto writer = FrameWriter::create(pattern, 40, 28, {24, 1});
    REQUIRE(writer);
    REQUIRE((alpha ? (*writer)->write(1, art, *alpha, AlphaKind::straight) : (*writer)->write(1, art)));
}

}  // namespace

TEST_CASE("a picture is put on four corners, and the plate about it stays itself") {
    const test::Scratch scratch;
    writeCorners(scratch / "c.json", 1049, 1051);
    writeArt(scratch / "art.####.png");
    const std::string call = "--json insert " + kBoard + " --corners " + (scratch / "c.json").string() + " --art " +
                             (scratch / "art.0001.png").string() + " --range 1048-1051";
    const auto run = test::run(call + " --out " + (scratch / "o.####.png").string());
    INFO(run.err);
    REQUIRE(run.status == 0);
    CHECK(json::parse(run.out)["frames"] == 4);
    const auto plate = Plate::open(kBoard, {.firstFrameOfVideo = 1001});
    REQUIRE(plate);
    for (const int frame : {1048, 1050}) {
        const auto before = (*plate)->read(frame), after = readStill(scratch / fmt::format("o.{}.png", frame));
        REQUIRE(before);
        REQUIRE(after);
        int differ = 0, red = 0;
        for (int y = 0; y < 720; ++y)
            for (int x = 0; x < 1280; ++x) {
                const auto i = 3 * (std::size_t(y) * 1280 + std::size_t(x));
                const bool inside = x >= 500 && x < 700 && y >= 260 && y < 400;
                const bool same = std::equal(&(*before)->bytes[i], &(*before)->bytes[i] + 3, &(*after)->bytes[i]);
                if (!inside) differ += !same;
                else red += (*after)->bytes[i] == 240 && (*after)->bytes[i + 1] == 20;
            }
        CHECK(differ == 0);
        CHECK(red == (frame == 1048 ? 0 : 200 * 140));
    }
    // Alone, with its alpha.
    REQUIRE(test::run(call + " --alone --opacity 0.5 --out " + (scratch / "a.####.exr").string()).status == 0);
    const auto alone = Plate::open(scratch / "a.####.exr");
    REQUIRE(alone);
    const auto alpha = (*alone)->readAlpha(1050);
    REQUIRE(alpha);
    REQUIRE(*alpha);
    CHECK((**alpha).row(300)[600] == Approx(0.5F));
    CHECK((**alpha).row(100)[600] == 0.0F);
}

TEST_CASE("a video with an insert is as long as its plate, whatever is missing of that") {
    const test::Scratch scratch;
    {
        auto writer = FrameWriter::create(scratch / "p.####.png", 64, 48, {24, 1});
        REQUIRE(writer);
        for (const int frame : {1, 2, 4, 5}) {
            Picture grey{64, 48, Picture::Depth::bits8, false, std::vector<std::uint8_t>(64 * 48 * 3, 90), {}};
            REQUIRE((*writer)->write(frame, grey));
        }
    }
    std::ofstream(scratch / "c.json")
        << R"({"format":"pinion.corners","version":1,"frames":[{"frame":1,"corners":[[8,8],[40,8],[40,32],[8,32]]}]})";
    writeArt(scratch / "art.####.png");
    const auto run =
        test::run("--json insert " + (scratch / "p.####.png").string() + " --corners " + (scratch / "c.json").string() +
                  " --art " + (scratch / "art.0001.png").string() + " --out " + (scratch / "o.mp4").string());
    INFO(run.err);
    REQUIRE(run.status == 0);
    CHECK(json::parse(run.out)["missing"] == json::array({3}));
    const auto made = Plate::open(scratch / "o.mp4");
    REQUIRE(made);
    CHECK((*made)->facts().lastFrame - (*made)->facts().firstFrame == 4);
}

TEST_CASE("what insert cannot use is refused, naming the file") {
    const test::Scratch scratch;
    writeCorners(scratch / "c.json", 1049, 1051);
    const auto refused = [&](const std::string& words) {
        const auto run = test::run("insert " + kBoard + " --corners " + (scratch / "c.json").string() + " --out " +
                                   (scratch / "o.####.png").string() + " " + words);
        CHECK(run.status == 2);
        return run.err;
    };
    CHECK(refused("--art " + (scratch / "none.png").string()).find("none.png") != std::string::npos);
    writeArt(scratch / "art.####.png");
    const std::string art = "--art " + (scratch / "art.0001.png").string();
    CHECK(refused(art + " --range 1001-1004").find("there are no corners on the frames 1001-1004") !=
          std::string::npos);
    CHECK(refused(art + " --blend dodge").find("--blend") != std::string::npos);
    // A TIFF does not say what its alpha has done to its colours.
    const Plane half(40, 28, 0.5F);
    writeArt(scratch / "art.####.tif", &half);
    const std::string tiff = "--art " + (scratch / "art.0001.tif").string() + " --range 1049-1049";
    CHECK(refused(tiff).find("say premultiplied or straight") != std::string::npos);
    CHECK(test::run("insert " + kBoard + " --corners " + (scratch / "c.json").string() + " --out " +
                    (scratch / "o.####.png").string() + " " + tiff + " --alpha straight")
              .status == 0);
}
