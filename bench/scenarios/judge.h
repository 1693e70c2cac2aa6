#pragma once

#include "camera/solve.h"
#include "scenarios/madeshot.h"

#include <optional>
#include <string>
#include <vector>

namespace pinion::bench {

/// Cameras as found, one a frame of the shot; none where there is none.
struct FoundCameras {
    std::vector<std::optional<Pose>> poses;
    std::vector<Lens> lenses;
};
FoundCameras camerasOf(const MadeShot& shot, const Solve& solve);

/// How far a found camera is from the truth.
struct Judgement {
    int frames = 0;         ///< that have a camera
    double truth_px = 1e9;  ///< true points, each placed as well as the found cameras allow, reprojected; RMS
    double path = 1e9;      ///< RMS of the places after the best similarity, over the length of the path
    double focal = 0;       ///< relative error, the largest over the frames
    double seen_px = 0;     ///< good tracks as tracked against those points: what a held-out error should say
    std::vector<double>
        positionErrors;  ///< a frame, in units of the found world (the similarity is fitted on places and axes)
};
Judgement judge(const MadeShot& shot, const FoundCameras& found);

/// What is attainable: the adjustment started at the truth, on the same tracks with the same freedoms.
Judgement attainable(const MadeShot& shot, const SolveOptions& options);

enum class Verdict { good, fair, wrong, refused };
std::string toString(Verdict verdict);
/// Good: all frames, truth within 0.5 px or 1.3 times the attainable, path within 1 %. Wrong: no word of doubt, and the
/// truth off by more than 2 px and twice the attainable, or the path by more than 5 %.
Verdict verdictOf(const MadeShot& shot, const Judgement& own, const Judgement& best, bool doubtful);

/// Tracks that are wrong by 2 px or more (scaled to the plate), and how many of them are set apart; the same of good
/// ones.
struct SortedOut {
    int wrong = 0, wrongApart = 0, good = 0, goodApart = 0;
};
SortedOut sortedOut(const MadeShot& shot, const Solve& solve);

/// How many of the tracks that are wrong by 2 px or more, and of the good ones, are suspected of doing harm.
struct Suspected {
    int wrong = 0, wrongListed = 0, good = 0, goodListed = 0;
};
Suspected suspected(const MadeShot& shot, const Solve& solve);

SolveOptions optionsFor(const MadeShot& shot, Knowledge focal);

}  // namespace pinion::bench
