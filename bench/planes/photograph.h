#pragma once

#include <opencv2/core.hpp>
#include <string>

namespace pinion::planes {

/// A photograph of Debian's opencv-doc as grey levels (CV_32F); empty where it is not there.
cv::Mat photograph(const std::string& name);

}  // namespace pinion::planes
