// Picture sequences that are not all of one piece.

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
