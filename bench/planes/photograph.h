#pragma once

#include "picture/picture.h"
#include "plate/plate.h"

#include <opencv2/core.hpp>
#include <string>

namespace pinion::planes {

/// A photograph of Debian's opencv-doc as grey levels (CV_32F); empty where it is not there.
cv::Mat photograph(const std::string& name);

/// A made-up plate of 24 frames a second, its frames from 0 on.
PlateFacts madeFacts(const char* name, int width, int height, int frames);

/// A frame of grey levels as a picture of 8 bits: brighter by `gain`, with `grain` of its own for each seed and frame.
PicturePtr developed(const cv::Mat& seen, double gain, double grain, unsigned seed, int frame);

}  // namespace pinion::planes
