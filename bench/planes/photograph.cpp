#include "planes/photograph.h"

#include <OpenImageIO/imageio.h>
#include <algorithm>
#include <cstdint>
#include <random>
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

PlateFacts madeFacts(const char* name, int width, int height, int frames) {
    PlateFacts facts;
    facts.path = name;
    facts.width = width;
    facts.height = height;
    facts.fps = FrameRate{24, 1};
    facts.firstFrame = 0;
    facts.lastFrame = frames - 1;
    return facts;
}

PicturePtr developed(const cv::Mat& seen, double gain, double grain, unsigned seed, int frame) {
    std::mt19937 random(seed * 977 + unsigned(frame));
    std::normal_distribution<float> noise(0, 1);
    auto picture = std::make_shared<Picture>(
        Picture{seen.cols, seen.rows, Picture::Depth::bits8, false, std::vector<std::uint8_t>(seen.total() * 3), {}});
    std::size_t at = 0;
    for (int y = 0; y < seen.rows; ++y)
        for (int x = 0; x < seen.cols; ++x) {
            const float value = seen.at<float>(y, x) * float(gain) + float(grain) * noise(random) + 0.5F;
            for (int k = 0; k < 3; ++k) picture->bytes[at++] = std::uint8_t(std::clamp(value, 0.0F, 255.0F));
        }
    return picture;
}

}  // namespace pinion::planes
