#include "exchange/deliverables/rows.h"
#include "exchange/formats.h"
#include "exchange/opencvlens.h"
#include "exchange/shotfiles.h"

namespace pinion {
namespace {

Expected<std::string> lensText(const Shot& shot, const Deliverable& deliverable) {
    const auto lens = lensFileOf(shot);
    if (!lens) return tl::unexpected(lens.error());
    return deliverable.format == DeliverableFormat::yaml ? openCvLens(*lens) : Expected<std::string>(lensJson(*lens));
}

Expected<void> checkLens(const Shot& shot, const Deliverable& deliverable, const std::filesystem::path& path) {
    const auto written = lensFileOf(shot);
    if (!written) return tl::unexpected(written.error());
    const auto read = deliverable.format == DeliverableFormat::yaml ? readOpenCvLens(path) : readLens(path);
    if (!read) return tl::unexpected(read.error());
    return checkSame(std::abs(read->k1 - written->k1) < 1e-12 && std::abs(read->focal_px - written->focal_px) < 1e-6 &&
                         std::abs(read->cx - written->cx) < 1e-6 && read->field == written->field,
                     path, "the lens differs from the shot's");
}

void addLensKey(Fingerprint& print, const Shot& shot, const Deliverable&) {
    if (const auto lens = lensFileOf(shot)) addLens(print.add(lens->width).add(lens->height), *lens);
}

}  // namespace

DeliverableRow lensRow() {
    return {.kind = DeliverableKind::lens,
            .what = "a lens is",
            .about = "the lens and its distortion",
            .formats = {DeliverableFormat::json, DeliverableFormat::yaml},
            .usual = {{"lens", DeliverableFormat::json, ".lens.json"}},
            .text = lensText,
            .check = checkLens,
            .addKey = addLensKey};
}

}  // namespace pinion
