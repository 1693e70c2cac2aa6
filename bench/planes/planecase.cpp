#include "planes/planecase.h"

#include "planes/photograph.h"

#include <Eigen/Dense>
#include <cmath>
#include <fmt/core.h>
#include <opencv2/imgproc.hpp>
#include <random>

namespace pinion::planes {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kFine = 3;  // samples of a pixel, across and down

/// -1 at the first frame, 0 in the middle, 1 at the last.
double partOf(const PlaneCase& c, double frame) { return 2 * frame / (c.frames - 1) - 1; }

Vector2d shakeAt(const PlaneCase& c, double frame) {
    const double s = c.seed;
    return c.shake_px * Vector2d(std::sin(0.71 * frame + s) + 0.5 * std::sin(1.9 * frame + 2 * s),
                                 std::sin(0.83 * frame + 3 * s) + 0.5 * std::sin(1.7 * frame + s));
}

double aspectOf(const PlaneCase& c) {
    static std::vector<std::pair<std::string, double>> known;
    for (const auto& [name, aspect] : known)
        if (name == c.surface) return aspect;
    const cv::Mat picture = photograph(c.surface);
    known.emplace_back(c.surface, picture.empty() ? 1.0 : double(picture.rows) / picture.cols);
    return known.back().second;
}

/// Half the surface's width and height, as it is seen from the front in the middle.
Vector2d halfOf(const PlaneCase& c) {
    const double aspect = aspectOf(c), width = aspect <= 1 ? c.size_px : c.size_px / aspect;
    return 0.5 * Vector2d(width, width * aspect);
}

/// Frame from the surface's own pixels about its middle. The surface turns about an axis in itself in front of a camera
/// with a focal length of 1.2 of the frame's width, and stands nearer or farther.
Matrix3d frameFromSurface(const PlaneCase& c, double frame) {
    const double part = partOf(c, frame), focal = 1.2 * c.width, scale = std::pow(c.scaleEnd, part);
    const double tilt = c.tiltEnd * part;
    const Eigen::Matrix3d turned = (Eigen::AngleAxisd(tilt, Vector3d(std::cos(c.tiltAxis), std::sin(c.tiltAxis), 0)) *
                                    Eigen::AngleAxisd(c.turn * part, Vector3d::UnitZ()))
                                       .toRotationMatrix();
    // Surface at the depth `focal` is seen at its own size.
    Matrix3d m;
    m.col(0) = turned.col(0);
    m.col(1) = turned.col(1);
    m.col(2) = Vector3d(0, 0, focal / scale);
    Matrix3d camera = Matrix3d::Identity();
    camera(0, 0) = camera(1, 1) = focal;
    const Vector2d middle = Vector2d(0.5 * c.width, 0.5 * c.height) + c.travel * part + shakeAt(c, frame);
    camera(0, 2) = middle.x();
    camera(1, 2) = middle.y();
    return camera * m;
}

/// The bar, in the frame: its middle and half its width.
std::pair<double, double> barAt(const PlaneCase& c, double frame) {
    const double part = partOf(c, frame), half = c.cover * halfOf(c).x();
    // In the middle, where the reference is, it is just beside the surface; it passes from there to the end.
    const double way = 0.5 * c.size_px * std::max(1.0, c.scaleEnd) + half + 6;
    return {0.5 * c.width + c.travel.x() * part + way * (2 * part - 1), half};
}

class MadePlate final : public Plate {
public:
    MadePlate(PlaneCase c, cv::Mat surface, cv::Mat behind)
        : case_(std::move(c)), surface_(std::move(surface)), behind_(std::move(behind)) {
        facts_ = madeFacts("made-up plane", case_.width, case_.height, case_.frames);
        // A photograph shown smaller than it is: its detail goes before it is laid down finely.
        const double shown = 2 * halfOf(case_).x() * kFine * std::max(case_.scaleEnd, 1 / case_.scaleEnd);
        if (shown < surface_.cols)
            cv::resize(surface_, surface_, {int(shown), int(shown * surface_.rows / surface_.cols)}, 0, 0,
                       cv::INTER_AREA);
    }
    Expected<PicturePtr> read(int frame) const override {
        const int steps = case_.shutter > 0 ? 7 : 1;
        cv::Mat sum = cv::Mat::zeros(case_.height, case_.width, CV_32F);
        for (int step = 0; step < steps; ++step)
            sum += instant(frame + case_.shutter * ((step + 0.5) / steps - 0.5)) / steps;
        if (case_.defocus_px > 0) {
            const double blur = case_.defocus_px * std::abs(partOf(case_, frame));
            if (blur > 0.1) cv::GaussianBlur(sum, sum, {}, blur);
        }
        return developed(sum, 1 + (case_.gainEnd - 1) * partOf(case_, frame), case_.grain, case_.seed, frame);
    }

private:
    cv::Mat instant(double frame) const {
        const cv::Size size(case_.width * kFine, case_.height * kFine);
        // From pixel indices of a photograph to those of the fine frame.
        const auto placed = [&](const Matrix3d& frameFromPlaces, const cv::Mat& picture, double width) {
            Matrix3d places = Matrix3d::Identity(), fine = Matrix3d::Identity();
            const double scale = width / picture.cols;
            places(0, 0) = places(1, 1) = scale;
            places(0, 2) = scale * (0.5 - 0.5 * picture.cols);
            places(1, 2) = scale * (0.5 - 0.5 * picture.rows);
            fine(0, 0) = fine(1, 1) = kFine;
            fine(0, 2) = fine(1, 2) = -0.5;
            const Matrix3d m = fine * frameFromPlaces * places;
            cv::Mat result(3, 3, CV_64F);
            for (int i = 0; i < 9; ++i) result.at<double>(i / 3, i % 3) = m(i / 3, i % 3);
            return result;
        };
        cv::Mat fine;
        Matrix3d far = Matrix3d::Identity();
        far.topRightCorner<2, 1>() = Vector2d(0.5 * case_.width, 0.5 * case_.height) +
                                     0.4 * partOf(case_, frame) * case_.travel + shakeAt(case_, frame);
        cv::warpPerspective(behind_, fine, placed(far, behind_, 1.5 * case_.width), size, cv::INTER_LINEAR,
                            cv::BORDER_REFLECT_101);
        const cv::Mat front = placed(frameFromSurface(case_, frame), surface_, 2 * halfOf(case_).x());
        cv::Mat lit = surface_.clone();
        if (case_.highlight > 0) {
            // It lies elsewhere on the surface as the camera moves.
            const double part = partOf(case_, frame);
            const Vector2d middle(lit.cols * (0.5 + 0.6 * part), lit.rows * (0.45 + 0.2 * part));
            const double spread = 0.16 * lit.cols;
            for (int y = 0; y < lit.rows; ++y)
                for (int x = 0; x < lit.cols; ++x)
                    lit.at<float>(y, x) = std::min(
                        255.0F, lit.at<float>(y, x) +
                                    float(case_.highlight * std::exp(-0.5 * (Vector2d(x, y) - middle).squaredNorm() /
                                                                     (spread * spread))));
        }
        cv::warpPerspective(lit, fine, front, size, cv::INTER_LINEAR, cv::BORDER_TRANSPARENT);
        if (case_.cover > 0) {
            const auto [middle, half] = barAt(case_, frame);
            const int left = std::clamp(int((middle - half) * kFine), 0, size.width),
                      right = std::clamp(int((middle + half) * kFine), left, size.width);
            for (int y = 0; y < size.height; ++y)
                for (int x = left; x < right; ++x)
                    fine.at<float>(y, x) =
                        90 + 40 * float(std::sin(0.05 * x + 0.02 * y)) + 15 * float(std::sin(0.31 * y));
        }
        cv::Mat coarse;
        cv::resize(fine, coarse, {case_.width, case_.height}, 0, 0, cv::INTER_AREA);
        return coarse;
    }
    PlaneCase case_;
    cv::Mat surface_, behind_;
};

}  // namespace

const std::vector<std::string>& photographs() {
    static const std::vector<std::string> names{"graf1.png",        "home.jpg",   "building.jpg",  "starry_night.jpg",
                                                "aero1.jpg",        "baboon.jpg", "fruits.jpg",    "board.jpg",
                                                "sudoku.png",       "cards.png",  "leuvenA.jpg",   "messi5.jpg",
                                                "stuff.jpg",        "aloeL.jpg",  "box.png",       "basketball1.png",
                                                "rubberwhale1.png", "apple.jpg",  "butterfly.jpg", "HappyFish.jpg"};
    return names;
}

PlaneCase planeCase(unsigned seed) {
    std::mt19937 random(seed * 7919 + 13);
    std::uniform_real_distribution<double> unit(0, 1);
    const auto between = [&](double a, double b) { return a + (b - a) * unit(random); };
    const auto oneIn = [&](double n) { return unit(random) < 1 / n; };
    PlaneCase c;
    c.seed = seed;
    c.surface = photographs()[random() % photographs().size()];
    do c.behind = photographs()[random() % photographs().size()];
    while (c.behind == c.surface);
    c.size_px = 60 * std::pow(10.0, unit(random));  // 60 to 600
    if (oneIn(2))
        c.scaleEnd = std::exp(between(std::log(0.577), std::log(1.732)));  // 3 from the first frame to the last
    if (oneIn(2)) c.tiltEnd = between(-60, 60) * M_PI / 180;
    c.tiltAxis = between(0, M_PI);
    if (oneIn(3)) c.turn = between(-0.5, 0.5);
    c.travel = Vector2d(between(-160, 160), between(-90, 90));
    c.shake_px = oneIn(2) ? between(0, 2) : between(2, 5);
    if (oneIn(3)) c.shutter = between(0.2, 0.7);
    if (oneIn(5)) c.defocus_px = between(0.5, 2.5);
    if (oneIn(2)) c.grain = between(1, 6);
    if (oneIn(3)) c.gainEnd = between(0.6, 1.3);
    if (oneIn(4)) c.highlight = between(40, 140);
    if (oneIn(3)) c.cover = between(0.15, 0.5);
    return c;
}

std::string describe(const PlaneCase& c) {
    std::string text = fmt::format("{:.0f} px of {}, scale {:.2f}, tilt {:.0f}", c.size_px, c.surface, c.scaleEnd,
                                   c.tiltEnd * 180 / M_PI);
    if (c.shutter > 0) text += fmt::format(", shutter {:.1f}", c.shutter);
    if (c.defocus_px > 0) text += fmt::format(", defocus {:.1f}", c.defocus_px);
    if (c.grain > 0) text += fmt::format(", grain {:.1f}", c.grain);
    if (c.gainEnd != 1) text += fmt::format(", gain {:.2f}", c.gainEnd);
    if (c.highlight > 0) text += fmt::format(", highlight {:.0f}", c.highlight);
    if (c.cover > 0) text += fmt::format(", bar {:.2f}", c.cover);
    return text;
}

Quad cornersAt(const PlaneCase& c, int frame) {
    const Vector2d half = halfOf(c);
    const Matrix3d m = frameFromSurface(c, frame);
    Quad quad;
    const double signs[4][2] = {{-1, -1}, {1, -1}, {1, 1}, {-1, 1}};
    for (std::size_t i = 0; i < 4; ++i)
        quad[i] = (m * Vector3d(signs[i][0] * half.x(), signs[i][1] * half.y(), 1)).hnormalized();
    return quad;
}

double visibleAt(const PlaneCase& c, int frame) {
    const Vector2d half = halfOf(c);
    const Matrix3d m = frameFromSurface(c, frame);
    const auto [middle, halfBar] = barAt(c, frame);
    int seen = 0;
    for (int j = 0; j < 20; ++j)
        for (int i = 0; i < 20; ++i) {
            const Vector2d p =
                (m * Vector3d((i + 0.5) / 10 * half.x() - half.x(), (j + 0.5) / 10 * half.y() - half.y(), 1))
                    .hnormalized();
            const bool covered = c.cover > 0 && std::abs(p.x() - middle) < halfBar;
            seen += !covered && p.x() > 0 && p.y() > 0 && p.x() < c.width && p.y() < c.height;
        }
    return seen / 400.0;
}

PlanarTrack planeOf(const PlaneCase& c) {
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "plane1";
    plane.referenceFrame = (c.frames - 1) / 2;
    const Quad corners = cornersAt(c, plane.referenceFrame);
    const Vector2d middle = 0.25 * (corners[0] + corners[1] + corners[2] + corners[3]);
    Polygon outline;
    for (const Vector2d& corner : corners) outline.push_back(middle + 0.96 * (corner - middle));
    plane.outlines = List<Polygon>({outline});
    return plane;
}

std::shared_ptr<const Plate> plateOf(const PlaneCase& c) {
    const cv::Mat surface = photograph(c.surface), behind = photograph(c.behind);
    if (surface.empty() || behind.empty()) return nullptr;
    return std::make_shared<MadePlate>(c, surface, behind);
}

Quad trackedCorners(const PlaneCase& c, const PlaneSample& sample) {
    Quad corners = cornersAt(c, (c.frames - 1) / 2);
    for (Vector2d& corner : corners) corner = (sample.pose.matrix * corner.homogeneous()).hnormalized();
    return corners;
}

double apart(const Quad& a, const Quad& b) {
    double sum = 0;
    for (std::size_t i = 0; i < 4; ++i) sum += (a[i] - b[i]).squaredNorm();
    return std::sqrt(sum / 4);
}

}  // namespace pinion::planes
