#include "session/selection.h"

#include <unordered_set>

namespace pinion {

Selection::Selection(Document& document) : document_(document) {
    connect(&document, &Document::changed, this, [this] {
        const std::size_t held = tracks_.size();
        dropWhatIsGone(tracks_);
        if (tracks_.size() != held) emit changed();
    });
    connect(&document, &Document::replaced, this, [this] { set({}); });
}

void Selection::dropWhatIsGone(std::set<TrackId>& tracks) const {
    if (tracks.empty()) return;
    std::unordered_set<TrackId> there;
    there.reserve(document_.shot().tracks.size());
    for (const Track& track : document_.shot().tracks) there.insert(track.id);
    std::erase_if(tracks, [&](TrackId id) { return !there.contains(id); });
}

void Selection::set(std::set<TrackId> tracks) {
    dropWhatIsGone(tracks);
    if (tracks == tracks_) return;
    tracks_ = std::move(tracks);
    emit changed();
}

const Track* Selection::first() const {
    return tracks_.empty() ? nullptr : findTrack(document_.shot(), *tracks_.begin());
}

}  // namespace pinion
