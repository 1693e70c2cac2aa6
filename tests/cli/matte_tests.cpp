// Mattes on the command line: as pictures, as the plate's alpha, riding on tracks.

#include "commandline.h"
#include "plate/plate.h"

#include <OpenImageIO/imageio.h>
#include <cmath>
#include <nlohmann/json.hpp>

using namespace pinion;
using namespace pinion::test;
using nlohmann::json;

namespace {

struct Read {
    OIIO::ImageSpec spec;
    std::vector<float> values;
    float at(int x, int y, int channel) const {
        return values[(std::size_t(y) * std::size_t(spec.width) + std::size_t(x)) * std::size_t(spec.nchannels) +
                      std::size_t(channel)];
    }
};

Read readFileOf(const std::filesystem::path& path) {
    OIIO::ImageSpec config;
    config.attribute("oiio:UnassociatedAlpha", 1);  // as it stands in the file
    const auto input = OIIO::ImageInput::open(path.string(), &config);
    REQUIRE(input);
    Read read{input->spec(), {}};
    read.values.resize(std::size_t(read.spec.width) * std::size_t(read.spec.height) * std::size_t(read.spec.nchannels));
    REQUIRE(input->read_image(0, 0, 0, read.spec.nchannels, OIIO::TypeDesc::FLOAT, read.values.data()));
    return read;
}

const char* const kShapes = R"({"format":"pinion.mattes","version":1,"shapes":[
{"name":"hut","keys":[{"frame":1001,"polygon":[[700,100],[1200,100],[1200,400],[700,400]]}]},
{"name":"door","op":"subtract","keys":[{"frame":1001,"polygon":[[1000,200],[1100,200],[1100,400],[1000,400]]}]}]})";

}  // namespace

TEST_CASE("mattes are written as pictures of one channel, at the plate's size, in every format") {
    const Scratch scratch;
    const std::string mattes = scratch.write("mattes.json", kShapes).string();
    for (const std::string ending : {".exr", ".png", ".tif"}) {
        INFO(ending);
        const auto done = run("--json matte " + kPlate + " --mattes " + mattes + " --range 1001-1002 --out " +
                              (scratch / ("m.####" + ending)).string());
        INFO(done.err);
        REQUIRE(done.status == 0);
        const json figures = json::parse(done.out);
        CHECK(figures["frames"] == 2);
        CHECK(figures["coverage"].get<double>() == Approx((500.0 * 300 - 100 * 200) / (1280 * 720)).epsilon(0.001));
        const Read read = readFileOf(scratch / ("m.1002" + ending));
        CHECK(read.spec.nchannels == 1);
        CHECK(read.spec.width == 1280);
        CHECK(read.at(800, 200, 0) == 1);
        CHECK(read.at(1050, 300, 0) == 0);
        CHECK(read.at(300, 300, 0) == 0);
    }
}

TEST_CASE("the plate carries the mattes as its alpha, multiplied or straight") {
    const Scratch scratch;
    const std::string mattes = scratch.write("mattes.json", kShapes).string();
    const auto with = [&](const std::string& kind, const std::string& name) {
        return run("matte " + kPlate + " --mattes " + mattes + " --range 1001-1001 --alpha " + kind + " --out " +
                   (scratch / name).string());
    };
    REQUIRE(with("straight", "s.####.exr").status == 0);
    REQUIRE(with("premultiplied", "p.####.exr").status == 0);
    REQUIRE(with("straight", "s.####.png").status == 0);
    const Read straight = readFileOf(scratch / "s.1001.exr"), multiplied = readFileOf(scratch / "p.1001.exr"),
               png = readFileOf(scratch / "s.1001.png");
    for (const Read* one : {&straight, &multiplied, &png}) {
        CHECK(one->spec.nchannels == 4);
        CHECK(one->at(800, 200, 3) == 1);
        CHECK(one->at(300, 300, 3) == 0);
    }
    CHECK(straight.at(300, 300, 1) > 0.01F);
    CHECK(multiplied.at(300, 300, 1) == 0);
    CHECK(multiplied.at(800, 200, 1) == straight.at(800, 200, 1));
    // The colours of straight pictures are the plate's, also where nothing is covered.
    const auto plate = Plate::open(kPlate);
    const auto picture = (*plate)->read(1001);
    REQUIRE(picture);
    CHECK(png.at(300, 300, 1) == Approx((*picture)->bytes[(300 * 1280 + 300) * 3 + 1] / 255.0).margin(0.003));
    checkRefused(with("premultiplied", "p.####.png"), 2, "PNG has straight alpha only");
    checkRefused(with("straight", "p.mp4"), 2, "no place for a matte");
}

TEST_CASE("a shape that rides follows its track, and without tracks it is refused by name") {
    const Scratch scratch;
    const std::string mattes =
        scratch
            .write("mattes.json", R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"trolley",
"keys":[{"frame":1001,"polygon":[[100,100],[140,100],[140,140],[100,140]]}],"ride":{"tracks":["p1"],
"reference_frame":1001}}]})")
            .string();
    std::string samples;
    for (int frame = 1001; frame <= 1010; ++frame)
        samples += (frame > 1001 ? "," : "") + std::string("{\"frame\":") + std::to_string(frame) +
                   ",\"x\":" + std::to_string(120 + 7 * (frame - 1001)) + ",\"y\":120,\"score\":1}";
    const std::string tracks =
        scratch
            .write(
                "tracks.json",
                R"({"format":"pinion.tracks","version":1,"width":1280,"height":720,"fps":24,"tracks":[{"name":"p1",
                "samples":[)" +
                    samples + "]}]}")
            .string();
    const std::string out = " --range 1001-1010 --out " + (scratch / "r.####.exr").string();
    const auto done = run("matte " + kPlate + " --mattes " + mattes + " --tracks " + tracks + out);
    INFO(done.err);
    REQUIRE(done.status == 0);
    const Read last = readFileOf(scratch / "r.1010.exr");
    CHECK(last.at(110, 120, 0) == 0);
    CHECK(last.at(180, 120, 0) == 1);
    CHECK(last.at(163 + 39, 120, 0) == 1);
    CHECK(last.at(163 + 41, 120, 0) == 0);
    checkRefused(run("matte " + kPlate + " --mattes " + mattes + out), 2, "'trolley' rides on p1");
    checkRefused(run("scatter " + kPlate + " --exclude " + mattes + " --out " + (scratch / "t.json").string()), 2,
                 "'trolley' rides on p1");
}
