#pragma once

#include "shot/shot.h"

namespace pinion {

/// A shot of an opened plate, with the usual deliverables listed.
Shot shotOf(const PlateFacts& facts);

}  // namespace pinion
