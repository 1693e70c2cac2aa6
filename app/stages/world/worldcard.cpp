#include "stages/world/worldcard.h"

#include "camera/result.h"
#include "shot/stages/worldstage.h"
#include "stages/shotform.h"
#include "stages/world/standinlist.h"

#include <QCheckBox>

#include <algorithm>
#include <cmath>

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
        return "Select tracks on the plate: three or more on the floor for the ground or on a wall, one for the "
               "origin, two for the scale or along x.";
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
    const QString unit = isInMetres(shot) ? "m" : "units";
    if (!shot.world.ground.isEmpty()) {
        lines << QString("Ground through %1 points, %2 %3 RMS off it")
                     .arg(shot.world.ground.size())
                     .arg(groundRms(shot.world, *shot.solve, *orientation), 0, 'f', 3)
                     .arg(unit);
        // Three always lie on their plane.
        constexpr std::size_t kShown = 3;
        const auto residuals = groundResiduals(shot.world, *shot.solve, *orientation);
        QStringList heights;
        for (std::size_t i = 0; i < residuals.size() && i < kShown && residuals.size() > 3; ++i)
            heights << QString("%1 %2%3")
                           .arg(nameOf(shot, residuals[i].track), residuals[i].height < 0 ? "−" : "+")
                           .arg(std::abs(residuals[i].height), 0, 'f', 3);
        if (!heights.isEmpty()) lines << "Farthest off: " + heights.join(", ");
    }
    if (shot.world.facing)
        lines << QString("%1 to %2 lies along x")
                     .arg(nameOf(shot, shot.world.facing->from), nameOf(shot, shot.world.facing->to));
    if (!shot.world.wall.isEmpty()) lines << QString("Wall through %1 points across z").arg(shot.world.wall.size());
    const Eigen::Vector3d eye =
        orientation->apply(Eigen::Vector3d(shot.solve->frames.front().worldFromCamera.translation()));
    lines << QString("Camera starts at %1, %2, %3 %4")
                 .arg(eye.x(), 0, 'f', 2)
                 .arg(eye.y(), 0, 'f', 2)
                 .arg(eye.z(), 0, 'f', 2)
                 .arg(unit);
    if (shot.world.origin && findTrack(shot, *shot.world.origin))
        lines << "Origin at " + nameOf(shot, *shot.world.origin);
    const auto misses = measureMisses(shot.world, *shot.solve, *orientation);
    for (std::size_t i = 0; i < misses.size(); ++i) {
        const World::Measure& measure = shot.world.measures[i];
        QString line =
            QString("%1 to %2 is %3 m").arg(nameOf(shot, measure.from), nameOf(shot, measure.to)).arg(measure.length_m);
        if (misses.size() > 1)
            line += QString(", here %1%2 %").arg(misses[i] < 0 ? "−" : "+").arg(100 * std::abs(misses[i]), 0, 'f', 1);
        lines << line;
    }
    if (shot.world.height_m && misses.empty())
        lines << QString("The camera starts %1 m over the ground").arg(*shot.world.height_m);
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
    auto* more = named(new QPushButton("More"), "worldMore", "Heading, turn, several lengths, the camera's height");
    more->setCheckable(true);
    form->wide(buttonRow({ground, origin, more}));
    auto* facing = button("Along x");
    facing->setToolTip("The line through the two selected tracks becomes the world's x, the first on the left");
    auto* wall = button("Wall");
    wall->setToolTip("The plane through three or more selected tracks stands across the world's z");
    auto* headings = buttonRow({facing, wall});
    form->wide(headings);
    auto* turn = named(decimal(-360, 360, 1, 5, "°"), "worldTurn", "About up, on top of all that");
    auto* turnLabel = form->row("Turn", turn);
    auto* byDrag =
        named(button("Turn by a drag"), "worldTurnTool", "Grip the ground on the plate and turn it about up");
    auto* byDragRow = buttonRow({byDrag});
    form->wide(byDragRow);
    ShotForm::onClick(byDrag, [&stage] { stage.takeTurnTool(); });
    auto* flip = named(new QCheckBox("Upside down"), "worldFlip", "What is up becomes down");
    form->wide(flip);
    form->bind(
        flip, "Turn the world upside down", "Turn the world back up",
        [](auto& shot) -> auto& { return shot.world.flipped; });
    form->bind(
        turn, "Turn the world", [](auto& shot) -> auto& { return shot.world.turn_deg; });
    auto* before = named(button("Before"), "worldBefore",
                         "While it is held (or Shift+Q): the world as it was before it was last set");
    auto* beforeRow = buttonRow({before});
    form->wide(beforeRow);
    QObject::connect(before, &QPushButton::pressed, form, [&stage] { stage.showBefore(true); });
    QObject::connect(before, &QPushButton::released, form, [&stage] { stage.showBefore(false); });
    auto* length = decimal(0.001, 100000, 3, 0.1, " m");
    length->setValue(1.0);
    form->row("Length", length);
    auto* scale = button("Set scale");
    scale->setToolTip("The distance between the two selected tracks is this long; of several the mean counts");
    auto* clear = button("Clear world");
    form->wide(buttonRow({scale, clear}));
    auto* height = button("As its height");
    height->setToolTip("The camera is this high over the ground where it starts; lengths between tracks go before");
    auto* unscaled = button("Clear lengths");
    auto* lengths = buttonRow({height, unscaled});
    form->wide(lengths);
    const auto showMore = [=](bool on) {
        for (QWidget* part :
             std::initializer_list<QWidget*>{headings, turn, turnLabel, byDragRow, flip, beforeRow, lengths})
            part->setVisible(on);
    };
    showMore(false);
    QObject::connect(more, &QPushButton::toggled, form, showMore);
    auto* state = named(dimLabel(""), "worldState");
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
        const World::Measure measure{two[0], two[1], length->value()};
        world.measures = world.measures.edited([&](auto& all) {
            // The same two again are measured anew.
            std::erase_if(all, [&](const World::Measure& one) {
                return std::minmax(one.from, one.to) == std::minmax(measure.from, measure.to);
            });
            all.push_back(measure);
        });
        stage.apply("Set scale", world);
    });
    ShotForm::onClick(height, [&session, &stage, length] {
        World world = session.shot().world;
        world.height_m = length->value();
        stage.apply("Set the camera's height", world);
    });
    ShotForm::onClick(unscaled, [&session, &stage] {
        World world = session.shot().world;
        world.measures = {};
        world.height_m.reset();
        stage.apply("Clear lengths", world);
    });
    ShotForm::onClick(facing, [&session, &stage] {
        World world = session.shot().world;
        const auto two = session.selection.list();
        world.facing = World::Facing{two[0], two[1]};
        world.wall = {};
        stage.apply("Face along x", world);
    });
    ShotForm::onClick(wall, [&session, &stage] {
        World world = session.shot().world;
        world.wall = List<TrackId>(session.selection.list());
        world.facing.reset();
        stage.apply("Square to a wall", world);
    });
    ShotForm::onClick(clear, [&stage] { stage.apply("Clear world", World{}); });
    form->enableIf({byDrag}, [](const Shot& shot) { return shot.solve != nullptr; });
    form->onRefresh([&session, &stage, before, hint, ground, origin, facing, wall, scale, height, unscaled, clear, turn,
                     flip, state] {
        const Shot& shot = session.shot();
        const std::size_t chosen = session.selection.size();
        hint->setText(hintOf(session));
        const bool all =
            shot.solve && shot.solve->motion == CameraMotion::travelling && placedOf(session) == int(chosen);
        ground->setEnabled(all && chosen >= 3);
        origin->setEnabled(all && chosen == 1);
        facing->setEnabled(all && chosen == 2);
        wall->setEnabled(all && chosen >= 3);
        turn->setEnabled(shot.solve != nullptr);
        flip->setEnabled(shot.solve != nullptr);
        scale->setEnabled(all && chosen == 2);
        height->setEnabled(shot.solve && !shot.world.ground.isEmpty());
        unscaled->setEnabled(shot.world.hasScale());
        clear->setEnabled(shot.world.isSet());
        before->setEnabled(stage.hasBefore());
        state->setText(stateOf(shot));
        state->setVisible(!state->text().isEmpty());
    });
    form->refresh();
    return form;
}

}  // namespace pinion
