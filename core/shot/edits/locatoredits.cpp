#include "shot/edits/locatoredits.h"

#include <algorithm>
#include <fmt/format.h>

namespace pinion {

Shot withLocatorAdded(const Shot& shot, const std::vector<TrackId>& ids, int referenceFrame, MotionKind kind) {
    Shot result = shot;
    const Track* first = ids.empty() ? nullptr : findTrack(shot, ids.front());
    Locator locator;
    const std::string wanted = first ? first->name : "locator";
    for (int number = 1; locator.name.empty() || findLocator(shot, locator.name); ++number)
        locator.name = number == 1 ? "on " + wanted : fmt::format("on {} {}", wanted, number);
    locator.tracks = List<TrackId>(ids);
    locator.referenceFrame = referenceFrame;
    locator.kind = kind;
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

}  // namespace pinion
