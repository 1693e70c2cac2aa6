#include "planes/rivals.h"

#include "benches.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>

namespace pinion::planes {
namespace {

using Eigen::Vector2d;

cv::Mat greyOf(const Plate& plate, int frame) {
    const PicturePtr picture = *plate.read(frame);
    cv::Mat grey(picture->height, picture->width, CV_8U);
    for (int y = 0; y < grey.rows; ++y)
        for (int x = 0; x < grey.cols; ++x)
            grey.at<std::uint8_t>(y, x) =
                picture->bytes[3 * (std::size_t(y) * std::size_t(grey.cols) + std::size_t(x))];
    return grey;
}

Quad carriedBy(const cv::Mat& h, const Quad& corners) {
    Quad result;
    for (std::size_t i = 0; i < 4; ++i) {
        const double x = corners[i].x() - 0.5, y = corners[i].y() - 0.5;
        const double w = h.at<double>(2, 0) * x + h.at<double>(2, 1) * y + h.at<double>(2, 2);
        result[i] = {(h.at<double>(0, 0) * x + h.at<double>(0, 1) * y + h.at<double>(0, 2)) / w + 0.5,
                     (h.at<double>(1, 0) * x + h.at<double>(1, 1) * y + h.at<double>(1, 2)) / w + 0.5};
    }
    return result;
}

cv::Rect boxOfSurface(const PlaneCase& c, const Quad& corners) {
    double left = 1e9, top = 1e9, right = 0, bottom = 0;
    for (const Vector2d& p : corners) {
        left = std::min(left, p.x());
        top = std::min(top, p.y());
        right = std::max(right, p.x());
        bottom = std::max(bottom, p.y());
    }
    const cv::Rect box(int(left) + 2, int(top) + 2, int(right - left) - 4, int(bottom - top) - 4);
    return box & cv::Rect(0, 0, c.width, c.height);
}

}  // namespace

Rival byEcc(const PlaneCase& c, const Plate& plate) {
    Rival rival;
    const int reference = (c.frames - 1) / 2;
    const Quad corners = cornersAt(c, reference);
    const cv::Rect box = boxOfSurface(c, corners);
    const cv::Mat pattern = greyOf(plate, reference)(box).clone();
    cv::Mat toPattern = cv::Mat::eye(3, 3, CV_64F);
    toPattern.at<double>(0, 2) = -box.x;
    toPattern.at<double>(1, 2) = -box.y;
    for (const int step : {1, -1}) {
        cv::Mat warp = cv::Mat::eye(3, 3, CV_32F);
        warp.at<float>(0, 2) = float(box.x);
        warp.at<float>(1, 2) = float(box.y);
        for (int frame = reference; frame >= 0 && frame < c.frames; frame += step) {
            const cv::Mat grey = greyOf(plate, frame);
            const double before = bench::now();
            try {
                cv::findTransformECC(pattern, grey, warp, cv::MOTION_HOMOGRAPHY,
                                     {cv::TermCriteria::COUNT + cv::TermCriteria::EPS, 50, 1e-4}, cv::noArray(), 5);
            } catch (const cv::Exception&) {
                rival.seconds += bench::now() - before;
                break;  // it did not converge: the track ends
            }
            rival.seconds += bench::now() - before;
            cv::Mat exact;
            warp.convertTo(exact, CV_64F);
            rival.corners[frame] = carriedBy(exact * toPattern, corners);
        }
    }
    return rival;
}

Rival byChain(const PlaneCase& c, const Plate& plate) {
    Rival rival;
    const int reference = (c.frames - 1) / 2;
    const Quad corners = cornersAt(c, reference);
    for (const int step : {1, -1}) {
        cv::Mat last = greyOf(plate, reference), chained = cv::Mat::eye(3, 3, CV_64F);
        rival.corners[reference] = corners;
        for (int frame = reference + step; frame >= 0 && frame < c.frames; frame += step) {
            const cv::Mat grey = greyOf(plate, frame);
            const double before = bench::now();
            cv::Mat mask = cv::Mat::zeros(last.size(), CV_8U);
            std::vector<cv::Point> outline;
            for (const Vector2d& p : carriedBy(chained, corners)) outline.emplace_back(int(p.x()), int(p.y()));
            cv::fillConvexPoly(mask, outline, 255);
            std::vector<cv::Point2f> from, to, a, b;
            cv::goodFeaturesToTrack(last, from, 200, 0.01, 5, mask);
            bool found = false;
            if (from.size() >= 6) {
                std::vector<unsigned char> status;
                std::vector<float> errors;
                cv::calcOpticalFlowPyrLK(last, grey, from, to, status, errors, {15, 15}, 3);
                for (std::size_t i = 0; i < from.size(); ++i)
                    if (status[i]) {
                        a.push_back(from[i]);
                        b.push_back(to[i]);
                    }
                if (a.size() >= 6) {
                    const cv::Mat h = cv::findHomography(a, b, cv::RANSAC, 1.5);
                    if (!h.empty()) {
                        chained = h * chained;
                        found = true;
                    }
                }
            }
            rival.seconds += bench::now() - before;
            if (!found) break;
            rival.corners[frame] = carriedBy(chained, corners);
            last = grey;
        }
    }
    return rival;
}

}  // namespace pinion::planes
