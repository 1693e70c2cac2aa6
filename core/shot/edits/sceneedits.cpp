#include "shot/edits/sceneedits.h"

#include "shot/edits/insertedits.h"
#include "shot/edits/names.h"
#include "shot/layers/layers.h"
#include "shot/objects.h"
#include "shot/stages/worldstage.h"

#include <algorithm>

namespace pinion {
namespace {

bool isSceneLayer(const Insert& insert) { return insert.kind == kSceneLayer; }
bool isScene(const Deliverable& deliverable) { return deliverable.kind == DeliverableKind::scene; }

}  // namespace

const StandIn* findStandIn(const Shot& shot, StandInId standIn) {
    for (const StandIn& one : shot.scene.standIns)
        if (one.id == standIn) return &one;
    return nullptr;
}

Shot withStandInAdded(const Shot& shot, StandIn standIn, StandInId* id) {
    Shot result = shot;
    standIn.id = result.nextStandIn++;
    standIn.name = freeName(shot.scene.standIns, standIn.id, standIn.name, kStandInKinds[std::size_t(standIn.kind)]);
    if (id) *id = standIn.id;
    result.scene.standIns = shot.scene.standIns.edited([&](auto& all) { all.push_back(std::move(standIn)); });
    if (std::none_of(shot.inserts.begin(), shot.inserts.end(), isSceneLayer)) {
        Insert layer;
        layer.id = result.nextInsert++;
        layer.kind = kSceneLayer;
        layer.name = freeName(shot.inserts, layer.id, "stand-ins", "stand-ins");
        result.inserts = shot.inserts.edited([&](auto& all) { all.push_back(std::move(layer)); });
    }
    if (std::none_of(shot.deliverables.begin(), shot.deliverables.end(), isScene))
        result.deliverables = shot.deliverables.edited([&](auto& all) {
            all.push_back({.name = "scene for CG",
                           .kind = DeliverableKind::scene,
                           .format = DeliverableFormat::glb,
                           .place = shot.name + ".glb"});
        });
    return result;
}

Shot withStandInEdited(const Shot& shot, StandInId standIn, const std::function<void(StandIn&)>& edit) {
    Shot result = shot;
    result.scene.standIns = shot.scene.standIns.edited([&](auto& all) {
        for (StandIn& one : all)
            if (one.id == standIn) edit(one);
    });
    return result;
}

Shot withStandInRenamed(const Shot& shot, StandInId standIn, const std::string& name) {
    return withStandInEdited(shot, standIn, [&](StandIn& one) {
        one.name = freeName(shot.scene.standIns, standIn, name, kStandInKinds[std::size_t(one.kind)]);
    });
}

Shot withStandInRemoved(const Shot& shot, StandInId standIn) {
    Shot result = shot;
    result.scene.standIns = shot.scene.standIns.edited(
        [&](auto& all) { std::erase_if(all, [&](const StandIn& one) { return one.id == standIn; }); });
    if (!result.scene.standIns.isEmpty()) return result;
    result.inserts = shot.inserts.edited([](auto& all) { std::erase_if(all, isSceneLayer); });
    result.deliverables = shot.deliverables.edited([](auto& all) { std::erase_if(all, isScene); });
    return result;
}

Shot withStandInCopied(const Shot& shot, StandInId standIn, StandInId* id) {
    const StandIn* found = findStandIn(shot, standIn);
    return found ? withStandInAdded(shot, *found, id) : shot;
}

Shot withStance(const Shot& shot, StandInId standIn, int frame, const Stance& stance) {
    return withStandInEdited(shot, standIn, [&](StandIn& one) {
        if (one.keys.isEmpty()) {
            one.stance = stance;
            return;
        }
        one.keys = one.keys.edited([&](auto& keys) {
            const auto at = std::lower_bound(keys.begin(), keys.end(), frame,
                                             [](const StanceKey& key, int number) { return key.frame < number; });
            if (at != keys.end() && at->frame == frame) at->stance = stance;
            else keys.insert(at, {frame, stance});
        });
    });
}

namespace {

void moveAll(StandIn& one, const Eigen::Isometry3d& by) {
    one.stance = moved(by, one.stance, one.stance.turn_deg);
    one.keys = one.keys.edited([&](auto& keys) {
        for (StanceKey& key : keys) key.stance = moved(by, key.stance, key.stance.turn_deg);
    });
}

}  // namespace

Shot withWorldStance(const Shot& shot, StandInId standIn, int frame, const Stance& stance) {
    const StandIn* found = findStandIn(shot, standIn);
    const auto pose = found && found->carrier != 0 ? objectPose(shot, found->carrier, frame) : std::nullopt;
    return withStance(shot, standIn, frame, pose ? moved(pose->inverse(), stance, found->at(frame).turn_deg) : stance);
}

Shot withStandInCarried(const Shot& shot, StandInId standIn, ObjectId object, int frame) {
    return withStandInEdited(shot, standIn, [&](StandIn& one) {
        if (one.carrier == object) return;
        if (const auto pose = one.carrier != 0 ? objectPose(shot, one.carrier, frame) : std::nullopt)
            moveAll(one, *pose);
        one.carrier = object;
        if (const auto pose = object != 0 ? objectPose(shot, object, frame) : std::nullopt)
            moveAll(one, pose->inverse());
    });
}

Shot withStanceKey(const Shot& shot, StandInId standIn, int frame) {
    const StandIn* found = findStandIn(shot, standIn);
    if (!found) return shot;
    if (!found->keys.isEmpty()) return withStance(shot, standIn, frame, found->at(frame));
    return withStandInEdited(shot, standIn, [&](StandIn& one) {
        one.keys = List<StanceKey>({StanceKey{frame, one.stance}});
    });
}

Shot withStanceKeyRemoved(const Shot& shot, StandInId standIn, int frame) {
    return withStandInEdited(shot, standIn, [&](StandIn& one) {
        const Stance last = one.at(frame);
        one.keys = one.keys.edited(
            [&](auto& keys) { std::erase_if(keys, [&](const StanceKey& key) { return key.frame == frame; }); });
        if (one.keys.isEmpty()) one.stance = last;
    });
}

Shot withPictureThrown(const Shot& shot, const Clip& clip, int frame, StandInId onto) {
    Insert layer;
    Shot result = withClipAdded(shot, clip, &layer.clip);
    layer.id = result.nextInsert++;
    layer.kind = kThrownLayer;
    layer.of = onto;
    layer.time.start = frame;
    layer.name = freeName(result.inserts, layer.id, clip.name, "thrown");
    result.inserts = result.inserts.edited([&](auto& all) { all.push_back(std::move(layer)); });
    return result;
}

Shot withSceneHeldOut(const Shot& shot, const List<MatteId>& mattes) {
    Shot result = shot;
    result.inserts = shot.inserts.edited([&](auto& all) {
        for (Insert& insert : all)
            if (isSceneLayer(insert)) insert.heldOut = mattes;
    });
    return result;
}

Shot withSun(const Shot& shot, const Sun& sun) {
    Shot result = shot;
    result.scene.sun = sun;
    return result;
}

}  // namespace pinion
