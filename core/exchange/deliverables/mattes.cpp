#include "base/files.h"
#include "exchange/deliverables/rows.h"
#include "exchange/formats.h"
#include "exchange/svg.h"
#include "matte/coverage.h"
#include "matte/riding.h"
#include "matte/sequence.h"
#include "plate/framewriter.h"
#include "shot/carriers/carriers.h"

#include <set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

Expected<std::vector<Matte>> deliveredMattes(const Shot& shot) {
    if (shot.mattes.isEmpty()) return failure(Fault::outcome, "shot {}: there are no shapes to deliver", shot.name);
    return ridden(shot.mattes.vector(), carriersOf(shot), shot.plate.range);
}

Expected<std::string> mattesText(const Shot& shot, const Deliverable& deliverable) {
    if (deliverable.format != DeliverableFormat::json)
        return failure(Fault::input, "{}: pictures do not go to the clipboard; deliver them", deliverable.name);
    const auto mattes = deliveredMattes(shot);
    if (!mattes) return tl::unexpected(mattes.error());
    return mattesJson(*mattes);
}

/// "name.####.svg" on one frame.
fs::path onFrame(const fs::path& pattern, int frame) {
    std::string name = pattern.filename().string();
    const std::size_t first = name.find('#');
    if (first != std::string::npos) {
        const std::size_t last = name.find_first_not_of('#', first);
        const std::size_t digits = (last == std::string::npos ? name.size() : last) - first;
        name.replace(first, digits, fmt::format("{:0{}}", frame, digits));
    }
    return pattern.parent_path() / name;
}

Expected<std::vector<fs::path>> writeText(const fs::path& path, const std::string& contents) {
    if (auto done = writeFile(path, contents); !done) return tl::unexpected(done.error());
    const auto read = readFile(path);
    if (!read) return tl::unexpected(read.error());
    if (auto same = checkSame(*read == contents, path, "the shapes differ"); !same) return tl::unexpected(same.error());
    return std::vector<fs::path>{path};
}

/// A file a keyframe, or one, of the first, under a name without a number.
Expected<std::vector<fs::path>> writeSvg(const Shot& shot, const std::vector<Matte>& mattes, const fs::path& path) {
    std::set<int> frames;
    for (const Matte& matte : shot.mattes)
        for (const Matte::Key& key : matte.keys)
            if (shot.plate.range.holds(key.frame)) frames.insert(key.frame);
    if (frames.empty()) frames.insert(shot.plate.range.first);
    if (path.filename().string().find('#') == std::string::npos) frames = {*frames.begin()};
    std::vector<fs::path> files;
    for (const int frame : frames) {
        const fs::path file = onFrame(path, frame);
        if (auto done = writeText(file, mattesSvg(mattes, frame, shot.plate.width, shot.plate.height)); !done)
            return done;
        files.push_back(file);
    }
    return files;
}

Expected<std::vector<fs::path>> writePictures(const Shot& shot, const std::vector<Matte>& mattes,
                                              const fs::path& path) {
    const PlateRef& plate = shot.plate;
    const auto writer = FrameWriter::create(path, plate.width, plate.height, plate.fps,
                                            {.half = true, .pixelAspect = plate.pixelAspect});
    if (!writer) return tl::unexpected(writer.error());
    std::vector<fs::path> files;
    for (int frame = plate.range.first; frame <= plate.range.last; ++frame) {
        const ImageChannel plane = coverageOf(mattes, frame, plate.width, plate.height);
        if (auto done = (*writer)->write(frame, plane); !done) return tl::unexpected(done.error());
        files.push_back(onFrame(path, frame));
    }
    if (auto done = (*writer)->finish(); !done) return tl::unexpected(done.error());
    // Read back on its first frame, within what the file's digits hold.
    const auto back = matteSequence(path)->at(plate.range.first);
    const ImageChannel first = coverageOf(mattes, plate.range.first, plate.width, plate.height);
    bool same = back && back->width == plate.width && back->height == plate.height;
    for (std::size_t i = 0; same && i < first.values.size(); ++i)
        same = std::abs(back->values[i] - first.values[i]) < 1e-3F;
    if (auto checked = checkSame(same, files.front(), "the matte differs"); !checked)
        return tl::unexpected(checked.error());
    return files;
}

Expected<std::vector<fs::path>> writeMattes(const Shot& shot, const Deliverable& deliverable, const fs::path& path) {
    const auto mattes = deliveredMattes(shot);
    if (!mattes) return tl::unexpected(mattes.error());
    if (auto made = makeFolder(path.parent_path()); !made) return tl::unexpected(made.error());
    if (deliverable.format == DeliverableFormat::json) return writeText(path, mattesJson(*mattes));
    if (deliverable.format == DeliverableFormat::svg) return writeSvg(shot, *mattes, path);
    return writePictures(shot, *mattes, path);
}

void addMattesKey(Fingerprint& print, const Shot& shot, const Deliverable&) {
    addPlate(print, shot.plate);
    addMattes(print, shot);
}

}  // namespace

DeliverableRow mattesRow() {
    return {.kind = DeliverableKind::mattes,
            .what = "mattes are",
            .about = "mattes; in pictures white where they cover",
            .formats = {DeliverableFormat::exr, DeliverableFormat::png, DeliverableFormat::tiff,
                        DeliverableFormat::json, DeliverableFormat::svg},
            .usual = {},
            .text = mattesText,
            .write = writeMattes,
            .addKey = addMattesKey};
}

}  // namespace pinion
