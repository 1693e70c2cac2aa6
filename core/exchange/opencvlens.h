#pragma once

#include "base/expected.h"
#include "lens/lens.h"

#include <filesystem>
#include <string>

namespace pinion {

// OpenCV's calibration files (YAML, XML or JSON as its FileStorage has them): image_width, image_height, camera_matrix,
// distortion_coefficients in the order k1 k2 p1 p2 k3. There a place counts from the centre of the first pixel, half a
// pixel from our corner: cx and cy differ by 0.5.

/// Fails for a lens from maps, which has no coefficients.
Expected<std::string> openCvLens(const Lens& lens);

/// Fails for distortion models that are not ours (rational, thin prism, fisheye), naming them.
Expected<Lens> readOpenCvLens(const std::filesystem::path& path);

/// Either kind, by what is in the file.
Expected<Lens> readAnyLens(const std::filesystem::path& path);

}  // namespace pinion
