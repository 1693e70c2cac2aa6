#pragma once

#include "lens/lens.h"

#include <Eigen/Geometry>

namespace ternholm {

/// How long and how large a shot is rendered.
struct ShotSize {
    int width = 1280;
    int height = 720;
    int frames = 120;
    double fps = 24.0;
};

/// 28 mm on a 36 mm wide sensor, with a visible barrel distortion.
pinion::Lens landingLens(const ShotSize& size);

/// A handheld walk along the quay. `frame` counts from 0 and may be fractional (the shutter).
Eigen::Affine3d landingCamera(const ShotSize& size, double frame);

/// The porter's trolley on its way across the deck.
Eigen::Affine3d landingTrolley(const ShotSize& size, double frame);

}  // namespace ternholm
