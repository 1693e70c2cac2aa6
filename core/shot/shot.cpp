#include "shot/shot.h"

#include <unordered_map>

namespace pinion {
namespace {

/// Where each is in its list, by id.
struct PlaceById {
    std::unordered_map<TrackId, std::size_t> places;
};

template <class Item, class IdOf>
const Item* findById(const List<Item>& items, TrackId id, const IdOf& idOf) {
    const auto& places = items
                             .template derived<PlaceById>([&](const std::vector<Item>& all) {
                                 PlaceById made;
                                 for (std::size_t i = 0; i < all.size(); ++i) made.places.emplace(idOf(all[i]), i);
                                 return made;
                             })
                             .places;
    const auto found = places.find(id);
    return found == places.end() ? nullptr : &items[found->second];
}

}  // namespace

PlateRef plateRef(const PlateFacts& facts) {
    const FrameRange all{facts.firstFrame, facts.lastFrame};
    return {facts.path, facts.width, facts.height, facts.pixelAspect, facts.fps, facts.times, all, all};
}

const Track* findTrack(const Shot& shot, TrackId id) {
    return findById(shot.tracks, id, [](const Track& track) { return track.id; });
}

const SolvedTrack* findSolved(const Shot& shot, TrackId id) {
    if (!shot.solve) return nullptr;
    return findById(shot.solve->tracks, id, [](const SolvedTrack& track) { return track.track; });
}

const PlanarTrack* findPlane(const Shot& shot, PlaneId id) {
    for (const PlanarTrack& plane : shot.planes)
        if (plane.id == id) return &plane;
    return nullptr;
}

const Clip* findClip(const Shot& shot, ClipId id) {
    for (const Clip& clip : shot.clips)
        if (clip.id == id) return &clip;
    return nullptr;
}

const Insert* findInsert(const Shot& shot, InsertId id) {
    for (const Insert& insert : shot.inserts)
        if (insert.id == id) return &insert;
    return nullptr;
}

const Locator* findLocator(const Shot& shot, LocatorId id) {
    for (const Locator& locator : shot.locators)
        if (locator.id == id) return &locator;
    return nullptr;
}

const Matte* findMatte(const Shot& shot, MatteId id) {
    for (const Matte& matte : shot.mattes)
        if (matte.id == id) return &matte;
    return nullptr;
}

const ShotObject* findObject(const Shot& shot, ObjectId id) {
    for (const ShotObject& object : shot.objects)
        if (object.id == id) return &object;
    return nullptr;
}

std::vector<Track> tracksOf(const Shot& shot, const List<TrackId>& ids) {
    std::vector<Track> tracks;
    for (TrackId id : ids)
        if (const Track* track = findTrack(shot, id)) tracks.push_back(*track);
    return tracks;
}

}  // namespace pinion
