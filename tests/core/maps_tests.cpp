// A pair of ST maps as the lens: read as a field, refused where the pair is wrong, and as good as the lens that wrote
// it.

#include "base/files.h"
#include "camera/solve.h"
#include "comp/bend.h"
#include "exchange/formats.h"
#include "exchange/opencvlens.h"
#include "lens/maps.h"
#include "scratch.h"
#include "shot/edits/lensedits.h"
#include "shot/ingredients.h"
#include "shot/stages/camerastage.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <cmath>
#include <numbers>
#include <random>

using namespace pinion;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

Lens madeMaps(unsigned seed, int width = 480, int height = 270) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> any(-1, 1);
    Lens lens = pinholeLens(width, height, (0.9 + 0.3 * any(random)) * width);
    lens.k1 = 0.14 * any(random);
    lens.k2 = 0.03 * any(random);
    lens.p1 = 0.002 * any(random);
    lens.p2 = 0.002 * any(random);
    lens.cx += 4 * any(random);
    lens.cy += 4 * any(random);
    REQUIRE(checkLens(lens));
    return lens;
}

Expected<MapsLens> paired(const Lens& lens) {
    return lensFromMaps(undistortMap(lens), redistortMap(lens), lens.width, lens.height, lens.focal_px);
}

/// Rounds as half floats do: eleven bits.
void halve(StMap& map) {
    map.isHalf = true;
    for (float& value : map.st) {
        int exponent = 0;
        const float fraction = std::frexp(value, &exponent);
        value = std::ldexp(std::round(fraction * 2048.0F) / 2048.0F, exponent);
    }
}

double worstApart(const Lens& a, const Lens& b) {
    double worst = 0;
    for (int y = 0; y <= 18; ++y)
        for (int x = 0; x <= 32; ++x) {
            const Vector2d plate(a.width * x / 32.0, a.height * y / 18.0);
            const auto one = undistortedFromPlate(a, plate), two = undistortedFromPlate(b, plate);
            REQUIRE(one);
            REQUIRE(two);
            worst = std::max(worst, (*one - *two).norm());
        }
    return worst;
}

std::string refused(const Expected<MapsLens>& found) {
    REQUIRE_FALSE(found);
    CHECK(found.error().fault == Fault::input);
    return found.error().message;
}

}  // namespace

TEST_CASE("a pair of maps bends as the lens that wrote it, both ways, whatever the lens") {
    for (const unsigned seed : {1U, 2U, 3U, 4U, 5U, 6U, 7U, 8U}) {
        const Lens truth = madeMaps(seed);
        const auto found = paired(truth);
        INFO("seed " << seed << ": " << (found ? std::string() : found.error().message));
        REQUIRE(found);
        CHECK(found->warnings.empty());
        CHECK(found->held_px < 0.002);
        CHECK(found->returns_px < 0.01);
        CHECK(worstApart(truth, found->lens) < 0.01);
        REQUIRE(checkLens(found->lens));
        // Out and back in, exactly.
        for (int i = 0; i < 40; ++i) {
            const Vector2d plate(truth.width * (i % 8) / 7.0, truth.height * (i / 8) / 4.0);
            const auto straight = undistortedFromPlate(found->lens, plate);
            REQUIRE(straight);
            const auto again = plateFromUndistorted(found->lens, *straight);
            REQUIRE(again);
            CHECK((*again - plate).norm() < 1e-8);
        }
    }
}

TEST_CASE("maps made without coefficients, of a bend that no polynomial describes, are followed") {
    // A fisheye of equal angles (r = f * angle), 100 degrees across.
    const int width = 640, height = 400;
    const double focal = width / 2.0 / (50 * std::numbers::pi / 180), straightFocal = focal * 0.6;
    const Vector2d middle(width / 2.0, height / 2.0);
    StMap out{.width = width, .height = height, .data = {-80, -60, width + 80, height + 60}, .st = {}};
    StMap back{.width = width, .height = height, .data = {0, 0, width, height}, .st = {}};
    const auto put = [](StMap& map, const Vector2d& p) {
        map.st.push_back(float(p.x() / map.width));
        map.st.push_back(float(1 - p.y() / map.height));
    };
    const auto plateOf = [&](const Vector2d& straight) -> Vector2d {
        const Vector2d d = straight - middle;
        const double r = d.norm();
        return r < 1e-9 ? middle : Vector2d(middle + d * (focal * std::atan(r / straightFocal) / r));
    };
    const auto straightOf = [&](const Vector2d& plate) -> Vector2d {
        const Vector2d d = plate - middle;
        const double r = d.norm();
        return r < 1e-9 ? middle : Vector2d(middle + d * (straightFocal * std::tan(r / focal) / r));
    };
    for (int y = out.data.y0; y < out.data.y1; ++y)
        for (int x = out.data.x0; x < out.data.x1; ++x) put(out, plateOf({x + 0.5, y + 0.5}));
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) put(back, straightOf({x + 0.5, y + 0.5}));
    const auto found = lensFromMaps(out, back, width, height, straightFocal);
    INFO((found ? std::string() : found.error().message));
    REQUIRE(found);
    CHECK(found->returns_px < 0.02);
    for (const Vector2d& plate : {Vector2d(0, 0), Vector2d(640, 400), Vector2d(13, 380), Vector2d(321.3, 199.9)}) {
        const auto straight = undistortedFromPlate(found->lens, plate);
        REQUIRE(straight);
        CHECK((*straight - straightOf(plate)).norm() < 0.02);
        const auto again = plateFromUndistorted(found->lens, *straight);
        REQUIRE(again);
        CHECK((*again - plate).norm() < 1e-8);
    }
}

TEST_CASE("half floats are smoothed to far below their rounding, and it is said") {
    const Lens truth = madeMaps(11, 1920, 1080);
    StMap out = undistortMap(truth), back = redistortMap(truth);
    halve(out);
    halve(back);
    const auto found = lensFromMaps(out, back, truth.width, truth.height, truth.focal_px);
    INFO((found ? std::string() : found.error().message));
    REQUIRE(found);
    REQUIRE(found->warnings.size() == 1);
    CHECK_THAT(found->warnings[0], Catch::Contains("half floats"));
    CHECK(worstApart(truth, found->lens) < 0.3);  // where one value is off by up to 0.9
}

TEST_CASE("pairs of maps that make no lens are refused with what is wrong and where") {
    const Lens lens = madeMaps(21), other = madeMaps(22);
    const StMap out = undistortMap(lens), back = redistortMap(lens);
    const auto with = [&](const StMap& u, const StMap& r) {
        return refused(lensFromMaps(u, r, lens.width, lens.height, lens.focal_px));
    };
    CHECK_THAT(refused(lensFromMaps(out, back, 960, 540, 800)),
               Catch::Contains("480x270") && Catch::Contains("960x540"));
    SECTION("of two lenses") {
        CHECK_THAT(with(undistortMap(other), back),
                   Catch::Contains("do not undo each other") && Catch::Contains(" px"));
    }
    SECTION("a patch that is displaced is found, and named") {
        StMap torn = out;
        for (int y = 100; y < 104; ++y)
            for (int x = 300; x < 304; ++x)
                torn.st[2 * (std::size_t(y - torn.data.y0) * std::size_t(torn.data.width()) +
                             std::size_t(x - torn.data.x0))] += 3.0F / 480;
        CHECK_THAT(with(torn, back), Catch::Contains("(300, 10") || Catch::Contains("(301, 10") ||
                                         Catch::Contains("(302, 10") || Catch::Contains("(303, 10"));
    }
    SECTION("no answer on a part of the plate") {
        StMap holed = back;
        for (std::size_t i = 2 * (20 * 480 + 31); i < 2 * (20 * 480 + 35); ++i) holed.st[i] = -1;
        CHECK_THAT(with(out, holed), Catch::Contains("4 pixels") || Catch::Contains("2 pixels"));
        CHECK_THAT(with(out, holed), Catch::Contains("(31, 20)"));
        StMap narrow = back;
        narrow.data = {10, 0, 480, 270};
        narrow.st.resize(std::size_t(470) * 270 * 2);
        CHECK_THAT(with(out, narrow), Catch::Contains("the whole plate is needed"));
    }
    SECTION("counted from the top") {
        StMap u = out, r = back;
        for (std::size_t i = 1; i < u.st.size(); i += 2) u.st[i] = 1 - u.st[i];
        for (std::size_t i = 1; i < r.st.size(); i += 2) r.st[i] = 1 - r.st[i];
        CHECK_THAT(with(u, r), Catch::Contains("on its head"));
    }
    SECTION("noise") {
        StMap noisy = back;
        std::mt19937 random(3);
        std::normal_distribution<float> noise(0, 4.0F / 480);
        for (float& value : noisy.st) value += noise(random);
        CHECK_THAT(with(out, noisy), Catch::Contains("jump"));
    }
}

TEST_CASE("a lens from maps goes through its files and into a shot as it is; what has no place for it says so") {
    const test::Scratch scratch;
    const auto found = paired(madeMaps(31));
    REQUIRE(found);
    REQUIRE(writeFile(scratch / "maps.json", lensJson(found->lens)));
    const auto read = readLens(scratch / "maps.json");
    INFO((read ? std::string() : read.error().message));
    REQUIRE(read);
    CHECK(*read == found->lens);
    const auto yaml = openCvLens(found->lens);
    REQUIRE_FALSE(yaml);
    CHECK_THAT(yaml.error().message, Catch::Contains("ST maps"));

    Fingerprint one, two;
    addLens(one, found->lens);
    Lens shifted = found->lens;
    std::vector<Vector2d> offsets = shifted.field->coefficients();
    offsets[40].x() += 0.01;
    shifted.field = SharedField(LensField(480, 270, shifted.field->columns(), shifted.field->rows(), offsets));
    addLens(two, shifted);
    CHECK(one.value() != two.value());
    CHECK_FALSE(shifted == found->lens);

    // Written by hand: a field of other cells than values, and one beside coefficients.
    REQUIRE(
        writeFile(scratch / "short.json",
                  R"({"format":"pinion.lens","version":1,"model":"field","width":64,"height":36,"focal_px":60,"cx":32,
                          "cy":18,"field":{"columns":1,"rows":1,"offsets_px":[[0,0]]}})"));
    const auto shortened = readLens(scratch / "short.json");
    REQUIRE_FALSE(shortened);
    CHECK_THAT(shortened.error().message, Catch::Contains("16 values, 1 are there"));
}

TEST_CASE("a field that folds, or turns over, is refused where it does, however gently it begins") {
    // From sound to folding by its strength: the quick proof and the look everywhere agree with the slopes.
    int sound = 0, folded = 0;
    for (int step = 0; step <= 40; ++step) {
        const double strength = 0.05 * step;
        Lens lens = pinholeLens(320, 180, 300);
        lens.field = SharedField(LensField::nearest(320, 180, 20, 11, [&](int x, int y) {
            return Vector2d(-strength * 40 * std::sin((x + 0.5) / 40) * std::cos((y + 0.5) / 60), 0.1 * strength * x);
        }));
        bool folds = false;
        for (int y = 0; y <= 180; y += 2)
            for (int x = 0; x <= 320; x += 2)
                folds = folds ||
                        (Eigen::Matrix2d::Identity() + lens.field->at({double(x), double(y)}).slope).determinant() <= 0;
        const auto checked = checkLens(lens);
        INFO("strength " << strength);
        CHECK(checked.has_value() == !folds);
        if (!checked) CHECK_THAT(checked.error().message, Catch::Contains("folds"));
        (folds ? folded : sound) += 1;
    }
    CHECK(sound > 10);
    CHECK(folded > 10);
}

TEST_CASE("a lens from maps at another size bends the same picture") {
    const auto found = paired(madeMaps(41));
    REQUIRE(found);
    const Lens larger = atSize(found->lens, 960, 540);
    REQUIRE(checkLens(larger));
    for (const Vector2d& plate : {Vector2d(3, 7), Vector2d(470, 260), Vector2d(240, 20)})
        CHECK((*undistortedFromPlate(larger, 2 * plate) - 2 * *undistortedFromPlate(found->lens, plate)).norm() < 1e-9);
}

TEST_CASE("the maps written for a lens from maps are the maps it was read from") {
    const Lens truth = madeMaps(51);
    const auto found = paired(truth);
    REQUIRE(found);
    const StMap before = undistortMap(truth), after = undistortMap(found->lens);
    CHECK(before.data == after.data);
    double worst = 0;
    for (int y = 0; y < 270; ++y)
        for (int x = 0; x < 480; ++x) {
            const auto index = [&](const StMap& map) {
                return 2 *
                       (std::size_t(y - map.data.y0) * std::size_t(map.data.width()) + std::size_t(x - map.data.x0));
            };
            worst = std::max(worst, 480.0 * std::abs(double(before.st[index(before)]) - after.st[index(after)]));
        }
    CHECK(worst < 0.01);
}

TEST_CASE("the derivatives of the projection through a field are those of its differences") {
    const auto found = paired(madeMaps(61));
    REQUIRE(found);
    const Lens& lens = found->lens;
    const double step = 1e-6;
    for (const Vector2d& plane : {Vector2d(0.3, 0.2), Vector2d(-0.35, 0.1), Vector2d(0, 0), Vector2d(0.1, -0.22)}) {
        const Eigen::Matrix2d slope = distortionJacobian(lens, plane);
        for (int axis = 0; axis < 2; ++axis) {
            const Vector2d by = step * Vector2d::Unit(axis);
            const Vector2d difference = (distort(lens, plane + by) - distort(lens, plane - by)) / (2 * step);
            CHECK((slope.col(axis) - difference).norm() < 1e-4);
        }
    }
}

TEST_CASE("a camera is solved through a lens from maps as through the lens that wrote them") {
    const Lens truth = madeMaps(71, 960, 540);
    const auto found = paired(truth);
    REQUIRE(found);
    // A walk past made-up points.
    std::mt19937 random(5);
    std::uniform_real_distribution<double> any(-1, 1);
    std::vector<Vector3d> points;
    for (int i = 0; i < 160; ++i) points.emplace_back(5 * any(random), 3 * any(random), 9 + 4 * any(random));
    std::vector<Track> tracks(points.size());
    for (std::size_t i = 0; i < points.size(); ++i) {
        tracks[i].id = TrackId(i + 1);
        tracks[i].name = std::to_string(i);
        std::vector<Sample> samples;
        for (int frame = 1001; frame <= 1030; ++frame) {
            const double t = (frame - 1001) / 29.0;
            const Vector3d from(2.5 * t - 1.2, 0.15 * std::sin(5 * t), 0.8 * t);
            const Eigen::AngleAxisd turn(0.12 * t - 0.06, Vector3d::UnitY());
            const Vector3d seen = turn.inverse() * (points[i] - from);
            const auto plate = plateFromPlane(truth, seen.hnormalized());
            if (!plate || plate->minCoeff() < 0 || plate->x() > 960 || plate->y() > 540) continue;
            Sample sample;
            sample.frame = frame;
            sample.at = *plate;
            samples.push_back(sample);
        }
        tracks[i].samples = List<Sample>(samples);
    }
    std::erase_if(tracks, [](const Track& track) { return track.samples.size() < 8; });
    SolveOptions options;
    options.width = 960;
    options.height = 540;
    options.distortion = SolveOptions::Distortion::known;
    options.lens = found->lens;
    const auto solve = solveCamera(tracks, options);
    INFO((solve ? std::string() : solve.error().message));
    REQUIRE(solve);
    CHECK(solve->rms_px < 0.02);
    CHECK(solve->lens.focal_px == Approx(truth.focal_px).epsilon(0.002));
    CHECK((Vector2d(solve->lens.cx, solve->lens.cy) - Vector2d(truth.cx, truth.cy)).norm() < 3);
    CHECK(solve->lens.field == found->lens.field);
    // Its points land where they were seen, through the maps.
    double worst = 0;
    for (const SolvedTrack& one : solve->tracks) {
        if (!one.xyz) continue;
        for (const Track& track : tracks)
            if (track.id == one.track)
                for (const Sample& sample : track.samples) {
                    const auto at = projected(*solve, sample.frame, *one.xyz);
                    REQUIRE(at);
                    worst = std::max(worst, (*at - sample.at).norm());
                }
    }
    CHECK(worst < 0.1);
    options.distortion = SolveOptions::Distortion::guessed;
    const auto guessed = solveCamera(tracks, options);
    REQUIRE_FALSE(guessed);
    CHECK_THAT(guessed.error().message, Catch::Contains("maps"));
}
