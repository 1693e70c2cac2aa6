#pragma once

#include "base/expected.h"
#include "lens/lens.h"

#include <Eigen/Core>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// Places along something that is straight in life, on one frame, in pixels of the plate.
struct StraightLine {
    int frame = 0;
    std::vector<Eigen::Vector2d> points;
};

/// Which terms of the distortion are free. Automatic: k1, and k2 as well where the lines support it.
enum class LineTerms { automatic, k1, k1k2, k1k2k3 };

/// Where the optical axis meets the plate. Automatic: the middle, or where the lines put it if they speak for it.
enum class LineAxis { automatic, centre, free };

struct LinesOptions {
    int width = 0;
    int height = 0;

    /// Lines do not tell the focal length; it only sets the scale of the coefficients, not what they do to the plate.
    double focal_px = 0;
    double squeeze = 1.0;

    LineTerms terms = LineTerms::automatic;
    LineAxis axis = LineAxis::automatic;

    /// A line with more than this many times the distance from straight that the others keep is set apart as curved in
    /// life. Raise it for sloppy clicks.
    double curvedFactor = 4.0;
};

/// How far a line is from straight.
struct LineBend {
    double before_px = 0;  ///< RMS distance from the best straight line, as filmed
    double after_px = 0;   ///< the same with the lens taken out, in pixels of the plate
    bool curved = false;   ///< in life, as the other lines have it: it does not count
};

struct LinesLens {
    Lens lens;
    std::vector<LineBend> lines;  ///< in the order given
    double before_px = 0;         ///< RMS over all places of the lines that count
    double after_px = 0;
    LensDeviations deviations;
    std::string terms;                  ///< "k1, k2, axis"
    std::string choice;                 ///< why these, in words
    std::vector<std::string> warnings;  ///< what the lines do not say
};

/// Whether all places lie on a plate of that size or near it, and each line's along a smooth curve: an edge is followed
/// from one to the next.
Expected<void> checkPlaces(std::span<const StraightLine> lines, int width, int height);

/// The distortion that makes the lines straight (Brown 1971; Devernay and Faugeras 2001): least squares of the places'
/// distances, on the plate, from straight lines seen through the lens, robust against single places and against whole
/// lines that are curved in life. A further term is taken when it lowers the sum of squares by more than chance does
/// once in 20 times (4 noise variances for one term, 6 for two), with the noise enlarged by how long its errors
/// last along a line (Bartlett 1946); never more than k1, k2 and the axis by itself. Fails with what is missing when
/// the lines cannot tell. Safe to call from several threads.
Expected<LinesLens> lensFromLines(std::span<const StraightLine> lines, const LinesOptions& options);

/// RMS distance of places from the straight line that fits them best. 0 of fewer than three.
double bendOf(std::span<const Eigen::Vector2d> points);

}  // namespace pinion
