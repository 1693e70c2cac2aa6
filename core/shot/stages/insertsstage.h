#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

#include <string>

namespace pinion {

StageReport insertsReport(const Shot& shot);

/// What an insert is pinned to: "plane 1", "4 tracks", "the frame".
std::string wordsOf(const Shot& shot, const std::optional<Ride>& ride);
/// What is to be known of one: the frames it is on, where what carries it ends and what it does there, whether its clip
/// is shorter than its use or of another rate; a sentence each, empty while nothing is.
std::vector<std::string> notesOf(const Shot& shot, const Insert& insert);

}  // namespace pinion
