#pragma once

#include "comp/bend.h"
#include "comp/render.h"
#include "steady/rows.h"
#include "steady/steady.h"

#include <memory>
#include <vector>

namespace pinion {

/// Where a steadied frame whose rows are straightened is read from the plate of `width` x `height`, and where the plate
/// is read from it.
LookUp steadying(const FrameMap& map, const RowWarp& rows, int width, int height);
LookUp unsteadying(const FrameMap& map, const RowWarp& rows, int width, int height);

/// The plate through the maps, and the way back: with straight rows where `rows` is not null.
std::vector<SheetMap> steadiedSheets(const std::vector<FrameMap>& maps, std::shared_ptr<const RowWarp> rows,
                                     ResampleFilter filter, EdgeMode edges);

}  // namespace pinion
