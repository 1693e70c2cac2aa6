#include "exchange/deliverables.h"

#include "exchange/deliverables/rows.h"

#include <algorithm>

namespace pinion {

const DeliverableRow& deliverableRow(DeliverableKind kind) {
    const auto rows = deliverableRows();
    return *std::find_if(rows.begin(), rows.end(), [&](const DeliverableRow& row) { return row.kind == kind; });
}

Expected<void> checkSame(bool same, const std::filesystem::path& path, const char* what) {
    if (!same) return failure(Fault::system, "{}: read back, {}", path.string(), what);
    return {};
}

Expected<std::string> deliverableText(const Shot& shot, const Deliverable& deliverable) {
    const DeliverableRow& row = deliverableRow(deliverable.kind);
    if (!row.text) return failure(Fault::input, "deliverable {}: is a picture, not text", deliverable.name);
    if (std::find(row.formats.begin(), row.formats.end(), deliverable.format) != row.formats.end())
        return row.text(shot, deliverable);
    std::string formats;
    for (const DeliverableFormat format : row.formats)
        formats += (formats.empty() ? "" : " or ") + std::string(kDeliverableFormats[std::size_t(format)]);
    return failure(Fault::input, "deliverable {}: {} written as {}", deliverable.name, row.what, formats);
}

std::uint64_t deliveryKey(const Shot& shot, const Deliverable& deliverable) {
    Fingerprint print;
    print.add(int(deliverable.kind)).add(int(deliverable.format)).add(int(deliverable.upAxis));
    const TransformOptions& t = deliverable.transform;
    if (!(t == TransformOptions{}))
        print.add(int(t.origin)).add(int(t.inverse)).add(int(t.position)).add(int(t.rotation)).add(int(t.scale));
    for (char c : deliverable.place) print.add(int(c));
    if (deliverable.overscan) print.add(111);
    deliverableRow(deliverable.kind).addKey(print, shot, deliverable);
    return print.value();
}

StageReport deliveryReport(const Shot& shot) {
    StageReport report{StageState::empty, fmt::format("{} listed", shot.deliverables.size()), ""};
    std::size_t written = 0, stale = 0;
    for (const Deliverable& deliverable : shot.deliverables) {
        if (deliverable.writtenKey == 0) continue;
        (deliverable.writtenKey == deliveryKey(shot, deliverable) ? written : stale)++;
    }
    if (written + stale > 0) {
        report.state = stale > 0 ? StageState::stale : StageState::done;
        report.number =
            stale > 0 ? fmt::format("{} written · {} stale", written, stale) : fmt::format("{} written", written);
        if (stale > 0) report.message = "The shot changed since the delivery. Deliver again.";
    }
    return report;
}

}  // namespace pinion
