#include "shot/file/parts.h"
#include "shot/file/values.h"
#include "matte/mattejson.h"

#include <set>

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kReasons{"none", "range end", "left frame", "covered", "drift limit", "ambiguous", "excluded"};

constexpr int kMostSearch = 4096;
constexpr int kAside = 64;  // the mark of a sample; the three bits below it are why the next frame is missing

json tracksValue(const Shot& shot) {
    json tracks = json::array();
    for (const Track& track : shot.tracks) {
        json samples = json::array();
        for (const Sample& s : track.samples) {
            const int marks =
                (s.tie ? 1 : 0) | (s.renewed ? 2 : 0) | (s.bridged ? 4 : 0) | int(s.lost) << 3 | (s.aside ? kAside : 0);
            json sample{s.frame, s.at.x(), s.at.y(), std::round(s.score * 1e4) / 1e4, marks};
            if (s.carried != Eigen::Vector2f(0, 0)) {
                sample.push_back(s.carried.x());
                sample.push_back(s.carried.y());
            }
            samples.push_back(std::move(sample));
        }
        json entry{{"id", track.id},
                   {"name", track.name},
                   {"by_hand", track.byHand},
                   {"set_aside", track.setAside},
                   {"motion", toString(track.motion)},
                   {"channel", toString(track.channel)},
                   {"pattern_px", track.pattern_px},
                   {"search_px", track.search_px},
                   {"drift_limit", track.driftLimit},
                   {"reference_frame", track.referenceFrame},
                   {"start", kReasons[std::size_t(track.startReason)]},
                   {"end", kReasons[std::size_t(track.endReason)]},
                   {"samples", std::move(samples)}};
        // What is as usual is not written.
        if (track.preFilter != PreFilter::none) entry["pre_filter"] = toString(track.preFilter);
        if (track.pickUp) entry["pick_up"] = true;
        if (!track.offset.isZero()) entry["offset"] = {track.offset.x(), track.offset.y()};
        for (const Eigen::Vector2d& corner : track.outline) entry["outline"].push_back({corner.x(), corner.y()});
        if (track.colour != 0) entry["colour"] = track.colour;
        if (!track.group.empty()) entry["group"] = track.group;
        if (track.locked) entry["locked"] = true;
        if (track.hidden) entry["hidden"] = true;
        tracks.push_back(std::move(entry));
    }
    return tracks;
}

List<Sample> takeSamples(const json& entry, const std::string& where) {
    std::vector<Sample> samples;
    for (std::size_t k = 0; const json& value : list(entry, "samples", where)) {
        const std::string place = fmt::format("{}.samples[{}]", where, k++);
        if (!value.is_array() || (value.size() != 5 && value.size() != 7))
            malformed(place + ": has not 5 or 7 numbers");
        const int frame = whole(value[0], place);
        const double marks = number(value[4], place);
        Sample sample{
            .frame = frame, .at = {number(value[1], place), number(value[2], place)}, .score = number(value[3], place)};
        sample.tie = int(marks) & 1;
        sample.renewed = int(marks) & 2;
        sample.bridged = int(marks) & 4;
        sample.aside = int(marks) & kAside;
        const int lost = int(marks) >> 3 & 7;
        if (marks < 0 || marks >= 2 * kAside || lost >= int(kReasons.size()))
            malformed(place + ": its marks are not known");
        sample.lost = EndReason(lost);
        if (value.size() == 7) sample.carried = {float(number(value[5], place)), float(number(value[6], place))};
        if (!samples.empty() && sample.frame <= samples.back().frame)
            malformed(place + ": frames have to rise, each once");
        samples.push_back(sample);
    }
    return List<Sample>(std::move(samples));
}

Track takeTrack(const json& entry, const std::string& where) {
    Track track;
    track.id = TrackId(key(entry, "id", where));
    track.name = text(entry, "name", where);
    track.byHand = flagOr(entry, "by_hand", false, where);
    track.setAside = flagOr(entry, "set_aside", false, where);
    const auto motion = motionModelFrom(text(entry, "motion", where));
    if (!motion) malformed(where + ".motion: is not known");
    track.motion = *motion;
    const auto channel = channelFrom(text(entry, "channel", where));
    if (!channel) malformed(where + ".channel: is not known");
    track.channel = *channel;
    track.pattern_px = whole(entry, "pattern_px", where);
    track.search_px = whole(entry, "search_px", where);
    track.pattern_px = std::clamp(track.pattern_px, 5, 101);
    track.search_px = std::clamp(track.search_px, track.pattern_px, kMostSearch);
    track.driftLimit = number(entry, "drift_limit", where);
    track.referenceFrame = whole(entry, "reference_frame", where);
    track.startReason = word<EndReason>(entry, "start", kReasons, where);
    track.endReason = word<EndReason>(entry, "end", kReasons, where);
    if (entry.contains("pre_filter")) {
        const auto filter = preFilterFrom(text(entry, "pre_filter", where));
        if (!filter) malformed(where + ".pre_filter: is not known");
        track.preFilter = *filter;
    }
    track.pickUp = flagOr(entry, "pick_up", false, where);
    track.locked = flagOr(entry, "locked", false, where);
    track.hidden = flagOr(entry, "hidden", false, where);
    track.group = textOr(entry, "group", "", where);
    if (entry.contains("colour")) track.colour = std::uint32_t(key(entry, "colour", where));
    if (entry.contains("offset")) track.offset = vector2(entry["offset"], where + ".offset");
    if (entry.contains("outline")) {
        Polygon outline;
        for (const json& corner : list(entry, "outline", where)) outline.push_back(vector2(corner, where + ".outline"));
        track.outline = List<Eigen::Vector2d>(std::move(outline));
    }
    track.samples = takeSamples(entry, where);
    return track;
}

void takeScatter(const json& scatter, ScatterSettings& s) {
    s.features = whole(scatter, "features", "scatter");
    s.leastDistance_px = number(scatter, "least_distance_px", "scatter");
    s.threshold = number(scatter, "threshold", "scatter");
    s.pattern_px = whole(scatter, "pattern_px", "scatter");
    s.search_px = whole(scatter, "search_px", "scatter");
    s.driftLimit = number(scatter, "drift_limit", "scatter");
    const auto motion = motionModelFrom(text(scatter, "motion", "scatter"));
    const auto channel = channelFrom(text(scatter, "channel", "scatter"));
    if (!motion || !channel) malformed("scatter: its motion or channel is not known");
    s.features = std::clamp(s.features, 1, 100000);
    s.pattern_px = std::clamp(s.pattern_px, 5, 101);
    s.search_px = std::clamp(s.search_px, s.pattern_px, kMostSearch);
    s.motion = *motion;
    s.channel = *channel;
    if (scatter.contains("pre_filter"))
        s.preFilter = preFilterFrom(text(scatter, "pre_filter", "scatter")).value_or(PreFilter::none);
}

void putTracksPart(json& document, const Shot& shot, const fs::path& file) {
    const ScatterSettings& s = shot.scatterSettings;
    document["scatter"] = {{"features", s.features},
                           {"least_distance_px", s.leastDistance_px},
                           {"threshold", s.threshold},
                           {"pattern_px", s.pattern_px},
                           {"search_px", s.search_px},
                           {"motion", toString(s.motion)},
                           {"drift_limit", s.driftLimit},
                           {"channel", toString(s.channel)},
                           {"pre_filter", toString(s.preFilter)}};
    if (!shot.mattes.isEmpty()) document["mattes"] = mattesValue(shot.mattes.vector());
    if (shot.nextMatte > 1) document["next_matte"] = shot.nextMatte;
    for (std::size_t i = 0; i < shot.mattes.size(); ++i)
        if (const auto& pictures = shot.mattes[i].pictures)
            document["mattes"][i]["pictures"] = writtenPath(pictures->path(), file);
    document["tracks"] = tracksValue(shot);
    document["next_track"] = shot.nextTrack;
}

void takeTracksPart(const json& document, Shot& shot, const fs::path& file) {
    takeScatter(member(document, "scatter", "file"), shot.scatterSettings);
    std::vector<Track> tracks;
    std::set<TrackId> ids;
    for (std::size_t i = 0; const json& entry : list(document, "tracks", "file")) {
        tracks.push_back(takeTrack(entry, fmt::format("tracks[{}]", i++)));
        if (!ids.insert(tracks.back().id).second) malformed(fmt::format("tracks[{}].id: is there twice", i - 1));
        shot.nextTrack = std::max(shot.nextTrack, tracks.back().id + 1);
    }
    shot.tracks = List<Track>(std::move(tracks));
    // An id is given once: what was deleted may still be named by the solve.
    if (document.contains("next_track"))
        shot.nextTrack = std::max(shot.nextTrack, TrackId(key(document, "next_track", "file")));
    if (!document.contains("mattes")) return;
    auto mattes = takeMattes(list(document, "mattes", "file"), "mattes", file, MatteBounds::taken);
    std::set<MatteId> matteIds;
    for (std::size_t i = 0; const Matte& matte : mattes) {
        if (matte.id != 0 && !matteIds.insert(matte.id).second)
            malformed(fmt::format("mattes[{}].id: is there twice", i));
        shot.nextMatte = std::max(shot.nextMatte, matte.id + 1);
        ++i;
    }
    if (document.contains("next_matte"))
        shot.nextMatte = std::max(shot.nextMatte, MatteId(key(document, "next_matte", "file")));
    // Older files give them none.
    for (Matte& matte : mattes)
        if (matte.id == 0) matte.id = shot.nextMatte++;
    shot.mattes = List<Matte>(std::move(mattes));
}

}  // namespace

ShotFilePart tracksPart() { return {putTracksPart, takeTracksPart}; }

}  // namespace pinion
