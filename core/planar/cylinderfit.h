#pragma once

#include "picture/pyramid.h"
#include "planar/planartrack.h"

#include <memory>
#include <vector>

namespace pinion {

/// A frame on which a cylinder was tracked, to fit its shape by.
struct FrameForFit {
    int frame = 0;
    std::shared_ptr<const Pyramid> pyramid;
};

/// The cylinder's sides, and with `freeFocal` the focal length of its lens, as the track's frames have them: those by
/// which the texture seen on them lies best over the reference's (Gauss and Newton; each frame's pose follows). Sides
/// drawn by eye are a pixel or two off; that is the prior. The samples are left as they are: track it again. The track
/// as it is when the frames tell nothing better.
PlanarTrack withShapeFitted(const PlanarTrack& plane, const Pyramid& reference, const std::vector<FrameForFit>& frames,
                            bool freeFocal, const PlaneExclusion& excluded = {});

}  // namespace pinion
