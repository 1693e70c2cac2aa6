#include "stages/tracks/tracksstage.h"

#include "shot/stages/tracksstage.h"
#include "stages/tracks/areatools.h"
#include "stages/tracks/cards.h"
#include "stages/tracks/placetool.h"
#include "stages/tracks/selecttool.h"
#include "stages/tracks/trackjobs.h"
#include "stages/tracks/trackoverlays.h"
#include "widgets/toolbar.h"

namespace pinion {

TracksStage::TracksStage(Session& session) : Stage(session), candidates(session) {
    connect(&session.document, &Document::replaced, &spots, &Spots::clear);
    // What a scatter would start from is no news once it runs.
    connect(&session.jobs, &JobRunner::busyChanged, this, [this] {
        if (session_.isBusy()) candidates.show(false);
    });
}

TracksStage::~TracksStage() = default;

StageReport TracksStage::report() const { return tracksReport(session_.shot()); }

QWidget* TracksStage::makeCard() { return makeTracksCard(session_, candidates); }

void TracksStage::furnish(const Desk& desk) {
    addTools(desk);
    addToolCommands(desk);
    addHoldCommand(desk);
    addRunCommands(desk);
    addTieCommands(desk);
    addListCommands(desk);
    addStateCommands(desk);
    addShownCommands(desk);
    addMarkCommands(desk);
}

void TracksStage::addTools(const Desk& desk) {
    Canvas& canvas = desk.canvas;
    auto place = std::make_unique<PlaceTool>(session_, spots, canvas);
    placeTool_ = place.get();
    canvas.addTool(std::make_unique<SelectTool>(session_, hand, canvas));
    canvas.addTool(std::move(place));
    canvas.addTool(std::make_unique<OutlineTool>(session_, canvas));
    canvas.addTool(std::make_unique<SpotsTool>(session_, canvas,
                                               [this](const Polygon& area) { startSearch(session_, spots, area); }));
    canvas.addOverlay(std::make_unique<CandidatesOverlay>(candidates));
    canvas.addOverlay(std::make_unique<LivePointsOverlay>(session_));
    canvas.addOverlay(std::make_unique<TracksOverlay>(session_, hand, canvas));
    canvas.addOverlay(std::make_unique<SpotsOverlay>(session_, spots));
    auto follow = std::make_unique<Follow>(session_);
    follow_ = follow.get();
    canvas.addSight(std::move(follow));
    connect(follow_, &Follow::changed, &canvas,
            [this, &canvas] { canvas.setHold(follow_->track() != 0 ? follow_ : nullptr); });
    connect(&candidates, &Candidates::changed, &canvas, [&canvas] { canvas.update(); });
    connect(&spots, &Spots::changed, &canvas, [&canvas] { canvas.update(); });

    const auto take = [desk](const QString& tool) {
        return [desk, tool] {
            if (tool != "select") desk.show("plate");
            desk.canvas.takeTool(tool);
        };
    };
    desk.tools.addTool("select", "Select", "mouse-pointer-2", {}, take("select"));
    desk.tools.addTool("place", "Place track", "crosshair", {}, take("place"));
    desk.tools.addTool("spots", "Spots", "scan-search",
                       "Drag a box: the best places to track in it are proposed (Shift+P)", take("spots"));
}

}  // namespace pinion
