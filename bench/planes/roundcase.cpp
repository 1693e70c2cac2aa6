#include "planes/roundcase.h"

#include "planar/surface.h"
#include "planes/photograph.h"
#include "planes/planecase.h"

#include <Eigen/Geometry>
#include <cmath>
#include <fmt/core.h>
#include <opencv2/imgproc.hpp>
#include <random>

namespace pinion::planes {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kFineRound = 3;      // samples of a pixel, across and down
constexpr double kHalfHeight = 3;  // radii, of the body

double partOfRound(const RoundCase& c, double frame) { return 2 * frame / (c.frames - 1) - 1; }

/// Camera from body: its axis is y, its front -z.
SurfacePose cameraFromBody(const RoundCase& c, double frame) {
    const double part = partOfRound(c, frame), s = c.seed;
    const double lean = c.lean + c.leanEnd * part, pitch = c.pitch + c.pitchEnd * part;
    SurfacePose pose;
    pose.matrix = (Eigen::AngleAxisd(lean, Vector3d::UnitZ()) * Eigen::AngleAxisd(pitch, Vector3d::UnitX()) *
                   Eigen::AngleAxisd(c.turnEnd * part, Vector3d::UnitY()))
                      .toRotationMatrix();
    const double depth = std::hypot(1.0, c.focal_px / c.radius_px) / std::pow(c.scaleEnd, part);
    const Vector2d away =
        c.travel * part + c.shake_px * Vector2d(std::sin(0.7 * frame + s) + 0.5 * std::sin(1.9 * frame + 2 * s),
                                                std::sin(0.9 * frame + 3 * s));
    pose.shift = depth * Vector3d(away.x() / c.focal_px, away.y() / c.focal_px, 1);
    return pose;
}

Vector3d bodyPoint(double angle, double along) { return {std::sin(angle), along, -std::cos(angle)}; }

class RoundPlate final : public Plate {
public:
    RoundPlate(RoundCase c, cv::Mat surface, cv::Mat behind) : case_(std::move(c)), behind_(std::move(behind)) {
        facts_ = madeFacts("made-up cylinder", case_.width, case_.height, case_.frames);
        // Half round goes one photograph, the other way round on the far side; detail that is not shown goes first.
        const double shown = M_PI * case_.radius_px * std::max(case_.scaleEnd, 1 / case_.scaleEnd) * 1.5;
        const double scale = std::min(1.0, shown / surface.cols);
        cv::resize(surface, surface_, {}, scale, scale, cv::INTER_AREA);
        cv::resize(behind_, behind_, {case_.width * kFineRound * 3 / 2, case_.height * kFineRound * 3 / 2}, 0, 0,
                   cv::INTER_LINEAR);
    }
    Expected<PicturePtr> read(int frame) const override {
        return developed(instant(frame), 1 + (case_.gainEnd - 1) * partOfRound(case_, frame), case_.grain, case_.seed,
                         frame);
    }

private:
    cv::Mat instant(int frame) const {
        const cv::Size size(case_.width * kFineRound, case_.height * kFineRound);
        const double part = partOfRound(case_, frame);
        const Vector2d far = -0.4 * part * case_.travel * kFineRound;
        const int left = (behind_.cols - size.width) / 2 + int(std::clamp(far.x(), -200.0, 200.0)),
                  top = (behind_.rows - size.height) / 2 + int(std::clamp(far.y(), -150.0, 150.0));
        cv::Mat fine = behind_(cv::Rect(left, top, size.width, size.height)).clone();
        const SurfacePose pose = cameraFromBody(case_, frame);
        const Cylinder body{pose.matrix.col(1), pose.shift, -pose.matrix.col(2)};
        const double round = surface_.cols / M_PI, bar = (2.4 * part - 1.2) * case_.width * 0.5;
        const double half = case_.cover * case_.radius_px;
        for (int y = 0; y < size.height; ++y)
            for (int x = 0; x < size.width; ++x) {
                const Vector2d at((x + 0.5) / kFineRound - 0.5 * case_.width,
                                  (y + 0.5) / kFineRound - 0.5 * case_.height);
                if (half > 0 && std::abs(at.x() - bar) < half) {
                    fine.at<float>(y, x) = 90 + 40 * float(std::sin(0.05 * x + 0.02 * y));
                    continue;
                }
                bool missed = false;
                const Vector2d place =
                    body.placeOf(body.met({at.x() / case_.focal_px, at.y() / case_.focal_px, 1}, &missed));
                if (missed || std::abs(place.y()) > kHalfHeight) continue;
                if (case_.bare && std::abs(place.x()) > 1.1 * case_.span) {
                    fine.at<float>(y, x) = 120;
                    continue;
                }
                // Mirrored where the photograph ends.
                const auto within = [](double value, int count) {
                    const double folded = std::abs(std::remainder(value, 2.0 * (count - 1)));
                    return std::clamp(folded, 0.0, double(count - 1) - 1e-6);
                };
                const double u = within(round * (place.x() + 0.5 * M_PI), surface_.cols),
                             v = within(round * (place.y() + kHalfHeight), surface_.rows);
                const int iu = int(u), iv = int(v);
                const float fu = float(u - iu), fv = float(v - iv);
                const float* row = surface_.ptr<float>(iv);
                const float* next = surface_.ptr<float>(std::min(iv + 1, surface_.rows - 1));
                const int iu1 = std::min(iu + 1, surface_.cols - 1);
                fine.at<float>(y, x) =
                    (1 - fv) * (row[iu] + fu * (row[iu1] - row[iu])) + fv * (next[iu] + fu * (next[iu1] - next[iu]));
            }
        cv::Mat coarse;
        cv::resize(fine, coarse, {case_.width, case_.height}, 0, 0, cv::INTER_AREA);
        return coarse;
    }
    RoundCase case_;
    cv::Mat surface_, behind_;
};

}  // namespace

RoundCase roundCase(unsigned seed) {
    std::mt19937 random(seed * 6151 + 29);
    std::uniform_real_distribution<double> unit(0, 1);
    const auto between = [&](double a, double b) { return a + (b - a) * unit(random); };
    const auto oneIn = [&](double n) { return unit(random) < 1 / n; };
    RoundCase c;
    c.seed = seed;
    c.surface = photographs()[random() % photographs().size()];
    do c.behind = photographs()[random() % photographs().size()];
    while (c.behind == c.surface);
    c.focal_px = c.width * between(0.8, 2.0);
    c.radius_px = 30 * std::pow(6.0, unit(random));  // 30 to 180
    c.lean = oneIn(2) ? between(-0.7, 0.7) : 0;
    c.pitch = between(-0.35, 0.35);
    c.turnEnd = between(-1.0, 1.0);
    if (oneIn(2)) {
        c.leanEnd = between(-0.3, 0.3);
        c.pitchEnd = between(-0.3, 0.3);
    }
    if (oneIn(2)) c.scaleEnd = std::exp(between(-0.35, 0.35));
    c.travel = Vector2d(between(-110, 110), between(-50, 50));
    c.shake_px = between(0, 3);
    c.span = between(0.7, 1.15);
    if (oneIn(2)) c.grain = between(1, 5);
    if (oneIn(3)) c.gainEnd = between(0.7, 1.25);
    if (oneIn(3)) c.cover = between(0.2, 0.6);
    c.sidesOff_px = between(0, 2);
    if (oneIn(3)) c.focalGuess = between(0.8, 1.25);
    return c;
}

std::string describe(const RoundCase& c) {
    std::string text =
        fmt::format("{:.0f} px round of {}, focal {:.2f}, turn {:.0f}, lean {:.0f}, scale {:.2f}", c.radius_px,
                    c.surface, c.focal_px / c.width, c.turnEnd * 180 / M_PI, c.lean * 180 / M_PI, c.scaleEnd);
    if (c.grain > 0) text += fmt::format(", grain {:.1f}", c.grain);
    if (c.cover > 0) text += fmt::format(", bar {:.2f}", c.cover);
    if (c.focalGuess != 1) text += fmt::format(", focal x {:.2f} guessed", c.focalGuess);
    return text + fmt::format(", sides {:.1f} off", c.sidesOff_px);
}

Vector2d placeAt(const RoundCase& c, int frame, double angle, double along, double* cosine) {
    const SurfacePose pose = cameraFromBody(c, frame);
    const Vector3d at = pose.matrix * bodyPoint(angle, along) + pose.shift;
    if (cosine) *cosine = -(pose.matrix * bodyPoint(angle, 0)).dot(at) / at.norm();
    return c.focal_px * at.hnormalized() + 0.5 * Vector2d(c.width, c.height);
}

double turnAt(const RoundCase& c, int frame) {
    const auto facing = [&](int at) {
        const SurfacePose pose = cameraFromBody(c, at);
        const Vector3d camera = -pose.matrix.transpose() * pose.shift;
        return std::atan2(camera.x(), -camera.z());
    };
    return std::remainder(facing((c.frames - 1) / 2) - facing(frame), 2 * M_PI) * 180 / M_PI;
}

std::array<Vector2d, 4> roundCorners(const RoundCase& c) {
    const double a = 0.9 * c.span, h = 0.9;
    return {Vector2d(-a, -h), Vector2d(a, -h), Vector2d(a, h), Vector2d(-a, h)};
}

PlanarTrack planeOf(const RoundCase& c) {
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "round1";
    plane.referenceFrame = (c.frames - 1) / 2;
    const auto at = [&](double angle, double along) { return placeAt(c, plane.referenceFrame, angle, along); };
    plane.outlines = List<Polygon>(
        {{at(-c.span, -1.1), at(0, -1.1), at(c.span, -1.1), at(c.span, 1.1), at(0, 1.1), at(-c.span, 1.1)}});
    Quad surface;
    for (std::size_t i = 0; i < 4; ++i) surface[i] = at(roundCorners(c)[i].x(), roundCorners(c)[i].y());
    plane.ties = List<PlaneTie>({{plane.referenceFrame, surface}});
    // The contours, drawn a little off.
    const SurfacePose pose = cameraFromBody(c, plane.referenceFrame);
    const Vector3d camera = -pose.matrix.transpose() * pose.shift;
    const double facing = std::atan2(camera.x(), -camera.z()), half = std::acos(1 / std::hypot(camera.x(), camera.z()));
    std::mt19937 random(c.seed * 31 + 7);
    std::uniform_real_distribution<double> off(-c.sidesOff_px, c.sidesOff_px);
    const auto drawn = [&](double side, double along) {
        return Vector2d(at(facing + side * half, along) + Vector2d(off(random), off(random)));
    };
    plane.sides = Quad{drawn(-1, -1.2), drawn(1, -1.2), drawn(1, 1.2), drawn(-1, 1.2)};
    plane.lens = std::make_shared<const Lens>(pinholeLens(c.width, c.height, c.focal_px * c.focalGuess));
    return plane;
}

std::shared_ptr<const Plate> plateOf(const RoundCase& c) {
    const cv::Mat surface = photograph(c.surface), behind = photograph(c.behind);
    if (surface.empty() || behind.empty()) return nullptr;
    return std::make_shared<RoundPlate>(c, surface, behind);
}

}  // namespace pinion::planes
