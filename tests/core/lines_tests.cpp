// The lens from straight lines: made-up lenses, lines and edges, with the truth known.

#include "lens/edges.h"
#include "lens/lines.h"
#include "lensmapping.h"

#include <catch2/catch.hpp>
#include <cmath>
#include <numbers>
#include <random>

using namespace pinion;
using Eigen::Vector2d;
using pinion::bench::mappingError;

namespace {

struct MadeLens {
    Lens lens;
    std::mt19937 dice;
    double draw(double low, double high) { return std::uniform_real_distribution<double>(low, high)(dice); }
};

/// Sizes, focal lengths and bends from pincushion to strong barrel.
MadeLens lineLens(unsigned seed, bool offAxis = false) {
    MadeLens made{{}, std::mt19937(seed)};
    static const int sizes[3][2] = {{1280, 720}, {1920, 1080}, {2048, 1556}};
    const auto& [width, height] = sizes[seed % 3];
    made.lens = pinholeLens(width, height, width * made.draw(0.5, 1.6));
    const double unit = 0.5 * std::hypot(width, height) / made.lens.focal_px;
    do {
        made.lens.k1 = made.draw(-0.2, 0.08) / (unit * unit);
        made.lens.k2 = made.draw(0.0, 0.04) / std::pow(unit, 4);
    } while (!checkLens(made.lens));
    if (offAxis) {
        made.lens.cx += made.draw(-0.01, 0.01) * width;
        made.lens.cy += made.draw(-0.01, 0.01) * height;
    }
    REQUIRE(checkLens(made.lens));
    return made;
}

/// Places of a line that is straight (or bows by `bow` pixels) before the lens; those inside the frame.
std::vector<Vector2d> seenLine(MadeLens& made, const Vector2d& from, const Vector2d& to, int places, double noise,
                               double bow = 0) {
    std::normal_distribution<double> error(0, noise);
    std::vector<Vector2d> seen;
    const Vector2d along = (to - from).normalized();
    for (int i = 0; i < places; ++i) {
        const double t = double(i) / (places - 1);
        const Vector2d straight =
            from + (to - from) * t + Vector2d(-along.y(), along.x()) * bow * (1 - std::pow(2 * t - 1, 2));
        const auto plate = plateFromUndistorted(made.lens, straight);
        if (!plate) continue;
        const Vector2d at = *plate + Vector2d(error(made.dice), error(made.dice));
        if (at.x() > 0 && at.y() > 0 && at.x() < made.lens.width && at.y() < made.lens.height) seen.push_back(at);
    }
    return seen;
}

/// Lines as an artist chooses them: along the edges of the frame and across, tilted a little.
std::vector<StraightLine> seenLines(MadeLens& made, int count, int places, double noise) {
    const double w = made.lens.width, h = made.lens.height;
    std::vector<StraightLine> lines;
    for (int tries = 0; int(lines.size()) < count && tries < 1000; ++tries) {
        const int side = int(lines.size()) % 4;
        const double inset = made.draw(0.03, 0.2), a = made.draw(0.03, 0.3), b = made.draw(0.7, 0.97),
                     tilt = made.draw(-0.06, 0.06);
        const Vector2d from = side == 0   ? Vector2d(a * w, inset * h)
                              : side == 1 ? Vector2d(inset * w, a * h)
                              : side == 2 ? Vector2d(a * w, (1 - inset) * h)
                                          : Vector2d((1 - inset) * w, a * h);
        const Vector2d to = side == 0   ? Vector2d(b * w, (inset + tilt) * h)
                            : side == 1 ? Vector2d((inset + tilt) * w, b * h)
                            : side == 2 ? Vector2d(b * w, (1 - inset + tilt) * h)
                                        : Vector2d((1 - inset + tilt) * w, b * h);
        StraightLine line{1001 + int(lines.size()), seenLine(made, from, to, places, noise)};
        if (int(line.points.size()) >= places / 2) lines.push_back(std::move(line));
    }
    REQUIRE(int(lines.size()) == count);
    return lines;
}

LinesOptions lineOptions(const Lens& lens) {
    return {.width = lens.width, .height = lens.height, .focal_px = lens.focal_px};
}

double middleOfLine(std::vector<double> values) {
    std::sort(values.begin(), values.end());
    return values[values.size() / 2];
}

/// A picture of dark and bright halves parted by what the lens makes of a straight line, blurred as a plate is, with
/// grain. With `thin` a dark line of that many pixels on bright ground instead.
ImageChannel edgePicture(const Lens& lens, const Vector2d& from, const Vector2d& to, double grain, double thin = 0,
                         bool darkAbove = true) {
    ImageChannel plane(lens.width, lens.height);
    const Vector2d along = (to - from).normalized(), normal(-along.y(), along.x());
    std::mt19937 dice(7);
    std::normal_distribution<float> noise(0, float(grain));
    for (int y = 0; y < lens.height; ++y)
        for (int x = 0; x < lens.width; ++x) {
            const auto straight = undistortedFromPlate(lens, {x + 0.5, y + 0.5});
            const double distance = straight ? normal.dot(*straight - from) : 1e3;
            const auto step = [](double d) { return 0.5 * (1 + std::erf(d / (0.8 * std::numbers::sqrt2))); };
            const double share =
                thin > 0 ? 1 - (step(distance + thin / 2) - step(distance - thin / 2)) : step(distance);
            plane.row(y)[x] = float(40 + 150 * (darkAbove ? share : 1 - share)) + noise(dice);
        }
    return plane;
}

}  // namespace

TEST_CASE("six lines followed along their edges give the lens to a fraction of a pixel over the frame") {
    std::vector<double> errors;
    int beyond = 0;
    for (unsigned seed = 1; seed <= 24; ++seed) {
        MadeLens made = lineLens(seed);
        const auto found = lensFromLines(seenLines(made, 6, 60, 0.1), lineOptions(made.lens));
        INFO("seed " << seed);
        REQUIRE(found);
        errors.push_back(mappingError(made.lens, found->lens));
        beyond += errors.back() > 2 * found->deviations.border_px;
        CHECK(found->after_px < 0.15);
    }
    CHECK(middleOfLine(errors) < 0.2);
    CHECK(*std::max_element(errors.begin(), errors.end()) < 1.5);
    CHECK(beyond <= 1);
}

TEST_CASE("an axis beside the middle is found where the lines speak for it, and left where they run one way") {
    std::vector<double> errors;
    for (unsigned seed = 31; seed <= 42; ++seed) {
        MadeLens made = lineLens(seed, true);
        const auto found = lensFromLines(seenLines(made, 12, 60, 0.1), lineOptions(made.lens));
        INFO("seed " << seed);
        REQUIRE(found);
        errors.push_back(mappingError(made.lens, found->lens));
    }
    CHECK(middleOfLine(errors) < 0.8);

    MadeLens made = lineLens(3);
    std::vector<StraightLine> level;
    for (const double y : {0.06, 0.1, 0.9, 0.95})
        level.push_back({1001, seenLine(made, {0.05 * made.lens.width, y * made.lens.height},
                                        {0.95 * made.lens.width, y * made.lens.height}, 40, 0.1)});
    const auto found = lensFromLines(level, lineOptions(made.lens));
    REQUIRE(found);
    CHECK(found->lens.cx == made.lens.width / 2.0);
    CHECK(found->terms.find("axis") == std::string::npos);
    REQUIRE_FALSE(found->warnings.empty());
    CHECK(found->warnings.front().find("one direction") != std::string::npos);
}

TEST_CASE("a line that is curved in life is pointed out and does not bend the lens") {
    int named = 0, wronglyNamed = 0;
    for (unsigned seed = 51; seed <= 62; ++seed) {
        MadeLens made = lineLens(seed);
        auto lines = seenLines(made, 7, 60, 0.1);
        const double w = made.lens.width, h = made.lens.height;
        lines[2].points = seenLine(made, {0.1 * w, 0.9 * h}, {0.9 * w, 0.88 * h}, 60, 0.1, seed % 2 ? 9 : -9);
        const auto found = lensFromLines(lines, lineOptions(made.lens));
        INFO("seed " << seed);
        REQUIRE(found);
        for (std::size_t i = 0; i < found->lines.size(); ++i) (i == 2 ? named : wronglyNamed) += found->lines[i].curved;
        CHECK(mappingError(made.lens, found->lens) < 2);
    }
    CHECK(named == 12);
    CHECK(wronglyNamed == 0);
}

TEST_CASE("what the coefficients mean does not depend on the focal length they are told at") {
    MadeLens made = lineLens(5);
    const auto lines = seenLines(made, 6, 40, 0.1);
    LinesOptions options = lineOptions(made.lens);
    const auto one = lensFromLines(lines, options);
    options.focal_px *= 1.7;
    const auto other = lensFromLines(lines, options);
    REQUIRE(one);
    REQUIRE(other);
    CHECK(one->lens.k1 != Approx(other->lens.k1));
    CHECK(mappingError(one->lens, other->lens) < 1e-6);
}

TEST_CASE("an anamorphic plate's lines are straightened through its squeeze") {
    MadeLens made = lineLens(4);
    made.lens.squeeze = 0.5;
    const auto lines = seenLines(made, 8, 60, 0.1);
    LinesOptions options = lineOptions(made.lens);
    options.squeeze = 0.5;
    const auto found = lensFromLines(lines, options);
    REQUIRE(found);
    CHECK(found->lens.squeeze == 0.5);
    CHECK(mappingError(made.lens, found->lens) < 1.0);
    options.squeeze = 1;
    const auto wrong = lensFromLines(lines, options);
    if (wrong) CHECK(wrong->after_px > found->after_px);
}

TEST_CASE("lines that cannot tell the lens are refused with what is missing") {
    MadeLens made = lineLens(6);
    const LinesOptions options = lineOptions(made.lens);
    const double w = made.lens.width, h = made.lens.height;
    const auto refused = [&](const std::vector<StraightLine>& lines, const std::string& part) {
        const auto found = lensFromLines(lines, options);
        REQUIRE_FALSE(found);
        INFO(found.error().message);
        CHECK(found.error().message.find(part) != std::string::npos);
    };
    refused({}, "no lines");
    refused({{1001, {{10, 10}, {200, 12}, {400, 10}}}}, "could be checked");
    refused({{1001, {{10, 10}, {200, 12}}}}, "has 2 places");
    refused({{1001, {{50, 50}, {50.1, 50}, {50, 50.2}, {50, 50}}}}, "has 1 places");
    refused({{1001, {{10, 10}, {w + 50, 12}, {400, 10}}}}, "outside the plate");
    refused({{1001, {{10, std::nan("")}, {200, 12}, {400, 10}}}}, "not a finite number");
    // Through the middle a line stays straight in every lens.
    refused({{1001, seenLine(made, {0.1 * w, 0.5 * h}, {0.9 * w, 0.5 * h}, 30, 0.1)}}, "near the edges");

    std::vector<StraightLine> middle;
    for (const double y : {0.42, 0.46, 0.55, 0.6})
        middle.push_back({1001, seenLine(made, {0.35 * w, y * h}, {0.65 * w, y * h}, 40, 0.02)});
    const auto found = lensFromLines(middle, options);
    if (found) {
        bool warned = false;
        for (const std::string& warning : found->warnings)
            warned = warned || warning.find("edges of the frame") != std::string::npos;
        CHECK(warned);
    }
}

TEST_CASE("clicks beside an edge snap on to it, and the edge is followed between them") {
    Lens lens = pinholeLens(640, 360, 500);
    lens.k1 = -0.15;
    const Vector2d from(30, 40), to(610, 70);
    const Vector2d along = (to - from).normalized(), normal(-along.y(), along.x());
    std::mt19937 dice(3);
    std::normal_distribution<double> slip(0, 0.7);
    for (const double thin : {0.0, 3.0}) {
        const ImageChannel plane = edgePicture(lens, from, to, 3.0, thin);
        std::vector<Vector2d> clicks;
        for (const double t : {0.05, 0.5, 0.95}) {
            const auto plate = plateFromUndistorted(lens, from + (to - from) * t);
            clicks.emplace_back(*plate + Vector2d(slip(dice), slip(dice)));
        }
        const SnappedLine line = snapped(plane, clicks);
        INFO("thin " << thin);
        CHECK(line.onEdge == std::vector<bool>{true, true, true});
        REQUIRE(line.edge.size() > 60);
        // One side of a thin line is half its width from its middle, all along.
        double squares = 0, mean = 0;
        for (const Vector2d& p : line.edge) mean += normal.dot(*undistortedFromPlate(lens, p) - from);
        mean /= double(line.edge.size());
        for (const Vector2d& p : line.edge)
            squares += std::pow(normal.dot(*undistortedFromPlate(lens, p) - from) - mean, 2);
        CHECK(std::sqrt(squares / double(line.edge.size())) < 0.1);
        CHECK(std::abs(std::abs(mean) - thin / 2) < 0.35);
    }
}

TEST_CASE("snapped lines give the lens ten times as well as the same clicks by hand") {
    Lens lens = pinholeLens(960, 540, 750);
    lens.k1 = -0.14;
    lens.k2 = 0.02;
    std::mt19937 dice(11);
    std::normal_distribution<double> slip(0, 0.7);
    const std::pair<Vector2d, Vector2d> edges[] = {{{40, 30}, {920, 45}}, {{30, 500}, {930, 515}},
                                                   {{35, 30}, {50, 510}}, {{925, 25}, {915, 520}},
                                                   {{60, 90}, {900, 70}}, {{90, 40}, {80, 500}}};
    std::vector<StraightLine> clicked, followed;
    for (const auto& [from, to] : edges) {
        const ImageChannel plane = edgePicture(lens, from, to, 3.0);
        StraightLine line{1001, {}};
        for (const double t : {0.05, 0.35, 0.65, 0.95}) {
            const auto plate = plateFromUndistorted(lens, from + (to - from) * t);
            line.points.emplace_back(*plate + Vector2d(slip(dice), slip(dice)));
        }
        const SnappedLine on = snapped(plane, line.points);
        clicked.push_back(line);
        followed.push_back({1001, on.edge});
    }
    const auto byHand = lensFromLines(clicked, lineOptions(lens)), onEdges = lensFromLines(followed, lineOptions(lens));
    REQUIRE(byHand);
    REQUIRE(onEdges);
    CHECK(mappingError(lens, onEdges->lens) < 0.2);
    CHECK(mappingError(lens, byHand->lens) > 5 * mappingError(lens, onEdges->lens));
}

TEST_CASE("clicks where there is no edge stay where they are") {
    const ImageChannel flat(320, 180, 100.0F);
    const std::vector<Vector2d> clicks{{20, 20}, {160, 25}, {300, 22}};
    const SnappedLine line = snapped(flat, clicks);
    CHECK(line.clicks == clicks);
    CHECK(line.edge.empty());
    CHECK(snapped(flat, std::vector<Vector2d>{{5, 5}}).clicks.size() == 1);
    CHECK(snapped(ImageChannel(4, 4), clicks).clicks == clicks);
}
