// Tracks made longer by a camera that is known, on a plate as shipped.

#include "camera/secondsweep.h"
#include "camera/tracksjoining.h"
#include "track/tracking.h"
#include "truth.h"

#include <catch2/catch.hpp>
#include <algorithm>
#include <map>

using namespace pinion;
using Eigen::Vector2d;

namespace {

const std::filesystem::path kPlates = std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates";

Solve solveOf(const bench::Truth& truth, const FrameRange& range) {
    Solve solve;
    solve.lens = truth.lens;
    solve.noise_px = 0.1;
    std::vector<SolvedFrame> frames;
    for (const auto& [frame, pose] : truth.cameras)
        if (range.holds(frame))
            frames.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = truth.lens.focal_px});
    solve.frames = List<SolvedFrame>(std::move(frames));
    return solve;
}

Track lineOf(TrackId id, int first, int last, const Vector2d& from) {
    Track track;
    track.id = id;
    std::vector<Sample> samples;
    for (int frame = first; frame <= last; ++frame)
        samples.push_back({.frame = frame, .at = from + Vector2d(2.0 * frame, 0.5 * frame)});
    track.samples = List<Sample>(std::move(samples));
    return track;
}

}  // namespace

TEST_CASE("frames that were cut out of tracks are found again where they were, and what slides is not") {
    const auto plate = Plate::open(kPlates / "landing.mp4");
    REQUIRE(plate);
    const auto truth = bench::readTruth(kPlates / "landing.truth.json");
    REQUIRE(truth);
    FrameCache frames(*plate);
    const int first = (*plate)->facts().firstFrame;
    ScatterOptions scattering;
    scattering.candidates.features = 120;
    scattering.range = {first, first + 39};
    scattering.startFrame = first;
    scattering.fewestFrames = 40;
    auto scattered = scatter(frames, scattering);
    REQUIRE(scattered);
    std::map<TrackId, Track> whole;
    std::vector<Track> cut;
    for (Track track : scattered->tracks) {
        track.id = TrackId(whole.size() + 1);
        whole[track.id] = track;
        // A gap in the middle, and the end is gone.
        track.samples = track.samples.edited([&](auto& samples) {
            std::erase_if(samples, [&](const Sample& sample) {
                const int since = sample.frame - first;
                return (since >= 12 && since < 20) || since >= 30;
            });
        });
        cut.push_back(std::move(track));
    }
    REQUIRE(cut.size() > 40);
    Track slid = cut.front();
    slid.id = 1000;
    slid.samples = slid.samples.edited([&](auto& samples) {
        for (Sample& sample : samples) sample.at.x() += 0.4 * (sample.frame - first);
    });
    cut.push_back(slid);
    Track byHand = cut[1];
    byHand.id = 1001;
    byHand.byHand = true;
    cut.push_back(byHand);
    // A tie among scattered samples is somebody's word.
    Track tied = cut[2];
    tied.id = 1002;
    tied.samples = tied.samples.edited([](auto& samples) {
        samples[5].tie = true;
        samples[5].at += Vector2d(0.3, -0.2);
    });
    cut.push_back(tied);

    SecondSweepOptions options;
    options.range = scattering.range;
    options.kept = {1002, 3};
    const auto swept = lengthen(frames, solveOf(*truth, options.range), cut, options);
    REQUIRE(swept);
    std::size_t missing = 0, back = 0, needed = 0;
    std::vector<double> off;
    for (const Track& track : swept->tracks) {
        CHECK(track.id != 1000);
        if (track.id == 1001 || track.id == 1002 || track.id == 3) {
            // What was placed by hand, tied or is needed stays to the last digit, and has the missing frames besides.
            const Track& was = track.id == 1001 ? byHand : track.id == 1002 ? tied : cut[2];
            for (const Sample& sample : was.samples) {
                REQUIRE(sampleAt(track, sample.frame));
                CHECK(sampleAt(track, sample.frame)->at == sample.at);
            }
            CHECK(track.samples.size() > was.samples.size());
            ++needed;
            continue;
        }
        const Track& was = whole.at(track.id);
        for (const Sample& sample : was.samples) {
            const int since = sample.frame - first;
            if (!((since >= 12 && since < 20) || since >= 30)) continue;
            ++missing;
            const Sample* found = sampleAt(track, sample.frame);
            if (!found) continue;
            ++back;
            off.push_back((found->at - sample.at).norm());
        }
        CHECK(sampleAt(track, track.referenceFrame));
    }
    std::sort(off.begin(), off.end());
    CHECK(needed == 3);
    REQUIRE(missing > 300);
    CHECK(10 * back > 9 * missing);
    CHECK(off[off.size() / 2] < 0.2);
    CHECK(off[off.size() * 95 / 100] < 0.7);
    CHECK(swept->median > 1.5 * swept->medianBefore);

    // A camera that knows none of them says what to do.
    const auto none = lengthen(frames, solveOf(*truth, {first, first + 2}), cut, options);
    REQUIRE_FALSE(none);
    CHECK(none.error().message.find("solve the camera") != std::string::npos);
}

TEST_CASE("pieces of one feature become one track, and tracks that something needs stay") {
    const Track early = lineOf(1, 1, 40, {100, 100}), late = lineOf(2, 31, 60, {100.6, 100.2}),
                inside = lineOf(3, 5, 30, {104, 100}), apart = lineOf(4, 1, 60, {130, 100});
    std::vector<Track> tracks{early, late, inside, apart};
    const auto gone = solving::joinWhatIsOne(tracks, 8, {});
    CHECK(std::set<TrackId>(gone.begin(), gone.end()) == std::set<TrackId>{2, 3});
    REQUIRE(tracks.size() == 2);
    CHECK(tracks[0].samples.size() == 60);
    // The later piece is laid to where the first has its place.
    REQUIRE(sampleAt(tracks[0], 60));
    CHECK((sampleAt(tracks[0], 60)->at - Vector2d(220, 130)).norm() < 1e-6);

    std::vector<Track> needed{early, late, inside, apart};
    CHECK(solving::joinWhatIsOne(needed, 8, {2, 3}).empty());
    CHECK(needed.size() == 4);
    std::vector<Track> all{early, late, inside, apart};
    CHECK(solving::joinWhatIsOne(all, 0, {}).empty());
}
