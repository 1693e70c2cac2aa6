#include "shot/edits/insertedits.h"

#include "shot/carriers/carriers.h"
#include "shot/edits/names.h"
#include "shot/layers/layers.h"

#include <Eigen/LU>
#include <algorithm>
#include <fmt/format.h>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kUsualShare = 1.0 / 3;  // of the frame's width that fresh art is at most

Quad frameOf(const Shot& shot) {
    const double w = shot.plate.width, h = shot.plate.height;
    return {Vector2d(0, 0), {w, 0}, {w, h}, {0, h}};
}

Quad rectangle(const Vector2d& middle, double width, double height) {
    const double w = width / 2, h = height / 2;
    return {middle + Vector2d(-w, -h), middle + Vector2d(w, -h), middle + Vector2d(w, h), middle + Vector2d(-w, h)};
}

/// The places of the tracks that carry a ride, on its reference frame.
std::vector<Vector2d> placesOf(const Shot& shot, const Ride& ride) {
    std::vector<Vector2d> places;
    for (const TrackId id : tracksCarrying(shot, ride))
        if (const Track* track = findTrack(shot, id))
            if (const Sample* sample = sampleAt(*track, ride.referenceFrame)) places.push_back(sample->wanted());
    return places;
}

bool hasSurface(const Shot& shot, const std::optional<Ride>& ride) {
    // Without being worked out: what takes time has none of its own.
    const auto carrier = ride ? quickCarrierOf(shot, *ride) : nullptr;
    return carrier && carrier->hasSurface();
}

double ratioFor(const Shot& shot, const Insert& insert) {
    return carrierRatio(insert, carriersOf(shot), shot.plate.pixelAspect);
}

/// Puts fresh art into what carries it.
void placeFresh(const Shot& shot, Insert& insert) {
    insert.placing = {};
    insert.carrier = frameOf(shot);
    insert.onSurface = !insert.wholeFrame && hasSurface(shot, insert.ride);
    const auto art = artRatio(shot, insert);
    const auto fitInside = [&] {
        if (art) insert.placing = fitted(Fitting::inside, *art, ratioFor(shot, insert));
    };
    const std::vector<Vector2d> places = insert.ride ? placesOf(shot, *insert.ride) : std::vector<Vector2d>{};
    const CarrierKind* kind = insert.ride ? carrierKind(insert.ride->on) : nullptr;
    if (insert.wholeFrame || hasSurface(shot, insert.ride) || !kind || kind->carriesFrame) {
        fitInside();
        return;
    }
    if (places.size() == 4)
        if (const auto corners = inOrder({places[0], places[1], places[2], places[3]})) {
            insert.carrier = *corners;
            fitInside();
            return;
        }
    Vector2d middle(shot.plate.width / 2.0, shot.plate.height / 2.0);
    if (!places.empty()) {
        middle.setZero();
        for (const Vector2d& place : places) middle += place / double(places.size());
    }
    const Clip* clip = insert.shows == Insert::Shows::clip ? findClip(shot, insert.clip) : nullptr;
    // Pixels of the plate: an art's own size is its height, which no pixel aspect changes.
    double width = shot.plate.width * kUsualShare;
    const double ratio = art.value_or(16.0 / 9) / shot.plate.pixelAspect;
    if (clip) width = std::min(width, clip->height * ratio);
    insert.carrier = rectangle(middle, width, width / ratio);
}

}  // namespace

// ---- clips

Shot withClipAdded(const Shot& shot, const Clip& clip, ClipId* id) {
    for (const Clip& known : shot.clips)
        if (known.path == clip.path) {
            if (id) *id = known.id;
            return shot;
        }
    Shot result = shot;
    Clip added = clip;
    added.id = result.nextClip++;
    added.name = freeName(shot.clips, added.id, clip.name, "clip");
    if (id) *id = added.id;
    result.clips = shot.clips.edited([&](auto& clips) { clips.push_back(added); });
    return result;
}

Shot withClipEdited(const Shot& shot, ClipId id, const std::function<void(Clip&)>& edit) {
    Shot result = shot;
    result.clips = shot.clips.edited([&](auto& clips) {
        for (Clip& clip : clips)
            if (clip.id == id) edit(clip);
    });
    return result;
}

Shot withClipReplaced(const Shot& shot, ClipId id, const Clip& by) {
    return withClipEdited(shot, id, [&](Clip& clip) {
        Clip found = by;
        found.id = clip.id;
        found.name = clip.name;
        if (by.hasAlpha) found.alpha = clip.alpha;
        clip = found;
    });
}

Shot withClipRemoved(const Shot& shot, ClipId id) {
    Shot result = shot;
    result.clips =
        shot.clips.edited([&](auto& clips) { std::erase_if(clips, [&](const Clip& c) { return c.id == id; }); });
    result.inserts = shot.inserts.edited([&](auto& inserts) {
        std::erase_if(inserts, [&](const Insert& i) { return i.shows == Insert::Shows::clip && i.clip == id; });
    });
    return result;
}

// ---- inserts

std::optional<double> artRatio(const Shot& shot, const Insert& insert) {
    const Clip* clip = insert.shows == Insert::Shows::clip ? findClip(shot, insert.clip) : nullptr;
    return clip ? std::optional(clip->pixelAspect * clip->width / clip->height) : std::nullopt;
}

Shot withInsertAdded(const Shot& shot, Insert insert, int frame, InsertId* id) {
    Shot result = shot;
    insert.id = result.nextInsert++;
    const Clip* clip = findClip(shot, insert.clip);
    if (insert.name.empty())
        insert.name = insert.shows == Insert::Shows::test     ? "test picture"
                      : insert.shows == Insert::Shows::colour ? "tint"
                      : clip                                  ? clip->name
                                                              : "insert";
    insert.name = freeName(shot.inserts, insert.id, insert.name, "insert");
    if (insert.ride) insert.ride->referenceFrame = referenceForRide(shot, *insert.ride, frame);
    placeFresh(shot, insert);
    // A clip begins where the plate does; it can be moved.
    insert.time.start = shot.plate.range.first;
    if (id) *id = insert.id;
    result.inserts = shot.inserts.edited([&](auto& inserts) { inserts.push_back(std::move(insert)); });
    return result;
}

Shot withInsertEdited(const Shot& shot, InsertId id, const std::function<void(Insert&)>& edit) {
    Shot result = shot;
    result.inserts = shot.inserts.edited([&](auto& inserts) {
        for (Insert& insert : inserts)
            if (insert.id == id) edit(insert);
    });
    return result;
}

Shot withInsertRemoved(const Shot& shot, InsertId id) {
    Shot result = shot;
    result.inserts = shot.inserts.edited(
        [&](auto& inserts) { std::erase_if(inserts, [&](const Insert& i) { return i.id == id; }); });
    return result;
}

Shot withInsertMoved(const Shot& shot, std::size_t from, std::size_t to) {
    if (from >= shot.inserts.size() || to >= shot.inserts.size() || from == to) return shot;
    Shot result = shot;
    result.inserts = shot.inserts.edited([&](auto& inserts) {
        Insert moved = inserts[from];
        inserts.erase(inserts.begin() + std::ptrdiff_t(from));
        inserts.insert(inserts.begin() + std::ptrdiff_t(to), std::move(moved));
    });
    return result;
}

Shot withInsertCopied(const Shot& shot, InsertId id, const std::optional<Ride>& ride, int frame, InsertId* copyId) {
    const Insert* from = findInsert(shot, id);
    if (!from) return shot;
    Shot result = shot;
    Insert copy = *from;
    copy.id = result.nextInsert++;
    copy.name = freeName(shot.inserts, copy.id, from->name, "insert");
    if (copyId) *copyId = copy.id;
    std::size_t place = 0;
    while (shot.inserts[place].id != id) ++place;
    result.inserts =
        shot.inserts.edited([&](auto& inserts) { inserts.insert(inserts.begin() + std::ptrdiff_t(place) + 1, copy); });
    const Placing inside = copy.placing;
    result = withInsertPinned(result, copy.id, ride, frame);
    // From surface to surface its place inside stays too.
    const bool alike = hasSurface(shot, from->ride) && hasSurface(shot, ride);
    return withInsertEdited(result, copy.id, [&](Insert& insert) {
        if (alike) insert.placing = inside;
    });
}

Shot withInsertPinned(const Shot& shot, InsertId id, const std::optional<Ride>& ride, int frame) {
    const Insert* before = findInsert(shot, id);
    if (!before) return shot;
    Insert pinned = *before;
    pinned.ride = ride;
    if (pinned.ride) pinned.ride->referenceFrame = referenceForRide(shot, *pinned.ride, frame);
    placeFresh(shot, pinned);
    const bool hasOwn =
        pinned.wholeFrame || hasSurface(shot, ride) || (ride && placesOf(shot, *pinned.ride).size() == 4);
    // On what has no corners of its own it stays where it is now.
    const auto corners = hasOwn ? std::nullopt : surfaceOf(shot, *before).corners(before->placing, frame, true);
    if (corners && troubleOf(*corners).empty()) {
        pinned.carrier = *corners;
        pinned.placing = {};
        if (ride) {
            const Eigen::Matrix3d back = carrierOf(shot, *pinned.ride)->plateFromReference(frame).inverse();
            for (Vector2d& corner : pinned.carrier) corner = (back * corner.homogeneous()).hnormalized();
        }
    }
    return withInsertEdited(shot, id, [&](Insert& insert) { insert = pinned; });
}

Shot withInsertFitted(const Shot& shot, InsertId id, Fitting fitting) {
    return withInsertEdited(shot, id, [&](Insert& insert) {
        const double carrier = ratioFor(shot, insert);
        const auto trims = insert.placing.trims;
        insert.placing = fitted(fitting, artRatio(shot, insert).value_or(carrier), carrier);
        insert.placing.trims = trims;
    });
}

Shot withOpacityKey(const Shot& shot, InsertId id, int frame, double opacity) {
    return withInsertEdited(shot, id, [&](Insert& insert) {
        insert.opacityKeys = insert.opacityKeys.edited([&](auto& keys) {
            const auto at =
                std::find_if(keys.begin(), keys.end(), [&](const OpacityKey& k) { return k.frame >= frame; });
            if (at != keys.end() && at->frame == frame) at->opacity = opacity;
            else keys.insert(at, {frame, opacity});
        });
    });
}

Shot withOpacityKeyRemoved(const Shot& shot, InsertId id, int frame) {
    return withInsertEdited(shot, id, [&](Insert& insert) {
        // The last one's value is what is left.
        if (insert.opacityKeys.size() == 1) insert.look.opacity = insert.opacityKeys.front().opacity;
        insert.opacityKeys = insert.opacityKeys.edited(
            [&](auto& keys) { std::erase_if(keys, [&](const OpacityKey& key) { return key.frame == frame; }); });
    });
}

Shot withInsertThere(const Shot& shot, InsertId id, int frame, bool there) {
    return withInsertEdited(shot, id, [&](Insert& insert) {
        insert.turns = insert.turns.edited([&](auto& turns) { setThere(turns, frame, there); });
    });
}

}  // namespace pinion
