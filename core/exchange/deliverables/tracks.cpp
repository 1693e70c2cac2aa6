#include "exchange/deliverables/rows.h"
#include "exchange/shotfiles.h"

namespace pinion {
namespace {

Expected<std::string> tracksText(const Shot& shot, const Deliverable& deliverable) {
    if (shot.tracks.isEmpty()) return failure(Fault::outcome, "shot {}: there are no tracks to deliver", shot.name);
    const TrackFile file = trackFileOf(shot);
    const Origin origin = deliverable.transform.origin;
    return deliverable.format == DeliverableFormat::csv ? tracksCsv(file, origin) : tracksJson(file, origin);
}

Expected<void> checkTracks(const Shot& shot, const Deliverable&, const std::filesystem::path& path) {
    const TrackFile written = trackFileOf(shot);
    const auto read = readTracks(path);
    if (!read) return tl::unexpected(read.error());
    bool same = read->tracks.size() == written.tracks.size() && read->fps == written.fps;
    for (std::size_t i = 0; same && i < written.tracks.size(); ++i)
        same = read->tracks[i].samples.size() == written.tracks[i].samples.size();
    return checkSame(same, path, "the tracks differ from the shot's");
}

void addTracksKey(Fingerprint& print, const Shot& shot, const Deliverable&) {
    addPlate(print, shot.plate);
    addWholeTracks(print, shot.tracks);
}

}  // namespace

DeliverableRow tracksRow() {
    return {.kind = DeliverableKind::tracks,
            .what = "tracks are",
            .about = "where the tracks are, frame by frame, in pixels of the plate as filmed",
            .formats = {DeliverableFormat::json, DeliverableFormat::csv},
            .usual = {{"tracks", DeliverableFormat::json, ".tracks.json"},
                      {"tracks as a table", DeliverableFormat::csv, ".tracks.csv"}},
            .text = tracksText,
            .check = checkTracks,
            .addKey = addTracksKey};
}

}  // namespace pinion
