#pragma once

#include "lens/maps.h"
#include "shot/shot.h"

namespace pinion {

/// The shot with a lens for its plate, or none.
Shot withLens(const Shot& shot, const std::optional<Lens>& lens, LensCard::Source source,
              const LensDeviations& deviations = {});

/// The shot with other lines. The lens is then what they say, once that is worked out.
Shot withLensLines(const Shot& shot, std::vector<LensLine> lines);

/// What the chart said, with its views.
Shot withChartLens(const Shot& shot, const ChartLens& found);

/// What the camera solve found becomes the card's lens. The shot as it is when there is no solve.
Shot withSolvedLens(const Shot& shot);

/// The lens that two maps make (lensFromMaps); `maps` names their files.
Shot withMapsLens(const Shot& shot, const MapsLens& found, LensMaps maps);

}  // namespace pinion
