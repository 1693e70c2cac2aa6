// A solve that is looked at: every track's errors, and which tracks are suspected of what. Cameras and points are made
// up, and so are the ways in which tracks go wrong.

#include "camera/cloudpick.h"
#include "camera/suspects.h"
#include "camera/trackerrors.h"
#include "jobs/diagnosing.h"
#include "jobs/nextstep.h"
#include "scenarios/judge.h"
#include "shot/stages/camerastage.h"

#include <catch2/catch.hpp>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <random>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kFirst = 1001, kFrames = 41;

/// A camera that goes two metres to the right and bobs, before points four to twelve metres away, and tracks of them.
struct Looked {
    Solve solve;
    std::vector<Track> tracks;
    std::vector<SolvedTrack> solved;
    std::vector<Vector3d> points;
    std::mt19937 dice{11};
    std::normal_distribution<double> noise{0, 0.15};

    explicit Looked(Readout readout = {}) {
        solve.lens = pinholeLens(1920, 1080, 1700);
        solve.lens.k1 = -0.06;
        solve.readout = readout;
        solve.noise_px = 0.15;
        std::vector<SolvedFrame> frames;
        for (int f = 0; f < kFrames; ++f) {
            Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
            pose.translate(Vector3d(0.05 * f - 1, 1.6 + 0.08 * std::sin(0.35 * f), 0.01 * f));
            pose.rotate(Eigen::AngleAxisd(0.03 * std::sin(0.2 * f), Vector3d::UnitY()));
            frames.push_back(
                {.frame = kFirst + f, .worldFromCamera = pose, .focal_px = solve.lens.focal_px, .tracks = 40});
        }
        solve.frames = List<SolvedFrame>(std::move(frames));
        std::uniform_real_distribution<double> share(0, 1);
        for (int i = 0; i < 90; ++i) {
            const double z = -(4 + 8 * share(dice));
            add({z * 0.45 * (1 - 2 * share(dice)), 1.6 + z * 0.25 * (1 - 2 * share(dice)), z});
        }
    }
    std::size_t add(const Vector3d& point, int from = 0, int to = kFrames) {
        Track track;
        track.id = TrackId(tracks.size() + 1);
        track.name = "t" + std::to_string(track.id);
        std::vector<Sample> samples;
        for (int f = from; f < to; ++f)
            if (const auto at = projected(solve, kFirst + f, point))
                samples.push_back({.frame = kFirst + f, .at = *at + Vector2d(noise(dice), noise(dice))});
        track.samples = List<Sample>(std::move(samples));
        tracks.push_back(track);
        points.push_back(point);
        solved.push_back({.track = track.id, .role = TrackRole::used, .xyz = point, .frames = kFrames});
        return tracks.size() - 1;
    }
    /// Moves a track's samples; the solve then has no place for it.
    template <class Move>
    void bend(std::size_t track, const Move& by) {
        tracks[track].samples = tracks[track].samples.edited([&](auto& samples) {
            for (Sample& sample : samples) sample.at += by(sample.frame - kFirst);
        });
        solved[track].role = TrackRole::disagreed;
        solved[track].xyz.reset();
    }
    std::vector<TrackErrors> errors() {
        solve.tracks = List<SolvedTrack>(solved);
        return errorsOf(solve, tracks);
    }
    std::vector<Suspect> suspects() {
        const auto all = errors();
        return suspectsOf(solve, all);
    }
};

const Suspect* suspectOf(const std::vector<Suspect>& all, TrackId track) {
    for (const Suspect& one : all)
        if (one.track == track) return &one;
    return nullptr;
}

}  // namespace

TEST_CASE("a track is placed where all its rays meet, through lens and rows, and its errors are what was added") {
    for (const Readout readout : {Readout{}, Readout{0.6, false}}) {
        Looked looked(readout);
        const SolvedViews views(looked.solve);
        for (std::size_t t = 0; t < looked.tracks.size(); ++t) {
            Track exact = looked.tracks[t];
            exact.samples = exact.samples.edited([&](auto& samples) {
                for (Sample& sample : samples) sample.at = *projected(looked.solve, sample.frame, looked.points[t]);
            });
            const auto place = placeOf(views, exact);
            REQUIRE(place);
            CHECK((place->head<3>() / (*place)[3] - looked.points[t]).norm() < 1e-4);
        }
        looked.bend(3, [](int f) { return f == 20 ? Vector2d(6, -8) : Vector2d(0, 0); });
        const TrackErrors own = looked.errors()[3];
        REQUIRE(own.of.size() == std::size_t(kFrames));
        // The place is the robust one: a single wild frame does not pull it.
        CHECK(own.of[20].error.x() == Approx(6).margin(0.8));
        CHECK(own.of[20].error.y() == Approx(-8).margin(0.8));
        CHECK(own.of[19].error.norm() < 0.9);
        CHECK(own.of[20].distance == Approx(-looked.points[3].z()).epsilon(0.1));
    }
}

TEST_CASE("a track of a far point is a direction, and one seen once or never solved has no place") {
    Looked looked;
    const std::size_t far = looked.add({4e5, 1e5, -1e6});
    const SolvedViews views(looked.solve);
    const auto place = placeOf(views, looked.tracks[far]);
    REQUIRE(place);
    CHECK(std::abs((*place)[3]) < 1e-3);
    CHECK((place->head<3>().normalized() - looked.points[far].normalized()).norm() < 1e-3);
    Track once = looked.tracks[0];
    once.samples = List<Sample>({once.samples.front()});
    CHECK_FALSE(placeOf(views, once));
    Track before = looked.tracks[0];
    before.samples = before.samples.edited([](auto& samples) {
        for (Sample& sample : samples) sample.frame -= 500;
    });
    CHECK_FALSE(placeOf(views, before));
}

TEST_CASE("suspects are told with their reason and its evidence, and good tracks are none") {
    Looked looked;
    looked.bend(0, [](int f) { return f >= 19 ? Vector2d(3, 2.6) : Vector2d(0, 0); });
    looked.bend(1, [](int f) { return Vector2d(0.20 * f, 0.20 * f); });
    // Five close together go along a curve of their own.
    std::vector<std::size_t> together;
    for (int i = 0; i < 5; ++i) {
        together.push_back(looked.add({-1.2 + 0.05 * i, 1.5 + 0.04 * (i % 2), -7}));
        looked.bend(together.back(), [](int f) { return Vector2d(9 * std::sin(0.12 * f), 0.004 * f * f); });
    }
    const std::size_t twin = looked.add(looked.points[10], 4, 30);
    // A point far beyond what is all about it.
    std::vector<std::size_t> wall;
    for (int i = 0; i < 12; ++i) wall.push_back(looked.add({1.0 + 0.05 * (i % 4), 1.4 + 0.05 * (i / 4), -5}));
    const std::size_t beyond = looked.add({45.9, 1.3, -220});
    const std::size_t behind = looked.add({0.3, 1.5, -6});
    looked.solved[behind].xyz = Vector3d(0, 1.6, 30);
    // Where a near edge passes before a far one: across with the near, up and down with the far.
    for (int i = 0; i < 5; ++i) {
        looked.add({-0.33, 0.95 + 0.025 * i, -4.2});
        looked.add({-1.05 + 0.07 * i, 0.07 * i - 0.1, -11.5});
    }
    const std::size_t crossing = looked.add({-0.33, 1.0, -4.2});
    for (int f = 0; f < kFrames; ++f) {
        const auto near = projected(looked.solve, kFirst + f, {-0.33, 1.0, -4.2}),
                   far = projected(looked.solve, kFirst + f, {-0.9, 0.0, -11.5});
        REQUIRE(near);
        REQUIRE(far);
        looked.tracks[crossing].samples = looked.tracks[crossing].samples.edited([&](auto& samples) {
            samples[std::size_t(f)].at = {near->x(), far->y()};
        });
    }
    looked.solved[crossing].role = TrackRole::disagreed;
    looked.solved[crossing].xyz.reset();

    const auto found = looked.suspects();
    const auto reasonOf = [&](std::size_t track) -> std::string {
        const Suspect* one = suspectOf(found, looked.tracks[track].id);
        return one ? std::string(wordsOf(one->reason)) : "none";
    };
    CHECK(reasonOf(0) == "jump");
    const Suspect* jump = suspectOf(found, looked.tracks[0].id);
    REQUIRE(jump);
    CHECK(jump->frame == kFirst + 19);
    CHECK(jump->by_px == Approx(3.97).margin(1.2));
    CHECK(reasonOf(1) == "slide or drift");
    const Suspect* slide = suspectOf(found, looked.tracks[1].id);
    REQUIRE(slide);
    for (const std::size_t one : together) CHECK(reasonOf(one) == "move by themselves");
    CHECK(reasonOf(twin) == "double another");
    CHECK(suspectOf(found, looked.tracks[twin].id)->other == looked.tracks[10].id);
    CHECK(reasonOf(beyond) == "lie far beyond");
    CHECK(reasonOf(behind) == "behind the camera");
    CHECK(reasonOf(crossing) == "where two depths cross");
    // Nothing is said of the good ones.
    for (std::size_t t = 2; t < 90; ++t) {
        INFO("track " << t);
        CHECK(reasonOf(t) == "none");
    }
    CHECK(wordsOf(*jump, "s-012", "") == fmt::format("s-012 jumps by {:.1f} px on 1020", jump->by_px));
    CHECK(isHarmful(SuspectReason::jumps));
    CHECK_FALSE(isHarmful(SuspectReason::doubles));
}

TEST_CASE("what the solve told apart as a mover is suspected of that, and a narrow point of its angle") {
    Looked looked;
    looked.solve.movers = List<MovingTracks>({{{looked.tracks[5].id, looked.tracks[6].id}, {kFirst, kFirst + 40}}});
    const std::size_t narrow = looked.add({3, 2, -14}, 18, 20);
    looked.solved[narrow].deviation = {0.4, 0.3, 3};
    const auto found = looked.suspects();
    REQUIRE(suspectOf(found, looked.tracks[5].id));
    CHECK(suspectOf(found, looked.tracks[5].id)->reason == SuspectReason::moves);
    CHECK(suspectOf(found, looked.tracks[6].id)->reason == SuspectReason::moves);
    REQUIRE(suspectOf(found, looked.tracks[narrow].id));
    CHECK(suspectOf(found, looked.tracks[narrow].id)->reason == SuspectReason::narrow);
    CHECK(found.size() == 3);
}

TEST_CASE(
    "the next step names the likeliest cause: what changed, what moves, where it is thin, the lens, suspects, ground") {
    Looked looked;
    looked.solve.motion = CameraMotion::travelling;
    Shot shot;
    shot.plate.width = 1920;
    shot.plate.height = 1080;
    shot.plate.range = {kFirst, kFirst + kFrames - 1};
    const auto stepOf = [&] {
        looked.solve.tracks = List<SolvedTrack>(looked.solved);
        shot.tracks = List<Track>(looked.tracks);
        shot.solve = std::make_shared<const Solve>(looked.solve);
        shot.solvedKey = solveKey(shot);
        return nextStepOf(shot, *lookAtSolve(shot));
    };
    CHECK(stepOf().kind == NextStep::Kind::layGround);
    shot.world.ground = List<TrackId>({1, 2, 3});
    CHECK(stepOf().kind == NextStep::Kind::none);
    shot.solvedKey += 1;
    CHECK(nextStepOf(shot, *lookAtSolve(shot)).kind == NextStep::Kind::solveAgain);
    // A ninth of the tracks slides.
    const Looked good = looked;
    for (std::size_t t = 0; t < 10; ++t) {
        looked.bend(t, [](int f) { return Vector2d(0.02 * f, 0.16 * f); });
        looked.solved[t].role = TrackRole::used;
    }
    NextStep step = stepOf();
    for (std::size_t t = 0; t < 10; ++t) CHECK(suspectOf(looked.suspects(), looked.tracks[t].id));
    CHECK(step.kind == NextStep::Kind::setAside);
    CHECK(step.words.find("10 of 90 used tracks") != std::string::npos);
    // The lens bends otherwise than it was found to: all lean outwards near the corners.
    looked = good;
    looked.solve.lens.k1 -= 0.02;
    step = stepOf();
    INFO(step.words);
    CHECK(step.kind == NextStep::Kind::freeLens);
    shot.solveSettings.distortion = SolveSettings::Distortion::full;
    CHECK(stepOf().kind != NextStep::Kind::freeLens);
    shot.solveSettings = {};
    looked = good;
    looked.solve.focalRange_mm = {25, 61};
    step = stepOf();
    CHECK(step.kind == NextStep::Kind::guessFocal);
    CHECK(step.focal_mm == Approx(36 * 1700 / 1920.0));
    CHECK(step.words.find("25 to 61 mm") != std::string::npos);
    looked.solve.frames = looked.solve.frames.edited([](auto& frames) { frames[12].tracks = 9; });
    step = stepOf();
    CHECK(step.kind == NextStep::Kind::goThere);
    CHECK(step.frame == kFirst + 12);
    looked.solve.frames = looked.solve.frames.edited([](auto& frames) { frames.erase(frames.begin() + 30); });
    step = stepOf();
    CHECK(step.frame == kFirst + 30);
    CHECK(step.words.find("1 frame has no camera") != std::string::npos);
    looked.solve.movers =
        List<MovingTracks>({{{50, 51}, {kFirst, kFirst + 9}}, {{10, 11, 12, 13}, {kFirst + 2, kFirst + 30}}});
    step = stepOf();
    CHECK(step.kind == NextStep::Kind::maskMover);
    CHECK(step.mover == 1);
    looked.tracks[10].setAside = looked.tracks[11].setAside = true;
    CHECK(stepOf().kind == NextStep::Kind::goThere);
}

TEST_CASE("points are chosen by where they lie: those far beyond the rest, and the neighbours of some") {
    Looked looked;
    const std::size_t far = looked.add({20, 2, -60}), direction = looked.add({1, 2, -8});
    looked.solved[direction].direction = Vector3d(0, 0, -1);
    looked.solved[direction].xyz.reset();
    // Two clumps, apart from each other and from the rest.
    std::vector<TrackId> left, right;
    for (int i = 0; i < 9; ++i) {
        left.push_back(looked.tracks[looked.add({-30 + 0.2 * (i % 3), 0.2 * (i / 3), -7})].id);
        right.push_back(looked.tracks[looked.add({30 + 0.2 * (i % 3), 0.2 * (i / 3), -7})].id);
    }
    looked.solve.tracks = List<SolvedTrack>(looked.solved);
    CHECK(beyond(looked.solve, 6) == std::vector<TrackId>{looked.tracks[far].id, looked.tracks[direction].id});
    CHECK(beyond(looked.solve, 0).size() == looked.tracks.size());
    auto found = grown(looked.solve, {left[4]});
    std::sort(found.begin(), found.end());
    CHECK(found == left);
    CHECK(grown(looked.solve, {}).empty());
    CHECK(grown(Solve{}, {7}) == std::vector<TrackId>{7});
}

TEST_CASE("a solve without some tracks is measured by the same held-out tracks, and says what is left where") {
    bench::ShotPlan plan = bench::drawPlan("handheld", 3);
    plan.frames = 40;
    plan.tracks = 120;
    plan.wrong = 0.1;
    const bench::MadeShot made = bench::make(plan);
    Shot shot;
    shot.plate.width = plan.width;
    shot.plate.height = plan.height;
    shot.plate.range = {1001, 1040};
    shot.tracks = List<Track>(made.tracks);
    CHECK(lookAtSolve(shot).error().message.find("solve the camera first") != std::string::npos);
    const SolveOptions options = bench::optionsFor(made, Knowledge::unknown);
    const auto solve = solveCamera(made.tracks, options);
    REQUIRE(solve);
    shot.solve = std::make_shared<const Solve>(*solve);
    const auto look = lookAtSolve(shot);
    REQUIRE(look);
    CHECK(look->errors.size() == solve->tracks.size());
    // The same errors that the solve counted, frame by frame.
    for (const SolvedFrame& frame : solve->frames)
        CHECK(look->byFrame.at(frame.frame) == Approx(frame.rms_px).epsilon(0.25));
    const std::uint64_t key = lookKey(shot);

    // Half of what is seen on one frame.
    std::vector<TrackId> some;
    for (const SolvedTrack& track : solve->tracks)
        if (track.role == TrackRole::used && track.track % 2 == 0) some.push_back(track.track);
    const auto without = solveWithout(shot, some);
    REQUIRE(without);
    CHECK(without->tracks == some.size());
    CHECK(without->heldOut_px == Approx(solve->heldOutRms_px).epsilon(0.2));
    CHECK(without->heldOutThen_px > 0);
    CHECK(without->fewestThen < without->fewest);
    CHECK(without->coveredThen <= without->covered);
    CHECK(lookKey(shot) == key);
    std::vector<TrackId> all;
    for (const Track& track : shot.tracks) all.push_back(track.id);
    CHECK_FALSE(solveWithout(shot, all));
}

}  // namespace pinion
