#include "base/files.h"
#include "base/framerate.h"
#include "base/log.h"
#include "base/parallel.h"
#include "base/units.h"
#include "scratch.h"

#include <catch2/catch.hpp>
#include <sys/resource.h>
#include <csignal>
#include <sys/syscall.h>
#include <thread>
#include <unistd.h>

using namespace pinion;

TEST_CASE("frame rates of the trade are exact fractions") {
    // SMPTE ST 12-1 practice: the NTSC-related rates are n * 1000 / 1001.
    CHECK(frameRateNear(23.976) == FrameRate{24000, 1001});
    CHECK(frameRateNear(23.976023976) == FrameRate{24000, 1001});
    CHECK(frameRateNear(29.97) == FrameRate{30000, 1001});
    CHECK(frameRateNear(59.94) == FrameRate{60000, 1001});
    CHECK(frameRateNear(24.0) == FrameRate{24, 1});
    CHECK(frameRateNear(25.0) == FrameRate{25, 1});
    CHECK(frameRateNear(18.5) == FrameRate{37, 2});
    CHECK(toString(FrameRate{24000, 1001}) == "24000/1001");
    CHECK(*parseFrameRate("48000/2002") == FrameRate{24000, 1001});
    CHECK(*parseFrameRate("23.976") == FrameRate{24000, 1001});
    for (const char* wrong : {"", "fast", "24/0", "-24", "24fps", "nan"}) CHECK_FALSE(parseFrameRate(wrong));
}

TEST_CASE("angles of view on a 36 mm frame are those of the textbooks") {
    // Published in tables of angles of view for the 24x36 frame, horizontal: 24 mm 73.7, 35 mm 54.4, 50 mm 39.6
    // degrees.
    CHECK(angleOfViewDegrees(24, 36) == Approx(73.7).margin(0.05));
    CHECK(angleOfViewDegrees(35, 36) == Approx(54.4).margin(0.05));
    CHECK(angleOfViewDegrees(50, 36) == Approx(39.6).margin(0.05));
    CHECK(focalMillimetres(focalPixels(28, 36, 1280), 36, 1280) == Approx(28));
}

TEST_CASE("a file is replaced whole or not at all") {
    const test::Scratch scratch;
    const auto path = scratch.write("shot.json", "the old contents");
    REQUIRE(writeFile(path, "new"));
    CHECK(*readFile(path) == "new");

    SECTION("a failed write leaves the old file and nothing beside it") {
        // A limit on the size of files stands in for a full disk.
        rlimit before{};
        getrlimit(RLIMIT_FSIZE, &before);
        const auto handler = std::signal(SIGXFSZ, SIG_IGN);
        const rlimit small{1000, before.rlim_max};
        setrlimit(RLIMIT_FSIZE, &small);
        const auto written = writeFile(path, std::string(100000, 'x'));
        setrlimit(RLIMIT_FSIZE, &before);
        std::signal(SIGXFSZ, handler);
        REQUIRE_FALSE(written);
        CHECK(written.error().fault == Fault::system);
        CHECK(written.error().message.find("shot.json") != std::string::npos);
        CHECK(*readFile(path) == "new");
        CHECK(std::distance(std::filesystem::directory_iterator(scratch.path()),
                            std::filesystem::directory_iterator()) == 1);
    }
    SECTION("a missing folder is named") {
        const auto written = writeFile(scratch / "nowhere/file.json", "x");
        REQUIRE_FALSE(written);
        CHECK(written.error().message.find("nowhere") != std::string::npos);
    }
}

TEST_CASE(
    "the log keeps what is said with its time, is turned over, and a folder that cannot be written is no trouble") {
    const test::Scratch scratch;
    const auto file = scratch / "state/pinion.log";
    log::info("before it is open this goes nowhere");
    log::open(file);
    log::info("opened {}: {} frames", "landing.mp4", 120);
    log::error("a job failed: {braces stay}");
    auto text = readFile(file);
    REQUIRE(text);
    CHECK(text->find("info  opened landing.mp4: 120 frames") != std::string::npos);
    CHECK(text->find("error  a job failed: {braces stay}") != std::string::npos);
    CHECK(text->find("nowhere") == std::string::npos);
    for (int i = 0; i < 15000; ++i)
        log::info("a line of about a hundred letters, so that a megabyte is soon full {:6} ........................",
                  i);
    std::uintmax_t most = 0;
    int files = 0;
    for (const auto& entry : std::filesystem::directory_iterator(scratch / "state")) {
        most = std::max(most, entry.file_size());
        ++files;
    }
    CHECK(most <= (1 << 20) + 200);
    CHECK(files == 2);
    log::open("/proc/nowhere/pinion.log");
    log::info("this neither");
}

TEST_CASE("a thread that gives way, and those that loops bring in, leave the one that asked for it as it was") {
    const auto niceOf = [] { return ::getpriority(PRIO_PROCESS, id_t(::syscall(SYS_gettid))); };
    const int before = niceOf();
    int behind = 0, child = 0;
    std::thread([&] {
        giveWay();
        behind = niceOf();
        std::thread([&] { child = niceOf(); }).join();
    }).join();
    CHECK(behind == std::max(before, 5));
    CHECK(child == behind);
    CHECK(niceOf() == before);
}
