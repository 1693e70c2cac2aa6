#include "stages/world/worldcard.h"

#include "camera/result.h"
#include "stages/shotform.h"
#include "stages/world/standinlist.h"

namespace pinion {
namespace {

/// How many of the selected tracks the solve has placed.
int placedOf(const Session& session) {
    int placed = 0;
    for (TrackId id : session.selection.tracks())
        if (const SolvedTrack* solved = findSolved(session.shot(), id); solved && solved->xyz) ++placed;
    return placed;
}

QString hintOf(const Session& session) {
    const Shot& shot = session.shot();
    if (!shot.solve) return "Solve the camera first.";
    if (shot.solve->motion != CameraMotion::travelling)
        return "A camera that only turns sees no depth: there is no ground to lay and no length to measure.";
    if (session.selection.isEmpty())
        return "Select tracks on the plate: three or more on the floor for the ground, one for the origin, two for the "
               "scale.";
    return QString("%1 selected, %2 of them solved.").arg(session.selection.size()).arg(placedOf(session));
}

QString nameOf(const Shot& shot, TrackId id) {
    const Track* track = findTrack(shot, id);
    return track ? text(track->name) : QString("?");
}

QString stateOf(const Shot& shot) {
    if (!shot.solve || !shot.world.isSet()) return {};
    const auto orientation = orient(shot.world, *shot.solve);
    if (!orientation) return {};
    QStringList lines;
    const QString unit = shot.world.measure ? "m" : "units";
    if (!shot.world.ground.isEmpty())
        lines << QString("Ground through %1 points, %2 %3 RMS off it")
                     .arg(shot.world.ground.size())
                     .arg(groundRms(shot.world, *shot.solve, *orientation), 0, 'f', 3)
                     .arg(unit);
    const Eigen::Vector3d eye =
        orientation->apply(Eigen::Vector3d(shot.solve->frames.front().worldFromCamera.translation()));
    lines << QString("Camera starts at %1, %2, %3 %4")
                 .arg(eye.x(), 0, 'f', 2)
                 .arg(eye.y(), 0, 'f', 2)
                 .arg(eye.z(), 0, 'f', 2)
                 .arg(unit);
    if (shot.world.origin && findTrack(shot, *shot.world.origin))
        lines << "Origin at " + nameOf(shot, *shot.world.origin);
    if (const auto& measure = shot.world.measure)
        lines << QString("%1 to %2 is %3 m")
                     .arg(nameOf(shot, measure->from), nameOf(shot, measure->to))
                     .arg(measure->length_m);
    return lines.join("\n");
}

}  // namespace

QWidget* makeWorldCard(Session& session, WorldStage& stage) {
    auto* form = new ShotForm(session);
    auto* hint = dimLabel("");
    form->wide(hint);
    auto* ground = button("Ground", "quiet");
    ground->setToolTip("The plane through the selected tracks becomes the floor; the cameras end above it");
    auto* origin = button("Origin");
    origin->setToolTip("The selected track becomes the middle of the world");
    form->wide(buttonRow({ground, origin}));
    auto* length = decimal(0.001, 100000, 3, 0.1, " m");
    length->setValue(1.0);
    form->row("Length", length);
    auto* scale = button("Set scale");
    scale->setToolTip("The distance between the two selected tracks is this long");
    auto* clear = button("Clear world");
    form->wide(buttonRow({scale, clear}));
    auto* state = dimLabel("");
    form->wide(state);
    form->wide(makeStandInList(session, stage));
    ShotForm::onClick(ground, [&stage] { stage.setGround(); });
    ShotForm::onClick(origin, [&session, &stage] {
        World world = session.shot().world;
        world.origin = session.selection.list().front();
        stage.apply("Set origin", world);
    });
    ShotForm::onClick(scale, [&session, &stage, length] {
        World world = session.shot().world;
        const auto two = session.selection.list();
        world.measure = World::Measure{two[0], two[1], length->value()};
        stage.apply("Set scale", world);
    });
    ShotForm::onClick(clear, [&stage] { stage.apply("Clear world", World{}); });
    form->onRefresh([&session, hint, ground, origin, scale, clear, state] {
        const Shot& shot = session.shot();
        const std::size_t chosen = session.selection.size();
        hint->setText(hintOf(session));
        const bool all =
            shot.solve && shot.solve->motion == CameraMotion::travelling && placedOf(session) == int(chosen);
        ground->setEnabled(all && chosen >= 3);
        origin->setEnabled(all && chosen == 1);
        scale->setEnabled(all && chosen == 2);
        clear->setEnabled(shot.world.isSet());
        state->setText(stateOf(shot));
        state->setVisible(!state->text().isEmpty());
    });
    form->refresh();
    return form;
}

}  // namespace pinion
