#include "stages/world/standinhand.h"

#include "render/scenerender.h"
#include "shot/edits/sceneedits.h"
#include "shot/stages/worldstage.h"
#include "stages/reasons.h"

#include <algorithm>

namespace pinion {
namespace {

constexpr double kEyeHeight = 1.6;               // of whoever holds a camera, metres
constexpr int kQuickSamples = 4, kSamples = 16;  // rays through a pixel at an edge; what is rendered has 64

}  // namespace

StandInHand::StandInHand(Session& session)
    : session_(session), scene_(session.jobs, [this] {
          // What was dragged is as the shot has it by now.
          shown_.reset();
          emit sceneChanged();
      }) {
    connect(&session.document, &Document::changed, this, &StandInHand::refresh);
    connect(&session.player, &Player::playingChanged, this, &StandInHand::sceneChanged);
}

void StandInHand::refresh() {
    const Shot& shot = session_.shot();
    const auto before = held_;
    if (held_ && !findStandIn(shot, *held_)) held_.reset();
    if (!held_ && !shot.scene.standIns.isEmpty()) held_ = shot.scene.standIns.back().id;
    draft_.reset();
    const bool isAnyThrown = std::any_of(shot.inserts.begin(), shot.inserts.end(),
                                         [](const Insert& one) { return one.kind == kThrownLayer; });
    if ((shot.scene.standIns.isEmpty() && !isAnyThrown) || !shot.plate.isOpen()) {
        scene_.clear();
    } else {
        const Shot alone = layersAlone();
        Fingerprint print;
        addInserts(print, alone);
        scene_.want(print.value(), [alone](const Progress&) -> Expected<InsertScene> { return insertSceneOf(alone); });
    }
    if (before != held_) emit changed();
}

Shot StandInHand::layersAlone() const {
    Shot alone = session_.shot();
    alone.inserts = alone.inserts.edited([](auto& all) {
        std::erase_if(all, [](const Insert& one) { return one.kind != kSceneLayer && one.kind != kThrownLayer; });
    });
    return alone;
}

const StandIn* StandInHand::held() const { return held_ ? findStandIn(session_.shot(), *held_) : nullptr; }

void StandInHand::hold(std::optional<StandInId> standIn) {
    if (held_ == standIn) return;
    held_ = standIn;
    draft_.reset();
    emit changed();
}

bool StandInHand::mayEdit() {
    const QString busy = whyNotReady(session_);
    if (!busy.isEmpty()) session_.say(busy.left(1).toUpper() + busy.mid(1) + ".");
    else if (!held()) session_.say("Nothing stands in the scene yet: add something in the World card.");
    return busy.isEmpty() && held();
}

void StandInHand::edit(const QString& what, const std::function<void(StandIn&)>& change) {
    if (held()) session_.edit(what + " " + text(held()->name), withStandInEdited(session_.shot(), *held_, change));
}

void StandInHand::setDraft(const std::optional<Stance>& stance) {
    draft_ = stance;
    emit moved();
}

void StandInHand::drop(const QString& verb) {
    if (!draft_) return;
    const Stance stance = *draft_;
    if (!held() || stance == worldStance(session_.shot(), *held(), session_.player.frame())) {
        setDraft(std::nullopt);
        return;
    }
    session_.edit(verb + " " + text(held()->name),
                  withWorldStance(session_.shot(), *held_, session_.player.frame(), stance));
}

std::optional<Stance> StandInHand::stanceNow() const {
    if (draft_) return draft_;
    const StandIn* one = held();
    return one ? std::optional(worldStance(session_.shot(), *one, session_.player.frame())) : std::nullopt;
}

QString StandInHand::numbers() const {
    const auto stance = stanceNow();
    if (!stance) return {};
    const Eigen::Vector3d& p = stance->place;
    return QString("%1, %2, %3 %4 · %5° · %6 high")
        .arg(p.x(), 0, 'f', 2)
        .arg(p.y(), 0, 'f', 2)
        .arg(p.z(), 0, 'f', 2)
        .arg(isInMetres(session_.shot()) ? "m" : "units")
        .arg(stance->turn_deg.y(), 0, 'f', 0)
        .arg(stance->size.y(), 0, 'f', 2);
}

std::optional<WorldEye> StandInHand::eye() const {
    const Shot& shot = session_.shot();
    return shot.solve ? WorldEye::of(*shot.solve, orientationOf(shot), session_.player.frame()) : std::nullopt;
}

bool StandInHand::floorIsAssumed() const {
    const Shot& shot = session_.shot();
    return shot.solve && shot.solve->motion != CameraMotion::travelling && shot.scene.ground == 0;
}

double StandInHand::floor() const { return floorIsAssumed() ? -kEyeHeight : session_.shot().scene.ground; }

CardPictures StandInHand::cardPictures() const { return {shelf_.get(), session_.shot().plate.fps}; }

SceneLook StandInHand::lookNow() const {
    const Shot& shot = session_.shot();
    return sceneInWorld(held_ && draft_ ? withWorldStance(shot, *held_, session_.player.frame(), *draft_) : shot);
}

std::shared_ptr<const InsertScene> StandInHand::sceneNow() const {
    const auto whole = scene_.value();
    if (!whole || !session_.shot().solve) return whole;
    const int samples = isQuick() ? kQuickSamples : kSamples;
    if (shown_ && shownOf_ == whole && shownWith_ == draft_ && shownSamples_ == samples) return shown_;
    auto scene = std::make_shared<InsertScene>(*whole);
    SceneLook look = lookNow();
    // A soft edge costs half of the time, and so does the sky's.
    if (isQuick()) look.sun.softness_deg = look.sun.skyShadow = 0;
    const auto source = sceneSource(session_.shot(), look, samples);
    for (InsertScene::One& one : scene->inserts)
        if (one.insert.kind == kSceneLayer) one.source = source;
    shown_ = scene;
    shownOf_ = whole;
    shownWith_ = draft_;
    shownSamples_ = samples;
    return shown_;
}

}  // namespace pinion
