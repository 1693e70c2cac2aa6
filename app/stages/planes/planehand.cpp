#include "stages/planes/planehand.h"

#include "shot/edits/planeedits.h"
#include "shot/stages/planesstage.h"

#include <algorithm>

namespace pinion {

PlaneHand::PlaneHand(Session& session) : session_(session) {
    connect(&session.document, &Document::changed, this, [this] {
        const auto& planes = session_.shot().planes;
        if (plane_ && !findPlane(session_.shot(), *plane_)) plane_.reset();
        // One that has just come, or the only one, is meant.
        if (!plane_ && !planes.isEmpty()) plane_ = planes.back().id;
        draft_.reset();
        emit changed();
    });
    connect(&session.player, &Player::frameChanged, this, [this] {
        draft_.reset();
        emit changed();
    });
    connect(this, &PlaneHand::changed, this, [this] {
        std::map<PlaneId, PlanarTrack> now;
        for (const PlanarTrack& plane : session_.shot().planes) {
            const bool tracked = liveFrame_ == session_.player.frame() && live_.contains(plane.id);
            if (tracked || (draft_ && plane.id == plane_)) now.emplace(plane.id, trackNow(plane));
        }
        session_.livePlanes.set(std::move(now));
    });
}

const PlanarTrack* PlaneHand::held() const { return plane_ ? findPlane(session_.shot(), *plane_) : nullptr; }

void PlaneHand::hold(std::optional<PlaneId> plane) {
    if (plane_ == plane) return;
    plane_ = plane;
    draft_.reset();
    emit changed();
}

bool PlaneHand::mayEdit() {
    const PlanarTrack* plane = held();
    if (!plane) session_.say("No plane is held. Draw an outline on the surface, or choose one in the Planes card.");
    else if (plane->locked) session_.say(text(plane->name) + " is locked. Unlock it to change it.");
    else if (session_.isBusy()) session_.say("A job is running. Stop it or wait.");
    else return true;
    return false;
}

PlanarTrack PlaneHand::trackNow(const PlanarTrack& plane) const {
    PlanarTrack now = plane;
    // Before it is tracked, through the lens that it will be tracked through.
    if (now.sides && !now.lens) now.lens = std::make_shared<const Lens>(cylinderLens(session_.shot()));
    const int frame = session_.player.frame();
    const auto byFrame = [frame](const auto& one) { return one.frame == frame; };
    const auto put = [&](auto& list, const auto& one) {
        std::erase_if(list, byFrame);
        list.insert(std::find_if(list.begin(), list.end(), [&](const auto& other) { return other.frame > frame; }),
                    one);
    };
    if (const auto live = live_.find(plane.id); liveFrame_ == frame && live != live_.end())
        now.samples = plane.samples.edited([&](auto& samples) { put(samples, live->second); });
    if (draft_ && plane.id == plane_)
        now.ties = plane.ties.edited([&](auto& ties) { put(ties, PlaneTie{frame, *draft_}); });
    return now;
}

std::optional<SurfacePose> PlaneHand::poseNow(const PlanarTrack& plane) const {
    return surfacePoseOn(trackNow(plane), session_.player.frame());
}

std::optional<Quad> PlaneHand::surfaceNow(const PlanarTrack& plane) const {
    if (draft_ && plane.id == plane_) return draft_;
    return surfaceAt(trackNow(plane), session_.player.frame());
}

void PlaneHand::setDraft(const std::optional<Quad>& corners) {
    draft_ = corners;
    emit changed();
}

void PlaneHand::setLive(int frame, std::map<PlaneId, PlaneSample> samples) {
    liveFrame_ = frame;
    live_ = std::move(samples);
    emit changed();
}

void PlaneHand::clearLive() {
    live_.clear();
    emit changed();
}

void PlaneHand::setGrid(bool shown) {
    grid_ = shown;
    emit changed();
}

void PlaneHand::setTestPicture(bool shown) {
    testPicture_ = shown;
    emit changed();
}

bool PlaneHand::place(const Quad& corners, const QString& edit) {
    draft_.reset();
    if (!mayEdit()) {
        emit changed();
        return false;
    }
    auto shot = withPlaneTie(session_.shot(), *plane_, session_.player.frame(), corners);
    if (!shot) {
        session_.sayError(text(shot.error().message) + ".");
        emit changed();
        return false;
    }
    session_.edit(edit, *std::move(shot));
    return true;
}

}  // namespace pinion
