#pragma once

#include "comp/choices.h"
#include "picture/picture.h"

#include <Eigen/Core>

namespace pinion {

/// The picture read through `sourceFromOutput` (pixels of the plate to pixels of the plate), in one resampling, of the
/// same depth and colour as the source. For maps that keep the size about the same; a strong reduction would alias.
/// Runs on all threads. Of the source's size, unless another is given.
Picture warped(const Picture& source, const Eigen::Matrix3d& sourceFromOutput,
               ResampleFilter filter = ResampleFilter::bicubic, EdgeMode edges = EdgeMode::empty, int width = 0,
               int height = 0);

}  // namespace pinion
