// Video of every make, read in every order; FFMS2, another frame-exact reader, as the reference.

#include "base/parallel.h"
#include "madevideo.h"
#include "plate/framecache.h"
#include "scratch.h"
#include "track/tracking.h"

#include <catch2/catch.hpp>
#include <cmath>
#include <ffms.h>
#include <fstream>
#include <random>
#include <thread>

using namespace pinion;
using test::MadeVideo;
using test::makeVideo;

namespace {

std::shared_ptr<const Plate> opened(const std::filesystem::path& path) {
    const auto plate = Plate::open(path);
    INFO((plate ? std::string() : plate.error().message));
    REQUIRE(plate);
    return *plate;
}

int numberOf(const Picture& picture) {
    return test::numberIn(picture.width, picture.height, [&](int x, int y) {
        const std::size_t at = 3 * (std::size_t(y) * std::size_t(picture.width) + std::size_t(x)) + 1;
        return picture.bytes.empty() ? picture.floats[at] > 0.48F : picture.bytes[at] > 122;
    });
}

std::string contentsOf(const std::filesystem::path& path) {
    std::ifstream stream(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(stream), {}};
}

/// The largest and the mean difference of all frames' values from those that FFMS2 reads.
std::pair<int, double> againstReference(const std::filesystem::path& path, const Plate& plate) {
    static std::once_flag once;
    std::call_once(once, [] { FFMS_Init(0, 0); });
    char text[512];
    FFMS_ErrorInfo error{0, 0, sizeof text, text};
    FFMS_Indexer* indexer = FFMS_CreateIndexer(path.c_str(), &error);
    REQUIRE(indexer);
    FFMS_Index* index = FFMS_DoIndexing2(indexer, FFMS_IEH_STOP_TRACK, &error);
    REQUIRE(index);
    const int track = FFMS_GetFirstIndexedTrackOfType(index, FFMS_TYPE_VIDEO, &error);
    FFMS_VideoSource* source = FFMS_CreateVideoSource(path.c_str(), track, index, 1, FFMS_SEEK_NORMAL, &error);
    FFMS_DestroyIndex(index);
    REQUIRE(source);
    const int formats[] = {FFMS_GetPixFmt("rgb24"), -1};
    REQUIRE(FFMS_SetOutputFormatV2(source, formats, plate.facts().width, plate.facts().height, FFMS_RESIZER_BILINEAR,
                                   &error) == 0);
    CHECK(FFMS_GetVideoProperties(source)->NumFrames == plate.facts().frameCount());
    int worst = 0;
    double sum = 0, count = 0;
    for (int i = 0; i < plate.facts().frameCount(); ++i) {
        const FFMS_Frame* theirs = FFMS_GetFrame(source, i, &error);
        REQUIRE(theirs);
        const auto ours = plate.read(plate.facts().firstFrame + i);
        REQUIRE(ours);
        const int row = plate.facts().width * 3;
        for (int y = 0; y < plate.facts().height; ++y)
            for (int x = 0; x < row; ++x) {
                const int off = std::abs(int(theirs->Data[0][y * theirs->Linesize[0] + x]) -
                                         int((*ours)->bytes[std::size_t(y * row + x)]));
                worst = std::max(worst, off);
                sum += off;
                ++count;
            }
    }
    FFMS_DestroyVideoSource(source);
    return {worst, sum / count};
}

}  // namespace

TEST_CASE("video of every make is read frame by frame, forwards, backwards and at random") {
    const test::Scratch scratch;
    const std::vector<std::pair<std::string, MadeVideo>> makes{
        {"h264.mp4", {}},
        {"h264.mkv", {.keyEvery = 250, .both = 3}},
        {"h264.mov", {.both = 0}},
        {"h264.ts", {.keyEvery = 12}},
        {"h264.avi", {.keyEvery = 20, .both = 2}},
        {"open.mp4", {.keyEvery = 15, .both = 3, .options = {{"x264-params", "open-gop=1:scenecut=0"}}}},
        {"refresh.mkv", {.both = 0, .options = {{"x264-params", "intra-refresh=1:scenecut=0"}}}},
        {"hevc.mp4", {.codec = "libx265", .options = {{"x265-params", "log-level=none:open-gop=1:keyint=20"}}}},
        {"mpeg4.avi", {.codec = "mpeg4", .keyEvery = 12, .both = 0}},
        {"mpeg4b.avi", {.codec = "mpeg4", .keyEvery = 12, .both = 2}},
        {"mpeg2.mpg", {.codec = "mpeg2video", .keyEvery = 12, .both = 2}},
        {"mjpeg.mov", {.codec = "mjpeg", .format = AV_PIX_FMT_YUVJ420P, .both = 0}},
        {"prores.mov", {.codec = "prores_ks", .format = AV_PIX_FMT_YUV422P10LE, .both = 0}},
        {"ffv1.mkv", {.codec = "ffv1", .keyEvery = 1, .both = 0}},
        {"vp9.webm", {.codec = "libvpx-vp9", .keyEvery = 20, .both = 0, .options = {{"deadline", "realtime"}}}},
        {"vp8.webm", {.codec = "libvpx", .keyEvery = 20, .both = 0, .options = {{"auto-alt-ref", "1"}}}},
    };
    for (const auto& [name, made] : makes) {
        INFO(name);
        makeVideo(scratch / name, made);
        const auto plate = opened(scratch / name);
        const PlateFacts& facts = plate->facts();
        REQUIRE(facts.frameCount() == made.frames);
        CHECK(facts.missing.empty());
        CHECK(facts.unevenFrames == 0);
        CHECK(facts.fps == FrameRate{24, 1});
        std::vector<int> order;
        for (int i = 0; i < made.frames; ++i) order.push_back(i);
        for (int i = made.frames - 1; i >= 0; --i) order.push_back(i);
        std::mt19937 random(7);
        for (int i = 0; i < 40; ++i) order.push_back(int(random() % unsigned(made.frames)));
        for (const int i : order) {
            const auto picture = plate->read(facts.firstFrame + i);
            INFO("frame " << i << (picture ? "" : ": " + picture.error().message));
            REQUIRE(picture);
            REQUIRE(numberOf(**picture) == i);
        }
        CHECK(plate->damagedFrames(Progress{}).empty());
    }
}

TEST_CASE("frames and their colours are those of FFMS2") {
    const test::Scratch scratch;
    makeVideo(scratch / "small.mp4", {.frames = 40});
    makeVideo(scratch / "bframes.mkv", {.frames = 40, .keyEvery = 250, .both = 3});
    makeVideo(scratch / "full.mov", {.codec = "mjpeg", .frames = 10, .format = AV_PIX_FMT_YUVJ420P, .both = 0});
    for (const char* name : {"small.mp4", "bframes.mkv", "full.mov"}) {
        INFO(name);
        const auto plate = opened(scratch / name);
        const auto [worst, mean] = againstReference(scratch / name, *plate);
        CHECK(worst == 0);
        CHECK(mean == 0);
    }
    const auto path = std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates/mooring.mp4";
    const auto [worst, mean] = againstReference(path, *opened(path));
    CHECK(worst == 0);
    CHECK(mean == 0);
}

TEST_CASE("two who read at different places, and many at one, get their frames") {
    const test::Scratch scratch;
    makeVideo(scratch / "long.mp4", {.frames = 200, .keyEvery = 100});
    const auto plate = opened(scratch / "long.mp4");
    std::atomic<int> wrong = 0;
    const auto reads = [&](int from, int step, int count) {
        return std::thread([&, from, step, count] {
            for (int i = 0; i < count; ++i) {
                const int frame = from + i * step;
                const auto picture = plate->read(1001 + frame);
                wrong += !picture || numberOf(**picture) != frame;
            }
        });
    };
    std::thread threads[] = {reads(0, 1, 200), reads(199, -1, 200), reads(60, 1, 100), reads(1, 2, 90),
                             reads(0, 7, 28)};
    for (std::thread& thread : threads) thread.join();
    CHECK(wrong == 0);
}

TEST_CASE("a video that is moved away while it is open can still be read, here and there") {
    const test::Scratch scratch;
    makeVideo(scratch / "long.mp4", {.frames = 120, .keyEvery = 20});
    const auto plate = opened(scratch / "long.mp4");
    REQUIRE(plate->read(1001));
    std::filesystem::rename(scratch / "long.mp4", scratch / "gone.mp4");
    for (const int frame : {1110, 1005, 1060, 1061, 1004, 1111}) {
        const auto picture = plate->read(frame);
        INFO(frame << (picture ? "" : ": " + picture.error().message));
        REQUIRE(picture);
        CHECK(numberOf(**picture) == frame - 1001);
    }
}

TEST_CASE("a scatter, somebody who scrubs and somebody who reads backwards share a plate") {
    // Of most worth under the thread sanitiser, which cannot see into TBB: there the scatter keeps to its own thread.
#if defined(__SANITIZE_THREAD__)
    limitThreads(1);
#endif
    const auto plate = opened(std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates/mooring.mp4");
    FrameCache cache(plate, std::size_t(40) << 20);
    std::atomic<int> brought = 0, failed = 0;
    cache.setListener([&](int, const Error* error) { ++(error ? failed : brought); });
    std::atomic<bool> done = false;
    std::thread scrubs([&] {
        std::mt19937 random(1);
        while (!done) {
            const int frame = 1001 + int(random() % 12);
            cache.want({frame, frame + 1, frame + 2});
            (void)cache.peek(frame);
            (void)cache.framesHeld();
            (void)cache.frameBytes();
            std::this_thread::sleep_for(std::chrono::milliseconds(3));
        }
    });
    std::thread backwards([&] {
        while (!done)
            for (int frame = 1012; frame >= 1001 && !done; --frame) failed += !cache.get(frame);
    });
    ScatterOptions options;
    options.range = {1001, 1012};
    options.startFrame = 1001;
    const auto result = scatter(cache, options, Progress{}, [](int, const std::vector<LivePoint>&) {});
    done = true;
    scrubs.join();
    backwards.join();
    cache.setListener({});
    REQUIRE(result);
    CHECK(result->tracks.size() > 300);
    CHECK(result->unreadable.empty());
    CHECK(failed == 0);
    CHECK(brought > 0);
    CHECK(cache.usedBytes() <= cache.budget());
    limitThreads(0);
}

TEST_CASE("a video that lies on its side is turned upright") {
    const test::Scratch scratch;
    makeVideo(scratch / "upright.mp4", {.frames = 3, .aspect = {4, 3}});
    const auto upright = opened(scratch / "upright.mp4");
    CHECK(upright->facts().pixelAspect == Approx(4.0 / 3));
    REQUIRE(upright->facts().remarks.size() == 1);  // of its pixels
    CHECK(upright->facts().remarks[0].find("as wide as high") != std::string::npos);
    const PicturePtr straight = *upright->read(1001);
    for (const int degrees : {90, 180, 270}) {
        INFO(degrees);
        const std::string name = fmt::format("turned{}.mp4", degrees);
        makeVideo(scratch / name, {.frames = 3, .turned = degrees, .aspect = {4, 3}});
        const auto plate = opened(scratch / name);
        CHECK(plate->facts().turned == degrees);
        REQUIRE(plate->facts().remarks.size() == 2);
        CHECK(plate->facts().remarks[0].find("turned by " + std::to_string(degrees)) != std::string::npos);
        const bool onSide = degrees != 180;
        CHECK(plate->facts().width == (onSide ? 96 : 160));
        CHECK(plate->facts().height == (onSide ? 160 : 96));
        CHECK(plate->facts().pixelAspect == Approx(onSide ? 0.75 : 4.0 / 3));
        const auto picture = plate->read(1001);
        REQUIRE(picture);
        REQUIRE((*picture)->width == plate->facts().width);
        // Turned clockwise by 90 degrees, what was at the left of the top row is at its right.
        const auto at = [](const Picture& p, int x, int y) { return int(p.bytes[std::size_t(3 * (y * p.width + x))]); };
        for (const auto& [x, y] : {std::pair{3, 5}, std::pair{150, 7}, std::pair{80, 90}}) {
            const int value = at(*straight, x, y);
            if (degrees == 90) CHECK(at(**picture, 95 - y, x) == value);
            if (degrees == 180) CHECK(at(**picture, 159 - x, 95 - y) == value);
            if (degrees == 270) CHECK(at(**picture, y, 159 - x) == value);
        }
    }
}

TEST_CASE("a varying frame rate is said, with the frames counted and each one's time kept") {
    const test::Scratch scratch;
    // A telephone's: in ticks of a hundredth of a frame, three frames late by a third and one left out.
    makeVideo(scratch / "phone.mp4",
              {.frames = 50, .rate = {3000, 1}, .stampOf = [](int i) {
                   return std::int64_t(100 * (i + (i > 30)) + (i == 10 || i == 20 || i == 40 ? 33 : 0));
               }});
    const PlateFacts facts = opened(scratch / "phone.mp4")->facts();
    CHECK(facts.unevenFrames == 7);
    REQUIRE(facts.times.seconds.size() == 50);
    CHECK(facts.times.seconds[0] == 0.0);
    CHECK(facts.times.seconds[10] == Approx((1000 + 33) / 3000.0).margin(1e-4));
    CHECK(facts.times.seconds[49] == Approx(5000 / 3000.0).margin(1e-4));
    REQUIRE_FALSE(facts.remarks.empty());
    CHECK(facts.remarks[0].find("the frame rate varies: 7 of 50 frames") != std::string::npos);
    CHECK(facts.fps.perSecond() == Approx(49 / (5000 / 3000.0)).margin(0.01));
    // A container that rounds to milliseconds varies nothing.
    makeVideo(scratch / "rounded.mkv", {.frames = 50, .rate = {24000, 1001}});
    const PlateFacts rounded = opened(scratch / "rounded.mkv")->facts();
    CHECK(rounded.unevenFrames == 0);
    CHECK(rounded.times.seconds.isEmpty());
    CHECK(rounded.fps == FrameRate{24000, 1001});
    // One frame has no rate of its own.
    makeVideo(scratch / "one.mp4", {.frames = 1});
    const PlateFacts one = opened(scratch / "one.mp4")->facts();
    CHECK(one.frameCount() == 1);
    CHECK(one.fps.perSecond() <= 240);
}

TEST_CASE("interlaced video is mentioned") {
    const test::Scratch scratch;
    makeVideo(scratch / "fields.mp4", {.frames = 8, .interlaced = true});
    const PlateFacts facts = opened(scratch / "fields.mp4")->facts();
    CHECK(facts.interlaced);
    REQUIRE(facts.remarks.size() == 1);
    CHECK(facts.remarks[0].find("interlaced") != std::string::npos);
}

TEST_CASE("a video that breaks off says which frames are not there") {
    const test::Scratch scratch;
    makeVideo(scratch / "whole.avi", {.codec = "mjpeg", .frames = 40, .format = AV_PIX_FMT_YUVJ420P, .both = 0});
    const std::string avi = contentsOf(scratch / "whole.avi");
    const auto plate = opened(scratch.write("cut.avi", avi.substr(0, avi.size() / 2)));
    const PlateFacts& facts = plate->facts();
    CHECK(facts.frameCount() == 40);
    REQUIRE(facts.missing.size() > 10);
    CHECK(facts.missing.size() < 30);
    CHECK(facts.missing.back() == 1040);
    REQUIRE_FALSE(facts.remarks.empty());
    CHECK(facts.remarks.back().find("breaks off: ") != std::string::npos);
    const int lastWhole = facts.missing.front() - 1;
    CHECK(numberOf(**plate->read(lastWhole - 1)) == lastWhole - 1 - 1001);
    const auto gone = plate->read(1040);
    REQUIRE_FALSE(gone);
    CHECK(gone.error().message.find("frame 1040 is missing") != std::string::npos);
}

TEST_CASE("damaged frames of a video are named, not shown half grey, whatever frame is read first") {
    const test::Scratch scratch;
    for (const std::string codec : {"libx264", "libx265", "mpeg4", "mjpeg"}) {
        INFO(codec);
        const auto format = codec == "mjpeg" ? AV_PIX_FMT_YUVJ420P : AV_PIX_FMT_YUV420P;
        MadeVideo made{.codec = codec, .frames = 60, .format = format, .keyEvery = 20, .both = 0};
        if (codec == "libx265") made.options = {{"x265-params", "log-level=none"}};
        int told = 0, silent = 0;
        for (unsigned seed = 1; seed <= 8; ++seed) {
            // Of the one kind of file the frames' places are listed at its end; the other has to be read through.
            const std::string name = seed % 2 == 0 ? "sound.mkv" : "sound.mp4";
            if (codec == "mjpeg" && name == "sound.mp4") continue;
            makeVideo(scratch / name, made);
            const auto sound = opened(scratch / name);
            const std::string bytes = contentsOf(scratch / name);
            // Noise somewhere in the middle third of the data.
            INFO("seed " << seed << " of " << bytes.size());
            std::mt19937 random(seed);
            std::string hurt = bytes;
            const std::size_t from = bytes.size() / 3 + random() % (bytes.size() / 3);
            for (std::size_t i = 0; i < 6000; ++i) hurt[from + i] = char(random());
            const auto plate = opened(scratch.write("damaged" + name, hurt));
            REQUIRE(plate->facts().frameCount() == 60);
            auto damaged = plate->damagedFrames(Progress{});
            for (const int frame : plate->facts().missing) damaged.push_back(frame);
            std::sort(damaged.begin(), damaged.end());
            told += !damaged.empty();
            CHECK(damaged.size() <= 41);
            // The same from the other end, and no frame that is not whole.
            for (int frame = plate->facts().lastFrame; frame >= 1001; --frame) {
                const auto picture = plate->read(frame);
                INFO("frame " << frame << ", damaged are " << frameRanges(damaged));
                CHECK(picture.has_value() != std::binary_search(damaged.begin(), damaged.end(), frame));
                if (!picture)
                    CHECK(picture.error().message.find(fmt::format("frame {} is ", frame)) != std::string::npos);
                else silent += (*picture)->bytes != (*sound->read(frame))->bytes;
            }
        }
        CAPTURE(told, silent);
        // Noise may happen to be a sound frame to a decoder.
        CHECK(told == (codec == "mjpeg" ? 4 : 8));
        CHECK(silent <= 8);
    }
}
