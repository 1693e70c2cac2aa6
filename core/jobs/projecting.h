#pragma once

#include "base/progress.h"
#include "comp/artshelf.h"
#include "comp/render.h"
#include "matte/matte.h"
#include "plate/framecache.h"
#include "render/projector.h"

#include <filesystem>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// Pictures that fill the plate, made on those frames: of a clip the frame of that number where it has one, else its
/// first. Fails for a frame without a camera, and for pictures of another shape than the plate's, with what to do.
Expected<std::vector<ThrownPicture>> picturesThrown(const Clip& clip, std::span<const int> frames, const Solve& solve,
                                                    const Orientation& orientation, ArtShelf& shelf);
/// White where the mattes (without rides) cover the frame.
Expected<std::vector<ThrownPicture>> mattesThrown(std::span<const Matte> mattes, std::span<const int> frames,
                                                  const Solve& solve, const Orientation& orientation);

/// Fails where a camera of `frames` sees nothing of the surface, or a plane edge-on: nothing can be thrown on to it.
Expected<void> checkThrow(const ThrownOn& onto, std::span<const int> frames, const Solve& solve,
                          const Orientation& orientation);

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
