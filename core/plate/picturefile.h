#pragma once

// Files of pictures, through OpenImageIO: for the sources that include it.

#include "base/expected.h"

#include <OpenImageIO/imageio.h>
#include <array>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <string>

namespace pinion {

/// Larger ones are no footage: a header may say anything.
inline constexpr int kMostPictureSide = 65536;
inline constexpr std::int64_t kMostPicturePixels = 400'000'000;

/// What of a file is the picture.
struct PictureChannels {
    int part = 0;
    std::array<int, 3> numbers{0, 1, 2};
    std::string words;  ///< which ones, when it was not obvious
};

struct PictureFile {
    std::unique_ptr<OIIO::ImageInput> input;  ///< stands at the part that holds the picture
    PictureChannels channels;
};

/// Opens a file of flat channels at its first part; values are read as they are stored. Fails, beginning with the path,
/// for what is no file of a picture, is cut off, is deep, or says that it is larger than the limits above or lies far
/// beside its frame.
Expected<std::unique_ptr<OIIO::ImageInput>> openImageFile(const std::filesystem::path& path);

/// The same at the part that holds the picture. Red, green and blue are found by their names; in the first part that
/// has them, without a layer's name before one with; then what is called luminance; then the first channels there are.
/// Fails too where there are no colours, but depth or another measure.
Expected<PictureFile> openPictureFile(const std::filesystem::path& path);

}  // namespace pinion
