#include "planar/alignment.h"

#include "planar/kernels.h"

#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <limits>

namespace pinion {
namespace {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Steps = Eigen::Matrix<double, 8, 1>;
using Normal = Eigen::Matrix<double, 8, 8>;

// What smoothing and optics make of a point, as a standard deviation in pixels.
constexpr double kPointSpread = 0.85;
// How far light may differ from cell to cell: gain, offset, and the offset's slope across half a cell, in grey levels.
constexpr double kGainSpread = 0.25, kOffsetSpread = 60, kSlopeSpread = 20;
// A block of which this many times the expected squared residual is left is not seen any more; up to the first it is.
constexpr float kSeenMisfit = 3, kUnseenMisfit = 9;
constexpr double kLeastNoise = 0.8, kMostNoise = 25;  // grey levels
// How far a shape may be from what its last motion leads to, a frame: turn, size and shear; and what tilting does to
// the perspective, in radians for a lens as long as the frame is wide. Standard deviations.
constexpr double kShapeChange = 0.03, kTiltChange = 0.06;
// Noise may grow by that much from one frame to the next: what covers the surface is no noise.
constexpr double kNoiseGrowth = 1.15;
// Neighbouring pixels share their grain, since frames are smoothed and compressed: what that does to a variance.
constexpr double kSharedNoise = 4;

/// The directions that a motion has, of the eight of a perspective.
Eigen::Matrix<double, 8, Eigen::Dynamic> directionsOf(MotionModel motion) {
    const auto unit = [](int k) { return Eigen::Matrix<double, 8, 1>(Eigen::Matrix<double, 8, 1>::Unit(k)); };
    Eigen::Matrix<double, 8, Eigen::Dynamic> directions;
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

Matrix3d warpOf(const Steps& s) {
    Matrix3d warp;
    warp << 1 + s[2], s[3], s[0], s[4], 1 + s[5], s[1], s[6], s[7], 1;
    return warp;
}

/// How far the steps move the corners of the region, in region coordinates.
double reachOf(const Steps& s, double across, double down) {
    double reach = 0;
    for (const double u : {-across, across})
        for (const double v : {-down, down}) {
            const double turned = s[6] * u + s[7] * v;
            reach = std::max(
                reach, std::hypot(s[0] + s[2] * u + s[3] * v - u * turned, s[1] + s[4] * u + s[5] * v - v * turned));
        }
    return reach;
}

Matrix3d levelFromPlate(int level) {
    const double scale = 1.0 / double(1 << level);
    Matrix3d matrix = Matrix3d::Identity();
    matrix(0, 0) = matrix(1, 1) = scale;
    matrix(0, 2) = matrix(1, 2) = -0.5 * scale;
    return matrix;
}

/// The variance of the region's worst corner in region coordinates, for noise of one; not finite where nothing holds
/// it.
double cornerVariance(const Eigen::MatrixXd& inverse, const Eigen::Matrix<double, 8, Eigen::Dynamic>& directions,
                      double across, double down) {
    double worst = 0;
    for (const double u : {-across, across})
        for (const double v : {-down, down}) {
            Eigen::Matrix<double, 2, 8> corner;
            corner << 1, 0, u, v, 0, 0, -u * u, -u * v, 0, 1, 0, 0, u, v, -u * v, -v * v;
            const Eigen::MatrixXd moved = corner * directions;
            const double variance = (moved * inverse * moved.transpose()).trace();
            if (!(variance >= 0)) return std::numeric_limits<double>::infinity();
            worst = std::max(worst, variance);
        }
    return worst;
}

/// The part of a symmetric matrix above and below zero.
Matrix2d positivePart(const Matrix2d& matrix) {
    const Eigen::SelfAdjointEigenSolver<Matrix2d> eigen(matrix);
    return eigen.eigenvectors() * eigen.eigenvalues().cwiseMax(0.0).asDiagonal() * eigen.eigenvectors().transpose();
}

/// What the reference has to be blurred by, and what the frame, to look alike: a surface shown smaller has lost detail,
/// one shown larger has gained some. In pixels of the one and of the other, squared.
struct BlurMatch {
    Matrix2d reference = Matrix2d::Zero(), frame = Matrix2d::Zero();
};
BlurMatch blurMatchFor(const Matrix2d& frameFromReference, const Matrix2d& measured) {
    const Matrix2d back = frameFromReference.inverse();
    const double spread2 = kPointSpread * kPointSpread;
    const Matrix2d wanted = spread2 * (back * back.transpose() - Matrix2d::Identity()) + measured;
    const Matrix2d most = positivePart(Matrix2d(wanted - 36 * Matrix2d::Identity()));
    BlurMatch match;
    match.reference = positivePart(wanted) - most;
    match.frame = frameFromReference * positivePart(Matrix2d(-wanted)) * frameFromReference.transpose();
    match.frame -= positivePart(Matrix2d(match.frame - 36 * Matrix2d::Identity()));
    return match;
}

bool isBarred(const PlaneConditions& conditions, int block) {
    return !conditions.barred.empty() && conditions.barred[std::size_t(block)] != 0;
}

constexpr int kColumns = planekernels::kColumns, kLast = kColumns - 1;
using Products = Eigen::Matrix<double, kColumns, kColumns>;
using Light4 = Eigen::Matrix<double, 4, 1>;

/// Samples of a level where `levelFromRegion`, of the undistorted picture, takes the texture's pixels.
class Reader {
public:
    explicit Reader(const PlaneLens& lens, int level) : lens_(lens), level_(level) {
        if (!lens || lens->field) return;
        const double scale = 1.0 / double(1 << level), limit = planeRadiusLimit(*lens);
        brown_ = planekernels::Distortion{float(lens->k1),
                                          float(lens->k2),
                                          float(lens->k3),
                                          float(lens->p1),
                                          float(lens->p2),
                                          float(std::min(limit * limit, 1e12)),
                                          float(lens->focal_px * lens->squeeze * scale),
                                          float((lens->cx - 0.5) * scale),
                                          float(lens->focal_px * scale),
                                          float((lens->cy - 0.5) * scale)};
    }
    void read(const planekernels::View& view, const Matrix3d& levelFromRegion, const TextureLevel& texture,
              std::vector<float>& values, std::vector<float>& inside) {
        const int count = texture.count();
        x_.resize(std::size_t(count));
        y_.resize(std::size_t(count));
        Matrix3d matrix = levelFromRegion;
        if (brown_) {
            const double f = lens_->focal_px, scale = double(1 << level_);
            Matrix3d planeFromLevel = Matrix3d::Identity();
            planeFromLevel(0, 0) = scale / (f * lens_->squeeze);
            planeFromLevel(0, 2) = (0.5 - lens_->cx) / (f * lens_->squeeze);
            planeFromLevel(1, 1) = scale / f;
            planeFromLevel(1, 2) = (0.5 - lens_->cy) / f;
            matrix = planeFromLevel * matrix;
        }
        matrix /= matrix(2, 2);
        double m[9];  // NOLINT: filled in the next line
        for (int i = 0; i < 9; ++i) m[i] = matrix(i / 3, i % 3);
        planekernels::project(m, texture.u.data(), texture.v.data(), count, x_.data(), y_.data());
        if (brown_) planekernels::distort(*brown_, count, x_.data(), y_.data());
        else if (lens_) bendByField(count);
        planekernels::sample(view, x_.data(), y_.data(), count, values.data(), inside.data());
    }

private:
    void bendByField(int count) {
        const double scale = double(1 << level_);
        for (std::size_t i = 0; i < std::size_t(count); ++i) {
            const auto at =
                plateFromUndistorted(*lens_, Vector2d(double(x_[i]) * scale + 0.5, double(y_[i]) * scale + 0.5));
            x_[i] = at ? float((at->x() - 0.5) / scale) : -1e6F;
            y_[i] = at ? float((at->y() - 0.5) / scale) : -1e6F;
        }
    }
    const PlaneLens& lens_;
    int level_;
    std::optional<planekernels::Distortion> brown_;
    std::vector<float> x_, y_;
};

struct CellTerms {
    Products products = Products::Zero();
};

Products symmetric(const std::array<double, planekernels::kProducts>& sums) {
    Products products;
    std::size_t k = 0;
    for (int a = 0; a < kColumns; ++a)
        for (int b = a; b < kColumns; ++b) products(a, b) = products(b, a) = sums[k++];
    return products;
}

planekernels::Light lightOf(const TextureLevel::Cell& cell, const PlaneConditions::Light& light) {
    return {light.gain, light.offset, light.slopeU, light.slopeV, cell.u, cell.v, cell.half};
}

/// The correlation within cells of what is weighted, from the cells' products.
double correlationOf(const std::vector<CellTerms>& cells, const std::vector<PlaneConditions::Light>& light) {
    double together = 0, pattern = 0, seen = 0;
    for (std::size_t c = 0; c < cells.size(); ++c) {
        const auto& p = cells[c].products;
        const double w = p(9, 9);
        if (w < 1e-6) continue;
        const double g = double(light[c].gain);
        const double tt = p(8, 8) - p(8, 9) * p(8, 9) / w;
        const double tr = p(8, kLast) - p(8, 9) * p(9, kLast) / w;
        const double rr = p(kLast, kLast) - p(9, kLast) * p(9, kLast) / w;
        together += g * tt + tr;
        pattern += tt;
        seen += g * g * tt + 2 * g * tr + rr;
    }
    return pattern > 0 && seen > 0 ? together / std::sqrt(pattern * seen) : 0;
}

}  // namespace

/// What one level's rounds work on.
struct PlaneAligner::Pass {
    Matrix3d frameFromRegion;
    std::vector<float> values, inside, residual, weight;
    std::vector<CellTerms> cells;
    Normal normal = Normal::Zero();      ///< reduced, of the last round, without the prior
    std::optional<Matrix3d> expected{};  ///< frame from region, whose shape the prior is about
};

Expected<PlaneAligner> PlaneAligner::create(const Pyramid& reference, const PlaneRegion& region, MotionModel motion,
                                            const PlaneExclusion& excluded, const PlaneLens& lens) {
    auto texture = PlaneTexture::create(reference, region, excluded, lens);
    if (!texture)
        return failure(Fault::input,
                       "hardly anything of the outline is left in the frame: draw it where the surface is seen, or "
                       "choose another reference frame");
    PlaneAligner aligner(std::move(*texture));
    aligner.motion_ = motion;
    // What the texture holds, by the normal equations of the reference with itself.
    const TextureLevel& level = aligner.texture_.level(0, Matrix2d::Zero());
    std::vector<float> residual(std::size_t(level.count()), 0.0F), weight(std::size_t(level.count()), 1.0F);
    Normal normal = Normal::Zero();
    for (const auto& cell : level.cells) {
        std::array<double, planekernels::kProducts> sums{};
        const auto at = std::size_t(cell.first);
        planekernels::accumulate(
            {&level.u[at], &level.v[at], &level.gx[at], &level.gy[at], &level.value[at], &residual[at], &weight[at]},
            lightOf(cell, {}), cell.count, sums.data());
        const Products products = symmetric(sums);
        const Eigen::Matrix<double, 8, 4> cross = products.block<8, 4>(0, 8);
        const Eigen::Matrix4d light = products.block<4, 4>(8, 8) + 1e-3 * Eigen::Matrix4d::Identity();
        normal += products.topLeftCorner<8, 8>() - cross * light.inverse() * cross.transpose();
    }
    for (const auto model :
         {MotionModel::translation, MotionModel::similarity, MotionModel::affine, MotionModel::perspective}) {
        const auto directions = directionsOf(model);
        const Eigen::MatrixXd reduced = directions.transpose() * normal * directions;
        const Eigen::MatrixXd inverse = reduced.inverse();
        const PlaneBox& box = aligner.texture_.box();
        const double half = aligner.texture_.half();
        const double worst = cornerVariance(inverse, directions, 0.5 * box.width() / half, 0.5 * box.height() / half);
        const double deviation = half * std::sqrt(kSharedNoise * worst);
        aligner.weakness_[std::size_t(model)] = reduced.trace() > 1e-9 && std::isfinite(deviation) ? deviation : 1e9;
    }
    // Grain of a few levels has to leave the place within about a pixel.
    if (!(aligner.weakness(MotionModel::translation) < 0.3))
        return failure(Fault::input,
                       "the outline holds no texture to hold on to: take in more of the surface, with edges in both "
                       "directions");
    return aligner;
}

Matrix2d slopeAt(const Matrix3d& h, const Vector2d& at) {
    const Vector3d to = h * at.homogeneous();
    Matrix2d slope;
    for (int row = 0; row < 2; ++row)
        for (int column = 0; column < 2; ++column)
            slope(row, column) = (h(row, column) - to[row] / to.z() * h(2, column)) / to.z();
    return slope;
}

double PlaneAligner::weakness(MotionModel motion) const { return weakness_[std::size_t(motion)]; }

MotionModel motionFor(const PlaneAligner& aligner) {
    constexpr double kMostWeakness = 0.5 / 4;
    for (const auto motion : {MotionModel::perspective, MotionModel::affine, MotionModel::similarity})
        if (aligner.weakness(motion) < kMostWeakness) return motion;
    return MotionModel::translation;
}

bool PlaneAligner::alignLevel(const Pyramid& frame, int levelIndex, MotionModel motion, int mostRounds, Pass& pass,
                              PlaneConditions& conditions, PlaneAlignment& alignment) {
    const double scale = double(1 << levelIndex);
    const Matrix3d levelFromFrame = levelFromPlate(levelIndex);
    const Matrix3d regionToLevel = levelFromFrame * pass.frameFromRegion;
    // Blur as of the middle of the region. Both levels are reduced alike, so the plate's pixels tell for each.
    const Matrix2d slope = slopeAt(pass.frameFromRegion, Vector2d(0, 0)) / texture_.half();
    const BlurMatch blur = blurMatchFor(slope, conditions.blur / (scale * scale));
    const TextureLevel& level = texture_.level(levelIndex, blur.reference);
    const int count = level.count();
    for (auto* values : {&pass.values, &pass.inside, &pass.residual, &pass.weight}) values->resize(std::size_t(count));
    const std::size_t cellCount = level.cells.size();
    if (conditions.cells.empty()) conditions.cells.resize(std::size_t(texture_.cellCount()));
    if (conditions.seen.empty()) conditions.seen.assign(std::size_t(texture_.blockCount()), 1.0F);

    // The part of the frame that is read, blurred where the frame shows more than the reference.
    const Plane& whole = frame.levels[std::size_t(levelIndex)];
    Plane part;
    planekernels::View view{whole.values.data(), whole.width, whole.height, 0, 0};
    if (blur.frame.trace() > 0.1) {
        PlaneBox box{1e9, 1e9, -1e9, -1e9};
        const double across = 0.5 * texture_.box().width() / texture_.half(),
                     down = 0.5 * texture_.box().height() / texture_.half();
        for (const double u : {-across, across})
            for (const double v : {-down, down}) {
                const Vector3d to = pass.frameFromRegion * Vector3d(u, v, 1);
                if (!(to.z() > 0)) return false;
                const Vector2d p =
                    (levelFromFrame * bent(texture_.lens(), to.hnormalized()).homogeneous()).hnormalized();
                box = {std::min(box.left, p.x()), std::min(box.top, p.y()), std::max(box.right, p.x()),
                       std::max(box.bottom, p.y())};
            }
        const int margin = 16, left = std::clamp(int(box.left) - margin, 0, whole.width),
                  top = std::clamp(int(box.top) - margin, 0, whole.height),
                  right = std::clamp(int(box.right) + margin, left, whole.width),
                  bottom = std::clamp(int(box.bottom) + margin, top, whole.height);
        if (right - left < 4 || bottom - top < 4) return false;
        Plane cut(right - left, bottom - top);
        for (int y = 0; y < cut.height; ++y) std::copy_n(whole.row(top + y) + left, cut.width, cut.row(y));
        part = blurred(cut, blur.frame);
        view = {part.values.data(), part.width, part.height, float(left), float(top)};
    }

    const auto directions = directionsOf(motion);
    const double across = 0.5 * texture_.box().width() / texture_.half(),
                 down = 0.5 * texture_.box().height() / texture_.half();
    // In the early rounds the places are off, and steep pixels differ for that alone.
    const double settled = (levelIndex == 0 ? 0.01 : 0.05) * scale / texture_.half();
    double reach = 1.5 * scale / texture_.half();
    std::vector<float> sorted;
    pass.cells.resize(cellCount);
    Matrix3d current = regionToLevel;
    std::vector<PlaneConditions::Light> light(cellCount);
    for (std::size_t c = 0; c < cellCount; ++c) light[c] = conditions.cells[std::size_t(level.cells[c].cell)];
    bool done = false;
    Reader reader(texture_.lens(), levelIndex);
    // Noise is asked where there is texture: what is black or burnt out has none.
    double slopes = 0;
    for (const float slope2 : level.slope2) slopes += double(slope2);
    const float textured = float(0.2 * slopes / std::max(1, count));
    const double noiseBefore = conditions.noise;
    for (int round = 0;; ++round) {
        alignment.rounds = round;
        current /= current(2, 2);
        reader.read(view, current, level, pass.values, pass.inside);
        for (std::size_t c = 0; c < cellCount; ++c) {
            const auto& cell = level.cells[c];
            const auto at = std::size_t(cell.first);
            planekernels::residuals(&pass.values[at], &level.u[at], &level.v[at], &level.value[at], &pass.inside[at],
                                    lightOf(cell, light[c]), cell.count, &pass.residual[at]);
        }
        // The noise: of what is in the frame and was seen so far.
        sorted.clear();
        for (const auto& block : level.blocks) {
            if (conditions.seen[std::size_t(block.block)] < 0.5F || isBarred(conditions, block.block)) continue;
            for (int i = block.first; i < block.first + block.count; i += 3)
                if (pass.inside[std::size_t(i)] > 0 && level.slope2[std::size_t(i)] > textured)
                    sorted.push_back(std::abs(pass.residual[std::size_t(i)]));
        }
        if (sorted.size() < 12) return false;
        // A third of it, not the middle: what covers half of it must not pass for noise.
        const auto third = sorted.begin() + std::ptrdiff_t(0.35 * double(sorted.size()));
        std::nth_element(sorted.begin(), third, sorted.end());
        double noise = std::clamp(double(*third) / 0.4538, kLeastNoise, kMostNoise);
        if (noiseBefore > 0 && (round > 2 || levelIndex == 0))
            noise = std::min(noise, std::max(kLeastNoise, kNoiseGrowth * noiseBefore));
        // How many samples of the level it may still be off, squared and halved: a gradient has two directions.
        const double off = std::clamp(reach * texture_.half() / scale, 0.12, 1.5);
        const float noise2 = float(noise * noise), spread2 = float(0.5 * off * off);
        // Whether a block is the surface at all is asked with more patience: fine detail is read differently on each
        // frame.
        const double patience = std::max(off, 0.3);
        const float blockSpread2 = float(0.5 * patience * patience);
        for (const auto& block : level.blocks) {
            const auto at = std::size_t(block.first);
            const auto sums = planekernels::misfitOf(&pass.residual[at], &level.slope2[at], &pass.inside[at], noise2,
                                                     blockSpread2, 30, block.count);
            float seen = 0;
            if (sums.inside > 0.25F * float(block.count) && !isBarred(conditions, block.block))
                seen =
                    std::clamp((kUnseenMisfit - sums.misfit / sums.inside) / (kUnseenMisfit - kSeenMisfit), 0.0F, 1.0F);
            conditions.seen[std::size_t(block.block)] = seen;
            planekernels::weigh(&pass.residual[at], &level.slope2[at], &pass.inside[at], 6 * noise2, 6 * spread2, seen,
                                block.count, &pass.weight[at]);
        }
        Normal normal = Normal::Zero();
        Steps right = Steps::Zero();
        // Gain and offset of each cell are eliminated; the priors hold them near those of the whole.
        double gainSum = 0, gainWeight = 0;
        for (std::size_t c = 0; c < cellCount; ++c) {
            const auto& cell = level.cells[c];
            const auto at = std::size_t(cell.first);
            std::array<double, planekernels::kProducts> sums{};
            planekernels::accumulate({&level.u[at], &level.v[at], &level.gx[at], &level.gy[at], &level.value[at],
                                      &pass.residual[at], &pass.weight[at]},
                                     lightOf(cell, light[c]), cell.count, sums.data());
            const Products& products = pass.cells[c].products = symmetric(sums);
            const double contrast = products(8, 8) - products(8, 9) * products(8, 9) / std::max(1e-9, products(9, 9));
            gainSum += contrast * double(light[c].gain);
            gainWeight += contrast;
        }
        if (!(gainWeight > 0)) return false;
        const double meanGain = std::clamp(gainSum / gainWeight, 0.2, 4.0);
        struct Eliminated {
            Eigen::Matrix4d inverse;
            Eigen::Matrix<double, 8, 4> cross;
            Light4 right;
        };
        std::vector<Eliminated> eliminated(cellCount);
        for (std::size_t c = 0; c < cellCount; ++c) {
            const auto& p = pass.cells[c].products;
            Eliminated& e = eliminated[c];
            Eigen::Matrix4d lightNormal = p.block<4, 4>(8, 8);
            e.right = p.block<4, 1>(8, kLast);
            // Values are far from zero: a gain about the middle of the range keeps it apart from the offset.
            constexpr double kMiddle = 110;
            const auto trust = [&](double spread) { return noise * noise / (spread * spread); };
            // The offset that the prior speaks of: what is added at the middle of the range.
            const Vector2d added(kMiddle, 1);
            lightNormal.topLeftCorner<2, 2>() += trust(kOffsetSpread) * added * added.transpose();
            e.right.head<2>() -=
                trust(kOffsetSpread) * added * (kMiddle * (double(light[c].gain) - 1) + double(light[c].offset));
            lightNormal(0, 0) += trust(kGainSpread);
            e.right[0] -= trust(kGainSpread) * (double(light[c].gain) - meanGain);
            lightNormal(2, 2) += trust(kSlopeSpread);
            e.right[2] -= trust(kSlopeSpread) * double(light[c].slopeU);
            lightNormal(3, 3) += trust(kSlopeSpread);
            e.right[3] -= trust(kSlopeSpread) * double(light[c].slopeV);
            e.inverse = lightNormal.inverse();
            e.cross = p.block<8, 4>(0, 8);
            normal += p.topLeftCorner<8, 8>() - e.cross * e.inverse * e.cross.transpose();
            right += p.block<8, 1>(0, kLast) - e.cross * (e.inverse * e.right);
        }
        pass.normal = normal;
        if (pass.expected) {
            // Where little is seen, its shape changes no faster than a camera moves. Nothing is expected of the place.
            const Matrix3d back = (levelFromFrame * *pass.expected).inverse() * current;
            const Matrix3d away = back / back(2, 2);
            Steps to, trust;
            to << 0, 0, away(0, 0) - 1, away(0, 1), away(1, 0), away(1, 1) - 1, away(2, 0), away(2, 1);
            const double shape = kShapeChange, tilt = kTiltChange * texture_.half() / frame.width();
            trust << 0, 0, shape, shape, shape, shape, tilt, tilt;
            for (int k = 2; k < 8; ++k) {
                const double weight = kSharedNoise * noise * noise / (trust[k] * trust[k]);
                normal(k, k) += weight;
                right[k] += weight * to[k];
            }
        }
        if (done || round == mostRounds) break;
        Eigen::MatrixXd reduced = directions.transpose() * normal * directions;
        // A trace of damping: a freedom that the texture cannot see stays where it is.
        reduced.diagonal().array() += 1e-5 * reduced.trace() / double(reduced.rows());
        Steps steps = directions * reduced.ldlt().solve(directions.transpose() * right);
        reach = reachOf(steps, across, down);
        if (!std::isfinite(reach)) return false;
        const double most = std::max(0.25, 6 * scale / texture_.half());
        if (reach > most) {
            steps *= most / reach;
            reach = most;
        }
        for (std::size_t c = 0; c < cellCount; ++c) {
            const Light4 change =
                eliminated[c].inverse * (eliminated[c].right - eliminated[c].cross.transpose() * steps);
            light[c].gain = float(std::clamp(double(light[c].gain) + change[0], 0.1, 6.0));
            light[c].offset = float(double(light[c].offset) + change[1]);
            light[c].slopeU = float(double(light[c].slopeU) + change[2]);
            light[c].slopeV = float(double(light[c].slopeV) + change[3]);
        }
        current = current * warpOf(steps).inverse();
        if (!(current.determinant() > 0) || !current.allFinite()) return false;
        done = reach < settled;
        if (levelIndex == 0) conditions.noise = noise;
    }
    for (std::size_t c = 0; c < cellCount; ++c) conditions.cells[std::size_t(level.cells[c].cell)] = light[c];
    pass.frameFromRegion = levelFromFrame.inverse() * current;
    pass.frameFromRegion /= pass.frameFromRegion(2, 2);
    if (levelIndex > 0) return true;

    // What is left may be blur: regressed on the second derivatives, since a Gaussian of covariance C adds tr(C D2)
    // / 2.
    std::array<double, 10> blurSums{};
    for (std::size_t c = 0; c < cellCount; ++c) {
        const auto& cell = level.cells[c];
        const auto at = std::size_t(cell.first);
        planekernels::accumulateBlur(&level.xx[at], &level.xy[at], &level.yy[at], &pass.residual[at], &pass.weight[at],
                                     light[c].gain, cell.count, blurSums.data());
    }
    Eigen::Matrix3d blurNormal;
    blurNormal << blurSums[0], blurSums[1], blurSums[2], blurSums[1], blurSums[4], blurSums[5], blurSums[2],
        blurSums[5], blurSums[7];
    blurNormal.diagonal().array() += 1e-4 * blurNormal.trace() + 1e-9;
    const Vector3d more = blurNormal.ldlt().solve(Vector3d(blurSums[3], blurSums[6], blurSums[8]));
    Matrix2d extra;
    extra << more[0], more[1], more[1], more[2];
    if (extra.allFinite()) {
        conditions.blur += extra * std::min(1.0, 2.0 / std::max(1e-9, extra.norm()));
        conditions.blur += positivePart(Matrix2d(-Matrix2d::Identity() - conditions.blur));
        conditions.blur -= positivePart(Matrix2d(conditions.blur - 30 * Matrix2d::Identity()));
    }

    // How much is seen, by texture; and how well.
    double seen = 0, beyond = 0, texture = 0;
    for (const auto& block : level.blocks) {
        double held = 0, all = 0;
        for (int i = block.first; i < block.first + block.count; ++i) {
            all += double(level.slope2[std::size_t(i)]);
            held += double(level.slope2[std::size_t(i)] * pass.inside[std::size_t(i)]);
        }
        texture += all;
        beyond += all - held;
        seen += held * double(conditions.seen[std::size_t(block.block)]);
    }
    alignment.seen = texture > 0 ? seen / texture : 0;
    alignment.beyond = texture > 0 ? beyond / texture : 0;
    alignment.fit = correlationOf(pass.cells, light);
    const Eigen::MatrixXd inverse = Eigen::MatrixXd(directions.transpose() * pass.normal * directions).inverse();
    const double worst = cornerVariance(inverse, directions, across, down);
    // What is left over what counts, if it is more than the noise: not all that differs is grain.
    double left = 0, weights = 0;
    for (const auto& cell : pass.cells) {
        left += cell.products(kLast, kLast);
        weights += cell.products(9, 9);
    }
    const double spread = std::max(conditions.noise, weights > 0 ? std::sqrt(left / weights) : 0.0);
    alignment.deviation_px = texture_.half() * spread * std::sqrt(kSharedNoise * worst);
    if (!std::isfinite(alignment.deviation_px)) alignment.deviation_px = 1e6;
    return true;
}

std::optional<PlaneAlignment> PlaneAligner::align(const Pyramid& frame, const Matrix3d& start,
                                                  PlaneConditions& conditions, int coarsest, const Matrix3d* expected) {
    Pass pass;
    if (expected) pass.expected = *expected * texture_.plateFromRegion();
    pass.frameFromRegion = start * texture_.plateFromRegion();
    if (!pass.frameFromRegion.allFinite() || std::abs(pass.frameFromRegion(2, 2)) < 1e-12) return std::nullopt;
    pass.frameFromRegion /= pass.frameFromRegion(2, 2);
    PlaneAlignment alignment;
    PlaneConditions next = conditions;
    const int levels = std::min(texture_.levels(), int(frame.levels.size()));
    for (int level = std::min(coarsest, levels - 1); level > 0; --level) {
        // A coarse level of few samples must not bend what the start knew.
        const MotionModel motion = level >= 2 ? std::min(motion_, MotionModel::similarity) : motion_;
        const Pass before = pass;
        PlaneConditions trial = next;
        if (alignLevel(frame, level, motion, 8, pass, trial, alignment)) {
            trial.noise = next.noise;
            next = trial;
        } else {
            pass = before;
        }
    }
    Matrix2d blurBefore = next.blur;
    if (!alignLevel(frame, 0, motion_, 15, pass, next, alignment)) return std::nullopt;
    // Where the blur is another than was thought, once more with it matched.
    for (int again = 0; again < 3; ++again) {
        const Matrix2d matched = next.blur;
        if ((matched - blurBefore).norm() < 0.15) break;
        if (!alignLevel(frame, 0, motion_, 6, pass, next, alignment)) return std::nullopt;
        blurBefore = matched;
    }
    alignment.plateFromReference = pass.frameFromRegion * texture_.plateFromRegion().inverse();
    alignment.plateFromReference /= alignment.plateFromReference(2, 2);
    conditions = next;
    return alignment;
}

double PlaneAligner::misfit(const Pyramid& frame, const Matrix3d& start, const PlaneConditions& conditions) {
    const int levelIndex = std::min({1, texture_.levels() - 1, int(frame.levels.size()) - 1});
    const TextureLevel& level = texture_.level(levelIndex, Matrix2d::Zero());
    Matrix3d m = levelFromPlate(levelIndex) * start * texture_.plateFromRegion();
    const Plane& plane = frame.levels[std::size_t(levelIndex)];
    const int count = level.count();
    std::vector<float> values(static_cast<std::size_t>(count)), inside(values), residual(values);
    Reader(texture_.lens(), levelIndex)
        .read({plane.values.data(), plane.width, plane.height, 0, 0}, m, level, values, inside);
    double misfit = 0;
    for (const auto& cell : level.cells) {
        const auto at = std::size_t(cell.first);
        const auto light =
            conditions.cells.empty() ? PlaneConditions::Light{} : conditions.cells[std::size_t(cell.cell)];
        planekernels::residuals(&values[at], &level.u[at], &level.v[at], &level.value[at], &inside[at],
                                lightOf(cell, light), cell.count, &residual[at]);
        const auto sums =
            planekernels::misfitOf(&residual[at], &level.slope2[at], &inside[at], 60, 0.3F, 10, cell.count);
        misfit += double(sums.misfit) + 10 * (cell.count - double(sums.inside));
    }
    return misfit / (10 * std::max(1, count));
}

}  // namespace pinion
