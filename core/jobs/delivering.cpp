#include "jobs/delivering.h"

#include "base/files.h"
#include "exchange/deliverables.h"

#include <algorithm>

namespace pinion {
namespace {

namespace fs = std::filesystem;

/// The file holds what was written, to the letter; and where a reader of ours exists, it reads the same.
Expected<void> writeText(const Shot& shot, const Deliverable& deliverable, const fs::path& path) {
    const auto contents = deliverableText(shot, deliverable);
    if (!contents) return tl::unexpected(contents.error());
    if (auto made = makeFolder(path.parent_path()); !made) return made;
    if (auto written = writeFile(path, *contents); !written) return written;
    const auto read = readFile(path);
    if (!read) return tl::unexpected(read.error());
    if (*read != *contents)
        return failure(Fault::system, "{}: read back, the file differs from what was written", path.string());
    const auto check = deliverableRow(deliverable.kind).check;
    return check ? check(shot, deliverable, path) : Expected<void>{};
}

}  // namespace

fs::path deliveryFolderOf(const Shot& shot, const fs::path& shotFile) {
    const fs::path folder = shot.deliveryFolder.empty() ? fs::path("delivery") : fs::path(shot.deliveryFolder);
    if (folder.is_absolute()) return folder;
    const fs::path base = shotFile.empty() ? shot.plate.path.parent_path() : shotFile.parent_path();
    return base / folder;
}

Expected<DeliveryReport> deliver(const Shot& shot, const Deliverable& deliverable, const fs::path& folder) {
    if (deliverable.place.empty()) return failure(Fault::input, "deliverable {}: has no place", deliverable.name);
    const fs::path path = folder / deliverable.place;
    if (const auto write = deliverableRow(deliverable.kind).write) {
        auto files = write(shot, deliverable, path);
        if (!files) return tl::unexpected(files.error());
        return DeliveryReport{deliverable.name, std::move(*files)};
    }
    if (auto done = writeText(shot, deliverable, path); !done) return tl::unexpected(done.error());
    return DeliveryReport{deliverable.name, {path}};
}

Shot withDelivered(const Shot& shot, const std::string& deliverableName, const Shot& written) {
    Shot result = shot;
    const auto was = std::find_if(written.deliverables.begin(), written.deliverables.end(),
                                  [&](const Deliverable& one) { return one.name == deliverableName; });
    if (was == written.deliverables.end()) return result;
    result.deliverables = shot.deliverables.edited([&](auto& deliverables) {
        for (Deliverable& deliverable : deliverables)
            if (deliverable.name == deliverableName) deliverable.writtenKey = deliveryKey(written, *was);
    });
    return result;
}

}  // namespace pinion
