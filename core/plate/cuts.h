#pragma once

#include "base/progress.h"
#include "plate/framecache.h"

#include <optional>
#include <vector>

namespace pinion {

/// A small grey likeness of a picture, tones from 0 to 1.
class Likeness {
public:
    explicit Likeness(const Picture& picture);
    /// The mean difference of their tones.
    double apart(const Likeness& other) const;

private:
    std::vector<float> tones_;
};

/// The frames that begin another shot, among likenesses of frames from `first` on: there the picture changes by far
/// more than around it, and stays changed (a flash does not). Frames that could not be read are none.
std::vector<int> cutsAmong(const std::vector<std::optional<Likeness>>& likenesses, int first);

/// The same for the frames from `first` to `last` of a plate. Ends early when stopped, with what it has.
std::vector<int> findCuts(FrameCache& frames, int first, int last, const Progress& progress = Progress{});

}  // namespace pinion
