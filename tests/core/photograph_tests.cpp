// Checks on real photographs. The chessboards and their calibration are those that OpenCV publishes with its samples
// (Debian's opencv-doc: left01.jpg ... and left_intrinsics.yml); graf1.png is from the same place.

#include "camera/resect.h"
#include "camera/solve.h"
#include "lens/lens.h"
#include "track/candidates.h"
#include "track/sweep.h"

#include <Eigen/Dense>
#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>
#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

using namespace pinion;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

const std::string kFolder = "/usr/share/doc/opencv-doc/examples/data/";

cv::Mat greyPhotograph(const std::string& name) {
    const auto input = OIIO::ImageInput::open(kFolder + name);
    REQUIRE(input);
    const auto& spec = input->spec();
    std::vector<std::uint8_t> pixels(std::size_t(spec.width) * std::size_t(spec.height) * std::size_t(spec.nchannels));
    REQUIRE(input->read_image(0, 0, 0, spec.nchannels, OIIO::TypeDesc::UINT8, pixels.data()));
    cv::Mat grey(spec.height, spec.width, CV_8U);
    for (int y = 0; y < spec.height; ++y)
        for (int x = 0; x < spec.width; ++x)
            grey.at<std::uint8_t>(y, x) =
                pixels[(std::size_t(y) * std::size_t(spec.width) + std::size_t(x)) * std::size_t(spec.nchannels)];
    return grey;
}

Picture pictureOf(const cv::Mat& from) {
    Picture picture{from.cols, from.rows, Picture::Depth::bits8, false, std::vector<std::uint8_t>(from.total() * 3),
                    {}};
    for (int y = 0; y < from.rows; ++y)
        for (int x = 0; x < from.cols; ++x)
            for (std::size_t c = 0; c < 3; ++c)
                picture.bytes[(std::size_t(y) * std::size_t(from.cols) + std::size_t(x)) * 3 + c] =
                    from.at<std::uint8_t>(y, x);
    return picture;
}

/// left_intrinsics.yml, half a pixel moved to our corner.
Lens publishedLens() {
    Lens lens = pinholeLens(640, 480, 535.91573396163199);
    lens.cx = 342.28315473308373 + 0.5;
    lens.cy = 235.57082909788173 + 0.5;
    lens.k1 = -0.26637260909660682;
    lens.k2 = -0.038588898922304653;
    lens.p1 = 0.0017831947042852964;
    lens.p2 = -0.00028122100441115472;
    lens.k3 = 0.23839153080878486;
    return lens;
}

std::vector<Vector2d> boardCorners(const std::string& name) {
    const cv::Mat grey = greyPhotograph(name);
    std::vector<cv::Point2f> corners;
    REQUIRE(cv::findChessboardCorners(grey, {9, 6}, corners));
    cv::cornerSubPix(grey, corners, {11, 11}, {-1, -1},
                     cv::TermCriteria(cv::TermCriteria::EPS + cv::TermCriteria::COUNT, 30, 0.01));
    std::vector<Vector2d> places;
    for (const auto& c : corners) places.emplace_back(c.x + 0.5, c.y + 0.5);
    return places;
}

double bend(const std::vector<Vector2d>& line) {
    Vector2d middle(0, 0);
    for (const Vector2d& p : line) middle += p / double(line.size());
    Eigen::MatrixXd rows(Eigen::Index(line.size()), 2);
    for (std::size_t i = 0; i < line.size(); ++i) rows.row(Eigen::Index(i)) = (line[i] - middle).transpose();
    return rows.jacobiSvd().singularValues()[1] / std::sqrt(double(line.size()));
}

}  // namespace

TEST_CASE("the published lens makes the rows of photographed chessboards straight") {
    const Lens lens = publishedLens();
    for (const std::string name : {"left01.jpg", "left03.jpg", "left05.jpg", "left07.jpg"}) {
        INFO(name);
        const auto corners = boardCorners(name);
        double before = 0, after = 0;
        for (std::size_t row = 0; row < 6; ++row) {
            std::vector<Vector2d> filmed, straight;
            for (std::size_t i = 0; i < 9; ++i) {
                filmed.push_back(corners[row * 9 + i]);
                const auto undistorted = undistortedFromPlate(lens, filmed.back());
                REQUIRE(undistorted);
                straight.push_back(*undistorted);
            }
            before = std::max(before, bend(filmed));
            after = std::max(after, bend(straight));
        }
        CHECK(after < 0.3);
        CHECK(before > 2 * after);
    }
}

TEST_CASE("photographed chessboards are resected with the error that OpenCV published") {
    const Lens lens = publishedLens();
    // per_view_reprojection_errors of left_intrinsics.yml for these views.
    for (const auto& [name, published] : {std::pair{"left01.jpg", 0.192965463},
                                          {"left03.jpg", 0.173180386},
                                          {"left04.jpg", 0.193417311},
                                          {"left05.jpg", 0.159574091}}) {
        INFO(name);
        const auto corners = boardCorners(name);
        std::vector<Sighting> sightings;
        for (std::size_t i = 0; i < corners.size(); ++i) {
            const auto plane = planeFromPlate(lens, corners[i]);
            REQUIRE(plane);
            sightings.push_back({Vector3d(0.025 * double(i % 9), 0.025 * double(i / 9), 0), *plane});
        }
        const auto pose = resect(sightings, lens.focal_px);
        REQUIRE(pose);
        double squares = 0;
        for (std::size_t i = 0; i < corners.size(); ++i) {
            const auto plate = plateFromPlane(lens, pose->cameraFromWorld(sightings[i].world).hnormalized());
            REQUIRE(plate);
            squares += (*plate - corners[i]).squaredNorm();
        }
        CHECK(std::sqrt(squares / double(corners.size())) == Approx(published).margin(0.03));
    }
}

TEST_CASE("photographed chessboards given as tracks are solved without knowing the board") {
    // Thirteen views of one board as thirteen frames: a flat scene, far steps, heavy distortion, the axis 22 px off the
    // middle.
    std::vector<Track> tracks(54);
    int frame = 1001;
    for (const char* name : {"01", "02", "03", "04", "05", "06", "07", "08", "09", "11", "12", "13", "14"}) {
        const auto corners = boardCorners(std::string("left") + name + ".jpg");
        // The finder may begin at either end of the board.
        for (std::size_t i = 0; i < 54; ++i) {
            tracks[i].id = TrackId(i + 1);
            tracks[i].name = fmt::format("corner-{}", i);
            tracks[i].samples =
                tracks[i].samples.edited([&](auto& samples) { samples.push_back({.frame = frame, .at = corners[i]}); });
        }
        ++frame;
    }
    SolveOptions options;
    options.width = 640;
    options.height = 480;
    options.axis = SolveOptions::Axis::free;
    const auto solve = solveCamera(tracks, options);
    INFO((solve ? solve->doubt : solve.error().message));
    REQUIRE(solve);
    CHECK(solve->frames.size() == 13);
    INFO("focal " << solve->lens.focal_px << ", rms " << solve->rms_px << ", used " << solve->used);
    CHECK(solve->lens.focal_px == Approx(publishedLens().focal_px).epsilon(0.02));
    CHECK(solve->rms_px < 0.5);
    // Flat, and evenly spaced.
    std::vector<std::optional<Eigen::Vector3d>> places(54);
    Eigen::Vector3d middle = Eigen::Vector3d::Zero();
    int placed = 0;
    for (const SolvedTrack& track : solve->tracks)
        if (track.role == TrackRole::used && track.xyz) {
            places[std::size_t(track.track - 1)] = track.xyz;
            middle += *track.xyz;
            ++placed;
        }
    REQUIRE(placed >= 45);
    middle /= placed;
    Eigen::MatrixXd rows(placed, 3);
    for (Eigen::Index i = 0; const auto& place : places)
        if (place) rows.row(i++) = (*place - middle).transpose();
    double sum = 0, squares = 0, count = 0;
    for (std::size_t i = 0; i < 54; ++i)
        for (const std::size_t next : {i + 1, i + 9}) {
            if (next >= 54 || (next == i + 1 && i % 9 == 8) || !places[i] || !places[next]) continue;
            const double step = (*places[next] - *places[i]).norm();
            sum += step;
            squares += step * step;
            ++count;
        }
    const double spacing = sum / count;
    const double flatness = rows.jacobiSvd().singularValues()[2] / std::sqrt(double(placed)) / spacing;
    const double unevenness = std::sqrt(std::max(0.0, squares / count - spacing * spacing)) / spacing;
    INFO("from the plane " << 100 * flatness << " % of a square, spacing even to " << 100 * unevenness << " %");
    CHECK(flatness < 0.03);
    CHECK(unevenness < 0.03);
}

TEST_CASE("points of a photograph moved by a known homography are found to a twentieth of a pixel") {
    const cv::Mat grey = greyPhotograph("graf1.png");
    // Known by construction; in the terms of sample indices, as the warp takes it.
    const cv::Matx33d move(1.03, 0.04, -14.3, -0.03, 0.98, 9.7, 2e-5, -1e-5, 1);
    cv::Mat moved;
    cv::warpPerspective(grey, moved, move, grey.size(), cv::INTER_LANCZOS4);
    const Pyramid first = buildPyramid(pictureOf(grey));
    const Pyramid second = buildPyramid(pictureOf(moved));
    const auto there = [&](const Vector2d& p) -> Vector2d {
        const cv::Vec3d q = move * cv::Vec3d(p.x() - 0.5, p.y() - 0.5, 1);
        return {q[0] / q[2] + 0.5, q[1] / q[2] + 0.5};
    };
    for (const MotionModel motion : {MotionModel::affine, MotionModel::perspective}) {
        INFO(toString(motion));
        Track settings;
        settings.motion = motion;
        settings.pattern_px = 31;
        settings.search_px = 71;
        std::vector<double> errors;
        for (const Candidate& candidate :
             findCandidates(first, {.features = 120, .leastDistance_px = 30, .border_px = 60})) {
            auto runner = Runner::start(settings, first, 1, candidate.at);
            // Looked for some pixels from where it is, as a prediction would be.
            if (!runner || !runner->advance(first, second, 2, there(candidate.at) + Vector2d(3, -2))) continue;
            errors.push_back((runner->last().at - there(candidate.at)).norm());
        }
        REQUIRE(errors.size() > 70);
        std::sort(errors.begin(), errors.end());
        CHECK(errors[errors.size() / 2] < 0.05);
        CHECK(errors[errors.size() * 95 / 100] < 0.2);
    }
}

TEST_CASE("on OpenCV's published pair of pictures patterns end where the published homography says") {
    // graf1.png, graf3.png and H1to3p.xml: a wall, seen again from 30 degrees round. Pixel centres lie at whole numbers
    // there.
    const cv::FileStorage file(kFolder + "H1to3p.xml", cv::FileStorage::READ);
    cv::Mat published;
    file["H13"] >> published;
    REQUIRE(published.rows == 3);
    Eigen::Matrix3d map, half = Eigen::Matrix3d::Identity();
    for (int i = 0; i < 9; ++i) map(i / 3, i % 3) = published.at<double>(i / 3, i % 3);
    half(0, 2) = half(1, 2) = 0.5;
    map = half * map * half.inverse();
    const Pyramid first = buildPyramid(pictureOf(greyPhotograph("graf1.png"))),
                  second = buildPyramid(pictureOf(greyPhotograph("graf3.png")));
    std::vector<double> errors;
    for (const Candidate& candidate :
         findCandidates(first, {.features = 250, .leastDistance_px = 20, .border_px = 60})) {
        const Vector2d to = (map * candidate.at.homogeneous()).hnormalized();
        if (to.x() < 60 || to.y() < 60 || to.x() > second.width() - 60 || to.y() > second.height() - 60) continue;
        const auto matcher = PatternMatcher::create(first, candidate.at, 41, MotionModel::perspective);
        if (!matcher) continue;
        Eigen::Matrix3d origin = Eigen::Matrix3d::Identity();
        origin.topRightCorner<2, 1>() = candidate.at;
        PatternPose start{map * origin / (map * origin)(2, 2)};
        const auto match = matcher->align(second, start.movedTo(to + Vector2d(1, -1)));
        if (match && match->score > 0.8) errors.push_back((match->pose.centre() - to).norm());
    }
    REQUIRE(errors.size() > 120);
    std::sort(errors.begin(), errors.end());
    // The published map itself is good to about half a pixel.
    CHECK(errors[errors.size() / 2] < 0.5);
    CHECK(errors[errors.size() * 8 / 10] < 1.5);
}
