#include "shot/edits/locatoredits.h"

#include <algorithm>
#include <fmt/format.h>

namespace pinion {
namespace {

/// Under a free name, with what hands it on.
Shot withLocator(const Shot& shot, Locator locator, const std::string& wanted) {
    Shot result = shot;
    const MotionKind kind = locator.kind;
    for (int number = 1; locator.name.empty() || findLocator(shot, locator.name); ++number)
        locator.name = number == 1 ? "on " + wanted : fmt::format("on {} {}", wanted, number);
    std::string file = locator.name;
    std::replace(file.begin(), file.end(), ' ', '-');
    result.deliverables = shot.deliverables.edited([&](auto& list) {
        const bool pin = kind == MotionKind::cornerPin;
        for (const DeliverableFormat format : {DeliverableFormat::json, DeliverableFormat::csv}) {
            Deliverable item;
            item.name = fmt::format("{} {}{}", locator.name, pin ? "corner pin" : "transform",
                                    format == DeliverableFormat::csv ? " as a table" : "");
            item.kind = pin ? DeliverableKind::cornerPin : DeliverableKind::transforms;
            item.format = format;
            item.locator = locator.name;
            item.place = fmt::format("{}.{}.{}.{}", shot.name, file, pin ? "cornerpin" : "transforms",
                                     format == DeliverableFormat::csv ? "csv" : "json");
            list.push_back(std::move(item));
        }
    });
    result.locators = shot.locators.edited([&](auto& list) { list.push_back(std::move(locator)); });
    return result;
}

}  // namespace

Shot withLocatorAdded(const Shot& shot, const std::vector<TrackId>& ids, int referenceFrame, MotionKind kind) {
    const Track* first = ids.empty() ? nullptr : findTrack(shot, ids.front());
    return withLocator(shot, {"", List<TrackId>(ids), referenceFrame, kind}, first ? first->name : "locator");
}

Shot withPlaneHandedOn(const Shot& shot, PlaneId id, int referenceFrame) {
    const PlanarTrack* plane = findPlane(shot, id);
    if (!plane) return shot;
    const MotionKind kind = plane->ties.isEmpty() ? MotionKind::perspective : MotionKind::cornerPin;
    return withLocator(shot, {"", {}, referenceFrame, kind, plane->name}, plane->name);
}

}  // namespace pinion
