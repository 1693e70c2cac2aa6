// What a rolling shutter does to a steadied picture: on motions that are known at every row's time.

#include "comp/steadied.h"
#include "shot/carriers/carriers.h"
#include "shot/stages/steadystage.h"
#include "steady/motion.h"
#include "steady/rows.h"

#include <Eigen/LU>
#include <catch2/catch.hpp>

#include <cmath>
#include <random>

using namespace pinion;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

constexpr int kRowsWidth = 640, kRowsHeight = 360, kRowsFirst = 1001, kRowsFrames = 24, kHeldFrame = 1012;

/// The plate of a camera that turns in a restless hand, from that of the held frame; at any time.
Matrix3d plateFromReference(double time) {
    const auto at = [](double t) {
        const double shiftX = 9 * std::sin(0.55 * t) + 3 * std::sin(0.95 * t + 1), shiftY = 8 * std::sin(0.7 * t + 0.4),
                     angle = 0.012 * std::sin(0.6 * t), lean = 2e-5 * std::sin(0.4 * t + 2);
        Matrix3d m = MotionParts{{shiftX, shiftY}, angle, 1 + 0.004 * std::sin(0.7 * t)}.about({320, 180});
        Matrix3d recede = Matrix3d::Identity();
        recede(2, 0) = lean;
        return Matrix3d(m * recede);
    };
    const double frame = time - kRowsFirst;
    return at(frame) * at(kHeldFrame - kRowsFirst).inverse();
}

/// Where the sensor has a place of the reference frame.
Vector2d filmed(const Vector2d& reference, int frame, const Readout& readout) {
    Vector2d at = carried(plateFromReference(frame), reference);
    for (int round = 0; round < 12; ++round)
        at = carried(plateFromReference(frame + readout.share * rowOf(at, readout.columns, kRowsWidth, kRowsHeight)),
                     reference);
    return at;
}

PlateMotion middleRows() {
    PlateMotion motion{.kind = MotionKind::perspective, .referenceFrame = kHeldFrame};
    for (int frame = kRowsFirst; frame < kRowsFirst + kRowsFrames; ++frame)
        motion.frames.push_back({frame, plateFromReference(frame)});
    return motion;
}

/// Tracks of short lives all over the picture, as the sensor has them.
std::vector<Track> filmedTracks(const Readout& readout, double noise_px) {
    std::mt19937 random(31);
    std::uniform_real_distribution<double> x(30, kRowsWidth - 30), y(30, kRowsHeight - 30);
    std::normal_distribution<double> noise(0, noise_px);
    std::vector<Track> tracks;
    for (int i = 0; i < 260; ++i) {
        const Vector2d place(x(random), y(random));
        const int first = kRowsFirst + std::max(0, int(random() % 22) - 6), last = first + 8 + int(random() % 9);
        std::vector<Sample> samples;
        for (int frame = first; frame <= std::min(last, kRowsFirst + kRowsFrames - 1); ++frame)
            samples.push_back(
                {.frame = frame, .at = filmed(place, frame, readout) + Vector2d(noise(random), noise(random))});
        Track track;
        track.id = i + 1;
        track.name = "t" + std::to_string(i);
        track.referenceFrame = first;
        track.samples = List<Sample>(std::move(samples));
        tracks.push_back(std::move(track));
    }
    return tracks;
}

/// Fine enough to tell a tenth of a pixel.
float tone(const Vector2d& reference) {
    return float(0.5 + 0.16 * std::sin(0.35 * reference.x()) + 0.16 * std::sin(0.31 * reference.y() + 1) +
                 0.1 * std::sin(0.21 * (reference.x() + reference.y())));
}

Picture pictureBy(const std::function<Vector2d(const Vector2d& plate)>& reference) {
    Picture picture{kRowsWidth, kRowsHeight, Picture::Depth::float32, true, {}, {}};
    for (int row = 0; row < kRowsHeight; ++row)
        for (int column = 0; column < kRowsWidth; ++column)
            for (int c = 0; c < 3; ++c) picture.floats.push_back(tone(reference({column + 0.5, row + 0.5})));
    return picture;
}
Picture filmedPicture(int frame, const Readout& readout) {
    return pictureBy([&](const Vector2d& plate) {
        const double time = frame + readout.share * rowOf(plate, readout.columns, kRowsWidth, kRowsHeight);
        return carried(plateFromReference(time).inverse(), plate);
    });
}

double difference(const Picture& a, const Picture& b, int border) {
    double sum = 0, count = 0;
    for (int row = border; row < kRowsHeight - border; ++row)
        for (int column = border; column < kRowsWidth - border; ++column) {
            const std::size_t i = (std::size_t(row) * kRowsWidth + std::size_t(column)) * 3;
            sum += std::abs(a.floats[i] - b.floats[i]);
            ++count;
        }
    return sum / count;
}

Shot heldShot(const Readout& readout) {
    Shot shot;
    shot.plate.width = kRowsWidth;
    shot.plate.height = kRowsHeight;
    shot.plate.range = {kRowsFirst, kRowsFirst + kRowsFrames - 1};
    shot.tracks = List<Track>(filmedTracks(readout, 0));
    shot.steady.steady = true;
    shot.steady.referenceFrame = kHeldFrame;
    shot.steady.model = PictureModel::perspective;
    shot.steady.options.fit = SteadyOptions::Fit::none;
    shot.solveSettings.reading = SolveSettings::Reading::known;
    shot.solveSettings.readoutShare = readout.share;
    shot.solveSettings.readBy = readout.columns ? SolveSettings::ReadBy::columns : SolveSettings::ReadBy::rows;
    return shot;
}

}  // namespace

TEST_CASE("tracks are taken to the instant of their frame's middle row, whichever way the sensor is read") {
    for (const Readout readout : {Readout{0.62}, Readout{-0.9}, Readout{0.4, true}}) {
        INFO("readout " << readout.share);
        const std::vector<Track> seen = filmedTracks(readout, 0);
        const std::vector<Track> straight = atMiddleRow(seen, readout, kRowsWidth, kRowsHeight);
        double before = 0, after = 0, count = 0;
        for (std::size_t i = 0; i < seen.size(); ++i) {
            const auto& path = straight[i].samples;
            // Its place on the held frame, from any of its samples.
            Vector2d place = seen[i].samples[0].at;
            for (int round = 0; round < 30; ++round)
                place += seen[i].samples[0].at - filmed(place, seen[i].samples[0].frame, readout);
            // Ends have neighbours on one side alone.
            for (std::size_t k = 2; k + 2 < path.size(); ++k) {
                const Vector2d truth = carried(plateFromReference(path[k].frame), place);
                before += (seen[i].samples[k].at - truth).squaredNorm();
                after += (path[k].at - truth).squaredNorm();
                ++count;
            }
        }
        CHECK(std::sqrt(before / count) > 0.5);
        CHECK(std::sqrt(after / count) < 0.06);
    }
}

TEST_CASE("a track of one frame, and one with gaps, are not drawn across what is missing") {
    Track one;
    one.samples = List<Sample>({{.frame = 1005, .at = {100, 20}}});
    Track torn;
    torn.samples = List<Sample>({{.frame = 1001, .at = {100, 20}},
                                 {.frame = 1002, .at = {104, 20}},
                                 {.frame = 1040, .at = {500, 20}},
                                 {.frame = 1041, .at = {504, 20}}});
    const auto straight = atMiddleRow(std::vector<Track>{one, torn}, Readout{0.5}, kRowsWidth, kRowsHeight);
    CHECK(straight[0].samples[0].at == Vector2d(100, 20));
    // Four pixels a frame, and its row is read 0.22 of a frame before the middle one.
    const double early = 4 * 0.5 * (0.5 - 20.0 / kRowsHeight);
    CHECK(straight[1].samples[0].at.x() == Approx(100 + early).margin(0.01));
    CHECK(straight[1].samples[3].at.x() == Approx(504 + early).margin(0.01));
    CHECK(atMiddleRow(std::vector<Track>{torn}, Readout{}, kRowsWidth, kRowsHeight)[0].samples[1].at ==
          Vector2d(104, 20));
}

TEST_CASE("where a row lies is told by the motion of the picture, and the way back leads home") {
    for (const Readout readout : {Readout{0.62}, Readout{-0.5, true}}) {
        const RowWarp rows(middleRows(), readout, kRowsWidth, kRowsHeight);
        double off = 0, back = 0;
        for (int frame = kRowsFirst + 3; frame < kRowsFirst + kRowsFrames - 3; ++frame)
            for (const Vector2d& place : {Vector2d(40, 30), Vector2d(600, 40), Vector2d(320, 180), Vector2d(60, 330)}) {
                const Vector2d straight = carried(plateFromReference(frame), place);
                const Vector2d seen = filmed(place, frame, readout);
                off = std::max(off, (rows.filmedFromStraight(frame, straight) - seen).norm());
                back = std::max(
                    back, (rows.straightFromFilmed(frame, rows.filmedFromStraight(frame, straight)) - straight).norm());
            }
        CHECK(off < 0.06);
        CHECK(back < 0.005);
        CHECK(rows.reach_px() > 2);
        CHECK(rows.filmedFromStraight(2000, {5, 6}) == Vector2d(5, 6));
    }
}

TEST_CASE("a held picture of a rolling shutter stands still to its corners") {
    const Readout readout{0.62};
    Shot shot = heldShot(readout);
    const auto plan = picturePlan(shot);
    INFO((plan ? std::string() : plan.error().message));
    REQUIRE(plan);
    REQUIRE(plan->rows);
    shot.steady.straightRows = false;
    const auto wobbling = picturePlan(shot);
    REQUIRE(wobbling);
    CHECK_FALSE(wobbling->rows);
    const Picture held = pictureBy([](const Vector2d& plate) { return plate; });
    double with = 0, without = 0;
    for (const int frame : {1003, 1007, 1016, 1020}) {
        const Picture plate = filmedPicture(frame, readout);
        const auto shown = [&](const PicturePlan& by) {
            const auto sheets = by.sheets(ResampleFilter::bicubic, EdgeMode::empty);
            return sheets[std::size_t(frame - kRowsFirst)].given(plate);
        };
        with = std::max(with, difference(shown(*plan), held, 30));
        without = std::max(without, difference(shown(*wobbling), held, 30));
    }
    // A pixel of this picture is 0.04 of a tone in the mean.
    CHECK(with < 0.003);
    CHECK(without > 0.012);
}

TEST_CASE("filled, a held picture shows no border though its rows are straightened") {
    Shot shot = heldShot({0.62});
    shot.steady.options.fit = SteadyOptions::Fit::fill;
    const auto plan = picturePlan(shot);
    INFO((plan ? std::string() : plan.error().message));
    REQUIRE(plan);
    REQUIRE(plan->rows);
    CHECK(plan->fills);
    for (const FrameMap& map : plan->frames) {
        const LookUp table = steadying(map, *plan->rows, kRowsWidth, kRowsHeight);
        for (std::size_t i = 0; i < table.xy.size(); i += 2) {
            REQUIRE(table.xy[i] >= 0);
            REQUIRE(table.xy[i] <= kRowsWidth);
            REQUIRE(table.xy[i + 1] >= 0);
            REQUIRE(table.xy[i + 1] <= kRowsHeight);
        }
    }
}

TEST_CASE("what is painted on a held picture with straight rows goes back to where the sensor has it") {
    const Readout readout{0.62};
    const Shot shot = heldShot(readout);
    const auto plan = picturePlan(shot);
    INFO((plan ? std::string() : plan.error().message));
    REQUIRE(plan);
    const int frame = 1013;
    const Picture plate = filmedPicture(frame, readout);
    const SheetMap sheet = plan->sheets(ResampleFilter::bicubic, EdgeMode::empty)[std::size_t(frame - kRowsFirst)];
    const Picture given = sheet.given(plate);
    Picture made = given;
    const auto isPainted = [](const Vector2d& reference) {
        return reference.x() > 420 && reference.x() < 520 && reference.y() > 30 && reference.y() < 90;
    };
    for (int row = 0; row < kRowsHeight; ++row)
        for (int column = 0; column < kRowsWidth; ++column)
            if (isPainted({column + 0.5, row + 0.5}))
                for (std::size_t c = 0; c < 3; ++c)
                    made.floats[(std::size_t(row) * kRowsWidth + std::size_t(column)) * 3 + c] = 0.95F;
    const PutBack back = putBack(plate, given, made, sheet.back);
    // Its middle, where the painted part came to lie, against where the sensor has it.
    Vector2d sum(0, 0), truth(0, 0);
    double count = 0, truly = 0;
    int kept = 0;
    for (int row = 0; row < kRowsHeight; ++row)
        for (int column = 0; column < kRowsWidth; ++column) {
            const Vector2d at(column + 0.5, row + 0.5);
            const std::size_t i = (std::size_t(row) * kRowsWidth + std::size_t(column)) * 3;
            const double time = frame + readout.share * rowOf(at, false, kRowsWidth, kRowsHeight);
            const Vector2d reference = carried(plateFromReference(time).inverse(), at);
            if (back.picture.floats[i] > 0.93F) sum += at, ++count;
            if (isPainted(reference)) truth += at, ++truly;
            if (reference.x() < 400) kept += back.picture.floats[i] == plate.floats[i];
        }
    REQUIRE(count > 5000);
    CHECK((sum / count - truth / truly).norm() < 0.25);
    CHECK(count == Approx(truly).epsilon(0.03));
    CHECK(kept > 380 * 340);
}

TEST_CASE("rows are straightened by the solve's readout, where tracks tell what is held") {
    Shot shot = heldShot({0.62});
    shot.solveSettings.reading = SolveSettings::Reading::found;
    CHECK_FALSE(steadyReadout(shot).isRolling());
    Solve solve;
    solve.readout = {-0.4, true};
    shot.solve = std::make_shared<const Solve>(solve);
    CHECK(steadyReadout(shot) == Readout{-0.4, true});
    const auto before = steadyKey(shot);
    shot.steady.straightRows = false;
    CHECK_FALSE(steadyReadout(shot).isRolling());
    CHECK(steadyKey(shot) != before);
    shot.steady.straightRows = true;
    shot.steady.on = rideOnPlane(3);
    CHECK_FALSE(steadyReadout(shot).isRolling());
}
