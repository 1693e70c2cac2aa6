#pragma once

#include "base/progress.h"
#include "comp/render.h"
#include "plate/framecache.h"
#include "render/throwing.h"

#include <filesystem>
#include <string>
#include <vector>

namespace pinion {

struct ProjectReport {
    RenderReport render;
    std::vector<int> unsolved;  ///< frames without a camera: empty
    std::vector<int> empty;     ///< frames on which nothing of it is seen
};

/// Thrown pictures by themselves, with their alpha, premultiplied, seen on each frame of the range, written to
/// `pattern`. Fails when no frame of the range has a camera, and when the camera is for another size.
Expected<ProjectReport> runProject(FrameCache& frames, const FrameRange& range, const Solve& solve,
                                   const Orientation& orientation, const Projector& projector,
                                   const std::filesystem::path& pattern, int quality = 16,
                                   const Progress& progress = Progress{});

}  // namespace pinion
