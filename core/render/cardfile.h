#pragma once

#include "base/expected.h"
#include "picture/clip.h"

#include <filesystem>

namespace pinion {

/// The clip that a stand-in shows: as `clipOf`, kept while its file, or a sequence's folder, is not written to, since
/// it is asked for each time that a stand-in is dragged. From any thread.
struct CardClip {
    Clip clip;
    bool alphaIsTaken = false;  ///< nothing says how its alpha is meant: it is taken as straight
};
Expected<CardClip> cardClipOf(const std::filesystem::path& path);

}  // namespace pinion
