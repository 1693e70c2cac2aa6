#include "benches.h"
#include "comp/warp.h"
#include "jobs/inserting.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/insertedits.h"

#include <filesystem>
#include <opencv2/core.hpp>
#include <opencv2/imgproc.hpp>

namespace pinion::bench {
namespace {

namespace fs = std::filesystem;
using Eigen::Vector2d;

constexpr int kWidth = 1920, kHeight = 1080, kFrames = 48;

/// The board plate at 1920x1080, as a video of its own.
fs::path largerPlate(const fs::path& folder, const fs::path& work) {
    const auto plate = Plate::open(folder / "board.mp4");
    if (!plate) return {};
    FrameCache frames(*plate);
    auto writer = FrameWriter::create(work / "plate.mp4", kWidth, kHeight, {24, 1});
    Eigen::Matrix3d smaller = Eigen::Matrix3d::Identity();
    smaller(0, 0) = smaller(1, 1) = 1280.0 / kWidth;
    for (int i = 0; i < kFrames; ++i) {
        const auto picture = frames.get(1030 + i);
        if (!picture || !(*writer)->write(1001 + i, warped(**picture, smaller, ResampleFilter::bicubic, EdgeMode::held,
                                                           kWidth, kHeight)))
            return {};
    }
    return (*writer)->finish() ? work / "plate.mp4" : fs::path();
}

/// A surface of about 520 x 360 pixels that goes by, `inserts` times beside itself.
Shot shotWith(const Plate& plate, int inserts, const fs::path& artwork, double shutter) {
    Shot shot;
    shot.name = "bench";
    shot.plate = plateRef(plate.facts());
    for (int k = 0; k < inserts; ++k) {
        PlanarTrack surface;
        surface.id = k + 1;
        surface.name = fmt::format("surface {}", k);
        surface.referenceFrame = 1001;
        const double x = inserts == 1 ? 700 : 40 + 190 * (k % 8), y = inserts == 1 ? 330 : 60 + 460 * (k / 8);
        const Quad corners{Vector2d(x, y), {x + 520, y + 20}, {x + 505, y + 370}, {x + 10, y + 355}};
        surface.outlines = std::vector<Polygon>{{corners.begin(), corners.end()}};
        std::vector<PlaneSample> samples;
        for (int frame = 1001; frame < 1001 + kFrames; ++frame) {
            PlaneSample sample{.frame = frame};
            sample.pose.matrix(0, 2) = 5.0 * (frame - 1001) * (k % 2 == 0 ? 1 : -1);
            samples.push_back(sample);
        }
        surface.samples = samples;
        surface.ties = std::vector<PlaneTie>{{1001, corners}};
        shot.planes = shot.planes.edited([&](auto& planes) { planes.push_back(surface); });
        Insert insert;
        shot = withClipAdded(shot, *clipOf(artwork), &insert.clip);
        insert.ride = rideOnPlane(surface.id);
        insert.shape.softEdge_px = 2;
        insert.shutter = shutter;
        shot = withInsertAdded(shot, insert, 1001);
    }
    return shot;
}

/// The same by OpenCV: warped (by its area filter where it has one for that: a smaller picture first) and blended,
/// where the art lies.
double rivalMilliseconds(const InsertScene& scene, FrameCache& frames, const fs::path& artwork) {
    const auto art = readStill(artwork);
    cv::Mat picture((*art)->height, (*art)->width, CV_8UC3, const_cast<std::uint8_t*>((*art)->bytes.data()));
    double sum = 0;
    for (int frame = 1001; frame < 1013; ++frame) {
        const auto plate = frames.get(frame);
        const double before = now();
        cv::Mat result(kHeight, kWidth, CV_8UC3, const_cast<std::uint8_t*>((*plate)->bytes.data()));
        result = result.clone();
        for (const InsertScene::One& one : scene.inserts) {
            const Quad quad = *one.surface->corners(one.insert.placing, frame);
            const double width = (quad[1] - quad[0]).norm();
            cv::Mat small, warpedArt, mask;
            const double scale = std::min(1.0, width / picture.cols);
            cv::resize(picture, small, {}, scale, scale, cv::INTER_AREA);
            const cv::Point2f from[4] = {
                {0, 0}, {float(small.cols), 0}, {float(small.cols), float(small.rows)}, {0, float(small.rows)}};
            cv::Point2f to[4];
            for (std::size_t i = 0; i < 4; ++i) to[i] = {float(quad[i].x()), float(quad[i].y())};
            // Only what the art covers, in 8 bits.
            cv::Rect box = cv::boundingRect(std::vector<cv::Point2f>(to, to + 4)) & cv::Rect(0, 0, kWidth, kHeight);
            for (cv::Point2f& corner : to) corner -= cv::Point2f(float(box.x), float(box.y));
            const cv::Mat map = cv::getPerspectiveTransform(from, to);
            cv::warpPerspective(small, warpedArt, map, box.size(), cv::INTER_LINEAR);
            cv::warpPerspective(cv::Mat(small.size(), CV_32F, cv::Scalar(1)), mask, map, box.size(), cv::INTER_LINEAR);
            cv::Mat part = result(box), blended;
            cv::blendLinear(warpedArt, part, mask, cv::Mat(1.0 - mask), blended);
            blended.copyTo(part);
        }
        sum += now() - before;
    }
    return 1000 * sum / 12;
}

}  // namespace

void benchInserts(const fs::path& folder) {
    const fs::path work = fs::temp_directory_path() / "pinion-bench-inserts",
                   artwork = folder.parent_path() / "timetable.png";
    fs::create_directories(work);
    const fs::path file = largerPlate(folder, work);
    if (file.empty()) {
        fmt::print("inserts: the plate could not be made\n");
        return;
    }
    const auto plate = Plate::open(file);
    fmt::print("inserts at {}x{}, 8 bits, the timetable on a surface of 520 x 360 pixels\n", kWidth, kHeight);
    for (const auto& [count, shutter] : {std::pair{1, 0.0}, {1, 0.5}, {10, 0.0}}) {
        const Shot shot = shotWith(**plate, count, artwork, shutter);
        const InsertScene scene = insertSceneOf(shot);
        FrameCache frames(*plate);
        ArtShelf shelf;
        for (int frame = 1001; frame < 1013; ++frame) (void)frames.get(frame);
        (void)composed(scene, 1001, **frames.get(1001), shelf);
        double before = now();
        for (int frame = 1001; frame < 1013; ++frame) (void)composed(scene, frame, **frames.get(frame), shelf);
        const double made = 1000 * (now() - before) / 12;
        before = now();
        for (int frame = 1001; frame < 1013; ++frame)
            (void)displayPixels(composed(scene, frame, **frames.get(frame), shelf));
        const double shown = 1000 * (now() - before) / 12;
        const double rival = shutter > 0 ? 0 : rivalMilliseconds(scene, frames, artwork);
        const auto rate = [&](const char* name) {
            FrameCache fresh(*plate);
            const double start = now();
            const auto report = runInserts(shot, fresh, shelf, work / name, false);
            return report ? report->render.frames / (now() - start) : 0.0;
        };
        fmt::print("  {} insert{}, shutter {}: composed in {:.1f} ms", count, count == 1 ? "" : "s", shutter, made);
        if (rival > 0) fmt::print(" (OpenCV, reduced by area, warped and blended: {:.1f} ms)", rival);
        fmt::print(", for the screen {:.1f} ms; rendered to H.264 {:.1f}, to PNG {:.1f}, to EXR {:.1f} frames/s\n",
                   shown, rate("o.mp4"), rate("o.####.png"), rate("o.####.exr"));
    }
    std::error_code code;
    fs::remove_all(work, code);
}

}  // namespace pinion::bench
