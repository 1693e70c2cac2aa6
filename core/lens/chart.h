#pragma once

#include "base/expected.h"
#include "base/progress.h"
#include "lens/lens.h"
#include "picture/picture.h"

#include <Eigen/Core>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// A chessboard: its inner corners across and down, and a square's edge in any unit.
struct Chart {
    int columns = 9;
    int rows = 6;
    double square = 1.0;
};

/// One picture of the chart.
struct ChartView {
    std::string name;                      ///< of the file, or the frame
    std::vector<Eigen::Vector2d> corners;  ///< row by row, pixels of the picture
    bool used = true;
    double rms_px = 0;    ///< how far its corners are from where the lens puts them
    std::string trouble;  ///< why it is not used, in words
    std::string path;     ///< of the picture, or of the plate it is a frame of
    std::optional<int> frame;
};

struct ChartLens {
    Lens lens;
    std::vector<ChartView> views;  ///< all that were given
    double rms_px = 0;             ///< over those that are used
    LensDeviations deviations;
    std::string terms;  ///< "k1, k2, p1, p2, k3"
};

/// The chart's corners in a picture, to a fraction of a pixel; empty when the whole board is not seen. Safe to call
/// from several threads.
std::vector<Eigen::Vector2d> chartCorners(const Picture& picture, const Chart& chart);

/// The lens that took the views, all `width` x `height` (Zhang 2000): focal length, axis and distortion. The tangential
/// terms and k3 are taken where they lower the errors by more than chance. Views that fit far worse than the others are
/// set aside with their error.
/// Fails with what to do when fewer than three are left, or when they are too alike to tell the focal length.
Expected<ChartLens> lensFromChart(std::vector<ChartView> views, const Chart& chart, int width, int height);

}  // namespace pinion
