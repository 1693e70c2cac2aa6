#include "benches.h"
#include "comp/render.h"
#include "holds.h"
#include "steady/shake.h"
#include "track/tracking.h"

#include <Eigen/LU>
#include <filesystem>
#include <functional>

namespace pinion::bench {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

std::optional<Vector2d> seenBy(const Lens& lens, const Eigen::Isometry3d& worldFromCamera,
                               const Eigen::Vector3d& place) {
    const Eigen::Vector3d seen = worldFromCamera.inverse() * place;
    if (seen.z() > -0.05) return std::nullopt;
    return plateFromPlane(lens, {seen.x() / -seen.z(), seen.y() / seen.z()});
}

/// How far the truth points wander, shown through the maps, about their mean offset from `wanted`.
double wander(const Truth& truth, const std::vector<FrameMap>& maps,
              const std::function<std::optional<Vector2d>(const Truth::Point&, int frame)>& wanted) {
    double squares = 0, count = 0;
    for (const auto& point : truth.points) {
        std::vector<Vector2d> offsets;
        Vector2d mean(0, 0);
        for (const FrameMap& map : maps) {
            const auto at = point.visible.find(map.frame);
            const auto goal = wanted(point, map.frame);
            if (at == point.visible.end() || !goal) continue;
            offsets.push_back((map.sourceFromOutput.inverse() * at->second.homogeneous()).hnormalized() - *goal);
            mean += offsets.back();
        }
        if (offsets.size() < maps.size() / 2) continue;
        mean /= double(offsets.size());
        for (const Vector2d& offset : offsets) {
            squares += (offset - mean).squaredNorm();
            ++count;
        }
    }
    return count > 0 ? std::sqrt(squares / count) : 0;
}

}  // namespace

void benchSteady(const std::filesystem::path& folder) {
    const auto plate = Plate::open(folder / "mooring.mp4");
    const auto truth = readTruth(folder / "mooring.truth.json");
    if (!plate || !truth) {
        fmt::print("steady: {}\n", !plate ? plate.error().message : truth.error().message);
        return;
    }
    const PlateFacts& facts = (*plate)->facts();
    FrameCache frames(*plate);
    ScatterOptions options;
    options.motion = MotionModel::similarity;
    options.range = {facts.firstFrame, facts.lastFrame};
    options.startFrame = facts.firstFrame;
    const auto scattered = scatter(frames, options);
    if (!scattered) return;
    double before = now();
    const auto motion = pictureMotionOf(scattered->tracks, facts.firstFrame, options.range);
    const double seconds = now() - before;
    std::vector<Track> exact;
    for (const auto& point : truth->points) {
        std::vector<Sample> samples;
        for (const auto& [frame, at] : point.visible) samples.push_back({.frame = frame, .at = at});
        if (samples.empty()) continue;
        Track track;
        track.samples = List<Sample>(std::move(samples));
        exact.push_back(std::move(track));
    }
    const auto known = pictureMotionOf(exact, facts.firstFrame, options.range);
    if (!motion || !known) {
        fmt::print("steady: {}\n", !motion ? motion.error().message : known.error().message);
        return;
    }
    fmt::print("mooring: the picture's motion from {} tracks in {:.2f} s; {}\n", scattered->tracks.size(), seconds,
               motion->reason);
    SteadyOptions hold;
    hold.fit = SteadyOptions::Fit::none;
    const auto still = [&](const Truth::Point& point, int) {
        return std::optional<Vector2d>(point.visible.begin()->second);
    };
    const auto jitter = [&](const PlateMotion& m) {
        return wander(*truth, planSteady(m, facts.width, facts.height, hold)->frames, still);
    };
    std::vector<FrameMap> bare;
    for (const FrameMotion& frame : motion->frames) bare.push_back({frame.frame, Matrix3d::Identity()});
    fmt::print("  hold: truth points wander {:.3f} px RMS; by the truth itself {:.3f} px; as shot {:.2f} px\n",
               jitter(*motion), jitter(*known), wander(*truth, bare, still));
    for (const PictureModel model : {PictureModel::position, PictureModel::similarity, PictureModel::perspective})
        if (const auto asked = pictureMotionOf(scattered->tracks, facts.firstFrame, options.range, model))
            fmt::print("  hold by {}: {:.3f} px\n", toString(asked->kind), jitter(*asked));
    // The intended path: what a camera without unrest would have seen of the same points.
    const auto intended = [&](const Truth::Point& point, int frame) {
        return seenBy(truth->lens, truth->intended.at(frame), point.xyz);
    };
    fmt::print("  as shot, the picture leaves the intended move by {:.2f} px RMS\n", wander(*truth, bare, intended));
    for (const double smooth : {8.0, 16.0, 24.0}) {
        SteadyOptions ease = hold;
        ease.mode = SteadyOptions::Mode::ease;
        ease.smooth_frames = smooth;
        const auto plan = planSteady(*motion, facts.width, facts.height, ease);
        ease.fit = SteadyOptions::Fit::fill;
        fmt::print("  ease, soft {:.0f} frames: {:.2f} px RMS from it, zoom {:.1f} %\n", smooth,
                   wander(*truth, plan->frames, intended),
                   (planSteady(*motion, facts.width, facts.height, ease)->zoom - 1) * 100);
    }
    for (const double leeway : {0.02, 0.04}) {
        SteadyOptions ease = hold;
        ease.mode = SteadyOptions::Mode::ease;
        ease.smoother = SteadyOptions::Smoother::l1;
        ease.leeway = leeway;
        before = now();
        const auto plan = planSteady(*motion, facts.width, facts.height, ease);
        const double taken = now() - before;
        ease.fit = SteadyOptions::Fit::fill;
        fmt::print("  ease, even path within {:.0f} %: {:.2f} px RMS from it, zoom {:.1f} %, {:.2f} s\n", leeway * 100,
                   wander(*truth, plan->frames, intended),
                   (planSteady(*motion, facts.width, facts.height, ease)->zoom - 1) * 100, taken);
    }
}

void benchHolds() {
    fmt::print("holding made-up shots still: RMS jitter of true points, px\n");
    for (const char* scene : {"far", "near", "deep"})
        for (const double focal : {24.0, 42.0, 85.0}) {
            double sums[4] = {0, 0, 0, 0}, seconds = 0;
            int perspectives = 0;
            constexpr int kSeeds = 5;
            for (unsigned seed = 1; seed <= kSeeds; ++seed) {
                const ShakenShot shot = shakenShot(scene, seed, focal);
                const FrameRange range{0, shot.frames - 1};
                const double before = now();
                const auto found = pictureMotionOf(shot.tracks, 0, range);
                seconds += now() - before;
                const auto similar = pictureMotionOf(shot.tracks, 0, range, PictureModel::similarity);
                const auto turned = pictureMotionOf(shot.tracks, 0, range, PictureModel::perspective);
                if (!found || !similar || !turned) {
                    fmt::print("  {}: {}\n", scene, !turned ? turned.error().message : "no motion");
                    continue;
                }
                perspectives += found->kind == MotionKind::perspective;
                sums[0] += std::pow(shot.jitter(*similar), 2) / kSeeds;
                sums[1] += std::pow(shot.jitter(*turned), 2) / kSeeds;
                sums[2] += std::pow(shot.jitter(*found), 2) / kSeeds;
                sums[3] += std::pow(shot.jitter(shot.undoneByTruth()), 2) / kSeeds;
            }
            fmt::print(
                "  {:<5} {:3.0f} mm: similarity {:.3f}, perspective {:.3f}, found out {:.3f} (perspective {} of {}), "
                "undone by the truth {:.3f}; {:.2f} s each\n",
                scene, focal, std::sqrt(sums[0]), std::sqrt(sums[1]), std::sqrt(sums[2]), perspectives, kSeeds,
                std::sqrt(sums[3]), seconds / kSeeds);
        }
}

void benchRender() {
    Picture picture{1920, 1080, Picture::Depth::bits8, false, std::vector<std::uint8_t>(1920 * 1080 * 3), {}};
    for (std::size_t i = 0; i < picture.bytes.size(); ++i) picture.bytes[i] = std::uint8_t((i * 2654435761U) >> 24);
    const Matrix3d map = MotionParts{{11.3, -7.7}, 0.01, 0.96}.about({960, 540});
    fmt::print("warping 1920x1080, 8 bits\n");
    for (const ResampleFilter filter : {ResampleFilter::bilinear, ResampleFilter::bicubic, ResampleFilter::lanczos}) {
        (void)warped(picture, map, filter);
        const double before = now();
        constexpr int kRounds = 10;
        for (int i = 0; i < kRounds; ++i) (void)warped(picture, map, filter);
        const double seconds = (now() - before) / kRounds;
        fmt::print("  {:<10} {:.1f} ms, {:.1f} frames/s\n", toString(filter), seconds * 1000, 1 / seconds);
    }
    // To files, from a plate of pictures that all read the same.
    class Still final : public Plate {
    public:
        explicit Still(const Picture& p) : picture_(std::make_shared<const Picture>(p)) {
            facts_.width = p.width;
            facts_.height = p.height;
            facts_.firstFrame = 1;
            facts_.lastFrame = 24;
        }
        Expected<PicturePtr> read(int) const override { return picture_; }

    private:
        PicturePtr picture_;
    };
    // Noise does not compress: a smooth picture stands for a plate.
    for (int y = 0; y < picture.height; ++y)
        for (int x = 0; x < picture.width * 3; ++x) {
            auto& value = picture.bytes[std::size_t(y) * std::size_t(picture.width) * 3 + std::size_t(x)];
            value = std::uint8_t(128 + 80 * std::sin(0.01 * x) * std::cos(0.02 * y) + value / 32);
        }
    FrameCache frames(std::make_shared<Still>(picture));
    std::vector<FrameMap> maps;
    for (int frame = 1; frame <= 24; ++frame) maps.push_back({frame, map});
    const std::filesystem::path folder = std::filesystem::temp_directory_path() / "pinion-bench-render";
    for (const char* name : {"out.####.exr", "out.####.png", "out.####.tif", "out.mp4"}) {
        const double before = now();
        const auto report = renderFrames(frames, maps, folder / name);
        if (report) fmt::print("  rendered to {:<14} {:.1f} frames/s\n", name, 24 / (now() - before));
        else fmt::print("  {}\n", report.error().message);
    }
    std::filesystem::remove_all(folder);
}

}  // namespace pinion::bench
