// Pictures through a lens: out and back, with their overscan, in files and maps.

#include "comp/bend.h"
#include "comp/render.h"
#include "exchange/opencvlens.h"
#include "exchange/shotfiles.h"
#include "jobs/delivering.h"
#include "jobs/lensing.h"
#include "base/files.h"
#include "plate/framewriter.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>
#include <cmath>
#include <opencv2/core.hpp>
#include <opencv2/imgproc.hpp>

using namespace pinion;
using Eigen::Vector2d;

namespace {

Lens bendingBarrel(int width = 320, int height = 180) {
    Lens lens = pinholeLens(width, height, 0.78 * width);
    lens.k1 = -0.12;
    lens.k2 = 0.02;
    return lens;
}

/// Smooth, with detail down to a few pixels.
Picture pattern(int width, int height, Picture::Depth depth = Picture::Depth::bits8) {
    Picture picture{width, height, depth, depth == Picture::Depth::float32, {}, {}};
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            for (int c = 0; c < 3; ++c) {
                const double value =
                    0.5 + 0.2 * std::sin(x * 0.35 + c) * std::cos(y * 0.27) + 0.2 * std::sin(0.02 * x * y / 40);
                if (depth == Picture::Depth::bits8) picture.bytes.push_back(std::uint8_t(std::lround(255 * value)));
                else picture.floats.push_back(float(value));
            }
    return picture;
}

double psnr(const Picture& a, const Picture& b) {
    REQUIRE(a.bytes.size() == b.bytes.size());
    double squares = 0;
    for (std::size_t i = 0; i < a.bytes.size(); ++i) squares += std::pow(double(a.bytes[i]) - b.bytes[i], 2);
    return 10 * std::log10(255.0 * 255.0 / std::max(1e-9, squares / double(a.bytes.size())));
}

std::uint8_t valueAt(const Picture& p, int x, int y) {
    return p.bytes[(std::size_t(y) * std::size_t(p.width) + std::size_t(x)) * 3];
}

/// A map of the frame's own size from a function of pixel centres to pixels.
StMap mapBy(int width, int height, const std::function<Vector2d(Vector2d)>& from) {
    StMap map{.width = width, .height = height, .data = {0, 0, width, height}, .st = {}};
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const Vector2d p = from({x + 0.5, y + 0.5});
            map.st.push_back(float(p.x() / width));
            map.st.push_back(float(1 - p.y() / height));
        }
    return map;
}

}  // namespace

TEST_CASE("a plate comes back from the round trip, up to its borders, with each filter") {
    const Lens lens = bendingBarrel();
    const Picture plate = pattern(320, 180);
    const PixelBox box = undistortedBox(lens);
    for (const auto& [filter, least] : {std::pair{BendFilter::bilinear, 33.0}, std::pair{BendFilter::bicubic, 44.0},
                                        std::pair{BendFilter::lanczos, 44.0}, std::pair{BendFilter::area, 40.0}}) {
        const Picture straight = bent(plate, undistorting(lens, box), filter);
        CHECK(straight.width == box.width());
        const Picture back = bent(straight, redistorting(lens, box), filter);
        INFO(toString(filter));
        CHECK(psnr(plate, back) > least);
        // No dark fringe where the border reads what lies beyond.
        for (int x = 0; x < 320; x += 7) CHECK(std::abs(valueAt(plate, x, 0) - valueAt(back, x, 0)) < 40);
    }
}

TEST_CASE("without overscan the corners of the plate are lost, with it they are not") {
    const Lens lens = bendingBarrel();
    const Picture plate = pattern(320, 180);
    const PixelBox tight{0, 0, 320, 180};
    const Picture cut = bent(bent(plate, undistorting(lens, tight)), redistorting(lens, tight));
    CHECK(valueAt(cut, 1, 1) == 0);
    CHECK(undistortedBox(lens, {Overscan::Kind::none}).value() == tight);
    CHECK(undistortedBox(lens, {Overscan::Kind::pixels, 10}).value() == PixelBox{-10, -10, 330, 190});
    const auto vast = undistortedBox(lens, {Overscan::Kind::pixels, 2000});
    REQUIRE_FALSE(vast);
    CHECK(vast.error().message.find("more than four times") != std::string::npos);
}

TEST_CASE("a map written by hand moves pixels where it says") {
    const Picture plate = pattern(64, 40);
    const PixelBox frame{0, 0, 64, 40};
    SECTION("the identity") {
        const auto map = mapBy(64, 40, [](Vector2d p) { return p; });
        for (const auto filter : {BendFilter::bilinear, BendFilter::bicubic, BendFilter::lanczos})
            CHECK(psnr(bent(plate, lookUpOf(map, frame, 64, 40), filter), plate) > 55);
    }
    SECTION("half a pixel to the right is the mean of two") {
        const auto map = mapBy(64, 40, [](Vector2d p) { return Vector2d(p.x() + 0.5, p.y()); });
        const Picture moved = bent(plate, lookUpOf(map, frame, 64, 40), BendFilter::bilinear);
        for (int x = 2; x < 60; ++x)
            CHECK(std::abs(valueAt(moved, x, 20) - (valueAt(plate, x, 20) + valueAt(plate, x + 1, 20)) / 2.0) <= 1.0);
    }
    SECTION("a pure scale about the corner") {
        const auto map = mapBy(64, 40, [](Vector2d p) { return Vector2d(p / 2); });
        const Picture grown = bent(plate, lookUpOf(map, frame, 64, 40), BendFilter::bilinear);
        // The output's pixels 2i and 2i + 1 lie a quarter to each side of the source's pixel i.
        for (int i = 3; i < 28; ++i)
            CHECK(std::abs((valueAt(grown, 2 * i, 20) + valueAt(grown, 2 * i + 1, 20)) / 2.0 -
                           (0.75 * valueAt(plate, i, 10) + 0.125 * valueAt(plate, i - 1, 10) +
                            0.125 * valueAt(plate, i + 1, 10)) *
                               0.75 -
                           (0.75 * valueAt(plate, i, 9) + 0.125 * valueAt(plate, i - 1, 9) +
                            0.125 * valueAt(plate, i + 1, 9)) *
                               0.25) < 2.0);
    }
    SECTION("through a lens as the lens itself does") {
        const Lens lens = bendingBarrel();
        const Picture large = pattern(320, 180);
        const StMap map = undistortMap(lens);
        const Picture byMap = bent(large, lookUpOf(map, {0, 0, 320, 180}, 320, 180));
        const Picture byLens = bent(large, undistorting(lens, map.data));
        CHECK(psnr(byMap, byLens) > 60);
    }
}

TEST_CASE("for the screen a lens gives the picture that a delivery has, and what OpenCV's remap gives") {
    const Lens lens = bendingBarrel();
    const Picture plate = pattern(320, 180);
    const LookUp table = undistorting(lens, undistortedBox(lens));
    const DisplayBend bend(table, 320, 180);
    const auto pixels = bend.bent(displayPixels(plate));
    const Picture exact = bent(plate, undistorting(lens, undistortedBox(lens)), BendFilter::bilinear);
    cv::Mat places(exact.height, exact.width, CV_32FC2), remapped;
    for (int y = 0; y < exact.height; ++y)
        for (int x = 0; x < exact.width; ++x) {
            const float* place = &table.xy[2 * (std::size_t(y) * std::size_t(exact.width) + std::size_t(x))];
            places.at<cv::Vec2f>(y, x) = cv::Vec2f(place[0] - 0.5F, place[1] - 0.5F);
        }
    cv::remap(cv::Mat(180, 320, CV_8UC3, const_cast<std::uint8_t*>(plate.bytes.data())), remapped, places,
              cv::noArray(), cv::INTER_LINEAR);
    int wrong = 0;
    for (int y = 10; y < exact.height - 10; ++y)
        for (int x = 20; x < exact.width - 20; ++x) {
            const std::uint32_t shown = pixels[std::size_t(y) * std::size_t(exact.width) + std::size_t(x)];
            wrong += std::abs(int((shown >> 16) & 0xFF) - int(valueAt(exact, x, y))) > 3;
            wrong += std::abs(int((shown >> 16) & 0xFF) - int(remapped.at<cv::Vec3b>(y, x)[0])) > 4;
        }
    CHECK(wrong == 0);
    // A barrel's border bends into the first and last rows: their ends have a place, their middle has none.
    int beyond = 0;
    for (std::size_t i = 0; i < table.xy.size() / 2; ++i) {
        const float x = table.xy[2 * i], y = table.xy[2 * i + 1];
        const bool outside = !(x > -0.6F && y > -0.6F && x < 320.6F && y < 180.6F);
        const bool inside = x > -0.4F && y > -0.4F && x < 320.4F && y < 180.4F;
        beyond += outside;
        if (outside) wrong += pixels[i] != 0;
        if (inside) wrong += pixels[i] == 0;
    }
    CHECK(beyond > 500);
    CHECK(wrong == 0);
}

TEST_CASE("the area filter keeps fine detail from turning into false patterns where the lens shrinks") {
    // Stripes of two pixels, shrunk to a fifth: their mean, not whatever is hit.
    Picture stripes{400, 40, Picture::Depth::bits8, false, {}, {}};
    for (int y = 0; y < 40; ++y)
        for (int x = 0; x < 400; ++x)
            for (int c = 0; c < 3; ++c) stripes.bytes.push_back(x % 4 < 2 ? 220 : 20);
    LookUp table{{0, 0, 80, 8}, 1, {}};
    for (int y = 0; y < 8; ++y)
        for (int x = 0; x < 80; ++x) {
            table.xy.push_back(float(5 * (x + 0.5)));
            table.xy.push_back(float(5 * (y + 0.5)));
        }
    const auto spread = [&](BendFilter filter) {
        const Picture small = bent(stripes, table, filter);
        int low = 255, high = 0;
        for (int x = 4; x < 76; ++x) {
            low = std::min<int>(low, valueAt(small, x, 4));
            high = std::max<int>(high, valueAt(small, x, 4));
        }
        return high - low;
    };
    CHECK(spread(BendFilter::area) < 40);
    CHECK(spread(BendFilter::bilinear) > 120);
    LookUp fine = table;
    fine.samples = 5;
    fine.xy.clear();
    for (int y = 0; y < 40; ++y)
        for (int x = 0; x < 400; ++x) {
            fine.xy.push_back(float(x + 0.5));
            fine.xy.push_back(float(y + 0.5));
        }
    const Picture sampled = bent(stripes, fine, BendFilter::bilinear);
    CHECK(std::abs(int(valueAt(sampled, 40, 4)) - int(valueAt(bent(stripes, table, BendFilter::area), 40, 4))) < 60);
}

TEST_CASE("overscan goes into EXR as data window and beside PNG as a note, and both are read back") {
    const test::Scratch scratch;
    const Lens lens = bendingBarrel();
    const PixelBox box = undistortedBox(lens);
    const Picture straight = bent(pattern(320, 180), undistorting(lens, box));
    const FrameWindow window{320, 180, box.x0, box.y0};
    for (const std::string ending : {".exr", ".png", ".tif"}) {
        INFO(ending);
        auto writer =
            FrameWriter::create(scratch / ("u.####" + ending), box.width(), box.height(), {24, 1}, {.window = window});
        REQUIRE(writer);
        REQUIRE((*writer)->write(1001, straight));
        const auto name = ending == ".exr" ? scratch / "u.1001.exr"
                                           : scratch / fmt::format("u.o{}x{}.1001{}", -box.x0, -box.y0, ending);
        const auto whole = Plate::open(name, {.overscan = true});
        REQUIRE(whole);
        const PlateFacts& facts = (*whole)->facts();
        REQUIRE(facts.window);
        CHECK(facts.window->width == 320);
        CHECK(facts.window->height == 180);
        CHECK(facts.window->x0 == box.x0);
        CHECK(facts.window->y0 == box.y0);
        CHECK(facts.width == box.width());
        const auto picture = (*whole)->read(1001);
        REQUIRE(picture);
        CHECK((*picture)->width == box.width());
        if (ending == ".exr") {
            const auto input = OIIO::ImageInput::open(name.string());
            REQUIRE(input);
            CHECK(input->spec().x == box.x0);
            CHECK(input->spec().full_width == 320);
            // Opened as any plate it is its frame.
            const auto plate = Plate::open(name);
            REQUIRE(plate);
            CHECK((*plate)->facts().width == 320);
        }
    }
    REQUIRE(
        writeFile(scratch / "u.overscan.json",
                  R"({"format":"pinion.overscan","version":1,"width":320,"height":180,"data_window":[0,0,10,10]})"));
    const auto wrong = Plate::open(scratch / fmt::format("u.o{}x{}.1001.png", -box.x0, -box.y0), {.overscan = true});
    REQUIRE_FALSE(wrong);
    CHECK(wrong.error().message.find("10x10") != std::string::npos);
}

TEST_CASE("a zoom's plate is undistorted and put back by each frame's own lens, on one canvas") {
    const test::Scratch scratch;
    const auto lensAt = [](int frame) {
        Lens lens = bendingBarrel();
        lens.k1 = -0.02 - 0.05 * (frame - 1001);
        return lens;
    };
    {
        auto writer = FrameWriter::create(scratch / "zoom.####.png", 320, 180, {24, 1});
        REQUIRE(writer);
        for (int frame = 1001; frame <= 1003; ++frame) REQUIRE((*writer)->write(frame, pattern(320, 180)));
    }
    const LensOverTime zoom{320, 180, lensAt};
    const auto plate = Plate::open(scratch / "zoom.1001.png");
    REQUIRE(plate);
    FrameCache frames(*plate);
    const auto out = undistortPlate(frames, {1001, 1003}, zoom, scratch / "u.####.exr");
    REQUIRE(out);
    CHECK(out->report.frames == 3);
    // The widest of them holds all.
    CHECK(out->box == undistortedBox(lensAt(1003)));
    const auto straight = Plate::open(scratch / "u.1001.exr", {.overscan = true});
    REQUIRE(straight);
    FrameCache pictures(*straight);
    for (int frame = 1001; frame <= 1003; ++frame) {
        const auto own = pictures.get(frame);
        REQUIRE(own);
        // Where a place of the plate lies in it is its own lens's affair.
        const Vector2d at(40.5, 30.5);
        const auto there = undistortedFromPlate(lensAt(frame), at);
        REQUIRE(there);
        const int x = int(there->x() - out->box.x0), y = int(there->y() - out->box.y0);
        const double value = double((*own)->floats[(std::size_t(y) * std::size_t((*own)->width) + std::size_t(x)) * 3]);
        const Picture byItself = bent(**frames.get(frame), undistorting(lensAt(frame), out->box));
        CHECK(255 * std::pow(value, 1 / 2.2) ==
              Approx(byItself.bytes[(std::size_t(y) * std::size_t(byItself.width) + std::size_t(x)) * 3]).margin(14));
    }
    const auto back = redistortPictures(pictures, {1001, 1003}, zoom, scratch / "b.####.png");
    REQUIRE(back);
    const auto returned = Plate::open(scratch / "b.1001.png");
    REQUIRE(returned);
    for (int frame = 1001; frame <= 1003; ++frame) {
        // Of 16 bits, since the straight pictures were floats.
        const auto before = frames.get(frame), after = (*returned)->read(frame);
        REQUIRE(before);
        REQUIRE(after);
        REQUIRE((*after)->floats.size() == (*before)->bytes.size());
        double squares = 0;
        for (std::size_t i = 0; i < (*before)->bytes.size(); ++i)
            squares += std::pow((*before)->bytes[i] / 255.0 - double((*after)->floats[i]), 2);
        CHECK(10 * std::log10(double((*before)->bytes.size()) / squares) > 36);
    }
}

TEST_CASE("ST maps that are none are refused with what is wrong; half floats are taken and said") {
    const test::Scratch scratch;
    const auto write = [&](const std::string& name, OIIO::TypeDesc type, std::vector<std::string> channels,
                           float value) {
        const auto output = OIIO::ImageOutput::create((scratch / name).string());
        OIIO::ImageSpec spec(8, 4, int(channels.size()), type);
        spec.channelnames = channels;
        REQUIRE(output->open((scratch / name).string(), spec));
        const std::vector<float> pixels(32 * channels.size(), value);
        REQUIRE(output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()));
        REQUIRE(output->close());
        return readStMap(scratch / name);
    };
    const auto refused = [](const Expected<StMap>& map, const std::string& part) {
        REQUIRE_FALSE(map);
        INFO(map.error().message);
        CHECK(map.error().message.find(part) != std::string::npos);
    };
    refused(write("bytes.png", OIIO::TypeDesc::UINT8, {"R", "G", "B"}, 0.5F), "too coarse");
    refused(write("one.exr", OIIO::TypeDesc::FLOAT, {"Y"}, 0.5F), "one channel");
    refused(write("none.exr", OIIO::TypeDesc::FLOAT, {"depth.Z", "id", "mask"}, 0.5F), "called R and G");
    refused(write("nan.exr", OIIO::TypeDesc::FLOAT, {"R", "G", "B"}, std::nanf("")), "(0, 0) is no number");
    const auto half = write("half.exr", OIIO::TypeDesc::HALF, {"R", "G", "B"}, 0.5F);
    REQUIRE(half);
    CHECK(half->isHalf);
    const auto two = write("two.exr", OIIO::TypeDesc::FLOAT, {"R", "G"}, 0.25F);
    REQUIRE(two);
    CHECK_FALSE(two->isHalf);
    CHECK(two->st[0] == 0.25F);
}

TEST_CASE("lens files go to OpenCV and back, half a pixel apart") {
    const test::Scratch scratch;
    Lens lens = bendingBarrel(1280, 720);
    lens.p1 = 0.0007;
    lens.p2 = -0.0004;
    lens.k3 = 0.003;
    lens.cx = 651.25;
    lens.cy = 349.5;
    REQUIRE(writeFile(scratch / "lens.yml", *openCvLens(lens)));
    const auto back = readAnyLens(scratch / "lens.yml");
    REQUIRE(back);
    CHECK(back->cx == Approx(lens.cx).margin(1e-12));
    CHECK(back->k3 == Approx(lens.k3).margin(1e-15));
    // Read by OpenCV itself: the numbers are those of pixel centres.
    const cv::FileStorage file((scratch / "lens.yml").string(), cv::FileStorage::READ);
    cv::Mat camera, distortion;
    file["camera_matrix"] >> camera;
    file["distortion_coefficients"] >> distortion;
    CHECK(camera.at<double>(0, 2) == Approx(650.75));
    CHECK(camera.at<double>(1, 1) == Approx(lens.focal_px));
    CHECK(distortion.at<double>(2) == Approx(0.0007));
    CHECK(distortion.at<double>(4) == Approx(0.003));
    for (const auto& [contents, part] :
         {std::pair<std::string, std::string>{"%YAML:1.0\n---\nimage_width: 4\n", "no camera_matrix"},
          std::pair<std::string, std::string>{"neither fish nor flesh", "no calibration"},
          std::pair<std::string, std::string>{"{\"format\":\"pinion.tracks\",\"version\":1}", "pinion.lens"}}) {
        REQUIRE(writeFile(scratch / "bad.yml", contents));
        const auto bad = readAnyLens(scratch / "bad.yml");
        REQUIRE_FALSE(bad);
        INFO(bad.error().message);
        CHECK(bad.error().message.find(part) != std::string::npos);
    }
}

TEST_CASE("OpenCV's own calibration file is read as published") {
    // Debian's opencv-doc: left_intrinsics.yml of the chessboard photographs.
    const auto lens = readOpenCvLens("/usr/share/doc/opencv-doc/examples/data/left_intrinsics.yml");
    REQUIRE(lens);
    CHECK(lens->width == 640);
    CHECK(lens->focal_px == Approx(535.91573396163199));
    CHECK(lens->cx == Approx(342.28315473308373 + 0.5));
    CHECK(lens->k3 == Approx(0.23839153080878486));
}

TEST_CASE("CG rendered with the delivered camera lands on the plate through the delivered map") {
    const test::Scratch scratch;
    const Lens lens = bendingBarrel(640, 360);
    Shot shot;
    shot.name = "cg";
    shot.plate.width = 640;
    shot.plate.height = 360;
    Solve solve;
    solve.lens = lens;
    SolvedFrame frame;
    frame.frame = 1001;
    frame.focal_px = lens.focal_px;
    frame.worldFromCamera.translate(Eigen::Vector3d(0.2, -0.1, 0.4));
    frame.worldFromCamera.rotate(Eigen::AngleAxisd(0.1, Eigen::Vector3d(1, 2, 0.5).normalized()));
    solve.frames = std::vector<SolvedFrame>{frame};
    // Each on the ray of a place of the plate, out to the corners.
    std::vector<Vector2d> places;
    std::vector<SolvedTrack> points;
    for (const double x : {8.0, 150.0, 330.0, 500.0, 630.0})
        for (const double y : {9.0, 120.0, 250.0, 350.0}) {
            const Vector2d plane = *planeFromPlate(lens, {x, y});
            SolvedTrack point;
            point.track = TrackId(points.size() + 1);
            point.role = TrackRole::used;
            point.xyz = frame.worldFromCamera * (Eigen::Vector3d(plane.x(), -plane.y(), -1) * (3 + 0.01 * x));
            points.push_back(point);
            places.emplace_back(x, y);
        }
    solve.tracks = std::move(points);
    shot.solve = std::make_shared<const Solve>(solve);
    shot.deliverables = std::vector<Deliverable>{
        {"camera", DeliverableKind::camera, DeliverableFormat::json, "camera.json", UpAxis::y, 0, {}, true},
        {"maps", DeliverableKind::stMaps, DeliverableFormat::exr, "maps"}};
    for (const Deliverable& item : shot.deliverables) REQUIRE(deliver(shot, item, scratch.path()));

    // The renderer knows the delivered files alone: a pinhole picture as large as the camera says.
    const auto camera = readCamera(scratch / "camera.json");
    const auto redistort = readStMap(scratch / "maps/redistort.exr"),
               undistort = readStMap(scratch / "maps/undistort.exr");
    REQUIRE(camera);
    REQUIRE(redistort);
    REQUIRE(undistort);
    CHECK(camera->width == undistort->data.width());
    CHECK(camera->height == undistort->data.height());
    Picture cg{camera->width, camera->height, Picture::Depth::float32, true, {}, {}};
    cg.floats.assign(std::size_t(cg.width) * std::size_t(cg.height) * 3, 0.0F);
    REQUIRE(camera->points.size() == places.size());
    for (const auto& point : camera->points) {
        const Eigen::Vector3d seen = camera->frames.front().worldFromCamera.inverse() * point.xyz;
        const Vector2d at = *plateFromPlane(camera->lens, {seen.x() / -seen.z(), seen.y() / seen.z()});
        for (int y = int(at.y()) - 8; y <= int(at.y()) + 8; ++y)
            for (int x = int(at.x()) - 8; x <= int(at.x()) + 8; ++x)
                if (x >= 0 && y >= 0 && x < cg.width && y < cg.height)
                    for (std::size_t c = 0; c < 3; ++c)
                        cg.floats[(std::size_t(y) * std::size_t(cg.width) + std::size_t(x)) * 3 + c] +=
                            float(std::exp(-((Vector2d(x + 0.5, y + 0.5) - at).squaredNorm()) / 6));
    }
    const Picture onPlate = bent(cg, lookUpOf(*redistort, undistort->data, 640, 360));
    for (const Vector2d& place : places) {
        double weight = 0;
        Vector2d middle(0, 0);
        for (int y = std::max(0, int(place.y()) - 7); y <= std::min(359, int(place.y()) + 7); ++y)
            for (int x = std::max(0, int(place.x()) - 7); x <= std::min(639, int(place.x()) + 7); ++x) {
                const double value = onPlate.floats[(std::size_t(y) * 640 + std::size_t(x)) * 3];
                weight += value;
                middle += value * Vector2d(x + 0.5, y + 0.5);
            }
        INFO(place.transpose());
        REQUIRE(weight > 1);
        CHECK((middle / weight - place).norm() < 0.1);
    }
}

TEST_CASE("a camera for the undistorted plate sees through its overscan what the lens sees on the plate") {
    CameraFile file;
    file.width = 1280;
    file.height = 720;
    file.lens = bendingBarrel(1280, 720);
    file.lens.cx += 5;
    file.sensorWidth_mm = 36;
    file.frames.push_back({1001, Eigen::Isometry3d::Identity(), file.lens.focal_px});
    const CameraFile grown = withOverscan(file);
    const PixelBox box = undistortedBox(file.lens);
    CHECK(grown.sensorWidth_mm == Approx(36.0 * box.width() / 1280));
    CHECK_FALSE(grown.lens.isDistorted());
    for (const Vector2d& plane : {Vector2d(0.3, -0.2), Vector2d(-0.5, 0.3), Vector2d(0, 0)}) {
        const Vector2d onPlate = *plateFromPlane(file.lens, plane);
        const Vector2d inPicture = *plateFromPlane(grown.lens, plane);
        const Vector2d straight = *undistortedFromPlate(file.lens, onPlate);
        CHECK((inPicture + Vector2d(box.x0, box.y0) - straight).norm() < 1e-6);
    }
}
