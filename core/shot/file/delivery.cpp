#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

void putDeliveryPart(json& document, const Shot& shot, const fs::path&) {
    json& deliverables = document["deliverables"] = json::array();
    for (const Deliverable& d : shot.deliverables) {
        json entry{{"name", d.name},
                   {"kind", kDeliverableKinds[std::size_t(d.kind)]},
                   {"format", kDeliverableFormats[std::size_t(d.format)]},
                   {"place", d.place},
                   {"up_axis", d.upAxis == UpAxis::z ? "z" : "y"},
                   {"written_key", d.writtenKey}};
        if (d.locator != 0) entry["locator"] = d.locator;
        if (d.overscan) entry["overscan"] = true;
        if (const TransformOptions& t = d.transform; !(t == TransformOptions{}))
            entry["transform"] = {{"origin", toString(t.origin)},
                                  {"inverse", t.inverse},
                                  {"position", t.position},
                                  {"rotation", t.rotation},
                                  {"scale", t.scale}};
        deliverables.push_back(std::move(entry));
    }
    if (!shot.deliveryFolder.empty()) document["delivery_folder"] = shot.deliveryFolder;
}

/// Older files name it; 0 stands for one that is gone.
LocatorId takeLocatorId(const json& entry, const Shot& shot, const std::string& where) {
    if (!entry["locator"].is_string()) return LocatorId(key(entry, "locator", where));
    for (const Locator& locator : shot.locators)
        if (locator.name == text(entry, "locator", where)) return locator.id;
    return 0;
}

void takeDeliveryPart(const json& document, Shot& shot, const fs::path&) {
    std::vector<Deliverable> deliverables;
    for (std::size_t i = 0; const json& entry : list(document, "deliverables", "file")) {
        const std::string where = fmt::format("deliverables[{}]", i++);
        Deliverable d;
        d.name = text(entry, "name", where);
        d.kind = word<DeliverableKind>(entry, "kind", kDeliverableKinds, where);
        d.format = word<DeliverableFormat>(entry, "format", kDeliverableFormats, where);
        d.place = text(entry, "place", where);
        d.upAxis = text(entry, "up_axis", where) == "z" ? UpAxis::z : UpAxis::y;
        d.writtenKey = key(entry, "written_key", where);
        if (entry.contains("locator")) d.locator = takeLocatorId(entry, shot, where);
        d.overscan = flagOr(entry, "overscan", false, where);
        if (entry.contains("transform")) {
            const json& t = entry["transform"];
            const std::string at = where + ".transform";
            const auto origin = originFrom(text(t, "origin", at));
            if (!origin) malformed(where + ".transform.origin: is not known");
            d.transform = {*origin, flagOr(t, "inverse", false, at), flagOr(t, "position", true, at),
                           flagOr(t, "rotation", true, at), flagOr(t, "scale", true, at)};
        }
        deliverables.push_back(std::move(d));
    }
    shot.deliverables = List<Deliverable>(std::move(deliverables));
    if (document.contains("delivery_folder")) shot.deliveryFolder = text(document, "delivery_folder", "file");
}

}  // namespace

ShotFilePart deliveryPart() { return {putDeliveryPart, takeDeliveryPart}; }

}  // namespace pinion
