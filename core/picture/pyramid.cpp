#include "picture/pyramid.h"

#include <opencv2/imgproc.hpp>

namespace pinion {
namespace {

void applyFilter(cv::Mat& base, PreFilter filter) {
    if (filter == PreFilter::denoise) {
        // Bilateral (Tomasi and Manduchi 1998): grain goes, edges stay where they are.
        cv::Mat quiet;
        cv::bilateralFilter(base, quiet, 5, 18.0, 1.8);
        quiet.copyTo(base);
    } else if (filter == PreFilter::localContrast) {
        // Minus the local mean, over the local deviation; the floor keeps flat places from being all grain.
        constexpr double kSpread = 9.0;  // pixels
        constexpr double kFloor = 6.0;   // grey levels
        cv::Mat mean, squares, deviation;
        cv::GaussianBlur(base, mean, {}, kSpread);
        cv::GaussianBlur(base.mul(base), squares, {}, kSpread);
        cv::sqrt(cv::max(squares - mean.mul(mean), 0.0), deviation);
        cv::Mat even = (base - mean) / (deviation + kFloor) * 42.0 + 128.0;
        even.copyTo(base);
    }
}

}  // namespace

Pyramid buildPyramid(const Picture& picture, Channel channel, PreFilter filter, int levels) {
    Pyramid pyramid;
    pyramid.levels.push_back(analysisPlane(picture, channel));
    Plane& full = pyramid.levels.front();
    cv::Mat base(full.height, full.width, CV_32F, full.values.data());
    applyFilter(base, filter);
    cv::GaussianBlur(base, base, {3, 3}, 0.7);
    for (int level = 1; level < levels; ++level) {
        Plane& above = pyramid.levels.back();
        if (above.width < 32 || above.height < 32) break;
        Plane half((above.width + 1) / 2, (above.height + 1) / 2);
        const cv::Mat from(above.height, above.width, CV_32F, above.values.data());
        cv::Mat to(half.height, half.width, CV_32F, half.values.data());
        cv::pyrDown(from, to, to.size());
        pyramid.levels.push_back(std::move(half));
    }
    return pyramid;
}

}  // namespace pinion
