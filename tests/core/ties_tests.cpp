// What an artist does to a track: ties, re-tracking, gaps, offset, outline; and what is said before tracking.

#include "comp/warp.h"
#include "exchange/newshot.h"
#include "jobs/tracking.h"
#include "made.h"
#include "plate/platecheck.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/steadystage.h"
#include "track/advice.h"

#include <catch2/catch.hpp>

using namespace pinion;
using namespace pinion::test;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

Vector2d path(int frame) {
    return {100.5 + 14 * std::sin(0.21 * (frame - 1)), 80.5 + 9 * std::sin(0.13 * (frame - 1))};
}

std::shared_ptr<const Plate> wanderingPlate(int frames, double grain = 1.0) {
    return std::make_shared<MadePlate>(frames, [grain](int frame) {
        const Vector2d offset = path(frame) - path(1);
        return moved(shift(offset.x(), offset.y()), 1, 0, grain, unsigned(frame));
    });
}

Track withTie(Track track, int frame, const Vector2d& at) {
    track.samples = track.samples.edited([&](auto& samples) {
        for (Sample& sample : samples)
            if (sample.frame == frame) sample = {.frame = frame, .at = at, .tie = true};
    });
    return track;
}

}  // namespace

TEST_CASE("a tie re-tracks only the stretches to its neighbours, and leaves no jump") {
    FrameCache frames(wanderingPlate(30));
    auto tracked = trackPoints(frames, {placed(1, path(1))}, {1, 30}, Direction::both);
    REQUIRE(tracked);
    Track before = withTie(tracked->tracks.front(), 8, path(8));
    before = withTie(before, 26, path(26));
    // The artist means a place beside the one that was tracked.
    const Vector2d correction(0.9, -0.6);
    const Track corrected = withTie(before, 17, path(17) + correction);
    const auto result = trackAroundTie(frames, corrected, 17, {1, 30});
    REQUIRE(result);
    const Track& after = result->tracks.front();
    REQUIRE(after.samples.size() == 30);
    Vector2d last(0, 0);
    for (int frame = 1; frame <= 30; ++frame) {
        INFO(frame);
        const Sample& sample = *sampleAt(after, frame);
        if (frame <= 8 || frame >= 26) CHECK(sample.at == sampleAt(before, frame)->at);
        // Away from the truth by the whole correction at the tie and by none at its neighbours, in small steps between.
        const Vector2d off = sample.at - path(frame);
        if (frame > 1) CHECK((off - last).norm() < 0.25);
        last = off;
    }
    CHECK((sampleAt(after, 17)->at - path(17) - correction).norm() < 1e-9);
    CHECK(sampleAt(after, 17)->tie);

    SECTION("and tracking through ties blends each stretch too") {
        const auto again = trackPoints(frames, {after}, 1, {1, 30}, Direction::forward);
        REQUIRE(again);
        CHECK((sampleAt(again->tracks.front(), 17)->at - path(17) - correction).norm() < 1e-9);
        for (int frame = 2; frame <= 30; ++frame) {
            const Vector2d a = sampleAt(again->tracks.front(), frame)->at - path(frame),
                           b = sampleAt(again->tracks.front(), frame - 1)->at - path(frame - 1);
            CHECK((a - b).norm() < 0.25);
        }
    }
    SECTION("without a neighbour it goes as far as the track went") {
        Track open = tracked->tracks.front();
        open.samples = open.samples.edited([](auto& samples) { samples.resize(24); });
        open = withTie(open, 12, path(12) + Vector2d(0.4, 0.4));
        const auto outward = trackAroundTie(frames, open, 12, {1, 30});
        REQUIRE(outward);
        CHECK(outward->tracks.front().lastFrame() == 24);
        CHECK((sampleAt(outward->tracks.front(), 22)->at - path(22) - Vector2d(0.4, 0.4)).norm() < 0.15);
    }
}

TEST_CASE("only what is bad is tracked again; frames already good stay to the last digit") {
    FrameCache frames(wanderingPlate(24));
    const auto tracked = trackPoints(frames, {placed(1, path(1))}, {1, 24}, Direction::both);
    REQUIRE(tracked);
    const Track good = tracked->tracks.front();
    Track spoiled = good;
    spoiled.samples = good.samples.edited([](auto& samples) {
        for (Sample& sample : samples)
            if (sample.frame >= 10 && sample.frame <= 13) {
                sample.at += Vector2d(3, 2);
                sample.score = 0.6;
            }
        std::erase_if(samples, [](const Sample& s) { return s.frame == 18; });
    });
    const auto mended = trackBad(frames, {spoiled}, 0.92, {1, 24});
    REQUIRE(mended);
    const Track& after = mended->tracks.front();
    REQUIRE(after.samples.size() == 24);
    for (int frame = 1; frame <= 24; ++frame) {
        INFO(frame);
        if ((frame >= 10 && frame <= 13) || frame == 18) CHECK((sampleAt(after, frame)->at - path(frame)).norm() < 0.1);
        else CHECK(sampleAt(after, frame)->at == sampleAt(good, frame)->at);
    }
    const auto nothing = trackBad(frames, {good}, 0.5, {1, 24});
    REQUIRE_FALSE(nothing);
    CHECK(nothing.error().message.find("nothing to do") != std::string::npos);
}

TEST_CASE("a lost pattern is picked up again where it returns; the gap says why, and is bridged smoothly on request") {
    FrameCache frames(std::make_shared<MadePlate>(26, [](int frame) {
        const Vector2d offset = path(frame) - path(1);
        Picture picture = moved(shift(offset.x(), offset.y()), 1, 0, 1.0, unsigned(frame));
        // Marks, so that no other place of the texture looks the same.
        for (int y = 0; y < 160; ++y)
            for (int x = 0; x < 200; ++x)
                for (const auto& [dx, dy, height] :
                     {std::tuple{5.0, -4.0, 0.22F}, {-6.0, 3.0, -0.2F}, {-14.0, -13.0, 0.2F}, {15.0, 14.0, -0.2F}}) {
                    const double r2 =
                        std::pow(x + 0.5 - path(frame).x() - dx, 2) + std::pow(y + 0.5 - path(frame).y() - dy, 2);
                    for (std::size_t c = 0; c < 3; ++c)
                        picture.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] +=
                            height * float(std::exp(-r2 / 18));
                }
        if (frame >= 9 && frame <= 13)
            for (int y = 0; y < 160; ++y)
                for (int x = 60; x < 150; ++x)
                    for (std::size_t c = 0; c < 3; ++c)
                        picture.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] =
                            0.3F + 0.4F * float((x / 5 + y / 7) % 2);
        return picture;
    }));
    Track asked = placed(1, path(1));
    asked.pickUp = true;
    const auto result = trackPoints(frames, {asked}, {1, 26}, Direction::both);
    REQUIRE(result);
    const Track& track = result->tracks.front();
    REQUIRE(track.lastFrame() == 26);
    REQUIRE(track.samples.size() >= 20);  // it may take a frame to be sure
    REQUIRE_FALSE(sampleAt(track, 11));
    for (const Sample& sample : track.samples) CHECK((sample.at - path(sample.frame)).norm() < 0.15);
    const EndReason reason = sampleAt(track, 8)->lost;
    CHECK((reason == EndReason::covered || reason == EndReason::driftLimit || reason == EndReason::ambiguous));

    const Track whole = bridged(track);
    REQUIRE(whole.samples.size() == 26);
    for (int frame = 9; frame <= 13; ++frame) {
        CHECK(sampleAt(whole, frame)->bridged);
        CHECK((sampleAt(whole, frame)->at - path(frame)).norm() < 1.0);
    }
    CHECK(unbridged(whole).samples.size() == track.samples.size());

    asked.pickUp = false;
    const auto ended = trackPoints(frames, {asked}, {1, 26}, Direction::both);
    REQUIRE(ended);
    CHECK(ended->tracks.front().lastFrame() == 8);
}

TEST_CASE("an offset point turns and grows with the pattern it hangs on") {
    const Vector2d centre(100.5, 80.5), offset(26, -14);
    const auto pose = [&](int frame) {
        Matrix3d m = Matrix3d::Identity();
        m.topLeftCorner<2, 2>() = (1 + 0.02 * frame) * Eigen::Rotation2Dd(0.03 * frame).toRotationMatrix();
        m.topRightCorner<2, 1>() = centre - m.topLeftCorner<2, 2>() * centre + Vector2d(0.5 * frame, 0.2 * frame);
        return m;
    };
    FrameCache frames(std::make_shared<MadePlate>(14, [&](int frame) { return moved(pose(frame - 1)); }));
    Track track = placed(1, centre, MotionModel::similarity);
    track.offset = offset;
    const auto result = trackPoints(frames, {track}, {1, 14}, Direction::both);
    REQUIRE(result);
    REQUIRE(result->tracks.front().samples.size() == 14);
    for (const Sample& sample : result->tracks.front().samples) {
        if (sample.tie) continue;
        INFO(sample.frame);
        const Vector2d expected = (pose(sample.frame - 1) * (centre + offset).homogeneous()).hnormalized();
        CHECK((sample.wanted() - expected).norm() < 0.25);
    }
}

TEST_CASE("of an outlined pattern the background behind it does not count") {
    // A sign moves right, what is behind it moves left: half of the square pattern belongs to each.
    const auto picture = [](int frame) {
        Picture front = moved(shift(1.2 * frame, 0));
        const Picture behind = moved(shift(-2.3 * frame, 1.1 * frame) * shift(31, 17));
        const double edge = 100.5 + 1.2 * frame;
        for (int y = 0; y < 160; ++y)
            for (int x = 0; x < 200; ++x)
                if (x + 0.5 > edge)
                    for (std::size_t c = 0; c < 3; ++c)
                        front.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] =
                            behind.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c];
        return front;
    };
    FrameCache frames(std::make_shared<MadePlate>(14, [&](int frame) { return picture(frame - 1); }));
    const auto worst = [&](const Track& track) {
        const auto result = trackPoints(frames, {track}, {1, 14}, Direction::forward);
        REQUIRE(result);
        double most = result->tracks.front().samples.size() < 14 ? 99 : 0;
        for (const Sample& sample : result->tracks.front().samples)
            most = std::max(most, (sample.at - Vector2d(100.5 + 1.2 * (sample.frame - 1), 80.5)).norm());
        return most;
    };
    Track track = placed(1, {100.5, 80.5}, MotionModel::translation);
    track.pattern_px = 31;
    const double plain = worst(track);
    track.outline = List<Vector2d>({{-15, -15}, {-0.5, -15}, {-0.5, 15}, {-15, 15}});
    const double outlined = worst(track);
    CHECK(outlined < 0.12);
    CHECK(plain > 3 * outlined);
}

TEST_CASE("local contrast holds a pattern that a shadow passes over") {
    FrameCache frames(std::make_shared<MadePlate>(16, [](int frame) {
        Picture picture = moved(shift(0.7 * (frame - 1), 0.3 * (frame - 1)), 1, 0, 1.0, unsigned(frame));
        for (int y = 0; y < 160; ++y)
            for (int x = 0; x < 200; ++x) {
                // A soft edge of shadow, crossing the pattern.
                const double shade = 0.62 + 0.38 / (1 + std::exp(-(x - 70 - 6.0 * frame) / 4.0));
                for (std::size_t c = 0; c < 3; ++c)
                    picture.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] *= float(shade);
            }
        return picture;
    }));
    const auto rms = [&](PreFilter filter) {
        Track track = placed(1, {100.5, 80.5}, MotionModel::translation);
        track.preFilter = filter;
        track.driftLimit = 0.3;
        const auto result = trackPoints(frames, {track}, {1, 16}, Direction::forward);
        REQUIRE(result);
        double squares = 0;
        for (const Sample& sample : result->tracks.front().samples)
            squares +=
                (sample.at - Vector2d(100.5 + 0.7 * (sample.frame - 1), 80.5 + 0.3 * (sample.frame - 1))).squaredNorm();
        REQUIRE(result->tracks.front().samples.size() == 16);
        return std::sqrt(squares / 16);
    };
    const double plain = rms(PreFilter::none), even = rms(PreFilter::localContrast);
    INFO(plain << " against " << even);
    CHECK(even < 0.15);
    CHECK(even < 0.7 * plain);
}

TEST_CASE("where a track begins to go wrong is found, and nothing is found on a good one") {
    FrameCache frames(wanderingPlate(30));
    const auto tracked = trackPoints(frames, {placed(1, path(1))}, {1, 30}, Direction::both);
    REQUIRE(tracked);
    Track track = tracked->tracks.front();
    CHECK_FALSE(firstDoubt(track));
    track.samples = track.samples.edited([](auto& samples) {
        for (Sample& sample : samples)
            if (sample.frame >= 19) sample.score -= 0.1;
    });
    CHECK(firstDoubt(track) == 19);
    track = tracked->tracks.front();
    track.samples = track.samples.edited([](auto& samples) { samples[13].at += Vector2d(6, 0); });
    CHECK(firstDoubt(track) == 14);
}

TEST_CASE("a spot is told to be a corner, an edge with its direction, or flat, before it is tracked") {
    Picture picture{200, 160, Picture::Depth::float32, false, {}, std::vector<float>(200 * 160 * 3, 0.4F)};
    const auto set = [&](int x, int y, float value) {
        for (std::size_t c = 0; c < 3; ++c) picture.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] = value;
    };
    for (int y = 0; y < 160; ++y)
        for (int x = 0; x < 200; ++x)
            if (x > 40 && x < 120 && y > 40 && y < 110) set(x, y, 0.8F);
    const Pyramid pyramid = buildPyramid(picture);
    CHECK(adviseSpot(pyramid, {41, 41}, 21, 61).kind == SpotAdvice::Kind::corner);
    const SpotAdvice edge = adviseSpot(pyramid, {41, 75}, 21, 61);
    CHECK(edge.kind == SpotAdvice::Kind::edge);
    CHECK(std::abs(std::abs(edge.slideDegrees) - 90) < 2);
    CHECK(toString(edge).find("slide along") != std::string::npos);
    CHECK(adviseSpot(pyramid, {160, 80}, 21, 61).kind == SpotAdvice::Kind::flat);
    CHECK(adviseSpot(pyramid, {4, 80}, 21, 61).kind == SpotAdvice::Kind::border);

    FrameCache frames(wanderingPlate(12));
    const auto spots =
        proposeSpots(frames, {{60, 40}, {150, 40}, {150, 120}, {60, 120}}, 1, {1, 12}, 5, placed(1, {0, 0}));
    REQUIRE(spots);
    REQUIRE(spots->size() == 5);
    for (std::size_t i = 0; i < spots->size(); ++i) {
        CHECK((*spots)[i].at.x() > 60);
        CHECK((*spots)[i].at.x() < 150);
        if (i > 0) CHECK((*spots)[i].rank <= (*spots)[i - 1].rank);
    }
    CHECK(spots->front().frames == 12);
}

TEST_CASE("the plate check finds blur by motion, a jump of the light and a cut, and says what they mean") {
    // A frame of the mooring, moved by known amounts; upside down and darker from frame 31 on.
    const auto plate = Plate::open(std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates/mooring.mp4");
    REQUIRE(plate);
    const PicturePtr still = *(*plate)->read(1001);
    class Moved final : public Plate {
    public:
        explicit Moved(PicturePtr still) : still_(std::move(still)) {
            facts_.width = still_->width;
            facts_.height = still_->height;
            facts_.firstFrame = 1;
            facts_.lastFrame = 40;
        }
        Expected<PicturePtr> read(int frame) const override {
            const bool blurred = frame >= 12 && frame <= 16;
            std::vector<float> sum(still_->bytes.size(), 0.0F);
            const int steps = blurred ? 7 : 1;
            for (int step = 0; step < steps; ++step) {
                const double along =
                    0.4 * frame + 14.0 * std::clamp(frame - 11, 0, 5) + (blurred ? 2.0 * (step - 3) : 0);
                const Picture part = warped(
                    *still_,
                    frame >= 31 ? Matrix3d(shift(1280, 720) * Matrix3d(Eigen::Scaling(Eigen::Vector3d(-1, -1, 1))))
                                : shift(-along, 0),
                    ResampleFilter::bilinear, EdgeMode::mirrored);
                for (std::size_t i = 0; i < sum.size(); ++i) sum[i] += float(part.bytes[i]) / float(steps);
            }
            auto picture = std::make_shared<Picture>(*still_);
            const float light = frame == 24 ? 1.2F : frame >= 31 ? 0.6F : 1.0F;
            for (std::size_t i = 0; i < sum.size(); ++i)
                picture->bytes[i] = std::uint8_t(std::min(255.0F, light * sum[i]));
            return picture;
        }

    private:
        PicturePtr still_;
    };
    FrameCache frames(std::make_shared<Moved>(still));
    const auto check = checkPlate(frames, 1, 40);
    REQUIRE(check);
    REQUIRE(check->frames.size() == 40);
    const auto note = [&](PlateNote::Kind kind) -> const PlateNote* {
        for (const PlateNote& n : check->notes)
            if (n.kind == kind) return &n;
        return nullptr;
    };
    for (const FrameCheck& f : check->frames)
        UNSCOPED_INFO(f.frame << ": sharpness " << f.sharpness << ", motion " << f.motion_px << (f.cut ? ", cut" : ""));
    REQUIRE(note(PlateNote::Kind::blurred));
    CHECK(std::abs(note(PlateNote::Kind::blurred)->first - 12) <= 1);
    CHECK(std::abs(note(PlateNote::Kind::blurred)->last - 16) <= 1);
    CHECK(note(PlateNote::Kind::blurred)->words.find("blurred by motion: expect short tracks") != std::string::npos);
    REQUIRE(note(PlateNote::Kind::jump));
    CHECK(note(PlateNote::Kind::jump)->first == 24);
    REQUIRE(note(PlateNote::Kind::cut));
    CHECK(note(PlateNote::Kind::cut)->first == 31);
    CHECK(check->frames[13].motion_px == Approx(14.4).margin(1.5));
    CHECK(check->frames[20].motion_px == Approx(0.4).margin(0.4));
}

TEST_CASE(
    "locked tracks are neither moved, tracked nor deleted; joining, trimming and duplicating keep every sample's "
    "place") {
    FrameCache frames(wanderingPlate(20));
    Shot shot = shotOf(frames.facts());
    shot = withTrackAdded(shot, 1, path(1));
    shot = withTracked(shot, trackPoints(frames, shot.tracks.vector(), {1, 20}, Direction::both)->tracks);
    const TrackId id = shot.tracks[0].id;
    const Shot locked = withTracksEdited(shot, {id}, [](Track& t) { t.locked = true; });
    CHECK(withTrackMoved(locked, id, 5, {1, 1}).tracks[0].samples[4].at == shot.tracks[0].samples[4].at);
    CHECK(withTracksRemoved(locked, {id}).tracks.size() == 1);
    const auto refused = runTrack(locked, frames, {id}, 1, Direction::both);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().message.find("is locked") != std::string::npos);

    std::vector<TrackId> copies;
    Shot two = withTracksDuplicated(shot, {id}, &copies);
    REQUIRE(copies.size() == 1);
    CHECK(two.tracks[1].name == "p-1-2");
    two = withTracksTrimmed(two, {id}, {1, 9});
    two = withTracksTrimmed(two, copies, {7, 20});
    CHECK(two.tracks[0].lastFrame() == 9);
    const Shot one = withTracksJoined(two, id, copies[0]);
    REQUIRE(one.tracks.size() == 1);
    REQUIRE(one.tracks[0].samples.size() == 20);
    for (std::size_t i = 0; i < 20; ++i) CHECK(one.tracks[0].samples[i].at == shot.tracks[0].samples[i].at);

    // A tie that is taken away leaves its frame to be tracked again.
    const Shot tied = withTrackMoved(shot, id, 10, path(10) + Vector2d(2, 0));
    const Shot open = withTieRemoved(tied, id, 10);
    CHECK_FALSE(sampleAt(open.tracks[0], 10));
    const auto again = runTie(open, frames, id, 10);
    REQUIRE(again);
    CHECK((sampleAt(again->tracks[0], 10)->at - path(10)).norm() < 0.1);
}

TEST_CASE("taking a tie away tracks its own frame again and leaves other gaps alone") {
    FrameCache frames(wanderingPlate(20));
    Shot shot = shotOf(frames.facts());
    shot = withTrackAdded(shot, 1, path(1));
    shot = withTracked(shot, trackPoints(frames, shot.tracks.vector(), {1, 20}, Direction::both)->tracks);
    const TrackId id = shot.tracks[0].id;
    shot = withTracksEdited(shot, {id}, [](Track& t) {
        t.samples = t.samples.edited(
            [](auto& samples) { std::erase_if(samples, [](const Sample& s) { return s.frame == 15; }); });
    });
    shot = withTieRemoved(withTrackMoved(shot, id, 10, path(10) + Vector2d(2, 0)), id, 10);
    const auto result = runTie(shot, frames, id, 10);
    REQUIRE(result);
    CHECK(sampleAt(result->tracks[0], 10));
    CHECK_FALSE(sampleAt(result->tracks[0], 15));
}

TEST_CASE(
    "what is steadied on is part of the key that says whether a plan is stale, and imported tracks get free names") {
    Shot shot;
    shot.plate.frames = shot.plate.range = {1, 10};
    std::vector<Track> tracks(5, placed(1, {10, 10}));
    std::vector<TrackId> ids;
    shot = withTracksImported(shot, tracks, &ids);
    REQUIRE(ids.size() == 5);
    CHECK(shot.tracks[0].name == "p");
    CHECK(shot.tracks[4].name == "p-5");
    shot.steady.steady = true;
    shot.steady.on = rideOnTracks({ids[0], ids[1], ids[4]});
    Shot other = shot;
    other.steady.on = rideOnTracks({ids[0], ids[2], ids[4]});  // the same number, the same first and last
    CHECK(steadyKey(shot) != steadyKey(other));
    Shot bare = shot, otherBare = other;
    bare.tracks = otherBare.tracks = {};
    CHECK(steadyKey(bare) != steadyKey(otherBare));
    other = shot;
    other.plate.fps = {25, 1};
    CHECK(steadyKey(shot) != steadyKey(other));
}

TEST_CASE("a pattern that cannot be tracked is refused with place and remedy") {
    FrameCache frames(wanderingPlate(6));
    Track track = placed(1, {100, 80});
    track.search_px = 15;
    const auto larger = trackPoints(frames, {track}, {1, 6}, Direction::both);
    REQUIRE_FALSE(larger);
    CHECK(larger.error().message.find("larger than its search area") != std::string::npos);
    const auto range = trackPoints(frames, {placed(1, {100, 80})}, {1, 9}, Direction::both);
    REQUIRE_FALSE(range);
    CHECK(range.error().message.find("lies outside the plate, which holds 1-6") != std::string::npos);
    const auto border = trackPoints(frames, {placed(1, {3, 80})}, {1, 6}, Direction::both);
    REQUIRE_FALSE(border);
    CHECK(border.error().message.find("place it on a corner") != std::string::npos);
}
