#pragma once

#include "base/progress.h"
#include "camera/hypotheses.h"

#include <functional>
#include <vector>

namespace pinion::solving {

/// Brings those candidates that come near the best one to the end of the keyframes and ranks them again: where minima
/// lie close, only there do they differ. Stretches of the best that may be inside out join as candidates, read the
/// other way.
void polishBest(std::vector<Attempt>& candidates, const std::vector<int>& keys, const LensPlan& plan,
                const Progress& progress);

/// Whether a scene is adjusted until nothing more is found, or as far as it takes to see which tracks contradict it.
enum class Ending { whole, rough };

/// Brings a scene to its end on all frames: places frames until none is left, adjusts, sorts tracks out. Frames that
/// too few tracks hold are left without a camera.
void complete(Reconstruction& scene, const LensPlan& plan, const Progress& progress,
              const std::function<void(const Bundle&)>& watch = {}, Ending ending = Ending::whole);

/// A clearly different path that was brought to its end as well.
struct Rival {
    double apart = 0;   ///< RMS distance of the paths after the best similarity, over the length of the path
    double behind = 0;  ///< by how much it explains the tracks worse, as a fall of the log-likelihood
};

/// The polished candidates brought to their end on all frames: the best one, and, where a different path comes so near
/// that the keyframes do not decide, that as well. The winner stands first in `candidates` and is returned complete.
struct Winner {
    Reconstruction scene;
    std::vector<Rival> rivals;
};
Winner decided(std::vector<Attempt>& candidates, const LensPlan& plan, const Progress& progress,
               const std::function<void(const Bundle&)>& watch, Ending ending = Ending::whole);

}  // namespace pinion::solving
