#include "stages/inserts/inserthand.h"

#include "jobs/inserting.h"
#include "plate/framewriter.h"
#include "shot/edits/insertedits.h"
#include "stages/reasons.h"

#include <QDateTime>

#include <algorithm>

namespace pinion {

SceneKey SceneKey::of(const Shot& shot) {
    return {shot.inserts, shot.clips, shot.mattes, shot.planes, shot.tracks, shot.locators, shot.plate.range};
}

bool SceneKey::operator==(const SceneKey& other) const {
    return inserts.sharedWith(other.inserts) && clips.sharedWith(other.clips) && mattes.sharedWith(other.mattes) &&
           planes.sharedWith(other.planes) && tracks.sharedWith(other.tracks) && locators.sharedWith(other.locators) &&
           range == other.range;
}

InsertHand::InsertHand(Session& session) : session_(session), scene_(session.jobs, [this] { emit sceneChanged(); }) {
    connect(&session.document, &Document::changed, this, &InsertHand::refresh);
}

void InsertHand::refresh() {
    const Shot& shot = session_.shot();
    const auto before = held_;
    if (held_ && !findInsert(shot, *held_)) held_.reset();
    if (!held_ && !shot.inserts.isEmpty()) held_ = shot.inserts.back().id;
    draft_.reset();
    if (shot.inserts.isEmpty() || !shot.plate.isOpen()) scene_.clear();
    else
        scene_.want(SceneKey::of(shot),
                    [shot](const Progress&) -> Expected<InsertScene> { return insertSceneOf(shot); });
    if (before != held_) emit changed();
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
    const bool begins = placing && !draft_;
    draft_ = placing;
    if (begins) emit sceneChanged();
    emit changed();
}

std::optional<Placing> InsertHand::placingNow() const {
    if (draft_) return draft_;
    return held() ? std::optional(held()->placing) : std::nullopt;
}

std::shared_ptr<const InsertScene> InsertHand::sceneBelow() const {
    if (!scene() || !held_) return scene();
    if (belowOf_ == scene() && below_) return below_;
    auto below = std::make_shared<InsertScene>(*scene());
    std::erase_if(below->inserts, [&](const InsertScene::One& one) { return one.insert.id == *held_; });
    belowOf_ = scene();
    below_ = std::move(below);
    return below_;
}

const InsertScene::One* InsertHand::partOf(InsertId insert) const {
    if (!scene()) return nullptr;
    for (const InsertScene::One& one : scene()->inserts)
        if (one.insert.id == insert) return &one;
    return nullptr;
}

std::optional<Quad> InsertHand::cornersNow(const Insert& insert) const {
    const InsertScene::One* part = partOf(insert.id);
    if (!part) return std::nullopt;
    const Placing placing = held_ == insert.id && draft_ ? *draft_ : insert.placing;
    return part->carrier->corners(placing, session_.player.frame(), insert.lost != Insert::Lost::ends);
}

bool InsertHand::isMissing(const Clip& clip) const {
    constexpr qint64 kEvery_ms = 1000;
    const qint64 now = QDateTime::currentMSecsSinceEpoch();
    Looked& looked = looked_[clip.path];
    if (now - looked.when > kEvery_ms) {
        std::error_code code;
        const bool isSequence = clip.path.filename().string().find_first_of("#%") != std::string::npos;
        looked.missing =
            !std::filesystem::exists(isSequence ? frameFile(clip.path, clip.frames.first) : clip.path, code);
        looked.when = now;
    }
    return looked.missing;
}

}  // namespace pinion
