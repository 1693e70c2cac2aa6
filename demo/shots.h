#pragma once

#include "lens/lens.h"

#include "scene.h"

#include <Eigen/Geometry>
#include <span>
#include <vector>

namespace ternholm {

/// How long and how large a shot is rendered.
struct ShotSize {
    int width = 1280;
    int height = 720;
    int frames = 120;
    double fps = 24.0;
};

/// One of the demo's plates: what is in front of the camera, and how the camera and the trolley move. `frame` counts
/// from 0 and may be fractional (the shutter).
struct DemoShot {
    const char* name;
    double focal_mm;  ///< on a sensor 36 mm wide
    int frames;
    double fps;
    Scene (*scene)();
    pinion::Lens (*lens)(const ShotSize&, double frame);  ///< the same on every frame, but for a zoom
    bool zoom;
    Eigen::Affine3d (*camera)(const ShotSize&, double frame);    ///< `worldFromCamera`
    Eigen::Affine3d (*intended)(const ShotSize&, double frame);  ///< the same without the hand's unrest
    Eigen::Affine3d (*trolley)(const ShotSize&, double frame);
    std::vector<Vector3f> (*marked)() = nullptr;  ///< places whose way through the plate the truth holds
    double readout = 0;  ///< of the sensor, row by row: a share of a frame; `camera` is that of the middle row
};

std::span<const DemoShot> demoShots();
const DemoShot* demoShot(const std::string& name);

}  // namespace ternholm
