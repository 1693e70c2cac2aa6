// The second sweep on the command line, as a script would call it.

#include "commandline.h"
#include "exchange/formats.h"

#include <map>
#include <nlohmann/json.hpp>

using namespace pinion;
using namespace pinion::test;
using nlohmann::json;

namespace {

const std::string kBollard = std::string(PINION_SOURCE_DIR) + "/demo/plates/bollard.mp4";

}  // namespace

TEST_CASE("tracks run on by the camera that was solved from them, and a thorough solve does it on the way") {
    const Scratch scratch;
    const std::string tracks = (scratch / "t.json").string(), camera = (scratch / "c.json").string(),
                      longer = (scratch / "l.json").string();
    REQUIRE(run("scatter " + kBollard + " --features 250 --out " + tracks).status == 0);
    REQUIRE(run("solve " + kBollard + " --tracks " + tracks + " --focal 32 --out " + camera).status == 0);
    const std::string words = "lengthen " + kBollard + " --camera " + camera + " --tracks " + tracks + " --out ";
    const Outcome swept = run(words + longer);
    INFO(swept.err);
    REQUIRE(swept.status == 0);
    CHECK(swept.err.find("tracks run on") != std::string::npos);
    const auto before = readTracks(tracks), after = readTracks(longer);
    REQUIRE((before && after));
    // None is new; some are longer, some went into others.
    std::map<std::string, std::size_t> lengths;
    for (const Track& track : before->tracks) lengths[track.name] = track.samples.size();
    CHECK(after->tracks.size() < before->tracks.size());
    std::size_t grown = 0;
    for (const Track& track : after->tracks) {
        REQUIRE(lengths.contains(track.name));
        grown += track.samples.size() > lengths[track.name];
    }
    CHECK(grown > 40);
    // Nothing is joined where that is not wanted.
    REQUIRE(run(words + longer + " --apart 0").status == 0);
    CHECK(readTracks(longer)->tracks.size() == before->tracks.size());

    const std::string solve =
        "--json solve " + kBollard + " --tracks " + tracks + " --focal 32 --out " + (scratch / "d.json").string();
    const Outcome once = run(solve), thorough = run(solve + " --thorough");
    REQUIRE(once.status == 0);
    REQUIRE(thorough.status == 0);
    CHECK(json::parse(thorough.out)["held_out_rms_px"].get<double>() <
          0.95 * json::parse(once.out)["held_out_rms_px"].get<double>());
}

TEST_CASE("a sweep refuses what is no camera of the plate, saying what it is for") {
    const Scratch scratch;
    const std::string tracks = (scratch / "t.json").string(), camera = (scratch / "c.json").string(),
                      out = " --out " + (scratch / "l.json").string();
    REQUIRE(run("scatter " + kBollard + " --features 60 --range 1001-1012 --out " + tracks).status == 0);
    const std::string words = "lengthen " + kBollard + " --tracks " + tracks + out + " --camera ";
    checkRefused(run(words + tracks), 2, "'pinion.camera' is expected");
    checkRefused(run(words + (scratch / "none.json").string()), 2, "none.json");
    REQUIRE(run("solve " + kBollard + " --features 120 --focal 32 --out " + camera).status == 0);
    checkRefused(run("lengthen " + kBollard + " --camera " + camera + " --tracks " + tracks + " --out " + tracks), 2,
                 "--out");
    checkRefused(run(words + camera + " --apart -1"), 2, "--apart");
}
