#pragma once

#include "base/expected.h"
#include "matte/matte.h"
#include "motion/carrier.h"

#include <string>
#include <vector>

namespace pinion {

/// "what it rides on is not there on 1040-1052: it stays where it was on the nearest frame"; empty where the matte does
/// not count on those frames.
std::string gapNote(const Matte& matte, const Carrier& carrier);

/// Points and tangents on the plate of one frame, with what carries it taken in (null: nothing does); none without
/// keys.
std::optional<Matte::Key> riddenShape(const Matte& matte, int frame, const Carrier* carrier);

/// The mattes with their rides taken in, exactly: one that rides gets a key on every frame of `range`. On its
/// reference frame it lies as it was drawn; where its carrier is not, it stays where it was on the nearest frame.
/// Fails, naming the shape, when nothing carries one, and where a perspective takes it to its horizon; with `notes`
/// such a shape stays as it was drawn, and the note says why.
Expected<std::vector<Matte>> ridden(std::vector<Matte> mattes, const Carriers& carriers, const FrameRange& range,
                                    std::vector<std::string>* notes = nullptr);

}  // namespace pinion
