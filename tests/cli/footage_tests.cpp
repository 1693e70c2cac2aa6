// What the command line says of footage that is not as it should be.

#include "commandline.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "jobs/delivering.h"
#include "madevideo.h"
#include "plate/plate.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"

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

TEST_CASE("pixels that are not square give the squeeze of the solve, and it is said") {
    const Scratch scratch;
    makeVideo(scratch / "wide.mp4", {.frames = 12, .width = 320, .height = 192, .aspect = {2, 1}});
    const Outcome told = run("info " + (scratch / "wide.mp4").string());
    CHECK(told.out.find("its pixels are 2 times as wide as high: a squeeze of 0.5 is taken") != std::string::npos);
    const auto plate = Plate::open(scratch / "wide.mp4");
    REQUIRE(plate);
    CHECK(shotOf((*plate)->facts()).solveSettings.squeeze == Approx(0.5));
    makeVideo(scratch / "square.mp4", {.frames = 12, .width = 320, .height = 192, .aspect = {1, 1}});
    CHECK(shotOf((*Plate::open(scratch / "square.mp4"))->facts()).solveSettings.squeeze == 1.0);
}

namespace {

/// A shot with its tracks, whose deliveries go where they are told.
std::filesystem::path shotWith(const Scratch& scratch, const std::vector<std::string>& places) {
    const auto plate = Plate::open(kPlate);
    REQUIRE(plate);
    Shot shot = withTrackAdded(shotOf((*plate)->facts()), 1001, {500, 400});
    std::vector<Deliverable> items;
    for (const std::string& place : places)
        items.push_back({.name = fmt::format("tracks-{}", items.size() + 1),
                         .kind = DeliverableKind::tracks,
                         .format = DeliverableFormat::json,
                         .place = place});
    shot.deliverables = std::move(items);
    const auto file = scratch / "made.pinion";
    REQUIRE(saveShot(shot, file));
    return file;
}

}  // namespace

TEST_CASE("a shot writes nothing outside its delivery folder unless that is allowed, and never over itself") {
    const Scratch scratch;
    const auto folder = scratch / "out";
    const auto deliverTo = [&](const std::vector<std::string>& places, const std::string& more = "") {
        return run("deliver " + shotWith(scratch, places).string() + " --out-dir " + folder.string() + " " + more);
    };
    for (const std::string& place : {std::string("../stolen.json"), (scratch / "stolen.json").string()}) {
        checkRefused(deliverTo({"fine.json", place}), 2, "outside the delivery folder");
        checkRefused(deliverTo({"fine.json", place}), 2, "--allow-outside");
        CHECK_FALSE(std::filesystem::exists(scratch / "stolen.json"));
        CHECK_FALSE(std::filesystem::exists(folder / "fine.json"));
        const Outcome allowed = deliverTo({"fine.json", place}, "--allow-outside");
        INFO(allowed.err);
        CHECK(allowed.status == 0);
        CHECK(std::filesystem::exists(scratch / "stolen.json"));
        std::filesystem::remove(scratch / "stolen.json");
        std::filesystem::remove_all(folder);
    }
    // A link is no way out either.
    std::filesystem::create_directories(folder);
    std::filesystem::create_directory_symlink(scratch.path(), folder / "link");
    checkRefused(deliverTo({"link/stolen.json"}), 2, "outside the delivery folder");
    checkRefused(deliverTo({"a.json", "./a.json"}), 2, "tracks-1 and tracks-2 have one place");
    const auto file = shotWith(scratch, {"../made.pinion"});
    const std::string before = *readFile(file);
    checkRefused(run("deliver " + file.string() + " --allow-outside --out-dir " + folder.string()), 2,
                 "is the shot's own file");
    CHECK(*readFile(file) == before);
    checkRefused(deliverTo({kPlate}, "--allow-outside"), 2, "is the plate");
    // `run` keeps to it as well.
    checkRefused(run("run " + shotWith(scratch, {"../stolen.json"}).string() + " --steps deliver"), 2,
                 "outside the delivery folder");
}

TEST_CASE("a disk that is full is said by every writer, and the old file stays whole") {
    const Scratch scratch;
    makeVideo(scratch / "plate.mp4", {.frames = 10, .width = 320, .height = 192});
    REQUIRE(run("scatter " + (scratch / "plate.mp4").string() + " --features 60 --out " + (scratch / "t.json").string())
                .status == 0);
    // A limit on the size of files stands for the disk: writing ends in the same way.
    const auto limited = [&](const std::string& words, int kilobytes) {
        const Outcome outcome = [&] {
            std::FILE* pipe = ::popen(("bash -c \"trap '' XFSZ; ulimit -f " + std::to_string(kilobytes) + "; " + kCli +
                                       " " + words + "\" 2>&1")
                                          .c_str(),
                                      "r");
            REQUIRE(pipe);
            Outcome result{0, "", ""};
            std::array<char, 4096> buffer{};
            std::size_t count = 0;
            while ((count = std::fread(buffer.data(), 1, buffer.size(), pipe)) > 0)
                result.err.append(buffer.data(), count);
            const int status = ::pclose(pipe);
            result.status = WIFEXITED(status) ? WEXITSTATUS(status) : -1;
            return result;
        }();
        INFO(words << "\n" << outcome.err);
        CHECK(outcome.status == 1);
        CHECK(outcome.err.find("cannot be written") != std::string::npos);
    };
    const std::string steady = "steady " + (scratch / "plate.mp4").string() + " --tracks " +
                               (scratch / "t.json").string() + " --fit none --out ";
    for (const std::string ending : {"png", "exr", "tif"}) {
        INFO(ending);
        const auto first = scratch.write("f.1001." + ending, "the old frame");
        limited(steady + (scratch / ("f.####." + ending)).string(), 8);
        CHECK(*readFile(first) == "the old frame");
    }
    const auto video = scratch.write("v.mp4", "the old video");
    limited(steady + video.string(), 2);
    CHECK(*readFile(video) == "the old video");
    const auto tracks = scratch.write("old.json", "the old tracks");
    limited("scatter " + (scratch / "plate.mp4").string() + " --features 60 --out " + tracks.string(), 1);
    CHECK(*readFile(tracks) == "the old tracks");
    for (const auto& entry : std::filesystem::directory_iterator(scratch.path()))
        CHECK(entry.path().filename().string().find(".part") == std::string::npos);
    // Standard output is a file like any other.
    const Outcome full = run("--json info " + (scratch / "plate.mp4").string() + " > /dev/full");
    CHECK(full.status == 1);
    CHECK(full.err.find("standard output cannot be written") != std::string::npos);
}

TEST_CASE("closed streams get nothing into files, and two documents are not put on one stream") {
    const Scratch scratch;
    makeVideo(scratch / "plate.mp4", {.frames = 10, .width = 320, .height = 192});
    const std::string plate = (scratch / "plate.mp4").string();
    REQUIRE(run("scatter " + plate + " --features 60 --out " + (scratch / "t.json").string()).status == 0);
    const std::string steady = "steady " + plate + " --tracks " + (scratch / "t.json").string() + " --fit none --out ";
    REQUIRE(run(steady + (scratch / "whole.mp4").string()).status == 0);
    REQUIRE(std::system((kCli + " " + steady + (scratch / "closed.mp4").string() + " <&- >&- 2>&-").c_str()) == 0);
    const auto whole = Plate::open(scratch / "whole.mp4"), closed = Plate::open(scratch / "closed.mp4");
    REQUIRE((whole && closed));
    CHECK((*closed)->facts().frameCount() == 10);
    CHECK(std::filesystem::file_size(scratch / "closed.mp4") == std::filesystem::file_size(scratch / "whole.mp4"));
    checkRefused(run("--json scatter " + plate + " --out -"), 2, "both want standard output");
    checkRefused(run("--json shake take " + plate + " --out -"), 2, "both want standard output");
    checkRefused(run("--json " + steady + (scratch / "x.mp4").string() + " --transforms -"), 2,
                 "both want standard output");
}

TEST_CASE("figures that no plate can mean are refused, and messages name what is there") {
    const Scratch scratch;
    makeVideo(scratch / "plate.mp4", {.frames = 24, .width = 320, .height = 192});
    const std::string plate = (scratch / "plate.mp4").string();
    checkRefused(run("shake take " + plate + " --above 0.000001 --out " + (scratch / "s.json").string()), 2,
                 "is slower than the 1.00 s of this plate");
    const auto points = scratch.write("p.json",
                                      R"({"format":"pinion.points","version":1,"reference_frame":1001,
        "points":[{"name":"far","x":80,"y":80,"wanted":[1e308,80]}]})");
    const Outcome far =
        run("track " + plate + " --points " + points.string() + " --out " + (scratch / "o.json").string());
    CHECK(far.status == 2);
    checkRefused(run("shake lend " + plate + " --profile " +
                     scratch
                         .write("w.json", R"({"format":"pinion.shake","version":1,"name":"w","fps":24,
        "samples":[{"x":0,"y":0,"rotation":1e308,"scale":1}]})")
                         .string() +
                     " --out " + (scratch / "w.mp4").string()),
                 2, "samples[0].rotation");
    // A plate smaller than a pattern, and mattes over all of it.
    makeVideo(scratch / "tiny.mp4", {.frames = 12, .width = 16, .height = 16});
    const Outcome tiny = run("scatter " + (scratch / "tiny.mp4").string() + " --out " + (scratch / "o.json").string());
    checkRefused(tiny, 1, "16x16 is too small for patterns of 21 px");
    const auto mattes = scratch.write("m.json", R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"all",
        "keys":[{"frame":1001,"polygon":[[-10,-10],[400,-10],[400,300],[-10,300]]}]}]})");
    const Outcome covered =
        run("scatter " + plate + " --exclude " + mattes.string() + " --out " + (scratch / "o.json").string());
    INFO(covered.err);
    CHECK(covered.status == 1);
    CHECK(covered.err.find("no texture outside the mattes") != std::string::npos);
    CHECK(covered.err.find("threshold") == std::string::npos);
}
