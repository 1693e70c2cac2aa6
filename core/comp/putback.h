#pragma once

#include "comp/warp.h"

#include <functional>

namespace pinion {

struct PutBackOptions {
    ResampleFilter filter = ResampleFilter::bicubic;
    /// What counts as changed, in tones from 0 to 1 as shown; 0: more than what files round, by the depth.
    double tolerance = 0;
};

/// Which part of what was made is put back: where it differs from what was given out; where its alpha is, over the
/// plate, its colours multiplied by it; or where a matte drawn on the held frames is.
enum class PutBackBy { difference, alpha, matte };

struct PutBack {
    Picture picture;
    double changed = 0;  ///< the share of the plate's pixels that are not the plate's any more
};

/// Where what was made differs from what was given out, it is put back on to the plate: `given` is the plate warped by
/// `sourceFromOutput` (plate from held picture), `made` is `given` as it came back. The change goes back in one
/// resampling and fades over a pixel about it; everything else is the plate to the last bit. All of one size.
PutBack putBack(const Picture& plate, const Picture& given, const Picture& made,
                const Eigen::Matrix3d& sourceFromOutput, const PutBackOptions& options = {});

/// How a picture of what was given out comes back to the plate, of the plate's size; nothing beyond it, or its edge
/// held.
using ComingBack = std::function<Picture(const Picture& made, ResampleFilter filter, EdgeMode edges)>;
/// The same by any map: `given` and `made` of one size, whatever it is.
PutBack putBack(const Picture& plate, const Picture& given, const Picture& made, const ComingBack& back,
                const PutBackOptions& options = {});

/// The same by an alpha or a matte of the size of the pictures: that part goes back in one resampling, the rest is the
/// plate to the last bit.
PutBack putBackBy(PutBackBy by, const Picture& plate, const Picture& made, const ImageChannel& part,
                  const Eigen::Matrix3d& sourceFromOutput, ResampleFilter filter = ResampleFilter::bicubic);
PutBack putBackBy(PutBackBy by, const Picture& plate, const Picture& made, const ImageChannel& part,
                  const ComingBack& back, ResampleFilter filter = ResampleFilter::bicubic);

/// A matte that was drawn on a held picture, where the plate has it; nothing beyond the picture.
ImageChannel putBackMatte(const ImageChannel& matte, const ComingBack& back);

/// The share of pixels at which two pictures differ by more than files round, along every eighth line.
double differingShare(const Picture& given, const Picture& made);

}  // namespace pinion
