#include "planar/warp.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

// How far a shape may be from what its last motion leads to, a frame: turn, size and shear; and what tilting does to
// the perspective, in radians for a lens as long as the frame is wide. Standard deviations.
constexpr double kShapeChange = 0.03, kTiltChange = 0.06;
// The same for a cylinder: its turn in radians, and its distance and place as shares of the distance.
constexpr double kTurnChange = 0.06, kFarChange = 0.03, kPlaceChange = 0.15;

Matrix3d levelFromPlate(int level) {
    const double scale = 1.0 / double(1 << level);
    Matrix3d matrix = Matrix3d::Identity();
    matrix(0, 0) = matrix(1, 1) = scale;
    matrix(0, 2) = matrix(1, 2) = -0.5 * scale;
    return matrix;
}

/// Takes places through the lens of a plate, to the samples of a level.
class Bending {
public:
    Bending(const Lens& lens, int level) : lens_(lens), scale_(double(1 << level)) {}
    /// From directions, z = 1.
    void bendRays(int count, float* x, float* y) const {
        if (lens_.field) {
            const auto fx = float(lens_.focal_px * lens_.squeeze), fy = float(lens_.focal_px);
            for (int i = 0; i < count; ++i)
                bendOne(x[i] * fx + float(lens_.cx), y[i] * fy + float(lens_.cy), x[i], y[i]);
            return;
        }
        const double limit = planeRadiusLimit(lens_);
        planekernels::distort(
            {float(lens_.k1), float(lens_.k2), float(lens_.k3), float(lens_.p1), float(lens_.p2),
             float(std::min(limit * limit, 1e12)), float(lens_.focal_px * lens_.squeeze / scale_),
             float((lens_.cx - 0.5) / scale_), float(lens_.focal_px / scale_), float((lens_.cy - 0.5) / scale_)},
            count, x, y);
    }

private:
    void bendOne(float undistortedX, float undistortedY, float& x, float& y) const {
        const auto at = plateFromUndistorted(lens_, Vector2d(double(undistortedX), double(undistortedY)));
        x = at ? float((at->x() - 0.5) / scale_) : -1e6F;
        y = at ? float((at->y() - 0.5) / scale_) : -1e6F;
    }
    const Lens& lens_;
    double scale_;
};

/// A plane: poses are homographies from region coordinates to undistorted pixels, the steps those of a homography that
/// acts on region coordinates first.
class FlatWarp : public PlaneWarp {
public:
    FlatWarp(const PlaneTexture& texture, int frameWidth)
        : lens_(texture.lens()),
          plateFromRegion_(texture.plateFromRegion()),
          half_(texture.half()),
          frameWidth_(frameWidth),
          across_(0.5 * texture.box().width() / half_),
          down_(0.5 * texture.box().height() / half_) {
        std::size_t k = 0;
        for (const double u : {-across_, across_})
            for (const double v : {-down_, down_})
                corners_[k++] << 1, 0, u, v, 0, 0, -u * u, -u * v, 0, 1, 0, 0, u, v, -u * v, -v * v;
    }
    Directions directions(MotionModel motion) const override {
        const auto unit = [](int k) { return Steps(Steps::Unit(k)); };
        Directions directions;
        switch (motion) {
            case MotionModel::translation:
                directions = Normal::Identity().leftCols<2>();
                break;
            case MotionModel::similarity:
                directions.resize(8, 4);
                directions << unit(0), unit(1), unit(2) + unit(5), unit(4) - unit(3);
                break;
            case MotionModel::affine:
                directions = Normal::Identity().leftCols<6>();
                break;
            case MotionModel::perspective:
                directions = Normal::Identity();
                break;
        }
        return directions;
    }
    std::optional<SurfacePose> begun(const SurfacePose& pose) const override {
        return settled(pose.matrix * plateFromRegion_);
    }
    SurfacePose ended(const SurfacePose& pose) const override {
        const Matrix3d matrix = pose.matrix * plateFromRegion_.inverse();
        return {matrix / matrix(2, 2)};
    }
    Matrix2d slope(const SurfacePose& pose) const override { return slopeAt(pose.matrix, Vector2d(0, 0)) / half_; }
    std::optional<std::array<Vector2d, 4>> box(const SurfacePose& pose) const override {
        std::array<Vector2d, 4> places;
        std::size_t k = 0;
        for (const double u : {-across_, across_})
            for (const double v : {-down_, down_}) {
                const Vector3d to = pose.matrix * Vector3d(u, v, 1);
                if (!(to.z() > 0)) return std::nullopt;
                places[k++] = bent(lens_, to.hnormalized());
            }
        return places;
    }
    void places(const SurfacePose& pose, int level, const TextureLevel& texture, std::vector<float>& x,
                std::vector<float>& y) const override {
        const int count = texture.count();
        Matrix3d matrix = (lens_ ? Matrix3d(pixelsFromRays(*lens_).inverse()) : levelFromPlate(level)) * pose.matrix;
        matrix /= matrix(2, 2);
        double m[9];  // NOLINT: filled in the next line
        for (int i = 0; i < 9; ++i) m[i] = matrix(i / 3, i % 3);
        planekernels::project(m, texture.u.data(), texture.v.data(), count, x.data(), y.data());
        if (lens_) Bending(*lens_, level).bendRays(count, x.data(), y.data());
    }
    void accumulate(const SurfacePose&, const TextureLevel&, int, const planekernels::Pixels& pixels,
                    const planekernels::Light& light, int count, double* sums) const override {
        planekernels::accumulate(pixels, light, count, sums);
    }
    Corners corners(const SurfacePose&) const override { return corners_; }
    void expect(const SurfacePose& expected, const SurfacePose& pose, double noise2, Normal& normal,
                Steps& right) const override {
        const Matrix3d back = expected.matrix.inverse() * pose.matrix;
        const Matrix3d away = back / back(2, 2);
        Steps to, sigma;
        to << 0, 0, away(0, 0) - 1, away(0, 1), away(1, 0), away(1, 1) - 1, away(2, 0), away(2, 1);
        const double shape = kShapeChange, tilt = kTiltChange * half_ / frameWidth_;
        sigma << 0, 0, shape, shape, shape, shape, tilt, tilt;
        for (int k = 2; k < 8; ++k) {
            const double weight = kSharedNoise * noise2 / (sigma[k] * sigma[k]);
            normal(k, k) += weight;
            right[k] += weight * to[k];
        }
    }
    SurfacePose stepped(const SurfacePose& pose, const Steps& s) const override {
        Matrix3d step;
        step << 1 + s[2], s[3], s[0], s[4], 1 + s[5], s[1], s[6], s[7], 1;
        const auto result = settled(pose.matrix * step.inverse());
        // What is no motion has no determinant either: the alignment gives up there.
        return result.value_or(SurfacePose{Matrix3d::Zero()});
    }

private:
    static std::optional<SurfacePose> settled(const Matrix3d& matrix) {
        if (!matrix.allFinite() || std::abs(matrix(2, 2)) < 1e-12) return std::nullopt;
        return SurfacePose{matrix / matrix(2, 2)};
    }
    PlaneLens lens_;
    Matrix3d plateFromRegion_;
    double half_;
    int frameWidth_;
    double across_, down_;
    Corners corners_;
};

/// A cylinder: poses are rigid motions of the camera's space, the steps a shift and a turn about the middle of what is
/// seen, both of the reference frame's space and made first. How a pixel changes with them is told by where the
/// reference's gradient lies on the surface and by the direction from which the frame's camera sees it.
class CylinderWarp : public PlaneWarp {
public:
    CylinderWarp(const PlaneTexture& texture)
        : lens_(texture.lens()), cylinder_(*texture.cylinder()), half_(texture.half()), centre_(texture.centre()) {
        const auto box = texture.box().corners();
        for (std::size_t i = 0; i < 4; ++i) box_[i] = cylinder_.met(rayOf(*lens_, box[i]));
        middle_ = cylinder_.met(rayOf(*lens_, texture.box().centre()));
    }
    Directions directions(MotionModel motion) const override {
        return Normal::Identity().leftCols(motion == MotionModel::translation ? 2 : 6);
    }
    std::optional<SurfacePose> begun(const SurfacePose& pose) const override {
        if (!pose.matrix.allFinite() || !pose.shift.allFinite()) return std::nullopt;
        return pose;
    }
    SurfacePose ended(const SurfacePose& pose) const override { return pose; }
    Matrix2d slope(const SurfacePose& pose) const override {
        const Vector2d middle = straightened(lens_, seenAt(*lens_, middle_));
        const Matrix2d slope = slopeAt(SurfaceGeometry{lens_, cylinder_}.flat(pose, seenAt(*lens_, middle_)), middle);
        // Turned to the side, it tells of hardly anything: as if from the front.
        return slope.determinant() > 0.1 ? slope : Matrix2d::Identity();
    }
    std::optional<std::array<Vector2d, 4>> box(const SurfacePose& pose) const override {
        std::array<Vector2d, 4> places;
        for (std::size_t i = 0; i < 4; ++i) {
            const Vector3d to = pose.matrix * box_[i] + pose.shift;
            if (!(to.z() > 1e-6)) return std::nullopt;
            places[i] = seenAt(*lens_, to);
        }
        return places;
    }
    void places(const SurfacePose& pose, int level, const TextureLevel& texture, std::vector<float>& x,
                std::vector<float>& y) const override {
        double m[12];  // NOLINT: filled in the next lines
        for (int row = 0; row < 3; ++row) {
            for (int column = 0; column < 3; ++column) m[4 * row + column] = pose.matrix(row, column);
            m[4 * row + 3] = pose.shift[row];
        }
        planekernels::projectBody(m, cameraOf(pose).data(), bodyOf(texture, 0), float(kLeastFacing), texture.count(),
                                  x.data(), y.data());
        Bending(*lens_, level).bendRays(texture.count(), x.data(), y.data());
    }
    void accumulate(const SurfacePose& pose, const TextureLevel& texture, int first, const planekernels::Pixels& pixels,
                    const planekernels::Light& light, int count, double* sums) const override {
        planekernels::accumulateBody(bodyOf(texture, std::size_t(first)), cameraOf(pose).data(), centre_.data(), pixels,
                                     light, count, sums);
    }
    Corners corners(const SurfacePose& pose) const override {
        Corners corners;
        for (std::size_t i = 0; i < 4; ++i) {
            const Vector3d to = pose.matrix * box_[i] + pose.shift;
            const double z = std::max(1e-6, to.z()), f = lens_->focal_px / half_;
            Eigen::Matrix<double, 2, 3> seen;
            seen << f * lens_->squeeze / z, 0, -f * lens_->squeeze * to.x() / (z * z), 0, f / z, -f * to.y() / (z * z);
            seen = seen * pose.matrix;
            const Vector3d arm = box_[i] - centre_;
            Eigen::Matrix<double, 3, 6> moved;
            moved.leftCols<3>().setIdentity();
            moved.rightCols<3>() << 0, arm.z(), -arm.y(), -arm.z(), 0, arm.x(), arm.y(), -arm.x(), 0;
            corners[i] << seen * moved, Eigen::Matrix2d::Zero();
        }
        return corners;
    }
    void expect(const SurfacePose& expected, const SurfacePose& pose, double noise2, Normal& normal,
                Steps& right) const override {
        const SurfacePose away = expected.inverse() * pose;
        const Eigen::AngleAxisd turn(away.matrix);
        Steps to = Steps::Zero();
        to.head<3>() = away.matrix * centre_ + away.shift - centre_;
        to.segment<3>(3) = turn.angle() * turn.axis();
        const Vector3d view = (centre_ - cameraOf(pose)).normalized();
        const double distance = (centre_ - cameraOf(pose)).norm(), shared = kSharedNoise * noise2;
        const auto sigma = [&](double spread) { return shared / (spread * spread); };
        Normal weight = Normal::Zero();
        weight.block<3, 3>(0, 0) = sigma(kPlaceChange * distance) * (Matrix3d::Identity() - view * view.transpose()) +
                                   sigma(kFarChange * distance) * view * view.transpose();
        weight.block<3, 3>(3, 3) = sigma(kTurnChange) * Matrix3d::Identity();
        normal += weight;
        right += weight * to;
    }
    SurfacePose stepped(const SurfacePose& pose, const Steps& s) const override {
        const Vector3d turn = s.segment<3>(3);
        const double angle = turn.norm();
        const Matrix3d matrix =
            angle > 1e-15 ? Eigen::AngleAxisd(angle, turn / angle).toRotationMatrix() : Matrix3d::Identity();
        const SurfacePose step{matrix, s.head<3>() + centre_ - matrix * centre_};
        SurfacePose result = pose * step.inverse();
        // Many products leave a rotation not quite one.
        result.matrix = Eigen::Quaterniond(result.matrix).normalized().toRotationMatrix();
        return result;
    }

private:
    static Vector3d cameraOf(const SurfacePose& pose) { return -pose.matrix.transpose() * pose.shift; }
    static planekernels::Body bodyOf(const TextureLevel& texture, std::size_t first) {
        const auto& body = texture.body;
        return {&body[0][first], &body[1][first], &body[2][first], &body[3][first], &body[4][first],
                &body[5][first], &body[6][first], &body[7][first], &body[8][first]};
    }
    PlaneLens lens_;
    Cylinder cylinder_;
    double half_;
    Vector3d centre_, middle_;
    std::array<Vector3d, 4> box_;
};

}  // namespace

Matrix2d slopeAt(const Matrix3d& h, const Vector2d& at) {
    const Vector3d to = h * at.homogeneous();
    Matrix2d slope;
    for (int row = 0; row < 2; ++row)
        for (int column = 0; column < 2; ++column)
            slope(row, column) = (h(row, column) - to[row] / to.z() * h(2, column)) / to.z();
    return slope;
}

std::shared_ptr<const PlaneWarp> warpFor(const PlaneTexture& texture, int frameWidth) {
    if (texture.cylinder()) return std::make_shared<CylinderWarp>(texture);
    return std::make_shared<FlatWarp>(texture, frameWidth);
}

}  // namespace pinion
