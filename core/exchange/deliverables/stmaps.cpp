#include "base/files.h"
#include "exchange/deliverables/rows.h"
#include "exchange/shotfiles.h"
#include "lens/stmap.h"

namespace pinion {
namespace {

namespace fs = std::filesystem;

Expected<void> checkMap(const fs::path& path, const StMap& written) {
    const auto read = readStMap(path);
    if (!read) return tl::unexpected(read.error());
    return checkSame(read->data == written.data && read->width == written.width && read->height == written.height &&
                         read->st == written.st,
                     path, "the map differs");
}

Expected<std::vector<fs::path>> writeStMaps(const Shot& shot, const Deliverable&, const fs::path& path) {
    const auto lens = lensFileOf(shot);
    if (!lens) return tl::unexpected(lens.error());
    if (auto made = makeFolder(path); !made) return tl::unexpected(made.error());
    std::vector<fs::path> files;
    for (const bool undistort : {true, false}) {
        const StMap map = undistort ? undistortMap(*lens) : redistortMap(*lens);
        const fs::path file = path / (undistort ? "undistort.exr" : "redistort.exr");
        auto done = writeStMap(map, file);
        if (done) done = checkMap(file, map);
        if (!done) return tl::unexpected(done.error());
        files.push_back(file);
    }
    return files;
}

void addStMapsKey(Fingerprint& print, const Shot& shot, const Deliverable&) {
    if (const auto lens = lensFileOf(shot)) addLens(print.add(lens->width).add(lens->height), *lens);
}

}  // namespace

DeliverableRow stMapsRow() {
    return {.kind = DeliverableKind::stMaps,
            .what = "ST maps are",
            .about = "ST maps of the lens: the way to the plate without distortion, and back",
            .formats = {DeliverableFormat::exr},
            .usual = {{"ST maps", DeliverableFormat::exr, "stmaps", false}},
            .write = writeStMaps,
            .addKey = addStMapsKey};
}

}  // namespace pinion
