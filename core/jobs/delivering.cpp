#include "jobs/delivering.h"

#include "base/files.h"
#include "camera/solve.h"
#include "exchange/deliverables.h"
#include "plate/framewriter.h"
#include "shot/stages/worldstage.h"

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

Expected<fs::path> writeDeliveryNote(const Shot& shot, const fs::path& folder) {
    std::string list;
    for (const Deliverable& one : shot.deliverables) {
        const fs::path place = folder / one.place;
        std::error_code code;
        const bool isThere =
            fs::exists(isSequencePattern(place) ? frameFile(place, shot.plate.range.first) : place, code);
        if (!isThere) continue;
        const bool hasAxes = one.kind == DeliverableKind::camera || one.kind == DeliverableKind::objects ||
                             one.kind == DeliverableKind::scene;
        list += fmt::format("\n{}\n    {}: {}{}\n", one.place, one.name, deliverableRow(one.kind).about,
                            hasAxes ? fmt::format(" ({} up)", one.upAxis == UpAxis::z ? "z" : "y") : "");
    }
    if (list.empty()) return fs::path();
    const PlateRef& plate = shot.plate;
    std::string text = fmt::format("{}: what is in this folder\n\nPlate   {}, {} x {}, {} frames/s, frames {} to {}\n",
                                   shot.name, plate.path.filename().string(), plate.width, plate.height,
                                   toString(plate.fps), plate.range.first, plate.range.last);
    if (shot.solve) {
        const Solve& solve = *shot.solve;
        text += fmt::format("Camera  {}, off its tracks by {:.2f} px, {}\n", toString(solve.motion), solve.rms_px,
                            heldOutWords(solve, 2));
        if (!solve.doubt.empty()) text += fmt::format("Doubt   {}\n", solve.doubt);
        text += fmt::format("World   {}, right-handed; the camera looks along its -z\n",
                            isInMetres(shot) ? "in metres" : "in a unit of its own: no length is known");
    }
    text +=
        "Pixels  x to the right, y down from the top left corner unless a file says otherwise; the middle of the first "
        "is 0.5, 0.5\n" +
        list;
    const fs::path path = folder / (shot.name + ".README.txt");
    if (auto written = writeFile(path, text); !written) return tl::unexpected(written.error());
    return path;
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
