#include "stages/world/worldstage.h"

#include "canvas/canvas.h"
#include "shot/edits/cameraedits.h"
#include "shot/stages/worldstage.h"
#include "stages/world/groundoverlay.h"
#include "stages/world/worldcard.h"
#include "widgets/commands.h"
#include "widgets/toolbar.h"

#include <QToolButton>

namespace pinion {

StageReport WorldStage::report() const { return worldReport(session_.shot()); }

QWidget* WorldStage::makeCard() { return makeWorldCard(session_, *this); }

void WorldStage::furnish(const Desk& desk) {
    auto ground = std::make_unique<GroundOverlay>(session_);
    ground_ = ground.get();
    desk.canvas.addOverlay(std::move(ground));
    QToolButton* grid =
        desk.tools.addSwitch("Grid", "The ground grid over the plate (G)", {"plate"}, [this, desk](bool on) {
            ground_->show(on);
            desk.canvas.update();
        });
    grid->setChecked(true);
    desk.commands.add("View", "Ground grid on the plate", {QKeySequence("G")}, [grid] { grid->click(); });
    desk.commands.add(
        "Solve", "Ground from selected tracks", {}, [this] { setGround(); },
        [this] {
            return !session_.shot().solve          ? QString("there is no camera yet")
                   : session_.selection.size() < 3 ? QString("select three tracks on the floor")
                                                   : QString();
        });
}

void WorldStage::apply(const QString& name, const World& world) {
    const Shot& shot = session_.shot();
    if (shot.solve)
        if (const auto oriented = orient(world, *shot.solve); !oriented) {
            session_.sayError(text(oriented.error().message));
            return;
        }
    session_.edit(name, withWorld(shot, world));
}

void WorldStage::setGround() {
    World world = session_.shot().world;
    world.ground = List<TrackId>(session_.selection.list());
    apply("Set ground", world);
}

}  // namespace pinion
