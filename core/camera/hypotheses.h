#pragma once

#include "base/expected.h"
#include "base/progress.h"
#include "camera/material.h"
#include "camera/reconstruction.h"

#include <vector>

namespace pinion::solving {

/// What of the lens is found, coarse to fine.
struct LensPlan {
    bool focal = false;  ///< the focal length is free
    LensTerms coarse;    ///< first: at most the focal length and k1
    LensTerms fine;      ///< at the end: all that was asked for
    bool bends() const { return coarse.has(LensTerm::k1); }
};
LensPlan lensPlanOf(const SolveOptions& options);

/// The lens of the options at a focal length: the plain one, or the known distortion carried to it (the same glass
/// bends the same pixels).
Lens lensAt(const SolveOptions& options, double focal_px);

/// The focal lengths, in pixels, from which the search starts.
std::vector<double> focalsToTry(const SolveOptions& options);

/// The trails of a window of frames that say most: seen on many of them, spread over the picture; a few hundred.
std::vector<int> telling(const Material& material, const std::vector<int>& window);

/// One attempt at the shot's keyframes.
struct Attempt {
    Reconstruction scene;
    BasePair pair;
    double firstFocal_px = 0;
    double badness = 1;
};

/// The width of the robust loss that suits what a scene has reached.
double lossWidth(const Reconstruction& scene);

/// How far a search looks about.
struct SearchBreadth {
    std::size_t everyFocal = 1;  ///< of the focal lengths to try
    std::size_t carried = 4;     ///< windows that go through all keyframes
    bool looksAgain = true;      ///< the next best where those explain too little, and the best inside out
};
/// Enough to see whether other tracks make a better scene: two focal lengths of seven, no second try.
constexpr SearchBreadth kGlance{3, 2, false};

/// Carries every base pair, every focal length and every motion that explains the pair through a window of keyframes,
/// the best of those through all keyframes, and compares them there at one noise scale; the mirror image of the winner
/// is tried too. Best first, at most a few. Empty when no pair leads anywhere.
std::vector<Attempt> searchKeyframes(const Material& material, const std::vector<int>& keys,
                                     const std::vector<BasePair>& pairs, const SolveOptions& options,
                                     const Progress& progress, const SearchBreadth& breadth = {});

/// Adds the keyframes that are not placed yet, the best seen first, adjusting as it grows.
void extend(Reconstruction& scene, const std::vector<int>& keys, const LensPlan& plan, const Progress& progress);

/// Adjusts to the end: loss width and points renewed in between, the lens from coarse to fine.
void settle(Reconstruction& scene, const LensPlan& plan, const Progress& progress, int passes = 2);

/// The same to the very end, on the keyframes alone, where a step costs little: the valley of focal length, axis and
/// depth is long.
void polish(Reconstruction& scene, const LensPlan& plan, const Progress& progress);

}  // namespace pinion::solving
