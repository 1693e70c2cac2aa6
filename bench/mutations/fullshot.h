#pragma once

#include "shot/shot.h"

namespace pinion::bench {

/// A shot in which nothing is as it is by itself: every part, every member of it. A test keeps that true.
Shot fullShot();

}  // namespace pinion::bench
