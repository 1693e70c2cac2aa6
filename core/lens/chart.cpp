#include "lens/chart.h"

#include "base/median.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

namespace pinion {
namespace {

using Eigen::Vector2d;

// A view this much worse than the middle one, and by more than half a pixel, shows something else: a bent board, a
// blur.
constexpr double kPoor = 2.5, kPoor_px = 0.5;

cv::Mat greyOf(const Picture& picture) {
    const ImageChannel plane = analysisPlane(picture);
    cv::Mat grey(plane.height, plane.width, CV_8U);
    for (int y = 0; y < plane.height; ++y)
        for (int x = 0; x < plane.width; ++x)
            grey.at<std::uint8_t>(y, x) = cv::saturate_cast<std::uint8_t>(plane.row(y)[x]);
    return grey;
}

/// Pixels between neighbouring corners where they are nearest: a window of the refinement must not reach the next one.
double leastSpacing(const std::vector<cv::Point2f>& corners, const Chart& chart) {
    double least = 1e9;
    for (int row = 0; row < chart.rows; ++row)
        for (int column = 0; column + 1 < chart.columns; ++column) {
            const auto at = std::size_t(row * chart.columns + column);
            least = std::min(least, cv::norm(corners[at + 1] - corners[at]));
        }
    for (std::size_t i = 0; i + std::size_t(chart.columns) < corners.size(); ++i)
        least = std::min(least, cv::norm(corners[i + std::size_t(chart.columns)] - corners[i]));
    return least;
}

struct Calibration {
    cv::Matx33d camera;
    std::vector<double> distortion;  ///< k1, k2, p1, p2, k3
    cv::Mat deviations;              ///< fx, fy, cx, cy, k1, k2, p1, p2, k3, ...
    std::vector<cv::Mat> turns;
    cv::Mat viewErrors;
    double squares = 0;
    int flags = 0;
};

class Calibrating {
public:
    Calibrating(const Chart& chart, cv::Size size) : size_(size) {
        for (int row = 0; row < chart.rows; ++row)
            for (int column = 0; column < chart.columns; ++column)
                board_.emplace_back(float(column * chart.square), float(row * chart.square), 0.F);
    }

    Expected<Calibration> with(const std::vector<const ChartView*>& views, int flags) const {
        std::vector<std::vector<cv::Point2f>> seen;
        for (const ChartView* view : views) {
            // OpenCV counts from the centre of the first pixel, half a pixel from our corner.
            std::vector<cv::Point2f> corners;
            for (const Vector2d& p : view->corners) corners.emplace_back(float(p.x() - 0.5), float(p.y() - 0.5));
            seen.push_back(std::move(corners));
        }
        Calibration found;
        found.flags = flags;
        try {
            const std::vector<std::vector<cv::Point3f>> boards(views.size(), board_);
            cv::Mat camera, distortion, shifts, poses;
            found.camera = cv::Matx33d::eye();
            const double rms =
                cv::calibrateCamera(boards, seen, size_, camera, distortion, found.turns, shifts, found.deviations,
                                    poses, found.viewErrors, flags | cv::CALIB_FIX_ASPECT_RATIO,
                                    cv::TermCriteria(cv::TermCriteria::COUNT + cv::TermCriteria::EPS, 100, 1e-10));
            found.camera = camera;
            for (int i = 0; i < 5; ++i)
                found.distortion.push_back(i < int(distortion.total()) ? distortion.at<double>(i) : 0.0);
            found.squares = rms * rms * double(views.size() * board_.size());
        } catch (const cv::Exception&) {
            return failure(Fault::outcome, "no lens explains these views; are the chart's rows and columns right?");
        }
        return found;
    }

    /// As many terms as the views support.
    Expected<Calibration> best(const std::vector<const ChartView*>& views) const {
        auto found = with(views, cv::CALIB_ZERO_TANGENT_DIST | cv::CALIB_FIX_K3);
        if (!found) return found;
        const double variance = found->squares / std::max(1.0, 2.0 * double(views.size() * board_.size()));
        for (const int next : {int(cv::CALIB_FIX_K3), 0}) {
            auto richer = with(views, next);
            if (!richer || found->squares - richer->squares < 11.8 * variance) continue;
            found = std::move(richer);
        }
        return found;
    }

private:
    cv::Size size_;
    std::vector<cv::Point3f> board_;
};

/// The largest angle between two of the boards, degrees.
double spreadOf(const std::vector<cv::Mat>& turns) {
    std::vector<cv::Vec3d> normals;
    for (const cv::Mat& turn : turns) {
        cv::Mat rotation;
        cv::Rodrigues(turn, rotation);
        normals.emplace_back(rotation.at<double>(0, 2), rotation.at<double>(1, 2), rotation.at<double>(2, 2));
    }
    double widest = 0;
    for (const auto& a : normals)
        for (const auto& b : normals)
            widest = std::max(widest, std::acos(std::clamp(std::abs(a.dot(b)), 0.0, 1.0)) * 180 / CV_PI);
    return widest;
}

std::vector<const ChartView*> usedOf(const std::vector<ChartView>& views) {
    std::vector<const ChartView*> used;
    for (const ChartView& view : views)
        if (view.used) used.push_back(&view);
    return used;
}

/// Notes the errors of the views; sets the worst aside. True when one more round is needed.
bool sortOut(std::vector<ChartView>& views, const Calibration& found) {
    std::vector<double> errors;
    int row = 0;
    for (ChartView& view : views)
        if (view.used) errors.push_back(view.rms_px = found.viewErrors.at<double>(row++));
    const double limit = std::max(kPoor_px, kPoor * median(errors));
    ChartView* worst = nullptr;
    for (ChartView& view : views)
        if (view.used && view.rms_px > limit && (!worst || view.rms_px > worst->rms_px)) worst = &view;
    if (!worst || errors.size() <= 3) return false;
    worst->used = false;
    worst->trouble = fmt::format("set aside: its error is {:.2f} px, that of the others about {:.2f} px", worst->rms_px,
                                 median(errors));
    return true;
}

}  // namespace

std::vector<Vector2d> chartCorners(const Picture& picture, const Chart& chart) {
    const cv::Mat grey = greyOf(picture);
    const cv::Size size(chart.columns, chart.rows);
    std::vector<cv::Point2f> corners;
    try {
        // The one finds more boards and mistakes fewer, the other one's gradients are the surer place.
        const int looks = cv::CALIB_CB_NORMALIZE_IMAGE | cv::CALIB_CB_EXHAUSTIVE | cv::CALIB_CB_ACCURACY;
        if (!cv::findChessboardCornersSB(grey, size, corners, looks) && !cv::findChessboardCorners(grey, size, corners))
            return {};
        const int half = std::clamp(int(0.3 * leastSpacing(corners, chart)), 2, 11);
        cv::cornerSubPix(grey, corners, {half, half}, {-1, -1},
                         cv::TermCriteria(cv::TermCriteria::EPS + cv::TermCriteria::COUNT, 60, 0.001));
    } catch (const cv::Exception&) {
        return {};  // a picture too small to hold such a board
    }
    std::vector<Vector2d> places;
    for (const auto& corner : corners) places.emplace_back(corner.x + 0.5, corner.y + 0.5);
    return places;
}

Expected<ChartLens> lensFromChart(std::vector<ChartView> views, const Chart& chart, int width, int height) {
    if (chart.columns < 3 || chart.rows < 3 || !(chart.square > 0))
        return failure(Fault::input, "a chart of {}x{} inner corners with squares of {} is none that can be measured",
                       chart.columns, chart.rows, chart.square);
    for (ChartView& view : views) {
        if (view.corners.size() == std::size_t(chart.columns) * std::size_t(chart.rows)) continue;
        view.used = false;
        if (view.trouble.empty())
            view.trouble = fmt::format("no board of {}x{} inner corners was found", chart.columns, chart.rows);
    }
    const Calibrating calibrating(chart, {width, height});
    Expected<Calibration> found = failure(Fault::outcome, "");
    for (bool again = true; again;) {
        const auto used = usedOf(views);
        if (used.empty())
            return failure(Fault::outcome,
                           "no board of {}x{} inner corners was found in any of {} pictures; give the number of inner "
                           "corners, across and down",
                           chart.columns, chart.rows, views.size());
        if (used.size() < 3)
            return failure(Fault::outcome,
                           "{} of {} pictures show{} the board; three or more, from different sides, tell the focal "
                           "length (or draw lines along its rows)",
                           used.size(), views.size(), used.size() == 1 ? "s" : "");
        found = calibrating.best(used);
        if (!found) return tl::unexpected(found.error());
        again = sortOut(views, *found);
    }
    const double focal = found->camera(1, 1);
    const double focalDeviation = found->deviations.at<double>(1);  // the one that is free
    if (const double spread = spreadOf(found->turns); spread < 5 || !(focalDeviation < 0.1 * focal))
        return failure(
            Fault::outcome,
            "all views are alike (turned by {:.0f} degrees at most): they do not tell the focal length; turn "
            "the board by 20 degrees and more between them",
            spread);
    ChartLens result;
    result.views = std::move(views);
    Lens lens = pinholeLens(width, height, focal);
    lens.cx = found->camera(0, 2) + 0.5;
    lens.cy = found->camera(1, 2) + 0.5;
    lens.k1 = found->distortion[0];
    lens.k2 = found->distortion[1];
    lens.p1 = found->distortion[2];
    lens.p2 = found->distortion[3];
    lens.k3 = found->distortion[4];
    if (const auto sound = checkLens(lens); !sound)
        return failure(Fault::outcome, "{}; take pictures with the board in the corners of the frame",
                       sound.error().message);
    result.lens = lens;
    result.rms_px =
        std::sqrt(found->squares / double(usedOf(result.views).size() * std::size_t(chart.columns * chart.rows)));
    result.deviations.focal_px = focalDeviation;
    result.deviations.axis_px = {found->deviations.at<double>(2), found->deviations.at<double>(3)};
    result.deviations.k1 = found->deviations.at<double>(4);
    result.deviations.k2 = found->deviations.at<double>(5);
    result.deviations.k3 = (found->flags & cv::CALIB_FIX_K3) != 0 ? 0 : found->deviations.at<double>(8);
    result.terms = "k1, k2";
    if ((found->flags & cv::CALIB_ZERO_TANGENT_DIST) == 0) result.terms += ", p1, p2";
    if ((found->flags & cv::CALIB_FIX_K3) == 0) result.terms += ", k3";
    return result;
}

}  // namespace pinion
