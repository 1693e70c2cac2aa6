#pragma once

#include "camera/bundle.h"

#include <optional>
#include <vector>

namespace pinion {

/// The distance between two finite points of a bundle, in a unit of its own (metres), with its standard deviation.
struct KnownLength {
    int a = 0, b = 0;  ///< points
    double length = 0;
    double sigma = 0;
};

struct LengthFit {
    double scale = 1;           ///< the lengths' units in one unit of the bundle
    std::vector<double> found;  ///< the lengths as the bundle has them in the end, in their unit
    std::vector<double>
        tests;  ///< how far each is from what tracks and the other lengths say, in standard deviations of that
                ///< difference (Baarda 1968: beyond 3.3 it is to be doubted); 0 when nothing tests it
};

/// Adjusts a bundle that has reached its minimum with lengths that are known: a bundle has no scale, so one length
/// gives it, and every further one holds its shape. Gauss-Newton steps of tracks and lengths together; the lengths
/// enter the reduced equations of the tracks as a change of low rank (Woodbury 1950), so the envelope stays. None when
/// the equations are singular.
std::optional<LengthFit> adjustWithLengths(Bundle& bundle, const BundleOptions& options,
                                           const std::vector<KnownLength>& lengths);

}  // namespace pinion
