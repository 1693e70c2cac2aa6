// The lens from chessboard pictures: made-up boards with the truth known, and OpenCV's published photographs.

#include "exchange/opencvlens.h"
#include "jobs/lensing.h"
#include "lensmapping.h"
#include "lens/chart.h"
#include "lens/lines.h"
#include "plate/plate.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>
#include <cmath>
#include <random>

#include <Eigen/Geometry>
#include <Eigen/SVD>

using namespace pinion;
using Eigen::Vector2d;
using Eigen::Vector3d;
using pinion::bench::mappingError;

namespace {

const Chart kChart{7, 5, 0.03};

Lens madeLens() {
    Lens lens = pinholeLens(640, 360, 480);
    lens.k1 = -0.13;
    lens.k2 = 0.03;
    lens.cx = 323.5;
    lens.cy = 177.25;
    return lens;
}

/// Where a board hangs: its middle before the camera, turned.
struct Hanging {
    double x, y, z, turnX, turnY, turnZ;
};
const std::vector<Hanging> kHangings{{-0.10, -0.05, 0.45, 0.4, 0.3, 0.05}, {0.10, -0.05, 0.42, 0.3, -0.4, -0.1},
                                     {-0.11, 0.05, 0.46, -0.4, 0.35, 0.2}, {0.11, 0.05, 0.44, -0.35, -0.3, 0.0},
                                     {0.0, 0.0, 0.30, 0.1, 0.5, 0.4},      {0.02, -0.01, 0.27, -0.5, 0.05, -0.3},
                                     {-0.15, 0.0, 0.50, 0.2, 0.6, 0.1},    {0.15, 0.01, 0.50, 0.1, -0.6, -0.15}};

Eigen::Isometry3d cameraFromBoard(const Hanging& hanging) {
    Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
    pose.translation() = Vector3d(hanging.x, hanging.y, hanging.z);
    pose.rotate(Eigen::AngleAxisd(hanging.turnX, Vector3d::UnitX()) *
                Eigen::AngleAxisd(hanging.turnY, Vector3d::UnitY()) *
                Eigen::AngleAxisd(hanging.turnZ, Vector3d::UnitZ()));
    return pose;
}

/// The board as the lens sees it: every pixel the mean of sixteen rays, with grain.
Picture photographed(const Lens& lens, const Hanging& hanging, unsigned seed) {
    Picture picture{lens.width, lens.height, Picture::Depth::bits8, false, {}, {}};
    const Eigen::Isometry3d boardFromCamera = cameraFromBoard(hanging).inverse();
    const Vector3d eye = boardFromCamera.translation();
    std::mt19937 dice(seed);
    std::normal_distribution<double> grain(0, 2);
    const double halfX = (kChart.columns + 1) * kChart.square / 2, halfY = (kChart.rows + 1) * kChart.square / 2;
    const auto shade = [&](const Vector2d& plate) {
        const auto plane = planeFromPlate(lens, plate);
        if (!plane) return 110.0;
        const Vector3d ray = boardFromCamera.linear() * Vector3d(plane->x(), plane->y(), 1);
        const Vector3d hit = eye - ray * (eye.z() / ray.z());
        const double x = hit.x() + halfX, y = hit.y() + halfY, margin = kChart.square;
        if (x < -margin || y < -margin || x > 2 * halfX + margin || y > 2 * halfY + margin) return 110.0;
        if (x < 0 || y < 0 || x > 2 * halfX || y > 2 * halfY) return 225.0;
        return (int(x / kChart.square) + int(y / kChart.square)) % 2 == 0 ? 30.0 : 225.0;
    };
    for (int y = 0; y < lens.height; ++y)
        for (int x = 0; x < lens.width; ++x) {
            double sum = 0;
            for (int i = 0; i < 16; ++i) sum += shade({x + (i % 4 + 0.5) / 4, y + (double(i / 4) + 0.5) / 4}) / 16;
            for (int c = 0; c < 3; ++c)
                picture.bytes.push_back(std::uint8_t(std::clamp(std::lround(sum + grain(dice)), 0L, 255L)));
        }
    return picture;
}

std::vector<Vector2d> trueCorners(const Lens& lens, const Hanging& hanging) {
    std::vector<Vector2d> corners;
    const Eigen::Isometry3d pose = cameraFromBoard(hanging);
    for (int row = 0; row < kChart.rows; ++row)
        for (int column = 0; column < kChart.columns; ++column) {
            const Vector3d seen = pose * Vector3d((column - (kChart.columns - 1) / 2.0) * kChart.square,
                                                  (row - (kChart.rows - 1) / 2.0) * kChart.square, 0);
            corners.push_back(*plateFromPlane(lens, seen.hnormalized()));
        }
    return corners;
}

std::vector<ChartView> trueViews(const Lens& lens, double noise, unsigned seed) {
    std::mt19937 dice(seed);
    std::normal_distribution<double> error(0, noise);
    std::vector<ChartView> views;
    for (const Hanging& hanging : kHangings) {
        ChartView view{.name = fmt::format("view {}", views.size() + 1), .corners = trueCorners(lens, hanging)};
        for (Vector2d& corner : view.corners) corner += Vector2d(error(dice), error(dice));
        views.push_back(std::move(view));
    }
    return views;
}

/// RMS over places of where the two put them, up to what a turned camera and another focal length take up.
double apartUpToHomography(const Lens& a, const Lens& b, const std::vector<Vector2d>& places) {
    std::vector<Vector2d> from, to;
    for (const Vector2d& p : places) {
        const auto x = undistortedFromPlate(a, p), y = undistortedFromPlate(b, p);
        if (!x || !y) continue;
        from.push_back(*x / a.width);
        to.push_back(*y / a.width);
    }
    Eigen::MatrixXd rows(2 * Eigen::Index(from.size()), 9);
    for (Eigen::Index i = 0; i < Eigen::Index(from.size()); ++i) {
        const Vector2d &p = from[std::size_t(i)], &q = to[std::size_t(i)];
        rows.row(2 * i) << p.x(), p.y(), 1, 0, 0, 0, -q.x() * p.x(), -q.x() * p.y(), -q.x();
        rows.row(2 * i + 1) << 0, 0, 0, p.x(), p.y(), 1, -q.y() * p.x(), -q.y() * p.y(), -q.y();
    }
    const Eigen::JacobiSVD<Eigen::MatrixXd> svd(rows, Eigen::ComputeThinU | Eigen::ComputeThinV);
    Eigen::Matrix3d h;
    for (int i = 0; i < 9; ++i) h(i / 3, i % 3) = svd.matrixV()(i, 8);
    double squares = 0;
    for (std::size_t i = 0; i < from.size(); ++i)
        squares += ((h * from[i].homogeneous()).hnormalized() - to[i]).squaredNorm();
    return a.width * std::sqrt(squares / double(from.size()));
}

}  // namespace

TEST_CASE("pictures of a made-up chart give the lens that took them") {
    const Lens lens = madeLens();
    std::vector<ChartView> views;
    double squares = 0;
    std::size_t count = 0;
    for (std::size_t i = 0; i < kHangings.size(); ++i) {
        ChartView view{.name = std::to_string(i),
                       .corners = chartCorners(photographed(lens, kHangings[i], unsigned(i)), kChart)};
        const auto truth = trueCorners(lens, kHangings[i]);
        INFO("view " << i);
        REQUIRE(view.corners.size() == truth.size());
        // The board may be read from either end.
        const bool reversed =
            (view.corners.front() - truth.front()).norm() > (view.corners.front() - truth.back()).norm();
        for (std::size_t k = 0; k < truth.size(); ++k, ++count)
            squares += (view.corners[reversed ? truth.size() - 1 - k : k] - truth[k]).squaredNorm();
        views.push_back(std::move(view));
    }
    // The half pixel between OpenCV's count and ours would show here.
    CHECK(std::sqrt(squares / double(count)) < 0.1);
    const auto found = lensFromChart(views, kChart, 640, 360);
    REQUIRE(found);
    CHECK(found->lens.focal_px == Approx(480).epsilon(0.003));
    CHECK(std::abs(found->lens.focal_px - 480) < 4 * found->deviations.focal_px);
    CHECK(mappingError(lens, found->lens) < 0.15);
    CHECK(found->rms_px < 0.12);
}

TEST_CASE("terms that the views do not support are left out, and those that they do are found") {
    Lens lens = madeLens();
    const auto plain = lensFromChart(trueViews(lens, 0.05, 1), kChart, 640, 360);
    REQUIRE(plain);
    CHECK(plain->terms == "k1, k2");
    lens.p1 = 0.004;
    lens.p2 = -0.003;
    const auto skewed = lensFromChart(trueViews(lens, 0.05, 2), kChart, 640, 360);
    REQUIRE(skewed);
    CHECK(skewed->terms.find("p1") != std::string::npos);
    CHECK(skewed->lens.p1 == Approx(0.004).margin(0.0006));
}

TEST_CASE("a view that shows something else is set aside with its error") {
    auto views = trueViews(madeLens(), 0.05, 3);
    std::mt19937 dice(4);
    std::normal_distribution<double> error(0, 3);
    for (Vector2d& corner : views[2].corners) corner += Vector2d(error(dice), error(dice));
    views.push_back({.name = "no board"});
    const auto found = lensFromChart(views, kChart, 640, 360);
    REQUIRE(found);
    CHECK_FALSE(found->views[2].used);
    CHECK(found->views[2].rms_px > 1);
    CHECK(found->views[2].trouble.find("set aside") != std::string::npos);
    CHECK_FALSE(found->views.back().used);
    CHECK(found->views.back().trouble.find("no board") != std::string::npos);
    CHECK(mappingError(madeLens(), found->lens) < 0.3);
}

TEST_CASE("charts that cannot tell the lens are refused with what to do") {
    const auto refused = [](std::vector<ChartView> views, const Chart& chart, const std::string& part) {
        const auto found = lensFromChart(std::move(views), chart, 640, 360);
        REQUIRE_FALSE(found);
        INFO(found.error().message);
        CHECK(found.error().message.find(part) != std::string::npos);
    };
    const auto views = trueViews(madeLens(), 0.05, 5);
    refused({}, kChart, "no board");
    refused({views[0]}, kChart, "three or more");
    refused({views[0], views[0], views[0], views[0]}, kChart, "alike");
    refused(views, {6, 5, 0.03}, "no board of 6x5");
    refused(views, {0, 5, 0.03}, "none that can be measured");
    CHECK(chartCorners(Picture{16, 16, Picture::Depth::bits8, false, std::vector<std::uint8_t>(768, 9), {}}, kChart)
              .empty());
}

TEST_CASE("OpenCV's photographed chessboards give the lens that was published with them, where they reach") {
    const std::string folder = "/usr/share/doc/opencv-doc/examples/data/";
    std::vector<std::filesystem::path> photographs;
    for (int i = 1; i <= 14; ++i)
        if (i != 10) photographs.emplace_back(folder + fmt::format("left{:02}.jpg", i));
    const Chart board{9, 6, 0.025};
    auto seen = findCharts(photographs, board);
    REQUIRE(seen);
    std::vector<Vector2d> corners;
    for (const ChartView& view : seen->views) {
        INFO(view.name);
        CHECK(view.corners.size() == 54);
        corners.insert(corners.end(), view.corners.begin(), view.corners.end());
    }
    const auto found = lensFromChart(std::move(seen->views), board, seen->width, seen->height);
    REQUIRE(found);
    // Published: 535.9 px at 0.39 px, with one view of 1.2 px kept (left_intrinsics.yml).
    CHECK(found->lens.focal_px == Approx(535.9).epsilon(0.01));
    CHECK(found->rms_px < 0.25);
    const auto published = readOpenCvLens(folder + "left_intrinsics.yml");
    REQUIRE(published);
    CHECK(apartUpToHomography(found->lens, *published, corners) < 0.1);
}

TEST_CASE(
    "lines along a board's rows on one photograph give the published calibration's bend, where the board reaches") {
    // Debian's opencv-doc: each photograph of the left camera by itself, against left_intrinsics.yml.
    const std::string folder = "/usr/share/doc/opencv-doc/examples/data/";
    const auto published = readOpenCvLens(folder + "left_intrinsics.yml");
    REQUIRE(published);
    for (int number = 1; number <= 14; ++number) {
        if (number == 10) continue;  // there is none
        INFO("photograph " << number);
        const auto picture = readStill(folder + fmt::format("left{:02}.jpg", number));
        REQUIRE(picture);
        const std::vector<Vector2d> corners = chartCorners(**picture, {9, 6, 0.025});
        REQUIRE(corners.size() == 54);
        std::vector<StraightLine> lines;
        for (std::size_t row = 0; row < 6; ++row) {
            lines.push_back({1, {}});
            for (std::size_t column = 0; column < 9; ++column) lines.back().points.push_back(corners[9 * row + column]);
        }
        for (std::size_t column = 0; column < 9; ++column) {
            lines.push_back({1, {}});
            for (std::size_t row = 0; row < 6; ++row) lines.back().points.push_back(corners[9 * row + column]);
        }
        const auto found = lensFromLines(
            lines, {.width = 640, .height = 480, .focal_px = published->focal_px, .axis = LineAxis::centre});
        INFO((found ? std::string() : found.error().message));
        REQUIRE(found);
        CHECK(apartUpToHomography(found->lens, *published, corners) < 0.35);
        CHECK(found->after_px < 0.5 * found->before_px);
        // The boards end well within the frame: what lies beyond is not known, and that is said.
        CHECK(found->deviations.border_px > 5);
        CHECK_FALSE(found->warnings.empty());
    }
}

TEST_CASE("pictures of two sizes, and what is no picture, are refused by name") {
    const test::Scratch scratch;
    const auto missing = findCharts({scratch / "none.png"}, kChart);
    REQUIRE_FALSE(missing);
    CHECK(missing.error().message.find("none.png") != std::string::npos);
    const auto write = [&](const std::string& name, int size) {
        const auto output = OIIO::ImageOutput::create((scratch / name).string());
        REQUIRE(output->open((scratch / name).string(), OIIO::ImageSpec(size, size, 3, OIIO::TypeDesc::UINT8)));
        const std::vector<std::uint8_t> pixels(std::size_t(size * size * 3), 128);
        REQUIRE(output->write_image(OIIO::TypeDesc::UINT8, pixels.data()));
        REQUIRE(output->close());
    };
    write("a.png", 64);
    write("b.png", 80);
    const auto mixed = findCharts({scratch / "a.png", scratch / "b.png"}, kChart);
    REQUIRE_FALSE(mixed);
    CHECK(mixed.error().message.find("80x80, the first picture 64x64") != std::string::npos);
}
