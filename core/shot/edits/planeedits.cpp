#include "shot/edits/planeedits.h"

#include "shot/edits/names.h"
#include "shot/stages/planesstage.h"
#include "world/sceneplane.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>

namespace pinion {
namespace {

using Eigen::Vector2d;

Polygon onReference(const PlanarTrack& plane, int frame, const Polygon& outline) {
    const auto pose = surfacePoseOn(plane, frame);
    if (!pose) return {};
    Polygon result;
    for (const Vector2d& p : outline) result.push_back(referencePlace(plane, *pose, p));
    return result;
}

/// The list that holds the `outline`th, and its place there.
List<Polygon>* outlineOf(PlanarTrack& plane, std::size_t& outline) {
    if (outline < plane.outlines.size()) return &plane.outlines;
    outline -= plane.outlines.size();
    return outline < plane.takenOut.size() ? &plane.takenOut : nullptr;
}

}  // namespace

Shot withPlaneEdited(const Shot& shot, PlaneId id, const std::function<void(PlanarTrack&)>& edit) {
    Shot result = shot;
    result.planes = shot.planes.edited([&](auto& planes) {
        for (PlanarTrack& plane : planes)
            if (plane.id == id) edit(plane);
    });
    return result;
}

Shot withPlaneAdded(const Shot& shot, const Polygon& outline, int frame, PlaneId* id) {
    Shot result = shot;
    PlanarTrack plane;
    plane.id = result.nextPlane++;
    plane.name = freeName(shot.planes, plane.id, "", "plane");
    plane.outlines = List<Polygon>({outline});
    plane.referenceFrame = frame;
    if (id) *id = plane.id;
    result.planes = shot.planes.edited([&](auto& planes) { planes.push_back(std::move(plane)); });
    return result;
}

Shot withPlaneOutlineAdded(const Shot& shot, PlaneId id, int frame, const Polygon& outline, bool takenOut) {
    const PlanarTrack* before = findPlane(shot, id);
    const Polygon placed = before ? onReference(*before, frame, outline) : Polygon{};
    if (placed.empty()) return shot;
    return withPlaneEdited(shot, id, [&](PlanarTrack& plane) {
        List<Polygon>& list = takenOut ? plane.takenOut : plane.outlines;
        list = list.edited([&](auto& outlines) { outlines.push_back(placed); });
    });
}

Shot withPlaneCornerMoved(const Shot& shot, PlaneId id, std::size_t outline, std::size_t corner, int frame,
                          const Vector2d& to) {
    return withPlaneEdited(shot, id, [&](PlanarTrack& plane) {
        const Polygon placed = onReference(plane, frame, {to});
        std::size_t at = outline;
        List<Polygon>* list = outlineOf(plane, at);
        if (placed.empty() || !list || corner >= (*list)[at].size()) return;
        *list = list->edited([&](auto& outlines) { outlines[at][corner] = placed.front(); });
    });
}

Expected<Shot> withPlaneSides(const Shot& shot, PlaneId id, const std::optional<Quad>& sides) {
    const PlanarTrack* before = findPlane(shot, id);
    if (!before) return failure(Fault::input, "the plane is gone");
    if (sides) {
        const auto cylinder = Cylinder::fromSides(cylinderLens(shot), *sides);
        if (!cylinder) return failure(Fault::input, "plane {}: {}", before->name, cylinder.error().message);
    }
    return withPlaneEdited(shot, id, [&](PlanarTrack& plane) {
        plane.sides = sides;
        plane.samples = {};
        plane.fromScene = false;
        plane.startReason = plane.endReason = PlaneEnd::none;
        // Ties on other frames told of the track that is gone.
        plane.ties = plane.ties.edited([&](auto& ties) {
            std::erase_if(ties, [&](const PlaneTie& tie) { return tie.frame != plane.referenceFrame; });
        });
    });
}

Shot withPlaneOutlineRemoved(const Shot& shot, PlaneId id, std::size_t outline) {
    return withPlaneEdited(shot, id, [&](PlanarTrack& plane) {
        std::size_t at = outline;
        List<Polygon>* list = outlineOf(plane, at);
        // Without an outline it would not be a plane.
        if (!list || (list == &plane.outlines && plane.outlines.size() == 1)) return;
        *list = list->edited([&](auto& outlines) { outlines.erase(outlines.begin() + std::ptrdiff_t(at)); });
    });
}

Shot withPlaneRenamed(const Shot& shot, PlaneId id, const std::string& wanted) {
    const PlanarTrack* before = findPlane(shot, id);
    if (!before || wanted.empty() || wanted == before->name) return shot;
    const std::string name = freeName(shot.planes, id, wanted, "plane");
    return withPlaneEdited(shot, id, [&](PlanarTrack& plane) { plane.name = name; });
}

Shot withPlaneRemoved(const Shot& shot, PlaneId id) {
    Shot result = shot;
    result.planes = shot.planes.edited(
        [&](auto& planes) { std::erase_if(planes, [&](const PlanarTrack& plane) { return plane.id == id; }); });
    return result;
}

Expected<Shot> withPlaneTie(const Shot& shot, PlaneId id, int frame, const Quad& corners) {
    const PlanarTrack* before = findPlane(shot, id);
    if (!before) return failure(Fault::input, "the plane is gone");
    if (!surfacePoseOn(*before, frame))
        return failure(Fault::input, "plane {}: is not tracked on frame {}; track it to there first", before->name,
                       frame);
    if (const std::string trouble = troubleOf(corners); !trouble.empty())
        return failure(Fault::input, "plane {}: these are no corners of a surface: {}", before->name, trouble);
    return withPlaneEdited(shot, id, [&](PlanarTrack& plane) {
        plane.ties = plane.ties.edited([&](auto& ties) {
            const auto place =
                std::find_if(ties.begin(), ties.end(), [&](const PlaneTie& tie) { return tie.frame >= frame; });
            if (place != ties.end() && place->frame == frame) place->corners = corners;
            else ties.insert(place, {frame, corners});
        });
    });
}

Shot withPlaneTieRemoved(const Shot& shot, PlaneId id, int frame) {
    return withPlaneEdited(shot, id, [&](PlanarTrack& plane) {
        plane.ties = plane.ties.edited(
            [&](auto& ties) { std::erase_if(ties, [&](const PlaneTie& tie) { return tie.frame == frame; }); });
    });
}

Shot withSurfaceRemoved(const Shot& shot, PlaneId id) {
    return withPlaneEdited(shot, id, [](PlanarTrack& plane) { plane.ties = {}; });
}

Shot withPlanesTracked(const Shot& shot, const std::vector<PlanarTrack>& tracked) {
    Shot result = shot;
    result.planes = shot.planes.edited([&](auto& planes) {
        for (PlanarTrack& plane : planes)
            for (const PlanarTrack& one : tracked) {
                if (one.id != plane.id || plane.locked) continue;
                plane.samples = one.samples;
                plane.ties = one.ties;
                plane.lens = one.lens;
                plane.sides = one.sides;
                plane.fromScene = one.fromScene;
                plane.startReason = one.startReason;
                plane.endReason = one.endReason;
            }
    });
    return result;
}

Expected<Shot> withCornersAsTracks(const Shot& shot, PlaneId id) {
    const PlanarTrack* plane = findPlane(shot, id);
    if (!plane || plane->ties.isEmpty())
        return failure(Fault::input, "there is no surface whose corners could be tracks; place its four corners first");
    constexpr std::array kCorners{"top left", "top right", "bottom right", "bottom left"};
    std::array<std::vector<Sample>, 4> samples;
    for (const PlaneSample& sample : plane->samples) {
        const auto corners = surfaceAt(*plane, sample.frame);
        const auto sheet = SurfaceSheet::of(*plane, sample.frame);
        if (!corners || !sheet) continue;
        for (std::size_t i = 0; i < 4; ++i) {
            const Vector2d& at = (*corners)[i];
            const bool inFrame = at.x() > 0 && at.y() > 0 && at.x() < shot.plate.width && at.y() < shot.plate.height;
            if (inFrame && sheet->faces({i == 1 || i == 2 ? 1.0 : 0.0, i > 1 ? 1.0 : 0.0}))
                samples[i].push_back({.frame = sample.frame, .at = at, .score = double(sample.fit)});
        }
    }
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (std::size_t i = 0; i < 4; ++i) {
            const std::string name = fmt::format("{} {}", plane->name, kCorners[i]);
            auto at = std::find_if(tracks.begin(), tracks.end(), [&](const Track& t) { return t.name == name; });
            if (at == tracks.end()) {
                Track track;
                track.id = result.nextTrack++;
                track.name = name;
                track.byHand = true;
                track.group = plane->name;
                at = tracks.insert(tracks.end(), std::move(track));
            }
            // Locked: tracked by themselves, corners would not be the plane's any more.
            at->locked = true;
            at->referenceFrame = plane->referenceFrame;
            at->samples = List<Sample>(samples[i]);
        }
    });
    return result;
}

Expected<Shot> withPlaneFromScene(const Shot& shot, PlaneId id) {
    const PlanarTrack* plane = findPlane(shot, id);
    if (!plane) return failure(Fault::input, "the plane is gone");
    if (plane->locked) return failure(Fault::input, "plane {} is locked; unlock it first", plane->name);
    if (!shot.solve) return failure(Fault::input, "there is no solved scene; solve the camera first");
    const auto made = planeFromScene(*plane, *shot.solve, shot.plate.range);
    if (!made) return tl::unexpected(made.error());
    return withPlanesTracked(shot, {*made});
}

}  // namespace pinion
