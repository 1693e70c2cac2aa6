#pragma once

// The two kinds of plate; included by plate.cpp alone.

#include "plate/plate.h"

#include <map>

namespace pinion {

/// Through FFMS2, which seeks to the frame exactly. 8-bit sources become 8-bit pictures, deeper ones float.
Expected<std::shared_ptr<const Plate>> openVideo(const std::filesystem::path& path, const PlateOptions& options,
                                                 const Progress& progress);

/// Says that pixels are not square, where they are not.
void remarkAspect(PlateFacts& facts);

/// A numbered file name, taken apart.
struct SequenceName {
    std::filesystem::path folder;
    std::string before;  ///< of the file name, up to the number
    std::string after;   ///< from behind the number, with the ending
};

/// One picture as a plate of one frame.
Expected<std::shared_ptr<const Plate>> openPicture(const std::filesystem::path& path, int frame);

/// The frames that lie in the sequence's folder, by number.
Expected<std::map<int, std::filesystem::path>> framesOf(const SequenceName& name);

/// Through OpenImageIO. `name` is any file of the sequence with its number cut out.
Expected<std::shared_ptr<const Plate>> openSequence(const SequenceName& name, const PlateOptions& options);

}  // namespace pinion
