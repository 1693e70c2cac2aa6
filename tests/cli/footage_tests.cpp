// What the command line says of footage that is not as it should be.

#include "commandline.h"
#include "exchange/formats.h"
#include "madevideo.h"

#include <fstream>
#include <nlohmann/json.hpp>
#include <random>

using namespace pinion;
using namespace pinion::test;
using nlohmann::json;

TEST_CASE("info names damaged frames, and scatter passes over them") {
    const Scratch scratch;
    makeVideo(scratch / "sound.mp4", {.frames = 60, .width = 320, .height = 192, .keyEvery = 20, .both = 0});
    std::string bytes = *readFile(scratch / "sound.mp4");
    std::mt19937 random(5);
    for (std::size_t i = 0; i < 6000; ++i) bytes[bytes.size() / 2 + i] = char(random());
    scratch.write("hurt.mp4", bytes);
    const Outcome told = run("info --json " + (scratch / "hurt.mp4").string());
    REQUIRE(told.status == 0);
    const json figures = json::parse(told.out);
    const std::vector<int> damaged = figures["damaged_frames"];
    REQUIRE_FALSE(damaged.empty());
    CHECK(damaged.size() < 30);
    const Outcome words = run("info " + (scratch / "hurt.mp4").string());
    CHECK(words.out.find("damaged: " + std::to_string(damaged.front())) != std::string::npos);
    const Outcome scattered =
        run("scatter " + (scratch / "hurt.mp4").string() + " --features 40 --out " + (scratch / "t.json").string());
    INFO(scattered.err);
    REQUIRE(scattered.status == 0);
    CHECK(scattered.err.find("left out, missing or damaged: ") != std::string::npos);
    const auto tracks = readTracks(scratch / "t.json");
    REQUIRE(tracks);
    for (const Track& track : tracks->tracks)
        for (const Sample& sample : track.samples)
            CHECK(std::find(damaged.begin(), damaged.end(), sample.frame) == damaged.end());
}

TEST_CASE("a telephone's video is turned upright and its frame times go out with the tracks") {
    const Scratch scratch;
    makeVideo(scratch / "phone.mp4", {.frames = 40,
                                      .width = 320,
                                      .height = 192,
                                      .rate = {3000, 1},
                                      .stampOf = [](int i) { return std::int64_t(100 * i + (i % 9 == 4 ? 40 : 0)); },
                                      .turned = 90});
    const Outcome told = run("info --json " + (scratch / "phone.mp4").string());
    REQUIRE(told.status == 0);
    const json figures = json::parse(told.out);
    CHECK(figures["turned"] == 90);
    CHECK(figures["width"] == 192);
    CHECK(figures["uneven_frames"] == 8);
    REQUIRE(figures["frame_times_s"].size() == 40);
    CHECK(run("info " + (scratch / "phone.mp4").string()).out.find("the frame rate varies: 8 of 40") !=
          std::string::npos);
    const Outcome scattered =
        run("scatter " + (scratch / "phone.mp4").string() + " --features 40 --out " + (scratch / "t.json").string());
    REQUIRE(scattered.status == 0);
    const auto tracks = readTracks(scratch / "t.json");
    REQUIRE(tracks);
    CHECK(tracks->width == 192);
    CHECK(tracks->times.firstFrame == 1001);
    REQUIRE(tracks->times.seconds.size() == 40);
    CHECK(tracks->times.seconds[4] == Approx(440 / 3000.0).margin(1e-4));
}
