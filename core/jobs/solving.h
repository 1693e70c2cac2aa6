#pragma once

#include "base/progress.h"
#include "camera/object.h"
#include "camera/solve.h"
#include "shot/shot.h"

namespace pinion {

/// The camera from the shot's tracks within its range; merge with `withSolve` and the key of this same shot.
struct SolveRun {
    SolveWatch watch = {};
    double trim_px = 0.0;
    bool refines = false;  ///< starts from the shot's solve, without a search
};
Expected<Solve> runSolve(const Shot& shot, const Progress& progress = Progress{}, const SolveRun& run = {});

/// The tracks as a solve takes them: within the range, where they are wanted, as far as they were seen. What is set
/// aside, or on an object, is none of them.
std::vector<Track> solvableTracks(const Shot& shot);

/// One of the shot's objects, against its solved camera; merge with `withObjectSolved`. Fails, saying what to do, where
/// there is no camera or no object, or its tracks do not suffice.
Expected<ObjectSolve> runObject(const Shot& shot, ObjectId object, const Progress& progress = Progress{});

}  // namespace pinion
