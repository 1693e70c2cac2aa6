// Inserts: art laid to four corners against finely sampled references, its mixing against the operators' definitions,
// and what comes out as files. Photographs are those of Debian's opencv-doc.

#include "comp/insert.h"
#include "comp/insertion.h"
#include "comp/keying.h"
#include "jobs/inserting.h"
#include "planar/surface.h"
#include "planes/photograph.h"
#include "plate/framewriter.h"
#include "plate/still.h"
#include "scratch.h"

#include <catch2/catch.hpp>
#include <cmath>
#include <opencv2/imgproc.hpp>
#include <random>

using namespace pinion;
using Eigen::Vector2d;

namespace {

Picture greyPicture(const cv::Mat& grey) {
    Picture picture{grey.cols, grey.rows, Picture::Depth::bits8, false, std::vector<std::uint8_t>(grey.total() * 3),
                    {}};
    for (int y = 0; y < grey.rows; ++y)
        for (int x = 0; x < grey.cols; ++x)
            for (std::size_t c = 0; c < 3; ++c)
                picture.bytes[3 * (std::size_t(y) * std::size_t(grey.cols) + std::size_t(x)) + c] =
                    std::uint8_t(grey.at<float>(y, x) + 0.5F);
    return picture;
}

Picture flat(int width, int height, std::array<std::uint8_t, 3> colour) {
    Picture picture{width, height, Picture::Depth::bits8, false, {}, {}};
    picture.bytes.resize(3 * std::size_t(width) * std::size_t(height));
    for (std::size_t i = 0; i < picture.bytes.size(); ++i) picture.bytes[i] = colour[i % 3];
    return picture;
}

Art artOf(const Picture& picture, const ImageChannel* alpha = nullptr, AlphaKind kind = AlphaKind::straight) {
    auto art = Art::create(picture, alpha, kind, false);
    REQUIRE(art);
    return *std::move(art);
}

Layer laid(const Art& art, const Quad& corners, int width, int height, double soft = 0) {
    ArtShape shape;
    shape.softEdge_px = soft;
    return art.laid(std::span(&corners, 1), width, height, shape);
}

const float* at(const Layer& layer, int x, int y) { return layer.at(x, y); }

/// PSNR in dB of where the art is whole, beside grey levels of 0 to 255; there have to be so many pixels.
double likeness(const Layer& layer, const cv::Mat& truth, int least) {
    double squares = 0;
    int count = 0;
    for (int y = layer.box.y0; y < layer.box.y1; ++y)
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            const float* pixel = at(layer, x, y);
            if (pixel[3] < 0.999F) continue;
            squares += std::pow(double(pixel[1]) - double(truth.at<float>(y, x)) / 255.0, 2);
            ++count;
        }
    REQUIRE(count > least);
    return 10 * std::log10(count / squares);
}

Quad box(double x0, double y0, double x1, double y1) {
    return {Vector2d(x0, y0), Vector2d(x1, y0), Vector2d(x1, y1), Vector2d(x0, y1)};
}

}  // namespace

TEST_CASE("art in perspective is what a fine sampling of it gives, to 40 dB and better") {
    const cv::Mat photograph = planes::photograph("home.jpg");
    REQUIRE_FALSE(photograph.empty());
    const Art art = artOf(greyPicture(photograph));
    const int width = 320, height = 240;
    for (const double scale : {1.0, 0.35, 0.12}) {
        const double w = 150 * scale, h = 110 * scale;
        const Quad corners{Vector2d(160 - w, 118 - 0.8 * h),
                           {160 + w, 120 - h},
                           {160 + 0.9 * w, 121 + h},
                           {160 - 0.85 * w, 120 + 0.9 * h}};
        const Layer layer = laid(art, corners, width, height);
        // OpenCV's warp at 16 x 16 places a pixel, averaged.
        constexpr int kFine = 16;
        const cv::Point2f from[4] = {{-0.5F, -0.5F},
                                     {float(photograph.cols) - 0.5F, -0.5F},
                                     {float(photograph.cols) - 0.5F, float(photograph.rows) - 0.5F},
                                     {-0.5F, float(photograph.rows) - 0.5F}};
        cv::Point2f to[4];
        for (std::size_t i = 0; i < 4; ++i)
            to[i] = {float(corners[i].x() * kFine - 0.5), float(corners[i].y() * kFine - 0.5)};
        cv::Mat fine, coarse;
        cv::warpPerspective(photograph, fine, cv::getPerspectiveTransform(from, to), {width * kFine, height * kFine},
                            cv::INTER_LINEAR, cv::BORDER_REPLICATE);
        cv::resize(fine, coarse, {width, height}, 0, 0, cv::INTER_AREA);
        INFO("scale " << scale);
        CHECK(likeness(layer, coarse, 100) > 40);
    }
}

TEST_CASE("art on a surface that a lens bends is bent with it, to 40 dB and better") {
    const cv::Mat photograph = planes::photograph("home.jpg");
    REQUIRE_FALSE(photograph.empty());
    const Art art = artOf(greyPicture(photograph));
    const int width = 320, height = 240;
    Lens lens = pinholeLens(width, height, 260);
    lens.k1 = GENERATE(-0.18, 0.06);
    const Quad straight{Vector2d(20, 24), {300, 12}, {290, 226}, {34, 216}};
    Quad seen = straight;
    for (Vector2d& corner : seen) corner = *plateFromUndistorted(lens, corner);
    const InsertSurface carrier({{1, seen}}, std::make_shared<const Lens>(lens));
    const Layer layer = art.laid(carrier.pieces({}, 1), width, height);
    // The truth: the undistorted art looked up at 8 x 8 places of a pixel.
    constexpr int kFine = 8;
    const double w = photograph.cols, h = photograph.rows;
    const auto artFrom = quadFromQuad(box(0, 0, w, h), straight);
    REQUIRE(artFrom);
    cv::Mat mapX(height * kFine, width * kFine, CV_32F), mapY = mapX.clone();
    for (int y = 0; y < mapX.rows; ++y)
        for (int x = 0; x < mapX.cols; ++x) {
            const auto at = undistortedFromPlate(lens, {(x + 0.5) / kFine, (y + 0.5) / kFine});
            const Vector2d place = at ? Vector2d((*artFrom * at->homogeneous()).hnormalized()) : Vector2d(-1e4, -1e4);
            mapX.at<float>(y, x) = float(place.x() - 0.5);
            mapY.at<float>(y, x) = float(place.y() - 0.5);
        }
    cv::Mat fine, truth;
    cv::remap(photograph, fine, mapX, mapY, cv::INTER_LINEAR, cv::BORDER_REPLICATE);
    cv::resize(fine, truth, {width, height}, 0, 0, cv::INTER_AREA);
    INFO("k1 " << lens.k1);
    CHECK(likeness(layer, truth, 10000) > 40);
    // Straight between its corners it would be another picture.
    CHECK(likeness(laid(art, seen, width, height), truth, 10000) < 30);
    // No seam between the fields, and its sides are those of its outline.
    const Polygon outline = carrier.outline({}, 1);
    REQUIRE(outline.size() == 64);
    for (std::size_t i = 0; i < 16; ++i) {
        const Vector2d side = straight[0] + [&] {
            const auto flat = quadFromQuad(straight, box(0, 0, 1, 1));
            return Vector2d((*flat * Eigen::Vector3d(double(i) / 16, 0, 1)).hnormalized() - straight[0]);
        }();
        CHECK((outline[i] - *plateFromUndistorted(lens, side)).norm() < 1e-6);
    }
    int holes = 0;
    for (int y = 60; y < 180; ++y)
        for (int x = 60; x < 260; ++x) holes += std::abs(at(layer, x, y)[3] - 1) > 0.02F;
    CHECK(holes == 0);
}

TEST_CASE("bent art has neither seams nor holes, whatever the lens and the corners") {
    const Art art = artOf(flat(90, 60, {200, 120, 60}));
    std::mt19937 random(811);
    std::uniform_real_distribution<double> unit(0, 1);
    const auto between = [&](double low, double high) { return low + (high - low) * unit(random); };
    int inside = 0, cases = 0;
    for (int i = 0; i < 60; ++i) {
        const int width = 200, height = 140;
        Lens lens = pinholeLens(width, height, between(130, 400));
        lens.k1 = between(-0.12, 0.12);
        lens.cx += between(-15, 15);
        lens.cy += between(-10, 10);
        if (!checkLens(lens)) continue;
        Quad seen{Vector2d(between(-30, 70), between(-20, 50)),
                  {between(120, 230), between(-20, 50)},
                  {between(120, 230), between(90, 160)},
                  {between(-30, 70), between(90, 160)}};
        if (i % 5 == 0)  // some are narrow
            for (Vector2d& corner : seen) corner.x() = 100 + 0.05 * (corner.x() - 100);
        if (!troubleOf(seen).empty()) continue;
        const InsertSurface carrier({{1, seen}, {2, seen}}, std::make_shared<const Lens>(lens));
        const Layer layer = art.laid(carrier.pieces({}, 1, i % 3 == 0 ? 0.5 : 0.0), width, height);
        if (layer.isEmpty()) continue;
        ++cases;
        const Polygon outline = carrier.outline({}, 1);
        INFO("case " << i);
        int wrong = 0;
        for (int y = layer.box.y0; y < layer.box.y1; ++y)
            for (int x = layer.box.x0; x < layer.box.x1; ++x) {
                const Vector2d middle(x + 0.5, y + 0.5);
                double nearest = 1e9;
                for (const Vector2d& corner : outline) nearest = std::min(nearest, (corner - middle).norm());
                const float alpha = at(layer, x, y)[3];
                REQUIRE(std::isfinite(alpha));
                // About the sides a pixel is covered in part.
                bool isDeep = contains(outline, middle);
                for (const Vector2d& by : {Vector2d(2, 0), {-2, 0}, {0, 2}, {0, -2}})
                    isDeep = isDeep && contains(outline, middle + by);
                if (isDeep) {
                    ++inside;
                    wrong += std::abs(alpha - 1) > 1e-3F;
                    wrong += std::abs(at(layer, x, y)[0] - 200.0F / 255) > 1e-3F;
                }
                bool isOff = !contains(outline, middle);
                for (const Vector2d& by : {Vector2d(2, 0), {-2, 0}, {0, 2}, {0, -2}})
                    isOff = isOff && !contains(outline, middle + by);
                if (isOff && nearest > 3) wrong += alpha > 1e-3F;
            }
        CHECK(wrong == 0);
    }
    CHECK(cases > 40);
    CHECK(inside > 100000);
}

TEST_CASE("art of odd sizes stays in its place when it is shrunk") {
    // A white bar at the far side of 383 x 255 pixels: its middle is asked for, at a twelfth of its size.
    cv::Mat bar = cv::Mat::zeros(255, 383, CV_32F);
    bar(cv::Rect(340, 0, 24, 255)) = 255;
    bar(cv::Rect(0, 220, 383, 16)) = 255;
    const double shown = 12;
    const Layer layer = laid(artOf(greyPicture(bar)), box(4, 4, 4 + 383 / shown, 4 + 255 / shown), 48, 32);
    double sum = 0, at_x = 0, down = 0, at_y = 0;
    for (int x = 24; x < 36; ++x) {
        const double value = double(at(layer, x, 10)[0]);
        sum += value;
        at_x += value * (x + 0.5);
    }
    for (int y = 18; y < 25; ++y) {
        const double value = double(at(layer, 10, y)[0]);
        down += value;
        at_y += value * (y + 0.5);
    }
    CHECK(at_x / sum == Approx(4 + 352 / shown).margin(0.05));
    CHECK(at_y / down == Approx(4 + 228 / shown).margin(0.05));
}

TEST_CASE("art shrunk to a tenth does not shimmer as it moves") {
    // Stripes three pixels wide: nothing of them can be seen at a tenth.
    cv::Mat stripes(400, 400, CV_32F);
    for (int y = 0; y < 400; ++y)
        for (int x = 0; x < 400; ++x) stripes.at<float>(y, x) = (x / 3 + y / 3) % 2 == 0 ? 30.0F : 220.0F;
    const Art art = artOf(greyPicture(stripes));
    double ours = 0, bilinear = 0;
    int count = 0;
    for (int step = 0; step < 10; ++step) {
        const double x0 = 20 + 0.13 * step, y0 = 20 + 0.07 * step;
        const Layer layer = laid(art, box(x0, y0, x0 + 40, y0 + 40), 80, 80);
        for (int y = 24; y < 56; ++y)
            for (int x = 24; x < 56; ++x) {
                ours += std::pow(double(at(layer, x, y)[0]) * 255 - 125, 2);
                const double u = (x + 0.5 - x0) * 10 - 0.5, v = (y + 0.5 - y0) * 10 - 0.5;
                const int iu = int(u), iv = int(v);
                const double fu = u - iu, fv = v - iv;
                const double value = (1 - fv) * ((1 - fu) * double(stripes.at<float>(iv, iu)) +
                                                 fu * double(stripes.at<float>(iv, iu + 1))) +
                                     fv * ((1 - fu) * double(stripes.at<float>(iv + 1, iu)) +
                                           fu * double(stripes.at<float>(iv + 1, iu + 1)));
                bilinear += std::pow(value - 125, 2);
                ++count;
            }
    }
    CHECK(std::sqrt(ours / count) < 6);
    CHECK(std::sqrt(ours / count) < 0.1 * std::sqrt(bilinear / count));
}

TEST_CASE("colours are mixed as the operators are defined, and the rest of the plate is itself") {
    // Compositing and Blending Level 1 (W3C), of single values; worked by hand.
    const Picture plate = flat(20, 16, {51, 128, 204});
    ImageChannel alpha(8, 8, 0.4F);
    const Art art = artOf(flat(8, 8, {204, 102, 51}), &alpha);
    const Layer layer = laid(art, box(4, 4, 12, 12), 20, 16);
    const auto middle = [&](Blend blend, double opacity = 1) {
        const Picture made = withInsert(plate, layer, {blend, opacity});
        int differ = 0;
        for (int y = 0; y < 16; ++y)
            for (int x = 0; x < 20; ++x)
                if (x < 4 || x >= 12 || y < 4 || y >= 12)
                    for (std::size_t c = 0; c < 3; ++c)
                        differ += made.bytes[3 * (std::size_t(y) * 20 + std::size_t(x)) + c] !=
                                  plate.bytes[3 * (std::size_t(y) * 20 + std::size_t(x)) + c];
        CHECK(differ == 0);
        const std::size_t i = 3 * (8 * 20 + 8);
        return std::array<int, 3>{made.bytes[i], made.bytes[i + 1], made.bytes[i + 2]};
    };
    // Three fifths of the plate, two of what the operator gives of (0.2, 0.502, 0.8) and (0.8, 0.4, 0.2).
    CHECK(middle(Blend::over) == std::array<int, 3>{112, 118, 143});
    CHECK(middle(Blend::multiply) == std::array<int, 3>{47, 97, 139});
    CHECK(middle(Blend::screen) == std::array<int, 3>{116, 148, 208});
    CHECK(middle(Blend::add) == std::array<int, 3>{133, 169, 224});
    CHECK(middle(Blend::overlay) == std::array<int, 3>{63, 118, 192});
    CHECK(middle(Blend::over, 0.5) == std::array<int, 3>{82, 123, 173});
    CHECK(middle(Blend::over, 0) == std::array<int, 3>{51, 128, 204});
    // What passes in front comes back, here the right half.
    ImageChannel front(20, 16);
    for (int y = 0; y < 16; ++y)
        for (int x = 8; x < 20; ++x) front.row(y)[x] = 1;
    const Picture held = withInsert(plate, layer, {}, &front);
    CHECK(int(held.bytes[3 * (8 * 20 + 9)]) == 51);
    CHECK(int(held.bytes[3 * (8 * 20 + 6)]) == 112);
    CHECK(blendFrom("screen") == Blend::screen);
    CHECK_FALSE(blendFrom("dodge"));
}

TEST_CASE("premultiplied art is the same picture as straight art") {
    ImageChannel alpha(16, 16);
    Picture straight = flat(16, 16, {200, 100, 40}), multiplied = straight;
    for (int y = 0; y < 16; ++y)
        for (int x = 0; x < 16; ++x) {
            const float a = alpha.row(y)[x] = float(x) / 15;
            for (std::size_t c = 0; c < 3; ++c) {
                std::uint8_t& value = multiplied.bytes[3 * std::size_t(16 * y + x) + c];
                value = std::uint8_t(float(value) * a + 0.5F);
            }
        }
    const Layer one = laid(artOf(straight, &alpha), box(2, 2, 30, 30), 32, 32),
                other = laid(artOf(multiplied, &alpha, AlphaKind::premultiplied), box(2, 2, 30, 30), 32, 32);
    REQUIRE(one.rgba.size() == other.rgba.size());
    for (std::size_t i = 0; i < one.rgba.size(); ++i) CHECK(std::abs(one.rgba[i] - other.rgba[i]) < 0.004F);
    InsertAlone alone(32, 32, false);
    Layer half = one;
    fadeLayer(half, 0.5);
    alone.add(half);
    CHECK(alone.alpha.row(16)[28] == Approx(0.5F * at(one, 28, 16)[3]));
    CHECK(alone.alpha.row(0)[0] == 0.0F);
    CHECK(alone.picture.floats[3 * (16 * 32 + 28)] == Approx(0.5F * at(one, 28, 16)[0]));
}

TEST_CASE("a soft edge fades in from the border, and a hard one covers pixels by their share") {
    const Art art = artOf(flat(10, 10, {255, 255, 255}));
    const Layer soft = laid(art, box(10, 10, 70, 70), 80, 80, 12);
    float before = 0;
    for (int x = 10; x < 24; ++x) {
        const float alpha = at(soft, x, 40)[3];
        CHECK(alpha >= before);
        before = alpha;
    }
    CHECK(at(soft, 10, 40)[3] < 0.02F);
    CHECK(at(soft, 16, 40)[3] == Approx(0.5F).margin(0.08));
    CHECK(at(soft, 24, 40)[3] == Approx(1.0F));
    const Layer hard = laid(art, box(10.4, 10, 69.6, 70), 80, 80);
    CHECK(at(hard, 10, 40)[3] == Approx(0.6F).margin(0.11));
    CHECK(at(hard, 11, 40)[3] == Approx(1.0F));
}

TEST_CASE("motion blur is the mean over the open shutter") {
    const cv::Mat photograph = planes::photograph("graf1.png");
    const Art art = artOf(greyPicture(photograph));
    CornersFile corners;
    for (int frame = 0; frame < 5; ++frame) {
        const double x = 30 + 9 * frame + 0.6 * frame * frame;
        corners.push_back({frame, box(x, 20 + 2 * frame, x + 90, 90 + 3 * frame)});
    }
    CHECK(cornersOverShutter(corners, 2, 0).size() == 1);
    const auto quads = cornersOverShutter(corners, 2, 0.5);
    CHECK(quads.size() > 6);
    const Layer blurred = art.laid(quads, 200, 120);
    // 64 instants of the same path, which is a parabola.
    std::vector<Quad> instants;
    for (int k = 0; k < 64; ++k) {
        const double t = 2 + 0.5 * ((k + 0.5) / 64 - 0.5), x = 30 + 9 * t + 0.6 * t * t;
        instants.push_back(box(x, 20 + 2 * t, x + 90, 90 + 3 * t));
    }
    const Layer mean = art.laid(instants, 200, 120);
    double squares = 0;
    int count = 0;
    for (int y = 30; y < 90; ++y)
        for (int x = 58; x < 136; ++x) {
            squares += std::pow(double(at(blurred, x, y)[0] - at(mean, x, y)[0]), 2);
            ++count;
        }
    CHECK(10 * std::log10(count / squares) > 40);
}

TEST_CASE("art that cannot be used is refused in words") {
    CHECK(Art::create(Picture{}, nullptr, AlphaKind::straight, false).error().message == "the art has no pixels");
    Picture huge{20000, 1, Picture::Depth::bits8, false, std::vector<std::uint8_t>(60000), {}};
    CHECK(Art::create(huge, nullptr, AlphaKind::straight, false).error().message.find("make it smaller") !=
          std::string::npos);
    const ImageChannel other(3, 3);
    CHECK(
        Art::create(flat(4, 4, {1, 2, 3}), &other, AlphaKind::straight, false).error().message.find("its alpha 3x3") !=
        std::string::npos);
    // Corners that are no surface show nothing.
    const Layer none = laid(artOf(flat(4, 4, {1, 2, 3})), {Vector2d(2, 2), {9, 9}, {9, 2}, {2, 9}}, 16, 16);
    for (const float value : none.rgba) CHECK(value == 0.0F);
    CHECK(laid(artOf(flat(4, 4, {1, 2, 3})), box(-40, -40, -10, -10), 16, 16).rgba.empty());
}

// ---- the shape of the art

TEST_CASE("art is cropped, and its corners are round, by the shares that were told") {
    const Art art = artOf(flat(100, 60, {255, 255, 255}));
    ArtShape shape;
    shape.left = 0.1;
    shape.bottom = 0.25;
    const Quad corners = box(10, 10, 110, 70);
    Layer layer = art.laid(std::span(&corners, 1), 120, 80, shape);
    CHECK(at(layer, 19, 40)[3] == 0.0F);
    CHECK(at(layer, 21, 40)[3] == Approx(1.0F));
    CHECK(at(layer, 60, 53)[3] == Approx(1.0F));
    CHECK(at(layer, 60, 56)[3] == 0.0F);
    // Round by half of the shorter side: a disc at either end, whose area is what is missing from the square.
    shape = {};
    shape.round = 0.5;
    layer = art.laid(std::span(&corners, 1), 120, 80, shape);
    double covered = 0;
    for (int y = 10; y < 70; ++y)
        for (int x = 10; x < 110; ++x) covered += double(at(layer, x, y)[3]);
    CHECK(covered == Approx(40 * 60 + 3.14159265 * 30 * 30).epsilon(0.002));
    CHECK(at(layer, 11, 11)[3] == 0.0F);
    CHECK(at(layer, 60, 11)[3] == Approx(1.0F));
}

TEST_CASE("art in stripes is the art as one, without a seam") {
    const cv::Mat photograph = planes::photograph("graf1.png");
    const Art art = artOf(greyPicture(photograph));
    const Quad corners{Vector2d(20.3, 14.2), {150.8, 25.1}, {141.5, 110.4}, {12.9, 98.7}};
    std::vector<ArtPiece> stripes;
    const auto map = quadFromQuad(corners, box(0, 0, 1, 1));
    REQUIRE(map);
    for (int k = 0; k < 12; ++k) {
        ArtPiece piece{{}, k / 12.0, (k + 1) / 12.0};
        const Quad part = box(piece.left, 0, piece.right, 1);
        for (std::size_t i = 0; i < 4; ++i) piece.corners[i] = (*map * part[i].homogeneous()).hnormalized();
        stripes.push_back(piece);
    }
    const Layer whole = art.laid(std::span(&corners, 1), 160, 120), parts = art.laid(std::span(&stripes, 1), 160, 120);
    REQUIRE(whole.box == parts.box);
    float worst = 0;
    for (std::size_t i = 0; i < whole.rgba.size(); ++i)
        worst = std::max(worst, std::abs(whole.rgba[i] - parts.rgba[i]));
    CHECK(worst < 0.06F);  // a pixel on a seam takes more samples than it would
}

// ---- what is done to a layer

TEST_CASE("a grade is its formula, and a blur spreads as a Gaussian and loses nothing") {
    ImageChannel alpha(8, 8, 0.5F);
    Layer layer = laid(artOf(flat(8, 8, {204, 102, 51}), &alpha), box(0, 0, 8, 8), 8, 8);
    Grade grade;
    grade.gain = {0.5, 2, 1};
    grade.lift = {0.1, 0, -0.05};
    grade.saturation = 0.5;
    gradeLayer(layer, grade);
    // Luma of (0.8, 0.4, 0.2) after BT.709 is 0.4706; halfway to it, then gain and lift.
    const double luma = 0.2126 * 0.8 + 0.7152 * 0.4 + 0.0722 * 0.2;
    CHECK(at(layer, 4, 4)[0] / 0.5F == Approx(0.5 * (luma + 0.5 * (0.8 - luma)) + 0.1).margin(0.002));
    CHECK(at(layer, 4, 4)[1] / 0.5F == Approx(2 * (luma + 0.5 * (0.4 - luma))).margin(0.002));
    CHECK(at(layer, 4, 4)[2] / 0.5F == Approx(luma + 0.5 * (0.2 - luma) - 0.05).margin(0.002));
    CHECK(at(layer, 4, 4)[3] == Approx(0.5F));
    grade = {};
    grade.gamma = 2;
    Layer lifted = laid(artOf(flat(8, 8, {64, 64, 64})), box(0, 0, 8, 8), 8, 8);
    gradeLayer(lifted, grade);
    CHECK(at(lifted, 4, 4)[0] == Approx(std::sqrt(64.0 / 255)).margin(0.002));

    Layer dot = laid(artOf(flat(1, 1, {255, 255, 255})), box(30, 30, 31, 31), 64, 64);
    blurLayer(dot, 2.5, 64, 64);
    double sum = 0, squares = 0;
    for (int y = dot.box.y0; y < dot.box.y1; ++y)
        for (int x = dot.box.x0; x < dot.box.x1; ++x) {
            sum += double(at(dot, x, y)[3]);
            squares += double(at(dot, x, y)[3]) * (x - 30) * (x - 30);
        }
    CHECK(sum == Approx(1).margin(0.002));
    CHECK(std::sqrt(squares / sum) == Approx(2.5).margin(0.03));
}

TEST_CASE("a blurred insert that leaves the frame is what it would be in a larger one") {
    const Art art = artOf(flat(20, 20, {250, 120, 60}));
    const auto blurredAt = [&](double x0, int width) {
        const std::vector<std::vector<ArtPiece>> pieces{{ArtPiece{box(x0, 10, x0 + 30, 40)}}};
        Layer layer = art.laid(pieces, width, 50, {}, reachOf(3));
        blurLayer(layer, 3, width, 50, reachOf(3));
        cropLayer(layer, width, 50);
        return layer;
    };
    // Over the left edge by 15 pixels, and the same well inside, 40 to the right.
    const Layer cut = blurredAt(-15, 100), whole = blurredAt(25, 100);
    CHECK(cut.box.x0 == 0);
    for (int x = 0; x < 25; ++x) CHECK(at(cut, x, 25)[3] == Approx(at(whole, x + 40, 25)[3]).margin(1e-4));
}

TEST_CASE("the plate's light wraps round an edge, and nowhere else") {
    // A dark insert beside a bright plate.
    const Picture plate = flat(120, 60, {240, 240, 240});
    Layer layer = laid(artOf(flat(10, 10, {20, 20, 20})), box(30, 10, 110, 50), 120, 60);
    const Layer before = layer;
    wrapLight(layer, plate, {0.6, 12});
    CHECK(at(layer, 31, 30)[0] > at(before, 31, 30)[0] + 0.15F);
    CHECK(at(layer, 70, 30)[0] == Approx(at(before, 70, 30)[0]).margin(0.002));
    for (int x = 31; x < 50; ++x) CHECK(at(layer, x + 1, 30)[0] <= at(layer, x, 30)[0] + 1e-5F);
    CHECK(at(layer, 31, 30)[3] == at(before, 31, 30)[3]);
    // Round a hole that what passes in front has made, too.
    Layer held = before;
    ImageChannel front(120, 60);
    for (int y = 0; y < 60; ++y)
        for (int x = 60; x < 70; ++x) front.row(y)[x] = 1;
    maskLayer(held, front);
    CHECK(at(held, 65, 30)[3] == 0.0F);
    wrapLight(held, plate, {0.6, 12});
    CHECK(at(held, 58, 30)[0] > 0.2F);
}

// ---- the key

namespace {

/// A made foreground with a known alpha over a backing: colours, soft edges, a hole, grain.
struct KeyCase {
    Picture made;
    ImageChannel alpha;
    std::vector<std::array<float, 3>> colours;
};

KeyCase keyCase(const std::array<float, 3>& backing, unsigned seed) {
    constexpr int kSize = 200;
    KeyCase c{{kSize, kSize, Picture::Depth::bits8, false, {}, {}}, ImageChannel(kSize, kSize), {}};
    std::mt19937 random(seed);
    std::uniform_real_distribution<float> unit(0, 1);
    std::normal_distribution<float> grain(0, 2.0F / 255);
    // Foregrounds as they are: skin, greys, a warm and a cold colour, none near the backing's hue.
    const std::array<std::array<float, 3>, 4> colours{
        {{0.78F, 0.58F, 0.48F},
         {0.3F, 0.3F, 0.32F},
         {0.75F, 0.2F, 0.15F},
         backing[1] > backing[2] ? std::array{0.2F, 0.25F, 0.6F} : std::array{0.7F, 0.65F, 0.2F}}};
    const float cx = 60 + 80 * unit(random), cy = 60 + 80 * unit(random), soft = 1 + 8 * unit(random);
    for (int y = 0; y < kSize; ++y)
        for (int x = 0; x < kSize; ++x) {
            const float d = std::hypot(float(x) - cx, 1.3F * (float(y) - cy));
            float alpha = std::clamp((55 - d) / soft + 0.5F, 0.0F, 1.0F);
            if (x > 150) alpha = std::max(alpha, 0.5F);  // a pane of glass
            c.alpha.row(y)[x] = alpha;
            const auto& colour = x > 150 ? colours[1] : colours[std::size_t(x / 25 + y / 25) % 4];
            c.colours.push_back(colour);
            for (std::size_t k = 0; k < 3; ++k) {
                const float value = alpha * colour[k] + (1 - alpha) * backing[k] + grain(random);
                c.made.bytes.push_back(std::uint8_t(std::clamp(255 * value + 0.5F, 0.0F, 255.0F)));
            }
        }
    return c;
}

}  // namespace

TEST_CASE("a flat backing is keyed out: the alpha of composites made with a known one") {
    for (const auto& backing :
         {std::array{0.1F, 0.7F, 0.2F}, std::array{0.1F, 0.2F, 0.75F}, std::array{0.2F, 0.85F, 0.3F}})
        for (unsigned seed = 1; seed <= 6; ++seed) {
            const KeyCase c = keyCase(backing, seed);
            ColourKey key;
            key.colour = backing;
            const auto art = Art::create(c.made, nullptr, AlphaKind::straight, false, key);
            REQUIRE(art);
            const Layer layer = laid(*art, box(0, 0, 200, 200), 200, 200);
            double error = 0, spill = 0, shown = 0, colour = 0;
            int solid = 0;
            for (int y = 0; y < 200; ++y)
                for (int x = 0; x < 200; ++x) {
                    const float* pixel = at(layer, x, y);
                    const float alpha = c.alpha.row(y)[x];
                    error += std::abs(double(pixel[3] - alpha));
                    const KeyExcess excess(backing);
                    if (pixel[3] > 0.2F) {
                        const float own[3] = {pixel[0] / pixel[3], pixel[1] / pixel[3], pixel[2] / pixel[3]};
                        spill += double(pixel[3] * excess.of(own));
                        shown += double(pixel[3]);
                    }
                    if (alpha > 0.999F) {
                        ++solid;
                        for (std::size_t k = 0; k < 3; ++k)
                            colour += std::abs(double(pixel[k] - c.colours[std::size_t(200 * y + x)][k]));
                    }
                }
            INFO("backing " << backing[1] << ", " << backing[2] << ", seed " << seed);
            CHECK(error / 40000 < 0.02);
            CHECK(spill / shown < 0.005);
            CHECK(colour / (3 * solid) < 0.02);  // what is solid keeps its colour
        }
    // A grey backing keys nothing, and says nothing untrue.
    ColourKey grey;
    grey.colour = {0.5F, 0.5F, 0.5F};
    CHECK(KeyExcess(grey.colour).ofBacking() == 0.0F);
    const auto art = Art::create(flat(4, 4, {128, 128, 128}), nullptr, AlphaKind::straight, false, grey);
    CHECK(at(laid(*art, box(0, 0, 4, 4), 4, 4), 2, 2)[3] == 1.0F);
}

TEST_CASE("the colour difference of green is green less the larger of red and blue") {
    // The definition, of a pure green backing; worked by hand.
    const KeyExcess green({0, 1, 0});
    CHECK(green.ofBacking() == Approx(1.0F));
    for (const auto& [colour, excess] : {std::pair{std::array{0.2F, 0.7F, 0.3F}, 0.4F},
                                         {std::array{0.6F, 0.7F, 0.1F}, 0.1F},
                                         {std::array{0.6F, 0.5F, 0.1F}, 0.0F},
                                         {std::array{0.5F, 0.5F, 0.5F}, 0.0F}})
        CHECK(green.of(colour.data()) == Approx(excess).margin(1e-5));
}

// ---- match

namespace {

/// The plate's own picture of the art: blurred, graded, with grain, in a larger picture.
Picture plateShowing(const Layer& layer, double blur, const Grade& grade, double grain, unsigned seed) {
    Layer shown = layer;
    blurLayer(shown, blur, 400, 300);
    gradeLayer(shown, grade);
    Picture plate = flat(400, 300, {90, 100, 110});
    lay(plate, shown, Blend::over);
    std::mt19937 random(seed);
    std::normal_distribution<double> noise(0, grain);
    for (std::uint8_t& value : plate.bytes)
        value = std::uint8_t(std::clamp(double(value) + noise(random) + 0.5, 0.0, 255.0));
    return plate;
}

}  // namespace

TEST_CASE("match finds the blur and the gain that a plate was made with") {
    unsigned seed = 70;
    for (const char* name : {"graf1.png", "box.png", "home.jpg"})
        for (const double blur : {0.0, 0.6, 1.0, 1.7, 2.5}) {
            const cv::Mat photograph = planes::photograph(name);
            REQUIRE_FALSE(photograph.empty());
            const Art art = artOf(greyPicture(photograph));
            const Layer layer = laid(art, {Vector2d(60, 40), {330, 52}, {322, 250}, {70, 262}}, 400, 300);
            Grade grade;
            grade.gain = {0.72, 0.8, 0.66};
            grade.lift = {0.08, 0.05, 0.1};
            const Picture plate = plateShowing(layer, blur, grade, 1.5, ++seed);
            const std::vector<Vector2d> area{{70, 60}, {318, 60}, {318, 245}, {75, 245}};
            const auto found = matched(plate, layer, area);
            REQUIRE(found);
            INFO(name << ", blur " << blur << " found " << found->blur_px << ", gain " << found->grade.gain[0]);
            CHECK(found->hasEdges);
            CHECK(std::abs(found->blur_px - blur) < 0.2);
            for (std::size_t c = 0; c < 3; ++c) {
                CHECK(std::abs(found->grade.gain[c] / grade.gain[c] - 1) < 0.02);
                CHECK(std::abs(found->grade.lift[c] - grade.lift[c]) < 0.012);
            }
        }
    const Layer layer = laid(artOf(flat(8, 8, {90, 90, 90})), box(60, 40, 300, 260), 400, 300);
    const std::vector<Vector2d> small{{10, 10}, {14, 10}, {14, 14}, {10, 14}};
    CHECK(matched(flat(400, 300, {9, 9, 9}), layer, small).error().message.find("drag a larger one") !=
          std::string::npos);
    const std::vector<Vector2d> plain{{10, 10}, {80, 10}, {80, 80}, {10, 80}};
    const auto levels = matched(flat(400, 300, {140, 140, 140}), layer, plain);
    REQUIRE(levels);
    CHECK_FALSE(levels->hasEdges);
    CHECK(levels->grade.lift[1] == Approx(50.0 / 255).margin(0.01));
}

TEST_CASE("match holds on photographs, sizes, areas, grades and grain of all kinds") {
    constexpr std::array kNames{"graf3.png",     "baboon.jpg", "building.jpg", "aero1.jpg",        "fruits.jpg",
                                "messi5.jpg",    "cards.png",  "left01.jpg",   "leuvenA.jpg",      "board.jpg",
                                "butterfly.jpg", "apple.jpg",  "orange.jpg",   "box_in_scene.png", "notes.png"};
    int told = 0, within = 0;
    for (unsigned seed = 900; seed < 945; ++seed) {
        std::mt19937 random(seed);
        std::uniform_real_distribution<double> unit(0, 1);
        const auto between = [&](double low, double high) { return low + (high - low) * unit(random); };
        const char* name = kNames[seed % kNames.size()];
        const cv::Mat photograph = planes::photograph(name);
        REQUIRE_FALSE(photograph.empty());
        const double w = between(100, 330), h = between(80, 240), x = between(20, 375 - w), y = between(20, 280 - h);
        const Layer layer = laid(artOf(greyPicture(photograph)),
                                 {Vector2d(x, y), {x + w, y + 6}, {x + 0.96 * w, y + h}, {x + 8, y + h - 5}}, 400, 300);
        const double blur = seed % 4 == 0 ? 0 : between(0.5, 2.6), grain = between(0, 3);
        Grade grade;
        for (std::size_t c = 0; c < 3; ++c) {
            grade.gain[c] = between(0.45, 0.9);
            grade.lift[c] = between(0, 0.08);
        }
        const Picture plate = plateShowing(layer, blur, grade, grain, seed);
        // All of it, or a part.
        const double part = seed % 2 == 0 ? 1 : between(0.55, 0.9);
        const double x1 = x + 0.92 * w * part, y1 = y + (h - 12) * part;
        const std::vector<Vector2d> area{{x + 12, y + 10}, {x1, y + 10}, {x1, y1}, {x + 12, y1}};
        const auto found = matched(plate, layer, area);
        INFO(name << ", seed " << seed << ", blur " << blur << ", grain " << grain);
        REQUIRE(found);
        if (!found->hasEdges) continue;  // it is said
        ++told;
        INFO("found " << found->blur_px << ", gain " << found->grade.gain[1] / grade.gain[1]);
        CHECK(std::abs(found->blur_px - blur) < 0.6);
        CHECK(std::abs(found->grade.gain[1] / grade.gain[1] - 1) < 0.06);
        within += std::abs(found->blur_px - blur) < 0.2 && std::abs(found->grade.gain[1] / grade.gain[1] - 1) < 0.02;
    }
    CHECK(told >= 40);
    CHECK(within >= 36);
}

TEST_CASE("match brings other art to the plate's black, white and sharpness") {
    // The plate shows a sheet with bars, blurred and dull; the art is another one, crisp.
    cv::Mat sheet(220, 320, CV_32F, cv::Scalar(225)), other(220, 320, CV_32F, cv::Scalar(240));
    for (int i = 0; i < 6; ++i) sheet(cv::Rect(20, 14 + 34 * i, 200 + 12 * i, 14)) = 35;
    for (int i = 0; i < 5; ++i) other(cv::Rect(30 + 55 * i, 25, 26, 150)) = 12;
    const Quad corners{Vector2d(60, 40), {330, 52}, {322, 250}, {70, 262}};
    const Layer there = laid(artOf(greyPicture(sheet)), corners, 400, 300),
                here = laid(artOf(greyPicture(other)), corners, 400, 300);
    Grade dull;
    dull.gain = {0.7, 0.72, 0.75};
    dull.lift = {0.1, 0.1, 0.1};
    const Picture plate = plateShowing(there, 1.4, dull, 1, 5);
    const std::vector<Vector2d> area{{75, 60}, {312, 64}, {308, 238}, {84, 246}};
    const auto found = matched(plate, here, area);
    REQUIRE(found);
    CHECK(found->blur_px == Approx(1.4).margin(0.25));
    Layer made = here;
    gradeLayer(made, found->grade);
    blurLayer(made, found->blur_px, 400, 300);
    float darkest = 1, lightest = 0;
    for (int y = 80; y < 230; ++y)
        for (int x = 90; x < 300; ++x) {
            darkest = std::min(darkest, at(made, x, y)[1]);
            lightest = std::max(lightest, at(made, x, y)[1]);
        }
    CHECK(darkest == Approx(0.1 + 0.72 * 35 / 255).margin(0.02));
    CHECK(lightest == Approx(0.1 + 0.72 * 225 / 255).margin(0.02));
}

TEST_CASE("a key leaves the art's own alpha, and uneven light on the backing is cleared") {
    ImageChannel alpha(40, 40, 0.5F);
    Picture made = flat(40, 40, {40, 180, 60});
    for (int y = 0; y < 40; ++y)
        for (int x = 0; x < 40; ++x) {
            const std::size_t i = 3 * std::size_t(40 * y + x);
            if (x < 20) {
                made.bytes[i] = 190;
                made.bytes[i + 1] = 150;
                made.bytes[i + 2] = 130;
            } else {
                made.bytes[i + 1] = std::uint8_t(174 + y / 4);  // brighter downwards
            }
        }
    ColourKey key;
    key.colour = {40 / 255.0F, 180 / 255.0F, 60 / 255.0F};
    const auto art = Art::create(made, &alpha, AlphaKind::straight, false, key);
    REQUIRE(art);
    const Layer layer = laid(*art, box(0, 0, 40, 40), 40, 40);
    CHECK(at(layer, 8, 20)[3] == Approx(0.5F).margin(0.01));
    CHECK(at(layer, 8, 20)[0] / 0.5F == Approx(190 / 255.0).margin(0.02));
    for (int y = 2; y < 38; ++y) CHECK(at(layer, 32, y)[3] < 0.02F);
    // Spill on the foreground is taken down by its share, and leaves it as light, nearly.
    float full[3] = {0.4F, 0.6F, 0.4F}, half[3] = {0.4F, 0.6F, 0.4F};
    const KeyExcess green({0, 1, 0});
    green.takeSpill(full, 1);
    green.takeSpill(half, 0.5F);
    CHECK(green.of(full) == Approx(0.0F).margin(1e-3));
    CHECK(green.of(half) == Approx(0.1F).margin(1e-4));
    CHECK(full[1] < half[1]);
    CHECK(full[0] > 0.4F);
}

TEST_CASE("layers alone are laid one over the other, premultiplied") {
    const ImageChannel half(8, 8, 0.5F);
    const Layer below = laid(artOf(flat(8, 8, {255, 0, 0})), box(0, 0, 8, 8), 16, 8),
                above = laid(artOf(flat(8, 8, {0, 0, 255}), &half), box(4, 0, 12, 8), 16, 8);
    InsertAlone alone(16, 8, false);
    alone.add(below);
    alone.add(above);
    const auto pixel = [&](int x) { return &alone.picture.floats[3 * (4 * 16 + std::size_t(x))]; };
    CHECK(pixel(2)[0] == Approx(1.0F));
    CHECK(pixel(6)[0] == Approx(0.5F));
    CHECK(pixel(6)[2] == Approx(0.5F));
    CHECK(pixel(10)[2] == Approx(0.5F));
    CHECK(alone.alpha.row(4)[2] == Approx(1.0F));
    CHECK(alone.alpha.row(4)[6] == Approx(1.0F));
    CHECK(alone.alpha.row(4)[10] == Approx(0.5F));
    CHECK(alone.alpha.row(4)[14] == 0.0F);
}

TEST_CASE("the test picture is upright, numbered and as wide as the surface; a plain one is its colour") {
    const Picture wide = testArt(1.5), high = testArt(0.5);
    CHECK(double(wide.width) / wide.height == Approx(1.5));
    CHECK(double(high.width) / high.height == Approx(0.5));
    const auto value = [&](int x, int y) { return wide.bytes[3 * std::size_t(y * wide.width + x)]; };
    CHECK(value(20, 14) + 60 < value(84, 14));
    // A number in the middle of each field, or the fields could not be told apart.
    int inks = 0;
    for (int x = 70; x < 122; ++x) inks += value(x, 32) < 150;
    CHECK(inks > 4);
    const Picture plain = plainArt({0.25, 0.5, 1}, 3);
    CHECK(double(plain.width) / plain.height == Approx(3).margin(0.02));
    CHECK(plain.floats[3] == 0.25F);
    CHECK(plain.floats[5] == 1.0F);
}
