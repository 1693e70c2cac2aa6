#include "shot/stages/worldstage.h"

#include "shot/objects.h"

#include <algorithm>
#include <cmath>

namespace pinion {

Orientation orientationOf(const Shot& shot) {
    if (!shot.solve) return {};
    const auto orientation = orient(shot.world, *shot.solve);
    return orientation ? *orientation : Orientation{};
}

std::optional<Eigen::Isometry3d> objectPose(const Shot& shot, ObjectId object, int frame) {
    const ShotObject* found = findObject(shot, object);
    if (!found || !found->solve || found->solve->frames.empty()) return std::nullopt;
    const auto& frames = found->solve->frames;
    const auto nearest = std::min_element(frames.begin(), frames.end(), [&](const auto& a, const auto& b) {
        return std::abs(a.frame - frame) < std::abs(b.frame - frame);
    });
    return orientationOf(shot).apply(nearest->worldFromObject);
}

Stance worldStance(const Shot& shot, const StandIn& standIn, int frame) {
    const Stance own = standIn.at(frame);
    const auto pose = standIn.carrier != 0 ? objectPose(shot, standIn.carrier, frame) : std::nullopt;
    return pose ? moved(*pose, own, own.turn_deg) : own;
}

SceneLook sceneInWorld(const Shot& shot) {
    SceneLook look = shot.scene;
    if (std::none_of(look.standIns.begin(), look.standIns.end(), [](const StandIn& one) { return one.carrier != 0; }))
        return look;
    const Orientation orientation = orientationOf(shot);
    look.standIns = look.standIns.edited([&](auto& all) {
        for (StandIn& one : all) {
            if (one.carrier == 0) continue;
            const ShotObject* object = findObject(shot, one.carrier);
            one.carrier = 0;
            if (!object || !object->solve || object->solve->frames.empty()) {
                one.hidden = true;
                continue;
            }
            std::vector<StanceKey> keys;
            Eigen::Vector3d before = one.stance.turn_deg;
            for (const ObjectFrame& frame : object->solve->frames) {
                keys.push_back(
                    {frame.frame, moved(orientation.apply(frame.worldFromObject), one.at(frame.frame), before)});
                before = keys.back().stance.turn_deg;
            }
            FrameRange range{keys.front().frame, keys.back().frame};
            if (one.frames) range = {std::max(range.first, one.frames->first), std::min(range.last, one.frames->last)};
            one.hidden = one.hidden || range.last < range.first;
            one.frames = range;
            one.keys = List<StanceKey>(std::move(keys));
        }
    });
    return look;
}

bool isInMetres(const Shot& shot) { return shot.world.hasScale() || (shot.solve && shot.solve->inMetres); }

StageReport worldReport(const Shot& shot) {
    StageReport report{StageState::empty, "not set", ""};
    if (shot.world.isSet()) {
        report.state = StageState::done;
        report.number = fmt::format("{}{}", shot.world.ground.isEmpty() ? "no ground" : "ground",
                                    isInMetres(shot) ? " · metres" : " · no scale");
        if (shot.solve) {
            if (const auto orientation = orient(shot.world, *shot.solve); !orientation) {
                report.state = StageState::attention;
                report.message = orientation.error().message;
            }
        }
    }
    return report;
}

}  // namespace pinion
