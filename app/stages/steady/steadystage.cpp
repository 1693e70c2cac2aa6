#include "stages/steady/steadystage.h"

#include "base/files.h"
#include "canvas/canvas.h"
#include "jobs/steadying.h"
#include "sheet/curves.h"
#include "shot/edits/locatoredits.h"
#include "stages/copying.h"
#include "stages/puttingback.h"
#include "stages/reasons.h"
#include "stages/rides.h"
#include "stages/steady/shakecurve.h"
#include "stages/steady/steadycard.h"
#include "stages/steady/steadysight.h"
#include "widgets/commands.h"
#include "widgets/toolbar.h"

namespace pinion {

using K = QKeySequence;

SteadyStage::SteadyStage(Session& session) : Stage(session), plan_(session.jobs, [this] { emit planChanged(); }) {
    connect(&session.document, &Document::changed, this, &SteadyStage::refreshPlan);
}

StageReport SteadyStage::report() const { return steadyReport(session_.shot()); }

QWidget* SteadyStage::makeCard() { return makeSteadyCard(session_, *this); }

void SteadyStage::refreshPlan() {
    const Shot& shot = session_.shot();
    if (!shot.steady.changesPicture() || !shot.plate.isOpen()) {
        plan_.clear();
        return;
    }
    plan_.want(steadyKey(shot), [shot](const Progress&) { return picturePlan(shot); });
}

bool SteadyStage::take(Errand errand) {
    if (errand != Errand::steady) return false;
    openOwnCard();
    show("steady");
    return true;
}

void SteadyStage::furnish(const Desk& desk) {
    desk.curves.addCurve(std::make_unique<ShakeCurve>(session_, *this));
    connect(this, &SteadyStage::planChanged, &desk.curves, [curves = &desk.curves] { curves->refresh("shake"); });
    addViews(desk);
    addSteadyCommands(desk);
    addLocatorCommands(desk);
}

void SteadyStage::addViews(const Desk& desk) {
    desk.canvas.addSight(std::make_unique<SteadySight>(session_, *this));
    connect(this, &SteadyStage::planChanged, &desk.canvas, &Canvas::refreshView);
    desk.tools.addView("compare", "Compare", "Original and result parted by a line; again: side by side",
                       [desk] { desk.show(desk.shown() == "wipe" ? "beside" : "wipe"); });
    desk.tools.addView("steady", "Steady", {}, [desk] { desk.show("steady"); });
    const auto steadied = [this] {
        const QString plate = whyNoPlate(session_);
        return !plate.isEmpty()                          ? plate
               : session_.shot().steady.changesPicture() ? QString()
                                                         : QString("nothing is steadied and no shake is lent");
    };
    Commands& c = desk.commands;
    c.add(
        "View", "Steadied picture", {K("Ctrl+3")}, [desk] { desk.show("steady"); }, steadied);
    c.add(
        "View", "Compare by a wipe", {K("Ctrl+4")}, [desk] { desk.show("wipe"); }, steadied);
    c.add(
        "View", "Compare side by side", {K("Ctrl+5")}, [desk] { desk.show("beside"); }, steadied);
}

void SteadyStage::addSteadyCommands(const Desk& desk) {
    const auto steadyOn = [this, desk](const QString& name, const Shot& shot) {
        desk.openCard(id());
        session_.edit(name, shot);
        desk.show("steady");
    };
    desk.commands.add(
        "Steady", "Steady on the selected tracks", {K("Ctrl+H")},
        [this, steadyOn] {
            Shot shot = session_.shot();
            shot.steady.steady = true;
            shot.steady.tracks = List<TrackId>(session_.selection.list());
            shot.steady.on = rideOnTracks(shot.steady.tracks.vector());
            shot.steady.cornerPin = false;
            shot.steady.referenceFrame = session_.player.frame();
            steadyOn(QString("Steady on %1 tracks").arg(shot.steady.tracks.size()), shot);
        },
        [this] { return whyNoneSelected(session_); });
    desk.commands.add(
        "Steady", "Steady on all tracks", {K("Ctrl+Shift+A")},
        [this, steadyOn] {
            Shot shot = session_.shot();
            shot.steady.steady = true;
            shot.steady.on = rideOnPicture();
            steadyOn("Steady on all tracks", shot);
        },
        [this] { return whyNoTracks(session_); });
}

void SteadyStage::addLocatorCommands(const Desk& desk) {
    const auto kindOfSelected = [this] {
        return session_.selection.size() == 1 ? MotionKind::position : MotionKind::similarity;
    };
    const auto some = [this] { return whyNoneSelected(session_); };
    desk.commands.add(
        "Steady", "Locator on the selected tracks", {K("Ctrl+L")},
        [this, desk, kindOfSelected] {
            if (hangOn(kindOfSelected())) desk.ask(Errand::handOn);
        },
        some);
    desk.commands.add(
        "Steady", "Corner pin on four tracks", {K("Ctrl+Alt+L")},
        [this, desk] {
            if (hangOn(MotionKind::cornerPin)) desk.ask(Errand::handOn);
        },
        [this] {
            const QString ready = whyNotReady(session_);
            return !ready.isEmpty()                 ? ready
                   : session_.selection.size() == 4 ? QString()
                                                    : QString("select four tracks");
        });
    desk.commands.add(
        "Steady", "Copy the transforms of the selected tracks", {K("Ctrl+Shift+C")},
        [this, kindOfSelected] {
            const Shot with =
                withLocatorAdded(session_.shot(), session_.selection.list(), session_.player.frame(), kindOfSelected());
            // Copied from a shot that has the locator, without leaving one behind.
            startCopy(session_, with, with.deliverables.back());
        },
        some);
}

bool SteadyStage::hangOn(MotionKind kind) {
    const Shot shot = withLocatorAdded(session_.shot(), session_.selection.list(), session_.player.frame(), kind);
    const QString name = text(shot.locators.back().name);
    if (const auto motion = locatorMotion(shot, shot.locators.back()); !motion) {
        session_.sayError(text(motion.error().message));
        return false;
    }
    session_.edit("Locator " + name, shot);
    session_.say(
        QString("%1: its motion is listed for delivery, relative to frame %2.").arg(name).arg(session_.player.frame()));
    return true;
}

void SteadyStage::startRender(const std::filesystem::path& pattern) {
    if (!session_.isReady()) return;
    const Shot shot = session_.shot();
    const auto run = [shot, pattern, frames = session_.player.sharedFrames()](const JobLink& link) {
        const auto plan = picturePlan(shot);
        return plan ? runRender(shot, *plan, *frames, pattern, link.progress)
                    : Expected<RenderReport>(tl::unexpected(plan.error()));
    };
    const auto merge = [this, pattern](RenderReport& report) {
        QString words =
            report.stopped
                ? QString("Stopped. %1 frames kept in %2").arg(report.frames).arg(text(pattern.parent_path().string()))
                : QString("%1 frames: %2").arg(report.frames).arg(text(pattern.string()));
        if (!report.missing.empty())
            words += QString("\nNot readable in the plate: %1").arg(text(frameRanges(report.missing)));
        session_.say(words);
    };
    session_.jobs.start(
        Job<RenderReport>{.name = "Rendering", .frames = shot.plate.range.count(), .run = run, .merge = merge});
}

void SteadyStage::putBack(const std::filesystem::path& changed, bool byAlpha) {
    const auto run = [shot = session_.shot(), by = byAlpha ? PutBackBy::alpha : PutBackBy::difference,
                      frames = session_.player.sharedFrames()](FrameCache& made, const std::filesystem::path& pattern,
                                                               const JobLink& link) -> Expected<PutBackReport> {
        const auto plan = picturePlan(shot);
        if (!plan) return tl::unexpected(plan.error());
        return runPutBack(shot, *plan, *frames, made, pattern, link.progress, {by});
    };
    pinion::startPutBack(session_, changed, session_.shot().name + ".back", run);
}

void SteadyStage::startTakeShake(double above_hz, const std::function<void(const ShakeProfile&)>& done) {
    session_.jobs.start(Job<ShakeProfile>{
        .name = "Taking the shake",
        .run = [shot = session_.shot(), above_hz](const JobLink&) { return runTakeShake(shot, above_hz); },
        .merge = [done](ShakeProfile& profile) { done(profile); }});
}

}  // namespace pinion
