// Measures from the set: distances and places with their trust, what they do to a solve, and what contradicts.

#include "camera/lengths.h"
#include "camera/solve.h"
#include "scenarios/judge.h"

#include <Eigen/Dense>
#include <catch2/catch.hpp>
#include <random>

using namespace pinion;
using namespace pinion::bench;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

/// A bundle at its minimum: cameras on an arc before a cloud, places drawn with noise.
struct Measured {
    Bundle bundle;
    std::vector<Vector3d> points;  ///< true ones
    BundleOptions options;
};

Measured madeBundle(unsigned seed, double noise_px = 0.3) {
    Measured made;
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> unit(-1, 1);
    std::normal_distribution<double> noise(0, noise_px);
    made.bundle.lens = pinholeLens(1920, 1080, 1800);
    for (int f = 0; f < 10; ++f) {
        Pose pose;
        pose.rotation = Eigen::Quaterniond(Eigen::AngleAxisd(-0.02 * f, Vector3d::UnitY()));
        pose.translation = -(pose.rotation * Vector3d(0.12 * f, 0.02 * std::sin(f), 0.01 * f));
        made.bundle.cameras.push_back(pose);
        made.bundle.times.push_back(1001 + f);
    }
    for (int p = 0; p < 60; ++p) {
        const Vector3d point(1.6 * unit(random), 0.9 * unit(random), 4 + 1.5 * unit(random));
        made.points.push_back(point);
        made.bundle.points.push_back(point.homogeneous().normalized());
        for (int f = 0; f < 10; ++f) {
            const Projection seen =
                project(made.bundle.lens, made.bundle.cameras[std::size_t(f)].rotation.toRotationMatrix(),
                        made.bundle.cameras[std::size_t(f)].translation, point.homogeneous(), Derived::nothing);
            made.bundle.observations.push_back({f, p, seen.plate + Eigen::Vector2d(noise(random), noise(random))});
        }
    }
    made.options.free = {LensTerm::focal};
    made.options.noise_px = noise_px;
    made.options.robustWidth_px = 3 * noise_px;
    made.options.rounds = 60;
    made.options.settled = 0;
    adjust(made.bundle, made.options);
    // To the last digits: what a length changes is compared below.
    for (int i = 0; i < 3; ++i) adjustWithLengths(made.bundle, made.options, {{0, 1, 1, 1}});
    return made;
}

double lengthIn(const Bundle& bundle, int a, int b) {
    const auto place = [&](int p) -> Vector3d {
        return bundle.points[std::size_t(p)].head<3>() / bundle.points[std::size_t(p)][3];
    };
    return (place(a) - place(b)).norm();
}

/// Tracks of a shot whose points are known, with the ids of some good long ones.
struct KnownShot {
    MadeShot shot;
    SolveOptions options;
    std::vector<TrackId> good;
    KnownShot(unsigned seed) {
        ShotPlan plan = drawPlan("handheld", seed);
        plan.frames = 60;
        plan.tracks = 160;
        shot = make(plan);
        options = optionsFor(shot, Knowledge::unknown);
        options.reading = SolveOptions::Reading::atOnce;  // what is looked for here are lengths
        for (std::size_t t = 0; t < shot.tracks.size() && good.size() < 6; t += 3)
            if (shot.truth[t].good && shot.tracks[t].samples.size() > 30 &&
                (shot.truth[t].point - shot.poses[0].centre()).norm() < 25)
                good.push_back(shot.tracks[t].id);
    }
    Vector3d place(std::size_t i) const {
        const Vector3d p = shot.truth[std::size_t(good[i] - 1)].point;
        return {p.x(), -p.y(), -p.z()};  // the set's own coordinates have Y up
    }
    KnownDistance distance(std::size_t i, std::size_t j, double factor = 1, double sigma = 0.005) const {
        return {good[i], good[j], factor * (place(i) - place(j)).norm(), sigma};
    }
    Vector3d found(const Solve& solve, std::size_t i) const {
        for (const SolvedTrack& track : solve.tracks)
            if (track.track == good[i] && track.xyz) return *track.xyz;
        FAIL("a measured track has no place");
        return {};
    }
};

}  // namespace

TEST_CASE("one length gives the scale and leaves the shape alone") {
    Measured made = madeBundle(1);
    const double before = lengthIn(made.bundle, 3, 4) / lengthIn(made.bundle, 5, 6);
    const double length = lengthIn(made.bundle, 3, 4);
    const auto fit = adjustWithLengths(made.bundle, made.options, {{3, 4, 2.5 * length, 0.01}});
    REQUIRE(fit);
    CHECK(fit->scale == Approx(2.5).epsilon(1e-5));
    CHECK(fit->found.front() == Approx(2.5 * length).epsilon(1e-6));
    CHECK(fit->tests.front() == 0);
    CHECK(lengthIn(made.bundle, 3, 4) / lengthIn(made.bundle, 5, 6) == Approx(before).epsilon(1e-5));
}

TEST_CASE("a length throws no point away that its own sightings hardly hold") {
    // Such a track, 8 frames long, ended 25 px RMS off where it had been within 1, once a distance was typed.
    Measured made = madeBundle(5);
    std::mt19937 random(9);
    std::uniform_real_distribution<double> unit(-1, 1);
    const std::size_t first = made.bundle.points.size();
    for (int i = 0; i < 60; ++i) {
        const Vector3d point(1.6 * unit(random), 0.9 * unit(random), 4 + 1.5 * unit(random));
        // Along the camera's own way, as what moves by itself often does: its rays meet elsewhere, far, or not at all.
        const Eigen::Vector2d slide(70 * unit(random), 0.4 * unit(random));
        const int from = i % 5, frames = 3 + i % 6;
        for (int f = from; f < std::min(10, from + frames); ++f) {
            const Projection seen =
                project(made.bundle.lens, made.bundle.cameras[std::size_t(f)].rotation.toRotationMatrix(),
                        made.bundle.cameras[std::size_t(f)].translation, point.homogeneous(), Derived::nothing);
            made.bundle.observations.push_back(
                {f, int(made.bundle.points.size()),
                 seen.plate + (f - from) * slide + Eigen::Vector2d(0.3 * unit(random), 0.3 * unit(random))});
        }
        made.bundle.points.push_back(point.homogeneous().normalized());
    }
    adjust(made.bundle, made.options);
    // Where an adjustment ends such points may still be on their way.
    for (std::size_t p = first; p < made.bundle.points.size(); ++p) {
        made.bundle.points[p][3] *= 1.6;
        made.bundle.points[p].normalize();
    }
    const auto errorsIn = [&](const Bundle& bundle) {
        std::vector<double> worst(bundle.points.size() - first, 0.0);
        const auto places = modelledPlaces(bundle);
        for (std::size_t k = 0; k < places.size(); ++k)
            if (const auto p = std::size_t(bundle.observations[k].point); p >= first)
                worst[p - first] = std::max(worst[p - first], (places[k] - bundle.observations[k].plate).norm());
        return worst;
    };
    const auto before = errorsIn(made.bundle);
    REQUIRE(adjustWithLengths(made.bundle, made.options, {{3, 4, 2.5, 0.01}}));
    const auto after = errorsIn(made.bundle);
    for (std::size_t i = 0; i < before.size(); ++i) {
        INFO("point " << i << ", " << before[i] << " px before");
        CHECK(after[i] < before[i] + 2);
    }
}

TEST_CASE("lengths known well pull the shape to them, lengths known badly hardly") {
    for (const double sigma : {1e-4, 10.0}) {
        Measured made = madeBundle(2);
        const double first = lengthIn(made.bundle, 3, 4), second = lengthIn(made.bundle, 10, 20),
                     third = lengthIn(made.bundle, 30, 40);
        // The second a hundredth longer than tracks have it.
        const auto fit = adjustWithLengths(
            made.bundle, made.options, {{3, 4, first, sigma}, {10, 20, 1.01 * second, sigma}, {30, 40, third, sigma}});
        REQUIRE(fit);
        const double ratio = lengthIn(made.bundle, 10, 20) / lengthIn(made.bundle, 3, 4) / (second / first);
        if (sigma < 1) CHECK(ratio == Approx(1.01).epsilon(2e-4));
        else CHECK(ratio == Approx(1.0).epsilon(1e-4));
    }
}

TEST_CASE("the steps with lengths reach the minimum of tracks and lengths together") {
    // Held against a direct evaluation: no small change of the two measured points, alone or together with a camera,
    // lowers the sum.
    Measured made = madeBundle(3);
    const double first = lengthIn(made.bundle, 3, 4), second = lengthIn(made.bundle, 10, 20);
    const std::vector<KnownLength> lengths{{3, 4, first, 0.01}, {10, 20, 1.02 * second, 0.01}};
    const auto fit = adjustWithLengths(made.bundle, made.options, lengths);
    REQUIRE(fit);
    const auto covariance = covarianceOf(made.bundle, made.options, true);
    REQUIRE(covariance);
    const auto total = [&](const Bundle& bundle) {
        double sum = costOf(bundle, made.options) / covariance->factor;
        double common = 0, weights = 0;
        std::vector<double> misses, ws;
        for (const KnownLength& known : lengths) {
            misses.push_back(std::log(known.length / lengthIn(bundle, known.a, known.b)));
            ws.push_back(std::pow(known.length / known.sigma, 2));
            common += ws.back() * misses.back();
            weights += ws.back();
        }
        for (std::size_t i = 0; i < misses.size(); ++i) sum += 0.5 * ws[i] * std::pow(misses[i] - common / weights, 2);
        return sum;
    };
    const double least = total(made.bundle);
    for (const int p : {3, 4, 10, 20, 25})
        for (int axis = 0; axis < 3; ++axis)
            for (const double step : {1e-4, -1e-4}) {
                Bundle moved = made.bundle;
                Vector4d point = moved.points[std::size_t(p)] / moved.points[std::size_t(p)][3];
                point[axis] += step;
                moved.points[std::size_t(p)] = point.normalized();
                CHECK(total(moved) > least - 1e-6 * least);
            }
    for (const double step : {1e-5, -1e-5}) {
        Bundle moved = made.bundle;
        moved.cameras[7].translation.x() += step;
        CHECK(total(moved) > least - 1e-6 * least);
        moved = made.bundle;
        moved.lens.focal_px *= 1 + step;
        CHECK(total(moved) > least - 1e-6 * least);
    }
}

TEST_CASE("a wrong length among right ones stands out, and right ones do not") {
    // Data snooping (Baarda 1968): beyond 3.3 standard deviations once in a thousand.
    int alarms = 0;
    double squares = 0;
    for (unsigned seed = 10; seed < 30; ++seed) {
        std::mt19937 random(seed);
        std::normal_distribution<double> normal(0, 1);
        Measured made = madeBundle(seed);
        std::vector<KnownLength> lengths;
        for (int i = 0; i < 5; ++i) {
            const int a = 7 * i, b = 7 * i + 4;
            const double real = (made.points[std::size_t(a)] - made.points[std::size_t(b)]).norm();
            lengths.push_back({a, b, real + 0.01 * normal(random), 0.01});
        }
        Bundle right = made.bundle;
        const auto fit = adjustWithLengths(right, made.options, lengths);
        REQUIRE(fit);
        CHECK(fit->scale == Approx(lengths[0].length / lengthIn(right, lengths[0].a, lengths[0].b)).epsilon(0.05));
        for (const double test : fit->tests) {
            alarms += std::abs(test) > 3.3;
            squares += test * test / (20 * 5);
        }
        lengths[2].length *= 1.15;
        const auto wrong = adjustWithLengths(made.bundle, made.options, lengths);
        REQUIRE(wrong);
        const auto worst = std::max_element(wrong->tests.begin(), wrong->tests.end(),
                                            [](double a, double b) { return std::abs(a) < std::abs(b); }) -
                           wrong->tests.begin();
        CHECK(worst == 2);
        CHECK(std::abs(wrong->tests[2]) > 3.3);
    }
    CHECK(alarms <= 1);
    // The tests are standard normal when all is right.
    CHECK(std::sqrt(squares) > 0.7);
    CHECK(std::sqrt(squares) < 1.3);
}

TEST_CASE("a distance puts a solve in metres, three places put it into their world") {
    KnownShot known(5);
    REQUIRE(known.good.size() >= 5);
    known.options.distances = std::vector<KnownDistance>{known.distance(0, 1), known.distance(2, 3)};
    const auto scaled = solveCamera(known.shot.tracks, known.options);
    REQUIRE(scaled);
    CHECK(scaled->inMetres);
    CHECK(scaled->doubt.empty());
    CHECK((known.found(*scaled, 0) - known.found(*scaled, 4)).norm() ==
          Approx((known.place(0) - known.place(4)).norm()).epsilon(0.01).margin(0.03));
    known.options.distances = {};
    known.options.places = known.options.places.edited([&](auto& places) {
        for (std::size_t i = 0; i < 4; ++i) places.push_back({known.good[i], known.place(i), 0.005});
    });
    const auto placed = solveCamera(known.shot.tracks, known.options);
    REQUIRE(placed);
    CHECK(placed->inMetres);
    for (std::size_t i = 0; i < 5; ++i) CHECK((known.found(*placed, i) - known.place(i)).norm() < 0.05);
    // The cameras stand where they stood.
    const Vector3d real = known.shot.poses[20].centre();
    const SolvedFrame* frame = solvedFrameAt(*placed, 1021);
    REQUIRE(frame);
    CHECK((frame->worldFromCamera.translation() - Vector3d(real.x(), -real.y(), -real.z())).norm() < 0.05);
    CHECK((frame->worldFromCamera.linear().transpose() * frame->worldFromCamera.linear()).isIdentity(1e-9));
}

TEST_CASE("distances that contradict are named") {
    KnownShot known(6);
    REQUIRE(known.good.size() >= 6);
    known.options.distances = std::vector<KnownDistance>{known.distance(0, 1), known.distance(2, 3, 1.2),
                                                         known.distance(4, 5), known.distance(1, 4)};
    const auto one = solveCamera(known.shot.tracks, known.options);
    REQUIRE(one);
    const auto name = [&](std::size_t i) { return known.shot.tracks[std::size_t(known.good[i] - 1)].name; };
    INFO(one->doubt);
    CHECK(one->doubt.find("the distance " + name(2) + " to " + name(3) + " is given as") != std::string::npos);
    CHECK(one->doubt.find("left out, measure it again") != std::string::npos);
    CHECK(one->inMetres);
    CHECK((known.found(*one, 0) - known.found(*one, 5)).norm() ==
          Approx((known.place(0) - known.place(5)).norm()).epsilon(0.01));
    // Of two nobody can tell which.
    known.options.distances = std::vector<KnownDistance>{known.distance(0, 1), known.distance(2, 3, 1.2)};
    const auto two = solveCamera(known.shot.tracks, known.options);
    REQUIRE(two);
    CHECK(two->doubt.find("contradict each other") != std::string::npos);
    CHECK(two->doubt.find(name(0)) != std::string::npos);
    CHECK(two->doubt.find(name(2)) != std::string::npos);
    CHECK_FALSE(two->inMetres);
}

TEST_CASE("measures that mean nothing are refused with what to do") {
    KnownShot known(7);
    const auto refused = [&](const std::string& words) {
        const auto solve = solveCamera(known.shot.tracks, known.options);
        return !solve && solve.error().fault == Fault::input && solve.error().message.find(words) != std::string::npos;
    };
    known.options.distances = std::vector<KnownDistance>{{known.good[0], 999999, 1, 0.01}};
    CHECK(refused("which is not there"));
    known.options.distances = std::vector<KnownDistance>{{known.good[0], known.good[0], 1, 0.01}};
    CHECK(refused("to itself"));
    known.options.distances = std::vector<KnownDistance>{{known.good[0], known.good[1], -1, 0.01}};
    CHECK(refused("above 0"));
    known.options.distances = std::vector<KnownDistance>{{known.good[0], known.good[1], 1, 0}};
    CHECK(refused("above 0"));
    known.options.distances = {};
    known.options.places = std::vector<KnownPlace>{{known.good[0], {0, 0, 0}, 0.01}, {known.good[0], {1, 0, 0}, 0.01}};
    CHECK(refused("two known places"));
    // A camera that only turns has no scale.
    ShotPlan plan = drawPlan("nodal", 4);
    plan.frames = 40;
    plan.tracks = 150;
    const MadeShot pan = make(plan);
    SolveOptions options = optionsFor(pan, Knowledge::unknown);
    options.distances = std::vector<KnownDistance>{{pan.tracks[0].id, pan.tracks[1].id, 2, 0.01}};
    const auto solve = solveCamera(pan.tracks, options);
    REQUIRE(solve);
    CHECK(solve->doubt.find("has no scale") != std::string::npos);
}
