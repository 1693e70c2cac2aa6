#include "picture/pyramid.h"

#include <opencv2/imgproc.hpp>

namespace pinion {

Pyramid buildPyramid(const Picture& picture, Channel channel, int levels) {
    Pyramid pyramid;
    pyramid.levels.push_back(analysisPlane(picture, channel));
    Plane& full = pyramid.levels.front();
    cv::Mat base(full.height, full.width, CV_32F, full.values.data());
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
