#pragma once

#include "picture/picture.h"

#include <Eigen/Core>
#include <optional>
#include <string_view>

namespace pinion {

/// How a picture is read between its pixels: linear; Catmull-Rom (Keys 1981, a = -1/2); Lanczos with three lobes
/// (sharpest).
enum class ResampleFilter { bilinear, bicubic, lanczos };

/// What lies beyond the source's border: black; its last pixels drawn out; its mirror image.
enum class EdgeMode { empty, held, mirrored };

std::string_view toString(ResampleFilter filter);
std::optional<ResampleFilter> resampleFilterFrom(std::string_view word);
std::string_view toString(EdgeMode edges);
std::optional<EdgeMode> edgeModeFrom(std::string_view word);

/// The picture read through `sourceFromOutput` (pixels of the plate to pixels of the plate), in one resampling, of the
/// same depth and colour as the source. For maps that keep the size about the same; a strong reduction would alias.
/// Runs on all threads.
Picture warped(const Picture& source, const Eigen::Matrix3d& sourceFromOutput,
               ResampleFilter filter = ResampleFilter::bicubic, EdgeMode edges = EdgeMode::empty);

}  // namespace pinion
