// Steadying, shakes, warping and what is handed on of a motion.

#include "base/units.h"
#include "comp/putback.h"
#include "comp/render.h"
#include "exchange/transforms.h"
#include "made.h"
#include "plate/framewriter.h"
#include "scratch.h"
#include "steady/shake.h"
#include "track/tracking.h"
#include "truth.h"

#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <random>

using namespace pinion;
using namespace pinion::test;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

/// A hand's shake on a slow pan.
Matrix3d shakenTracks(int frame) {
    return MotionParts{{1.5 * frame + 6 * std::sin(0.9 * frame), 4 * std::sin(1.3 * frame + 1)},
                       0.012 * std::sin(0.7 * frame),
                       1 + 0.01 * std::sin(0.5 * frame)}
        .about({640, 360});
}

std::vector<Track> tracksOn(const std::vector<Vector2d>& places, int first, int last,
                            const std::function<Vector2d(std::size_t, int)>& at) {
    std::vector<Track> tracks;
    for (std::size_t i = 0; i < places.size(); ++i) {
        std::vector<Sample> samples;
        for (int frame = first; frame <= last; ++frame) samples.push_back({.frame = frame, .at = at(i, frame)});
        Track track;
        track.id = TrackId(i + 1);
        track.name = fmt::format("t-{}", i + 1);
        track.referenceFrame = first;
        track.samples = List<Sample>(std::move(samples));
        tracks.push_back(std::move(track));
    }
    return tracks;
}

PlateMotion exactMotion(int frames) {
    PlateMotion motion{MotionKind::similarity, 0, {640, 360}, {}, {}};
    const Matrix3d reference = shakenTracks(0).inverse();
    for (int frame = 0; frame < frames; ++frame)
        motion.frames.push_back({frame, shakenTracks(frame) * reference, 10, 0});
    return motion;
}

}  // namespace

TEST_CASE("one track gives position, two rotation and scale, four a corner pin, each exactly") {
    const std::vector<Vector2d> places{{300, 500}, {900, 200}, {880, 560}, {320, 180}};
    const auto tracks = tracksOn(places, 0, 20, [&](std::size_t i, int frame) {
        return carried(shakenTracks(frame) * shakenTracks(0).inverse(), places[i]);
    });
    const auto position = motionOf({tracks[0]}, 0, {0, 20}, MotionKind::position);
    REQUIRE(position);
    CHECK((carried(position->at(9)->plateFromReference, places[0]) - tracks[0].samples[9].at).norm() < 1e-9);
    CHECK(partsOf(position->at(9)->plateFromReference, {0, 0}).scale == Approx(1));
    const auto two = motionOf({tracks[0], tracks[1]}, 0, {0, 20}, MotionKind::similarity);
    REQUIRE(two);
    for (int frame = 0; frame <= 20; ++frame)
        CHECK(two->at(frame)->plateFromReference.isApprox(shakenTracks(frame) * shakenTracks(0).inverse(), 1e-9));

    // Any order of the four; the result is top-left, top-right, bottom-right, bottom-left.
    const auto pin = motionOf({tracks[2], tracks[3], tracks[0], tracks[1]}, 0, {0, 20}, MotionKind::cornerPin);
    REQUIRE(pin);
    CHECK(pin->corners == std::vector<Vector2d>{places[3], places[1], places[2], places[0]});
    for (const Vector2d& place : {Vector2d(500, 300), Vector2d(700, 450)})
        CHECK((carried(pin->at(13)->plateFromReference, place) -
               carried(shakenTracks(13) * shakenTracks(0).inverse(), place))
                  .norm() < 1e-6);
}

TEST_CASE("what gives no motion is refused with the reason") {
    const std::vector<Vector2d> places{{300, 500}, {900, 200}, {880, 560}, {600, 400}};
    auto tracks = tracksOn(places, 5, 20, [&](std::size_t i, int) { return places[i]; });
    const auto says = [](const Expected<PlateMotion>& motion, const char* words) {
        REQUIRE_FALSE(motion);
        INFO(motion.error().message);
        CHECK(motion.error().message.find(words) != std::string::npos);
    };
    says(motionOf({tracks[0]}, 5, {0, 20}, MotionKind::similarity), "rotation and scale need a second one");
    says(motionOf({tracks[0]}, 2, {0, 20}, MotionKind::position), "is not there on the reference frame 2");
    says(motionOf(tracks, 5, {0, 20}, MotionKind::cornerPin), "without dents");
    says(motionOf({tracks[0], tracks[0]}, 5, {0, 20}, MotionKind::similarity), "on the same spot");
    Track single = tracks[1];
    single.samples = List<Sample>({single.samples.front()});
    says(motionOf({tracks[0], single}, 5, {0, 20}, MotionKind::similarity), "single frame");
    // A corner that crosses over on one frame, named.
    const std::vector<Vector2d> square{{300, 200}, {900, 200}, {900, 560}, {300, 560}};
    auto crossing = tracksOn(
        square, 0, 10, [&](std::size_t i, int frame) { return i == 0 && frame == 7 ? Vector2d(950, 600) : square[i]; });
    says(motionOf(crossing, 0, {0, 10}, MotionKind::cornerPin), "cross on frame 7");
    says(pictureMotionOf(tracks, 5, {0, 20}), "connect the frames");
}

TEST_CASE("the picture's motion is found from short tracks, with movers among them, and nothing adds up") {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> x(0, 1280), y(0, 720);
    std::normal_distribution<double> noise(0, 0.15);
    std::vector<Track> tracks;
    for (int i = 0; i < 420; ++i) {
        const Vector2d place(x(random), y(random));
        const int first = std::max(0, (i * 7) % 110 - 10);
        const bool mover = i % 4 == 1;
        std::vector<Sample> samples;
        for (int frame = first; frame < std::min(120, first + 24); ++frame)
            samples.push_back({.frame = frame,
                               .at = carried(shakenTracks(frame),
                                             place + (mover ? Vector2d(1.1 * (frame - first), -0.6 * (frame - first))
                                                            : Vector2d(0, 0))) +
                                     Vector2d(noise(random), noise(random))});
        Track track;
        track.samples = List<Sample>(std::move(samples));
        tracks.push_back(std::move(track));
    }
    const auto motion = pictureMotionOf(tracks, 0, {0, 119});
    REQUIRE(motion);
    REQUIRE(motion->frames.size() == 120);
    for (int frame = 0; frame < 120; frame += 7)
        for (const Vector2d& corner : {Vector2d(200, 150), Vector2d(1100, 600)}) {
            INFO(frame);
            // Chained from frame to frame the noise of 120 steps would reach half a pixel and more.
            CHECK((carried(motion->at(frame)->plateFromReference, corner) -
                   carried(shakenTracks(frame) * shakenTracks(0).inverse(), corner))
                      .norm() < 0.45);
        }
}

TEST_CASE(
    "hold keeps the reference frame still, by the strengths asked for, and fill is the smallest zoom without a "
    "border") {
    const PlateMotion motion = exactMotion(40);
    SteadyOptions options;
    options.fit = SteadyOptions::Fit::none;
    const auto plan = planSteady(motion, 1280, 720, options);
    REQUIRE(plan);
    CHECK_FALSE(plan->fills);
    // A point of the reference frame is read at the same output place on every frame.
    for (const FrameMap& map : plan->frames)
        CHECK(
            (carried(map.sourceFromOutput, {400, 300}) - carried(motion.at(map.frame)->plateFromReference, {400, 300}))
                .norm() < 1e-9);
    options.position = 0.5;
    options.rotation = 0;
    options.scale = 0;
    const auto half = planSteady(motion, 1280, 720, options);
    REQUIRE(half);
    const MotionParts all = partsOf(motion.at(17)->plateFromReference, {640, 360});
    const MotionParts left =
        partsOf(half->at(17)->sourceFromOutput.inverse() * motion.at(17)->plateFromReference, {640, 360});
    CHECK(left.angle == Approx(all.angle));
    CHECK((left.shift - 0.5 * all.shift).norm() < 1e-6);

    options = {};
    const auto filled = planSteady(motion, 1280, 720, options);
    REQUIRE(filled);
    CHECK(filled->fills);
    CHECK(filled->zoom > 1.05);
    auto smaller = plan->frames;
    applyZoom(smaller, filled->zoom - 0.001, {640, 360});
    CHECK(*fillZoom(smaller, 1280, 720) > 1.0005);
    CHECK(blurNote(*filled).find("stays visible") != std::string::npos);
}

TEST_CASE("ease keeps an even pan as it is and takes the shake out") {
    std::vector<double> pan, shake;
    for (int i = 0; i < 90; ++i) {
        pan.push_back(2.5 * i + 7);
        shake.push_back(pan.back() + 5 * std::sin(1.7 * i));
    }
    const auto smoothPan = smoothGaussian(pan, 10);
    for (std::size_t i = 0; i < pan.size(); ++i) CHECK(smoothPan[i] == Approx(pan[i]).margin(1e-9));
    const auto smoothShake = smoothGaussian(shake, 10);
    for (std::size_t i = 0; i < pan.size(); ++i) CHECK(std::abs(smoothShake[i] - pan[i]) < 0.6);
}

TEST_CASE("the L1 path stays within its leeway and is made of still stretches and even pans") {
    std::mt19937 random(11);
    std::normal_distribution<double> noise(0, 2);
    std::vector<double> path;
    for (int i = 0; i < 140; ++i) path.push_back((i < 50 ? 0 : i < 100 ? 3.0 * (i - 50) : 150) + noise(random));
    const double leeway = 12;
    const auto smooth = smoothL1(path, leeway);
    double roughness = 0, before = 0;
    int bends = 0;
    for (std::size_t i = 0; i < path.size(); ++i) {
        CHECK(std::abs(smooth[i] - path[i]) <= leeway + 1e-6);
        if (i < 3) continue;
        const double second = smooth[i] - 2 * smooth[i - 1] + smooth[i - 2];
        roughness += std::abs(second);
        before += std::abs(path[i] - 2 * path[i - 1] + path[i - 2]);
        // Even speed or even acceleration: the third difference is nothing but for a few frames.
        bends += std::abs(second - (smooth[i - 1] - 2 * smooth[i - 2] + smooth[i - 3])) > 0.03;
    }
    CHECK(roughness < 0.02 * before);
    INFO("roughness " << roughness << " of " << before << ", bends " << bends);
    CHECK(bends < 12);
}

TEST_CASE("a shake that is taken and lent again moves the picture as it was, at another rate too") {
    const PlateMotion motion = exactMotion(96);
    const auto profile = takeShake(motion, 1280, 720, {24, 1}, 0, "s");
    REQUIRE(profile);
    ShakeLending lending;
    lending.fit = SteadyOptions::Fit::none;
    const auto same = lendShake(*profile, {1, 96}, {24, 1}, 1280, 720, lending);
    REQUIRE(same);
    CHECK_FALSE(same->looped);
    // The lent motion between two frames is the taken one.
    const MotionParts taken = partsOf(motion.at(40)->plateFromReference, {640, 360}),
                      first = partsOf(motion.at(10)->plateFromReference, {640, 360});
    CHECK((same->samples[40].x - same->samples[10].x) * 1280 == Approx(taken.shift.x() - first.shift.x()).margin(1e-6));
    CHECK(same->samples[40].angleDegrees - same->samples[10].angleDegrees ==
          Approx(degrees(taken.angle - first.angle)).margin(1e-6));
    const auto slower = lendShake(*profile, {1, 90}, {30, 1}, 1280, 720, lending);
    REQUIRE(slower);
    CHECK(slower->samples[50].x == Approx(profile->samples[40].x).margin(1e-9));  // 50 of 30 a second is 40 of 24
    lending.position = 0.5;
    CHECK(lendShake(*profile, {1, 96}, {24, 1}, 1280, 720, lending)->samples[40].x ==
          Approx(0.5 * profile->samples[40].x));

    SECTION("only what is faster than a rate, and the pan stays behind") {
        const auto fast = takeShake(motion, 1280, 720, {24, 1}, 1.0, "s");
        REQUIRE(fast);
        CHECK(fast->shiftRms() < 0.3 * profile->shiftRms());
        CHECK(fast->shiftRms() * 1280 == Approx(std::sqrt(6 * 6 / 2.0 + 4 * 4 / 2.0)).epsilon(0.15));
        CHECK_FALSE(takeShake(motion, 1280, 720, {24, 1}, 40, "s"));
    }
    SECTION("too short, it is looped without a seam") {
        const auto fast = takeShake(motion, 1280, 720, {24, 1}, 0.5, "s");
        const auto looped = lendShake(*fast, {1, 400}, {24, 1}, 1280, 720, {});
        REQUIRE(looped);
        CHECK(looped->looped);
        double usual = 0, most = 0, energy = 0;
        for (std::size_t i = 1; i < fast->samples.size(); ++i)
            usual = std::max(usual, std::abs(fast->samples[i].x - fast->samples[i - 1].x));
        for (std::size_t i = 1; i < looped->samples.size(); ++i) {
            most = std::max(most, std::abs(looped->samples[i].x - looped->samples[i - 1].x));
            energy += looped->samples[i].x * looped->samples[i].x + looped->samples[i].y * looped->samples[i].y;
        }
        CHECK(most < 1.3 * usual);
        // It does not fall asleep at the seam.
        CHECK(std::sqrt(energy / 400) == Approx(fast->shiftRms()).epsilon(0.2));
        CHECK(looped->zoom > 1.0);
        CHECK(lendShake(*fast, {1, 20}, {24, 1}, 1280, 720, {})->cut);
    }
}

TEST_CASE("a warp moves the picture to a hundredth of a grey level, and does what is asked beyond the border") {
    const Picture source = moved(Matrix3d::Identity());
    const Picture same = warped(source, Matrix3d::Identity(), ResampleFilter::bicubic);
    for (std::size_t i = 0; i < source.floats.size(); i += 97)
        CHECK(std::abs(same.floats[i] - source.floats[i]) < 1e-5F);
    const Matrix3d map = MotionParts{{3.3, -2.6}, 0.05, 1.03}.about({100, 80});
    const auto error = [&](ResampleFilter filter) {
        const Picture out = warped(source, map, filter);
        double squares = 0;
        int count = 0;
        for (int y = 20; y < 140; ++y)
            for (int x = 20; x < 180; ++x, ++count) {
                const Vector2d at = carried(map, {x + 0.5, y + 0.5});
                squares += std::pow(
                    out.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3] * 255 - texture(at.x(), at.y()), 2);
            }
        return std::sqrt(squares / count);
    };
    const double bilinear = error(ResampleFilter::bilinear), bicubic = error(ResampleFilter::bicubic),
                 lanczos = error(ResampleFilter::lanczos);
    CHECK(bicubic < 0.4 * bilinear);
    CHECK(lanczos < 0.4 * bilinear);
    CHECK(lanczos < 0.5);

    Picture bytes{200, 160, Picture::Depth::bits8, false, std::vector<std::uint8_t>(200 * 160 * 3, 200), {}};
    const Matrix3d away = shift(-40, 0);
    CHECK(warped(bytes, away, ResampleFilter::bicubic, EdgeMode::empty).bytes[3 * 100] == 200);
    CHECK(warped(bytes, away, ResampleFilter::bicubic, EdgeMode::empty).bytes[3 * 10] == 0);
    CHECK(warped(bytes, away, ResampleFilter::bicubic, EdgeMode::held).bytes[3 * 10] == 200);
    bytes.bytes[3 * 29] = 90;  // mirrored in the border, pixel 29 comes back at -30
    CHECK(warped(bytes, away, ResampleFilter::bilinear, EdgeMode::mirrored).bytes[3 * 10] == 90);
}

TEST_CASE(
    "rendering keeps the depth, the values and the numbers of the source, and leaves whole frames only when stopped") {
    const Scratch scratch;
    // Half floats above 1 in EXR, 8 bits in PNG; written by our own writer and read back by the plate.
    Picture linear{64, 48, Picture::Depth::float32, true, {}, std::vector<float>(64 * 48 * 3)};
    Picture bytes{64, 48, Picture::Depth::bits8, false, std::vector<std::uint8_t>(64 * 48 * 3), {}};
    for (std::size_t i = 0; i < linear.floats.size(); ++i) {
        linear.floats[i] = float(i % 97) * 0.0391F;
        bytes.bytes[i] = std::uint8_t(i * 7);
    }
    for (const auto& [pattern, picture] :
         {std::pair<const char*, const Picture*>{"in/a.####.exr", &linear}, {"in2/b.%04d.png", &bytes}}) {
        auto writer = FrameWriter::create(scratch / pattern, 64, 48, {25, 1});
        REQUIRE(writer);
        for (int frame = 1010; frame < 1014; ++frame) REQUIRE((*writer)->write(frame, *picture));
        const auto plate = Plate::open(scratch / pattern);
        REQUIRE(plate);
        if (picture == &linear) CHECK((*plate)->facts().fps == FrameRate{25, 1});  // PNG has no place for a rate
        FrameCache frames(*plate);
        std::vector<FrameMap> maps;
        for (int frame = 1010; frame < 1014; ++frame) maps.push_back({frame, shift(3, -2)});
        const std::string out = picture == &linear ? "out/a.####.exr" : "out/b.####.png";
        const auto report = renderFrames(frames, maps, scratch / out, {.edges = EdgeMode::held});
        REQUIRE(report);
        CHECK(report->frames == 4);
        const auto again = Plate::open(scratch / out);
        REQUIRE(again);
        CHECK((*again)->facts().firstFrame == 1010);
        const auto got = *(*again)->read(1012);
        CHECK(got->linear == picture->linear);
        for (int y = 5; y < 40; ++y)
            for (int x = 5; x < 50; ++x) {
                const std::size_t to = (std::size_t(y) * 64 + std::size_t(x)) * 3,
                                  from = (std::size_t(y - 2) * 64 + std::size_t(x + 3)) * 3;
                if (picture == &linear) REQUIRE(got->floats[to] == Approx(linear.floats[from]).epsilon(1e-6));
                else REQUIRE(got->bytes[to] == bytes.bytes[from]);
            }
        const auto over = renderFrames(frames, maps, scratch / pattern, {});
        REQUIRE_FALSE(over);
        CHECK(over.error().message.find("is the plate itself") != std::string::npos);
        Progress stopped;
        stopped.stop();
        const auto early = renderFrames(frames, maps, scratch / "early/c.mp4", {}, stopped);
        REQUIRE(early);
        CHECK(early->stopped);
        CHECK_FALSE(std::filesystem::exists(scratch / "early/c.mp4"));
    }
    CHECK_FALSE(FrameWriter::create(scratch / "one.png", 64, 48, {25, 1}));
    CHECK(FrameWriter::create(scratch / "odd.mp4", 63, 48, {25, 1}).error().message.find("even width") !=
          std::string::npos);
    CHECK(FrameWriter::create(scratch / "song.wav", 64, 48, {25, 1}).error().message.find("its ending is none of") !=
          std::string::npos);
}

TEST_CASE("what was painted on a held picture goes back on to the plate, and nothing else changes by a bit") {
    std::mt19937 random(11);
    std::uniform_int_distribution<int> grey(40, 215);
    for (const bool floats : {false, true}) {
        INFO((floats ? "floats" : "bytes"));
        Picture plate{320, 180, floats ? Picture::Depth::float32 : Picture::Depth::bits8, floats, {}, {}};
        for (int i = 0; i < 320 * 180 * 3; ++i)
            if (floats) plate.floats.push_back(float(grey(random)) / 255.0F);
            else plate.bytes.push_back(std::uint8_t(grey(random)));
        Eigen::Matrix3d plateFromHeld;
        plateFromHeld << 0.98, 0.03, 4.3, -0.025, 1.01, -2.7, 2e-5, -1e-5, 1;
        const Picture held = warped(plate, plateFromHeld);
        const auto same = [&](const Picture& a) { return a.bytes == plate.bytes && a.floats == plate.floats; };
        const PutBack untouched = putBack(plate, held, held, plateFromHeld);
        CHECK(same(untouched.picture));
        CHECK(untouched.changed == 0);
        // A patch of one tone, painted where the picture stands still.
        Picture painted = held;
        for (int y = 60; y < 100; ++y)
            for (int x = 140; x < 200; ++x)
                for (std::size_t c = 0; c < 3; ++c) {
                    const std::size_t k = (std::size_t(y) * 320 + std::size_t(x)) * 3 + c;
                    if (floats) painted.floats[k] = 0.9F;
                    else painted.bytes[k] = 240;
                }
        const PutBack back = putBack(plate, held, painted, plateFromHeld);
        CHECK(back.changed == Approx(60.0 * 40 / (320 * 180)).epsilon(0.25));
        const Eigen::Matrix3d heldFromPlate = plateFromHeld.inverse();
        int wrong = 0, kept = 0, put = 0;
        for (int y = 0; y < 180; ++y)
            for (int x = 0; x < 320; ++x) {
                const Vector2d at = (heldFromPlate * Eigen::Vector3d(x + 0.5, y + 0.5, 1)).hnormalized();
                const double inside = std::min({at.x() - 140, 200 - at.x(), at.y() - 60, 100 - at.y()});
                const std::size_t k = (std::size_t(y) * 320 + std::size_t(x)) * 3;
                const double value = floats ? double(back.picture.floats[k]) : back.picture.bytes[k] / 255.0;
                const double before = floats ? double(plate.floats[k]) : plate.bytes[k] / 255.0;
                if (inside < -4.5) wrong += value != before, ++kept;
                if (inside > 3) wrong += std::abs(value - (floats ? 0.9 : 240 / 255.0)) > 0.004, ++put;
            }
        CHECK(wrong == 0);
        CHECK(kept > 50000);
        CHECK(put > 1500);
    }
}

TEST_CASE("by its alpha a painted layer is laid over the plate where it stands, by a matte what was made there") {
    std::mt19937 random(12);
    std::uniform_int_distribution<int> grey(40, 215);
    Picture plate{320, 180, Picture::Depth::bits8, false, {}, {}};
    for (int i = 0; i < 320 * 180 * 3; ++i) plate.bytes.push_back(std::uint8_t(grey(random)));
    Eigen::Matrix3d plateFromHeld;
    plateFromHeld << 0.99, 0.02, 5.3, -0.02, 1.01, -3.1, 0, 0, 1;
    // A layer of one tone, half as opaque in its right half, black where it is not; multiplied, as readers give it.
    Picture layer{320, 180, Picture::Depth::bits8, false, std::vector<std::uint8_t>(320 * 180 * 3, 0), {}};
    ImageChannel alpha(320, 180);
    for (int y = 60; y < 120; ++y)
        for (int x = 100; x < 200; ++x) {
            const float a = x < 150 ? 1.0F : 0.5F;
            alpha.row(y)[x] = a;
            for (std::size_t c = 0; c < 3; ++c)
                layer.bytes[(std::size_t(y) * 320 + std::size_t(x)) * 3 + c] = std::uint8_t(200 * a);
        }
    const PutBack over = putBackBy(PutBackBy::alpha, plate, layer, alpha, plateFromHeld);
    const Picture held = warped(plate, plateFromHeld);
    Picture made = held;
    for (std::uint8_t& value : made.bytes) value = 90;
    const PutBack by = putBackBy(PutBackBy::matte, plate, made, alpha, plateFromHeld);
    const Eigen::Matrix3d heldFromPlate = plateFromHeld.inverse();
    int wrong = 0, kept = 0, put = 0;
    for (int y = 0; y < 180; ++y)
        for (int x = 0; x < 320; ++x) {
            const Vector2d at = carried(heldFromPlate, {x + 0.5, y + 0.5});
            const std::size_t k = (std::size_t(y) * 320 + std::size_t(x)) * 3;
            const double inside = std::min({at.x() - 100, 200 - at.x(), at.y() - 60, 120 - at.y()});
            const int before = plate.bytes[k];
            if (inside < -3) wrong += over.picture.bytes[k] != before || by.picture.bytes[k] != before, ++kept;
            if (inside < 3 || std::abs(at.x() - 150) < 3) continue;
            ++put;
            const double a = at.x() < 150 ? 1 : 0.5;
            wrong += std::abs(over.picture.bytes[k] - (200 * a + (1 - a) * before)) > 2;
            wrong += std::abs(by.picture.bytes[k] - (90 * a + (1 - a) * before)) > 2;
        }
    CHECK(wrong == 0);
    CHECK(kept > 45000);
    CHECK(put > 4000);
    CHECK(over.changed == Approx(100.0 * 60 / (320 * 180)).epsilon(0.15));
    // The matte itself, where the plate has it.
    const ImageChannel moved = putBackMatte(alpha, [&](const Picture& picture, ResampleFilter filter, EdgeMode edges) {
        return warped(picture, heldFromPlate, filter, edges);
    });
    double sum = 0, was = 0;
    for (std::size_t i = 0; i < moved.values.size(); ++i) {
        sum += double(moved.values[i]);
        was += double(alpha.values[i]);
        CHECK((moved.values[i] >= 0 && moved.values[i] <= 1));
    }
    CHECK(sum == Approx(was).epsilon(0.02));
    CHECK(differingShare(held, held) == 0);
    CHECK(differingShare(held, made) > 0.9);
}

TEST_CASE("transforms and corner pins say the motion in either origin and direction, and are read back") {
    const Scratch scratch;
    const PlateMotion motion = exactMotion(20);
    const TransformSource source{"on p-1", 1280, 720, {24000, 1001}};
    const auto read = [&](const std::string& contents) {
        scratch.write("m.json", contents);
        const auto frames = readMatrices(scratch / "m.json");
        REQUIRE(frames);
        REQUIRE(frames->size() == 20);
        return *frames;
    };
    const auto forward = read(transformsJson(motion, source, {}));
    const auto inverse = read(transformsJson(motion, source, {.inverse = true}));
    CHECK(forward[12].plateFromReference.isApprox(motion.at(12)->plateFromReference, 1e-9));
    CHECK((forward[12].plateFromReference * inverse[12].plateFromReference).isApprox(Matrix3d::Identity(), 1e-9));
    // From the bottom the same point comes to the same place.
    const auto bottom = read(cornerPinJson(motion, source, {.origin = Origin::bottomLeft}));
    const Vector2d top = carried(motion.at(12)->plateFromReference, {400, 300});
    CHECK((carried(bottom[12].plateFromReference, {400, 420}) - Vector2d(top.x(), 720 - top.y())).norm() < 1e-6);
    const auto still = read(transformsJson(motion, source, {.position = false, .rotation = true, .scale = false}));
    CHECK((carried(still[12].plateFromReference, motion.pivot) - motion.pivot).norm() < 1e-9);
    CHECK(partsOf(still[12].plateFromReference, motion.pivot).angle ==
          Approx(partsOf(motion.at(12)->plateFromReference, motion.pivot).angle));

    const std::string csv = transformsCsv(motion, source, {});
    CHECK(csv.find("# pinion.transforms version=1 width=1280 height=720 fps=24000/1001 first_frame=0 last_frame=19 "
                   "reference_frame=0 origin=top-left use=match-move") == 0);
    CHECK(csv.find("\nframe,translate_x,translate_y,rotate,scale,pivot_x,pivot_y\n0,0.00000,0.00000,0.000000,1."
                   "00000000,640.0000,360.0000\n") != std::string::npos);
    CHECK(cornerPinCsv(motion, source, {})
              .find("\n0,0.0000,0.0000,1280.0000,0.0000,1280.0000,720.0000,0.0000,720.0000,1,0,0,0,1,0,0,0,1\n") !=
          std::string::npos);

    const auto profile = takeShake(motion, 1280, 720, {24, 1}, 0, "s");
    scratch.write("s.json", shakeJson(*profile));
    const auto again = readShake(scratch / "s.json");
    REQUIRE(again);
    CHECK(again->samples.size() == 20);
    CHECK(again->samples[7].x == profile->samples[7].x);
    scratch.write("bad.json", R"({"format":"pinion.shake","version":1,"name":"s","fps":24,)"
                              R"("samples":[{"x":0,"y":0,"rotation":0,"scale":0}]})");
    REQUIRE_FALSE(readShake(scratch / "bad.json"));
    CHECK(readShake(scratch / "bad.json").error().message.find("samples[0].scale") != std::string::npos);
}

TEST_CASE("a table of tracks is read by its column names; what is wrong in it is named by its line") {
    const auto good = parseTracksCsv(
        "# width=1280 height=720 fps=24 origin=bottom-left\nframe,y,x,track,note\n1001,700,10.5,\"a, "
        "b\",x\n1002,699,11.5,\"a, b\",\n",
        "t.csv");
    REQUIRE(good);
    REQUIRE(good->tracks.size() == 1);
    CHECK(good->tracks[0].name == "a, b");
    CHECK(good->tracks[0].samples[1].at == Vector2d(11.5, 21));
    const auto says = [](const std::string& contents, const char* words) {
        const auto read = parseTracksCsv(contents, "t.csv");
        REQUIRE_FALSE(read);
        INFO(read.error().message);
        CHECK(read.error().message.find("t.csv: ") == 0);
        CHECK(read.error().message.find(words) != std::string::npos);
    };
    says("track,frame,x\np,1,2\n", "line 1: the column 'y' is missing");
    says("track;frame;x;y\np;1;2;3\n", "a comma is expected");
    says("track,frame,x,y\np,1,2,nan\n", "line 2, y: 'nan' is not a finite number");
    says("track,frame,x,y\np,1,\"2,5\",3\n", "write decimals with a point");
    says("track,frame,x,y\np,1,2,5,3,5\n", "line 2: has 6 fields where 4 are named");
    says("track,frame,x,y\np,1.5,2,3\n", "is not a whole number");
    says("track,frame,x,y\np,1,2,3\np,1,2,3\n", "line 3: track 'p' has frame 1 twice");
    says("", "the file is empty");
}

TEST_CASE("on the mooring, hold leaves no more jitter than undoing the shake by the truth") {
    const std::filesystem::path folder = std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates";
    const auto plate = Plate::open(folder / "mooring.mp4");
    const auto truth = bench::readTruth(folder / "mooring.truth.json");
    REQUIRE(plate);
    REQUIRE(truth);
    FrameCache frames(*plate);
    ScatterOptions options;
    options.candidates.features = 250;
    options.motion = MotionModel::similarity;
    options.range = {1001, 1096};
    options.startFrame = 1001;
    const auto scattered = scatter(frames, options);
    REQUIRE(scattered);
    const auto motion = pictureMotionOf(scattered->tracks, 1001, {1001, 1096});
    REQUIRE(motion);
    // The truth's own answer: the similarity through the truth points, by the same means.
    std::vector<Track> exact;
    for (const auto& point : truth->points) {
        std::vector<Sample> samples;
        for (const auto& [frame, at] : point.visible) samples.push_back({.frame = frame, .at = at});
        Track track;
        track.samples = List<Sample>(std::move(samples));
        if (!track.samples.isEmpty()) exact.push_back(std::move(track));
    }
    const auto known = pictureMotionOf(exact, 1001, {1001, 1096});
    REQUIRE(known);
    const auto jitter = [&](const PlateMotion& held) {
        // How far each truth point wanders about its mean place in the held picture.
        double squares = 0, count = 0;
        for (const auto& point : truth->points) {
            std::vector<Vector2d> places;
            Vector2d mean(0, 0);
            for (const auto& [frame, at] : point.visible) {
                places.push_back(carried(held.at(frame)->plateFromReference.inverse(), at));
                mean += places.back();
            }
            if (places.size() < 48) continue;
            mean /= double(places.size());
            for (const Vector2d& place : places) {
                squares += (place - mean).squaredNorm();
                ++count;
            }
        }
        return std::sqrt(squares / count);
    };
    const double ours = jitter(*motion), floor = jitter(*known);
    INFO("jitter " << ours << " px, by the truth " << floor << " px");
    CHECK(ours < floor + 0.1);
}
