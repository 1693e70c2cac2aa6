#include "exchange/newshot.h"

#include "exchange/deliverables.h"
#include "plate/framewriter.h"

#include <cmath>

namespace pinion {

Shot shotOf(const PlateFacts& facts) {
    Shot shot;
    shot.plate = plateRef(facts);
    // Pixels wider than high: the plate was squeezed by as much.
    if (std::abs(facts.pixelAspect - 1) > 0.001) shot.solveSettings.squeeze = 1 / facts.pixelAspect;
    const std::string name = nameWithoutNumber(facts.path);
    shot.name = name.empty() ? "shot" : name;
    std::vector<Deliverable> usual;
    for (const DeliverableRow& row : deliverableRows())
        for (const UsualDeliverable& item : row.usual)
            usual.push_back({item.name, row.kind, item.format, item.named ? shot.name + item.place : item.place});
    shot.deliverables = List<Deliverable>(std::move(usual));
    return shot;
}

}  // namespace pinion
