// The tables that a new part of the core is added to: one line each, and a file of its own that says the rest.

#include "exchange/deliverables.h"
#include "shot/carriers/carriers.h"
#include "shot/file/parts.h"
#include "shot/layers/layers.h"

#include <array>

namespace pinion {

// Parts of the shot's file (shot/file), in the order in which they are read.
ShotFilePart platePart();
ShotFilePart tracksPart();  // with the settings of scatter, and mattes
ShotFilePart planesPart();
ShotFilePart cameraPart();  // what the Camera card holds
ShotFilePart lensPart();    // what the Lens card holds
ShotFilePart solvePart();
ShotFilePart worldPart();
ShotFilePart objectsPart();
ShotFilePart scenePart();    // what stands in the world
ShotFilePart steadyPart();   // with the locators
ShotFilePart insertsPart();  // with the clips
ShotFilePart deliveryPart();

std::span<const ShotFilePart> shotFileParts() {
    static const std::array parts{platePart(), tracksPart(), planesPart(),  cameraPart(),
                                  lensPart(),  solvePart(),  worldPart(),   objectsPart(),
                                  scenePart(), steadyPart(), insertsPart(), deliveryPart()};
    return parts;
}

// What things ride on (shot/carriers), in the order in which cards offer it.
CarrierKind pictureCarrier();
CarrierKind tracksCarrier();
CarrierKind planeCarrier();
CarrierKind objectCarrier();
CarrierKind groundCarrier();
CarrierKind locatorCarrier();

std::span<const CarrierKind> carrierKinds() {
    static const std::array kinds{pictureCarrier(), tracksCarrier(), planeCarrier(),
                                  objectCarrier(),  groundCarrier(), locatorCarrier()};
    return kinds;
}

// What is laid over the plate (shot/layers).
LayerKind artLayer();
LayerKind sceneLayer();
LayerKind thrownLayer();

std::span<const LayerKind> layerKinds() {
    static const std::array kinds{artLayer(), sceneLayer(), thrownLayer()};
    return kinds;
}

// What is handed on (exchange/deliverables).
DeliverableRow cameraRow();
DeliverableRow tracksRow();
DeliverableRow stMapsRow();
DeliverableRow transformsRow();
DeliverableRow cornerPinRow();
DeliverableRow lensRow();
DeliverableRow mattesRow();
DeliverableRow objectsRow();
DeliverableRow sceneRow();

std::span<const DeliverableRow> deliverableRows() {
    static const std::array<DeliverableRow, kDeliverableKinds.size()> rows{cameraRow(),     tracksRow(),    stMapsRow(),
                                                                           transformsRow(), cornerPinRow(), lensRow(),
                                                                           mattesRow(),     objectsRow(),   sceneRow()};
    return rows;
}

}  // namespace pinion
