#include "planes/photograph.h"

#include <OpenImageIO/imageio.h>
#include <cstdint>
#include <vector>

namespace pinion::planes {

cv::Mat photograph(const std::string& name) {
    const auto input = OIIO::ImageInput::open("/usr/share/doc/opencv-doc/examples/data/" + name);
    if (!input) return {};
    const OIIO::ImageSpec spec = input->spec();
    std::vector<std::uint8_t> pixels(std::size_t(spec.width) * std::size_t(spec.height) * std::size_t(spec.nchannels));
    if (!input->read_image(0, 0, 0, spec.nchannels, OIIO::TypeDesc::UINT8, pixels.data())) return {};
    cv::Mat grey(spec.height, spec.width, CV_32F);
    for (int y = 0; y < spec.height; ++y)
        for (int x = 0; x < spec.width; ++x) {
            const std::size_t at =
                (std::size_t(y) * std::size_t(spec.width) + std::size_t(x)) * std::size_t(spec.nchannels);
            grey.at<float>(y, x) = spec.nchannels >= 3
                                       ? 0.2126F * pixels[at] + 0.7152F * pixels[at + 1] + 0.0722F * pixels[at + 2]
                                       : pixels[at];
        }
    return grey;
}

}  // namespace pinion::planes
