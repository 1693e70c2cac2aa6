#include "planar/alignment.h"

#include "base/linear.h"
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
using Steps = PlaneWarp::Steps;
using Normal = PlaneWarp::Normal;

// What smoothing and optics make of a point, as a standard deviation in pixels.
constexpr double kPointSpread = 0.85;
// How far light may differ from cell to cell: gain, offset, and the offset's slope across half a cell, in grey levels.
constexpr double kGainSpread = 0.25, kOffsetSpread = 60, kSlopeSpread = 20;
// A block of which this many times the expected squared residual is left is not seen any more; up to the first it is.
constexpr float kSeenMisfit = 3, kUnseenMisfit = 9;
constexpr double kLeastNoise = 0.8, kMostNoise = 25;  // grey levels
// Noise may grow by that much from one frame to the next: what covers the surface is no noise.
constexpr double kNoiseGrowth = 1.15;

/// The variance of the region's worst corner in region coordinates, for noise of one; not finite where nothing holds
/// it.
double cornerVariance(const Eigen::MatrixXd& inverse, const PlaneWarp::Directions& directions,
                      const PlaneWarp::Corners& corners) {
    double worst = 0;
    for (const auto& corner : corners) {
        const Eigen::MatrixXd moved = corner * directions;
        const double variance = (moved * inverse * moved.transpose()).trace();
        if (!(variance >= 0)) return std::numeric_limits<double>::infinity();
        worst = std::max(worst, variance);
    }
    return worst;
}

/// How far the steps move the corners of the region, in region coordinates.
double reachOf(const Steps& steps, const PlaneWarp::Corners& corners) {
    double reach = 0;
    for (const auto& corner : corners) reach = std::max(reach, (corner * steps).norm());
    return reach;
}

/// The part of a symmetric matrix above and below zero.
Matrix2d positivePart(const Matrix2d& matrix) {
    const Spectrum<2> spectrum = spectrumOf(matrix);
    return spectrum.vectors * spectrum.values.cwiseMax(0.0).asDiagonal() * spectrum.vectors.transpose();
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

/// What the rounds work on.
struct PlaneAligner::Pass {
    SurfacePose pose;                       ///< as the warp holds it
    std::optional<SurfacePose> expected{};  ///< whose shape the prior is about
    std::vector<float> x, y, values, inside, residual, weight, sorted;
    std::vector<CellTerms> cells;
    std::vector<PlaneConditions::Light> light;
    Normal normal = Normal::Zero();  ///< reduced, of the last round, without the prior
    double reach = 0;                ///< of the last step, region coordinates
    double noise = 0;
    int round = 0;
    double settled_px = 0.01;  ///< a last step as small as that ends it, on the finest level
    bool weighs = true;        ///< false: by the weights that are there
};

/// One level of the frame beside that of the reference, blurred alike.
struct PlaneAligner::Level {
    int index;
    double scale;
    const TextureLevel& texture;
    planekernels::View view;
    ImageChannel part;  ///< what `view` shows, where it is not the whole level
    float textured;     ///< squared gradient of what counts as texture

    planekernels::Light lightOf(std::size_t cell, const PlaneConditions::Light& light) const {
        const auto& at = texture.cells[cell];
        return {light.gain, light.offset, light.slopeU, light.slopeV, at.u, at.v, at.half};
    }
};

Expected<PlaneAligner> PlaneAligner::create(const Pyramid& reference, const PlaneRegion& region, MotionModel motion,
                                            const PlaneExclusion& excluded, const SurfaceGeometry& geometry) {
    auto texture = PlaneTexture::create(reference, region, excluded, geometry);
    if (!texture && geometry.cylinder)
        return failure(Fault::input,
                       "hardly anything of the outline lies on the cylinder and in the frame: draw it between the two "
                       "sides, or move those to the contours");
    if (!texture)
        return failure(Fault::input,
                       "hardly anything of the outline is left in the frame: draw it where the surface is seen, or "
                       "choose another reference frame");
    PlaneAligner aligner(std::move(*texture));
    aligner.warp_ = warpFor(aligner.texture_, reference.width());
    aligner.motion_ = motion;
    // What the texture holds, by the normal equations of the reference with itself.
    const TextureLevel& level = aligner.texture_.level(0, Matrix2d::Zero());
    std::vector<float> residual(std::size_t(level.count()), 0.0F), weight(std::size_t(level.count()), 1.0F);
    const SurfacePose still = aligner.warp_->begun({}).value_or(SurfacePose{});
    Normal normal = Normal::Zero();
    for (const auto& cell : level.cells) {
        std::array<double, planekernels::kProducts> sums{};
        const auto at = std::size_t(cell.first);
        aligner.warp_->accumulate(
            still, level, cell.first,
            {&level.u[at], &level.v[at], &level.gx[at], &level.gy[at], &level.value[at], &residual[at], &weight[at]},
            {1, 0, 0, 0, cell.u, cell.v, cell.half}, cell.count, sums.data());
        const Products products = symmetric(sums);
        const Eigen::Matrix<double, 8, 4> cross = products.block<8, 4>(0, 8);
        const Eigen::Matrix4d light = products.block<4, 4>(8, 8) + 1e-3 * Eigen::Matrix4d::Identity();
        normal += products.topLeftCorner<8, 8>() - cross * light.inverse() * cross.transpose();
    }
    for (const auto model :
         {MotionModel::translation, MotionModel::similarity, MotionModel::affine, MotionModel::perspective}) {
        const auto directions = aligner.warp_->directions(model);
        const Eigen::MatrixXd reduced = directions.transpose() * normal * directions;
        const double worst = cornerVariance(inverseOf(reduced), directions, aligner.warp_->corners(still));
        const double deviation = aligner.texture_.half() * std::sqrt(kSharedNoise * worst);
        aligner.weakness_[std::size_t(model)] = reduced.trace() > 1e-9 && std::isfinite(deviation) ? deviation : 1e9;
    }
    // Grain of a few levels has to leave the place within about a pixel.
    if (!(aligner.weakness(MotionModel::translation) < 0.3))
        return failure(Fault::input,
                       "the outline holds no texture to hold on to: take in more of the surface, with edges in both "
                       "directions");
    return aligner;
}

double PlaneAligner::weakness(MotionModel motion) const { return weakness_[std::size_t(motion)]; }

MotionModel motionFor(const PlaneAligner& aligner) {
    constexpr double kMostWeakness = 0.5 / 4;
    for (const auto motion : {MotionModel::perspective, MotionModel::affine, MotionModel::similarity})
        if (aligner.weakness(motion) < kMostWeakness) return motion;
    return MotionModel::translation;
}

/// The part of the frame that is read, blurred where the frame shows more than the reference; its texture to match.
std::optional<PlaneAligner::Level> PlaneAligner::levelOf(const Pyramid& frame, int index, const Pass& pass,
                                                         const PlaneConditions& conditions) {
    const double scale = double(1 << index);
    // Blur as of the middle of the region. Both levels are reduced alike, so the plate's pixels tell for each.
    const BlurMatch blur =
        conditions.matchesBlur ? blurMatchFor(warp_->slope(pass.pose), conditions.blur / (scale * scale)) : BlurMatch{};
    const ImageChannel& whole = frame.levels[std::size_t(index)];
    Level level{
        index, scale, texture_.level(index, blur.reference), {whole.values.data(), whole.width, whole.height, 0, 0},
        {},    0};
    // Noise is asked where there is texture: what is black or burnt out has none.
    double slopes = 0;
    for (const float slope2 : level.texture.slope2) slopes += double(slope2);
    level.textured = float(0.2 * slopes / std::max(1, level.texture.count()));
    if (blur.frame.trace() <= 0.1) return level;
    const auto places = warp_->box(pass.pose);
    if (!places) return std::nullopt;
    PlaneBox box{1e9, 1e9, -1e9, -1e9};
    for (const Vector2d& place : *places) {
        const Vector2d p = (place - Vector2d(0.5, 0.5)) / scale;
        box = {std::min(box.left, p.x()), std::min(box.top, p.y()), std::max(box.right, p.x()),
               std::max(box.bottom, p.y())};
    }
    const int margin = 16, left = std::clamp(int(box.left) - margin, 0, whole.width),
              top = std::clamp(int(box.top) - margin, 0, whole.height),
              right = std::clamp(int(box.right) + margin, left, whole.width),
              bottom = std::clamp(int(box.bottom) + margin, top, whole.height);
    if (right - left < 4 || bottom - top < 4) return std::nullopt;
    ImageChannel cut(right - left, bottom - top);
    for (int y = 0; y < cut.height; ++y) std::copy_n(whole.row(top + y) + left, cut.width, cut.row(y));
    level.part = blurred(cut, blur.frame);
    level.view = {level.part.values.data(), level.part.width, level.part.height, float(left), float(top)};
    return level;
}

void PlaneAligner::read(const Level& level, Pass& pass) const {
    const TextureLevel& texture = level.texture;
    const int count = texture.count();
    for (auto* values : {&pass.x, &pass.y, &pass.values, &pass.inside, &pass.residual, &pass.weight})
        values->resize(std::size_t(count));
    warp_->places(pass.pose, level.index, texture, pass.x, pass.y);
    planekernels::sample(level.view, pass.x.data(), pass.y.data(), count, pass.values.data(), pass.inside.data());
    for (std::size_t c = 0; c < texture.cells.size(); ++c) {
        const auto& cell = texture.cells[c];
        const auto at = std::size_t(cell.first);
        planekernels::residuals(&pass.values[at], &texture.u[at], &texture.v[at], &texture.value[at], &pass.inside[at],
                                level.lightOf(c, pass.light[c]), cell.count, &pass.residual[at]);
    }
}

/// The noise: of what is in the frame and was seen so far. False when that is nothing.
bool PlaneAligner::measureNoise(const Level& level, Pass& pass, const PlaneConditions& conditions,
                                double noiseBefore) const {
    auto& sorted = pass.sorted;
    sorted.clear();
    for (const auto& block : level.texture.blocks) {
        if (conditions.seen[std::size_t(block.block)] < 0.5F || isBarred(conditions, block.block)) continue;
        for (int i = block.first; i < block.first + block.count; i += 3)
            if (pass.inside[std::size_t(i)] > 0 && level.texture.slope2[std::size_t(i)] > level.textured)
                sorted.push_back(std::abs(pass.residual[std::size_t(i)]));
    }
    if (sorted.size() < 12) return false;
    // A third of it, not the middle: what covers half of it must not pass for noise.
    const auto third = sorted.begin() + std::ptrdiff_t(0.35 * double(sorted.size()));
    std::nth_element(sorted.begin(), third, sorted.end());
    pass.noise = std::clamp(double(*third) / 0.4538, kLeastNoise, kMostNoise);
    if (noiseBefore > 0 && (pass.round > 2 || level.index == 0))
        pass.noise = std::min(pass.noise, std::max(kLeastNoise, kNoiseGrowth * noiseBefore));
    return true;
}

/// The weights of pixels and blocks; how much of each block is seen goes to `conditions`.
void PlaneAligner::weigh(const Level& level, Pass& pass, PlaneConditions& conditions) const {
    // How many samples of the level it may still be off, squared and halved: a gradient has two directions.
    const double off = std::clamp(pass.reach * texture_.half() / level.scale, 0.12, 1.5);
    const float noise2 = float(pass.noise * pass.noise), spread2 = float(0.5 * off * off);
    // Whether a block is the surface at all is asked with more patience: fine detail is read differently on each
    // frame.
    const double patience = std::max(off, 0.3);
    const float blockSpread2 = float(0.5 * patience * patience);
    for (const auto& block : level.texture.blocks) {
        const auto at = std::size_t(block.first);
        const auto sums = planekernels::misfitOf(&pass.residual[at], &level.texture.slope2[at], &pass.inside[at],
                                                 noise2, blockSpread2, 30, block.count);
        float seen = 0;
        if (sums.inside > 0.25F * float(block.count) && !isBarred(conditions, block.block))
            seen = std::clamp((kUnseenMisfit - sums.misfit / sums.inside) / (kUnseenMisfit - kSeenMisfit), 0.0F, 1.0F);
        conditions.seen[std::size_t(block.block)] = seen;
        planekernels::weigh(&pass.residual[at], &level.texture.slope2[at], &pass.inside[at], 6 * noise2, 6 * spread2,
                            seen, block.count, &pass.weight[at]);
    }
}

/// What is left of a cell's light once its gain, offset and slopes are eliminated.
struct PlaneAligner::Eliminated {
    Eigen::Matrix4d inverse;
    Eigen::Matrix<double, 8, 4> cross;
    Light4 right;
};

/// The normal equations of the steps, light eliminated; the priors hold each cell's near that of the whole. False when
/// nothing holds.
bool PlaneAligner::gather(const Level& level, Pass& pass, Steps& right, std::vector<Eliminated>& eliminated) const {
    const TextureLevel& texture = level.texture;
    double gainSum = 0, gainWeight = 0;
    for (std::size_t c = 0; c < texture.cells.size(); ++c) {
        const auto& cell = texture.cells[c];
        const auto at = std::size_t(cell.first);
        std::array<double, planekernels::kProducts> sums{};
        warp_->accumulate(pass.pose, texture, cell.first,
                          {&texture.u[at], &texture.v[at], &texture.gx[at], &texture.gy[at], &texture.value[at],
                           &pass.residual[at], &pass.weight[at]},
                          level.lightOf(c, pass.light[c]), cell.count, sums.data());
        const Products& products = pass.cells[c].products = symmetric(sums);
        const double contrast = products(8, 8) - products(8, 9) * products(8, 9) / std::max(1e-9, products(9, 9));
        gainSum += contrast * double(pass.light[c].gain);
        gainWeight += contrast;
    }
    if (!(gainWeight > 0)) return false;
    const double meanGain = std::clamp(gainSum / gainWeight, 0.2, 4.0);
    const auto sigma = [&](double spread) { return pass.noise * pass.noise / (spread * spread); };
    pass.normal.setZero();
    right.setZero();
    eliminated.resize(texture.cells.size());
    for (std::size_t c = 0; c < texture.cells.size(); ++c) {
        const auto& p = pass.cells[c].products;
        const PlaneConditions::Light& light = pass.light[c];
        Eliminated& e = eliminated[c];
        Eigen::Matrix4d lightNormal = p.block<4, 4>(8, 8);
        e.right = p.block<4, 1>(8, kLast);
        // Values are far from zero: a gain about the middle of the range keeps it apart from the offset. The offset
        // that the prior speaks of is what is added at the middle of the range.
        constexpr double kMiddle = 110;
        const Vector2d added(kMiddle, 1);
        lightNormal.topLeftCorner<2, 2>() += sigma(kOffsetSpread) * added * added.transpose();
        e.right.head<2>() -= sigma(kOffsetSpread) * added * (kMiddle * (double(light.gain) - 1) + double(light.offset));
        lightNormal(0, 0) += sigma(kGainSpread);
        e.right[0] -= sigma(kGainSpread) * (double(light.gain) - meanGain);
        lightNormal(2, 2) += sigma(kSlopeSpread);
        e.right[2] -= sigma(kSlopeSpread) * double(light.slopeU);
        lightNormal(3, 3) += sigma(kSlopeSpread);
        e.right[3] -= sigma(kSlopeSpread) * double(light.slopeV);
        e.inverse = lightNormal.inverse();
        e.cross = p.block<8, 4>(0, 8);
        pass.normal += p.topLeftCorner<8, 8>() - e.cross * e.inverse * e.cross.transpose();
        right += p.block<8, 1>(0, kLast) - e.cross * (e.inverse * e.right);
    }
    return true;
}

bool PlaneAligner::alignLevel(const Pyramid& frame, int index, MotionModel motion, int mostRounds, Pass& pass,
                              PlaneConditions& conditions, PlaneAlignment& alignment) {
    if (conditions.cells.empty()) conditions.cells.resize(std::size_t(texture_.cellCount()));
    if (conditions.seen.empty()) conditions.seen.assign(std::size_t(texture_.blockCount()), 1.0F);
    const auto level = levelOf(frame, index, pass, conditions);
    if (!level) return false;
    const std::vector<TextureLevel::Cell>& cells = level->texture.cells;
    pass.cells.resize(cells.size());
    pass.light.resize(cells.size());
    for (std::size_t c = 0; c < cells.size(); ++c) pass.light[c] = conditions.cells[std::size_t(cells[c].cell)];
    const auto directions = warp_->directions(motion);
    const double settled = (index == 0 ? pass.settled_px : 0.05) * level->scale / texture_.half();
    // In the early rounds the places are off, and steep pixels differ for that alone.
    pass.reach = 1.5 * level->scale / texture_.half();
    const double noiseBefore = conditions.noise;
    std::vector<Eliminated> eliminated;
    bool done = false;
    for (pass.round = 0;; ++pass.round) {
        alignment.rounds = pass.round;
        read(*level, pass);
        if (pass.weighs) {
            if (!measureNoise(*level, pass, conditions, noiseBefore)) return false;
            weigh(*level, pass, conditions);
        }
        Steps right;
        if (!gather(*level, pass, right, eliminated)) return false;
        Normal normal = pass.normal;
        // Where little is seen, its shape changes no faster than a camera moves. Nothing is expected of the place.
        if (pass.expected) warp_->expect(*pass.expected, pass.pose, pass.noise * pass.noise, normal, right);
        if (done || pass.round == mostRounds) break;
        Eigen::MatrixXd reduced = directions.transpose() * normal * directions;
        // A trace of damping: a freedom that the texture cannot see stays where it is.
        reduced.diagonal().array() += 1e-5 * reduced.trace() / double(reduced.rows());
        Steps steps = directions * solvedSymmetric(reduced, Eigen::VectorXd(directions.transpose() * right));
        pass.reach = reachOf(steps, warp_->corners(pass.pose));
        if (!std::isfinite(pass.reach)) return false;
        const double most = std::max(0.25, 6 * level->scale / texture_.half());
        if (pass.reach > most) {
            steps *= most / pass.reach;
            pass.reach = most;
        }
        for (std::size_t c = 0; c < cells.size(); ++c) {
            const Light4 change =
                eliminated[c].inverse * (eliminated[c].right - eliminated[c].cross.transpose() * steps);
            PlaneConditions::Light& light = pass.light[c];
            light.gain = float(std::clamp(double(light.gain) + change[0], 0.1, 6.0));
            light.offset = float(double(light.offset) + change[1]);
            light.slopeU = float(double(light.slopeU) + change[2]);
            light.slopeV = float(double(light.slopeV) + change[3]);
        }
        pass.pose = warp_->stepped(pass.pose, steps);
        if (!(pass.pose.matrix.determinant() > 0) || !pass.pose.matrix.allFinite()) return false;
        done = pass.reach < settled;
        if (index == 0) conditions.noise = pass.noise;
    }
    for (std::size_t c = 0; c < cells.size(); ++c) conditions.cells[std::size_t(cells[c].cell)] = pass.light[c];
    if (index == 0) {
        measureBlur(*level, pass, conditions);
        conclude(*level, pass, conditions, directions, alignment);
    }
    return true;
}

/// What is left may be blur: regressed on the second derivatives, since a Gaussian of covariance C adds tr(C D2) / 2.
void PlaneAligner::measureBlur(const Level& level, const Pass& pass, PlaneConditions& conditions) {
    const TextureLevel& texture = level.texture;
    std::array<double, 10> sums{};
    for (std::size_t c = 0; c < texture.cells.size(); ++c) {
        const auto& cell = texture.cells[c];
        const auto at = std::size_t(cell.first);
        planekernels::accumulateBlur(&texture.xx[at], &texture.xy[at], &texture.yy[at], &pass.residual[at],
                                     &pass.weight[at], pass.light[c].gain, cell.count, sums.data());
    }
    Eigen::Matrix3d normal;
    normal << sums[0], sums[1], sums[2], sums[1], sums[4], sums[5], sums[2], sums[5], sums[7];
    normal.diagonal().array() += 1e-4 * normal.trace() + 1e-9;
    const Vector3d more = solvedSymmetric(normal, Vector3d(sums[3], sums[6], sums[8]));
    Matrix2d extra;
    extra << more[0], more[1], more[1], more[2];
    if (!extra.allFinite()) return;
    conditions.blur += extra * std::min(1.0, 2.0 / std::max(1e-9, extra.norm()));
    conditions.blur += positivePart(Matrix2d(-Matrix2d::Identity() - conditions.blur));
    conditions.blur -= positivePart(Matrix2d(conditions.blur - 30 * Matrix2d::Identity()));
}

/// How much is seen, by texture; how well; and how sure the place is.
void PlaneAligner::conclude(const Level& level, const Pass& pass, const PlaneConditions& conditions,
                            const PlaneWarp::Directions& directions, PlaneAlignment& alignment) const {
    double seen = 0, beyond = 0, texture = 0;
    for (const auto& block : level.texture.blocks) {
        double held = 0, all = 0;
        for (int i = block.first; i < block.first + block.count; ++i) {
            all += double(level.texture.slope2[std::size_t(i)]);
            held += double(level.texture.slope2[std::size_t(i)] * pass.inside[std::size_t(i)]);
        }
        texture += all;
        beyond += all - held;
        seen += held * double(conditions.seen[std::size_t(block.block)]);
    }
    alignment.seen = texture > 0 ? seen / texture : 0;
    alignment.beyond = texture > 0 ? beyond / texture : 0;
    alignment.fit = correlationOf(pass.cells, pass.light);
    const Eigen::MatrixXd inverse = inverseOf(directions.transpose() * pass.normal * directions);
    const double worst = cornerVariance(inverse, directions, warp_->corners(pass.pose));
    // What is left over what counts, if it is more than the noise: not all that differs is grain.
    double left = 0, weights = 0;
    for (const auto& cell : pass.cells) {
        left += cell.products(kLast, kLast);
        weights += cell.products(9, 9);
    }
    const double spread = std::max(conditions.noise, weights > 0 ? std::sqrt(left / weights) : 0.0);
    alignment.deviation_px = texture_.half() * spread * std::sqrt(kSharedNoise * worst);
    if (!std::isfinite(alignment.deviation_px)) alignment.deviation_px = 1e6;
}

std::optional<PlaneAlignment> PlaneAligner::align(const Pyramid& frame, const SurfacePose& start,
                                                  PlaneConditions& conditions, int coarsest,
                                                  const SurfacePose* expected) {
    Pass pass;
    const auto begun = warp_->begun(start);
    if (!begun) return std::nullopt;
    pass.pose = *begun;
    if (expected) pass.expected = warp_->begun(*expected);
    PlaneAlignment alignment;
    PlaneConditions next = conditions;
    const int levels = std::min(texture_.levels(), int(frame.levels.size()));
    for (int level = std::min(coarsest, levels - 1); level > 0; --level) {
        // A coarse level of few samples must not bend what the start knew.
        const MotionModel motion = level >= 2 ? std::min(motion_, MotionModel::similarity) : motion_;
        const SurfacePose before = pass.pose;
        PlaneConditions trial = next;
        if (alignLevel(frame, level, motion, 8, pass, trial, alignment)) {
            trial.noise = next.noise;
            next = trial;
        } else {
            pass.pose = before;
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
    alignment.pose = warp_->ended(pass.pose);
    conditions = next;
    return alignment;
}

std::optional<SurfacePose> PlaneAligner::settle(const Pyramid& frame, const SurfacePose& start,
                                                PlaneConditions& conditions, std::vector<float>& residual,
                                                std::vector<float>& weight) {
    const auto begun = warp_->begun(start);
    if (!begun) return std::nullopt;
    Pass pass;
    pass.pose = *begun;
    pass.weighs = weight.empty();
    pass.settled_px = 0.001;
    pass.weight = weight;
    pass.noise = conditions.noise;
    if (!pass.weighs && weight.size() != std::size_t(texture_.level(0, Matrix2d::Zero()).count())) return std::nullopt;
    PlaneAlignment alignment;
    if (!alignLevel(frame, 0, motion_, 20, pass, conditions, alignment)) return std::nullopt;
    residual = std::move(pass.residual);
    weight = std::move(pass.weight);
    return warp_->ended(pass.pose);
}

double PlaneAligner::misfit(const Pyramid& frame, const SurfacePose& start, const PlaneConditions& conditions) {
    const auto begun = warp_->begun(start);
    if (!begun) return 1;
    const int index = std::min({1, texture_.levels() - 1, int(frame.levels.size()) - 1});
    const ImageChannel& plane = frame.levels[std::size_t(index)];
    const Level level{index,
                      double(1 << index),
                      texture_.level(index, Matrix2d::Zero()),
                      {plane.values.data(), plane.width, plane.height, 0, 0},
                      {},
                      0};
    Pass pass;
    pass.pose = *begun;
    for (const auto& cell : level.texture.cells)
        pass.light.push_back(conditions.cells.empty() ? PlaneConditions::Light{}
                                                      : conditions.cells[std::size_t(cell.cell)]);
    read(level, pass);
    double misfit = 0;
    for (const auto& cell : level.texture.cells) {
        const auto at = std::size_t(cell.first);
        const auto sums = planekernels::misfitOf(&pass.residual[at], &level.texture.slope2[at], &pass.inside[at], 60,
                                                 0.3F, 10, cell.count);
        misfit += double(sums.misfit) + 10 * (cell.count - double(sums.inside));
    }
    return misfit / (10 * std::max(1, level.texture.count()));
}

}  // namespace pinion
