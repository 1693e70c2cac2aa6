#pragma once

#include "camera/result.h"
#include "comp/artshelf.h"
#include "matte/matte.h"
#include "render/projector.h"

#include <span>
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

}  // namespace pinion
