#pragma once

#include "base/progress.h"
#include "plate/framecache.h"
#include "shot/shot.h"
#include "steady/movers.h"

#include <vector>

namespace pinion {

/// Mattes for what moves by itself, by the shot's solve; without a fresh one its tracks are solved for this alone.
Expected<std::vector<MoverProposal>> runPropose(const Shot& shot, FrameCache& frames,
                                                const Progress& progress = Progress{});

/// A shot of nothing but a proposal's path, for its matte to ride on.
Shot shotOf(const MoverProposal& proposal);

/// The shot with a proposal accepted: its matte and its path are added, and tracks are set aside where it covers them.
Shot withMoverAccepted(const Shot& shot, const MoverProposal& proposal);

}  // namespace pinion
