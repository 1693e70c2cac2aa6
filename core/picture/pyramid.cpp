#include "picture/pyramid.h"

#include <algorithm>
#include <cmath>
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
    ImageChannel& full = pyramid.levels.front();
    cv::Mat base(full.height, full.width, CV_32F, full.values.data());
    applyFilter(base, filter);
    cv::GaussianBlur(base, base, {3, 3}, 0.7);
    for (int level = 1; level < levels; ++level) {
        ImageChannel& above = pyramid.levels.back();
        if (above.width < 32 || above.height < 32) break;
        ImageChannel half((above.width + 1) / 2, (above.height + 1) / 2);
        const cv::Mat from(above.height, above.width, CV_32F, above.values.data());
        cv::Mat to(half.height, half.width, CV_32F, half.values.data());
        cv::pyrDown(from, to, to.size());
        pyramid.levels.push_back(std::move(half));
    }
    return pyramid;
}

PyramidPart partAround(const Pyramid& whole, double x, double y, double radius) {
    PyramidPart part;
    if (whole.levels.empty()) return part;
    // Samples of all levels have to fall on samples.
    const int grid = 1 << (whole.levels.size() - 1);
    const int left = std::max(0, int(std::floor((x - radius) / grid)) * grid),
              top = std::max(0, int(std::floor((y - radius) / grid)) * grid);
    const int right = std::min(whole.width(), int(std::ceil(x + radius))),
              bottom = std::min(whole.height(), int(std::ceil(y + radius)));
    part.left = left;
    part.top = top;
    for (std::size_t l = 0; l < whole.levels.size(); ++l) {
        const ImageChannel& from = whole.levels[l];
        const int x0 = std::min(left >> l, from.width), y0 = std::min(top >> l, from.height);
        const int x1 = std::clamp((right + (1 << l) - 1) >> l, x0, from.width),
                  y1 = std::clamp((bottom + (1 << l) - 1) >> l, y0, from.height);
        ImageChannel to(x1 - x0, y1 - y0);
        for (int row = 0; row < to.height; ++row) std::copy_n(from.row(y0 + row) + x0, to.width, to.row(row));
        part.pyramid.levels.push_back(std::move(to));
    }
    return part;
}

}  // namespace pinion
