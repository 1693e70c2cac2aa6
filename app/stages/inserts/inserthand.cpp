#include "stages/inserts/inserthand.h"

#include "shot/carriers/carriers.h"
#include "shot/edits/insertedits.h"
#include "stages/reasons.h"

#include <algorithm>

namespace pinion {

InsertHand::InsertHand(Session& session)
    : files(session), session_(session), scene_(session.jobs, [this] {
          followPlanes();
          emit moved();
          emit sceneChanged();
      }) {
    connect(&session.document, &Document::changed, this, &InsertHand::refresh);
    // What is dragged at this moment goes on.
    connect(&files, &ClipFiles::changed, this, &InsertHand::wantScene);
    // Known at once, so that whoever paints next has it; said when all that follows has been said: a tracked plane is
    // told anew for each frame.
    connect(&session.livePlanes, &LivePlanes::changed, this, &InsertHand::followPlanes);
    connect(&session.livePlanes, &LivePlanes::changed, this, &InsertHand::moved, Qt::QueuedConnection);
}

void InsertHand::followPlanes() {
    const auto& now = session_.livePlanes.now();
    // What moved last stays in its place until the scene has it.
    if (!now.empty()) setLive(now);
    else if (!live_.empty() && !scene_.isPending()) setLive({});
}

void InsertHand::setLive(std::map<PlaneId, PlanarTrack> live) {
    live_ = std::move(live);
    liveSurfaces_.clear();
    if (live_.empty()) return;
    // As the shot is with the planes where they are now, on this frame alone.
    Shot shot = session_.shot();
    const int frame = session_.player.frame();
    shot.plate.range = {frame, frame};
    shot.planes = shot.planes.edited([&](auto& planes) {
        for (PlanarTrack& plane : planes)
            if (const auto moved = live_.find(plane.id); moved != live_.end()) plane = moved->second;
    });
    // What would be carried otherwise without them hangs on them.
    Shot without = shot;
    without.planes = shot.planes.edited(
        [&](auto& planes) { std::erase_if(planes, [&](const PlanarTrack& p) { return live_.contains(p.id); }); });
    for (const Insert& insert : shot.inserts) {
        if (!insert.ride) continue;
        Fingerprint with, alone;
        addRide(with, shot, *insert.ride);
        addRide(alone, without, *insert.ride);
        if (with.value() != alone.value())
            liveSurfaces_.emplace(insert.id, std::make_shared<const InsertSurface>(surfaceOf(shot, insert)));
    }
}

void InsertHand::refresh() {
    const Shot& shot = session_.shot();
    const auto before = held_;
    if (held_ && !findInsert(shot, *held_)) held_.reset();
    if (!held_ && !shot.inserts.isEmpty()) held_ = shot.inserts.back().id;
    draft_.reset();
    wantScene();
    if (before != held_) emit changed();
}

void InsertHand::wantScene() {
    const Shot& shot = session_.shot();
    if (shot.inserts.isEmpty() || !shot.plate.isOpen()) scene_.clear();
    else scene_.want(keyOf(shot), [shot](const Progress&) -> Expected<InsertScene> { return insertSceneOf(shot); });
}

SceneKey InsertHand::keyOf(const Shot& shot) const {
    Fingerprint print;
    addInserts(print, shot);
    return {print.value(), files.version()};
}

const Insert* InsertHand::held() const { return held_ ? findInsert(session_.shot(), *held_) : nullptr; }

void InsertHand::hold(std::optional<InsertId> insert) {
    if (held_ == insert) return;
    held_ = insert;
    draft_.reset();
    emit changed();
}

bool InsertHand::mayEdit() {
    const QString busy = whyNotReady(session_);
    if (!busy.isEmpty()) session_.say(busy.left(1).toUpper() + busy.mid(1) + ".");
    else if (!held()) session_.say("There is no insert yet: add a picture or clip in the Inserts card.");
    return busy.isEmpty() && held();
}

void InsertHand::edit(const QString& what, const std::function<void(Insert&)>& change) {
    if (held()) session_.edit(what + " of " + text(held()->name), withInsertEdited(session_.shot(), *held_, change));
}

void InsertHand::setDraft(const std::optional<Placing>& placing) {
    draft_ = placing;
    emit moved();
}

std::optional<Placing> InsertHand::endDrag() {
    const auto brought = held() && draft_ && !(*draft_ == held()->placing) ? draft_ : std::nullopt;
    if (!brought && draft_) setDraft(std::nullopt);
    return brought;
}

std::optional<Placing> InsertHand::placingNow() const {
    if (draft_) return draft_;
    return held() ? std::optional(held()->placing) : std::nullopt;
}

std::shared_ptr<const InsertScene> InsertHand::sceneBelow() const {
    if (!scene()) return scene();
    std::vector<InsertId> without;
    for (const InsertScene::One* one : moving()) without.push_back(one->insert.id);
    if (belowOf_ == scene() && belowWithout_ == without && below_) return below_;
    auto below = std::make_shared<InsertScene>(*scene());
    std::erase_if(below->inserts, [&](const InsertScene::One& one) {
        return std::find(without.begin(), without.end(), one.insert.id) != without.end();
    });
    belowOf_ = scene();
    belowWithout_ = std::move(without);
    below_ = std::move(below);
    return below_;
}

std::vector<const InsertScene::One*> InsertHand::moving() const {
    std::vector<const InsertScene::One*> found;
    if (!scene()) return found;
    for (const InsertScene::One& one : scene()->inserts)
        if ((draft_ && held_ == one.insert.id) || liveSurfaces_.contains(one.insert.id)) found.push_back(&one);
    return found;
}

std::shared_ptr<const InsertSurface> InsertHand::surfaceNow(const Insert& insert) const {
    const InsertScene::One* part = partOf(insert.id);
    const auto live = liveSurfaces_.find(insert.id);
    return live != liveSurfaces_.end() ? live->second : part ? part->surface : nullptr;
}

std::vector<ArtPiece> InsertHand::piecesNow(const Insert& insert) const {
    const auto surface = surfaceNow(insert);
    if (!surface) return {};
    auto instants = surface->pieces(placingOf(insert), session_.player.frame(), 0, insert.lost != Insert::Lost::ends,
                                    kScreenBend_px);
    return instants.empty() ? std::vector<ArtPiece>{} : std::move(instants.front());
}

const InsertScene::One* InsertHand::partOf(InsertId insert) const {
    if (!scene()) return nullptr;
    for (const InsertScene::One& one : scene()->inserts)
        if (one.insert.id == insert) return &one;
    return nullptr;
}

const InsertScene::One* InsertHand::heldArt() const {
    const InsertScene::One* part = held() ? partOf(held()->id) : nullptr;
    return part && part->surface ? part : nullptr;
}

std::optional<Quad> InsertHand::cornersNow(const Insert& insert) const {
    const auto surface = surfaceNow(insert);
    if (!surface) return std::nullopt;
    return surface->corners(placingOf(insert), session_.player.frame(), insert.lost != Insert::Lost::ends);
}

Polygon InsertHand::outlineNow(const Insert& insert) const {
    const auto surface = surfaceNow(insert);
    if (!surface) return {};
    return surface->outline(placingOf(insert), session_.player.frame(), insert.lost != Insert::Lost::ends);
}

}  // namespace pinion
