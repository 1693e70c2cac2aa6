#pragma once

#include "camera/reconstruction.h"
#include "scenarios/madeshot.h"

namespace pinion::bench {

/// A made shot with its true cameras, and its true points where they are not held out.
inline solving::Reconstruction trueSceneOf(const MadeShot& shot, const solving::Material& material,
                                           const SolveOptions& options) {
    solving::Reconstruction scene(material, options, shot.lens);
    for (std::size_t f = 0; f < material.frames.size(); ++f)
        scene.setPose(int(f), shot.poses[std::size_t(material.frames[f] - 1001)]);
    for (std::size_t t = 0; t < material.trails.size(); ++t)
        if (!material.trails[t].heldOut)
            scene.setPoint(t, shot.truth[material.trails[t].track].point.homogeneous());
    return scene;
}

}  // namespace pinion::bench
