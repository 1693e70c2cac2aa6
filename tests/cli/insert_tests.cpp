// insert, as a script would call it, on the board plate.

#include "commandline.h"
#include "plate/framewriter.h"
#include "plate/plate.h"
#include "plate/still.h"
#include "scratch.h"
#include "shot/edits/insertedits.h"
#include "shot/file/shotfile.h"

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

void writeArt(const std::filesystem::path& pattern, const ImageChannel* alpha = nullptr) {
    Picture art{40, 28, Picture::Depth::bits8, false, {}, {}};
    for (int i = 0; i < 40 * 28; ++i) art.bytes.insert(art.bytes.end(), {240, 20, 60});
    auto writer = FrameWriter::create(pattern, 40, 28, {24, 1});
    REQUIRE(writer);
    REQUIRE((alpha ? (*writer)->write(1, art, *alpha, AlphaKind::straight, AlphaKind::straight)
                   : (*writer)->write(1, art)));
}

/// A shot over p.####.png with a red tint in a part of the frame, saved.
std::filesystem::path shotWithTint(const test::Scratch& scratch) {
    const auto plate = Plate::open(scratch / "p.####.png");
    REQUIRE(plate);
    Shot shot;
    shot.name = "quay";
    shot.plate = plateRef((*plate)->facts());
    Insert tint;
    tint.shows = Insert::Shows::colour;
    tint.colour = {1, 0, 0};
    InsertId id = 0;
    shot = withInsertAdded(shot, tint, 1, &id);
    shot = withInsertEdited(shot, id, [](Insert& insert) {
        insert.placing.centre = {0.4, 0.4};
        insert.placing.scale = {0.5, 0.5};
    });
    const auto file = scratch / "quay.pinion";
    REQUIRE(saveShot(shot, file));
    return file;
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

TEST_CASE("a shot's own inserts are rendered from the command line, and a sequence that ended early goes on") {
    const test::Scratch scratch;
    {
        auto writer = FrameWriter::create(scratch / "p.####.png", 64, 48, {24, 1});
        REQUIRE(writer);
        for (int frame = 1; frame <= 5; ++frame)
            REQUIRE((*writer)->write(
                frame, Picture{64, 48, Picture::Depth::bits8, false, std::vector<std::uint8_t>(64 * 48 * 3, 90), {}}));
        REQUIRE((*writer)->finish());
    }
    const auto file = shotWithTint(scratch);
    const std::string call = "--json insert " + file.string() + " --out " + (scratch / "o.####.png").string();
    const auto run = test::run(call);
    INFO(run.err);
    REQUIRE(run.status == 0);
    CHECK(json::parse(run.out)["frames"] == 5);
    const auto made = readStill(scratch / "o.0003.png");
    REQUIRE(made);
    const auto at = [&](int x, int y) { return &(*made)->bytes[std::size_t(3 * (64 * y + x))]; };
    CHECK(int(at(25, 20)[0]) == 255);
    CHECK(int(at(25, 20)[1]) == 0);
    CHECK(int(at(50, 40)[0]) == 90);
    // A part of it, alone.
    const auto alone =
        test::run("--json insert " + file.string() + " --alone --range 2-3 --out " + (scratch / "a.####.exr").string());
    INFO(alone.err);
    REQUIRE(alone.status == 0);
    CHECK(json::parse(alone.out)["frames"] == 2);
    const auto layer = Plate::open(scratch / "a.####.exr");
    REQUIRE(layer);
    CHECK((*layer)->facts().firstFrame == 2);
    const auto alpha = (*layer)->readAlpha(2);
    REQUIRE(alpha);
    REQUIRE(*alpha);
    CHECK((**alpha).row(20)[25] == 1.0F);
    CHECK((**alpha).row(40)[50] == 0.0F);
    // What belongs to a plate is no word for a shot, nor the other way round.
    const auto mixed = test::run("insert " + file.string() + " --art x.png --out " + (scratch / "m.####.png").string());
    CHECK(mixed.status == 2);
    CHECK(mixed.err.find("a shot has its own inserts") != std::string::npos);
    const auto bare = test::run("insert " + kBoard + " --out " + (scratch / "m.####.png").string());
    CHECK(bare.status == 2);
    CHECK(bare.err.find("--corners is missing") != std::string::npos);
    // A part that lies outside, a plate that has another size by now.
    const auto outside =
        test::run("insert " + file.string() + " --range 4-9 --out " + (scratch / "m.####.png").string());
    CHECK(outside.status == 2);
    CHECK(outside.err.find("--range 4-9") != std::string::npos);
    {
        auto writer = FrameWriter::create(scratch / "r.####.png", 32, 24, {24, 1});
        REQUIRE(writer);
        REQUIRE((*writer)->write(
            1, Picture{32, 24, Picture::Depth::bits8, false, std::vector<std::uint8_t>(32 * 24 * 3, 90), {}}));
        REQUIRE((*writer)->finish());
    }
    auto other = loadShot(file);
    REQUIRE(other);
    other->plate.path = scratch / "r.####.png";
    REQUIRE(saveShot(*other, scratch / "other.pinion"));
    const auto resized =
        test::run("insert " + (scratch / "other.pinion").string() + " --out " + (scratch / "m.####.png").string());
    CHECK(resized.status == 2);
    CHECK(resized.err.find("is 32x24, the shot's plate was 64x48") != std::string::npos);
    // Over its own plate it is not written.
    CHECK(test::run("insert " + file.string() + " --out " + (scratch / "p.####.png").string()).status == 2);
}

TEST_CASE("a disk that fills in the middle of a render leaves whole frames, says so, and rendering goes on there") {
    const test::Scratch scratch;
    {
        // Frames that grow: the fourth does not fit below the limit.
        auto writer = FrameWriter::create(scratch / "p.####.png", 128, 96, {24, 1});
        REQUIRE(writer);
        std::uint32_t seed = 7;
        for (int frame = 1; frame <= 6; ++frame) {
            Picture picture{128, 96, Picture::Depth::bits8, false, std::vector<std::uint8_t>(128 * 96 * 3, 90), {}};
            for (auto& byte : picture.bytes) {
                seed = seed * 1664525U + 1013904223U;
                if (frame >= 4) byte = std::uint8_t(seed >> 24);
            }
            REQUIRE((*writer)->write(frame, picture));
        }
        REQUIRE((*writer)->finish());
    }
    const auto file = shotWithTint(scratch);
    const std::string call = "--threads 1 insert " + file.string() + " --out " + (scratch / "out/o.####.png").string();
    std::filesystem::create_directories(scratch / "out");
    // No file may be larger than 16 KiB (POSIX counts in 512 bytes): to the program that is a write that fails, as on a
    // disk that is full.
    const auto full = test::run(call, "ulimit -f 32; trap '' XFSZ; ");
    CHECK(full.status != 0);
    INFO(full.err);
    CHECK(full.err.find("o.0004.png") != std::string::npos);
    CHECK(full.err.find("the frames before it are kept, and rendering goes on there") != std::string::npos);
    for (int frame = 1; frame <= 3; ++frame) CHECK(readStill(frameFile(scratch / "out/o.####.png", frame)));
    CHECK_FALSE(std::filesystem::exists(scratch / "out/o.0004.png"));
    const auto kept = std::filesystem::last_write_time(scratch / "out/o.0001.png");
    const auto on = test::run("--json " + call);
    INFO(on.err);
    REQUIRE(on.status == 0);
    CHECK(json::parse(on.out)["kept"] == 3);
    CHECK(json::parse(on.out)["frames"] == 3);
    CHECK(std::filesystem::last_write_time(scratch / "out/o.0001.png") == kept);
    CHECK(readStill(scratch / "out/o.0006.png"));
    // Nothing half written is left beside.
    for (const auto& entry : std::filesystem::directory_iterator(scratch / "out"))
        CHECK(entry.path().extension() == ".png");
}

TEST_CASE("art is bent by the lens that is given, and one of another size is refused") {
    const test::Scratch scratch;
    std::ofstream(scratch / "c.json")
        << R"({"format":"pinion.corners","version":1,"frames":[{"frame":1049,"corners":[[200,160],[1080,160],[1080,)"
           R"(560],[200,560]]}]})";
    writeArt(scratch / "art.####.png");
    const auto lens = [&](int width, double k1) {
        std::ofstream(scratch / "lens.json") << json{
            {"format", "pinion.lens"},
            {"version", 1},
            {"width", width},
            {"height", 720},
            {"model", "brown-conrady"},
            {"focal_px", 900},
            {"k1", k1},
            {"k2", 0},
            {"k3", 0},
            {"p1", 0},
            {"p2", 0},
            {"cx", 640},
            {"cy", 360},
            {"squeeze", 1}}.dump();
        return test::run("insert " + kBoard + " --corners " + (scratch / "c.json").string() + " --art " +
                         (scratch / "art.0001.png").string() + " --range 1049-1049 --lens " +
                         (scratch / "lens.json").string() + " --out " + (scratch / "o.####.png").string());
    };
    const auto bent = lens(1280, -0.2);
    INFO(bent.err);
    REQUIRE(bent.status == 0);
    const auto made = readStill(scratch / "o.1049.png");
    REQUIRE(made);
    // Its upper side bulges outwards: red above the straight line between the corners, in its middle alone.
    const auto isRed = [&](int x, int y) { return (*made)->bytes[std::size_t(3 * (1280 * y + x))] == 240; };
    CHECK(isRed(640, 154));
    CHECK_FALSE(isRed(210, 154));
    const auto other = lens(1920, -0.02);
    CHECK(other.status == 2);
    INFO(other.err);
    CHECK(other.err.find("lens.json: is for 1920x720, the plate is 1280x720") != std::string::npos);
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
    const ImageChannel half(40, 28, 0.5F);
    writeArt(scratch / "art.####.tif", &half);
    const std::string tiff = "--art " + (scratch / "art.0001.tif").string() + " --range 1049-1049";
    CHECK(refused(tiff).find("say premultiplied or straight") != std::string::npos);
    CHECK(test::run("insert " + kBoard + " --corners " + (scratch / "c.json").string() + " --out " +
                    (scratch / "o.####.png").string() + " " + tiff + " --alpha straight")
              .status == 0);
}
