#include "lens/lens.h"
#include "lens/stmap.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>
#include <opencv2/calib3d.hpp>

using namespace pinion;
using Eigen::Vector2d;

namespace {

Lens barrel() {
    Lens lens = pinholeLens(1280, 720, 995.6);
    lens.k1 = -0.112;
    lens.k2 = 0.018;
    lens.p1 = 0.0007;
    lens.p2 = -0.0004;
    lens.cx = 643.5;
    lens.cy = 357.0;
    return lens;
}

}  // namespace

TEST_CASE("the lens model agrees with OpenCV's projectPoints and undistortPoints") {
    const Lens lens = barrel();
    // OpenCV counts from the centre of the first pixel, half a pixel from our corner.
    const cv::Matx33d camera(lens.focal_px, 0, lens.cx - 0.5, 0, lens.focal_px, lens.cy - 0.5, 0, 0, 1);
    const std::vector<double> distortion{lens.k1, lens.k2, lens.p1, lens.p2, lens.k3};
    std::vector<cv::Point3d> points;
    for (double x = -0.6; x <= 0.61; x += 0.1)
        for (double y = -0.34; y <= 0.35; y += 0.085) points.emplace_back(x, y, 1.0);
    std::vector<cv::Point2d> expected;
    cv::projectPoints(points, cv::Vec3d(), cv::Vec3d(), camera, distortion, expected);
    std::vector<cv::Point2d> undistorted;
    cv::undistortPoints(expected, undistorted, camera, distortion, cv::noArray(), cv::noArray(),
                        cv::TermCriteria(cv::TermCriteria::COUNT + cv::TermCriteria::EPS, 100, 1e-14));
    for (std::size_t i = 0; i < points.size(); ++i) {
        const auto plate = plateFromPlane(lens, {points[i].x, points[i].y});
        REQUIRE(plate);
        CHECK((*plate - Vector2d(expected[i].x + 0.5, expected[i].y + 0.5)).norm() < 1e-9);
        const auto plane = planeFromPlate(lens, *plate);
        REQUIRE(plane);
        CHECK((*plane - Vector2d(undistorted[i].x, undistorted[i].y)).norm() < 1e-7);
    }
}

TEST_CASE("undistorting and redistorting gives the place back within a hundredth of a pixel") {
    const Lens lens = barrel();
    for (double x = 0; x <= 1280; x += 64)
        for (double y = 0; y <= 720; y += 60) {
            const auto straight = undistortedFromPlate(lens, {x, y});
            REQUIRE(straight);
            const auto back = plateFromUndistorted(lens, *straight);
            REQUIRE(back);
            CHECK((*back - Vector2d(x, y)).norm() < 1e-6);
        }
}

TEST_CASE("a lens that would fold the picture over is refused, and points beyond its reach are nowhere") {
    Lens lens = pinholeLens(1280, 720, 995.6);
    lens.k1 = -0.9;
    CHECK_FALSE(checkLens(lens));
    CHECK_FALSE(plateFromPlane(lens, {3.0, 0.0}));
    lens.k1 = -0.112;
    CHECK(checkLens(lens));
    CHECK_FALSE(plateFromPlane(lens, {30.0, 0.0}));
    lens.focal_px = std::nan("");
    CHECK_FALSE(checkLens(lens));
}

TEST_CASE("ST maps hold s from the left and t from the bottom at pixel centres, with the overscan as data window") {
    const test::Scratch scratch;
    SECTION("a lens without distortion gives the identity") {
        const StMap map = undistortMap(pinholeLens(64, 32, 60));
        CHECK(map.data == PixelBox{0, 0, 64, 32});
        CHECK(map.st[0] == Approx(0.5 / 64));
        CHECK(map.st[1] == Approx(1 - 0.5 / 32));
        CHECK(map.st[map.st.size() - 2] == Approx(63.5 / 64));
        CHECK(map.st[map.st.size() - 1] == Approx(0.5 / 32));
    }
    SECTION("read back by OpenImageIO with its windows and type") {
        const Lens lens = barrel();
        const StMap map = undistortMap(lens);
        REQUIRE(writeStMap(map, scratch / "undistort.exr"));
        const auto input = OIIO::ImageInput::open((scratch / "undistort.exr").string());
        REQUIRE(input);
        const auto& spec = input->spec();
        CHECK(spec.format == OIIO::TypeDesc::FLOAT);
        CHECK(spec.nchannels == 3);
        CHECK(spec.channelnames == std::vector<std::string>{"R", "G", "B"});
        CHECK((spec.full_x == 0 && spec.full_y == 0 && spec.full_width == 1280 && spec.full_height == 720));
        // Barrel distortion taken out reaches past the frame on all sides.
        CHECK((spec.x < 0 && spec.y < 0 && spec.x + spec.width > 1280 && spec.y + spec.height > 720));
        std::vector<float> pixels(std::size_t(spec.width) * std::size_t(spec.height) * 3);
        REQUIRE(input->read_image(0, 0, 0, 3, OIIO::TypeDesc::FLOAT, pixels.data()));
        const auto at = [&](int x, int y) {
            return &pixels[(std::size_t(y - spec.y) * std::size_t(spec.width) + std::size_t(x - spec.x)) * 3];
        };
        const auto expected = plateFromUndistorted(lens, {100.5, 50.5});
        CHECK(at(100, 50)[0] == Approx(expected->x() / 1280).margin(1e-6));
        CHECK(at(100, 50)[1] == Approx(1 - expected->y() / 720).margin(1e-6));
        CHECK(at(100, 50)[2] == 0.0F);
    }
    SECTION("the two maps undo each other") {
        const Lens lens = barrel();
        const StMap redistort = redistortMap(lens);
        const std::size_t index = (360 * 1280 + 1200) * 2;
        const Vector2d straight(redistort.st[index] * 1280.0, (1.0 - redistort.st[index + 1]) * 720.0);
        const auto back = plateFromUndistorted(lens, straight);
        REQUIRE(back);
        CHECK((*back - Vector2d(1200.5, 360.5)).norm() < 0.01);
    }
}
