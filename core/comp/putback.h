#pragma once

#include "comp/warp.h"

namespace pinion {

struct PutBackOptions {
    ResampleFilter filter = ResampleFilter::bicubic;
    /// What counts as changed, in tones from 0 to 1 as shown; 0: more than what files round, by the depth.
    double tolerance = 0;
};

struct PutBack {
    Picture picture;
    double changed = 0;  ///< the share of the plate's pixels that are not the plate's any more
};

/// Where what was made differs from what was given out, it is put back on to the plate: `given` is the plate warped by
/// `sourceFromOutput` (plate from held picture), `made` is `given` as it came back. The change goes back in one
/// resampling and fades over a pixel about it; everything else is the plate to the last bit. All of one size.
PutBack putBack(const Picture& plate, const Picture& given, const Picture& made,
                const Eigen::Matrix3d& sourceFromOutput, const PutBackOptions& options = {});

}  // namespace pinion
