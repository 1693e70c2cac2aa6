#include "exchange/deliverables/rows.h"
#include "exchange/transforms.h"
#include "shot/carriers/carriers.h"
#include "shot/stages/steadystage.h"

namespace pinion {
namespace {

template <auto asJson, auto asCsv>
Expected<std::string> transformsText(const Shot& shot, const Deliverable& deliverable) {
    const Locator* locator = findLocator(shot, deliverable.locator);
    if (!locator) return failure(Fault::input, "deliverable {}: its locator is gone", deliverable.name);
    const auto motion = locatorMotion(shot, *locator);
    if (!motion) return tl::unexpected(motion.error());
    const TransformSource source{locator->name, shot.plate.width, shot.plate.height, shot.plate.fps};
    return deliverable.format == DeliverableFormat::csv ? asCsv(*motion, source, deliverable.transform)
                                                        : asJson(*motion, source, deliverable.transform);
}

Expected<void> checkTransforms(const Shot&, const Deliverable& deliverable, const std::filesystem::path& path) {
    if (deliverable.format != DeliverableFormat::json) return {};
    const auto matrices = readMatrices(path);
    return matrices ? Expected<void>{} : tl::unexpected(matrices.error());
}

void addTransformsKey(Fingerprint& print, const Shot& shot, const Deliverable& deliverable) {
    const Locator* locator = findLocator(shot, deliverable.locator);
    if (!locator) return;
    addPlate(print, shot.plate);
    addText(print, locator->name);
    addRide(print, shot, locator->on);
}

}  // namespace

DeliverableRow transformsRow() {
    return {.kind = DeliverableKind::transforms,
            .what = "transforms are",
            .about = "position, rotation and scale of a locator against its reference frame",
            .formats = {DeliverableFormat::json, DeliverableFormat::csv},
            .text = transformsText<transformsJson, transformsCsv>,
            .check = checkTransforms,
            .addKey = addTransformsKey};
}

DeliverableRow cornerPinRow() {
    return {.kind = DeliverableKind::cornerPin,
            .what = "corner pins are",
            .about = "four corners a frame",
            .formats = {DeliverableFormat::json, DeliverableFormat::csv},
            .text = transformsText<cornerPinJson, cornerPinCsv>,
            .check = checkTransforms,
            .addKey = addTransformsKey};
}

}  // namespace pinion
