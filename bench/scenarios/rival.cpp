// Our adjustment against a general one: the same bundle, from the same start, by Ceres' sparse Schur solver.

#include "camera/bundle.h"
#include "scenarios/judge.h"

#include <CLI/CLI.hpp>
#include <ceres/ceres.h>
#include <ceres/rotation.h>
#include <chrono>
#include <fmt/core.h>
#include <random>
#include <sys/resource.h>

using namespace pinion;
using namespace pinion::bench;

namespace {

double now() { return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count(); }

long peakMiB() {
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    return usage.ru_maxrss / 1024;
}

/// The same model in Ceres' terms, differentiated by it: a camera (quaternion, shift), a homogeneous point, and the
/// lens (focal length, k1, k2, axis).
struct Reprojection {
    Eigen::Vector2d plate;

    template <class T>
    bool operator()(const T* rotation, const T* shift, const T* point, const T* lens, T* residual) const {
        T seen[3];
        ceres::UnitQuaternionRotatePoint(rotation, point, seen);
        for (int i = 0; i < 3; ++i) seen[i] += shift[i] * point[3];
        const T x = seen[0] / seen[2], y = seen[1] / seen[2], square = x * x + y * y;
        const T bent = T(1) + lens[1] * square + lens[2] * square * square;
        residual[0] = lens[0] * x * bent + lens[3] - T(plate.x());
        residual[1] = lens[0] * y * bent + lens[4] - T(plate.y());
        return true;
    }
};

/// The true bundle with everything a little off: what a solve has when the last adjustment begins.
Bundle disturbed(const MadeShot& shot) {
    Bundle bundle;
    bundle.lens = shot.lens;
    bundle.lens.focal_px *= 1.01;
    bundle.lens.k1 *= 0.8;
    std::mt19937 random(7);
    std::normal_distribution<double> unit(0, 1);
    for (std::size_t f = 0; f < shot.poses.size(); ++f) {
        Pose pose = shot.poses[f];
        const Eigen::Vector3d turn = 0.0005 * Eigen::Vector3d(unit(random), unit(random), unit(random));
        pose.rotation = Eigen::Quaterniond(Eigen::AngleAxisd(turn.norm(), turn.normalized())) * pose.rotation;
        pose.translation += 0.005 * Eigen::Vector3d(unit(random), unit(random), unit(random));
        bundle.cameras.push_back(pose);
        bundle.times.push_back(1001 + int(f));
    }
    for (std::size_t t = 0; t < shot.tracks.size(); ++t) {
        bundle.points.push_back(shot.truth[t].point.homogeneous().normalized());
        for (const Sample& sample : shot.tracks[t].samples)
            bundle.observations.push_back({sample.frame - 1001, int(t), sample.at});
    }
    return bundle;
}

/// Adjusts by Ceres; says how it went.
std::string adjustByCeres(Bundle& bundle, const BundleOptions& options, int threads) {
    ceres::Problem problem;
    double lens[5] = {bundle.lens.focal_px, bundle.lens.k1, bundle.lens.k2, bundle.lens.cx, bundle.lens.cy};
    struct Camera {
        double rotation[4], shift[3];
    };
    std::vector<Camera> cameras;
    for (const Pose& pose : bundle.cameras)
        cameras.push_back({{pose.rotation.w(), pose.rotation.x(), pose.rotation.y(), pose.rotation.z()},
                           {pose.translation.x(), pose.translation.y(), pose.translation.z()}});
    auto* ordering = new ceres::ParameterBlockOrdering;
    for (const Bundle::Observation& seen : bundle.observations) {
        Camera& camera = cameras[std::size_t(seen.camera)];
        problem.AddResidualBlock(
            new ceres::AutoDiffCostFunction<Reprojection, 2, 4, 3, 4, 5>(new Reprojection{seen.plate}),
            new ceres::CauchyLoss(options.robustWidth_px), camera.rotation, camera.shift,
            bundle.points[std::size_t(seen.point)].data(), lens);
    }
    for (Eigen::Vector4d& point : bundle.points)
        if (problem.HasParameterBlock(point.data())) {
            problem.SetManifold(point.data(), new ceres::SphereManifold<4>);
            ordering->AddElementToGroup(point.data(), 0);
        }
    for (Camera& camera : cameras) {
        problem.SetManifold(camera.rotation, new ceres::QuaternionManifold);
        ordering->AddElementToGroup(camera.rotation, 1);
        ordering->AddElementToGroup(camera.shift, 1);
    }
    ordering->AddElementToGroup(lens, 1);
    ceres::Solver::Options solver;
    solver.linear_solver_type = ceres::SPARSE_SCHUR;
    solver.linear_solver_ordering.reset(ordering);
    solver.num_threads = threads;
    solver.max_num_iterations = options.rounds;
    solver.function_tolerance = options.settled;
    ceres::Solver::Summary summary;
    ceres::Solve(solver, &problem, &summary);
    for (std::size_t i = 0; i < cameras.size(); ++i) {
        const double* q = cameras[i].rotation;
        bundle.cameras[i].rotation = Eigen::Quaterniond(q[0], q[1], q[2], q[3]);
        bundle.cameras[i].translation = Eigen::Map<const Eigen::Vector3d>(cameras[i].shift);
    }
    bundle.lens.focal_px = lens[0];
    bundle.lens.k1 = lens[1];
    bundle.lens.k2 = lens[2];
    bundle.lens.cx = lens[3];
    bundle.lens.cy = lens[4];
    return fmt::format("{} iterations", summary.iterations.size());
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{"Adjusts a made-up shot by ours and by Ceres' sparse Schur solver, from the same start."};
    std::string kind = "walk-400";
    unsigned seed = 5;
    int threads = 2;
    std::string only;
    app.add_option("--kind", kind, "kind of shot");
    app.add_option("--seed", seed);
    app.add_option("--threads", threads, "of Ceres; ours takes all");
    int rounds = 60;
    app.add_option("--rounds", rounds, "at most");
    app.add_option("--only", only, "ours or ceres: for the memory of one")->check(CLI::IsMember({"ours", "ceres"}));
    CLI11_PARSE(app, argc, argv);
    const MadeShot shot = make(drawPlan(kind, seed));
    BundleOptions options;
    options.free = {LensTerm::focal, LensTerm::k1, LensTerm::k2, LensTerm::cx, LensTerm::cy};
    options.robustWidth_px = 3 * shot.plan.noise_px;
    options.noise_px = shot.plan.noise_px;
    options.rounds = rounds;
    options.settled = 1e-7;
    const Bundle start = disturbed(shot);
    // Wide first, as the solve does: a loss as narrow as the tracks' noise takes everything for an outlier here.
    std::vector<BundleOptions> stages(2, options);
    stages.front().robustWidth_px = 10;
    stages.front().settled = 1e-3;
    fmt::print("{} {}: {} frames, {} tracks, {} samples; cost at the start {:.1f}\n", kind, seed, start.cameras.size(),
               start.points.size(), start.observations.size(), costOf(start, options));
    const auto report = [&](const char* name, double seconds, const Bundle& bundle, const std::string& more) {
        fmt::print("  {:6} {:6.2f} s, cost {:.3f}, focal {:.3f} px (true {:.3f}), peak memory so far {} MiB{}\n", name,
                   seconds, costOf(bundle, options), bundle.lens.focal_px, shot.lens.focal_px, peakMiB(), more);
    };
    if (only != "ceres") {
        Bundle ours = start;
        const double before = now();
        for (const BundleOptions& stage : stages) adjust(ours, stage);
        report("ours", now() - before, ours, "");
    }
    if (only != "ours") {
        Bundle theirs = start;
        const double before = now();
        std::string how;
        for (const BundleOptions& stage : stages)
            how += (how.empty() ? "" : " and ") + adjustByCeres(theirs, stage, threads);
        report("Ceres", now() - before, theirs, ", " + how);
    }
    return 0;
}
