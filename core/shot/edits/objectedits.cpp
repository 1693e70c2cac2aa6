#include "shot/edits/objectedits.h"

#include "shot/edits/names.h"
#include "shot/edits/sceneedits.h"
#include "shot/objects.h"

#include <algorithm>
#include <set>

namespace pinion {
Shot withObjectAdded(const Shot& shot, const std::vector<TrackId>& tracks, ObjectId* id) {
    Shot result = shot;
    const std::set<TrackId> taken(tracks.begin(), tracks.end());
    result.objects = shot.objects.edited([&](auto& all) {
        for (ShotObject& one : all)
            for (List<TrackId>* list : {&one.tracks, &one.onGround})
                *list = list->edited(
                    [&](auto& ids) { std::erase_if(ids, [&](TrackId track) { return taken.contains(track); }); });
        std::erase_if(all, [](const ShotObject& one) { return one.tracks.isEmpty(); });
        ShotObject made;
        made.id = result.nextObject++;
        made.name = freeName(shot.objects, made.id, "", "object");
        made.tracks = List<TrackId>(tracks);
        if (id) *id = made.id;
        all.push_back(std::move(made));
    });
    return result;
}

Shot withObjectEdited(const Shot& shot, ObjectId object, const std::function<void(ShotObject&)>& edit) {
    Shot result = shot;
    result.objects = shot.objects.edited([&](auto& all) {
        for (ShotObject& one : all)
            if (one.id == object) edit(one);
    });
    return result;
}

Shot withObjectRenamed(const Shot& shot, ObjectId object, const std::string& name) {
    return withObjectEdited(shot, object,
                            [&](ShotObject& one) { one.name = freeName(shot.objects, object, name, "object"); });
}

Shot withObjectRemoved(const Shot& shot, ObjectId object) {
    Shot result = shot;
    // What it carried stays where it was on its first frame.
    const ShotObject* gone = findObject(shot, object);
    const int first = gone && gone->solve && !gone->solve->frames.empty() ? gone->solve->frames.front().frame : 0;
    for (const StandIn& one : shot.scene.standIns)
        if (one.carrier == object) result = withStandInCarried(result, one.id, 0, first);
    result.objects = shot.objects.edited(
        [&](auto& all) { std::erase_if(all, [&](const ShotObject& one) { return one.id == object; }); });
    return result;
}

Shot withObjectSolved(const Shot& shot, ObjectId object, const ObjectSolve& solve, const Shot& asked) {
    const ShotObject* before = findObject(asked, object);
    if (!before) return shot;
    ShotObject after = *before;
    const std::set<TrackId> had(before->tracks.begin(), before->tracks.end());
    after.tracks = before->tracks.edited([&](auto& ids) {
        for (const ObjectPoint& point : solve.points)
            if (!had.contains(point.track)) ids.push_back(point.track);
    });
    after.solve = std::make_shared<const ObjectSolve>(solve);
    after.solvedKey = objectKey(asked, after);
    return withObjectEdited(shot, object, [&](ShotObject& one) {
        after.name = one.name;  // may have changed meanwhile
        one = after;
    });
}

}  // namespace pinion
