#include "lens/stmap.h"

#include "base/files.h"
#include "base/parallel.h"
#include "plate/picturefile.h"

#include <OpenImageIO/imageio.h>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

template <class Mapping>
StMap mapOver(const Lens& lens, const PixelBox& data, Mapping&& mapping) {
    StMap map{.width = lens.width, .height = lens.height, .data = data, .st = {}};
    map.st.resize(std::size_t(data.width()) * std::size_t(data.height()) * 2);
    parallelFor(
        std::size_t(data.height()),
        [&](std::size_t row) {
            float* out = map.st.data() + row * std::size_t(data.width()) * 2;
            for (int column = 0; column < data.width(); ++column, out += 2) {
                const auto source = mapping(Vector2d(data.x0 + column + 0.5, data.y0 + int(row) + 0.5));
                out[0] = source ? float(source->x() / lens.width) : -1.0F;
                out[1] = source ? float(1.0 - source->y() / lens.height) : -1.0F;
            }
        },
        8);
    return map;
}

}  // namespace

PixelBox undistortedBox(const Lens& lens) {
    Vector2d low(0, 0);
    Vector2d high(lens.width, lens.height);
    const auto include = [&](double x, double y) {
        if (const auto point = undistortedFromPlate(lens, {x, y})) {
            low = low.cwiseMin(*point);
            high = high.cwiseMax(*point);
        }
    };
    for (int x = 0; x <= lens.width; ++x) {
        include(x, 0);
        include(x, lens.height);
    }
    for (int y = 0; y <= lens.height; ++y) {
        include(0, y);
        include(lens.width, y);
    }
    const auto down = [](double v) { return int(std::floor(v + 1e-6)); };
    const auto up = [](double v) { return int(std::ceil(v - 1e-6)); };
    // A lens that is far off (a mistyped number) is not to ask for a picture of terabytes.
    const int most = 4 * std::max(lens.width, lens.height);
    return {std::max(down(low.x()), -most), std::max(down(low.y()), -most), std::min(up(high.x()), lens.width + most),
            std::min(up(high.y()), lens.height + most)};
}

StMap undistortMap(const Lens& lens) {
    return mapOver(lens, undistortedBox(lens), [&](const Vector2d& p) { return plateFromUndistorted(lens, p); });
}

StMap redistortMap(const Lens& lens) {
    return mapOver(lens, {0, 0, lens.width, lens.height},
                   [&](const Vector2d& p) { return undistortedFromPlate(lens, p); });
}

Expected<void> writeStMap(const StMap& map, const std::filesystem::path& path) {
    return writeBeside(path, [&](const std::filesystem::path& beside) -> Expected<void> {
        const auto output = OIIO::ImageOutput::create(beside.string());
        if (!output) return failure(Fault::system, "{}: no writer for OpenEXR: {}", path.string(), OIIO::geterror());
        OIIO::ImageSpec spec(map.data.width(), map.data.height(), 3, OIIO::TypeDesc::FLOAT);
        spec.x = map.data.x0;
        spec.y = map.data.y0;
        spec.full_x = spec.full_y = 0;
        spec.full_width = map.width;
        spec.full_height = map.height;
        spec.channelnames = {"R", "G", "B"};
        spec.attribute("compression", "zip");
        spec.attribute("oiio:ColorSpace", "Linear");
        std::vector<float> pixels(std::size_t(spec.width) * std::size_t(spec.height) * 3, 0.0F);
        for (std::size_t i = 0; i < map.st.size() / 2; ++i) {
            pixels[i * 3] = map.st[i * 2];
            pixels[i * 3 + 1] = map.st[i * 2 + 1];
        }
        if (!output->open(beside.string(), spec) || !output->write_image(OIIO::TypeDesc::FLOAT, pixels.data()) ||
            !output->close())
            return failure(Fault::system, "{}: cannot be written: {}", path.string(),
                           writeProblem(path, output->geterror()));
        return {};
    });
}

Expected<StMap> readStMap(const std::filesystem::path& path) {
    const auto opened = openImageFile(path);
    if (!opened) return tl::unexpected(opened.error());
    const auto& input = *opened;
    const OIIO::ImageSpec spec = input->spec();
    if (spec.nchannels < 2)
        return failure(Fault::input, "{}: is no ST map: it has one channel; R (across) and G (up) are needed",
                       path.string());
    if (spec.format != OIIO::TypeDesc::FLOAT && spec.format != OIIO::TypeDesc::HALF)
        return failure(Fault::input, "{}: is no ST map: its values are {}, too coarse; 32-bit floats are needed",
                       path.string(), spec.format.c_str());
    const int r = spec.channelindex("R"), g = spec.channelindex("G");
    if (spec.nchannels > 2 && (r < 0 || g < 0))
        return failure(Fault::input, "{}: is no ST map: none of its {} channels are called R and G", path.string(),
                       spec.nchannels);
    const int s = r >= 0 ? r : 0, t = g >= 0 ? g : 1;
    StMap map{.width = spec.full_width,
              .height = spec.full_height,
              .data = {spec.x - spec.full_x, spec.y - spec.full_y, spec.x - spec.full_x + spec.width,
                       spec.y - spec.full_y + spec.height},
              .st = {},
              .isHalf = spec.format == OIIO::TypeDesc::HALF};
    map.st.resize(std::size_t(spec.width) * std::size_t(spec.height) * 2);
    // Into every other value; a file may have a hundred channels beside these.
    for (const auto& [channel, to] : {std::pair(s, 0), {t, 1}})
        if (!input->read_image(0, 0, channel, channel + 1, OIIO::TypeDesc::FLOAT, map.st.data() + to,
                               2 * sizeof(float)))
            return failure(Fault::input, "{}: cannot be read: {}", path.string(), input->geterror());
    for (std::size_t i = 0; i < map.st.size() / 2; ++i)
        if (!std::isfinite(map.st[2 * i]) || !std::isfinite(map.st[2 * i + 1]))
            return failure(Fault::input, "{}: the value at pixel ({}, {}) is no number", path.string(),
                           map.data.x0 + int(i % std::size_t(spec.width)),
                           map.data.y0 + int(i / std::size_t(spec.width)));
    return map;
}

}  // namespace pinion
