#include "stages/tracks/follow.h"

#include <algorithm>
#include <cstdlib>

namespace pinion {
namespace {

/// Where the track has no sample its nearest one stands in, so that the picture does not jump away.
const Sample* nearestSample(const Track* track, int frame) {
    if (!track || track->samples.isEmpty()) return nullptr;
    const auto& samples = track->samples.vector();
    return &*std::min_element(samples.begin(), samples.end(), [&](const Sample& a, const Sample& b) {
        return std::abs(a.frame - frame) < std::abs(b.frame - frame);
    });
}

}  // namespace

Follow::Follow(Session& session) : session_(session) {
    connect(&session.document, &Document::changed, this, [this] {
        if (track_ && !findTrack(session_.shot(), track_)) set(0);
    });
    connect(&session.document, &Document::replaced, this, [this] { set(0); });
}

void Follow::set(TrackId track) {
    if (track == track_) return;
    const Sample* here = nearestSample(findTrack(session_.shot(), track), session_.player.frame());
    track_ = here ? track : 0;
    if (here) at_ = here->wanted();
    emit changed();
}

PlateWarp Follow::warpAt(int frame) const {
    PlateWarp warp;
    if (const Sample* sample = nearestSample(findTrack(session_.shot(), track_), frame))
        warp.shownFromStraight.topRightCorner<2, 1>() = at_ - sample->wanted();
    return warp;
}

QString Follow::words(int) const {
    const Track* track = findTrack(session_.shot(), track_);
    return track ? "held on " + text(track->name) : QString();
}

}  // namespace pinion
