// Inserts: art laid to four corners against finely sampled references, its mixing against the operators' definitions,
// and what comes out as files. Photographs are those of Debian's opencv-doc.

#include "comp/insert.h"
#include "jobs/inserting.h"
#include "planar/surface.h"
#include "planes/photograph.h"
#include "plate/framewriter.h"
#include "plate/still.h"
#include "scratch.h"

#include <catch2/catch.hpp>
#include <cmath>
#include <opencv2/imgproc.hpp>

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
    for (int i = 0; i < width * height; ++i) picture.bytes.insert(picture.bytes.end(), colour.begin(), colour.end());
    return picture;
}

Art artOf(const Picture& picture, const Plane* alpha = nullptr, AlphaKind kind = AlphaKind::straight) {
    auto art = Art::create(picture, alpha, kind, false);
    REQUIRE(art);
    return *std::move(art);
}

Layer laid(const Art& art, const Quad& corners, int width, int height, double soft = 0) {
    return art.laid(std::span(&corners, 1), width, height, soft);
}

const float* at(const Layer& layer, int x, int y) {
    return &layer.rgba[4 * (std::size_t(y - layer.box.y0) * std::size_t(layer.box.width()) +
                            std::size_t(x - layer.box.x0))];
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
        double squares = 0;
        int count = 0;
        for (int y = layer.box.y0; y < layer.box.y1; ++y)
            for (int x = layer.box.x0; x < layer.box.x1; ++x) {
                const float* pixel = at(layer, x, y);
                if (pixel[3] < 0.999F) continue;
                squares += std::pow(double(pixel[1]) - double(coarse.at<float>(y, x)) / 255.0, 2);
                ++count;
            }
        REQUIRE(count > 100);
        INFO("scale " << scale);
        CHECK(10 * std::log10(count / squares) > 40);
    }
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
    Plane alpha(8, 8, 0.4F);
    const Art art = artOf(flat(8, 8, {204, 102, 51}), &alpha);
    const Layer layer = laid(art, box(4, 4, 12, 12), 20, 16);
    const auto middle = [&](Blend blend, double opacity = 1) {
        const Picture made = withInsert(plate, layer, {blend, opacity, 0});
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
    Plane front(20, 16);
    for (int y = 0; y < 16; ++y)
        for (int x = 8; x < 20; ++x) front.row(y)[x] = 1;
    const Picture held = withInsert(plate, layer, {}, &front);
    CHECK(int(held.bytes[3 * (8 * 20 + 9)]) == 51);
    CHECK(int(held.bytes[3 * (8 * 20 + 6)]) == 112);
    CHECK(blendFrom("screen") == Blend::screen);
    CHECK_FALSE(blendFrom("dodge"));
}

TEST_CASE("premultiplied art is the same picture as straight art") {
    Plane alpha(16, 16);
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
    const InsertAlone alone = insertAlone(one, {Blend::over, 0.5, 0}, 32, 32, false);
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
    const Plane other(3, 3);
    CHECK(
        Art::create(flat(4, 4, {1, 2, 3}), &other, AlphaKind::straight, false).error().message.find("its alpha 3x3") !=
        std::string::npos);
    // Corners that are no surface show nothing.
    const Layer none = laid(artOf(flat(4, 4, {1, 2, 3})), {Vector2d(2, 2), {9, 9}, {9, 2}, {2, 9}}, 16, 16);
    for (const float value : none.rgba) CHECK(value == 0.0F);
    CHECK(laid(artOf(flat(4, 4, {1, 2, 3})), box(-40, -40, -10, -10), 16, 16).rgba.empty());
}
