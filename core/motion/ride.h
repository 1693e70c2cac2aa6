#pragma once

#include "motion/platemotion.h"

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

/// What something rides on, and the frame it is told from: where things lie on the reference frame, there they are
/// carried from. Things are named by their ids.
struct Ride {
    std::string on = "tracks";      ///< the kind of carrier, by its word in the table (shot/carriers)
    std::vector<std::int64_t> ids;  ///< of what carries it; 0: something that is gone
    int referenceFrame = 0;
    std::optional<MotionKind> as{};  ///< what of the motion is taken; none: what there is
    /// What a file names in place of ids, until it is looked up among what is there.
    std::vector<std::string> names{};

    bool operator==(const Ride&) const = default;
};

}  // namespace pinion
