#include "stages/camera/camerastage.h"

#include "camera/cloudpick.h"
#include "canvas/canvas.h"
#include "jobs/diagnosing.h"
#include "jobs/nextstep.h"
#include "jobs/proposing.h"
#include "jobs/solving.h"
#include "scene/worldview.h"
#include "sheet/curves.h"
#include "sheet/threadsheet.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/objectedits.h"
#include "shot/edits/trackedits.h"
#include "shot/objects.h"
#include "shot/stages/camerastage.h"
#include "stages/camera/cameracard.h"
#include "stages/camera/errorarrows.h"
#include "stages/camera/erroroverlay.h"
#include "stages/camera/errorstrip.h"
#include "stages/camera/focalcurve.h"
#include "stages/reasons.h"
#include "widgets/commands.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <set>
#include <span>

namespace pinion {

CameraStage::CameraStage(Session& session) : Stage(session), looker(session) {
    connect(&session.document, &Document::replaced, this, [this] { setTrimPreview(0); });
}

StageReport CameraStage::report() const { return cameraReport(session_.shot()); }

QWidget* CameraStage::makeCard() { return makeCameraCard(session_, *this); }

void CameraStage::furnish(const Desk& desk) {
    desk.canvas.addOverlay(std::make_unique<ErrorOverlay>(session_, *this));
    desk.canvas.addOverlay(std::make_unique<ErrorArrows>(session_, looker));
    desk.sheet.addStrip(std::make_unique<ErrorStrip>(session_, looker));
    connect(&looker, &SolveLooker::changed, this, [this] { redraw(); });
    connect(this, &CameraStage::trimPreviewChanged, &desk.canvas, [canvas = &desk.canvas] { canvas->update(); });
    desk.curves.addCurve(std::make_unique<FocalCurve>(session_));
    if (WorldView* scene = desk.scene)
        connect(this, &CameraStage::liveChanged, scene, [this, scene] { scene->setLive(live_); });
    desk.commands.add(
        "Solve", "Solve camera", {QKeySequence("Ctrl+Return")},
        [this, desk] {
            desk.openCard(id());
            startSolve();
        },
        [this] { return whyNoTracks(session_); });
    desk.commands.add(
        "Solve", "Set aside while it gains", {}, [this] { startSettingAside(); },
        [this] {
            return !session_.shot().solve ? QString("nothing is solved yet")
                   : session_.isBusy()    ? QString("another job runs")
                                          : QString();
        });
    const auto whyNoSolve = [this] { return session_.shot().solve ? QString() : QString("nothing is solved yet"); };
    using Arrows = SolveLooker::Arrows;
    for (const auto& [name, arrows] :
         {std::pair("Errors on this frame", Arrows::frame), std::pair("Errors of the whole shot", Arrows::gathered)})
        desk.commands.add(
            "Solve", name, {}, [this, arrows] { looker.showArrows(looker.arrows() == arrows ? Arrows::none : arrows); },
            whyNoSolve);
    addChoosing(desk);
}

void CameraStage::addChoosing(const Desk& desk) {
    constexpr double kFar = 4;  // times the median
    const auto whyNoSolve = [this] { return session_.shot().solve ? QString() : QString("nothing is solved yet"); };
    desk.commands.add(
        "Solve", "Select their neighbours in space", {},
        [this] {
            const auto tracks = grown(*session_.shot().solve, session_.selection.tracks());
            session_.selection.set({tracks.begin(), tracks.end()});
        },
        [this, whyNoSolve] {
            return !whyNoSolve().isEmpty()        ? whyNoSolve()
                   : session_.selection.isEmpty() ? QString("no track is selected")
                                                  : QString();
        });
    desk.commands.add(
        "Solve", "Select what is far, beyond 4 times the median", {},
        [this] {
            const auto tracks = beyond(*session_.shot().solve, kFar);
            session_.selection.set({tracks.begin(), tracks.end()});
            session_.say(QString("%1 tracks are farther away than %2 times the median, or directions alone.")
                             .arg(tracks.size())
                             .arg(kFar));
        },
        whyNoSolve);
}

void CameraStage::takeLive(std::shared_ptr<const SolveView> view) {
    live_ = std::move(view);
    emit liveChanged();
}

void CameraStage::startSolve(bool refines) {
    const Shot shot = session_.shot();
    const auto run = [this, shot, refines](const JobLink& link) {
        // Poses and points as they come, four times a second: enough to see it grow.
        auto last = std::chrono::steady_clock::now();
        const auto watch = [this, link, last](const SolveView& view) mutable {
            const auto now = std::chrono::steady_clock::now();
            if (now - last < std::chrono::milliseconds(250)) return;
            last = now;
            link.tell([this, live = std::make_shared<const SolveView>(view)] { takeLive(live); });
        };
        return runSolve(shot, link.progress, {.watch = watch, .refines = refines});
    };
    const auto merge = [this, shot](Solve& result) {
        session_.edit("Solve camera", withSolve(session_.shot(), result, shot));
        if (!result.doubt.empty()) session_.say(text("Solved, but not sure: " + result.doubt + "."));
        else
            session_.say(QString("Solved: %1 px, %2, %3 tracks, %4 frames.")
                             .arg(result.rms_px, 0, 'f', 2)
                             .arg(text(heldOutWords(result, 2)))
                             .arg(result.used)
                             .arg(result.frames.size()));
    };
    session_.jobs.start(
        Job<Solve>{.name = refines ? "Refining the solve" : "Solving", .run = run, .merge = merge, .ended = [this] {
                       takeLive(nullptr);
                   }});
}

void CameraStage::setTrimPreview(double error_px) {
    if (error_px == trimPreview_) return;
    trimPreview_ = error_px;
    emit trimPreviewChanged();
}

std::vector<TrackId> CameraStage::tracksAbove(double error_px) const {
    std::vector<TrackId> above;
    const Shot& shot = session_.shot();
    if (!shot.solve || error_px <= 0) return above;
    std::set<TrackId> active;
    for (const Track& track : shot.tracks)
        if (!track.setAside) active.insert(track.id);
    for (const SolvedTrack& track : shot.solve->tracks)
        if (active.contains(track.track) && track.role != TrackRole::unplaced && track.rms_px > error_px)
            above.push_back(track.track);
    return above;
}

void CameraStage::setWorstAside() {
    const auto tracks = tracksAbove(trimPreview_);
    if (tracks.empty()) return;
    session_.edit(QString("Set %1 tracks aside").arg(tracks.size()), withSetAside(session_.shot(), tracks, true));
    setTrimPreview(0);
}

void CameraStage::setSuspectsAside() {
    if (!looker.held()) return;
    const auto tracks = looker.suspects(*looker.held());
    if (tracks.empty()) return;
    session_.edit(QString("Set %1 suspects aside").arg(tracks.size()), withSetAside(session_.shot(), tracks, true));
}

void CameraStage::startSettingAside() {
    const Shot shot = session_.shot();
    const auto run = [shot](const JobLink& link) { return setAsideWhileItGains(shot, link.progress); };
    const auto merge = [this, shot](Weeding& weeding) {
        if (weeding.aside.empty()) {
            session_.say(QString("Nothing is gained by setting tracks aside: held out stays %1 px.")
                             .arg(weeding.heldOut_px, 0, 'f', 3));
            return;
        }
        const Shot less = withSetAside(session_.shot(), weeding.aside, true);
        const Shot asked = withSetAside(shot, weeding.aside, true);
        session_.edit(QString("Set %1 tracks aside while it gains").arg(weeding.aside.size()),
                      withSolve(less, weeding.solve, asked));
        session_.say(QString("Held out %1 px, was %2, without %3 tracks: %4.")
                         .arg(weeding.heldOutThen_px, 0, 'f', 3)
                         .arg(weeding.heldOut_px, 0, 'f', 3)
                         .arg(weeding.aside.size())
                         .arg(text(fmt::format("{}", fmt::join(weeding.steps, ", ")))));
    };
    session_.jobs.start(Job<Weeding>{.name = "Setting aside while it gains", .run = run, .merge = merge});
}

void CameraStage::takeStep(const NextStep& step) {
    if (session_.isBusy()) return;
    const auto solveWith = [this](const QString& name, const auto& change) {
        Shot shot = session_.shot();
        change(shot.solveSettings);
        session_.edit(name, std::move(shot));
        startSolve();
    };
    switch (step.kind) {
        case NextStep::Kind::solveAgain:
            return startSolve(true);
        case NextStep::Kind::goThere:
            return session_.player.goTo(step.frame);
        case NextStep::Kind::maskMover:
            return maskMover(step.mover);
        case NextStep::Kind::guessFocal:
            return solveWith("Guess the focal length", [&](SolveSettings& settings) {
                settings.focal = Knowledge::guessed;
                settings.focal_mm = std::round(step.focal_mm);
                settings.focalSigma_mm = std::max(1.0, 0.05 * settings.focal_mm);
            });
        case NextStep::Kind::freeLens:
            return solveWith("Find all terms of the lens",
                             [](SolveSettings& settings) { settings.distortion = SolveSettings::Distortion::full; });
        case NextStep::Kind::setAside:
            return startSettingAside();
        case NextStep::Kind::layGround:
            return desk().ask(Errand::layGround);
        case NextStep::Kind::none:
            break;
    }
}

void CameraStage::maskMover(std::size_t place) {
    const Shot& shot = session_.shot();
    if (!shot.solve || place >= shot.solve->movers.size()) return;
    const auto proposed =
        proposeFromTracks(std::span(shot.solve->movers.vector()).subspan(place, 1), shot.tracks.vector(),
                          shot.plate.range, shot.plate.width, shot.plate.height);
    if (proposed.empty()) {
        session_.sayError("Its tracks are never seen three together: set them aside instead.");
        return;
    }
    session_.edit("Mask what moves", withMoverAccepted(shot, proposed.front()));
    session_.say("Masked. Solve again to see what it changes; as an object its own motion can be solved.");
}

void CameraStage::solveSceneOf(const std::vector<TrackId>& tracks) {
    if (tracks.empty() || session_.isBusy()) return;
    Shot shot = session_.shot();
    shot.solveSettings.sceneOf = List<TrackId>(tracks);
    session_.edit("Say what stands", std::move(shot));
    startSolve();
}

void CameraStage::addObject(const std::vector<TrackId>& tracks) {
    if (tracks.empty() || session_.isBusy()) return;
    ObjectId id = 0;
    session_.edit("Make an object", withObjectAdded(session_.shot(), tracks, &id));
    startObject(id);
}

void CameraStage::startObject(ObjectId object) {
    const Shot shot = session_.shot();
    const auto run = [shot, object](const JobLink& link) { return runObject(shot, object, link.progress); };
    const auto merge = [this, shot, object](ObjectSolve& result) {
        session_.edit("Solve the object", withObjectSolved(session_.shot(), object, result, shot));
        session_.say(text(fmt::format("Solved: {:.2f} px, {} points, {} frames; {}.", result.rms_px,
                                      result.points.size(), result.frames.size(), sizeWords(result))));
    };
    session_.jobs.start(Job<ObjectSolve>{.name = "Solving the object", .run = run, .merge = merge});
}

void CameraStage::bringAllBack() {
    std::vector<TrackId> tracks;
    for (const Track& track : session_.shot().tracks)
        if (track.setAside) tracks.push_back(track.id);
    if (!tracks.empty())
        session_.edit(QString("Bring %1 tracks back").arg(tracks.size()), withSetAside(session_.shot(), tracks, false));
}

}  // namespace pinion
