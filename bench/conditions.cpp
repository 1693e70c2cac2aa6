#include "benches.h"
#include "comp/warp.h"
#include "steady/motion.h"
#include "track/candidates.h"
#include "track/tracking.h"

#include <Eigen/LU>
#include <OpenImageIO/imageio.h>
#include <functional>
#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>
#include <random>

namespace pinion::bench {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

const std::string kFolder = "/usr/share/doc/opencv-doc/examples/data/";
constexpr int kFrames = 40;

Picture photograph(const std::string& name) {
    Picture picture;
    const auto input = OIIO::ImageInput::open(kFolder + name);
    if (!input) return picture;
    const OIIO::ImageSpec spec = input->spec();
    picture = {spec.width,
               spec.height,
               Picture::Depth::bits8,
               false,
               std::vector<std::uint8_t>(std::size_t(spec.width) * std::size_t(spec.height) * 3),
               {}};
    if (!input->read_image(0, 0, 0, 3, OIIO::TypeDesc::UINT8, picture.bytes.data())) picture.width = 0;
    return picture;
}

/// How the photograph lies in a frame: a hand's wander, plus what the condition adds.
Matrix3d plateFromPhotograph(double frame, double growth) {
    const double t = frame / (kFrames - 1);
    MotionParts parts{{9 * std::sin(0.31 * frame) + 14 * t, 6 * std::sin(0.23 * frame + 1) - 6 * std::sin(1.0)},
                      0.05 * std::sin(0.14 * frame),
                      std::pow(growth, t)};
    Matrix3d m = parts.about({400, 320});
    Matrix3d tilt = Matrix3d::Identity();
    tilt(2, 0) = 6e-5 * std::sin(0.1 * frame);
    tilt(2, 1) = -4e-5 * std::sin(0.13 * frame);
    return m * tilt;
}

struct Condition {
    const char* name;
    double growth = 1.0;
    double shutter = 0.0;  ///< frames
    double grain = 0.0;    ///< grey levels
    bool light = false;
    bool cover = false;  ///< a striped bar over a third of every pattern for some frames
};

class MovedPhotograph final : public Plate {
public:
    MovedPhotograph(const Picture& still, const Condition& condition, std::vector<Vector2d> points)
        : still_(still), condition_(condition), points_(std::move(points)) {
        facts_.path = condition.name;
        facts_.width = still.width;
        facts_.height = still.height;
        facts_.firstFrame = 0;
        facts_.lastFrame = kFrames - 1;
    }
    Expected<PicturePtr> read(int frame) const override {
        const int steps = condition_.shutter > 0 ? 9 : 1;
        std::vector<float> sum(still_.bytes.size(), 0.0F);
        for (int step = 0; step < steps; ++step) {
            const double at = frame + condition_.shutter * ((step + 0.5) / steps - 0.5);
            const Picture part = warped(still_, plateFromPhotograph(at, condition_.growth).inverse(),
                                        ResampleFilter::lanczos, EdgeMode::mirrored);
            for (std::size_t i = 0; i < sum.size(); ++i) sum[i] += float(part.bytes[i]) / float(steps);
        }
        std::mt19937 random(static_cast<unsigned>(frame) + 1);
        std::normal_distribution<float> noise(0, 1);
        const float gain = condition_.light ? float(1 - 0.35 * std::sin(0.4 * frame)) : 1.0F;
        const float offset = condition_.light ? float(12 * std::sin(0.9 * frame)) : 0.0F;
        auto picture = std::make_shared<Picture>(still_);
        for (std::size_t i = 0; i < sum.size(); ++i) {
            const float grain = condition_.grain > 0 ? float(condition_.grain) * noise(random) : 0.0F;
            picture->bytes[i] = std::uint8_t(std::clamp(gain * sum[i] + offset + grain + 0.5F, 0.0F, 255.0F));
        }
        if (condition_.cover && frame >= 12 && frame < 24)
            for (const Vector2d& point : points_) {
                const Vector2d centre =
                    (plateFromPhotograph(frame, condition_.growth) * point.homogeneous()).hnormalized();
                // The bar comes in from the right, over up to seven of the pattern's 21 columns, and goes again.
                const int left = int(centre.x() + 10.5 - std::min(7, std::min(frame - 11, 24 - frame) * 2));
                for (int y = int(centre.y()) - 16; y < int(centre.y()) + 16; ++y)
                    for (int x = left; x < left + 24; ++x)
                        if (x >= 0 && y >= 0 && x < picture->width && y < picture->height)
                            for (std::size_t c = 0; c < 3; ++c)
                                picture
                                    ->bytes[(std::size_t(y) * std::size_t(picture->width) + std::size_t(x)) * 3 + c] =
                                    std::uint8_t((x + y) / 4 % 2 ? 200 : 60);
            }
        return picture;
    }

private:
    const Picture& still_;
    Condition condition_;
    std::vector<Vector2d> points_;
};

struct Answer {
    Errors all;
    Errors drift;  ///< on the last frame
    double seconds = 0;
    std::size_t possible = 0;
};

void print(const char* name, Answer answer) {
    fmt::print(
        "   {:<30} tracked {:5.1f} %   median {:.3f}   RMS {:7.3f}   drift at the end {:.3f} px   {:6.0f} patterns/s\n",
        name, 100.0 * double(answer.all.values.size()) / double(answer.possible), answer.all.at(0.5), answer.all.rms(),
        answer.drift.at(0.5), answer.seconds > 0 ? double(answer.all.values.size()) / answer.seconds : 0.0);
}

using Seen = std::function<void(std::size_t point, int frame, const Vector2d& at)>;

void flow(FrameCache& frames, const std::vector<Vector2d>& points, const Seen& seen) {
    cv::Mat previous;
    std::vector<cv::Point2f> places;
    for (const Vector2d& p : points) places.emplace_back(float(p.x() - 0.5), float(p.y() - 0.5));
    std::vector<bool> alive(places.size(), true);
    for (int frame = 0; frame < kFrames; ++frame) {
        const auto picture = frames.get(frame);
        const cv::Mat colour((*picture)->height, (*picture)->width, CV_8UC3,
                             const_cast<std::uint8_t*>((*picture)->bytes.data()));
        cv::Mat grey;
        cv::cvtColor(colour, grey, cv::COLOR_RGB2GRAY);
        if (!previous.empty()) {
            std::vector<cv::Point2f> next;
            std::vector<unsigned char> status;
            std::vector<float> error;
            cv::calcOpticalFlowPyrLK(previous, grey, places, next, status, error, {21, 21}, 3);
            for (std::size_t i = 0; i < places.size(); ++i) alive[i] = alive[i] && status[i];
            places = next;
        }
        previous = grey;
        for (std::size_t i = 0; i < places.size(); ++i)
            if (alive[i]) seen(i, frame, {places[i].x + 0.5, places[i].y + 0.5});
    }
}

/// The first frame's patch looked for around the last place: whole pixels, then a parabola.
void matchTemplates(FrameCache& frames, const std::vector<Vector2d>& points, const Seen& seen) {
    std::vector<cv::Mat> patches;
    std::vector<Vector2d> places = points;
    std::vector<Vector2d> fraction(points.size());
    std::vector<bool> alive(points.size(), true);
    for (int frame = 0; frame < kFrames; ++frame) {
        const auto picture = frames.get(frame);
        const cv::Mat colour((*picture)->height, (*picture)->width, CV_8UC3,
                             const_cast<std::uint8_t*>((*picture)->bytes.data()));
        cv::Mat grey;
        cv::cvtColor(colour, grey, cv::COLOR_RGB2GRAY);
        for (std::size_t i = 0; i < points.size(); ++i) {
            if (!alive[i]) continue;
            const int cx = int(std::floor(places[i].x())), cy = int(std::floor(places[i].y()));
            if (frame == 0) {
                patches.push_back(grey(cv::Rect(cx - 10, cy - 10, 21, 21)).clone());
                fraction[i] = places[i] - Vector2d(cx + 0.5, cy + 0.5);
                seen(i, frame, places[i]);
                continue;
            }
            const cv::Rect window(cx - 30, cy - 30, 61, 61);
            if ((window & cv::Rect(0, 0, grey.cols, grey.rows)) != window) {
                alive[i] = false;
                continue;
            }
            cv::Mat scores;
            cv::matchTemplate(grey(window), patches[i], scores, cv::TM_CCOEFF_NORMED);
            cv::Point best;
            double score = 0;
            cv::minMaxLoc(scores, nullptr, &score, nullptr, &best);
            const auto peak = [&](int dx, int dy) {
                const int x = best.x, y = best.y;
                if (x - dx < 0 || y - dy < 0 || x + dx >= scores.cols || y + dy >= scores.rows) return 0.0;
                const double a = scores.at<float>(y - dy, x - dx), b = scores.at<float>(y, x),
                             c = scores.at<float>(y + dy, x + dx);
                return a - 2 * b + c < 0 ? 0.5 * (a - c) / (a - 2 * b + c) : 0.0;
            };
            places[i] = Vector2d(window.x + best.x + 10 + 0.5 + peak(1, 0), window.y + best.y + 10 + 0.5 + peak(0, 1)) +
                        fraction[i];
            if (score < 0.5) alive[i] = false;
            else seen(i, frame, places[i]);
        }
    }
}

void benchPublishedPair() {
    const Picture first = photograph("graf1.png"), second = photograph("graf3.png");
    if (first.isEmpty() || second.isEmpty()) return;
    // H1to3p.xml, published with the pictures; pixel centres at whole numbers there.
    const cv::FileStorage file(kFolder + "H1to3p.xml", cv::FileStorage::READ);
    cv::Mat values;
    file["H13"] >> values;
    if (values.rows != 3) return;
    Matrix3d published;
    for (int i = 0; i < 9; ++i) published(i / 3, i % 3) = values.at<double>(i / 3, i % 3);
    Matrix3d half = Matrix3d::Identity();
    half(0, 2) = half(1, 2) = 0.5;
    const Matrix3d map = half * published * half.inverse();
    const Pyramid a = buildPyramid(first), b = buildPyramid(second);
    CandidateOptions options;
    options.features = 300;
    options.leastDistance_px = 20;
    options.border_px = 60;
    fmt::print("OpenCV's published pair graf1/graf3 (H1to3p.xml), started 2.8 px off, 41 px patterns\n");
    for (const MotionModel motion : {MotionModel::affine, MotionModel::perspective}) {
        Errors errors;
        std::size_t tried = 0;
        for (const Candidate& candidate : findCandidates(a, options)) {
            const Vector2d to = (map * candidate.at.homogeneous()).hnormalized();
            if (to.x() < 60 || to.y() < 60 || to.x() > second.width - 60 || to.y() > second.height - 60) continue;
            const auto matcher = PatternMatcher::create(a, candidate.at, 41, motion);
            if (!matcher) continue;
            ++tried;
            // The published map's shape at the spot, moved by two pixels each way.
            Matrix3d origin = Matrix3d::Identity();
            origin.topRightCorner<2, 1>() = candidate.at;
            Matrix3d pose = map * origin;
            pose /= pose(2, 2);
            PatternPose start{pose};
            if (motion == MotionModel::affine) {
                const Matrix3d straight = partsOf(pose, {0, 0}).about({0, 0});
                Eigen::Matrix2d slope = pose.topLeftCorner<2, 2>() - to * pose.block<1, 2>(2, 0);
                start.plateFromPattern = straight;
                start.plateFromPattern.topLeftCorner<2, 2>() = slope;
                start.plateFromPattern.row(2) << 0, 0, 1;
                start.plateFromPattern.topRightCorner<2, 1>() = to;
            }
            const auto match = matcher->align(b, start.movedTo(to + Vector2d(2, -2)));
            if (match && match->score > 0.8) errors.values.push_back((match->pose.centre() - to).norm());
        }
        printErrors(fmt::format("{}, {} of {} settle", toString(motion), errors.values.size(), tried).c_str(), errors);
    }
}

}  // namespace

void benchConditions() {
    const Picture still = photograph("graf1.png");
    if (still.isEmpty()) {
        fmt::print("conditions: {}graf1.png is not there; install opencv-doc\n", kFolder);
        return;
    }
    CandidateOptions options;
    options.features = 60;
    options.leastDistance_px = 40;
    options.border_px = 90;
    std::vector<Vector2d> points;
    for (const Candidate& candidate : findCandidates(buildPyramid(still), options)) points.push_back(candidate.at);
    fmt::print("graf1.png moved by known homographies, {} points, {} frames, 21 px patterns\n", points.size(), kFrames);
    for (const Condition& condition :
         {Condition{"plain"}, Condition{.name = "motion blur, half a shutter", .shutter = 0.5},
          Condition{.name = "grain of 6 grey levels", .grain = 6},
          Condition{.name = "light: gain 0.65 to 1.35, offset 12", .light = true},
          Condition{.name = "scale 1 to 2", .growth = 2.0},
          Condition{.name = "a third covered for 12 frames", .cover = true}}) {
        const auto plate = std::make_shared<MovedPhotograph>(still, condition, points);
        FrameCache frames(plate);
        for (int frame = 0; frame < kFrames; ++frame) (void)frames.get(frame);  // made before anything is timed
        fmt::print("  {}\n", condition.name);
        const auto measured = [&](const std::function<void(const Seen&)>& run) {
            Answer answer;
            for (const Vector2d& point : points)
                for (int frame = 1; frame < kFrames; ++frame) {
                    const Vector2d at =
                        (plateFromPhotograph(frame, condition.growth) * point.homogeneous()).hnormalized();
                    answer.possible += at.x() > 0 && at.y() > 0 && at.x() < still.width && at.y() < still.height;
                }
            const double before = now();
            run([&](std::size_t i, int frame, const Vector2d& at) {
                if (frame == 0) return;
                const double error =
                    (at - (plateFromPhotograph(frame, condition.growth) * points[i].homogeneous()).hnormalized())
                        .norm();
                answer.all.values.push_back(error);
                if (frame == kFrames - 1) answer.drift.values.push_back(error);
            });
            answer.seconds = now() - before;
            return answer;
        };
        std::vector<Vector2d> starts;
        for (const Vector2d& point : points)
            starts.push_back((plateFromPhotograph(0, condition.growth) * point.homogeneous()).hnormalized());
        const auto ours = [&](MotionModel motion, bool pickUp) {
            return measured([&](const Seen& seen) {
                std::vector<Track> tracks;
                for (std::size_t i = 0; i < points.size(); ++i) {
                    Track placed;
                    placed.name = fmt::format("p-{}", i);
                    placed.motion = motion;
                    placed.driftLimit = 0.6;
                    placed.pickUp = pickUp;
                    placed.referenceFrame = 0;
                    placed.samples = List<Sample>({{.frame = 0, .at = starts[i], .tie = true}});
                    tracks.push_back(std::move(placed));
                }
                const auto result = trackPoints(frames, tracks, 0, {0, kFrames - 1}, Direction::forward);
                for (std::size_t i = 0; result && i < points.size(); ++i)
                    for (const Sample& sample : result->tracks[i].samples) seen(i, sample.frame, sample.at);
            });
        };
        for (const MotionModel motion :
             {MotionModel::translation, MotionModel::similarity, MotionModel::affine, MotionModel::perspective})
            print(fmt::format("Pinion, {}", toString(motion)).c_str(), ours(motion, false));
        if (condition.cover) print("Pinion, affine, picked up again", ours(MotionModel::affine, true));
        print("OpenCV Lucas-Kanade, chained", measured([&](const Seen& seen) { flow(frames, starts, seen); }));
        print("OpenCV template matching", measured([&](const Seen& seen) { matchTemplates(frames, starts, seen); }));
    }
    benchPublishedPair();
}

}  // namespace pinion::bench
