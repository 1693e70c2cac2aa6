#include "base/framerange.h"
#include "plate/framecache.h"
#include "plate/framewriter.h"
#include "plate/videowriter.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <atomic>
#include <catch2/catch.hpp>
#include <chrono>
#include <cmath>
#include <fstream>
#include <mutex>
#include <thread>

using namespace pinion;

namespace {

/// A flat picture whose grey level tells its frame.
void writePicture(const std::filesystem::path& path, int width, int height, float value) {
    const auto output = OIIO::ImageOutput::create(path.string());
    REQUIRE(output);
    OIIO::ImageSpec spec(width, height, 3, path.extension() == ".exr" ? OIIO::TypeDesc::HALF : OIIO::TypeDesc::UINT8);
    const std::vector<float> pixels(std::size_t(width) * std::size_t(height) * 3, value);
    REQUIRE(output->open(path.string(), spec));
    REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()));
    output->close();
}

void writeVideo(const std::filesystem::path& path, int frames, FrameRate fps) {
    auto writer = VideoWriter::create(path, 64, 48, fps, {.quality = 4});
    REQUIRE(writer);
    for (int i = 0; i < frames; ++i)
        REQUIRE((*writer)->write(std::vector<std::uint8_t>(64 * 48 * 3, std::uint8_t(40 + 4 * i))));
    REQUIRE((*writer)->finish());
}

std::string messageOf(const std::filesystem::path& path) {
    const auto plate = Plate::open(path);
    return plate ? "opened" : plate.error().message;
}

}  // namespace

TEST_CASE("a video is read frame by frame, in any order, at its exact rate") {
    const test::Scratch scratch;
    writeVideo(scratch / "clip.mp4", 30, {24000, 1001});
    const auto plate = Plate::open(scratch / "clip.mp4");
    REQUIRE(plate);
    const PlateFacts& facts = (*plate)->facts();
    CHECK(facts.fps == FrameRate{24000, 1001});
    CHECK((facts.width == 64 && facts.height == 48));
    CHECK((facts.firstFrame == 1001 && facts.lastFrame == 1030));
    for (int frame : {1030, 1001, 1017, 1016, 1029}) {
        const auto picture = (*plate)->read(frame);
        REQUIRE(picture);
        CHECK(int((*picture)->bytes[64 * 24 * 3 + 96]) == Approx(40 + 4 * (frame - 1001)).margin(2));
    }
    CHECK_FALSE((*plate)->read(1031));
}

TEST_CASE("a sequence with a gap opens, lists the gap and reads around it") {
    const test::Scratch scratch;
    for (int frame : {1001, 1002, 1004, 1007})
        writePicture(scratch / fmt::format("plate.{:04}.png", frame), 32, 16, 0.5F);
    for (const std::string name : {"", "plate.%04d.png", "plate.####.png", "plate.1002.png"}) {
        INFO(name);
        const auto plate = Plate::open(name.empty() ? scratch.path() : scratch / name);
        REQUIRE(plate);
        CHECK((*plate)->facts().missing == std::vector<int>{1003, 1005, 1006});
        CHECK(frameRanges((*plate)->facts().missing) == "1003, 1005-1006");
        CHECK((*plate)->read(1004));
        const auto gap = (*plate)->read(1005);
        REQUIRE_FALSE(gap);
        CHECK(gap.error().message.find("1005 is missing") != std::string::npos);
    }
}

TEST_CASE("EXR is linear and shown through the sRGB curve") {
    const test::Scratch scratch;
    writePicture(scratch / "lin.0001.exr", 8, 8, 0.18F);
    const auto plate = Plate::open(scratch / "lin.0001.exr");
    REQUIRE(plate);
    CHECK((*plate)->facts().linear);
    const auto picture = (*plate)->read(1);
    REQUIRE(picture);
    // IEC 61966-2-1: linear 0.18 encodes to 0.4614, 117.6 of 255; 0.36 to 0.6342, 161.7.
    CHECK((displayPixels(**picture)[0] & 0xFF) == 118);
    CHECK((displayPixels(**picture, {.exposure = 1.0})[0] & 0xFF) == 162);
}

TEST_CASE("what is no plate gets one clear message that names it") {
    const test::Scratch scratch;
    scratch.write("notes.mp4", "this is no video at all");
    CHECK(messageOf(scratch / "notes.mp4").find("notes.mp4: is no video") != std::string::npos);
    CHECK(messageOf(scratch / "nothing.mov").find("there is no such file") != std::string::npos);
    std::filesystem::create_directories(scratch / "empty");
    CHECK(messageOf(scratch / "empty").find("holds no video and no numbered pictures") != std::string::npos);
    writePicture(scratch / "still.png", 8, 8, 0.5F);
    CHECK(messageOf(scratch / "still.png").find("frame number") != std::string::npos);
    for (const char* name : {"two/a.0001.png", "two/b.0001.png"}) {
        std::filesystem::create_directories(scratch / "two");
        writePicture(scratch / name, 8, 8, 0.5F);
    }
    CHECK(messageOf(scratch / "two").find("more than one plate") != std::string::npos);
}

TEST_CASE("a truncated video keeps the frames before the break or says that it is cut off") {
    const test::Scratch scratch;
    writeVideo(scratch / "whole.mkv", 40, {24, 1});
    std::ifstream stream(scratch / "whole.mkv", std::ios::binary);
    const std::string all((std::istreambuf_iterator<char>(stream)), {});
    const auto cut = Plate::open(scratch.write("cut.mkv", all.substr(0, all.size() * 4 / 5)));
    REQUIRE(cut);
    CHECK((*cut)->facts().frameCount() == 40);
    CHECK(int((*cut)->facts().missing.size()) == 1040 - (*cut)->facts().missing.front() + 1);
    CHECK((*cut)->facts().missing.size() < 35);
    CHECK((*cut)->read((*cut)->facts().firstFrame));
    writeVideo(scratch / "whole.mp4", 10, {24, 1});
    std::ifstream second(scratch / "whole.mp4", std::ios::binary);
    const std::string mp4((std::istreambuf_iterator<char>(second)), {});
    CHECK(messageOf(scratch.write("cut.mp4", mp4.substr(0, mp4.size() / 5))).find("cut off") != std::string::npos);
}

TEST_CASE("a frame of another size or a damaged one is named when it is read") {
    const test::Scratch scratch;
    writePicture(scratch / "p.0001.png", 32, 16, 0.5F);
    writePicture(scratch / "p.0002.png", 30, 16, 0.5F);
    scratch.write("p.0003.png", "not a picture");
    const auto plate = Plate::open(scratch / "p.0001.png");
    REQUIRE(plate);
    CHECK((*plate)->read(1));
    CHECK((*plate)->read(2).error().message.find("p.0002.png: is 30x16, but the sequence is 32x16") !=
          std::string::npos);
    CHECK((*plate)->read(3).error().message.find("p.0003.png") != std::string::npos);
}

TEST_CASE("the frame cache stays within its budget and brings what is wanted") {
    const test::Scratch scratch;
    for (int frame = 1; frame <= 20; ++frame) writePicture(scratch / fmt::format("p.{:04}.png", frame), 64, 64, 0.5F);
    const auto plate = Plate::open(scratch.path());
    REQUIRE(plate);
    FrameCache cache(*plate, 5 * 64 * 64 * 3);
    for (int frame = 1; frame <= 20; ++frame) REQUIRE(cache.get(frame));
    CHECK(cache.usedBytes() <= 5 * 64 * 64 * 3);
    CHECK(cache.peek(20));
    CHECK_FALSE(cache.peek(1));
    std::mutex mutex;
    std::condition_variable arrived;
    bool there = false;
    cache.setListener([&](int frame, const Error* error) {
        const std::lock_guard lock(mutex);
        there = there || (frame == 3 && !error);
        arrived.notify_all();
    });
    cache.want({3});
    std::unique_lock lock(mutex);
    CHECK(arrived.wait_for(lock, std::chrono::seconds(10), [&] { return there; }));
    CHECK(cache.peek(3));
}

namespace {

/// Frame 1 is read when it is let go, all others at once.
class WaitingPlate final : public Plate {
public:
    WaitingPlate() {
        facts_.width = facts_.height = 8;
        facts_.firstFrame = 1;
        facts_.lastFrame = 9;
    }
    Expected<PicturePtr> read(int frame) const override {
        while (frame == 1 && !isLetGo) std::this_thread::yield();
        return std::make_shared<const Picture>();
    }
    mutable std::atomic<bool> isLetGo{false};
};

}  // namespace

TEST_CASE("who waits for a frame hears of it also when a job reads it first") {
    const auto plate = std::make_shared<WaitingPlate>();
    FrameCache cache(plate);
    std::mutex mutex;
    std::vector<int> heard;
    cache.setListener([&](int frame, const Error* error) {
        const std::lock_guard lock(mutex);
        if (!error) heard.push_back(frame);
    });
    REQUIRE(cache.get(3));
    cache.want({1, 2, 3});
    REQUIRE(cache.get(2));  // while the reader is busy
    plate->isLetGo = true;
    cache.get(4).value();
    const auto ended = std::chrono::steady_clock::now() + std::chrono::seconds(20);
    while (std::chrono::steady_clock::now() < ended) {
        const std::lock_guard lock(mutex);
        if (heard.size() >= 2) break;
    }
    const std::lock_guard lock(mutex);
    CHECK(heard == std::vector<int>{1, 2});
}

TEST_CASE("a pattern is told from a file, and a name goes without its number") {
    CHECK(isSequencePattern("/shots/quay/plate.####.exr"));
    CHECK(isSequencePattern("plate_%04d.png"));
    CHECK_FALSE(isSequencePattern("/shots/100%/plate.mp4"));  // of the file's own name
    for (const auto& [path, name] : {std::pair{"lamp.####.png", "lamp"},
                                     {"/a/lamp_%04d.exr", "lamp"},
                                     {"lamp-##.tif", "lamp"},
                                     {"lamp.v2.####.png", "lamp.v2"},
                                     {"board.mp4", "board"},
                                     {"####.png", ""}})
        CHECK(nameWithoutNumber(path) == name);
}

TEST_CASE("a video is as good written quickly as small, and small it is smaller") {
    const test::Scratch scratch;
    const int width = 320, height = 240, frames = 12;
    const auto drawn = [&](int frame) {
        std::vector<std::uint8_t> rgb;
        std::uint32_t seed = std::uint32_t(frame);
        for (int y = 0; y < height; ++y)
            for (int x = 0; x < width; ++x) {
                seed = seed * 1664525U + 1013904223U;
                const double wave = std::sin(0.11 * (x + 2 * frame)) + std::sin(0.07 * y);
                rgb.insert(rgb.end(), 3, std::uint8_t(128 + 40 * wave + double(seed >> 30)));
            }
        return rgb;
    };
    const auto written = [&](const char* name, bool small) {
        auto writer = VideoWriter::create(scratch / name, width, height, {24, 1}, {.quality = 16, .small = small});
        REQUIRE(writer);
        for (int i = 0; i < frames; ++i) REQUIRE((*writer)->write(drawn(i)));
        REQUIRE((*writer)->finish());
        const auto plate = Plate::open(scratch / name);
        REQUIRE(plate);
        REQUIRE((*plate)->facts().frameCount() == frames);
        double squares = 0;
        for (int i = 0; i < frames; ++i) {
            const auto picture = (*plate)->read(1001 + i);
            REQUIRE(picture);
            const auto truth = drawn(i);
            for (std::size_t k = 0; k < truth.size(); ++k)
                squares += std::pow(double((*picture)->bytes[k]) - truth[k], 2);
        }
        return 10 * std::log10(255.0 * 255.0 * frames * 3 * width * height / squares);
    };
    const double quick = written("quick.mp4", false), small = written("small.mp4", true);
    INFO(quick << " dB written quickly, " << small << " dB small");
    CHECK(small > 40);
    CHECK(quick > small - 1.5);
    CHECK(std::filesystem::file_size(scratch / "small.mp4") < std::filesystem::file_size(scratch / "quick.mp4"));
}
