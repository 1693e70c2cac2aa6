// The envelope, the adjustment's derivatives, zooms and turns, and what is said of its certainty.

#include "camera/bundle.h"
#include "camera/envelope.h"

#include <Eigen/Dense>
#include <ceres/ceres.h>
#include <ceres/rotation.h>
#undef CHECK  // the logging library that Ceres brings has one too
#include <catch2/catch.hpp>
#include <random>

using namespace pinion;
using Eigen::MatrixXd;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

/// A random positive matrix of the shape, dense, and the same as an envelope.
struct Made {
    MatrixXd dense;
    Envelope envelope;
};

Made madeMatrix(int block, const std::vector<int>& first, int border, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal(0, 1);
    const int blocks = int(first.size()), size = blocks * block;
    MatrixXd dense = MatrixXd::Zero(size + border, size + border);
    Envelope envelope(block, first, border);
    for (int i = 0; i < blocks; ++i)
        for (int j = first[std::size_t(i)]; j <= i; ++j)
            for (int r = 0; r < block; ++r)
                for (int c = 0; c < block; ++c) {
                    const int row = i * block + r, column = j * block + c;
                    if (column > row) continue;
                    dense(row, column) = dense(column, row) =
                        row == column ? 60 + std::abs(normal(random)) : normal(random);
                }
    for (int r = size; r < size + border; ++r)
        for (int c = 0; c <= r; ++c) dense(r, c) = dense(c, r) = r == c ? 80 : normal(random);
    for (int i = 0; i < blocks; ++i)
        for (int j = first[std::size_t(i)]; j <= i; ++j)
            for (int r = 0; r < block; ++r)
                for (int c = 0; c < block; ++c)
                    envelope.at(i, j)[r * envelope.stride(i) + c] = dense(i * block + r, j * block + c);
    envelope.border() = dense.bottomLeftCorner(border, size);
    envelope.corner() = dense.bottomRightCorner(border, border);
    return {dense, envelope};
}

struct Scene {
    Bundle bundle;
    Bundle truth;
};

/// Cameras along a bent path before a cloud, one far point among them; `turns`: they only turn.
Scene madeScene(bool turns, bool zoom, double noise_px, unsigned seed, int frames = 14, int count = 90) {
    Scene scene;
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> unit(-1, 1);
    std::normal_distribution<double> noise(0, noise_px);
    Bundle& truth = scene.truth;
    truth.lens = pinholeLens(1920, 1080, 1500);
    truth.lens.k1 = -0.06;
    truth.lens.k2 = 0.01;
    truth.lens.cx += 5;
    truth.lens.cy -= 3;
    truth.k1Slope = zoom ? 0.04 : 0;
    for (int f = 0; f < frames; ++f) {
        const double t = double(f) / (frames - 1) - 0.5;
        Pose pose;
        pose.rotation = Eigen::Quaterniond(Eigen::AngleAxisd(0.35 * t, Vector3d::UnitY()) *
                                           Eigen::AngleAxisd(0.1 * std::sin(8 * t), Vector3d::UnitX()) *
                                           Eigen::AngleAxisd(0.2 * t * t, Vector3d::UnitZ()));
        if (!turns) pose.translation = -(pose.rotation * Vector3d(1.4 * t, 0.25 * std::cos(7 * t), 0.5 * t * t));
        truth.cameras.push_back(pose);
        truth.times.push_back(1001 + f);
        if (zoom) truth.focals.push_back(1500 * std::exp(0.4 * (t + 0.5) * (t + 0.5) * (2 - t)));
    }
    for (int i = 0; i < count; ++i) {
        const Vector3d place(2.2 * unit(random), 1.2 * unit(random), 4 + 2 * unit(random));
        Vector4d point;
        point << place, turns || i % 15 == 0 ? 0.0 : 1.0;
        truth.points.push_back(point.normalized());
    }
    for (int i = 0; i < count; ++i)
        for (int f = 0; f < frames; ++f) {
            const Pose& pose = truth.cameras[std::size_t(f)];
            const Projection p = project(truth.lensOf(std::size_t(f)), pose.rotation.toRotationMatrix(),
                                         pose.translation, truth.points[std::size_t(i)], Derived::nothing);
            if (p.inFront && p.plate.x() > 0 && p.plate.y() > 0 && p.plate.x() < 1920 && p.plate.y() < 1080)
                truth.observations.push_back({f, i, p.plate + Vector2d(noise(random), noise(random))});
        }
    scene.bundle = truth;
    return scene;
}

}  // namespace

TEST_CASE("an envelope factors, solves and inverts like the dense matrix it stands for") {
    for (const int block : {3, 6, 7})
        for (const int border : {0, 4}) {
            std::vector<int> first;
            for (int i = 0; i < 45; ++i) first.push_back(std::max(0, i - 3 - (i * 7) % 11));
            first[40] = 2;  // one long track reaches far back
            Made made = madeMatrix(block, first, border, unsigned(block * 10 + border));
            const MatrixXd right = MatrixXd::Random(made.dense.rows(), 3);
            REQUIRE(made.envelope.factorise());
            CHECK((made.envelope.solve(right) - made.dense.ldlt().solve(right)).cwiseAbs().maxCoeff() < 1e-11);
            made.envelope.invert();
            const MatrixXd inverse = made.dense.inverse();
            double worst = 0;
            for (int i = 0; i < 45; ++i)
                for (int j = first[std::size_t(i)]; j <= i; ++j)
                    for (int r = 0; r < block; ++r)
                        for (int c = 0; c < block; ++c)
                            worst = std::max(worst, std::abs(made.envelope.at(i, j)[r * made.envelope.stride(i) + c] -
                                                             inverse(i * block + r, j * block + c)));
            CHECK(worst < 1e-12);
            if (border > 0) {
                CHECK((made.envelope.corner() - inverse.bottomRightCorner(border, border)).cwiseAbs().maxCoeff() <
                      1e-12);
                CHECK((made.envelope.border() - inverse.bottomLeftCorner(border, 45 * block)).cwiseAbs().maxCoeff() <
                      1e-12);
            }
        }
    Envelope negative(3, {0, 0}, 0);
    negative.at(0, 0)[0] = -1;
    CHECK_FALSE(negative.factorise());
}

namespace {

/// The projection in Ceres' own terms, differentiated by it.
struct CeresProjection {
    Pose pose;
    double logBase;
    template <class T>
    bool operator()(const T* turn, const T* shift, const T* point, const T* lens, T* plate) const {
        const T rotation[4] = {T(pose.rotation.w()), T(pose.rotation.x()), T(pose.rotation.y()), T(pose.rotation.z())};
        T own[3], seen[3];
        ceres::UnitQuaternionRotatePoint(rotation, point, own);
        ceres::AngleAxisRotatePoint(turn, own, seen);
        for (int i = 0; i < 3; ++i) seen[i] += (T(pose.translation[i]) + shift[i]) * point[3];
        const T x = seen[0] / seen[2], y = seen[1] / seen[2], r2 = x * x + y * y;
        using std::log;
        const T k1 = lens[1] + lens[8] * (log(lens[0]) - T(logBase));
        const T radial = T(1) + r2 * (k1 + r2 * (lens[2] + r2 * lens[3]));
        plate[0] = lens[0] * T(1.3) * (x * radial + T(2) * lens[4] * x * y + lens[5] * (r2 + T(2) * x * x)) + lens[6];
        plate[1] = lens[0] * (y * radial + lens[4] * (r2 + T(2) * y * y) + T(2) * lens[5] * x * y) + lens[7];
        return true;
    }
};

}  // namespace

TEST_CASE("the derivatives of the projection are those found by automatic differentiation") {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> unit(-1, 1);
    for (int round = 0; round < 50; ++round) {
        Pose pose;
        pose.rotation = Eigen::Quaterniond(Eigen::AngleAxisd(0.5 * unit(random), Vector3d::UnitY()) *
                                           Eigen::AngleAxisd(0.4 * unit(random), Vector3d::UnitX()));
        pose.translation = Vector3d(unit(random), unit(random), unit(random));
        Vector4d point;
        point << unit(random), unit(random), 4 + unit(random), round % 5 == 0 ? 0.0 : 0.8 + 0.2 * unit(random);
        point.normalize();
        Lens lens = pinholeLens(1920, 1080, 1400);
        lens.squeeze = 1.3;
        lens.k1 = -0.1;
        lens.k2 = 0.03;
        lens.k3 = 0.01;
        lens.p1 = 0.002;
        lens.p2 = -0.001;
        const double slope = 0.07, focal = 1700;
        const double turn[3] = {0, 0, 0}, shift[3] = {0, 0, 0};
        const double terms[9] = {focal, lens.k1, lens.k2, lens.k3, lens.p1, lens.p2, lens.cx, lens.cy, slope};
        ceres::AutoDiffCostFunction<CeresProjection, 2, 3, 3, 4, 9> automatic(
            new CeresProjection{pose, std::log(lens.focal_px)});
        const double* parameters[4] = {turn, shift, point.data(), terms};
        Eigen::Matrix<double, 2, 3, Eigen::RowMajor> byTurn, byShift;
        Eigen::Matrix<double, 2, 4, Eigen::RowMajor> byPoint;
        Eigen::Matrix<double, 2, 9, Eigen::RowMajor> byLens;
        double* slopes[4] = {byTurn.data(), byShift.data(), byPoint.data(), byLens.data()};
        Vector2d plate;
        REQUIRE(automatic.Evaluate(parameters, plate.data(), slopes));
        const Projection own = project(zoomed(lens, slope, focal), pose.rotation.toRotationMatrix(), pose.translation,
                                       point, Derived::all, std::log(focal / lens.focal_px), slope);
        REQUIRE(own.inFront);
        const auto near = [](const auto& a, const auto& b) {
            return (a - b).cwiseAbs().maxCoeff() < 1e-9 * (1 + b.cwiseAbs().maxCoeff());
        };
        CHECK((own.plate - plate).norm() < 1e-9);
        CHECK(near(own.byCamera.leftCols<3>(), byTurn));
        CHECK(near(own.byCamera.rightCols<3>(), byShift));
        CHECK(near(own.byPoint, byPoint));
        CHECK(near(own.byLens.leftCols<9>().eval(), byLens));
    }
}

TEST_CASE("what is behind the camera, or far to its side, has no place on the plate") {
    const Lens lens = pinholeLens(1920, 1080, 1500);
    const auto inFront = [&](const Vector4d& point) {
        return project(lens, Eigen::Matrix3d::Identity(), Vector3d::Zero(), point, Derived::all).inFront;
    };
    CHECK(inFront({0, 0, 1, 0}));
    CHECK(inFront({1, 0, 1, 0.5}));
    CHECK_FALSE(inFront({0, 0, -1, 0}));
    CHECK_FALSE(inFront({1, 0, 0.1, 1}));
    CHECK_FALSE(inFront({0, 0, 0, 1}));
}

TEST_CASE("points at infinity, near and far are adjusted together, with the whole lens") {
    Scene scene = madeScene(false, false, 0.0, 4);
    std::mt19937 random(8);
    std::normal_distribution<double> unit(0, 1);
    for (Pose& pose : scene.bundle.cameras) {
        pose.translation += 0.03 * Vector3d(unit(random), unit(random), unit(random));
        pose.rotation = (pose.rotation * Eigen::Quaterniond(Eigen::AngleAxisd(0.01 * unit(random), Vector3d::UnitX())))
                            .normalized();
    }
    for (Vector4d& point : scene.bundle.points)
        point = (point + 0.02 * Vector4d(unit(random), unit(random), unit(random), unit(random))).normalized();
    scene.bundle.lens.focal_px = 1300;
    scene.bundle.lens.k1 = scene.bundle.lens.k2 = 0;
    scene.bundle.lens.cx = 960;
    scene.bundle.lens.cy = 540;
    const LensTerms free{LensTerm::focal, LensTerm::k1, LensTerm::k2, LensTerm::cx, LensTerm::cy};
    for (const double width : {20.0, 1.0})
        REQUIRE(adjust(scene.bundle,
                       {.free = free, .robustWidth_px = width, .noise_px = 1e-3, .rounds = 150, .settled = 1e-14}));
    CHECK(scene.bundle.lens.focal_px == Approx(1500).epsilon(1e-5));
    CHECK(scene.bundle.lens.k1 == Approx(-0.06).margin(1e-5));
    CHECK(scene.bundle.lens.k2 == Approx(0.01).margin(1e-5));
    CHECK(scene.bundle.lens.cx == Approx(965).margin(0.01));
    CHECK(scene.bundle.lens.cy == Approx(537).margin(0.01));
    // The far ones stay far: no parallax to within the size of the scene.
    CHECK(std::abs(scene.bundle.points[0][3]) < 1e-4);
}

TEST_CASE(
    "a zoom has a focal length per frame and its distortion goes with it; a camera that only turns keeps its place") {
    for (const bool turns : {false, true}) {
        Scene scene = madeScene(turns, true, 0.05, 5, 30, 140);
        for (double& focal : scene.bundle.focals) focal = 1700;
        scene.bundle.k1Slope = 0;
        // Cameras and points as a solve without the zoom would leave them is the solver's part; here they start near.
        const LensTerms free{LensTerm::k1, LensTerm::k2, LensTerm::k1Slope};
        const double wide[2] = {60, 0.3};
        for (const double width : wide)
            REQUIRE(adjust(scene.bundle, {.free = free,
                                          .freePlaces = !turns,
                                          .robustWidth_px = width,
                                          .noise_px = 0.05,
                                          .rounds = 200,
                                          .settled = 0}));
        double worst = 0;
        for (std::size_t f = 0; f < scene.bundle.focals.size(); ++f)
            worst = std::max(worst, std::abs(scene.bundle.focals[f] / scene.truth.focals[f] - 1));
        CHECK(worst < 0.01);
        CHECK(scene.bundle.k1Slope == Approx(0.04).margin(0.02));
        if (turns)
            for (const Pose& pose : scene.bundle.cameras) CHECK(pose.translation.norm() == 0.0);
    }
}

TEST_CASE("the adjustment does not shrink the world") {
    // Its size is free. A pull to short steps made it smaller with every round, until all points seemed near
    // (chessboards seen from all round: 341 px of focal length where 536 are right).
    Scene scene = madeScene(false, false, 0.3, 12);
    for (Pose& pose : scene.bundle.cameras) pose.translation *= 3;
    for (Vector4d& point : scene.bundle.points)
        point = Vector4d(3 * point.x(), 3 * point.y(), 3 * point.z(), point[3]).normalized();
    const auto sizeOf = [](const Bundle& bundle) {
        Vector3d middle = Vector3d::Zero();
        double squares = 0;
        for (const Pose& pose : bundle.cameras) middle += pose.centre() / double(bundle.cameras.size());
        for (const Pose& pose : bundle.cameras)
            squares += (pose.centre() - middle).squaredNorm() / double(bundle.cameras.size());
        return std::sqrt(squares);
    };
    const double before = sizeOf(scene.bundle);
    BundleOptions options;
    options.free = {LensTerm::focal};
    options.noise_px = 0.3;
    options.robustWidth_px = 0.9;
    options.step = 0.05;
    options.rounds = 60;
    options.settled = 0;
    REQUIRE(adjust(scene.bundle, options));
    CHECK(sizeOf(scene.bundle) == Approx(before).epsilon(0.05));
}

TEST_CASE("what is known enters as a value with its trust") {
    Scene scene = madeScene(false, false, 0.1, 6);
    const LensTerms free{LensTerm::focal, LensTerm::k1};
    Bundle loose = scene.bundle, tight = scene.bundle;
    adjust(loose, {.free = free,
                   .priors = {{LensTerm::focal, 1600, 1000}},
                   .robustWidth_px = 1,
                   .noise_px = 0.1,
                   .rounds = 60,
                   .settled = 0});
    adjust(tight, {.free = free,
                   .priors = {{LensTerm::focal, 1600, 0.01}},
                   .robustWidth_px = 1,
                   .noise_px = 0.1,
                   .rounds = 60,
                   .settled = 0});
    CHECK(loose.lens.focal_px == Approx(1500).epsilon(0.01));
    CHECK(tight.lens.focal_px == Approx(1600).epsilon(1e-3));
}

TEST_CASE("a track that counts twice pulls as two do") {
    Scene scene = madeScene(false, false, 0.1, 7, 8, 40);
    Bundle twice = scene.bundle, heavy = scene.bundle;
    const std::size_t count = scene.bundle.observations.size();
    for (std::size_t i = 0; i < count; ++i)
        if (scene.bundle.observations[i].point < 10) {
            twice.observations.push_back(scene.bundle.observations[i]);
            heavy.observations[i].weight = std::sqrt(2.0);
        }
    const BundleOptions options{
        .free = {LensTerm::focal}, .robustWidth_px = 1e3, .noise_px = 1e-3, .rounds = 80, .settled = 1e-14};
    adjust(twice, options);
    adjust(heavy, options);
    CHECK(heavy.lens.focal_px == Approx(twice.lens.focal_px).epsilon(1e-6));
    CHECK(costOf(heavy, options) == Approx(costOf(twice, options)).epsilon(1e-4));
}

TEST_CASE("the stated deviations are those of the answers over many draws of the noise") {
    // Thirty draws: the mean square of 30 normal values lies within 0.5 and 1.7 with a probability of 99 %.
    double focal = 0, cx = 0, place = 0, point = 0;
    int points = 0, places = 0;
    constexpr int kDraws = 30;
    for (unsigned draw = 0; draw < kDraws; ++draw) {
        Scene scene = madeScene(false, false, 0.2, 5);  // one geometry
        std::mt19937 random(1000 + draw);
        std::normal_distribution<double> noise(0, 0.2);
        const Scene exact = madeScene(false, false, 0.0, 5);
        for (std::size_t i = 0; i < scene.bundle.observations.size(); ++i)
            scene.bundle.observations[i].plate =
                exact.truth.observations[i].plate + Vector2d(noise(random), noise(random));
        const BundleOptions options{.free = {LensTerm::focal, LensTerm::k1, LensTerm::k2, LensTerm::cx, LensTerm::cy},
                                    .robustWidth_px = 0.6,
                                    .noise_px = 0.2,
                                    .rounds = 60,
                                    .settled = 0};
        adjust(scene.bundle, options);
        const auto covariance = covarianceOf(scene.bundle, options);
        REQUIRE(covariance);
        CHECK(covariance->noise_px == Approx(0.2).epsilon(0.1));
        focal += std::pow((scene.bundle.lens.focal_px - 1500) / covariance->deviationOf(LensTerm::focal), 2) / kDraws;
        cx += std::pow((scene.bundle.lens.cx - 965) / covariance->deviationOf(LensTerm::cx), 2) / kDraws;
        // After the similarity on places and axes, as the deviations are meant.
        const auto frames = scene.truth.cameras.size();
        double spread = 0;
        for (const Pose& pose : scene.truth.cameras)
            spread += (pose.centre() - scene.truth.cameras[frames / 2].centre()).squaredNorm() / double(frames);
        spread = std::sqrt(spread);
        Eigen::Matrix3Xd found(3, 4 * frames), real(3, 4 * frames);
        for (std::size_t f = 0; f < frames; ++f)
            for (int a = 0; a < 4; ++a) {
                const auto at = [&](const Pose& pose) -> Vector3d {
                    return a == 3
                               ? pose.centre()
                               : Vector3d(pose.centre() + spread * pose.rotation.conjugate().toRotationMatrix().col(a));
                };
                found.col(Eigen::Index(4 * f) + a) = at(scene.bundle.cameras[f]);
                real.col(Eigen::Index(4 * f) + a) = at(scene.truth.cameras[f]);
            }
        const Eigen::Matrix4d fit = Eigen::umeyama(real, found, true);
        const auto moved = [&](const Vector3d& p) -> Vector3d {
            return fit.topLeftCorner<3, 3>() * p + fit.topRightCorner<3, 1>();
        };
        for (std::size_t f = 0; f < frames; ++f) {
            const Vector3d error = scene.bundle.cameras[f].centre() - moved(scene.truth.cameras[f].centre());
            place += error.squaredNorm() / covariance->positions[f].trace();
            ++places;
        }
        for (std::size_t p = 0; p < scene.bundle.points.size(); ++p) {
            if (p % 15 == 0 || !covariance->points[p]) continue;
            const Vector3d error = scene.bundle.points[p].head<3>() / scene.bundle.points[p][3] -
                                   moved(scene.truth.points[p].head<3>() / scene.truth.points[p][3]);
            point += error.dot(covariance->points[p]->inverse() * error) / 3;
            ++points;
        }
    }
    CHECK(focal > 0.5);
    CHECK(focal < 1.7);
    CHECK(cx > 0.5);
    CHECK(cx < 1.7);
    CHECK(std::sqrt(place / places) == Approx(1).margin(0.25));
    CHECK(std::sqrt(point / points) == Approx(1).margin(0.2));
}

TEST_CASE("errors that last make the answer less sure than as many free ones") {
    Scene scene = madeScene(false, false, 0.0, 5, 40);
    std::mt19937 random(2);
    std::normal_distribution<double> unit(0, 1);
    Bundle white = scene.bundle, lasting = scene.bundle;
    Vector2d error = Vector2d::Zero();
    for (std::size_t i = 0; i < scene.bundle.observations.size(); ++i) {
        if (i == 0 || scene.bundle.observations[i].point != scene.bundle.observations[i - 1].point)
            error = Vector2d(unit(random), unit(random));
        error = 0.9 * error + std::sqrt(1 - 0.81) * Vector2d(unit(random), unit(random));
        lasting.observations[i].plate += 0.2 * error;
        white.observations[i].plate += 0.2 * Vector2d(unit(random), unit(random));
    }
    const BundleOptions options{
        .free = {LensTerm::focal, LensTerm::k1}, .robustWidth_px = 0.6, .noise_px = 0.2, .rounds = 60, .settled = 0};
    adjust(white, options);
    adjust(lasting, options);
    const auto sure = covarianceOf(white, options), unsure = covarianceOf(lasting, options);
    REQUIRE((sure && unsure));
    CHECK(unsure->deviationOf(LensTerm::focal) > 1.6 * sure->deviationOf(LensTerm::focal));
}
