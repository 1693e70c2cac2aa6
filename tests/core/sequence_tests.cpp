// Picture sequences that are not all of one piece.

#include "lens/stmap.h"
#include "plate/plate.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <array>
#include <catch2/catch.hpp>
#include <sys/stat.h>

using namespace pinion;

namespace {

struct Part {
    std::string name;
    std::vector<std::string> channels;
    std::vector<float> values;  ///< one for each channel
};

/// An EXR of flat channels, in one or more parts.
void writeParts(const std::filesystem::path& path, int width, int height, const std::vector<Part>& parts) {
    const auto output = OIIO::ImageOutput::create(path.string());
    REQUIRE(output);
    std::vector<OIIO::ImageSpec> specs;
    for (const Part& part : parts) {
        OIIO::ImageSpec spec(width, height, int(part.channels.size()), OIIO::TypeDesc::HALF);
        spec.channelnames = part.channels;
        if (parts.size() > 1) spec.attribute("oiio:subimagename", part.name);
        specs.push_back(spec);
    }
    REQUIRE((specs.size() == 1 ? output->open(path.string(), specs[0])
                               : output->open(path.string(), int(specs.size()), specs.data())));
    for (std::size_t i = 0; i < parts.size(); ++i) {
        if (i > 0) REQUIRE(output->open(path.string(), specs[i], OIIO::ImageOutput::AppendSubimage));
        std::vector<float> pixels;
        for (int p = 0; p < width * height; ++p)
            pixels.insert(pixels.end(), parts[i].values.begin(), parts[i].values.end());
        REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()));
    }
    output->close();
}

void checkPicture(const std::filesystem::path& path, std::array<float, 3> values, const std::string& remark) {
    const auto plate = Plate::open(path);
    REQUIRE(plate);
    std::string remarks;
    for (const std::string& one : (*plate)->facts().remarks) remarks += one + "\n";
    INFO(remarks);
    if (remark.empty()) CHECK(remarks.empty());
    else CHECK(remarks.find(remark) != std::string::npos);
    const auto picture = (*plate)->read((*plate)->facts().firstFrame);
    REQUIRE(picture);
    for (std::size_t c = 0; c < 3; ++c) CHECK((*picture)->floats[3 * 17 + c] == Approx(values[c]).margin(0.002));
}

/// 8x8 pixels of red, green and blue as floats, with whatever windows the head says.
void writeWindows(const std::filesystem::path& path, int x, int y, int fullX, int fullWidth, int fullHeight) {
    OIIO::ImageSpec spec(8, 8, 3, OIIO::TypeDesc::FLOAT);
    spec.x = x;
    spec.y = y;
    spec.full_x = fullX;
    spec.full_width = fullWidth;
    spec.full_height = fullHeight;
    const auto output = OIIO::ImageOutput::create(path.string());
    REQUIRE(output->open(path.string(), spec));
    const std::vector<float> pixels(8 * 8 * 3, 0.5F);
    REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()));
    output->close();
}

}  // namespace

TEST_CASE("the size that most frames have is the sequence's; the odd ones are named and passed over") {
    const test::Scratch scratch;
    for (int frame = 1; frame <= 9; ++frame) {
        const int width = frame == 1 ? 20 : 40;
        writeParts(scratch / fmt::format("p.{:04}.exr", frame), width, 10, {{"", {"R", "G", "B"}, {0.1F, 0.2F, 0.3F}}});
    }
    const auto plate = Plate::open(scratch.path());
    REQUIRE(plate);
    const PlateFacts& facts = (*plate)->facts();
    CHECK((facts.width == 40 && facts.height == 10));
    REQUIRE(facts.remarks.size() == 1);
    CHECK(facts.remarks[0] == "1 is 20x10 where the others are 40x10: passed over");
    CHECK_FALSE((*plate)->read(1));
    CHECK((*plate)->read(2));
    CHECK((*plate)->damagedFrames(Progress{}) == std::vector<int>{1});
}

TEST_CASE("of an EXR's channels and parts the obvious ones are the picture, and it is said which") {
    const test::Scratch scratch;
    writeParts(scratch / "plain.1.exr", 8, 8, {{"", {"R", "G", "B", "A"}, {0.1F, 0.2F, 0.3F, 1}}});
    checkPicture(scratch / "plain.1.exr", {0.1F, 0.2F, 0.3F}, "");
    writeParts(scratch / "deep.1.exr", 8, 8, {{"", {"B", "G", "R", "Z"}, {0.3F, 0.2F, 0.1F, 900}}});
    checkPicture(scratch / "deep.1.exr", {0.1F, 0.2F, 0.3F}, "");
    writeParts(scratch / "layers.1.exr", 8, 8,
               {{"", {"Z", "diffuse.R", "diffuse.G", "diffuse.B"}, {7, 0.4F, 0.5F, 0.6F}}});
    checkPicture(scratch / "layers.1.exr", {0.4F, 0.5F, 0.6F}, "channels diffuse.R, diffuse.G, diffuse.B are used");
    writeParts(scratch / "parts.1.exr", 8, 8, {{"depth", {"Z"}, {5}}, {"colour", {"R", "G", "B"}, {0.7F, 0.8F, 0.9F}}});
    checkPicture(scratch / "parts.1.exr", {0.7F, 0.8F, 0.9F}, "channels R, G, B of part 'colour' are used");
    writeParts(scratch / "grey.1.exr", 8, 8, {{"", {"Y"}, {0.25F}}});
    checkPicture(scratch / "grey.1.exr", {0.25F, 0.25F, 0.25F}, "channel Y");
    writeParts(scratch / "odd.1.exr", 8, 8, {{"", {"one", "two"}, {0.5F, 0.75F}}});
    checkPicture(scratch / "odd.1.exr", {0.5F, 0.75F, 0.75F}, "channels one, two, two are used");
}

TEST_CASE("a pipe in the place of a frame is refused, not waited for") {
    const test::Scratch scratch;
    REQUIRE(::mkfifo((scratch / "p.0001.png").c_str(), 0600) == 0);
    const auto plate = Plate::open(scratch / "p.0001.png");
    REQUIRE_FALSE(plate);
    CHECK(plate.error().message.find("p.0001.png: is no file with a picture") != std::string::npos);
    REQUIRE(::mkfifo((scratch / "clip.mp4").c_str(), 0600) == 0);
    const auto video = Plate::open(scratch / "clip.mp4");
    REQUIRE_FALSE(video);
    CHECK(video.error().message.find("clip.mp4: is no file") != std::string::npos);
}

TEST_CASE("the windows in an EXR's head are believed as far as footage goes, in frames and in maps") {
    const test::Scratch scratch;
    const auto messagesOf = [&](const std::string& name, bool overscan) {
        const auto plate = Plate::open(scratch / name, {.overscan = overscan});
        const auto map = readStMap(scratch / name);
        return std::pair(plate ? std::string("read") : plate.error().message,
                         map ? std::string("read") : map.error().message);
    };
    // A frame of 43 GB, of which 64 pixels are there.
    writeWindows(scratch / "vast.1.exr", 0, 0, 0, 60000, 60000);
    const auto vast = messagesOf("vast.1.exr", false);
    CHECK(vast.first.find("vast.1.exr: says that it is 60000x60000 pixels") != std::string::npos);
    CHECK(vast.second == vast.first);
    // Data far beside the frame, by more than a number of 32 bits holds.
    writeWindows(scratch / "far.1.exr", 1'000'000'000, 0, -1'000'000'000, 8, 8);
    const auto far = messagesOf("far.1.exr", true);
    CHECK(far.first.find("far beside its frame") != std::string::npos);
    CHECK(far.second == far.first);
    // Each near enough, and together too large.
    writeWindows(scratch / "apart.1.exr", -60000, -60000, 0, 8, 8);
    CHECK(messagesOf("apart.1.exr", true).first.find("apart.####.exr: its data windows together are 60008x60008") !=
          std::string::npos);
    CHECK(messagesOf("apart.1.exr", false).first == "read");
    // A window noted beside pictures, of which a number is none of pixels.
    for (const char* place : {"1e300", "0.5"}) {
        writeWindows(scratch / "noted.1.exr", 0, 0, 0, 8, 8);
        scratch.write("noted.overscan.json",
                      fmt::format(R"({{"format":"pinion.overscan","version":1,"width":8,"height":8,)"
                                  R"("data_window":[{},0,8,8]}})",
                                  place));
        CHECK(messagesOf("noted.1.exr", true).first.find("data_window[0]: is not a whole number") != std::string::npos);
    }
}

TEST_CASE("a map's two channels are found among many others, and a pipe is no map") {
    const test::Scratch scratch;
    OIIO::ImageSpec spec(6, 4, 40, OIIO::TypeDesc::FLOAT);
    spec.channelnames.clear();
    for (int c = 0; c < 40; ++c) spec.channelnames.push_back(fmt::format("u{:02}", c));
    spec.channelnames[7] = "R";
    spec.channelnames[31] = "G";
    std::vector<float> pixels;
    for (int i = 0; i < 6 * 4; ++i)
        for (int c = 0; c < 40; ++c)
            pixels.push_back(c == 7 ? 0.01F * float(i) : c == 31 ? 0.5F - 0.01F * float(i) : 9);
    const auto output = OIIO::ImageOutput::create("m.exr");
    REQUIRE(output->open((scratch / "m.exr").string(), spec));
    REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()));
    output->close();
    const auto map = readStMap(scratch / "m.exr");
    REQUIRE(map);
    REQUIRE(map->st.size() == 48);
    for (std::size_t i = 0; i < 24; ++i) {
        CHECK(map->st[2 * i] == Approx(0.01 * double(i)));
        CHECK(map->st[2 * i + 1] == Approx(0.5 - 0.01 * double(i)));
    }
    REQUIRE(mkfifo((scratch / "pipe.exr").c_str(), 0600) == 0);
    const auto pipe = readStMap(scratch / "pipe.exr");
    REQUIRE_FALSE(pipe);
    CHECK(pipe.error().message.find("is no file with a picture") != std::string::npos);
}

TEST_CASE("of a file whose first page is small, the page with the colours tells whether a frame is damaged") {
    const test::Scratch scratch;
    for (int frame = 1; frame <= 3; ++frame) {
        const auto path = (scratch / fmt::format("t.{}.tif", frame)).string();
        const OIIO::ImageSpec small(4, 4, 1, OIIO::TypeDesc::UINT8), whole(20, 10, 3, OIIO::TypeDesc::UINT8);
        const std::vector<std::uint8_t> grey(16, 7), colours(600, 90);
        const auto output = OIIO::ImageOutput::create(path);
        REQUIRE(output->open(path, small));
        REQUIRE(output->write_image(OIIO::TypeDesc::UINT8, grey.data()));
        REQUIRE(output->open(path, whole, OIIO::ImageOutput::AppendSubimage));
        REQUIRE(output->write_image(OIIO::TypeDesc::UINT8, colours.data()));
        output->close();
    }
    const auto plate = Plate::open(scratch / "t.####.tif");
    REQUIRE(plate);
    CHECK((*plate)->facts().width == 20);
    CHECK((*plate)->damagedFrames(Progress{}).empty());
    const auto picture = (*plate)->read(2);
    REQUIRE(picture);
    CHECK((*picture)->bytes[5] == 90);
}
