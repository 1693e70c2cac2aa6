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

/// One that is left by itself is no group.
void endLoneGroups(std::vector<StandIn>& all) {
    for (StandIn& one : all) {
        const auto members =
            std::count_if(all.begin(), all.end(), [&](const StandIn& other) { return other.group == one.group; });
        if (members < 2) one.group = 0;
    }
}

std::int64_t freeGroup(const Shot& shot) {
    std::int64_t group = 1;
    for (const StandIn& one : shot.scene.standIns) group = std::max(group, one.group + 1);
    return group;
}

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
    result.scene.standIns = shot.scene.standIns.edited([&](auto& all) {
        std::erase_if(all, [&](const StandIn& one) { return one.id == standIn; });
        endLoneGroups(all);
    });
    if (!result.scene.standIns.isEmpty()) return result;
    result.inserts = shot.inserts.edited([](auto& all) { std::erase_if(all, isSceneLayer); });
    result.deliverables = shot.deliverables.edited([](auto& all) { std::erase_if(all, isScene); });
    return result;
}

Shot withStandInCopied(const Shot& shot, StandInId standIn, StandInId* id) {
    const StandIn* found = findStandIn(shot, standIn);
    if (!found) return shot;
    if (found->group == 0) return withStandInAdded(shot, *found, id);
    Shot result = shot;
    const std::int64_t group = freeGroup(shot);
    for (StandIn one : shot.scene.standIns)
        if (one.group == found->group) {
            const bool isAsked = one.id == standIn;
            one.group = group;
            StandInId own = 0;
            result = withStandInAdded(result, one, &own);
            if (isAsked && id) *id = own;
        }
    return result;
}

Shot withStandInsGrouped(const Shot& shot, const std::vector<StandInId>& standIns) {
    if (standIns.size() < 2) return shot;
    const std::int64_t group = freeGroup(shot);
    Shot result = shot;
    result.scene.standIns = shot.scene.standIns.edited([&](auto& all) {
        for (StandIn& one : all)
            if (std::find(standIns.begin(), standIns.end(), one.id) != standIns.end()) one.group = group;
        endLoneGroups(all);
    });
    return result;
}

Shot withStandInsUngrouped(const Shot& shot, StandInId standIn) {
    const StandIn* found = findStandIn(shot, standIn);
    if (!found || found->group == 0) return shot;
    Shot result = shot;
    result.scene.standIns = shot.scene.standIns.edited([group = found->group](auto& all) {
        for (StandIn& one : all)
            if (one.group == group) one.group = 0;
    });
    return result;
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

namespace {

Shot withOwnWorldStance(const Shot& shot, StandInId standIn, int frame, const Stance& stance) {
    const StandIn* found = findStandIn(shot, standIn);
    const auto pose = found && found->carrier != 0 ? objectPose(shot, found->carrier, frame) : std::nullopt;
    return withStance(shot, standIn, frame, pose ? moved(pose->inverse(), stance, found->at(frame).turn_deg) : stance);
}

}  // namespace

Shot withWorldStance(const Shot& shot, StandInId standIn, int frame, const Stance& stance) {
    Shot result = withOwnWorldStance(shot, standIn, frame, stance);
    const StandIn* found = findStandIn(shot, standIn);
    if (!found || found->group == 0) return result;
    const Stance before = worldStance(shot, *found, frame);
    const Eigen::Matrix3d turn = stance.rotation() * before.rotation().transpose();
    // Sized evenly the others are as well, about the same foot.
    const Eigen::Array3d sizes = stance.size.array() / before.size.array().max(1e-9);
    const double scale = sizes.maxCoeff() - sizes.minCoeff() < 1e-6 * sizes.maxCoeff() ? sizes.mean() : 1;
    for (const StandIn& one : shot.scene.standIns) {
        if (one.group != found->group || one.id == standIn) continue;
        const Stance own = worldStance(shot, one, frame);
        Eigen::Isometry3d turned = Eigen::Isometry3d::Identity();
        turned.linear() = turn;
        Stance now = moved(turned, own, own.turn_deg);
        now.place = stance.place + scale * (turn * (own.place - before.place));
        now.size = scale * own.size;
        result = withOwnWorldStance(result, one.id, frame, now);
    }
    return result;
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

Shot withPictureThrown(const Shot& shot, const Clip& clip, const std::vector<int>& from, StandInId onto) {
    Insert layer;
    Shot result = withClipAdded(shot, clip, &layer.clip);
    layer.id = result.nextInsert++;
    layer.kind = kThrownLayer;
    layer.of = onto;
    layer.time.start = from.front();
    if (from.size() > 1) layer.thrownFrom = from;
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
