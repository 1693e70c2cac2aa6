#include "shot/edits/locatoredits.h"

#include "shot/carriers/carriers.h"

#include <algorithm>
#include <fmt/format.h>

namespace pinion {
namespace {

bool isNamed(const Shot& shot, const std::string& name) {
    return std::any_of(shot.locators.begin(), shot.locators.end(),
                       [&](const Locator& one) { return one.name == name; });
}

/// Under a free name, with what hands it on.
Shot withLocator(const Shot& shot, const Ride& on, const std::string& wanted) {
    Shot result = shot;
    Locator locator{result.nextLocator++, "", on};
    for (int number = 1; locator.name.empty() || isNamed(shot, locator.name); ++number)
        locator.name = number == 1 ? "on " + wanted : fmt::format("on {} {}", wanted, number);
    std::string file = locator.name;
    std::replace(file.begin(), file.end(), ' ', '-');
    result.deliverables = shot.deliverables.edited([&](auto& list) {
        const bool pin = on.as == MotionKind::cornerPin;
        for (const DeliverableFormat format : {DeliverableFormat::json, DeliverableFormat::csv}) {
            Deliverable item;
            item.name = fmt::format("{} {}{}", locator.name, pin ? "corner pin" : "transform",
                                    format == DeliverableFormat::csv ? " as a table" : "");
            item.kind = pin ? DeliverableKind::cornerPin : DeliverableKind::transforms;
            item.format = format;
            item.locator = locator.id;
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
    Ride on = rideOnTracks(ids, referenceFrame);
    on.as = kind;
    return withLocator(shot, on, first ? first->name : "locator");
}

Shot withPlaneHandedOn(const Shot& shot, PlaneId id, int referenceFrame) {
    const PlanarTrack* plane = findPlane(shot, id);
    if (!plane) return shot;
    Ride on = rideOnPlane(id, referenceFrame);
    on.as = plane->ties.isEmpty() ? MotionKind::perspective : MotionKind::cornerPin;
    return withLocator(shot, on, plane->name);
}

}  // namespace pinion
